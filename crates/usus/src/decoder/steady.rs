//! The steady line: frame upon frame, and nothing between them but their line ends. That is what a line is nearly all of the time, and
//! what has to be fast. It says and books what [`Line::advance`] would; whatever is out of the ordinary is left to that.

use super::line::Line;
use crate::cut::{self, Framed, LineEdge, Rest};
use crate::plan::{Inner, Plan, Route};
use crate::sink::Sink;

impl Line {
    /// Hands the records of frame after frame to a sink, for as long as nothing else is to be said.
    #[inline]
    pub(super) fn steady<S: Sink>(&mut self, plan: &Plan, sink: &mut S) -> Result<(), S::Error> {
        let inner = &*plan.0;
        let route = &inner.routes[self.route];
        if !self.is_undisturbed() {
            return Ok(());
        }
        while let Some((framed, length, rest)) = self.next_frame(inner, route) {
            let said = self.book_frame(inner, &framed, self.at, length as u64);
            self.at += length as u64;
            self.rest = rest;
            if !self.queue.is_empty() {
                self.queue.extend(said);
                break;
            }
            if let Some(outcome) = said {
                sink.event(super::event(plan, self, outcome))?;
            }
        }
        Ok(())
    }

    /// Whether nothing is known about the bytes in the window but what they are.
    #[inline]
    fn is_undisturbed(&self) -> bool {
        self.queue.is_empty() && self.closings.is_empty() && self.faults.is_empty() && self.silences.is_empty()
    }

    /// The frame at the position, once its forerunner's line end is passed.
    #[inline(always)]
    fn next_frame(&mut self, plan: &Inner, route: &Route) -> Option<(Framed, usize, Rest)> {
        let start = (self.at - self.base) as usize;
        let mut bytes = &self.window[start..];
        if self.rest != Rest::CLEAN {
            if self.rest.edge != LineEdge::None || self.rest.overlong {
                return None;
            }
            // A line end that is cut in two by the window's end takes the long way.
            bytes = bytes.strip_prefix(b"\r\n")?;
            self.ledger.filler += 2;
            self.at += 2;
            self.rest = Rest::CLEAN;
        }
        cut::frame_at(plan, route, bytes, &mut self.scan)
    }
}
