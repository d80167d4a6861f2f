//! Whole numbers of up to 512 bits, for what is in between when a decimal number of 38 digits is converted: products that fit no built-in type,
//! of which the quotient does.

use core::cmp::Ordering;

const WORDS: usize = 8;

/// An unsigned number, its low word first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Wide([u64; WORDS]);

impl Wide {
    pub(super) fn of(value: u128) -> Wide {
        let mut words = [0; WORDS];
        (words[0], words[1]) = (value as u64, (value >> 64) as u64);
        Wide(words)
    }

    /// The product; nothing if it does not fit.
    pub(super) fn times(self, factor: u128) -> Option<Wide> {
        let mut product = [0u64; WORDS];
        for (place, digit) in [factor as u64, (factor >> 64) as u64].into_iter().enumerate() {
            let mut carry = 0;
            for (index, word) in self.0.iter().enumerate() {
                let Some(to) = product.get_mut(index + place) else {
                    if *word != 0 && digit != 0 {
                        return None;
                    }
                    continue;
                };
                let sum = u128::from(*word) * u128::from(digit) + u128::from(*to) + u128::from(carry);
                (*to, carry) = (sum as u64, (sum >> 64) as u64);
            }
            if carry != 0 {
                // What is carried out of a number moved by a word goes nowhere, either.
                return None;
            }
        }
        Some(Wide(product))
    }

    /// The sum; nothing if it does not fit.
    pub(super) fn plus(self, other: Wide) -> Option<Wide> {
        let mut carried = false;
        let mut sum = self;
        for (to, word) in sum.0.iter_mut().zip(other.0) {
            let (first, over) = to.overflowing_add(word);
            let (second, over_again) = first.overflowing_add(u64::from(carried));
            (*to, carried) = (second, over | over_again);
        }
        (!carried).then_some(sum)
    }

    /// The difference to a number that is not larger.
    pub(super) fn minus(self, other: Wide) -> Wide {
        let mut borrowed = false;
        let mut difference = self;
        for (to, word) in difference.0.iter_mut().zip(other.0) {
            let (first, under) = to.overflowing_sub(word);
            let (second, under_again) = first.overflowing_sub(u64::from(borrowed));
            (*to, borrowed) = (second, under | under_again);
        }
        difference
    }

    pub(super) fn compare(&self, other: &Wide) -> Ordering {
        self.0.iter().rev().cmp(other.0.iter().rev())
    }

    /// Quotient and remainder; nothing if the quotient has more than 128 bits. Bit by bit: it is not needed often.
    pub(super) fn divide(self, divisor: Wide) -> Option<(u128, Wide)> {
        let (mut quotient, mut rest) = (Wide::of(0), Wide::of(0));
        for bit in (0..WORDS * 64).rev() {
            if rest.0[WORDS - 1] >> 63 == 1 {
                return None;
            }
            rest = rest.plus(rest)?;
            rest.0[0] |= self.0[bit / 64] >> (bit % 64) & 1;
            if rest.compare(&divisor).is_ge() {
                rest = rest.minus(divisor);
                quotient.0[bit / 64] |= 1 << (bit % 64);
            }
        }
        let fits = quotient.0[2..].iter().all(|word| *word == 0);
        fits.then_some((u128::from(quotient.0[1]) << 64 | u128::from(quotient.0[0]), rest))
    }
}
