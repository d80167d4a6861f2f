//! The core in a program without the standard library. If anything in it needed `std`, there would be two panic handlers, and this
//! would not build.

#![no_std]

use core::alloc::{GlobalAlloc, Layout};

struct Nothing;

// SAFETY: it never hands out memory. This program is built, never run.
unsafe impl GlobalAlloc for Nothing {
    unsafe fn alloc(&self, _layout: Layout) -> *mut u8 {
        core::ptr::null_mut()
    }

    unsafe fn dealloc(&self, _pointer: *mut u8, _layout: Layout) {}
}

#[global_allocator]
static ALLOCATOR: Nothing = Nothing;

#[panic_handler]
fn panic(_info: &core::panic::PanicInfo<'_>) -> ! {
    loop {}
}

/// Uses the core from end to end, so that all of it is linked.
#[unsafe(no_mangle)]
pub extern "C" fn decode(byte: u8) -> u64 {
    let Ok(plan) = usus::Format::parse("format = 'x'").and_then(|format| format.compile()) else { return 0 };
    let mut decoder = usus::Decoder::new(&plan);
    let Some(line) = decoder.line("", 0) else { return 0 };
    while decoder.feed(usus::Chunk::new(line, &[byte])).next().is_some() {}
    decoder.ledger(line).recorded
}
