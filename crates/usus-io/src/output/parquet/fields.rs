//! The Arrow schema of a kind's records.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_schema::{DataType, Field, FieldRef, Schema as ArrowSchema, TimeUnit};
use usus::{FieldSchema, KindSchema, Schema, ValueType};

use crate::output::columns::{Holds, TableColumns};

/// The schema of a kind: the columns in front, its fields with groups as lists, and the qualities.
pub(super) fn schema(
    schema: &Schema,
    kind: &KindSchema,
    table: &TableColumns,
    has_quality: Option<&str>,
) -> ArrowSchema {
    let in_front = |holds: &Holds| !matches!(holds, Holds::Field | Holds::Quality);
    let own = table.columns.iter().filter(|column| in_front(&column.holds));
    let mut fields: Vec<FieldRef> = own
        .map(|column| {
            let kind = match column.holds {
                Holds::Source | Holds::Line => DataType::Utf8,
                Holds::Received => utc(),
                _ => DataType::Int64,
            };
            Arc::new(Field::new(&column.name, kind, true))
        })
        .collect();
    fields.extend(kind.fields.iter().map(field));
    fields.extend(has_quality.map(|name| Arc::new(Field::new(name, DataType::Utf8, true))));
    let mut about =
        HashMap::from([("format".to_owned(), schema.format.clone()), ("record".to_owned(), kind.name.clone())]);
    about.extend(schema.version.iter().map(|version| ("version".to_owned(), version.clone())));
    about.extend(kind.title.iter().map(|title| ("title".to_owned(), title.clone())));
    ArrowSchema::new_with_metadata(fields, about)
}

fn utc() -> DataType {
    DataType::Timestamp(TimeUnit::Nanosecond, Some("UTC".into()))
}

/// A field, with its unit, tag and title beside it.
fn field(schema: &FieldSchema) -> FieldRef {
    let mut about = HashMap::new();
    for (key, text) in [("unit", &schema.unit), ("tag", &schema.tag), ("title", &schema.title)] {
        about.extend(text.iter().map(|text| (key.to_owned(), text.clone())));
    }
    let kind = match (&schema.items[..], schema.is_list()) {
        ([], _) => value_type(schema),
        ([value], true) => {
            let value = Field::new("item", value_type(value), true).with_metadata(field(value).metadata().clone());
            DataType::List(Arc::new(value))
        }
        (items, _) => {
            let items: Vec<FieldRef> = items.iter().map(field).collect();
            DataType::List(Arc::new(Field::new("item", DataType::Struct(items.into()), false)))
        }
    };
    Arc::new(Field::new(&schema.name, kind, true).with_metadata(about))
}

fn value_type(schema: &FieldSchema) -> DataType {
    match schema.value_type {
        ValueType::Integer => match schema.numbers {
            Some(numbers) if i64::try_from(numbers.least).is_ok() && i64::try_from(numbers.most).is_ok() => {
                DataType::Int64
            }
            Some(numbers) if numbers.least >= 0 && u64::try_from(numbers.most).is_ok() => DataType::UInt64,
            _ => DataType::Decimal128(38, 0),
        },
        ValueType::Decimal => match schema.numbers {
            Some(numbers) => {
                let digits = numbers.digits().max(u32::from(numbers.places)).max(1) as u8;
                DataType::Decimal128(digits.min(38), numbers.places.min(38) as i8)
            }
            None => DataType::Float64,
        },
        ValueType::F32 => DataType::Float32,
        ValueType::F64 => DataType::Float64,
        ValueType::Bytes => DataType::Binary,
        ValueType::Bool => DataType::Boolean,
        ValueType::Date => DataType::Date32,
        ValueType::Clock => DataType::Time64(TimeUnit::Nanosecond),
        ValueType::DateTime if schema.is_instant => utc(),
        ValueType::DateTime => DataType::Timestamp(TimeUnit::Nanosecond, None),
        _ => DataType::Utf8,
    }
}
