//! Records: a view on a frame through its plan.

mod kept;
mod row;
mod visit;

use alloc::vec::{self, Vec};
use core::fmt;

use crate::clean::Removed;
use crate::framing::{CheckState, Contents};
use crate::input::LineId;
use crate::marks::Marks;
use crate::plan::{Group, Kind, NEAR, Output, Plan, ShapeUnit, Standing, Stride, What};
use crate::read::{Cells, Sent};
use crate::reason::Reason;
use crate::schema::{FieldSchema, KindSchema, Place};
use crate::stage::{ABSENT, PIECED};
use crate::time::Time;
use crate::value::{Absent, Quality, Reading, Value};
pub(crate) use kept::{Kept, Spent};
pub(crate) use row::{Made, Of, Row};
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
    /// What is known of the frame at hand, if stages look at it first.
    pub(crate) at_hand: AtHand,
}

/// What is known of a frame that stages look at first.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct AtHand {
    pub(crate) check: CheckState,
    /// Its contents as its framing gave them.
    pub(crate) contents: Contents,
    /// Whether an empty line stands before it.
    pub(crate) behind_empty: bool,
    /// What becomes of it if no stage takes it, and no record has claimed it.
    pub(crate) otherwise: Otherwise,
}

/// What becomes of a frame that nothing claims.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Otherwise {
    /// It is ignored, by that one.
    Ignored(u16),
    Rejected {
        reason: Reason,
        clipped: bool,
    },
}

impl Default for AtHand {
    fn default() -> AtHand {
        let otherwise = Otherwise::Rejected { reason: Reason::NoStart, clipped: false };
        AtHand { check: CheckState::Undeclared, contents: Contents::Lie(0, 0), behind_empty: false, otherwise }
    }
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
        Origin {
            plan: plan.clone(),
            line,
            marks: Marks::default(),
            removed: Removed::default(),
            at_hand: AtHand::default(),
        }
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
        let mut ranges = Vec::new();
        if let Some(row) = self.row {
            row.frames(&mut |kept| ranges.push(kept.range()));
            if ranges.is_empty() {
                row.copies(&mut |kept| ranges.push(kept.range()));
            }
        }
        let own = self.row.is_none().then(|| self.origin.range(self.offset, self.frame));
        Ranges { own, others: ranges.into_iter() }
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
            Some(row) => row.completed(),
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
            What::Of(standing) => {
                let (record, place) = self.standing(standing)?;
                record.sent(place)
            }
            What::Point { point, .. } if self.point_stands(*point) == ABSENT => None,
            What::Point { output, .. } => {
                let (record, place) = self.standing(&[Standing { slot: 0, output: *output }])?;
                record.sent(place)
            }
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
            What::Of(standing) => match self.standing(standing) {
                Some((record, place)) => record.cell_at(place),
                None if output.schema.items.is_empty() => Cell::Reading(Reading::absent(Absent::NotSent)),
                None => Cell::Group(Items::none(self.cells)),
            },
            What::Point { output: of, point } => self.point(output, *of, *point),
            What::Parts(slot) => Cell::Group(Items {
                rest: self.row.map(|row| Rest::Rows(row.rows(), *slot)),
                ..Items::none(self.cells)
            }),
            What::Joined(of) => Cell::Group(Items {
                rest: self.row.map(|row| Rest::Groups(row.rows(), *of)),
                ..Items::none(self.cells)
            }),
            What::Made(index) => {
                let made = self.row.and_then(|row| row.made.get(usize::from(*index)));
                Cell::Reading(made.map_or(Reading::absent(Absent::NotSent), Made::reading))
            }
            _ => Cell::Reading(self.cells.output(output, 0)),
        }
    }

    /// How a point stands in it, as a stage said.
    fn point_stands(&self, point: u16) -> u8 {
        match self.row.and_then(|row| row.made.first()) {
            Some(Made::Text(stands)) => stands.get(usize::from(point)).copied().unwrap_or(ABSENT),
            _ => ABSENT,
        }
    }

    /// A field of what stands in slot 0, if a stage says that the point has a value.
    fn point(&self, output: &Output, of: u16, point: u16) -> Cell<'a> {
        let (standing, stands) = (Standing { slot: 0, output: of }, self.point_stands(point));
        match self.standing(&[standing]).filter(|_| stands != ABSENT) {
            Some((record, place)) => match record.cell_at(place) {
                Cell::Reading(Reading { value, quality: Quality::Good })
                    if stands == PIECED && !matches!(value, Value::Absent(_)) =>
                {
                    Cell::Reading(Reading { value, quality: Quality::Pieced })
                }
                cell => cell,
            },
            None if output.schema.items.is_empty() => Cell::Reading(Reading::absent(Absent::NotSent)),
            None => Cell::Group(Items::none(self.cells)),
        }
    }

    fn cell_at(&self, place: usize) -> Cell<'a> {
        match self.compiled.outputs.get(place) {
            Some(output) => self.cell(output),
            None => Cell::Reading(Reading::absent(Absent::NotSent)),
        }
    }

    /// What stands in the first of some places where there is a value, or else in the first that is there.
    fn standing(&self, of: &[Standing]) -> Option<(Record<'a>, usize)> {
        let row = self.row?;
        let mut found = None;
        for standing in of {
            let Some(record) = row.in_place(standing.slot).and_then(Row::record) else { continue };
            let place = usize::from(standing.output);
            let is_absent = match of {
                [_] => false,
                _ => record.field(place).is_some_and(|reading| matches!(reading.value, Value::Absent(_))),
            };
            if !is_absent {
                return Some((record, place));
            }
            found = found.or(Some((record, place)));
        }
        found
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

/// The stream ranges of a record.
struct Ranges {
    own: Option<(u64, u64)>,
    others: vec::IntoIter<(u64, u64)>,
}

impl Iterator for Ranges {
    type Item = (u64, u64);

    fn next(&mut self) -> Option<(u64, u64)> {
        self.own.take().or_else(|| self.others.next())
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        let left = usize::from(self.own.is_some()) + self.others.len();
        (left, Some(left))
    }
}

impl ExactSizeIterator for Ranges {}

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
    /// Items that lie in other frames, behind these.
    rest: Option<Rest<'a>>,
}

/// Where items lie in other frames.
#[derive(Clone, Copy)]
enum Rest<'a> {
    /// Each of these rows that stands in that slot is one.
    Rows(&'a [Row], u16),
    /// Each of these rows has a group there.
    Groups(&'a [Row], Standing),
}

impl<'a> Rest<'a> {
    fn len(&self) -> usize {
        match *self {
            Rest::Rows(rows, slot) => rows.iter().filter(|row| row.slot == slot).count(),
            Rest::Groups(rows, of) => {
                let group = |row: &&Row| row.record()?.group_at(usize::from(of.output)).map(|items| items.len());
                rows.iter().filter(|row| row.slot == of.slot).filter_map(|row| group(&row)).sum()
            }
        }
    }

    /// The next row, which is taken from the rest.
    fn next(&mut self) -> Option<&'a Row> {
        let (rows, slot) = match self {
            Rest::Rows(rows, slot) => (rows, *slot),
            Rest::Groups(rows, of) => (rows, of.slot),
        };
        loop {
            let (row, others) = rows.split_first()?;
            *rows = others;
            if row.slot == slot {
                return Some(row);
            }
        }
    }
}

impl<'a> Items<'a> {
    /// No items.
    fn none(cells: Cells<'a>) -> Items<'a> {
        Items { outputs: &[], cells, step: Stride::Even(0), at: 0, left: 0, next: 0, in_bytes: false, rest: None }
    }

    /// The next item of the rest.
    #[cold]
    fn next_of_rest(&mut self) -> Option<Item<'a>> {
        loop {
            let record = self.rest.as_mut()?.next()?.record()?;
            match self.rest {
                Some(Rest::Groups(_, of)) => {
                    let Some(items) = record.group_at(usize::from(of.output)) else { continue };
                    *self = Items { next: self.next, rest: self.rest, ..items };
                    if self.left > 0 {
                        return self.next();
                    }
                }
                _ => {
                    self.next += 1;
                    let outputs = &*record.compiled.outputs;
                    let in_bytes = record.is_in_bytes();
                    return Some(Item { outputs, cells: record.cells, base: 0, in_bytes, frame: Some(record.count) });
                }
            }
        }
    }

    /// The items of a group that is in a record or an item at `base`.
    pub(crate) fn of(group: &'a Group, cells: Cells<'a>, base: usize, count: usize, in_bytes: bool) -> Items<'a> {
        let (at, left) = cells.items(group, base, count);
        Items { outputs: &group.outputs, cells, step: group.step, at, left, next: 0, in_bytes, rest: None }
    }

    /// Shows the fields of all items to a visitor, item after item. The fastest way to read all of them.
    #[inline]
    pub fn visit<V: Visit>(&self, visitor: &mut V) {
        match self.rest {
            Some(_) => self.visit_uneven(visitor),
            None if self.in_bytes => self.visit_packet(visitor),
            None => self.visit_columns(visitor),
        }
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
        let Some(left) = self.left.checked_sub(1) else { return self.next_of_rest() };
        self.left = left;
        let (base, index) = (self.at, self.next);
        self.at = self.cells.next_item(self.step, base);
        self.next += 1;
        let outputs = outputs_of(self.step, self.outputs, index);
        Some(Item { outputs, cells: self.cells, base, in_bytes: self.in_bytes, frame: None })
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        let left = self.left + self.rest.map_or(0, |rest| rest.len());
        (left, Some(left))
    }

    #[inline]
    fn fold<B, F: FnMut(B, Item<'a>) -> B>(self, first: B, mut f: F) -> B {
        let Items { outputs, cells, at, left, in_bytes, .. } = self;
        if let (Stride::Even(size), None) = (self.step, self.rest) {
            let item = |index| Item { outputs, cells, base: at + index * size, in_bytes, frame: None };
            return (0..left).fold(first, |folded, index| f(folded, item(index)));
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
    /// Of an item that is a frame, how many items its group of varying length has.
    frame: Option<u32>,
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
            What::Group(group) => {
                let count = self.frame.map_or(0, |count| count as usize);
                Cell::Group(Items::of(group, self.cells, self.base, count, self.in_bytes))
            }
            _ => Cell::Reading(self.cells.output(output, self.base)),
        }
    }

    /// Shows each field to a visitor, in the order of the schema.
    #[inline]
    pub fn visit<V: Visit>(&self, visitor: &mut V) {
        let Item { outputs, cells, base, in_bytes, frame } = self;
        if frame.is_some() {
            for output in *outputs {
                match self.cell(output) {
                    Cell::Group(items) => visitor.group(&output.schema, items),
                    Cell::Reading(reading) => visitor.reading(&output.schema, reading),
                }
            }
        } else if *in_bytes {
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
