//! One line being decoded: its window of bytes, what is known of their times, its position, and its account.

use alloc::collections::VecDeque;
use alloc::vec::Vec;

use super::decide::{self, Decision};
use super::{Join, Outcome};
use crate::cut::{self, Bytes, Framed, LineEdge, Rest, Scan, Step, View};
use crate::event::{Fault, FaultKind, LineId, Loss, NoticeKind};
use crate::fold::Fold;
use crate::ledger::Ledger;
use crate::marks::Marks;
use crate::plan::{Cut, Inner};
use crate::time::{Span, Time};

/// How late chunks can be where nobody says: a little more than the latency of common USB adapters.
const LATENESS: Span = Span::from_nanoseconds(20_000_000);

/// Room that is made in a window at least.
const ROOM: usize = 1 << 12;

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
}

/// Single bytes say nothing as long as the window has fewer than so many, if they come at the same time as those before, but for some.
#[derive(Clone, Copy, Debug)]
struct Quiet {
    until: usize,
    time: Option<Time>,
    stirring: Bytes,
}

impl Quiet {
    /// Every byte may say something.
    const NOT: Quiet = Quiet { until: 0, time: None, stirring: Bytes::NONE };
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
    pub(super) id: LineId,
    pub(super) route: usize,
    character: Option<Span>,
    lateness: Span,
    /// A silence that ends a text, if the format has such.
    idle: Option<Span>,
    /// Bytes from `base` on. All that is not booked is in it, and what the last event lent.
    pub(super) window: Vec<u8>,
    pub(super) base: u64,
    /// Everything before this offset is booked.
    pub(super) at: u64,
    pub(super) rest: Rest,
    pub(super) scan: Scan,
    pub(super) closings: VecDeque<(u64, Closing)>,
    /// Offsets before which the line was silent for long enough.
    pub(super) silences: VecDeque<u64>,
    pub(super) marks: Marks,
    pub(super) faults: VecDeque<(u64, FaultKind)>,
    last: Option<Time>,
    /// Nothing can be said before the window reaches this offset. 0 if that is not known.
    wake: u64,
    quiet: Quiet,
    /// What is still to be said about bytes that are booked.
    pub(super) queue: VecDeque<Outcome>,
    pub(super) ledger: Ledger,
    /// From where on bytes are not counted in the ledger's total yet.
    counted: u64,
    pub(super) fold: Fold,
    /// What was known where the part at hand began, if it is one.
    begun: Option<Begun>,
}

impl Line {
    pub(super) fn new(
        plan: &Inner,
        id: LineId,
        route: usize,
        character: Option<Span>,
        start: u64,
        edge: LineEdge,
    ) -> Line {
        let text = plan.routes[route].text.map(|frame| &plan.frames[usize::from(frame)].cut);
        let idle = if let Some(Cut::Text { idle, .. }) = text { *idle } else { None };
        Line {
            id,
            route,
            character,
            lateness: LATENESS,
            idle,
            window: Vec::new(),
            base: start,
            at: start,
            rest: Rest::at(edge),
            scan: Scan::new(&plan.routes[route], start),
            closings: VecDeque::new(),
            silences: VecDeque::new(),
            marks: Marks::default(),
            faults: VecDeque::new(),
            last: None,
            wake: 0,
            quiet: Quiet::NOT,
            queue: VecDeque::new(),
            ledger: Ledger::for_kinds(plan.kinds.len()),
            counted: start,
            fold: Fold::new(plan),
            begun: None,
        }
    }

    pub(super) fn id(&self) -> LineId {
        self.id
    }

    pub(super) fn set_lateness(&mut self, lateness: Span) {
        self.lateness = lateness;
    }

    pub(super) fn columns(&self) -> &[u16] {
        &self.scan.columns
    }

    pub(super) fn ledger(&self) -> Ledger {
        let total = self.ledger.total + (self.end() - self.counted);
        Ledger { pending: self.end() - self.at, total, ..self.ledger.clone() }
    }

    pub(super) fn join(&self) -> Join {
        Join { offset: self.at, rest: self.rest, last: self.last.filter(|_| self.idle.is_some()) }
    }

    /// Begins a part of its own.
    pub(super) fn begin_part(&mut self, plan: &Inner) {
        self.begun = Some(self.known());
        self.ledger = Ledger::for_kinds(plan.kinds.len());
        self.counted = self.end();
        self.fold = Fold::new(plan);
    }

    /// Whether this part, had it been decoded behind another, would have given the same.
    pub(super) fn would_follow(&self, plan: &Inner, before: &Line) -> bool {
        let drained = before.queue.is_empty() && before.closings.is_empty();
        drained
            && self.begun.as_ref() == Some(&before.known())
            && self.fold.would_follow(plan, &before.fold)
            && self.ledger.ignored_by_others == 0
    }

    fn known(&self) -> Begun {
        let silences = self.silences.iter().copied().filter(|silence| *silence > self.at);
        Begun { join: self.join(), faults_ahead: self.faults.clone(), silences_ahead: silences.collect() }
    }

    /// Takes over the account and the fold of what comes before.
    pub(super) fn follow(&mut self, plan: &Inner, before: &mut Line) {
        for line in [&mut *self, &mut *before] {
            line.ledger.total += line.end() - line.counted;
            line.counted = line.end();
        }
        let part = core::mem::replace(&mut self.ledger, core::mem::take(&mut before.ledger));
        self.ledger.append(&part, plan.limits.names);
        self.fold.follow(core::mem::take(&mut before.fold));
        self.begun = None;
    }

    pub(super) fn end(&self) -> u64 {
        self.base + self.window.len() as u64
    }

    /// Takes a single byte in that says nothing. Says whether it was one.
    #[inline(always)]
    pub(super) fn push_quietly(&mut self, time: Option<Time>, bytes: &[u8], faults: &[Fault]) -> bool {
        let quiet = &self.quiet;
        match *bytes {
            [byte]
                if self.window.len() < quiet.until
                    && !quiet.stirring.has(byte)
                    && faults.is_empty()
                    && time == quiet.time =>
            {
                self.window.push(byte);
                true
            }
            _ => false,
        }
    }

    /// Whether nothing is to be noted of bytes that come at that time.
    #[inline]
    pub(super) fn goes_on(&self, time: Option<Time>) -> bool {
        self.idle.is_none() && self.marks.newest() == Some(time)
    }

    /// Takes bytes in.
    #[inline(never)]
    pub(super) fn push(&mut self, time: Option<Time>, bytes: &[u8], faults: &[Fault]) {
        self.arrive(time, bytes.len(), faults);
        self.append(bytes);
    }

    /// Notes what is known of bytes that come in: their time and their faults.
    #[inline]
    pub(super) fn arrive(&mut self, time: Option<Time>, length: usize, faults: &[Fault]) {
        let start = self.end();
        if self.idle.is_some() {
            self.note_silence(start, time, length);
        }
        self.marks.push(start, time);
        if !faults.is_empty() {
            self.ledger.faults += faults.len() as u64;
            self.faults.extend(faults.iter().map(|fault| (start + fault.at.min(length) as u64, fault.kind)));
            self.wake = 0;
        }
        self.last = time.or(self.last);
    }

    /// Puts bytes into the window.
    #[inline]
    pub(super) fn append(&mut self, bytes: &[u8]) {
        if self.quiet.stirring != Bytes::NONE {
            self.scan.pass_calmly(self.end());
        }
        self.quiet = Quiet::NOT;
        if self.window.capacity() - self.window.len() < bytes.len() {
            self.make_room();
        }
        self.window.extend_from_slice(bytes);
        if self.sleeps() {
            self.keep_quiet(self.wake - 1, Bytes::NONE);
        }
    }

    /// Whether nothing can be said yet, whatever was looked at before.
    #[inline(always)]
    pub(super) fn waits(&mut self, plan: &Inner) -> bool {
        cut::may_wait(self.at, self.end(), &self.scan) && self.waits_indeed(plan)
    }

    fn waits_indeed(&mut self, plan: &Inner) -> bool {
        let (closed, silence) = (!self.closings.is_empty(), !self.silences.is_empty());
        if closed || silence || !self.queue.is_empty() || !self.faults.is_empty() {
            return false;
        }
        let route = &plan.routes[self.route];
        let bytes = &self.window[(self.at - self.base) as usize..];
        if bytes.is_empty() {
            return true;
        }
        let view = View { bytes: &self.window, base: self.base, closed: false, silence: None };
        cut::waits(plan, route, &view, self.at, self.rest, &mut self.scan)
    }

    /// Sees to it that bytes which say no more cost little. To be called when all was said.
    #[inline]
    pub(super) fn fall_asleep(&mut self, plan: &Inner) {
        if !self.sleeps() {
            let (route, end) = (&plan.routes[self.route], self.end());
            self.wake = 0;
            if let Some(calm) = cut::calm(plan, route, self.at, end, self.rest, &mut self.scan) {
                return self.keep_quiet(calm.to, calm.ends);
            }
            self.wake = cut::needs(route, self.at, self.rest, &self.scan);
        }
        if self.sleeps() {
            self.keep_quiet(self.wake - 1, Bytes::NONE);
        }
    }

    /// Single bytes before an offset, but for some, say nothing.
    #[inline]
    fn keep_quiet(&mut self, to: u64, stirring: Bytes) {
        if self.idle.is_none()
            && self.faults.is_empty()
            && let Some(time) = self.marks.newest()
        {
            let until = (to.saturating_sub(self.base) as usize).min(self.window.capacity());
            self.quiet = Quiet { until, time, stirring };
        }
    }

    /// Whether it is known, without looking, that nothing can be said yet.
    #[inline(always)]
    pub(super) fn sleeps(&self) -> bool {
        self.end() < self.wake
    }

    /// Waits for so many bytes from the position on.
    #[inline]
    pub(super) fn wait_for(&mut self, length: usize) {
        self.scan.need = self.at + length as u64;
        self.wake = self.scan.need;
    }

    /// The offset from which on bytes are open: not booked, or still to be lent.
    pub(super) fn open_from(&self) -> u64 {
        self.queue.iter().map(Outcome::offset).min().unwrap_or(self.at).min(self.at)
    }

    /// Drops what is done with from the front of the window, before it would grow: so that single bytes cost little.
    fn make_room(&mut self) {
        let keep = self.open_from();
        let done = (keep - self.base) as usize;
        if done >= self.window.len() / 2 {
            self.window.drain(..done);
            self.base = keep;
        }
        // So much that single bytes seldom come here.
        self.window.reserve(ROOM);
        self.marks.forget(keep);
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

    /// Notes a silence before an offset, but not where the line is closed: what came before a loss is not known to have ended.
    fn add_silence(&mut self, offset: u64) {
        let closed = self.closings.back().is_some_and(|(closing, _)| *closing == offset);
        if offset > self.at && !closed && self.silences.back() != Some(&offset) {
            (self.wake, self.quiet) = (0, Quiet::NOT);
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
        (self.wake, self.quiet) = (0, Quiet::NOT);
        self.closings.push_back((self.end(), closing));
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

    /// The next thing to say about bytes, or nothing until more comes in.
    pub(super) fn advance(&mut self, plan: &Inner, seen: Seen<'_>) -> Option<Outcome> {
        loop {
            if let Some(outcome) = self.queue.pop_front() {
                return Some(outcome);
            }
            let closing = self.closings.front().map(|(offset, _)| *offset);
            if closing == Some(self.at) {
                self.pass_closing();
                continue;
            }
            if self.at == seen.end() {
                return None;
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
            };
            let route = &plan.routes[self.route];
            let step = cut::step(plan, route, &view, self.at, self.rest, &mut self.scan)?;
            if let Some(outcome) = self.book(plan, step, seen) {
                return Some(outcome);
            }
        }
    }

    /// Goes to the other side of a loss, or past the end.
    fn pass_closing(&mut self) {
        if let Some((_, Closing::Loss(loss))) = self.closings.pop_front() {
            self.ledger.losses += 1;
            self.queue.push_back(Outcome::Notice { offset: self.at, kind: NoticeKind::Loss(loss) });
        }
        self.rest = Rest::at(LineEdge::Loss);
        self.scan.reset(self.at);
    }

    /// Books a piece of the line. What is to be said about it is returned, or queued if it is more than one thing.
    fn book(&mut self, plan: &Inner, step: Step, seen: Seen<'_>) -> Option<Outcome> {
        let offset = self.at;
        let (to, rest) = match step {
            Step::Filler { to, rest } | Step::Frame { to, rest, .. } | Step::Run { to, rest, .. } => (to, rest),
        };
        while let Some((fault, kind)) = self.faults.front().copied().filter(|(fault, _)| *fault < to) {
            self.queue.push_back(Outcome::Notice { offset: fault, kind: NoticeKind::Fault(kind) });
            self.faults.pop_front();
        }
        let length = to - offset;
        let mut interrupted = false;
        let said = match step {
            Step::Filler { .. } => {
                self.ledger.filler += length;
                None
            }
            Step::Run { reason, candidates, clipped, .. } => {
                Some(self.reject(offset, length, reason, candidates, clipped))
            }
            Step::Frame { frame, .. } => {
                interrupted = frame.ended == cut::Ended::Interrupted;
                self.book_frame(plan, &frame, offset, seen.bytes(offset, length))
            }
        };
        self.at = to;
        self.rest = rest;
        let behind = interrupted.then_some(Outcome::Notice { offset: to, kind: NoticeKind::Interrupted });
        // Nearly always one thing is to be said, and goes out at once.
        if self.queue.is_empty() && behind.is_none() {
            return said;
        }
        self.queue.extend(said.into_iter().chain(behind));
        None
    }

    /// Decides about a frame and books it.
    fn book_frame(&mut self, plan: &Inner, frame: &Framed, offset: u64, bytes: &[u8]) -> Option<Outcome> {
        let (edge, tried) = (self.rest.edge, self.scan.tried);
        let decision = decide::decide(plan, frame, bytes, edge, &mut self.scan.columns, &mut self.scan.choices, tried);
        self.book_decision(plan, decision, offset, bytes)
    }

    /// Books a frame by what becomes of it. Notices about it are queued.
    pub(super) fn book_decision(
        &mut self,
        plan: &Inner,
        decision: Decision<'_>,
        offset: u64,
        bytes: &[u8],
    ) -> Option<Outcome> {
        let length = bytes.len() as u64;
        match decision {
            Decision::Record { kind, content, extent, notice } => {
                self.ledger.recorded += length;
                self.ledger.records[usize::from(kind)] += 1;
                let cells = decide::cells(bytes, content, &self.scan.columns, extent);
                let queue = &mut self.queue;
                if let Some(kind) = notice {
                    queue.push_back(Outcome::Notice { offset, kind });
                }
                let compiled = &plan.kinds[usize::from(kind)];
                self.fold.record(plan, kind, compiled, &cells, &mut |kind| {
                    queue.push_back(Outcome::Notice { offset, kind });
                });
                let (length, count, tail) = (length as u32, extent.count, extent.tail as u32);
                compiled.wanted.then_some(Outcome::Record { kind, offset, length, content, count, tail })
            }
            Decision::Ignored { content, count_by } => {
                let cells = decide::cells(bytes, content, &self.scan.columns, decide::NO_EXTENT);
                let mut digits = itoa::Buffer::new();
                let name = count_by.and_then(|field| match cells.text(field, 0) {
                    Some(text) => Some(text),
                    None => cells.integer(field, 0).map(|number| digits.format(number).as_bytes()),
                });
                self.ledger.ignore(length, name, plan.limits.names);
                None
            }
            Decision::Reject { reason, clipped } => Some(self.reject(offset, length, reason, 1, clipped)),
        }
    }

    fn reject(&mut self, offset: u64, length: u64, reason: crate::Reason, candidates: u32, clipped: bool) -> Outcome {
        if clipped {
            self.ledger.clipped += length;
            self.ledger.clips += 1;
        } else {
            self.ledger.rejected += length;
            self.ledger.rejects += 1;
        }
        Outcome::Reject { offset, length, reason, candidates, clipped }
    }

    pub(super) fn marks(&self) -> &Marks {
        &self.marks
    }

    /// When the first and the last of some bytes arrived.
    pub(super) fn times(&self, offset: u64, length: u64) -> Option<(Time, Time)> {
        Some((self.marks.at(offset)?, self.marks.at(offset + length.max(1) - 1)?))
    }
}

impl Outcome {
    fn offset(&self) -> u64 {
        match self {
            Outcome::Record { offset, .. } | Outcome::Reject { offset, .. } => *offset,
            // A notice lends no bytes.
            Outcome::Notice { .. } => u64::MAX,
        }
    }
}
