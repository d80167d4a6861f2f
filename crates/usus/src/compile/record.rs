//! Compiling the layout of a record, or what is ignored: the fields behind a header, and what chooses them.

use alloc::borrow::Cow;
use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::composed::Known;
use super::frame::separation;
use super::sheet::{Sheet, condition};
use super::{Draft, Placing, bytes, columns, heading, inside, pairs, parts, printed};
use crate::expression::Type;
use crate::format::{self, Format, Presence, Spanned};
use crate::limits;
use crate::plan::{At, Check, Counter, Field, Form, Ignore, Kind, LayoutRow, Separation, ShapeUnit, Slot};
use crate::problem::{ProblemKind, Problems};
use crate::value::Charset;

/// Reports a record that an earlier one without a condition leaves nothing to.
pub(super) fn report_unreachable(format: &Format, record: &format::Record, frame: usize, problems: &mut Problems) {
    let of_frame = |other: &&format::Record| match &other.frame {
        Some(name) => name.value == format.frames[frame].name,
        None => true,
    };
    let all = format.records.iter().flat_map(format::Record::layouts);
    let earlier = all.take_while(|other| !core::ptr::eq(*other, record));
    let takes_all =
        |other: &&format::Record| other.when.is_none() && other.printed.is_empty() && other.pattern.is_none();
    if let Some(earlier) = earlier.filter(of_frame).find(takes_all) {
        let kind = ProblemKind::Unreachable { record: record.kind.value.clone(), earlier: earlier.kind.value.clone() };
        problems.add(record.kind.span.clone(), kind);
    }
}

/// Fields with the character sets of their frame, where they do not say others.
pub(super) fn in_charsets<'f>(mut fields: Cow<'f, [format::Field]>, charsets: &[Charset]) -> Cow<'f, [format::Field]> {
    if !charsets.is_empty() {
        fields.to_mut().iter_mut().for_each(|field| set_charsets(field, charsets));
    }
    fields
}

fn set_charsets(field: &mut format::Field, charsets: &[Charset]) {
    let in_bytes = |kind| matches!(kind, format::FieldType::Bytes | format::FieldType::HexBytes);
    let has_none = field.kind.as_ref().is_some_and(|kind| in_bytes(kind.value));
    if field.charsets.is_empty() && !has_none {
        field.charsets = charsets.to_vec();
    }
    field.run.iter_mut().for_each(|run| run.fields.iter_mut().for_each(|field| set_charsets(field, charsets)));
    field.group.iter_mut().for_each(|group| group.fields.iter_mut().for_each(|field| set_charsets(field, charsets)));
}

/// A record, or a variant of one, that is to be compiled.
#[derive(Clone, Copy)]
pub(super) struct Compiled<'f> {
    pub(super) format: &'f Format,
    /// The record whose variant it is.
    pub(super) owner: &'f format::Record,
    pub(super) record: &'f format::Record,
    pub(super) frame: usize,
    /// What it is called: the record, or a variant or part of it.
    pub(super) what: &'f str,
    /// Fields of a question that its condition may ask for.
    pub(super) ask: &'f [(String, Type)],
}

/// The slot of a counter: variants of a record share those of their counters that have one name and begin again alike.
pub(super) fn slot_of(counter: &Counter, counted: &mut Vec<(String, u64, usize)>, slots: &mut Vec<Slot>) -> usize {
    let known = counted.iter().find(|(name, last, _)| *name == counter.name && *last == counter.last);
    if let Some((.., slot)) = known {
        return *slot;
    }
    counted.push((counter.name.clone(), counter.last, slots.len()));
    slots.push(Slot { last: counter.last, is_first: false });
    slots.len() - 1
}

/// How a record is read that is not read as its frame is: what stands between its columns, and where they are.
fn own_reading(
    record: &format::Record,
    frame: &format::Frame,
    draft: &mut Draft,
    problems: &mut Problems,
) -> Option<(Separation, Placing)> {
    let read = record.read.as_ref().filter(|read| read.value != frame.reads())?;
    let conflict = |with: &str| ProblemKind::Conflict { key: "read", with: with.to_string() };
    let no_text = match (frame.reads(), read.value) {
        (format::Read::Bytes, _) => Some("a frame that is read as bytes"),
        (_, format::Read::Bytes) => Some("a frame of text, of which a record is read as columns or pairs"),
        _ => None,
    };
    if let Some(why) = no_text {
        problems.add(read.span.clone(), conflict(why));
        return None;
    }
    if !record.printed.is_empty() || record.pattern.is_some() {
        problems.add(read.span.clone(), conflict("`printed` or `pattern`, which say how it is read"));
        return None;
    }
    if draft.frame.header_splits {
        problems.add(read.span.clone(), conflict("a header that is read by columns or keys: let it stand in `chars`"));
        return None;
    }
    if record.heading.is_some() && read.value == format::Read::Pairs {
        problems.add(read.span.clone(), conflict("`heading`"));
        return None;
    }
    (draft.frame.takes_long, draft.frame.has_columns) = (true, true);
    Some(match read.value {
        format::Read::Pairs => {
            let labels = pairs::labels_in(frame.header.iter().chain(&record.fields));
            (separation(frame, Some(&labels), true), Placing::Pairs(pairs::Placing::new(&labels)))
        }
        _ => (separation(frame, None, true), Placing::Columns(columns::Placing::new())),
    })
}

pub(super) fn compile_record(
    Compiled { format, owner, record, frame: frame_index, what, ask }: Compiled<'_>,
    draft: &mut Draft,
    layout: &mut Vec<LayoutRow>,
    forms: &mut printed::Numbers,
    problems: &mut Problems,
) -> (Kind, Known) {
    let declared_frame = &format.frames[frame_index];
    let mut sheet = draft.sheet.begin_record(what);
    let declaration = printed::Declaration {
        printed: &record.printed,
        pattern: record.pattern.as_ref(),
        fields: &record.fields,
        any_name: false,
        charsets: &declared_frame.charsets,
    };
    let (form, names) = form_of(declared_frame, &declaration, draft, forms, problems);
    let (mut gaps, mut heading, mut by_heading, mut walked) = (None, None, false, None);
    let own = own_reading(record, declared_frame, draft, problems);
    let placing = match &own {
        Some((separation, placing)) => {
            sheet.separation = separation.clone();
            placing.clone()
        }
        None => draft.placing.clone(),
    };
    let shape = match placing {
        _ if declaration.is_there() => {
            sheet.separation = Separation::nothing();
            let at = if draft.frame.header_splits { At::Tail } else { At::Front };
            sheet.learn(|sheet, problems| printed::add_fields(sheet, &names, at, &record.fields, problems));
            printed::add_fields(&mut sheet, &names, at, &record.fields, problems);
            printed::shape(names.len())
        }
        Placing::Bytes(mut placing) if parts::are_walked(&record.fields) => {
            (draft.frame.has_columns, draft.frame.is_walked) = (true, true);
            let checks = draft.frame.check.iter().flat_map(Check::all);
            checks.zip(&declared_frame.checksums).for_each(|(check, of)| placing.name_check(check, &of.span));
            let (shape, found) = parts::add_record(&mut sheet, &placing, &record.fields, &record.kind.span, problems);
            walked = Some(found);
            shape
        }
        Placing::Bytes(mut placing) => {
            sheet.learn(|sheet, problems| bytes::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            bytes::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            bytes::shape(&placing, declared_frame, draft.frame.check.as_ref(), &record.kind, problems)
        }
        Placing::Columns(placing) if record.heading.is_some() => {
            (draft.frame.takes_long, draft.frame.has_columns, draft.frame.splits) = (true, true, true);
            let (found, shape) = heading::add(format, record, &placing, &mut sheet, problems);
            (heading, by_heading) = (found, true);
            shape
        }
        Placing::Columns(mut placing) => {
            sheet.learn(|sheet, problems| columns::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            columns::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            draft.frame.has_columns |= placing.has_columns();
            draft.frame.splits |= placing.has_columns() && own.is_none();
            gaps = placing.gaps(&sheet, problems);
            draft.frame.takes_long |= gaps.is_some();
            placing.shape(record.more, &sheet.separation)
        }
        Placing::Pairs(mut placing) => {
            sheet.learn(|sheet, problems| pairs::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            pairs::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            placing.shape(record.more)
        }
    };
    if let Some(name) = record.heading.as_ref().filter(|_| !by_heading) {
        let with = "anything but a text that is read by columns".to_string();
        problems.add(name.span.clone(), ProblemKind::Conflict { key: "heading", with });
    }
    let mut weight = format::weigh(&declared_frame.header);
    weight.add(format::weigh(&record.fields));
    if weight.fields > limits::FIELDS {
        let kind = ProblemKind::TooMany { what: "fields", found: weight.fields, limit: limits::FIELDS };
        problems.add(record.kind.span.clone(), kind);
    }
    let checksum_required = checksum_required(record, declared_frame, problems);
    let when = record.when.as_ref().and_then(|when| {
        condition(when, &draft.frame.header, draft.counts_columns(), &declared_frame.charsets, ask, problems)
    });
    let series = owner.series.iter().filter_map(|name| series_field(&sheet, name, problems)).collect();
    layout.append(&mut sheet.rows);
    draft.lengths.push((shape.least(), shape.item > 0 || shape.unit == ShapeUnit::Parts));
    let carries = inside::carried(format, owner, &sheet).into();
    let packet = shape.unit == ShapeUnit::Bytes && shape.item == 0;
    let is_tested = sheet.gates.is_empty() && sheet.item_gates.is_empty();
    let exact = (packet && is_tested).then(|| shape.least());
    let known = sheet.known.iter().filter_map(|(declared, field)| {
        let name = declared.name.as_ref()?;
        Some((name.value.clone(), field.clone()))
    });
    let known = known.collect();
    let kind = Kind {
        record: 0,
        frame: frame_index as u16,
        when,
        form,
        checksum_required,
        shape,
        gaps,
        parts: walked,
        item_gates: sheet.item_gates.into(),
        separation: own.map(|(separation, _)| Box::new(separation)),
        heading,
        names_columns: false,
        gates: sheet.gates,
        near: false,
        outputs: sheet.outputs,
        counters: sheet.counters,
        series,
        wanted: true,
        staged: false,
        is_part: false,
        is_composed: false,
        is_open: false,
        keyed: Box::default(),
        carries,
        exact,
    };
    (kind, known)
}

fn series_field(sheet: &Sheet, name: &Spanned<String>, problems: &mut Problems) -> Option<Field> {
    match sheet.find(&name.value) {
        Ok(field) => Some(field.clone()),
        Err(nearest) => {
            let kind = ProblemKind::UnknownName { what: "field", name: name.value.clone(), nearest };
            problems.add(name.span.clone(), kind);
            None
        }
    }
}

/// Whether a record's frames need a checksum; only sentences can come without, and lines that have it behind a mark.
fn checksum_required(record: &format::Record, frame: &format::Frame, problems: &mut Problems) -> bool {
    let checksum = match (&frame.cut, frame.checksums.first()) {
        (format::Cut::Sentence { checksum, .. }, _) => Some(checksum),
        (_, Some(check)) if check.mark.is_some() => Some(&check.presence),
        _ => None,
    };
    let Some(checksum) = checksum else {
        if record.checksum.is_some() {
            let with = "this frame: `checksum` of a record is for sentences, and for lines with a `mark`".to_string();
            problems.add(record.kind.span.clone(), ProblemKind::Conflict { key: "checksum", with });
        }
        return false;
    };
    if *checksum == Presence::Absent && record.checksum == Some(Presence::Required) {
        let with = "a frame without checksums".to_string();
        problems.add(record.kind.span.clone(), ProblemKind::Conflict { key: "checksum", with });
    }
    record.checksum.unwrap_or(*checksum) == Presence::Required
}

/// The automaton of a record or an ignore, and the names of the fields that it finds.
fn form_of(
    frame: &format::Frame,
    declaration: &printed::Declaration<'_>,
    draft: &mut Draft,
    forms: &mut printed::Numbers,
    problems: &mut Problems,
) -> (Option<Box<Form>>, Vec<String>) {
    let Some(span) = declaration.span() else { return (None, Vec::new()) };
    if frame.reads() == format::Read::Bytes {
        let with = "a frame that is read as bytes".to_string();
        problems.add(span, ProblemKind::Conflict { key: "printed", with });
        return (None, Vec::new());
    }
    // What an automaton finds is written down like columns, behind those of the header.
    (draft.frame.has_forms, draft.frame.has_columns) = (true, true);
    declaration.compile(forms, problems)
}

pub(super) fn compile_ignore(
    ignore: &format::Ignore,
    frame: &format::Frame,
    draft: &mut Draft,
    forms: &mut printed::Numbers,
    problems: &mut Problems,
) -> Ignore {
    let declaration = printed::Declaration {
        printed: &ignore.printed,
        pattern: ignore.pattern.as_ref(),
        fields: &[],
        any_name: true,
        charsets: &frame.charsets,
    };
    let (form, _) = form_of(frame, &declaration, draft, forms, problems);
    let when = ignore
        .when
        .as_ref()
        .and_then(|when| condition(when, &draft.frame.header, draft.counts_columns(), &frame.charsets, &[], problems));
    let count_by = ignore.count_by.as_ref().and_then(|name| {
        let found = draft.sheet.find(&name.value);
        if let Err(nearest) = &found {
            let kind =
                ProblemKind::UnknownName { what: "header field", name: name.value.clone(), nearest: nearest.clone() };
            problems.add(name.span.clone(), kind);
        }
        found.ok().cloned()
    });
    Ignore { when, form, count_by }
}
