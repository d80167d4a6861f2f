//! Where the columns of a text begin.

use alloc::vec::Vec;
use core::ops::Deref;

use crate::limits;

/// Bytes of a text whose separators are told together: a bit of a word each.
pub(super) const BLOCK: usize = 64;

/// Bytes of a text whose columns are written down at once, and how many they can be.
const GROUP: usize = 8;

/// Room for all columns of a block, and for those that are written with them and do not count.
const ROOM: usize = BLOCK + GROUP;

/// Where each column of a text begins, and one more than the text's length at the end; empty if the text has no columns.
#[derive(Clone, Debug, Default)]
pub(crate) struct Columns {
    /// Those that are, and room for more. The first one, where the text begins, is zero until they are shifted. Small, since each line writes some down:
    /// see [`limits::LINE`](crate::limits::LINE).
    places: Vec<u16>,
    count: usize,
    /// What was set aside, to be laid out anew.
    aside: Vec<u16>,
}

impl Deref for Columns {
    type Target = [u16];

    #[inline(always)]
    fn deref(&self) -> &[u16] {
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
        if let Some(first) = self.places.first_mut() {
            *first = 0;
        }
    }

    /// Columns begin behind separators: a bit for each byte of the block that begins there.
    #[inline(always)]
    pub(super) fn add_behind(&mut self, separators: u64, begun: usize) {
        if self.places.len() < self.count + ROOM {
            self.grow();
        }
        let room = self.places.get_mut(self.count..).and_then(|places| places.first_chunk_mut::<ROOM>());
        let Some(room) = room else { return };
        let [low, high] = [separators as u32, (separators >> 32) as u32];
        let mut written = write_down(low, begun as u16, 0, room);
        // Few texts reach into the second half of their last block.
        if high != 0 {
            written = write_down(high, (begun + BLOCK / 2) as u16, written, room);
        }
        self.count += written;
    }

    /// The text ends: what would be the place of the next column is written down. There is room for it: a block has fewer separators. Of a
    /// text that is longer than allowed, nothing here is of use.
    #[inline(always)]
    pub(super) fn end(&mut self, length: usize) {
        if let Some(place) = self.places.get_mut(self.count) {
            *place = (length as u16).wrapping_add(1);
            self.count += 1;
        }
    }

    /// A column that lies apart from the others.
    #[inline]
    pub(crate) fn add_apart(&mut self, begin: usize, end: usize) {
        if self.places.len() < self.count + 2 {
            self.grow();
        }
        if let Some([first, last]) = self.places.get_mut(self.count..self.count + 2) {
            (*first, *last) = (begin as u16, (end as u16).wrapping_add(1));
            self.count += 2;
        }
    }

    /// A column that is not there, among those that lie apart.
    #[inline]
    pub(crate) fn add_absent(&mut self) {
        self.add_apart(0, 0);
        if let Some(last) = self.places.get_mut(..self.count).and_then(<[u16]>::last_mut) {
            *last = 0;
        }
    }

    /// Sets columns that lie apart aside, to be laid out anew. Says how many they are.
    pub(crate) fn set_aside(&mut self) -> usize {
        let Columns { places, count, aside } = self;
        aside.clear();
        aside.extend_from_slice(places.get(..*count).unwrap_or_default());
        *count = 0;
        aside.len() / 2
    }

    /// Adds a column that was set aside.
    pub(crate) fn bring_back(&mut self, column: usize) {
        if let Some([begin, end]) = self.aside.as_chunks::<2>().0.get(column) {
            let [begin, end] = [usize::from(*begin), usize::from(*end)];
            if begin == end { self.add_absent() } else { self.add_apart(begin, end - 1) }
        }
    }

    /// Fields that were found in a line, behind the columns of its header.
    pub(crate) fn add_found(&mut self, found: &[Option<[u16; 2]>]) {
        for field in found {
            match field {
                Some([begin, end]) => self.add_apart((*begin).into(), (*end).into()),
                None => self.add_absent(),
            }
        }
    }

    /// Adds the row of an item of parts, in which nothing is yet. Returns its place; nothing if there are too many.
    pub(crate) fn add_row(&mut self, places: usize) -> Option<usize> {
        let row = self.count;
        if row + places > limits::PARTS {
            return None;
        }
        if self.places.len() < row + places {
            self.places.resize((row + places + ROOM).next_power_of_two(), 0);
        }
        self.places[row..row + places].fill(0);
        self.count += places;
        Some(row)
    }

    /// Writes down a place in a row. What is beyond sixteen bits was refused before.
    #[inline]
    pub(crate) fn set_place(&mut self, at: usize, place: usize) {
        if let Some(at) = self.places.get_mut(..self.count).and_then(|places| places.get_mut(at)) {
            *at = place as u16;
        }
    }

    /// Whether a column that lies apart is not there.
    #[inline]
    pub(crate) fn is_absent(&mut self, column: usize) -> bool {
        self.apart().get(column).is_none_or(|[first, last]| first == last)
    }

    /// Tells where a column is that was not there.
    #[inline]
    pub(crate) fn set_apart(&mut self, column: usize, begin: usize, end: usize) {
        if let Some(places) = self.apart().get_mut(column) {
            *places = [begin as u16, (end as u16).wrapping_add(1)];
        }
    }

    /// Columns that lie apart, to be changed: where each begins, and one more than where it ends.
    pub(crate) fn apart(&mut self) -> &mut [[u16; 2]] {
        self.places.get_mut(..self.count).unwrap_or_default().as_chunks_mut::<2>().0
    }

    /// Counts all places from so many bytes before the text.
    pub(super) fn shift(&mut self, by: usize) {
        for place in self.places.iter_mut().take(if by > 0 { self.count } else { 0 }) {
            *place = place.wrapping_add(by as u16);
        }
    }

    #[cold]
    #[inline(never)]
    fn grow(&mut self) {
        self.places.resize((self.count + ROOM).next_power_of_two(), 0);
    }
}

/// Writes down where columns begin behind separators, from the place in the room on that comes next; returns the one that does then.
///
/// Group by group by a table, so that nothing depends on how many there are: that could not be guessed.
#[inline(always)]
fn write_down(separators: u32, begun: u16, from: usize, room: &mut [u16; ROOM]) -> usize {
    let mut next = from;
    // Each of the group has one more to add than the one before, and one less in the table: a word that is the same for all would be put
    // together anew for each group.
    let mut first: [u16; GROUP] = core::array::from_fn(|index| begun.wrapping_add(index as u16));
    for bits in separators.to_le_bytes() {
        let behind = &BEHIND[usize::from(bits)];
        if let Some(group) = room[next % BLOCK..].first_chunk_mut::<GROUP>() {
            *group = core::array::from_fn(|index| first[index].wrapping_add(behind[index]));
        }
        next += usize::from(COUNTS[usize::from(bits)]);
        first = first.map(|first| first.wrapping_add(GROUP as u16));
    }
    next
}

/// For every eight bits, one more than the places of those that are set, less how many are before it.
static BEHIND: [[u16; GROUP]; 256] = {
    let mut behind = [[0; GROUP]; 256];
    let mut bits = 0;
    while bits < behind.len() {
        let (mut place, mut count) = (0, 0);
        while place < GROUP {
            if bits >> place & 1 == 1 {
                behind[bits][count] = (place + 1 - count) as u16;
                count += 1;
            }
            place += 1;
        }
        bits += 1;
    }
    behind
};

/// For every eight bits, how many are set.
static COUNTS: [u8; 256] = {
    let mut counts = [0; 256];
    let mut bits = 0;
    while bits < counts.len() {
        counts[bits] = bits.count_ones() as u8;
        bits += 1;
    }
    counts
};
