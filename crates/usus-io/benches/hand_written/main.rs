//! The declared decoder against decoders written by hand for the one format, on the same input, alternating, in one run.
//!
//! Two jobs: decode (every field of every record read; a checksum over all values is printed and has to be equal on both sides) and CSV
//! (the same bytes in the same files, in memory where there is a memory file system). The decoders by hand are what a good engineer
//! writes in an afternoon: safe Rust, no allocation for a record, `memchr`, a CRC table, simple digit loops.
//!
//! `cargo bench -p usus-io` runs all; `-- packets` one; `-- --megabytes 16 --rounds 9` on other input, so often; `-- --no-csv` only decodes.

#![allow(clippy::print_stdout, missing_docs)]

mod input;
mod packets;
mod sentences;
mod sum;
mod tables;

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use usus::{Chunk, Decoder, FieldSchema, Format, Items, Plan, Quality, Reading, Record, Value, Visit};
use usus_io::{Destination, Outputs, RawReader, TableOptions, pump};

use sum::Sum;

/// A format, an input for it, and its decoders by hand.
pub struct Contest {
    pub name: &'static str,
    pub format: &'static str,
    pub make: fn(usize) -> Vec<u8>,
    pub decode: fn(&[u8]) -> (u64, Sum),
    pub csv: fn(&[u8], &Path),
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    let option = |name: &str, usual: usize| match arguments.iter().position(|argument| argument == name) {
        Some(place) => arguments[place + 1].parse().expect("a number"),
        None => usual,
    };
    let (megabytes, rounds) = (option("--megabytes", 64), option("--rounds", 5));
    let wanted = |name: &str| {
        arguments.iter().all(|word| word.starts_with('-') || word.parse::<usize>().is_ok() || word == name)
    };
    println!("{:<12}{:>8}{:>16}{:>16}{:>12}", "format", "job", "plain MB/s", "declared MB/s", "plain/decl.");
    for contest in [packets::CONTEST, sentences::CONTEST] {
        if wanted(contest.name) {
            run(&contest, megabytes << 20, rounds, !arguments.iter().any(|word| word == "--no-csv"));
        }
    }
}

fn run(contest: &Contest, size: usize, rounds: usize, with_csv: bool) {
    let plan = Format::parse(contest.format).and_then(|format| format.compile()).expect("a sound format");
    let input = (contest.make)(size);
    let (times, sums) = alternate(rounds, &mut || (contest.decode)(&input), &mut || declared_decode(&plan, &input));
    report(contest.name, "decode", input.len(), &times);
    assert!(sums.windows(2).all(|pair| pair[0] == pair[1]), "{}: {sums:?}", contest.name);
    println!("{:<12}{:>8} {} records, checksum over all values {:016X}", "", "", sums[0].0, sums[0].1.value());

    if !with_csv {
        return;
    }
    let (by_hand, declared) = (folder("by-hand"), folder("declared"));
    fs::create_dir_all(&by_hand).unwrap();
    let (times, _) =
        alternate(rounds, &mut || (contest.csv)(&input, &by_hand), &mut || declared_csv(&plan, &input, &declared));
    report(contest.name, "csv", input.len(), &times);
    let bytes = same_files(&by_hand, &declared);
    println!("{:<12}{:>8} {bytes} bytes of CSV, equal", "", "");
    fs::remove_dir_all(by_hand).unwrap();
    fs::remove_dir_all(declared).unwrap();
}

/// Runs both in turn, so many times after a warm-up. Returns the seconds of each run, and all results.
fn alternate<'a, T>(
    rounds: usize,
    plain: &'a mut dyn FnMut() -> T,
    declared: &'a mut dyn FnMut() -> T,
) -> ([Vec<f64>; 2], Vec<T>) {
    let mut results = Vec::new();
    let mut times = [Vec::new(), Vec::new()];
    let mut sides = [plain, declared];
    for round in 0..=rounds {
        for (side, run) in sides.iter_mut().enumerate() {
            let begun = Instant::now();
            results.push(run());
            if round > 0 {
                times[side].push(begun.elapsed().as_secs_f64());
            }
        }
    }
    (times, results)
}

fn report(name: &str, job: &str, bytes: usize, times: &[Vec<f64>; 2]) {
    let median = |times: &[f64]| {
        let mut times = times.to_vec();
        times.sort_by(f64::total_cmp);
        times[times.len() / 2]
    };
    let ratios: Vec<f64> = times[0].iter().zip(&times[1]).map(|(plain, declared)| plain / declared).collect();
    let rate = |times: &[f64]| bytes as f64 / 1e6 / median(times);
    let (plain, declared, ratio) = (rate(&times[0]), rate(&times[1]), median(&ratios));
    let spread =
        |ratios: &[f64]| (ratios.iter().copied().fold(f64::MAX, f64::min), ratios.iter().copied().fold(0.0, f64::max));
    let (low, high) = spread(&ratios);
    println!("{name:<12}{job:>8}{plain:>16.0}{declared:>16.0}{ratio:>12.2}  ({low:.2} to {high:.2})");
}

/// A folder of this process, in memory where the system has a memory file system.
fn folder(name: &str) -> PathBuf {
    let memory = Path::new("/dev/shm");
    let base = if memory.is_dir() { memory.to_owned() } else { std::env::temp_dir() };
    let folder = base.join(format!("usus-bench-{}-{name}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    folder
}

fn declared_decode(plan: &Plan, input: &[u8]) -> (u64, Sum) {
    let mut decoder = Decoder::new(plan);
    let line = decoder.line("", 0).expect("one line");
    let (mut records, mut sum) = (0, Sum::default());
    let mut take = |record: &Record<'_>| {
        records += 1;
        // A copy stays in a register.
        let mut summing = Summing(sum);
        record.visit(&mut summing);
        sum = summing.0;
    };
    for chunk in input.chunks(1 << 16) {
        let Ok(()) = decoder.feed(Chunk::new(line, chunk)).drain(&mut take);
    }
    let Ok(()) = decoder.finish().drain(&mut take);
    (records, sum)
}

struct Summing(Sum);

impl Visit for Summing {
    #[inline]
    fn reading(&mut self, _schema: &FieldSchema, reading: Reading<'_>) {
        add(&mut self.0, reading);
    }

    #[inline]
    fn number(&mut self, _schema: &FieldSchema, coefficient: i64, _places: u8, _quality: Quality) {
        self.0.number(coefficient);
    }

    #[inline(always)]
    fn group(&mut self, _schema: &FieldSchema, items: Items<'_>) {
        items.for_each(|item| item.visit(self));
    }
}

#[inline]
fn add(sum: &mut Sum, reading: Reading<'_>) {
    match reading.value {
        Value::Decimal(number) | Value::Code { number, .. } => sum.number(number.small_coefficient().unwrap_or(0)),
        Value::Bool(flag) => sum.number(flag.into()),
        Value::Text(text) => sum.text(text.bytes()),
        Value::Date(date) => sum.date(date.year(), date.month(), date.day()),
        Value::Clock(clock) => sum.clock(clock.hour(), clock.minute(), clock.second(), clock.nanosecond()),
        _ => sum.absent(),
    }
}

fn declared_csv(plan: &Plan, input: &[u8], folder: &Path) {
    let destination = Destination::Directory(folder.to_owned());
    let mut outputs = Outputs::open(plan, &destination, TableOptions::default(), None, true).unwrap();
    pump(&mut RawReader::new(input, None), &mut Decoder::new(plan), &mut outputs, &mut |_| true).unwrap();
    outputs.finish().unwrap();
}

/// Bytes of all tables, which have to be the same on both sides.
fn same_files(by_hand: &Path, declared: &Path) -> usize {
    let mut bytes = 0;
    for entry in fs::read_dir(declared).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap();
        if name == "fields.csv" {
            continue;
        }
        let (a, b) = (fs::read(by_hand.join(name)).unwrap(), fs::read(&path).unwrap());
        if a != b {
            let place = a.iter().zip(&b).position(|(a, b)| a != b).unwrap_or(a.len().min(b.len()));
            let around = |text: &[u8]| {
                String::from_utf8_lossy(&text[place.saturating_sub(80)..(place + 60).min(text.len())]).into_owned()
            };
            panic!("{name:?} differs at {place}:\n{}\n{}", around(&a), around(&b));
        }
        bytes += a.len();
    }
    assert_eq!(fs::read_dir(by_hand).unwrap().count() + 1, fs::read_dir(declared).unwrap().count());
    bytes
}
