//! Placing the fields of texts: columns and characters.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use super::bytes::{find_count, listed, push_group};
use super::field::{column_size, field_type, layout_of};
use super::sheet::{Sheet, bound, refuse_condition};
use crate::expression::Expression;
use crate::format::{Count as DeclaredCount, Field as Declared, Group as DeclaredGroup, Place};
use crate::plan::{At, Count, Gaps, Group, Named, Output, Part, Reading, Separation, Shape, ShapeUnit, Stride, There};
use crate::problem::{ProblemKind, Problems};

/// Where the next column goes, and which columns a text needs.
#[derive(Clone)]
pub(super) struct Placing {
    cursor: At,
    any: bool,
    front: usize,
    front_required: usize,
    tail: usize,
    tail_required: usize,
    varying: Option<(usize, usize)>,
    count: Count,
    /// First column, number of columns and name of each field so far.
    taken: Vec<(usize, usize, String)>,
    /// Columns that may not be there, by their first, with where that is declared; without a condition they are optional.
    unsure: Vec<Unsure>,
    /// How many of those are of the header: where something has to be there behind them, they have to be, too.
    of_header: usize,
}

#[derive(Clone)]
struct Unsure {
    span: Range<usize>,
    first: usize,
    columns: usize,
    condition: Option<Expression<Named>>,
}

impl Placing {
    pub(super) fn new() -> Placing {
        Placing {
            cursor: At::Front(0),
            any: false,
            front: 0,
            front_required: 0,
            tail: 0,
            tail_required: 0,
            varying: None,
            count: Count::ToEnd,
            taken: Vec::new(),
            unsure: Vec::new(),
            of_header: 0,
        }
    }

    /// Notes where a field stands, and doubts it if another stands there.
    fn report_overlap(&mut self, declared: &Declared, place: usize, size: usize, problems: &mut Problems) {
        let shared = self.taken.iter().find(|(first, count, _)| place < first + count && *first < place + size);
        if let Some((first, count, other)) = shared {
            let (first, last) = (place.max(*first) + 1, (place + size).min(first + count));
            let kind = ProblemKind::Overlap { unit: "column", first, last, other: other.clone() };
            problems.doubt(declared.span.clone(), kind);
        }
        let name = declared.name.as_ref().map_or("a constant".to_string(), |name| format!("`{}`", name.value));
        self.taken.push((place, size, name));
    }

    /// Whether anything is read by columns.
    pub(super) fn has_columns(&self) -> bool {
        self.any
    }

    /// How many columns a header has.
    pub(super) fn columns(&self) -> usize {
        self.front
    }

    /// The place of a field of so many columns, and the cursor moved behind it.
    fn place(&mut self, declared: &Declared, size: usize, optional: bool, problems: &mut Problems) -> At {
        let at = match &declared.place {
            Place::Columns(place) => {
                let (first, last) = place.value;
                if first != last && last + 1 - first != size {
                    let kind = ProblemKind::Senseless(
                        "this many columns do not go with the type (a date or clock takes as many as its layout says, lat and lon take two, an integer in hex as many as its digits divide into)",
                    );
                    problems.add(place.span.clone(), kind);
                }
                At::Front(first - 1)
            }
            Place::Byte(place) => {
                let kind = ProblemKind::Conflict {
                    key: "byte",
                    with: "a text: its places are `column` or `chars`".to_string(),
                };
                problems.add(place.span.clone(), kind);
                self.cursor
            }
            Place::Next | Place::Characters(_) => self.cursor,
        };
        self.any = true;
        match at {
            At::Front(place) => {
                if self.varying.is_some_and(|(start, _)| place + size > start) {
                    let kind = ProblemKind::Unplaced(
                        "a group of varying length stands before it; let it follow without `column`",
                    );
                    problems.add(declared.span.clone(), kind);
                }
                self.report_overlap(declared, place, size, problems);
                self.cursor = At::Front(place + size);
                self.front = self.front.max(place + size);
                if !optional {
                    self.front_required = self.front_required.max(place + size);
                }
            }
            At::Tail(place) => {
                self.cursor = At::Tail(place + size);
                self.tail = self.tail.max(place + size);
                if !optional {
                    self.tail_required = self.tail_required.max(place + size);
                }
            }
            At::Back(_) | At::Part { .. } => {}
        }
        at
    }

    fn vary(&mut self, declared: &Declared, item: usize, count: Count, problems: &mut Problems) -> At {
        let start = match (&declared.place, self.cursor) {
            _ if self.varying.is_some() => None,
            (Place::Columns(place), _) => Some(place.value.0 - 1),
            (_, At::Front(place)) => Some(place),
            _ => None,
        };
        let Some(start) = start else {
            let kind = ProblemKind::Unplaced("another group of varying length stands before it");
            problems.add(declared.span.clone(), kind);
            return self.cursor;
        };
        if start < self.front {
            problems.add(declared.span.clone(), ProblemKind::Unplaced("an earlier field stands behind it"));
        }
        self.any = true;
        self.front = start;
        self.front_required = start;
        self.varying = Some((start, item));
        self.count = count;
        self.cursor = At::Tail(0);
        At::Front(start)
    }

    /// The header ends; fields of a record follow.
    pub(super) fn end_header(&mut self) {
        self.of_header = self.unsure.len();
    }

    /// Notes that a field may not be there: as its condition says, or since it is optional.
    fn note_unsure(&mut self, sheet: &Sheet, declared: &Declared, at: At, columns: usize, problems: &mut Problems) {
        if declared.when.is_none() && !declared.optional {
            return;
        }
        if let (Some(when), true) = (&declared.when, declared.optional) {
            let with = "`optional`: the condition says when it is there".to_string();
            problems.add(when.span.clone(), ProblemKind::Conflict { key: "when", with });
            return;
        }
        let At::Front(first) = at else {
            refuse_condition(declared, "a field behind a group of varying length", problems);
            return;
        };
        let asked: Vec<_> = sheet.known.iter().map(|(declared, field)| (named(declared), field)).collect();
        let condition = match &declared.when {
            None => None,
            Some(when) => {
                match bound(when, "field before this one called", &asked, true, &declared.charsets, &[], problems) {
                    None => return,
                    condition => condition,
                }
            }
        };
        let step = sheet.separation.places();
        let mut stands_behind = false;
        condition.iter().for_each(|condition| {
            condition.names(&mut |name| {
                if let Named::Field(field) = name
                    && let Some((_, field)) = asked.get(usize::from(*field))
                    && let (At::Front(column), true) = (field.at, field.raw.is_column())
                {
                    stands_behind |= column >= first * step;
                }
            });
        });
        if let (Some(when), true) = (&declared.when, stands_behind) {
            let kind = ProblemKind::Senseless("the condition of a field asks only for what stands before it");
            problems.add(when.span.clone(), kind);
        }
        self.unsure.push(Unsure { span: declared.span.clone(), first, columns, condition });
    }

    /// Where columns may be missing amid others, which of them; nothing if that cannot be.
    pub(super) fn gaps(&self, sheet: &Sheet, problems: &mut Problems) -> Option<Box<Gaps>> {
        let own = self.unsure.get(self.of_header..).unwrap_or_default();
        let is_amid = |unsure: &&Unsure| unsure.condition.is_some() || unsure.first < self.front_required;
        own.iter().find(is_amid)?;
        let mut unsure: Vec<&Unsure> = own.iter().collect();
        unsure.sort_by_key(|unsure| unsure.first);
        let mut parts: Vec<Part> = Vec::new();
        let (mut column, mut run) = (0, None);
        let always = |columns: usize| Part { columns, there: There::Always };
        for one in unsure {
            if one.first > column {
                parts.push(always(one.first - column));
            }
            if one.first < column {
                problems.add(
                    one.span.clone(),
                    ProblemKind::Senseless("another field that may not be there has this column, too"),
                );
                return None;
            }
            column = one.first + one.columns;
            let there = match &one.condition {
                Some(condition) if run.is_none_or(|end| end >= self.front_required) => There::If(condition.clone()),
                Some(_) => {
                    let why = "an optional column stands before it: that is told by the number of columns, which this condition alters";
                    problems.add(one.span.clone(), ProblemKind::Unplaced(why));
                    return None;
                }
                None if run.is_some_and(|end| end != one.first) => {
                    let why = "optional columns stand together: else their number does not tell which of them are there. A `when` may";
                    problems.add(one.span.clone(), ProblemKind::Unplaced(why));
                    return None;
                }
                None => {
                    run = Some(column);
                    if one.first >= self.front_required {
                        // At the end, what is not there is missing.
                        column = one.first;
                        continue;
                    }
                    There::Counted { behind: 0 }
                }
            };
            parts.push(Part { columns: one.columns, there });
        }
        if let (Some(_), Some(first)) =
            (&self.varying.filter(|_| run.is_some()), own.iter().find(|one| one.condition.is_none()))
        {
            let why = "a group of varying length stands behind it: then the number of columns does not tell whether it is there";
            problems.add(first.span.clone(), ProblemKind::Unplaced(why));
            return None;
        }
        if self.front_required > column {
            parts.push(always(self.front_required - column));
        }
        let behind: usize = match parts.iter().rposition(|part| matches!(part.there, There::Counted { .. })) {
            Some(last) => parts[last + 1..].iter().map(|part| part.columns).sum(),
            None => 0,
        };
        for part in &mut parts {
            if let There::Counted { behind: there } = &mut part.there {
                *there = behind;
            }
        }
        let fields = sheet.known.iter().map(|(_, field)| field.clone()).collect();
        Some(Box::new(Gaps { parts: parts.into(), fields }))
    }

    /// The shape of a record's texts.
    pub(super) fn shape(&self, more: bool, separation: &Separation) -> Shape {
        Shape {
            unit: match separation {
                _ if !self.any => ShapeUnit::Characters,
                Separation::Byte(_) => ShapeUnit::Columns,
                Separation::Apart(_) => ShapeUnit::Apart,
            },
            front: self.front,
            front_required: self.front_required,
            item: self.varying.map_or(0, |(_, item)| item),
            count: self.count.clone(),
            tail: self.tail,
            tail_required: self.tail_required,
            back: 0,
            more,
            labels: None,
            no_gaps: separation.is_blank(),
        }
    }
}

/// Adds the fields of a header, record or group.
pub(super) fn add_fields(sheet: &mut Sheet, placing: &mut Placing, fields: &[Declared], problems: &mut Problems) {
    for declared in fields {
        let listed = listed(declared);
        let declared = listed.as_ref().unwrap_or(declared);
        match &declared.group {
            Some(group) => add_group(sheet, placing, declared, group, problems),
            None => add_field(sheet, placing, declared, problems),
        }
    }
}

fn add_field(sheet: &mut Sheet, placing: &mut Placing, declared: &Declared, problems: &mut Problems) {
    if sheet.add_part(declared, problems) {
        refuse_condition(declared, "a part of the field before it", problems);
        return;
    }
    let Some(kind) = field_type(declared, Reading::Text, problems) else { return };
    if let Place::Characters(place) = &declared.place {
        let (first, last) = place.value;
        refuse_condition(declared, "`chars`: it takes no column", problems);
        if sheet.group.is_some() {
            let kind = ProblemKind::Conflict { key: "chars", with: "the items of a group".to_string() };
            problems.add(place.span.clone(), kind);
        }
        let text = if first == last { format!("char {first}") } else { format!("chars {first}-{last}") };
        sheet.add(declared, kind, At::Front(0), text, problems);
        return;
    }
    // A layout that cannot be read is reported where the field is compiled.
    let layout = layout_of(declared, kind, &mut Problems::default());
    let size = column_size(declared, kind, layout.as_ref(), &sheet.separation);
    let at = placing.place(declared, size, declared.optional, problems);
    let place = place_text(at, size, sheet.group.is_some());
    match sheet.group {
        Some(_) => {
            let with = "the items of a group, which are all alike";
            refuse_condition(declared, with, problems);
            refuse_optional(declared, with, problems);
        }
        None => placing.note_unsure(sheet, declared, at, size, problems),
    }
    sheet.add(declared, kind, written_down(at, &sheet.separation), place, problems);
}

fn add_group(
    sheet: &mut Sheet,
    placing: &mut Placing,
    declared: &Declared,
    group: &DeclaredGroup,
    problems: &mut Problems,
) {
    refuse_condition(declared, "a group", problems);
    refuse_optional(
        declared,
        "a group of a text: one that may have no items takes what is left, with `up_to = \"end\"`",
        problems,
    );
    if let Place::Characters(place) = &declared.place {
        let with = "a group or a list: they stand in columns".to_string();
        problems.add(place.span.clone(), ProblemKind::Conflict { key: "chars", with });
    }
    let Some(name) = &declared.name else {
        problems.add(declared.span.clone(), ProblemKind::MissingKey { key: "name", table: "a group" });
        return;
    };
    let mut items = sheet.for_group(&name.value);
    let mut inner = Placing::new();
    items.learn(|items, problems| add_fields(items, &mut inner.clone(), &group.fields, problems));
    add_fields(&mut items, &mut inner, &group.fields, problems);
    let size = inner.front;
    if inner.varying.is_some() {
        let kind = ProblemKind::Unplaced("the items of a group have to be of one size");
        problems.add(declared.span.clone(), kind);
        return;
    }
    if let Some(size) = &group.size {
        let with = "a text".to_string();
        problems.add(size.span.clone(), ProblemKind::Conflict { key: "size", with });
    }
    if size == 0 {
        problems.add(declared.span.clone(), ProblemKind::EmptyItem);
        return;
    }
    let (first, count, place) = match &group.count {
        DeclaredCount::Fixed(count) => {
            let whole = size.saturating_mul(count.value);
            if whole > crate::limits::LINE {
                let kind =
                    ProblemKind::TooMany { what: "columns for a group", found: whole, limit: crate::limits::LINE };
                problems.add(count.span.clone(), kind);
                return;
            }
            let at = placing.place(declared, whole, false, problems);
            (
                at,
                Some(count.value),
                format!("{}, {} times {size}", place_text(at, whole, sheet.group.is_some()), count.value),
            )
        }
        DeclaredCount::Field(from) => {
            let Some(field) = find_count(sheet, from, problems) else { return };
            let at = placing.vary(declared, size, Count::Field(field.into()), problems);
            (at, None, format!("{} to …, {} times {size}", place_text(at, 1, false), from.value))
        }
        DeclaredCount::Until(until) => {
            let with = "a text: `up_to = \"end\"` takes what is left".to_string();
            problems.add(until.span.clone(), ProblemKind::Conflict { key: "until", with });
            return;
        }
        DeclaredCount::ToEnd => {
            let at = placing.vary(declared, size, Count::ToEnd, problems);
            (at, None, format!("{} to …, {size} each", place_text(at, 1, false)))
        }
    };
    Output::count_neighbours(&mut items.outputs);
    let (first, size) = (written_down(first, &sheet.separation), size * sheet.separation.places());
    push_group(
        sheet,
        items,
        declared,
        name,
        Group { first, step: Stride::Even(size), count, outputs: Vec::new() },
        place,
    );
}

fn refuse_optional(declared: &Declared, with: &str, problems: &mut Problems) {
    if declared.optional {
        problems.add(declared.span.clone(), ProblemKind::Conflict { key: "optional", with: with.to_string() });
    }
}

fn named(declared: &Declared) -> &str {
    declared.name.as_ref().map_or("", |name| name.value.as_str())
}

/// Whether columns of a record may not be there amid others.
pub(super) fn may_have_gaps(fields: &[Declared]) -> bool {
    let mut optional = false;
    fields.iter().filter(|field| !matches!(field.place, Place::Characters(_))).any(|field| {
        optional |= field.optional;
        field.when.is_some() || (optional && !field.optional)
    })
}

/// A column as a place among those that are written down of a text.
fn written_down(at: At, separation: &Separation) -> At {
    let places = separation.places();
    match at {
        At::Front(column) => At::Front(column * places),
        At::Tail(column) => At::Tail(column * places),
        At::Back(column) => At::Back(column * places),
        At::Part { .. } => at,
    }
}

fn place_text(at: At, size: usize, in_group: bool) -> String {
    let range = |place: usize| match size {
        1 => (place + 1).to_string(),
        _ => format!("{}-{}", place + 1, place + size),
    };
    match at {
        At::Front(place) if in_group => format!("item column {}", range(place)),
        At::Front(place) => format!("column {}", range(place)),
        At::Tail(place) => format!("then column {}", range(place)),
        At::Back(_) | At::Part { .. } => String::new(),
    }
}
