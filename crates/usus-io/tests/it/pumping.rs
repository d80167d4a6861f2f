//! The pump, and sources that misbehave.

use std::io::{self, Read};

use proptest::prelude::*;
use usus::{Decoder, Fault, FaultKind, Format, LineId, Loss, Plan, Record, Sink, Time};
use usus_io::{LineInfo, PumpError, RawReader, Source, SourceError, SourceEvent, open, pump};

fn plan(front: &str) -> Plan {
    let text =
        format!("format = 'x'\n{front}\n[[frame]]\ncut = 'text'\nend = 'LF'\n[record.r]\nfields = [{{ name = 'a' }}]");
    Format::parse(&text).unwrap().compile().unwrap()
}

/// A source of prepared events.
struct Script {
    lines: Vec<&'static str>,
    steps: Vec<Step>,
    next: usize,
}

enum Step {
    Chunk(usize, &'static [u8]),
    Faulty(usize, &'static [u8], Vec<Fault>),
    Loss(usize),
    Idle,
    Broken,
}

impl Source for Script {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        let at = self.next;
        self.next += 1;
        if let Some(name) = self.lines.get(at) {
            let mut line = LineInfo::new(*name);
            line.start = 0;
            return Ok(Some(SourceEvent::Line(line)));
        }
        let time = Some(Time::from_nanoseconds(at as i64));
        Ok(match self.steps.get(at - self.lines.len()) {
            None => None,
            Some(Step::Chunk(line, bytes)) => Some(SourceEvent::Chunk { line: *line, time, bytes, faults: &[] }),
            Some(Step::Faulty(line, bytes, faults)) => Some(SourceEvent::Chunk { line: *line, time, bytes, faults }),
            Some(Step::Loss(line)) => Some(SourceEvent::Loss { line: *line, why: Loss::Overrun, time }),
            Some(Step::Idle) => Some(SourceEvent::Idle { time: None }),
            Some(Step::Broken) => {
                return Err(SourceError::Read { at: 7, error: io::Error::other("unplugged") });
            }
        })
    }
}

/// Gathers what a sink is told.
#[derive(Default)]
struct Told {
    lines: Vec<String>,
    records: Vec<String>,
    notices: Vec<String>,
    full_after: Option<usize>,
}

impl Sink for Told {
    type Error = String;

    fn line(&mut self, line: LineId, name: &str) {
        self.lines.push(format!("{}:{name}", line.index()));
    }

    fn record(&mut self, record: &Record<'_>) -> Result<(), String> {
        if self.full_after == Some(self.records.len()) {
            return Err("full".to_owned());
        }
        self.records.push(format!("{}:{}", record.line().index(), record.get("a").unwrap().value));
        Ok(())
    }

    fn notice(&mut self, notice: &usus::Notice<'_>) -> Result<(), String> {
        self.notices.push(notice.to_string());
        Ok(())
    }
}

#[test]
fn lines_losses_and_faults_reach_the_sink_in_order() {
    let faults = vec![Fault { at: 1, kind: FaultKind::Parity }];
    let steps = vec![
        Step::Chunk(0, b"one\ntw"),
        Step::Faulty(1, b"eins\n", faults),
        Step::Idle,
        Step::Chunk(0, b"o\nthr"),
        Step::Loss(0),
        Step::Chunk(0, b"ee\nfour\n"),
        Step::Chunk(9, b"nobody's\n"),
    ];
    let mut script = Script { lines: vec!["left", "right"], steps, next: 0 };
    let (mut decoder, mut told) = (Decoder::new(&plan("")), Told::default());
    let pumped = pump(&mut script, &mut decoder, &mut told, &mut |_| true).unwrap();
    assert_eq!(told.lines, ["0:left", "1:right"]);
    assert_eq!(told.records, ["0:one", "1:eins", "0:two", "0:four"]);
    assert!(told.notices.iter().any(|notice| notice.contains("parity fault")), "{:?}", told.notices);
    assert!(told.notices.iter().any(|notice| notice.contains("overrun")), "{:?}", told.notices);
    assert_eq!((pumped.bytes, pumped.stopped), (24, false));
    assert_eq!(pumped.times.map(|(first, last)| (first.nanoseconds(), last.nanoseconds())), Some((2, 7)));
}

#[test]
fn stopping_decodes_what_was_taken_in() {
    let mut script =
        Script { lines: vec![""], steps: vec![Step::Chunk(0, b"a\nb\n"), Step::Chunk(0, b"c\n")], next: 0 };
    let (mut decoder, mut told, mut asked) = (Decoder::new(&plan("")), Told::default(), 0);
    let pumped = pump(&mut script, &mut decoder, &mut told, &mut |_| {
        asked += 1;
        asked <= 2
    });
    assert!(pumped.unwrap().stopped);
    assert_eq!(told.records, ["0:a", "0:b"]);
}

#[test]
fn errors_of_the_source_and_the_sink_come_back() {
    let mut script = Script { lines: vec![""], steps: vec![Step::Chunk(0, b"a\nb\n"), Step::Broken], next: 0 };
    let (mut decoder, mut told) = (Decoder::new(&plan("")), Told::default());
    let error = pump(&mut script, &mut decoder, &mut told, &mut |_| true).unwrap_err();
    assert_eq!(error.to_string(), "cannot read on at byte 7: unplugged");
    assert_eq!(told.records.len(), 2, "what came before is decoded");

    let mut script = Script { lines: vec![""], steps: vec![Step::Chunk(0, b"a\nb\nc\n")], next: 0 };
    let (mut decoder, mut told) = (Decoder::new(&plan("")), Told { full_after: Some(1), ..Told::default() });
    assert!(
        matches!(pump(&mut script, &mut decoder, &mut told, &mut |_| true), Err(PumpError::Sink(text)) if text == "full")
    );

    let mut script = Script { lines: vec!["up"], steps: Vec::new(), next: 0 };
    let (mut decoder, mut told) = (Decoder::new(&plan("[line.left]\n[line.right]")), Told::default());
    let error = pump(&mut script, &mut decoder, &mut told, &mut |_| true).unwrap_err();
    assert_eq!(error.to_string(), "the format speaks of the lines left, right; the source has a line `up`");
}

/// A reader that gives what it is told to give.
pub struct Jumpy<'b>(pub &'b [u8], pub Vec<u8>);

impl Read for Jumpy<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.1.pop() {
            Some(0) => Err(io::ErrorKind::Interrupted.into()),
            Some(1) => Err(io::ErrorKind::WouldBlock.into()),
            Some(size) => {
                let size = usize::from(size).min(buffer.len());
                self.0.read(&mut buffer[..size])
            }
            None => self.0.read(buffer),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    /// Interrupts, pauses and short reads lose nothing.
    #[test]
    fn raw_bytes_come_through_any_reader(words in proptest::collection::vec("[a-z]{1,12}", 0..40), sizes in proptest::collection::vec(0..20u8, 0..60)) {
        let text: String = words.iter().map(|word| format!("{word}\n")).collect();
        let mut reader = RawReader::new(Jumpy(text.as_bytes(), sizes), Some(text.len() as u64));
        prop_assert_eq!(reader.size(), Some(text.len() as u64));
        let (mut decoder, mut told) = (Decoder::new(&plan("")), Told::default());
        let pumped = pump(&mut reader, &mut decoder, &mut told, &mut |_| true).unwrap();
        prop_assert_eq!(pumped.bytes, text.len() as u64);
        prop_assert_eq!(told.records, words.iter().map(|word| format!("0:{word}")).collect::<Vec<_>>());
    }
}

#[test]
fn what_cannot_be_opened_says_why() {
    let folder = tempfile::tempdir().unwrap();
    let Err(error) = open(folder.path()) else { panic!("a folder is no source") };
    assert!(error.to_string().contains("directory"), "{error}");
    let Err(error) = open(&folder.path().join("nothing")) else { panic!("there is nothing") };
    assert!(error.to_string().ends_with("No such file or directory (os error 2)"), "{error}");
    // Shorter than any magic number, and empty.
    for bytes in [&b""[..], b"\x0A", b"\x0A\x0D\x0D\x0A1234567"] {
        let path = folder.path().join("short");
        std::fs::write(&path, bytes).unwrap();
        let mut source = open(&path).unwrap();
        assert!(!source.has_times() && source.size() == Some(bytes.len() as u64));
        let (mut decoder, mut told) = (Decoder::new(&plan("")), Told::default());
        assert_eq!(pump(&mut *source, &mut decoder, &mut told, &mut |_| true).unwrap().bytes, bytes.len() as u64);
    }
}

/// An iterator gives what a sink is given.
#[test]
fn records_come_from_an_iterator_as_well() {
    let plan = usus::Format::parse(usus::SHIPPED[0].1).unwrap().compile().unwrap();
    let path = std::path::Path::new("../../demo/samples/wind-mast.pcapng");
    let mut pumped = Vec::new();
    let mut keep = |record: &usus::Record<'_>| pumped.push(record.to_owned());
    let mut decoder = usus::Decoder::new(&plan);
    usus_io::pump(&mut *usus_io::open(path).unwrap(), &mut decoder, &mut keep, &mut |_| true).unwrap();
    let mut records = usus_io::records(usus_io::open(path).unwrap(), &plan);
    let iterated: Vec<usus::OwnedRecord> = records.by_ref().map(Result::unwrap).collect();
    assert!(iterated.len() > 100);
    assert_eq!(iterated, pumped);
    let line = decoder.lines().next().unwrap();
    assert_eq!(records.decoder().ledger(line), decoder.ledger(line));
}
