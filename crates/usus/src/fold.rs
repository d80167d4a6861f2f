//! The fold: what needs more than one frame, in the order of the records. Its state is kept for each line, kind and series.
//!
//! Now it follows counters. It looks at records only, never at how they were cut, so it can run behind decoders that work on
//! pieces of a stream.

use alloc::collections::BTreeMap;
use alloc::vec::Vec;

use crate::event::NoticeKind;
use crate::plan::{Inner, Kind};
use crate::read::Cells;

/// The state of the fold of one line.
#[derive(Clone, Debug, Default)]
pub(crate) struct Fold {
    /// For each kind without series, its counters.
    single: Vec<Vec<Counted>>,
    /// For each kind, its series by the bytes of their fields, with their counters.
    kinds: Vec<BTreeMap<Vec<u8>, Vec<Counted>>>,
    /// The series at hand; kept so that looking one up allocates nothing.
    key: Vec<u8>,
    known: usize,
    full: bool,
}

/// The first and the last value of a counter.
type Counted = Option<(u64, u64)>;

impl Fold {
    pub(crate) fn new(plan: &Inner) -> Fold {
        Fold {
            single: plan.kinds.iter().map(|kind| alloc::vec![None; kind.counters.len()]).collect(),
            kinds: plan.kinds.iter().map(|_| BTreeMap::new()).collect(),
            ..Fold::default()
        }
    }

    /// Takes a record in if its only counter is one more than before. Says whether it is, as nearly always; if not, it is still to be taken in.
    #[inline(always)]
    pub(crate) fn step(&mut self, number: u16, kind: &Kind, cells: &Cells<'_>) -> bool {
        let counted = self.single.get_mut(usize::from(number));
        let (Some([Some((_, last))]), [counter]) = (counted.map(|counted| &mut **counted), &*kind.counters) else {
            return false;
        };
        let found = cells.count(counter);
        let goes_on = found == Some(counter.after(*last));
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
        if kind.counters.is_empty() {
            return;
        }
        match self.single.get_mut(usize::from(number)) {
            Some(counted) if kind.series.is_empty() => count(number, kind, cells, counted, notices),
            _ => self.record_of_series(plan, number, kind, cells, notices),
        }
    }

    /// Whether this fold, had it begun where another ended, would have said the same.
    pub(crate) fn would_follow(&self, plan: &Inner, before: &Fold) -> bool {
        let singles = self.single.iter().zip(&before.single).zip(&plan.kinds);
        let mut known = before.known;
        let goes_on = singles.into_iter().all(|((counted, before), kind)| goes_on(kind, before, counted))
            && self.kinds.iter().zip(&before.kinds).zip(&plan.kinds).all(|((series, before), kind)| {
                series.iter().all(|(key, counted)| match before.get(key) {
                    Some(before) => goes_on(kind, before, counted),
                    None => {
                        known += 1;
                        true
                    }
                })
            });
        // Where no more series are followed, a new one is not followed either.
        let most = if before.full { before.known } else { plan.limits.series };
        goes_on && !self.full && known <= most
    }

    /// Becomes the fold of what another saw, and then of what this one saw.
    pub(crate) fn follow(&mut self, before: Fold) {
        for (counted, before) in self.single.iter_mut().zip(&before.single) {
            put_before(before, counted);
        }
        self.full = before.full;
        self.known = 0;
        for (series, mut before) in self.kinds.iter_mut().zip(before.kinds) {
            for (key, mut counted) in core::mem::take(series) {
                if let Some(before) = before.get(&key) {
                    put_before(before, &mut counted);
                }
                before.insert(key, counted);
            }
            *series = before;
            self.known += series.len();
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
        for field in &kind.series {
            use core::fmt::Write;
            // Values of different fields must not run together. Writing to a Vec does not fail.
            let _ = write!(Key(&mut self.key), "{}\u{1F}", cells.reading(field, 0).value);
        }
        let series = &mut self.kinds[usize::from(number)];
        if !series.contains_key(&self.key) {
            if self.known >= plan.limits.series {
                if !core::mem::replace(&mut self.full, true) {
                    notices(NoticeKind::TooManySeries { kind: number });
                }
                return;
            }
            self.known += 1;
            series.insert(self.key.clone(), alloc::vec![None; kind.counters.len()]);
        }
        let Some(last) = series.get_mut(&self.key) else { return };
        count(number, kind, cells, last, notices);
    }
}

/// Follows the counters of one record of one series.
fn count(number: u16, kind: &Kind, cells: &Cells<'_>, counted: &mut [Counted], notices: &mut impl FnMut(NoticeKind)) {
    for (index, (counter, counted)) in kind.counters.iter().zip(counted).enumerate() {
        let Some(found) = cells.count(counter) else { continue };
        let Some((_, last)) = counted else {
            *counted = Some((found, found));
            continue;
        };
        let expected = counter.after(*last);
        *last = found;
        if expected != found {
            notices(NoticeKind::CounterJump { kind: number, counter: index as u16, expected, found });
        }
    }
}

/// Whether counters go on where others ended, so that nothing would have been said at their first values.
fn goes_on(kind: &Kind, before: &[Counted], counted: &[Counted]) -> bool {
    kind.counters.iter().zip(before).zip(counted).all(|((counter, before), counted)| match (before, counted) {
        (Some((_, last)), Some((first, _))) => counter.after(*last) == *first,
        _ => true,
    })
}

/// Puts what came before in front.
fn put_before(before: &[Counted], counted: &mut [Counted]) {
    for (before, counted) in before.iter().zip(counted) {
        *counted = match (*before, *counted) {
            (Some((first, _)), Some((_, last))) => Some((first, last)),
            (before, counted) => counted.or(before),
        };
    }
}

struct Key<'a>(&'a mut Vec<u8>);

impl core::fmt::Write for Key<'_> {
    fn write_str(&mut self, text: &str) -> core::fmt::Result {
        self.0.extend_from_slice(text.as_bytes());
        Ok(())
    }
}
