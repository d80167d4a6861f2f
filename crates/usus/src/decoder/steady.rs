//! The steady line: frame upon frame, and nothing between them but their line ends. That is what a line is nearly all of the time, and
//! what has to be fast. It says and books what [`Line::advance`] would; whatever is out of the ordinary is left to that.

use super::Outcome;
use super::decide::{self, Decision};
use super::line::Line;
use crate::claim::Extent;
use crate::cut::{self, Framed, LineEdge, Rest};
use crate::plan::{Inner, Plan, Route};
use crate::read::Cells;
use crate::record::Record;
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
        loop {
            while let Some((kind, length)) = self.next_packet(inner, route) {
                let shape = &inner.kinds[usize::from(kind)].shape;
                let extent = Extent { count: 0, tail: length - (shape.tail + shape.back) };
                let content = (0, length as u32);
                self.scan.columns.clear();
                if !self.hand_over(plan, kind, length, content, extent, Rest::CLEAN, sink)? {
                    return Ok(());
                }
            }
            let Some((framed, length, rest)) = self.next_frame(inner, route) else { return Ok(()) };
            let offset = self.at;
            let frame = &self.window[(offset - self.base) as usize..][..length];
            let (columns, choices) = (&mut self.scan.columns, &mut self.scan.choices);
            let decision = decide::decide(inner, &framed, frame, self.rest.edge, columns, choices, None);
            let Decision::Record { kind, content, extent, notice: None } = decision else {
                let said = self.book_decision(inner, decision, offset, length as u64);
                self.queue.extend(said);
                self.at += length as u64;
                self.rest = rest;
                return Ok(());
            };
            if !self.hand_over(plan, kind, length, content, extent, rest, sink)? {
                return Ok(());
            }
        }
    }

    /// Books the record of the frame at the position, and hands it to the sink. Says whether that was all: what is to be said before it
    /// is queued, and it behind that.
    #[inline(always)]
    #[allow(clippy::too_many_arguments)] // Together they would be stored and loaded once more.
    fn hand_over<S: Sink>(
        &mut self,
        plan: &Plan,
        kind: u16,
        length: usize,
        content: (u32, u32),
        extent: Extent,
        rest: Rest,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let (inner, offset) = (&*plan.0, self.at);
        let planned = &inner.kinds[usize::from(kind)];
        self.at += length as u64;
        self.rest = rest;
        self.ledger.recorded += length as u64;
        self.ledger.records[usize::from(kind)] += 1;
        let frame_on = &self.window[(offset - self.base) as usize..];
        let (frame, wide) = (&frame_on[..length], &frame_on[content.0 as usize..]);
        let bytes = &wide[..(content.1 - content.0) as usize];
        let cells = Cells { bytes, wide, columns: &self.scan.columns, tail: extent.tail };
        if !planned.counters.is_empty() {
            let queue = &mut self.queue;
            self.fold.record(inner, kind, &cells, &mut |kind| queue.push_back(Outcome::Notice { offset, kind }));
            if !self.queue.is_empty() {
                let (length, count, tail) = (length as u32, extent.count, extent.tail as u32);
                let record = Outcome::Record { kind, offset, length, content, count, tail };
                self.queue.extend(planned.wanted.then_some(record));
                return Ok(false);
            }
        }
        if planned.wanted {
            let times = self.times(offset, length as u64);
            let (line, length, count) = (self.id(), length as u32, extent.count);
            sink.record(&Record { plan, kind, line, offset, length, frame, cells, count, times })?;
        }
        Ok(true)
    }

    /// Whether nothing is known about the bytes in the window but what they are.
    #[inline]
    fn is_undisturbed(&self) -> bool {
        self.queue.is_empty() && self.closings.is_empty() && self.faults.is_empty() && self.silences.is_empty()
    }

    /// The packet at the position, if it is a sound one and its kind is simple.
    #[inline(always)]
    fn next_packet(&mut self, plan: &Inner, route: &Route) -> Option<(u16, usize)> {
        if self.rest != Rest::CLEAN {
            return None;
        }
        let found = cut::packet_at(plan, route, &self.window[(self.at - self.base) as usize..])?;
        self.scan.clear();
        Some(found)
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
