//! Placing the fields of texts whose columns another line names.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::ToString;
use alloc::vec::Vec;

use super::columns::Placing;
use super::field::{column_size, field_type, layout_of};
use super::sheet::{Sheet, refuse_condition};
use crate::format::{Field as Declared, Format, Place, Record};
use crate::plan::{At, Count, Heading, Reading, Shape, ShapeUnit};
use crate::problem::{ProblemKind, Problems, nearest};
use crate::value::sent;

/// Adds the fields of a record behind the columns of its header, in the order in which they are declared.
pub(super) fn add(
    format: &Format,
    record: &Record,
    header: &Placing,
    sheet: &mut Sheet,
    problems: &mut Problems,
) -> (Option<Box<Heading>>, Shape) {
    let front = header.columns();
    let mut labels: Vec<(&Declared, &str)> = Vec::new();
    sheet.learn(|sheet, problems| drop(add_fields(sheet, front, &record.fields, problems)));
    labels.extend(add_fields(sheet, front, &record.fields, problems));
    let columns = front + labels.len();
    let shape = Shape {
        unit: ShapeUnit::Apart,
        front: columns,
        front_required: columns,
        count: Count::ToEnd,
        more: record.more,
        ..Shape::fixed_bytes(0, 0)
    };
    (heading_of(format, record, front, &labels, problems), shape)
}

fn heading_of(
    format: &Format,
    record: &Record,
    front: usize,
    labels: &[(&Declared, &str)],
    problems: &mut Problems,
) -> Option<Box<Heading>> {
    let name = record.heading.as_ref()?;
    let number = format.records.iter().position(|other| other.kind.value == name.value);
    let Some(number) = number else {
        let nearest = nearest(&name.value, format.records.iter().map(|record| record.kind.value.as_str()));
        let kind = ProblemKind::UnknownName { what: "record", name: name.value.clone(), nearest };
        problems.add(name.span.clone(), kind);
        return None;
    };
    let heading = &format.records[number];
    if heading.heading.is_some() || !heading.printed.is_empty() || heading.pattern.is_some() {
        let why = "a heading is a record in columns, whose own columns no heading names";
        problems.add(name.span.clone(), ProblemKind::Senseless(why));
    } else if name.value == record.kind.value {
        problems.add(name.span.clone(), ProblemKind::Senseless("a record cannot be its own heading"));
    }
    Some(Box::new(Heading {
        record: number as u16,
        front,
        labels: labels.iter().map(|(field, label)| sent(label, &field.charsets)).collect(),
        required: labels.iter().map(|(field, _)| !field.optional).collect(),
    }))
}

/// Returns the fields that a heading names, with their labels.
fn add_fields<'f>(
    sheet: &mut Sheet,
    front: usize,
    fields: &'f [Declared],
    problems: &mut Problems,
) -> Vec<(&'f Declared, &'f str)> {
    let mut labels: Vec<(&Declared, &str)> = Vec::new();
    for declared in fields {
        refuse_condition(declared, "columns that a heading names, where `optional` is enough", problems);
        if declared.group.is_some() {
            let kind = ProblemKind::Senseless("there are no groups among columns that a heading names");
            problems.add(declared.span.clone(), kind);
            continue;
        }
        if sheet.add_part(declared, problems) {
            continue;
        }
        let Some(kind) = field_type(declared, Reading::Text, problems) else { continue };
        let with = |key| ProblemKind::Conflict { key, with: "`heading`: a field is found by its `label`".to_string() };
        match &declared.place {
            Place::Characters(place) => {
                let (first, last) = place.value;
                sheet.add(declared, kind, At::Front(0), format!("chars {first}-{last}"), problems);
                continue;
            }
            Place::Byte(place) => problems.add(place.span.clone(), with("byte")),
            Place::Columns(place) => problems.add(place.span.clone(), with("column")),
            Place::Next => {}
        }
        let layout = layout_of(declared, kind, &mut Problems::default());
        if column_size(declared, kind, layout.as_ref(), &sheet.separation) != 1 {
            let kind = ProblemKind::Senseless("this takes several columns, and a heading names one");
            problems.add(declared.span.clone(), kind);
            continue;
        }
        let label = declared.label.as_ref().or(declared.name.as_ref()).map(|label| label.value.as_str());
        let Some(label) = label else {
            let kind = ProblemKind::MissingKey { key: "label", table: "a field without a name" };
            problems.add(declared.span.clone(), kind);
            continue;
        };
        if labels.iter().any(|(_, known)| *known == label) {
            problems.add(declared.span.clone(), ProblemKind::Twice { what: "label", name: label.to_string() });
        }
        let at = At::Front((front + labels.len()) * sheet.separation.places());
        labels.push((declared, label));
        let found = Declared { label: None, ..declared.clone() };
        sheet.add(&found, kind, at, format!("column {label}"), problems);
    }
    labels
}
