//! The cases in `tests/cases`: a format, an input, the events it gives. Each is run in every way in which bytes can come.
//!
//! A case file has three parts, each behind a line of its own: `== format`, `== input`, `== events`; before the input may stand files beside the
//! format, each behind `== file NAME`. The input has a line for each
//! step: `text …` (with the escapes of a Rust byte string), `hex …`, `repeat N …` before either, `at T ms` for the time of what follows,
//! `on ROLE`, `fault PARITY at N` on the next bytes, `loss`. With `UPDATE_CASES=1` the events are written anew.

use std::fs;
use std::path::{Path, PathBuf};

use usus::{Fault, FaultKind, Format, Plan, Problems};

use crate::drive::{Drive, Input, run};

struct Case {
    path: PathBuf,
    front: String,
    format: String,
    plan: Plan,
    input: Vec<Input>,
    events: Vec<String>,
}

fn cases() -> Vec<Case> {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/cases");
    let paths = files(folder);
    assert!(paths.len() >= 20, "only {} cases", paths.len());
    paths.into_iter().map(|path| read(&path).unwrap_or_else(|problems| panic!("{path:?}: {problems}"))).collect()
}

/// The case files in a folder.
fn files(folder: PathBuf) -> Vec<PathBuf> {
    let paths = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let mut paths: Vec<PathBuf> = paths.filter(|path| path.is_file()).collect();
    paths.sort();
    paths
}

/// The formats of all cases.
pub fn format_texts() -> Vec<String> {
    cases().into_iter().map(|case| case.format).collect()
}

/// The formats of all cases, each with the bytes of its input, whatever line they come on.
pub fn formats_and_streams() -> Vec<(String, Vec<u8>)> {
    let bytes = |part: &Input| match part {
        Input::Bytes { bytes, .. } => bytes.clone(),
        Input::Loss { .. } => Vec::new(),
    };
    cases().into_iter().map(|case| (case.format, case.input.iter().flat_map(bytes).collect())).collect()
}

fn read(path: &Path) -> Result<Case, Problems> {
    let text = fs::read_to_string(path).unwrap();
    let (front, events) = text.split_once("== events\n").unwrap_or_else(|| panic!("{path:?} has no events"));
    let (format, input) = front.split_once("== input\n").unwrap_or_else(|| panic!("{path:?} has no input"));
    let (_, format) = format.split_once("== format\n").unwrap_or_else(|| panic!("{path:?} has no format"));
    let format = match format.trim().strip_prefix("file ") {
        Some(file) => fs::read_to_string(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..").join(file)).unwrap(),
        None => format.to_owned(),
    };
    let (format, files) = format.split_once("== file ").unwrap_or((&format, ""));
    let files: Vec<(&str, &str)> = files.split("== file ").filter_map(|file| file.split_once('\n')).collect();
    let load = |name: &str| match files.iter().find(|(known, _)| *known == name) {
        Some((_, text)) => Ok((*text).to_owned()),
        None => Err("there is no such file".to_owned()),
    };
    let parsed = Format::parse_with(format, load)?;
    let plan = parsed.compile()?;
    // Without its files it is another text that says the same.
    let format = if files.is_empty() { format.to_owned() } else { parsed.to_toml() };
    let (front, path) = (front.to_owned(), path.to_owned());
    Ok(Case {
        front,
        format,
        plan,
        input: read_input(input),
        events: events.lines().map(str::to_owned).collect(),
        path,
    })
}

fn read_input(text: &str) -> Vec<Input> {
    let (mut role, mut time, mut faults) = (String::new(), None, Vec::new());
    let mut input = Vec::new();
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
        match word {
            "at" => {
                let milliseconds: f64 = rest.strip_suffix(" ms").expect("a time in ms").parse().unwrap();
                time = Some((milliseconds * 1e6) as i64);
            }
            "on" => role = rest.to_owned(),
            "loss" => input.push(Input::Loss { role: role.clone() }),
            "fault" => {
                let (kind, at) = rest.split_once(" at ").unwrap();
                let kind = match kind {
                    "parity" => FaultKind::Parity,
                    "framing" => FaultKind::Framing,
                    _ => FaultKind::Break,
                };
                faults.push(Fault { at: at.parse().unwrap(), kind });
            }
            _ => {
                let bytes = read_bytes(word, rest);
                input.push(Input::Bytes { role: role.clone(), time, bytes, faults: std::mem::take(&mut faults) });
            }
        }
    }
    input
}

fn read_bytes(word: &str, rest: &str) -> Vec<u8> {
    match word {
        "text" => unescape(rest),
        "hex" => rest.split_whitespace().map(|pair| u8::from_str_radix(pair, 16).unwrap()).collect(),
        "repeat" => {
            let (count, rest) = rest.split_once(' ').unwrap();
            let (word, rest) = rest.split_once(' ').unwrap();
            read_bytes(word, rest).repeat(count.parse().unwrap())
        }
        other => panic!("unknown step `{other}`"),
    }
}

fn unescape(text: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut rest = text.as_bytes();
    while let Some((&byte, after)) = rest.split_first() {
        rest = after;
        if byte != b'\\' {
            bytes.push(byte);
            continue;
        }
        let (&escape, after) = rest.split_first().unwrap();
        rest = after;
        bytes.push(match escape {
            b'r' => b'\r',
            b'n' => b'\n',
            b't' => b'\t',
            b'x' => {
                let (digits, after) = rest.split_at(2);
                rest = after;
                u8::from_str_radix(std::str::from_utf8(digits).unwrap(), 16).unwrap()
            }
            other => other,
        });
    }
    bytes
}

/// All bytes of the first line, if that is all there is to the input.
fn plain(input: &[Input]) -> Option<Vec<u8>> {
    let mut all = Vec::new();
    for part in input {
        match part {
            Input::Bytes { role, bytes, time: None, faults } if role.is_empty() && faults.is_empty() => {
                all.extend_from_slice(bytes)
            }
            _ => return None,
        }
    }
    Some(all)
}

#[test]
fn the_events_are_those_of_the_file() {
    let mut failed = Vec::new();
    for case in cases() {
        let (mut events, ledgers) = run(&case.plan, &case.input, &mut || usize::MAX);
        for ledger in ledgers {
            let (recorded, ignored, filler) = (ledger.recorded, ledger.ignored, ledger.filler);
            let (clipped, rejected, total) = (ledger.clipped, ledger.rejected, ledger.total);
            events.push(format!("ledger: {recorded} recorded, {ignored} ignored, {filler} filler, {clipped} clipped, {rejected} rejected of {total}"));
            let names = ledger.ignored_by.iter().map(|(name, count)| format!("{name} {count}"));
            let names: Vec<String> = names.collect();
            if !names.is_empty() {
                events.push(format!("ignored: {}", names.join(", ")));
            }
        }
        if std::env::var_os("UPDATE_CASES").is_some() {
            fs::write(&case.path, format!("{}== events\n{}\n", case.front, events.join("\n"))).unwrap();
        } else if events != case.events {
            failed.push(format!(
                "{}:\n  is     {}\n  should {}",
                case.path.display(),
                events.join("\n         "),
                case.events.join("\n         ")
            ));
        }
    }
    assert!(failed.is_empty(), "{}", failed.join("\n"));
}

/// Formats that are settled, and cannot be read yet. Who builds what a case waits for moves it out of this folder.
#[test]
fn splitting_changes_nothing() {
    for case in cases() {
        let whole = run(&case.plan, &case.input, &mut || usize::MAX);
        assert_eq!(run(&case.plan, &case.input, &mut || 1), whole, "{:?} byte by byte", case.path);
        for seed in 0..30 {
            let mut rng = fastrand::Rng::with_seed(seed);
            let mut piece = || rng.usize(1..=7);
            assert_eq!(run(&case.plan, &case.input, &mut piece), whole, "{:?} with seed {seed}", case.path);
        }
        // Long inputs would be split at tens of thousands of places that are all alike.
        if let Some(bytes) = plain(&case.input).filter(|bytes| bytes.len() <= 4_000) {
            let whole = run(&case.plan, &Input::raw(&bytes), &mut || usize::MAX);
            for split in 1..bytes.len() {
                let mut pieces = [split, usize::MAX].into_iter();
                let mut piece = || pieces.next().unwrap_or(usize::MAX);
                assert_eq!(run(&case.plan, &Input::raw(&bytes), &mut piece), whole, "{:?} split at {split}", case.path);
            }
        }
    }
}

#[test]
fn ticks_make_events_earlier_never_different() {
    for case in cases() {
        let whole = run(&case.plan, &case.input, &mut || usize::MAX);
        let mut drive = Drive::new(&case.plan);
        for part in &case.input {
            match part {
                Input::Loss { role } => drive.loss(role),
                Input::Bytes { role, time, bytes, faults } => {
                    if let Some(time) = time {
                        // The clock is read just before the next chunk comes in.
                        drive.tick(time - 1);
                    }
                    drive.feed(role, *time, bytes, faults);
                }
            }
        }
        drive.finish();
        assert_eq!(drive.events, whole.0, "{:?}", case.path);
    }
}

#[test]
fn a_decoder_that_starts_anywhere_joins_the_first() {
    for case in cases() {
        let Some(bytes) = plain(&case.input).filter(|bytes| bytes.len() <= 2_000) else { continue };
        if case.plan.insides().next().is_some() || case.plan.holds_frames() {
            // What lies inside goes on with what came before, however long ago, and so does what is held.
            continue;
        }
        let largest = case.plan.largest_window() - usus::limits::RUN as usize;
        for start in 1..bytes.len() {
            let mut first = Drive::new(&case.plan);
            let mut second = Drive::starting_at(&case.plan, start as u64);
            first.feed("", None, &bytes[..start], &[]);
            second.line("");
            let mut joined = None;
            for (index, byte) in bytes.iter().enumerate().skip(start) {
                first.feed("", None, &[*byte], &[]);
                second.feed("", None, &[*byte], &[]);
                if joined.is_none() && first.join() == second.join() {
                    joined = Some((index, first.events.len(), second.events.len()));
                }
            }
            first.finish();
            second.finish();
            match joined {
                // Counters look back: what they say about the first record after the join is the fold's affair.
                Some((at, of_first, of_second)) => {
                    let told = |events: &[String]| {
                        events
                            .iter()
                            .filter(|event| !event.contains("should be") && !event.contains("too many series"))
                            .cloned()
                            .collect::<Vec<_>>()
                    };
                    let (after_first, after_second) =
                        (told(&first.events[of_first..]), told(&second.events[of_second..]));
                    assert_eq!(after_first, after_second, "{:?} from {start}, joined at {at}", case.path);
                }
                None => assert!(
                    bytes.len() - start <= 2 * largest,
                    "{:?}: from {start} on there is no join in {} bytes",
                    case.path,
                    bytes.len() - start
                ),
            }
        }
    }
}
