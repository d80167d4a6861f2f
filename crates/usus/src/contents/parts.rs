//! Layouts that are walked through part by part: where each part of a record is, and each item of its groups.

use crate::claim::operand;
use crate::expression::{Expression, Operand};
use crate::framing::Columns;
use crate::plan::{
    Addressed, Asked, GroupItems, ItemSize, Level, Many, NESTING, Named, PartExtent, PartThere, Parts, RowPart,
    place_of,
};
use crate::read::Cells;
use crate::reason::Reason;
use crate::value::{Decimal, Quality};

/// Writes down where the parts of a record are. `back` bytes at the end of its contents are not theirs.
pub(crate) fn walk(kind: u16, parts: &Parts, bytes: &[u8], back: usize, columns: &mut Columns) -> Result<(), Reason> {
    columns.clear();
    let end = bytes.len().checked_sub(back).filter(|_| bytes.len() <= usize::from(u16::MAX));
    let end = end.ok_or(Reason::TooManyParts { kind })?;
    let mut walk = Walk { kind, parts, bytes, columns, rows: [0; NESTING] };
    let row = walk.begin_row(&parts.level)?;
    let behind = walk.level(&parts.level, row, 0, 0, end, ItemSize::OfParts)?;
    if behind < end {
        return Err(Reason::BytesLeft { kind, count: (end - behind) as u32 });
    }
    Ok(())
}

struct Walk<'w> {
    kind: u16,
    parts: &'w Parts,
    bytes: &'w [u8],
    columns: &'w mut Columns,
    /// The rows of the item at hand and of those around it.
    rows: [usize; NESTING],
}

impl Walk<'_> {
    /// Makes room for the row of an item. Nothing is in it yet.
    fn begin_row(&mut self, level: &Level) -> Result<usize, Reason> {
        self.columns.add_row(level.row()).ok_or(Reason::TooManyParts { kind: self.kind })
    }

    /// Lays out the parts of the record or of an item. Returns where it ends.
    fn level(
        &mut self,
        level: &Level,
        row: usize,
        depth: usize,
        begun: usize,
        mut end: usize,
        size: ItemSize,
    ) -> Result<usize, Reason> {
        self.rows[depth] = row;
        let mut at = begun;
        let kind = self.kind;
        let cut_off = |part: &RowPart| Reason::PartCutOff { kind, part: part.number };
        let cut_off_by = |size: usize| Reason::ItemSize { kind, size: size as u32 };
        let mut told = None;
        if let ItemSize::Fixed(size) = size {
            told = Some(begun + size);
            end = begun.checked_add(size).filter(|own| *own <= end).ok_or(cut_off_by(size))?;
        }
        for (index, part) in level.parts.iter().enumerate() {
            let place = row + place_of(index);
            let fits = |from: usize, size: usize| {
                from.checked_add(size).filter(|behind| *behind <= end).ok_or(match told {
                    Some(_) => cut_off_by(end - begun),
                    None => cut_off(part),
                })
            };
            if let PartExtent::Addressed(addressed) = &part.extent {
                let found = self.addressed(addressed, row);
                self.write(place, found);
                continue;
            }
            if !self.is_there(part, at, end) {
                self.write(place, None);
                continue;
            }
            let (here, next) = match &part.extent {
                PartExtent::Fixed(size) => {
                    let behind = fits(at, *size)?;
                    (Some((at, behind)), behind)
                }
                PartExtent::Told(asked) => {
                    let size = self.told(*asked).ok_or(Reason::PartSize { kind: self.kind, part: part.number })?;
                    let behind = fits(at, size)?;
                    (Some((at, behind)), behind)
                }
                PartExtent::Until(pattern) => {
                    let found = self.bytes.get(at..end).and_then(|bytes| pattern.find(bytes));
                    let length = found.ok_or(Reason::PartNoEnd { kind: self.kind, part: part.number })?;
                    (Some((at, at + length)), at + length + pattern.length())
                }
                PartExtent::Rest { behind } | PartExtent::Run { behind } => {
                    let stop = end.checked_sub(*behind).filter(|stop| *stop >= at).ok_or(cut_off(part))?;
                    (Some((at, stop)), stop)
                }
                PartExtent::Group(items) => {
                    let next = self.group(part, items, place, depth, at, end)?;
                    // A group of this item may have been deeper inside.
                    self.rows[depth] = row;
                    (None, next)
                }
                PartExtent::Addressed(_) => (None, at),
            };
            if !matches!(part.extent, PartExtent::Group(_)) {
                self.write(place, here);
            }
            at = next;
            if let (ItemSize::Told(asked), 0) = (size, index) {
                let size = self.told(asked).ok_or(Reason::ItemSize { kind: self.kind, size: u32::MAX })?;
                end = begun.checked_add(size).filter(|own| (at..=end).contains(own)).ok_or(cut_off_by(size))?;
                told = Some(end);
            }
        }
        Ok(told.unwrap_or(at))
    }

    /// Lays out the items of a group. Returns where they end.
    fn group(
        &mut self,
        part: &RowPart,
        items: &GroupItems,
        place: usize,
        depth: usize,
        begun: usize,
        end: usize,
    ) -> Result<usize, Reason> {
        let (kind, number) = (self.kind, part.number);
        let cut_off = Reason::PartCutOff { kind, part: number };
        let (wanted, end) = match &items.many {
            Many::Fixed(count) => (Some(*count), end),
            Many::Told(asked) => (Some(self.told(*asked).ok_or(Reason::PartSize { kind, part: number })?), end),
            Many::Rest { behind } => (None, end.checked_sub(*behind).ok_or(cut_off)?),
            Many::Until(_) => (None, end),
        };
        let (mut at, mut count, mut first, mut last) = (begun, 0usize, begun, None);
        loop {
            let goes_on = match (&items.many, wanted) {
                (Many::Until(pattern), _) => {
                    let rest = self.bytes.get(at..end).unwrap_or_default();
                    if let Some(length) = Some(pattern.length()).filter(|_| pattern.begins(rest)) {
                        at += length;
                        false
                    } else if rest.is_empty() {
                        return Err(Reason::PartNoEnd { kind, part: number });
                    } else {
                        true
                    }
                }
                (_, Some(wanted)) => count < wanted,
                _ => at < end,
            };
            if !goes_on {
                break;
            }
            let behind = match (items.alike, wanted) {
                // All at once.
                (Some(size), Some(wanted)) => {
                    count = wanted - 1;
                    size.checked_mul(wanted).and_then(|all| at.checked_add(all)).filter(|behind| *behind <= end)
                }
                (Some(size), None) => Some(at + size).filter(|behind| *behind <= end),
                (None, _) => {
                    let row = self.begin_row(&items.level)?;
                    match last {
                        None => first = row,
                        Some(last) => self.columns.set_place(last, row),
                    }
                    last = Some(row);
                    Some(self.level(&items.level, row, depth + 1, at, end, items.size)?)
                }
            };
            let behind = behind.ok_or(cut_off)?;
            self.test(part, items, at, behind, last)?;
            if behind == at {
                return Err(Reason::EmptyItem { kind, part: number });
            }
            (at, count) = (behind, count + 1);
        }
        if count > usize::from(u16::MAX) {
            return Err(Reason::TooManyParts { kind });
        }
        self.columns.set_place(place, first);
        self.columns.set_place(place + 1, count);
        Ok(at)
    }

    /// Tests what decides in an item, of which the row is known, or in those that are alike between two places.
    #[inline]
    fn test(
        &self,
        part: &RowPart,
        items: &GroupItems,
        from: usize,
        to: usize,
        row: Option<usize>,
    ) -> Result<(), Reason> {
        if items.level.gates.is_empty() {
            return Ok(());
        }
        let cells = self.cells();
        let holds = |item: usize| {
            items.level.gates.iter().all(|gate| match &gate.equals {
                Some(constant) => cells.equals(&gate.field, item, constant),
                None => cells.reading(&gate.field, item).quality != Quality::Invalid,
            })
        };
        let all_hold = match items.alike {
            Some(size) => (from..to).step_by(size.max(1)).all(holds),
            None => row.is_none_or(holds),
        };
        if all_hold { Ok(()) } else { Err(Reason::ItemField { kind: self.kind, part: part.number }) }
    }

    fn cells(&self) -> Cells<'_> {
        Cells { bytes: self.bytes, wide: self.bytes, columns: &*self.columns, tail: 0 }
    }

    /// Notes where a part is, or that it is not.
    fn write(&mut self, place: usize, part: Option<(usize, usize)>) {
        let (begin, end) = part.unwrap_or((1, 0));
        self.columns.set_place(place, begin);
        self.columns.set_place(place + 1, end);
    }

    /// The number that a field says.
    fn told(&self, asked: usize) -> Option<usize> {
        let Asked { field, depth } = self.parts.asked.get(asked)?;
        usize::try_from(self.cells().integer(field, self.rows[*depth])?).ok()
    }

    fn is_there(&self, part: &RowPart, at: usize, end: usize) -> bool {
        match &part.there {
            PartThere::Always => true,
            PartThere::If(condition) => self.holds(condition),
            PartThere::Room { behind } => {
                let size = if let PartExtent::Fixed(size) = part.extent { size } else { 1 };
                at + size + behind <= end
            }
        }
    }

    fn holds(&self, condition: &Expression<Named>) -> bool {
        let cells = self.cells();
        condition.test(&|name| match name {
            Named::Field(asked) => match self.parts.asked.get(usize::from(*asked)) {
                Some(Asked { field, depth }) => operand(field, &cells, self.rows[*depth]),
                None => Operand::Absent,
            },
            Named::Length => Operand::Number(Decimal::from_unsigned(self.bytes.len() as u64)),
            Named::Columns | Named::Ask(_) => Operand::Absent,
        })
    }

    /// Where the value of an address is in its run.
    fn addressed(&self, addressed: &Addressed, row: usize) -> Option<(usize, usize)> {
        let Addressed { run, first, step, address, size } = addressed;
        let run = row + place_of(*run);
        let (begin, end) = (usize::from(*self.columns.get(run)?), usize::from(*self.columns.get(run + 1)?));
        let Asked { field, depth } = self.parts.asked.get(*first)?;
        let first = u64::try_from(self.cells().integer(field, self.rows[*depth])?).ok()?;
        let before = usize::try_from(address.checked_sub(first)?).ok()?.checked_mul(*step)?;
        let from = begin.checked_add(before)?;
        from.checked_add(*size).filter(|behind| *behind <= end).map(|behind| (from, behind))
    }
}
