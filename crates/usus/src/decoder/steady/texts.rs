//! Text after text: sentences, and lines.

use super::{ALL, Following, hand_over};
use crate::claim::{self, Choice};
use crate::cut::{Columns, Expect, Known, Scan};
use crate::decoder::line::{Line, Seen};
use crate::plan::Plan;
use crate::read::Cells;
use crate::record::Record;
use crate::sink::Sink;

impl Line {
    /// Hands over a text and what follows it. Says whether there was nothing else to say.
    #[inline(never)]
    pub(super) fn texts<S: Sink>(
        &mut self,
        plan: &Plan,
        number: u16,
        known: impl Fn(&[u8], &mut Columns) -> Option<Known>,
        following: Following<'_>,
        seen: Seen<'_>,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        if !plan.0.frames[usize::from(number)].is_direct {
            return Ok(true);
        }
        let until = if let Following::Nothing = following { (self.at - seen.base) as usize + 1 } else { ALL };
        loop {
            if !self.text_after_text(plan, number, &known, seen, until, sink)? {
                return Ok(false);
            }
            let Following::TextsAndPackets(signed) = following else { return Ok(true) };
            let behind_texts = self.at;
            if self.rest.line_end != Expect::Nothing {
                return Ok(true);
            }
            if !self.packets(plan, signed, seen, ALL, sink)? {
                return Ok(false);
            }
            if self.at == behind_texts {
                return Ok(true);
            }
        }
    }

    /// Hands over text after text that begins before a place of what is seen.
    #[inline(always)]
    fn text_after_text<S: Sink>(
        &mut self,
        plan: &Plan,
        number: u16,
        known: &impl Fn(&[u8], &mut Columns) -> Option<Known>,
        seen: Seen<'_>,
        until: usize,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let inner = &*plan.0;
        let frame = &inner.frames[usize::from(number)];
        let (kinds, window) = (&*inner.kinds, seen.bytes);
        let Scan { columns, choices, .. } = &mut self.scan;
        let counts = &mut *self.ledger.records;
        let begun = (self.at - seen.base) as usize;
        let (mut at, mut recorded) = (begun, 0);
        let mut line_end = Expect::Nothing;
        let mut result = Ok(true);
        while at < until
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
                compiled: kind,
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
            let content = (known.first as u32, (known.first + known.text) as u32);
            match hand_over(&record, content, &mut self.fold, &mut self.queue, sink) {
                Ok(true) => {}
                stop => {
                    result = stop;
                    break;
                }
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
}
