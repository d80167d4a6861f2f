//! The latest of another record: its fields are copied into those that ask for them.

use alloc::vec::Vec;

use super::{Bench, Told};
use crate::plan::Latest;
use crate::record::{Of, Row};

/// For each slot, what came last.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Latests(Vec<Row>);

impl Latests {
    pub(super) fn tell(&mut self, latest: &Latest, told: Told<'_>, bench: &mut Bench<'_>) {
        let Told::Row(row) = told else { return };
        let row = match latest.kinds.contains(&row.kind) {
            true => self.with_latest(latest, row, bench),
            false => row,
        };
        for of in &latest.of {
            let Some(kept_as) = of.of.iter().find(|kept_as| kept_as.from == row.kind) else { continue };
            let copy = row.again(&mut bench.room.spent).kept_as(kept_as.layout).in_slot(of.slot);
            match self.0.iter_mut().find(|known| known.slot == of.slot) {
                Some(known) => core::mem::replace(known, copy).spend(&mut bench.room.spent),
                None => self.0.push(copy),
            }
        }
        bench.pass(row);
    }

    /// A record with what came last of others, unless that is too old.
    fn with_latest(&self, latest: &Latest, row: Row, bench: &mut Bench<'_>) -> Row {
        let now = row.completed();
        let is_fresh = |known: &&Row| {
            let of = latest.of.iter().find(|of| of.slot == known.slot);
            let age = now.zip(known.completed()).map(|(now, then)| now.since(then));
            age.is_none_or(|age| of.is_none_or(|of| age <= of.within))
        };
        let fresh: Vec<Row> = self.0.iter().filter(is_fresh).map(|known| known.again(&mut bench.room.spent)).collect();
        match row.of {
            Of::Rows(mut rows) => {
                rows.extend(fresh);
                Row { of: Of::Rows(rows), ..row }
            }
            Of::Frame(_) => {
                let kind = row.kind;
                let mut rows = bench.list();
                rows.push(row);
                rows.extend(fresh);
                Row::of_rows(kind, rows, Vec::new())
            }
        }
    }
}
