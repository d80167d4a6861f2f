//! How one field is read: where it is, what is taken from there, what is made of it.

use alloc::boxed::Box;
use alloc::string::String;

use super::Constant;
use super::output::Plain;
use crate::integer::{Bits, Integer, Order, Sign};
use crate::unit::Conversion;
use crate::value::{Charset, DateTime, Decimal, Layout, Name, Notation, Quality};

/// Where a field begins, in bytes or columns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum At {
    /// From the frame's start, or from its item's start.
    Front(usize),
    /// From the end of the part of varying size.
    Tail(usize),
    /// Before the frame's end.
    Back(usize),
    /// In a part whose place is written down in the row of the record or the item: so many bytes from its begin.
    Part { part: usize, offset: usize },
}

/// How one field is read.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    pub(crate) at: At,
    pub(crate) raw: Raw,
    /// Raw values that mean "no data".
    pub(crate) no_data: Box<[Constant]>,
    pub(crate) meaning: Meaning,
    /// How a number is written in a text, where that is not plainly.
    pub(crate) notation: Option<Box<Notation>>,
    pub(crate) range: Option<[Decimal; 2]>,
    /// Whether a value without a name is invalid.
    pub(crate) closed: bool,
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
    pub(super) fn high_first(self) -> Word {
        if self.size == 1 && !self.big { Word { big: true, shift: self.shift + 56, ..self } } else { self }
    }

    pub(super) fn plain(&self) -> Plain {
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
    pub(super) fn only_mark(&self) -> Option<i64> {
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
    Integer(Taken),
    /// Decimal digits, two in a byte.
    Bcd(Bcd),
    F32(Order),
    F64(Order),
    /// So many bytes, or all up to the tail.
    Bytes(Option<usize>),
    /// So many columns together, which lie side by side.
    Columns(usize),
    /// The same, of columns that lie apart.
    Apart(usize),
    /// What was found in a text by its key or its look, and is written down like a column that lies apart.
    Found,
    /// Characters from the first to before the second.
    Characters(usize, usize),
}

/// How an integer is taken from bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Taken {
    /// Of up to nine bytes, where its bits are fewer.
    pub(crate) integer: Integer,
    /// The bits of it that are meant; all, if nothing is said.
    pub(crate) bits: Option<Bits>,
    /// How its sign is sent, if it has one.
    pub(crate) sign: Sign,
}

impl Taken {
    /// All of an integer.
    pub(crate) const fn whole(integer: Integer) -> Taken {
        Taken { integer, bits: None, sign: Sign::Complement }
    }

    /// Bits of its value, from 1 to 64.
    pub(crate) fn width(&self) -> u8 {
        self.bits.map_or(self.integer.bytes.saturating_mul(8), |bits| bits.width()).clamp(1, 64)
    }

    /// The number that a pattern of as many bits is.
    pub(crate) fn value(&self, pattern: u64) -> Decimal {
        let unused = 64 - u32::from(self.width());
        let half = 1 << (63 - unused);
        match self.sign {
            _ if !self.integer.signed => Decimal::from_unsigned(pattern),
            Sign::Complement => Decimal::from_integer(((pattern << unused) as i64) >> unused),
            Sign::Magnitude => {
                let magnitude = pattern & (half - 1);
                Decimal::small(pattern & half != 0 && magnitude != 0, magnitude, 0)
            }
            Sign::Offset => Decimal::from_integer(pattern.wrapping_sub(half) as i64),
        }
    }

    /// The smallest and the largest number that it can be.
    pub(crate) fn reach(&self) -> (Decimal, Decimal) {
        let largest = u64::MAX >> (64 - self.width());
        if !self.integer.signed {
            return (Decimal::ZERO, Decimal::from_unsigned(largest));
        }
        let largest = (largest >> 1) as i64;
        let lowest = if self.sign == Sign::Magnitude { -largest } else { -largest - 1 };
        (Decimal::from_integer(lowest), Decimal::from_integer(largest))
    }
}

/// Digits that lie two in a byte.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Bcd {
    /// At most [`Bcd::MOST`].
    pub(crate) bytes: usize,
    pub(crate) order: Order,
    /// Whether the first digit of a byte is in its low half.
    pub(crate) low_first: bool,
}

impl Bcd {
    /// As many digits as a decimal number can have.
    pub(crate) const MOST: usize = 19;
}

impl Raw {
    /// Whether it is read by columns.
    pub(crate) fn is_column(&self) -> bool {
        matches!(self, Raw::Columns(_) | Raw::Apart(_) | Raw::Found)
    }
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
    /// Seconds since an instant.
    Since {
        of: NumberOf,
        convert: Convert,
        since: DateTime,
    },
    Float,
    Text {
        fill: Option<u8>,
        codes: TextCodes,
        /// The first that fits; UTF-8 if there is none.
        charsets: Box<[Charset]>,
    },
    Bytes,
    /// Bytes sent as hex digits.
    HexBytes,
    /// Degrees and minutes with a hemisphere in the next column: the largest degree and the letters.
    Degrees {
        most: u8,
        letters: [u8; 2],
    },
    Clock(Layout),
    Date(Layout),
    DateTime(Layout),
    /// Words for true and for false.
    Bool(Box<[(Box<[u8]>, bool)]>),
}

/// How the digits of a text are a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NumberOf {
    /// There are no digits: the raw value is an integer already.
    Integer,
    Decimal,
    Hex,
    /// Two hex digits for each byte of an integer, of which some bits may be meant.
    HexInteger(Taken),
}

/// From a raw number to its value.
#[derive(Clone, Debug)]
pub(crate) struct Convert {
    pub(crate) scale: Option<Decimal>,
    /// What else it is multiplied by, as another field says.
    pub(crate) scale_from: Option<Box<ScaleFrom>>,
    pub(crate) add: Option<Decimal>,
    /// Where its sign is sent.
    pub(crate) sign: Option<Box<SignFrom>>,
    pub(crate) unit: Option<Box<UnitFrom>>,
    /// From the unit that is sent to that of the value: always the same one, or that of each suffix.
    pub(crate) sent: Option<Box<SentUnits>>,
}

/// The units in which a value may be sent, where nothing else tells which it is.
#[derive(Clone, Debug)]
pub(crate) struct SentUnits {
    pub(crate) conversions: Box<[Conversion]>,
    /// Places of a converted value; without it, three more than were sent.
    pub(crate) places: Option<u8>,
}

impl Convert {
    /// Whether it leaves every number as it is.
    pub(crate) fn is_nothing(&self) -> bool {
        let is_scaled = self.scale.is_some() || self.add.is_some() || self.sign.is_some() || self.scale_from.is_some();
        !is_scaled && self.unit.is_none() && self.sent.is_none()
    }
}

/// A sign that is sent beside the value.
#[derive(Clone, Debug)]
pub(crate) struct SignFrom {
    pub(crate) field: Field,
    /// What stands for a sign, and whether that is a minus.
    pub(crate) signs: Box<[(Constant, bool)]>,
}

/// A scale that is sent beside the value.
#[derive(Clone, Debug)]
pub(crate) struct ScaleFrom {
    pub(crate) field: Field,
    /// What its codes mean; if there are none, its value is the scale.
    pub(crate) scales: Box<[(Constant, Decimal)]>,
}

/// A unit that is sent beside the value.
#[derive(Clone, Debug)]
pub(crate) struct UnitFrom {
    pub(crate) field: Field,
    pub(crate) units: Box<[(Constant, Conversion)]>,
    /// Places of a converted value; without it, three more than were sent.
    pub(crate) places: Option<u8>,
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
    /// Which count it is of: those of a header are shared by all records of the frame.
    pub(crate) slot: usize,
}

impl Counter {
    pub(crate) fn new(name: &str, field: &Field, last: u64) -> Counter {
        let is_whole = |word: &&Word| field.tests.is_none() && word.places == 0 && matches!(field.at, At::Front(_));
        let word = field.word.as_ref().filter(is_whole).cloned();
        Counter { name: name.into(), field: field.clone(), word, last, slot: 0 }
    }

    /// The value that comes after another.
    #[inline(always)]
    pub(crate) fn after(&self, value: u64) -> u64 {
        Counter::follows(self.last, value)
    }

    /// The value that comes after another, of a counter with that last value.
    #[inline(always)]
    pub(crate) fn follows(last: u64, value: u64) -> u64 {
        if value >= last { 0 } else { value + 1 }
    }
}
