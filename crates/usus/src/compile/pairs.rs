//! Placing the fields of texts in which each value stands behind its key.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::field::field_type;
use super::sheet::{Sheet, refuse_condition};
use crate::format::{Field as Declared, FieldType, Format, Frame, Place};
use crate::plan::{At, Count, Labels, Pairs, Reading, Shape, ShapeUnit};
use crate::problem::{ProblemKind, Problems};

/// Which labels a header or a record has so far.
#[derive(Clone)]
pub(super) struct Placing {
    /// The labels of the whole frame.
    labels: Vec<String>,
    known: Vec<bool>,
    required: Vec<(usize, String)>,
    /// Columns without a key.
    columns: usize,
}

/// The labels of all fields that are read from a frame.
pub(super) fn labels_of(format: &Format, frame: &Frame) -> Vec<String> {
    let fields = super::frame::records_of(format, frame).flat_map(|record| &record.fields);
    labels_in(frame.header.iter().chain(fields))
}

/// The labels of some fields.
pub(super) fn labels_in<'f>(fields: impl Iterator<Item = &'f Declared>) -> Vec<String> {
    let mut labels: Vec<String> = Vec::new();
    for label in fields.filter_map(label_of) {
        if !labels.iter().any(|known| known == label) {
            labels.push(label.to_string());
        }
    }
    labels
}

/// The key by which a field is found; nothing if it is found by its column or characters.
fn label_of(declared: &Declared) -> Option<&str> {
    match (&declared.label, &declared.place) {
        (Some(label), _) => Some(&label.value),
        (None, Place::Next) => declared.name.as_ref().map(|name| name.value.as_str()),
        (None, _) => None,
    }
}

impl Placing {
    pub(super) fn new(labels: &[String]) -> Placing {
        let known = alloc::vec![false; labels.len()];
        Placing { labels: labels.to_vec(), known, required: Vec::new(), columns: 0 }
    }

    pub(super) fn shape(self, more: bool) -> Shape {
        let labels = Labels { known: self.known.into(), required: self.required.into() };
        Shape {
            unit: ShapeUnit::Pairs,
            front: self.columns,
            front_required: 0,
            item: 0,
            count: Count::ToEnd,
            tail: 0,
            tail_required: 0,
            back: 0,
            more,
            labels: Some(labels.into()),
            no_gaps: false,
        }
    }

    /// The column of a field, and what is said of its place.
    fn place(&mut self, declared: &Declared, problems: &mut Problems) -> Option<(usize, String)> {
        let unkeyed = Pairs::FIRST + self.labels.len();
        match &declared.place {
            Place::Columns(place) if declared.label.is_none() => {
                let (first, last) = place.value;
                if first != last {
                    let kind = ProblemKind::Senseless("a field in pairs takes one column");
                    problems.add(place.span.clone(), kind);
                }
                self.columns = self.columns.max(first);
                return Some((unkeyed + first - 1, alloc::format!("column {first} without a key")));
            }
            Place::Next | Place::Characters(_) => {}
            Place::Byte(place) => {
                let with = "pairs: a field is found by its `label`, or by `column` or `chars`".to_string();
                problems.add(place.span.clone(), ProblemKind::Conflict { key: "byte", with });
            }
            Place::Columns(place) => {
                let with = "`label`: one of the two says where a field is".to_string();
                problems.add(place.span.clone(), ProblemKind::Conflict { key: "column", with });
            }
        }
        let Some(label) = label_of(declared) else {
            problems.add(
                declared.span.clone(),
                ProblemKind::MissingKey { key: "label", table: "a field in pairs without a name" },
            );
            return None;
        };
        let place = self.labels.iter().position(|known| known == label)?;
        if core::mem::replace(self.known.get_mut(place)?, true) {
            let span = declared.label.as_ref().map_or(&declared.span, |label| &label.span).clone();
            problems.add(span, ProblemKind::Twice { what: "label", name: label.to_string() });
        }
        Some((Pairs::FIRST + place, alloc::format!("key {label}")))
    }
}

/// Adds the fields of a header or record.
pub(super) fn add_fields(sheet: &mut Sheet, placing: &mut Placing, fields: &[Declared], problems: &mut Problems) {
    for declared in fields {
        refuse_condition(declared, "pairs, where `optional` is enough", problems);
        if declared.group.is_some() {
            problems.add(declared.span.clone(), ProblemKind::Senseless("there are no groups in pairs"));
            continue;
        }
        if sheet.add_part(declared, problems) {
            continue;
        }
        let Some(kind) = field_type(declared, Reading::Text, problems) else { continue };
        if let (Place::Characters(place), None) = (&declared.place, &declared.label) {
            let (first, last) = place.value;
            sheet.add(declared, kind, At::Front(0), alloc::format!("chars {first}-{last}"), problems);
            continue;
        }
        if matches!(kind, FieldType::Latitude | FieldType::Longitude) {
            let with = "pairs: its hemisphere is a column of its own".to_string();
            problems.add(declared.span.clone(), ProblemKind::Conflict { key: "type", with });
            continue;
        }
        let Some((column, place)) = placing.place(declared, problems) else { continue };
        if !declared.optional {
            let name = declared.name.as_ref().map(|name| name.value.clone()).unwrap_or_default();
            placing.required.push((column, name));
        }
        sheet.add(declared, kind, At::Front(2 * column), place, problems);
    }
}
