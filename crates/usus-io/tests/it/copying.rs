//! Cutting a span out of captures, joining them, serving and replaying.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use proptest::prelude::*;
use usus::{Loss, Time};
use usus_io::{
    Between, CopyError, Original, RecordError, RecordedLine, RecordedSource, Recorder, ReplayError, ReplayOptions,
    Rotation, ServePlace, Server, Source, SourceEvent, Stop, copy_captures, extract, open, parse_time, replay,
};

fn at(time: i64) -> Time {
    Time::from_nanoseconds(time)
}

fn original(name: &str, path: &Path) -> Original {
    Original { name: name.to_owned(), source: open(path).unwrap() }
}

/// What a source says of each line: name, offset and time of each chunk, losses and notes.
fn told(source: &mut dyn Source) -> Vec<String> {
    let (mut lines, mut told) = (Vec::new(), Vec::new());
    while let Some(event) = source.next().unwrap() {
        match event {
            SourceEvent::Line(info) => lines.push((info.name, info.start)),
            SourceEvent::Chunk { line, time, bytes, .. } => {
                let (name, offset) = &mut lines[line];
                told.push(format!("{name} {offset} {} {}", time.unwrap().nanoseconds(), bytes.escape_ascii()));
                *offset += bytes.len() as u64;
            }
            SourceEvent::Loss { line, time, why } => {
                told.push(format!("{} {why:?} {}", lines[line].0, time.unwrap().nanoseconds()));
            }
            SourceEvent::Note { line, time, text } => {
                told.push(format!("{} {text} {}", lines[line].0, time.unwrap().nanoseconds()));
            }
            _ => {}
        }
    }
    told
}

/// Records these chunks (line, bytes) into as many files as there are parts; times are their numbers.
fn record(folder: &Path, name: &str, lines: &[&str], parts: &[Vec<(usize, Vec<u8>)>]) -> Vec<PathBuf> {
    let lines: Vec<RecordedLine> = lines.iter().map(|line| RecordedLine::new(*line)).collect();
    let paths: Vec<PathBuf> = (0..parts.len()).map(|part| folder.join(format!("{name}.{part}.pcapng"))).collect();
    let mut recorder = Recorder::create(&paths[0], name, &lines).unwrap();
    let mut time = 0;
    for (part, path) in parts.iter().zip(&paths) {
        if recorder.path() != path {
            recorder.go_on_in(path).unwrap();
        }
        for (line, bytes) in part {
            time += 1;
            match bytes.is_empty() {
                true => recorder.loss(*line, at(time), Loss::Reopened),
                false => recorder.chunk(*line, at(time), bytes, &[]),
            }
        }
    }
    recorder.finish().unwrap();
    paths
}

type Parts = Vec<Vec<(usize, Vec<u8>)>>;

fn parts() -> impl Strategy<Value = Parts> {
    let chunk = (0..2usize, prop::collection::vec(any::<u8>(), 0..5));
    prop::collection::vec(prop::collection::vec(chunk, 0..8), 1..5)
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 60, ..ProptestConfig::default() })]

    /// Parts of a recording, given in any order, are one recording again; a span of it is what was received in that time, at its offsets.
    #[test]
    fn parts_join_and_spans_are_cut(parts in parts(), begin in 0i64..30, length in 0i64..30, turn in any::<prop::sample::Index>()) {
        let folder = tempfile::tempdir().unwrap();
        let whole = record(folder.path(), "whole", &["a", "b"], &[parts.concat()]);
        let mut several = record(folder.path(), "several", &["a", "b"], &parts);
        let turned = turn.index(several.len());
        several.rotate_left(turned);
        let joined = folder.path().join("joined.pcapng");
        copy_captures(several.iter().map(|path| original("", path)).collect(), &joined).unwrap();
        let all = told(&mut *open(&whole[0]).unwrap());
        prop_assert_eq!(&told(&mut *open(&joined).unwrap()), &all);

        let (begin, end) = (at(begin), at(begin + length));
        let mut cut = Between::new(open(&whole[0]).unwrap(), Some(begin), Some(end));
        let time = |told: &String| -> i64 {
            let words: Vec<&str> = told.splitn(4, ' ').collect();
            words[if words.len() == 4 { 2 } else { words.len() - 1 }].parse().unwrap()
        };
        let inside: Vec<String> = all.iter().filter(|told| (begin..end).contains(&at(time(told)))).cloned().collect();
        prop_assert_eq!(&told(&mut cut), &inside);
        // The same as a file.
        let path = folder.path().join("cut.pcapng");
        let source = Box::new(Between::new(open(&whole[0]).unwrap(), Some(begin), Some(end)));
        copy_captures(vec![Original { name: String::new(), source }], &path).unwrap();
        prop_assert_eq!(told(&mut *open(&path).unwrap()), inside);
    }
}

#[test]
fn recordings_of_different_streams_become_lines_beside_each_other() {
    let folder = tempfile::tempdir().unwrap();
    let chunks = |texts: &[&str]| vec![texts.iter().map(|text| (0, text.as_bytes().to_vec())).collect::<Vec<_>>()];
    let one = &record(folder.path(), "one", &[""], &chunks(&["ask", "ask again"]))[0];
    let other = &record(folder.path(), "other", &[""], &chunks(&["say", "say again", "and again"]))[0];
    let out = folder.path().join("both.pcapng");
    let copied = copy_captures(vec![original("request", one), original("answer", other)], &out).unwrap();
    assert_eq!((copied.bytes, copied.lines, copied.torn), (33, 2, 0));
    let expected =
        ["request 0 1 ask", "answer 0 1 say", "request 3 2 ask again", "answer 3 2 say again", "answer 12 3 and again"];
    assert_eq!(told(&mut *open(&out).unwrap()), expected);
    assert_eq!(open(&out).unwrap().stream(), Some("one and other"), "it is known before anything is read");
    // Nothing is overwritten, and what cannot be told apart is not mixed.
    let again = copy_captures(vec![original("", one)], &out);
    assert!(matches!(again, Err(CopyError::Record(RecordError::Exists { .. }))));
    let nameless = folder.path().join("nameless.pcapng");
    let mixed = copy_captures(vec![original("", one), original("", other)], &nameless);
    assert!(matches!(mixed, Err(CopyError::SameName { .. })));
    assert!(!nameless.exists());
    // A part that is missing shows in the offsets.
    let parts = record(
        folder.path(),
        "gap",
        &["x"],
        &[chunks(&["12"])[0].clone(), chunks(&["345"])[0].clone(), chunks(&["6"])[0].clone()],
    );
    let gap = folder.path().join("gap.pcapng");
    copy_captures(vec![original("", &parts[0]), original("", &parts[2])], &gap).unwrap();
    assert_eq!(told(&mut *open(&gap).unwrap()), ["x 0 1 12", "x 5 3 6"]);
    // What is torn off is told.
    let whole = fs::read(one).unwrap();
    let torn = folder.path().join("torn.pcapng");
    fs::write(&torn, &whole[..whole.len() - 5]).unwrap();
    let copied = copy_captures(vec![original("", &torn)], &folder.path().join("rest.pcapng")).unwrap();
    assert!(copied.torn > 0 && copied.bytes == 3, "{copied:?}");
}

/// Rotated files are compressed once they are finished, and read as they were.
#[test]
fn finished_files_are_compressed() {
    let folder = tempfile::tempdir().unwrap();
    let capture = "../../demo/samples/rope-tension.pcapng";
    let recorder =
        Recorder::create(&folder.path().join("cell.pcapng"), "s", &[RecordedLine::new("rope-tension")]).unwrap();
    let mut kept = RecordedSource::new(open(capture.as_ref()).unwrap(), recorder, usus_io::Clock::system());
    let mut rotation = Rotation::default();
    (rotation.size, rotation.compress) = (Some(9_000), true);
    // A name that is taken is not taken away from anybody.
    fs::write(folder.path().join("cell.3.pcapng.gz"), "somebody else's").unwrap();
    kept.rotate(rotation);
    while kept.next().unwrap().is_some() {}
    assert!(kept.remarks().is_empty(), "{:?}", kept.remarks());
    let files = kept.files();
    assert!(
        files.len() > 3 && files.iter().all(|path| path.extension().is_some_and(|ending| ending == "gz")),
        "{files:?}"
    );
    assert_eq!(fs::read(folder.path().join("cell.3.pcapng.gz")).unwrap(), b"somebody else's");
    let mut there: Vec<PathBuf> = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().path()).collect();
    there.retain(|path| !path.ends_with("cell.3.pcapng.gz"));
    assert_eq!(there.len(), files.len(), "nothing unfinished stays: {there:?}");
    let joined = folder.path().join("joined.pcapng");
    copy_captures(files.iter().map(|path| original("", path)).collect(), &joined).unwrap();
    assert_eq!(told(&mut *open(&joined).unwrap()), told(&mut *open(capture.as_ref()).unwrap()));
}

#[test]
fn times_are_read_as_people_write_them() {
    let half_past_six = at(1_795_588_200_000_000_000);
    for text in [
        "2026-11-25T06:30:00Z",
        "2026-11-25 06:30",
        "2026-11-25T06:30:00",
        "2026-11-25T07:30:00+01:00",
        "2026-11-25 06:30:00.000",
    ] {
        assert_eq!(parse_time(text), Some(half_past_six), "{text}");
    }
    assert_eq!(parse_time("2026-11-25"), Some(at(1_795_564_800_000_000_000)));
    assert_eq!(parse_time("2026-11-25 06:30:00.25").unwrap().since(half_past_six).nanoseconds(), 250_000_000);
    for text in ["", "half past six", "06:30", "2026-13-01", "2026-11-25T25:00"] {
        assert_eq!(parse_time(text), None, "{text}");
    }
}

fn eventually(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(10), "{what}");
        std::thread::sleep(Duration::from_millis(2));
    }
}

/// Callers get what arrives from when they call; what they say goes nowhere; one that hangs is given up, the others are not held up.
#[test]
fn callers_are_served_and_never_waited_for() {
    let place = ServePlace::parse("tcp://127.0.0.1:0").unwrap().unwrap();
    let mut server = Server::open(&place).unwrap();
    let address = server.to_string().replace("tcp://", "");
    server.give(b"before anybody calls");
    let mut reader = TcpStream::connect(&address).unwrap();
    let hanging = TcpStream::connect(&address).unwrap();
    let leaving = TcpStream::connect(&address).unwrap();
    eventually("they are there", || server.is_listened_to());
    std::thread::sleep(Duration::from_millis(20));
    server.give(b"");
    reader.write_all(b"who is there?").unwrap();
    drop(leaving);
    let block = vec![b'u'; 100_000];
    let mut received = Vec::new();
    let begun = Instant::now();
    let mut sent = 0;
    while sent < 20_000_000 {
        server.give(&block);
        sent += block.len();
        let mut buffer = vec![0; block.len()];
        while received.len() < sent {
            let got = reader.read(&mut buffer).unwrap();
            received.extend_from_slice(&buffer[..got]);
            server.give(&[]);
        }
    }
    assert!(begun.elapsed() < Duration::from_secs(30), "who hangs holds nobody up");
    assert!(received.len() == sent && received.iter().all(|byte| *byte == b'u'));
    assert_eq!(server.received(), 13);
    assert!(server.dropped() > 0, "the one that hangs was given up");
    drop(hanging);
    drop(reader);
    eventually("they are gone", || !server.is_listened_to());
}

/// A program at the terminal gets the bytes as they are, though it sets nothing; what it sends goes nowhere.
#[test]
fn a_terminal_is_served_and_never_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let link = folder.path().join("cell");
    let place = ServePlace::parse(&format!("pty:{}", link.display())).unwrap().unwrap();
    let mut server = Server::open(&place).unwrap();
    assert_eq!(server.to_string(), link.display().to_string());
    server.give(b"nobody is there");
    assert!(!server.is_listened_to());
    let mut program = fs::OpenOptions::new().read(true).write(true).open(&link).unwrap();
    eventually("it is there", || server.is_listened_to());
    let all: Vec<u8> = (0..=255).collect();
    server.give(&all);
    let mut received = vec![0; all.len()];
    program.read_exact(&mut received).unwrap();
    assert_eq!(received, all, "every byte passes as it is");
    program.write_all(b"hello").unwrap();
    eventually("what it says is counted", || {
        server.give(&[]);
        server.received() == 5
    });
    // It hangs.
    let begun = Instant::now();
    for _ in 0..30 {
        server.give(&vec![0; 100_000]);
    }
    assert!(begun.elapsed() < Duration::from_secs(5));
    assert!(server.dropped() > 1_500_000 && server.behind() > 900_000, "{} {}", server.dropped(), server.behind());
    drop(program);
    eventually("it is gone", || !server.is_listened_to());
    drop(server);
    assert!(!link.is_symlink());
}

#[test]
fn what_was_recorded_is_played_and_taken_out() {
    let capture = "../../demo/samples/rope-tension.pcapng";
    let raw = fs::read("../../demo/samples/rope-tension.bin").unwrap();
    let mut taken = Vec::new();
    assert_eq!(extract(&mut *open(capture.as_ref()).unwrap(), None, &mut taken).unwrap(), raw.len() as u64);
    assert_eq!(taken, raw);

    let mut server = Server::open(&ServePlace::parse("tcp://127.0.0.1:0").unwrap().unwrap()).unwrap();
    let mut listener = TcpStream::connect(server.to_string().replace("tcp://", "")).unwrap();
    let listening = std::thread::spawn(move || {
        let mut all = Vec::new();
        listener.write_all(b"?").unwrap();
        listener.read_to_end(&mut all).map(|_| all)
    });
    let options = ReplayOptions { speed: 60.0, ..ReplayOptions::default() };
    let begun = Instant::now();
    let replayed = replay(&mut *open(capture.as_ref()).unwrap(), &options, &mut server, &Stop::new()).unwrap();
    assert!(begun.elapsed() > Duration::from_millis(900), "a minute in a second");
    assert_eq!((replayed.bytes, replayed.received), (raw.len() as u64, 1));
    drop(server);
    assert_eq!(listening.join().unwrap().unwrap(), raw);

    let folder = tempfile::tempdir().unwrap();
    let chunks = vec![vec![(0, b"ask".to_vec()), (1, b"say".to_vec())]];
    let two = &record(folder.path(), "two", &["request", "answer"], &chunks)[0];
    let of = |line: Option<&str>| extract(&mut *open(two).unwrap(), line, &mut Vec::new());
    assert!(matches!(of(None), Err(ReplayError::Several { names }) if names == ["request", "answer"]));
    assert!(matches!(of(Some("other")), Err(ReplayError::NoLine { .. })));
    assert_eq!(of(Some("answer")).unwrap(), 3);
    for text in ["file.bin", "ptyx", "udp://:1"] {
        assert!(ServePlace::parse(text).is_none(), "{text}");
    }
    assert_eq!(ServePlace::parse("tcp://nowhere"), Some(Err("nowhere".to_owned())));
}
