//! The steady line: frame upon frame, and nothing between them but their line ends. That is what a line is nearly all of the time, and
//! what has to be fast. It says and books what [`Line::advance`] would; whatever is out of the ordinary is left to that.

mod packets;
mod texts;

use alloc::collections::VecDeque;

use super::Outcome;
use super::line::{Line, Seen};
use crate::cut::{self, Expect, Rest};
use crate::fold::Fold;
use crate::plan::{Check, Cut, Frame, Inner, Plan, Route, Signatures};
use crate::record::Record;
use crate::sink::Sink;

/// All that follow one another, wherever they begin.
const ALL: usize = usize::MAX;

/// What may follow a text before other cuts have to be asked.
#[derive(Clone, Copy)]
enum Following<'p> {
    Nothing,
    Texts,
    /// Texts, and signed packets between them.
    TextsAndPackets(Signed<'p>),
}

/// Packets that their first bytes tell, and how they are verified.
#[derive(Clone, Copy)]
struct Signed<'p> {
    signatures: &'p Signatures,
    check: Option<&'p Check>,
}

impl<'p> Signed<'p> {
    fn of(frame: &'p Frame) -> Option<Signed<'p>> {
        Some(Signed { signatures: frame.signatures.as_ref()?, check: frame.check.as_ref() })
    }
}

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
        let signed = first.and_then(Signed::of);
        if let Some(signed) = signed {
            if !self.packets(plan, signed, seen, ALL, sink)? {
                return Ok(false);
            }
            if let Some(length) = cut::signed_needs(signed.signatures, seen.from(self.at)) {
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
        signed: Option<Signed<'_>>,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let inner = &*plan.0;
        loop {
            let begun = self.at;
            if !self.frames_of_a_cut(plan, route, signed, seen, sink)? {
                return Ok(false);
            }
            if self.rest.line_end != Expect::Nothing {
                return Ok(true);
            }
            if self.at == begun {
                break;
            }
            if let Some(signed) = signed
                && !self.packets(plan, signed, seen, ALL, sink)?
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

    /// Hands over frames of the one cut that takes what follows, if any does. Says whether there was nothing else to say. Signed packets that
    /// are looked for first were handed over before.
    #[inline(always)]
    fn frames_of_a_cut<S: Sink>(
        &mut self,
        plan: &Plan,
        route: &Route,
        signed: Option<Signed<'_>>,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let bytes = seen.from(self.at);
        for (place, &number) in route.searching.iter().enumerate() {
            let frame = &plan.0.frames[usize::from(number)];
            // Where a frame ends, those of the cuts before it in the file have the first word again.
            let until = if place == 0 { ALL } else { (self.at - seen.base) as usize + 1 };
            match &frame.cut {
                Cut::Packet(packet) => {
                    let begun = self.at;
                    if let Some(signed) = Signed::of(frame).filter(|_| place > 0)
                        && !self.packets(plan, signed, seen, until, sink)?
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
                        let following = match signed {
                            _ if place > 0 && !route.sentences_apart => Following::Nothing,
                            Some(signed) => Following::TextsAndPackets(signed),
                            None => Following::Texts,
                        };
                        return self.texts(plan, number, known, following, seen, sink);
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
        self.texts(plan, number, known, Following::Texts, seen, sink)
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

/// Hands a record to a sink, with what is queued before it if a counter of it says something. Says whether that was all; if not, it is queued
/// itself. `content` is the first byte and the end of what is read in its frame.
#[inline(always)]
fn hand_over<S: Sink>(
    record: &Record<'_>,
    content: (u32, u32),
    fold: &mut Fold,
    queue: &mut VecDeque<Outcome>,
    sink: &mut S,
) -> Result<bool, S::Error> {
    let kind = record.compiled;
    let goes_on = kind.counters.is_empty() || fold.step(record.kind, kind, &record.cells);
    if !goes_on && !follow(record, content, fold, queue) {
        return Ok(false);
    }
    if kind.wanted {
        sink.record(record)?;
    }
    Ok(true)
}

/// Follows the counters of a record. Says whether they say nothing; if not, that is queued, with the record behind it.
#[cold]
#[inline(never)]
fn follow(record: &Record<'_>, content: (u32, u32), fold: &mut Fold, queue: &mut VecDeque<Outcome>) -> bool {
    let Record { kind: number, compiled: kind, offset, length, count, cells, .. } = *record;
    fold.record(&record.plan.0, number, kind, &cells, &mut |kind| {
        queue.push_back(Outcome::Notice { offset, kind });
    });
    let says_nothing = queue.is_empty();
    if !says_nothing {
        let tail = cells.tail as u32;
        let record = Outcome::Record { kind: number, offset, length, content, count, tail };
        queue.extend(kind.wanted.then_some(record));
    }
    says_nothing
}
