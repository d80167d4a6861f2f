//! Reading one field of a frame by its plan: locate the raw value, test its marks, make the value.

use alloc::vec::Vec;

use crate::integer::Order;
use crate::plan::{
    At, Bcd, Constant, Convert, Counter, Field, Group, Meaning, NumberOf, Output, Raw, Stride, Taken, Tested, What,
    Word, place_of,
};
use crate::unit::Conversion;
use crate::value::{Absent, Charset, Column, Decimal, Name, Quality, Reading, Text, Value, put_bytes_of};

/// A frame laid out for reading.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Cells<'a> {
    /// The whole packet, or the text without its delimiters and checksum.
    pub(crate) bytes: &'a [u8],
    /// The same and what follows in the window, so that a word can be taken near the end. Nothing is read from it that is not in
    /// the frame.
    pub(crate) wide: &'a [u8],
    /// Where each column begins, and one more than the text's length at the end; of columns that lie apart, where each begins and
    /// one more than where it ends, or twice the same where there is none. Empty if there are no columns.
    pub(crate) columns: &'a [u16],
    /// The byte or column behind the part of varying size.
    pub(crate) tail: usize,
}

/// A raw value, before anything is made of it.
enum RawValue<'a> {
    Number(Decimal),
    F32(f32),
    F64(f64),
    Bytes(&'a [u8]),
    /// Digits that were sent two in a byte.
    Digits(Digits),
    NotSent,
}

/// What was sent for a field: where it stands in the contents of its frame, and its bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Sent<'a> {
    /// Its first byte. In a text, bytes are counted behind what stands before the text, such as the `$` of a sentence.
    pub byte: usize,
    /// Its first column, from 1, if it is read by columns.
    pub column: Option<usize>,
    /// Its first character, from 1, if it is read by characters, or was found by its key or the look of the text.
    pub character: Option<usize>,
    /// The lowest and the highest bit, if it is not all of them.
    pub bits: Option<(u8, u8)>,
    /// Whether it is text.
    pub is_text: bool,
    /// Its bytes.
    pub bytes: &'a [u8],
}

/// What a tested integer says.
pub(crate) enum Told<'a> {
    /// A value in units of its last place.
    Number(i64, Quality),
    /// A raw value with a name.
    Code(i64, &'a Name),
    Absent(Absent),
}

/// The value of a code.
pub(crate) fn code(number: i64, name: &Name) -> Value<'_> {
    Value::Code { number: Decimal::from_integer(number), name: name.text() }
}

impl<'a> Cells<'a> {
    /// Nothing but bytes.
    #[inline(always)]
    pub(crate) fn of_bytes(bytes: &'a [u8]) -> Cells<'a> {
        Cells { bytes, wide: bytes, columns: &[], tail: 0 }
    }

    /// How many columns there are that lie side by side.
    pub(crate) fn column_count(&self) -> usize {
        self.columns.len().saturating_sub(1)
    }

    /// How many columns there are that lie apart.
    pub(crate) fn apart_count(&self) -> usize {
        self.columns.len() / 2
    }

    #[inline(always)]
    pub(crate) fn start(&self, at: At, base: usize) -> Option<usize> {
        match at {
            At::Front(place) => Some(base + place),
            At::Tail(place) => Some(self.tail + place),
            At::Back(place) => self.bytes.len().checked_sub(place),
            At::Part { part, offset } => self.part(part, base).map(|(begin, _)| begin + offset),
        }
    }

    /// Where a part begins and ends, by the row that is there; nothing if the part is not.
    #[inline]
    pub(crate) fn part(&self, part: usize, row: usize) -> Option<(usize, usize)> {
        let [begin, end] = *self.columns.get(row + place_of(part)..)?.first_chunk::<2>()?;
        (begin <= end).then_some((begin.into(), end.into()))
    }

    /// The place from which the word of a field is counted.
    #[inline(always)]
    fn word_base(&self, field: &Field, base: usize) -> Option<usize> {
        match field.at {
            At::Part { part, .. } => self.part(part, base).map(|(begin, _)| begin),
            _ => Some(base),
        }
    }

    /// The first item of a group, and how many there are. `count` is the number of items in the varying part.
    pub(crate) fn items(&self, group: &Group, base: usize, count: usize) -> (usize, usize) {
        match group.first {
            At::Part { part, .. } => {
                match self.columns.get(base + place_of(part)..).and_then(<[u16]>::first_chunk::<2>) {
                    Some([first, count]) => ((*first).into(), (*count).into()),
                    None => (0, 0),
                }
            }
            first => (self.start(first, base).unwrap_or(0), group.count.unwrap_or(count)),
        }
    }

    /// Where the next item of a group is.
    #[inline]
    pub(crate) fn next_item(&self, step: Stride, item: usize) -> usize {
        match step {
            Stride::Even(size) => item + size,
            Stride::Rows => self.columns.get(item).map_or(0, |next| usize::from(*next)),
            Stride::Spread => item,
        }
    }

    /// The text of `count` columns from `first` on, separators between them included.
    #[inline]
    fn column_text(&self, first: usize, count: usize) -> Option<&'a [u8]> {
        let start = *self.columns.get(first)? as usize;
        let end = *self.columns.get(first + count)? as usize;
        self.bytes.get(start..end.checked_sub(1)?)
    }

    /// Where a field ends whose size varies.
    fn end_of(&self, field: &Field, base: usize) -> Option<usize> {
        match field.at {
            At::Part { part, .. } => self.part(part, base).map(|(_, end)| end),
            _ => Some(self.tail),
        }
    }

    fn raw(&self, field: &Field, base: usize) -> RawValue<'a> {
        self.try_raw(field, base).unwrap_or(RawValue::NotSent)
    }

    fn try_raw(&self, field: &Field, base: usize) -> Option<RawValue<'a>> {
        let start = self.start(field.at, base)?;
        Some(match field.raw {
            Raw::Integer(taken) => {
                let bytes = self.bytes.get(start..start + usize::from(taken.integer.bytes))?;
                RawValue::Number(integer_of(bytes, taken))
            }
            Raw::Bcd(bcd) => RawValue::Digits(Digits::of(self.bytes.get(start..start + bcd.bytes)?, bcd)),
            Raw::F32(order) => {
                let bits = word_of(self.bytes.get(start..start + 4)?, order);
                RawValue::F32(f32::from_bits(bits as u32))
            }
            Raw::F64(order) => {
                let bits = word_of(self.bytes.get(start..start + 8)?, order);
                RawValue::F64(f64::from_bits(bits))
            }
            Raw::Bytes(Some(size)) => RawValue::Bytes(self.bytes.get(start..start + size)?),
            Raw::Bytes(None) => RawValue::Bytes(self.bytes.get(start..self.end_of(field, base)?)?),
            Raw::Columns(count) => RawValue::Bytes(self.column_text(start, count)?),
            Raw::Apart(count) => RawValue::Bytes(self.column_text(start, 2 * count - 1)?),
            Raw::Found => RawValue::Bytes(self.column_text(start, 1)?),
            // A text may end before the last character wanted.
            Raw::Characters(first, end) => {
                let end = end.min(self.bytes.len());
                RawValue::Bytes(self.bytes.get(first..end).filter(|text| !text.is_empty())?)
            }
        })
    }

    /// The unsigned or signed integer of a field, for flags and counts; nothing if it is not one.
    pub(crate) fn integer(&self, field: &'a Field, base: usize) -> Option<i128> {
        if let Some(word) = &field.word {
            let no_data = field.tests.as_ref().and_then(|tests| tests.no_data);
            let raw = self.word(word, self.word_base(field, base)?).filter(|raw| no_data != Some(*raw))?;
            let value = word.scaled(raw);
            return match word.places {
                0 => Some(value.into()),
                places => Decimal::small(value < 0, value.unsigned_abs(), places).to_integer(),
            };
        }
        self.reading(field, base).value.to_integer()
    }

    /// The value of a counter.
    #[inline(always)]
    pub(crate) fn count(&self, counter: &'a Counter) -> Option<u64> {
        match &counter.word {
            Some(word) => u64::try_from(word.scaled(self.word(word, 0)?)).ok(),
            None => u64::try_from(self.integer(&counter.field, 0)?).ok(),
        }
    }

    /// The bit of a field.
    #[inline]
    pub(crate) fn flag(&self, field: &Field, bit: u8, base: usize) -> Reading<'a> {
        if let Some(word) = &field.word {
            let raw = self.word_base(field, base).and_then(|base| self.word(word, base));
            return match raw {
                Some(raw) => Reading::good(Value::Bool(raw >> bit & 1 == 1)),
                None => Reading::absent(Absent::NotSent),
            };
        }
        let raw = self.raw(field, base);
        let number = match field.meaning {
            Meaning::Number { ref of, .. } => number_in(&raw, of, field).map(|(number, ..)| number),
            _ => None,
        };
        match (number, raw) {
            // The bits of a negative number are those of its two's complement.
            (Some(number), _) => Reading::good(Value::Bool(number.coefficient() >> bit & 1 == 1)),
            (None, RawValue::NotSent) => Reading::absent(Absent::NotSent),
            (None, RawValue::Bytes(text)) if text.trim_ascii().is_empty() => Reading::absent(Absent::Empty),
            (None, _) => Reading::invalid(),
        }
    }

    /// The raw bytes of a field that is text; nothing if it is a number or not there.
    pub(crate) fn text(&self, field: &Field, base: usize) -> Option<&'a [u8]> {
        match self.raw(field, base) {
            RawValue::Bytes(bytes) => Some(bytes),
            _ => None,
        }
    }

    /// What a field carries that is to be cut again: its bytes, without what fills a text up; nothing if it is no value of its type. Where digits stand
    /// for them, they are put into `room`.
    pub(crate) fn carried<'r>(&self, field: &'r Field, room: &'r mut Vec<u8>) -> Option<&'r [u8]>
    where
        'a: 'r,
    {
        let bytes = self.text(field, 0).unwrap_or_default();
        Some(match (self.reading(field, 0).value, &field.meaning) {
            (Value::Absent(Absent::Invalid), _) => return None,
            (Value::Absent(_), _) => &[],
            (Value::HexBytes(digits), _) => {
                room.clear();
                put_bytes_of(digits, room);
                room
            }
            (_, Meaning::Text { fill, .. }) => without_fill(bytes, *fill),
            _ => bytes,
        })
    }

    /// The name that ignored frames are counted by: a text, or a number.
    pub(crate) fn counted_by(&self, field: &'a Field) -> Option<Vec<u8>> {
        match self.text(field, 0) {
            Some(text) => Some(text.to_vec()),
            None => self.integer(field, 0).map(|number| itoa::Buffer::new().format(number).as_bytes().to_vec()),
        }
    }

    /// Whether the raw value of a field is `constant`.
    pub(crate) fn equals(&self, field: &'a Field, base: usize, constant: &Constant) -> bool {
        is_constant(&self.raw(field, base), field, constant)
    }

    /// The reading of a field whose record or item begins at `base`.
    #[inline]
    pub(crate) fn reading(&self, field: &'a Field, base: usize) -> Reading<'a> {
        match &field.word {
            Some(word) if field.tests.is_none() => match self.word_base(field, base) {
                Some(base) => self.integer_reading(word, base),
                None => Reading::absent(Absent::NotSent),
            },
            _ => self.long_reading(field, base),
        }
    }

    #[inline]
    fn integer_reading(&self, word: &Word, base: usize) -> Reading<'a> {
        match self.word(word, base) {
            Some(raw) => Reading::good(integer(word.scaled(raw), word)),
            None => Reading::absent(Absent::NotSent),
        }
    }

    /// The reading of what stands in a record; nothing of a group.
    pub(crate) fn output(&self, output: &'a Output, base: usize) -> Reading<'a> {
        match &output.what {
            What::Integer => self.integer_reading(&output.word, base),
            What::Tested(tested) => match self.tested_word(&output.word, tested, base) {
                Told::Number(value, quality) => Reading { value: integer(value, &output.word), quality },
                Told::Code(number, name) => Reading::good(code(number, name)),
                Told::Absent(why) => Reading::absent(why),
            },
            What::Bit => self.bit(&output.word, base),
            What::Column { field, .. } => self.reading(field, base),
            What::Field(field) => self.reading(field, base),
            What::Flag(field, bit) => self.flag(field, *bit, base),
            What::Group(_)
            | What::Of(_)
            | What::Point { .. }
            | What::Parts(_)
            | What::Joined(_)
            | What::Made(_)
            | What::NotThere => Reading::absent(Absent::NotSent),
        }
    }

    /// What was sent for what stands in a record; nothing of a group, or where nothing was sent.
    pub(crate) fn sent(&self, output: &Output, base: usize) -> Option<Sent<'a>> {
        let (field, flag) = match &output.what {
            What::Group(_)
            | What::Of(_)
            | What::Point { .. }
            | What::Parts(_)
            | What::Joined(_)
            | What::Made(_)
            | What::NotThere => {
                return None;
            }
            What::Integer | What::Tested(_) | What::Bit => {
                let (word, byte) = (&output.word, base + output.word.first as usize);
                let bytes = self.bytes.get(byte..byte + usize::from(word.size))?;
                let bits = Some(word.bits()).filter(|bits| *bits != (0, word.size * 8 - 1));
                return Some(Sent { byte, column: None, character: None, bits, is_text: false, bytes });
            }
            What::Column { field, .. } | What::Field(field) => (field, None),
            What::Flag(field, bit) => (field, Some(*bit)),
        };
        let start = self.start(field.at, base)?;
        let size = |size: usize| start..start + size;
        let (range, column) = match field.raw {
            Raw::Integer(taken) => (size(taken.integer.bytes.into()), None),
            Raw::Bcd(bcd) => (size(bcd.bytes), None),
            Raw::F32(_) => (size(4), None),
            Raw::F64(_) => (size(8), None),
            Raw::Bytes(Some(width)) => (size(width), None),
            Raw::Bytes(None) => (start..self.end_of(field, base)?, None),
            Raw::Columns(_) | Raw::Apart(_) | Raw::Found => {
                let (column, places) = match field.raw {
                    Raw::Apart(count) => (Some(start / 2 + 1), 2 * count - 1),
                    Raw::Columns(count) => (Some(start + 1), count),
                    _ => (None, 1),
                };
                let (first, end) = (*self.columns.get(start)?, *self.columns.get(start + places)?);
                (usize::from(first)..usize::from(end).checked_sub(1)?, column)
            }
            Raw::Characters(first, end) => (first..end.min(self.bytes.len()), None),
        };
        let bits = match (flag, &field.raw) {
            (Some(bit), _) => Some((bit, bit)),
            (None, Raw::Integer(taken)) => taken.bits.map(|bits| (bits.lowest(), bits.highest())),
            _ => None,
        };
        let is_text = !matches!(field.raw, Raw::Integer(_) | Raw::Bcd(_) | Raw::F32(_) | Raw::F64(_))
            && !matches!(field.meaning, Meaning::Bytes);
        let character = matches!(field.raw, Raw::Characters(..) | Raw::Found).then_some(range.start + 1);
        Some(Sent { byte: range.start, column, character, bits, is_text, bytes: self.bytes.get(range)? })
    }

    /// One column.
    #[inline(always)]
    pub(crate) fn column(&self, column: usize) -> Option<Column<'a>> {
        let (next, start) = (usize::from(*self.columns.get(column + 1)?), usize::from(*self.columns.get(column)?));
        let length = next.checked_sub(start + 1)?;
        Some(Column { wide: self.wide.get(start..)?, length })
    }

    /// The bit that a word is.
    #[inline(always)]
    pub(crate) fn bit(&self, word: &Word, base: usize) -> Reading<'a> {
        match self.word(word, base) {
            Some(bit) => Reading::good(Value::Bool(bit != 0)),
            None => Reading::absent(Absent::NotSent),
        }
    }

    /// The value of an integer as the word that it is in the frame.
    #[inline(always)]
    pub(crate) fn word(&self, word: &Word, base: usize) -> Option<i64> {
        let start = base + word.first as usize;
        let eight = match self.wide.get(start..start + 8).and_then(|eight| eight.first_chunk::<8>()) {
            Some(eight) => *eight,
            None => short_word(self.bytes, start, word.size)?,
        };
        Some(word.of(eight))
    }

    /// What an integer says of which more is declared than its place and scale.
    #[inline(always)]
    pub(crate) fn tested_word(&self, word: &Word, tested: &'a Tested, base: usize) -> Told<'a> {
        let tests = &tested.tests;
        let Some(raw) = self.word(word, base) else { return Told::Absent(Absent::NotSent) };
        if tests.no_data == Some(raw) {
            return Told::Absent(Absent::Marked);
        }
        if let Some(index) = tests.codes.iter().position(|code| *code == raw) {
            return Told::Code(raw, &tested.names[index]);
        }
        let value = word.scaled(raw);
        Told::Number(value, tests.quality(value))
    }

    fn long_reading(&self, field: &'a Field, base: usize) -> Reading<'a> {
        let raw = self.raw(field, base);
        if matches!(raw, RawValue::NotSent) {
            return Reading::absent(Absent::NotSent);
        }
        let may_be_empty = match field.raw {
            Raw::Columns(_) | Raw::Apart(_) | Raw::Found | Raw::Characters(..) => true,
            // Nothing but blanks is a text or bytes, too, where a width is declared.
            _ => !matches!(field.meaning, Meaning::Text { .. } | Meaning::Bytes),
        };
        let is_empty = match &raw {
            RawValue::Bytes(text) => text.trim_ascii().is_empty(),
            RawValue::Digits(digits) => digits.number().is_empty(),
            _ => false,
        };
        if may_be_empty && is_empty {
            return Reading::absent(Absent::Empty);
        }
        if field.no_data.iter().any(|mark| is_constant(&raw, field, mark)) {
            return Reading::absent(Absent::Marked);
        }
        if field.closed && !is_named(&raw, field) {
            return Reading::invalid();
        }
        let reading = match (&field.meaning, raw) {
            (Meaning::Number { of, convert, codes }, raw) => match number_in(&raw, of, field) {
                Some((number, quality, suffix)) => {
                    let reading = self.number(number, suffix, convert, codes, base);
                    if reading.quality == Quality::Good { Reading { quality, ..reading } } else { reading }
                }
                None => Reading::invalid(),
            },
            (Meaning::Since { of, convert, since }, raw) => {
                let number = number_in(&raw, of, field).map(|(number, ..)| self.number(number, 0, convert, &[], base));
                let then = match number.map(|reading| reading.value) {
                    Some(Value::Decimal(seconds)) => since.later(seconds),
                    _ => None,
                };
                then.map_or(Reading::invalid(), |then| Reading::good(Value::DateTime(then)))
            }
            (Meaning::Float, RawValue::F32(number)) => {
                Reading { value: Value::F32(number), quality: finite(number.is_finite()) }
            }
            (Meaning::Float, RawValue::F64(number)) => {
                Reading { value: Value::F64(number), quality: finite(number.is_finite()) }
            }
            (Meaning::Text { fill, codes, charsets }, RawValue::Bytes(text)) => {
                text_value(text, *fill, codes, charsets)
            }
            (Meaning::Bytes, RawValue::Bytes(bytes)) => Reading::good(Value::Bytes(bytes)),
            (Meaning::HexBytes, RawValue::Bytes(text)) => {
                let digits = text.trim_ascii();
                let are_pairs = digits.len().is_multiple_of(2) && digits.iter().all(u8::is_ascii_hexdigit);
                if are_pairs { Reading::good(Value::HexBytes(digits)) } else { Reading::invalid() }
            }
            (Meaning::Degrees { most, letters }, RawValue::Bytes(text)) => {
                self.degrees(text, field, base, *most, *letters)
            }
            (Meaning::Clock(layout), RawValue::Digits(digits)) => {
                layout.clock(digits.all()).map_or(Reading::invalid(), |clock| Reading::good(Value::Clock(clock)))
            }
            (Meaning::Date(layout), RawValue::Digits(digits)) => {
                layout.date(digits.all()).map_or(Reading::invalid(), |date| Reading::good(Value::Date(date)))
            }
            (Meaning::DateTime(layout), RawValue::Digits(digits)) => {
                let then = layout.date_time(digits.all());
                then.map_or(Reading::invalid(), |then| Reading::good(Value::DateTime(then)))
            }
            (Meaning::Clock(layout), RawValue::Bytes(text)) => {
                layout.clock(text.trim_ascii()).map_or(Reading::invalid(), |clock| Reading::good(Value::Clock(clock)))
            }
            (Meaning::Date(layout), RawValue::Bytes(text)) => {
                dated(text, layout.date(text.trim_ascii()).map(Value::Date))
            }
            (Meaning::Bool(words), RawValue::Bytes(text)) => {
                let found = words.iter().find(|(word, _)| **word == *text.trim_ascii());
                found.map_or(Reading::invalid(), |(_, means)| Reading::good(Value::Bool(*means)))
            }
            (Meaning::DateTime(layout), RawValue::Bytes(text)) => {
                dated(text, layout.date_time(text.trim_ascii()).map(Value::DateTime))
            }
            _ => Reading::invalid(),
        };
        in_range(reading, field.range)
    }

    /// A number with its code, scale and unit.
    fn number(
        &self,
        number: Decimal,
        suffix: usize,
        convert: &'a Convert,
        codes: &'a [(Decimal, alloc::boxed::Box<str>)],
        base: usize,
    ) -> Reading<'a> {
        if let Some((_, name)) = codes.iter().find(|(code, _)| code.compare(number).is_eq()) {
            return Reading::good(Value::Code { number, name });
        }
        let mut value = Some(number);
        if let Some(sign) = &convert.sign {
            let sent = self.raw(&sign.field, base);
            // Where nothing was sent, nothing may be a sign, too.
            let is_it = |constant: &Constant| match &sent {
                RawValue::NotSent => *constant == Constant::Text([].into()),
                sent => is_constant(sent, &sign.field, constant),
            };
            value = match sign.signs.iter().find(|(constant, _)| is_it(constant)) {
                Some((_, is_minus)) if *is_minus => number.times(Decimal::from_integer(-1)),
                Some(_) => Some(number),
                None => None,
            };
        }
        if let Some(scale) = convert.scale {
            value = value.and_then(|value| value.times(scale));
        }
        if let Some(from) = &convert.scale_from {
            let scale = match &*from.scales {
                [] => match self.reading(&from.field, base).value {
                    Value::Decimal(scale) => Some(scale),
                    _ => None,
                },
                scales => scales.iter().find(|(sent, _)| self.equals(&from.field, base, sent)).map(|(_, scale)| *scale),
            };
            value = value.zip(scale).and_then(|(value, scale)| value.times(scale));
        }
        if let Some(add) = convert.add {
            value = value.and_then(|value| value.plus(add));
        }
        if let Some(unit) = &convert.unit {
            let found = unit.units.iter().find(|(sent, _)| self.equals(&unit.field, base, sent));
            value = match found {
                Some((_, conversion)) => value.and_then(|value| converted(value, conversion, unit.places)),
                None => None,
            };
        }
        if let Some(sent) = &convert.sent {
            value = value.and_then(|value| converted(value, sent.conversions.get(suffix)?, sent.places));
        }
        value.map_or(Reading::invalid(), |value| Reading::good(Value::Decimal(value)))
    }

    /// Signed degrees from `dddmm.mmmm` and the letter of the hemisphere in the column behind it.
    fn degrees(&self, text: &'a [u8], field: &Field, base: usize, most: u8, letters: [u8; 2]) -> Reading<'a> {
        let first = match self.start(field.at, base) {
            Some(first) => first,
            None => return Reading::absent(Absent::NotSent),
        };
        let second = first + if matches!(field.raw, Raw::Apart(_)) { 2 } else { 1 };
        let (number, letter) = match field.raw {
            // All in one: the letter is the last character.
            Raw::Bytes(_) => text.trim_ascii().split_at(text.trim_ascii().len().saturating_sub(1)),
            _ => (self.column_text(first, 1).unwrap_or(text), self.column_text(second, 1).unwrap_or_default()),
        };
        let (number, letter) = (number.trim_ascii(), letter.trim_ascii());
        if number.is_empty() && letter.is_empty() {
            return Reading::absent(Absent::Empty);
        }
        degrees_of(number, letter, most, letters)
            .map_or(Reading::invalid(), |value| Reading::good(Value::Decimal(value)))
    }
}

fn integer(value: i64, word: &Word) -> Value<'static> {
    Value::Decimal(Decimal::small(value < 0, value.unsigned_abs(), word.places))
}

/// The reading of a column that is nothing but a number.
pub(crate) fn number_reading(text: &[u8]) -> Reading<'_> {
    let text = text.trim_ascii();
    if text.is_empty() {
        return Reading::absent(Absent::Empty);
    }
    Decimal::parse(text).map_or(Reading::invalid(), |number| Reading::good(Value::Decimal(number)))
}

/// Degrees are rounded, half to even, to three places more than the minutes had, and at least seven: enough to get the minutes
/// back exactly, since a minute is a sixtieth of a degree.
fn degrees_of(number: &[u8], letter: &[u8], most: u8, letters: [u8; 2]) -> Option<Decimal> {
    let whole = number.iter().position(|&byte| byte == b'.').unwrap_or(number.len());
    // At least one digit of degrees before the two of minutes.
    if whole < 3 || !number[..whole].iter().all(u8::is_ascii_digit) {
        return None;
    }
    let degrees = Decimal::parse(&number[..whole - 2])?.to_integer()?;
    let minutes = Decimal::parse(&number[whole - 2..])?;
    if !minutes.compare(Decimal::from_integer(60)).is_lt() || letter.len() != 1 {
        return None;
    }
    let south = letters.iter().position(|&known| known == letter[0])? == 1;
    let total = minutes.plus(Decimal::new(degrees.checked_mul(60)?, 0)?)?;
    let places = minutes.places().saturating_add(3).max(7);
    let value = total.convert(1, 60, (0, 1), places)?;
    if value.compare(Decimal::from_integer(i64::from(most))).is_gt() {
        return None;
    }
    Decimal::from_parts(south, value.magnitude(), value.places())
}

/// The eight bytes from a place near the end of all there is: those that are missing count as zero.
#[cold]
fn short_word(bytes: &[u8], start: usize, size: u8) -> Option<[u8; 8]> {
    let rest = bytes.get(start..).filter(|rest| rest.len() >= usize::from(size))?;
    let mut eight = [0; 8];
    let length = rest.len().min(8);
    eight[..length].copy_from_slice(&rest[..length]);
    Some(eight)
}

/// The bytes of an integer as a word, in whatever order.
pub(crate) fn word_of(bytes: &[u8], order: Order) -> u64 {
    let shift_in = |value: u64, byte: &u8| value << 8 | u64::from(*byte);
    match (order, bytes) {
        (Order::Big, [high, low]) | (Order::Little, [low, high]) => u64::from(u16::from_le_bytes([*low, *high])),
        (Order::Big, bytes) => bytes.iter().fold(0, shift_in),
        (Order::Little, bytes) => bytes.iter().rev().fold(0, shift_in),
        (Order::Letters(_), bytes) => {
            let ranked = bytes.iter().enumerate().map(|(place, byte)| (order.rank(place, bytes.len()), byte));
            ranked.fold(0, |value, (rank, byte)| value | u64::from(*byte) << (8 * (rank & 7)))
        }
    }
}

fn integer_of(bytes: &[u8], taken: Taken) -> Decimal {
    let pattern = match taken.bits {
        // Bits that lie one behind the other may begin and end amid bytes: those of nine are more than a word.
        Some(bits) if bytes.len() > 8 => {
            let (first, rest) = match taken.integer.order {
                Order::Little => (bytes[8], word_of(&bytes[..8], Order::Little)),
                order => (bytes[0], word_of(&bytes[1..], order)),
            };
            (u128::from(first) << 64 | u128::from(rest)) >> bits.lowest()
        }
        Some(bits) => bits.take(word_of(bytes, taken.integer.order).into()).into(),
        None => word_of(bytes, taken.integer.order).into(),
    };
    let unused = 64 - u32::from(taken.width());
    taken.value((pattern as u64) << unused >> unused)
}

/// Digits that were sent two in a byte, as characters. A half that is no digit is a letter, as in hex.
pub(crate) struct Digits {
    characters: [u8; 2 * Bcd::MOST],
    count: usize,
}

impl Digits {
    fn of(bytes: &[u8], bcd: Bcd) -> Digits {
        let mut digits = Digits { characters: [0; 2 * Bcd::MOST], count: 2 * bytes.len().min(Bcd::MOST) };
        let halves = if bcd.low_first { [0, 4] } else { [4, 0] };
        for (place, pair) in digits.characters[..digits.count].chunks_exact_mut(2).enumerate() {
            let at = match bcd.order {
                Order::Big => place,
                order => {
                    (0..bytes.len()).find(|at| order.rank(*at, bytes.len()) == bytes.len() - 1 - place).unwrap_or(place)
                }
            };
            let byte = bytes[at];
            for (character, half) in pair.iter_mut().zip(halves) {
                *character = b"0123456789ABCDEF"[usize::from(byte >> half & 15)];
            }
        }
        digits
    }

    fn all(&self) -> &[u8] {
        &self.characters[..self.count]
    }

    /// Those of the number: halves that fill up what is wider than it are not among them.
    fn number(&self) -> &[u8] {
        let is_digit = |character: &u8| *character != b'F';
        let from = self.all().iter().position(is_digit).unwrap_or(self.count);
        let to = self.all().iter().rposition(is_digit).map_or(from, |last| last + 1);
        &self.characters[from..to]
    }
}

/// The same of a field, with what is to be said about it and the number of the suffix behind it.
fn number_in(raw: &RawValue<'_>, of: &NumberOf, field: &Field) -> Option<(Decimal, Quality, usize)> {
    match (raw, &field.notation) {
        (RawValue::Bytes(text), Some(notation)) => notation.read(text),
        _ => {
            let number = match (raw, of, &field.raw) {
                (RawValue::Bytes(text), NumberOf::HexInteger(taken), Raw::Columns(count) | Raw::Apart(count))
                    if *count > 1 =>
                {
                    hex_in_columns(text, *count, *taken)
                }
                _ => number_of(raw, of),
            };
            number.map(|number| (number, Quality::Good, 0))
        }
    }
}

/// A value in another unit, with so many places, or three more than it has.
fn converted(value: Decimal, conversion: &Conversion, places: Option<u8>) -> Option<Decimal> {
    if conversion.is_identity() {
        return Some(value);
    }
    let places = places.unwrap_or_else(|| value.places().saturating_add(3));
    value.convert(conversion.numerator, conversion.denominator, conversion.addend, places)
}

fn number_of(raw: &RawValue<'_>, of: &NumberOf) -> Option<Decimal> {
    match (raw, of) {
        (RawValue::Number(number), _) => Some(*number),
        (RawValue::Bytes(text), NumberOf::Decimal) => Decimal::parse(text.trim_ascii()),
        (RawValue::Bytes(text), NumberOf::Hex) => hex_number(text.trim_ascii()),
        (RawValue::Bytes(text), NumberOf::HexInteger(taken)) => hex_integer(text.trim_ascii(), *taken),
        // An E among them is a half that is no digit, and no power of ten.
        (RawValue::Digits(digits), _) => {
            let number = digits.number();
            if number.iter().all(u8::is_ascii_digit) { Decimal::parse(number) } else { None }
        }
        _ => None,
    }
}

/// An integer from two hex digits for each of its bytes.
fn hex_integer(text: &[u8], taken: Taken) -> Option<Decimal> {
    let mut bytes = [0; 8];
    let bytes = bytes.get_mut(..usize::from(taken.integer.bytes)).filter(|bytes| 2 * bytes.len() == text.len())?;
    for (byte, digits) in bytes.iter_mut().zip(text.as_chunks::<2>().0) {
        let [high, low] = digits.map(|digit| char::from(digit).to_digit(16));
        *byte = (high? << 4 | low?) as u8;
    }
    Some(integer_of(bytes, taken))
}

/// The same, of digits in so many columns, each of which has as many.
fn hex_in_columns(text: &[u8], columns: usize, taken: Taken) -> Option<Decimal> {
    let (mut digits, mut length, mut found) = ([0; 16], 0, 0);
    let each = 2 * usize::from(taken.integer.bytes) / columns;
    for part in text.split(|byte| !byte.is_ascii_hexdigit()).filter(|part| !part.is_empty()) {
        if part.len() != each {
            return None;
        }
        digits.get_mut(length..length + each)?.copy_from_slice(part);
        (length, found) = (length + each, found + 1);
    }
    if found == columns { hex_integer(digits.get(..length)?, taken) } else { None }
}

/// An unsigned number from hex digits; nothing past 31 of them, which always fit the digits of a decimal.
fn hex_number(text: &[u8]) -> Option<Decimal> {
    if text.is_empty() || text.len() > 31 {
        return None;
    }
    let mut value = 0u128;
    for &byte in text {
        value = value << 4 | u128::from(char::from(byte).to_digit(16)?);
    }
    Decimal::from_parts(false, value, 0)
}

fn is_constant(raw: &RawValue<'_>, field: &Field, constant: &Constant) -> bool {
    match (raw, constant) {
        (RawValue::Number(number), Constant::Number(mark)) => number.compare(*mark).is_eq(),
        (RawValue::F32(number), Constant::Number(mark)) => *number == mark.to_f32(),
        (RawValue::F32(number), Constant::Bits(pattern)) => u64::from(number.to_bits()) == *pattern,
        (RawValue::F64(number), Constant::Bits(pattern)) => number.to_bits() == *pattern,
        (RawValue::F64(number), Constant::Number(mark)) => *number == mark.to_f64(),
        (RawValue::Bytes(text), Constant::Text(mark)) => text.trim_ascii() == &**mark || *text == &**mark,
        (RawValue::Digits(digits), Constant::Text(mark)) => digits.all() == &**mark,
        (RawValue::Bytes(_) | RawValue::Digits(_), Constant::Number(mark)) => match field.meaning {
            Meaning::Number { ref of, .. } | Meaning::Since { ref of, .. } => {
                number_in(raw, of, field).is_some_and(|(number, ..)| number.compare(*mark).is_eq())
            }
            _ => false,
        },
        _ => false,
    }
}

/// Whether a raw value has a name, or is no value at all.
fn is_named(raw: &RawValue<'_>, field: &Field) -> bool {
    match (&field.meaning, raw) {
        (Meaning::Number { of, codes, .. }, raw) => number_in(raw, of, field)
            .is_some_and(|(number, ..)| codes.iter().any(|(code, _)| code.compare(number).is_eq())),
        (Meaning::Text { fill, codes, .. }, RawValue::Bytes(text)) => {
            let text = without_fill(text, *fill);
            text.is_empty() || codes.iter().any(|(code, _)| **code == *text)
        }
        _ => true,
    }
}

/// A text without what fills it up to its width.
fn without_fill(text: &[u8], fill: Option<u8>) -> &[u8] {
    let Some(fill) = fill else { return text };
    let end = text.iter().rposition(|&byte| byte != fill).map_or(0, |last| last + 1);
    &text[..end]
}

fn text_value<'a>(
    text: &'a [u8],
    fill: Option<u8>,
    codes: &'a [(alloc::boxed::Box<[u8]>, alloc::boxed::Box<str>)],
    charsets: &[Charset],
) -> Reading<'a> {
    let text = without_fill(text, fill);
    if text.is_empty() {
        return Reading::absent(Absent::Empty);
    }
    if let Some((_, name)) = codes.iter().find(|(code, _)| **code == *text) {
        return Reading::good(Value::Text(Text::new(name.as_bytes())));
    }
    let usual = charsets.first().copied().unwrap_or_default();
    let fitting = [usual].into_iter().chain(charsets.iter().copied()).find(|charset| charset.fits(text));
    let quality = if fitting.is_some() { Quality::Good } else { Quality::InvalidText };
    Reading { value: Value::Text(Text::of(text, fitting.unwrap_or(usual))), quality }
}

/// A date in one column or several; one whose columns are all empty is absent.
fn dated<'a>(text: &[u8], date: Option<Value<'a>>) -> Reading<'a> {
    match date {
        Some(date) => Reading::good(date),
        None if text.iter().all(|byte| !byte.is_ascii_alphanumeric()) => Reading::absent(Absent::Empty),
        None => Reading::invalid(),
    }
}

fn finite(is_finite: bool) -> Quality {
    if is_finite { Quality::Good } else { Quality::NotFinite }
}

fn in_range<'a>(mut reading: Reading<'a>, range: Option<[Decimal; 2]>) -> Reading<'a> {
    let Some([low, high]) = range else { return reading };
    let outside = match reading.value {
        Value::Decimal(number) => number.compare(low).is_lt() || number.compare(high).is_gt(),
        // At its own width: the nearest to 0.1 is not above 0.1.
        Value::F32(number) => number < low.to_f32() || number > high.to_f32(),
        Value::F64(number) => number < low.to_f64() || number > high.to_f64(),
        _ => false,
    };
    if outside && reading.quality == Quality::Good {
        reading.quality = Quality::OutOfRange;
    }
    reading
}
