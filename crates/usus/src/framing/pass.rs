//! One pass over a text, 64 bytes at a time: where it may stop, where its columns begin, and all of its bytes xored.

use wide::i8x16;

use super::columns::{BLOCK, Columns};

/// The places of a block's bytes.
const PLACES: [[i8; 16]; BLOCK / 16] = {
    let mut places = [[0; 16]; BLOCK / 16];
    let mut place = 0;
    while place < BLOCK {
        places[place / 16][place % 16] = place as i8;
        place += 1;
    }
    places
};

/// A pass over a text, and what it has gathered so far. `STOPS` says which bytes it may stop at.
///
/// `columns` receives where the columns begin.
pub(super) struct Pass<'a, STOPS> {
    text: &'a [u8],
    columns: &'a mut Columns,
    separator: i8x16,
    stops_at: STOPS,
    /// The block at hand, and where it begins.
    block: Block,
    begun: usize,
    /// What was passed before it, xored together.
    sum: i8x16,
}

struct Block {
    bytes: [i8x16; BLOCK / 16],
    /// Bytes at which to stop that were not seen yet.
    stops: u64,
    separators: u64,
}

impl<'a, STOPS: Fn(i8x16) -> i8x16> Pass<'a, STOPS> {
    /// A pass that writes the columns down.
    #[inline(always)]
    pub(super) fn new(text: &'a [u8], separator: u8, columns: &'a mut Columns, stops_at: STOPS) -> Pass<'a, STOPS> {
        columns.begin();
        let separator = i8x16::splat(separator as i8);
        let block = Block::of(text, separator, &stops_at);
        Pass { text, columns, separator, stops_at, block, begun: 0, sum: i8x16::splat(0) }
    }

    /// The next byte at which to stop; nothing if there is none.
    #[inline(always)]
    pub(super) fn next_stop(&mut self) -> Option<usize> {
        while self.block.stops == 0 {
            self.sum = self.block.bytes.iter().fold(self.sum, |sum, bytes| sum ^ *bytes);
            self.columns.add_behind(self.block.separators, self.begun);
            self.begun += BLOCK;
            self.block = Block::of(&self.text[self.begun..], self.separator, &self.stops_at);
        }
        let at = self.begun + self.block.stops.trailing_zeros() as usize;
        self.block.stops &= self.block.stops - 1;
        (at < self.text.len()).then_some(at)
    }

    /// Ends the text at a byte at which the pass stopped. Returns all bytes before it xored together.
    #[inline(always)]
    pub(super) fn end(self, length: usize) -> u8 {
        let here = length - self.begun;
        self.columns.add_behind(self.block.separators & ((1 << here) - 1), self.begun);
        self.columns.end(length);
        let (here, mut sum) = (i8x16::splat(here as i8), self.sum);
        for (bytes, places) in self.block.bytes.iter().zip(PLACES) {
            sum ^= *bytes & here.simd_gt(i8x16::new(places));
        }
        let sum = u128::from_le_bytes(sum.to_array().map(|byte| byte as u8));
        let sum = sum as u64 ^ (sum >> 64) as u64;
        let sum = sum ^ sum >> 32;
        let sum = sum ^ sum >> 16;
        (sum ^ sum >> 8) as u8
    }
}

impl Block {
    /// The block that begins a text.
    #[inline(always)]
    fn of(text: &[u8], separator: i8x16, stops_at: &impl Fn(i8x16) -> i8x16) -> Block {
        let mut few = [0; BLOCK];
        let (bytes, end) = match text.first_chunk::<BLOCK>() {
            Some(bytes) => (bytes, 0),
            None => {
                few[..text.len()].copy_from_slice(text);
                // The end of the bytes stops, too.
                (&few, 1 << text.len())
            }
        };
        let (parts, _) = bytes.as_chunks::<16>();
        let bytes = core::array::from_fn(|index| i8x16::new(parts[index].map(|byte| byte as i8)));
        let mut block = Block { bytes, stops: end, separators: 0 };
        for (index, bytes) in bytes.iter().enumerate() {
            block.stops |= u64::from(stops_at(*bytes).to_bitmask()) << (16 * index);
            block.separators |= u64::from(bytes.simd_eq(separator).to_bitmask()) << (16 * index);
        }
        block
    }
}

/// Finds the columns of a whole text, which begins at a place of its frame's contents.
pub(crate) fn split(text: &[u8], separator: u8, begun: usize, columns: &mut Columns) {
    let mut pass = Pass::new(text, separator, columns, |_| i8x16::splat(0));
    // Nothing but the end of the bytes stops it.
    while pass.next_stop().is_some() {}
    pass.end(text.len());
    columns.shift(begun);
}
