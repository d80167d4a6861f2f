//! Digits of texts, eight at a time: numbers, degrees, dates and times of day as they are nearly always sent. What is sent otherwise is
//! left to the long ways.

use super::{Clock, Date, full_year};

const DIGITS: u64 = u64::from_ne_bytes([b'0'; 8]);
const POINTS: u64 = u64::from_ne_bytes([b'.'; 8]);
const LOW_BITS: u64 = u64::from_ne_bytes([0x7F; 8]);
const TOP_BITS: u64 = !LOW_BITS;
const ONES: u64 = u64::from_ne_bytes([1; 8]);
/// A point as a digit.
const POINT: u8 = b'.' ^ b'0';

/// A decimal number as it was written, in the form in which it is also shown: at least one digit before the point, none of them a zero
/// too many, at least one behind it if there is a point, and a minus sign or none.
#[derive(Clone, Copy, Debug)]
pub struct Written<'a> {
    text: &'a [u8],
    /// The same and whatever follows, so that blocks of fixed size can be copied.
    wide: &'a [u8],
}

impl<'a> Written<'a> {
    /// The number in `text`, if that is its form but for zeros in front. `wide` begins with `text`.
    #[inline(always)]
    pub(crate) fn of(text: &'a [u8], wide: &'a [u8]) -> Option<Written<'a>> {
        let negative = usize::from(text.first() == Some(&b'-'));
        let length = text.len() - negative;
        if !(1..=8).contains(&length) {
            return None;
        }
        let (word, points) = word_of(text, wide, negative, length)?;
        // A point stands between digits, and the first digit is no zero unless it is the only one before the point.
        let unused = 64 - 8 * length as u32;
        let first = word >> unused & 0xFF;
        let second_is_digit = length > 1 && points >> unused >> 15 & 1 == 0;
        let point_at_edge = points >> unused & 0x80 != 0 || points >> 63 == 1;
        if point_at_edge {
            return None;
        }
        if first == u64::from(b'0') && second_is_digit {
            return Written { text, wide }.without_zeros();
        }
        Some(Written { text, wide })
    }

    /// The same without the zeros in front that are too many.
    #[inline]
    fn without_zeros(self) -> Option<Written<'a>> {
        let zeros = self.text.iter().take_while(|byte| **byte == b'0').count();
        let one_stays = self.text.get(zeros).is_none_or(|byte| *byte == b'.');
        let from = zeros - usize::from(one_stays && zeros > 0);
        // A sign in front of zeros stays with the long way.
        (zeros > 0).then(|| Written { text: &self.text[from..], wide: &self.wide[from..] })
    }

    /// Its text.
    pub fn text(&self) -> &'a [u8] {
        self.text
    }

    /// Its text and what follows, if that are so many bytes.
    #[inline(always)]
    pub(crate) fn block<const N: usize>(&self) -> Option<&'a [u8; N]> {
        self.wide.first_chunk::<N>()
    }
}

/// The number in a text of at most eight characters and a sign: its coefficient and places. `wide` begins with `text`.
#[inline(always)]
pub(crate) fn short(text: &[u8], wide: &[u8]) -> Option<(i64, u8)> {
    let negative = usize::from(text.first() == Some(&b'-'));
    let length = text.len() - negative;
    if !(1..=8).contains(&length) {
        return None;
    }
    // Digits become their values, a point becomes POINT, and what is not there zero.
    let word = (eight_of(&text[negative..], &wide[negative..]) ^ DIGITS) << (64 - 8 * length);
    // The top bit of the lowest byte that is a point, and perhaps others above it, which are told by not being digits.
    let other = word ^ u64::from_ne_bytes([POINT; 8]);
    let points = other.wrapping_sub(ONES) & !other & TOP_BITS;
    let (digits, places) = match points {
        0 => (word, 0),
        _ if length == 1 => return None,
        _ => {
            // The digits before the point move up by one.
            let below = ((points & points.wrapping_neg()) >> 7) - 1;
            ((word & below) << 8 | word & !(below << 8 | 0xFF), (63 - points.trailing_zeros()) / 8)
        }
    };
    if !all_digits(digits) {
        return None;
    }
    let value = together(digits) as i64;
    match negative {
        0 => Some((value, places as u8)),
        // The sign of a negative zero would be lost.
        _ => (value != 0).then_some((-value, places as u8)),
    }
}

/// The number that one to eight digits are. `wide` begins with `text`.
#[inline(always)]
pub(crate) fn whole(text: &[u8], wide: &[u8]) -> Option<u64> {
    let length = text.len();
    if !(1..=8).contains(&length) {
        return None;
    }
    let values = (eight_of(text, wide) ^ DIGITS) << (64 - 8 * length);
    all_digits(values).then(|| together(values))
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

    /// The three numbers, of the first characters of `text`.
    #[inline(always)]
    fn numbers(&self, text: &[u8], wide: &[u8]) -> Option<[u8; 3]> {
        let text = text.get(..self.length)?;
        let unused = 64 - 8 * self.length as u32;
        let values = (eight_of(text, wide) ^ self.expected) << unused >> unused;
        let digit = |place: u8| (values >> (8 * (place & 7))) as u8;
        let number = |place: u8| digit(place) * 10 + digit(place + 1);
        (all_digits(values) && values & self.literals == 0).then(|| self.places.map(number))
    }

    /// A time of day, perhaps with a fraction behind it.
    #[inline(always)]
    pub(crate) fn clock(&self, text: &[u8], wide: &[u8]) -> Option<Clock> {
        let [hour, minute, second] = self.numbers(text, wide)?;
        if text.len() == self.length {
            return Clock::new(hour, minute, second, 0, 0);
        }
        if text[self.length] != b'.' {
            return None;
        }
        let from = self.length + 1;
        let fraction = whole(&text[from..], &wide[from..])? * 10;
        let digits = text.len() - from;
        Clock::new(hour, minute, second, (fraction * POWERS[8 - digits]) as u32, digits as u8)
    }

    /// A date; its year is the first number.
    #[inline(always)]
    pub(crate) fn date(&self, text: &[u8], wide: &[u8]) -> Option<Date> {
        let [year, month, day] = self.numbers(text, wide)?;
        if text.len() == self.length { Date::new(full_year(year.into()), month, day) } else { None }
    }
}

/// Degrees and minutes as `dddmm.mmmm`, with the letter of the hemisphere: a coefficient and its places. Rounded as said at the long
/// way, half to even, to three places more than the minutes had, and at least seven.
#[inline(always)]
pub(crate) fn degrees(text: &[u8], wide: &[u8], letter: &[u8], most: u8, letters: [u8; 2]) -> Option<(i64, u8)> {
    let &[letter] = letter else { return None };
    if letter != letters[0] && letter != letters[1] {
        return None;
    }
    let point = (3..=5).find(|&place| text.get(place) == Some(&b'.'))?;
    let places = text.len() - point - 1;
    if !(1..=5).contains(&places) {
        return None;
    }
    let whole_part = whole(&text[..point], wide)?;
    let fraction = whole(&text[point + 1..], &wide[point + 1..])?;
    let (degrees, minutes) = (whole_part / 100, whole_part % 100);
    if minutes >= 60 || degrees > u64::from(most) {
        return None;
    }
    let shown = (places + 3).max(7);
    // The minutes at the places shown are sixty times the degrees there.
    let sixtieths = (degrees * 60 + minutes) * POWERS[shown] + fraction * POWERS[shown - places];
    let (quotient, rest) = (sixtieths / 60, sixtieths % 60);
    let value = quotient + u64::from(rest > 30 || (rest == 30 && quotient % 2 == 1));
    let south = letter == letters[1];
    // The sign of a negative zero would be lost.
    let fits = value <= u64::from(most) * POWERS[shown] && !(south && value == 0);
    fits.then_some((if south { -(value as i64) } else { value as i64 }, shown as u8))
}

/// The powers of ten.
const POWERS: [u64; 9] = [1, 10, 100, 1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000];

/// Whether a number of `coefficient` and `places` lies between whole numbers; nothing if that needs more room.
#[inline(always)]
pub(crate) fn is_between(coefficient: i64, places: u8, low: i64, high: i64) -> Option<bool> {
    let unit = *POWERS.get(usize::from(places))? as i64;
    Some((low * unit..=high * unit).contains(&coefficient))
}

/// Whether a text is nothing but printable ASCII without blanks, and is not empty. `wide` begins with `text`.
#[inline(always)]
pub(crate) fn is_graphic(text: &[u8], wide: &[u8]) -> bool {
    let length = text.len();
    match length {
        0 => false,
        // What is not there counts as a digit.
        1..=8 => all_graphic(eight_of(text, wide) << (64 - 8 * length) | DIGITS >> (8 * length - 1) >> 1),
        _ => {
            let (eights, rest) = text.as_chunks::<8>();
            eights.iter().all(|eight| all_graphic(u64::from_le_bytes(*eight))) && rest.iter().all(u8::is_ascii_graphic)
        }
    }
}

#[inline(always)]
fn all_graphic(word: u64) -> bool {
    let low = word & LOW_BITS;
    // Below `!`, the top bit stays clear; from DEL on, it is set.
    let fits = (low + u64::from_ne_bytes([0x80 - b'!'; 8])) & !(low + ONES) & !word;
    fits & TOP_BITS == TOP_BITS
}

/// The first eight bytes of a text of at most eight, low byte first; what lies behind it is of no account.
#[inline(always)]
fn eight_of(text: &[u8], wide: &[u8]) -> u64 {
    match wide.first_chunk::<8>() {
        Some(eight) => u64::from_le_bytes(*eight),
        None => text.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte)),
    }
}

/// Whether all bytes are below ten.
#[inline(always)]
fn all_digits(values: u64) -> bool {
    (((values & LOW_BITS) + u64::from_ne_bytes([0x76; 8])) | values) & TOP_BITS == 0
}

/// The number that eight digits are, the first one in the lowest byte: neighbours are put together to pairs, fours, and the whole.
#[inline(always)]
fn together(digits: u64) -> u64 {
    let value = digits.wrapping_mul(10 << 8 | 1) >> 8 & 0x00FF_00FF_00FF_00FF;
    let value = value.wrapping_mul(100 << 16 | 1) >> 16 & 0x0000_FFFF_0000_FFFF;
    value.wrapping_mul(10_000 << 32 | 1) >> 32
}

/// The characters behind the sign, the last one in the highest byte, and the top bit of the byte that is a point. Nothing if others
/// than digits and one point are in it.
#[inline(always)]
fn word_of(text: &[u8], wide: &[u8], sign: usize, length: usize) -> Option<(u64, u64)> {
    let eight = eight_of(&text[sign..], &wide[sign..]);
    let unused = 64 - 8 * length as u32;
    let word = eight << unused;
    // The top bit of each byte that is a point, exactly: no borrow runs from one byte into the next.
    let other = word ^ POINTS;
    let points = !(((other & LOW_BITS) + LOW_BITS) | other | LOW_BITS);
    // Every other byte that is there is a digit: below ten once the zero is taken away, with a point taken for a digit.
    let values = (word ^ DIGITS) & !(points >> 7).wrapping_mul(0xFF) >> unused << unused;
    (all_digits(values) && points & points.wrapping_sub(1) == 0).then_some((word, points))
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
                let (text, wide) = (&wide[..text.len()], &wide[..]);
                let long = Decimal::parse(text);
                if let Some((coefficient, places)) = short(text, wide) {
                    let long = long.unwrap_or_else(|| panic!("{text:?} is no number"));
                    assert_eq!((i128::from(coefficient), places), (long.coefficient(), long.places()), "{text:?}");
                } else if let Some(number) = long.filter(|_| text.len() <= 8) {
                    let negative_zero = number.is_negative() && number.is_zero();
                    assert!(text[0] == b'+' || text.contains(&b'e') || negative_zero, "{text:?} is {number}");
                }
                if let Some(written) = Written::of(text, wide) {
                    let long = long.unwrap_or_else(|| panic!("{text:?} is no number"));
                    assert_eq!(String::from_utf8_lossy(written.text()), format!("{long}"), "{text:?}");
                }
            }
        }
    }
}
