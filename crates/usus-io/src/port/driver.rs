//! What only the port's driver can be asked: counts of faults, and the control lines. The one place with calls that the compiler cannot
//! check.

#![allow(unsafe_code)]

use std::os::fd::BorrowedFd;

use linux_raw_sys::ioctl::{TIOCGICOUNT, TIOCMBIC, TIOCMBIS};
use rustix::io::Result;
use rustix::ioctl::{Getter, Setter, ioctl};

/// Data terminal ready (`TIOCM_DTR`).
pub(super) const DTR: u32 = 0x002;
/// Request to send (`TIOCM_RTS`).
pub(super) const RTS: u32 = 0x004;

/// How often what has gone wrong since the driver was loaded. They only count up, and wrap.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Counters {
    /// Characters with a wrong stop bit.
    pub framing: u32,
    /// Characters with a wrong parity bit.
    pub parity: u32,
    /// Breaks.
    pub breaks: u32,
    /// Characters that the chip lost because the system did not fetch them in time.
    pub overrun: u32,
    /// Characters that the system lost because the program did not read them in time.
    pub buffer_overrun: u32,
}

/// The kernel's `struct serial_icounter_struct`: changes of CTS, DSR, RNG and DCD, characters received and sent, framing, overrun,
/// parity, break, buffer overrun, and nine reserved numbers.
type RawCounters = [i32; 20];

/// The driver's counts, if it has them.
pub(super) fn counters(port: BorrowedFd<'_>) -> Option<Counters> {
    // SAFETY: the call fills in the 20 numbers of that structure and nothing else.
    let raw = unsafe { ioctl(port, Getter::<{ TIOCGICOUNT }, RawCounters>::new()) }.ok()?;
    let [_, _, _, _, _, _, framing, overrun, parity, breaks, buffer_overrun, ..] = raw.map(|count| count as u32);
    Some(Counters { framing, parity, breaks, overrun, buffer_overrun })
}

/// Raises control lines.
pub(super) fn raise(port: BorrowedFd<'_>, lines: u32) -> Result<()> {
    // SAFETY: the call reads one number.
    unsafe { ioctl(port, Setter::<{ TIOCMBIS }, u32>::new(lines)) }
}

/// Drops control lines.
pub(super) fn lower(port: BorrowedFd<'_>, lines: u32) -> Result<()> {
    // SAFETY: the call reads one number.
    unsafe { ioctl(port, Setter::<{ TIOCMBIC }, u32>::new(lines)) }
}
