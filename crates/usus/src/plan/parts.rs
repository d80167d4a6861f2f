//! Layouts whose places are known only with the bytes: what lies behind something of varying size, and items that are not all alike.

use alloc::boxed::Box;
use alloc::string::String;

use super::{Field, Gate, Named, Pattern};
use crate::expression::Expression;

/// The parts of a record that is walked through, one by one.
///
/// Where the parts are is written down like columns: for the record, and for each item, a *row* of places. Its first place says where the row of the next
/// item is; then come two for each part, in their order: of bytes where they begin and end, of a group where the first item is (its row, or its first
/// byte if all items are alike) and how many there are. A part that is not there ends before it begins.
#[derive(Clone)]
pub(crate) struct Parts {
    pub(crate) level: Level,
    /// What conditions, sizes and counts ask, and how many groups are around each.
    pub(crate) asked: Box<[Asked]>,
    /// The names of its parts, by their numbers.
    pub(crate) names: Box<[String]>,
}

/// A field that is asked while parts are laid out.
#[derive(Clone)]
pub(crate) struct Asked {
    pub(crate) field: Field,
    /// How many groups are around it.
    pub(crate) depth: usize,
}

/// Parts that follow one another: those of the record, or of one item.
#[derive(Clone, Default)]
pub(crate) struct Level {
    pub(crate) parts: Box<[RowPart]>,
    /// Fields of the items that decide whether the frame is taken at all.
    pub(crate) gates: Box<[Gate]>,
}

impl Level {
    /// Places in the row of an item.
    pub(crate) fn row(&self) -> usize {
        1 + 2 * self.parts.len()
    }
}

/// The place of a part in its row.
pub(crate) const fn place_of(part: usize) -> usize {
    1 + 2 * part
}

#[derive(Clone)]
pub(crate) struct RowPart {
    /// Its number in the record, for messages.
    pub(crate) number: u16,
    pub(crate) there: PartThere,
    pub(crate) extent: PartExtent,
}

/// Whether a part is there.
#[derive(Clone)]
pub(crate) enum PartThere {
    Always,
    /// If this holds.
    If(Expression<Named>),
    /// If what is left has room for it, and for so many bytes behind it.
    Room {
        behind: usize,
    },
}

/// How far a part reaches.
#[derive(Clone)]
pub(crate) enum PartExtent {
    /// So many bytes.
    Fixed(usize),
    /// As many bytes as a field says, by its place among those that are asked.
    Told(usize),
    /// Up to such bytes, which end it.
    Until(Box<Pattern>),
    /// All that is left, but for so many bytes behind it.
    Rest {
        behind: usize,
    },
    Group(Box<GroupItems>),
    /// A run of values of which each has an address, but for so many bytes behind it.
    Run {
        behind: usize,
    },
    /// The value of an address in such a run.
    Addressed(Box<Addressed>),
}

/// The items of a group.
#[derive(Clone)]
pub(crate) struct GroupItems {
    pub(crate) many: Many,
    pub(crate) size: ItemSize,
    /// The bytes of an item, if all are alike and nothing is to be written down about each.
    pub(crate) alike: Option<usize>,
    pub(crate) level: Level,
}

/// How many items there are.
#[derive(Clone)]
pub(crate) enum Many {
    Fixed(usize),
    /// As many as a field says, by its place among those that are asked.
    Told(usize),
    /// As many as fit, but for so many bytes behind them.
    Rest {
        behind: usize,
    },
    /// Up to such bytes, where an item would begin.
    Until(Box<Pattern>),
}

/// The size of an item, if its parts do not say it.
#[derive(Clone, Copy)]
pub(crate) enum ItemSize {
    OfParts,
    Fixed(usize),
    /// As a field of it says, by its place among those that are asked, once the first part is there.
    Told(usize),
}

/// A value in a run.
#[derive(Clone)]
pub(crate) struct Addressed {
    /// Which part of the level the run is.
    pub(crate) run: usize,
    /// The field with the address of the run's first value, by its place among those that are asked.
    pub(crate) first: usize,
    /// Bytes for each address.
    pub(crate) step: usize,
    pub(crate) address: u64,
    pub(crate) size: usize,
}
