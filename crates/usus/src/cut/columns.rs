//! Where the columns of a text begin.

use alloc::vec::Vec;
use core::ops::Deref;

/// Bytes of a text whose separators are told together: a bit of a word each.
pub(super) const BLOCK: usize = 64;

/// Places that are written at once.
const GROUP: usize = 4;

/// Room for all columns of a block, and for those that are written with them and do not count.
const ROOM: usize = BLOCK + GROUP;

/// Where each column of a text begins, and one more than the text's length at the end; empty if the text has no columns.
#[derive(Clone, Debug, Default)]
pub(crate) struct Columns {
    /// Those that are, and room for more. The first one, where the text begins, is always zero.
    places: Vec<u32>,
    count: usize,
}

impl Deref for Columns {
    type Target = [u32];

    #[inline(always)]
    fn deref(&self) -> &[u32] {
        self.places.get(..self.count).unwrap_or_default()
    }
}

impl Columns {
    /// There are none.
    pub(crate) fn clear(&mut self) {
        self.count = 0;
    }

    /// A text begins, and with it its first column.
    #[inline(always)]
    pub(super) fn begin(&mut self) {
        self.count = 1;
    }

    /// Columns begin behind separators: a bit for each byte of the block that begins there.
    #[inline(always)]
    pub(super) fn add_behind(&mut self, separators: u64, begun: usize) {
        if self.places.len() < self.count + ROOM {
            self.grow();
        }
        let room = self.places.get_mut(self.count..).and_then(|places| places.first_chunk_mut::<ROOM>());
        let Some(room) = room else { return };
        let (mut left, mut written) = (separators, 0);
        while left != 0 {
            // Several at once, so that their number is guessed right more often; those too many do not count.
            if let Some(group) = room[written % BLOCK..].first_chunk_mut::<GROUP>() {
                *group = core::array::from_fn(|_| {
                    let place = (left | 1 << 63).trailing_zeros();
                    left &= left.wrapping_sub(1);
                    begun as u32 + 1 + place
                });
            }
            written += GROUP;
        }
        self.count += separators.count_ones() as usize;
    }

    /// What would be the place of the next column, if the text did not end here. There is a place for it: a block has fewer separators than
    /// it has room.
    #[inline(always)]
    pub(super) fn end(&mut self, length: usize) {
        if let Some(place) = self.places.get_mut(self.count) {
            *place = length as u32 + 1;
            self.count += 1;
        }
    }

    #[cold]
    #[inline(never)]
    fn grow(&mut self) {
        self.places.resize((self.count + ROOM).next_power_of_two(), 0);
    }
}
