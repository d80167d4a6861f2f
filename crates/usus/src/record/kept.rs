//! Records that outlive their window: frames that are kept, copied with what is known of them, and rows that are made of several.

use alloc::vec::Vec;

use crate::contents;
use crate::framing::{CheckState, Contents};
use crate::plan::{Inner, Plan};
use crate::read::Cells;
use crate::time::Time;
use crate::value::{Decimal, Reading, Value};

use super::{Origin, Record};

/// A frame that is kept: its bytes, and how they are laid out. It reads like any other, and pins no window.
#[derive(Clone, Debug)]
pub(crate) struct Kept {
    pub(crate) origin: Origin,
    pub(crate) kind: u16,
    pub(crate) offset: u64,
    pub(crate) frame: Vec<u8>,
    contents: Contents,
    decoded: Vec<u8>,
    columns: Vec<u16>,
    tail: usize,
    count: u32,
}

impl PartialEq for Kept {
    /// What it is follows from the frame and how it is read.
    fn eq(&self, other: &Kept) -> bool {
        (self.kind, self.origin.line, self.offset) == (other.kind, other.origin.line, other.offset)
            && self.frame == other.frame
    }
}

impl Kept {
    /// A copy of a record. What was kept before gives its room.
    pub(crate) fn of(record: &Record<'_>, spent: Option<Kept>) -> Kept {
        let Record { kind, offset, contents, cells, count, .. } = *record;
        let mut kept = spent.unwrap_or_else(|| Kept {
            origin: Origin::new(record.plan(), record.line()),
            kind,
            offset,
            frame: Vec::new(),
            contents,
            decoded: Vec::new(),
            columns: Vec::new(),
            tail: 0,
            count,
        });
        kept.origin.line = record.line();
        kept.origin.marks.clear();
        kept.origin.marks.push(offset, record.received());
        kept.origin.marks.push(offset + (record.frame.len() as u64).max(1) - 1, record.completed());
        kept.origin.removed = record.origin.removed.within(offset, offset + record.frame.len() as u64);
        (kept.kind, kept.offset, kept.contents) = (kind, offset, contents);
        (kept.tail, kept.count) = (cells.tail, count);
        kept.frame.clear();
        kept.frame.extend_from_slice(record.frame);
        kept.decoded.clear();
        if let Contents::Decoded(length) = contents {
            kept.decoded.extend(cells.wide.iter().take(length as usize));
        }
        kept.columns.clear();
        kept.columns.extend_from_slice(cells.columns);
        kept
    }

    /// Where it stands in its stream: offset and length.
    pub(super) fn range(&self) -> (u64, u64) {
        self.origin.range(self.offset, &self.frame)
    }

    /// When its last byte arrived.
    pub(crate) fn completed(&self) -> Option<Time> {
        self.record().completed()
    }

    /// It as a record.
    pub(crate) fn record(&self) -> Record<'_> {
        let plan = &self.origin.plan.0;
        let compiled = &plan.kinds[usize::from(self.kind)];
        let cells = Cells { tail: self.tail, ..self.cells(plan, compiled.frame) };
        let Kept { origin, kind, offset, frame, contents, count, .. } = self;
        let (kind, offset, contents, count) = (*kind, *offset, *contents, *count);
        Record { origin, kind, compiled, offset, frame, contents, cells, count, row: None }
    }

    fn cells(&self, plan: &Inner, frame: u16) -> Cells<'_> {
        let of = &plan.frames[usize::from(frame)];
        contents::cells_of(of, self.contents, &self.frame, &self.decoded, &self.columns)
    }

    /// Reads it as another kind of its frame. Says whether it fits that; if not, it stays what it is.
    pub(crate) fn read_as(&mut self, other: u16) -> bool {
        let plan: Plan = self.origin.plan.clone();
        let number = plan.0.kinds[usize::from(other)].frame;
        let frame = &plan.0.frames[usize::from(number)];
        // What the look of a line tells was looked for when it was claimed only, and which columns are there.
        if plan.0.kinds[usize::from(other)].form.is_some() || frame.takes_long {
            return false;
        }
        let fitted = contents::fit(&plan.0, number, frame, other, CheckState::Holds, &self.cells(&plan.0, number));
        if let Ok(extent) = fitted {
            (self.kind, self.tail, self.count) = (other, extent.tail, extent.count);
        }
        fitted.is_ok()
    }
}

/// A record as stages hand it on: the frames that it is made of, and values that a stage made.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Row {
    pub(crate) kind: u16,
    pub(crate) parts: Vec<Kept>,
    pub(crate) made: Vec<Made>,
}

impl Row {
    pub(crate) fn of(kept: Kept) -> Row {
        Row { kind: kept.kind, parts: [kept].into(), made: Vec::new() }
    }

    /// It as a record, whose identity is that of its first frame; nothing if it has none.
    pub(crate) fn record(&self) -> Option<Record<'_>> {
        let first = self.parts.first()?.record();
        let compiled = first.origin.plan.0.kinds.get(usize::from(self.kind))?;
        Some(Record { kind: self.kind, compiled, row: Some(self), ..first })
    }
}

/// A value that a stage made.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Made {
    Number(Decimal),
}

impl Made {
    pub(super) fn reading(&self) -> Reading<'_> {
        match self {
            Made::Number(number) => Reading::good(Value::Decimal(*number)),
        }
    }
}
