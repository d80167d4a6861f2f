//! Polynomials over bits: what two frames of one length, with their CRCs behind them, differ by is a multiple of the CRC's polynomial, whatever it begins
//! with and is xored with. So the greatest common divisor of some such differences is that polynomial.

use alloc::vec;
use alloc::vec::Vec;

/// A polynomial: bit `i` of the words is the coefficient of x^i.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Polynomial(Vec<u64>);

impl Polynomial {
    /// Of bits, the highest power first.
    pub(super) fn of_bits(bits: impl DoubleEndedIterator<Item = bool> + ExactSizeIterator) -> Polynomial {
        let mut words = vec![0; bits.len().div_ceil(64)];
        for (power, _) in bits.rev().enumerate().filter(|(_, bit)| *bit) {
            words[power / 64] |= 1 << (power % 64);
        }
        Polynomial(words)
    }

    /// Its highest power; nothing of zero.
    pub(super) fn degree(&self) -> Option<usize> {
        let word = self.0.iter().rposition(|word| *word != 0)?;
        Some(64 * word + 63 - self.0[word].leading_zeros() as usize)
    }

    /// Its powers below 128.
    pub(super) fn low(&self) -> u128 {
        let word = |index: usize| u128::from(self.0.get(index).copied().unwrap_or(0));
        word(1) << 64 | word(0)
    }

    fn of_low(low: u128) -> Polynomial {
        Polynomial(vec![low as u64, (low >> 64) as u64])
    }

    /// Takes another one, shifted up, off it.
    fn take(&mut self, other: &Polynomial, shift: usize) {
        let (words, bits) = (shift / 64, shift % 64);
        for (index, word) in other.0.iter().enumerate() {
            if let Some(cell) = self.0.get_mut(index + words) {
                *cell ^= word << bits;
            }
            if bits > 0
                && let Some(cell) = self.0.get_mut(index + words + 1)
            {
                *cell ^= word >> (64 - bits);
            }
        }
    }

    /// What is left of it divided by another one, and the quotient's powers below 128.
    fn divided(mut self, other: &Polynomial) -> (Polynomial, u128) {
        let (Some(divisor), mut quotient) = (other.degree(), 0) else { return (self, 0) };
        while let Some(shift) = self.degree().and_then(|degree| degree.checked_sub(divisor)) {
            self.take(other, shift);
            quotient |= 1u128.checked_shl(shift as u32).unwrap_or(0);
        }
        (self, quotient)
    }

    /// The greatest common divisor.
    pub(super) fn common(self, other: Polynomial) -> Polynomial {
        let (mut one, mut two) = (self, other);
        while two.degree().is_some() {
            let (rest, _) = one.divided(&two);
            (one, two) = (two, rest);
        }
        one
    }

    /// Its divisors of a degree, where it has only a few more factors than those: what is left once small factors are taken out.
    pub(super) fn divisors_of(&self, degree: usize) -> Vec<u128> {
        let Some(own) = self.degree().filter(|own| (degree..=degree + MOST_MORE).contains(own)) else {
            return Vec::new();
        };
        if own == degree {
            return vec![self.low()];
        }
        let more = own - degree;
        let factors = 1u128 << more..2u128 << more;
        let divided = factors.filter_map(|factor| {
            let (rest, quotient) = self.clone().divided(&Polynomial::of_low(factor));
            rest.degree().is_none().then_some(quotient)
        });
        divided.collect()
    }
}

/// How much higher than what is sought the degree of a common divisor may be.
const MOST_MORE: usize = 10;
