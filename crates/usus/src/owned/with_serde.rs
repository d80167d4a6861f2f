//! Records and serde: [`Record::to`] reads a record into any struct that can be deserialised; owned records can be serialised.

use alloc::string::{String, ToString};
use core::fmt;

use serde::de::value::{MapDeserializer, SeqDeserializer};
use serde::de::{self, DeserializeOwned, Deserializer, IntoDeserializer, Visitor};
use serde::ser::{Serialize, SerializeMap, Serializer};

use super::{OwnedRecord, OwnedValue};
use crate::record::{Cell, Record};
use crate::value::{Decimal, Value};

/// Why a record does not fit into a struct.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RecordError(String);

impl fmt::Display for RecordError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl core::error::Error for RecordError {}

impl de::Error for RecordError {
    fn custom<T: fmt::Display>(message: T) -> RecordError {
        RecordError(message.to_string())
    }
}

impl Record<'_> {
    /// Reads the record's fields into a struct: fields by name, absent values as `None`, whole numbers as integers, other numbers as
    /// floating-point numbers (or as text, exact), codes by name, dates and times of day as ISO 8601 texts, groups as lists.
    ///
    /// # Errors
    ///
    /// A field that the struct needs and the record lacks, or a value of another type.
    ///
    /// ```
    /// # use usus::{Chunk, Decoder, Event, Format};
    /// #[derive(serde::Deserialize)]
    /// struct Weight {
    ///     weight: f64,
    ///     unit: Option<String>,
    /// }
    /// # let format = Format::parse(r#"
    /// #     format = "scale"
    /// #     [[frame]]
    /// #     cut = "text"
    /// #     [record.weight]
    /// #     fields = [{ name = "weight", type = "number" }, { name = "unit" }]
    /// # "#)?;
    /// # let plan = format.compile()?;
    /// # let mut decoder = Decoder::new(&plan);
    /// # let line = decoder.line("", 0).unwrap();
    /// # let mut events = decoder.feed(Chunk::new(line, b"12.5,\r\n"));
    /// # let mut seen = false;
    /// while let Some(event) = events.next() {
    ///     if let Event::Record(record) = event {
    ///         let weight: Weight = record.to().unwrap();
    ///         assert_eq!((weight.weight, weight.unit), (12.5, None));
    /// #       seen = true;
    ///     }
    /// }
    /// # assert!(seen);
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn to<T: DeserializeOwned>(&self) -> Result<T, RecordError> {
        let fields = self.fields().map(|(schema, cell)| (schema.name.as_str(), CellDeserializer(cell)));
        T::deserialize(MapDeserializer::new(fields))
    }
}

#[derive(Clone, Copy)]
struct CellDeserializer<'a>(Cell<'a>);

impl<'de> IntoDeserializer<'de, RecordError> for CellDeserializer<'_> {
    type Deserializer = Self;

    fn into_deserializer(self) -> Self {
        self
    }
}

impl<'de> Deserializer<'de> for CellDeserializer<'_> {
    type Error = RecordError;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        let reading = match self.0 {
            Cell::Reading(reading) => reading,
            Cell::Group(items) => {
                let items = items.map(|item| {
                    let fields = item
                        .fields()
                        .map(|(schema, reading)| (schema.name.as_str(), CellDeserializer(Cell::Reading(reading))));
                    MapDeserializer::new(fields)
                });
                return visitor.visit_seq(SeqDeserializer::new(items));
            }
        };
        match reading.value {
            Value::Absent(_) => visitor.visit_none(),
            Value::Decimal(number) => visit_decimal(number, visitor),
            Value::F32(number) => visitor.visit_f32(number),
            Value::F64(number) => visitor.visit_f64(number),
            Value::Bool(flag) => visitor.visit_bool(flag),
            Value::Bytes(bytes) => visitor.visit_bytes(bytes),
            Value::Code { name, .. } => visitor.visit_str(name),
            text => visitor.visit_string(text.to_string()),
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        match self.0 {
            Cell::Reading(reading) if !reading.value.is_present() => visitor.visit_none(),
            _ => visitor.visit_some(self),
        }
    }

    fn deserialize_string<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        match self.0 {
            Cell::Reading(reading) if reading.value.is_present() => visitor.visit_string(reading.value.to_string()),
            _ => self.deserialize_any(visitor),
        }
    }

    fn deserialize_str<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        self.deserialize_string(visitor)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, RecordError> {
        match self.0 {
            Cell::Reading(reading) if reading.value.is_present() => {
                reading.value.to_string().into_deserializer().deserialize_enum(name, variants, visitor)
            }
            _ => Err(RecordError("there is no value for it".to_string())),
        }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        _name: &'static str,
        visitor: V,
    ) -> Result<V::Value, RecordError> {
        visitor.visit_newtype_struct(self)
    }

    serde::forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char bytes byte_buf unit unit_struct seq tuple tuple_struct map
        struct identifier ignored_any
    }
}

/// A whole number as an integer, any other as the nearest floating-point number.
fn visit_decimal<'de, V: Visitor<'de>>(number: Decimal, visitor: V) -> Result<V::Value, RecordError> {
    let whole = if number.places() == 0 { number.to_integer() } else { None };
    match whole {
        Some(whole) => match (u64::try_from(whole), i64::try_from(whole)) {
            (Ok(small), _) => visitor.visit_u64(small),
            (_, Ok(small)) => visitor.visit_i64(small),
            _ => visitor.visit_i128(whole),
        },
        None => visitor.visit_f64(number.to_f64()),
    }
}

impl Serialize for OwnedRecord {
    /// A map: `kind`, `offset`, `received` and `fields`.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(4))?;
        map.serialize_entry("kind", &self.kind)?;
        map.serialize_entry("offset", &self.offset)?;
        map.serialize_entry("received", &self.received.map(|time| time.to_string()))?;
        map.serialize_entry("fields", &Fields(&self.fields))?;
        map.end()
    }
}

struct Fields<'a>(&'a [(String, OwnedValue)]);

impl Serialize for Fields<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, value)| (name, value)))
    }
}

impl Serialize for OwnedValue {
    /// Numbers as numbers (decimals with places as the nearest floating-point number), bytes as upper-case hex, no value as nothing.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            OwnedValue::Absent => serializer.serialize_none(),
            OwnedValue::Decimal(number) if number.places() == 0 => match u64::try_from(number.coefficient()) {
                Ok(small) => serializer.serialize_u64(small),
                Err(_) => match i64::try_from(number.coefficient()) {
                    Ok(small) => serializer.serialize_i64(small),
                    Err(_) => serializer.serialize_i128(number.coefficient()),
                },
            },
            OwnedValue::Decimal(number) => serializer.serialize_f64(number.to_f64()),
            OwnedValue::F32(number) => serializer.serialize_f32(*number),
            OwnedValue::F64(number) => serializer.serialize_f64(*number),
            OwnedValue::Text(text) => serializer.serialize_str(text),
            OwnedValue::Bytes(bytes) => serializer.collect_str(&Value::Bytes(bytes)),
            OwnedValue::Bool(flag) => serializer.serialize_bool(*flag),
            OwnedValue::Date(date) => serializer.collect_str(date),
            OwnedValue::Clock(clock) => serializer.collect_str(clock),
            OwnedValue::Items(items) => serializer.collect_seq(items.iter().map(|item| Fields(item))),
        }
    }
}
