//! JSON Lines: one object a record.
//!
//! ```json
//! {"kind":"sample","received":"2026-11-25T06:00:00.123456789Z","source":"cell.bin","line":"rope","ranges":[[4711,13]],
//!  "fields":{"tension":123.45,"core":null},"quality":{"tension":"out_of_range"}}
//! ```
//!
//! `received`, `source` and `line` stand only where they can; `quality` only where there is one to tell.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::TextBuffer;
use usus::fast::{Name, ShortText, Visit, Written};
use usus::quality::{Class, ItemPath, Notes};
use usus::{Absent, Cell, FieldSchema, Plan, Quality, Reading, Record, Schema, Value};

use super::columns::free_name;
use super::mend::{self, Form};
use super::options::{Existing, OutputOptions, TableOptions};
use super::times::TimeStyle;
use super::writer::{Buffer, Put, RowWriter};
use super::{Origin, OutputError, Repeated, is_bare, put_flag};

/// Records in JSON Lines.
pub struct JsonLines {
    writer: RowWriter,
    options: TableOptions,
    times: TimeStyle,
    origin: Origin,
    kinds: Arc<[Kind]>,
    mended: Vec<(PathBuf, u64)>,
}

/// The texts of a kind that are the same in each of its objects.
struct Kind {
    /// `{"kind":"name"`.
    begin: Repeated<'static, 64>,
    /// The same with the beginning of the ranges.
    begin_ranges: Repeated<'static, 64>,
    keys: Vec<Key>,
}

const RANGES: &[u8] = b",\"ranges\":[";

/// A field's `"name":`, and those of a group's items.
struct Key {
    text: Repeated<'static, 32>,
    items: Vec<Key>,
}

impl Key {
    fn of(field: &FieldSchema) -> Key {
        let mut buffer = Buffer::default();
        buffer.put(|room: &mut TextBuffer<'_>| {
            put_string(&field.name, room);
            room.byte(b':');
        });
        let text = buffer.text().to_vec();
        Key { text: Repeated::of(text), items: field.items.iter().map(Key::of).collect() }
    }
}

/// Objects that say all of a record, flat: for outputs that are JSON around it.
pub(super) struct Members {
    kinds: Vec<FlatKind>,
}

/// The keys of a kind's objects.
struct FlatKind {
    /// `{"kind":"name"`, under a name that no field has.
    begin: Vec<u8>,
    received: Vec<u8>,
    source: Vec<u8>,
    line: Vec<u8>,
    quality: Vec<u8>,
    keys: Vec<Key>,
}

impl Members {
    pub(super) fn new(schema: &Schema) -> Members {
        let kinds = schema.kinds.iter().map(|kind| {
            let own = |name: &str| {
                let mut key = Buffer::default();
                key.put(|room: &mut TextBuffer<'_>| {
                    put_string(&free_name(kind, name), room);
                    room.byte(b':');
                });
                key.text().to_vec()
            };
            FlatKind {
                begin: [b"{", &own("kind")[..], format!("\"{}\",", kind.name).as_bytes()].concat(),
                received: own("received"),
                source: own("source"),
                line: own("line"),
                quality: own("quality"),
                keys: kind.fields.iter().map(Key::of).collect(),
            }
        });
        Members { kinds: kinds.collect() }
    }

    /// Puts the object of a record. What is not plain about its readings is noted.
    pub(super) fn put(
        &self,
        record: &Record<'_>,
        (options, times, origin): (TableOptions, &TimeStyle, &Origin),
        notes: &mut Notes,
        room: &mut TextBuffer<'_>,
    ) {
        let kind = &self.kinds[record.kind_index()];
        notes.truncate(0);
        room.text(&kind.begin);
        if let Some(time) = record.received() {
            room.text(&kind.received);
            put_string(&times.text(time, 9), room);
            room.byte(b',');
        }
        if options.source || options.origin {
            room.text(&kind.source);
            put_string(&origin.source, room);
            room.byte(b',');
        }
        let line = origin.line(record.line().index());
        if (options.line || options.origin) && !line.is_empty() {
            room.text(&kind.line);
            put_string(line, room);
            room.byte(b',');
        }
        let mut object = Object { room, keys: &kind.keys, next: 0, any_quality: false, notes, item: None };
        record.visit(&mut object);
        if object.any_quality {
            room.text(&kind.quality);
            put_quality_object(record, room);
            room.byte(b',');
        }
        room.take_back(b',');
        room.byte(b'}');
    }
}

impl JsonLines {
    fn new(plan: &Plan, writer: RowWriter, options: &OutputOptions) -> JsonLines {
        let (times, options) = (options.times.clone(), options.columns.for_plan(plan));
        let kinds = plan.schema().kinds.iter().map(|kind| {
            let begin = format!("{{\"kind\":\"{}\"", kind.name).into_bytes();
            Kind {
                begin_ranges: Repeated::of([&begin, RANGES].concat()),
                begin: Repeated::of(begin),
                keys: kind.fields.iter().map(Key::of).collect(),
            }
        });
        let (origin, kinds) = (Origin::default(), kinds.collect());
        JsonLines { writer, options, times, origin, kinds, mended: Vec::new() }
    }

    pub(super) fn standard_output(plan: &Plan, options: &OutputOptions) -> JsonLines {
        JsonLines::new(plan, RowWriter::standard_output(), options)
    }

    pub(super) fn file(plan: &Plan, path: &Path, options: &OutputOptions) -> Result<JsonLines, OutputError> {
        let mended = mend_lines(path, options.existing)?;
        let (writer, _) = RowWriter::create(path, Form::Lines, options.existing, options.in_place)?;
        Ok(JsonLines { mended, ..JsonLines::new(plan, writer, options) })
    }

    /// Rows that wait for a file.
    pub(super) fn unopened(plan: &Plan, options: &OutputOptions) -> JsonLines {
        JsonLines::new(plan, RowWriter::piece(), options)
    }

    /// The file if its torn end was taken away, and how many bytes that had.
    pub(super) fn mended(&self) -> &[(PathBuf, u64)] {
        &self.mended
    }

    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        self.writer.release()
    }

    pub(super) fn piece(&self) -> JsonLines {
        let (origin, kinds, times) = (self.origin.clone(), Arc::clone(&self.kinds), self.times.clone());
        JsonLines { writer: RowWriter::piece(), options: self.options, times, origin, kinds, mended: Vec::new() }
    }

    pub(super) fn join(&mut self, piece: &mut JsonLines) -> Result<(), OutputError> {
        self.writer.join(&mut piece.writer)
    }

    pub(super) fn begin_source(&mut self, name: &str) {
        self.origin.begin_source(name);
    }

    pub(super) fn name_line(&mut self, index: usize, name: &str) {
        self.origin.name_line(index, name);
    }

    /// Puts a record. What is not plain about its readings is noted.
    pub(super) fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        let (options, times, origin) = (self.options, &self.times, &self.origin);
        let kind = &self.kinds[record.kind_index()];
        self.writer.row(Line { record, options, times, origin, kind, notes })
    }

    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        self.writer.finish()
    }

    pub(super) fn flush(&mut self) -> Result<(), OutputError> {
        self.writer.flush()
    }

    pub(super) fn files(&self) -> Vec<(PathBuf, u64)> {
        self.writer.file().into_iter().collect()
    }
}

/// The object of a record, and the end of its line.
struct Line<'r, 'o> {
    record: &'r Record<'r>,
    options: TableOptions,
    times: &'o TimeStyle,
    origin: &'o Origin,
    kind: &'o Kind,
    notes: &'o mut Notes,
}

impl Put for Line<'_, '_> {
    #[inline(always)]
    fn put(&mut self, room: &mut TextBuffer<'_>) {
        let Line { record, options, times, origin, kind, ref mut notes } = *self;
        notes.truncate(0);
        // Nothing but the kind stands in front of the ranges where all comes from one source without times.
        if record.received().is_none() && options == TableOptions::default() {
            kind.begin_ranges.put(room);
        } else {
            kind.begin.put(room);
            put_origin(options, times, origin, record, room);
            room.text(RANGES);
        }
        let mut ranges = record.ranges();
        if let Some(range) = ranges.next() {
            put_range(range, room);
        }
        for range in ranges {
            room.byte(b',');
            put_range(range, room);
        }
        room.text(b"],\"fields\":{");
        let mut object = Object { room, keys: &kind.keys, next: 0, any_quality: false, notes, item: None };
        record.visit(&mut object);
        let any_quality = object.any_quality;
        room.take_back(b',');
        room.byte(b'}');
        if any_quality {
            put_qualities(record, room);
        }
        room.text(b"}\n");
    }
}

/// Puts where bytes stand, and how many they are.
#[inline(always)]
fn put_range((offset, length): (u64, u64), room: &mut TextBuffer<'_>) {
    room.byte(b'[');
    room.whole(offset, b',');
    room.whole(length, b']');
}

/// Where a record comes from, and when it was received.
#[inline(never)]
fn put_origin(
    options: TableOptions,
    times: &TimeStyle,
    origin: &Origin,
    record: &Record<'_>,
    room: &mut TextBuffer<'_>,
) {
    if let Some(time) = record.received() {
        room.text(b",\"received\":\"");
        room.text(times.text(time, 9).as_bytes());
        room.byte(b'"');
    }
    if options.source || options.origin {
        room.text(b",\"source\":");
        put_string(&origin.source, room);
    }
    // A line without a name says nothing: so a line is told alike live and from its capture.
    let line = origin.line(record.line().index());
    if (options.line || options.origin) && !line.is_empty() {
        room.text(b",\"line\":");
        put_string(line, room);
    }
}

/// The members of an object, each with a comma behind it.
struct Object<'o, 'r> {
    room: &'o mut TextBuffer<'r>,
    keys: &'o [Key],
    next: usize,
    any_quality: bool,
    notes: &'o mut Notes,
    /// The item that it is the object of, if it is one.
    item: Option<ItemPath>,
}

impl Object<'_, '_> {
    #[inline(always)]
    fn key(&mut self) {
        if let Some(key) = self.keys.get(self.next) {
            key.text.put(self.room);
        }
        self.next += 1;
    }

    #[cold]
    fn note(&mut self, schema: &FieldSchema, value: Value<'_>, quality: Quality) {
        self.any_quality |= quality != Quality::Good;
        match (Class::of(value, quality), self.item) {
            (Some(class), Some(item)) => self.notes.item(item, schema, class),
            (Some(class), None) => self.notes.field(schema, class),
            (None, _) => {}
        }
    }
}

impl Visit for Object<'_, '_> {
    const BRIEF: bool = false;
    // The form in which numbers are shown is the one that JSON asks for.
    const WRITTEN: bool = true;

    #[inline(always)]
    fn written(&mut self, _schema: &FieldSchema, number: Written<'_>) {
        self.key();
        self.room.written(&number, b',');
    }

    #[inline(always)]
    fn number(&mut self, schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        self.key();
        self.room.number(coefficient, places, b',');
        if quality != Quality::Good {
            self.note(schema, Value::Bool(true), quality);
        }
    }

    #[inline(always)]
    fn text(&mut self, _schema: &FieldSchema, text: ShortText<'_>) {
        self.key();
        self.room.quoted_text(&text, b',');
    }

    #[inline(always)]
    fn name(&mut self, _schema: &FieldSchema, _value: Value<'_>, name: &Name) {
        self.key();
        self.room.quoted_name(name, b',');
    }

    #[inline(always)]
    fn flag(&mut self, _schema: &FieldSchema, flag: bool) {
        self.key();
        put_flag(flag, self.room);
    }

    #[inline(always)]
    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        self.key();
        match reading.value {
            Value::Absent(_) => self.room.block(b"null,", 5),
            Value::Text(text) => put_member(text.bytes(), reading.value, self.room),
            Value::Code { name, .. } => put_member(name.as_bytes(), reading.value, self.room),
            value => put_value(value, self.room),
        }
        if reading.quality != Quality::Good || matches!(reading.value, Value::Absent(Absent::Marked)) {
            self.note(schema, reading.value, reading.quality);
        }
    }

    fn group(&mut self, schema: &FieldSchema, items: usus::Items<'_>) {
        self.key();
        let keys = self.keys.get(self.next - 1).map_or(&[][..], |key| &key.items);
        self.room.byte(b'[');
        let (around, is_list) = (self.item, schema.is_list());
        // A value of a list stands by itself.
        let keys = if is_list { &[][..] } else { keys };
        for (index, item) in items.enumerate() {
            if !is_list {
                self.room.byte(b'{');
            }
            let index = index as u32;
            let at = around.map_or(ItemPath::new(schema.place, index), |around| around.within(schema.place, index));
            let notes = &mut *self.notes;
            let mut object = Object { room: &mut *self.room, keys, next: 0, any_quality: false, notes, item: Some(at) };
            item.visit(&mut object);
            self.any_quality |= object.any_quality;
            if !is_list {
                self.room.take_back(b',');
                self.room.text(b"},");
            }
        }
        self.room.take_back(b',');
        self.room.text(b"],");
    }
}

/// If a file is to be gone on with, its torn end is taken away; returns it with the bytes that had.
pub(super) fn mend_lines(path: &Path, existing: Existing) -> Result<Vec<(PathBuf, u64)>, OutputError> {
    if existing != Existing::Continue || !path.is_file() {
        return Ok(Vec::new());
    }
    let left = mend::look(path, Form::Lines).map_err(OutputError::write(path))?;
    if !left.first.is_empty() && !left.first.starts_with(b"{\"") {
        let found = String::from_utf8_lossy(&left.first).trim_end().chars().take(200).collect();
        return Err(OutputError::OtherColumns { path: path.to_owned(), expected: "JSON objects".to_owned(), found });
    }
    if left.end == left.length {
        return Ok(Vec::new());
    }
    mend::open_behind(path, left.end).map_err(OutputError::write(path))?;
    Ok(vec![(path.to_owned(), left.length - left.end)])
}

/// The qualities of a record by field; those in a group by field and item: `"peaks[2].force"`.
fn put_qualities(record: &Record<'_>, room: &mut TextBuffer<'_>) {
    room.text(b",\"quality\":");
    put_quality_object(record, room);
}

fn put_quality_object(record: &Record<'_>, room: &mut TextBuffer<'_>) {
    room.byte(b'{');
    let mut tell = |name: String, quality: Quality| {
        if quality != Quality::Good {
            put_string(&name, room);
            room.text(b":\"");
            room.text(quality.word().as_bytes());
            room.text(b"\",");
        }
    };
    for (schema, cell) in record.fields() {
        tell_cell(schema.name.clone(), schema, cell, &mut tell);
    }
    room.take_back(b',');
    room.byte(b'}');
}

/// Tells the quality of a reading, or those in the items of a group, which is at that path.
fn tell_cell(path: String, schema: &FieldSchema, cell: Cell<'_>, tell: &mut dyn FnMut(String, Quality)) {
    match cell {
        Cell::Reading(reading) => tell(path, reading.quality),
        Cell::Group(items) => {
            // The path ends with the group's name, and so begins each of its items'.
            let around = path.strip_suffix(schema.name.as_str()).unwrap_or_default();
            for (number, item) in items.enumerate() {
                for (inner, cell) in item.fields() {
                    tell_cell(format!("{around}{}", schema.item_path(number, &inner.name)), inner, cell, tell);
                }
            }
        }
        _ => {}
    }
}

/// Puts a value that is a text, and a comma behind it.
#[inline(always)]
fn put_member(text: &[u8], value: Value<'_>, room: &mut TextBuffer<'_>) {
    if is_bare(text, ESCAPED) {
        put_bare(text, room);
        room.byte(b',');
    } else {
        put_value(value, room);
    }
}

/// Puts a value, and a comma behind it.
#[inline(never)]
fn put_value(value: Value<'_>, room: &mut TextBuffer<'_>) {
    match value {
        Value::Clock(clock) => {
            room.byte(b'"');
            room.clock(clock);
            room.byte(b'"');
        }
        Value::F32(number) if !number.is_finite() => room.text(b"null"),
        Value::F64(number) if !number.is_finite() => room.text(b"null"),
        Value::Decimal(_) | Value::F32(_) | Value::F64(_) | Value::Bool(_) => room.value(value),
        // Digits and punctuation only: nothing to escape.
        Value::Bytes(_) | Value::HexBytes(_) | Value::Date(_) | Value::DateTime(_) => {
            room.byte(b'"');
            room.value(value);
            room.byte(b'"');
        }
        other => put_string(&other.to_string(), room),
    }
    room.byte(b',');
}

#[inline(always)]
fn put_bare(text: &[u8], room: &mut TextBuffer<'_>) {
    room.byte(b'"');
    room.text(text);
    room.byte(b'"');
}

/// What is escaped of printable characters.
const ESCAPED: [u8; 2] = *b"\"\\";

/// Puts a text as a JSON string.
#[inline]
pub(super) fn put_string(text: &str, room: &mut TextBuffer<'_>) {
    if is_bare(text.as_bytes(), ESCAPED) { put_bare(text.as_bytes(), room) } else { put_escaped(text, room) }
}

#[cold]
fn put_escaped(text: &str, room: &mut TextBuffer<'_>) {
    room.byte(b'"');
    let bytes = text.as_bytes();
    let mut from = 0;
    for (index, &byte) in bytes.iter().enumerate() {
        if byte >= b' ' && byte != b'"' && byte != b'\\' && byte != 0x7F {
            continue;
        }
        room.text(&bytes[from..index]);
        from = index + 1;
        match byte {
            b'"' => room.text(b"\\\""),
            b'\\' => room.text(b"\\\\"),
            b'\n' => room.text(b"\\n"),
            b'\r' => room.text(b"\\r"),
            b'\t' => room.text(b"\\t"),
            _ => room.text(format!("\\u{byte:04x}").as_bytes()),
        }
    }
    room.text(&bytes[from..]);
    room.byte(b'"');
}
