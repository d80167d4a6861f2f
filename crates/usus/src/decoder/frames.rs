//! Frame upon frame, and nothing between them but what carries nothing: what a line is nearly all of the time, and what has to be fast. It says
//! and books what the long way would; whatever is out of the ordinary is left to that.

use alloc::collections::VecDeque;

use super::Outcome;
use super::line::{Line, Seen};
use crate::claim::Extent;
use crate::contents;
use crate::framing::{
    self, AnyPacket, Behind, Cobs, DleFrame, FixedFrame, Hdlc, ModbusFrame, Recognise, Recognised, Scan, Slip,
    SomeSentence, StuffedFrame, Tools,
};
use crate::plan::{Choice, Frame, Framing, Kind, Packet, Plan, Stuffing};
use crate::read::Cells;
use crate::record::Record;
use crate::sink::Sink;
use crate::stage::Counters;

/// How it goes on behind frames that were handed over.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Then {
    /// As before: others may follow.
    Same,
    /// Something else is to be said first.
    Other,
}

impl Line {
    /// Hands over what follows at once at the position, frame after frame. Nothing happens if that is no frame which is recognised.
    #[inline]
    pub(super) fn frames<S: Sink>(&mut self, plan: &Plan, seen: Seen<'_>, sink: &mut S) -> Result<Then, S::Error> {
        if !self.pass_filler(plan, seen) {
            return Ok(Then::Other);
        }
        let inner = &*plan.0;
        let route = &inner.routes[self.route];
        let bytes = seen.from(self.at);
        for (place, &number) in route.searching.iter().enumerate() {
            let frame = &inner.frames[usize::from(number)];
            // Where a frame ends, those before it in the file have the first word again.
            let once = place > 0;
            match &frame.framing {
                framing if frame.takes_long && framing.may_begin(self.behind, bytes) => return Ok(Then::Other),
                Framing::Packet(packet) if packet.start.begins(bytes) => {
                    return self.packets(plan, number, frame, packet, once, seen, sink);
                }
                Framing::Sentence(sentence) if matches!(bytes.first(), Some(b'$' | b'!')) => {
                    let sentence = SomeSentence { sentence: *sentence, separator: frame.separation.byte() };
                    return self.frame_after_frame(plan, number, sentence, once, seen, sink);
                }
                Framing::Stuffed(stuffed) if frame.framing.may_begin(self.behind, bytes) => {
                    let check = frame.check.as_ref();
                    return match stuffed.stuffing {
                        Stuffing::Slip => {
                            let slip = StuffedFrame::<Slip>::new(stuffed, check);
                            self.frame_after_frame(plan, number, slip, once, seen, sink)
                        }
                        Stuffing::Hdlc => {
                            let hdlc = StuffedFrame::<Hdlc>::new(stuffed, check);
                            self.frame_after_frame(plan, number, hdlc, once, seen, sink)
                        }
                        Stuffing::Cobs => {
                            let cobs = StuffedFrame::<Cobs>::new(stuffed, check);
                            self.frame_after_frame(plan, number, cobs, once, seen, sink)
                        }
                    };
                }
                Framing::Dle(dle) if dle.begins(bytes) => {
                    let frame_of_dle = DleFrame { dle: *dle, check: frame.check.as_ref() };
                    return self.frame_after_frame(plan, number, frame_of_dle, once, seen, sink);
                }
                // Where times are known, they are looked at.
                Framing::Modbus(modbus)
                    if !self.origin.marks.are_known() && frame.framing.may_begin(self.behind, bytes) =>
                {
                    let of_modbus = ModbusFrame { modbus: *modbus, check: frame.check.as_ref() };
                    return self.frame_after_frame(plan, number, of_modbus, once, seen, sink);
                }
                _ => {}
            }
        }
        let number = match &*route.lines {
            [] => None,
            _ if !route.searching.is_empty() || route.is_coded => None,
            _ => route.line_frame(inner, bytes),
        };
        let Some(number) = number else { return Ok(Then::Other) };
        let frame = &inner.frames[usize::from(number)];
        let once = route.lines.len() > 1 || frame.line_start.is_some();
        match &frame.framing {
            Framing::Text(text) if frame.check.is_none() && !frame.takes_long => {
                let line = framing::TextLine { text: *text, separator: frame.separation.byte() };
                self.frame_after_frame(plan, number, line, once, seen, sink)
            }
            _ => Ok(Then::Other),
        }
    }

    #[allow(clippy::too_many_arguments)] // What the loops need, once.
    #[inline]
    fn packets<S: Sink>(
        &mut self,
        plan: &Plan,
        number: u16,
        frame: &Frame,
        packet: &Packet,
        once: bool,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<Then, S::Error> {
        let (fixed, check) = (packet.fixed.as_ref(), frame.check.as_ref());
        let begun = self.at;
        if let Some(fixed) = fixed {
            // Most have a small CRC right behind what it covers: those get a loop with nothing else in it.
            let small = check.and_then(|check| check.checksum.small()).filter(|_| fixed.residue.is_some());
            let then = match small {
                Some(crc) => {
                    let sound = |packet: &crate::plan::FixedPacket, wide: &[u8]| {
                        crc.left_by(&packet.covered, wide) == Some(packet.left)
                    };
                    self.frame_after_frame(plan, number, FixedFrame::new(fixed, sound), once, seen, sink)?
                }
                None => {
                    let sound =
                        |packet: &crate::plan::FixedPacket, wide: &[u8]| framing::is_sound(fixed, check, packet, wide);
                    self.frame_after_frame(plan, number, FixedFrame::new(fixed, sound), once, seen, sink)?
                }
            };
            if then == Then::Other || self.at > begun {
                return Ok(then);
            }
        }
        let any = AnyPacket { packet, plan: &plan.0, number, check };
        self.frame_after_frame(plan, number, any, once, seen, sink)
    }

    /// Hands over frame after frame of one kind, or only one.
    #[inline(never)]
    fn frame_after_frame<R: Recognise, S: Sink>(
        &mut self,
        plan: &Plan,
        number: u16,
        recogniser: R,
        once: bool,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<Then, S::Error> {
        let inner = &*plan.0;
        let frame = &inner.frames[usize::from(number)];
        let window = seen.bytes;
        let Scan { columns, choices, decoded, .. } = &mut self.scan;
        let counts = &mut *self.ledger.records;
        let begun = (self.at - seen.base) as usize;
        let (mut at, mut recorded, mut held) = (begun, 0, 0);
        let mut behind = self.behind;
        let mut result = Ok(Then::Same);
        while let Some(bytes) = window.get(at..)
            && let Some(found) = recogniser.recognise(bytes, &mut Tools { choices, columns, decoded })
        {
            let Recognised { length, contents: mut lie, check, choice, filler, behind: then } = found;
            if frame.splits && (!R::SPLITS || !frame.has_simple_columns()) {
                let Ok(laid) = contents::lay_out(number, frame, &frame.separation, lie, bytes, decoded, columns) else {
                    break;
                };
                lie = laid;
            }
            let (text, wide) = lie.of(bytes, decoded);
            let (kind, cells, count) = if R::DECIDES {
                let Choice::Kind(kind) = choice else { break };
                (kind, Cells { bytes: text, wide, columns: &[], tail: text.len() }, 0)
            } else {
                if frame.is_walked {
                    columns.clear();
                }
                let laid: &[u16] = if frame.has_columns { columns } else { &[] };
                let mut cells = contents::cells(frame, text, wide, laid);
                let choice = match choice {
                    Choice::Undecided => choices.choose(inner, number, frame, &cells, text.len()),
                    decided => decided,
                };
                let Choice::Kind(kind) = choice else { break };
                if frame.has_forms && inner.kinds.get(usize::from(kind)).is_some_and(|kind| kind.form.is_some()) {
                    if !frame.header_splits {
                        columns.clear();
                    }
                    columns.add_found(&choices.forms.found);
                    cells = contents::cells(frame, text, wide, columns);
                }
                if frame.is_walked
                    && let Some(Kind { parts: Some(parts), shape, .. }) = inner.kinds.get(usize::from(kind))
                {
                    if contents::walk(kind, parts, text, shape.back, columns).is_err() {
                        break;
                    }
                    cells = contents::cells(frame, text, wide, columns);
                }
                let Ok(Extent { count, tail }) = contents::fit(inner, number, frame, kind, check, &cells) else {
                    break;
                };
                (kind, Cells { tail, ..cells }, count)
            };
            let Some(compiled) = inner.kinds.get(usize::from(kind)) else { break };
            let Some(counted) = counts.get_mut(usize::from(compiled.record)) else { break };
            let Some(frame_bytes) = bytes.get(..length) else { break };
            // What a stage takes is pending, until it goes out there.
            let goes_out = u64::from(!compiled.staged);
            *counted += goes_out;
            recorded += length as u64 * goes_out;
            held += length as u64 * (1 - goes_out);
            // Put together where it stays: copies of what was stored just now would wait for it.
            let offset = seen.base + at as u64;
            let origin = &self.origin;
            let contents = lie;
            let record =
                Record { origin, kind, compiled, offset, frame: frame_bytes, contents, cells, count, row: None };
            at += length + filler;
            behind = then;
            match hand_over(&record, &mut self.counters, &mut self.queue, sink) {
                Ok(Then::Same) if !once && then != Behind::Sentence => {}
                stop => {
                    result = stop;
                    break;
                }
            }
        }
        if !frame.has_columns || R::DECIDES {
            // A frame without columns has none, whatever came before it.
            columns.clear();
        }
        if at > begun {
            self.scan.clear();
        }
        self.behind = behind;
        self.ledger.recorded += recorded;
        self.held += held;
        self.ledger.filler += (at - begun) as u64 - recorded - held;
        self.at = seen.base + at as u64;
        result
    }

    /// Passes what carries nothing at the position. Says whether nothing is known about the bytes from there on but what they are.
    #[inline]
    fn pass_filler(&mut self, plan: &Plan, seen: Seen<'_>) -> bool {
        if !(self.closings.is_empty() && self.faults.is_empty() && self.silences.is_empty()) {
            return false;
        }
        let bytes = seen.from(self.at);
        let filler = match self.behind {
            Behind::Sentence if bytes.starts_with(b"\r\n") => 2,
            Behind::Frame => {
                let route = &plan.0.routes[self.route];
                let text = route.text.filter(|_| route.searching.is_empty());
                match text.map(|frame| &plan.0.frames[usize::from(frame)].framing) {
                    Some(Framing::Text(text)) => framing::line_ends(text.end, bytes),
                    _ => 0,
                }
            }
            Behind::Delimiter(_) => 0,
            _ => return false,
        };
        if filler > 0 {
            self.ends.add(bytes.get(..filler).unwrap_or_default());
            self.ledger.filler += filler as u64;
            self.at += filler as u64;
            self.behind = Behind::Frame;
        }
        true
    }
}

/// Hands a record to a sink, with what is queued before it if a counter of it says something. Says whether that was all; if not, it is queued
/// itself.
#[inline(always)]
fn hand_over<S: Sink>(
    record: &Record<'_>,
    counters: &mut Counters,
    queue: &mut VecDeque<Outcome>,
    sink: &mut S,
) -> Result<Then, S::Error> {
    let kind = record.compiled;
    let goes_on = kind.counters.is_empty() || counters.step(kind, &record.cells);
    if !goes_on && !follow(record, counters, queue) {
        return Ok(Then::Other);
    }
    if kind.is_heard() {
        sink.record(record)?;
    }
    Ok(Then::Same)
}

/// Follows the counters of a record. Says whether they say nothing; if not, that is queued, with the record behind it.
#[cold]
#[inline(never)]
fn follow(record: &Record<'_>, counters: &mut Counters, queue: &mut VecDeque<Outcome>) -> bool {
    let Record { kind, compiled, offset, cells, .. } = *record;
    counters.record(&record.plan().0, kind, compiled, &cells, &mut |kind| {
        queue.push_back(Outcome::Notice { offset, kind });
    });
    let says_nothing = queue.is_empty();
    if !says_nothing {
        queue.extend(compiled.is_heard().then(|| Outcome::of(record)));
    }
    says_nothing
}
