//! What a cut has looked at already: a cache that saves looking at a byte twice. See the letter in `mod.rs`.

use alloc::vec::Vec;

use super::columns::Columns;
use super::{Framed, View};
use crate::claim::Choices;
use crate::event::Reason;
use crate::limits;
use crate::plan::Route;

/// What has been looked at already. A cache, see above.
#[derive(Clone, Debug, Default)]
pub(crate) struct Scan {
    /// For each searching cut of the route, where its next start is.
    pub(super) starts: Vec<Start>,
    /// The window has to reach this offset before the open candidate is tried again.
    pub(crate) need: u64,
    /// The open candidate is a sentence, and nothing before this offset stops it.
    pub(super) open: Option<Open>,
    /// No line end begins before this offset.
    pub(super) no_line_end_before: u64,
    /// A frame found behind bytes that have to be dealt with first.
    pub(super) found: Option<Found>,
    pub(super) run: Run,
    /// What stood in the way of the first candidate inside of the text that was cut last.
    pub(crate) tried: Option<Reason>,
    /// What claimed frames with such headers before.
    pub(crate) choices: Choices,
    /// The columns of the frame that was looked at last.
    pub(crate) columns: Columns,
}

/// A sentence whose end is not there yet.
#[derive(Clone, Copy, Debug)]
pub(super) struct Open {
    pub(super) start: u64,
    /// Nothing before this offset stops it.
    pub(super) seen: u64,
    /// Whether `*` and two digits end it.
    pub(super) starred: bool,
}

/// Where a cut's next start is.
#[derive(Clone, Copy, Debug)]
pub(super) enum Start {
    /// At this offset.
    At(u64),
    /// Not before this offset.
    NotBefore(u64),
}

#[derive(Clone, Copy, Debug)]
pub(super) struct Found {
    pub(super) start: u64,
    pub(super) to: u64,
    pub(super) frame: Framed,
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
        Scan { starts: route.searching.iter().map(|_| Start::NotBefore(at)).collect(), ..Scan::default() }
    }

    /// Forgets everything, for the other side of a loss.
    pub(crate) fn reset(&mut self, at: u64) {
        let (starts, choices) = (core::mem::take(&mut self.starts), core::mem::take(&mut self.choices));
        *self = Scan { starts, choices, columns: core::mem::take(&mut self.columns), ..Scan::default() };
        self.starts.fill(Start::NotBefore(at));
    }

    /// Whether the open candidate is no further for the bytes that came since. Looks at each of them once.
    #[inline]
    pub(super) fn waits(&mut self, view: &View<'_>) -> bool {
        let end = view.end();
        if self.need > end {
            return true;
        }
        let Some(open) = &mut self.open else { return false };
        let (from, to) = (open.seen.max(view.base), end.min(open.start + limits::SENTENCE as u64));
        open.seen = to;
        let bytes = if from < to { view.between(from, to) } else { &[] };
        let Some(stop) = bytes.iter().position(|byte| !(b'+'..=b'~').contains(byte)) else { return from < to };
        if bytes[stop] == b'*' && open.starred {
            self.need = from + stop as u64 + 3;
        }
        self.open = None;
        self.need > end
    }

    /// Notes that what came before an offset was looked at when it came: it stops no sentence.
    #[inline]
    pub(crate) fn pass_calmly(&mut self, to: u64) {
        if let Some(open) = &mut self.open {
            open.seen = open.seen.max(to);
        }
    }

    /// Notes that a sentence begins at an offset, if anything does.
    pub(super) fn expect_sentence(&mut self, start: u64, starred: bool) {
        self.open = Some(Open { start, seen: start + 1, starred });
    }

    /// Notes that a sentence is open.
    pub(super) fn wait_for_stop(&mut self, start: u64, view: &View<'_>, starred: bool) {
        self.need = view.end() + 1;
        self.open = Some(Open { start, seen: view.end(), starred });
    }

    /// Whether the bytes from `at` to `end` were looked at and did not suffice.
    #[inline]
    pub(crate) fn is_stuck(&self, at: u64, end: u64) -> bool {
        self.open.is_some() || self.need > end || self.no_line_end_before > at
    }

    /// Forgets what was known of candidates: all of them lay before a frame.
    #[inline]
    pub(crate) fn clear(&mut self) {
        self.found = None;
        self.need = 0;
        self.open = None;
        self.run = Run::default();
    }
}
