//! The account of readings: for each field, how many had no usable value or one that makes no sense, with the first of each.
//!
//! A ledger says what became of bytes; whether what was made of them can be meant is told here. A format with the wrong byte order books
//! every byte as recorded, and nearly every value as out of range.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::plan::Plan;
use crate::record::{Cell, Record};
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
            // A limit that a device tells is a value like any other.
            Quality::Good | Quality::Below | Quality::Above => None,
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
    item: Option<(u32, u16)>,
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
        self.0.push((Place { field: schema.place, item: None }, class));
    }

    /// Notes a reading of a record, if there is anything to be noted.
    #[inline]
    pub fn extend_field(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        if let Some(class) = Class::of(reading.value, reading.quality) {
            self.field(schema, class);
        }
    }

    /// Notes a reading of an item, of the group at that place of the record.
    pub fn item(&mut self, group: u16, item: u32, schema: &FieldSchema, class: Class) {
        self.0.push((Place { field: group, item: Some((item, schema.place)) }, class));
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
        let field = |schema: &FieldSchema| Field { name: schema.name.clone(), ..Field::default() };
        let kinds = plan.schema().kinds.iter().map(|kind| Kind {
            name: kind.name.clone(),
            records: 0,
            fields: kind
                .fields
                .iter()
                .map(|schema| Field { fields: schema.items.iter().map(field).collect(), ..field(schema) })
                .collect(),
            groups: (0..kind.fields.len()).filter(|place| !kind.fields[*place].items.is_empty()).collect(),
        });
        Qualities { kinds: kinds.collect() }
    }

    /// Takes in a record, field by field.
    pub fn record(&mut self, record: &Record<'_>) {
        let mut notes = Notes::default();
        for (schema, cell) in record.fields() {
            match cell {
                Cell::Reading(reading) => notes.extend_field(schema, reading),
                Cell::Group(items) => {
                    for (index, item) in items.enumerate() {
                        for (inner, Reading { value, quality }) in item.fields() {
                            if let Some(class) = Class::of(value, quality) {
                                notes.item(schema.place, index as u32, inner, class);
                            }
                        }
                    }
                }
            }
        }
        self.noted(record, &notes);
    }

    /// Takes in a record of which all that is not plain has been noted. Much faster than [`Qualities::record`] for who shows its fields to a
    /// visitor anyway.
    #[inline]
    pub fn noted(&mut self, record: &Record<'_>, notes: &Notes) {
        let Some(kind) = self.kinds.get_mut(record.kind_index()) else { return };
        kind.records += 1;
        for place in &kind.groups {
            let items = record.group_at(*place).map_or(0, |items| items.len());
            kind.fields[*place].items += items as u64;
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
            let field = match place.item {
                Some((_, inner)) => field.fields.get_mut(usize::from(inner)),
                None => Some(field),
            };
            let Some(field) = field else { continue };
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
            kind.fields.iter().flat_map(move |field| {
                let own = FieldQualities::of(kind, field.name.clone(), kind.records, field);
                let items = field.fields.iter().filter_map(move |inner| {
                    let name = alloc::format!("{}.{}", field.name, inner.name);
                    FieldQualities::of(kind, name, field.items, inner)
                });
                own.into_iter().chain(items)
            })
        })
    }
}

impl<'q> FieldQualities<'q> {
    fn of(kind: &'q Kind, name: String, readings: u64, field: &'q Field) -> Option<FieldQualities<'q>> {
        let seen: Vec<(Class, &Seen)> =
            Class::ALL.into_iter().zip(&field.seen).filter(|(_, seen)| seen.count > 0).collect();
        (!seen.is_empty()).then_some(FieldQualities { record: &kind.name, field: name, readings, seen })
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
    let (reading, sent) = match place.item {
        None => (record.field(usize::from(place.field)), record.sent(usize::from(place.field))),
        Some((item, inner)) => {
            let item = record.group_at(usize::from(place.field)).and_then(|mut items| items.nth(item as usize));
            let field = item.and_then(|item| item.fields().nth(usize::from(inner)));
            (field.map(|(_, reading)| reading), item.and_then(|item| item.sent(usize::from(inner))))
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
