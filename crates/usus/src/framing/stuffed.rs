//! Framings that stuff their contents, so that one byte delimits frames and never stands in them: `slip` (RFC 1055), `hdlc` (the octet stuffing of RFC 1662)
//! and `cobs` (consistent overhead byte stuffing). What each makes of the bytes between two delimiters is in `unstuff.rs`.
//!
//! A frame is what lies between two delimiters, with the one that closes it, and with one before it that closes no other. Delimiters that follow one another
//! carry nothing. Where a recording begins, or behind a loss, a frame without a delimiter before it is one only if its checksum holds.

use alloc::vec::Vec;
use core::marker::PhantomData;

use memchr::memchr;

use super::scan::{Sought, Start};
use super::unstuff::Unstuff;
use super::{Behind, Candidate, CheckState, Contents, Filler, Place, Recognise, Recognised, Tools, Verdict};
use crate::check::{self, Whole, Wrong};
use crate::plan::{Check, Choice, Stuffed};
use crate::reason::Reason;

/// Delimiters that carry nothing: those behind one, but for the last of them if something follows, which opens a frame.
pub(super) fn filler(delimiter: u8, place: &Place<'_>) -> Filler {
    if place.behind != Behind::Delimiter(delimiter) {
        return Filler::None;
    }
    let bytes = place.view.from(place.at);
    let ends = bytes.iter().take_while(|byte| **byte == delimiter).count();
    let is_open = ends == bytes.len() && !place.view.closed;
    let opening = usize::from(ends > 0 && (is_open || ends < bytes.len()));
    match ends - opening {
        0 if opening == 1 && is_open => Filler::Need(place.at + 2),
        0 => Filler::None,
        filler => Filler::To(place.at + filler as u64, Behind::Delimiter(delimiter)),
    }
}

/// Whether a frame begins at a position.
pub(crate) fn begins(delimiter: u8, behind: Behind, bytes: &[u8]) -> bool {
    match bytes {
        [first, second, ..] if *first == delimiter && second == first => false,
        [first, ..] if *first == delimiter => true,
        _ => behind == Behind::Delimiter(delimiter),
    }
}

/// Where the next frame begins. `failed` says whether one that began at or behind the position failed: the first delimiter closes it.
pub(super) fn find(delimiter: u8, place: &Place<'_>, from: u64, failed: bool) -> Start {
    let Place { view, at, behind } = *place;
    let closed_before = match behind {
        Behind::Delimiter(byte) | Behind::Unclaimed(byte) => byte == delimiter,
        behind => behind == Behind::Boundary,
    };
    let bytes = view.from(from);
    // Here a frame begins that has no delimiter of its own, or whose delimiter was cut off.
    if from == at && (closed_before || behind.is_edge()) && bytes.first().is_some_and(|byte| *byte != delimiter) {
        return Start::At(at);
    }
    let Some(end) = memchr(delimiter, bytes) else { return Start::NotBefore(view.end()) };
    let behind_ends = end + bytes[end..].iter().take_while(|byte| **byte == delimiter).count();
    if behind_ends == bytes.len() {
        // The last one opens a frame if something else follows. However many there are, no more has to be kept.
        return Start::NotBefore(view.end() - u64::from(!view.closed));
    }
    let behind_another = end == 0 && from > at && view.between(from - 1, from) == [delimiter];
    let opens = behind_ends - end > 1 || behind_another || !failed;
    Start::At(from + behind_ends as u64 - u64::from(opens))
}

impl Stuffed {
    /// What a frame is.
    pub(super) fn judge(&self, candidate: &Candidate<'_>, sought: &mut Sought, tools: &mut Tools<'_>) -> Verdict {
        let (bytes, number) = (candidate.bytes, candidate.frame);
        let delimiter = self.stuffing.delimiter();
        let front = usize::from(bytes.first() == Some(&delimiter));
        let is_cut = front == 0 && candidate.behind.is_some_and(Behind::is_edge);
        let looked_at = sought.no_end_before.saturating_sub(candidate.start) as usize;
        let from = looked_at.clamp(front, bytes.len().max(front));
        let within = &bytes[..bytes.len().min(self.longest)];
        let Some(end) = within.get(from..).and_then(|bytes| memchr(delimiter, bytes)).map(|end| from + end) else {
            return match within.len() < bytes.len() || within.len() == self.longest {
                true => self.fail(is_cut, Reason::NoEnd { frame: number, length: self.longest as u32 }),
                false => {
                    sought.no_end_before = candidate.start + bytes.len() as u64;
                    Verdict::Need(bytes.len() + 1)
                }
            };
        };
        let frame = &bytes[..=end];
        let Some(contents) = self.stuffing.unstuff(frame, front, tools.decoded) else {
            return self.fail(is_cut, Reason::Escape { frame: number });
        };
        let check = candidate.plan.frames[usize::from(number)].check.as_ref();
        if check.is_none() && is_cut {
            return Verdict::Nothing;
        }
        match tested(self, check, contents, frame, tools.decoded) {
            Ok(check) => Verdict::Frame { length: frame.len(), contents, check, choice: Choice::Undecided },
            Err(wrong) => self.fail(is_cut, wrong.reason(number)),
        }
    }

    /// What fails is no candidate if its beginning may be missing.
    fn fail(&self, is_cut: bool, reason: Reason) -> Verdict {
        if is_cut { Verdict::Nothing } else { Verdict::Fail(reason) }
    }

    /// The contents of a whole frame; nothing if they are not stuffed as they have to be.
    pub(super) fn contents(&self, frame: &[u8], decoded: &mut Vec<u8>) -> Option<Contents> {
        self.stuffing.unstuff(frame, usize::from(frame.first() == Some(&self.stuffing.delimiter())), decoded)
    }
}

/// Tests the checksum of a frame, if it has one.
#[inline]
fn tested(
    stuffed: &Stuffed,
    check: Option<&Check>,
    contents: Contents,
    frame: &[u8],
    decoded: &[u8],
) -> Result<CheckState, Wrong> {
    let Some(check) = check else { return Ok(CheckState::Undeclared) };
    let (contents, _) = contents.of(frame, decoded);
    let sent = if check.over_sent { stuffed.stuffing.sent_before(check, contents.len(), frame) } else { &[] };
    check::test(check, Whole { contents, frame, sent }).map(|()| CheckState::Holds)
}

/// A frame whose checksum holds, if it has one. Of a stuffing as a type, so that nothing about it is looked up in the loop.
#[derive(Clone, Copy)]
pub(crate) struct StuffedFrame<'p, U> {
    stuffed: &'p Stuffed,
    check: Option<&'p Check>,
    unstuff: PhantomData<U>,
}

impl<'p, U> StuffedFrame<'p, U> {
    pub(crate) fn new(stuffed: &'p Stuffed, check: Option<&'p Check>) -> StuffedFrame<'p, U> {
        StuffedFrame { stuffed, check, unstuff: PhantomData }
    }
}

impl<U: Unstuff> Recognise for StuffedFrame<'_, U> {
    const DECIDES: bool = false;
    const SPLITS: bool = false;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], tools: &mut Tools<'_>) -> Option<Recognised> {
        let front = usize::from(bytes.first() == Some(&U::DELIMITER));
        let within = bytes.get(front..bytes.len().min(self.stuffed.longest))?;
        // Two delimiters that follow one another are no frame.
        let end = memchr(U::DELIMITER, within).filter(|end| *end > 0)? + front;
        let frame = bytes.get(..=end)?;
        let contents = U::contents(frame, front, tools.decoded)?;
        let check = tested(self.stuffed, self.check, contents, frame, tools.decoded).ok()?;
        let (choice, behind) = (Choice::Undecided, Behind::Delimiter(U::DELIMITER));
        Some(Recognised { length: frame.len(), contents, check, choice, filler: 0, behind })
    }
}
