//! Rows of tables: the columns of a record, and those of a group's items.

use super::TextBuffer;
use usus::fast::{Name, ShortText, Together, Visit, Written};
use usus::format::Charset;
use usus::quality::{Class, ItemPath, Notes};
use usus::{Absent, FieldSchema, Quality, Reading, Record, Value};

use super::options::TableOptions;
use super::writer::Put;
use super::{Origin, Repeated, is_bare, put_flag, received_text};

/// The columns in front: where a record comes from.
#[inline(never)]
pub(super) fn put_front(
    options: TableOptions,
    origin: &Origin,
    has_offset: bool,
    record: &Record<'_>,
    room: &mut TextBuffer<'_>,
) {
    if options.source || options.origin {
        put_text(origin.source.as_bytes(), room);
        room.byte(b',');
    }
    if options.line || options.origin {
        put_text(origin.line(record.line().index()).as_bytes(), room);
        room.byte(b',');
    }
    if has_offset {
        room.whole(record.offset(), b',');
    }
}

/// What a record is beside its fields: its length and item, and when it was received.
#[inline(never)]
fn put_origin(options: TableOptions, record: &Record<'_>, room: &mut TextBuffer<'_>) {
    if options.origin {
        room.whole(record.ranges().map(|(_, length)| length).sum(), b',');
        room.whole(record.item().into(), b',');
    }
    if options.received {
        if let Some(time) = record.received() {
            room.text(received_text(time, 3).as_bytes());
        }
        room.byte(b',');
    }
}

/// Every column put a comma behind it: the last one becomes the end of the row.
#[inline(always)]
fn end_row(quality: Option<&mut Vec<u8>>, room: &mut TextBuffer<'_>) {
    match quality {
        // The comma in front of it is there.
        Some(quality) if quality.is_empty() => {}
        Some(quality) => room.text(quality),
        None => room.take_back(b','),
    }
    room.block(b"\r\n", 2);
}

/// The row of a record.
pub(super) struct RecordRow<'r, 'o> {
    pub(super) record: &'r Record<'r>,
    pub(super) options: TableOptions,
    /// What it begins with.
    pub(super) front: &'o [u8],
    pub(super) quality: &'o mut Vec<u8>,
    /// What is not plain about its readings.
    pub(super) notes: &'o mut Notes,
    pub(super) has_quality: bool,
}

impl Put for RecordRow<'_, '_> {
    #[inline(always)]
    fn put(&mut self, room: &mut TextBuffer<'_>) {
        let RecordRow { record, options, quality, notes, .. } = self;
        if !self.front.is_empty() {
            room.text(self.front);
        }
        if options.origin || options.received {
            put_origin(*options, record, room);
        }
        quality.clear();
        notes.truncate(0);
        record.visit(&mut Row { room, quality, notes });
        end_row(self.has_quality.then_some(quality), room);
    }
}

/// The columns of one row: readings, each with a comma behind it. Groups have tables of their own.
pub(super) struct Row<'o, 'r> {
    pub(super) room: &'o mut TextBuffer<'r>,
    pub(super) quality: &'o mut Vec<u8>,
    pub(super) notes: &'o mut Notes,
}

impl Row<'_, '_> {
    /// Puts a value that comes as a reading.
    // It is in line, so that nothing remains of it but what is done with the value that there is.
    #[inline(always)]
    fn put(&mut self, reading: Reading<'_>) {
        match reading.value {
            Value::Absent(_) => self.room.byte(b','),
            Value::Text(text) if text.charset() != Charset::Utf8 => put_column(text.to_string().as_bytes(), self.room),
            Value::Text(text) => put_column(text.bytes(), self.room),
            Value::Clock(clock) => {
                self.room.clock(clock);
                self.room.byte(b',');
            }
            // A name that is quoted, or long.
            Value::Code { name, .. } => put_column(name.as_bytes(), self.room),
            value => put_value(value, self.room),
        }
    }
}

impl Visit for Row<'_, '_> {
    const BRIEF: bool = false;
    const WRITTEN: bool = true;
    // What stands side by side in a line stands so in a row.
    const SEPARATED_BY: Option<u8> = Some(b',');

    #[inline(always)]
    fn together<'s>(&mut self, _schemas: impl Iterator<Item = &'s FieldSchema>, columns: Together<'_>) {
        let (block, length) = columns.block();
        self.room.block(block, length);
        self.room.byte(b',');
    }

    #[inline(always)]
    fn written(&mut self, _schema: &FieldSchema, number: Written<'_>) {
        self.room.written(&number, b',');
    }

    #[inline(always)]
    fn number(&mut self, schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        self.room.number(coefficient, places, b',');
        if quality != Quality::Good {
            tell_quality(schema, quality, self.quality);
            note(schema, Reading { value: ANY, quality }, self.notes);
        }
    }

    #[inline(always)]
    fn text(&mut self, _schema: &FieldSchema, text: ShortText<'_>) {
        self.room.short_text(&text, b',');
    }

    #[inline(always)]
    fn name(&mut self, _schema: &FieldSchema, _value: Value<'_>, name: &Name) {
        self.room.name(name, b',');
    }

    #[inline(always)]
    fn flag(&mut self, _schema: &FieldSchema, flag: bool) {
        put_flag(flag, self.room);
    }

    #[inline(always)]
    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        self.put(reading);
        if reading.quality != Quality::Good {
            tell_quality(schema, reading.quality, self.quality);
            note(schema, reading, self.notes);
        } else if matches!(reading.value, Value::Absent(Absent::Marked)) {
            note(schema, reading, self.notes);
        }
    }

    fn group(&mut self, _schema: &FieldSchema, _items: usus::Items<'_>) {}
}

/// A value that is there: what matters beside a quality is only whether one is.
const ANY: Value<'static> = Value::Bool(true);

#[cold]
fn note(schema: &FieldSchema, reading: Reading<'_>, notes: &mut Notes) {
    notes.extend_field(schema, reading);
}

/// The rows of a group's items.
pub(super) struct ItemRows<'o, 'r> {
    pub(super) row: Row<'o, 'r>,
    /// What each row begins with.
    pub(super) front: Repeated<'o, 16>,
    /// The item that the group is in, if it is in one, and the place of the group there, or in its record.
    pub(super) around: Option<ItemPath>,
    pub(super) group: u16,
    /// The item at hand, from 0.
    pub(super) item: u32,
    pub(super) has_quality: bool,
}

impl ItemRows<'_, '_> {
    #[cold]
    fn tell(&mut self, schema: &FieldSchema, value: Value<'_>, quality: Quality) {
        if quality != Quality::Good {
            tell_quality(schema, quality, self.row.quality);
        }
        if let Some(class) = Class::of(value, quality) {
            let new = || ItemPath::new(self.group, self.item);
            let path = self.around.map_or_else(new, |around| around.within(self.group, self.item));
            self.row.notes.item(path, schema, class);
        }
    }
}

impl Visit for ItemRows<'_, '_> {
    const BRIEF: bool = false;
    const WRITTEN: bool = true;

    #[inline(always)]
    fn begin_item(&mut self, index: usize) {
        self.item = index as u32;
        self.front.put(self.row.room);
        self.row.room.whole(index as u64 + 1, b',');
        self.row.quality.clear();
    }

    #[inline(always)]
    fn end_item(&mut self) {
        end_row(self.has_quality.then_some(&mut *self.row.quality), self.row.room);
    }

    #[inline(always)]
    fn written(&mut self, schema: &FieldSchema, number: Written<'_>) {
        self.row.written(schema, number);
    }

    #[inline(always)]
    fn number(&mut self, schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        self.row.room.number(coefficient, places, b',');
        if quality != Quality::Good {
            self.tell(schema, ANY, quality);
        }
    }

    #[inline(always)]
    fn text(&mut self, schema: &FieldSchema, text: ShortText<'_>) {
        self.row.text(schema, text);
    }

    #[inline(always)]
    fn name(&mut self, schema: &FieldSchema, value: Value<'_>, name: &Name) {
        self.row.name(schema, value, name);
    }

    #[inline(always)]
    fn flag(&mut self, schema: &FieldSchema, flag: bool) {
        self.row.flag(schema, flag);
    }

    #[inline(always)]
    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        self.row.put(reading);
        if reading.quality != Quality::Good || matches!(reading.value, Value::Absent(Absent::Marked)) {
            self.tell(schema, reading.value, reading.quality);
        }
    }

    fn group(&mut self, _schema: &FieldSchema, _items: usus::Items<'_>) {}
}

/// What does not come often.
#[inline(never)]
fn put_value(value: Value<'_>, room: &mut TextBuffer<'_>) {
    room.value(value);
    room.byte(b',');
}

/// Puts a text and a comma behind it.
#[inline]
fn put_column(text: &[u8], room: &mut TextBuffer<'_>) {
    put_text(text, room);
    room.byte(b',');
}

/// What is not bare of printable characters.
const SPECIAL: [u8; 2] = *b",\"";

#[cold]
fn tell_quality(schema: &FieldSchema, quality: Quality, out: &mut Vec<u8>) {
    if !out.is_empty() {
        out.push(b';');
    }
    out.extend_from_slice(schema.name.as_bytes());
    out.push(b'=');
    out.extend_from_slice(quality.word().as_bytes());
}

/// Puts a text, in quotes where RFC 4180 asks for them, with U+FFFD for what is not UTF-8.
#[inline]
fn put_text(text: &[u8], room: &mut TextBuffer<'_>) {
    if is_bare(text, SPECIAL) { room.text(text) } else { put_any_text(text, room) }
}

#[cold]
fn put_any_text(text: &[u8], room: &mut TextBuffer<'_>) {
    let in_quotes = text.iter().any(|byte| matches!(byte, b',' | b'"' | b'\r' | b'\n'));
    let quote = |room: &mut TextBuffer<'_>| {
        if in_quotes {
            room.byte(b'"')
        }
    };
    quote(room);
    for piece in String::from_utf8_lossy(text).split_inclusive('"') {
        room.text(piece.as_bytes());
        if piece.ends_with('"') {
            room.byte(b'"');
        }
    }
    quote(room);
}
