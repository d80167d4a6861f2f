//! The `text` cut: lines, in what the searching cuts leave.

use memchr::{memchr, memchr2, memmem};
use wide::i8x16;

use super::columns::{BLOCK, Columns};
use super::pass::Pass;
use super::scan::{Run, Scan};
use super::{CheckState, Ended, Expect, Framed, Known, Line, Rest, Step, next_split};
use crate::claim::Choice;
use crate::event::Reason;
use crate::format::LineEnd;
use crate::plan::Cut;

impl Line<'_> {
    /// The next whole line before `to`, the line end at the position, or a part of a line that is too long.
    pub(super) fn settle_text(&self, frame: u16, to: u64, scan: &mut Scan) -> Option<Step> {
        let Cut::Text { end, limit, .. } = self.plan.frames[usize::from(frame)].cut else { return None };
        let silence = self.view.silence.filter(|silence| *silence <= to);
        let stop = silence.unwrap_or(to);
        let from = scan.no_line_end_before.clamp(self.at, stop);
        if let Some((line_end, length)) = find(end, self.view.between(from, stop)) {
            let line_end = from + line_end as u64;
            if line_end > self.at {
                return Some(self.text(frame, line_end, Ended::Properly, scan));
            }
            scan.run = Run::default();
            return Some(Step::Filler { to: self.at + length as u64, rest: Rest::CLEAN });
        }
        if let Some(silence) = silence {
            return Some(self.text(frame, silence, Ended::Properly, scan));
        }
        // A CR at the very end may be the first half of a line end.
        scan.no_line_end_before = stop.saturating_sub(u64::from(end == LineEnd::CrLf)).max(self.at);
        let too_long = self.rest.overlong || stop - self.at > limit as u64;
        let split = next_split(self.at);
        (too_long && split <= stop).then(|| self.too_long(frame, limit, split, true, scan))
    }

    /// The text from the position to `to`.
    pub(super) fn text(&self, frame: u16, to: u64, ended: Ended, scan: &mut Scan) -> Step {
        let Cut::Text { limit, .. } = self.plan.frames[usize::from(frame)].cut else {
            return Step::Filler { to, rest: Rest::CLEAN };
        };
        if self.rest.overlong || to - self.at > limit as u64 {
            let piece = to.min(next_split(self.at));
            return self.too_long(frame, limit, piece, piece < to, scan);
        }
        scan.tried = core::mem::take(&mut scan.run).first;
        let content = (0, (to - self.at) as u32);
        let framed =
            Framed { frame, content, check: CheckState::Untested, choice: Choice::Undecided, ended, split: false };
        Step::Frame { frame: framed, to, rest: Rest::CLEAN }
    }

    fn too_long(&self, frame: u16, limit: usize, to: u64, goes_on: bool, scan: &mut Scan) -> Step {
        scan.run = Run::default();
        let reason = Reason::LineTooLong { frame, limit: limit as u32 };
        Step::Run { to, reason, candidates: 1, clipped: false, rest: Rest { overlong: goes_on, ..Rest::CLEAN } }
    }
}

/// A whole line at the start of `bytes`, with its line end as far as that is there. `columns` receives its columns. An empty line is none of
/// these.
#[inline(always)]
pub(crate) fn known(end: LineEnd, limit: usize, separator: u8, bytes: &[u8], columns: &mut Columns) -> Option<Known> {
    let carriage_return = i8x16::splat(b'\r' as i8);
    // A longer line is none of these, and its end is not looked for far behind the limit.
    let text = &bytes[..bytes.len().min(limit.saturating_add(BLOCK))];
    let mut pass = Pass::new(text, separator, columns, |bytes| {
        bytes.simd_eq(carriage_return) | bytes.simd_eq(i8x16::splat(b'\n' as i8))
    });
    loop {
        let length = pass.next_stop()?;
        let two = bytes.get(length + 1) == Some(&b'\n') && bytes[length] == b'\r';
        let filler = match (end, bytes[length]) {
            (LineEnd::Any | LineEnd::CrLf, _) if two => 2,
            (LineEnd::Any, _) | (LineEnd::Lf, b'\n') | (LineEnd::Cr, b'\r') => 1,
            _ => continue,
        };
        pass.end(length);
        let known = Known { first: 0, text: length, length, filler, expect: Expect::Nothing };
        return (1..=limit).contains(&length).then_some(known);
    }
}

/// Whether bytes hold nothing that could end a line.
#[inline]
pub(super) fn waits(end: LineEnd, bytes: &[u8]) -> bool {
    let ends = ends(end);
    !bytes.iter().any(|byte| ends.contains(byte))
}

/// The bytes one of which is the last of every line end.
pub(super) fn ends(end: LineEnd) -> [u8; 2] {
    match end {
        LineEnd::Any => *b"\r\n",
        LineEnd::Lf | LineEnd::CrLf => *b"\n\n",
        LineEnd::Cr => *b"\r\r",
    }
}

/// The length of the line ends at the start of `bytes`.
pub(super) fn line_ends(end: LineEnd, bytes: &[u8]) -> usize {
    let length = |ends: &[u8]| bytes.iter().take_while(|byte| ends.contains(byte)).count();
    match end {
        LineEnd::Any => length(b"\r\n"),
        LineEnd::Lf => length(b"\n"),
        LineEnd::Cr => length(b"\r"),
        LineEnd::CrLf => bytes.as_chunks::<2>().0.iter().take_while(|two| *two == b"\r\n").count() * 2,
    }
}

/// The first line end in `bytes`: its place and its length.
fn find(end: LineEnd, bytes: &[u8]) -> Option<(usize, usize)> {
    match end {
        LineEnd::Any => memchr2(b'\r', b'\n', bytes).map(|place| (place, 1)),
        LineEnd::Lf => memchr(b'\n', bytes).map(|place| (place, 1)),
        LineEnd::Cr => memchr(b'\r', bytes).map(|place| (place, 1)),
        LineEnd::CrLf => memmem::find(bytes, b"\r\n").map(|place| (place, 2)),
    }
}
