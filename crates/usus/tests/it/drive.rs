//! Drives a decoder over an input, in any pieces, and renders what it says as lines of text.

use std::convert::Infallible;
use std::fmt::Write;

use usus::parts::Join;
use usus::{
    Cell, Chunk, Decoder, Event, Events, Fault, FaultKind, FieldSchema, Ledger, LineId, Loss, Notice, Plan, Reading,
    Record, Reject, Sink, Time, Value,
};

/// What goes into a decoder.
#[derive(Clone, Debug, PartialEq)]
pub enum Input {
    /// Bytes that arrived on a line at a time, in nanoseconds; without times if there is none.
    Bytes {
        role: String,
        time: Option<i64>,
        bytes: Vec<u8>,
        faults: Vec<Fault>,
    },
    Loss {
        role: String,
    },
}

impl Input {
    pub fn raw(bytes: &[u8]) -> Vec<Input> {
        vec![Input::Bytes { role: String::new(), time: None, bytes: bytes.to_vec(), faults: Vec::new() }]
    }
}

/// A decoder being driven. Each piece is followed by a look at the ledger. Beside it goes another that has to go the long way, since a fault is
/// marked behind each piece; at the end both have to have said the same, but for those.
pub struct Drive {
    pub decoder: Decoder,
    long: Decoder,
    drained: Drained,
    lines: Vec<(String, LineId)>,
    pub events: Vec<String>,
    start: u64,
    most_pending: u64,
    /// What is marked: nothing that ends a frame.
    mark: FaultKind,
}

impl Drive {
    pub fn new(plan: &Plan) -> Drive {
        Drive::starting_at(plan, 0)
    }

    pub fn starting_at(plan: &Plan, start: u64) -> Drive {
        let most_pending = plan.largest_window() as u64;
        let (decoder, long) = (Decoder::new(plan), Decoder::new(plan));
        let (drained, events) = (Drained::default(), Vec::new());
        let mark = if plan.needs_breaks() { FaultKind::Parity } else { FaultKind::Break };
        Drive { decoder, long, drained, lines: Vec::new(), events, start, most_pending, mark }
    }

    pub fn line(&mut self, role: &str) -> LineId {
        if let Some((_, id)) = self.lines.iter().find(|(known, _)| known == role) {
            return *id;
        }
        let id = self.decoder.line(role, self.start).expect("a role of the format");
        assert_eq!(self.long.line(role, self.start), Some(id));
        self.lines.push((role.to_owned(), id));
        id
    }

    pub fn feed(&mut self, role: &str, time: Option<i64>, bytes: &[u8], faults: &[Fault]) {
        let line = self.line(role);
        let time = time.map(Time::from_nanoseconds);
        drain(self.decoder.feed(Chunk { line, time, bytes, faults }), &mut self.events);
        let behind = Fault { at: bytes.len(), kind: self.mark };
        let faults = [faults, &[behind]].concat();
        let Ok(()) = self.long.decode(Chunk { line, time, bytes, faults: &faults }, &mut self.drained);
        self.look();
    }

    pub fn loss(&mut self, role: &str) {
        let line = self.line(role);
        drain(self.decoder.loss(line, Loss::Gap, None), &mut self.events);
        let Ok(()) = self.long.loss(line, Loss::Gap, None).drain(&mut self.drained);
        self.look();
    }

    pub fn tick(&mut self, now: i64) {
        drain(self.decoder.tick(Time::from_nanoseconds(now)), &mut self.events);
        let Ok(()) = self.long.tick(Time::from_nanoseconds(now)).drain(&mut self.drained);
        self.look();
    }

    pub fn finish(&mut self) {
        drain(self.decoder.finish(), &mut self.events);
        let Ok(()) = self.long.finish().drain(&mut self.drained);
        self.look();
        for ledger in self.ledgers() {
            assert_eq!(ledger.pending, 0, "nothing is pending at the end");
        }
        let mark = format!("the source marked a fault: {}", self.mark.word());
        let is_unmarked = |event: &&String| !event.ends_with(&mark);
        let unmarked = |events: &[String]| events.iter().filter(is_unmarked).cloned().collect::<Vec<_>>();
        assert_eq!(unmarked(&self.events), unmarked(&self.drained.0));
        for (_, line) in &self.lines {
            let (mut ledger, mut long) = (self.decoder.ledger(*line), self.long.ledger(*line));
            (ledger.faults, long.faults) = (0, 0);
            assert_eq!(ledger, long);
            assert_eq!(self.decoder.join(*line), self.long.join(*line));
        }
    }

    pub fn join(&self) -> Option<Join> {
        self.decoder.join(self.lines.first()?.1)
    }

    pub fn ledgers(&self) -> Vec<Ledger> {
        lines_of(&self.decoder).map(|line| self.decoder.ledger(line)).collect()
    }

    fn look(&self) {
        let long = lines_of(&self.long).map(|line| self.long.ledger(line));
        for ledger in self.ledgers().into_iter().chain(long) {
            assert!(ledger.balances(), "{ledger:?}");
            assert!(ledger.pending <= self.most_pending, "{ledger:?}");
        }
    }
}

/// Its lines, and then those that lie inside of them.
fn lines_of(decoder: &Decoder) -> impl Iterator<Item = LineId> {
    decoder.lines().chain(decoder.lines_inside().map(|inside| inside.line))
}

/// A sink that renders what it takes.
#[derive(Default)]
struct Drained(Vec<String>);

impl Sink for Drained {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        self.event(Event::Record(*record))
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        self.event(Event::Reject(*reject))
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), Infallible> {
        self.event(Event::Clipped(*clipped))
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), Infallible> {
        self.event(Event::Notice(*notice))
    }

    fn event(&mut self, event: Event<'_>) -> Result<(), Infallible> {
        self.0.push(render(&event));
        Ok(())
    }
}

/// All events of `input`, each chunk cut into pieces of the lengths that `piece` gives.
pub fn run(plan: &Plan, input: &[Input], piece: &mut dyn FnMut() -> usize) -> (Vec<String>, Vec<Ledger>) {
    let mut drive = Drive::new(plan);
    for part in input {
        match part {
            Input::Loss { role } => drive.loss(role),
            Input::Bytes { role, time, bytes, faults } => {
                let mut from = 0;
                while from < bytes.len() {
                    let to = from.saturating_add(piece().max(1)).min(bytes.len());
                    let of_piece = |fault: &&Fault| (from..to).contains(&fault.at);
                    let faults: Vec<Fault> = faults
                        .iter()
                        .filter(of_piece)
                        .map(|fault| Fault { at: fault.at - from, kind: fault.kind })
                        .collect();
                    drive.feed(role, *time, &bytes[from..to], &faults);
                    from = to;
                }
            }
        }
    }
    drive.finish();
    let ledgers = drive.ledgers();
    (drive.events, ledgers)
}

fn drain(mut events: Events<'_>, into: &mut Vec<String>) {
    while let Some(event) = events.next() {
        into.push(render(&event));
    }
}

/// An event in a line of text: place, class, what it says.
pub fn render(event: &Event<'_>) -> String {
    match event {
        Event::Record(record) => {
            let mut text = format!("{}+{} {}", record.offset(), record.frame().len(), record.kind());
            if record.line().index() > 0 {
                write!(text, " line={}", record.line().index()).unwrap();
            }
            for (schema, cell) in record.fields() {
                write!(text, " {}={}", schema.name, show_cell(schema, cell)).unwrap();
            }
            text
        }
        Event::Reject(reject) => {
            let (offset, length) = (reject.offset, reject.bytes.len());
            let detail = reject.reason.describe(reject.plan);
            format!("{offset}+{length} reject, {} candidates: {detail}", reject.candidates)
        }
        Event::Clipped(clipped) => {
            let detail = clipped.reason.describe(clipped.plan);
            format!("{}+{} clipped: {detail}", clipped.offset, clipped.bytes.len())
        }
        Event::Notice(notice) => format!("{} notice: {notice}", notice.offset),
        other => panic!("{other:?}"),
    }
}

fn show_cell(schema: &FieldSchema, cell: Cell<'_>) -> String {
    let item = |item: usus::Item<'_>| {
        let fields = item.fields().map(|(inner, cell)| match schema.is_list() {
            true => show_cell(inner, cell),
            false => format!("{}={}", inner.name, show_cell(inner, cell)),
        });
        format!("[{}]", fields.collect::<Vec<_>>().join(" "))
    };
    match cell {
        Cell::Reading(reading) => show(reading),
        Cell::Group(items) => items.map(item).collect(),
        other => panic!("{other:?}"),
    }
}

fn show(reading: Reading<'_>) -> String {
    let quality = reading.quality.word();
    let mark = if quality.is_empty() { String::new() } else { format!("!{quality}") };
    match reading.value {
        Value::Text(text) => format!("{text:?}{mark}"),
        Value::Code { number, name } => format!("{name}({number}){mark}"),
        Value::Absent(why) => format!("<{}>{mark}", format!("{why:?}").to_lowercase()),
        value => format!("{value}{mark}"),
    }
}
