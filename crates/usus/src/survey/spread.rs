//! How values spread, of which there may be more than can be kept.

use alloc::vec::Vec;

/// How many values of a kind are kept to say how they spread.
const KEPT: usize = 4_096;

/// How values spread.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Spread {
    /// How many there were.
    pub count: u64,
    /// The least.
    pub least: i64,
    /// As many are less as are more.
    pub median: i64,
    /// The most.
    pub most: i64,
    /// The one that came most often, with how many per cent of them it was.
    pub commonest: (i64, u8),
    /// Per cent of them that are within a tenth of the median.
    pub steady: u8,
}

/// Values of which some are kept: all at first, then every second, and so on.
#[derive(Clone, Debug)]
pub(crate) struct Kept {
    count: u64,
    least: i64,
    most: i64,
    every: u64,
    values: Vec<i64>,
}

impl Default for Kept {
    fn default() -> Kept {
        Kept { count: 0, least: i64::MAX, most: i64::MIN, every: 1, values: Vec::new() }
    }
}

impl Kept {
    pub(crate) fn add(&mut self, value: i64) {
        self.least = self.least.min(value);
        self.most = self.most.max(value);
        if self.count.is_multiple_of(self.every) {
            if self.values.len() == KEPT {
                let mut index = 0;
                self.values.retain(|_| {
                    index += 1;
                    index % 2 == 1
                });
                self.every *= 2;
            }
            if self.count.is_multiple_of(self.every) {
                self.values.push(value);
            }
        }
        self.count += 1;
    }

    pub(crate) fn spread(&self) -> Option<Spread> {
        let mut sorted = self.values.clone();
        sorted.sort_unstable();
        let median = *sorted.get(sorted.len() / 2)?;
        let (mut commonest, mut times, mut from) = (median, 0, 0);
        for (at, value) in sorted.iter().enumerate() {
            if *value != sorted[from] {
                from = at;
            }
            if at - from + 1 > times {
                (commonest, times) = (*value, at - from + 1);
            }
        }
        let near = sorted.iter().filter(|value| (**value - median).abs() * 10 <= median.abs()).count();
        let percent = |part: usize| (part * 100 / sorted.len()) as u8;
        Some(Spread {
            count: self.count,
            least: self.least,
            median,
            most: self.most,
            commonest: (commonest, percent(times)),
            steady: percent(near),
        })
    }
}
