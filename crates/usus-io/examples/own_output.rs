//! Outputs of one's own: one keeps the highest tension of each minute, another stops everything when the rope is overloaded.
//!
//! ```text
//! cargo run -p usus-io --example own_output
//! ```

#![allow(clippy::print_stdout)] // An example shows what it does.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use usus::quality::Notes;
use usus::{Decoder, Format, Place, Record};
use usus_io::{Output, OutputError, Outputs, RawReader, pump};

const FORMAT: &str = r#"
format = "cell"
[[frame]]
cut       = "text"
separator = ";"
[record.tension]
fields = [ { name = "minute", type = "number" }, { name = "tension", type = "number", unit = "kN" } ]
"#;

/// The highest tension of each minute.
struct Highest {
    minute: Place,
    tension: Place,
    found: Arc<Mutex<BTreeMap<i128, f64>>>,
}

impl Output for Highest {
    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        // So that the account of readings knows what was no plain value.
        notes.extend_record(record);
        let value = |place| record.at(place).map(|reading| reading.value);
        let minute = value(self.minute).and_then(|value| value.to_integer());
        let tension = value(self.tension).and_then(|value| value.to_f64());
        if let (Some(minute), Some(tension), Ok(mut found)) = (minute, tension, self.found.lock()) {
            let highest = found.entry(minute).or_insert(tension);
            *highest = highest.max(tension);
        }
        Ok(())
    }
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let plan = Format::parse(FORMAT)?.compile()?;
    let place = |field| plan.schema().place("tension", field).ok_or("the format has no such field");
    let found = Arc::new(Mutex::new(BTreeMap::new()));
    let highest = Highest { minute: place("minute")?, tension: place("tension")?, found: Arc::clone(&found) };
    let mut outputs = Outputs::of(&plan, Box::new(highest));
    let mut source = RawReader::new(&b"0;81.2\n0;94.7\n1;90.0\n1;?\n2;131.5\n"[..], None);
    pump(&mut source, &mut Decoder::new(&plan), &mut outputs, &mut |_| true)?;
    outputs.finish()?;
    println!("the highest of each minute: {:?}", found.lock().map_err(|_| "it is poisoned")?);
    for field in outputs.take_qualities().iter() {
        println!("{}.{}: {:.0} % of the values are of no use", field.record, field.field, field.unusable() * 100.0);
    }

    // A closure that fails stops whoever fills it.
    let limit = |record: &Record<'_>| match record.get("tension").and_then(|reading| reading.value.to_f64()) {
        Some(tension) if tension > 125.0 => Err(format!("{tension} kN: the rope is overloaded")),
        _ => Ok(()),
    };
    let mut outputs = Outputs::of(&plan, Box::new(limit));
    let mut source = RawReader::new(&b"0;81.2\n2;131.5\n3;80.0\n"[..], None);
    match pump(&mut source, &mut Decoder::new(&plan), &mut outputs, &mut |_| true) {
        Err(error) => println!("stopped: {error}"),
        Ok(_) => return Err("it should have been stopped".into()),
    }
    Ok(())
}
