//! Compiling records that are made of several frames: which layouts stand in their slots, and what their fields are.
//!
//! What is checked and joined for all of them is here; each kind of stage has a file of its own beside it.

mod block;
mod exchange;
mod latest;
mod merge;
mod multipart;
mod points;

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use super::record::{Compiled, compile_record};
use super::variants::both;
use super::{Draft, Shared, frame_of};
use crate::expression::{self, Expression, ExpressionProblemKind, Resolved, Type};
use crate::format::{self, Format, Record, Spanned, When};
use crate::plan::{
    By, Exchange, Field, KeptAs, Keyed, Kind, Member, Open, Output, Route, Shape, ShapeUnit, Side, Stage, Standing,
    What,
};
use crate::problem::{ProblemKind, Problems, nearest};
use crate::schema::{FieldSchema, Schema};
use crate::time::Span;
use crate::value::ValueType;

/// How long things take that belong together, where nothing is said.
const WITHIN: Span = Span::from_nanoseconds(10_000_000_000);

/// The fields of a layout by their names, also those that are not output.
pub(super) type Known = Vec<(String, Field)>;

/// The layout of a record that is made of several, before it is known what is in it.
pub(crate) fn blank(record: u16) -> Kind {
    Kind {
        record,
        frame: 0,
        when: None,
        form: None,
        checksum_required: false,
        shape: Shape { unit: ShapeUnit::Characters, ..Shape::fixed_bytes(0, 0) },
        gaps: None,
        separation: None,
        parts: None,
        item_gates: Box::default(),
        heading: None,
        names_columns: false,
        gates: Vec::new(),
        outputs: Vec::new(),
        near: false,
        counters: Vec::new(),
        series: Vec::new(),
        wanted: true,
        staged: false,
        is_part: false,
        is_composed: true,
        is_open: false,
        keyed: Box::default(),
        carries: Box::default(),
        exact: None,
    }
}

/// The schema of the records that stand beside `[record]`, in the order in which they are numbered behind those.
pub(super) fn named_beside(format: &Format) -> impl Iterator<Item = (&Spanned<String>, Option<&String>)> {
    let multiparts = format.multiparts.iter().map(|multipart| (&multipart.name, multipart.title.as_ref()));
    let exchanges = format.exchanges.iter().map(|exchange| (&exchange.name, exchange.title.as_ref()));
    let units = format.units.iter().map(|unit| (&unit.name, unit.title.as_ref()));
    let merges = format.merges.iter().map(|merge| (&merge.name, merge.title.as_ref()));
    multiparts.chain(exchanges).chain(units).chain(merges)
}

/// What records of several frames are put together in.
pub(super) struct Composer<'c> {
    format: &'c Format,
    drafts: &'c mut [Draft],
    shared: &'c mut Shared,
    kinds: &'c mut Vec<Kind>,
    /// For each layout, its fields.
    known: &'c mut Vec<Known>,
    schema: &'c mut Schema,
    problems: &'c mut Problems,
    stages: Vec<Stage>,
}

/// Puts all records of several frames together. Gives the stages that make them.
pub(super) fn compose(
    format: &Format,
    drafts: &mut [Draft],
    shared: &mut Shared,
    (kinds, known, schema): (&mut Vec<Kind>, &mut Vec<Known>, &mut Schema),
    problems: &mut Problems,
) -> Vec<Stage> {
    // Of a record that could not be compiled there is no layout; what is wrong with it is told.
    let are_all_there = kinds.len() == known.len() && kinds.len() >= schema.kinds.len();
    if !are_all_there {
        return Vec::new();
    }
    let mut composer = Composer { format, drafts, shared, kinds, known, schema, problems, stages: Vec::new() };
    composer.all();
    let stages = core::mem::take(&mut composer.stages);
    finish(&stages, drafts, kinds, known);
    stages
}

impl Composer<'_> {
    fn all(&mut self) {
        let format = self.format;
        for (number, record) in format.records.iter().enumerate() {
            if let Some(declared) = &record.block {
                self.block(number, record, declared);
            }
        }
        let mut number = format.records.len();
        for multipart in &format.multiparts {
            self.multipart(number, multipart);
            number += 1;
        }
        for exchange in &format.exchanges {
            self.exchange(number, exchange);
            number += 1;
        }
        self.points(number);
        number += format.units.len();
        for merge in &format.merges {
            self.merge(number, merge);
            number += 1;
        }
        self.latest();
    }

    /// Compiles a layout of a record's own, which reads frames for it.
    fn own(
        &mut self,
        number: usize,
        what: String,
        layout: &Record,
        frame: Option<&Spanned<String>>,
        ask: &[(String, Type)],
    ) -> Option<u16> {
        let span = layout.kind.span.clone();
        self.refuse(layout, &span);
        let frame = frame_of(self.format, layout.frame.as_ref().or(frame), &span, self.problems)?;
        let owner = Record { kind: layout.kind.clone(), ..Record::new("") };
        let place = Compiled { format: self.format, owner: &owner, record: layout, frame, what: &what, ask };
        let (Shared { layout: rows, forms, .. }, draft) = (&mut *self.shared, &mut self.drafts[frame]);
        let (mut kind, known) = compile_record(place, draft, rows, forms, self.problems);
        // What counts in a header is followed frame by frame, whatever comes of it.
        kind.counters.clear();
        (kind.record, kind.is_part, kind.wanted) = (number as u16, true, false);
        Output::count_neighbours(&mut kind.outputs);
        Output::number(&mut kind.outputs);
        kind.near = kind.outputs.iter().all(Output::is_near);
        Some(self.add(kind, known))
    }

    /// Reports what no part of a record can have.
    fn refuse(&mut self, layout: &Record, span: &Range<usize>) {
        let with = || "part of a record of several frames".to_string();
        if let Some(heading) = &layout.heading {
            self.problems.add(heading.span.clone(), ProblemKind::Conflict { key: "heading", with: with() });
        }
        if layout.fields.iter().any(|field| field.counter) {
            self.problems.add(span.clone(), ProblemKind::Conflict { key: "counter", with: with() });
        }
    }

    fn add(&mut self, kind: Kind, known: Known) -> u16 {
        self.kinds.push(kind);
        self.known.push(known);
        (self.kinds.len() - 1) as u16
    }

    /// The layouts by which records of a kind are kept for another: a copy of each of its own.
    fn kept_as(&mut self, number: usize, name: &Spanned<String>) -> Option<Box<[KeptAs]>> {
        let of = self.schema.kinds.iter().position(|kind| kind.name == name.value);
        let Some(of) = of.filter(|of| *of != number) else {
            let others = self.schema.kinds.iter().enumerate().filter(|(other, _)| *other != number);
            let nearest = nearest(&name.value, others.map(|(_, kind)| kind.name.as_str()));
            let kind = ProblemKind::UnknownName { what: "record", name: name.value.clone(), nearest };
            self.problems.add(name.span.clone(), kind);
            return None;
        };
        let is_its = |kind: &Kind| usize::from(kind.record) == of && !kind.is_part;
        let its: Vec<u16> =
            (0..self.kinds.len()).filter(|place| is_its(&self.kinds[*place])).map(|it| it as u16).collect();
        if its.iter().any(|from| self.kinds[usize::from(*from)].outputs.is_empty()) {
            let why = "what this is made of is declared behind it, or says nothing";
            self.problems.add(name.span.clone(), ProblemKind::Senseless(why));
            return None;
        }
        let keep = |from: u16| {
            let place = usize::from(from);
            let mut kind = self.kinds[place].clone();
            (kind.record, kind.is_part, kind.wanted) = (number as u16, true, false);
            (kind.counters, kind.series, kind.carries) = (Vec::new(), Vec::new(), Box::default());
            let known = self.known[place].clone();
            KeptAs { from, layout: self.add(kind, known) }
        };
        Some(its.into_iter().map(keep).collect())
    }

    /// What is taken into another record is not output by itself, unless it is asked for.
    fn hide(&mut self, taken: &[KeptAs]) {
        for kept_as in taken {
            let kind = &mut self.kinds[usize::from(kept_as.from)];
            kind.wanted = false;
            self.schema.kinds[usize::from(kind.record)].wanted = false;
        }
    }

    /// Tells layouts by which fields they belong together. `called` is what they are called in messages.
    fn key(&mut self, layouts: &[u16], key: &[Spanned<String>], called: &str) {
        for layout in layouts {
            let keyed = key.iter().filter_map(|name| self.keyed(*layout, name, called)).collect();
            self.kinds[usize::from(*layout)].keyed = keyed;
        }
    }

    fn keyed(&mut self, layout: u16, name: &Spanned<String>, called: &str) -> Option<Keyed> {
        let place = usize::from(layout);
        if let Some((_, field)) = self.known[place].iter().find(|(known, _)| *known == name.value) {
            return Some(Keyed::Field(Box::new(field.clone())));
        }
        let outputs = &self.kinds[place].outputs;
        let found =
            outputs.iter().position(|output| output.schema.name == name.value && output.schema.items.is_empty());
        if found.is_none() {
            let known = self.known[place].iter().map(|(known, _)| known.as_str());
            let nearest = nearest(&name.value, known.chain(outputs.iter().map(|output| output.schema.name.as_str())));
            let kind = ProblemKind::NoSuchKey { name: name.value.clone(), record: called.to_string(), nearest };
            self.problems.add(name.span.clone(), kind);
        }
        found.map(|output| Keyed::Output(output as u16))
    }

    /// Gives a record that is made of several its fields, and its frame.
    fn give(&mut self, number: usize, fields: Fields, first: u16) {
        let mut outputs: Vec<Output> =
            fields.0.into_iter().map(|(schema, what)| Output::new(schema, what, None)).collect();
        Output::number(&mut outputs);
        self.schema.kinds[number].fields = outputs.iter().map(|output| (*output.schema).clone()).collect();
        let frame = self.kinds[usize::from(first)].frame;
        let kind = &mut self.kinds[number];
        (kind.outputs, kind.frame) = (outputs, frame);
    }
}

/// The fields of a record that is made of several, and where they stand.
#[derive(Default)]
pub(super) struct Fields(Vec<(FieldSchema, What)>);

impl Fields {
    /// Adds the fields of a layout that stands in a slot. Those of one name are one field, if they `may_share` it: it is read where there is a value first.
    fn add(
        &mut self,
        slot: u16,
        kind: &Kind,
        span: &Range<usize>,
        may_share: &dyn Fn(&str) -> bool,
        problems: &mut Problems,
    ) {
        for (place, output) in kind.outputs.iter().enumerate() {
            let standing = Standing { slot, output: place as u16 };
            let schema = &*output.schema;
            let Some((known, what)) = self.0.iter_mut().find(|(known, _)| known.name == schema.name) else {
                self.0.push((schema.clone(), What::Of([standing].into())));
                continue;
            };
            let What::Of(standings) = what else {
                problems.add(span.clone(), ProblemKind::Twice { what: "field", name: schema.name.clone() });
                continue;
            };
            if standings.iter().any(|standing| standing.slot == slot) {
                continue;
            }
            if !may_share(&schema.name) {
                problems.add(span.clone(), ProblemKind::Shared { name: schema.name.clone() });
                continue;
            }
            let alike =
                |one: &FieldSchema, other: &FieldSchema| one.name == other.name && one.value_type == other.value_type;
            let are_alike = known.unit == schema.unit
                && known.items.len() == schema.items.len()
                && known.items.iter().zip(&schema.items).all(|(one, other)| alike(one, other));
            match both(known.value_type, schema.value_type).filter(|_| are_alike) {
                Some(value_type) => known.value_type = value_type,
                None => problems.add(span.clone(), ProblemKind::NotAlike { name: schema.name.clone() }),
            }
            known.numbers = match (known.numbers, schema.numbers) {
                (Some(numbers), Some(others)) => numbers.united(others),
                _ => None,
            };
            known.is_instant &= schema.is_instant;
            known.has_quality |= schema.has_quality;
            let mut all = standings.to_vec();
            all.push(standing);
            *standings = all.into();
        }
    }

    /// Adds a field that a stage makes, or a group.
    fn add_one(&mut self, schema: FieldSchema, what: What, span: &Range<usize>, problems: &mut Problems) {
        if self.0.iter().any(|(known, _)| known.name == schema.name) {
            problems.add(span.clone(), ProblemKind::Twice { what: "field", name: schema.name.clone() });
        }
        self.0.push((schema, what));
    }
}

/// The schema of a field that nothing is sent for.
pub(crate) fn made(name: &str, title: &str, value_type: ValueType) -> FieldSchema {
    FieldSchema {
        name: name.to_string(),
        title: Some(title.to_string()),
        tag: None,
        unit: None,
        value_type,
        declared: None,
        numbers: None,
        is_instant: false,
        has_quality: false,
        items: Vec::new(),
        place: 0,
    }
}

/// The names in a condition, each with what the caller makes of it.
fn condition<N>(
    when: &When,
    what: &'static str,
    resolve: &mut dyn FnMut(&str) -> Resolved<N>,
    problems: &mut Problems,
) -> Option<Expression<N>> {
    let mut report = |problem: expression::ExpressionProblem| {
        let kind = match problem.kind {
            ExpressionProblemKind::UnknownName { name, nearest } => ProblemKind::UnknownName { what, name, nearest },
            kind => ProblemKind::Expression(kind),
        };
        problems.add(when.place(problem.span), kind);
    };
    match expression::parse(&when.text) {
        Ok(tree) => tree.check(resolve, &mut report),
        Err(problem) => {
            report(problem);
            None
        }
    }
}

/// Tells frames and layouts which stages look at them.
fn finish(stages: &[Stage], drafts: &mut [Draft], kinds: &mut Vec<Kind>, known: &mut Vec<Known>) {
    let layouts: Vec<u16> = stages.iter().flat_map(Stage::layouts).collect();
    for (number, draft) in drafts.iter_mut().enumerate() {
        let of_frame = |layout: &&u16| usize::from(kinds[usize::from(**layout)].frame) == number;
        let own: Box<[u16]> = layouts.iter().filter(of_frame).copied().collect();
        let Some(first) = own.first() else { continue };
        let record = kinds[usize::from(*first)].record;
        let frame = number as u16;
        let open = Kind { frame, is_part: true, is_composed: false, is_open: true, wanted: false, ..blank(record) };
        let kind = kinds.len() as u16;
        kinds.push(open);
        known.push(Known::new());
        draft.frame.open = Some(Open { kind, layouts: own });
        draft.frame.takes_long = true;
    }
    let taken: Vec<KeptAs> = stages.iter().flat_map(Stage::taken).collect();
    for (number, kind) in kinds.iter_mut().enumerate() {
        let is_open = drafts.get(usize::from(kind.frame)).is_some_and(|draft| draft.frame.open.is_some());
        kind.staged = taken.iter().any(|kept_as| usize::from(kept_as.from) == number)
            || (is_open && !kind.is_composed && (!kind.is_part || kind.is_open));
    }
}

/// Tells exchanges on which lines questions and answers come, and puts those together whose questions come on the same.
pub(super) fn find_routes(stages: Vec<Stage>, kinds: &[Kind], routes: &[Route]) -> Vec<Stage> {
    let mut found: Vec<Stage> = Vec::new();
    for mut stage in stages {
        if let Stage::Points(points) = &mut stage {
            let exchanges = found.iter().filter_map(|stage| match stage {
                Stage::Exchange(exchanges) => Some(exchanges),
                _ => None,
            });
            let of = exchanges.flatten().filter(|exchange| points.of.iter().any(|(kind, _)| *kind == exchange.kind));
            points.routes = of
                .flat_map(|exchange| [&exchange.ask_routes, &exchange.routes].into_iter().flatten().copied())
                .collect();
        }
        let Stage::Exchange(exchanges) = &mut stage else {
            found.push(stage);
            continue;
        };
        exchanges.iter_mut().for_each(|exchange| exchange.find_routes(kinds, routes));
        let together = found.iter_mut().find_map(|before| match before {
            Stage::Exchange(others) if others.iter().any(|other| other.talks_with(exchanges)) => Some(others),
            _ => None,
        });
        match together {
            Some(others) => others.append(exchanges),
            None => found.push(stage),
        }
    }
    found
}

impl Exchange {
    fn find_routes(&mut self, kinds: &[Kind], routes: &[Route]) {
        let of = |questions: bool| {
            let members = self.members.iter().filter(|member| (member.is == Side::Question) == questions);
            let layouts = members.flat_map(|member| match &member.by {
                By::Layout(layout) => [*layout].to_vec(),
                By::Record(taken) => taken.iter().map(|kept_as| kept_as.layout).collect(),
            });
            let frames: Vec<u16> = layouts.map(|layout| kinds[usize::from(layout)].frame).collect();
            let has = |route: &Route| route.searching.iter().chain(&route.lines).any(|frame| frames.contains(frame));
            routes.iter().enumerate().filter(|(_, route)| has(route)).map(|(number, _)| number).collect()
        };
        (self.ask_routes, self.routes) = (of(true), of(false));
    }

    /// Whether its questions come on lines of others' that are not made of what comes of it.
    fn talks_with(&self, others: &[Exchange]) -> bool {
        let takes_it = |member: &Member| match &member.by {
            By::Record(taken) => taken.iter().any(|kept_as| kept_as.from == self.kind),
            By::Layout(_) => false,
        };
        others.iter().any(|other| {
            let on_one = other.ask_routes.iter().any(|route| self.ask_routes.contains(route));
            on_one && !other.members.iter().any(takes_it)
        })
    }
}

/// A group of which each item is a frame, or an item of a group of one.
fn group(name: &str, title: Option<String>, items: Vec<FieldSchema>) -> FieldSchema {
    FieldSchema { title, items, ..made(name, "", ValueType::Group) }
}

/// What a part is called in messages and tables: the record, and what of it.
fn called(record: &str, what: &str, number: usize, several: bool) -> String {
    if several { format!("{record}, {what} {}", number + 1) } else { format!("{record}, {what}") }
}

impl Format {
    /// All layouts by which frames are read, with the frame that is named for them.
    pub(super) fn layouts(&self) -> Vec<(Option<&Spanned<String>>, &Record)> {
        let mut layouts = Vec::new();
        for record in &self.records {
            layouts.extend(record.layouts().map(|layout| (layout.frame.as_ref(), layout)));
            let parts = record.block.iter().flat_map(|block| &block.parts).map(|part| &part.layout);
            layouts.extend(parts.map(|layout| (layout.frame.as_ref().or(record.frame.as_ref()), layout)));
        }
        let own = self.exchanges.iter().flat_map(format::Exchange::own).map(|(_, layout)| layout);
        layouts.extend(own.map(|layout| (layout.frame.as_ref(), layout)));
        layouts
    }
}
