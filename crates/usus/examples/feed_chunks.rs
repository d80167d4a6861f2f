//! Feeds chunks as they come from a live line, with their times, and lets silence end a text.
//!
//! The device prints its readings without line ends, so a line ends when nothing has come for 40 ms. The clock here is a list; on a
//! live line it is the system's.

#![allow(clippy::print_stdout)] // An example shows what it does.

use usus::{Chunk, Decoder, Event, Events, Format, Time};

const FORMAT: &str = r#"
    format = "chatty-gauge"
    serial = "9600 8N1"
    [[frame]]
    cut  = "text"
    idle = "40 ms"
    [record.level]
    fields = [ { name = "level", type = "number", unit = "mm" } ]
"#;

fn main() -> Result<(), usus::Problems> {
    let plan = Format::parse(FORMAT)?.compile()?;
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).expect("the format speaks of one line only");
    let arrivals: [(i64, &[u8]); 4] = [(0, b"12"), (12, b"3.5"), (500, b"124.0"), (1_000, b"124.5")];
    for (milliseconds, bytes) in arrivals {
        let time = Time::from_nanoseconds(milliseconds * 1_000_000);
        // Whoever waits for bytes wakes up at the deadline, too, and says what time it is.
        while let Some(deadline) = decoder.next_deadline().filter(|deadline| *deadline < time) {
            show(decoder.tick(deadline), deadline);
        }
        show(decoder.feed(Chunk { time: Some(time), ..Chunk::new(line, bytes) }), time);
    }
    let last = Time::from_nanoseconds(2_000_000_000);
    show(decoder.tick(last), last);
    show(decoder.finish(), last);
    Ok(())
}

fn show(mut events: Events<'_>, now: Time) {
    while let Some(event) = events.next() {
        if let Event::Record(record) = event {
            let level = record.get("level").map(|reading| reading.value.to_string()).unwrap_or_default();
            println!("{now}: level {level} mm");
        }
    }
}
