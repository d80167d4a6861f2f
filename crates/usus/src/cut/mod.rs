//! Cutting: which bytes of a line are one frame.
//!
//! # For whoever changes this
//!
//! A cut is a function of the bytes from a position on, the position's stream offset, and a small [`Rest`]. [`step`] answers
//! what the next piece of the line is, or that more bytes are needed. Three things have to stay true, and the tests hold them:
//!
//! - *More bytes never change an answer*, they only turn "need more" into one. So nothing may depend on where the window ends, and
//!   where an input ends or has a loss ([`View::closed`]) is part of the question.
//! - *[`Scan`] is a cache.* Whatever stands in it can be worked out again from the bytes, the position and the rest; it only saves
//!   looking at a byte twice. When the position moves, stale entries are recognised by their offsets.
//! - *Every step moves the position forward*, or ends the input. That bounds the work and rules out endless loops.
//!
//! Several cuts share a line. Those that search for a start come first: the leftmost candidate is tried, in the order of the file
//! where several begin at one place. What lies before a frame that they found, or before a candidate that is still open, goes to
//! the `text` cut, or is a run of bytes that nothing claims.

mod columns;
mod known;
mod packet;
mod pass;
mod scan;
mod sentence;
mod text;
mod unclaimed;
mod wait;

pub(crate) use columns::Columns;
pub(crate) use known::{Known, crlf, line_ends, packet_needs};
pub(crate) use packet::{is_sound, signed, signed_needs};
pub(crate) use pass::split;
pub(crate) use scan::Scan;
pub(crate) use sentence::{STANDARD_LENGTH, known as known_sentence};
pub(crate) use text::known as known_line;
pub(crate) use wait::{Bytes, calm, may_wait, needs, waits};

use crate::claim::Choice;
use crate::event::Reason;
use crate::limits;
use crate::plan::{Cut, Inner, Route};

use scan::{Found, Start};

/// What a cut remembers between frames, beside its offset.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Rest {
    /// Whether the position is where the recording begins, or behind a loss.
    pub(crate) edge: LineEdge,
    /// The rest of a sentence's line end that may follow.
    pub(crate) line_end: Expect,
    /// Whether the position is inside of a line that is too long.
    pub(crate) overlong: bool,
}

/// What lies before the position.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LineEdge {
    /// Bytes that were booked.
    None,
    /// Nothing: the recording begins here.
    Start,
    /// Missing bytes.
    Loss,
}

/// What may follow a sentence and is filler then.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Expect {
    Nothing,
    CrOrLf,
    Lf,
}

impl Rest {
    pub(crate) fn at(edge: LineEdge) -> Rest {
        Rest { edge, line_end: Expect::Nothing, overlong: false }
    }

    /// The rest behind a frame or a whole run.
    pub(crate) const CLEAN: Rest = Rest { edge: LineEdge::None, line_end: Expect::Nothing, overlong: false };
}

/// The bytes of a line that can be seen.
#[derive(Clone, Copy)]
pub(crate) struct View<'a> {
    /// The bytes in the window, up to the first place where the line is closed.
    pub(crate) bytes: &'a [u8],
    /// Stream offset of the first of them.
    pub(crate) base: u64,
    /// Whether nothing follows them: the input ends there, or bytes are missing.
    pub(crate) closed: bool,
    /// The first place behind the position where the line was silent for long enough to end a text.
    pub(crate) silence: Option<u64>,
}

impl<'a> View<'a> {
    fn end(&self) -> u64 {
        self.base + self.bytes.len() as u64
    }

    fn from(&self, offset: u64) -> &'a [u8] {
        &self.bytes[(offset - self.base) as usize..]
    }

    fn between(&self, from: u64, to: u64) -> &'a [u8] {
        &self.bytes[(from - self.base) as usize..(to - self.base) as usize]
    }
}

/// The next piece of a line. It begins at the position and ends before `to`.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Step {
    /// Bytes that carry nothing by the rules of the framing.
    Filler { to: u64, rest: Rest },
    /// A frame.
    Frame { frame: Framed, to: u64, rest: Rest },
    /// Bytes that nothing claims, or a clipped frame.
    Run { to: u64, reason: Reason, candidates: u32, clipped: bool, rest: Rest },
}

/// A frame as it was cut.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Framed {
    /// Its number in the plan.
    pub(crate) frame: u16,
    /// First byte and end of what is read in it, from the frame's start.
    pub(crate) content: (u32, u32),
    pub(crate) check: CheckState,
    pub(crate) choice: Choice,
    pub(crate) ended: Ended,
    /// Whether [`Scan::columns`] are those of its content.
    pub(crate) split: bool,
}

/// What is known of a frame's checksum.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum CheckState {
    /// It holds.
    Holds,
    /// The frame came without one.
    Absent,
    /// The frame has none by its declaration.
    Undeclared,
    /// It was not looked at yet.
    Untested,
}

/// How a text ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Ended {
    /// As its cut says.
    Properly,
    /// By a frame of another cut.
    Interrupted,
    /// By the end of the input.
    Closed,
}

/// What a cut says of a candidate.
enum Verdict {
    /// So many bytes from its start are needed to say more.
    Need(usize),
    /// A byte is needed that stops a sentence, which `*` and two digits end or not.
    Open { starred: bool },
    /// It is a frame of that length.
    Frame { length: usize, content: (u32, u32), check: CheckState, choice: Choice },
    /// It is none.
    Fail(Reason),
}

/// A candidate, or a place where one might begin that the window's end hides.
enum Candidate {
    At { cut: usize, start: u64 },
    Hidden { start: u64 },
    None,
}

/// The next piece of the line at `at`, or nothing if more bytes are needed.
pub(crate) fn step(plan: &Inner, route: &Route, view: &View<'_>, at: u64, rest: Rest, scan: &mut Scan) -> Option<Step> {
    if rest.line_end != Expect::Nothing {
        match sentence::line_end(view, at, rest) {
            sentence::LineEnd::Filler(step) => return Some(step),
            sentence::LineEnd::NeedMore => return None,
            sentence::LineEnd::Other => {}
        }
    }
    if !view.closed && scan.waits(view) {
        return None;
    }
    let line = Line { plan, route, view, at, rest: Rest { line_end: Expect::Nothing, ..rest } };
    match frame_at(plan, route, view.from(at), scan) {
        Here::Frame(frame, length) => {
            let rest = rest_behind(plan, frame.frame);
            return Some(Step::Frame { frame, to: at + length as u64, rest });
        }
        Here::Need(length) if !view.closed => {
            scan.need = at + length as u64;
            return None;
        }
        Here::Open { starred } if !view.closed => {
            scan.wait_for_stop(at, view, starred);
            return None;
        }
        _ => {}
    }
    if let Some(found) = scan.found {
        return Some(line.before(scan, found));
    }
    line.search(scan)
}

/// What is at the position.
enum Here {
    Frame(Framed, usize),
    /// A frame may be there; so many bytes are needed to say more.
    Need(usize),
    /// A sentence may be there; a byte is needed that stops it.
    Open {
        starred: bool,
    },
    Other,
}

/// A frame at the very start of `bytes`: what comes next on a line without damage. Nothing is settled or remembered if there is none.
#[inline(always)]
fn frame_at(plan: &Inner, route: &Route, bytes: &[u8], scan: &mut Scan) -> Here {
    for &frame in &route.searching {
        let begins = match &plan.frames[usize::from(frame)].cut {
            Cut::Packet(packet) if bytes.len() < packet.start.len() => match packet.start.starts_with(bytes) {
                true => return Here::Need(packet.start.len()),
                false => false,
            },
            Cut::Packet(packet) => packet.begins(bytes),
            _ => matches!(bytes.first(), Some(b'$' | b'!')),
        };
        if !begins {
            continue;
        }
        return match verdict(plan, frame, bytes, scan) {
            Verdict::Frame { length, content, check, choice } => {
                scan.clear();
                let ended = Ended::Properly;
                Here::Frame(Framed { frame, content, check, choice, ended, split: true }, length)
            }
            Verdict::Need(length) => Here::Need(length),
            Verdict::Open { starred } => Here::Open { starred },
            Verdict::Fail(_) => Here::Other,
        };
    }
    Here::Other
}

#[inline(always)]
fn verdict(plan: &Inner, frame: u16, bytes: &[u8], scan: &mut Scan) -> Verdict {
    let planned = &plan.frames[usize::from(frame)];
    match &planned.cut {
        Cut::Packet(packet) => packet::verdict(plan, frame, packet, bytes, &mut scan.choices),
        Cut::Sentence { checksum } => sentence::verdict(frame, *checksum, planned.separator, bytes, &mut scan.columns),
        Cut::Text { .. } => Verdict::Fail(Reason::NoStart),
    }
}

/// The rest behind a frame that was searched for.
#[inline(always)]
fn rest_behind(plan: &Inner, frame: u16) -> Rest {
    let sentence = matches!(plan.frames[usize::from(frame)].cut, Cut::Sentence { .. });
    Rest { line_end: if sentence { Expect::CrOrLf } else { Expect::Nothing }, ..Rest::CLEAN }
}

/// A line at a position, and what it is cut by.
#[derive(Clone, Copy)]
struct Line<'a> {
    plan: &'a Inner,
    route: &'a Route,
    view: &'a View<'a>,
    at: u64,
    rest: Rest,
}

impl Line<'_> {
    /// Tries one candidate after the other. Before each, what lies in front of it is dealt with.
    fn search(&self, scan: &mut Scan) -> Option<Step> {
        loop {
            let candidate = self.next_candidate(scan);
            let settled = match candidate {
                Candidate::At { start, .. } | Candidate::Hidden { start } => start,
                Candidate::None => self.view.end(),
            };
            if let Some(step) = self.settle(settled, scan) {
                return Some(step);
            }
            match candidate {
                Candidate::At { cut, start } => {
                    if let Some(answer) = self.try_candidate(cut, start, scan) {
                        return answer;
                    }
                }
                Candidate::Hidden { .. } | Candidate::None if !self.view.closed => return None,
                Candidate::Hidden { start } => {
                    let frame = self.route.searching.first().copied().unwrap_or(0);
                    scan.run.cut_short(start, Reason::CutShort { frame });
                    scan.starts.fill(Start::NotBefore(self.view.end()));
                }
                Candidate::None => return self.leftover(scan),
            }
        }
    }

    /// Tries a candidate: `Some(answer)` ends the search.
    fn try_candidate(&self, cut: usize, start: u64, scan: &mut Scan) -> Option<Option<Step>> {
        let frame = self.route.searching[cut];
        let bytes = self.view.from(start);
        let verdict = verdict(self.plan, frame, bytes, scan);
        let reason = match verdict {
            Verdict::Frame { length, content, check, choice } => {
                let frame = Framed { frame, content, check, choice, ended: Ended::Properly, split: start == self.at };
                let found = Found { start, to: start + length as u64, frame };
                return Some(Some(self.before(scan, found)));
            }
            Verdict::Need(length) if !self.view.closed => {
                scan.need = start + length as u64;
                return Some(None);
            }
            Verdict::Open { starred } if !self.view.closed => {
                scan.wait_for_stop(start, self.view, starred);
                return Some(None);
            }
            Verdict::Need(_) | Verdict::Open { .. } => {
                let reason = Reason::CutShort { frame };
                scan.run.cut_short(start, reason);
                reason
            }
            Verdict::Fail(reason) => reason,
        };
        scan.starts[cut] = Start::NotBefore(start + 1);
        if matches!(reason, Reason::Checksum { .. } | Reason::ChecksumAbsent { .. }) && self.route.text.is_none() {
            // All of it was there: what the edge of the recording cut can only lie before it.
            let clipped = self.clip_before(start, scan);
            scan.run.whole = true;
            scan.run.fail(reason);
            return clipped.map(Some);
        }
        scan.run.fail(reason);
        None
    }

    /// The leftmost start at or behind the position, over all searching cuts; the first in the file where several begin at one
    /// place.
    fn next_candidate(&self, scan: &mut Scan) -> Candidate {
        let end = self.view.end();
        let (mut best, mut hidden) = (None, None);
        for (cut, frame) in self.route.searching.iter().enumerate() {
            let from = match scan.starts[cut] {
                Start::At(start) if start >= self.at => {
                    best = earlier(best, (start, cut));
                    continue;
                }
                Start::At(_) => self.at,
                Start::NotBefore(from) => from.max(self.at),
            };
            let found = match &self.plan.frames[usize::from(*frame)].cut {
                Cut::Packet(packet) => packet::find(packet, self.view, from),
                _ => sentence::find(self.view, from),
            };
            scan.starts[cut] = found;
            match found {
                Start::At(start) => best = earlier(best, (start, cut)),
                Start::NotBefore(from) if from < end => hidden = earlier(hidden, (from, cut)),
                Start::NotBefore(_) => {}
            }
        }
        match (best, hidden) {
            // A start that is only half visible may come first.
            (Some(best), Some(hidden)) if hidden < best && !self.view.closed => Candidate::Hidden { start: hidden.0 },
            (Some((start, cut)), _) => Candidate::At { cut, start },
            (None, Some((start, _))) => Candidate::Hidden { start },
            (None, None) => Candidate::None,
        }
    }

    /// Deals with what lies between the position and `to`, where no searching cut will find a frame any more: whole lines of
    /// text, or a part of a very long run.
    fn settle(&self, to: u64, scan: &mut Scan) -> Option<Step> {
        match self.route.text {
            Some(frame) => self.settle_text(frame, to, scan),
            None => self.settle_run(to, scan),
        }
    }

    /// The frame that was found, or first what lies before it.
    fn before(&self, scan: &mut Scan, found: Found) -> Step {
        if found.start > self.at {
            // What lies before it may be split, too.
            scan.found = Some(Found { frame: Framed { split: false, ..found.frame }, ..found });
            return match self.route.text {
                Some(frame) => self.text(frame, found.start, Ended::Interrupted, scan),
                None => self.run(found.start, scan),
            };
        }
        scan.clear();
        let rest = rest_behind(self.plan, found.frame.frame);
        Step::Frame { frame: found.frame, to: found.to, rest }
    }

    /// What is left when the input is closed and no candidate remains.
    fn leftover(&self, scan: &mut Scan) -> Option<Step> {
        let end = self.view.end();
        (self.at < end).then(|| match self.route.text {
            Some(frame) => self.text(frame, end, Ended::Closed, scan),
            None => self.last_run(scan),
        })
    }
}

fn earlier(best: Option<(u64, usize)>, other: (u64, usize)) -> Option<(u64, usize)> {
    Some(best.map_or(other, |best| best.min(other)))
}

/// The end of the stretch of `at`: very long runs are split at fixed offsets, wherever the input was split.
fn next_split(at: u64) -> u64 {
    (at / limits::RUN + 1) * limits::RUN
}
