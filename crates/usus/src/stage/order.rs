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
    /// What waits, by its time, and by its number among all.
    waiting: BTreeMap<(Time, u32, u64), Said>,
    /// How long it waits at most.
    within: Span,
    /// The latest time that was seen.
    now: Option<Time>,
    numbered: u64,
}

impl PartialEq for Order {
    /// What waits is the same, in the same order; how it was numbered tells nothing.
    fn eq(&self, other: &Order) -> bool {
        let waits = |order: &Order| {
            order.waiting.iter().map(|((time, line, _), said)| (*time, *line, said.clone())).collect::<Vec<_>>()
        };
        (self.within, self.now) == (other.within, other.now) && waits(self) == waits(other)
    }
}

impl Order {
    pub(super) fn new(within: Span) -> Order {
        Order { waiting: BTreeMap::new(), within, now: None, numbered: 0 }
    }

    pub(super) fn wait(&mut self, time: Time, said: Said) {
        let line = match &said {
            Said::Record(row) => row.parts.first().map_or(0, |kept| kept.origin.line.index() as u32),
            Said::Reject(kept, _) => kept.origin.line.index() as u32,
            Said::Notice(line, ..) => line.index() as u32,
        };
        self.numbered += 1;
        self.waiting.insert((time, line, self.numbered), said);
    }

    /// Whether a time is later than all that was seen. Notes it.
    pub(super) fn goes_on(&mut self, now: Time) -> bool {
        let goes_on = self.now.is_none_or(|before| before < now);
        self.now = self.now.max(Some(now));
        goes_on
    }

    /// What has waited for too long, or nothing can come before any more.
    pub(super) fn ready(&mut self, now: Time, open: Option<Time>) -> Vec<Said> {
        let within = self.within;
        self.take(|time| time.after(within) < now || time < now && open.is_none_or(|open| time < open))
    }

    pub(super) fn all(&mut self) -> Vec<Said> {
        self.take(|_| true)
    }

    pub(super) fn deadline(&self) -> Option<Time> {
        let ((time, ..), _) = self.waiting.first_key_value()?;
        Some(time.after(self.within).after(Span::from_nanoseconds(1)))
    }

    fn take(&mut self, goes: impl Fn(Time) -> bool) -> Vec<Said> {
        let mut taken = Vec::new();
        while let Some(first) = self.waiting.first_entry().filter(|first| goes(first.key().0)) {
            taken.push(first.remove());
        }
        taken
    }
}
