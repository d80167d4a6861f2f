//! Checksums of stretches that overlap, such as those of candidates each of which begins inside the one before: what is known of one serves the
//! next, so that a long candidate which fails does not cost its whole length again at the next byte.
//!
//! Sums, xor and CRCs are linear. So with `P(x)`, what all bytes before `x` leave in an empty register, the bytes between two places leave in a
//! register that began with `I`
//!
//! ```text
//! P(to) xor Z(P(from) xor I)        Z: what as many zero bytes make of a register, a product modulo the polynomial
//! ```
//!
//! (for sums the difference of the two). `P` is noted at every sixteenth byte; of sums of words once for each byte that a word can begin at.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::sums::{Left, SumParameters};
use super::{Checksum, CyclicParameters, Engine};

/// Bytes between two places at which `P` is noted.
const NOTED: u64 = 16;

/// Shorter stretches are computed anew each time.
const SHORT: u64 = 4 * NOTED;

/// Bytes of a line, the first of which has the offset `base`.
#[derive(Clone, Copy)]
pub(crate) struct Stretch<'a> {
    pub(crate) bytes: &'a [u8],
    pub(crate) base: u64,
}

impl<'a> Stretch<'a> {
    fn between(self, from: u64, to: u64) -> &'a [u8] {
        let place = |offset: u64| offset.saturating_sub(self.base) as usize;
        self.bytes.get(place(from)..place(to)).unwrap_or_default()
    }
}

/// What is known of the stretches that were looked at.
#[derive(Clone, Debug, Default)]
pub(crate) struct Overlaps {
    /// No stretch that was looked at ends behind this offset.
    end: u64,
    /// `P` begins here.
    first: u64,
    /// `P` at `first` and at every sixteenth byte behind it: for each byte of a word, as if words began with it.
    noted: Vec<Vec<u128>>,
    linear: Option<Box<Linear>>,
    /// How far it was shifted last, and by what product: lengths repeat.
    shift: Option<(u64, u128)>,
    /// How many bytes were looked at.
    looked_at: u64,
}

impl Overlaps {
    /// Forgets all stretches.
    pub(crate) fn clear(&mut self) {
        let (linear, shift) = (self.linear.take(), self.shift);
        *self = Overlaps { linear, shift, looked_at: self.looked_at, ..Overlaps::default() };
    }

    /// How many bytes were looked at for all that was asked.
    pub(crate) fn looked_at(&self) -> u64 {
        self.looked_at
    }

    /// The checksum of the bytes of a line between two offsets.
    pub(crate) fn checksum(&mut self, checksum: &Checksum, line: Stretch<'_>, from: u64, to: u64) -> u128 {
        if to.saturating_sub(from) <= SHORT || from >= self.end {
            self.end = self.end.max(to);
            self.looked_at += to.saturating_sub(from);
            return checksum.of(line.between(from, to));
        }
        self.end = self.end.max(to);
        let linear = self.linear.take().unwrap_or_else(|| Box::new(Linear::of(checksum)));
        let known_from = self.first + (from.saturating_sub(self.first)) / NOTED * NOTED;
        if self.noted.is_empty() || from < self.first || known_from < line.base || self.last() < line.base {
            self.first = from;
            self.noted = alloc::vec![[0].into(); linear.word() as usize];
        }
        let class = (from - self.first) % linear.word();
        let before = self.left_by(&linear, line, class, from);
        let behind = self.left_by(&linear, line, class, to);
        let shift = match self.shift {
            Some((length, shift)) if length == to - from => shift,
            _ => linear.shift(to - from),
        };
        self.shift = Some((to - from, shift));
        let result = linear.between(before, behind, shift, to - from);
        self.linear = Some(linear);
        result
    }

    /// The last offset at which `P` is noted for all bytes of a word.
    fn last(&self) -> u64 {
        let least = self.noted.iter().map(Vec::len).min().unwrap_or(0);
        self.first + NOTED * (least as u64).saturating_sub(1)
    }

    /// `P` at an offset, of words that begin so many bytes behind the first.
    fn left_by(&mut self, linear: &Linear, line: Stretch<'_>, class: u64, offset: u64) -> u128 {
        let first = self.first + class;
        let Some(noted) = self.noted.get_mut(class as usize) else { return 0 };
        loop {
            let last = first + NOTED * (noted.len() as u64).saturating_sub(1);
            if last + NOTED > offset {
                break;
            }
            let known = noted.last().copied().unwrap_or_default();
            self.looked_at += NOTED;
            noted.push(linear.run(known, line.between(last, last + NOTED)));
        }
        let place = ((offset - first) / NOTED) as usize;
        let from = first + NOTED * place as u64;
        self.looked_at += offset - from;
        linear.run(noted.get(place).copied().unwrap_or_default(), line.between(from, offset))
    }
}

/// A checksum's working as `P` needs it. CRCs are kept as polynomials, whose highest power is the highest bit of the word.
#[derive(Clone, Debug)]
enum Linear {
    Plain { mask: u64 },
    Xor,
    Sum(SumParameters),
    Cyclic { parameters: CyclicParameters, table: Vec<u128>, shifts: Vec<u128> },
}

impl Linear {
    fn of(checksum: &Checksum) -> Linear {
        match &checksum.engine {
            Engine::Plain(mask) => Linear::Plain { mask: *mask },
            Engine::Xor => Linear::Xor,
            Engine::Sum(sum) => Linear::Sum(*sum),
            Engine::Cyclic(cyclic) => {
                let parameters = *cyclic.parameters();
                let table = (0..=255).map(|byte| of_byte(&parameters, byte)).collect();
                // The byte 1 behind so many zeros: x to the power of eight times two to the power of each place.
                let eight = (0..8).fold(1, |power, _| times_x(&parameters, power));
                let square = |power: &u128| Some(product(&parameters, *power, *power));
                let shifts = core::iter::successors(Some(eight), square).take(64).collect();
                Linear::Cyclic { parameters, table, shifts }
            }
        }
    }

    /// Bytes of a word.
    fn word(&self) -> u64 {
        if let Linear::Sum(sum) = self { sum.of.bytes.into() } else { 1 }
    }

    /// What bytes make of what was left before them.
    fn run(&self, left: u128, bytes: &[u8]) -> u128 {
        match self {
            Linear::Plain { .. } => bytes.iter().fold(left, |sum, byte| sum + u128::from(*byte)),
            Linear::Sum(sum) => sum.run(Left::of(left), bytes).packed(),
            Linear::Xor => bytes.iter().fold(left, |sum, byte| sum ^ u128::from(*byte)),
            Linear::Cyclic { parameters, table, .. } => bytes.iter().fold(left, |register, byte| {
                let byte = if parameters.reflect_input { byte.reverse_bits() } else { *byte };
                let first = (register >> 120) as u8 ^ byte;
                register << 8 ^ table[usize::from(first)]
            }),
        }
    }

    /// What a register is multiplied with by so many zero bytes.
    fn shift(&self, length: u64) -> u128 {
        let Linear::Cyclic { parameters, shifts, .. } = self else { return 1 };
        let set = (0..shifts.len()).filter(|place| length >> place & 1 == 1);
        set.fold(1, |shift, place| product(parameters, shift, shifts[place]))
    }

    /// The checksum of bytes by what all bytes before them and all up to their end left, and their own shift.
    fn between(&self, before: u128, behind: u128, shift: u128, length: u64) -> u128 {
        match self {
            Linear::Plain { mask } => behind.wrapping_sub(before) & u128::from(*mask),
            Linear::Sum(sum) => {
                let count = sum.count(length);
                sum.finish(sum.between(Left::of(before), Left::of(behind), count), count)
            }
            Linear::Xor => behind ^ before,
            Linear::Cyclic { parameters, .. } => {
                let unused = 128 - u32::from(parameters.width);
                let begun = before >> unused ^ parameters.initial;
                let register = behind >> unused ^ product(parameters, begun, shift);
                let value = if parameters.reflect_output { register.reverse_bits() >> unused } else { register };
                value ^ parameters.final_xor
            }
        }
    }
}

/// What a byte, its highest bit first, makes of an empty register.
fn of_byte(parameters: &CyclicParameters, byte: u8) -> u128 {
    let polynomial = parameters.polynomial << (128 - parameters.width);
    let step = |register: u128, _| register << 1 ^ if register >> 127 == 1 { polynomial } else { 0 };
    (0..8).fold(u128::from(byte) << 120, step)
}

/// A polynomial times x, modulo the checksum's. Its lowest power is the lowest bit.
fn times_x(parameters: &CyclicParameters, of: u128) -> u128 {
    let mask = u128::MAX >> (128 - parameters.width);
    let overflows = of >> (parameters.width - 1) & 1 == 1;
    (of << 1 & mask) ^ if overflows { parameters.polynomial } else { 0 }
}

/// The product of two polynomials, modulo the checksum's.
fn product(parameters: &CyclicParameters, a: u128, b: u128) -> u128 {
    let add = |sum: u128, place: u8| times_x(parameters, sum) ^ if b >> place & 1 == 1 { a } else { 0 };
    (0..parameters.width).rev().fold(0, add)
}
