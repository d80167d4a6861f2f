//! Blocks: parts that follow one another on a line become one record.
//!
//! While a block is open, the parts that may come next have the first word on each line; what they do not take may be another record's, and goes on. A line that nobody
//! takes fails the block, and so does a first part out of turn, which opens a new one.

use alloc::collections::{BTreeMap, BTreeSet};
use alloc::vec::Vec;

use super::{Bench, Gap, Now, Told, is_open, is_over};
use crate::claim::operand;
use crate::expression::Operand;
use crate::format::Repeat;
use crate::input::LineId;
use crate::plan::{Block, BlockPart, Field, Required};
use crate::reason::Reason;
use crate::record::{Of, Otherwise, Row};
use crate::time::{Span, Time};
use crate::value::{Decimal, Value};

/// The block that is open on each line.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Blocks {
    open: BTreeMap<LineId, Opened>,
    /// The lines on which none has begun since the recording did, or since bytes were missing.
    fresh: BTreeSet<LineId>,
}

#[derive(Clone, Debug, Default, PartialEq)]
struct Opened {
    rows: Vec<Row>,
    /// For each part, how often it came.
    came: Vec<usize>,
    /// The part at hand, where they come in order.
    at: usize,
    /// Bytes of its frames.
    bytes: usize,
    begun: Option<Time>,
}

/// The slot of lines that only end a part.
const ENDING: u16 = u16::MAX;

impl Blocks {
    /// A line begins, and one may have begun before.
    pub(super) fn begins(&mut self, line: LineId) {
        self.fresh.insert(line);
    }

    /// Whether one has begun on a line.
    pub(super) fn has_begun(&self, line: LineId) -> bool {
        !self.fresh.contains(&line)
    }

    pub(super) fn is_idle(&self) -> bool {
        self.open.is_empty()
    }

    pub(super) fn deadline(&self, within: Span) -> Option<Time> {
        self.open.values().filter_map(|opened| opened.begun).min().map(|begun| begun.after(within))
    }

    pub(super) fn tell(&mut self, block: &Block, told: Told<'_>, bench: &mut Bench<'_>) {
        match told {
            Told::Row(row) => self.take(block, row, bench),
            Told::Time(now) => {
                let lines: Vec<LineId> = self.open.keys().copied().collect();
                lines.into_iter().for_each(|line| self.expire(block, line, now, bench));
            }
            Told::Gap(Gap { line, bytes, .. }) => {
                if bytes.is_none() {
                    self.begins(line);
                }
                if let Some(opened) = self.open.remove(&line) {
                    let kind = block.kind;
                    match bytes {
                        Some(_) => opened.end(block, Reason::PartUnknown { kind }, false, bench),
                        None => bench.reject(opened.rows, Reason::NotWhole { kind }, true),
                    }
                }
            }
            Told::End => {
                for opened in core::mem::take(&mut self.open).into_values() {
                    opened.end(block, Reason::NotWhole { kind: block.kind }, true, bench);
                }
            }
        }
    }

    /// Ends the block of a line if it has taken too long.
    fn expire(&mut self, block: &Block, line: LineId, now: Now<'_>, bench: &mut Bench<'_>) {
        if self.open.get(&line).is_some_and(|opened| is_over(opened.begun, block.within, now))
            && let Some(opened) = self.open.remove(&line)
        {
            opened.end(block, Reason::TooLate { kind: block.kind }, false, bench);
        }
    }

    fn take(&mut self, block: &Block, row: Row, bench: &mut Bench<'_>) {
        let Of::Frame(kept) = &row.of else { return bench.pass(row) };
        let (line, now, behind_empty) = (kept.origin.line, kept.completed(), kept.origin.at_hand.behind_empty);
        if let Some(now) = now {
            self.expire(block, line, Now::at(now), bench);
        }
        let mut row = row;
        if let Some(mut opened) = self.open.remove(&line) {
            if behind_empty {
                opened.end_part(block, |part| part.until_empty);
            }
            row = match opened.take(block, row, bench) {
                Taken::Open => {
                    self.open.insert(line, opened);
                    return;
                }
                Taken::Whole => return opened.end(block, Reason::PartUnknown { kind: block.kind }, false, bench),
                Taken::Not(row) => row,
            };
            row = match Opened::begin(block, row, bench) {
                Ok(anew) => {
                    opened.end(block, Reason::BeganAgain { kind: block.kind }, false, bench);
                    return self.open(block, line, anew, bench);
                }
                Err(row) => row,
            };
            // What has all of its parts ends before whatever is none of them.
            match opened.is_sufficient(block) || is_nobodys(&mut row, bench) {
                true => opened.end(block, Reason::PartUnknown { kind: block.kind }, false, bench),
                false => {
                    self.open.insert(line, opened);
                }
            }
            return bench.pass(row);
        }
        match Opened::begin(block, row, bench) {
            Ok(opened) => self.open(block, line, opened, bench),
            Err(row) => bench.pass(row),
        }
    }

    /// Keeps a block that has just begun, unless it is whole already.
    fn open(&mut self, block: &Block, line: LineId, opened: Opened, bench: &mut Bench<'_>) {
        self.fresh.remove(&line);
        match opened.is_whole(block) {
            true => opened.end(block, Reason::PartUnknown { kind: block.kind }, false, bench),
            false => {
                self.open.insert(line, opened);
            }
        }
    }
}

/// What a block makes of a frame.
enum Taken {
    /// It took it.
    Open,
    /// It took it, and that was its last, or it cannot take any more.
    Whole,
    /// It has no place for it.
    Not(Row),
}

impl Opened {
    /// Begins a block with a frame that is one of its first parts. What a record that stands before it in the file has claimed is no such.
    fn begin(block: &Block, row: Row, bench: &mut Bench<'_>) -> Result<Opened, Row> {
        let claimed = bench.plan.0.kinds.get(usize::from(row.kind)).filter(|kind| !kind.is_open);
        if claimed.is_some_and(|kind| kind.record < block.kind) {
            return Err(row);
        }
        let mut opened = Opened { came: alloc::vec![0; block.parts.len()], ..Opened::default() };
        match opened.take(block, row, bench) {
            Taken::Not(row) => Err(row),
            Taken::Open | Taken::Whole => Ok(opened),
        }
    }

    /// Takes a frame as one of the parts that may come next.
    fn take(&mut self, block: &Block, row: Row, bench: &mut Bench<'_>) -> Taken {
        let mut row = row;
        if self.ends_by(block, &row, bench) {
            self.end_part(block, |part| part.until.is_some());
            self.push(row.in_slot(ENDING), bench);
            return if self.is_whole(block) { Taken::Whole } else { Taken::Open };
        }
        for place in self.expected(block) {
            if !bench.read_as(&mut row, block.parts[place].layout) {
                continue;
            }
            self.came[place] += 1;
            self.at = match block.parts[place].repeat {
                Repeat::Any => place,
                Repeat::Once | Repeat::Optional => place + 1,
            };
            self.push(row.in_slot(place as u16), bench);
            let limits = bench.plan.0.limits;
            let is_full = self.rows.len() > limits.parts || self.bytes > limits.held;
            return if is_full || self.is_whole(block) { Taken::Whole } else { Taken::Open };
        }
        Taken::Not(row)
    }

    fn push(&mut self, row: Row, bench: &mut Bench<'_>) {
        if self.rows.is_empty() {
            self.begun = row.received();
            self.rows = bench.list();
        }
        self.bytes += row.first().map_or(0, |kept| kept.frame.len());
        self.rows.push(row);
    }

    /// The parts that may come next.
    fn expected(&self, block: &Block) -> Vec<usize> {
        let may_come = |place: usize| match block.parts[place].repeat {
            Repeat::Any => true,
            Repeat::Once | Repeat::Optional => self.came[place] == 0,
        };
        if block.any_order {
            return (0..block.parts.len()).filter(|place| may_come(*place)).collect();
        }
        let mut expected = Vec::new();
        for (place, part) in block.parts.iter().enumerate().skip(self.at) {
            if may_come(place) {
                expected.push(place);
                if part.repeat == Repeat::Once {
                    break;
                }
            }
        }
        expected
    }

    /// Whether a frame looks like what ends the part at hand.
    fn ends_by(&self, block: &Block, row: &Row, bench: &mut Bench<'_>) -> bool {
        let Of::Frame(kept) = &row.of else { return false };
        let frame = kept.of_frame().0;
        let lead = bench.plan.0.frames.get(usize::from(frame)).map_or(0, |frame| frame.lead);
        let mut forms = self.at_hand(block).filter_map(|place| block.parts[place].until.as_deref());
        forms.any(|form| bench.room.laying.forms.fit(form, kept.record().contents(), lead))
    }

    /// The parts that something may end: the one at hand; where they come in any order, those that may come again.
    fn at_hand<'b>(&self, block: &'b Block) -> impl Iterator<Item = usize> + use<'b> {
        let (at, any_order) = (self.at, block.any_order);
        block.parts.iter().enumerate().filter(move |(place, _)| any_order || *place == at).map(|(place, _)| place)
    }

    /// Ends the part at hand, if it ends so.
    fn end_part(&mut self, block: &Block, ends: impl Fn(&BlockPart) -> bool) {
        let is_at_hand = |place: &usize| ends(&block.parts[*place]);
        if let Some(place) = self.at_hand(block).find(is_at_hand) {
            self.at = match block.any_order {
                // Nothing else comes then.
                true => block.parts.len(),
                false => place + 1,
            };
        }
    }

    /// Whether all that has to be there is there.
    fn is_sufficient(&self, block: &Block) -> bool {
        let mut parts = block.parts.iter().zip(&self.came);
        parts.all(|(part, came)| part.repeat != Repeat::Once || *came > 0)
    }

    /// Whether nothing more can come.
    fn is_whole(&self, block: &Block) -> bool {
        let may_come = match block.any_order {
            true => self.at < block.parts.len() && !self.expected(block).is_empty(),
            false => self.at < block.parts.len(),
        };
        !may_come && self.is_sufficient(block)
    }

    /// Ends it: gives what came if that is all of it, or else rejects it for that reason.
    fn end(self, block: &Block, reason: Reason, clipped: bool, bench: &mut Bench<'_>) {
        let limits = bench.plan.0.limits;
        let kind = block.kind;
        if self.rows.len() > limits.parts || self.bytes > limits.held {
            return bench.reject(self.rows, Reason::TooLong { kind }, false);
        }
        if !self.is_sufficient(block) {
            return bench.reject(self.rows, reason, clipped);
        }
        let row = Row::of_rows(kind, self.rows, Vec::new());
        let holds = block.require.as_ref().is_none_or(|(require, of)| {
            require.test(&|name| of.get(usize::from(*name)).map_or(Operand::Absent, |of| asked(of, &row)))
        });
        match holds {
            true => bench.pass(row),
            false => bench.reject([row].into(), Reason::Required { kind }, false),
        }
    }
}

/// Whether no record, no ignore and no other stage takes a frame.
fn is_nobodys(row: &mut Row, bench: &mut Bench<'_>) -> bool {
    let Of::Frame(kept) = &row.of else { return false };
    let is_rejected = matches!(kept.origin.at_hand.otherwise, Otherwise::Rejected { .. });
    is_open(bench.plan, kept) && is_rejected && !bench.is_read_behind(row)
}

/// What a condition on a block sees behind a name.
fn asked<'r>(name: &'r Required, row: &'r Row) -> Operand<'r> {
    let in_slot = |slot: u16| row.rows().iter().filter(move |part| part.slot == slot);
    match name {
        Required::Field(slot, field) => match row.in_place(*slot).and_then(Row::record) {
            Some(record) => operand(field, &record.cells, 0),
            None => Operand::Absent,
        },
        Required::Count(slot) => Operand::Number(Decimal::from_unsigned(in_slot(*slot).count() as u64)),
        Required::Sum(slot, field) => {
            let number = |part: &Row| number_of(part, field);
            let sum = in_slot(*slot).map(number).try_fold(Decimal::ZERO, |sum, number| sum.plus(number?));
            sum.map_or(Operand::Absent, Operand::Number)
        }
    }
}

fn number_of(part: &Row, field: &Field) -> Option<Decimal> {
    match part.record()?.cells.reading(field, 0).value {
        Value::Decimal(number) | Value::Code { number, .. } => Some(number),
        _ => None,
    }
}
