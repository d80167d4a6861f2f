//! Decodes a byte slice with a format declared in place, and prints what every byte was.

#![allow(clippy::print_stdout)] // An example shows what it does.

use usus::{Chunk, Decoder, Event, Format};

const FORMAT: &str = r#"
    format = "anchor-load"
    [[frame]]
    cut      = "packet"
    start    = "7E 81"
    length   = 6
    checksum = { algorithm = "SUM-8", type = "u8", from = 2 }
    [record.load]
    fields = [
      { name = "count", type = "u8", counter = true },
      { name = "force", type = "i16be", scale = 0.1, unit = "kN" },
    ]
"#;

fn main() -> Result<(), usus::Problems> {
    let plan = Format::parse(FORMAT)?.compile()?;
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).expect("the format speaks of one line only");
    // The end of a packet, two whole ones with a damaged one between, and the beginning of another.
    let bytes = b"\x40\x51\x7E\x81\x01\x03\xE8\xEC\x7E\x81\x02\x03\xE9\xFF\x7E\x81\x03\xFC\x18\x17\x7E\x81\x04";
    let mut feed = decoder.feed(Chunk::new(line, bytes));
    while let Some(event) = feed.next() {
        show(&event);
    }
    let mut rest = decoder.finish();
    while let Some(event) = rest.next() {
        show(&event);
    }
    let ledger = decoder.ledger(line);
    println!(
        "{} recorded + {} clipped + {} rejected = {} bytes",
        ledger.recorded, ledger.clipped, ledger.rejected, ledger.total
    );
    Ok(())
}

fn show(event: &Event<'_>) {
    match event {
        Event::Record(record) => {
            let force = record.get("force").map(|reading| reading.value.to_string());
            println!("at {}: {} of {} kN", record.offset(), record.kind(), force.unwrap_or_default());
        }
        Event::Reject(reject) => println!("at {}: {}", reject.offset, reject.reason.describe(reject.plan)),
        Event::Clipped(clipped) => println!("at {}: clipped, {} bytes", clipped.offset, clipped.bytes.len()),
        Event::Notice(notice) => println!("at {}: {notice}", notice.offset),
        _ => {}
    }
}
