//! The decoder: bytes in, events out, every byte booked.

mod ahead;
mod decide;
mod line;
mod part;
mod steady;

use alloc::vec::Vec;
use core::ops::Range;

use crate::cut::LineEdge;
use crate::event::{Event, Fault, LineId, Loss, Notice, NoticeKind, Reason, Reject};
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::read::Cells;
use crate::record::Record;
use crate::time::{Span, Time};

use line::{Closing, Line, Seen};

/// Some bytes of one line that arrived together.
#[derive(Clone, Copy, Debug)]
pub struct Chunk<'a> {
    /// The line.
    pub line: LineId,
    /// When they arrived, if that is known: the time at which reading them returned.
    pub time: Option<Time>,
    /// The bytes.
    pub bytes: &'a [u8],
    /// Faults that the source saw on them, by their places.
    pub faults: &'a [Fault],
}

impl<'a> Chunk<'a> {
    /// Bytes without times and faults, as from a raw file.
    pub fn new(line: LineId, bytes: &'a [u8]) -> Chunk<'a> {
        Chunk { line, time: None, bytes, faults: &[] }
    }
}

/// Decodes the lines of one stream.
///
/// The order of calls:
///
/// 1. [`line`](Decoder::line) once for each line.
/// 2. [`feed`](Decoder::feed) for each chunk, in the order of arrival; [`loss`](Decoder::loss) where bytes are missing. Each
///    returns [`Events`], to be drained before the next call; what was not drained comes with the next events of that line. Who has a
///    sink gives it to [`decode`](Decoder::decode) with the chunk, which is the same and faster.
/// 3. On a live line of a format that waits for silence, [`tick`](Decoder::tick) when [`next_deadline`](Decoder::next_deadline) has
///    passed. It only makes events come earlier.
/// 4. [`finish`](Decoder::finish) at the end of the input. What is fed after it is taken as the other side of a loss.
///
/// [`ledger`](Decoder::ledger) can be asked at any time, and balances at any time.
///
/// ```
/// use usus::{Chunk, Decoder, Event, Format};
///
/// let format = Format::parse(r#"
///     format = "scale"
///     [[frame]]
///     cut = "text"
///     [record.weight]
///     fields = [{ name = "weight", type = "number", unit = "kg" }]
/// "#)?;
/// let plan = format.compile()?;
/// let mut decoder = Decoder::new(&plan);
/// let line = decoder.line("", 0).unwrap();
/// let mut weights = Vec::new();
/// let mut events = decoder.feed(Chunk::new(line, b"12.50\r\n13.25\r\n"));
/// while let Some(event) = events.next() {
///     if let Event::Record(record) = event {
///         weights.push(record.get("weight").unwrap().value.to_string());
///     }
/// }
/// assert_eq!(weights, ["12.50", "13.25"]);
/// assert_eq!(decoder.ledger(line).recorded, 10);
/// # Ok::<(), usus::Problems>(())
/// ```
#[derive(Clone, Debug)]
pub struct Decoder {
    plan: Plan,
    lines: Vec<Line>,
}

impl Decoder {
    /// A decoder without lines.
    pub fn new(plan: &Plan) -> Decoder {
        Decoder { plan: plan.clone(), lines: Vec::new() }
    }

    /// The plan that it decodes by.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// Adds a line. `role` is its role in a format that speaks of several, else any name. `start` is the stream offset of its first
    /// byte: 0 where the recording begins; a later offset means that bytes before it are not there.
    ///
    /// Nothing is returned if the format speaks of several lines and has none of that role.
    pub fn line(&mut self, role: &str, start: u64) -> Option<LineId> {
        let edge = if start == 0 { LineEdge::Start } else { LineEdge::Loss };
        self.add_line(role, start, edge)
    }

    /// Adds a line whose first byte is known to begin something.
    pub(crate) fn add_line(&mut self, role: &str, start: u64, edge: LineEdge) -> Option<LineId> {
        let roles = &self.plan.0.roles;
        let index = roles.iter().position(|known| known.name == role);
        let (route, character) = match (index, roles.is_empty()) {
            (Some(index), _) => (index, roles[index].character),
            (None, true) => (0, self.plan.0.character),
            (None, false) => return None,
        };
        let id = LineId(self.lines.len() as u32);
        self.lines.push(Line::new(&self.plan.0, id, route, character, start, edge));
        Some(id)
    }

    /// How late the chunks of a line can be: its adapter's latency. Silences are told only after it. 20 ms unless said.
    pub fn set_lateness(&mut self, line: LineId, lateness: Span) {
        if let Some(line) = self.lines.get_mut(line.index()) {
            line.set_lateness(lateness);
        }
    }

    /// Takes a chunk in. A line that this decoder does not have gets nothing. Events that are not taken come with those of the next chunk: so
    /// many small chunks can be decoded together.
    #[inline]
    pub fn feed(&mut self, chunk: Chunk<'_>) -> Events<'_> {
        let index = chunk.line.index();
        // The common case is short, for those who bring single bytes.
        let is_quiet = self.lines.get_mut(index).is_none_or(|line| {
            line.push_quietly(chunk.time, chunk.bytes, chunk.faults) || {
                line.push(chunk.time, chunk.bytes, chunk.faults);
                false
            }
        });
        Events { decoder: self, lines: index..index + usize::from(!is_quiet) }
    }

    /// Takes a chunk in, and hands all events that are ready on its line to a sink. That is the same as draining what
    /// [`feed`](Decoder::feed) returns, only faster: a large chunk is decoded where it lies.
    ///
    /// ```
    /// # use usus::{Chunk, Decoder, Format, Record};
    /// # let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight' }]")?;
    /// # let plan = format.compile()?;
    /// let mut decoder = Decoder::new(&plan);
    /// let line = decoder.line("", 0).unwrap();
    /// let mut weights = Vec::new();
    /// let mut take = |record: &Record<'_>| weights.push(record.get("weight").unwrap().value.to_string());
    /// let Ok(()) = decoder.decode(Chunk::new(line, b"12.50\r\n13"), &mut take);
    /// let Ok(()) = decoder.decode(Chunk::new(line, b".25\r\n"), &mut take);
    /// assert_eq!(weights, ["12.50", "13.25"]);
    /// # Ok::<(), usus::Problems>(())
    /// ```
    ///
    /// # Errors
    ///
    /// Stops at the sink's first error. The events that remain come with the next ones.
    #[inline]
    pub fn decode<S: crate::Sink>(&mut self, chunk: Chunk<'_>, sink: &mut S) -> Result<(), S::Error> {
        let Chunk { line, time, bytes, faults } = chunk;
        let Some(line) = self.lines.get_mut(line.index()) else { return Ok(()) };
        // The common case is short, for those who bring single bytes.
        if line.push_quietly(time, bytes, faults) {
            return Ok(());
        }
        ahead::decode(&self.plan, line, time, bytes, faults, sink)
    }

    /// What is ready on a line, and was not taken when its chunks were fed.
    pub fn ready(&mut self, line: LineId) -> Events<'_> {
        self.events(line.index()..line.index() + 1)
    }

    /// Says that bytes are missing on a line here.
    pub fn loss(&mut self, line: LineId, why: Loss, _at: Option<Time>) -> Events<'_> {
        if let Some(line) = self.lines.get_mut(line.index()) {
            line.close(Closing::Loss(why));
        }
        self.events(line.index()..line.index() + 1)
    }

    /// Says what time it is, so that a silence can end a text without waiting for the next byte.
    pub fn tick(&mut self, now: Time) -> Events<'_> {
        for line in &mut self.lines {
            line.tick(now);
        }
        self.events(0..self.lines.len())
    }

    /// When [`Decoder::tick`] could next bring something, if nothing arrives before.
    pub fn next_deadline(&self) -> Option<Time> {
        self.lines.iter().filter_map(Line::deadline).min()
    }

    /// Says that the input has ended on all lines.
    pub fn finish(&mut self) -> Events<'_> {
        for line in &mut self.lines {
            line.close(Closing::End);
        }
        self.events(0..self.lines.len())
    }

    /// Its lines, in the order in which they were added.
    pub fn lines(&self) -> impl ExactSizeIterator<Item = LineId> + use<> {
        (0..self.lines.len() as u32).map(LineId)
    }

    /// The account of a line; an empty one for a line that is not there.
    pub fn ledger(&self, line: LineId) -> Ledger {
        self.lines.get(line.index()).map(Line::ledger).unwrap_or_default()
    }

    /// Where the next piece of a line begins, and what cutting remembers there: two decoders of one line that agree in both give the
    /// same events from there on.
    pub fn join(&self, line: LineId) -> Option<Join> {
        self.lines.get(line.index()).map(Line::join)
    }

    #[inline]
    fn events(&mut self, lines: Range<usize>) -> Events<'_> {
        let end = lines.end.min(self.lines.len());
        Events { decoder: self, lines: lines.start.min(end)..end }
    }
}

/// A place at which decoders can be joined: see [`Decoder::join`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Join {
    pub(crate) offset: u64,
    pub(crate) rest: crate::cut::Rest,
    /// When the last chunk arrived, if a silence after it would matter.
    pub(crate) last: Option<Time>,
}

impl Join {
    /// Its stream offset.
    pub fn offset(&self) -> u64 {
        self.offset
    }
}

/// Events that are ready. Each is lent until the next is asked for.
#[derive(Debug)]
pub struct Events<'d> {
    decoder: &'d mut Decoder,
    lines: Range<usize>,
}

impl Events<'_> {
    /// The next event, or nothing until more is fed.
    #[allow(clippy::should_implement_trait)] // An iterator cannot lend its items.
    pub fn next(&mut self) -> Option<Event<'_>> {
        let outcome = loop {
            let index = self.lines.start;
            if index >= self.lines.end {
                return None;
            }
            match self.decoder.lines[index].in_window(|line, seen| line.advance(&self.decoder.plan.0, seen)) {
                Some(outcome) => break outcome,
                None => self.lines.start += 1,
            }
        };
        let line = &self.decoder.lines[self.lines.start];
        Some(event(&self.decoder.plan, line, line.seen(), outcome))
    }

    /// Drains all of them into a sink. That is faster than asking for one after the other.
    ///
    /// # Errors
    ///
    /// Stops at the sink's first error. The events that remain come with the next ones.
    #[inline]
    pub fn drain<S: crate::Sink>(&mut self, sink: &mut S) -> Result<(), S::Error> {
        while self.lines.start < self.lines.end {
            drain_line(&self.decoder.plan, &mut self.decoder.lines[self.lines.start], sink)?;
            self.lines.start += 1;
        }
        Ok(())
    }
}

/// Says what there is to say about the bytes in a line's window.
#[inline(never)]
fn drain_line<S: crate::Sink>(plan: &Plan, line: &mut Line, sink: &mut S) -> Result<(), S::Error> {
    if line.sleeps() {
        return Ok(());
    }
    if line.waits(&plan.0) {
        line.fall_asleep(&plan.0);
        return Ok(());
    }
    line.in_window(|line, seen| drain_seen(plan, line, seen, sink))?;
    line.fall_asleep(&plan.0);
    Ok(())
}

/// Says what there is to say about bytes, wherever they lie: all that are not booked are among them.
#[inline]
fn drain_seen<S: crate::Sink>(plan: &Plan, line: &mut Line, seen: Seen<'_>, sink: &mut S) -> Result<(), S::Error> {
    while !line.steady(plan, seen, sink)? {
        let Some(outcome) = line.advance(&plan.0, seen) else { break };
        sink.event(event(plan, line, seen, outcome))?;
    }
    Ok(())
}

/// What a line has to say next, without the bytes it is about.
#[derive(Clone, Copy, Debug)]
enum Outcome {
    Record { kind: u16, offset: u64, length: u32, content: (u32, u32), count: u32, tail: u32 },
    Reject { offset: u64, length: u64, reason: Reason, candidates: u32, clipped: bool },
    Notice { offset: u64, kind: NoticeKind },
}

fn event<'a>(plan: &'a Plan, line: &'a Line, seen: Seen<'a>, outcome: Outcome) -> Event<'a> {
    match outcome {
        Outcome::Record { kind, offset, length, content, count, tail } => {
            let frame = seen.bytes(offset, u64::from(length));
            let wide = &seen.from(offset)[content.0 as usize..];
            let bytes = &wide[..(content.1 - content.0) as usize];
            let cells = Cells { bytes, wide, columns: line.columns(), tail: tail as usize };
            let (compiled, marks) = (&plan.0.kinds[usize::from(kind)], line.marks());
            Event::Record(Record { plan, kind, compiled, line: line.id(), offset, length, frame, cells, count, marks })
        }
        Outcome::Reject { offset, length, reason, candidates, clipped } => {
            let bytes = seen.bytes(offset, length);
            let times = line.times(offset, length);
            let reject = Reject { plan, line: line.id(), offset, bytes, times, reason, candidates };
            if clipped { Event::Clipped(reject) } else { Event::Reject(reject) }
        }
        Outcome::Notice { offset, kind } => Event::Notice(Notice { plan, line: line.id(), offset, kind }),
    }
}
