//! Sums and xors of bytes or words: one sum, or two in a row of which the second adds up what the first has become (Fletcher 1982).

use crate::integer::{Integer, Order};

/// The parameters of a sum.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct SumParameters {
    /// What is added: unsigned integers of one, two or four bytes. Where bytes are left in the end that make no whole one, zeros follow.
    pub of: Integer,
    /// Whether they are xored instead of added.
    pub is_xor: bool,
    /// How many sums there are in a row, 1 or 2. The second one is the higher part of the checksum.
    pub sums: u8,
    /// Bits of each sum: 1 to 64, of two 1 to 32.
    pub bits: u8,
    /// What each sum is taken modulo of.
    pub modulus: Modulus,
    /// What the sums begin with.
    pub initial: [u64; 2],
    /// What becomes of each sum in the end.
    pub complement: Complement,
}

/// What a sum is taken modulo of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Modulus {
    /// As many values as its bits have.
    Bits,
    /// A number of at least two, and at most as many as its bits have.
    Number(u64),
    /// What does not fit into the bits is added at their low end, as in the checksum of RFC 1071: modulo all ones, but only what is all zeros adds up to
    /// zero.
    EndAround,
}

/// What becomes of a sum in the end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Complement {
    /// It stays as it is.
    None,
    /// All its bits are inverted.
    One,
    /// What makes zero of it, modulo its modulus.
    Two,
}

impl SumParameters {
    /// The sum of all bytes in so many bits.
    pub fn of_bytes(bits: u8) -> SumParameters {
        SumParameters {
            of: Integer { signed: false, bytes: 1, order: Order::Big },
            is_xor: false,
            sums: 1,
            bits,
            modulus: Modulus::Bits,
            initial: [0; 2],
            complement: Complement::None,
        }
    }

    /// Why such a sum cannot be computed, if it cannot.
    pub(crate) fn flaw(&self) -> Option<&'static str> {
        let (most, largest) = (if self.sums == 2 { 32 } else { 64 }, self.largest());
        let modulus = match self.modulus {
            Modulus::Number(modulus) => modulus,
            Modulus::Bits | Modulus::EndAround => 2,
        };
        match () {
            () if !matches!(self.sums, 1 | 2) => Some("there is one sum, or there are two in a row"),
            () if !(1..=most).contains(&self.bits) => Some("a sum has 1 to 64 bits, each of two 1 to 32"),
            () if self.of.signed || !matches!(self.of.bytes, 1 | 2 | 4) => {
                Some("what is added are unsigned integers of one, two or four bytes")
            }
            () if self.is_xor && (self.sums != 1 || self.modulus != Modulus::Bits) => {
                Some("what is xored has neither a modulus nor a second sum")
            }
            () if modulus < 2 || modulus - 1 > largest => {
                Some("a modulus is from 2 to as many values as its bits have")
            }
            () if self.initial.iter().any(|initial| *initial > largest) => Some("the first value needs more bits"),
            () => None,
        }
    }

    /// Bits of the checksum.
    pub fn width(&self) -> u8 {
        self.bits.saturating_mul(self.sums)
    }

    /// Its largest value.
    pub(crate) fn most(&self) -> u128 {
        let of_one = match (self.modulus, self.complement) {
            (Modulus::Number(modulus), Complement::None | Complement::Two) => modulus - 1,
            _ => self.largest(),
        };
        if self.sums == 2 { u128::from(of_one) << self.bits | u128::from(of_one) } else { of_one.into() }
    }

    /// The largest number of its bits.
    fn largest(&self) -> u64 {
        u64::MAX >> (64 - u32::from(self.bits.clamp(1, 64)))
    }

    /// How many values a sum has before it begins anew.
    fn values(&self) -> u128 {
        match self.modulus {
            Modulus::Bits => u128::from(self.largest()) + 1,
            Modulus::Number(modulus) => modulus.into(),
            Modulus::EndAround => self.largest().into(),
        }
    }

    /// The checksum of bytes.
    pub(super) fn checksum(&self, bytes: &[u8]) -> u128 {
        self.finish(self.run(Left::default(), bytes), self.count(bytes.len() as u64))
    }

    /// How many integers so many bytes are.
    pub(super) fn count(&self, bytes: u64) -> u64 {
        bytes.div_ceil(self.of.bytes.into())
    }

    /// What bytes make of what was left before them, which ended with a whole integer.
    #[inline]
    pub(super) fn run(&self, left: Left, bytes: &[u8]) -> Left {
        let byte = |byte: &u8| u64::from(*byte);
        match (self.of, self.is_xor, self.sums) {
            (Integer { bytes: 1, .. }, true, _) => {
                let of = bytes.iter().fold(0, |of, byte| of ^ byte);
                Left { first: left.first ^ u64::from(of), ..left }
            }
            (Integer { bytes: 1, .. }, _, 1) => {
                Left { first: left.first.wrapping_add(bytes.iter().map(byte).sum()), ..left }
            }
            (Integer { bytes: 1, .. }, ..) => self.run_two(left, bytes.iter().map(byte)),
            (of, is_xor, sums) => {
                let size = usize::from(of.bytes);
                let value = |bytes: &[u8]| {
                    let at = |(place, byte): (usize, &u8)| u64::from(*byte) << (8 * of.order.rank(place, size));
                    bytes.iter().enumerate().map(at).fold(0, |value, byte| value | byte)
                };
                let integers = bytes.chunks(size).map(value);
                match (is_xor, sums) {
                    (true, _) => Left { first: integers.fold(left.first, |of, integer| of ^ integer), ..left },
                    (_, 1) => Left { first: integers.fold(left.first, u64::wrapping_add), ..left },
                    _ => self.run_two(left, integers),
                }
            }
        }
    }

    fn run_two(&self, mut left: Left, mut integers: impl Iterator<Item = u64>) -> Left {
        let values = self.values() as u64;
        loop {
            let (mut of, mut second, mut count) = (0u64, 0u64, 0);
            for integer in integers.by_ref().take(BETWEEN_MODULI) {
                of += integer;
                second += of;
                count += 1;
            }
            if count == 0 {
                return left;
            }
            let before = left.first % values * (count % values);
            left.second = (left.second + second % values + before % values) % values;
            left.first = left.first.wrapping_add(of);
        }
    }

    /// What the bytes between two places leave, by what all bytes before each of them left; `count` integers lie between.
    pub(super) fn between(&self, before: Left, behind: Left, count: u64) -> Left {
        if self.is_xor {
            return Left { first: behind.first ^ before.first, second: 0 };
        }
        let first = behind.first.wrapping_sub(before.first);
        if self.sums == 1 {
            return Left { first, second: 0 };
        }
        let values = self.values();
        let too_much = (u128::from(before.second) + u128::from(before.first) % values * u128::from(count)) % values;
        let second = (u128::from(behind.second) + values - too_much) % values;
        Left { first, second: second as u64 }
    }

    /// The checksum of so many integers that left this.
    pub(super) fn finish(&self, left: Left, count: u64) -> u128 {
        let [first, second] = self.initial.map(u128::from);
        let first_sum = match self.is_xor {
            true => u128::from(left.first) ^ first,
            false => u128::from(left.first) + first,
        };
        let ends = |sum: u128, is_zero: bool| -> u128 {
            let sum = match self.modulus {
                Modulus::EndAround if !is_zero && sum.is_multiple_of(self.values()) => self.values(),
                _ => sum % self.values(),
            };
            match self.complement {
                Complement::None => sum,
                Complement::One => sum ^ u128::from(self.largest()),
                Complement::Two => (self.values() - sum) % self.values(),
            }
        };
        let low = ends(first_sum, first_sum == 0);
        if self.sums == 1 {
            return low;
        }
        let second_sum = u128::from(left.second) + u128::from(count) * first + second;
        let is_zero = left.first == 0 && second == 0 && (first == 0 || count == 0);
        ends(second_sum, is_zero) << self.bits | low
    }
}

/// Integers that two sums take before they are reduced: as many as 64 bits have room for, of integers with 32.
const BETWEEN_MODULI: usize = 1 << 12;

/// What bytes left in the sums: all of the first, which no line is long enough to overflow; the second modulo its modulus.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Left {
    pub(super) first: u64,
    pub(super) second: u64,
}

impl Left {
    pub(super) fn packed(self) -> u128 {
        u128::from(self.second) << 64 | u128::from(self.first)
    }

    pub(super) fn of(packed: u128) -> Left {
        Left { first: packed as u64, second: (packed >> 64) as u64 }
    }
}
