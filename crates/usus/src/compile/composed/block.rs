//! Blocks: parts that follow one another.

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::{Composer, Fields, WITHIN, called, condition, group};
use crate::compile::field::expression_type;
use crate::compile::printed;
use crate::expression::{Expression, Type};
use crate::format::{self, Part, Record, Repeat};
use crate::plan::{Block, BlockPart, Form, Required, Stage, What};
use crate::problem::{ProblemKind, nearest};

impl Composer<'_> {
    pub(super) fn block(&mut self, number: usize, record: &Record, declared: &format::Block) {
        self.refuse_beside_parts(record);
        let mut parts = Vec::new();
        let mut fields = Fields::default();
        for (index, part) in declared.parts.iter().enumerate() {
            self.check_part(part, index + 1 == declared.parts.len());
            let what = match &part.name {
                Some(name) => alloc::format!("{}, {}", record.kind.value, name.value),
                None => called(&record.kind.value, "part", index, true),
            };
            let Some(layout) = self.own(number, what, &part.layout, record.frame.as_ref(), &[]) else { continue };
            self.add_fields(&mut fields, index as u16, part, layout);
            let until = self.until(part, layout);
            let until_empty = part.until.iter().any(|until| until.value.is_empty());
            parts.push(BlockPart { layout, repeat: part.repeat, until_empty, until });
        }
        // Whatever is wrong with a part is told.
        if parts.len() < declared.parts.len() {
            return;
        }
        let require = self.require(record, declared, &parts);
        if let Some(first) = parts.first() {
            self.give(number, fields, first.layout);
        }
        let within = declared.within.unwrap_or(WITHIN);
        let (kind, any_order) = (number as u16, declared.any_order);
        self.stages.push(Stage::Block(Block { kind, parts: parts.into(), any_order, within, require }));
    }

    /// Reports what a record with parts cannot have beside them.
    fn refuse_beside_parts(&mut self, record: &Record) {
        let beside = [
            ("when", record.when.as_ref().map(|when| when.span.clone())),
            ("printed", record.printed.first().map(|printed| printed.span.clone())),
            ("pattern", record.pattern.as_ref().map(|pattern| pattern.span.clone())),
            ("heading", record.heading.as_ref().map(|heading| heading.span.clone())),
            ("read", record.read.as_ref().map(|read| read.span.clone())),
            ("series", record.series.first().map(|name| name.span.clone())),
            ("fields", record.fields.first().map(|field| field.span.clone())),
            ("variant", record.variants.first().map(|variant| variant.kind.span.clone())),
            ("checksum", record.checksum.map(|_| record.kind.span.clone())),
            ("more", record.more.then(|| record.kind.span.clone())),
        ];
        for (key, span) in beside {
            if let Some(span) = span {
                let with = "`part`: it belongs to the parts".to_string();
                self.problems.add(span, ProblemKind::Conflict { key, with });
            }
        }
    }

    fn check_part(&mut self, part: &Part, is_last: bool) {
        let span = part.layout.kind.span.clone();
        if part.repeat == Repeat::Any && part.name.is_none() {
            self.problems
                .add(span.clone(), ProblemKind::MissingKey { key: "name", table: "a part that may come often" });
        }
        if part.repeat != Repeat::Any
            && let Some(until) = part.until.first()
        {
            let with = "a part that comes once: it ends by itself".to_string();
            self.problems.add(until.span.clone(), ProblemKind::Conflict { key: "until", with });
        }
        let layout = &part.layout;
        let takes_all = layout.when.is_none() && layout.printed.is_empty() && layout.pattern.is_none();
        if part.repeat == Repeat::Any && takes_all && part.until.is_empty() {
            let why = match is_last {
                true => {
                    "this part takes every line and never ends: `printed`, `when` or `until` can tell where it does"
                }
                false => {
                    "this part takes every line, so that none is left for those behind it: `printed`, `when` or `until` can tell where it ends"
                }
            };
            self.problems.add(span, ProblemKind::Senseless(why));
        }
    }

    fn add_fields(&mut self, fields: &mut Fields, slot: u16, part: &Part, layout: u16) {
        let kind = &self.kinds[usize::from(layout)];
        let span = &part.layout.kind.span;
        match (part.repeat, &part.name) {
            (Repeat::Any, Some(name)) => {
                let items: Vec<_> = kind.outputs.iter().map(|output| (*output.schema).clone()).collect();
                if items.is_empty() {
                    return;
                }
                let schema = group(&name.value, part.layout.title.clone(), items);
                fields.add_one(schema, What::Parts(slot), &name.span, self.problems);
            }
            (Repeat::Any, None) => {}
            (Repeat::Once | Repeat::Optional, _) => {
                let own = |name: &str| {
                    part.layout.fields.iter().any(|field| field.name.as_ref().is_some_and(|own| own.value == name))
                };
                // What a header says, every part says.
                fields.add(slot, kind, span, &|name| !own(name), self.problems);
            }
        }
    }

    /// The look of lines that end a part.
    fn until(&mut self, part: &Part, layout: u16) -> Option<Box<Form>> {
        let printed: Vec<_> = part.until.iter().filter(|until| !until.value.is_empty()).cloned().collect();
        if printed.is_empty() {
            return None;
        }
        let frame = usize::from(self.kinds[usize::from(layout)].frame);
        let declared = &self.format.frames[frame];
        if declared.reads() == format::Read::Bytes {
            let with = "a frame that is read as bytes".to_string();
            self.problems.add(printed[0].span.clone(), ProblemKind::Conflict { key: "until", with });
            return None;
        }
        let declaration = printed::Declaration {
            printed: &printed,
            pattern: None,
            fields: &[],
            any_name: true,
            charsets: &declared.charsets,
        };
        let (form, _) = declaration.compile(&mut self.shared.forms, self.problems);
        form
    }

    /// What has to hold at the end, and what it asks.
    fn require(
        &mut self,
        record: &Record,
        declared: &format::Block,
        parts: &[BlockPart],
    ) -> Option<(Expression<u16>, Box<[Required]>)> {
        let require = declared.require.as_ref()?;
        let known = &*self.known;
        let fields_of = |place: usize| &known[usize::from(parts[place].layout)];
        let part_named = |name: &str| {
            declared.parts.iter().position(|part| part.name.as_ref().is_some_and(|known| known.value == name))
        };
        let mut asked: Vec<Required> = Vec::new();
        let mut resolve = |name: &str| -> Result<(u16, Type), Option<String>> {
            let inner = |word: &str| name.strip_prefix(word)?.strip_prefix('(')?.strip_suffix(')').map(str::trim);
            let found = if let Some(part) = inner("count") {
                let place = part_named(part).ok_or_else(|| self::counted(declared))?;
                (Required::Count(place as u16), Type::Number)
            } else if let Some(path) = inner("sum") {
                let (part, field) = path.split_once('.').ok_or_else(|| self::counted(declared))?;
                let place = part_named(part).ok_or_else(|| self::counted(declared))?;
                let known = fields_of(place).iter().find(|(known, _)| known == field);
                let (_, field) = known.ok_or_else(|| {
                    let nearest = nearest(field, fields_of(place).iter().map(|(known, _)| known.as_str()));
                    nearest.map(|nearest| alloc::format!("sum({part}.{nearest})"))
                })?;
                (Required::Sum(place as u16, Box::new(field.clone())), Type::Number)
            } else {
                let single = (0..parts.len()).filter(|place| parts[*place].repeat != Repeat::Any);
                let all = || single.clone().flat_map(|place| fields_of(place).iter().map(move |known| (place, known)));
                let found = all().find(|(_, (known, _))| known == name);
                match found.and_then(|(place, (_, field))| Some((place, field, expression_type(field)?))) {
                    Some((place, field, found)) => (Required::Field(place as u16, Box::new(field.clone())), found),
                    None => return Err(nearest(name, all().map(|(_, (known, _))| known.as_str()))),
                }
            };
            asked.push(found.0);
            Ok((asked.len() as u16 - 1, found.1))
        };
        let checked = condition(require, "field or part", &mut resolve, self.problems);
        let _ = record;
        Some((checked?, asked.into()))
    }
}

/// The nearest to what can be counted.
fn counted(declared: &format::Block) -> Option<String> {
    let name = declared.parts.iter().find_map(|part| part.name.as_ref())?;
    Some(alloc::format!("count({})", name.value))
}
