//! Converts a capture to tables, as the command does, and prints the account of its bytes.
//!
//! ```text
//! cargo run -p usus-io --example convert_capture -- CAPTURE FORMAT DIRECTORY
//! ```

#![allow(clippy::print_stdout)] // An example shows what it does.

use std::path::Path;

use usus::{Decoder, Format};
use usus_io::{Destination, Existing, OutputOptions, Outputs, TableOptions, open, pump};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [capture, format, directory] = &arguments[..] else {
        return Err("give a capture, a format file and a directory".into());
    };
    let plan = Format::parse(&std::fs::read_to_string(format)?)?.compile()?;
    let mut source = open(Path::new(capture))?;
    let columns = TableOptions { received: source.has_times(), line: source.has_lines(), ..TableOptions::default() };
    let options = OutputOptions { columns, existing: Existing::Replace, ..OutputOptions::default() };
    let destination = Destination::Directory(directory.into());
    let mut outputs = Outputs::open(&plan, &destination, &options)?;
    let mut decoder = Decoder::new(&plan);
    pump(&mut *source, &mut decoder, &mut outputs, &mut |_| true)?;
    outputs.finish()?;
    for line in decoder.lines() {
        let ledger = decoder.ledger(line);
        println!(
            "line {}: {} of {} bytes recorded, {} rejected",
            line.index(),
            ledger.recorded,
            ledger.total,
            ledger.rejected
        );
    }
    for (path, rows) in outputs.files() {
        println!("{}: {rows} rows", path.display());
    }
    Ok(())
}
