//! The steady line: frame upon frame, and nothing between them but their line ends. That is what a line is nearly all of the time, and
//! what has to be fast. It says and books what [`Line::advance`] would; whatever is out of the ordinary is left to that.

use super::Outcome;
use super::line::Line;
use crate::cut::{self, Expect, Known, Rest};
use crate::plan::{Inner, Plan, Route};
use crate::read::Cells;
use crate::record::Record;
use crate::sink::Sink;

impl Line {
    /// Hands the records of frame after frame to a sink, for as long as nothing else is to be said. Says whether nothing is to be said at
    /// all until more comes.
    #[inline]
    pub(super) fn steady<S: Sink>(&mut self, plan: &Plan, sink: &mut S) -> Result<bool, S::Error> {
        let inner = &*plan.0;
        let route = &inner.routes[self.route];
        if !self.is_undisturbed(inner, route) {
            return Ok(false);
        }
        let begun = self.at;
        while let Some(known) = cut::known(inner, route, &self.window[(self.at - self.base) as usize..], &mut self.scan)
        {
            if self.at == begun {
                self.scan.clear();
            }
            if !self.hand_over(plan, &known, sink)? {
                return Ok(false);
            }
        }
        let bytes = &self.window[(self.at - self.base) as usize..];
        let need = cut::packet_needs(inner, route, bytes, &mut self.scan);
        if let Some(length) = need {
            self.wait_for(length);
        }
        Ok(need.is_some() || self.at == self.end())
    }

    /// Whether nothing is known about the bytes from the position on but what they are. Passes the line end of the frame before.
    #[inline]
    fn is_undisturbed(&mut self, plan: &Inner, route: &Route) -> bool {
        let nothing_known =
            self.queue.is_empty() && self.closings.is_empty() && self.faults.is_empty() && self.silences.is_empty();
        if !nothing_known || self.scan.is_stuck(self.at, self.end()) {
            return false;
        }
        let behind_sentence = self.rest == (Rest { line_end: Expect::CrOrLf, ..Rest::CLEAN });
        if behind_sentence || self.rest == Rest::CLEAN {
            let bytes = &self.window[(self.at - self.base) as usize..];
            let length = if behind_sentence { cut::crlf(bytes) } else { cut::line_ends(plan, route, bytes) };
            self.ledger.filler += length as u64;
            self.at += length as u64;
            if length > 0 {
                self.rest = Rest::CLEAN;
            }
        }
        self.rest == Rest::CLEAN
    }

    /// Books a record and hands it to the sink. Says whether that was all: what is to be said before it is queued, and it behind that.
    #[inline(always)]
    fn hand_over<S: Sink>(&mut self, plan: &Plan, known: &Known, sink: &mut S) -> Result<bool, S::Error> {
        let Known { kind, length, content, columns, extent, filler } = *known;
        let planned = &plan.0.kinds[usize::from(kind)];
        let offset = self.at;
        self.at += (length + filler) as u64;
        self.ledger.filler += filler as u64;
        self.ledger.recorded += length as u64;
        self.ledger.records[usize::from(kind)] += 1;
        let frame_on = &self.window[(offset - self.base) as usize..];
        let (frame, wide) = (&frame_on[..length], &frame_on[content.0 as usize..]);
        let bytes = &wide[..(content.1 - content.0) as usize];
        // Put together where it stays: copies of what was stored just now would wait for it.
        let record = Record {
            plan,
            kind,
            line: self.id,
            offset,
            length: length as u32,
            frame,
            cells: Cells { bytes, wide, columns: &self.scan.columns[..columns], tail: extent.tail },
            count: extent.count,
            marks: &self.marks,
        };
        if !planned.counters.is_empty() {
            let queue = &mut self.queue;
            self.fold.record(&plan.0, kind, &record.cells, &mut |kind| {
                queue.push_back(Outcome::Notice { offset, kind });
            });
            if !self.queue.is_empty() {
                let (length, count, tail) = (length as u32, extent.count, extent.tail as u32);
                self.scan.columns.truncate(columns);
                let record = Outcome::Record { kind, offset, length, content, count, tail };
                self.queue.extend(planned.wanted.then_some(record));
                return Ok(false);
            }
        }
        if planned.wanted {
            sink.record(&record)?;
        }
        Ok(true)
    }
}
