//! What each fuzz target does with its bytes. They are ordinary functions: the tests of the core run them over the corpus, too.
//!
//! Nothing may panic, whatever the bytes are; and what is said here has to hold.

use std::ops::Range;

use usus::{
    Chunk, Decoder, Fault, FaultKind, Format, Ledger, LineId, Notice, Plan, Problems, Record, Reject, Sink, Time,
};

/// Separates a format from a file beside it, which has any name.
pub const BEFORE_FILE: &str = "\n== file\n";

/// A format, and what stands in the file beside it.
fn parse(text: &str) -> (&str, Result<Format, Problems>) {
    let (text, file) = text.split_once(BEFORE_FILE).map_or((text, None), |(text, file)| (text, Some(file)));
    let load = |_: &str| file.map(str::to_owned).ok_or_else(|| "there is none".to_owned());
    (text, Format::parse_with(text, load))
}

/// A format file: it has problems, each of which can be told, or it compiles, is written as it was read, and holds its examples or does not.
pub fn format_text(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let (text, parsed) = parse(text);
    let format = match parsed {
        Ok(format) => format,
        Err(problems) => {
            assert!(!problems.is_empty());
            for problem in problems.iter() {
                assert!(problem.span.start <= problem.span.end && problem.span.end <= text.len(), "{problem:?}");
                let _ = (problem.kind.to_string(), problem.help());
            }
            return;
        }
    };
    let Ok(plan) = format.compile() else { return };
    for doubt in format.doubts() {
        let _ = (doubt.kind.to_string(), doubt.help());
    }
    let _ = (plan.layout().len(), plan.schema().kinds.len(), plan.run_examples(&format));
    let written = format.to_toml();
    match Format::parse(&written) {
        Ok(again) => assert_eq!(again.to_toml(), written),
        Err(problems) => panic!("{problems}\n{written}"),
    }
}

/// Separates a format from the stream behind it.
pub const BEHIND_FORMAT: &[u8] = b"\n== input\n";

/// A format file, and what comes on each of its lines: however it is split, the same is said, and every byte is accounted for.
pub fn format_and_stream(data: &[u8]) {
    let Some(place) = data.windows(BEHIND_FORMAT.len()).position(|window| window == BEHIND_FORMAT) else { return };
    let (text, stream) = (&data[..place], &data[place + BEHIND_FORMAT.len()..]);
    let Some(plan) = std::str::from_utf8(text).ok().and_then(|text| parse(text).1.ok()?.compile().ok()) else {
        return;
    };
    let roles: Vec<String> = plan.roles().map(str::to_owned).collect();
    for role in if roles.is_empty() { vec![String::new()] } else { roles } {
        let whole = said(&plan, &role, stream, |_| usize::MAX);
        assert_eq!(whole, said(&plan, &role, stream, |_| 1));
        // Pieces whose lengths the stream itself tells.
        let uneven = |at: usize| usize::from(stream.get(at).copied().unwrap_or(0) % 29) + 1;
        assert_eq!(whole, said(&plan, &role, stream, uneven));
    }
}

/// What arrives together: the bytes, when that is in milliseconds, and whether a break stands before it. Where silences and breaks matter, the stream
/// itself tells where they are.
fn arrivals(plan: &Plan, stream: &[u8]) -> Vec<(Range<usize>, Option<i64>, bool)> {
    if !plan.needs_times() && !plan.needs_breaks() {
        return vec![(0..stream.len(), None, false)];
    }
    let mut arrivals = Vec::new();
    let (mut from, mut now) = (0, 0);
    for (index, byte) in stream.iter().enumerate() {
        if byte % 16 == 7 || index + 1 == stream.len() {
            arrivals.push((from..index + 1, Some(now), byte % 32 == 7));
            // Either at once, or after any silence: in between, the time that a chunk's own characters took counts.
            (from, now) = (index + 1, now + if byte % 64 == 7 { 0 } else { 100_000 });
        }
    }
    arrivals
}

/// What was said of a stream, in pieces of those lengths.
fn said(plan: &Plan, role: &str, stream: &[u8], piece: impl Fn(usize) -> usize) -> (Vec<String>, Vec<Ledger>) {
    let mut decoder = Decoder::new(plan);
    let line = decoder.line(role, 0).unwrap();
    let mut events = Events(Vec::new());
    for (range, time, breaks) in arrivals(plan, stream) {
        let time = time.map(|milliseconds| Time::from_nanoseconds(milliseconds * 1_000_000));
        let mut at = range.start;
        while at < range.end {
            let to = at.saturating_add(piece(at)).min(range.end);
            let is_first = breaks && at == range.start;
            let faults = if is_first { &[Fault { at: 0, kind: FaultKind::Break }][..] } else { &[] };
            let chunk = Chunk { time, faults, ..Chunk::new(line, &stream[at..to]) };
            let Ok(()) = decoder.decode(chunk, &mut events);
            assert!(decoder.ledger(line).balances());
            at = to;
        }
    }
    let Ok(()) = decoder.finish().drain(&mut events);
    assert_eq!(decoder.ledger(line).total, stream.len() as u64);
    let inside = decoder.lines_inside().map(|inside| decoder.ledger(inside.line));
    let ledgers: Vec<Ledger> = [decoder.ledger(line)].into_iter().chain(inside).collect();
    assert!(ledgers.iter().all(|ledger| ledger.balances() && ledger.pending == 0), "{ledgers:?}");
    (events.0, ledgers)
}

struct Events(Vec<String>);

impl Sink for Events {
    type Error = std::convert::Infallible;

    fn line(&mut self, _line: LineId, _name: &str) {}

    fn record(&mut self, record: &Record<'_>) -> Result<(), Self::Error> {
        self.0.push(format!("{}+{} {:?}", record.offset(), record.frame().len(), record.to_owned()));
        Ok(())
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Self::Error> {
        self.0.push(format!("{}+{} {}", reject.offset, reject.bytes.len(), reject.reason.describe(reject.plan)));
        Ok(())
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), Self::Error> {
        self.reject(clipped)
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), Self::Error> {
        self.0.push(format!("{} {notice}", notice.offset));
        Ok(())
    }
}
