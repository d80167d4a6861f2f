//! Records that own their values, and records into the user's own structs.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::input::LineId;
use crate::record::{Cell, Record};
use crate::schema::FieldSchema;
use crate::time::Time;
use crate::value::{Absent, Clock, Date, DateTime, Decimal, Quality, Reading, Value};

/// A record that owns its values, with all that is known of them.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct OwnedRecord {
    /// Its kind.
    pub kind: String,
    /// The line that it came on.
    pub line: LineId,
    /// The stream ranges that it was made from, as offset and length.
    pub ranges: Vec<(u64, u64)>,
    /// When its first byte arrived.
    pub received: Option<Time>,
    /// When its last byte arrived.
    pub completed: Option<Time>,
    /// Its fields by name, in the order of the schema.
    pub fields: Vec<(String, OwnedCell)>,
}

impl OwnedRecord {
    /// Stream offset of its first byte.
    pub fn offset(&self) -> u64 {
        self.ranges.first().map_or(0, |(offset, _)| *offset)
    }

    /// The field of that name; nothing if there is none, or it is a group.
    pub fn get(&self, name: &str) -> Option<&OwnedReading> {
        self.fields.iter().find(|(known, _)| known == name).and_then(|(_, cell)| match cell {
            OwnedCell::Reading(reading) => Some(reading),
            OwnedCell::Items(_) => None,
        })
    }
}

/// A field of a record: one reading, or the items of a group.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum OwnedCell {
    /// One reading.
    Reading(OwnedReading),
    /// The items of a group, each with its fields by name.
    Items(Vec<Vec<(String, OwnedCell)>>),
}

/// A value that is owned, and its quality.
#[derive(Clone, Debug, PartialEq)]
pub struct OwnedReading {
    /// The value.
    pub value: OwnedValue,
    /// Its quality.
    pub quality: Quality,
}

/// A value that owns its text.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum OwnedValue {
    /// No value, and why.
    Absent(Absent),
    /// A decimal number, exact.
    Decimal(Decimal),
    /// A floating-point number of 32 bits.
    F32(f32),
    /// A floating-point number of 64 bits.
    F64(f64),
    /// Text, with U+FFFD for what is not UTF-8.
    Text(String),
    /// Raw bytes.
    Bytes(Vec<u8>),
    /// A flag.
    Bool(bool),
    /// A number with its name.
    Code {
        /// The number that was sent.
        number: Decimal,
        /// Its name.
        name: String,
    },
    /// A date.
    Date(Date),
    /// A time of day.
    Clock(Clock),
    /// A date with a time of day.
    DateTime(DateTime),
}

impl From<Reading<'_>> for OwnedReading {
    fn from(reading: Reading<'_>) -> OwnedReading {
        let value = match reading.value {
            Value::Absent(why) => OwnedValue::Absent(why),
            Value::Decimal(number) => OwnedValue::Decimal(number),
            Value::F32(number) => OwnedValue::F32(number),
            Value::F64(number) => OwnedValue::F64(number),
            Value::Text(text) => OwnedValue::Text(text.to_string()),
            Value::Bytes(_) | Value::HexBytes(_) => {
                OwnedValue::Bytes(reading.value.to_bytes().unwrap_or_default().into_owned())
            }
            Value::Bool(flag) => OwnedValue::Bool(flag),
            Value::Code { number, name } => OwnedValue::Code { number, name: name.to_string() },
            Value::Date(date) => OwnedValue::Date(date),
            Value::Clock(clock) => OwnedValue::Clock(clock),
            Value::DateTime(both) => OwnedValue::DateTime(both),
        };
        OwnedReading { value, quality: reading.quality }
    }
}

impl Record<'_> {
    /// A copy that owns its values.
    pub fn to_owned(&self) -> OwnedRecord {
        OwnedRecord {
            kind: self.kind().to_string(),
            line: self.line(),
            ranges: self.ranges().collect(),
            received: self.received(),
            completed: self.completed(),
            fields: owned_fields(self.fields()),
        }
    }
}

fn owned_fields<'a>(fields: impl Iterator<Item = (&'a FieldSchema, Cell<'a>)>) -> Vec<(String, OwnedCell)> {
    let owned = |cell| match cell {
        Cell::Reading(reading) => OwnedCell::Reading(reading.into()),
        Cell::Group(items) => OwnedCell::Items(items.map(|item| owned_fields(item.fields())).collect()),
    };
    fields.map(|(schema, cell)| (schema.name.clone(), owned(cell))).collect()
}

#[cfg(feature = "serde")]
pub use read_back::RecordReader;
#[cfg(feature = "serde")]
pub use with_serde::RecordError;

#[cfg(feature = "serde")]
mod read_back;

#[cfg(feature = "serde")]
mod with_serde;
