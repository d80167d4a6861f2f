//! The bodies of the fuzz targets, run over the cases, over what was kept of what once went wrong, and over what comes of altering both.

use std::fs;
use std::path::PathBuf;

use fastrand::Rng;

use crate::cases;

#[path = "../../../../fuzz/bodies.rs"]
mod bodies;

/// Formats with a stream behind each.
fn corpus() -> Vec<Vec<u8>> {
    let joined = |(format, stream): (String, Vec<u8>)| [format.as_bytes(), bodies::BEHIND_FORMAT, &stream].concat();
    let mut corpus: Vec<Vec<u8>> = cases::formats_and_streams().into_iter().map(joined).collect();
    // Layouts whose parts vary, with what one may look like.
    let parts = (0..20).map(|seed| (crate::parts::text(seed), crate::parts::stream(seed)));
    corpus.extend(parts.map(joined));
    // Formats with files beside them.
    let beside =
        fs::read_to_string(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/cases/fields-beside.case")).unwrap();
    let (_, beside) = beside.split_once("== format\n").unwrap();
    let (format, files) = beside.split_once("== file ").unwrap();
    for file in files.split("== input").next().unwrap().split("== file ") {
        let rows = file.split_once('\n').unwrap().1;
        corpus.push([format, bodies::BEFORE_FILE, rows].concat().into_bytes());
    }
    let kept = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/kept");
    let mut paths: Vec<PathBuf> = fs::read_dir(kept).into_iter().flatten().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    corpus.extend(paths.into_iter().map(|path| fs::read(path).unwrap()));
    corpus
}

fn run(data: &[u8]) {
    bodies::format_text(front_of(data));
    bodies::format_and_stream(data);
}

/// The format before a stream.
fn front_of(data: &[u8]) -> &[u8] {
    let behind = data.windows(bodies::BEHIND_FORMAT.len()).position(|window| window == bodies::BEHIND_FORMAT);
    &data[..behind.unwrap_or(data.len())]
}

#[test]
fn what_is_kept_goes_well() {
    let corpus = corpus();
    assert!(corpus.len() > 50);
    corpus.iter().for_each(|data| run(data));
}

/// Words that mean something somewhere.
const WORDS: &[&str] = &[
    "0",
    "1",
    "-1",
    "255",
    "65535",
    "65536",
    "9223372036854775807",
    "0x8000",
    "0.001",
    "1e99",
    "\"\"",
    "'x'",
    "\"end\"",
    "\"CR LF\"",
    "'A5 5A'",
    "true",
    "[]",
    "{}",
    "[1, 2]",
    "type = 'u8'",
    "type = 'number'",
    "type = 'text'",
    "bits = '0-3'",
    "up_to = 'end'",
    "optional = true",
    "joined = true",
    "read = 'pairs'",
    "read = 'columns'",
    "cut = 'text'",
    "cut = 'packet'",
    "cut = 'slip'",
    "until = 'NUL'",
    "width = 'a'",
    "size = 3",
    "count = 2",
    "count = 'n'",
    "type = 'b12'",
    "type = 'u32cdab'",
    "digits = 'bcd'",
    "sign = 'offset'",
    "bits = '12-15,0-3'",
    "bits_from = 'low'",
    "scale_from = 'a'",
    "address_from = 'a'",
    "start = ['80/80', 'AA']",
    "when = 'length > 3'",
    "when = 'columns == 2'",
    "charset = 'latin-1'",
    "clean = 'parity'",
    "clean = 'escapes'",
    "pattern = '(?<a>)'",
    "printed = '{a} {b}'",
    "[[record.r.variant]]",
    "[[ignore]]",
    "\n",
    ",",
    "}",
    "]",
    "=",
    "== input",
    "inside = 'r.load'",
    "inside = 'parcel.load'",
    "cut = 'cobs'",
    "cut = 'hdlc'",
    "cut = 'dle'",
    "cut = 'idle'",
    "idle = '20 ms'",
    "cut = 'break'",
    "cut = 'fixed'",
    "length = 'record'",
    "past = { byte = 1, until = '00' }",
    "past = { byte = 1, type = 'u8' }",
    "coding = [{ step = 'hex' }]",
    "over = 'sent'",
    "scale = '1/3'",
    "fields = { file = 'f.csv' }",
    "codes = { file = 'f.csv' }",
    "separator = ';'",
    "keys = { 'a' = 'name' }",
];

/// One entry of the corpus with parts of another in it, words, and damage.
fn altered(rng: &mut Rng, corpus: &[Vec<u8>]) -> Vec<u8> {
    let any = |rng: &mut Rng| rng.choice(corpus).unwrap().clone();
    let mut data = any(rng);
    for _ in 0..rng.usize(1..5) {
        let place = rng.usize(0..=data.len());
        match rng.u32(0..8) {
            0 => {
                // A line of another.
                let other = any(rng);
                let lines: Vec<&[u8]> = other.split_inclusive(|byte| *byte == b'\n').collect();
                let line = rng.choice(&lines).map_or(Vec::new(), |line| line.to_vec());
                let at = data[..place].iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
                data.splice(at..at, line);
            }
            1 => {
                let end = place.saturating_add(rng.usize(0..40)).min(data.len());
                data.drain(place..end);
            }
            2 => {
                let end = place.saturating_add(rng.usize(0..40)).min(data.len());
                let again = data[place..end].to_vec();
                data.splice(place..place, again);
            }
            3 | 4 => {
                // A word in the place of another.
                let is_part = |byte: &u8| byte.is_ascii_alphanumeric() || matches!(byte, b'_' | b'.' | b'-');
                let begin = data[..place].iter().rposition(|byte| !is_part(byte)).map_or(0, |at| at + 1);
                let end = data[place..].iter().position(|byte| !is_part(byte)).map_or(data.len(), |at| place + at);
                data.splice(begin..end, rng.choice(WORDS).unwrap().bytes());
            }
            5 => {
                if let Some(byte) = data.get_mut(place) {
                    *byte ^= 1 << rng.u32(0..8);
                }
            }
            6 => {
                let any = rng.u8(..);
                let byte = rng.choice([0, b'\r', b'\n', 0x1B, b'"', 0xFF, 0xC0, b'*', b' ', any]).unwrap();
                data.splice(place..place, std::iter::repeat_n(byte, rng.usize(1..9)));
            }
            _ => {
                // The stream of another.
                let at = |data: &[u8]| data.windows(10).position(|window| window == b"\n== input\n");
                let other = any(rng);
                if let (Some(own), Some(its)) = (at(&data), at(&other)) {
                    data.truncate(own);
                    data.extend_from_slice(&other[its..]);
                }
            }
        }
    }
    data
}

/// `FUZZ_RUNS` and `FUZZ_SEED` make it longer, and other; `FUZZ_BODY` is `format_text` or `format_and_stream` for one of the bodies alone.
#[test]
fn what_is_altered_goes_well() {
    let corpus = corpus();
    let number = |name: &str, usual: u64| std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usual);
    let (runs, seed) = (number("FUZZ_RUNS", 1_500), number("FUZZ_SEED", 0));
    let body = std::env::var("FUZZ_BODY").unwrap_or_default();
    let run = |data: &[u8]| match &*body {
        "format_text" => bodies::format_text(front_of(data)),
        "format_and_stream" => bodies::format_and_stream(data),
        _ => run(data),
    };
    let mut failed = Vec::new();
    for run_number in 0..runs {
        let mut rng = Rng::with_seed(seed.wrapping_mul(1 << 32).wrapping_add(run_number));
        let data = altered(&mut rng, &corpus);
        if std::panic::catch_unwind(|| run(&data)).is_err() {
            // A long run goes on, so that all of it is known.
            failed.push(format!("run {run_number} of seed {seed}:\n{}", String::from_utf8_lossy(&data)));
        }
    }
    assert!(failed.is_empty(), "{} went wrong:\n{}", failed.len(), failed.join("\n"));
}
