//! Fields that are copied from the latest of another record.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::{Composer, WITHIN};
use crate::format;
use crate::plan::{KeptAs, Latest, LatestOf, Output, Stage, Standing, What};
use crate::problem::{ProblemKind, nearest};
use crate::schema::FieldSchema;

/// The first slot of what is copied: no record has so many others.
const FIRST: u16 = 0x8000;

impl Composer<'_> {
    /// Adds the fields that are copied to all records that ask for some.
    pub(super) fn latest(&mut self) {
        let format = self.format;
        let records = format.records.iter().map(|record| &record.latest);
        let multiparts = format.multiparts.iter().map(|multipart| &multipart.latest);
        let exchanges = format.exchanges.iter().map(|exchange| &exchange.latest);
        let units = format.units.iter().map(|unit| &unit.latest);
        let merges = format.merges.iter().map(|merge| &merge.latest);
        let all = records.chain(multiparts).chain(exchanges).chain(units).chain(merges).enumerate();
        for (number, declared) in all.filter(|(_, declared)| !declared.is_empty()) {
            self.latest_of(number, declared);
        }
    }

    fn latest_of(&mut self, number: usize, declared: &[format::Latest]) {
        let mut of: Vec<(usize, LatestOf)> = Vec::new();
        let mut added: Vec<(FieldSchema, Standing)> = Vec::new();
        for entry in declared {
            let Some((kind, field)) = entry.of.value.split_once('.') else {
                let why = "`of` names a field of a record, as \"record.field\"";
                self.problems.add(entry.of.span.clone(), ProblemKind::Senseless(why));
                continue;
            };
            let name = format::Spanned { span: entry.of.span.clone(), value: kind.into() };
            let Some(source) = self.schema.kinds.iter().position(|known| known.name == kind) else {
                // Says what is unknown.
                self.kept_as(number, &name);
                continue;
            };
            let within = entry.within.unwrap_or(WITHIN);
            let known = of.iter().find(|(known, of)| *known == source && of.within == within);
            let (slot, taken) = match known {
                Some((_, of)) => (of.slot, of.of.clone()),
                None => {
                    let Some(taken) = self.kept_as(number, &name) else { continue };
                    let slot = FIRST + of.len() as u16;
                    of.push((source, LatestOf { slot, of: taken.clone(), within }));
                    (slot, taken)
                }
            };
            added.extend(self.copied(number, entry, field, slot, &taken, &added));
        }
        let kinds: Box<[u16]> = (0..self.kinds.len() as u16)
            .filter(|place| {
                let kind = &self.kinds[usize::from(*place)];
                usize::from(kind.record) == number && !kind.is_part
            })
            .collect();
        for place in &kinds {
            let kind = &mut self.kinds[usize::from(*place)];
            for (schema, standing) in &added {
                kind.outputs.push(Output::new(schema.clone(), What::Of([*standing].into()), None));
            }
            Output::number(&mut kind.outputs);
            kind.near = kind.outputs.iter().all(Output::is_near);
        }
        if let Some(first) = kinds.first() {
            let outputs = &self.kinds[usize::from(*first)].outputs;
            self.schema.kinds[number].fields = outputs.iter().map(|output| (*output.schema).clone()).collect();
        }
        let of = of.into_iter().map(|(_, of)| of).collect();
        self.stages.push(Stage::Latest(Latest { kinds, of }));
    }

    /// The schema of a field that is copied, and where it stands.
    fn copied(
        &mut self,
        number: usize,
        entry: &format::Latest,
        field: &str,
        slot: u16,
        taken: &[KeptAs],
        added: &[(FieldSchema, Standing)],
    ) -> Option<(FieldSchema, Standing)> {
        let outputs = &self.kinds[usize::from(taken.first()?.layout)].outputs;
        let Some(place) = outputs.iter().position(|output| output.schema.name == field) else {
            let nearest = nearest(field, outputs.iter().map(|output| output.schema.name.as_str()));
            let kind = ProblemKind::UnknownName { what: "field", name: field.into(), nearest };
            self.problems.add(entry.of.span.clone(), kind);
            return None;
        };
        let own = &self.schema.kinds[number].fields;
        let mut names = own.iter().chain(added.iter().map(|(schema, _)| schema)).map(|schema| schema.name.as_str());
        if names.any(|name| name == entry.name.value) {
            let kind = ProblemKind::Twice { what: "field", name: entry.name.value.clone() };
            self.problems.add(entry.name.span.clone(), kind);
            return None;
        }
        let schema = FieldSchema {
            name: entry.name.value.clone(),
            title: entry.title.clone().or(outputs[place].schema.title.clone()),
            tag: entry.tag.clone(),
            ..(*outputs[place].schema).clone()
        };
        Some((schema, Standing { slot, output: place as u16 }))
    }
}
