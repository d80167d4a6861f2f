//! Rows in another style than the usual one: another separator, a decimal comma, times and texts as spreadsheets want them. They are put together
//! cell by cell, and so slower than those of `rows.rs`.

use usus::quality::{ItemPath, Notes};
use usus::{Cell, Decimal, FieldSchema, Items, Reading, Record, Time, Value};

use super::Origin;
use super::options::{TableOptions, TableStyle};
use super::times::TimeStyle;

/// A row that is being put together.
pub(super) struct StyledRow<'r> {
    style: TableStyle,
    out: &'r mut Vec<u8>,
    start: usize,
    columns: usize,
}

impl<'r> StyledRow<'r> {
    /// A row behind what is there.
    pub(super) fn new(style: TableStyle, out: &'r mut Vec<u8>) -> StyledRow<'r> {
        let start = out.len();
        StyledRow { style, out, start, columns: 0 }
    }

    /// Puts a cell, in quotes where they are needed.
    pub(super) fn cell(&mut self, text: &str) {
        if self.columns > 0 {
            self.out.push(self.style.separator);
        }
        self.columns += 1;
        let special = |byte: u8| byte == self.style.separator || matches!(byte, b'"' | b'\r' | b'\n');
        if text.bytes().any(special) {
            self.out.push(b'"');
            self.out.extend_from_slice(text.replace('"', "\"\"").as_bytes());
            self.out.push(b'"');
        } else {
            self.out.extend_from_slice(text.as_bytes());
        }
    }

    /// Puts a text that came from a device, or from a format.
    pub(super) fn text(&mut self, text: &str) {
        let like_a_formula = text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n']);
        if self.style.guard_formulas && like_a_formula && !self.is_number(text) {
            self.cell(&format!("'{text}"));
        } else {
            self.cell(text);
        }
    }

    /// Whether a spreadsheet takes a text for nothing but a number.
    fn is_number(&self, text: &str) -> bool {
        let point = if self.style.decimal_comma { text.replace(',', ".") } else { text.to_owned() };
        Decimal::parse(point.as_bytes()).is_some()
    }

    fn number(&mut self, text: String) {
        self.cell(&if self.style.decimal_comma { text.replace('.', ",") } else { text });
    }

    fn received(&mut self, time: Option<Time>, times: &TimeStyle) {
        self.cell(&time.map(|time| times.text(time, 3)).unwrap_or_default());
    }

    fn value(&mut self, value: Value<'_>) {
        match value {
            Value::Decimal(_) | Value::F32(_) | Value::F64(_) => self.number(value.to_string()),
            Value::Text(_) | Value::Code { .. } => self.text(&value.to_string()),
            other => self.cell(&other.to_string()),
        }
    }

    /// Ends the row. One of a single empty cell would be an empty line, which readers pass over.
    pub(super) fn end(self) {
        if self.columns == 1 && self.out.len() == self.start {
            self.out.extend_from_slice(b"\"\"");
        }
        self.out.extend_from_slice(b"\r\n");
    }
}

/// What the rows of a record and of its groups share.
pub(super) struct Shared<'s> {
    pub(super) style: TableStyle,
    pub(super) times: &'s TimeStyle,
    pub(super) options: TableOptions,
    pub(super) origin: &'s Origin,
    pub(super) has_offset: bool,
}

impl Shared<'_> {
    fn front(&self, record: &Record<'_>, row: &mut StyledRow<'_>) {
        if self.options.source || self.options.origin {
            row.text(&self.origin.source);
        }
        if self.options.line || self.options.origin {
            row.text(self.origin.line(record.line().index()));
        }
        if self.has_offset {
            row.cell(&record.offset().to_string());
        }
    }

    /// Puts the row of a record.
    pub(super) fn record(&self, record: &Record<'_>, has_quality: bool, notes: &mut Notes, out: &mut Vec<u8>) {
        let mut row = StyledRow::new(self.style, out);
        self.front(record, &mut row);
        if self.options.origin {
            row.cell(&record.ranges().map(|(_, length)| length).sum::<u64>().to_string());
            row.cell(&record.item().to_string());
        }
        if self.options.received {
            row.received(record.received(), self.times);
        }
        let mut quality = Vec::new();
        for (schema, cell) in record.fields() {
            let Cell::Reading(reading) = cell else { continue };
            row.value(reading.value);
            notes.extend_field(schema, reading);
            tell(schema, reading, &mut quality);
        }
        if has_quality {
            row.cell(&quality.join(";"));
        }
        row.end();
    }

    /// Puts the rows of a group's items.
    pub(super) fn items(
        &self,
        record: &Record<'_>,
        (indexes, around, group): (&[u32], Option<ItemPath>, u16),
        items: Items<'_>,
        has_quality: bool,
        notes: &mut Notes,
        out: &mut Vec<u8>,
    ) {
        for (index, item) in items.enumerate() {
            let mut row = StyledRow::new(self.style, out);
            self.front(record, &mut row);
            indexes.iter().for_each(|index| row.cell(&(index + 1).to_string()));
            row.cell(&(index + 1).to_string());
            let index = index as u32;
            let path = around.map_or(ItemPath::new(group, index), |around| around.within(group, index));
            let mut quality = Vec::new();
            for (schema, cell) in item.fields() {
                // Groups of items have tables of their own.
                let Cell::Reading(reading) = cell else { continue };
                row.value(reading.value);
                notes.extend_item(path, schema, reading);
                tell(schema, reading, &mut quality);
            }
            if has_quality {
                row.cell(&quality.join(";"));
            }
            row.end();
        }
    }
}

fn tell(schema: &FieldSchema, reading: Reading<'_>, quality: &mut Vec<String>) {
    let word = reading.quality.word();
    if !word.is_empty() {
        quality.push(format!("{}={word}", schema.name));
    }
}
