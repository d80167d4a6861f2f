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

use usus::{Cell, Decimal, FieldSchema, Plan, Quality, Reading, Record, Value, Visit, Written};

use super::writer::RowWriter;
use super::{Origin, OutputError, TableOptions, all, received_text};

/// Records in JSON Lines.
pub struct JsonLines {
    writer: RowWriter,
    options: TableOptions,
    origin: Origin,
    kinds: Arc<[Kind]>,
}

/// The texts of a kind that are the same in each of its objects.
struct Kind {
    /// `{"kind":"name"`.
    begin: Vec<u8>,
    keys: Vec<Key>,
}

/// A field's `"name":`, and those of a group's items.
struct Key {
    text: Vec<u8>,
    /// The text, if it is no longer than this: a block of fixed size is copied faster.
    block: [u8; KEY],
    items: Vec<Key>,
}

/// Nearly all keys are no longer.
const KEY: usize = 32;

impl Key {
    fn of(field: &FieldSchema) -> Key {
        let text = format!("\"{}\":", field.name).into_bytes();
        let block = core::array::from_fn(|index| text.get(index).copied().unwrap_or(0));
        Key { text, block, items: field.items.iter().map(Key::of).collect() }
    }

    #[inline]
    fn append_to(&self, out: &mut Vec<u8>) {
        if self.text.len() > KEY {
            return out.extend_from_slice(&self.text);
        }
        let end = out.len() + self.text.len();
        out.extend_from_slice(&self.block);
        out.truncate(end);
    }
}

impl JsonLines {
    fn new(plan: &Plan, writer: RowWriter, options: TableOptions) -> JsonLines {
        let kinds = plan.schema().kinds.iter().map(|kind| Kind {
            begin: format!("{{\"kind\":\"{}\"", kind.name).into_bytes(),
            keys: kind.fields.iter().map(Key::of).collect(),
        });
        JsonLines { writer, options, origin: Origin::default(), kinds: kinds.collect() }
    }

    pub(super) fn standard_output(plan: &Plan, options: TableOptions) -> JsonLines {
        JsonLines::new(plan, RowWriter::standard_output(), options)
    }

    pub(super) fn file(
        plan: &Plan,
        path: &Path,
        options: TableOptions,
        overwrite: bool,
    ) -> Result<JsonLines, OutputError> {
        Ok(JsonLines::new(plan, RowWriter::create(path, overwrite)?, options))
    }

    /// Rows that wait for a file.
    pub(super) fn unopened(plan: &Plan, options: TableOptions) -> JsonLines {
        JsonLines::new(plan, RowWriter::piece(), options)
    }

    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        self.writer.release()
    }

    pub(super) fn piece(&self) -> JsonLines {
        let (origin, kinds) = (self.origin.clone(), Arc::clone(&self.kinds));
        JsonLines { writer: RowWriter::piece(), options: self.options, origin, kinds }
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

    pub(super) fn record(&mut self, record: &Record<'_>) -> Result<(), OutputError> {
        let out = &mut self.writer.buffer;
        let kind = &self.kinds[record.kind_index()];
        out.extend_from_slice(&kind.begin);
        if let Some(time) = record.received() {
            out.extend_from_slice(b",\"received\":\"");
            out.extend_from_slice(received_text(time, 9).as_bytes());
            out.push(b'"');
        }
        if self.options.source || self.options.origin {
            out.extend_from_slice(b",\"source\":");
            escape_json(&self.origin.source, out);
        }
        if self.options.line || self.options.origin {
            out.extend_from_slice(b",\"line\":");
            escape_json(self.origin.line(record.line().index()), out);
        }
        out.extend_from_slice(b",\"ranges\":[");
        for (index, (offset, length)) in record.ranges().enumerate() {
            out.extend_from_slice(if index == 0 { b"[" } else { b",[" });
            out.extend_from_slice(itoa::Buffer::new().format(offset).as_bytes());
            out.push(b',');
            out.extend_from_slice(itoa::Buffer::new().format(length).as_bytes());
            out.push(b']');
        }
        out.extend_from_slice(b"],\"fields\":{");
        let mut object = Object { out, keys: &kind.keys, next: 0, any_quality: false };
        record.visit(&mut object);
        let any_quality = object.any_quality;
        end(b'}', out);
        if any_quality {
            qualities(record, out);
        }
        out.extend_from_slice(b"}\n");
        self.writer.end_row()
    }

    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        self.writer.flush()
    }

    pub(super) fn files(&self) -> Vec<(PathBuf, u64)> {
        self.writer.file().into_iter().collect()
    }
}

/// The members of an object, each with a comma behind it.
struct Object<'o> {
    out: &'o mut Vec<u8>,
    keys: &'o [Key],
    next: usize,
    any_quality: bool,
}

impl Object<'_> {
    #[inline]
    fn key(&mut self) {
        self.keys[self.next].append_to(self.out);
        self.next += 1;
    }
}

impl Visit for Object<'_> {
    // The form in which numbers are shown is the one that JSON asks for.
    const WRITTEN: bool = true;

    #[inline]
    fn written(&mut self, _schema: &FieldSchema, number: Written<'_>) {
        self.key();
        number.append_to(b',', self.out);
    }

    #[inline]
    fn number(&mut self, _schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        self.key();
        Decimal::append_number(coefficient, places, b',', self.out);
        self.any_quality |= quality != Quality::Good;
    }

    #[inline]
    fn reading(&mut self, _schema: &FieldSchema, reading: Reading<'_>) {
        self.key();
        value(reading.value, self.out);
        self.out.push(b',');
        self.any_quality |= reading.quality != Quality::Good;
    }

    fn group(&mut self, _schema: &FieldSchema, items: usus::Items<'_>) {
        self.key();
        self.out.push(b'[');
        for item in items {
            self.out.push(b'{');
            let keys = &self.keys[self.next - 1].items;
            let mut object = Object { out: &mut *self.out, keys, next: 0, any_quality: false };
            item.visit(&mut object);
            self.any_quality |= object.any_quality;
            end(b'}', self.out);
            self.out.push(b',');
        }
        end(b']', self.out);
        self.out.push(b',');
    }
}

/// Every member wrote a comma behind it: the last one becomes the end.
fn end(bracket: u8, out: &mut Vec<u8>) {
    match out.last_mut() {
        Some(last) if *last == b',' => *last = bracket,
        _ => out.push(bracket),
    }
}

fn key(index: usize, name: &str, out: &mut Vec<u8>) {
    if index > 0 {
        out.push(b',');
    }
    out.push(b'"');
    out.extend_from_slice(name.as_bytes());
    out.extend_from_slice(b"\":");
}

/// The qualities of a record by field; those in a group by field and item: `"peaks[2].force"`.
fn qualities(record: &Record<'_>, out: &mut Vec<u8>) {
    out.extend_from_slice(b",\"quality\":{");
    let mut count = 0;
    let mut tell = |name: String, quality: Quality| {
        if quality != Quality::Good {
            key(count, &name, out);
            out.push(b'"');
            out.extend_from_slice(quality.word().as_bytes());
            out.push(b'"');
            count += 1;
        }
    };
    for (schema, cell) in record.fields() {
        match cell {
            Cell::Reading(reading) => tell(schema.name.clone(), reading.quality),
            Cell::Group(items) => {
                for (number, item) in items.enumerate() {
                    for (inner, reading) in item.fields() {
                        tell(item_path(schema, number, inner), reading.quality);
                    }
                }
            }
            _ => {}
        }
    }
    out.push(b'}');
}

fn item_path(group: &FieldSchema, number: usize, field: &FieldSchema) -> String {
    format!("{}[{}].{}", group.name, number + 1, field.name)
}

fn value(value: Value<'_>, out: &mut Vec<u8>) {
    match value {
        Value::Absent(_) => out.extend_from_slice(b"null"),
        Value::F32(number) if !number.is_finite() => out.extend_from_slice(b"null"),
        Value::F64(number) if !number.is_finite() => out.extend_from_slice(b"null"),
        Value::Decimal(_) | Value::F32(_) | Value::F64(_) | Value::Bool(_) => value.append_to(out),
        Value::Text(text) if is_bare(text.bytes()) => bare(text.bytes(), out),
        Value::Text(text) => match text.to_str() {
            Some(text) => escape_json(text, out),
            None => escape_json(&text.to_string(), out),
        },
        Value::Code { name, .. } => escape_json(name, out),
        // Digits and punctuation only: nothing to escape.
        Value::Bytes(_) | Value::Date(_) | Value::Clock(_) => {
            out.push(b'"');
            value.append_to(out);
            out.push(b'"');
        }
        other => escape_json(&other.to_string(), out),
    }
}

fn bare(text: &[u8], out: &mut Vec<u8>) {
    out.push(b'"');
    out.extend_from_slice(text);
    out.push(b'"');
}

/// Whether a text is ASCII in which nothing is to be escaped. Nearly every text is; it is told eight characters at a time.
#[inline]
fn is_bare(text: &[u8]) -> bool {
    all(text, |byte| matches!(byte, b' '..=b'~') && !matches!(byte, b'"' | b'\\'))
}

/// Appends a text as a JSON string.
pub fn escape_json(text: &str, out: &mut Vec<u8>) {
    if is_bare(text.as_bytes()) {
        return bare(text.as_bytes(), out);
    }
    out.push(b'"');
    let bytes = text.as_bytes();
    let mut from = 0;
    for (index, &byte) in bytes.iter().enumerate() {
        if byte >= b' ' && byte != b'"' && byte != b'\\' && byte != 0x7F {
            continue;
        }
        out.extend_from_slice(&bytes[from..index]);
        from = index + 1;
        match byte {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            _ => out.extend_from_slice(format!("\\u{byte:04x}").as_bytes()),
        }
    }
    out.extend_from_slice(&bytes[from..]);
    out.push(b'"');
}
