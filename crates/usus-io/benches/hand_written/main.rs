//! The declared decoder against decoders written by hand for the one format, on the same input, in turn, in one run.
//!
//! Two jobs: decode (every field of every record read; a checksum over all values is printed and has to be equal on all sides) and CSV
//! (the same bytes in the same files, in memory where there is a memory file system). Two decoders by hand: *plain* is what a good
//! engineer writes in an afternoon (safe Rust, no allocation for a record, `memchr`, a CRC table, simple digit loops), *tuned* as fast
//! as it can honestly be made in safe Rust. The *ceiling* finds frames and columns and verifies checksums, and does nothing else.
//!
//! `cargo bench -p usus-io` runs all; `-- packets nmea` some; `-- --megabytes 16 --rounds 9` on other input, so often; `-- --no-csv` only
//! decodes; `-- --only-contests` leaves out what follows them.

#![allow(clippy::print_stdout, missing_docs)]

mod bus;
mod bytes;
mod extremes;
mod input;
mod mixed;
mod packets;
mod quick;
mod reports;
mod sentences;
mod sum;
mod tables;
mod written;

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use usus::fast::Visit;
use usus::{Chunk, Decoder, FieldSchema, Format, Items, Plan, Quality, Reading, Record, Value};
use usus_io::{Destination, Existing, OutputOptions, Outputs, PieceOptions, RawBytes, pump_pieces};

use sum::Sum;

/// A format, an input for it, and its decoders by hand.
pub struct Contest {
    pub name: &'static str,
    pub format: &'static str,
    /// An input of so many bytes, of whose frames one in so many is damaged.
    pub make: fn(usize, u32) -> Vec<u8>,
    pub plain: Side,
    pub tuned: Side,
    pub ceiling: fn(&[u8]) -> u64,
}

/// A decoder by hand.
pub struct Side {
    pub decode: fn(&[u8]) -> (u64, Sum),
    pub csv: fn(&[u8], &Path),
}

/// How large inputs are, and how often each side runs.
#[derive(Clone, Copy)]
pub struct Extent {
    pub size: usize,
    pub rounds: usize,
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|argument| argument != "--bench").collect();
    if std::env::args().all(|argument| argument != "--bench") {
        return test();
    }
    let option = |name: &str, usual: usize| match arguments.iter().position(|argument| argument == name) {
        Some(place) => arguments[place + 1].parse().expect("a number"),
        None => usual,
    };
    let extent = Extent { size: option("--megabytes", 64) << 20, rounds: option("--rounds", 9) };
    let is_name = |word: &&String| !word.starts_with('-') && word.parse::<usize>().is_err();
    let names: Vec<&String> = arguments.iter().filter(is_name).collect();
    let wanted = |name: &str| names.is_empty() || names.iter().any(|word| *word == name);
    let has = |name: &str| arguments.iter().any(|word| word == name);
    println!("times of the others over that of the declared decoder: above 1, it is faster");
    println!("of the fastest runs (median of the rounds, and their spread)");
    println!(
        "{:<9}{:<8}{:>11}{:>8}{:>8}{:>10}{:>30}{:>30}",
        "format", "job", "MB/s plain", "tuned", "ceiling", "declared", "plain/declared", "tuned/declared"
    );
    let contests = [packets::CONTEST, sentences::CONTEST, reports::CONTEST, mixed::contest()];
    for contest in contests.iter().filter(|contest| wanted(contest.name)) {
        run(contest, extent, !has("--no-csv"));
    }
    if wanted("written") {
        written::run(extent);
    }
    if wanted("bytes") {
        bytes::run(extent);
    }
    if wanted("bus") {
        bus::run(extent);
    }
    if !has("--only-contests") {
        for contest in contests.iter().filter(|contest| wanted(contest.name)) {
            extremes::run(contest, extent);
        }
        if wanted("sizes") {
            extremes::sizes(extent);
        }
    }
}

/// As a test: all decoders say the same, and write the same bytes.
fn test() {
    let extent = Extent { size: 300_000, rounds: 1 };
    for contest in [packets::CONTEST, sentences::CONTEST, reports::CONTEST, mixed::contest()] {
        run(&contest, extent, true);
    }
    written::run(extent);
    bytes::run(extent);
    bus::run(extent);
}

/// A format whose sentences each give a record, as the decoders by hand have it.
fn compiled(format: &str) -> Plan {
    let mut format = Format::parse(format).expect("a sound format");
    format.multiparts.clear();
    format.compile().expect("a sound format")
}

fn run(contest: &Contest, extent: Extent, with_csv: bool) {
    let plan = compiled(contest.format);
    let input = (contest.make)(extent.size, 1_000);
    let (times, results) = in_turn(
        extent.rounds,
        &mut [
            &mut || (contest.plain.decode)(&input),
            &mut || (contest.tuned.decode)(&input),
            &mut || declared_decode(&plan, &input, 1 << 16),
            &mut || ((contest.ceiling)(&input), Sum::default()),
        ],
    );
    report(contest.name, "decode", input.len(), &times);
    assert!(results[..3].windows(2).all(|pair| pair[0] == pair[1]), "{}: {results:?}", contest.name);
    println!("{:<17} {} records, checksum over all values {:016X}", "", results[0].0, results[0].1.value());

    if !with_csv {
        return;
    }
    let folders = ["plain", "tuned", "declared"].map(folder);
    let [plain, tuned, declared] = &folders;
    fs::create_dir_all(plain).unwrap();
    fs::create_dir_all(tuned).unwrap();
    let (times, _) = in_turn(
        extent.rounds,
        &mut [&mut || (contest.plain.csv)(&input, plain), &mut || (contest.tuned.csv)(&input, tuned), &mut || {
            declared_csv(&plan, &input, declared, 1)
        }],
    );
    report(contest.name, "csv", input.len(), &times);
    let bytes = same_files(plain, declared);
    same_files(tuned, declared);
    println!("{:<17} {bytes} bytes of CSV, equal", "");
    for folder in folders {
        fs::remove_dir_all(folder).unwrap();
    }
}

/// Runs all sides in turn, so many times after a warm-up. Returns the seconds of each run, and the last results.
pub fn in_turn<T>(rounds: usize, sides: &mut [&mut dyn FnMut() -> T]) -> (Vec<Vec<f64>>, Vec<T>) {
    let mut times = vec![Vec::new(); sides.len()];
    let mut results = Vec::new();
    for round in 0..=rounds {
        results.clear();
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

pub fn median(values: &[f64]) -> f64 {
    let mut values = values.to_vec();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// What neighbours on the machine slow down least.
pub fn fastest(times: &[f64]) -> f64 {
    times.iter().copied().fold(f64::MAX, f64::min)
}

/// The ratio of the fastest runs; the median of the rounds, and their spread.
pub fn ratio(over: &[f64], under: &[f64]) -> String {
    let ratios: Vec<f64> = over.iter().zip(under).map(|(over, under)| over / under).collect();
    let (low, high) = ratios.iter().fold((f64::MAX, 0.0f64), |(low, high), ratio| (low.min(*ratio), high.max(*ratio)));
    format!("{:.2} ({:.2}, {low:.2} to {high:.2})", fastest(over) / fastest(under), median(&ratios))
}

/// Times of plain, tuned and declared, and perhaps the ceiling.
/// Prints the row of a plain decoder and the declared one.
pub fn say_decode(name: &str, bytes: usize, times: &[Vec<f64>]) {
    let rate = |side: usize| bytes as f64 / 1e6 / fastest(&times[side]);
    let (plain, declared) = (rate(0), rate(1));
    println!(
        "{name:<9}{:<8}{plain:>11.0}{:>8}{:>8}{declared:>10.0}{:>30}",
        "decode",
        "",
        "",
        ratio(&times[0], &times[1])
    );
}

fn report(name: &str, job: &str, bytes: usize, times: &[Vec<f64>]) {
    let rate = |side: usize| match times.get(side) {
        Some(times) => format!("{:.0}", bytes as f64 / 1e6 / fastest(times)),
        None => String::new(),
    };
    let (plain, tuned) = (ratio(&times[0], &times[2]), ratio(&times[1], &times[2]));
    let (a, b, c, d) = (rate(0), rate(1), rate(3), rate(2));
    println!("{name:<9}{job:<8}{a:>11}{b:>8}{c:>8}{d:>10}{plain:>30}{tuned:>30}");
}

/// A folder of this process, in memory where the system has a memory file system.
pub fn folder(name: &str) -> PathBuf {
    let memory = Path::new("/dev/shm");
    let base = if memory.is_dir() { memory.to_owned() } else { std::env::temp_dir() };
    let folder = base.join(format!("usus-bench-{}-{name}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    folder
}

/// Decodes chunks of that size.
pub fn declared_decode(plan: &Plan, input: &[u8], chunk: usize) -> (u64, Sum) {
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
    for chunk in input.chunks(chunk) {
        let Ok(()) = decoder.decode(Chunk::new(line, chunk), &mut take);
    }
    let Ok(()) = decoder.finish().drain(&mut take);
    (records, sum)
}

/// Sums values as they are shown.
pub struct Summing(pub Sum);

impl Visit for Summing {
    #[inline(always)]
    fn reading(&mut self, _schema: &FieldSchema, reading: Reading<'_>) {
        add(&mut self.0, reading);
    }

    #[inline]
    fn number(&mut self, _schema: &FieldSchema, coefficient: i64, _places: u8, _quality: Quality) {
        self.0.number(coefficient);
    }

    #[inline(always)]
    fn group(&mut self, _schema: &FieldSchema, items: Items<'_>) {
        items.visit(self);
    }
}

#[inline(always)]
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

pub fn declared_csv(plan: &Plan, input: &[u8], folder: &Path, jobs: usize) {
    let destination = Destination::Directory(folder.to_owned());
    let options = OutputOptions { existing: Existing::Replace, ..OutputOptions::default() };
    let mut outputs = Outputs::open(plan, &destination, &options).unwrap();
    let (mut source, mut decoder) = (RawBytes::new(input, input.len() as u64), Decoder::new(plan));
    pump_pieces(&mut source, &mut decoder, &mut outputs, PieceOptions::jobs(jobs), &mut |_| true).unwrap();
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
