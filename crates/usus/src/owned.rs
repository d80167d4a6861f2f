//! Records that own their values, and records into the user's own structs.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::record::{Cell, Record};
use crate::time::Time;
use crate::value::{Clock, Date, Decimal, Reading, Value};

/// A record that owns its values.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct OwnedRecord {
    /// Its kind.
    pub kind: String,
    /// Stream offset of its first byte.
    pub offset: u64,
    /// When its first byte arrived.
    pub received: Option<Time>,
    /// Its fields by name, in the order of the schema.
    pub fields: Vec<(String, OwnedValue)>,
}

/// A value that owns its text.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum OwnedValue {
    /// No value.
    Absent,
    /// A decimal number.
    Decimal(Decimal),
    /// A floating-point number of 32 bits.
    F32(f32),
    /// A floating-point number of 64 bits.
    F64(f64),
    /// Text, or the name of a code.
    Text(String),
    /// Raw bytes.
    Bytes(Vec<u8>),
    /// A flag.
    Bool(bool),
    /// A date.
    Date(Date),
    /// A time of day.
    Clock(Clock),
    /// The items of a group, each with its fields by name.
    Items(Vec<Vec<(String, OwnedValue)>>),
}

impl From<Reading<'_>> for OwnedValue {
    fn from(reading: Reading<'_>) -> OwnedValue {
        match reading.value {
            Value::Absent(_) => OwnedValue::Absent,
            Value::Decimal(number) => OwnedValue::Decimal(number),
            Value::F32(number) => OwnedValue::F32(number),
            Value::F64(number) => OwnedValue::F64(number),
            Value::Text(text) => OwnedValue::Text(text.to_string()),
            Value::Bytes(bytes) => OwnedValue::Bytes(bytes.to_vec()),
            Value::Bool(flag) => OwnedValue::Bool(flag),
            Value::Code { name, .. } => OwnedValue::Text(name.to_string()),
            Value::Date(date) => OwnedValue::Date(date),
            Value::Clock(clock) => OwnedValue::Clock(clock),
        }
    }
}

impl Record<'_> {
    /// A copy that owns its values.
    pub fn to_owned(&self) -> OwnedRecord {
        let fields = self.fields().map(|(schema, cell)| {
            let value = match cell {
                Cell::Reading(reading) => reading.into(),
                Cell::Group(items) => OwnedValue::Items(items.map(|item| owned_fields(item.fields())).collect()),
            };
            (schema.name.clone(), value)
        });
        OwnedRecord {
            kind: self.kind().to_string(),
            offset: self.offset(),
            received: self.received(),
            fields: fields.collect(),
        }
    }
}

fn owned_fields<'a>(fields: impl Iterator<Item = (&'a crate::FieldSchema, Reading<'a>)>) -> Vec<(String, OwnedValue)> {
    fields.map(|(schema, reading)| (schema.name.clone(), reading.into())).collect()
}

#[cfg(feature = "serde")]
pub use with_serde::RecordError;

#[cfg(feature = "serde")]
mod with_serde;
