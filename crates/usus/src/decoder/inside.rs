//! Lines that lie inside of others: what a field of their records carries is joined, in order, and cut again. They speak right behind the record that
//! brought them something, whatever the input was split into.
//!
//! What is missing around them is a loss in them: of records that count, what their counter says; of others, any bytes that were rejected.

use alloc::collections::BTreeMap;
use alloc::string::String;
use alloc::vec::Vec;
use core::fmt;

use super::line::{Closing, Line};
use super::lines::Lines;
use crate::event::{Notice, NoticeKind, Reject};
use crate::framing::Behind;
use crate::input::{LineId, Loss};
use crate::plan::{Carried, Plan};
use crate::record::Record;
use crate::sink::Sink;
use crate::stage::{BEHIND_VALUE, put_series};

/// A line that is made of what records of another carry: see [`Decoder::lines_inside`](crate::Decoder::lines_inside).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LineInside<'d> {
    /// It.
    pub line: LineId,
    /// The line whose records carry it.
    pub outer: LineId,
    /// The field that carries it, as `kind.field`.
    pub field: &'d str,
    /// What the fields say that tell its series from others; empty if there are none.
    pub series: &'d str,
    /// Whether something may have begun before it.
    pub(crate) is_edge: bool,
}

impl fmt::Display for LineInside<'_> {
    /// As `kind.field`, with its series in brackets.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.series {
            "" => f.write_str(self.field),
            series => write!(f, "{}[{series}]", self.field),
        }
    }
}

/// The lines inside of others that a decoder knows.
#[derive(Clone, Debug, Default)]
pub(super) struct Insides {
    all: Vec<Inside>,
    carriers: Vec<Carrier>,
    /// Their places in `all`: by the outer line, the number of the field in the plan, and the series.
    known: BTreeMap<Vec<u8>, usize>,
    /// The one at hand; kept so that looking one up allocates nothing.
    key: Vec<u8>,
    /// Lines that have something to say, whose turn it is last first.
    speaking: Vec<usize>,
    /// Counters that jumped, with the record that follows.
    jumped: Option<Jumped>,
    /// What is to be noticed.
    noticed: Option<(LineId, u64, NoticeKind)>,
    full: bool,
    /// Room for what digits stand for.
    room: Vec<u8>,
    /// The input has ended; lines from this one on are not told yet.
    ending: Option<usize>,
}

/// What the lines have in common that the same records of one line carry.
#[derive(Clone, Debug)]
struct Carrier {
    outer: LineId,
    inside: u16,
    /// The counters of those records.
    slots: Vec<usize>,
    /// The places of lines on which bytes came since something was missing there: only those can lose anything.
    fresh: Vec<usize>,
}

#[derive(Clone, Debug)]
struct Inside {
    line: usize,
    carrier: usize,
    series: String,
    is_fresh: bool,
    /// What the first counter of the records that carry it said last, and what came with that.
    last: Option<u64>,
    piece: Vec<u8>,
}

#[derive(Clone, Debug)]
struct Jumped {
    line: LineId,
    offset: u64,
    slots: Vec<usize>,
}

impl Insides {
    /// Says that the input has ended.
    pub(super) fn end(&mut self) {
        self.ending = Some(0);
    }

    /// All of them, in the order of their lines.
    pub(super) fn all<'d>(&'d self, plan: &'d Plan) -> impl Iterator<Item = LineInside<'d>> {
        let told = |inside: &'d Inside| {
            let Carrier { outer, inside: number, .. } = *self.carriers.get(inside.carrier)?;
            let field = plan.0.insides.get(usize::from(number))?.name.as_str();
            Some(LineInside { line: LineId(inside.line as u32), outer, field, series: &inside.series, is_edge: false })
        };
        self.all.iter().filter_map(told)
    }

    /// The number of what such records carry.
    fn carrier(&mut self, outer: LineId, inside: u16, slots: impl Iterator<Item = usize>) -> usize {
        let slots: Vec<usize> = slots.collect();
        let is_it = |known: &Carrier| (known.outer, known.inside) == (outer, inside) && known.slots == slots;
        self.carriers.iter().position(is_it).unwrap_or_else(|| {
            self.carriers.push(Carrier { outer, inside, slots: slots.clone(), fresh: Vec::new() });
            self.carriers.len() - 1
        })
    }

    /// Puts together the key of what a record carries.
    fn name(&mut self, record: &Record<'_>, carried: &Carried) {
        self.key.clear();
        self.key.extend(record.line().0.to_be_bytes());
        self.key.extend(carried.inside.to_be_bytes());
        put_series(&record.compiled.series, &record.cells, &mut self.key);
    }
}

/// Where the series begins in a key: behind the outer line and the number of the field.
const SERIES: usize = 6;

/// Takes what lines say, puts what they carry on lines of their own, and gives all of it to a sink.
pub(super) struct Unpacking<'a, S> {
    pub(super) plan: &'a Plan,
    pub(super) lines: &'a mut Lines,
    pub(super) insides: &'a mut Insides,
    /// What lies before the first byte of the line that speaks.
    pub(super) begun: Behind,
    pub(super) sink: &'a mut S,
}

impl<S: Sink> Unpacking<'_, S> {
    /// Says all that a line has to say.
    pub(super) fn say_line(&mut self, index: usize) -> Result<(), S::Error> {
        let Some(mut line) = self.lines.take(index) else { return Ok(()) };
        let plan = self.plan;
        let around = core::mem::replace(&mut self.begun, line.begun_behind);
        let result = line.say_all(plan, self);
        self.begun = around;
        self.lines.put(index, line);
        result
    }

    /// Says what lines inside have to say, beside those that had something before.
    pub(super) fn say_inside(&mut self, before: usize) -> Result<(), S::Error> {
        if let Some((line, offset, kind)) = self.insides.noticed.take() {
            self.sink.notice(&Notice { plan: self.plan, line, offset, kind })?;
        }
        while let Some(index) = self.insides.speaking.get(before..).and_then(|rest| rest.last().copied()) {
            self.say_line(index)?;
            self.insides.speaking.pop();
        }
        Ok(())
    }

    /// Ends the lines inside, once the input has ended: those that lie in others behind those.
    pub(super) fn end(&mut self) -> Result<(), S::Error> {
        while let Some(from) = self.insides.ending {
            self.pass_jump();
            let inside =
                (from..self.lines.len()).find(|index| self.lines.get(*index).is_some_and(|line| line.outer.is_some()));
            self.insides.ending = inside.map(|index| index + 1);
            if let Some(index) = inside {
                if let Some(line) = self.lines.get_mut(index) {
                    line.close(Closing::End);
                }
                self.insides.speaking.push(index);
            }
            self.say_inside(0)?;
        }
        Ok(())
    }

    /// Puts what a record carries on its line.
    fn take(&mut self, record: &Record<'_>, carried: &Carried, jumped: bool) {
        let Some(place) = self.place_of(record, carried) else { return };
        let Some(inside) = self.insides.all.get_mut(place) else { return };
        let Some(line) = self.lines.get_mut(inside.line) else { return };
        let Some(bytes) = record.cells.carried(&carried.field, &mut self.insides.room) else {
            // Nobody knows what it should have been.
            if line.lose(Loss::Around) {
                self.insides.speaking.push(inside.line);
            }
            return;
        };
        let counter = record.compiled.counters.first();
        let count = counter.and_then(|counter| record.cells.count(counter));
        if jumped && count.is_some() && count == inside.last && bytes == inside.piece {
            // It was sent again under its number.
            line.pass_over(bytes.len() as u64);
            return;
        }
        if jumped {
            line.lose(Loss::Around);
        }
        if counter.is_some() {
            inside.last = count;
            inside.piece.clear();
            inside.piece.extend_from_slice(bytes);
        }
        line.push(record.completed(), bytes, &[]);
        if !core::mem::replace(&mut inside.is_fresh, true)
            && let Some(carrier) = self.insides.carriers.get_mut(inside.carrier)
        {
            carrier.fresh.push(place);
        }
        self.insides.speaking.push(inside.line);
    }

    /// The place of the line for what a record carries, a new one if need be; nothing if there are too many.
    fn place_of(&mut self, record: &Record<'_>, carried: &Carried) -> Option<usize> {
        self.insides.name(record, carried);
        if let Some(place) = self.insides.known.get(&self.insides.key) {
            return Some(*place);
        }
        if self.insides.all.len() >= self.plan.0.limits.series {
            if !core::mem::replace(&mut self.insides.full, true) {
                let kind = NoticeKind::TooManySeries { kind: record.kind };
                self.insides.noticed = Some((record.line(), record.offset(), kind));
            }
            return None;
        }
        let of = self.plan.0.insides.get(usize::from(carried.inside))?;
        let index = self.lines.len();
        let id = LineId(index as u32);
        let mut line = Line::new(self.plan, id, of.route, None, 0, self.begun);
        line.outer = Some(record.line());
        self.lines.push(line);
        let text = self.insides.key.get(SERIES..).unwrap_or_default();
        let series = String::from_utf8_lossy(text).trim_end_matches(BEHIND_VALUE).replace(BEHIND_VALUE, ",");
        let outer = record.line();
        let slots = record.compiled.counters.iter().map(|counter| counter.slot);
        let carrier = self.insides.carrier(outer, carried.inside, slots);
        self.sink.line_inside(&LineInside {
            line: id,
            outer,
            field: &of.name,
            series: &series,
            is_edge: self.begun.is_edge(),
        });
        let place = self.insides.all.len();
        self.insides.known.insert(self.insides.key.clone(), place);
        let (is_fresh, last, piece) = (false, None, Vec::new());
        self.insides.all.push(Inside { line: index, carrier, series, is_fresh, last, piece });
        Some(place)
    }

    /// Something is missing on a line: so it is on those inside of it for which that holds.
    fn lose(&mut self, outer: LineId, why: Loss, holds: impl Fn(&Carrier) -> bool) {
        let Insides { all, carriers, speaking, .. } = &mut *self.insides;
        for carrier in carriers.iter_mut().filter(|carrier| carrier.outer == outer && holds(carrier)) {
            for place in carrier.fresh.drain(..) {
                let Some(inside) = all.get_mut(place) else { continue };
                inside.is_fresh = false;
                if self.lines.get_mut(inside.line).is_some_and(|line| line.lose(why)) {
                    speaking.push(inside.line);
                }
            }
        }
    }

    /// Deals with counters that jumped, and no record that carries anything followed.
    fn pass_jump(&mut self) {
        if let Some(Jumped { line, slots, .. }) = self.insides.jumped.take() {
            self.lose(line, Loss::Around, |carrier| carrier.slots.iter().any(|slot| slots.contains(slot)));
        }
    }

    /// Passes bytes that gave no record on, with what that means for the lines inside.
    fn nothing_came(
        &mut self,
        reject: &Reject<'_>,
        say: fn(&mut S, &Reject<'_>) -> Result<(), S::Error>,
    ) -> Result<(), S::Error> {
        let before = self.insides.speaking.len();
        self.pass_jump();
        // Where records count, the counter tells whether one of them is missing.
        self.lose(reject.line, Loss::Around, |carrier| carrier.slots.is_empty());
        say(self.sink, reject)?;
        self.say_inside(before)
    }
}

impl<S: Sink> Sink for Unpacking<'_, S> {
    type Error = S::Error;

    fn record(&mut self, record: &Record<'_>) -> Result<(), S::Error> {
        let before = self.insides.speaking.len();
        let here = (record.line(), record.offset());
        let jumped = self.insides.jumped.as_ref().is_some_and(|jumped| (jumped.line, jumped.offset) == here);
        if jumped && !record.compiled.carries.is_empty() {
            // Those that others carry with the same counter have lost something, too.
            let slots = self.insides.jumped.take().map(|jumped| jumped.slots).unwrap_or_default();
            let own: Vec<u16> = record.compiled.carries.iter().map(|carried| carried.inside).collect();
            let shares = |carrier: &Carrier| carrier.slots.iter().any(|slot| slots.contains(slot));
            self.lose(record.line(), Loss::Around, |carrier| !own.contains(&carrier.inside) && shares(carrier));
        } else {
            self.pass_jump();
        }
        for carried in &record.compiled.carries {
            self.take(record, carried, jumped);
        }
        if let Some(spoken) = self.insides.speaking.get_mut(before..) {
            spoken.reverse();
        }
        if record.compiled.wanted || record.compiled.staged {
            self.sink.record(record)?;
        }
        self.say_inside(before)
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), S::Error> {
        self.nothing_came(reject, S::reject)
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), S::Error> {
        self.nothing_came(clipped, S::clipped)
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), S::Error> {
        let before = self.insides.speaking.len();
        match notice.kind {
            NoticeKind::CounterJump { kind, counter, .. } => {
                let kind = self.plan.0.kinds.get(usize::from(kind));
                let slot = kind.and_then(|kind| kind.counters.get(usize::from(counter))).map(|counter| counter.slot);
                let here = (notice.line, notice.offset);
                if self.insides.jumped.as_ref().is_some_and(|jumped| (jumped.line, jumped.offset) != here) {
                    self.pass_jump();
                }
                let (line, offset) = here;
                let jumped = self.insides.jumped.get_or_insert(Jumped { line, offset, slots: Vec::new() });
                jumped.slots.extend(slot);
            }
            NoticeKind::Loss(why) => {
                self.pass_jump();
                self.lose(notice.line, why, |_| true);
            }
            _ => {}
        }
        self.sink.notice(notice)?;
        self.say_inside(before)
    }
}
