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
    /// For each kind without series, the last value of each counter.
    single: Vec<Vec<Option<u64>>>,
    /// For each kind, its series by the bytes of their fields, with the last value of each counter.
    kinds: Vec<BTreeMap<Vec<u8>, Vec<Option<u64>>>>,
    /// The series at hand; kept so that looking one up allocates nothing.
    key: Vec<u8>,
    known: usize,
    full: bool,
}

impl Fold {
    pub(crate) fn new(plan: &Inner) -> Fold {
        Fold {
            single: plan.kinds.iter().map(|kind| alloc::vec![None; kind.counters.len()]).collect(),
            kinds: plan.kinds.iter().map(|_| BTreeMap::new()).collect(),
            ..Fold::default()
        }
    }

    /// Takes a record in, and says what it means beside those before it.
    #[inline(always)]
    pub(crate) fn record(
        &mut self,
        plan: &Inner,
        number: u16,
        cells: &Cells<'_>,
        notices: &mut impl FnMut(NoticeKind),
    ) {
        let kind = &plan.kinds[usize::from(number)];
        if kind.counters.is_empty() {
            return;
        }
        if kind.series.is_empty() {
            count(number, kind, cells, &mut self.single[usize::from(number)], notices);
            return;
        }
        self.record_of_series(plan, number, cells, notices);
    }

    fn record_of_series(&mut self, plan: &Inner, number: u16, cells: &Cells<'_>, notices: &mut impl FnMut(NoticeKind)) {
        let kind = &plan.kinds[usize::from(number)];
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
#[inline(always)]
fn count(number: u16, kind: &Kind, cells: &Cells<'_>, last: &mut [Option<u64>], notices: &mut impl FnMut(NoticeKind)) {
    for (index, (counter, last)) in kind.counters.iter().zip(last).enumerate() {
        let Some(found) = cells.count(&counter.field) else { continue };
        let expected = last.map(|last| if last >= counter.last { 0 } else { last + 1 });
        if let Some(expected) = expected.filter(|expected| *expected != found) {
            notices(NoticeKind::CounterJump { kind: number, counter: index as u16, expected, found });
        }
        *last = Some(found);
    }
}

struct Key<'a>(&'a mut Vec<u8>);

impl core::fmt::Write for Key<'_> {
    fn write_str(&mut self, text: &str) -> core::fmt::Result {
        self.0.extend_from_slice(text.as_bytes());
        Ok(())
    }
}
