//! What a field can say: values, and why there is none.

mod calendar;
mod charset;
mod decimal;
pub(crate) mod digits;
mod layout;
mod name;
mod notation;
mod short_text;
pub(crate) mod shown;
mod together;
mod wide;

use alloc::borrow::Cow;
use alloc::vec::Vec;
use core::fmt::{self, Write};

pub use calendar::{Clock, Date, DateTime};
pub(crate) use calendar::{instant, parse_offset};
pub use charset::Charset;
pub(crate) use charset::{charset_words, sent, sent_as};
pub use decimal::Decimal;
pub use digits::Written;
pub(crate) use digits::{Column, Pattern};
pub(crate) use layout::{FIRST_YEAR, Layout, LayoutOf, full_year};
pub use name::Name;
pub(crate) use notation::Notation;
pub use short_text::ShortText;
pub(crate) use short_text::is_plain;
pub use together::Together;

/// The value of a field in one record. Texts and bytes are lent from the frame.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub enum Value<'a> {
    /// There is no value, and this is why.
    Absent(Absent),
    /// An integer, a scaled integer or a number from a text, exact.
    Decimal(Decimal),
    /// A binary floating-point number of 32 bits.
    F32(f32),
    /// A binary floating-point number of 64 bits.
    F64(f64),
    /// Text as the device sent it. It may hold any byte.
    Text(Text<'a>),
    /// Raw bytes.
    Bytes(&'a [u8]),
    /// Bytes that were sent as hex digits: the digits, two for each of them. See [`Value::to_bytes`].
    HexBytes(&'a [u8]),
    /// A flag.
    Bool(bool),
    /// A number with the name that the format gives it.
    Code {
        /// The number that was sent.
        number: Decimal,
        /// Its name in the format's table.
        name: &'a str,
    },
    /// A calendar date.
    Date(Date),
    /// A time of day.
    Clock(Clock),
    /// A date with a time of day.
    DateTime(DateTime),
}

/// Why a field has no value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Absent {
    /// Its place is empty.
    Empty,
    /// The value that was sent stands for "no data".
    Marked,
    /// The frame ends before its place.
    NotSent,
    /// What was sent is not a value of the field's type. The quality says so too.
    Invalid,
    /// Something it is made from is absent.
    Operand,
}

/// What is to be said about a reading beyond its value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Quality {
    /// Nothing.
    Good,
    /// The value lies outside the range that the format allows. It is given all the same.
    OutOfRange,
    /// What was sent is not a value of the field's type.
    Invalid,
    /// The text is none in its character set; it is shown with replacement characters.
    InvalidText,
    /// The floating-point number is a NaN or infinite.
    NotFinite,
    /// The device says that the value lies below the one that it gives, as in `<0.05`.
    Below,
    /// The device says that the value lies above the one that it gives.
    Above,
    /// The value is put together from what was read at different times.
    Pieced,
}

impl Quality {
    /// All there are.
    pub const ALL: [Quality; 8] = [
        Quality::Good,
        Quality::OutOfRange,
        Quality::Invalid,
        Quality::InvalidText,
        Quality::NotFinite,
        Quality::Below,
        Quality::Above,
        Quality::Pieced,
    ];

    /// The word that stands in outputs; empty for [`Quality::Good`].
    pub const fn word(self) -> &'static str {
        match self {
            Quality::Good => "",
            Quality::OutOfRange => "out_of_range",
            Quality::Invalid => "invalid",
            Quality::InvalidText => "invalid_text",
            Quality::NotFinite => "not_finite",
            Quality::Below => "below",
            Quality::Above => "above",
            Quality::Pieced => "pieced",
        }
    }
}

/// A value and what is to be said about it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Reading<'a> {
    /// The value.
    pub value: Value<'a>,
    /// What is to be said about it.
    pub quality: Quality,
}

impl<'a> Reading<'a> {
    pub(crate) const fn good(value: Value<'a>) -> Reading<'a> {
        Reading { value, quality: Quality::Good }
    }

    pub(crate) const fn absent(why: Absent) -> Reading<'a> {
        Reading { value: Value::Absent(why), quality: Quality::Good }
    }

    /// A reading whose place holds something that is no value of its type.
    pub(crate) const fn invalid() -> Reading<'a> {
        Reading { value: Value::Absent(Absent::Invalid), quality: Quality::Invalid }
    }
}

/// Text as sent, in whatever encoding.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Text<'a> {
    bytes: &'a [u8],
    charset: Charset,
}

impl<'a> Text<'a> {
    /// Bytes that are text in UTF-8, or were meant to be.
    #[inline(always)]
    pub(crate) const fn new(bytes: &'a [u8]) -> Text<'a> {
        Text { bytes, charset: Charset::Utf8 }
    }

    /// Bytes that are text in some character set.
    pub(crate) fn of(bytes: &'a [u8], charset: Charset) -> Text<'a> {
        // What is ASCII is the same in all of them.
        let charset = if bytes.is_ascii() { Charset::Utf8 } else { charset };
        Text { bytes, charset }
    }

    /// The bytes as they were sent.
    pub const fn bytes(self) -> &'a [u8] {
        self.bytes
    }

    /// The character set that they are read in: UTF-8 if they are ASCII only.
    pub const fn charset(self) -> Charset {
        self.charset
    }

    /// The text, if it was sent in UTF-8. What was sent otherwise is told by its `Display`, and by [`Text::pieces`].
    pub const fn to_str(self) -> Option<&'a str> {
        match (self.charset, core::str::from_utf8(self.bytes)) {
            (Charset::Utf8, Ok(text)) => Some(text),
            _ => None,
        }
    }
}

impl<'a> Text<'a> {
    /// The text piece by piece, with U+FFFD for what is no character of its set.
    pub fn pieces(self) -> impl Iterator<Item = &'a str> {
        let replaced = |invalid: &[u8]| if invalid.is_empty() { "" } else { "\u{FFFD}" };
        let (utf8, other) = match self.charset {
            Charset::Utf8 => (self.bytes, &[][..]),
            _ => (&[][..], self.bytes),
        };
        let characters = other.iter().map(move |byte| self.charset.character(*byte).unwrap_or("\u{FFFD}"));
        utf8.utf8_chunks().flat_map(move |piece| [piece.valid(), replaced(piece.invalid())]).chain(characters)
    }
}

impl fmt::Display for Text<'_> {
    /// The text, with U+FFFD for what is no character of its set.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.pieces().try_for_each(|piece| f.write_str(piece))
    }
}

impl fmt::Debug for Text<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "\"{}\"", self.bytes.escape_ascii())
    }
}

impl<'a> Value<'a> {
    /// Whether there is a value.
    pub const fn is_present(self) -> bool {
        !matches!(self, Value::Absent(_))
    }

    /// The bytes of a value that is bytes, however they were sent.
    pub fn to_bytes(self) -> Option<Cow<'a, [u8]>> {
        match self {
            Value::Bytes(bytes) => Some(Cow::Borrowed(bytes)),
            Value::HexBytes(digits) => {
                let mut bytes = Vec::new();
                put_bytes_of(digits, &mut bytes).then_some(Cow::Owned(bytes))
            }
            _ => None,
        }
    }

    /// The value as a number: a decimal, a code's number, or a floating-point number.
    pub fn to_f64(self) -> Option<f64> {
        match self {
            Value::Decimal(number) | Value::Code { number, .. } => Some(number.to_f64()),
            Value::F32(number) => Some(f64::from(number)),
            Value::F64(number) => Some(number),
            _ => None,
        }
    }

    /// The value as an integer, if it is a whole number.
    pub fn to_integer(self) -> Option<i128> {
        match self {
            Value::Decimal(number) | Value::Code { number, .. } => number.to_integer(),
            _ => None,
        }
    }

    /// The value as text, if it is one in UTF-8, or the name of a code.
    pub fn to_str(self) -> Option<&'a str> {
        match self {
            Value::Text(text) => text.to_str(),
            Value::Code { name, .. } => Some(name),
            _ => None,
        }
    }
}

/// Puts the bytes behind others that hex digits stand for, two for each. Says whether they are such; if not, what was put is not to be used.
pub(crate) fn put_bytes_of(digits: &[u8], bytes: &mut Vec<u8>) -> bool {
    let digit = |byte: u8| char::from(byte).to_digit(16);
    let (pairs, rest) = digits.as_chunks::<2>();
    rest.is_empty()
        && pairs.iter().all(|[high, low]| match (digit(*high), digit(*low)) {
            (Some(high), Some(low)) => {
                bytes.push((high << 4 | low) as u8);
                true
            }
            _ => false,
        })
}

impl fmt::Display for Value<'_> {
    /// The text that outputs show: digits, names, `true`, ISO 8601, upper-case hex for bytes, nothing for an absent value.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Absent(_) => Ok(()),
            Value::Decimal(number) => number.fmt(f),
            Value::F32(number) => f.write_str(zmij::Buffer::new().format(*number)),
            Value::F64(number) => f.write_str(zmij::Buffer::new().format(*number)),
            Value::Text(text) => text.fmt(f),
            Value::Bytes(bytes) => bytes.iter().try_for_each(|byte| write!(f, "{byte:02X}")),
            Value::HexBytes(digits) => {
                digits.iter().try_for_each(|digit| f.write_char(char::from(digit.to_ascii_uppercase())))
            }
            Value::Bool(flag) => flag.fmt(f),
            Value::Code { name, .. } => f.write_str(name),
            Value::Date(date) => date.fmt(f),
            Value::Clock(clock) => clock.fmt(f),
            Value::DateTime(both) => both.fmt(f),
        }
    }
}

/// The type of a field's values, known before the first byte.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum ValueType {
    /// [`Value::Decimal`] without places.
    Integer,
    /// [`Value::Decimal`] with or without places.
    Decimal,
    /// [`Value::F32`].
    F32,
    /// [`Value::F64`].
    F64,
    /// [`Value::Text`].
    Text,
    /// [`Value::Bytes`], or [`Value::HexBytes`].
    Bytes,
    /// [`Value::Bool`].
    Bool,
    /// [`Value::Code`], or [`Value::Decimal`] for a number without a name.
    Code,
    /// [`Value::Date`].
    Date,
    /// [`Value::Clock`].
    Clock,
    /// [`Value::DateTime`].
    DateTime,
    /// A list of sub-records.
    Group,
    /// A list of values: a group whose items have one field, which has the list's name.
    List,
}

impl ValueType {
    /// The word for it in tables and schemas.
    pub const fn word(self) -> &'static str {
        match self {
            ValueType::Integer => "integer",
            ValueType::Decimal => "decimal",
            ValueType::F32 => "f32",
            ValueType::F64 => "f64",
            ValueType::Text => "text",
            ValueType::Bytes => "bytes",
            ValueType::Bool => "bool",
            ValueType::Code => "code",
            ValueType::Date => "date",
            ValueType::Clock => "clock",
            ValueType::DateTime => "datetime",
            ValueType::Group => "group",
            ValueType::List => "list",
        }
    }
}
