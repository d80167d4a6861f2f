//! The `slip` framing (RFC 1055): END closes a frame, and may open it, too; what lies between has its ENDs and ESCs replaced by two bytes each.
//!
//! A frame is what lies between two ENDs, with the one that closes it, and with one before it that closes no other. ENDs that follow one another
//! carry nothing. Where a recording begins, or behind a loss, a frame without an END before it is one only if its checksum holds.

use alloc::vec::Vec;

use memchr::memchr;

use super::scan::{Sought, Start};
use super::{Behind, Candidate, CheckState, Contents, Filler, Place, Recognise, Recognised, Tools, Verdict};
use crate::check::{self, Whole};
use crate::plan::{Check, Choice, Slip};
use crate::reason::Reason;

/// Closes a frame.
pub(super) const END: u8 = 0xC0;
/// Begins what stands for one of the two.
const ESC: u8 = 0xDB;
/// What follows ESC for an END, and for an ESC.
const ESC_END: u8 = 0xDC;
const ESC_ESC: u8 = 0xDD;

/// Bytes behind what is decoded: a word may be taken near the end.
const PADDING: usize = 8;

/// ENDs that carry nothing: those behind an END, but for the last of them if something follows, which opens a frame.
pub(super) fn filler(place: &Place<'_>) -> Filler {
    if place.behind != Behind::Delimiter(END) {
        return Filler::None;
    }
    let bytes = place.view.from(place.at);
    let ends = bytes.iter().take_while(|byte| **byte == END).count();
    let is_open = ends == bytes.len() && !place.view.closed;
    let opening = usize::from(ends > 0 && (is_open || ends < bytes.len()));
    match ends - opening {
        0 if opening == 1 && is_open => Filler::Need(place.at + 2),
        0 => Filler::None,
        filler => Filler::To(place.at + filler as u64, Behind::Delimiter(END)),
    }
}

/// Whether a frame begins at a position.
pub(crate) fn begins(behind: Behind, bytes: &[u8]) -> bool {
    match bytes {
        [END, END, ..] => false,
        [END, ..] => true,
        _ => behind == Behind::Delimiter(END),
    }
}

/// Where the next frame begins. `failed` says whether one that began at or behind the position failed: the first END closes it.
pub(super) fn find(place: &Place<'_>, from: u64, failed: bool) -> Start {
    let Place { view, at, behind } = *place;
    let closed_before = match behind {
        Behind::Delimiter(byte) | Behind::Unclaimed(byte) => byte == END,
        behind => behind == Behind::Boundary,
    };
    let bytes = view.from(from);
    // Here a frame begins that has no END of its own, or whose END was cut off.
    if from == at && (closed_before || behind.is_edge()) && bytes.first().is_some_and(|byte| *byte != END) {
        return Start::At(at);
    }
    let Some(end) = memchr(END, bytes) else { return Start::NotBefore(view.end()) };
    let behind_ends = end + bytes[end..].iter().take_while(|byte| **byte == END).count();
    if behind_ends == bytes.len() {
        // The last one opens a frame if something else follows. However many there are, no more has to be kept.
        return Start::NotBefore(view.end() - u64::from(!view.closed));
    }
    let behind_another = end == 0 && from > at && view.between(from - 1, from) == [END];
    let opens = behind_ends - end > 1 || behind_another || !failed;
    Start::At(from + behind_ends as u64 - u64::from(opens))
}

impl Slip {
    /// What a frame is.
    pub(super) fn judge(&self, candidate: &Candidate<'_>, sought: &mut Sought, tools: &mut Tools<'_>) -> Verdict {
        let (bytes, number) = (candidate.bytes, candidate.frame);
        let front = usize::from(bytes.first() == Some(&END));
        let is_cut = front == 0 && candidate.behind.is_some_and(Behind::is_edge);
        let looked_at = sought.no_end_before.saturating_sub(candidate.start) as usize;
        let from = looked_at.clamp(front, bytes.len().max(front));
        let within = &bytes[..bytes.len().min(self.longest)];
        let Some(end) = within.get(from..).and_then(|bytes| memchr(END, bytes)).map(|end| from + end) else {
            return match within.len() < bytes.len() || within.len() == self.longest {
                true => self.fail(is_cut, Reason::NoEnd { frame: number, length: self.longest as u32 }),
                false => {
                    sought.no_end_before = candidate.start + bytes.len() as u64;
                    Verdict::Need(bytes.len() + 1)
                }
            };
        };
        let frame = &bytes[..=end];
        let Some(contents) = unescaped(frame, front, tools.decoded) else {
            return self.fail(is_cut, Reason::Escape { frame: number });
        };
        let check = candidate.plan.frames[usize::from(number)].check.as_ref();
        if check.is_none() && is_cut {
            return Verdict::Nothing;
        }
        match tested(check, contents, frame, tools.decoded) {
            Ok(check) => Verdict::Frame { length: frame.len(), contents, check, choice: Choice::Undecided },
            Err((computed, sent)) => self.fail(is_cut, Reason::Checksum { frame: number, computed, sent }),
        }
    }

    /// What fails is no candidate if its beginning may be missing.
    fn fail(&self, is_cut: bool, reason: Reason) -> Verdict {
        if is_cut { Verdict::Nothing } else { Verdict::Fail(reason) }
    }
}

/// The contents of a whole frame; nothing if an ESC in it stands for nothing.
pub(super) fn contents(frame: &[u8], decoded: &mut Vec<u8>) -> Option<Contents> {
    unescaped(frame, usize::from(frame.first() == Some(&END)), decoded)
}

#[inline]
fn unescaped(frame: &[u8], front: usize, decoded: &mut Vec<u8>) -> Option<Contents> {
    let end = frame.len().checked_sub(1)?;
    let mut rest = frame.get(front..end)?;
    let Some(mut escape) = memchr(ESC, rest) else { return Some(Contents::Lie(front as u32, end as u32)) };
    decoded.clear();
    loop {
        decoded.extend_from_slice(&rest[..escape]);
        decoded.push(match rest.get(escape + 1) {
            Some(&ESC_END) => END,
            Some(&ESC_ESC) => ESC,
            _ => return None,
        });
        rest = &rest[escape + 2..];
        escape = match memchr(ESC, rest) {
            Some(escape) => escape,
            None => break,
        };
    }
    decoded.extend_from_slice(rest);
    let length = decoded.len();
    decoded.resize(length + PADDING, 0);
    Some(Contents::Decoded(length as u32))
}

/// Tests the checksum of a frame, if it has one.
#[inline]
fn tested(
    check: Option<&Check>,
    contents: Contents,
    frame: &[u8],
    decoded: &[u8],
) -> Result<CheckState, (u64, Option<u64>)> {
    let Some(check) = check else { return Ok(CheckState::Undeclared) };
    let (contents, _) = contents.of(frame, decoded);
    check::test(check, Whole { contents, frame }).map(|()| CheckState::Holds)
}

/// A frame whose checksum holds, if it has one.
#[derive(Clone, Copy)]
pub(crate) struct SlipFrame<'p> {
    pub(crate) slip: Slip,
    pub(crate) check: Option<&'p Check>,
}

impl Recognise for SlipFrame<'_> {
    const DECIDES: bool = false;
    const SPLITS: bool = false;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], tools: &mut Tools<'_>) -> Option<Recognised> {
        let front = usize::from(bytes.first() == Some(&END));
        let within = bytes.get(front..bytes.len().min(self.slip.longest))?;
        // Two ENDs that follow one another are no frame.
        let end = memchr(END, within).filter(|end| *end > 0)? + front;
        let frame = bytes.get(..=end)?;
        let contents = unescaped(frame, front, tools.decoded)?;
        let check = tested(self.check, contents, frame, tools.decoded).ok()?;
        let (choice, behind) = (Choice::Undecided, Behind::Delimiter(END));
        Some(Recognised { length: frame.len(), contents, check, choice, filler: 0, behind })
    }
}
