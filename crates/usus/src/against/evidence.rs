//! How likely it is that something holds by chance: in bits, of which each halves it.

use alloc::vec::Vec;

use crate::integer::Integer;
use crate::logarithm::log2;

/// How surprising it is that of so many tries at least so many succeed, if each does by a chance of 2^-`bits`: Chernoff's bound.
pub(super) fn surprise(tries: f64, successes: f64, bits: f64) -> f64 {
    if successes <= 0.0 || tries <= 0.0 {
        return 0.0;
    }
    let share = (successes / tries).min(1.0);
    let failing = if share < 1.0 { (1.0 - share) * log2(1.0 - share) } else { 0.0 };
    let by_chance = share * (log2(share) + bits) + failing;
    (tries * by_chance).max(0.0)
}

/// How many of what the bytes say as integers goes its own way: differences from the first that are independent of one another as whole numbers. Two numbers
/// that rise together are one.
pub(super) fn rank_of_numbers(vectors: &[&[u8]], unit: Integer, most: usize) -> usize {
    const PRIME: u64 = 2_147_483_647;
    let inverse = |of: u64| {
        // Fermat: of^(p-2).
        let (mut power, mut base, mut exponent) = (1, of, PRIME - 2);
        while exponent > 0 {
            if exponent & 1 == 1 {
                power = power * base % PRIME;
            }
            base = base * base % PRIME;
            exponent >>= 1;
        }
        power
    };
    let width = vectors.iter().map(|vector| vector.len()).max().unwrap_or(0).min(LONGEST).div_ceil(unit.bytes.into());
    let row = |vector: &&[u8]| {
        let mut row: Vec<u64> = integers(unit, vector).into_iter().take(width).map(|number| number % PRIME).collect();
        row.resize(width, 0);
        row.push(vector.len() as u64);
        row
    };
    let Some(first) = vectors.first().map(row) else { return 0 };
    let mut rows: Vec<(usize, Vec<u64>)> = Vec::new();
    for mut vector in vectors[1..].iter().map(row) {
        vector.iter_mut().zip(&first).for_each(|(cell, first)| *cell = (*cell + PRIME - first) % PRIME);
        for (pivot, row) in &rows {
            let factor = vector[*pivot];
            if factor != 0 {
                vector.iter_mut().zip(row).for_each(|(cell, of)| *cell = (*cell + (PRIME - factor) * of) % PRIME);
            }
        }
        if let Some(pivot) = vector.iter().position(|cell| *cell != 0) {
            let factor = inverse(vector[pivot]);
            vector.iter_mut().for_each(|cell| *cell = *cell * factor % PRIME);
            rows.push((pivot, vector));
        }
        if rows.len() >= most {
            break;
        }
    }
    rows.len()
}

/// The integers that bytes are, with zeros behind where some are left.
pub(super) fn integers(of: Integer, bytes: &[u8]) -> Vec<u64> {
    let size = usize::from(of.bytes);
    let value = |bytes: &[u8]| {
        let at = |(place, byte): (usize, &u8)| u64::from(*byte) << (8 * of.order.rank(place, size));
        bytes.iter().enumerate().map(at).sum()
    };
    bytes.chunks(size).map(value).collect()
}

/// The same of bits: what a CRC, which takes each bit apart, had to hold for.
pub(super) fn rank_of_bits(vectors: &[&[u8]], most: usize) -> usize {
    let mut rows: Vec<(usize, Vec<u8>)> = Vec::new();
    for mut vector in differences(vectors) {
        for (pivot, row) in &rows {
            if vector[pivot / 8] >> (pivot % 8) & 1 == 1 {
                vector.iter_mut().zip(row).for_each(|(cell, of)| *cell ^= of);
            }
        }
        if let Some(byte) = vector.iter().position(|cell| *cell != 0) {
            rows.push((8 * byte + vector[byte].trailing_zeros() as usize, vector));
        }
        if rows.len() >= most {
            break;
        }
    }
    rows.len()
}

/// Bytes that are looked at of what is covered.
const LONGEST: usize = 256;

/// What vectors differ by from the first of them, with their ends one below the other; how long they are stands in front.
fn differences(vectors: &[&[u8]]) -> Vec<Vec<u8>> {
    let Some((first, others)) = vectors.split_first() else { return Vec::new() };
    let width = vectors.iter().map(|vector| vector.len()).max().unwrap_or(0).min(LONGEST);
    let at = |vector: &[u8], place: usize| vector.len().checked_sub(place + 1).map_or(0, |index| vector[index]);
    let row = |vector: &&[u8]| {
        let length = vector.len() as u8 ^ first.len() as u8;
        core::iter::once(length).chain((0..width).map(|place| at(vector, place) ^ at(first, place))).collect()
    };
    others.iter().map(row).collect()
}

/// What comes most often, and how often.
pub(super) fn commonest<T: Ord + Copy>(of: impl Iterator<Item = T>) -> Option<(T, usize)> {
    let mut all: Vec<T> = of.collect();
    all.sort_unstable();
    let mut best: Option<(T, usize)> = None;
    for run in all.chunk_by(|one, other| one == other) {
        if best.is_none_or(|(_, count)| run.len() > count) {
            best = Some((run[0], run.len()));
        }
    }
    best
}
