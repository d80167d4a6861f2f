//! From which byte on bytes arrived at which time.

use alloc::collections::VecDeque;

use crate::time::Time;

/// The times of the bytes of a window.
#[derive(Clone, Debug, Default)]
pub(crate) struct Marks {
    /// From which offset on bytes arrived at which time.
    marks: VecDeque<(u64, Option<Time>)>,
    /// The last of them.
    newest: Option<Option<Time>>,
    /// Whether any of them is known.
    known: bool,
}

impl Marks {
    /// Notes that bytes from an offset on arrived at a time.
    #[inline]
    pub(crate) fn push(&mut self, offset: u64, time: Option<Time>) {
        if self.newest != Some(time) {
            self.newest = Some(time);
            self.marks.push_back((offset, time));
            self.known |= time.is_some();
        }
    }

    /// Forgets all times.
    pub(crate) fn clear(&mut self) {
        self.marks.clear();
        (self.newest, self.known) = (None, false);
    }

    /// Forgets the times of bytes before an offset.
    pub(crate) fn forget(&mut self, before: u64) {
        while self.marks.get(1).is_some_and(|(next, _)| *next <= before) {
            self.marks.pop_front();
        }
    }

    /// Whether any of them is known.
    pub(crate) fn are_known(&self) -> bool {
        self.known
    }

    /// The pieces from an offset on, in which bytes arrived together: where each begins, and when its last byte came.
    pub(crate) fn pieces(&self, from: u64) -> impl Iterator<Item = (u64, Option<Time>)> + '_ {
        let first = if self.known { self.marks.partition_point(|(start, _)| *start < from) } else { self.marks.len() };
        self.marks.range(first..).copied()
    }

    /// When the byte at an offset arrived.
    pub(crate) fn at(&self, offset: u64) -> Option<Time> {
        if !self.known {
            return None;
        }
        let behind = self.marks.partition_point(|(start, _)| *start <= offset);
        self.marks.get(behind.checked_sub(1)?)?.1
    }
}
