//! Counters: what comes after what, over all frames that share a counter, for each line and series.
//!
//! It never keeps records from going out, and most of them only make it count up: that is [`Counters::step`]. A part that is decoded for itself
//! counts for itself; it is taken if what it counted first would have been no news to what came before, which is nearly always so.

use alloc::collections::BTreeMap;
use alloc::vec::Vec;

use crate::event::NoticeKind;
use crate::plan::{Counter, Field, Inner, Kind, Slot};
use crate::read::Cells;

/// The counters of one line.
#[derive(Clone, Debug, Default)]
pub(crate) struct Counters {
    /// Those without series, by their slots.
    single: Vec<Counted>,
    /// For each slot, its series by what their fields say.
    series: Vec<BTreeMap<Vec<u8>, Counted>>,
    /// The series at hand; kept so that looking one up allocates nothing.
    key: Vec<u8>,
    known: usize,
    full: bool,
}

/// The first and the last value of a counter.
type Counted = Option<(u64, u64)>;

impl Counters {
    pub(crate) fn new(plan: &Inner) -> Counters {
        let slots = plan.counters.len();
        Counters {
            single: alloc::vec![None; slots],
            series: alloc::vec![BTreeMap::new(); slots],
            ..Counters::default()
        }
    }

    /// Takes a record in if its only counter is one more than before. Says whether it is, as nearly always; if not, it is still to be taken in.
    #[inline(always)]
    pub(crate) fn step(&mut self, kind: &Kind, cells: &Cells<'_>) -> bool {
        let [counter] = &*kind.counters else { return false };
        let Some(Some((_, last))) = self.single.get_mut(counter.slot) else { return false };
        let found = cells.count(counter);
        let goes_on = kind.series.is_empty() && found == Some(counter.after(*last));
        if goes_on {
            *last = counter.after(*last);
        }
        goes_on
    }

    /// Takes a record in, and says what it means beside those before it.
    pub(crate) fn record(
        &mut self,
        plan: &Inner,
        number: u16,
        kind: &Kind,
        cells: &Cells<'_>,
        notices: &mut impl FnMut(NoticeKind),
    ) {
        match kind.series.is_empty() {
            true => self.without_series(number, &kind.counters, cells, notices),
            false => self.record_of_series(plan, number, kind, cells, notices),
        }
    }

    /// Takes in what counts without series: a record, or a frame that is ignored and counts like records of that kind do, as far as its header tells.
    pub(crate) fn without_series(
        &mut self,
        number: u16,
        counters: &[Counter],
        cells: &Cells<'_>,
        notices: &mut impl FnMut(NoticeKind),
    ) {
        for (index, counter) in counters.iter().enumerate() {
            if let Some(counted) = self.single.get_mut(counter.slot) {
                count((number, index), counter, cells, counted, notices);
            }
        }
    }

    /// Whether these, had they begun where others ended, would have said the same.
    pub(crate) fn would_follow(&self, plan: &Inner, before: &Counters) -> bool {
        let singles = self.single.iter().zip(&before.single).zip(&plan.counters);
        let mut known = before.known;
        let goes_on = singles.into_iter().all(|((counted, before), slot)| goes_on(*slot, before, counted))
            && self.series.iter().zip(&before.series).zip(&plan.counters).all(|((series, before), slot)| {
                series.iter().all(|(key, counted)| match before.get(key) {
                    Some(before) => goes_on(*slot, before, counted),
                    None => {
                        known += usize::from(slot.is_first);
                        true
                    }
                })
            });
        // Where no more series are followed, a new one is not followed either.
        let most = if before.full { before.known } else { plan.limits.series };
        goes_on && !self.full && known <= most
    }

    /// Become the counters of what others saw, and then of what these saw.
    pub(crate) fn follow(&mut self, plan: &Inner, before: Counters) {
        for (counted, before) in self.single.iter_mut().zip(&before.single) {
            put_before(before, counted);
        }
        self.full = before.full;
        self.known = 0;
        for ((series, mut before), slot) in self.series.iter_mut().zip(before.series).zip(&plan.counters) {
            for (key, mut counted) in core::mem::take(series) {
                if let Some(before) = before.get(&key) {
                    put_before(before, &mut counted);
                }
                before.insert(key, counted);
            }
            *series = before;
            self.known += if slot.is_first { series.len() } else { 0 };
        }
    }

    fn record_of_series(
        &mut self,
        plan: &Inner,
        number: u16,
        kind: &Kind,
        cells: &Cells<'_>,
        notices: &mut impl FnMut(NoticeKind),
    ) {
        self.key.clear();
        put_series(&kind.series, cells, &mut self.key);
        for (index, counter) in kind.counters.iter().enumerate() {
            let Some(series) = self.series.get_mut(counter.slot) else { continue };
            if !series.contains_key(&self.key) {
                if index == 0 && self.known >= plan.limits.series {
                    if !core::mem::replace(&mut self.full, true) {
                        notices(NoticeKind::TooManySeries { kind: number });
                    }
                    return;
                }
                self.known += usize::from(index == 0);
                series.insert(self.key.clone(), None);
            }
            if let Some(counted) = series.get_mut(&self.key) {
                count((number, index), counter, cells, counted, notices);
            }
        }
    }
}

/// Follows a counter of one series: the kind and its place among that kind's counters tell which.
fn count(
    (kind, index): (u16, usize),
    counter: &Counter,
    cells: &Cells<'_>,
    counted: &mut Counted,
    notices: &mut impl FnMut(NoticeKind),
) {
    let Some(found) = cells.count(counter) else { return };
    let Some((_, last)) = counted else {
        *counted = Some((found, found));
        return;
    };
    let expected = counter.after(*last);
    *last = found;
    if expected != found {
        notices(NoticeKind::CounterJump { kind, counter: index as u16, expected, found });
    }
}

/// Whether a counter goes on where another ended, so that nothing would have been said at its first value.
fn goes_on(slot: Slot, before: &Counted, counted: &Counted) -> bool {
    match (before, counted) {
        (Some((_, last)), Some((first, _))) => Counter::follows(slot.last, *last) == *first,
        _ => true,
    }
}

/// Puts what came before in front.
fn put_before(before: &Counted, counted: &mut Counted) {
    *counted = match (*before, *counted) {
        (Some((first, _)), Some((_, last))) => Some((first, last)),
        (before, counted) => counted.or(before),
    };
}

/// Puts what tells a series from others behind a key: what its fields say, each with [`BEHIND_VALUE`].
pub(crate) fn put_series(series: &[Field], cells: &Cells<'_>, key: &mut Vec<u8>) {
    use core::fmt::Write;
    for field in series {
        // Values of different fields must not run together. Writing to a Vec does not fail.
        let _ = write!(Key(key), "{}{BEHIND_VALUE}", cells.reading(field, 0).value);
    }
}

/// What stands behind each value in a series' key.
pub(crate) const BEHIND_VALUE: char = '\u{1F}';

/// A key that is written to.
pub(crate) struct Key<'a>(pub(crate) &'a mut Vec<u8>);

impl core::fmt::Write for Key<'_> {
    fn write_str(&mut self, text: &str) -> core::fmt::Result {
        self.0.extend_from_slice(text.as_bytes());
        Ok(())
    }
}
