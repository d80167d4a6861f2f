//! From a format to its plan: frames, then the records of each, then what ties them together.

mod bytes;
mod choice;
mod columns;
mod composed;
mod doubt;
mod field;
mod frame;
mod heading;
mod inside;
mod pairs;
mod parts;
mod printed;
mod record;
mod routes;
mod sheet;
mod steps;
mod transactions;
mod variants;
mod whole;

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use crate::format::{self, Format, Spanned};
use crate::plan::{Frame, Inner, Kind, LayoutRow, Role, Slot};
use crate::problem::{ProblemKind, Problems, nearest};
use crate::schema::{KindSchema, Schema};
use choice::finish_frame;
pub(crate) use composed::{blank, made};
use frame::compile_frame;
pub(crate) use frame::length_size;
use inside::compile_insides;
use record::{Compiled, compile_ignore, compile_record, in_charsets, report_unreachable, slot_of};
use routes::compile_routes;
use sheet::Sheet;
pub(crate) use whole::plan;

/// A frame's checksum as it is tested; nothing if it cannot be.
pub(crate) fn check_of(declared: &crate::format::Check, frame: &crate::format::Frame) -> Option<crate::plan::Check> {
    bytes::check(declared, frame, &mut Problems::default())
}

/// A frame being compiled, with what its records need to know.
struct Draft {
    frame: Frame,
    sheet: Sheet,
    placing: Placing,
    /// The length of each record's shortest frame, and whether longer ones can be.
    lengths: Vec<(usize, bool)>,
}

impl Draft {
    /// Whether conditions may ask how many columns a text has.
    fn counts_columns(&self) -> bool {
        matches!(self.placing, Placing::Columns(_))
    }
}

#[derive(Clone)]
enum Placing {
    Bytes(bytes::Placing),
    Columns(columns::Placing),
    Pairs(pairs::Placing),
}

/// The plan of a format; nothing if there is too much in it.
fn compile(format: &Format, problems: &mut Problems) -> Option<Inner> {
    let own = format.exchanges.len();
    let format = &*transactions::with_transactions(format);
    if let Some((span, too_many)) = too_much(format) {
        problems.add(span, too_many);
        return None;
    }
    let mut shared = Shared::default();
    let mut drafts = compile_frames(format, &mut shared, problems);
    let (mut kinds, mut known, mut schema) = compile_records(format, &mut drafts, &mut shared, problems);
    let made = (&mut kinds, &mut known, &mut schema);
    let stages = composed::compose(format, &mut drafts, &mut shared, made, problems);
    if let Some(implied) = format.exchanges.get(own) {
        // It is no part of the format's own table.
        let of = format!("{}, ", implied.name.value);
        shared.layout.retain(|row| !row.record.as_ref().is_some_and(|record| record.starts_with(&of)));
    }
    let mut ignores = Vec::new();
    for ignore in &format.ignores {
        let Some(index) = frame_of(format, ignore.frame.as_ref(), &ignore.span, problems) else { continue };
        let draft = &mut drafts[index];
        draft.frame.ignores.push(ignores.len() as u16);
        ignores.push(compile_ignore(ignore, &format.frames[index], draft, &mut shared.forms, problems));
    }
    let mut frames: Vec<Frame> = Vec::new();
    for (draft, declared) in drafts.into_iter().zip(&format.frames) {
        frames.push(finish_frame(format, declared, draft, &kinds, &ignores, problems));
    }
    let character = format.serial.map(format::Serial::character);
    let roles: Vec<Role> = format
        .lines
        .iter()
        .map(|line| Role {
            name: line.role.value.clone(),
            character: line.serial.map(format::Serial::character).or(character),
        })
        .collect();
    let insides = compile_insides(format, roles.len().max(1), &kinds, problems);
    let routes = compile_routes(format, &roles, &insides, &frames, problems);
    let stages = composed::find_routes(stages, &kinds, &routes);
    if problems.wants_doubts() {
        doubt::whole(format, &frames, &kinds, problems);
    }
    Some(Inner {
        schema,
        roles,
        frames,
        kinds,
        ignores,
        counters: shared.slots,
        stages,
        routes,
        insides,
        limits: format.limits,
        layout: shared.layout,
        character,
    })
}

/// What all frames and records of a format have together.
#[derive(Default)]
struct Shared {
    layout: Vec<LayoutRow>,
    slots: Vec<Slot>,
    forms: printed::Numbers,
}

/// The layout of a record, or of a variant of it.
struct Laid {
    frame: usize,
    variant: usize,
    kind: Kind,
    known: composed::Known,
}

/// Where there is too much in a format.
fn too_much(format: &Format) -> Option<(core::ops::Range<usize>, ProblemKind)> {
    let mut weight = format::Weight::default();
    for (frame, record) in format.layouts() {
        let frame = frame.and_then(|name| format.frames.iter().find(|frame| frame.name == name.value));
        let header = frame.or(format.frames.first()).map(|frame| format::weigh(&frame.header)).unwrap_or_default();
        weight.add(header);
        weight.add(format::weigh(&record.fields));
        if let Some(too_many) = weight.too_many() {
            return Some((record.kind.span.clone(), too_many));
        }
    }
    None
}

fn compile_frames(format: &Format, shared: &mut Shared, problems: &mut Problems) -> Vec<Draft> {
    let mut drafts: Vec<Draft> = Vec::new();
    for declared in &format.frames {
        let header = in_charsets(Cow::Borrowed(&*declared.header), &declared.charsets);
        let declared = &match header {
            Cow::Borrowed(_) => Cow::Borrowed(declared),
            Cow::Owned(header) => Cow::Owned(format::Frame { header, ..declared.clone() }),
        };
        if drafts.iter().any(|draft| draft.frame.name == declared.name) {
            let kind = ProblemKind::Twice { what: "frame", name: declared.name.clone() };
            problems.add(declared.span.clone(), kind);
        }
        drafts.push(compile_frame(format, declared, &mut shared.layout, &mut shared.slots, problems));
    }
    drafts
}

/// The layouts of all records, first their own and then those of variants, and what the records say.
fn compile_records(
    format: &Format,
    drafts: &mut [Draft],
    shared: &mut Shared,
    problems: &mut Problems,
) -> (Vec<Kind>, Vec<composed::Known>, Schema) {
    let mut layouts: Vec<Laid> = Vec::new();
    let mut schema = Schema {
        format: format.name.clone(),
        title: format.title.clone(),
        version: format.version.clone(),
        kinds: Vec::new(),
    };
    for (number, owner) in format.records.iter().enumerate() {
        if owner.block.is_some() {
            layouts.push(Laid::blank(number));
            schema.kinds.push(kind_schema(&owner.kind, owner.title.as_ref()));
            continue;
        }
        let (begun, mut units, mut counted) = (layouts.len(), variants::Units::default(), Vec::new());
        for (variant, record) in owner.layouts().enumerate() {
            let Some(index) = frame_of(format, record.frame.as_ref(), &record.kind.span, problems) else { continue };
            report_unreachable(format, record, index, problems);
            let fields = if owner.variants.is_empty() {
                Cow::Borrowed(&*record.fields)
            } else {
                units.convert(&record.fields, problems)
            };
            let charsets = &format.frames[index].charsets;
            let fields = in_charsets(fields, charsets);
            let converted = match fields {
                Cow::Borrowed(_) => Cow::Borrowed(record),
                Cow::Owned(fields) => Cow::Owned(format::Record { fields, ..record.clone() }),
            };
            let what = match variant {
                0 => owner.kind.value.clone(),
                variant => format!("{}, variant {variant}", owner.kind.value),
            };
            let place = Compiled { format, owner, record: &converted, frame: index, what: &what, ask: &[] };
            let draft = &mut drafts[index];
            let (mut kind, known) = compile_record(place, draft, &mut shared.layout, &mut shared.forms, problems);
            kind.record = number as u16;
            for counter in kind.counters.iter_mut().skip(drafts[index].sheet.counters.len()) {
                counter.slot = slot_of(counter, &mut counted, &mut shared.slots);
            }
            if let Some(slot) = kind.counters.first().and_then(|first| shared.slots.get_mut(first.slot)) {
                slot.is_first = true;
            }
            layouts.push(Laid { frame: index, variant, kind, known });
        }
        let mut kinds: Vec<&mut Kind> = layouts[begun..].iter_mut().map(|laid| &mut laid.kind).collect();
        let fields = variants::unite(owner, &mut kinds, problems);
        schema.kinds.push(KindSchema { fields, ..kind_schema(&owner.kind, owner.title.as_ref()) });
    }
    for (number, (name, title)) in (format.records.len()..).zip(composed::named_beside(format)) {
        if schema.kinds.iter().any(|known| known.name == name.value) {
            let kind = ProblemKind::Twice { what: "record", name: name.value.clone() };
            problems.add(name.span.clone(), kind);
        }
        layouts.push(Laid::blank(number));
        schema.kinds.push(kind_schema(name, title));
    }
    let (kinds, known) = in_order(layouts, drafts);
    (kinds, known, schema)
}

fn kind_schema(name: &Spanned<String>, title: Option<&String>) -> KindSchema {
    KindSchema { name: name.value.clone(), title: title.cloned(), fields: Vec::new(), wanted: true }
}

impl Laid {
    /// The place of a record that is made of several frames.
    fn blank(number: usize) -> Laid {
        Laid { frame: 0, variant: 0, kind: composed::blank(number as u16), known: composed::Known::new() }
    }
}

/// Layouts that are in the order of the file, in that of their numbers; and their frames told of them, in the order of the file.
fn in_order(mut layouts: Vec<Laid>, drafts: &mut [Draft]) -> (Vec<Kind>, Vec<composed::Known>) {
    // A record that could not be compiled leaves no layout; then there is no plan, but all else that is wrong is told.
    let own = layouts.iter().filter(|laid| laid.variant == 0).count();
    let (mut next, mut next_variant) = (0, own);
    for laid in &layouts {
        let number = if laid.variant == 0 { &mut next } else { &mut next_variant };
        if !laid.kind.is_composed {
            drafts[laid.frame].frame.kinds.push(*number as u16);
        }
        *number += 1;
    }
    layouts.sort_by_key(|laid| laid.variant > 0);
    let (mut kinds, known): (Vec<Kind>, Vec<_>) = layouts.into_iter().map(|laid| (laid.kind, laid.known)).unzip();
    let named: Vec<u16> = kinds.iter().filter_map(|kind| Some(kind.heading.as_ref()?.record)).collect();
    for kind in kinds.iter_mut().filter(|kind| named.contains(&kind.record)) {
        kind.names_columns = true;
        // Whoever reads it has to notice what it names.
        let frame = &mut drafts[usize::from(kind.frame)].frame;
        (frame.takes_long, frame.has_columns, frame.splits) = (true, true, true);
    }
    (kinds, known)
}

/// The frame that a record or ignore belongs to.
fn frame_of(
    format: &Format,
    name: Option<&Spanned<String>>,
    span: &core::ops::Range<usize>,
    problems: &mut Problems,
) -> Option<usize> {
    match name {
        Some(name) => {
            let found = format.frames.iter().position(|frame| frame.name == name.value);
            if found.is_none() {
                let nearest = nearest(&name.value, format.frames.iter().map(|frame| frame.name.as_str()));
                let kind = ProblemKind::UnknownName { what: "frame", name: name.value.clone(), nearest };
                problems.add(name.span.clone(), kind);
            }
            found
        }
        None if format.frames.len() > 1 => {
            let kind =
                ProblemKind::Senseless("there are several frames: `frame` has to say which one this is read from");
            problems.add(span.clone(), kind);
            None
        }
        None => (!format.frames.is_empty()).then_some(0),
    }
}
