//! Integers as they lie in bytes.

use core::fmt;

/// An integer in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Integer {
    /// Whether it has a sign: in two's complement, unless the field says otherwise.
    pub signed: bool,
    /// Bytes, 1 to 8.
    pub bytes: u8,
    /// Order of its bytes.
    pub order: Order,
}

/// Order of bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// The most significant byte first.
    Big,
    /// The least significant byte first.
    Little,
    /// Any other, of four or eight bytes.
    Letters(Letters),
}

impl Order {
    /// The order of bytes by letters, of which A is the most significant: `cdab`. Nothing if they are none of four or eight bytes; `abcd` and `dcba`
    /// are what [`Order::Big`] and [`Order::Little`] say.
    pub fn of_letters(letters: &str) -> Option<Order> {
        let letters = letters.as_bytes();
        let count = letters.len();
        if !matches!(count, 4 | 8) {
            return None;
        }
        let (mut packed, mut seen) = (0u32, 0u8);
        for (index, letter) in letters.iter().enumerate() {
            let rank = usize::from(letter.checked_sub(b'a')?);
            if rank >= count || seen >> rank & 1 == 1 {
                return None;
            }
            seen |= 1 << rank;
            packed |= ((count - 1 - rank) as u32) << (4 * index);
        }
        let of = |order: fn(usize, usize) -> usize| {
            (0..count).fold(0, |packed, index| packed | (order(index, count) as u32) << (4 * index))
        };
        Some(match packed {
            big if big == of(|index, count| count - 1 - index) => Order::Big,
            little if little == of(|index, _| index) => Order::Little,
            other => Order::Letters(Letters { packed: other, count: count as u8 }),
        })
    }

    /// Which byte of an integer comes at a place, counted from the least significant.
    #[inline]
    pub(crate) fn rank(self, place: usize, bytes: usize) -> usize {
        match self {
            Order::Big => bytes - 1 - place,
            Order::Little => place,
            Order::Letters(letters) => (letters.packed >> (4 * (place & 7)) & 15) as usize,
        }
    }
}

impl fmt::Display for Order {
    /// As it stands behind the bits of a type: `be`, `le`, `cdab`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Order::Big => f.write_str("be"),
            Order::Little => f.write_str("le"),
            Order::Letters(Letters { count, .. }) => (0..usize::from(*count)).try_for_each(|place| {
                let rank = usize::from(*count) - 1 - self.rank(place, usize::from(*count));
                write!(f, "{}", char::from(b'a' + rank as u8))
            }),
        }
    }
}

/// An order of four or eight bytes that is neither `be` nor `le`: see [`Order::of_letters`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Letters {
    /// Four bits for each place, from the lowest on: how many bytes are less significant than the one that comes there.
    packed: u32,
    count: u8,
}

/// How the sign of an integer is sent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Sign {
    /// In two's complement.
    #[default]
    Complement,
    /// The highest bit is the sign, the others are the number without it.
    Magnitude,
    /// The number is sent with half of what its bits can say added, so that it is never below zero.
    Offset,
}

/// Bits of an integer, the lowest of which is 0: one range, or several that are put together.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Bits {
    ranges: [(u8, u8); Bits::MOST],
    count: u8,
}

impl Bits {
    /// The most ranges that can be put together.
    pub const MOST: usize = 8;

    /// Bits from the first to the last.
    pub const fn range(first: u8, last: u8) -> Bits {
        let mut ranges = [(0, 0); Bits::MOST];
        ranges[0] = (first, last);
        Bits { ranges, count: 1 }
    }

    /// Several ranges, the highest part of the value first. Nothing if there are none or too many, one is empty, bits lie beyond 63, or there are more
    /// than 64.
    pub fn of(ranges: &[(u8, u8)]) -> Option<Bits> {
        let mut bits = Bits { ranges: [(0, 0); Bits::MOST], count: ranges.len() as u8 };
        bits.ranges.get_mut(..ranges.len())?.copy_from_slice(ranges);
        let is_range = ranges.iter().all(|(first, last)| first <= last && *last < 64);
        let width: u32 = ranges.iter().map(|(first, last)| u32::from(last.wrapping_sub(*first)) + 1).sum();
        (!ranges.is_empty() && is_range && width <= 64).then_some(bits)
    }

    /// The ranges, the highest part of the value first.
    pub fn ranges(&self) -> &[(u8, u8)] {
        &self.ranges[..usize::from(self.count)]
    }

    /// The only range, if there is one.
    pub(crate) fn single(&self) -> Option<(u8, u8)> {
        match self.ranges() {
            [range] => Some(*range),
            _ => None,
        }
    }

    /// How many bits they are.
    pub fn width(&self) -> u8 {
        self.ranges().iter().map(|(first, last)| last - first + 1).sum()
    }

    /// The highest bit.
    pub fn highest(&self) -> u8 {
        self.ranges().iter().map(|(_, last)| *last).max().unwrap_or(0)
    }

    /// The lowest bit.
    pub fn lowest(&self) -> u8 {
        self.ranges().iter().map(|(first, _)| *first).min().unwrap_or(0)
    }

    /// What they are of an integer.
    #[inline]
    pub(crate) fn take(&self, of: u128) -> u64 {
        let part = |value: u64, (first, last): &(u8, u8)| {
            let width = last - first + 1;
            let part = (of >> first) as u64 & u64::MAX >> (64 - width);
            value.checked_shl(width.into()).unwrap_or(0) | part
        };
        self.ranges().iter().fold(0, part)
    }

    /// The same bits of each byte, as a mask.
    pub(crate) fn mask(&self) -> u64 {
        self.ranges().iter().fold(0, |mask, (first, last)| mask | (u64::MAX >> (63 - (last - first))) << first)
    }
}

impl fmt::Display for Bits {
    /// As `bits` has them: `4-7`, `12-15,0-3`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, (first, last)) in self.ranges().iter().enumerate() {
            let comma = if index > 0 { "," } else { "" };
            if first == last { write!(f, "{comma}{first}")? } else { write!(f, "{comma}{first}-{last}")? }
        }
        Ok(())
    }
}

impl fmt::Debug for Bits {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Bits({self})")
    }
}
