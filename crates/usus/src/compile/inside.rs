//! Lines inside of others: which fields carry them.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::sheet::Sheet;
use crate::format::{self, Format, Spanned};
use crate::plan::{Carried, Inside, Kind, Meaning};
use crate::problem::{ProblemKind, Problems, nearest};

/// The fields that carry frames, each once, in the order in which frames name them.
fn named(format: &Format) -> Vec<&Spanned<String>> {
    let mut named: Vec<&Spanned<_>> = Vec::new();
    for inside in format.frames.iter().filter_map(|frame| frame.inside.as_ref()) {
        if !named.iter().any(|known| known.value == inside.value) {
            named.push(inside);
        }
    }
    named
}

/// What the records of a layout carry.
pub(super) fn carried(format: &Format, owner: &format::Record, sheet: &Sheet) -> Vec<Carried> {
    let of_this = |(number, inside): (usize, &Spanned<String>)| {
        let name = inside.value.strip_prefix(owner.kind.value.as_str())?.strip_prefix('.')?;
        let field = sheet.find(name).ok().filter(|field| carries(&field.meaning))?;
        Some(Carried { inside: number as u16, field: field.clone() })
    };
    named(format).into_iter().enumerate().filter_map(of_this).collect()
}

/// Whether values of that meaning are bytes that can be cut again.
fn carries(meaning: &Meaning) -> bool {
    matches!(meaning, Meaning::Text { .. } | Meaning::Bytes | Meaning::HexBytes)
}

/// The lines inside of others. Routes of lines that are fed come first.
pub(super) fn compile_insides(format: &Format, fed: usize, kinds: &[Kind], problems: &mut Problems) -> Vec<Inside> {
    let named = named(format);
    for (number, inside) in named.iter().enumerate() {
        if let Some(kind) = what_is_wrong(format, number as u16, &inside.value, kinds) {
            problems.add(inside.span.clone(), kind);
        }
    }
    for (index, frame) in format.frames.iter().enumerate() {
        let Some(inside) = &frame.inside else { continue };
        if around(format, index).contains(&index) {
            problems.add(inside.span.clone(), ProblemKind::Senseless("a frame cannot lie inside of itself"));
        }
        let with = match &frame.cut {
            _ if frame.on.is_some() => "`on`: it is cut from what other records carry",
            format::Cut::Idle { .. } | format::Cut::Break { .. } | format::Cut::Text { idle: Some(_), .. } => {
                "frames that silences or breaks end: inside of others there are none"
            }
            _ => continue,
        };
        problems.add(inside.span.clone(), ProblemKind::Conflict { key: "inside", with: with.to_string() });
    }
    let inside =
        |(number, inside): (usize, &&Spanned<String>)| Inside { name: inside.value.clone(), route: fed + number };
    named.iter().enumerate().map(inside).collect()
}

/// Why a name is not that of a field which carries anything.
fn what_is_wrong(format: &Format, number: u16, path: &str, kinds: &[Kind]) -> Option<ProblemKind> {
    let unknown = |what, name: &str, nearest| ProblemKind::UnknownName { what, name: name.to_string(), nearest };
    let Some((kind, field)) = path.split_once('.') else {
        return Some(ProblemKind::Senseless("`inside` names a field of a record, as \"record.field\""));
    };
    let Some(record) = format.records.iter().find(|record| record.kind.value == kind) else {
        return Some(unknown(
            "record",
            kind,
            nearest(kind, format.records.iter().map(|known| known.kind.value.as_str())),
        ));
    };
    if kinds.iter().any(|kind| kind.carries.iter().any(|carried| carried.inside == number)) {
        return None;
    }
    let frames = format.frames.iter().flat_map(|frame| &frame.header);
    let fields = record.layouts().flat_map(|layout| &layout.fields).chain(frames);
    let names: Vec<&str> = fields.filter_map(|field| Some(field.name.as_ref()?.value.as_str())).collect();
    Some(match names.contains(&field) {
        true => ProblemKind::Senseless("frames lie inside of `bytes` and of `text`, not of groups or other values"),
        false => unknown("field", field, nearest(field, names)),
    })
}

/// The frames that lie around one, however far.
fn around(format: &Format, frame: usize) -> Vec<usize> {
    let mut around: Vec<usize> = Vec::new();
    let mut next = [frame].to_vec();
    while let Some(frame) = next.pop() {
        let inside = format.frames.get(frame).and_then(|frame| frame.inside.as_ref());
        let kind = inside.and_then(|inside| inside.value.split_once('.')).map(|(kind, _)| kind);
        let records = format.records.iter().filter(|record| Some(record.kind.value.as_str()) == kind);
        for layout in records.flat_map(format::Record::layouts) {
            let found = match &layout.frame {
                Some(name) => format.frames.iter().position(|frame| frame.name == name.value),
                None => Some(0),
            };
            if let Some(found) = found.filter(|found| !around.contains(found)) {
                around.push(found);
                next.push(found);
            }
        }
    }
    around
}

/// Whether a frame is cut from such a line.
pub(super) fn is_cut_from(frame: &format::Frame, inside: &Inside) -> bool {
    frame.inside.as_ref().is_some_and(|named| named.value == inside.name)
}
