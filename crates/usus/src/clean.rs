//! Taking out of a line what does not belong to it, before anything is cut: parity bits, NULs, flow control, terminal escapes.
//!
//! What is taken out is filler. Everything behind it counts without it, from the bytes of the line that are left; [`Removed`] knows where those
//! stood in the stream.

use alloc::collections::VecDeque;
use alloc::vec::Vec;

use crate::plan::Cleaning;

/// Takes the bytes out of one line, however it is split.
#[derive(Clone, Debug, Default)]
pub(crate) struct Cleaner {
    what: Cleaning,
    state: State,
    /// Bytes of the escape at hand.
    length: u16,
    /// Where in the chunk at hand bytes were taken out, and how many were, up to there.
    runs: Vec<(usize, usize)>,
}

/// Where in a terminal's escape a line is (ECMA-48).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum State {
    #[default]
    Text,
    /// Behind an ESC, and what may stand between it and the last byte.
    Escape,
    /// In a control sequence, behind its `ESC [`.
    Sequence,
    /// In a control string, such as a window's title.
    String,
    /// Behind an ESC in a string, which may end it.
    StringEscape,
}

/// No escape is longer, in bytes: what seems to go on is text.
const LONGEST: u16 = 256;

impl Cleaner {
    pub(crate) fn new(what: Cleaning) -> Cleaner {
        Cleaner { what, ..Cleaner::default() }
    }

    /// Puts what is left of a chunk behind `out`. Returns how many bytes were taken out.
    pub(crate) fn clean(&mut self, bytes: &[u8], out: &mut Vec<u8>) -> usize {
        self.runs.clear();
        out.reserve(bytes.len());
        let mut taken = 0;
        for (place, byte) in bytes.iter().enumerate() {
            let byte = if self.what.parity { byte & 0x7F } else { *byte };
            if !self.takes(byte) {
                out.push(byte);
                continue;
            }
            taken += 1;
            match self.runs.last_mut() {
                Some((behind, count)) if *behind == place => (*behind, *count) = (place + 1, taken),
                _ => self.runs.push((place + 1, taken)),
            }
        }
        taken
    }

    /// How many bytes were taken out of the last chunk before a place in it.
    pub(crate) fn taken_before(&self, place: usize) -> usize {
        let (mut taken, mut counted) = (0, 0);
        for (behind, count) in &self.runs {
            let begin = behind - (count - counted);
            taken += place.clamp(begin, *behind) - begin;
            counted = *count;
        }
        taken
    }

    /// What was taken out of the last chunk: behind how many bytes that are left, and how many, up to there.
    pub(crate) fn runs(&self) -> impl Iterator<Item = (usize, usize)> + '_ {
        self.runs.iter().map(|(behind, taken)| (behind - taken, *taken))
    }

    /// Behind missing bytes nothing of an escape is known.
    pub(crate) fn reset(&mut self) {
        self.state = State::Text;
    }

    /// Whether a byte is taken out.
    fn takes(&mut self, byte: u8) -> bool {
        if (self.what.nul && byte == 0) || (self.what.flow && matches!(byte, 0x11 | 0x13)) {
            return true;
        }
        if !self.what.escapes {
            return false;
        }
        self.length = self.length.saturating_add(1);
        let next = match (self.state, byte) {
            (State::Text | State::Escape | State::Sequence, 0x1B) => {
                self.length = 1;
                Some(State::Escape)
            }
            (State::Text, _) => None,
            _ if self.length > LONGEST => None,
            (State::Escape | State::StringEscape, b'[') => Some(State::Sequence),
            (State::Escape | State::StringEscape, b']' | b'P' | b'X' | b'^' | b'_') => Some(State::String),
            (State::Escape, 0x20..0x30) => Some(State::Escape),
            (State::Escape | State::StringEscape, 0x30..0x7F) => Some(State::Text),
            (State::Sequence, 0x20..0x40) => Some(State::Sequence),
            (State::Sequence, 0x40..0x7F) => Some(State::Text),
            (State::String, 0x07) => Some(State::Text),
            (State::String, 0x1B) => Some(State::StringEscape),
            // No escape goes beyond the end of a line.
            (State::String, b'\r' | b'\n') => None,
            (State::String, _) => Some(State::String),
            (State::Escape | State::Sequence | State::StringEscape, _) => None,
        };
        self.state = next.unwrap_or_default();
        next.is_some()
    }
}

/// Where the bytes that are left of a line stood in its stream.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Removed {
    /// From which byte on, counted without what was taken out, so many were taken out before it.
    from: VecDeque<(u64, u64)>,
}

impl Removed {
    /// Notes that so many bytes were taken out, all in all, before what comes next at an offset.
    pub(crate) fn push(&mut self, at: u64, total: u64) {
        match self.from.back_mut() {
            Some((last, before)) if *last == at => *before = total,
            _ => self.from.push_back((at, total)),
        }
    }

    /// How many bytes were taken out up to now.
    pub(crate) fn total(&self) -> u64 {
        self.from.back().map_or(0, |(_, total)| *total)
    }

    /// Forgets what was taken out before an offset, but not how much.
    pub(crate) fn forget(&mut self, before: u64) {
        while self.from.get(1).is_some_and(|(next, _)| *next <= before) {
            self.from.pop_front();
        }
    }

    /// The stream offset of a byte that is left.
    #[inline]
    pub(crate) fn raw(&self, offset: u64) -> u64 {
        if self.from.is_empty() {
            return offset;
        }
        let behind = self.from.partition_point(|(at, _)| *at <= offset);
        offset + behind.checked_sub(1).and_then(|place| self.from.get(place)).map_or(0, |(_, total)| *total)
    }

    /// The offset of a byte of the stream without what was taken out.
    pub(crate) fn left(&self, raw: u64) -> u64 {
        let behind = self.from.partition_point(|(at, total)| at + total <= raw);
        raw - behind.checked_sub(1).and_then(|place| self.from.get(place)).map_or(0, |(_, total)| *total)
    }

    /// What is known of the bytes between two offsets.
    pub(crate) fn within(&self, from: u64, to: u64) -> Removed {
        let mut within = self.clone();
        within.forget(from);
        while within.from.len() > 1 && within.from.back().is_some_and(|(at, _)| *at >= to) {
            within.from.pop_back();
        }
        within
    }
}
