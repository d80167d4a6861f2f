//! Merges: one record of several kinds with the same key.

use alloc::collections::VecDeque;
use alloc::vec::Vec;

use super::{Bench, Now, Told, is_over};
use crate::expression::Operand;
use crate::plan::Merge;
use crate::reason::Reason;
use crate::record::Row;
use crate::time::{Span, Time};
use crate::value::Decimal;

/// What waits for others with the same key, the oldest first, and the keys that were last done with.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Merges {
    open: VecDeque<Gathered>,
    done: VecDeque<Vec<u8>>,
}

#[derive(Clone, Debug, PartialEq)]
struct Gathered {
    key: Vec<u8>,
    rows: Vec<Row>,
    begun: Option<Time>,
}

/// Keys that are remembered, to tell what comes late.
const DONE: usize = 16;

impl Merges {
    pub(super) fn is_idle(&self) -> bool {
        self.open.is_empty()
    }

    pub(super) fn deadline(&self, within: Span) -> Option<Time> {
        self.open.iter().filter_map(|set| set.begun).min().map(|begun| begun.after(within))
    }

    pub(super) fn tell(&mut self, merge: &Merge, told: Told<'_>, bench: &mut Bench<'_>) {
        match told {
            Told::Row(row) => {
                if let Some(now) = row.completed() {
                    self.expire(merge, Now::at(now), bench);
                }
                self.take(merge, row, bench);
            }
            Told::Time(now) => self.expire(merge, now, bench),
            Told::End => {
                while let Some(set) = self.open.pop_front() {
                    self.close(merge, set, true, bench);
                }
            }
            Told::Gap(_) => {}
        }
    }

    fn expire(&mut self, merge: &Merge, now: Now<'_>, bench: &mut Bench<'_>) {
        while let Some(over) = self.open.iter().position(|set| is_over(set.begun, merge.within, now)) {
            if let Some(set) = self.open.remove(over) {
                self.close(merge, set, false, bench);
            }
        }
    }

    fn take(&mut self, merge: &Merge, row: Row, bench: &mut Bench<'_>) {
        let found = merge.of.iter().enumerate().find_map(|(slot, taken)| {
            let kept_as = taken.iter().find(|kept_as| kept_as.from == row.kind)?;
            Some((slot as u16, kept_as.layout))
        });
        let Some((slot, layout)) = found else { return bench.pass(row) };
        let begun = row.completed();
        let row = bench.hold(row, layout, slot);
        let mut key = core::mem::take(&mut bench.room.key);
        key.clear();
        let is_whole = row.put_key(0, &mut key);
        self.gather(merge, row, &key, is_whole, begun, bench);
        bench.room.key = key;
    }

    fn gather(
        &mut self,
        merge: &Merge,
        row: Row,
        key: &[u8],
        is_whole: bool,
        begun: Option<Time>,
        bench: &mut Bench<'_>,
    ) {
        if !is_whole {
            return bench.reject([row].into(), Reason::NoKey { kind: merge.kind }, false);
        }
        let known = self.open.iter().position(|set| set.key == key);
        if let Some(place) = known {
            let set = &mut self.open[place];
            if !set.rows.iter().any(|other| other.slot == row.slot) {
                set.rows.push(row);
                if set.rows.len() == merge.of.len()
                    && let Some(set) = self.open.remove(place)
                {
                    self.close(merge, set, false, bench);
                }
                return;
            }
            // The same kind again: what came before is all there is of that.
            if let Some(set) = self.open.remove(place) {
                self.close(merge, set, false, bench);
            }
        } else if self.done.iter().any(|done| done == key) {
            return bench.reject([row].into(), Reason::Late { kind: merge.kind }, false);
        }
        while self.open.len() >= merge.open {
            if let Some(oldest) = self.open.pop_front() {
                self.close(merge, oldest, false, bench);
            }
        }
        let mut rows = bench.list();
        rows.push(row);
        let set = Gathered { key: key.to_vec(), rows, begun };
        match merge.of.len() {
            1 => self.close(merge, set, false, bench),
            _ => self.open.push_back(set),
        }
    }

    /// Gives what was gathered, if it is complete. `ended` says whether the input has ended.
    fn close(&mut self, merge: &Merge, set: Gathered, ended: bool, bench: &mut Bench<'_>) {
        let Gathered { key, rows, .. } = set;
        if self.done.len() >= DONE.max(merge.open) {
            self.done.pop_front();
        }
        self.done.push_back(key);
        let there = |slot: u16| rows.iter().any(|row| row.slot == slot);
        let is_complete = match &merge.complete {
            _ if rows.len() == merge.of.len() => true,
            None => false,
            Some(complete) => complete.test(&|slot| match there(*slot) {
                true => Operand::Number(Decimal::from_integer(1)),
                false => Operand::Number(Decimal::ZERO),
            }),
        };
        if is_complete {
            return bench.pass(Row::of_rows(merge.kind, rows, Vec::new()));
        }
        // They may be of several lines.
        let (kind, missing) = (merge.kind, (0..merge.of.len() as u16).find(|slot| !there(*slot)).unwrap_or(0));
        for row in rows {
            bench.reject([row].into(), Reason::Incomplete { kind, missing }, ended);
        }
    }
}
