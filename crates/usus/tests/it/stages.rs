//! What stages can do, shown by three that only tests have: one joins two kinds of record into one, one chooses how a frame that it holds is read by
//! the one before it, one numbers all records.

use std::convert::Infallible;

use usus::{Chunk, Decoder, Event, Format, Ledger, Loss, Notice, Plan, Record, Reject, Sink, Span, Time, trial};

use crate::drive::render;

/// Questions and answers on two lines, and lines that are neither.
const TALK: &str = r#"
    format = "talk"
    [line.request]
    [line.answer]
    [[frame]]
    name = "q"
    on = "request"
    cut = "text"
    header = [ { name = "address", chars = "1", internal = true } ]
    [[frame]]
    name = "a"
    on = "answer"
    cut = "text"
    header = [ { name = "address", chars = "1", internal = true } ]
    [record.ask]
    frame = "q"
    when = "address == 'Q'"
    fields = [ { name = "number", column = 2, type = "number" } ]
    [record.aside]
    frame = "q"
    fields = [ { name = "said" } ]
    [record.tell]
    frame = "a"
    fields = [ { name = "number", column = 2, type = "number" }, { name = "force", type = "number", unit = "kN" } ]
"#;

fn plan(text: &str) -> Plan {
    Format::parse(text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}"))
}

/// Everything that is told, as text.
#[derive(Default)]
struct Told(Vec<String>);

impl Sink for Told {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let ranges: Vec<String> = record.ranges().map(|(offset, length)| format!("{offset}+{length}")).collect();
        // Visiting says what the fields say.
        let times =
            [record.received(), record.completed()].map(|time| time.map_or(-1, |time| time.nanoseconds() / 1_000_000));
        self.0.push(format!("{} ({}, {times:?})", render(&Event::Record(*record)), ranges.join(" ")));
        Ok(())
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        self.0.push(render(&Event::Reject(*reject)));
        Ok(())
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), Infallible> {
        self.0.push(render(&Event::Notice(*notice)));
        Ok(())
    }
}

/// What a decoder makes of chunks (role, milliseconds, text), each fed in pieces of that size, pushed or pulled.
fn run(
    plan: &Plan,
    roles: &[&str],
    chunks: &[(&str, i64, &str)],
    piece: usize,
    pull: bool,
) -> (Vec<String>, Vec<Ledger>) {
    let mut decoder = Decoder::new(plan);
    let lines: Vec<_> = roles.iter().map(|role| decoder.line(role, 0).unwrap()).collect();
    let mut told = Told::default();
    for (role, at, text) in chunks {
        let line = lines[roles.iter().position(|known| known == role).unwrap()];
        for bytes in text.as_bytes().chunks(piece) {
            let time = Some(Time::from_nanoseconds(at * 1_000_000));
            let chunk = Chunk { time, ..Chunk::new(line, bytes) };
            if pull {
                let mut events = decoder.feed(chunk);
                while let Some(event) = events.next() {
                    let Ok(()) = told.event(event);
                }
            } else {
                let Ok(()) = decoder.decode(chunk, &mut told);
            }
            for line in &lines {
                assert!(decoder.ledger(*line).balances(), "{:?}", decoder.ledger(*line));
            }
        }
    }
    let Ok(()) = decoder.finish().drain(&mut told);
    let ledgers: Vec<Ledger> = lines.iter().map(|line| decoder.ledger(*line)).collect();
    assert!(ledgers.iter().all(|ledger| ledger.pending == 0 && ledger.balances()), "{ledgers:?}");
    (told.0, ledgers)
}

/// The same, however it is fed and asked.
fn in_every_way(plan: &Plan, roles: &[&str], chunks: &[(&str, i64, &str)]) -> Vec<String> {
    let whole = run(plan, roles, chunks, usize::MAX, false);
    for piece in [1, 2, 5] {
        for pull in [false, true] {
            assert_eq!(run(plan, roles, chunks, piece, pull), whole, "pieces of {piece}, pulled: {pull}");
        }
    }
    whole.0
}

#[test]
fn one_joins_two_kinds_over_two_lines() {
    let within = Span::from_nanoseconds(100_000_000);
    let plan = trial::join(&plan(TALK), [("ask", "number"), ("tell", "number")], "pair", within, 3).unwrap();
    let talk = [
        ("request", 0, "Q,1\nhello\nQ,2\n"),
        ("answer", 10, "A,2,4.5\n"),
        ("answer", 20, "A,1,"),
        ("request", 25, "Q,3\n"),
        // It was sent first, and is complete later.
        ("answer", 30, "7.25\n"),
        ("request", 40, "Q,3\n"),
        ("answer", 60, "A,9,1\n"),
        ("request", 300, "Q,5\nQ,6\n"),
        ("answer", 310, "A,3,8\nA,6,0.5\n"),
    ];
    let told = in_every_way(&plan, &["request", "answer"], &talk);
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn what_waits_is_bounded_and_told() {
    let within = Span::from_nanoseconds(i64::MAX / 4);
    for (waiting, rejected) in [(4, 0), (5, 1), (9, 5)] {
        let plan = trial::join(&plan(TALK), [("ask", "number"), ("tell", "number")], "pair", within, 4).unwrap();
        let text: String = (0..waiting).map(|number| format!("Q,{number}\n")).collect();
        let mut decoder = Decoder::new(&plan);
        let line = decoder.line("request", 0).unwrap();
        let mut told = Told::default();
        let Ok(()) = decoder.decode(Chunk::new(line, text.as_bytes()), &mut told);
        let rejects = |told: &Told| told.0.iter().filter(|event| event.contains("reject")).count();
        assert_eq!(rejects(&told), rejected, "{:?}", told.0);
        // What it holds is pending.
        let ledger = decoder.ledger(line);
        assert_eq!((ledger.pending, ledger.rejected), (4 * 3, 3 * rejected as u64));
        assert!(ledger.balances());
        let Ok(()) = decoder.finish().drain(&mut told);
        assert_eq!(rejects(&told), waiting, "{:?}", told.0);
    }
}

/// A frame of `warm` behind another of `warm` is one of `hot`.
const HEAT: &str = r#"
    format = "heat"
    [[frame]]
    cut = "packet"
    start = "A5"
    length = 4
    header = [ { name = "kind", type = "u8", internal = true } ]
    [record.warm]
    when = "kind == 1"
    fields = [ { name = "raw", type = "u16be" } ]
    [record.cold]
    when = "kind == 2"
    fields = [ { name = "raw", type = "u16be" } ]
    [record.hot]
    when = "kind == 3"
    fields = [ { name = "level", type = "u8" }, { name = "fan", type = "u8" } ]
"#;

#[test]
fn one_chooses_the_reading_of_a_held_frame_by_the_one_before() {
    let plan = trial::reread(&plan(HEAT), "warm", "hot").unwrap();
    let sent = [1, 1, 2, 1, 1, 1, 3, 1].map(|kind: u8| [0xA5, kind, kind, 7]).concat();
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).unwrap();
    let mut told = Told::default();
    for byte in &sent {
        let Ok(()) = decoder.decode(Chunk::new(line, &[*byte]), &mut told);
    }
    assert_eq!(decoder.ledger(line).pending, 4, "the last one is held");
    let Ok(()) = decoder.loss(line, Loss::Gap, None).drain(&mut told);
    let Ok(()) = decoder.finish().drain(&mut told);
    let said: Vec<&str> = told.0.iter().filter_map(|event| event.split(" (").next()).collect();
    assert_eq!(
        said,
        [
            "0+4 warm raw=263",
            "4+4 hot level=1 fan=7",
            "8+4 cold raw=519",
            "12+4 warm raw=263",
            "16+4 hot level=1 fan=7",
            "20+4 hot level=1 fan=7",
            "24+4 hot level=3 fan=7",
            "32 notice: bytes are missing here: the recording has a gap",
            "28+4 warm raw=263",
        ]
    );
    assert_eq!(decoder.ledger(line).recorded, 32);
    assert_eq!(decoder.ledger(line).records, [3, 1, 4]);
}

#[test]
fn one_numbers_all_records_behind_another() {
    let plan = trial::number(&trial::reread(&plan(HEAT), "warm", "hot").unwrap(), "place");
    assert!(plan.needs_order());
    let sent = [1, 1, 2].map(|kind: u8| [0xA5, kind, kind, 7]).concat();
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).unwrap();
    let mut told = Told::default();
    let Ok(()) = decoder.decode(Chunk::new(line, &sent), &mut told);
    let Ok(()) = decoder.finish().drain(&mut told);
    let said: Vec<&str> = told.0.iter().filter_map(|event| event.split(" (").next()).collect();
    assert_eq!(said, ["0+4 warm place=0 raw=263", "4+4 hot place=1 level=1 fan=7", "8+4 cold place=2 raw=519"]);
}
