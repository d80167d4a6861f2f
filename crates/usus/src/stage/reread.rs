//! Rereading: a frame is held until the next one comes, and its record chosen by the one before it.

use alloc::collections::BTreeMap;
use alloc::vec::Vec;

use super::Said;
use crate::input::LineId;
use crate::record::Row;

/// For each line, what was claimed last, and what is held with what was claimed before it.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Rereading(BTreeMap<LineId, Claims>);

#[derive(Clone, Debug, Default, PartialEq)]
struct Claims {
    last: Option<u16>,
    held: Option<(Option<u16>, Row)>,
}

impl Rereading {
    /// Takes a record in. One of `kind` is read as `other` if the one before it was of `kind`, too.
    pub(super) fn record(&mut self, kind: u16, other: u16, row: Row, behind: &mut Vec<Said>) {
        let Some(line) = row.parts.first().map(|kept| kept.origin.line) else { return };
        let line = self.0.entry(line).or_default();
        if let Some((before, mut held)) = line.held.take() {
            if before == Some(kind)
                && let Some(kept) = held.parts.first_mut()
                && kept.read_as(other)
            {
                held.kind = other;
            }
            behind.push(Said::Record(held));
        }
        let before = line.last.replace(row.kind);
        match row.kind == kind {
            true => line.held = Some((before, row)),
            false => behind.push(Said::Record(row)),
        }
    }

    pub(super) fn finish(&mut self, behind: &mut Vec<Said>) {
        for line in self.0.values_mut() {
            behind.extend(line.held.take().map(|(_, row)| Said::Record(row)));
        }
    }
}
