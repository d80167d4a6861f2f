//! Columns that a line of the device names: which field of the lines behind it stands where.

use alloc::vec::Vec;

use crate::framing::Columns;
use crate::plan::{Heading, Inner};
use crate::read::Cells;
use crate::reason::Reason;

/// What the last headings of a line have named.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Headings {
    /// Where the last one stands.
    pub(crate) last: Option<u64>,
    /// For each layout that has a heading, where its fields are.
    named: Vec<Named>,
}

#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Named {
    is_known: bool,
    /// How many columns the heading has.
    count: usize,
    places: Vec<Place>,
}

/// Where a label stands in a heading.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    Nowhere,
    At(usize),
    /// In several columns: nobody knows which is meant.
    Twice,
}

impl Headings {
    /// Takes in a line that names the columns of those behind it.
    pub(crate) fn learn(&mut self, plan: &Inner, record: u16, cells: &Cells<'_>, step: usize) {
        self.named.resize_with(plan.kinds.len(), Named::default);
        let count = if step == 1 { cells.column_count() } else { cells.apart_count() };
        for (kind, named) in plan.kinds.iter().zip(&mut self.named) {
            let Some(heading) = kind.heading.as_ref().filter(|heading| heading.record == record) else { continue };
            (named.is_known, named.count) = (true, count);
            named.places.clear();
            named.places.resize(heading.labels.len(), Place::Nowhere);
            for column in 0..count {
                let name = cells.column(column * step).map_or(&[][..], |column| column.text().trim_ascii());
                for (_, place) in heading.labels.iter().zip(&mut named.places).filter(|(label, _)| ***label == *name) {
                    *place = if *place == Place::Nowhere { Place::At(column) } else { Place::Twice };
                }
            }
        }
    }

    /// Lays the columns found of a text out in the order of its record's fields: first those of the header, then those that the heading names.
    pub(crate) fn spread(&self, kind: u16, heading: &Heading, more: bool, columns: &mut Columns) -> Result<(), Reason> {
        let named = self.named.get(usize::from(kind)).filter(|named| named.is_known);
        let Some(named) = named else { return Err(Reason::NoHeading { kind }) };
        let found = columns.set_aside();
        let (needed, found32) = (named.count as u32, found as u32);
        if found < named.count {
            return Err(Reason::Columns { kind, needed, found: found32 });
        }
        if found > named.count {
            return Err(Reason::MoreColumns { kind, declared: needed, found: found32 });
        }
        (0..heading.front.min(found)).for_each(|column| columns.bring_back(column));
        let mut used = 0;
        for (label, place) in named.places.iter().enumerate() {
            match place {
                Place::At(column) => {
                    used += usize::from(*column >= heading.front);
                    columns.bring_back(*column);
                }
                Place::Nowhere if !heading.required[label] => columns.add_absent(),
                _ => return Err(Reason::NotNamed { kind, label: label as u16 }),
            }
        }
        if !more && heading.front + used < found {
            let declared = (heading.front + used) as u32;
            return Err(Reason::MoreColumns { kind, declared, found: found32 });
        }
        Ok(())
    }

    /// Nothing is known behind missing bytes.
    pub(crate) fn forget(&mut self) {
        self.last = None;
        self.named.iter_mut().for_each(|named| named.is_known = false);
    }
}
