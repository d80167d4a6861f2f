//! The top level of a format file: its keys, the order of its tables, and conditions.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::beside::{self, Beside};
use super::keys::{Keys, in_file_order, unknown_word};
use super::source::{Load, moved_behind};
use super::{
    Clean, Format, Ignore, Limits, LineRole, Record, Serial, Source, Spanned, When, example, field, frame, point,
    read_composed,
};
use crate::expression;
use crate::limits;
use crate::problem::{ProblemKind, Problems};

/// Reads a whole format file: what could be read of it, from what, and what is wrong with it.
pub(crate) fn format(text: &str, load: &mut Load<'_>) -> (Option<Format>, Source, Problems) {
    let mut problems = Problems::default();
    let source = Source { text: text.into(), ..Source::default() };
    if text.len() > limits::FORMAT_BYTES {
        let kind = ProblemKind::FileSize { found: text.len(), limit: limits::FORMAT_BYTES };
        problems.add(0..0, kind);
        return (None, source, problems);
    }
    let (document, errors) = DeTable::parse_recoverable(text);
    if !errors.is_empty() {
        // The tables are patched up behind a syntax error; what they would be blamed for is not the writer's fault.
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            problems.add(span, ProblemKind::Syntax(error.message().to_string()));
        }
        return (None, source, problems);
    }
    let beside = Beside::load(document.get_ref(), text, load, &mut problems);
    let rows = moved_behind(text, &beside.text);
    let mut document = document.into_inner();
    if !beside.text.is_empty() {
        let (rows, errors) = DeTable::parse_recoverable(&rows);
        if !errors.is_empty() {
            // Every cell was written so that it can be read.
            problems.add(0..0, ProblemKind::Senseless("the rows of a file beside it cannot be read"));
        }
        let mut found: Vec<_> = rows.into_inner().into_iter().collect();
        found.sort_by_key(|(key, _)| key.span().start);
        beside::replace(&mut document, true, &mut found.into_iter().map(|(_, rows)| rows));
    }
    let source = beside.into_source(text);
    let format = read_top(&document, &source, &mut problems);
    (format, source, problems)
}

fn read_top(table: &DeTable<'_>, source: &Source, problems: &mut Problems) -> Option<Format> {
    let first_line = 0..source.text.lines().next().map_or(0, str::len);
    let mut keys = Keys::new(table, first_line, "the format file", problems);
    let name = keys.required_text("format").map(|name| name.value);
    let title = keys.text("title").map(|title| title.value);
    let version = keys.text("version").map(|version| version.value);
    let serial = read_serial(&mut keys);
    let clean = read_clean(&mut keys).unwrap_or_default();
    let limits = read_limits(&mut keys);
    let lines = read_lines(&mut keys);
    let frames = read_frames(&mut keys);
    let records = read_records(&mut keys);
    let multiparts = read_composed::read_multiparts(&mut keys);
    let exchanges = read_composed::read_exchanges(&mut keys);
    let units = point::read_units(&mut keys);
    let merges = read_composed::read_merges(&mut keys);
    let ignores = read_ignores(&mut keys);
    let examples = keys
        .tables("example")
        .into_iter()
        .filter_map(|(table, span)| example::read(table, span, keys.problems))
        .collect();
    keys.done();
    Some(Format {
        name: name?,
        title,
        version,
        serial,
        clean,
        limits,
        lines,
        frames,
        records,
        multiparts,
        exchanges,
        units,
        merges,
        ignores,
        examples,
        source: source.clone(),
    })
}

fn read_serial(keys: &mut Keys<'_, '_>) -> Option<Serial> {
    let text = keys.text("serial")?;
    let serial = Serial::parse(&text.value);
    if serial.is_none() {
        let expected = "a speed and a character format such as \"9600 8N1\"";
        let kind = ProblemKind::WrongValue {
            key: "serial".to_string(),
            expected,
            found: alloc::format!("the text \"{}\"", text.value.escape_debug()),
        };
        keys.problem(text.span, kind);
    }
    serial
}

/// `clean`, if it is there: an empty list takes nothing out of a line.
fn read_clean(keys: &mut Keys<'_, '_>) -> Option<Vec<Clean>> {
    keys.value("clean")?;
    let mut clean = Vec::new();
    for text in keys.texts("clean") {
        match Clean::WORDS.iter().find(|(word, _)| *word == text.value) {
            Some((_, what)) if !clean.contains(what) => clean.push(*what),
            Some(_) => keys.problem(text.span, ProblemKind::Twice { what: "part", name: text.value }),
            None => {
                let words = Clean::WORDS.iter().map(|(word, _)| *word);
                keys.problem(text.span, unknown_word("part of a line that can be taken out", &text.value, words));
            }
        }
    }
    Some(clean)
}

fn read_limits(keys: &mut Keys<'_, '_>) -> Limits {
    let mut found = Limits::default();
    let Some((table, span)) = keys.table("limits") else { return found };
    let mut keys = Keys::new(table, span, "`limits`", keys.problems);
    let mut size = |key, limit: usize| keys.within(key, 1, limit as i64).map(|size| size.value as usize);
    found.frame = size("frame", limits::FRAME);
    found.line = size("line", limits::LINE).unwrap_or(found.line);
    found.series = size("series", limits::SERIES).unwrap_or(found.series);
    found.names = size("names", limits::NAMES).unwrap_or(found.names);
    found.parts = size("parts", limits::JOINED).unwrap_or(found.parts);
    found.held = size("held", limits::HELD).unwrap_or(found.held);
    found.open = size("open", limits::OPEN).unwrap_or(found.open);
    keys.done();
    found
}

fn read_lines(keys: &mut Keys<'_, '_>) -> Vec<LineRole> {
    let Some((table, _)) = keys.table("line") else { return Vec::new() };
    let mut lines = Vec::new();
    for (role, value) in in_file_order(table) {
        let Some(role) = keys.checked_name(role) else { continue };
        let DeValue::Table(table) = value.get_ref() else {
            keys.wrong(&role.value, "a table", value);
            continue;
        };
        let mut inner = Keys::new(table, role.span.clone(), "`[line.ROLE]`", keys.problems);
        let serial = read_serial(&mut inner);
        let clean = read_clean(&mut inner);
        inner.done();
        lines.push(LineRole { role, serial, clean });
    }
    lines
}

fn read_frames(keys: &mut Keys<'_, '_>) -> Vec<super::Frame> {
    let tables = keys.tables("frame");
    if tables.is_empty() {
        keys.missing("frame");
    }
    if let Some((_, span)) = tables.get(limits::FRAMES) {
        let kind = ProblemKind::TooMany { what: "frames", found: tables.len(), limit: limits::FRAMES };
        keys.problem(span.clone(), kind);
    }
    tables
        .into_iter()
        .take(limits::FRAMES)
        .filter_map(|(table, span)| frame::read(table, span, keys.problems))
        .collect()
}

fn read_records(keys: &mut Keys<'_, '_>) -> Vec<Record> {
    let Some((table, _)) = keys.table("record") else { return Vec::new() };
    let entries = in_file_order(table);
    if entries.len() > limits::KINDS {
        let kind = ProblemKind::TooMany { what: "records", found: entries.len(), limit: limits::KINDS };
        keys.problem(entries[limits::KINDS].0.span.clone(), kind);
    }
    let (mut records, mut variants) = (Vec::new(), 0);
    for (kind, value) in entries.into_iter().take(limits::KINDS) {
        let Some(kind) = keys.checked_name(kind) else { continue };
        let DeValue::Table(table) = value.get_ref() else {
            keys.wrong(&kind.value, "a table", value);
            continue;
        };
        let mut inner = Keys::new(table, kind.span.clone(), "`[record.KIND]`", keys.problems);
        let mut record = read_layout(&mut inner, kind);
        record.title = inner.text("title").map(|title| title.value);
        record.series = inner.texts("series");
        record.variants = read_variants(&mut inner, &record.kind);
        read_composed::read_beside_layout(&mut inner, &mut record);
        inner.done();
        variants += record.variants.len();
        records.push(record);
    }
    if let Some(last) = records.last().filter(|_| records.len() + variants > limits::KINDS) {
        let found = records.len() + variants;
        keys.problem(
            last.kind.span.clone(),
            ProblemKind::TooMany { what: "records and variants", found, limit: limits::KINDS },
        );
    }
    records
}

/// The variants of a record, each of which stands where its table does.
fn read_variants(keys: &mut Keys<'_, '_>, kind: &Spanned<String>) -> Vec<Record> {
    let tables = keys.tables("variant");
    let read = |(table, span): (&DeTable<'_>, Range<usize>)| {
        let mut inner = Keys::new(table, span.clone(), "`[[record.KIND.variant]]`", keys.problems);
        let variant = read_layout(&mut inner, Spanned { span, value: kind.value.clone() });
        inner.done();
        variant
    };
    tables.into_iter().take(limits::KINDS).map(read).collect()
}

/// What a record and its variants have in common.
pub(super) fn read_layout(keys: &mut Keys<'_, '_>, kind: Spanned<String>) -> Record {
    Record {
        kind,
        title: None,
        frame: keys.text("frame"),
        when: read_when(keys),
        printed: read_printed(keys),
        pattern: keys.text("pattern"),
        heading: keys.text("heading"),
        read: frame::read_read(keys, None),
        series: Vec::new(),
        checksum: frame::read_presence(keys, "checksum"),
        more: keys.word("more", "meaning of more columns", &[("ignore", true), ("reject", false)]).unwrap_or(false),
        fields: field::read_all(keys, "fields"),
        variants: Vec::new(),
        block: None,
        latest: Vec::new(),
    }
}

fn read_ignores(keys: &mut Keys<'_, '_>) -> Vec<Ignore> {
    let tables = keys.tables("ignore");
    if let Some((_, span)) = tables.get(limits::KINDS) {
        let kind = ProblemKind::TooMany { what: "ignores", found: tables.len(), limit: limits::KINDS };
        keys.problem(span.clone(), kind);
    }
    let mut ignores = Vec::new();
    for (table, span) in tables.into_iter().take(limits::KINDS) {
        let mut inner = Keys::new(table, span.clone(), "`[[ignore]]`", keys.problems);
        ignores.push(Ignore {
            span,
            frame: inner.text("frame"),
            when: read_when(&mut inner),
            printed: read_printed(&mut inner),
            pattern: inner.text("pattern"),
            count_by: inner.text("count_by"),
        });
        inner.done();
    }
    ignores
}

/// `printed`, of which there are not too many.
pub(super) fn read_printed(keys: &mut Keys<'_, '_>) -> Vec<Spanned<String>> {
    let mut forms = keys.texts("printed");
    if let Some(one_too_many) = forms.get(limits::FORMS) {
        let kind = ProblemKind::TooMany { what: "forms of a line", found: forms.len(), limit: limits::FORMS };
        keys.problem(one_too_many.span.clone(), kind);
        forms.truncate(limits::FORMS);
    }
    forms
}

/// Reads `when`. Problems inside of it are placed on the very characters, unless the text has escapes.
pub(super) fn read_when(keys: &mut Keys<'_, '_>) -> Option<When> {
    read_condition(keys, "when")
}

/// A condition by another key than `when`.
pub(super) fn read_condition(keys: &mut Keys<'_, '_>, key: &'static str) -> Option<When> {
    let Spanned { span, value: text } = keys.text(key)?;
    // Between quotes, one or three, stands what the text is, unless there are escapes in it.
    let start = match span.len().checked_sub(text.len()) {
        Some(quotes @ (2 | 6)) => Some(span.start + quotes / 2),
        _ => None,
    };
    match expression::parse(&text) {
        Ok(_) => Some(When { span, text, start }),
        Err(problem) => {
            let place = place_in(&span, start, problem.span);
            keys.problem(place, ProblemKind::Expression(problem.kind));
            None
        }
    }
}

/// A place inside of a text that begins at `start` of the file, or else the whole text's place.
fn place_in(whole: &Range<usize>, start: Option<usize>, inner: Range<usize>) -> Range<usize> {
    match start {
        Some(start) => start + inner.start..start + inner.end,
        None => whole.clone(),
    }
}

impl When {
    /// A place of the condition's text as a place of the file.
    pub(crate) fn place(&self, inner: Range<usize>) -> Range<usize> {
        place_in(&self.span, self.start, inner)
    }
}
