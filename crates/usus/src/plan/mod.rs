//! A format compiled for running: places resolved, checksums ready, conditions bound. The plan is walked for each frame and
//! never changed.

mod columns;
mod compile;
mod doubt;
mod field;
mod header;
mod layout;
mod packet;
mod select;
mod short;
mod signature;

use alloc::boxed::Box;
use alloc::string::String;
use alloc::sync::Arc;
use alloc::vec::Vec;
use core::fmt;

use memchr::memmem::Finder;

use crate::checksum::Checksum;
use crate::claim::Choice;
use crate::expression::Expression;
use crate::format::{Integer, Limits, LineEnd, Order, Presence};
use crate::schema::{FieldSchema, Schema};
use crate::time::Span;
use crate::unit::Conversion;
use crate::value::{Decimal, Layout, Name, Quality};

pub(crate) use compile::doubts;
pub use layout::LayoutRow;
pub(crate) use short::Way;
pub(crate) use signature::{Signature, Signatures};

pub use select::{UnknownName, Wants};

/// A format, ready to decode. Clones share it.
///
/// Made by [`Format::compile`](crate::Format::compile).
#[derive(Clone)]
pub struct Plan(pub(crate) Arc<Inner>);

impl Plan {
    /// What its records can say.
    pub fn schema(&self) -> &Schema {
        &self.0.schema
    }

    /// Roles of the lines, if the format speaks of several.
    pub fn roles(&self) -> impl Iterator<Item = &str> {
        self.0.roles.iter().map(|role| role.name.as_str())
    }

    /// Whether silence matters, so that input without times cannot be decoded as declared.
    pub fn needs_times(&self) -> bool {
        self.0.frames.iter().any(|frame| matches!(frame.cut, Cut::Text { idle: Some(_), .. }))
    }

    /// Whether all its frames are texts.
    pub fn reads_text_only(&self) -> bool {
        self.0.frames.iter().all(|frame| !matches!(frame.cut, Cut::Packet(_)))
    }

    /// Whether all its frames are packets of bytes.
    pub fn reads_packets_only(&self) -> bool {
        self.0.frames.iter().all(|frame| matches!(frame.cut, Cut::Packet(_)))
    }

    /// The largest number of bytes that a decoder keeps for one line: the largest frame, or a run of rejected bytes.
    pub fn largest_window(&self) -> usize {
        let largest = self.0.routes.iter().map(|route| route.largest).max().unwrap_or(0);
        largest + crate::limits::RUN as usize
    }

    /// Where each field stands in its frame, as a table.
    pub fn layout(&self) -> &[LayoutRow] {
        &self.0.layout
    }

    /// Name of a frame by its number in a reject.
    pub(crate) fn frame_name(&self, frame: u16) -> &str {
        self.0.frames.get(usize::from(frame)).map_or("", |frame| frame.name.as_str())
    }
}

impl fmt::Debug for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Plan({})", self.0.schema.format)
    }
}

#[derive(Clone)]
pub(crate) struct Inner {
    pub(crate) schema: Schema,
    pub(crate) roles: Vec<Role>,
    pub(crate) frames: Vec<Frame>,
    pub(crate) kinds: Vec<Kind>,
    pub(crate) ignores: Vec<Ignore>,
    /// How the bytes of a line are cut: one entry for each role, or a single one.
    pub(crate) routes: Vec<Route>,
    pub(crate) limits: Limits,
    pub(crate) layout: Vec<LayoutRow>,
    /// How long a character takes, where the serial settings are known.
    pub(crate) character: Option<Span>,
}

#[derive(Clone)]
pub(crate) struct Role {
    pub(crate) name: String,
    pub(crate) character: Option<Span>,
}

/// The cuts that run on a line of one role.
#[derive(Clone)]
pub(crate) struct Route {
    /// Frames whose cut searches for a start, in the order of the file.
    pub(crate) searching: Vec<u16>,
    /// The frame whose cut takes what is left.
    pub(crate) text: Option<u16>,
    /// The largest frame there can be.
    pub(crate) largest: usize,
    /// The smallest frame that can be a record, where all frames are searched for; else 0.
    pub(crate) smallest: usize,
    /// Whether no packet begins with a byte that begins a sentence.
    pub(crate) sentences_apart: bool,
}

#[derive(Clone)]
pub(crate) struct Frame {
    pub(crate) name: String,
    pub(crate) cut: Cut,
    pub(crate) check: Option<Check>,
    pub(crate) header: Vec<HeaderField>,
    pub(crate) separator: u8,
    /// Whether anything is read by columns.
    pub(crate) has_columns: bool,
    pub(crate) kinds: Vec<u16>,
    pub(crate) ignores: Vec<u16>,
    pub(crate) key: ChoiceKey,
    /// Header fields that have one value only, by their places in `header`.
    pub(crate) constants: Vec<u16>,
    pub(crate) signatures: Option<Signatures>,
    /// Whether nothing but its header and its columns decides about its texts.
    pub(crate) is_direct: bool,
}

/// Which bytes of a frame decide what claims it. Where they are few, the choice is remembered by them.
#[derive(Clone)]
pub(crate) enum ChoiceKey {
    /// They are not known to be few.
    Unknown,
    /// None: all texts are claimed alike.
    Nothing(Choice),
    /// This byte of a packet: the choice for each of its values.
    Byte { at: usize, choices: Box<[Choice; 256]> },
    /// These bytes of a packet, at most eight.
    Bytes { from: usize, to: usize },
    /// So many characters of a text, and its first column where that is meant.
    Text { characters: usize, column: bool },
}

#[derive(Clone)]
pub(crate) enum Cut {
    Text { end: LineEnd, idle: Option<Span>, limit: usize },
    Sentence { checksum: Presence },
    Packet(Box<Packet>),
}

#[derive(Clone)]
pub(crate) struct Packet {
    pub(crate) start: Box<[u8]>,
    /// The first eight bytes of the start pattern as a word, low byte first, and a mask of those that there are.
    pub(crate) pattern: [u64; 2],
    pub(crate) finder: Finder<'static>,
    pub(crate) length: Length,
    /// Bytes that must be there before the header can be read.
    pub(crate) header: usize,
    /// The shortest and the longest frame that any record allows.
    pub(crate) shortest: usize,
    pub(crate) longest: usize,
}

impl Packet {
    /// Whether bytes begin with the start pattern.
    #[inline(always)]
    pub(crate) fn begins(&self, bytes: &[u8]) -> bool {
        match bytes.first_chunk::<8>() {
            Some(eight) if self.start.len() <= 8 => u64::from_le_bytes(*eight) & self.pattern[1] == self.pattern[0],
            _ => bytes.starts_with(&self.start),
        }
    }
}

#[derive(Clone)]
pub(crate) enum Length {
    Fixed(usize),
    Field { at: usize, integer: Integer, add: i64 },
}

#[derive(Clone)]
pub(crate) struct Check {
    pub(crate) checksum: Checksum,
    pub(crate) form: crate::format::CheckForm,
    pub(crate) at: Edge,
    pub(crate) from: Edge,
    /// The last byte covered.
    pub(crate) to: Edge,
}

/// A place in a frame counted from one of its ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Edge {
    /// Bytes from the start.
    Front(usize),
    /// Bytes before the end: 1 is the last byte.
    Back(usize),
}

impl Edge {
    pub(crate) fn of(place: i64) -> Edge {
        match place {
            0.. => Edge::Front(place as usize),
            _ => Edge::Back(place.unsigned_abs() as usize),
        }
    }

    pub(crate) fn in_frame(self, length: usize) -> Option<usize> {
        match self {
            Edge::Front(place) => (place < length).then_some(place),
            Edge::Back(place) => length.checked_sub(place),
        }
    }
}

#[derive(Clone)]
pub(crate) struct HeaderField {
    pub(crate) name: String,
    pub(crate) field: Field,
    /// The only value allowed.
    pub(crate) equals: Option<Constant>,
}

/// A value that a field is compared with.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Constant {
    Number(Decimal),
    /// The bits of a floating-point number.
    Bits(u64),
    Text(Box<[u8]>),
}

#[derive(Clone)]
pub(crate) struct Kind {
    pub(crate) when: Option<Expression<u16>>,
    /// Whether its sentences need a checksum.
    pub(crate) checksum_required: bool,
    pub(crate) shape: Shape,
    /// Fields that decide whether the frame is taken at all.
    pub(crate) gates: Vec<Gate>,
    pub(crate) outputs: Vec<Output>,
    /// Whether all plain ones begin near the front of a packet.
    pub(crate) near: bool,
    pub(crate) counters: Vec<Counter>,
    pub(crate) series: Vec<Field>,
    pub(crate) wanted: bool,
    /// The length of its packets, if they have only one and nothing but it, the header's choice and the checksum decides about them.
    pub(crate) exact: Option<usize>,
}

/// What a frame needs to be for its record to fit.
#[derive(Clone)]
pub(crate) struct Shape {
    pub(crate) unit: ShapeUnit,
    /// Bytes or columns before the part of varying size.
    pub(crate) front: usize,
    /// Those of them that have to be there.
    pub(crate) front_required: usize,
    /// Bytes or columns of one item of the varying part; 0 if there is no such part.
    pub(crate) item: usize,
    pub(crate) count: Count,
    /// Bytes or columns behind it.
    pub(crate) tail: usize,
    pub(crate) tail_required: usize,
    /// Bytes at the frame's end that are counted from there.
    pub(crate) back: usize,
    /// Whether more columns may follow.
    pub(crate) more: bool,
    /// Whether no column may be empty: where blanks separate, two of them in a row would move all values behind them by a place.
    pub(crate) no_gaps: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ShapeUnit {
    Bytes,
    Columns,
    /// Only characters are read: every text fits.
    Characters,
}

#[derive(Clone)]
pub(crate) enum Count {
    /// As many as there is room for.
    ToEnd,
    /// As many as this field says.
    Field(Box<Field>),
}

/// A field that has to hold for the record to be taken.
#[derive(Clone)]
pub(crate) struct Gate {
    pub(crate) name: String,
    pub(crate) field: Field,
    /// The only value allowed; without it, the value has to be valid.
    pub(crate) equals: Option<Constant>,
}

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
        way: Way,
        field: Box<Field>,
    },
    Field(Box<Field>),
    Flag(Box<Field>, u8),
    Group(Box<Group>),
}

impl Output {
    fn new(schema: FieldSchema, what: What, word: Option<&Word>) -> Output {
        let word = word.cloned().map(Word::high_first);
        let (plain, place, mark) = match &what {
            What::Integer => (word.as_ref().map_or(Plain::No, Word::plain), 0, 0),
            What::Bit => (Plain::Bit, 0, 0),
            What::Tested(tested) => match (tested.tests.only_mark(), word.as_ref().map(Word::plain)) {
                (Some(mark), Some(Plain::HighFirst)) => (Plain::Marked, 0, mark),
                _ => (Plain::No, 0, 0),
            },
            What::Column { first, way: Way::Number, .. } => (Plain::Number, *first, 0),
            What::Column { .. } => (Plain::Column, 0, 0),
            _ => (Plain::No, 0, 0),
        };
        let (schema, word) = (Box::new(schema), word.unwrap_or(Word::byte(place)));
        Output { schema, plain, together: 0, mark, word, what }
    }

    /// Counts which numbers stand side by side, once it is known which outputs do.
    fn count_neighbours(outputs: &mut [Output]) {
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
    fn number(outputs: &mut [Output]) {
        for (place, output) in outputs.iter_mut().enumerate() {
            output.schema.place = place as u16;
            for (place, item) in output.schema.items.iter_mut().enumerate() {
                item.place = place as u16;
            }
            if let What::Group(group) = &mut output.what {
                Output::number(&mut group.outputs);
            }
        }
    }

    /// Whether a plain one is in the front of a packet.
    pub(crate) fn is_near(&self) -> bool {
        self.plain == Plain::No || (self.word.first as usize) < crate::visit::NEAR
    }

    /// The output of a group.
    fn of_group(schema: FieldSchema, group: Group) -> Output {
        Output::new(schema, What::Group(Box::new(group)), None)
    }

    /// The output of a field.
    fn of(schema: FieldSchema, field: &Field) -> Output {
        let short = short::short(field);
        let what = match (&field.word, &field.tests, short) {
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
        Output::new(schema, what, field.word.as_ref())
    }

    /// The output of one bit of a field.
    fn of_bit(schema: FieldSchema, field: &Field, bit: u8) -> Output {
        let (At::Front(first), Raw::Integer { integer, bits: None }) = (field.at, &field.raw) else {
            return Output::new(schema, What::Flag(Box::new(field.clone()), bit), None);
        };
        let (byte, last) = (usize::from(bit / 8), usize::from(integer.bytes) - 1);
        if byte > last {
            return Output::new(schema, What::Flag(Box::new(field.clone()), bit), None);
        }
        let byte = first + if integer.order == Order::Big { last - byte } else { byte };
        Output::new(schema, What::Bit, Some(&Word { mask: 1 << (bit % 8), ..Word::byte(byte as u32) }))
    }
}

#[derive(Clone)]
pub(crate) struct Group {
    /// First byte or column of the first item.
    pub(crate) first: At,
    /// Bytes or columns of one item.
    pub(crate) size: usize,
    /// How many items; nothing if it is the varying part.
    pub(crate) count: Option<usize>,
    pub(crate) outputs: Vec<Output>,
}

#[derive(Clone)]
pub(crate) struct Counter {
    /// Index of its name among the kind's counters.
    pub(crate) name: String,
    pub(crate) field: Field,
    /// The field, if it is nothing but a whole number: nearly every counter is.
    pub(crate) word: Option<Word>,
    /// The last value before it begins again at 0.
    pub(crate) last: u64,
}

impl Counter {
    pub(crate) fn new(name: &str, field: &Field, last: u64) -> Counter {
        let word = field.word.as_ref().filter(|word| field.tests.is_none() && word.places == 0).cloned();
        Counter { name: name.into(), field: field.clone(), word, last }
    }

    /// The value that comes after another.
    #[inline(always)]
    pub(crate) fn after(&self, value: u64) -> u64 {
        if value >= self.last { 0 } else { value + 1 }
    }
}

#[derive(Clone)]
pub(crate) struct Ignore {
    pub(crate) when: Option<Expression<u16>>,
    pub(crate) count_by: Option<Field>,
}

/// Where a field begins, in bytes or columns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum At {
    /// From the frame's start, or from its item's start.
    Front(usize),
    /// From the end of the part of varying size.
    Tail(usize),
    /// Before the frame's end.
    Back(usize),
}

/// How one field is read.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    pub(crate) at: At,
    pub(crate) raw: Raw,
    /// Raw values that mean "no data".
    pub(crate) no_data: Box<[Constant]>,
    pub(crate) meaning: Meaning,
    pub(crate) range: Option<[Decimal; 2]>,
    /// The short way to its value, where there is one.
    pub(crate) word: Option<Word>,
    /// What is tested on the short way.
    pub(crate) tests: Option<Box<Tests>>,
}

/// An integer of a packet whose value is `raw * factor + addend` with so many places, all within 64 bits. Nearly every field of a
/// packet is one; it gives the same readings as the long way.
///
/// The eight bytes from its first one on are taken as a word; its bits are moved to the bottom of the word, the others are masked out,
/// and the sign's bit, if there is one, is made to count negative. That is the same work for every width, order and bit range.
#[derive(Clone, Debug)]
pub(crate) struct Word {
    /// Its first byte, from the frame's or the item's start.
    pub(crate) first: u32,
    pub(crate) big: bool,
    pub(crate) shift: u8,
    /// Bytes that it takes.
    pub(crate) size: u8,
    pub(crate) places: u8,
    pub(crate) mask: u64,
    pub(crate) sign: u64,
    pub(crate) factor: i64,
    pub(crate) addend: i64,
}

impl Word {
    /// What a raw value is in units of the last place. That it fits was seen when the plan was made.
    #[inline(always)]
    pub(crate) fn scaled(&self, raw: i64) -> i64 {
        raw.wrapping_mul(self.factor).wrapping_add(self.addend)
    }

    /// Its raw value, from the eight bytes that it is taken from.
    #[inline(always)]
    pub(crate) fn of(&self, eight: [u8; 8]) -> i64 {
        let little = u64::from_le_bytes(eight);
        self.within(if self.big { little.swap_bytes() } else { little })
    }

    /// The same, from these bytes as a word in its order.
    #[inline(always)]
    pub(crate) fn within(&self, word: u64) -> i64 {
        let value = word >> (self.shift & 63) & self.mask;
        (value ^ self.sign).wrapping_sub(self.sign) as i64
    }

    /// The same; where both orders are one, it is read as if its high byte came first: most others are.
    fn high_first(self) -> Word {
        if self.size == 1 && !self.big { Word { big: true, shift: self.shift + 56, ..self } } else { self }
    }

    fn plain(&self) -> Plain {
        match (self.factor, self.addend, self.big) {
            (1, 0, true) => Plain::HighFirst,
            (1, 0, false) => Plain::LowFirst,
            _ => Plain::Integer,
        }
    }

    /// The lowest and the highest bit that it takes of its integer.
    pub(crate) fn bits(&self) -> (u8, u8) {
        let first = if self.big { (self.shift + 8 * self.size).wrapping_sub(64) } else { self.shift }
            + self.mask.trailing_zeros() as u8;
        (first, first + self.mask.count_ones().max(1) as u8 - 1)
    }

    /// The byte at a place, as it is.
    pub(crate) const fn byte(first: u32) -> Word {
        Word { first, big: false, shift: 0, size: 1, places: 0, mask: 0xFF, sign: 0, factor: 1, addend: 0 }
    }
}

/// What is declared of an integer of a packet beside its place and scale, with the names of its codes.
#[derive(Clone)]
pub(crate) struct Tested {
    pub(crate) tests: Tests,
    /// The names of its codes, in their order.
    pub(crate) names: Box<[Name]>,
}

/// What is declared of some integers beside their place and scale.
#[derive(Clone, Debug)]
pub(crate) struct Tests {
    /// Smallest and largest value, in units of the last place.
    pub(crate) range: (i64, i64),
    pub(crate) no_data: Option<i64>,
    /// Raw values with a name, in the order of the field's codes.
    pub(crate) codes: Box<[i64]>,
}

impl Tests {
    /// The quality of a value in units of the last place.
    #[inline(always)]
    pub(crate) fn quality(&self, value: i64) -> Quality {
        if value < self.range.0 || value > self.range.1 { Quality::OutOfRange } else { Quality::Good }
    }

    /// The value that means "no data", if nothing else is tested.
    fn only_mark(&self) -> Option<i64> {
        self.no_data.filter(|_| self.range == Tests::ANY && self.codes.is_empty())
    }

    /// The range of a number that may have any value.
    pub(crate) const ANY: (i64, i64) = (i64::MIN, i64::MAX);

    /// Whether there is nothing to test.
    pub(crate) fn is_nothing(&self) -> bool {
        self.range == Tests::ANY && self.no_data.is_none() && self.codes.is_empty()
    }
}

/// What is taken from the frame.
#[derive(Clone, Debug)]
pub(crate) enum Raw {
    Integer {
        integer: Integer,
        bits: Option<(u8, u8)>,
    },
    F32(Order),
    F64(Order),
    /// So many bytes, or all up to the tail.
    Bytes(Option<usize>),
    /// So many columns together.
    Columns(usize),
    /// Characters from the first to before the second.
    Characters(usize, usize),
}

/// Names of numbers.
pub(crate) type NumberCodes = Box<[(Decimal, Box<str>)]>;

/// Names of texts.
pub(crate) type TextCodes = Box<[(Box<[u8]>, Box<str>)]>;

/// What is made of it.
#[derive(Clone, Debug)]
pub(crate) enum Meaning {
    /// A number: of an integer, or of the digits of a text.
    Number {
        of: NumberOf,
        convert: Convert,
        codes: NumberCodes,
    },
    Float,
    Text {
        fill: Option<u8>,
        codes: TextCodes,
    },
    Bytes,
    /// Degrees and minutes with a hemisphere in the next column: the largest degree and the letters.
    Degrees {
        most: u8,
        letters: [u8; 2],
    },
    Clock(Layout),
    Date(Layout),
}

/// How the digits of a text are a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NumberOf {
    /// There are no digits: the raw value is an integer already.
    Integer,
    Decimal,
    Hex,
}

/// From a raw number to its value.
#[derive(Clone, Debug)]
pub(crate) struct Convert {
    pub(crate) scale: Option<Decimal>,
    pub(crate) add: Option<Decimal>,
    pub(crate) unit: Option<Box<UnitFrom>>,
}

impl Convert {
    /// Whether it leaves every number as it is.
    pub(crate) fn is_nothing(&self) -> bool {
        self.scale.is_none() && self.add.is_none() && self.unit.is_none()
    }
}

/// A unit that is sent beside the value.
#[derive(Clone, Debug)]
pub(crate) struct UnitFrom {
    pub(crate) field: Field,
    pub(crate) units: Box<[(Constant, Conversion)]>,
    /// Places of a converted value; without it, three more than were sent.
    pub(crate) places: Option<u8>,
}
