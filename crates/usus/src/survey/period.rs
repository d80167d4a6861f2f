//! Whether bytes repeat at a distance, as fixed packets and tables do.

/// A distance at which bytes repeat.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Period {
    /// In bytes.
    pub bytes: usize,
    /// Share of bytes that are equal to the one so far before them.
    pub share: f64,
    /// The same share at a distance taken anyhow.
    pub by_chance: f64,
}

/// Longest distance that is tried.
const LONGEST: usize = 1_024;

/// The shortest distance at which clearly more bytes repeat than at others.
pub(super) fn period(bytes: &[u8]) -> Option<Period> {
    let longest = LONGEST.min(bytes.len() / 4);
    if longest < 4 {
        return None;
    }
    let equal = |distance: usize| {
        bytes.iter().zip(&bytes[distance..]).filter(|(one, other)| one == other).count() as f64
            / (bytes.len() - distance) as f64
    };
    let mut shares = [0.0; LONGEST + 1];
    (2..=longest).for_each(|distance| shares[distance] = equal(distance));
    let shares = &shares[..=longest];
    let mut sorted = [0.0; LONGEST + 1];
    let sorted = &mut sorted[..longest - 1];
    sorted.copy_from_slice(&shares[2..]);
    sorted.sort_unstable_by(f64::total_cmp);
    let by_chance = sorted[sorted.len() / 2];
    let most = *sorted.last()?;
    // Multiples of a period repeat as well as it does: the shortest that is nearly the best is the one.
    let bytes = (2..=longest).find(|&distance| shares[distance] > by_chance + (most - by_chance) * 0.8)?;
    let share = shares[bytes];
    (share > by_chance + 0.08 && share > by_chance * 1.5).then_some(Period { bytes, share, by_chance })
}
