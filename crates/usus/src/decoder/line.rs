//! One line being decoded: its window of bytes, what is known of their times, its position, and its account.

use alloc::collections::VecDeque;
use alloc::vec::Vec;
use core::ops::Range;

use super::decide::{self, Decision};
use super::frames::Then;
use super::staged::Settled;
use super::{Join, Outcome};
use crate::clean::Cleaner;
use crate::contents::{self, Headings};
use crate::event::{Event, Notice, NoticeKind, Reject};
use crate::framing::{self, Behind, Contents, Ended, Framed, Scan, Step, View};
use crate::input::{Fault, FaultKind, LineId, Loss};
use crate::ledger::Ledger;
use crate::plan::{Frame, Framing, Inner, Plan};
use crate::read::Cells;
use crate::reason::Reason;
use crate::record::{AtHand, Origin, Record};
use crate::sink::Sink;
use crate::stage::Counters;
use crate::time::{Span, Time};

/// How late chunks can be where nobody says: a little more than the latency of common USB adapters.
const LATENESS: Span = Span::from_nanoseconds(20_000_000);

/// A place where a line is closed: nothing before it joins with what follows.
#[derive(Clone, Copy, Debug)]
pub(super) enum Closing {
    Loss(Loss),
    End,
}

/// What is known where a part begins.
#[derive(Clone, Debug, PartialEq)]
struct Begun {
    join: Join,
    faults_ahead: VecDeque<(u64, FaultKind)>,
    silences_ahead: Vec<u64>,
    ends: LineEnds,
}

/// Line ends one behind the other.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct LineEnds {
    returns: u32,
    feeds: u32,
}

impl LineEnds {
    /// Counts what is among bytes that carry nothing.
    pub(super) fn add(&mut self, filler: &[u8]) {
        for byte in filler {
            match byte {
                b'\r' => self.returns = self.returns.saturating_add(1),
                b'\n' => self.feeds = self.feeds.saturating_add(1),
                _ => {}
            }
        }
    }

    /// Whether there is an empty line among them: the first ends the line before, whatever the two bytes of each.
    fn are_several(self) -> bool {
        self.returns.max(self.feeds) > 1
    }
}

/// Bytes of a line that lie together.
#[derive(Clone, Copy)]
pub(super) struct Seen<'w> {
    pub(super) bytes: &'w [u8],
    /// The stream offset of the first of them.
    pub(super) base: u64,
}

impl<'w> Seen<'w> {
    #[inline(always)]
    pub(super) fn from(&self, offset: u64) -> &'w [u8] {
        &self.bytes[(offset - self.base) as usize..]
    }

    pub(super) fn bytes(&self, offset: u64, length: u64) -> &'w [u8] {
        &self.from(offset)[..length as usize]
    }

    #[inline(always)]
    pub(super) fn end(&self) -> u64 {
        self.base + self.bytes.len() as u64
    }
}

#[derive(Clone, Debug)]
pub(super) struct Line {
    pub(super) origin: Origin,
    /// The line whose records carry it, if it is not fed.
    pub(super) outer: Option<LineId>,
    /// What lies before its first byte.
    pub(super) begun_behind: Behind,
    pub(super) route: usize,
    /// What takes out of its bytes what does not belong there, if anything does.
    cleaner: Option<Cleaner>,
    character: Option<Span>,
    lateness: Span,
    /// A silence that ends a text, if the format has such.
    idle: Option<Span>,
    /// Whether breaks end frames.
    by_break: bool,
    /// Bytes from `base` on. All that is not booked is in it, and what the last event lent.
    pub(super) window: Vec<u8>,
    pub(super) base: u64,
    /// Everything before this offset is booked.
    pub(super) at: u64,
    pub(super) behind: Behind,
    pub(super) scan: Scan,
    headings: Headings,
    pub(super) closings: VecDeque<(u64, Closing)>,
    /// Offsets before which the line was silent for long enough.
    pub(super) silences: VecDeque<u64>,
    pub(super) faults: VecDeque<(u64, FaultKind)>,
    last: Option<Time>,
    /// Before the window reaches this offset, nothing can be said.
    nothing_before: u64,
    /// What begins here was looked at the long way, and is open: it is not looked at in another way, too.
    open_at: Option<u64>,
    /// What is still to be said about bytes that are booked.
    pub(super) queue: VecDeque<Outcome>,
    pub(super) ledger: Ledger,
    /// Bytes of frames that stages hold.
    pub(super) held: u64,
    /// From where on bytes are not counted in the ledger's total yet.
    counted: u64,
    pub(super) counters: Counters,
    /// The line ends since the last frame.
    pub(super) ends: LineEnds,
    /// What was known where the part at hand began, if it is one.
    begun: Option<Begun>,
}

impl Line {
    pub(super) fn new(
        plan: &Plan,
        id: LineId,
        route: usize,
        character: Option<Span>,
        start: u64,
        behind: Behind,
    ) -> Line {
        let inner = &*plan.0;
        let text = inner.routes[route].text.map(|frame| &inner.frames[usize::from(frame)].framing);
        let (idle, by_break) = match text {
            Some(Framing::Text(text)) => (text.idle, false),
            Some(Framing::Burst(burst)) => (burst.idle, burst.idle.is_none()),
            _ => (None, false),
        };
        Line {
            origin: Origin::new(plan, id),
            outer: None,
            begun_behind: behind,
            route,
            cleaner: Some(inner.routes[route].cleaning).filter(|cleaning| !cleaning.is_nothing()).map(Cleaner::new),
            character,
            lateness: LATENESS,
            idle,
            by_break,
            window: Vec::new(),
            base: start,
            at: start,
            behind,
            scan: Scan::new(&inner.routes[route], start),
            headings: Headings::default(),
            closings: VecDeque::new(),
            silences: VecDeque::new(),
            faults: VecDeque::new(),
            last: None,
            nothing_before: 0,
            open_at: None,
            queue: VecDeque::new(),
            ledger: Ledger::for_kinds(inner.schema.kinds.len()),
            held: 0,
            counted: start,
            counters: Counters::new(inner),
            ends: LineEnds::default(),
            begun: None,
        }
    }

    pub(super) fn set_lateness(&mut self, lateness: Span) {
        self.lateness = lateness;
    }

    pub(super) fn ledger(&self) -> Ledger {
        let total = self.ledger.total + (self.end() - self.counted);
        Ledger { pending: self.end() - self.at + self.held, total, ..self.ledger.clone() }
    }

    /// The stream offsets of the bytes that were taken in.
    pub(super) fn covered(&self) -> Range<u64> {
        let end = self.origin.removed.raw(self.end());
        end.saturating_sub(self.ledger().total)..end
    }

    pub(super) fn join(&self) -> Join {
        Join {
            offset: self.at,
            behind: self.behind,
            last: self.last.filter(|_| self.idle.is_some()),
            heading: self.headings.last,
        }
    }

    /// Begins a part of its own.
    pub(super) fn begin_part(&mut self, plan: &Inner) {
        self.begun = Some(self.known());
        self.ledger = Ledger::for_kinds(plan.schema.kinds.len());
        self.counted = self.end();
        self.counters = Counters::new(plan);
    }

    /// Whether this part, had it been decoded behind another, would have given the same.
    pub(super) fn would_follow(&self, plan: &Inner, before: &Line) -> bool {
        let drained = before.queue.is_empty() && before.closings.is_empty();
        drained
            && self.begun.as_ref() == Some(&before.known())
            && self.counters.would_follow(plan, &before.counters)
            && self.ledger.ignored_by_others == 0
    }

    fn known(&self) -> Begun {
        let silences = self.silences.iter().copied().filter(|silence| *silence > self.at);
        Begun {
            join: self.join(),
            faults_ahead: self.faults.clone(),
            silences_ahead: silences.collect(),
            ends: self.ends,
        }
    }

    /// Takes over the account and the counters of what comes before.
    pub(super) fn follow(&mut self, plan: &Inner, before: &mut Line) {
        for line in [&mut *self, &mut *before] {
            line.ledger.total += line.end() - line.counted;
            line.counted = line.end();
        }
        let part = core::mem::replace(&mut self.ledger, core::mem::take(&mut before.ledger));
        self.ledger.append(&part, plan.limits.names);
        self.counters.follow(plan, core::mem::take(&mut before.counters));
        self.begun = None;
    }

    pub(super) fn end(&self) -> u64 {
        self.base + self.window.len() as u64
    }

    /// Takes bytes in.
    pub(super) fn push(&mut self, time: Option<Time>, bytes: &[u8], faults: &[Fault]) {
        let start = self.end();
        if self.idle.is_some() {
            self.note_silence(start, time, bytes.len());
        }
        self.origin.marks.push(start, time);
        self.ledger.faults += faults.len() as u64;
        self.last = time.or(self.last);
        if self.window.capacity() - self.window.len() < bytes.len() {
            self.make_room(bytes.len());
        }
        match &mut self.cleaner {
            None => self.window.extend_from_slice(bytes),
            Some(cleaner) => {
                let taken = cleaner.clean(bytes, &mut self.window) as u64;
                self.ledger.filler += taken;
                self.ledger.total += taken;
                let before = self.origin.removed.total();
                for (left, taken) in cleaner.runs() {
                    self.origin.removed.push(start + left as u64, before + taken as u64);
                }
            }
        }
        let cleaner = self.cleaner.as_ref();
        let place = |at: usize| at - cleaner.map_or(0, |cleaner| cleaner.taken_before(at));
        let places = faults.iter().map(|fault| (start + place(fault.at.min(bytes.len())) as u64, fault.kind));
        let begun = self.faults.len();
        self.faults.extend(places);
        if self.by_break {
            for index in begun..self.faults.len() {
                if let Some((offset, FaultKind::Break)) = self.faults.get(index).copied() {
                    self.note_break(offset);
                }
            }
        }
    }

    /// Whether it is known, without looking, that nothing can be said yet.
    #[inline]
    pub(super) fn waits(&self) -> bool {
        self.end() < self.nothing_before
    }

    /// The offset from which on bytes are open: not booked, or still to be lent.
    pub(super) fn open_from(&self) -> u64 {
        self.queue.iter().map(Outcome::offset).min().unwrap_or(self.at).min(self.at)
    }

    /// Drops what is done with from the front of the window, before it would grow: so that single bytes cost little.
    fn make_room(&mut self, length: usize) {
        let keep = self.open_from();
        let done = (keep - self.base) as usize;
        if done >= self.window.len() / 2 {
            self.window.drain(..done);
            self.base = keep;
        }
        self.window.reserve(length);
        // When the byte before came tells whether there was a silence.
        self.origin.marks.forget(keep.saturating_sub(1));
        self.origin.removed.forget(keep);
    }

    /// Books a silence before a chunk: the time since the last byte, less what the chunk's own characters took (as far as chunks can
    /// be late at all: [`Line::tick`] relies on that).
    fn note_silence(&mut self, start: u64, time: Option<Time>, length: usize) {
        let (Some(idle), Some(time), Some(last)) = (self.idle, time, self.last) else { return };
        let characters = self.character.map_or(0, |one| one.nanoseconds().saturating_mul(length as i64));
        let own = characters.min(self.lateness.nanoseconds());
        if time.since(last).nanoseconds().saturating_sub(own) >= idle.nanoseconds() {
            self.add_silence(start);
        }
    }

    /// Notes a break before an offset, which ends what comes before it, and tells that something begins here.
    fn note_break(&mut self, offset: u64) {
        self.add_silence(offset);
        if offset == self.at && self.closings.is_empty() {
            self.behind = Behind::Frame;
        }
    }

    /// Notes a silence before an offset, but not where the line is closed: what came before a loss is not known to have ended.
    fn add_silence(&mut self, offset: u64) {
        let closed = self.closings.back().is_some_and(|(closing, _)| *closing == offset);
        if offset > self.at && !closed && self.silences.back() != Some(&offset) {
            self.nothing_before = 0;
            self.silences.push_back(offset);
        }
    }

    pub(super) fn tick(&mut self, now: Time) {
        if self.deadline().is_some_and(|deadline| now >= deadline) {
            self.add_silence(self.end());
        }
    }

    /// When it is certain that no byte of a text still comes: after the silence and the lateness of the adapter.
    pub(super) fn deadline(&self) -> Option<Time> {
        let told = self.silences.back() == Some(&self.end());
        match (self.idle, self.last) {
            (Some(idle), Some(last)) if self.at < self.end() && !told => Some(last.after(idle).after(self.lateness)),
            _ => None,
        }
    }

    pub(super) fn is_part(&self) -> bool {
        self.begun.is_some()
    }

    pub(super) fn close(&mut self, closing: Closing) {
        self.nothing_before = 0;
        self.cleaner.iter_mut().for_each(Cleaner::reset);
        self.closings.push_back((self.end(), closing));
    }

    /// Passes over bytes that came before already.
    pub(super) fn pass_over(&mut self, length: u64) {
        self.ledger.filler += length;
        self.ledger.total += length;
        let before = self.origin.removed.total();
        self.origin.removed.push(self.end(), before + length);
    }

    /// Says that bytes are missing here, unless that is said already, or nothing was before it. Says whether it is news.
    pub(super) fn lose(&mut self, why: Loss) -> bool {
        let told = self.closings.back().is_some_and(|(offset, _)| *offset == self.end())
            || (self.at == self.end() && self.behind == Behind::Loss);
        let is_news = !told && self.end() > 0;
        if is_news {
            self.close(Closing::Loss(why));
        }
        is_news
    }

    /// What is in the window.
    pub(super) fn seen(&self) -> Seen<'_> {
        Seen { bytes: &self.window, base: self.base }
    }

    /// Does something with what is in the window, which is lent for it.
    #[inline]
    pub(super) fn in_window<T>(&mut self, what: impl FnOnce(&mut Line, Seen<'_>) -> T) -> T {
        let window = core::mem::take(&mut self.window);
        let done = what(self, Seen { bytes: &window, base: self.base });
        self.window = window;
        done
    }

    /// Says all there is to say about what is in the window.
    pub(super) fn say_all<S: Sink>(&mut self, plan: &Plan, sink: &mut S) -> Result<(), S::Error> {
        if self.waits() {
            return Ok(());
        }
        self.in_window(|line, seen| line.say(plan, seen, sink))
    }

    /// Says all there is to say about bytes, wherever they lie: all that are not booked are among them.
    #[inline(never)]
    pub(super) fn say<S: Sink>(&mut self, plan: &Plan, seen: Seen<'_>, sink: &mut S) -> Result<(), S::Error> {
        loop {
            while let Some(outcome) = self.queue.pop_front() {
                sink.event(self.event(plan, seen, outcome))?;
            }
            let closing = self.closings.front().map(|(offset, _)| *offset);
            if closing == Some(self.at) {
                self.pass_closing();
                continue;
            }
            if self.at == seen.end() {
                return Ok(());
            }
            if self.open_at != Some(self.at) {
                let begun = self.at;
                if self.frames(plan, seen, sink)? == Then::Same && self.at > begun {
                    continue;
                }
                if !self.queue.is_empty() || self.at == seen.end() {
                    continue;
                }
            }
            while self.silences.front().is_some_and(|silence| *silence <= self.at) {
                self.silences.pop_front();
            }
            let visible = (closing.unwrap_or(seen.end()) - seen.base) as usize;
            let view = View {
                bytes: &seen.bytes[..visible],
                base: seen.base,
                closed: closing.is_some(),
                silence: self.silences.front().copied(),
                marks: &self.origin.marks,
                character: self.character,
            };
            let route = &plan.0.routes[self.route];
            match framing::next(&plan.0, route, &view, self.at, self.behind, &mut self.scan) {
                Ok(step) => {
                    if let Some(outcome) = self.book(&plan.0, step, seen) {
                        sink.event(self.event(plan, seen, outcome))?;
                    }
                }
                Err(need) => {
                    (self.nothing_before, self.open_at) = (need, Some(self.at));
                    return Ok(());
                }
            }
        }
    }

    /// Something that was told about the stream, as it is about the line. A record is told as it is here.
    pub(super) fn told(&self, outcome: Outcome) -> Outcome {
        let left = |offset| self.origin.removed.left(offset);
        match outcome {
            Outcome::Record { .. } => outcome,
            Outcome::Reject { offset, length, reason, candidates, clipped } => {
                Outcome::Reject { offset: left(offset), length, reason, candidates, clipped }
            }
            Outcome::Notice { offset, kind } => Outcome::Notice { offset: left(offset), kind },
        }
    }

    /// What is to be said, with the bytes that it is about.
    pub(super) fn event<'a>(&'a self, plan: &'a Plan, seen: Seen<'a>, outcome: Outcome) -> Event<'a> {
        let line = self.origin.line;
        match outcome {
            Outcome::Record { kind, offset, length, contents, count, tail } => {
                let frame_on = seen.from(offset);
                let frame = &frame_on[..length as usize];
                let compiled = &plan.0.kinds[usize::from(kind)];
                let of = &plan.0.frames[usize::from(compiled.frame)];
                let cells = Cells { tail: tail as usize, ..cells_of(of, contents, frame_on, &self.scan) };
                Event::Record(Record {
                    origin: &self.origin,
                    kind,
                    compiled,
                    offset,
                    frame,
                    contents,
                    cells,
                    count,
                    row: None,
                })
            }
            Outcome::Reject { offset, length, reason, candidates, clipped } => {
                let bytes = seen.bytes(offset, length);
                let times = self.times(offset, length);
                let offset = self.origin.removed.raw(offset);
                let frames = &[];
                let reject = Reject { plan, line, offset, bytes, frames, times, reason, candidates };
                if clipped { Event::Clipped(reject) } else { Event::Reject(reject) }
            }
            Outcome::Notice { offset, kind } => {
                Event::Notice(Notice { plan, line, offset: self.origin.removed.raw(offset), kind })
            }
        }
    }

    /// Since when bytes are not decided.
    pub(super) fn open_since(&self) -> Option<Time> {
        if self.at < self.end() { self.origin.marks.at(self.at) } else { None }
    }

    /// Books what became of a frame that a stage held.
    pub(super) fn settle(&mut self, settled: Settled) {
        match settled {
            Settled::Recorded { length, .. } => {
                self.held -= length.min(self.held);
                self.ledger.recorded += length;
            }
            Settled::Record { kind, .. } => {
                let record = self.origin.plan.0.kinds.get(usize::from(kind)).map(|kind| usize::from(kind.record));
                if let Some(count) = record.and_then(|record| self.ledger.records.get_mut(record)) {
                    *count += 1;
                }
            }
            Settled::Rejected { length, clipped, .. } => {
                self.held -= length.min(self.held);
                let (bytes, count) = match clipped {
                    true => (&mut self.ledger.clipped, &mut self.ledger.clips),
                    false => (&mut self.ledger.rejected, &mut self.ledger.rejects),
                };
                *bytes += length;
                *count += 1;
            }
            Settled::Ignored { length, name, .. } => {
                self.held -= length.min(self.held);
                self.ledger.ignore(length, name.as_deref(), self.origin.plan.0.limits.names);
            }
        }
    }

    /// Goes to the other side of a loss, or past the end.
    fn pass_closing(&mut self) {
        if let Some((_, Closing::Loss(loss))) = self.closings.pop_front() {
            self.ledger.losses += 1;
            self.queue.push_back(Outcome::Notice { offset: self.at, kind: NoticeKind::Loss(loss) });
        }
        self.behind = Behind::Loss;
        self.nothing_before = 0;
        self.headings.forget();
        self.scan.reset(self.at);
    }

    /// Books a piece of the line. What is to be said about it is returned, or queued if it is more than one thing.
    fn book(&mut self, plan: &Inner, step: Step, seen: Seen<'_>) -> Option<Outcome> {
        let offset = self.at;
        let (to, behind) = match step {
            Step::Filler { to, behind } | Step::Frame { to, behind, .. } | Step::Run { to, behind, .. } => (to, behind),
        };
        while let Some((fault, kind)) = self.faults.front().copied().filter(|(fault, _)| *fault < to) {
            self.queue.push_back(Outcome::Notice { offset: fault, kind: NoticeKind::Fault(kind) });
            self.faults.pop_front();
        }
        let length = to - offset;
        let mut interrupted = false;
        if let Step::Filler { .. } = step {
            self.ends.add(seen.bytes(offset, length));
        }
        let said = match step {
            Step::Filler { .. } => {
                self.ledger.filler += length;
                None
            }
            Step::Run { reason, candidates, clipped, .. } => {
                Some(self.reject(offset, length, reason, candidates, clipped))
            }
            Step::Frame { frame, .. } => {
                interrupted = frame.ended == Ended::Interrupted;
                self.book_frame(plan, frame, offset, seen.from(offset), length as usize)
            }
        };
        if !matches!(step, Step::Filler { .. }) {
            self.ends = LineEnds::default();
        }
        self.at = to;
        self.behind = behind;
        let notice = interrupted.then_some(Outcome::Notice { offset: to, kind: NoticeKind::Interrupted });
        // Nearly always one thing is to be said, and goes out at once.
        if self.queue.is_empty() && notice.is_none() {
            return said;
        }
        self.queue.extend(said.into_iter().chain(notice));
        None
    }

    /// Decides about a frame and books it by what becomes of it. Notices about it are queued. `frame_on` is the frame and what follows it.
    fn book_frame(
        &mut self,
        plan: &Inner,
        mut framed: Framed,
        offset: u64,
        frame_on: &[u8],
        length: usize,
    ) -> Option<Outcome> {
        let contents = framed.contents;
        let (scan, headings) = (&mut self.scan, &mut self.headings);
        let decision = decide::decide(plan, &mut framed, frame_on, length, self.behind, scan, headings);
        let frame = &plan.frames[usize::from(framed.frame)];
        match decision {
            Decision::Record { kind, extent, notice, check } => {
                if frame.open.is_some() {
                    let behind_empty = self.ends.are_several();
                    self.origin.at_hand = AtHand { check, contents, behind_empty, ..AtHand::default() };
                }
                if plan.kinds[usize::from(kind)].staged {
                    self.held += length as u64;
                } else {
                    self.ledger.recorded += length as u64;
                    self.ledger.records[usize::from(plan.kinds[usize::from(kind)].record)] += 1;
                }
                let cells = cells_of(frame, framed.contents, frame_on, &self.scan);
                let cells = Cells { tail: extent.tail, ..cells };
                let queue = &mut self.queue;
                if let Some(kind) = notice {
                    queue.push_back(Outcome::Notice { offset, kind });
                }
                let compiled = &plan.kinds[usize::from(kind)];
                if compiled.names_columns {
                    self.headings.last = Some(offset);
                }
                self.counters.record(plan, kind, compiled, &cells, &mut |kind| {
                    queue.push_back(Outcome::Notice { offset, kind });
                });
                let (length, contents) = (length as u32, framed.contents);
                let (count, tail) = (extent.count, extent.tail as u32);
                compiled.is_heard().then_some(Outcome::Record { kind, offset, length, contents, count, tail })
            }
            Decision::Ignored { ignore } => {
                let cells = cells_of(frame, framed.contents, frame_on, &self.scan);
                let count_by = plan.ignores.get(usize::from(ignore)).and_then(|ignore| ignore.count_by.as_ref());
                let name = count_by.and_then(|field| cells.counted_by(field));
                self.ledger.ignore(length as u64, name.as_deref(), plan.limits.names);
                self.count_header(frame, framed.contents, offset, frame_on);
                None
            }
            Decision::Open { kind, check, otherwise } => {
                self.held += length as u64;
                self.origin.at_hand = AtHand { check, contents, behind_empty: self.ends.are_several(), otherwise };
                self.count_header(frame, contents, offset, frame_on);
                Some(Outcome::Record { kind, offset, length: length as u32, contents, count: 0, tail: 0 })
            }
            Decision::Reject { reason, clipped } => Some(self.reject(offset, length as u64, reason, 1, clipped)),
        }
    }

    /// Follows what counts in the header of a frame that gives no record by itself.
    fn count_header(&mut self, frame: &Frame, contents: Contents, offset: u64, frame_on: &[u8]) {
        let open = frame.open.as_ref().map(|open| open.kind);
        if let ([_, ..], Some(kind)) = (&*frame.counters, frame.kinds.first().copied().or(open)) {
            let cells = cells_of(frame, contents, frame_on, &self.scan);
            let queue = &mut self.queue;
            self.counters.without_series(kind, &frame.counters, &cells, &mut |kind| {
                queue.push_back(Outcome::Notice { offset, kind });
            });
        }
    }

    fn reject(&mut self, offset: u64, length: u64, reason: Reason, candidates: u32, clipped: bool) -> Outcome {
        if clipped {
            self.ledger.clipped += length;
            self.ledger.clips += 1;
        } else {
            self.ledger.rejected += length;
            self.ledger.rejects += 1;
        }
        Outcome::Reject { offset, length, reason, candidates, clipped }
    }

    /// When the first and the last of some bytes arrived.
    pub(super) fn times(&self, offset: u64, length: u64) -> Option<(Time, Time)> {
        Some((self.origin.marks.at(offset)?, self.origin.marks.at(offset + length.max(1) - 1)?))
    }
}

/// A frame laid out for reading, from where its contents are.
fn cells_of<'a>(frame: &Frame, contents: Contents, frame_on: &'a [u8], scan: &'a Scan) -> Cells<'a> {
    contents::cells_of(frame, contents, frame_on, &scan.decoded, &scan.columns)
}

impl Outcome {
    /// A record to be said later.
    pub(super) fn of(record: &Record<'_>) -> Outcome {
        let Record { kind, offset, contents, count, .. } = *record;
        let (length, tail) = (record.frame.len() as u32, record.cells.tail as u32);
        Outcome::Record { kind, offset, length, contents, count, tail }
    }

    fn offset(&self) -> u64 {
        match self {
            Outcome::Record { offset, .. } | Outcome::Reject { offset, .. } => *offset,
            // A notice lends no bytes.
            Outcome::Notice { .. } => u64::MAX,
        }
    }
}
