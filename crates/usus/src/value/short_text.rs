//! Texts as they are nearly always sent: printable ASCII, and short. Told eight characters at a time; what else is sent is left to the long way.

use super::digits::{Column, DIGITS, LOW_BITS, ONES, TOP_BITS, at_top};

/// A text of one to eight characters as it was written. It is printable ASCII and has no comma, quote or backslash: it is shown as it is.
#[derive(Clone, Copy, Debug)]
pub struct ShortText<'a> {
    column: Column<'a>,
    eight: u64,
}

impl<'a> ShortText<'a> {
    /// The text in a column, if it is such a one and begins with no blank.
    #[inline(always)]
    pub(crate) fn of(column: Column<'a>) -> Option<ShortText<'a>> {
        let (eight, length) = (column.eight(), column.length);
        if !(1..=8).contains(&length) || eight as u8 == b' ' {
            return None;
        }
        let word = filled(eight, length);
        // The top bit stays clear where the byte is this one.
        let others = b",\"\\".map(|byte| ((word & LOW_BITS) ^ u64::from_ne_bytes([byte; 8])) + LOW_BITS);
        let fits = printable(word) & others[0] & others[1] & others[2];
        (fits & TOP_BITS == TOP_BITS).then_some(ShortText { column, eight })
    }

    /// Its characters.
    pub fn text(&self) -> &'a [u8] {
        self.column.text()
    }

    /// How many there are.
    #[inline(always)]
    pub fn length(&self) -> usize {
        self.column.length
    }

    /// Its characters, the first one lowest; whatever follows stands in those that are too many.
    #[inline(always)]
    pub fn eight(&self) -> u64 {
        self.eight
    }
}

/// Whether a column that is not empty is nothing but printable ASCII, and begins with no blank.
#[inline(always)]
pub(crate) fn is_plain(column: Column<'_>) -> bool {
    let eight = column.eight();
    let begins = eight as u8 != b' ';
    match column.length {
        1..=8 => begins && printable(filled(eight, column.length)) & TOP_BITS == TOP_BITS,
        _ => begins && is_plain_text(column.text()),
    }
}

#[inline(never)]
fn is_plain_text(text: &[u8]) -> bool {
    let (eights, rest) = text.as_chunks::<8>();
    let is_printable = |byte: &u8| matches!(byte, b' '..=b'~');
    eights.iter().all(|eight| printable(u64::from_le_bytes(*eight)) & TOP_BITS == TOP_BITS)
        && rest.iter().all(is_printable)
}

/// One to eight characters, and digits for those that are not there.
#[inline(always)]
fn filled(eight: u64, length: usize) -> u64 {
    at_top(eight, length) | DIGITS >> (8 * length - 1) >> 1
}

/// The top bit of each byte that is printable ASCII. Below a blank, that of the sum stays clear; from DEL on, it is set.
#[inline(always)]
fn printable(word: u64) -> u64 {
    let low = word & LOW_BITS;
    (low + u64::from_ne_bytes([0x80 - b' '; 8])) & !(low + ONES) & !word
}
