//! What captures cost: recording into one, and decoding from one instead of from raw bytes, with chunks of 256 bytes.
//!
//! `cargo bench -p usus-io --bench captures -- MEGABYTES`; 256 without a number. As a test it decodes one, and holds
//! the records of the two against each other.

#![allow(clippy::print_stdout)]

use std::path::Path;
use std::time::Instant;

use usus::{Decoder, Format, Plan, Record, Time};
use usus_io::{RecordedLine, Recorder, open, pump};
use usus_sim::{Device, Faults, record};

const CHUNK: usize = 256;

fn main() {
    let is_test = std::env::args().all(|argument| argument != "--bench");
    let megabytes = std::env::args().filter_map(|argument| argument.parse::<usize>().ok()).next().unwrap_or(256);
    let (megabytes, rounds_wanted) = if is_test { (1, 1) } else { (megabytes, 5) };
    let text = usus::SHIPPED[0].1;
    let plan = Format::parse(text).and_then(|format| format.compile());
    let Ok(plan) = plan else { return println!("the format is not sound") };
    let once = record(Device::WindMast, 1, 3_600, &Faults::none()).bytes();
    let bytes: Vec<u8> = once.iter().copied().cycle().take(megabytes << 20).collect();
    let Ok(folder) = tempfile::Builder::new().tempdir_in(memory()) else { return println!("no room") };
    let (raw, capture) = (folder.path().join("raw"), folder.path().join("capture"));
    if std::fs::write(&raw, &bytes).is_err() {
        return println!("no room");
    }
    println!("{megabytes} MiB of sentences in chunks of {CHUNK} bytes, {rounds_wanted} rounds, best and worst:");
    let mut rounds = Vec::new();
    for _ in 0..rounds_wanted {
        let _ = std::fs::remove_file(&capture);
        let written = timed(|| write(&capture, &bytes));
        let (from_raw, from_capture) = (timed(|| decode(&plan, &raw)), timed(|| decode(&plan, &capture)));
        assert_eq!(from_raw.1, from_capture.1, "records of the raw bytes and of the capture");
        rounds.push([written.0, from_raw.0, from_capture.0]);
    }
    let rate = |index: usize| {
        let mut rates: Vec<f64> = rounds.iter().map(|round| bytes.len() as f64 / round[index] / 1e6).collect();
        rates.sort_by(|one, other| other.total_cmp(one));
        format!("{:.0} to {:.0} MB a second", rates[0], rates[rounds_wanted - 1])
    };
    let mut ratios: Vec<f64> = rounds.iter().map(|round| round[1] / round[2]).collect();
    ratios.sort_by(f64::total_cmp);
    println!("  recording            {}", rate(0));
    println!("  decoding raw bytes   {}", rate(1));
    println!("  decoding the capture {}, {:.2} of the raw speed in the median", rate(2), ratios[rounds_wanted / 2]);
}

/// A file system in memory, where there is one.
fn memory() -> &'static Path {
    let shared = Path::new("/dev/shm");
    if shared.is_dir() { shared } else { Path::new("/tmp") }
}

fn timed(work: impl FnOnce() -> u64) -> (f64, u64) {
    let begun = Instant::now();
    let result = work();
    (begun.elapsed().as_secs_f64(), result)
}

fn write(path: &Path, bytes: &[u8]) -> u64 {
    let Ok(mut recorder) = Recorder::create(path, "bench", &[RecordedLine::new("mast")]) else { return 0 };
    for (index, chunk) in bytes.chunks(CHUNK).enumerate() {
        recorder.chunk(0, Time::from_nanoseconds(index as i64 * 500_000_000), chunk, &[]);
    }
    recorder.finish().map_or(0, |standing| standing.bytes)
}

/// Decodes a file, and counts its records.
fn decode(plan: &Plan, path: &Path) -> u64 {
    let Ok(mut source) = open(path) else { return 0 };
    let mut decoder = Decoder::new(plan);
    let mut records = 0;
    let mut sink = |_: &Record<'_>| records += 1;
    let _ = pump(&mut *source, &mut decoder, &mut sink, &mut |_| true);
    records
}
