//! The account of readings: for each field, how many had no usable value or one that makes no sense, with the first of each.
//!
//! A ledger says what became of bytes; whether what was made of them can be meant is told here. A format with the wrong byte order books
//! every byte as recorded, and nearly every value as out of range.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::limits;
use crate::plan::Plan;
use crate::record::{Cell, Items, Record};
use crate::schema::FieldSchema;
use crate::value::{Absent, Quality, Reading, Value};

/// What a reading is, if it is not simply a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Class {
    /// Outside of the range that the format allows.
    OutOfRange,
    /// Not a value of the field's type.
    Invalid,
    /// Text that is not valid in its encoding.
    InvalidText,
    /// A floating-point number that is a NaN or infinite.
    NotFinite,
    /// Absent, since what was sent means "no data".
    Marked,
}

impl Class {
    /// All of them.
    pub const ALL: [Class; 5] =
        [Class::OutOfRange, Class::Invalid, Class::InvalidText, Class::NotFinite, Class::Marked];

    /// The class of a reading; nothing of a plain value, or of one that is absent without a mark.
    #[inline]
    pub fn of(value: Value<'_>, quality: Quality) -> Option<Class> {
        match quality {
            Quality::Good if matches!(value, Value::Absent(Absent::Marked)) => Some(Class::Marked),
            // A limit that a device tells is a value like any other, and so is one of several answers.
            Quality::Good | Quality::Below | Quality::Above | Quality::Pieced => None,
            Quality::OutOfRange => Some(Class::OutOfRange),
            Quality::Invalid => Some(Class::Invalid),
            Quality::InvalidText => Some(Class::InvalidText),
            Quality::NotFinite => Some(Class::NotFinite),
        }
    }

    /// The word for it, the same as in outputs.
    pub const fn word(self) -> &'static str {
        match self {
            Class::OutOfRange => Quality::OutOfRange.word(),
            Class::Invalid => Quality::Invalid.word(),
            Class::InvalidText => Quality::InvalidText.word(),
            Class::NotFinite => Quality::NotFinite.word(),
            Class::Marked => "no_data",
        }
    }
}

/// Where a reading stands in a record: the place of its field, or that of a group's field, the item, and the place within.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Place {
    field: u16,
    within: Steps,
}

/// Items of groups in one another, and what is meant of each.
type Steps = ([(u32, u16); limits::NESTING], u8);

/// Which item of a group something is about, with those that the group is in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ItemPath(Place);

impl ItemPath {
    /// An item of the group at that place of the record.
    pub fn new(group: u16, item: u32) -> ItemPath {
        let mut steps = [(0, 0); limits::NESTING];
        steps[0].0 = item;
        ItemPath(Place { field: group, within: (steps, 1) })
    }

    /// An item of the group at that place of this item.
    pub fn within(self, group: u16, item: u32) -> ItemPath {
        let ItemPath(Place { field, within: (mut steps, count) }) = self;
        let last = usize::from(count) - 1;
        steps[last].1 = group;
        if let Some(next) = steps.get_mut(last + 1) {
            next.0 = item;
        }
        ItemPath(Place { field, within: (steps, (count + 1).min(limits::NESTING as u8)) })
    }

    /// What is said of a field of the item.
    fn place(self, of: u16) -> Place {
        let ItemPath(Place { field, within: (mut steps, count) }) = self;
        steps[usize::from(count) - 1].1 = of;
        Place { field, within: (steps, count) }
    }
}

impl Place {
    fn steps(&self) -> &[(u32, u16)] {
        &self.within.0[..usize::from(self.within.1)]
    }
}

/// What was noticed while the fields of one record were shown to a visitor.
#[derive(Clone, Debug, Default)]
pub struct Notes(Vec<(Place, Class)>);

impl Notes {
    /// Forgets all but the first so many.
    pub fn truncate(&mut self, length: usize) {
        self.0.truncate(length);
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Notes a reading of a record.
    pub fn field(&mut self, schema: &FieldSchema, class: Class) {
        self.0.push((Place { field: schema.place, within: Default::default() }, class));
    }

    /// Notes a reading of a record, if there is anything to be noted.
    #[inline]
    pub fn extend_field(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        if let Some(class) = Class::of(reading.value, reading.quality) {
            self.field(schema, class);
        }
    }

    /// Notes a reading of an item.
    pub fn item(&mut self, item: ItemPath, schema: &FieldSchema, class: Class) {
        self.0.push((item.place(schema.place), class));
    }

    /// Notes a reading of an item, if there is anything to be noted.
    pub fn extend_item(&mut self, item: ItemPath, schema: &FieldSchema, reading: Reading<'_>) {
        if let Some(class) = Class::of(reading.value, reading.quality) {
            self.item(item, schema, class);
        }
    }

    /// Notes all readings of a record that are no plain values.
    pub fn extend_record(&mut self, record: &Record<'_>) {
        for (schema, cell) in record.fields() {
            match cell {
                Cell::Reading(reading) => self.extend_field(schema, reading),
                Cell::Group(items) => self.extend_items(None, schema, items),
            }
        }
    }

    /// Notes all readings of the items of a group, and of groups in them. `around` is the item that the group is in.
    fn extend_items(&mut self, around: Option<ItemPath>, group: &FieldSchema, items: Items<'_>) {
        for (index, item) in items.enumerate() {
            let index = index as u32;
            let path = around.map_or(ItemPath::new(group.place, index), |around| around.within(group.place, index));
            for (inner, cell) in item.fields() {
                match cell {
                    Cell::Reading(reading) => self.extend_item(path, inner, reading),
                    Cell::Group(items) => self.extend_items(Some(path), inner, items),
                }
            }
        }
    }
}

/// How many readings of each field were of which class.
#[derive(Clone, Debug, Default)]
pub struct Qualities {
    kinds: Vec<Kind>,
}

#[derive(Clone, Debug, Default)]
struct Kind {
    name: String,
    records: u64,
    fields: Vec<Field>,
    /// The places of its groups.
    groups: Vec<usize>,
}

#[derive(Clone, Debug, Default)]
struct Field {
    name: String,
    /// Items of a group, by now.
    items: u64,
    fields: Vec<Field>,
    /// Whether it is the value of a list.
    is_value: bool,
    /// Whether its items have groups.
    has_groups: bool,
    seen: [Seen; Class::ALL.len()],
}

/// Readings of one class.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Seen {
    /// How many.
    pub count: u64,
    /// Stream offset of the first one's record.
    pub offset: u64,
    /// The first: its value, or what was sent instead of one.
    pub first: String,
}

/// What is to be said of one field.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FieldQualities<'q> {
    /// The kind of record.
    pub record: &'q str,
    /// The field, or `group.field`.
    pub field: String,
    /// How many readings there were.
    pub readings: u64,
    /// Those that were no plain values.
    pub seen: Vec<(Class, &'q Seen)>,
}

impl FieldQualities<'_> {
    /// The share of readings that cannot be used as they are: those absent by mark are none of them.
    pub fn unusable(&self) -> f64 {
        let unusable: u64 =
            self.seen.iter().filter(|(class, _)| *class != Class::Marked).map(|(_, seen)| seen.count).sum();
        if self.readings == 0 { 0.0 } else { unusable as f64 / self.readings as f64 }
    }
}

impl Qualities {
    /// An empty account of the records of a plan.
    pub fn new(plan: &Plan) -> Qualities {
        let kinds = plan.schema().kinds.iter().map(|kind| Kind {
            name: kind.name.clone(),
            records: 0,
            fields: kind.fields.iter().map(Field::new).collect(),
            groups: (0..kind.fields.len()).filter(|place| !kind.fields[*place].items.is_empty()).collect(),
        });
        Qualities { kinds: kinds.collect() }
    }

    /// Takes in a record, field by field.
    pub fn record(&mut self, record: &Record<'_>) {
        let mut notes = Notes::default();
        notes.extend_record(record);
        self.noted(record, &notes);
    }

    /// Takes in a record of which all that is not plain has been noted. Much faster than [`Qualities::record`] for who shows its fields to a
    /// visitor anyway.
    #[inline]
    pub fn noted(&mut self, record: &Record<'_>, notes: &Notes) {
        let Some(kind) = self.kinds.get_mut(record.kind_index()) else { return };
        kind.records += 1;
        for place in &kind.groups {
            let Some(items) = record.group_at(*place) else { continue };
            kind.fields[*place].count(items);
        }
        if !notes.is_empty() {
            self.take(record, notes);
        }
    }

    #[inline(never)]
    fn take(&mut self, record: &Record<'_>, notes: &Notes) {
        let fields = &mut self.kinds[record.kind_index()].fields;
        for (place, class) in &notes.0 {
            let Some(field) = fields.get_mut(usize::from(place.field)) else { continue };
            let mut found = Some(field);
            for step in place.steps() {
                found = found.and_then(|field| field.fields.get_mut(usize::from(step.1)));
            }
            let Some(field) = found else { continue };
            let seen = &mut field.seen[*class as usize];
            if seen.count == 0 {
                seen.offset = record.offset();
                seen.first = first(record, *place);
            }
            seen.count += 1;
        }
    }

    /// Adds the account of what came later.
    pub fn join(&mut self, later: Qualities) {
        if self.kinds.is_empty() {
            *self = later;
            return;
        }
        for (kind, later) in self.kinds.iter_mut().zip(later.kinds) {
            kind.records += later.records;
            join_fields(&mut kind.fields, later.fields);
        }
    }

    /// The fields of which there is anything to be said, in the order of the schema.
    pub fn iter(&self) -> impl Iterator<Item = FieldQualities<'_>> {
        self.kinds.iter().flat_map(|kind| {
            let mut all = Vec::new();
            kind.fields.iter().for_each(|field| FieldQualities::gather(kind, "", kind.records, field, &mut all));
            all
        })
    }
}

impl Field {
    fn new(schema: &FieldSchema) -> Field {
        let is_list = schema.is_list();
        let fields = schema.items.iter().map(|inner| Field { is_value: is_list, ..Field::new(inner) }).collect();
        let has_groups = schema.items.iter().any(|inner| !inner.items.is_empty());
        Field { name: schema.name.clone(), fields, has_groups, ..Field::default() }
    }

    /// Counts the items of a group, and of groups in them.
    fn count(&mut self, items: Items<'_>) {
        self.items += items.len() as u64;
        if self.has_groups {
            for item in items {
                for (place, field) in self.fields.iter_mut().enumerate() {
                    if let Some(items) = item.group_at(place) {
                        field.count(items);
                    }
                }
            }
        }
    }
}

impl<'q> FieldQualities<'q> {
    /// What is to be said of a field and of those of its items. `path` is that of the group that it is in.
    fn gather(kind: &'q Kind, path: &str, readings: u64, field: &'q Field, all: &mut Vec<FieldQualities<'q>>) {
        let seen: Vec<(Class, &Seen)> =
            Class::ALL.into_iter().zip(&field.seen).filter(|(_, seen)| seen.count > 0).collect();
        let name = match (path, field.is_value) {
            ("", _) => field.name.clone(),
            (list, true) => list.to_string(),
            (path, false) => alloc::format!("{path}.{}", field.name),
        };
        for inner in &field.fields {
            FieldQualities::gather(kind, &name, field.items, inner, all);
        }
        if !seen.is_empty() {
            all.push(FieldQualities { record: &kind.name, field: name, readings, seen });
        }
    }
}

fn join_fields(fields: &mut [Field], later: Vec<Field>) {
    for (field, later) in fields.iter_mut().zip(later) {
        field.items += later.items;
        for (seen, later) in field.seen.iter_mut().zip(later.seen) {
            let count = seen.count + later.count;
            if seen.count == 0 {
                *seen = later;
            }
            seen.count = count;
        }
        join_fields(&mut field.fields, later.fields);
    }
}

/// The value, or what was sent instead of one: texts in quotes, bytes in hex.
fn first(record: &Record<'_>, place: Place) -> String {
    let (reading, sent) = match place.steps() {
        [] => (record.field(usize::from(place.field)), record.sent(usize::from(place.field))),
        [around @ .., (_, inner)] => {
            let first = place.within.0[0].0;
            let mut item = record.group_at(usize::from(place.field)).and_then(|mut items| items.nth(first as usize));
            for ((_, group), (next, _)) in around.iter().zip(place.steps().iter().skip(1)) {
                let items = item.and_then(|item| item.group_at(usize::from(*group)));
                item = items.and_then(|mut items| items.nth(*next as usize));
            }
            let inner = usize::from(*inner);
            (item.and_then(|item| item.field(inner)), item.and_then(|item| item.sent(inner)))
        }
    };
    match (reading, sent) {
        (Some(Reading { value, .. }), _) if value.is_present() => value.to_string(),
        (_, Some(sent)) => shown(sent.bytes, sent.is_text),
        _ => String::new(),
    }
}

/// Sent bytes as people read them: text in quotes, anything else in hex.
pub(crate) fn shown(bytes: &[u8], is_text: bool) -> String {
    match is_text {
        true => alloc::format!("\"{}\"", bytes.escape_ascii()),
        false => bytes.iter().map(|byte| alloc::format!("{byte:02X}")).collect::<Vec<_>>().join(" "),
    }
}
