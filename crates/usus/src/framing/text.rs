//! The `text` framing: lines, in what the searching framings leave.

use alloc::vec::Vec;

use memchr::{memchr, memchr2, memmem};
use wide::i8x16;

use super::columns::BLOCK;
use super::pass::Pass;
use super::scan::{Run, Scan};
use super::search::{Search, next_split};
use super::{Behind, CheckState, Contents, Ended, Framed, Recognise, Recognised, Step, Tools, coded};
use crate::format::LineEnd;
use crate::plan::{Choice, Framing, Text};
use crate::reason::Reason;

impl Search<'_> {
    fn text_framing(&self, frame: u16) -> Option<Text> {
        match self.plan.frames[usize::from(frame)].framing {
            Framing::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The next whole line before `to`, the line end at the position, or a part of a line that is too long.
    pub(super) fn settle_text(&self, frame: u16, to: u64, scan: &mut Scan) -> Option<Step> {
        let Text { end, limit, .. } = self.text_framing(frame)?;
        let (view, at) = (self.place.view, self.place.at);
        let silence = view.silence.filter(|silence| *silence <= to);
        let stop = silence.unwrap_or(to);
        let from = scan.no_line_end_before.clamp(at, stop);
        if let Some((line_end, length)) = find(end, view.between(from, stop)) {
            let line_end = from + line_end as u64;
            if line_end > at {
                return Some(self.text(frame, line_end, Ended::Properly, scan));
            }
            scan.run = Run::default();
            return Some(Step::Filler { to: at + length as u64, behind: Behind::Frame });
        }
        if let Some(silence) = silence {
            return Some(self.text(frame, silence, Ended::Properly, scan));
        }
        // A CR at the very end may be the first half of a line end.
        scan.no_line_end_before = stop.saturating_sub(u64::from(end == LineEnd::CrLf)).max(at);
        let too_long = self.place.behind == Behind::Overlong || stop - at > limit as u64;
        let split = next_split(at);
        (too_long && split <= stop).then(|| too_long_to(frame, limit, split, true, scan))
    }

    /// The first frame whose start and coding fit a line, and its contents if they are coded.
    fn line_frame(&self, line: &[u8], decoded: &mut Vec<u8>) -> Option<(u16, Option<Contents>)> {
        self.route.lines.iter().find_map(|number| {
            let frame = &self.plan.frames[usize::from(*number)];
            match &*frame.coding {
                _ if !frame.begins_line(line) => None,
                [] => Some((*number, None)),
                coding => Some((*number, Some(coded(coding, line, decoded)?))),
            }
        })
    }

    /// The text from the position to `to`.
    pub(super) fn text(&self, frame: u16, to: u64, ended: Ended, scan: &mut Scan) -> Step {
        let at = self.place.at;
        let Some(Text { limit, .. }) = self.text_framing(frame) else {
            return Step::Filler { to, behind: Behind::Frame };
        };
        if self.place.behind == Behind::Overlong || to - at > limit as u64 {
            let piece = to.min(next_split(at));
            return too_long_to(frame, limit, piece, piece < to, scan);
        }
        scan.tried = core::mem::take(&mut scan.run).first;
        let line = self.place.view.between(at, to);
        let (frame, contents) = self.line_frame(line, &mut scan.decoded).unwrap_or((frame, None));
        let contents = contents.unwrap_or(Contents::Lie(0, (to - at) as u32));
        let check = CheckState::Untested;
        let framed = Framed { frame, contents, check, choice: Choice::Undecided, ended };
        // What interrupts it has to look the same as it did from here.
        let behind = if ended == Ended::Interrupted { self.behind_unclaimed(to) } else { Behind::Frame };
        Step::Frame { frame: framed, to, behind }
    }
}

/// A part of a line that is too long.
fn too_long_to(frame: u16, limit: usize, to: u64, goes_on: bool, scan: &mut Scan) -> Step {
    scan.run = Run::default();
    let reason = Reason::LineTooLong { frame, limit: limit as u32 };
    let behind = if goes_on { Behind::Overlong } else { Behind::Frame };
    Step::Run { to, reason, candidates: 1, clipped: false, behind }
}

/// Lines, on a line of nothing else.
#[derive(Clone, Copy)]
pub(crate) struct TextLine {
    pub(crate) text: Text,
    pub(crate) separator: u8,
}

/// A whole line, with its line end as far as that is there. An empty line is none of these.
impl Recognise for TextLine {
    const DECIDES: bool = false;
    const SPLITS: bool = true;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], tools: &mut Tools<'_>) -> Option<Recognised> {
        let Text { end, limit, .. } = self.text;
        let carriage_return = i8x16::splat(b'\r' as i8);
        // A longer line is none of these, and its end is not looked for far behind the limit.
        let text = &bytes[..bytes.len().min(limit.saturating_add(BLOCK))];
        let mut pass = Pass::new(text, self.separator, tools.columns, |bytes| {
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
            let (contents, check) = (Contents::Lie(0, length as u32), CheckState::Undeclared);
            let (choice, behind) = (Choice::Undecided, Behind::Frame);
            let line = Recognised { length, contents, check, choice, filler, behind };
            return (1..=limit).contains(&length).then_some(line);
        }
    }
}

/// The length of the line ends at the start of `bytes`.
pub(crate) fn line_ends(end: LineEnd, bytes: &[u8]) -> usize {
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
