//! Records: a view on a frame through its plan.

mod kept;
mod visit;

use core::fmt;

use crate::clean::Removed;
use crate::framing::Contents;
use crate::input::LineId;
use crate::marks::Marks;
use crate::plan::{Group, Kind, NEAR, Output, Plan, ShapeUnit, Stride, What};
use crate::read::{Cells, Sent};
use crate::schema::{FieldSchema, KindSchema, Place};
use crate::time::Time;
use crate::value::{Absent, Reading};
pub(crate) use kept::{Kept, Made, Row};
pub use visit::Visit;

/// What all records of a line have in common.
#[derive(Clone, Debug)]
pub(crate) struct Origin {
    pub(crate) plan: Plan,
    pub(crate) line: LineId,
    /// When its bytes arrived.
    pub(crate) marks: Marks,
    /// Where they stood, if others were taken out.
    pub(crate) removed: Removed,
}

/// What a frame says: a kind and named fields. It is lent: its texts are the frame's own bytes.
#[derive(Clone, Copy)]
pub struct Record<'a> {
    pub(crate) origin: &'a Origin,
    /// Its layout: the number of it in the plan.
    pub(crate) kind: u16,
    /// The layout as it was compiled.
    pub(crate) compiled: &'a Kind,
    pub(crate) offset: u64,
    pub(crate) frame: &'a [u8],
    pub(crate) contents: Contents,
    pub(crate) cells: Cells<'a>,
    pub(crate) count: u32,
    /// What it was made of, if that is more than the frame.
    pub(crate) row: Option<&'a Row>,
}

impl Origin {
    pub(crate) fn new(plan: &Plan, line: LineId) -> Origin {
        Origin { plan: plan.clone(), line, marks: Marks::default(), removed: Removed::default() }
    }
}

impl Origin {
    /// Where a frame stands in its stream, with what was taken out of it: offset and length.
    fn range(&self, offset: u64, frame: &[u8]) -> (u64, u64) {
        let begin = self.removed.raw(offset);
        match (frame.len() as u64).checked_sub(1) {
            Some(to_last) => (begin, self.removed.raw(offset + to_last) + 1 - begin),
            None => (begin, 0),
        }
    }
}

impl<'a> Record<'a> {
    /// The plan that it was read by.
    pub fn plan(&self) -> &'a Plan {
        &self.origin.plan
    }

    /// Index of its kind in the schema.
    pub fn kind_index(&self) -> usize {
        usize::from(self.compiled.record)
    }

    /// Its kind: name and fields.
    pub fn schema(&self) -> &'a KindSchema {
        &self.origin.plan.0.schema.kinds[self.kind_index()]
    }

    /// Name of its kind.
    pub fn kind(&self) -> &'a str {
        &self.schema().name
    }

    /// The line that it came on.
    pub fn line(&self) -> LineId {
        self.origin.line
    }

    /// Stream offset of its first byte. With the stream, line and kind it is the record's identity.
    pub fn offset(&self) -> u64 {
        self.origin.removed.raw(self.offset)
    }

    /// Which record of its frame it is, from 0.
    pub fn item(&self) -> u32 {
        0
    }

    /// The stream ranges that it was made from, as offset and length, in the order of its parts.
    pub fn ranges(&self) -> impl ExactSizeIterator<Item = (u64, u64)> + 'a {
        let record = *self;
        (0..record.row.map_or(1, |row| row.parts.len())).map(move |part| match record.row {
            Some(row) => row.parts[part].range(),
            None => record.origin.range(record.offset, record.frame),
        })
    }

    /// The bytes of its frame, as they were sent but for what was cleaned; of the first, if it was made of several.
    pub fn frame(&self) -> &'a [u8] {
        self.frame
    }

    /// What is read of its frame: of a stuffed frame as it was before, of a text without what stands around it.
    pub fn contents(&self) -> &'a [u8] {
        self.cells.bytes
    }

    fn length(&self) -> u64 {
        self.frame.len() as u64
    }

    /// When its first byte arrived, if that is known.
    pub fn received(&self) -> Option<Time> {
        self.origin.marks.at(self.offset)
    }

    /// When its last byte arrived, if that is known.
    pub fn completed(&self) -> Option<Time> {
        match self.row {
            Some(row) => row.parts.iter().map(Kept::completed).max().flatten(),
            None => self.origin.marks.at(self.offset + self.length().max(1) - 1),
        }
    }

    /// Its fields in the order of the schema.
    pub fn fields(&self) -> impl ExactSizeIterator<Item = (&'a FieldSchema, Cell<'a>)> + use<'a> {
        let record = *self;
        record.compiled.outputs.iter().map(move |output| (&*output.schema, record.cell(output)))
    }

    /// Shows each field to a visitor, in the order of the schema. The fastest way to read all of them.
    #[inline]
    pub fn visit<V: Visit>(&self, visitor: &mut V) {
        if self.row.is_some() {
            return self.visit_row(visitor);
        }
        // Two ways, each of its own, since each keeps what it works with in registers.
        if self.is_in_bytes() { self.visit_packet(visitor) } else { self.visit_columns(visitor) }
    }

    #[inline(never)]
    fn visit_packet<V: Visit>(&self, visitor: &mut V) {
        let Kind { outputs, near, .. } = self.compiled;
        let padded: visit::Front;
        let front = match self.cells.wide.first_chunk::<{ NEAR + 8 }>() {
            _ if !near => None,
            None if self.cells.bytes.len() <= NEAR => {
                padded = visit::padded(self.cells.bytes);
                Some(&padded)
            }
            front => front,
        };
        let mut outputs = &**outputs;
        loop {
            outputs = match front {
                Some(front) => visit::plain_in_front(outputs, front, visitor),
                None => visit::plain_anywhere(outputs, &self.cells, 0, visitor),
            };
            let [output, others @ ..] = outputs else { return };
            match &output.what {
                What::Integer | What::Bit | What::Tested(_) => visit::bytes(output, &self.cells, 0, visitor),
                _ => self.show_long(output, visitor),
            }
            outputs = others;
        }
    }

    #[inline(never)]
    fn visit_columns<V: Visit>(&self, visitor: &mut V) {
        let mut outputs = &*self.compiled.outputs;
        while let [output, others @ ..] = visit::columns(outputs, &self.cells, 0, visitor) {
            self.show_long(output, visitor);
            outputs = others;
        }
    }

    #[inline(never)]
    fn visit_row<V: Visit>(&self, visitor: &mut V) {
        for output in &self.compiled.outputs {
            self.show_long(output, visitor);
        }
    }

    /// Shows a field by the long way, or a group. Apart, so that the short ways have the registers to themselves.
    #[inline(never)]
    fn show_long<V: Visit>(&self, output: &'a Output, visitor: &mut V) {
        match self.cell(output) {
            Cell::Group(items) => visitor.group(&output.schema, items),
            Cell::Reading(reading) => visitor.reading(&output.schema, reading),
        }
    }

    /// The field at that place of the schema; nothing if there is none, or it is a group.
    pub fn field(&self, index: usize) -> Option<Reading<'a>> {
        match self.cell(self.compiled.outputs.get(index)?) {
            Cell::Reading(reading) => Some(reading),
            Cell::Group(_) => None,
        }
    }

    /// What was sent for the field at that place of the schema; nothing if it is a group, or its place is not in the frame.
    pub fn sent(&self, index: usize) -> Option<Sent<'a>> {
        let output = self.compiled.outputs.get(index)?;
        match &output.what {
            What::Part(part, of) => self.part(*part)?.cells.sent(of, 0),
            _ => self.cells.sent(output, 0),
        }
    }

    /// The field at a place that was found before; nothing if the record is of another kind, or it is a group.
    pub fn at(&self, place: Place) -> Option<Reading<'a>> {
        if place.kind == self.kind_index() { self.field(place.field) } else { None }
    }

    /// The field of that name; nothing if the kind has none, or it is a group.
    pub fn get(&self, name: &str) -> Option<Reading<'a>> {
        self.field(self.schema().field(name)?)
    }

    /// The items of the group of that name; nothing if there is none, or it is a field.
    pub fn group(&self, name: &str) -> Option<Items<'a>> {
        self.group_at(self.schema().field(name)?)
    }

    /// The items of the group at that place of the schema; nothing if there is none, or it is a field.
    pub fn group_at(&self, index: usize) -> Option<Items<'a>> {
        match self.cell(self.compiled.outputs.get(index)?) {
            Cell::Group(items) => Some(items),
            Cell::Reading(_) => None,
        }
    }

    fn cell(&self, output: &'a Output) -> Cell<'a> {
        match &output.what {
            What::Group(group) => Cell::Group(self.items(group)),
            What::Part(part, of) => match self.part(*part) {
                Some(part) => part.cell(of),
                None => Cell::Reading(Reading::absent(Absent::NotSent)),
            },
            What::Made(index) => {
                let made = self.row.and_then(|row| row.made.get(usize::from(*index)));
                Cell::Reading(made.map_or(Reading::absent(Absent::NotSent), Made::reading))
            }
            _ => Cell::Reading(self.cells.output(output, 0)),
        }
    }

    /// One of the frames that it is made of.
    fn part(&self, part: u16) -> Option<Record<'a>> {
        match self.row {
            Some(row) => row.parts.get(usize::from(part)).map(Kept::record),
            None => (part == 0).then_some(*self),
        }
    }

    fn items(&self, group: &'a Group) -> Items<'a> {
        Items::of(group, self.cells, 0, self.count as usize, self.is_in_bytes())
    }

    /// Whether it is read as bytes.
    #[inline(always)]
    fn is_in_bytes(&self) -> bool {
        matches!(self.compiled.shape.unit, ShapeUnit::Bytes | ShapeUnit::Parts)
    }
}

impl fmt::Debug for Record<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} at {}: ", self.kind(), self.offset())?;
        f.debug_map().entries(self.fields().map(|(schema, cell)| (&schema.name, cell))).finish()
    }
}

/// A field of a record: one reading, or the items of a group.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub enum Cell<'a> {
    /// One reading.
    Reading(Reading<'a>),
    /// A list of items.
    Group(Items<'a>),
}

/// The items of a group.
#[derive(Clone, Copy)]
pub struct Items<'a> {
    outputs: &'a [Output],
    cells: Cells<'a>,
    step: Stride,
    /// Where the next one is.
    at: usize,
    /// How many are left, and which one comes next.
    left: usize,
    next: usize,
    /// Whether they are read as bytes.
    in_bytes: bool,
}

impl<'a> Items<'a> {
    /// The items of a group that is in a record or an item at `base`.
    pub(crate) fn of(group: &'a Group, cells: Cells<'a>, base: usize, count: usize, in_bytes: bool) -> Items<'a> {
        let (at, left) = cells.items(group, base, count);
        Items { outputs: &group.outputs, cells, step: group.step, at, left, next: 0, in_bytes }
    }

    /// Shows the fields of all items to a visitor, item after item. The fastest way to read all of them.
    #[inline]
    pub fn visit<V: Visit>(&self, visitor: &mut V) {
        if self.in_bytes { self.visit_packet(visitor) } else { self.visit_columns(visitor) }
    }

    #[inline(never)]
    fn visit_packet<V: Visit>(&self, visitor: &mut V) {
        let Items { outputs, cells, at, left, next, .. } = self;
        let Stride::Even(size) = self.step else { return self.visit_uneven(visitor) };
        // Only the place changes from item to item.
        for index in 0..*left {
            visitor.begin_item(next + index);
            visit::item_of_packet(outputs, cells, at + index * size, visitor);
            visitor.end_item();
        }
    }

    #[inline(never)]
    fn visit_columns<V: Visit>(&self, visitor: &mut V) {
        let Items { outputs, cells, at, left, next, .. } = self;
        let Stride::Even(size) = self.step else { return self.visit_uneven(visitor) };
        for index in 0..*left {
            visitor.begin_item(next + index);
            visit::item_of_text(outputs, cells, at + index * size, visitor);
            visitor.end_item();
        }
    }

    #[inline(never)]
    fn visit_uneven<V: Visit>(&self, visitor: &mut V) {
        let first = self.next;
        for (index, item) in self.enumerate() {
            visitor.begin_item(first + index);
            item.visit(visitor);
            visitor.end_item();
        }
    }
}

/// The outputs of an item.
#[inline]
fn outputs_of(step: Stride, outputs: &[Output], index: usize) -> &[Output] {
    match step {
        Stride::Spread => outputs.get(index..index + 1).unwrap_or_default(),
        Stride::Even(_) | Stride::Rows => outputs,
    }
}

impl<'a> Iterator for Items<'a> {
    type Item = Item<'a>;

    fn next(&mut self) -> Option<Item<'a>> {
        self.left = self.left.checked_sub(1)?;
        let (base, index) = (self.at, self.next);
        self.at = self.cells.next_item(self.step, base);
        self.next += 1;
        let outputs = outputs_of(self.step, self.outputs, index);
        Some(Item { outputs, cells: self.cells, base, in_bytes: self.in_bytes })
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        (self.left, Some(self.left))
    }

    #[inline]
    fn fold<B, F: FnMut(B, Item<'a>) -> B>(self, first: B, mut f: F) -> B {
        let Items { outputs, cells, at, left, in_bytes, .. } = self;
        if let Stride::Even(size) = self.step {
            return (0..left)
                .fold(first, |folded, index| f(folded, Item { outputs, cells, base: at + index * size, in_bytes }));
        }
        let mut folded = first;
        for item in self {
            folded = f(folded, item);
        }
        folded
    }
}

impl ExactSizeIterator for Items<'_> {}

impl fmt::Debug for Items<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(*self).finish()
    }
}

/// One item of a group.
#[derive(Clone, Copy)]
pub struct Item<'a> {
    outputs: &'a [Output],
    cells: Cells<'a>,
    base: usize,
    in_bytes: bool,
}

impl<'a> Item<'a> {
    /// What was sent for the field at that place of the schema; nothing if it is a group, or its place is not in the frame.
    pub fn sent(&self, index: usize) -> Option<Sent<'a>> {
        self.cells.sent(self.outputs.get(index)?, self.base)
    }

    /// Its fields in the order of the schema.
    pub fn fields(&self) -> impl ExactSizeIterator<Item = (&'a FieldSchema, Cell<'a>)> + use<'a> {
        let item = *self;
        self.outputs.iter().map(move |output| (&*output.schema, item.cell(output)))
    }

    fn cell(&self, output: &'a Output) -> Cell<'a> {
        match &output.what {
            What::Group(group) => Cell::Group(Items::of(group, self.cells, self.base, 0, self.in_bytes)),
            _ => Cell::Reading(self.cells.output(output, self.base)),
        }
    }

    /// Shows each field to a visitor, in the order of the schema.
    #[inline]
    pub fn visit<V: Visit>(&self, visitor: &mut V) {
        let Item { outputs, cells, base, in_bytes } = self;
        if *in_bytes {
            visit::item_of_packet(outputs, cells, *base, visitor);
        } else {
            visit::item_of_text(outputs, cells, *base, visitor);
        }
    }

    /// The field at that place of the schema; nothing if there is none, or it is a group.
    pub fn field(&self, index: usize) -> Option<Reading<'a>> {
        match self.cell(self.outputs.get(index)?) {
            Cell::Reading(reading) => Some(reading),
            Cell::Group(_) => None,
        }
    }

    /// The field of that name; nothing if there is none, or it is a group.
    pub fn get(&self, name: &str) -> Option<Reading<'a>> {
        self.field(self.outputs.iter().position(|output| output.schema.name == name)?)
    }

    /// The items of the group at that place of the schema; nothing if there is none, or it is a field.
    pub fn group_at(&self, index: usize) -> Option<Items<'a>> {
        match self.cell(self.outputs.get(index)?) {
            Cell::Group(items) => Some(items),
            Cell::Reading(_) => None,
        }
    }

    /// The items of the group of that name; nothing if there is none, or it is a field.
    pub fn group(&self, name: &str) -> Option<Items<'a>> {
        self.group_at(self.outputs.iter().position(|output| output.schema.name == name)?)
    }
}

impl fmt::Debug for Item<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_map().entries(self.fields().map(|(schema, cell)| (&schema.name, cell))).finish()
    }
}
