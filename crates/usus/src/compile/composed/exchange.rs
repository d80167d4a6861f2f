//! Exchanges: questions with their answers.

use alloc::boxed::Box;
use alloc::string::String;
use alloc::vec::Vec;

use super::{Composer, Fields, WITHIN, called, made};
use crate::compile::field::expression_type;
use crate::expression::Type;
use crate::format;
use crate::plan::{AskedOf, By, Envelope, Exchange, KeptAs, Member, Side, Stage, What};
use crate::problem::ProblemKind;
use crate::schema::{FieldSchema, Numbers};
use crate::value::ValueType;

impl Composer<'_> {
    pub(super) fn exchange(&mut self, number: usize, declared: &format::Exchange) {
        let mut members: Vec<Member> = Vec::new();
        let (mut fields, mut is_sound, mut answered) = (Fields::default(), true, Fields::default());
        let sides = [
            (Side::Question, "question", &declared.asks),
            (Side::Answer, "answer", &declared.answers),
            (Side::Error, "error", &declared.errors),
        ];
        let mut ask: Vec<(String, Type)> = Vec::new();
        for (is, what, sides) in sides {
            for (index, side) in sides.iter().enumerate() {
                let slot = members.len() as u16;
                let name = called(&declared.name.value, what, index, sides.len() > 1);
                let asked = if is == Side::Question { &[][..] } else { &ask[..] };
                let called = match side {
                    format::Side::Kind(name) => name.value.clone(),
                    format::Side::Own(_) => name.clone(),
                };
                let Some((by, span)) = self.side(number, name, side, asked) else {
                    is_sound = false;
                    continue;
                };
                let layouts = layouts_of(&by);
                self.key(&layouts, &declared.key, &called);
                let Some(kind) = layouts.first().map(|layout| &self.kinds[usize::from(*layout)]) else { continue };
                match is {
                    // What two questions both have is one field, and so is what two answers have.
                    Side::Question => fields.add(slot, kind, &span, &|_| true, self.problems),
                    Side::Answer | Side::Error => answered.add(slot, kind, &span, &|_| true, self.problems),
                }
                members.push(Member { slot, is, by });
            }
            if is == Side::Question {
                ask = self.asked_names(&members);
            }
        }
        let asked = self.asked(&members, &ask);
        let headers: Vec<String> = self.header_names(&members);
        for (schema, what) in answered.0 {
            let is_shared = fields.0.iter().any(|(known, _)| known.name == schema.name);
            match is_shared {
                // The question says it.
                true if declared.key.iter().any(|key| key.value == schema.name) => {}
                true if headers.contains(&schema.name) => {}
                true => self.problems.add(declared.name.span.clone(), ProblemKind::Shared { name: schema.name }),
                false => fields.add_one(schema, what, &declared.name.span, self.problems),
            }
        }
        let modbus = self.modbus(&members);
        let made = of_all().into_iter().chain(modbus.map(|_| of_modbus()));
        for (place, schema) in made.enumerate() {
            fields.add_one(schema, What::Made(place as u16), &declared.name.span, self.problems);
        }
        let Some(first) = members.first().and_then(|member| layouts_of(&member.by).first().copied()) else { return };
        if !is_sound {
            return;
        }
        self.give(number, fields, first);
        let exchange = Exchange {
            kind: number as u16,
            members: members.into(),
            within: declared.within.unwrap_or(WITHIN),
            open: declared.open.unwrap_or(1),
            echo: declared.echo,
            has_key: !declared.key.is_empty(),
            unique: declared.unique,
            modbus,
            routes: Box::default(),
            ask_routes: Box::default(),
            asked,
        };
        self.stages.push(Stage::Exchange([exchange].into()));
    }

    /// A question or an answer, and where it is declared.
    fn side(
        &mut self,
        number: usize,
        what: String,
        side: &format::Side,
        ask: &[(String, Type)],
    ) -> Option<(By, core::ops::Range<usize>)> {
        match side {
            format::Side::Kind(name) => {
                let taken = self.kept_as(number, name)?;
                self.hide(&taken);
                Some((By::Record(taken), name.span.clone()))
            }
            format::Side::Own(record) => {
                let layout = self.own(number, what, record, None, ask)?;
                Some((By::Layout(layout), record.kind.span.clone()))
            }
        }
    }

    /// Whether all of them are messages of Modbus, alike; then where those lie in their contents.
    fn modbus(&self, members: &[Member]) -> Option<Envelope> {
        let mut envelopes = members.iter().flat_map(|member| layouts_of(&member.by)).map(|layout| {
            let frame = usize::from(self.kinds[usize::from(layout)].frame);
            self.drafts[frame].frame.modbus.map(|(_, envelope)| envelope)
        });
        let first = envelopes.next()?;
        first.filter(|_| envelopes.all(|envelope| envelope == first))
    }

    /// What the headers of their frames say.
    fn header_names(&self, members: &[Member]) -> Vec<String> {
        let frames = members.iter().flat_map(|member| layouts_of(&member.by)).map(|layout| {
            let frame = self.kinds[usize::from(layout)].frame;
            &self.format.frames[usize::from(frame)]
        });
        let names = frames.flat_map(|frame| &frame.header).filter_map(|field| field.name.as_ref());
        names.map(|name| name.value.clone()).collect()
    }

    /// The fields of the questions, by which the conditions of answers may ask.
    fn asked_names(&self, members: &[Member]) -> Vec<(String, Type)> {
        let mut names: Vec<(String, Type)> = Vec::new();
        for layout in members.iter().flat_map(|member| layouts_of(&member.by)) {
            for (name, field) in &self.known[usize::from(layout)] {
                if let Some(found) = expression_type(field)
                    && !names.iter().any(|(known, _)| known == name)
                {
                    names.push((name.clone(), found));
                }
            }
        }
        names
    }

    fn asked(&self, members: &[Member], ask: &[(String, Type)]) -> Box<[AskedOf]> {
        let questions = members.iter().filter(|member| member.is == Side::Question);
        let of = |layout: u16| {
            let known = &self.known[usize::from(layout)];
            let field = |(name, _): &(String, Type)| {
                known.iter().find(|(known, _)| known == name).map(|(_, field)| field.clone())
            };
            AskedOf { layout, fields: ask.iter().map(field).collect() }
        };
        questions.flat_map(|member| layouts_of(&member.by)).map(of).collect()
    }
}

fn layouts_of(by: &By) -> Vec<u16> {
    match by {
        By::Layout(layout) => [*layout].to_vec(),
        By::Record(taken) => taken.iter().map(|kept_as: &KeptAs| kept_as.layout).collect(),
    }
}

/// What one of Modbus says.
fn of_modbus() -> FieldSchema {
    made("bits", "Coils or discrete inputs, the first address first", ValueType::Text)
}

/// What every exchange says.
fn of_all() -> [FieldSchema; 3] {
    let latency = Numbers { places: 3, least: i128::from(i64::MIN) / 1_000, most: i128::from(i64::MAX) / 1_000 };
    [
        made("outcome", "Whether the question was answered", ValueType::Text),
        FieldSchema {
            unit: Some("ms".into()),
            numbers: Some(latency),
            ..made("latency", "From the question's last byte to the answer's first", ValueType::Decimal)
        },
        FieldSchema {
            numbers: Some(Numbers { places: 0, least: 0, most: i128::from(u32::MAX) }),
            ..made("retry", "How often it was asked before without an answer", ValueType::Integer)
        },
    ]
}
