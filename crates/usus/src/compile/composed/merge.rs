//! Merges: records with the same key.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::{Composer, Fields, WITHIN, condition};
use crate::compile::variants::both;
use crate::expression::Type;
use crate::format;
use crate::plan::{KeptAs, Merge, Stage};
use crate::problem::{ProblemKind, nearest};

impl Composer<'_> {
    pub(super) fn merge(&mut self, number: usize, declared: &format::Merge) {
        let mut of: Vec<Box<[KeptAs]>> = Vec::new();
        let (mut fields, mut first) = (Fields::default(), None);
        for (slot, name) in declared.of.iter().enumerate() {
            if declared.of[..slot].iter().any(|other| other.value == name.value) {
                let kind = ProblemKind::Twice { what: "record", name: name.value.clone() };
                self.problems.add(name.span.clone(), kind);
                continue;
            }
            let Some(taken) = self.kept_as(number, name) else { continue };
            let layouts: Vec<u16> = taken.iter().map(|kept_as| kept_as.layout).collect();
            self.key(&layouts, &declared.key, &name.value);
            if let Some(layout) = layouts.first() {
                first = first.or(Some(*layout));
                fields.add(slot as u16, &self.kinds[usize::from(*layout)], &name.span, &|_| true, self.problems);
            }
            self.hide(&taken);
            of.push(taken);
        }
        self.check_keys(declared, &of);
        if declared.of.len() == 1 {
            let why = "a merge needs more than one record";
            self.problems.add(declared.name.span.clone(), ProblemKind::Senseless(why));
        }
        let complete = declared.complete.as_ref().and_then(|complete| {
            let names = || declared.of.iter().map(|name| name.value.as_str());
            let mut resolve = |name: &str| match names().position(|known| known == name) {
                Some(slot) => Ok((slot as u16, Type::Condition)),
                None => Err(nearest(name, names())),
            };
            condition(complete, "record of this merge", &mut resolve, self.problems)
        });
        let (Some(first), true) = (first, of.len() == declared.of.len()) else { return };
        self.give(number, fields, first);
        self.stages.push(Stage::Merge(Merge {
            kind: number as u16,
            of: of.into(),
            complete,
            within: declared.within.unwrap_or(WITHIN),
            open: declared.open.unwrap_or(1),
        }));
    }

    /// Reports keys of which values of one record can never be values of another.
    fn check_keys(&mut self, declared: &format::Merge, of: &[Box<[KeptAs]>]) {
        for key in &declared.key {
            let types = of.iter().filter_map(|taken| {
                let outputs = &self.kinds[usize::from(taken.first()?.layout)].outputs;
                let output = outputs.iter().find(|output| output.schema.name == key.value)?;
                Some(output.schema.value_type)
            });
            let types: Vec<_> = types.collect();
            if types.iter().any(|other| both(types[0], *other).is_none()) {
                let kind = ProblemKind::NotAlike { name: key.value.clone() };
                self.problems.add(key.span.clone(), kind);
            }
        }
    }
}
