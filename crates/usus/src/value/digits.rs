//! Digits of texts, eight at a time: numbers, degrees, dates and times of day as they are nearly always sent. What is sent otherwise is
//! left to the long ways.

use super::{Clock, Date, FIRST_YEAR, full_year};

pub(super) const DIGITS: u64 = u64::from_ne_bytes([b'0'; 8]);
pub(super) const LOW_BITS: u64 = u64::from_ne_bytes([0x7F; 8]);
pub(super) const TOP_BITS: u64 = !LOW_BITS;
pub(super) const ONES: u64 = u64::from_ne_bytes([1; 8]);
/// A point as a digit.
const POINT: u8 = b'.' ^ b'0';

/// A column of a text, or a part of one.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Column<'a> {
    /// The column and whatever follows it, so that words and blocks of fixed size can be taken.
    pub(crate) wide: &'a [u8],
    pub(crate) length: usize,
}

impl<'a> Column<'a> {
    pub(crate) fn text(&self) -> &'a [u8] {
        self.wide.get(..self.length).unwrap_or_default()
    }

    /// Its first eight characters, the first one lowest; if it has fewer, whatever follows stands in the others.
    #[inline(always)]
    pub(crate) fn eight(&self) -> u64 {
        match self.wide.first_chunk::<8>() {
            Some(eight) => u64::from_le_bytes(*eight),
            None => few(self.wide),
        }
    }

    /// What is left behind its first characters.
    #[inline(always)]
    fn behind(&self, first: usize) -> Option<Column<'a>> {
        Some(Column { wide: self.wide.get(first..)?, length: self.length.checked_sub(first)? })
    }
}

#[cold]
#[inline(never)]
fn few(bytes: &[u8]) -> u64 {
    bytes.iter().take(8).rev().fold(0, |word, byte| word << 8 | u64::from(*byte))
}

/// One to eight characters, the last one in the highest byte; below them are zeros.
#[inline(always)]
pub(super) fn at_top(eight: u64, length: usize) -> u64 {
    eight << (64u32.wrapping_sub(8 * length as u32) & 63)
}

/// What makes a minus sign a zero.
const SIGN: u64 = (b'-' ^ b'0') as u64;

/// A decimal number as it was written, in the form in which it is also shown: at least one digit before the point, none of them a zero
/// too many, at least one behind it if there is a point, and a minus sign or none. It has one to eight characters.
#[derive(Clone, Copy, Debug)]
pub struct Written<'a> {
    column: Column<'a>,
    /// Zeros in front of it.
    too_many: usize,
    eight: u64,
}

impl<'a> Written<'a> {
    /// The number in a column of one to eight characters, if that is its form but for zeros in front.
    #[inline(always)]
    pub(crate) fn of(column: Column<'a>) -> Option<Written<'a>> {
        let length = column.length;
        let eight = column.eight();
        let word = at_top(eight ^ DIGITS, length);
        let (signed, before) = match no_digits(word) {
            0 => (0, length),
            others => {
                let negative = u64::from(eight as u8 == b'-');
                // Without the sign, nothing but one point, and not at the end.
                let point = others ^ negative << (71u32.wrapping_sub(8 * length as u32) & 63);
                let place = point.trailing_zeros();
                let is_other = (word >> (place.wrapping_sub(7) & 63)) as u8 != POINT;
                if point != 0 && (is_other || point & (point - 1) != 0 || place == 63) {
                    return None;
                }
                // Without a point, all characters stand before it.
                (negative as usize, (length + place as usize / 8).checked_sub(8 + negative as usize)?)
            }
        };
        // Zeros in front are as likely as not in some columns: how many are too many is worked out, and no jump asks whether there are any. The last
        // digit before the point is never too many; there has to be one.
        let zeros = ((eight ^ DIGITS) >> (8 * signed)).trailing_zeros() as usize / 8;
        let too_many = zeros.min(before.checked_sub(1)?);
        // A sign in front of zeros is left to the long way.
        if too_many * signed != 0 {
            return None;
        }
        Some(Written { column, too_many, eight: eight >> (8 * too_many) })
    }

    /// Its text.
    pub fn text(&self) -> &'a [u8] {
        self.column.text().get(self.too_many..).unwrap_or_default()
    }

    /// How long its text is: one to eight.
    #[inline(always)]
    pub fn length(&self) -> usize {
        self.column.length - self.too_many
    }

    /// Its characters, the first one lowest; whatever follows stands in those that are too many.
    #[inline(always)]
    pub fn eight(&self) -> u64 {
        self.eight
    }
}

/// The top bit of the lowest byte that is [`POINT`]; zero if none is. Other points are told by not being digits.
#[inline(always)]
fn lowest_point(word: u64) -> u64 {
    let other = word ^ u64::from_ne_bytes([POINT; 8]);
    // Above the lowest, a borrow may make a byte look like one.
    let points = other.wrapping_sub(ONES) & !other & TOP_BITS;
    points & points.wrapping_neg()
}

/// The number in a column of one to eight characters: its coefficient and places.
#[inline(always)]
pub(crate) fn short(column: Column<'_>) -> Option<(i64, u8)> {
    let eight = column.eight();
    let negative = u64::from(eight as u8 == b'-');
    // Digits become their values, a point becomes POINT, and what is not there zero.
    let word = at_top(eight ^ DIGITS ^ (negative * SIGN), column.length);
    let (digits, places) = match no_digits(word) {
        0 => (word, 0),
        point => {
            let place = point.trailing_zeros();
            // Nothing but one point, and not alone.
            if point & (point - 1) != 0 || (word >> (place - 7)) as u8 != POINT || column.length == 1 {
                return None;
            }
            // The digits before the point move up by one.
            let below = (point >> 7) - 1;
            ((word & below) << 8 | word & !(below << 8 | 0xFF), (63 - place) / 8)
        }
    };
    let value = together(digits);
    // The sign of a negative zero would be lost, and there may be no digit at all.
    if value + 1 == negative {
        return None;
    }
    Some((signed(value, negative), places as u8))
}

/// A number with its sign, without a jump that would have to be guessed: `negative` is 1 or 0.
#[inline(always)]
fn signed(value: u64, negative: u64) -> i64 {
    (value ^ negative.wrapping_neg()).wrapping_add(negative) as i64
}

/// The number that one to eight digits are.
#[inline(always)]
fn whole(eight: u64, length: usize) -> Option<u64> {
    let values = at_top(eight ^ DIGITS, length);
    ((1..=8).contains(&length) && all_digits(values)).then(|| together(values))
}

/// Where in at most eight characters three numbers of two digits stand, and what stands between them: `hh:mm:ss`, `ddmmyy`.
#[derive(Clone, Debug)]
pub(crate) struct Pattern {
    length: usize,
    /// The characters between the digits, and a zero for each digit.
    expected: u64,
    /// All bits of the characters between the digits, and of those that are too many.
    literals: u64,
    places: [u8; 3],
}

impl Pattern {
    /// A pattern of these characters, digits being none, whose numbers stand at these places; nothing if there are too many.
    pub(super) fn new(characters: &[Option<u8>], places: [u8; 3]) -> Option<Pattern> {
        let word = |byte_of: fn(Option<u8>) -> u8| {
            characters.iter().rev().fold(0, |word, character| word << 8 | u64::from(byte_of(*character)))
        };
        (characters.len() <= 8).then(|| Pattern {
            length: characters.len(),
            expected: word(|character| character.unwrap_or(b'0')),
            literals: word(|character| if character.is_some() { 0xFF } else { 0 }),
            places,
        })
    }

    /// The three numbers, of the first characters of a column.
    #[inline(always)]
    fn numbers(&self, column: Column<'_>) -> Option<[u8; 3]> {
        if column.length < self.length {
            return None;
        }
        let unused = 64 - 8 * self.length as u32;
        let values = (column.eight() ^ self.expected) << unused >> unused;
        if !all_digits(values) || values & self.literals != 0 {
            return None;
        }
        // Each digit with the one behind it; no sum runs over into the next byte.
        let pairs = values.wrapping_mul(10).wrapping_add(values >> 8);
        let number = |place: u8| (pairs >> (8 * (place & 7))) as u8;
        let [first, second, third] = self.places;
        Some([number(first), number(second), number(third)])
    }

    /// A time of day, perhaps with a fraction behind it.
    #[inline(always)]
    pub(crate) fn clock(&self, column: Column<'_>) -> Option<Clock> {
        let [hour, minute, second] = self.numbers(column)?;
        if column.length == self.length {
            return Clock::new(hour, minute, second, 0, 0);
        }
        if *column.wide.get(self.length)? != b'.' {
            return None;
        }
        let fraction = column.behind(self.length + 1)?;
        let digits = fraction.length;
        let value = whole(fraction.eight(), digits)? * 10;
        Clock::new(hour, minute, second, (value * POWERS[8 - digits]) as u32, digits as u8)
    }

    /// A date; its year is the first number.
    #[inline(always)]
    pub(crate) fn date(&self, column: Column<'_>) -> Option<Date> {
        let [year, month, day] = self.numbers(column)?;
        if column.length == self.length { Date::new(full_year(year.into(), FIRST_YEAR), month, day) } else { None }
    }
}

/// Degrees and minutes as `dddmm.mmmm`, with the letter of the hemisphere: a coefficient and its places. Rounded as said at the long
/// way, half to even, to three places more than the minutes had, and at least seven.
#[inline(always)]
pub(crate) fn degrees(column: Column<'_>, letter: Column<'_>, most: u8, letters: [u8; 2]) -> Option<(i64, u8)> {
    let letter = *letter.wide.first().filter(|_| letter.length == 1)?;
    // Either is as likely, so no jump says which: the product is zero for both.
    let [other_than_north, other_than_south] = letters.map(|known| u16::from(known ^ letter));
    if other_than_north * other_than_south != 0 {
        return None;
    }
    let south = u64::from(other_than_south == 0);
    let eight = column.eight();
    let point = lowest_point(eight ^ DIGITS).trailing_zeros() as usize / 8;
    let fraction = column.behind(point + 1)?;
    let places = fraction.length;
    if !(3..=5).contains(&point) || !(1..=5).contains(&places) {
        return None;
    }
    let (whole_part, fraction) = (whole(eight, point)?, whole(fraction.eight(), places)?);
    let (degrees, minutes) = (whole_part / 100, whole_part % 100);
    if minutes >= 60 || degrees > u64::from(most) {
        return None;
    }
    let shown = (places + 3).max(7);
    // The minutes at the places shown are sixty times the degrees there.
    let sixtieths = (degrees * 60 + minutes) * POWERS[shown] + fraction * POWERS[shown - places];
    let (quotient, rest) = (sixtieths / 60, sixtieths % 60);
    let value = quotient + u64::from(rest > 30 || (rest == 30 && quotient % 2 == 1));
    // The sign of a negative zero would be lost.
    let fits = value <= u64::from(most) * POWERS[shown] && value + 1 != south;
    fits.then_some((signed(value, south), shown as u8))
}

/// The powers of ten.
const POWERS: [u64; 9] = [1, 10, 100, 1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000];

/// Whether a number of `coefficient` and `places` lies between whole numbers; nothing if that needs more room.
#[inline(always)]
pub(crate) fn is_between(coefficient: i64, places: u8, low: i64, high: i64) -> Option<bool> {
    let unit = *POWERS.get(usize::from(places))? as i64;
    Some((low * unit..=high * unit).contains(&coefficient))
}

/// Whether all bytes are below ten.
#[inline(always)]
fn all_digits(values: u64) -> bool {
    no_digits(values) == 0
}

/// The top bits of the bytes that are not below ten.
#[inline(always)]
fn no_digits(values: u64) -> u64 {
    (((values & LOW_BITS) + u64::from_ne_bytes([0x76; 8])) | values) & TOP_BITS
}

/// The number that eight digits are, the first one in the lowest byte: neighbours are put together to pairs, fours, and the whole.
#[inline(always)]
fn together(digits: u64) -> u64 {
    let value = digits.wrapping_mul(10 << 8 | 1) >> 8 & 0x00FF_00FF_00FF_00FF;
    let value = value.wrapping_mul(100 << 16 | 1) >> 16 & 0x0000_FFFF_0000_FFFF;
    value.wrapping_mul(10_000 << 32 | 1) >> 32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::Decimal;
    use alloc::format;
    use alloc::string::String;
    use alloc::vec::Vec;

    /// Every text of up to four characters of this alphabet, and some longer ones, against the long way.
    #[test]
    fn short_ways_agree_with_the_long_one() {
        let alphabet = b"0179.-/:+ ,e\x00\x80\xB0";
        let mut texts: Vec<Vec<u8>> = [Vec::new()].to_vec();
        for length in 1..=4 {
            let longest: Vec<Vec<u8>> = texts.iter().filter(|text| text.len() == length - 1).cloned().collect();
            for text in longest {
                texts.extend(alphabet.iter().map(|byte| [&text[..], &[*byte]].concat()));
            }
        }
        for text in [
            "12345678",
            "1234567.",
            ".1234567",
            "-12345678",
            "-1234.567",
            "123456789",
            "00000000",
            "0.000000",
            "1.2.3456",
        ] {
            texts.push(text.as_bytes().to_vec());
        }
        for text in &texts {
            for behind in [&b""[..], b"7,1234567890abcdefgh"] {
                let wide = [text, behind].concat();
                let (text, column) = (&wide[..text.len()], Column { wide: &wide, length: text.len() });
                let long = Decimal::parse(text);
                if !(1..=8).contains(&text.len()) {
                    continue;
                }
                if let Some((coefficient, places)) = short(column) {
                    let long = long.unwrap_or_else(|| panic!("{text:?} is no number"));
                    assert_eq!((i128::from(coefficient), places), (long.coefficient(), long.places()), "{text:?}");
                } else if let Some(number) = long {
                    let negative_zero = number.is_negative() && number.is_zero();
                    assert!(text[0] == b'+' || text.contains(&b'e') || negative_zero, "{text:?} is {number}");
                }
                if let Some(written) = Written::of(column) {
                    let long = long.unwrap_or_else(|| panic!("{text:?} is no number"));
                    assert_eq!(String::from_utf8_lossy(written.text()), format!("{long}"), "{text:?}");
                }
            }
        }
    }
}
