//! The `dle` framing: an escape and another byte begin a frame, the escape and a third one end it, and an escape in the contents is sent twice:
//! DLE STX … DLE ETX. A checksum stands in the contents, or follows the end.
//!
//! What looks like a start may be an escape in the contents and the byte behind it. Such a candidate sees the same pairs as the frame that it is in, from its
//! first byte on: so what was found out about that one serves it, too.

use alloc::vec::Vec;

use memchr::memchr;

use super::scan::{Sought, Start};
use super::unstuff::padded;
use super::{Behind, Candidate, CheckState, Contents, Recognise, Recognised, Tools, Verdict, View};
use crate::check::{self, Whole};
use crate::checksum::Stretch;
use crate::plan::{Check, CheckPlace, Choice, Dle};
use crate::reason::Reason;

/// How a frame goes on behind its start.
enum Ending {
    /// Its end delimiter is here.
    At(usize),
    /// So many bytes are there, and nothing before this place ends it.
    Open(usize),
    /// Another frame begins before it ends.
    Anew(usize),
    /// An escape stands before a byte that needs none.
    Escape(usize),
    /// It is longer than any.
    TooLong,
}

/// Contents that were taken out of a candidate, for those that begin inside of it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Unstuffed {
    /// Where the contents begin in the stream, and where they end.
    from: u64,
    to: u64,
    /// Why it ended there, if that was no end.
    failed: Option<Reason>,
    bytes: Vec<u8>,
    /// Where the first byte of each pair of escapes is.
    pairs: Vec<u64>,
}

impl Unstuffed {
    /// How many bytes come out before an offset.
    fn before(&self, offset: u64) -> usize {
        let pairs = self.pairs.partition_point(|pair| *pair < offset);
        (offset - self.from) as usize - pairs
    }
}

impl Dle {
    /// Whether a frame seems to begin with bytes.
    #[inline(always)]
    pub(crate) fn begins(&self, bytes: &[u8]) -> bool {
        match self.start {
            Some(start) => bytes.starts_with(&[self.escape, start]),
            None => {
                matches!(bytes, [first, second, ..] if *first == self.escape && *second != self.escape && *second != self.end)
            }
        }
    }

    /// Bytes of the start.
    #[inline(always)]
    fn lead(&self) -> usize {
        1 + usize::from(self.start.is_some())
    }

    /// Where the next start is, or where one may begin that the window's end hides.
    pub(super) fn find(&self, view: &View<'_>, from: u64) -> Start {
        let bytes = view.from(from);
        let mut at = 0;
        while let Some(escape) = memchr(self.escape, &bytes[at..]).map(|escape| at + escape) {
            if escape + 1 == bytes.len() {
                return Start::NotBefore(from + escape as u64);
            }
            if self.begins(&bytes[escape..]) {
                return Start::At(from + escape as u64);
            }
            at = escape + 1;
        }
        Start::NotBefore(view.end())
    }

    /// How a frame goes on from a place between two pairs. Each pair of escapes in it is shown.
    #[inline(always)]
    fn ending(&self, bytes: &[u8], from: usize, mut pair: impl FnMut(usize)) -> Ending {
        let limit = self.longest.saturating_sub(2 + self.behind);
        let mut at = from;
        loop {
            let escape = match bytes.get(at..).and_then(|rest| memchr(self.escape, rest)) {
                Some(escape) => at + escape,
                None if bytes.len() > limit => return Ending::TooLong,
                None => return Ending::Open(bytes.len()),
            };
            if escape > limit {
                return Ending::TooLong;
            }
            match bytes.get(escape + 1) {
                None => return Ending::Open(escape),
                Some(byte) if *byte == self.escape => pair(escape),
                Some(byte) if *byte == self.end => return Ending::At(escape),
                Some(byte) if self.start.is_none_or(|start| start == *byte) => return Ending::Anew(escape),
                Some(_) => return Ending::Escape(escape),
            }
            at = escape + 2;
        }
    }

    /// Takes contents out of what lies between the delimiters.
    #[inline(always)]
    fn unstuff(&self, between: &[u8], decoded: &mut Vec<u8>) {
        decoded.clear();
        let mut rest = between;
        while let Some(escape) = memchr(self.escape, rest) {
            decoded.extend_from_slice(&rest[..=escape]);
            rest = rest.get(escape + 2..).unwrap_or_default();
        }
        decoded.extend_from_slice(rest);
    }

    /// The bytes of a sent frame that a checksum over what was sent may cover: those before it.
    fn sent_before<'f>(&self, check: &Check, contents: usize, frame: &'f [u8], end: usize) -> &'f [u8] {
        match check.place {
            CheckPlace::Behind { through_end } => &frame[..end + if through_end { 2 } else { 0 }],
            CheckPlace::In(edge) => {
                let Some(at) = edge.in_frame(contents) else { return &[] };
                let mut place = self.lead();
                for _ in 0..at {
                    place += 1 + usize::from(frame.get(place) == Some(&self.escape));
                }
                frame.get(..place).unwrap_or_default()
            }
            CheckPlace::Marked => &[],
        }
    }

    /// The same of a whole frame.
    pub(super) fn sent_part<'f>(&self, check: &Check, contents: usize, frame: &'f [u8]) -> &'f [u8] {
        let end = frame.len().saturating_sub(2 + self.behind);
        self.sent_before(check, contents, frame, end)
    }

    /// What the bytes from a start on are.
    pub(super) fn judge(&self, candidate: &Candidate<'_>, sought: &mut Sought, tools: &mut Tools<'_>) -> Verdict {
        let Candidate { plan, frame: number, bytes, start, .. } = *candidate;
        let begun = start + self.lead() as u64;
        let known = &mut sought.unstuffed;
        if !(known.from..known.to).contains(&begun) {
            let from = sought.no_end_before.saturating_sub(start) as usize;
            let found = self.ending(bytes, from.max(self.lead()), |_| {});
            let (to, failed) = match found {
                Ending::Open(open) => {
                    sought.no_end_before = start + open as u64;
                    return Verdict::Need(bytes.len() + 1);
                }
                Ending::TooLong => {
                    let reason = Reason::NoEnd { frame: number, length: self.longest as u32 };
                    (bytes.len().min(self.longest), Some(reason))
                }
                Ending::At(end) => (end, None),
                Ending::Anew(escape) => (escape, Some(Reason::BeginsAnew { frame: number })),
                Ending::Escape(escape) => (escape, Some(Reason::Escape { frame: number })),
            };
            known.pairs.clear();
            known.bytes.clear();
            if failed.is_none() {
                self.ending(bytes, self.lead(), |pair| known.pairs.push(start + pair as u64));
                self.unstuff(&bytes[self.lead()..to], &mut known.bytes);
            }
            (known.from, known.to, known.failed) = (begun, start + to as u64, failed);
            sought.overlaps.clear();
        }
        if let Some(reason) = known.failed {
            return Verdict::Fail(reason);
        }
        let end = (known.to - start) as usize;
        let length = end + 2 + self.behind;
        let Some(frame) = bytes.get(..length) else { return Verdict::Need(length) };
        let skipped = known.before(begun);
        let contents = &known.bytes[skipped..];
        let state = match &plan.frames[usize::from(number)].check {
            None => CheckState::Undeclared,
            Some(check) => {
                let sent = if check.over_sent { self.sent_before(check, contents.len(), frame, end) } else { &[] };
                let of = Whole { contents, frame, sent };
                let (from, to) = check::covered(check, of);
                // What overlaps is what was sent, or what came out of it.
                let (line, base) = match check.over_sent {
                    true => (candidate.line(), start),
                    false => (Stretch { bytes: &known.bytes, base: known.from }, known.from + skipped as u64),
                };
                let offset = |place: usize| base + place as u64;
                let computed = sought.overlaps.checksum(&check.checksum, line, offset(from), offset(to));
                if let Err(wrong) = check::compare(check, of, computed) {
                    return Verdict::Fail(wrong.reason(number));
                }
                CheckState::Holds
            }
        };
        let contents = self.put(contents, end, tools.decoded);
        Verdict::Frame { length, contents, check: state, choice: Choice::Undecided }
    }

    /// Contents as they are in the frame, if nothing was stuffed.
    fn put(&self, contents: &[u8], end: usize, decoded: &mut Vec<u8>) -> Contents {
        if contents.len() == end - self.lead() {
            return Contents::Lie(self.lead() as u32, end as u32);
        }
        decoded.clear();
        decoded.extend_from_slice(contents);
        padded(decoded)
    }

    /// The contents of a whole frame; nothing if it is not stuffed as it has to be.
    pub(super) fn contents(&self, frame: &[u8], decoded: &mut Vec<u8>) -> Option<Contents> {
        let Ending::At(end) = self.ending(frame, self.lead(), |_| {}) else { return None };
        self.unstuff(frame.get(self.lead()..end)?, decoded);
        if decoded.len() == end - self.lead() {
            return Some(Contents::Lie(self.lead() as u32, end as u32));
        }
        Some(padded(decoded))
    }
}

/// A frame whose checksum holds, if it has one.
#[derive(Clone, Copy)]
pub(crate) struct DleFrame<'p> {
    pub(crate) dle: Dle,
    pub(crate) check: Option<&'p Check>,
}

impl Recognise for DleFrame<'_> {
    const DECIDES: bool = false;
    const SPLITS: bool = false;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], tools: &mut Tools<'_>) -> Option<Recognised> {
        let dle = self.dle;
        if !dle.begins(bytes) {
            return None;
        }
        let Ending::At(end) = dle.ending(bytes, dle.lead(), |_| {}) else { return None };
        let length = end + 2 + dle.behind;
        let frame = bytes.get(..length)?;
        dle.unstuff(frame.get(dle.lead()..end)?, tools.decoded);
        let contents = match tools.decoded.len() == end - dle.lead() {
            true => Contents::Lie(dle.lead() as u32, end as u32),
            false => padded(tools.decoded),
        };
        let check = match self.check {
            None => CheckState::Undeclared,
            Some(check) => {
                let (contents, _) = contents.of(frame, tools.decoded);
                let sent = if check.over_sent { dle.sent_before(check, contents.len(), frame, end) } else { &[] };
                check::test(check, Whole { contents, frame, sent }).ok()?;
                CheckState::Holds
            }
        };
        let (choice, behind) = (Choice::Undecided, Behind::Frame);
        Some(Recognised { length, contents, check, choice, filler: 0, behind })
    }
}
