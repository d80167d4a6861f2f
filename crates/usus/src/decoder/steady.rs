//! The steady line: frame upon frame, and nothing between them but their line ends. That is what a line is nearly all of the time, and
//! what has to be fast. It says and books what [`Line::advance`] would; whatever is out of the ordinary is left to that.

use super::Outcome;
use super::line::{Line, Seen};
use crate::claim::{self, Choice};
use crate::cut::{self, Columns, Expect, Known, Rest, Scan};
use crate::plan::{Check, Cut, Frame, Inner, Plan, Route, Signature, Signatures};
use crate::read::Cells;
use crate::record::Record;
use crate::sink::Sink;

/// Not before any place: for as long as frames follow one another.
const ALL: u64 = u64::MAX;

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
            if !self.packets(plan, signatures, check, seen, ALL, sink)? {
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
        loop {
            let begun = self.at;
            if !self.frames_of_a_cut(plan, route, signed.is_some(), seen, sink)? {
                return Ok(false);
            }
            if self.rest.line_end != Expect::Nothing {
                return Ok(true);
            }
            if self.at == begun {
                break;
            }
            if let Some((signatures, check)) = signed
                && !self.packets(plan, signatures, check, seen, ALL, sink)?
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

    /// Hands over frames of the one cut that takes what follows, if any does. Says whether there was nothing else to say.
    #[inline(always)]
    fn frames_of_a_cut<S: Sink>(
        &mut self,
        plan: &Plan,
        route: &Route,
        first_was_tried: bool,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let bytes = seen.from(self.at);
        for (place, &number) in route.searching.iter().enumerate() {
            let frame = &plan.0.frames[usize::from(number)];
            // Where a frame ends, those of the cuts before it in the file have the first word again.
            let until = if place == 0 { ALL } else { self.at - seen.base + 1 };
            match &frame.cut {
                Cut::Packet(packet) => {
                    let begun = self.at;
                    if let Some(signatures) = frame.signatures.as_ref().filter(|_| place > 0 || !first_was_tried)
                        && !self.packets(plan, signatures, frame.check.as_ref(), seen, until, sink)?
                    {
                        return Ok(false);
                    }
                    if self.at > begun || packet.begins(bytes) {
                        return Ok(true);
                    }
                }
                Cut::Sentence { checksum } => {
                    if matches!(bytes.first(), Some(b'$' | b'!')) {
                        let known = |bytes: &[u8], columns: &mut _| {
                            cut::known_sentence(*checksum, frame.separator, bytes, columns)
                        };
                        return self.texts(plan, number, frame, known, seen, until, sink);
                    }
                }
                Cut::Text { .. } => {}
            }
        }
        let text = route.text.filter(|_| route.searching.is_empty());
        let Some(number) = text else { return Ok(true) };
        let frame = &plan.0.frames[usize::from(number)];
        let Cut::Text { end, limit, .. } = frame.cut else { return Ok(true) };
        let known = |bytes: &[u8], columns: &mut _| cut::known_line(end, limit, frame.separator, bytes, columns);
        self.texts(plan, number, frame, known, seen, ALL, sink)
    }

    /// Hands over text after text that begins before a place of what is seen. Says whether there was nothing else to say.
    #[inline(never)]
    #[allow(clippy::too_many_arguments)] // What does not change from one text to the next.
    fn texts<S: Sink>(
        &mut self,
        plan: &Plan,
        number: u16,
        frame: &Frame,
        known: impl Fn(&[u8], &mut Columns) -> Option<Known>,
        seen: Seen<'_>,
        until: u64,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        if !frame.is_direct {
            return Ok(true);
        }
        let inner = &*plan.0;
        let (kinds, window) = (&*inner.kinds, seen.bytes);
        let Scan { columns, choices, .. } = &mut self.scan;
        let counts = &mut *self.ledger.records;
        let begun = (self.at - seen.base) as usize;
        let (mut at, mut recorded) = (begun, 0);
        let mut line_end = Expect::Nothing;
        let mut result = Ok(true);
        while at < until as usize
            && line_end == Expect::Nothing
            && let Some(bytes) = window.get(at..)
            && let Some(known) = known(bytes, columns)
            && let Some(wide) = bytes.get(known.first..)
            && let Some(text) = wide.get(..known.text)
            && let Some(frame_bytes) = bytes.get(..known.length)
        {
            let cells = Cells { bytes: text, wide, columns: if frame.has_columns { columns } else { &[] }, tail: 0 };
            let Choice::Kind(kind_number) = choices.choose(inner, number, frame, &cells) else { break };
            let Some(kind) = kinds.get(usize::from(kind_number)).filter(|kind| kind.gates.is_empty()) else { break };
            let Ok(extent) = claim::fit(kind_number, kind, &cells) else { break };
            let Some(count) = counts.get_mut(usize::from(kind_number)) else { break };
            *count += 1;
            recorded += known.length;
            // Put together where it stays: copies of what was stored just now would wait for it.
            let record = Record {
                plan,
                kind: kind_number,
                line: self.id,
                offset: seen.base + at as u64,
                length: known.length as u32,
                frame: frame_bytes,
                cells: Cells { tail: extent.tail, ..cells },
                count: extent.count,
                marks: &self.marks,
            };
            at += known.length + known.filler;
            line_end = known.expect;
            if !kind.counters.is_empty() {
                let (queue, offset) = (&mut self.queue, record.offset);
                self.fold.record(inner, kind_number, &record.cells, &mut |kind| {
                    queue.push_back(Outcome::Notice { offset, kind });
                });
                if !self.queue.is_empty() {
                    let (length, count, tail) = (record.length, extent.count, extent.tail as u32);
                    let content = (known.first as u32, (known.first + known.text) as u32);
                    let record = Outcome::Record { kind: kind_number, offset, length, content, count, tail };
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
        if !frame.has_columns {
            columns.clear();
        }
        if at > begun {
            self.scan.clear();
        }
        self.rest.line_end = line_end;
        self.ledger.recorded += recorded as u64;
        self.ledger.filler += (at - begun - recorded) as u64;
        self.at = seen.base + at as u64;
        result
    }

    /// Hands over packet after packet that its first bytes tell, with what does not change from one to the next kept apart from what does.
    /// Says whether there was nothing else to say.
    fn packets<S: Sink>(
        &mut self,
        plan: &Plan,
        signatures: &Signatures,
        check: Option<&Check>,
        seen: Seen<'_>,
        until: u64,
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
            return self.sound_packets(plan, signatures, sound, seen, until, sink);
        }
        let sound = |signature: &Signature, wide: &[u8]| cut::is_sound(signatures, check, signature, wide);
        self.sound_packets(plan, signatures, sound, seen, until, sink)
    }

    #[inline(never)]
    fn sound_packets<S: Sink>(
        &mut self,
        plan: &Plan,
        signatures: &Signatures,
        sound: impl Fn(&Signature, &[u8]) -> bool,
        seen: Seen<'_>,
        until: u64,
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
        while at < until as usize
            && let Some(wide) = window.get(at..)
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
}
