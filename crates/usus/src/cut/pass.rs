//! One pass over a text, eight bytes at a time: where it may stop, where its columns begin, and all of its bytes xored.

use alloc::vec::Vec;

const LOW_BITS: u64 = repeat(0x7F);
const TOP_BITS: u64 = repeat(0x80);

const fn repeat(byte: u8) -> u64 {
    u64::from_ne_bytes([byte; 8])
}

/// A pass over a text, and what it has gathered so far.
///
/// `columns` receives the places behind separators; the first column's place is already in it.
pub(super) struct Pass<'c> {
    separator: u64,
    columns: &'c mut Vec<u32>,
    sum: u64,
}

impl Pass<'_> {
    /// A pass that writes the columns down.
    pub(super) fn new(separator: u8, columns: &mut Vec<u32>) -> Pass<'_> {
        columns.clear();
        columns.push(0);
        Pass { separator: repeat(separator), columns, sum: 0 }
    }

    /// Ends the columns of a text of that length.
    pub(super) fn end(self, length: usize) {
        self.columns.push(length as u32 + 1);
    }

    /// All bytes passed, xored together.
    pub(super) fn sum(&self) -> u8 {
        let sum = self.sum ^ self.sum >> 32;
        let sum = sum ^ sum >> 16;
        (sum ^ sum >> 8) as u8
    }

    /// Goes on at `from` to the first byte below `FLOOR` or, if `PRINTABLE`, above `~`; nothing if there is none.
    #[inline(always)]
    pub(super) fn run<const FLOOR: u8, const PRINTABLE: bool>(&mut self, text: &[u8], from: usize) -> Option<usize> {
        let mut at = from;
        loop {
            let (word, stops) = match text.get(at..)?.first_chunk::<8>() {
                Some(eight) => {
                    let word = u64::from_le_bytes(*eight);
                    (word, stops::<FLOOR, PRINTABLE>(word))
                }
                None => {
                    let rest = &text[at..];
                    if rest.is_empty() {
                        return None;
                    }
                    let word = rest.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte));
                    // The end of the bytes stops, too.
                    (word, stops::<FLOOR, PRINTABLE>(word) | 0x80 << (8 * rest.len()))
                }
            };
            if stops == 0 {
                self.take(word, u64::MAX, at);
                at += 8;
                continue;
            }
            let before = stops.trailing_zeros() - 7;
            self.take(word, (1 << before) - 1, at);
            at += before as usize / 8;
            return (at < text.len()).then_some(at);
        }
    }

    /// Takes one byte that stopped the pass, and does not.
    #[inline]
    pub(super) fn step_over(&mut self, byte: u8, at: usize) {
        self.take(byte.into(), 0xFF, at);
    }

    /// Takes those of eight bytes that the mask holds.
    #[inline(always)]
    fn take(&mut self, word: u64, mask: u64, at: usize) {
        self.sum ^= word & mask;
        // The top bit of each byte that is the separator, exactly: no borrow runs from one byte into the next.
        let other = word ^ self.separator;
        let mut found = !(((other & LOW_BITS) + LOW_BITS) | other) & TOP_BITS & mask;
        while found != 0 {
            self.columns.push(at as u32 + (found.trailing_zeros() >> 3) + 1);
            found &= found - 1;
        }
    }
}

/// The top bit of each byte at which to look.
#[inline(always)]
fn stops<const FLOOR: u8, const PRINTABLE: bool>(word: u64) -> u64 {
    let low = word & LOW_BITS;
    let above_floor = low + repeat(0x80 - FLOOR);
    match PRINTABLE {
        true => (!above_floor | (low + repeat(1)) | word) & TOP_BITS,
        false => !(above_floor | word) & TOP_BITS,
    }
}
