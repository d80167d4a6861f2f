//! Bursts: what a device sends between two silences (`idle`), or between two breaks (`break`). They take what the searching framings leave, as lines do.

use super::scan::{Run, Scan};
use super::search::{Search, next_split};
use super::{Behind, CheckState, Contents, Ended, Framed, Step};
use crate::plan::{Burst, Choice, Framing};
use crate::reason::Reason;

impl Search<'_> {
    fn burst_framing(&self, frame: u16) -> Option<Burst> {
        match self.plan.frames[usize::from(frame)].framing {
            Framing::Burst(burst) => Some(burst),
            _ => None,
        }
    }

    /// The burst that ends before `to`, or a part of one that is too long.
    pub(super) fn settle_burst(&self, frame: u16, to: u64, scan: &mut Scan) -> Option<Step> {
        let Burst { limit, .. } = self.burst_framing(frame)?;
        let at = self.place.at;
        if let Some(end) = self.place.view.silence.filter(|end| *end <= to && *end > at) {
            return Some(self.burst(frame, end, Ended::Properly, scan));
        }
        let too_long = self.place.behind == Behind::Overlong || to - at > limit as u64;
        let split = next_split(at);
        (too_long && split <= to).then(|| self.too_long(frame, limit, split, true, scan))
    }

    /// The burst from the position to `to`.
    pub(super) fn burst(&self, frame: u16, to: u64, ended: Ended, scan: &mut Scan) -> Step {
        let at = self.place.at;
        let Some(Burst { limit, .. }) = self.burst_framing(frame) else {
            return Step::Filler { to, behind: Behind::Frame };
        };
        if self.place.behind == Behind::Overlong || to - at > limit as u64 {
            let piece = to.min(next_split(at));
            return self.too_long(frame, limit, piece, piece < to, scan);
        }
        scan.tried = core::mem::take(&mut scan.run).first;
        let (contents, check) = (Contents::Lie(0, (to - at) as u32), CheckState::Untested);
        let framed = Framed { frame, contents, check, choice: Choice::Undecided, ended };
        let behind = if ended == Ended::Interrupted { self.behind_unclaimed(to) } else { Behind::Frame };
        Step::Frame { frame: framed, to, behind }
    }

    /// A part of a burst that is too long.
    fn too_long(&self, frame: u16, limit: usize, to: u64, goes_on: bool, scan: &mut Scan) -> Step {
        scan.run = Run::default();
        let reason = Reason::LineTooLong { frame, limit: limit as u32 };
        let behind = if goes_on { Behind::Overlong } else { Behind::Frame };
        Step::Run { to, reason, candidates: 1, clipped: false, behind }
    }
}
