//! Digits of texts, eight at a time.

use alloc::vec::Vec;

const DIGITS: u64 = u64::from_ne_bytes([b'0'; 8]);
const POINTS: u64 = u64::from_ne_bytes([b'.'; 8]);
const LOW_BITS: u64 = u64::from_ne_bytes([0x7F; 8]);

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

    /// Appends its text, and `end` behind it.
    #[inline(always)]
    pub fn append_to(&self, end: u8, out: &mut Vec<u8>) {
        let (before, length) = (out.len(), self.text.len());
        match self.wide.first_chunk::<16>() {
            Some(block) if length < 16 => {
                out.extend_from_slice(block);
                out[before + length] = end;
                out.truncate(before + length + 1);
            }
            _ => {
                out.extend_from_slice(self.text);
                out.push(end);
            }
        }
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
    let (word, points) = word_of(text, wide, negative, length)?;
    if length == 1 && points != 0 {
        return None;
    }
    let (digits, places) = if points == 0 {
        (word, 0)
    } else {
        // The characters before the point move up by one.
        let place = points.trailing_zeros() - 7;
        let before = word & ((1 << place) - 1);
        let behind = word >> place >> 8 << 8 << place;
        (before << 8 | behind, (56 - place) / 8)
    };
    // Neighbours are put together to pairs, fours, and the whole.
    let value = digits & 0x0F0F_0F0F_0F0F_0F0F;
    let value = value.wrapping_mul(10 << 8 | 1) >> 8 & 0x00FF_00FF_00FF_00FF;
    let value = value.wrapping_mul(100 << 16 | 1) >> 16 & 0x0000_FFFF_0000_FFFF;
    let value = (value.wrapping_mul(10_000 << 32 | 1) >> 32) as i64;
    match negative {
        0 => Some((value, places as u8)),
        // The sign of a negative zero would be lost.
        _ => (value != 0).then_some((-value, places as u8)),
    }
}

/// The characters behind the sign, the last one in the highest byte, and the top bit of the byte that is a point. Nothing if others
/// than digits and one point are in it.
#[inline(always)]
fn word_of(text: &[u8], wide: &[u8], sign: usize, length: usize) -> Option<(u64, u64)> {
    let eight = match wide.get(sign..).and_then(|rest| rest.first_chunk::<8>()) {
        Some(eight) => u64::from_le_bytes(*eight),
        None => text[sign..].iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte)),
    };
    let unused = 64 - 8 * length as u32;
    let word = eight << unused;
    // The top bit of each byte that is a point, exactly: no borrow runs from one byte into the next.
    let other = word ^ POINTS;
    let points = !(((other & LOW_BITS) + LOW_BITS) | other | LOW_BITS);
    // Every other byte that is there is a digit: below ten once the zero is taken away, with a point taken for a digit.
    let values = (word ^ DIGITS) & !(points >> 7).wrapping_mul(0xFF) >> unused << unused;
    let fits = ((values & LOW_BITS) + u64::from_ne_bytes([0x76; 8]) | values) & !LOW_BITS == 0;
    (fits && points & points.wrapping_sub(1) == 0).then_some((word, points))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::Decimal;
    use alloc::format;
    use alloc::string::String;

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
                    let mut shown = Vec::new();
                    written.append_to(b';', &mut shown);
                    assert_eq!(String::from_utf8_lossy(&shown), format!("{long};"), "{text:?}");
                    assert_eq!(written.text(), &shown[..shown.len() - 1]);
                }
            }
        }
    }
}
