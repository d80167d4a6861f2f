//! The decoder: bytes in, events out, every byte booked.

mod decide;
mod frames;
mod inside;
mod line;
mod lines;
mod part;
mod staged;

use alloc::vec::Vec;
use core::ops::Range;

use crate::event::{Event, Notice, NoticeKind, Reject};
use crate::framing::{Behind, Contents};
use crate::input::{Chunk, LineId, Loss};
use crate::ledger::Ledger;
use crate::owned::OwnedRecord;
use crate::plan::Plan;
use crate::reason::Reason;
use crate::record::Record;
use crate::sink::Sink;
use crate::stage::Stages;
use crate::time::{Span, Time};

pub use inside::LineInside;
use inside::{Insides, Unpacking};
use line::{Closing, Line};
use lines::Lines;
use staged::Staged;

/// Decodes the lines of one stream.
///
/// The order of calls:
///
/// 1. [`line`](Decoder::line) once for each line.
/// 2. [`feed`](Decoder::feed) for each chunk, in the order of arrival; [`loss`](Decoder::loss) where bytes are missing. Each
///    returns [`Events`], to be drained before the next call; what was not drained comes with the next events of that line. Who has a
///    sink gives it to [`decode`](Decoder::decode) with the chunk.
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
    lines: Lines,
    /// What is known of the lines that lie inside of others.
    insides: Insides,
    stages: Stages,
    /// Whether the input has ended, and the stages are not told yet.
    ended: bool,
    /// The stages where the part at hand began, if it is one.
    begun: Option<Stages>,
}

impl Plan {
    /// Decodes bytes that are all there is of a line: its recording, from the first byte to the last. Where a format speaks of several lines, it is
    /// the first of them. Returns the account of every byte.
    ///
    /// ```
    /// use usus::{Format, Record};
    ///
    /// let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]")?;
    /// let mut weights = Vec::new();
    /// let mut take = |record: &Record<'_>| weights.push(record.get("weight").unwrap().value.to_string());
    /// let Ok(ledger) = format.compile()?.decode(b"12.50\r\n13.25\r\n", &mut take);
    /// assert_eq!(weights, ["12.50", "13.25"]);
    /// assert!(ledger.balances());
    /// # Ok::<(), usus::Problems>(())
    /// ```
    ///
    /// # Errors
    ///
    /// Stops at the sink's first error.
    pub fn decode<S: Sink>(&self, bytes: &[u8], sink: &mut S) -> Result<Ledger, S::Error> {
        let mut decoder = Decoder::of_one_line(self);
        decoder.decode(bytes.into(), sink)?;
        decoder.finish().drain(sink)?;
        Ok(decoder.ledger(LineId::FIRST))
    }

    /// The records of bytes that are all there is of a line, as they are kept: see [`Plan::decode`].
    pub fn records(&self, bytes: &[u8]) -> Vec<OwnedRecord> {
        let mut records = Vec::new();
        let mut keep = |record: &Record<'_>| records.push(record.to_owned());
        let Ok(_) = self.decode(bytes, &mut keep);
        records
    }
}

impl Decoder {
    /// A decoder that has one line already, [`LineId::FIRST`], which nobody needs to name: chunks are made of bytes. Where a format speaks of several
    /// lines, it is the first of them.
    ///
    /// ```
    /// use usus::{Decoder, Format, Record};
    ///
    /// let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]")?;
    /// let mut decoder = Decoder::of_one_line(&format.compile()?);
    /// let mut count = 0;
    /// let mut take = |_: &Record<'_>| count += 1;
    /// for chunk in [&b"12.50\r\n13"[..], b".25\r\n"] {
    ///     let Ok(()) = decoder.decode(chunk.into(), &mut take);
    /// }
    /// assert_eq!(count, 2);
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn of_one_line(plan: &Plan) -> Decoder {
        let mut decoder = Decoder::new(plan);
        let role = plan.roles().next().unwrap_or_default();
        decoder.line(role, 0);
        decoder
    }

    /// A decoder without lines.
    pub fn new(plan: &Plan) -> Decoder {
        Decoder {
            plan: plan.clone(),
            lines: Lines::default(),
            insides: Insides::default(),
            stages: Stages::new(plan),
            ended: false,
            begun: None,
        }
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
        let behind = if start == 0 { Behind::Start } else { Behind::Loss };
        self.add_line(role, start, behind)
    }

    /// Adds a line of which it is known what lies before its first byte.
    pub(crate) fn add_line(&mut self, role: &str, start: u64, behind: Behind) -> Option<LineId> {
        let roles = &self.plan.0.roles;
        let index = roles.iter().position(|known| known.name == role);
        let (route, character) = match (index, roles.is_empty()) {
            (Some(index), _) => (index, roles[index].character),
            (None, true) => (0, self.plan.0.character),
            (None, false) => return None,
        };
        Some(self.add_line_of(route, character, start, behind))
    }

    /// Adds a line that is cut as a route says.
    fn add_line_of(&mut self, route: usize, character: Option<Span>, start: u64, behind: Behind) -> LineId {
        let id = LineId(self.lines.len() as u32);
        self.lines.push(Line::new(&self.plan, id, route, character, start, behind));
        self.stages.add_line(&self.plan, id, route, behind.is_edge());
        id
    }

    /// Adds a line of bytes as a field carries them, without what is around it; nothing if no field of that name, `kind.field`, carries any.
    pub(crate) fn add_line_inside(&mut self, field: &str, behind: Behind) -> Option<LineId> {
        let route = self.plan.0.insides.iter().find(|inside| inside.name == field)?.route;
        Some(self.add_line_of(route, None, 0, behind))
    }

    /// How late the chunks of a line can be: its adapter's latency. Silences are told only after it. 20 ms unless said.
    pub fn set_lateness(&mut self, line: LineId, lateness: Span) {
        if let Some(line) = self.fed_line(line) {
            line.set_lateness(lateness);
        }
    }

    /// Takes a chunk in. A line that this decoder does not have gets nothing. Events that are not taken come with those of the next chunk: so
    /// many small chunks can be decoded together.
    pub fn feed(&mut self, chunk: Chunk<'_>) -> Events<'_> {
        let index = chunk.line.index();
        if let Some(now) = chunk.time {
            self.pass_time(now);
        }
        if let Some(line) = self.fed_line(chunk.line) {
            line.push(chunk.time, chunk.bytes, chunk.faults);
        }
        self.events(index..index + 1)
    }

    /// Takes a chunk in, and hands all events that are ready on its line to a sink: the same as draining what [`feed`](Decoder::feed) returns.
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
    pub fn decode<S: Sink>(&mut self, chunk: Chunk<'_>, sink: &mut S) -> Result<(), S::Error> {
        self.feed(chunk).drain(sink)
    }

    /// A line that may be fed.
    fn fed_line(&mut self, line: LineId) -> Option<&mut Line> {
        self.lines.get_mut(line.index()).filter(|line| line.outer.is_none())
    }

    fn pass_time(&mut self, now: Time) {
        let lines = &self.lines;
        self.stages.at(&self.plan, now, lines.all().filter_map(Line::open_since));
    }

    /// What is ready on a line, and was not taken when its chunks were fed.
    pub fn ready(&mut self, line: LineId) -> Events<'_> {
        self.events(line.index()..line.index() + 1)
    }

    /// Says that bytes are missing on a line here, and when that was noticed, if it is known: what waits for other lines waits no longer than that.
    pub fn loss(&mut self, line: LineId, why: Loss, at: Option<Time>) -> Events<'_> {
        if let Some(now) = at {
            self.pass_time(now);
        }
        if let Some(line) = self.fed_line(line) {
            line.close(Closing::Loss(why));
        }
        self.events(line.index()..line.index() + 1)
    }

    /// Says what time it is, so that a silence can end a text without waiting for the next byte.
    pub fn tick(&mut self, now: Time) -> Events<'_> {
        for line in self.lines.fed_mut() {
            line.tick(now);
        }
        self.pass_time(now);
        self.events(0..self.lines.len())
    }

    /// When [`Decoder::tick`] could next bring something, if nothing arrives before.
    pub fn next_deadline(&self) -> Option<Time> {
        let open = self.lines.all().filter_map(Line::open_since).min();
        self.lines.fed().filter_map(Line::deadline).chain(self.stages.deadline(&self.plan, open)).min()
    }

    /// Says that the input has ended on all lines.
    pub fn finish(&mut self) -> Events<'_> {
        for line in self.lines.fed_mut() {
            line.close(Closing::End);
        }
        self.insides.end();
        self.ended = true;
        self.events(0..self.lines.len())
    }

    /// Its lines, in the order in which they were added.
    pub fn lines(&self) -> impl ExactSizeIterator<Item = LineId> + use<> {
        self.lines.fed().map(|line| line.origin.line).collect::<Vec<_>>().into_iter()
    }

    /// The lines that lie inside of others: what a field of their records carries, joined, where a frame says
    /// [`inside`](crate::format::Frame::inside). They come with the first record that carries something for them. Each has a ledger of its own, whose
    /// total is what those records carried.
    pub fn lines_inside(&self) -> impl Iterator<Item = LineInside<'_>> {
        self.insides.all(&self.plan)
    }

    /// The account of a line; an empty one for a line that is not there.
    pub fn ledger(&self, line: LineId) -> Ledger {
        self.lines.get(line.index()).map(Line::ledger).unwrap_or_default()
    }

    /// The stream offsets of a line's bytes that were taken in; nothing for a line that is not there.
    pub fn covered(&self, line: LineId) -> Range<u64> {
        self.lines.get(line.index()).map(Line::covered).unwrap_or_default()
    }

    /// How many bytes of a line were looked at to test the checksums of packets that were not recognised at once: what damaged input costs. Packets
    /// that overlap share what was looked at, so it stays within a few times the line's bytes.
    pub fn bytes_tested(&self, line: LineId) -> u64 {
        self.lines.get(line.index()).map_or(0, |line| line.scan.bytes_tested())
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
    pub(crate) behind: Behind,
    /// When the last chunk arrived, if a silence after it would matter.
    pub(crate) last: Option<Time>,
    /// Where the line stands that names the columns of those behind it.
    pub(crate) heading: Option<u64>,
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
        let mut one = One(None);
        let said = self.drain(&mut one);
        let Decoder { plan, lines, stages, .. } = &*self.decoder;
        match (said, &stages.lent, one.0) {
            (Ok(()), ..) => None,
            (Err(Stop), Some(said), _) => said.event(plan),
            (Err(Stop), None, noted) => {
                let (line, outcome) = noted?;
                let line = lines.get(line.index())?;
                Some(line.event(plan, line.seen(), line.told(outcome)))
            }
        }
    }

    /// Drains all of them into a sink. That is faster than asking for one after the other.
    ///
    /// # Errors
    ///
    /// Stops at the sink's first error. The events that remain come with the next ones.
    pub fn drain<S: Sink>(&mut self, sink: &mut S) -> Result<(), S::Error> {
        let Decoder { plan, lines, stages, .. } = &mut *self.decoder;
        if !stages.is_nothing() || !plan.0.insides.is_empty() {
            return self.drain_through(sink);
        }
        while self.lines.start < self.lines.end {
            if let Some(line) = lines.get_mut(self.lines.start) {
                line.say_all(plan, sink)?;
            }
            self.lines.start += 1;
        }
        Ok(())
    }

    /// The same, through what lies inside of lines, and through the stages.
    fn drain_through<S: Sink>(&mut self, sink: &mut S) -> Result<(), S::Error> {
        let Decoder { plan, lines, insides, stages, ended, .. } = &mut *self.decoder;
        staged::say(plan, lines, stages, sink)?;
        let mut settled = Vec::new();
        let staged = &mut Staged { plan, stages, settled: &mut settled, sink };
        let mut unpacking = Unpacking { plan, lines, insides, begun: Behind::Loss, sink: staged };
        let result = unpacking.say_inside(0).and_then(|()| {
            while self.lines.start < self.lines.end {
                unpacking.say_line(self.lines.start)?;
                self.lines.start += 1;
            }
            unpacking.end()
        });
        staged::settle(settled, lines);
        result?;
        if core::mem::take(ended) {
            stages.finish(plan);
        }
        staged::say(plan, lines, stages, sink)
    }
}

/// What a line has to say next, without the bytes it is about.
#[derive(Clone, Copy, Debug)]
enum Outcome {
    Record { kind: u16, offset: u64, length: u32, contents: Contents, count: u32, tail: u32 },
    Reject { offset: u64, length: u64, reason: Reason, candidates: u32, clipped: bool },
    Notice { offset: u64, kind: NoticeKind },
}

/// A sink that notes one event, and stops.
struct One(Option<(LineId, Outcome)>);

/// Nothing is wrong: one event is enough.
struct Stop;

impl One {
    fn note(&mut self, line: LineId, outcome: Outcome) -> Result<(), Stop> {
        self.0 = Some((line, outcome));
        Err(Stop)
    }

    fn note_bytes(&mut self, reject: &Reject<'_>, clipped: bool) -> Result<(), Stop> {
        let Reject { line, offset, bytes, reason, candidates, .. } = *reject;
        self.note(line, Outcome::Reject { offset, length: bytes.len() as u64, reason, candidates, clipped })
    }
}

impl Sink for One {
    type Error = Stop;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Stop> {
        self.note(record.line(), Outcome::of(record))
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Stop> {
        self.note_bytes(reject, false)
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), Stop> {
        self.note_bytes(clipped, true)
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), Stop> {
        self.note(notice.line, Outcome::Notice { offset: notice.offset, kind: notice.kind })
    }
}
