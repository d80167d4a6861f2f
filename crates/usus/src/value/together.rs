//! Columns of numbers that stand side by side: whether all of them are written in the form in which numbers are shown, told together, by a
//! bit of a word for each of their characters.

use wide::i8x16;

/// Characters that are looked at together.
const MOST: usize = 64;

/// Columns of a text, one behind the other, with their separators between them. Each is a number as it was written, in the form in which
/// it is also shown, or empty.
#[derive(Clone, Copy, Debug)]
pub struct Together<'a> {
    block: &'a [u8; MOST],
    length: usize,
}

impl<'a> Together<'a> {
    /// The columns at the start of `wide`, of so many characters, if they are all such, and in all no more than 64.
    #[inline(always)]
    pub(crate) fn of(wide: &'a [u8], length: usize, separator: u8) -> Option<Together<'a>> {
        let block = wide.first_chunk::<MOST>().filter(|_| (1..MOST).contains(&length))?;
        are_shown_so(block, length, separator).then_some(Together { block, length })
    }

    /// Their characters.
    pub fn text(&self) -> &'a [u8] {
        &self.block[..self.length]
    }

    /// Their characters and what follows, and how many they are.
    #[inline(always)]
    pub fn block(&self) -> (&'a [u8; MOST], usize) {
        (self.block, self.length)
    }
}

/// Whether columns are numbers as they are shown, or empty: an optional sign, digits of which the first is no zero unless it is the only
/// one before the point, and perhaps a point between digits.
#[inline(always)]
fn are_shown_so(block: &[u8; MOST], length: usize, separator: u8) -> bool {
    let [mut separators, mut digits, mut points, mut signs, mut zeros] = [0u64; 5];
    for (index, bytes) in block.as_chunks::<16>().0.iter().enumerate() {
        let bytes = i8x16::new(bytes.map(|byte| byte as i8));
        let bits = |such: i8x16| u64::from(such.to_bitmask()) << (16 * index);
        let is = |byte: u8| bits(bytes.simd_eq(i8x16::splat(byte as i8)));
        separators |= is(separator);
        points |= is(b'.');
        signs |= is(b'-');
        zeros |= is(b'0');
        let above = bytes.simd_gt(i8x16::splat(b'0' as i8 - 1));
        digits |= bits(above & i8x16::splat(b'9' as i8 + 1).simd_gt(bytes));
    }
    let all = (1u64 << length) - 1;
    [separators, digits, points, signs, zeros] = [separators, digits, points, signs, zeros].map(|bits| bits & all);
    let starts = separators << 1 | 1;
    // Where the first digit has to be, unless the column is empty.
    let firsts = starts & !signs | signs << 1;
    // A one added behind a point runs through the digits that follow: it must not end at another point.
    let second_points = (points << 1).wrapping_add(digits) & points;
    // No more digits than numbers have, on either side of a point.
    let many = digits & digits >> 1;
    let many = many & many >> 2;
    let many = many & many >> 4;
    let many = many & many >> 8;
    let wrong = all & !(separators | digits | points | signs)
        | signs & !starts
        | signs << 1 & !digits
        | points & !(digits << 1 & digits >> 1)
        | second_points
        | zeros & firsts & digits >> 1
        | many;
    wrong == 0
}
