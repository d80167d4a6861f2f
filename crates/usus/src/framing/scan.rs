//! What has been looked at already: a cache that saves looking at a byte twice. See the letter in `mod.rs`.

use alloc::vec::Vec;

use super::Columns;
use super::Tools;
use super::dle::Unstuffed;
use crate::checksum::Overlaps;
use crate::claim::Choices;
use crate::plan::Route;
use crate::reason::Reason;

/// What has been looked at already. A cache, see above.
#[derive(Clone, Debug, Default)]
pub(crate) struct Scan {
    /// What is known of each searching framing of the route.
    pub(super) sought: Vec<Sought>,
    /// No line end begins before this offset.
    pub(super) no_line_end_before: u64,
    pub(super) run: Run,
    /// What stood in the way of the first candidate inside of the text that was found last.
    pub(crate) tried: Option<Reason>,
    /// What claimed frames with such headers before.
    pub(crate) choices: Choices,
    /// The columns of the frame that was looked at last.
    pub(crate) columns: Columns,
    /// The contents of the frame that was looked at last, if they do not lie in it, and more bytes behind them.
    pub(crate) decoded: Vec<u8>,
}

/// What is known of one framing's frames.
#[derive(Clone, Debug)]
pub(super) struct Sought {
    /// Where its next candidate is, if that is known.
    pub(super) start: Option<u64>,
    /// None begins before this offset.
    pub(super) from: u64,
    /// Where the last that failed began.
    pub(super) failed: Option<u64>,
    /// Nothing before this offset ends the candidate at hand.
    pub(super) no_end_before: u64,
    /// The checksums of candidates that overlap.
    pub(super) overlaps: Overlaps,
    /// What came out of the candidate that was looked at last, for those that begin in it.
    pub(super) unstuffed: Unstuffed,
}

impl Sought {
    /// Notes that a candidate failed.
    pub(super) fn fail(&mut self, start: u64) {
        (self.start, self.from, self.failed) = (None, start + 1, Some(start));
    }
}

/// Where a framing's next start is.
#[derive(Clone, Copy, Debug)]
pub(super) enum Start {
    /// At this offset.
    At(u64),
    /// Not before this offset.
    NotBefore(u64),
}

/// What is known of the candidates between the position and the search.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Run {
    pub(super) candidates: u32,
    /// What stood in the way of the first candidate.
    pub(super) first: Option<Reason>,
    /// Whether one failed although all of it was there, so that the edge of the recording is not to blame.
    pub(super) whole: bool,
    /// The first candidate that the end of the input cut, and how many were before it.
    pub(super) short: Option<Short>,
}

#[derive(Clone, Copy, Debug)]
pub(super) struct Short {
    pub(super) start: u64,
    pub(super) reason: Reason,
    pub(super) before: u32,
    /// What stood in the way of the first of those before it.
    pub(super) first: Option<Reason>,
}

impl Run {
    pub(super) fn fail(&mut self, reason: Reason) {
        self.candidates = self.candidates.saturating_add(1);
        self.first = self.first.or(Some(reason));
    }

    pub(super) fn cut_short(&mut self, start: u64, reason: Reason) {
        let short = Short { start, reason, before: self.candidates, first: self.first };
        self.short = self.short.or(Some(short));
    }
}

impl Scan {
    pub(crate) fn new(route: &Route, at: u64) -> Scan {
        let fresh = Sought {
            start: None,
            from: at,
            failed: None,
            no_end_before: at,
            overlaps: Overlaps::default(),
            unstuffed: Unstuffed::default(),
        };
        Scan { sought: alloc::vec![fresh; route.searching.len()], ..Scan::default() }
    }

    /// Forgets what was looked at, for the other side of a loss.
    pub(crate) fn reset(&mut self, at: u64) {
        for sought in &mut self.sought {
            (sought.start, sought.from, sought.failed) = (None, at, None);
            sought.overlaps.clear();
            sought.unstuffed = Unstuffed::default();
        }
        self.no_line_end_before = at;
        self.run = Run::default();
        self.tried = None;
    }

    /// Forgets what was known of candidates: all of them lay before a frame.
    #[inline]
    pub(crate) fn clear(&mut self) {
        self.run = Run::default();
    }

    /// How many bytes were looked at to test checksums.
    pub(crate) fn bytes_tested(&self) -> u64 {
        self.sought.iter().map(|sought| sought.overlaps.looked_at()).sum()
    }

    /// What judging uses, and what is known of a framing.
    pub(super) fn tools(&mut self, searching: usize) -> (Tools<'_>, &mut Sought) {
        let Scan { sought, choices, columns, decoded, .. } = self;
        (Tools { choices, columns, decoded }, &mut sought[searching])
    }
}
