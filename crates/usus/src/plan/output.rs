//! What stands in a record: how each output is read, and the short ways to what most of them are.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::short::{self, Shortcut};
use super::{At, Field, Meaning, Raw, Standing, Taken, Tested, Word};
use crate::integer::Sign;
use crate::schema::FieldSchema;
use crate::value::Name;

/// What stands in a record: its schema, and how it is read.
///
/// Each is small, so that those of a record lie side by side and are gone through in one pass. They give the same readings as the
/// field that they were made from.
#[derive(Clone)]
pub(crate) struct Output {
    pub(crate) schema: Box<FieldSchema>,
    /// Whether it is nothing but what its word says. Nearly every field of a packet is, and that is told faster than what else it may be.
    pub(crate) plain: Plain,
    /// How many from this one on are numbers in columns side by side.
    pub(crate) together: u16,
    /// The raw value of a marked integer that means "no data".
    pub(crate) mark: i64,
    /// The integer, or the bit.
    pub(crate) word: Word,
    pub(crate) what: What,
}

/// What an output is that its word says alone.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Plain {
    /// More than that.
    No,
    /// An integer as it was sent, its high byte first, or its only one.
    HighFirst,
    /// The first of as many: they are shown without a loop.
    TwoHighFirst,
    ThreeHighFirst,
    FourHighFirst,
    /// An integer as it was sent, its low byte first.
    LowFirst,
    /// An integer as it was sent, its high byte first, with one value that means "no data".
    Marked,
    /// Any other integer.
    Integer,
    Bit,
    /// A column that is nothing but a number: the word's place is the column's.
    Number,
    /// Another column with a short way.
    Column,
}

/// What an output is.
#[derive(Clone)]
pub(crate) enum What {
    /// An integer of a packet of which nothing but its place and scale is declared.
    Integer,
    /// A bit of a packet.
    Bit,
    /// An integer of a packet with marks, codes or a range, too.
    Tested(Box<Tested>),
    /// A column of a text with a short way.
    Column {
        first: u32,
        way: Shortcut,
        field: Box<Field>,
    },
    Field(Box<Field>),
    Flag(Box<Field>, u8),
    Group(Box<Group>),
    /// What stands in what the record is made of: in the first of these that is there and has a value.
    Of(Box<[Standing]>),
    /// What stands in slot 0, if that point has a value: a stage tells.
    Point {
        output: u16,
        point: u16,
    },
    /// All that stands in a slot, each an item.
    Parts(u16),
    /// The items of a group of all that stands in a slot, one behind the other.
    Joined(Standing),
    /// A value that a stage made.
    Made(u16),
    /// What only another variant of the record has.
    NotThere,
}

impl Output {
    pub(crate) fn new(schema: FieldSchema, what: What, word: Option<&Word>) -> Output {
        let word = word.cloned().map(Word::high_first);
        let (plain, place, mark) = match &what {
            What::Integer => (word.as_ref().map_or(Plain::No, Word::plain), 0, 0),
            What::Bit => (Plain::Bit, 0, 0),
            What::Tested(tested) => match (tested.tests.only_mark(), word.as_ref().map(Word::plain)) {
                (Some(mark), Some(Plain::HighFirst)) => (Plain::Marked, 0, mark),
                _ => (Plain::No, 0, 0),
            },
            What::Column { first, way: Shortcut::Number, .. } => (Plain::Number, *first, 0),
            What::Column { .. } => (Plain::Column, 0, 0),
            _ => (Plain::No, 0, 0),
        };
        let (schema, word) = (Box::new(schema), word.unwrap_or(Word::byte(place)));
        Output { schema, plain, together: 0, mark, word, what }
    }

    /// Counts which numbers stand side by side, once it is known which outputs do.
    pub(crate) fn count_neighbours(outputs: &mut [Output]) {
        let mut run = 0;
        for output in outputs.iter_mut().rev() {
            run = if output.plain == Plain::HighFirst { run + 1 } else { 0 };
            output.plain = match run {
                2 => Plain::TwoHighFirst,
                3 => Plain::ThreeHighFirst,
                4.. => Plain::FourHighFirst,
                _ => output.plain,
            };
        }
        let mut behind: Option<(u32, u16)> = None;
        for output in outputs.iter_mut().rev() {
            let column = output.word.first;
            output.together = match (output.plain, behind) {
                (Plain::Number, Some((next, count))) if next == column + 1 => count.saturating_add(1),
                (Plain::Number, _) => 1,
                _ => 0,
            };
            behind = (output.together > 0).then_some((column, output.together));
        }
    }

    /// Tells each its place, once it is known which outputs there are.
    pub(crate) fn number(outputs: &mut [Output]) {
        for (place, output) in outputs.iter_mut().enumerate() {
            output.schema.place = place as u16;
            number_items(&mut output.schema);
            if let What::Group(group) = &mut output.what {
                Output::number(&mut group.outputs);
            }
        }
    }

    /// Whether a plain one is in the front of a packet.
    pub(crate) fn is_near(&self) -> bool {
        self.plain == Plain::No || (self.word.first as usize) < super::NEAR
    }

    /// The output of a group.
    pub(crate) fn of_group(schema: FieldSchema, group: Group) -> Output {
        Output::new(schema, What::Group(Box::new(group)), None)
    }

    /// The output of a field.
    pub(crate) fn of(schema: FieldSchema, field: &Field) -> Output {
        let short = short::short(field);
        let what = match (&field.word, &field.tests, short) {
            // In the row of an item, its place is no place in the frame.
            _ if matches!(field.at, At::Part { .. }) => What::Field(Box::new(field.clone())),
            (Some(_), None, _) => What::Integer,
            (Some(_), Some(tests), _) => {
                let names = match &field.meaning {
                    Meaning::Number { codes, .. } => codes.iter().map(|(_, name)| Name::new(name)).collect(),
                    _ => Box::default(),
                };
                What::Tested(Box::new(Tested { tests: (**tests).clone(), names }))
            }
            (.., Some((first, way))) => What::Column { first, way, field: Box::new(field.clone()) },
            _ => What::Field(Box::new(field.clone())),
        };
        let word = field.word.as_ref().filter(|_| !matches!(field.at, At::Part { .. }));
        Output::new(schema, what, word)
    }

    /// The output of one bit of a field.
    pub(crate) fn of_bit(schema: FieldSchema, field: &Field, bit: u8) -> Output {
        let (At::Front(first), Raw::Integer(Taken { integer, bits: None, sign: Sign::Complement })) =
            (field.at, &field.raw)
        else {
            return Output::new(schema, What::Flag(Box::new(field.clone()), bit), None);
        };
        let (rank, bytes) = (usize::from(bit / 8), usize::from(integer.bytes));
        let Some(place) = (0..bytes).find(|place| integer.order.rank(*place, bytes) == rank) else {
            return Output::new(schema, What::Flag(Box::new(field.clone()), bit), None);
        };
        let byte = first + place;
        Output::new(schema, What::Bit, Some(&Word { mask: 1 << (bit % 8), ..Word::byte(byte as u32) }))
    }
}

#[derive(Clone)]
pub(crate) struct Group {
    /// First byte or column of the first item; of a part, that is written down.
    pub(crate) first: At,
    pub(crate) step: Stride,
    /// How many items; nothing if it is the varying part, or written down.
    pub(crate) count: Option<usize>,
    pub(crate) outputs: Vec<Output>,
}

/// Tells the fields of a group's items, and those of groups in them, their places.
fn number_items(schema: &mut FieldSchema) {
    for (place, item) in schema.items.iter_mut().enumerate() {
        item.place = place as u16;
        number_items(item);
    }
}

/// Where the next item of a group is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Stride {
    /// So many bytes or columns further on.
    Even(usize),
    /// Where the row of this one says.
    Rows,
    /// All are in one place: each has an output of its own.
    Spread,
}
