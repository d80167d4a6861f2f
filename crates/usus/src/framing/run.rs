//! Runs of bytes that nothing claims, on lines without a text framing: what is a reject, and what the edge of the recording cut.

use super::Step;
use super::scan::{Run, Scan, Short};
use super::search::{Search, next_split};
use crate::reason::Reason;

impl Search<'_> {
    /// A part of a run that is long enough to be told, though its end is not known: up to the largest frame at the recording's
    /// edge, or up to the next split.
    pub(super) fn settle_run(&self, to: u64, scan: &mut Scan) -> Option<Step> {
        let clip_end = self.clip_end();
        if clip_end > self.place.at && clip_end <= to && !scan.run.whole && scan.run.short.is_none() {
            scan.run = Run::default();
            return Some(self.clipped(clip_end, Reason::BegunBefore, 0));
        }
        (next_split(self.place.at) <= to).then(|| self.unclaimed(to, scan))
    }

    /// Where a frame must have ended that began before the recording: it leaves fewer bytes than the largest frame has.
    fn clip_end(&self) -> u64 {
        let at = self.place.at;
        match self.place.behind.is_edge() {
            true => (at + self.route.largest as u64 - 1).min(next_split(at)),
            false => at,
        }
    }

    /// What the edge of the recording cut before a whole candidate at `start`.
    pub(super) fn clip_before(&self, start: u64, scan: &mut Scan) -> Option<Step> {
        let unspoilt = !scan.run.whole && scan.run.short.is_none();
        let clip = self.place.behind.is_edge() && unspoilt && start > self.place.at;
        clip.then(|| {
            scan.run = Run::default();
            self.clipped(start, Reason::BegunBefore, 0)
        })
    }

    /// A run that ends at `to`, or its part up to the next split.
    pub(super) fn unclaimed(&self, to: u64, scan: &mut Scan) -> Step {
        let to = to.min(next_split(self.place.at));
        if self.clip_end() > self.place.at && !scan.run.whole {
            // Before a candidate that the input's end cut, too.
            let end = scan.run.short.map_or(to, |short| to.min(short.start)).min(self.clip_end());
            if end > self.place.at {
                scan.run = Run { short: None, ..scan.run };
                if end == to {
                    scan.run = Run::default();
                }
                return self.clipped(end, Reason::BegunBefore, 0);
            }
        }
        let run = core::mem::take(&mut scan.run);
        Step::Run {
            to,
            reason: run.first.unwrap_or(Reason::NoStart),
            candidates: run.candidates,
            clipped: false,
            behind: self.behind_unclaimed(to),
        }
    }

    /// The run at the end of the input: a reject up to the first candidate that the end cut, which is clipped.
    pub(super) fn last_run(&self, scan: &mut Scan) -> Step {
        let end = self.place.view.end();
        let Some(short) = scan.run.short else { return self.unclaimed(end, scan) };
        if short.start > self.place.at {
            let cut = scan.run;
            scan.run = Run { candidates: short.before, first: short.first, whole: cut.whole, short: None };
            let step = self.unclaimed(short.start, scan);
            let behind = Short { before: 0, first: None, ..short };
            scan.run = Run {
                candidates: cut.candidates - short.before,
                first: Some(short.reason),
                whole: true,
                short: Some(behind),
            };
            return step;
        }
        let run = core::mem::take(&mut scan.run);
        self.clipped(end, short.reason, run.candidates)
    }

    fn clipped(&self, to: u64, reason: Reason, candidates: u32) -> Step {
        Step::Run { to, reason, candidates, clipped: true, behind: self.behind_unclaimed(to) }
    }
}
