//! Recording into captures: nothing overwritten, everything readable, offsets that go on.

use std::fs;
use std::path::Path;

use usus::format::Serial;
use usus::{Fault, FaultKind, Loss, Time};
use usus_io::{RecordError, RecordedLine, Recorder, SourceEvent, open};

fn line(name: &str, serial: &str) -> RecordedLine {
    let mut line = RecordedLine::new(name);
    line.serial = Serial::parse(serial);
    (line.about, line.latency) = (Some("Quarvel Line Tap".to_owned()), Some(16));
    line
}

fn at(time: i64) -> Time {
    Time::from_nanoseconds(time)
}

/// What a capture says, in short; the error at its end, if there is one.
fn told(path: &Path) -> Vec<String> {
    let mut source = open(path).unwrap();
    let mut told = Vec::new();
    loop {
        match source.next() {
            Ok(Some(SourceEvent::Line(info))) => {
                told.push(format!("line {} from {} {}", info.name, info.start, info.about.unwrap()))
            }
            Ok(Some(SourceEvent::Chunk { line, bytes, faults, .. })) => {
                told.push(format!("{line} {}{}", bytes.escape_ascii(), "!".repeat(faults.len())));
            }
            Ok(Some(SourceEvent::Loss { line, why, .. })) => told.push(format!("{line} loss {why:?}")),
            Ok(Some(SourceEvent::Note { line, text, .. })) => told.push(format!("{line} note {text}")),
            Ok(Some(_)) => {}
            Ok(None) => return told,
            Err(error) => panic!("{error}"),
        }
    }
}

#[test]
fn what_is_recorded_is_there() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("tower.pcapng");
    let lines = [line("request", "9600 8N1"), line("answer", "9600 8N1")];
    let mut recorder = Recorder::create(&path, "tower-4", &lines).unwrap();
    recorder.note(0, at(5), "first try");
    recorder.chunk(0, at(10), b"abc", &[Fault { at: 1, kind: FaultKind::Parity }]);
    recorder.chunk(1, at(11), b"xy", &[]);
    recorder.loss(1, at(12), Loss::Reopened);
    recorder.chunk(1, at(13), b"z", &[]);
    assert_eq!(recorder.standing().bytes, 6);
    recorder.finish().unwrap();
    let expected = [
        "line request from 0 Quarvel Line Tap",
        "line answer from 0 Quarvel Line Tap",
        "0 note first try",
        "0 abc!",
        "1 xy",
        "1 loss Reopened",
        "1 z",
    ];
    assert_eq!(told(&path), expected);
    assert_eq!(open(&path).unwrap().size(), Some(fs::metadata(&path).unwrap().len()));
}

#[test]
fn nothing_is_overwritten_and_only_the_same_lines_go_on() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("tower.pcapng");
    let lines = [line("mast", "4800 8N1")];
    let mut recorder = Recorder::create(&path, "s", &lines).unwrap();
    assert!(matches!(Recorder::create(&path, "s", &lines), Err(RecordError::Exists { .. })));
    assert!(
        matches!(Recorder::append(&path, &lines, at(1)), Err(RecordError::Busy { .. })),
        "two cannot record into one file"
    );
    recorder.chunk(0, at(1), b"first", &[]);
    recorder.finish().unwrap();
    for other in [
        &[line("mast", "9600 8N1")][..],
        &[line("tower", "4800 8N1")],
        &[],
        &[line("mast", "4800 8N1"), line("b", "4800 8N1")],
    ] {
        let before = fs::read(&path).unwrap();
        assert!(matches!(Recorder::append(&path, other, at(2)), Err(RecordError::Other { .. })));
        assert_eq!(fs::read(&path).unwrap(), before, "a refusal changes nothing");
    }
    for round in 0..2 {
        let mut recorder = Recorder::append(&path, &lines, at(3)).unwrap();
        recorder.chunk(0, at(4 + round), b"more", &[]);
        recorder.finish().unwrap();
    }
    // One line, one stream: a continued capture goes on where it ended.
    let expected = ["line mast from 0 Quarvel Line Tap", "0 first", "0 loss Gap", "0 more", "0 loss Gap", "0 more"];
    assert_eq!(told(&path), expected);
    let no_capture = folder.path().join("other");
    fs::write(&no_capture, "no capture at all").unwrap();
    assert!(matches!(Recorder::append(&no_capture, &lines, at(1)), Err(RecordError::Unsound { .. })));
    assert_eq!(fs::read(&no_capture).unwrap(), b"no capture at all");
    assert!(matches!(
        Recorder::create(&folder.path().join("no/such/folder"), "s", &lines),
        Err(RecordError::Write { .. })
    ));
}

/// A capture that was cut at any byte of its last blocks is readable, keeps all whole blocks, and can be continued.
#[test]
fn a_torn_end_is_cut_off_and_gone_on_from() {
    let folder = tempfile::tempdir().unwrap();
    let whole = folder.path().join("whole.pcapng");
    let lines = [line("", "4800 8N1")];
    let mut recorder = Recorder::create(&whole, "s", &lines).unwrap();
    let header = recorder.size() as usize;
    let mut ends = vec![header];
    for (index, text) in ["one", "three", "seventeen bytes !!"].into_iter().enumerate() {
        recorder.chunk(0, at(index as i64), text.as_bytes(), &[]);
        ends.push(recorder.size() as usize);
    }
    recorder.finish().unwrap();
    let bytes = fs::read(&whole).unwrap();
    assert_eq!(bytes.len(), ends[3]);
    let torn = folder.path().join("torn.pcapng");
    for cut in header..=bytes.len() {
        fs::write(&torn, &bytes[..cut]).unwrap();
        let kept = ends.iter().filter(|end| **end <= cut).count() - 1;
        let mut recorder = Recorder::append(&torn, &lines, at(9)).unwrap();
        recorder.chunk(0, at(10), b"again", &[]);
        recorder.finish().unwrap();
        let told = told(&torn);
        assert_eq!(told.len(), 1 + kept + 2, "cut at {cut}: {told:?}");
        assert_eq!(told[1 + kept..], ["0 loss Gap", "0 again"]);
    }
}

#[test]
fn offsets_go_on_across_files() {
    let folder = tempfile::tempdir().unwrap();
    let parts = [1, 2, 3].map(|part| folder.path().join(format!("part-{part}.pcapng")));
    let mut recorder = Recorder::create(&parts[0], "s", &[line("a", "9600 8N1"), line("b", "9600 8N1")]).unwrap();
    recorder.chunk(0, at(1), b"12345", &[]);
    recorder.chunk(1, at(1), b"12", &[]);
    recorder.go_on_in(&parts[1]).unwrap();
    recorder.chunk(0, at(2), b"678", &[]);
    recorder.go_on_in(&parts[2]).unwrap();
    recorder.chunk(1, at(3), b"3", &[]);
    assert_eq!(recorder.finish().unwrap().bytes, 11);
    let begins =
        |part: &Path| -> Vec<String> { told(part).into_iter().filter(|told| told.starts_with("line")).collect() };
    assert!(begins(&parts[1])[0].starts_with("line a from 5") && begins(&parts[1])[1].starts_with("line b from 2"));
    assert!(begins(&parts[2])[0].starts_with("line a from 8") && begins(&parts[2])[1].starts_with("line b from 2"));
    let streams = parts.iter().map(|part| {
        let mut source = open(part).unwrap();
        source.next().unwrap();
        source.stream().unwrap().to_owned()
    });
    assert!(streams.into_iter().all(|stream| stream == "s"));
    // A file that is there already is no part.
    let mut recorder = Recorder::append(&parts[2], &[line("a", "9600 8N1"), line("b", "9600 8N1")], at(4)).unwrap();
    assert!(matches!(recorder.go_on_in(&parts[0]), Err(RecordError::Exists { .. })));
}
