//! Multiparts: records that number themselves.

use alloc::vec::Vec;

use super::{Composer, Fields, WITHIN, group};
use crate::format;
use crate::plan::{Multipart, Stage, Standing, What};
use crate::problem::{ProblemKind, nearest};
use crate::schema::FieldSchema;
use crate::value::ValueType;

impl Composer<'_> {
    pub(super) fn multipart(&mut self, number: usize, declared: &format::Multipart) {
        let Some(of) = self.kept_as(number, &declared.of) else { return };
        let layouts: Vec<u16> = of.iter().map(|kept_as| kept_as.layout).collect();
        let key: Vec<_> = [&declared.part, &declared.parts].into_iter().chain(&declared.key).cloned().collect();
        self.key(&layouts, &key, &declared.of.value);
        let Some(first) = layouts.first().copied() else { return };
        let (mut fields, mut join) = (Fields::default(), Vec::new());
        for (place, output) in self.kinds[usize::from(first)].outputs.iter().enumerate() {
            let standing = Standing { slot: 0, output: place as u16 };
            let schema = (*output.schema).clone();
            let is_joined = declared.join.iter().any(|name| name.value == schema.name);
            let what = match schema.value_type {
                // Once all are there, they say nothing.
                _ if [&declared.part, &declared.parts].iter().any(|name| name.value == schema.name) => continue,
                ValueType::Group | ValueType::List => What::Joined(standing),
                ValueType::Text if is_joined => {
                    join.push(place as u16);
                    What::Made(join.len() as u16 - 1)
                }
                _ => What::Of([standing].into()),
            };
            let schema = match schema.value_type {
                ValueType::Group => FieldSchema { value_type: ValueType::Group, ..group_of(&schema) },
                _ => schema,
            };
            fields.0.push((schema, what));
        }
        for name in &declared.join {
            let outputs = || self.kinds[usize::from(first)].outputs.iter();
            let is_text = |output: &&crate::plan::Output| output.schema.value_type == ValueType::Text;
            if !outputs().filter(is_text).any(|output| output.schema.name == name.value) {
                let nearest = nearest(&name.value, outputs().filter(is_text).map(|output| output.schema.name.as_str()));
                let kind = ProblemKind::UnknownName { what: "field with a text", name: name.value.clone(), nearest };
                self.problems.add(name.span.clone(), kind);
            }
        }
        self.hide(&of);
        self.give(number, fields, first);
        let within = declared.within.unwrap_or(WITHIN);
        let (kind, unique) = (number as u16, declared.unique);
        self.stages.push(Stage::Multipart(Multipart { kind, of, within, unique, join: join.into() }));
    }
}

fn group_of(schema: &FieldSchema) -> FieldSchema {
    group(&schema.name, schema.title.clone(), schema.items.clone())
}
