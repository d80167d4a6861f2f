//! The steady line: frame upon frame, and nothing between them but their line ends. That is what a line is nearly all of the time, and
//! what has to be fast. It says and books what [`Line::advance`] would; whatever is out of the ordinary is left to that.

use super::Outcome;
use super::line::{Line, Seen};
use crate::cut::{self, Expect, Known, Rest};
use crate::plan::{Check, Inner, Plan, Route, Signature, Signatures};
use crate::read::Cells;
use crate::record::Record;
use crate::sink::Sink;

impl Line {
    /// Hands the records of frame after frame to a sink, for as long as nothing else is to be said. Says whether nothing is to be said at
    /// all until more comes.
    #[inline]
    pub(super) fn steady<S: Sink>(&mut self, plan: &Plan, seen: Seen<'_>, sink: &mut S) -> Result<bool, S::Error> {
        let inner = &*plan.0;
        let route = &inner.routes[self.route];
        if !self.is_undisturbed(inner, route, seen) {
            return Ok(false);
        }
        let first = route.searching.first().map(|number| &inner.frames[usize::from(*number)]);
        let signed = first.and_then(|frame| Some((frame.signatures.as_ref()?, frame.check.as_ref())));
        if let Some((signatures, check)) = signed {
            if !self.packets(plan, signatures, check, seen, sink)? {
                return Ok(false);
            }
            if let Some(length) = cut::signed_needs(signatures, seen.from(self.at)) {
                self.wait_for(length);
                return Ok(true);
            }
        }
        if self.at == seen.end() {
            return Ok(true);
        }
        self.frames(plan, route, signed, seen, sink)
    }

    /// Hands over what follows, whatever frames it is.
    #[inline(never)]
    fn frames<S: Sink>(
        &mut self,
        plan: &Plan,
        route: &Route,
        signed: Option<(&Signatures, Option<&Check>)>,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let inner = &*plan.0;
        let begun = self.at;
        while let Some(known) = cut::known(inner, route, seen.from(self.at), &mut self.scan) {
            if self.at == begun {
                self.scan.clear();
            }
            self.rest.line_end = known.expect;
            if !self.hand_over(plan, &known, seen, sink)? {
                return Ok(false);
            }
            if known.expect != Expect::Nothing {
                return Ok(true);
            }
            // Packets that are looked for first follow one another in a loop that knows nothing else.
            if let Some((signatures, check)) = signed
                && !self.packets(plan, signatures, check, seen, sink)?
            {
                return Ok(false);
            }
        }
        let need = cut::packet_needs(inner, route, seen.from(self.at), &mut self.scan);
        if let Some(length) = need {
            self.wait_for(length);
        }
        Ok(need.is_some() || self.at == seen.end())
    }

    /// Hands over packet after packet that its first bytes tell, with what does not change from one to the next kept apart from what does.
    /// Says whether there was nothing else to say.
    fn packets<S: Sink>(
        &mut self,
        plan: &Plan,
        signatures: &Signatures,
        check: Option<&Check>,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        // Most have a small CRC right behind what it covers: those get a loop with nothing else in it.
        if let Some(crc) = check.and_then(|check| check.checksum.small())
            && let Some(residue) = signatures.residue
        {
            let sound = |signature: &Signature, wide: &[u8]| {
                let covered = wide.get(signature.covered.0..signature.covered.1);
                covered.is_some_and(|covered| crc.register(covered) == residue)
            };
            return self.sound_packets(plan, signatures, sound, seen, sink);
        }
        let sound = |signature: &Signature, wide: &[u8]| cut::is_sound(signatures, check, signature, wide);
        self.sound_packets(plan, signatures, sound, seen, sink)
    }

    #[inline(never)]
    fn sound_packets<S: Sink>(
        &mut self,
        plan: &Plan,
        signatures: &Signatures,
        sound: impl Fn(&Signature, &[u8]) -> bool,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let kinds = &*plan.0.kinds;
        let window = seen.bytes;
        let counts = &mut *self.ledger.records;
        let begun = (self.at - seen.base) as usize;
        let mut record = Record {
            plan,
            kind: 0,
            line: self.id,
            offset: self.at,
            length: 0,
            frame: &[],
            cells: Cells { bytes: &[], wide: &[], columns: &[], tail: 0 },
            count: 0,
            marks: &self.marks,
        };
        let mut at = begun;
        let mut result = Ok(true);
        while let Some(wide) = window.get(at..)
            && let Some((signature, frame)) = cut::signed(signatures, wide, &sound)
            && let Some(kind) = kinds.get(usize::from(signature.kind))
            && let Some(count) = counts.get_mut(usize::from(signature.kind))
        {
            (record.kind, record.offset, record.length) = (signature.kind, seen.base + at as u64, frame.len() as u32);
            (record.frame, record.cells.bytes, record.cells.wide) = (frame, frame, wide);
            record.cells.tail = frame.len();
            *count += 1;
            at += frame.len();
            if !kind.counters.is_empty() {
                let (queue, offset) = (&mut self.queue, record.offset);
                self.fold.record(&plan.0, record.kind, &record.cells, &mut |kind| {
                    queue.push_back(Outcome::Notice { offset, kind });
                });
                if !self.queue.is_empty() {
                    // A packet has no columns, whatever came before it.
                    self.scan.columns.clear();
                    let (kind_number, length) = (record.kind, record.length);
                    let (content, tail) = ((0, length), length);
                    let record = Outcome::Record { kind: kind_number, offset, length, content, count: 0, tail };
                    self.queue.extend(kind.wanted.then_some(record));
                    result = Ok(false);
                    break;
                }
            }
            if kind.wanted
                && let Err(error) = sink.record(&record)
            {
                result = Err(error);
                break;
            }
        }
        if at > begun {
            self.scan.clear();
        }
        self.ledger.recorded += (at - begun) as u64;
        self.at = seen.base + at as u64;
        result
    }

    /// Whether nothing is known about the bytes from the position on but what they are. Passes the line end of the frame before.
    #[inline]
    fn is_undisturbed(&mut self, plan: &Inner, route: &Route, seen: Seen<'_>) -> bool {
        let nothing_known =
            self.queue.is_empty() && self.closings.is_empty() && self.faults.is_empty() && self.silences.is_empty();
        if !nothing_known || self.scan.is_stuck(self.at, seen.end()) {
            return false;
        }
        let behind_sentence = self.rest == (Rest { line_end: Expect::CrOrLf, ..Rest::CLEAN });
        if behind_sentence || self.rest == Rest::CLEAN {
            let bytes = seen.from(self.at);
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
    fn hand_over<S: Sink>(
        &mut self,
        plan: &Plan,
        known: &Known,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let Known { kind, length, content, columns, extent, filler, .. } = *known;
        let planned = &plan.0.kinds[usize::from(kind)];
        let offset = self.at;
        self.at += (length + filler) as u64;
        self.ledger.filler += filler as u64;
        self.ledger.recorded += length as u64;
        self.ledger.records[usize::from(kind)] += 1;
        let frame_on = seen.from(offset);
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
