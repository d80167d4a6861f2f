//! JSON Lines: one object a record.
//!
//! ```json
//! {"kind":"sample","received":"2026-11-25T06:00:00.123456789Z","source":"cell.bin","line":"rope","ranges":[[4711,13]],
//!  "fields":{"tension":123.45,"core":null},"quality":{"tension":"out_of_range"}}
//! ```
//!
//! `received`, `source` and `line` stand only where they can; `quality` only where there is one to tell.

use std::path::{Path, PathBuf};

use usus::{Cell, FieldSchema, Quality, Record, Value};

use super::writer::RowWriter;
use super::{Origin, OutputError, TableOptions, received_text};

/// Records in JSON Lines.
pub struct JsonLines {
    writer: RowWriter,
    options: TableOptions,
    origin: Origin,
}

impl JsonLines {
    pub(super) fn standard_output(options: TableOptions) -> JsonLines {
        JsonLines { writer: RowWriter::standard_output(), options, origin: Origin::default() }
    }

    pub(super) fn file(path: &Path, options: TableOptions, overwrite: bool) -> Result<JsonLines, OutputError> {
        Ok(JsonLines { writer: RowWriter::create(path, overwrite)?, options, origin: Origin::default() })
    }

    pub(super) fn piece(&self) -> JsonLines {
        JsonLines { writer: RowWriter::piece(), options: self.options, origin: self.origin.clone() }
    }

    pub(super) fn join(&mut self, piece: &JsonLines) -> Result<(), OutputError> {
        self.writer.join(&piece.writer)
    }

    pub(super) fn begin_source(&mut self, name: &str) {
        self.origin.begin_source(name);
    }

    pub(super) fn name_line(&mut self, index: usize, name: &str) {
        self.origin.name_line(index, name);
    }

    pub(super) fn record(&mut self, record: &Record<'_>) -> Result<(), OutputError> {
        let out = &mut self.writer.buffer;
        out.extend_from_slice(b"{\"kind\":\"");
        out.extend_from_slice(record.kind().as_bytes());
        out.push(b'"');
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
        let mut any_quality = false;
        for (index, (schema, cell)) in record.fields().enumerate() {
            key(index, &schema.name, out);
            match cell {
                Cell::Reading(reading) => {
                    any_quality |= reading.quality != Quality::Good;
                    value(reading.value, out);
                }
                Cell::Group(items) => any_quality |= group(items, out),
                _ => out.extend_from_slice(b"null"),
            }
        }
        out.push(b'}');
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

fn key(index: usize, name: &str, out: &mut Vec<u8>) {
    if index > 0 {
        out.push(b',');
    }
    out.push(b'"');
    out.extend_from_slice(name.as_bytes());
    out.extend_from_slice(b"\":");
}

/// Appends the items of a group; says whether a reading in them has a quality to tell.
fn group(items: usus::Items<'_>, out: &mut Vec<u8>) -> bool {
    let mut any_quality = false;
    out.push(b'[');
    for (number, item) in items.enumerate() {
        out.extend_from_slice(if number == 0 { b"{" } else { b",{" });
        for (index, (schema, reading)) in item.fields().enumerate() {
            key(index, &schema.name, out);
            value(reading.value, out);
            any_quality |= reading.quality != Quality::Good;
        }
        out.push(b'}');
    }
    out.push(b']');
    any_quality
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

/// Appends a text as a JSON string.
pub fn escape_json(text: &str, out: &mut Vec<u8>) {
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
