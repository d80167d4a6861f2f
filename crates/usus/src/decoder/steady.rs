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
            if !self.known_packets(plan, route, sink)? {
                return Ok(());
            }
            let Some((framed, length, rest)) = self.next_frame(inner, route) else { return Ok(()) };
            let offset = self.at;
            let frame = &self.window[(offset - self.base) as usize..][..length];
            let (columns, choices) = (&mut self.scan.columns, &mut self.scan.choices);
            let decision = decide::decide(inner, &framed, frame, self.rest.edge, columns, choices, None);
            self.at += length as u64;
            self.rest = rest;
            let Decision::Record { kind, content, extent, notice: None } = decision else {
                let said = self.book_decision(inner, decision, offset, length as u64);
                self.queue.extend(said);
                return Ok(());
            };
            if !self.hand_over(plan, kind, offset, length, content, extent, sink)? {
                return Ok(());
            }
        }
    }

    /// Whether nothing is known about the bytes in the window but what they are.
    #[inline]
    fn is_undisturbed(&self) -> bool {
        self.queue.is_empty() && self.closings.is_empty() && self.faults.is_empty() && self.silences.is_empty()
    }

    /// Hands over packet after packet for as long as they have signatures. Says whether that is all.
    #[inline(always)]
    fn known_packets<S: Sink>(&mut self, plan: &Plan, route: &Route, sink: &mut S) -> Result<bool, S::Error> {
        if self.rest != Rest::CLEAN {
            return Ok(true);
        }
        let begun = self.at;
        while let Some(signature) = cut::packet_at(&plan.0, route, &self.window[(self.at - self.base) as usize..]) {
            if self.at == begun {
                self.scan.clear();
                self.scan.columns.clear();
            }
            let (offset, length) = (self.at, signature.length);
            self.at += length as u64;
            let extent = Extent { count: 0, tail: length };
            if !self.hand_over(plan, signature.kind, offset, length, (0, length as u32), extent, sink)? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Books a record and hands it to the sink. Says whether that was all: what is to be said before it is queued, and it behind that.
    #[inline(always)]
    #[allow(clippy::too_many_arguments)] // Together they would be stored and loaded once more.
    fn hand_over<S: Sink>(
        &mut self,
        plan: &Plan,
        kind: u16,
        offset: u64,
        length: usize,
        content: (u32, u32),
        extent: Extent,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let planned = &plan.0.kinds[usize::from(kind)];
        self.ledger.recorded += length as u64;
        self.ledger.records[usize::from(kind)] += 1;
        let frame_on = &self.window[(offset - self.base) as usize..];
        let (frame, wide) = (&frame_on[..length], &frame_on[content.0 as usize..]);
        let bytes = &wide[..(content.1 - content.0) as usize];
        let cells = Cells { bytes, wide, columns: &self.scan.columns, tail: extent.tail };
        if !planned.counters.is_empty() {
            let queue = &mut self.queue;
            self.fold.record(&plan.0, kind, &cells, &mut |kind| queue.push_back(Outcome::Notice { offset, kind }));
            if !self.queue.is_empty() {
                let (length, count, tail) = (length as u32, extent.count, extent.tail as u32);
                let record = Outcome::Record { kind, offset, length, content, count, tail };
                self.queue.extend(planned.wanted.then_some(record));
                return Ok(false);
            }
        }
        if planned.wanted {
            let (line, length, count, marks) = (self.id, length as u32, extent.count, &self.marks);
            sink.record(&Record { plan, kind, line, offset, length, frame, cells, count, marks })?;
        }
        Ok(true)
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
