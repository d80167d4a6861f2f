//! The order of what several lines say, where a stage joins them: by the times of the last bytes.
//!
//! What has arrived goes on once nothing can come before it: no line has bytes from before that are not decided, and a later time was seen. It waits
//! no longer than declared.

use alloc::collections::BTreeMap;
use alloc::vec::Vec;

use super::Said;
use crate::time::{Span, Time};

#[derive(Clone, Debug)]
pub(super) struct Order {
    /// What waits, and for which stage: by its time, its line, and its number among all.
    waiting: BTreeMap<(Time, u32, u64), (Said, usize)>,
    /// How long it waits at most.
    within: Span,
    numbered: u64,
}

impl PartialEq for Order {
    /// What waits is the same, in the same order; how it was numbered tells nothing.
    fn eq(&self, other: &Order) -> bool {
        let of = |order: &Order| order.waiting.keys().map(|(time, line, _)| (*time, *line)).collect::<Vec<_>>();
        self.within == other.within && of(self) == of(other) && self.waiting.values().eq(other.waiting.values())
    }
}

impl Order {
    pub(super) fn new(within: Span) -> Order {
        Order { waiting: BTreeMap::new(), within, numbered: 0 }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    pub(super) fn wait(&mut self, time: Time, line: u32, said: Said, stage: usize) {
        self.numbered += 1;
        self.waiting.insert((time, line, self.numbered), (said, stage));
    }

    /// What has waited for too long, or nothing can come before any more.
    pub(super) fn ready(&mut self, now: Time, open: Option<Time>) -> Vec<(Said, usize)> {
        let within = self.within;
        self.take(|time| time.after(within) < now || time < now && open.is_none_or(|open| time < open))
    }

    pub(super) fn all(&mut self) -> Vec<(Said, usize)> {
        self.take(|_| true)
    }

    /// When the first of what waits goes on, if nothing arrives before.
    pub(super) fn deadline(&self, open: Option<Time>) -> Option<Time> {
        let ((time, ..), _) = self.waiting.first_key_value()?;
        let waits = open.is_some_and(|open| open <= *time);
        Some(if waits { time.after(self.within) } else { *time }.after(Span::from_nanoseconds(1)))
    }

    fn take(&mut self, goes: impl Fn(Time) -> bool) -> Vec<(Said, usize)> {
        let mut taken = Vec::new();
        while let Some(first) = self.waiting.first_entry().filter(|first| goes(first.key().0)) {
            taken.push(first.remove());
        }
        taken
    }
}
