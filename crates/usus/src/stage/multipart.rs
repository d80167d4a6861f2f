//! Multiparts: frames that number themselves become one record, once all of them are there, one behind the other.

use alloc::collections::{BTreeSet, VecDeque};
use alloc::vec::Vec;

use super::{Bench, Gap, Now, Told, is_over};
use crate::input::LineId;
use crate::plan::Multipart;
use crate::reason::Reason;
use crate::record::{Made, Row};
use crate::time::{Span, Time};
use crate::value::{Charset, Reading, Value};

/// What waits for further parts, the oldest first.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Multiparts {
    open: VecDeque<Begun>,
    /// The lines on which none has begun since the recording did, or since bytes were missing.
    fresh: BTreeSet<LineId>,
}

#[derive(Clone, Debug, PartialEq)]
struct Begun {
    line: LineId,
    key: Vec<u8>,
    rows: Vec<Row>,
    parts: u64,
    begun: Option<Time>,
    /// Bytes of its frames.
    bytes: usize,
    /// Bytes of the shortest of them.
    shortest: usize,
    /// Bytes that gave no record since the last of them.
    lost: u64,
}

/// The fields by which parts number themselves stand before the key.
const NUMBERS: usize = 2;

impl Multiparts {
    /// A line begins, and one may have begun before.
    pub(super) fn begins(&mut self, line: LineId) {
        self.fresh.insert(line);
    }

    pub(super) fn is_idle(&self) -> bool {
        self.open.is_empty()
    }

    pub(super) fn deadline(&self, within: Span) -> Option<Time> {
        self.open.iter().filter_map(|begun| begun.begun).min().map(|begun| begun.after(within))
    }

    pub(super) fn tell(&mut self, of: &Multipart, told: Told<'_>, bench: &mut Bench<'_>) {
        match told {
            Told::Row(row) => {
                if let Some(now) = row.completed() {
                    self.expire(of, Now::at(now), bench);
                }
                self.take(of, row, bench);
            }
            Told::Time(now) => self.expire(of, now, bench),
            Told::Gap(gap) => self.lose(of, gap, bench),
            Told::End => {
                for begun in self.open.drain(..) {
                    bench.reject(begun.rows, Reason::NotWhole { kind: of.kind }, true);
                }
            }
        }
    }

    fn expire(&mut self, of: &Multipart, now: Now<'_>, bench: &mut Bench<'_>) {
        while let Some(over) = self.open.iter().position(|begun| is_over(begun.begun, of.within, now)) {
            if let Some(begun) = self.open.remove(over) {
                bench.reject(begun.rows, Reason::TooLate { kind: of.kind }, false);
            }
        }
    }

    fn lose(&mut self, of: &Multipart, gap: Gap, bench: &mut Bench<'_>) {
        if gap.bytes.is_none() {
            self.begins(gap.line);
        }
        let kind = of.kind;
        let mut place = 0;
        while let Some(begun) = self.open.get_mut(place) {
            place += 1;
            if begun.line != gap.line {
                continue;
            }
            match gap.bytes {
                Some(bytes) => begun.lost += bytes,
                None => {
                    place -= 1;
                    if let Some(begun) = self.open.remove(place) {
                        bench.reject(begun.rows, Reason::NotWhole { kind }, true);
                    }
                }
            }
        }
    }

    fn take(&mut self, of: &Multipart, row: Row, bench: &mut Bench<'_>) {
        let Some(kept_as) = of.of.iter().find(|kept_as| kept_as.from == row.kind) else { return bench.pass(row) };
        let (begun, line) = (row.completed(), row.first().map(|kept| kept.origin.line));
        let Some(line) = line else { return bench.pass(row) };
        let row = bench.hold(row, kept_as.layout, 0);
        let numbers: [Option<u64>; NUMBERS] = core::array::from_fn(|place| row.keyed(place).and_then(number));
        let [Some(part), Some(parts)] = numbers else {
            return bench.reject([row].into(), Reason::PartNumber { kind: of.kind }, false);
        };
        if part > parts {
            return bench.reject([row].into(), Reason::PartNumber { kind: of.kind }, false);
        }
        let mut key = core::mem::take(&mut bench.room.key);
        key.clear();
        row.put_key(NUMBERS, &mut key);
        self.join(of, row, (part, parts), (line, &key, begun), bench);
        bench.room.key = key;
    }

    fn join(
        &mut self,
        of: &Multipart,
        row: Row,
        (part, parts): (u64, u64),
        (line, key, begun): (LineId, &[u8], Option<Time>),
        bench: &mut Bench<'_>,
    ) {
        let (kind, limits) = (of.kind, bench.plan.0.limits);
        let bytes = row.first().map_or(0, |kept| kept.frame.len());
        let known = self.open.iter().position(|begun| begun.line == line && begun.key == key);
        let mut before = known.and_then(|place| self.open.remove(place));
        if let Some(known) = before.take_if(|known| !known.goes_on(part, parts, of.unique)) {
            let expected = known.rows.len() as u64 + 1;
            let reason = match part == expected && parts == known.parts {
                true => Reason::Between { kind },
                false => Reason::PartMissing { kind, expected, found: part },
            };
            bench.reject(known.rows, reason, false);
        }
        let mut set = match before {
            Some(known) => known,
            None if part == 1 => {
                while self.open.len() >= limits.open {
                    if let Some(oldest) = self.open.pop_front() {
                        bench.reject(oldest.rows, Reason::TooManyOpen { kind }, false);
                    }
                }
                let rows = bench.list();
                let (bytes, shortest, lost) = (0, bytes, 0);
                Begun { line, key: key.to_vec(), rows, parts, begun, bytes, shortest, lost }
            }
            None if self.fresh.contains(&line) => return bench.reject([row].into(), Reason::BegunBefore, true),
            None => return bench.reject([row].into(), Reason::PartMissing { kind, expected: 1, found: part }, false),
        };
        self.fresh.remove(&line);
        set.rows.push(row);
        set.bytes += bytes;
        set.shortest = set.shortest.min(bytes);
        set.lost = 0;
        if set.rows.len() > limits.parts || set.bytes > limits.held {
            return bench.reject(set.rows, Reason::TooLong { kind }, false);
        }
        match part == parts {
            false => self.open.push_back(set),
            true => {
                let texts = of.join.iter().map(|output| text(&set.rows, usize::from(*output))).collect();
                bench.pass(Row::of_rows(kind, set.rows, texts));
            }
        }
    }
}

impl Begun {
    /// Whether that is its next part, which it is not where so much may have been lost that it is one of the next record's.
    fn goes_on(&self, part: u64, parts: u64, unique: bool) -> bool {
        part == self.rows.len() as u64 + 1 && parts == self.parts && (unique || !self.lost_as_much())
    }

    /// Whether as many parts as there are may be among what gave no record: then its next part looks like the next part of the next record.
    fn lost_as_much(&self) -> bool {
        // Those that nobody saw may be a little shorter.
        self.lost > 0 && 4 * self.lost >= 3 * self.parts.saturating_mul(self.shortest as u64)
    }
}

/// A number of a part, from 1.
fn number(reading: Reading<'_>) -> Option<u64> {
    let (Value::Decimal(number) | Value::Code { number, .. }) = reading.value else { return None };
    u64::try_from(number.to_integer()?).ok().filter(|number| *number > 0)
}

/// The texts of a field, put together.
fn text(rows: &[Row], output: usize) -> Made {
    let mut text = Vec::new();
    for row in rows {
        if let Some(Value::Text(part)) = row.record().and_then(|record| record.field(output)).map(|it| it.value) {
            // A character may be sent in two parts.
            match part.charset() {
                Charset::Utf8 => text.extend_from_slice(part.bytes()),
                _ => part.pieces().for_each(|piece| text.extend_from_slice(piece.as_bytes())),
            }
        }
    }
    Made::Text(text)
}
