//! The next piece of a line: one candidate after the other is tried, and what lies in front of it dealt with before.

use super::scan::{Scan, Start};
use super::{Behind, Candidate, Ended, Filler, Framed, Place, Step, Verdict, View};
use crate::limits;
use crate::plan::{Framing, Inner, Route};
use crate::reason::Reason;

/// The next piece of the line at `at`; if more bytes are needed to say, the offset that they have to reach.
pub(crate) fn next(
    plan: &Inner,
    route: &Route,
    view: &View<'_>,
    at: u64,
    behind: Behind,
    scan: &mut Scan,
) -> Result<Step, u64> {
    let place = Place { view, at, behind };
    for number in &route.searching {
        match plan.frames[usize::from(*number)].framing.filler(&place) {
            Filler::To(to, behind) => return Ok(Step::Filler { to, behind }),
            Filler::Need(need) => return Err(need),
            Filler::None => {}
        }
    }
    Search { plan, route, place }.run(scan)
}

/// A place in a line, and what frames are searched for there.
#[derive(Clone, Copy)]
pub(super) struct Search<'a> {
    pub(super) plan: &'a Inner,
    pub(super) route: &'a Route,
    pub(super) place: Place<'a>,
}

/// Which of the searching framings has a candidate, and where it starts.
type Seen = (u64, usize);

/// Where the next candidate is.
enum NextStart {
    At(Seen),
    /// The window's end hides whether one begins there.
    Hidden(Seen),
    None,
}

impl<'a> Search<'a> {
    fn run(&self, scan: &mut Scan) -> Result<Step, u64> {
        let view = self.place.view;
        loop {
            let next = self.next_start(scan);
            let settled = match next {
                NextStart::At((start, _)) | NextStart::Hidden((start, _)) => start,
                NextStart::None => view.end(),
            };
            if let Some(step) = self.settle(settled, scan) {
                return Ok(step);
            }
            match next {
                NextStart::At((start, searching)) => {
                    if let Some(answer) = self.try_candidate(searching, start, scan) {
                        return answer;
                    }
                }
                NextStart::Hidden(_) | NextStart::None if !view.closed => return Err(view.end() + 1),
                NextStart::Hidden((start, searching)) => {
                    scan.run.cut_short(start, Reason::CutShort { frame: self.route.searching[searching] });
                    for sought in &mut scan.sought {
                        (sought.start, sought.from) = (None, view.end());
                    }
                }
                NextStart::None => return self.leftover(scan).ok_or(view.end() + 1),
            }
        }
    }

    /// Tries a candidate: an answer ends the search.
    fn try_candidate(&self, searching: usize, start: u64, scan: &mut Scan) -> Option<Result<Step, u64>> {
        let Place { view, at, behind } = self.place;
        let number = self.route.searching[searching];
        let framing = &self.plan.frames[usize::from(number)].framing;
        let candidate = Candidate {
            plan: self.plan,
            frame: number,
            bytes: view.from(start),
            view,
            start,
            behind: (start == at).then_some(behind),
            begins_line: self.begins_line(start),
        };
        let (mut tools, sought) = scan.tools(searching);
        let verdict = framing.judge(&candidate, sought, &mut tools);
        let reason = match verdict {
            Verdict::Frame { .. } if start > at => return Some(Ok(self.before(start, scan))),
            Verdict::Frame { length, contents, check, choice } => {
                scan.clear();
                let frame = Framed { frame: number, contents, check, choice, ended: Ended::Properly };
                return Some(Ok(Step::Frame { frame, to: at + length as u64, behind: framing.behind() }));
            }
            Verdict::Need(length) if !view.closed => return Some(Err(start + length as u64)),
            Verdict::Need(_) => {
                let reason = Reason::CutShort { frame: number };
                scan.run.cut_short(start, reason);
                reason
            }
            Verdict::Fail(reason) => reason,
            Verdict::Nothing => {
                sought.fail(start);
                return None;
            }
        };
        scan.sought[searching].fail(start);
        if matches!(reason, Reason::Checksum { .. } | Reason::ChecksumAbsent { .. }) && self.route.text.is_none() {
            // All of it was there: what the edge of the recording cut can only lie before it.
            let clipped = self.clip_before(start, scan);
            scan.run.whole = true;
            scan.run.fail(reason);
            return clipped.map(Ok);
        }
        scan.run.fail(reason);
        None
    }

    /// Whether a line of text may begin at an offset.
    fn begins_line(&self, start: u64) -> bool {
        let Place { view, at, behind } = self.place;
        let ends_line = |byte: u8| matches!(byte, b'\r' | b'\n');
        match behind {
            _ if start > at => view.between(start - 1, start).first().copied().is_some_and(ends_line),
            Behind::Unclaimed(byte) => ends_line(byte),
            Behind::Boundary
            | Behind::Start
            | Behind::Loss
            | Behind::Frame
            | Behind::Sentence
            | Behind::SentenceCr
            | Behind::Delimiter(_) => true,
            Behind::Overlong => false,
        }
    }

    /// The leftmost start at or behind the position, over all searching framings; the first in the file where several begin at one
    /// place.
    fn next_start(&self, scan: &mut Scan) -> NextStart {
        let Place { view, at, .. } = self.place;
        let (mut best, mut hidden) = (None, None);
        for (searching, (frame, sought)) in self.route.searching.iter().zip(&mut scan.sought).enumerate() {
            if sought.failed.is_some_and(|failed| failed < at) {
                // What was known may rest on it.
                (sought.start, sought.failed) = (None, None);
                sought.from = at;
            }
            if let Some(start) = sought.start.filter(|start| *start >= at) {
                best = earlier(best, (start, searching));
                continue;
            }
            let framing = &self.plan.frames[usize::from(*frame)].framing;
            match framing.find(&self.place, sought.from.max(at), sought.failed.is_some()) {
                Start::At(start) => {
                    sought.start = Some(start);
                    best = earlier(best, (start, searching));
                }
                Start::NotBefore(from) => {
                    (sought.start, sought.from) = (None, from);
                    if from < view.end() {
                        hidden = earlier(hidden, (from, searching));
                    }
                }
            }
        }
        match (best, hidden) {
            // A start that is only half visible may come first.
            (Some(best), Some(hidden)) if hidden < best && !view.closed => NextStart::Hidden(hidden),
            (Some(best), _) => NextStart::At(best),
            (None, Some(hidden)) => NextStart::Hidden(hidden),
            (None, None) => NextStart::None,
        }
    }

    /// Deals with what lies between the position and `to`, where no searching framing will find a frame any more: whole lines of
    /// text, or a part of a very long run.
    fn settle(&self, to: u64, scan: &mut Scan) -> Option<Step> {
        match self.route.text {
            Some(frame) if self.is_burst(frame) => self.settle_burst(frame, to, scan),
            Some(frame) => self.settle_text(frame, to, scan),
            None => self.settle_run(to, scan),
        }
    }

    /// What lies before a frame.
    fn before(&self, start: u64, scan: &mut Scan) -> Step {
        match self.route.text {
            Some(frame) if self.is_burst(frame) => self.burst(frame, start, Ended::Interrupted, scan),
            Some(frame) => self.text(frame, start, Ended::Interrupted, scan),
            None => self.unclaimed(start, scan),
        }
    }

    /// What is left when the input is closed and no candidate remains.
    fn leftover(&self, scan: &mut Scan) -> Option<Step> {
        let end = self.place.view.end();
        (self.place.at < end).then(|| match self.route.text {
            Some(frame) if self.is_burst(frame) => self.burst(frame, end, Ended::Closed, scan),
            Some(frame) => self.text(frame, end, Ended::Closed, scan),
            None => self.last_run(scan),
        })
    }

    fn is_burst(&self, frame: u16) -> bool {
        matches!(self.plan.frames[usize::from(frame)].framing, Framing::Burst(_))
    }

    /// What lies behind unclaimed bytes that end at an offset.
    pub(super) fn behind_unclaimed(&self, to: u64) -> Behind {
        self.place.view.between(to - 1, to).first().map_or(self.place.behind, |last| Behind::Unclaimed(*last))
    }
}

fn earlier(best: Option<Seen>, other: Seen) -> Option<Seen> {
    Some(best.map_or(other, |best| best.min(other)))
}

/// The end of the stretch of `at`: very long runs are split at fixed offsets, wherever the input was split.
pub(super) fn next_split(at: u64) -> u64 {
    (at / limits::RUN + 1) * limits::RUN
}
