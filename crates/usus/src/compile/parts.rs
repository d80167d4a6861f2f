//! Placing the fields of records of bytes that are walked through: where parts of varying size follow one another, may be missing, or have items that
//! are not all alike.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use super::bytes::{self, place_text, push_group};
use super::field::{byte_size, field_type};
use super::sheet::{Sheet, bound};
use crate::format::{Count, Field as Declared, FieldType, Group as DeclaredGroup, Place, Run, Spanned, When, Width};
use crate::plan::{
    Addressed, Asked, At, Field, Group, GroupItems, ItemSize, Level, Many, Meaning, Named, PartExtent, PartThere,
    Parts, Pattern, Reading, RowPart, Shape, ShapeUnit, Stride,
};
use crate::problem::{ProblemKind, Problems, nearest};

/// Whether the places of some fields can only be told by walking through the bytes.
pub(super) fn are_walked(fields: &[Declared]) -> bool {
    let varies = |field: &&Declared| match &field.group {
        Some(group) => !matches!(group.count, Count::Fixed(_)),
        None => {
            let is_sized = |kind: FieldType| matches!(kind, FieldType::Bits { .. }) || byte_size(field, kind).is_some();
            field.kind.as_ref().is_some_and(|kind| !is_sized(kind.value))
        }
    };
    let is_walked = |field: &Declared| {
        let told = |width: &Option<Spanned<Width>>| width.as_ref().is_some_and(|width| width.value.bytes().is_none());
        let group = field.group.as_ref().is_some_and(|group| {
            matches!(group.count, Count::Until(_))
                || told(&group.size)
                || !are_alike(&group.fields)
                || group.fields.iter().any(decides_in_items)
        });
        field.run.is_some()
            || field.when.is_some()
            || field.optional
            || field.until.is_some()
            || told(&field.width)
            || group
    };
    fields.iter().any(is_walked) || fields.iter().filter(varies).count() > 1
}

/// Whether it is a group in whose items something decides about the frame.
fn decides_in_items(field: &Declared) -> bool {
    let decides = |field: &Declared| field.equals.is_some() || field.strict || decides_in_items(field);
    field.group.as_ref().is_some_and(|group| group.fields.iter().any(decides))
}

/// Whether items of these fields are all of one size.
fn are_alike(fields: &[Declared]) -> bool {
    let has_size = |field: &Declared| match (&field.group, &field.kind) {
        (Some(group), _) => matches!(group.count, Count::Fixed(_)),
        (None, Some(kind)) => matches!(kind.value, FieldType::Bits { .. }) || byte_size(field, kind.value).is_some(),
        // Bits of the integer before it, or a problem of its own.
        (None, None) => true,
    };
    !are_walked(fields) && fields.iter().all(has_size)
}

/// What the parts of a record have together.
#[derive(Clone, Default)]
pub(super) struct Together {
    asked: Vec<Asked>,
    names: Vec<String>,
    /// The fields of the record and of the items around the one at hand.
    outer: Vec<Vec<(Declared, Field)>>,
}

/// Where the next field goes: in the run of bytes at hand, or in a part of its own.
#[derive(Clone)]
struct Placing {
    /// Fields that lie at fixed places from where the last part has ended.
    run: bytes::Placing,
    parts: Vec<RowPart>,
    /// Where each of them stands in the file.
    spans: Vec<Range<usize>>,
    /// How many groups are around it.
    depth: usize,
    span: Range<usize>,
}

impl Placing {
    /// The number of the run at hand among the parts.
    fn part(&self) -> usize {
        self.parts.len()
    }

    /// Whether the run at hand is the first of the record, whose places are those of the frame.
    fn is_in_front(&self) -> bool {
        self.depth == 0 && self.parts.is_empty()
    }

    /// A place in the run as one in the frame.
    fn at(&self, at: At) -> At {
        match at {
            At::Front(offset) if !self.is_in_front() => At::Part { part: self.part(), offset },
            at => at,
        }
    }

    /// Reports the place of something that cannot be anywhere but behind what comes before it.
    fn check_begin(&self, declared: &Declared, problems: &mut Problems) {
        if let Place::Byte(byte) = &declared.place {
            let is_it = self.parts.is_empty() && usize::try_from(byte.value) == Ok(self.run.size());
            if !is_it {
                let why = "it begins where what stands before it ends";
                problems.add(byte.span.clone(), ProblemKind::Unplaced(why));
            }
        }
    }

    /// Ends the run at hand: something of another kind follows.
    fn end_run(&mut self, together: &mut Together, problems: &mut Problems) {
        let size = self.run.end_of_run(&self.span, problems);
        if size > 0 || self.is_in_front() {
            let name = self.run.first_name();
            let span = self.span.clone();
            self.push(PartThere::Always, PartExtent::Fixed(size), (name, span), together);
        }
        self.run = self.run.behind();
    }

    /// Adds a part. Returns its number among those of its level.
    fn push(
        &mut self,
        there: PartThere,
        extent: PartExtent,
        (name, span): (String, Range<usize>),
        together: &mut Together,
    ) -> usize {
        self.parts.push(RowPart { number: together.names.len().min(usize::from(u16::MAX)) as u16, there, extent });
        together.names.push(name);
        self.spans.push(span);
        self.parts.len() - 1
    }

    /// The parts, once all are known: each that takes what is left is told what stands behind it.
    fn end(&mut self, sized: bool, together: &mut Together, problems: &mut Problems) -> Box<[RowPart]> {
        self.end_run(together, problems);
        let mut behind: Option<usize> = Some(0);
        for (part, span) in self.parts.iter_mut().zip(&self.spans).rev() {
            let told = match (&mut part.there, &mut part.extent) {
                (PartThere::Room { behind: left }, _) => Some(left),
                (_, PartExtent::Rest { behind: left } | PartExtent::Run { behind: left }) => Some(left),
                (_, PartExtent::Group(items)) => match &mut items.many {
                    Many::Rest { behind: left } => Some(left),
                    _ => None,
                },
                _ => None,
            };
            if let Some(left) = told {
                match behind {
                    Some(behind) if sized => *left = behind,
                    Some(_) => {
                        let why = "nothing tells where it ends: the item needs a `size`";
                        problems.add(span.clone(), ProblemKind::Unplaced(why));
                    }
                    None => {
                        let why = "something of varying size stands behind it, so nothing tells where it ends";
                        problems.add(span.clone(), ProblemKind::Unplaced(why));
                    }
                }
            }
            behind = match (&part.there, &part.extent) {
                (PartThere::Always, PartExtent::Fixed(size)) => behind.map(|behind| behind + size),
                (PartThere::Room { .. }, PartExtent::Fixed(_)) => behind,
                (_, PartExtent::Addressed(_)) => behind,
                _ => None,
            };
        }
        core::mem::take(&mut self.parts).into()
    }
}

/// Adds the fields of a record that are walked through, behind those of its frame's header.
pub(super) fn add_record(
    sheet: &mut Sheet,
    header: &bytes::Placing,
    fields: &[Declared],
    span: &Range<usize>,
    problems: &mut Problems,
) -> (Shape, Box<Parts>) {
    let placing = Placing { run: header.clone(), parts: Vec::new(), spans: Vec::new(), depth: 0, span: span.clone() };
    sheet.learn(|sheet, problems| {
        add_fields(sheet, &mut placing.clone(), &mut Together::default(), fields, problems);
    });
    let (mut placing, mut together) = (placing, Together::default());
    add_fields(sheet, &mut placing, &mut together, fields, problems);
    let back = placing.run.back();
    let parts = placing.end(true, &mut together, problems);
    let least: usize = parts.iter().map(least).sum();
    let shape = Shape { unit: ShapeUnit::Parts, back, ..Shape::fixed_bytes(least, 0) };
    let level = Level { parts, gates: Box::default() };
    (shape, Box::new(Parts { level, asked: together.asked.into(), names: together.names.into() }))
}

/// The fewest bytes that a part has.
fn least(part: &RowPart) -> usize {
    match (&part.there, &part.extent) {
        (PartThere::Always, PartExtent::Fixed(size)) => *size,
        (PartThere::Always, PartExtent::Until(pattern)) => pattern.length(),
        _ => 0,
    }
}

fn add_fields(
    sheet: &mut Sheet,
    placing: &mut Placing,
    together: &mut Together,
    fields: &[Declared],
    problems: &mut Problems,
) {
    for declared in fields {
        if let Some(run) = &declared.run {
            add_run(sheet, placing, together, declared, run, problems);
            continue;
        }
        let listed = bytes::listed(declared);
        match (&declared.group, &listed) {
            (Some(_), Some(listed)) if bytes::is_spread(listed) => {
                let (depth, part, in_front) = (placing.depth, placing.part(), placing.is_in_front());
                let at = |at| mapped(at, depth, part, in_front);
                bytes::add_spread(sheet, &mut placing.run, declared, listed, at, problems);
            }
            (Some(_), Some(listed)) => {
                let group = listed.group.clone().unwrap_or_else(|| DeclaredGroup::new(Count::ToEnd, Vec::new()));
                add_group(sheet, placing, together, listed, &group, problems);
            }
            (Some(group), None) => add_group(sheet, placing, together, declared, group, problems),
            (None, _) => add_field(sheet, placing, together, declared, problems),
        }
    }
}

fn mapped(at: At, depth: usize, part: usize, in_front: bool) -> At {
    match at {
        At::Front(offset) if !(depth == 0 && in_front) => At::Part { part, offset },
        at => at,
    }
}

fn add_field(
    sheet: &mut Sheet,
    placing: &mut Placing,
    together: &mut Together,
    declared: &Declared,
    problems: &mut Problems,
) {
    if sheet.add_part(declared, problems) {
        return;
    }
    let Some(kind) = field_type(declared, Reading::Bytes, problems) else {
        placing.run.be_unsure();
        return;
    };
    let in_group = sheet.group.is_some();
    let there = there(sheet, placing, together, declared, problems);
    if placing.depth > 0
        && let Place::Byte(byte) = &declared.place
        && byte.value < 0
    {
        let why = "an item has no end to count from";
        problems.add(byte.span.clone(), ProblemKind::Unplaced(why));
        return;
    }
    let declared = &*bytes::with_bits_from(declared, kind, placing.run.bits_from());
    if let FieldType::Bits { width, signed } = kind {
        if !matches!(there, PartThere::Always) {
            let with = "bits one behind the other: those behind them would move".to_string();
            let key = if declared.optional { "optional" } else { "when" };
            problems.add(declared.span.clone(), ProblemKind::Conflict { key, with });
        }
        let Some(bits) = placing.run.place_bits(declared, (width, signed), problems) else { return };
        let at = placing.at(bits.at);
        let place = bits.place_text(at, in_group);
        sheet.add_bits(kind.to_string(), &bits.within, bits.integer, at, place, problems);
        return;
    }
    let extent = match (&declared.until, &declared.width, byte_size(declared, kind)) {
        (Some(until), ..) => PartExtent::Until(Box::new(Pattern::new(&until.value))),
        (None, Some(Spanned { span, value: Width::Field(name) }), _) => {
            let name = Spanned { span: span.clone(), value: name.clone() };
            match ask(sheet, together, placing.depth, &name, problems) {
                Some(asked) => PartExtent::Told(asked),
                None => return,
            }
        }
        (None, _, Some(size)) => PartExtent::Fixed(size),
        (None, _, None) => PartExtent::Rest { behind: 0 },
    };
    if let (PartExtent::Fixed(size), PartThere::Always) = (&extent, &there) {
        let at = placing.run.place(declared, *size, problems);
        let at = placing.at(at);
        sheet.add(declared, kind, at, place_text(at, *size, in_group), problems);
        return;
    }
    placing.check_begin(declared, problems);
    let room = match &extent {
        PartExtent::Fixed(size) => format!("then {}", counted(*size)),
        PartExtent::Until(_) => {
            let until = declared.until.as_ref().map(|until| until.value.to_string());
            format!("then to {}", until.unwrap_or_default())
        }
        PartExtent::Told(_) => "then as many bytes as told".to_string(),
        _ => "then …".to_string(),
    };
    let room = if in_group { format!("item, {room}") } else { room };
    placing.end_run(together, problems);
    let part = placing.push(there, extent, named(declared), together);
    sheet.add(declared, kind, At::Part { part, offset: 0 }, room, problems);
}

fn counted(bytes: usize) -> String {
    if bytes == 1 { "1 byte".to_string() } else { format!("{bytes} bytes") }
}

/// What a part is called, and where it stands in the file.
fn named(declared: &Declared) -> (String, Range<usize>) {
    let name = declared.name.as_ref().map_or("a part without name".to_string(), |name| name.value.clone());
    (name, declared.span.clone())
}

/// Whether a field or group is always there.
fn there(
    sheet: &Sheet,
    placing: &Placing,
    together: &mut Together,
    declared: &Declared,
    problems: &mut Problems,
) -> PartThere {
    match &declared.when {
        Some(when) if declared.optional => {
            let with = "`when`, which says whether it is there".to_string();
            problems.add(when.span.clone(), ProblemKind::Conflict { key: "optional", with });
            PartThere::Always
        }
        Some(when) => condition(sheet, placing.depth, together, when, problems).unwrap_or(PartThere::Always),
        None if declared.optional => PartThere::Room { behind: 0 },
        None => PartThere::Always,
    }
}

/// Binds a condition to the fields before it, those around the item included.
fn condition(
    sheet: &Sheet,
    depth: usize,
    together: &mut Together,
    when: &When,
    problems: &mut Problems,
) -> Option<PartThere> {
    let own = sheet.known.iter().map(|known| (known, depth));
    let outer = together
        .outer
        .iter()
        .enumerate()
        .rev()
        .flat_map(|(depth, known)| known.iter().map(move |known| (known, depth)));
    let visible: Vec<(&str, &Field, usize)> = own
        .chain(outer)
        .filter_map(|((declared, field), depth)| Some((declared.name.as_ref()?.value.as_str(), field, depth)))
        .collect();
    let fields: Vec<(&str, &Field)> = visible.iter().map(|(name, field, _)| (*name, *field)).collect();
    let mut condition = bound(when, "earlier field", &fields, false, &[], &[], problems)?;
    let asked: Vec<Asked> =
        visible.iter().map(|(_, field, depth)| Asked { field: (*field).clone(), depth: *depth }).collect();
    condition.rename(&mut |name| {
        if let Named::Field(place) = name {
            together.asked.extend(asked.get(usize::from(*place)).cloned());
            *place = together.asked.len().saturating_sub(1) as u16;
        }
    });
    Some(PartThere::If(condition))
}

/// A field before it that says a number, among those that are asked: of its item, or of what is around it.
fn ask(
    sheet: &Sheet,
    together: &mut Together,
    depth: usize,
    name: &Spanned<String>,
    problems: &mut Problems,
) -> Option<usize> {
    let is_it = |known: &&(Declared, Field)| known.0.name.as_ref().is_some_and(|known| known.value == name.value);
    let own = sheet.known.iter().find(is_it).map(|known| (known, depth));
    let outer = || {
        let mut outer = together.outer.iter().enumerate().rev();
        outer.find_map(|(depth, known)| known.iter().find(is_it).map(|known| (known, depth)))
    };
    let Some(((_, field), depth)) = own.or_else(outer) else {
        let known = sheet.known.iter().chain(together.outer.iter().flatten());
        let known = known.filter_map(|(declared, _)| Some(declared.name.as_ref()?.value.as_str()));
        let nearest = nearest(&name.value, known);
        let kind = ProblemKind::UnknownName { what: "earlier field", name: name.value.clone(), nearest };
        problems.add(name.span.clone(), kind);
        return None;
    };
    if !matches!(field.meaning, Meaning::Number { .. }) {
        problems.add(name.span.clone(), ProblemKind::Senseless("a count or a size has to be a number"));
        return None;
    }
    together.asked.push(Asked { field: field.clone(), depth });
    Some(together.asked.len() - 1)
}

/// Adds a run of values, each of which is there if its address is in the run.
fn add_run(
    sheet: &mut Sheet,
    placing: &mut Placing,
    together: &mut Together,
    declared: &Declared,
    run: &Run,
    problems: &mut Problems,
) {
    placing.check_begin(declared, problems);
    let Some(first) = ask(sheet, together, placing.depth, &run.from, problems) else { return };
    placing.end_run(together, problems);
    let run_part = placing.push(
        PartThere::Always,
        PartExtent::Run { behind: 0 },
        ("the run".to_string(), declared.span.clone()),
        together,
    );
    for declared in &run.fields {
        if sheet.add_part(declared, problems) {
            continue;
        }
        let Some(kind) = field_type(declared, Reading::Bytes, problems) else { continue };
        let declared = &*bytes::with_bits_from(declared, kind, placing.run.bits_from());
        let (Some(size), Some(address)) = (byte_size(declared, kind), &declared.address) else {
            let why = "a value in a run has an `address` and a size, and nothing else says where it is";
            problems.add(declared.span.clone(), ProblemKind::Senseless(why));
            continue;
        };
        let address = address.value;
        let addressed = Addressed { run: run_part, first, step: run.step, address, size };
        let extent = PartExtent::Addressed(Box::new(addressed));
        let part = placing.push(PartThere::Always, extent, named(declared), together);
        sheet.add(declared, kind, At::Part { part, offset: 0 }, format!("address {address}"), problems);
    }
}

fn add_group(
    sheet: &mut Sheet,
    placing: &mut Placing,
    together: &mut Together,
    declared: &Declared,
    group: &DeclaredGroup,
    problems: &mut Problems,
) {
    let Some(name) = &declared.name else {
        problems.add(declared.span.clone(), ProblemKind::MissingKey { key: "name", table: "a group" });
        return;
    };
    let there = there(sheet, placing, together, declared, problems);
    placing.check_begin(declared, problems);
    let many = match &group.count {
        Count::Fixed(count) => Some(Many::Fixed(count.value)),
        Count::Field(from) => ask(sheet, together, placing.depth, from, problems).map(Many::Told),
        Count::ToEnd => Some(Many::Rest { behind: 0 }),
        Count::Until(until) => Some(Many::Until(Box::new(Pattern::new(&until.value)))),
    };
    let Some(many) = many else { return };
    let mut items = sheet.for_group(&name.value);
    let told = matches!(&group.size, Some(Spanned { value: Width::Field(_), .. }));
    let fixed = group.size.as_ref().and_then(|size| size.value.bytes());
    if !told && are_alike(&group.fields) {
        let Some(size) = bytes::item_size(&mut items, placing.run.bits_from(), declared, group, problems) else {
            return;
        };
        let level = Level { gates: core::mem::take(&mut items.gates).into(), ..Level::default() };
        let extent = GroupItems { many, size: ItemSize::OfParts, alike: Some(size), level };
        placing.end_run(together, problems);
        let part = placing.push(there, PartExtent::Group(Box::new(extent)), named(declared), together);
        let group =
            Group { first: At::Part { part, offset: 0 }, step: Stride::Even(size), count: None, outputs: Vec::new() };
        push_group(sheet, items, declared, name, group, format!("then …, {size} each"));
        return;
    }
    placing.end_run(together, problems);
    let run = bytes::Placing::item(placing.run.bits_from());
    let mut inner =
        Placing { run, parts: Vec::new(), spans: Vec::new(), depth: placing.depth + 1, span: declared.span.clone() };
    together.outer.push(sheet.known.clone());
    items.learn(|items, problems| {
        add_fields(items, &mut inner.clone(), &mut together.clone(), &group.fields, problems);
    });
    add_fields(&mut items, &mut inner, together, &group.fields, problems);
    let size = match &group.size {
        Some(Spanned { span, value: Width::Field(field) }) => {
            let field = Spanned { span: span.clone(), value: field.clone() };
            let asked = ask(&items, together, placing.depth + 1, &field, problems);
            // It has to be there before anything else of the item is.
            let in_first = asked.is_some_and(|asked| {
                let Asked { field, depth } = &together.asked[asked];
                *depth == placing.depth + 1 && matches!(field.at, At::Part { part: 0, .. })
            });
            if asked.is_some() && !in_first {
                let why = "the size of an item is a field of it, before anything of varying size";
                problems.add(span.clone(), ProblemKind::Senseless(why));
            }
            asked.map_or(ItemSize::OfParts, ItemSize::Told)
        }
        _ => fixed.map_or(ItemSize::OfParts, ItemSize::Fixed),
    };
    together.outer.pop();
    let parts = inner.end(group.size.is_some(), together, problems);
    if let ItemSize::Told(_) = size
        && !matches!(parts.first(), Some(RowPart { there: PartThere::Always, extent: PartExtent::Fixed(_), .. }))
        && problems.is_empty()
    {
        let why = "the size of an item is a field of it, before anything of varying size";
        problems.add(declared.span.clone(), ProblemKind::Senseless(why));
    }
    if parts.is_empty() {
        problems.add(declared.span.clone(), ProblemKind::EmptyItem);
        return;
    }
    let level = Level { parts, gates: core::mem::take(&mut items.gates).into() };
    let extent = GroupItems { many, size, alike: None, level };
    let part = placing.push(there, PartExtent::Group(Box::new(extent)), named(declared), together);
    let group = Group { first: At::Part { part, offset: 0 }, step: Stride::Rows, count: None, outputs: Vec::new() };
    push_group(sheet, items, declared, name, group, "then …, items of their own size".to_string());
}
