//! Which sums and xors give the numbers that were sent: with their complements, moduli and first values.

use alloc::vec::Vec;

use super::checksum::Candidate;
use super::evidence::{commonest, integers};
use crate::checksum::{Algorithm, Complement, Modulus, SumParameters};
use crate::integer::{Integer, Order};

/// What was covered, and what was sent.
pub(super) struct Pair<'p> {
    pub(super) covered: &'p [u8],
    pub(super) sent: u128,
}

/// Sums of bytes modulo any of these that may give what was sent.
pub(super) fn modular(pairs: &[Pair<'_>], moduli: &[u64], found: &mut Vec<Candidate>) {
    let plain = SumParameters::of_bytes(8);
    let units: Vec<Vec<u64>> = pairs.iter().map(|pair| integers(plain.of, pair.covered)).collect();
    for modulus in moduli.iter().filter(|modulus| pairs.iter().all(|pair| pair.sent < u128::from(**modulus))) {
        let bits = 64 - (modulus - 1).leading_zeros() as u8;
        let of = if modulus.is_power_of_two() { Modulus::Bits } else { Modulus::Number(*modulus) };
        added(pairs, &units, SumParameters { modulus: of, ..SumParameters::of_bytes(bits) }, 3.0, found);
    }
}

/// Sums of so many bits that may give what was sent.
pub(super) fn candidates(pairs: &[Pair<'_>], bits: u8, found: &mut Vec<Candidate>) {
    if bits > 32 {
        return;
    }
    for size in [1, 2, 4] {
        if size * 8 > bits.max(8) {
            continue;
        }
        let orders = if size == 1 { &[Order::Big][..] } else { &[Order::Big, Order::Little] };
        for order in orders {
            let of = Integer { signed: false, bytes: size, order: *order };
            let cost = if size == 1 { 0.0 } else { 4.0 };
            let units: Vec<Vec<u64>> = pairs.iter().map(|pair| integers(of, pair.covered)).collect();
            if size * 8 == bits || (size == 1 && bits < 8) {
                xored(pairs, &units, of, bits, cost, found);
            }
            let all = u64::MAX >> (64 - bits);
            added(pairs, &units, SumParameters { of, ..SumParameters::of_bytes(bits) }, cost, found);
            for modulus in [Modulus::Number(all), Modulus::EndAround] {
                if bits >= 8 {
                    let sum = SumParameters { of, modulus, ..SumParameters::of_bytes(bits) };
                    added(pairs, &units, sum, cost + 3.0, found);
                }
            }
            if bits >= 16 && bits.is_multiple_of(2) && size * 8 <= bits / 2 {
                let half = bits / 2;
                let all = u64::MAX >> (64 - half);
                let prime = (half == 16).then_some(Modulus::Number(65_521));
                for modulus in [Some(Modulus::Bits), Some(Modulus::Number(all)), prime, Some(Modulus::EndAround)] {
                    let Some(modulus) = modulus else { continue };
                    let sum = SumParameters { of, sums: 2, modulus, ..SumParameters::of_bytes(half) };
                    two(pairs, &units, sum, cost + 3.0, found);
                }
            }
        }
    }
}

fn xored(pairs: &[Pair<'_>], units: &[Vec<u64>], of: Integer, bits: u8, cost: f64, found: &mut Vec<Candidate>) {
    let mask = u64::MAX >> (64 - bits);
    let rest = pairs
        .iter()
        .zip(units)
        .map(|(pair, units)| pair.sent as u64 ^ units.iter().fold(0, |all, unit| all ^ unit) & mask);
    let Some((rest, count)) = commonest(rest) else { return };
    if !is_worth_it(count, pairs.len()) {
        return;
    }
    let (initial, complement, more, free) = match rest {
        0 => (0, Complement::None, 1.0, 0),
        rest if rest == mask => (0, Complement::One, 3.0, 0),
        rest => (rest, Complement::None, 3.0, bits),
    };
    // Of fewer bits than a byte has, it is the sum without carries: there is no such.
    if bits >= 8 {
        let sum =
            SumParameters { of, is_xor: true, initial: [initial, 0], complement, ..SumParameters::of_bytes(bits) };
        found.push(Candidate::new(Algorithm::Sum(sum), cost + more, free.into()));
    }
}

/// One sum: what is sent, less or more what the bytes add up to, is always the same.
fn added(pairs: &[Pair<'_>], units: &[Vec<u64>], sum: SumParameters, cost: f64, found: &mut Vec<Candidate>) {
    let values = values(&sum);
    let totals: Vec<u128> =
        units.iter().map(|units| units.iter().map(|unit| u128::from(*unit)).sum::<u128>() % values).collect();
    let mut add = |rest: Option<(u128, usize)>, negated: bool| {
        let Some((rest, count)) = rest else { return };
        if !is_worth_it(count, pairs.len()) {
            return;
        }
        // Of a negated one, the rest is what is left of its complement once the first value is taken off.
        let ways: &[(Complement, u128)] = match negated {
            false => &[(Complement::None, rest)],
            true => &[
                (Complement::Two, (values - rest) % values),
                (Complement::One, (2 * values + all_ones(&sum) - rest) % values),
            ],
        };
        for (complement, initial) in ways {
            let free = if *initial == 0 { 0 } else { sum.bits };
            let more = if *complement == Complement::None { 1.0 } else { 2.0 } + if free > 0 { 2.0 } else { 0.0 };
            // As RFC 1071 has it.
            let is_usual = sum.modulus == Modulus::EndAround && *complement == Complement::One;
            let more = if is_usual { more - 2.0 } else { more };
            let sum = SumParameters { initial: [*initial as u64, 0], complement: *complement, ..sum };
            found.push(Candidate::new(Algorithm::Sum(sum), cost + more, free.into()));
        }
    };
    let sent = |pair: &Pair<'_>| pair.sent % values;
    let less = commonest(pairs.iter().zip(&totals).map(|(pair, total)| (sent(pair) + values - total) % values));
    let more = commonest(pairs.iter().zip(&totals).map(|(pair, total)| (sent(pair) + total) % values));
    add(less, false);
    add(more, true);
}

/// Two sums in a row, the second of which is the higher half.
fn two(pairs: &[Pair<'_>], units: &[Vec<u64>], sum: SumParameters, cost: f64, found: &mut Vec<Candidate>) {
    let values = values(&sum);
    let mask = u128::from(u64::MAX >> (64 - sum.bits));
    for complement in [Complement::None, Complement::One, Complement::Two] {
        let plain = |half: u128| match complement {
            Complement::None => half % values,
            Complement::One => (half ^ mask) % values,
            Complement::Two => (values - half % values) % values,
        };
        let first = pairs.iter().zip(units).map(|(pair, units)| {
            let total = units.iter().map(|unit| u128::from(*unit)).sum::<u128>() % values;
            (plain(pair.sent & mask) + values - total) % values
        });
        let Some((first, count)) = commonest(first) else { continue };
        if !is_worth_it(count, pairs.len()) {
            continue;
        }
        let second = pairs.iter().zip(units).map(|(pair, units)| {
            let step = |(one, two): (u128, u128), unit: &u64| {
                let one = (one + u128::from(*unit)) % values;
                (one, (two + one) % values)
            };
            let (_, total) = units.iter().fold((first, 0), step);
            (plain(pair.sent >> sum.bits & mask) + values - total) % values
        });
        let Some((second, _)) = commonest(second) else { continue };
        let free = [first > 1, second > 0].into_iter().filter(|free| *free).count() as u32 * u32::from(sum.bits);
        let more = if complement == Complement::None { 1.0 } else { 3.0 } + if free > 0 { 2.0 } else { 0.0 };
        let sum = SumParameters { initial: [first as u64, second as u64], complement, ..sum };
        found.push(Candidate::new(Algorithm::Sum(sum), cost + more, free));
    }
}

/// How many values a sum has.
fn values(sum: &SumParameters) -> u128 {
    match sum.modulus {
        Modulus::Bits => 1 << sum.bits,
        Modulus::Number(modulus) => modulus.into(),
        Modulus::EndAround => (1 << sum.bits) - 1,
    }
}

fn all_ones(sum: &SumParameters) -> u128 {
    (1 << sum.bits) - 1
}

/// Whether so many of all are more than what chance gives.
pub(super) fn is_worth_it(count: usize, all: usize) -> bool {
    count >= 3 && count * 5 >= all * 2
}
