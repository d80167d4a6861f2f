//! Frames that outlive their window: copied, with what is known of them.

use alloc::boxed::Box;
use alloc::vec::Vec;

use crate::contents::{self, Ask, Before, Laying, Sent, lay_out_as};
use crate::framing::Contents;
use crate::plan::{Inner, Plan};
use crate::read::Cells;
use crate::reason::Reason;
use crate::time::Time;

use super::{AtHand, Origin, Record};

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
    /// Whether its bytes are booked by what else came of them.
    pub(crate) is_copy: bool,
}

/// Room of frames that were kept before. In boxes, since they are passed on from hand to hand.
#[allow(clippy::vec_box)]
pub(crate) type Spent = Vec<Box<Kept>>;

impl PartialEq for Kept {
    /// What it is follows from the frame and how it is read.
    fn eq(&self, other: &Kept) -> bool {
        (self.kind, self.origin.line, self.offset) == (other.kind, other.origin.line, other.offset)
            && self.frame == other.frame
            // What stages let it say.
            && self.decoded == other.decoded
    }
}

impl Kept {
    /// A copy of a record. What was kept before gives its room.
    pub(crate) fn of(record: &Record<'_>, spent: Option<Box<Kept>>) -> Box<Kept> {
        let Record { kind, offset, contents, cells, count, .. } = *record;
        let mut kept = spent.unwrap_or_else(|| {
            Box::new(Kept {
                origin: Origin::new(record.plan(), record.line()),
                kind,
                offset,
                frame: Vec::new(),
                contents,
                decoded: Vec::new(),
                columns: Vec::new(),
                tail: 0,
                count,
                is_copy: false,
            })
        });
        kept.is_copy = false;
        kept.origin.line = record.line();
        kept.origin.at_hand = record.origin.at_hand;
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

    /// What is read of it.
    pub(crate) fn contents(&self) -> &[u8] {
        self.contents.of(&self.frame, &self.decoded).0
    }

    /// Where it stands in its stream: offset and length.
    pub(crate) fn range(&self) -> (u64, u64) {
        self.origin.range(self.offset, &self.frame)
    }

    /// When its first byte arrived.
    pub(crate) fn received(&self) -> Option<Time> {
        self.origin.marks.at(self.offset)
    }

    /// When its last byte arrived.
    pub(crate) fn completed(&self) -> Option<Time> {
        self.origin.marks.at(self.offset + (self.frame.len() as u64).max(1) - 1)
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

    /// A copy of a copy, which is booked elsewhere.
    pub(crate) fn again(&self, spent: Option<Box<Kept>>) -> Box<Kept> {
        let mut kept = Kept::of(&self.record(), spent);
        kept.is_copy = true;
        kept
    }

    /// The frame that it is of, and what is known of it.
    pub(crate) fn of_frame(&self) -> (u16, AtHand) {
        let frame = self.origin.plan.0.kinds.get(usize::from(self.kind)).map_or(0, |kind| kind.frame);
        (frame, self.origin.at_hand)
    }

    /// Reads it by another layout of its frame, if it fits that; if not, it stays what it is. `ask` is the question that conditions may ask.
    pub(crate) fn read_as<'a>(
        &mut self,
        layout: u16,
        ask: Ask<'_, 'a>,
        room: &mut Laying,
    ) -> Result<(), Option<Reason>> {
        let plan: Plan = self.origin.plan.clone();
        let (number, at_hand) = self.of_frame();
        let contents = at_hand.contents;
        if matches!(contents, Contents::Decoded(_)) && contents != self.contents {
            // Of what was decoded twice, what came of the first time is gone.
            return Err(None);
        }
        let sent = Sent { frame: number, contents, frame_on: &self.frame, decoded: &self.decoded };
        let (contents, extent) = lay_out_as(&plan.0, layout, &sent, at_hand.check, ask, room)?;
        room.before = Before { kind: self.kind, contents: self.contents, tail: self.tail, count: self.count };
        core::mem::swap(&mut self.columns, &mut room.columns_before);
        core::mem::swap(&mut self.decoded, &mut room.decoded_before);
        self.columns.clear();
        self.columns.extend_from_slice(&room.columns);
        core::mem::swap(&mut self.decoded, &mut room.decoded);
        (self.kind, self.contents, self.tail, self.count) = (layout, contents, extent.tail, extent.count);
        Ok(())
    }

    /// Makes it say something else than its frame does, by a layout that reads that.
    pub(crate) fn look_at(&mut self, layout: u16, said: &[u8]) {
        self.columns.clear();
        self.decoded.clear();
        self.decoded.extend_from_slice(said);
        (self.kind, self.contents) = (layout, Contents::Decoded(said.len() as u32));
        (self.tail, self.count) = (said.len(), 0);
    }

    /// Makes it what it was before it was read by another layout last.
    pub(crate) fn undo(&mut self, room: &mut Laying) {
        core::mem::swap(&mut self.columns, &mut room.columns_before);
        core::mem::swap(&mut self.decoded, &mut room.decoded_before);
        (self.kind, self.contents) = (room.before.kind, room.before.contents);
        (self.tail, self.count) = (room.before.tail, room.before.count);
    }
}
