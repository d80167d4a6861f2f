//! Records and serde: [`Record::to`] reads a record into any struct that can be deserialised; owned records can be serialised.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

use serde::de::value::{MapDeserializer, SeqDeserializer};
use serde::de::{self, DeserializeOwned, Deserializer, IntoDeserializer, Visitor};
use serde::ser::{Serialize, SerializeMap, Serializer};

use super::{OwnedCell, OwnedReading, OwnedRecord, OwnedValue};
use crate::record::{Cell, Item, Record};
use crate::value::{Decimal, Quality, Reading, Value};

/// Why a record does not fit into a struct.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct RecordError {
    /// The field; of a group's item with its place, as in `peaks[2].force`. Empty if it is about the record as a whole.
    pub field: String,
    /// Its value as it is shown, or why it has none; nothing if the record has no such field.
    pub found: Option<String>,
    /// What the struct needs.
    pub expected: String,
}

impl fmt::Display for RecordError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (&*self.field, &self.found) {
            ("", _) => f.write_str(&self.expected),
            (field, Some(found)) => write!(f, "`{field}` is {found}, not {}", self.expected),
            (field, None) => write!(f, "the record has no field `{field}`, which has to be {}", self.expected),
        }
    }
}

impl core::error::Error for RecordError {}

impl RecordError {
    /// Says which field it is about, and what that holds, if that is not known yet.
    fn of(self, field: &str, cell: Cell<'_>) -> RecordError {
        if self.found.is_some() {
            return RecordError { field: join(field, &self.field), ..self };
        }
        if !self.field.is_empty() {
            return self;
        }
        let found = match cell {
            Cell::Reading(Reading { value: Value::Absent(why), .. }) => {
                format!("without a value ({why:?})").to_lowercase()
            }
            Cell::Reading(Reading { value: Value::Text(text), .. }) => format!("the text {text:?}"),
            Cell::Reading(Reading { value, .. }) => value.to_string(),
            Cell::Group(items) => format!("a group of {} items", items.len()),
        };
        RecordError { field: field.to_string(), found: Some(found), ..self }
    }
}

/// The path of a field in an item.
fn join(item: &str, field: &str) -> String {
    if field.is_empty() || field == item { item.to_string() } else { format!("{item}.{field}") }
}

impl de::Error for RecordError {
    fn custom<T: fmt::Display>(message: T) -> RecordError {
        RecordError { expected: message.to_string(), ..RecordError::default() }
    }

    fn invalid_type(_: de::Unexpected<'_>, expected: &dyn de::Expected) -> RecordError {
        RecordError { expected: expected.to_string(), ..RecordError::default() }
    }

    fn invalid_value(_: de::Unexpected<'_>, expected: &dyn de::Expected) -> RecordError {
        RecordError { expected: expected.to_string(), ..RecordError::default() }
    }

    fn missing_field(field: &'static str) -> RecordError {
        RecordError { field: field.to_string(), expected: "there".to_string(), found: None }
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
        let fields = self.fields().map(|(schema, cell)| {
            let name = schema.name.as_str();
            (name, CellDeserializer { cell, name, item: None, is_list: schema.is_list() })
        });
        T::deserialize(MapDeserializer::new(fields))
    }
}

#[derive(Clone, Copy)]
struct CellDeserializer<'a> {
    cell: Cell<'a>,
    name: &'a str,
    /// The group and the place of the item that it is in.
    item: Option<(&'a str, usize)>,
    /// Whether it is a list, whose items are values.
    is_list: bool,
}

/// An item of a group: its fields, or the value that it is.
struct ItemDeserializer<'a> {
    group: CellDeserializer<'a>,
    number: usize,
    item: Item<'a>,
}

impl<'a> ItemDeserializer<'a> {
    fn fields(&self) -> impl Iterator<Item = (&'a str, CellDeserializer<'a>)> + use<'a> {
        let item = Some((self.group.name, self.number));
        self.item.fields().map(move |(schema, cell)| {
            let name = schema.name.as_str();
            (name, CellDeserializer { cell, name, item, is_list: schema.is_list() })
        })
    }
}

impl<'de> IntoDeserializer<'de, RecordError> for ItemDeserializer<'_> {
    type Deserializer = Self;

    fn into_deserializer(self) -> Self {
        self
    }
}

impl<'de> Deserializer<'de> for ItemDeserializer<'_> {
    type Error = RecordError;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        match self.fields().next().filter(|_| self.group.is_list) {
            Some((_, value)) => value.deserialize_any(visitor),
            None => MapDeserializer::new(self.fields()).deserialize_any(visitor),
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        match self.fields().next().filter(|_| self.group.is_list) {
            Some((_, value)) => value.deserialize_option(visitor),
            None => visitor.visit_some(self),
        }
    }

    serde::forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit unit_struct newtype_struct seq
        tuple tuple_struct map struct enum identifier ignored_any
    }
}

impl CellDeserializer<'_> {
    /// Says which field an error is about.
    fn told<T>(self, result: Result<T, RecordError>) -> Result<T, RecordError> {
        result.map_err(|error| match self.item {
            Some((group, number)) => error.of(&format!("{group}[{}].{}", number + 1, self.name), self.cell),
            None => error.of(self.name, self.cell),
        })
    }
}

impl<'de> IntoDeserializer<'de, RecordError> for CellDeserializer<'_> {
    type Deserializer = Self;

    fn into_deserializer(self) -> Self {
        self
    }
}

impl<'de> Deserializer<'de> for CellDeserializer<'_> {
    type Error = RecordError;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        let reading = match self.cell {
            Cell::Reading(reading) => reading,
            Cell::Group(items) => {
                let items = items.enumerate().map(|(number, item)| ItemDeserializer { group: self, number, item });
                return match visitor.visit_seq(SeqDeserializer::new(items)) {
                    // What is wrong in an item has said so.
                    Err(error) if error.found.is_some() => Err(error),
                    result => self.told(result),
                };
            }
        };
        self.told(match reading.value {
            Value::Absent(_) => visitor.visit_none(),
            Value::Decimal(number) => visit_decimal(number, visitor),
            Value::F32(number) => visitor.visit_f32(number),
            Value::F64(number) => visitor.visit_f64(number),
            Value::Bool(flag) => visitor.visit_bool(flag),
            Value::Bytes(bytes) => visitor.visit_bytes(bytes),
            Value::HexBytes(_) => visitor.visit_byte_buf(reading.value.to_bytes().unwrap_or_default().into_owned()),
            Value::Code { name, .. } => visitor.visit_str(name),
            text => visitor.visit_string(text.to_string()),
        })
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        match self.cell {
            Cell::Reading(reading) if !reading.value.is_present() => visitor.visit_none(),
            _ => visitor.visit_some(self),
        }
    }

    fn deserialize_string<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, RecordError> {
        match self.cell {
            Cell::Reading(reading) if reading.value.is_present() => {
                self.told(visitor.visit_string(reading.value.to_string()))
            }
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
        self.told(match self.cell {
            Cell::Reading(reading) if reading.value.is_present() => {
                reading.value.to_string().into_deserializer().deserialize_enum(name, variants, visitor)
            }
            _ => Err(de::Error::custom(format!("one of {}", variants.join(", ")))),
        })
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
    /// The object that the command writes: `kind`, `received` if that is known, `ranges`, `fields`, and `quality` of those of which there is something
    /// to tell. Which line it was has a name only where it came from.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("kind", &self.kind)?;
        if let Some(received) = self.received {
            map.serialize_entry("received", &received.to_string())?;
        }
        map.serialize_entry("ranges", &self.ranges)?;
        map.serialize_entry("fields", &Fields(&self.fields))?;
        let qualities = self.qualities();
        if !qualities.is_empty() {
            map.serialize_entry("quality", &Qualities(&qualities))?;
        }
        map.end()
    }
}

impl OwnedRecord {
    /// The qualities of which there is something to tell, by field; those in a group by field and item.
    fn qualities(&self) -> Vec<(String, &'static str)> {
        let mut qualities = Vec::new();
        let mut tell = |name: String, reading: &OwnedReading| {
            if reading.quality != Quality::Good {
                qualities.push((name, reading.quality.word()));
            }
        };
        gather("", &self.fields, &mut tell);
        qualities
    }
}

/// Tells each reading with its path: those of items by field and item.
fn gather(path: &str, fields: &[(String, OwnedCell)], tell: &mut dyn FnMut(String, &OwnedReading)) {
    for (name, cell) in fields {
        match cell {
            OwnedCell::Reading(reading) => tell(format!("{path}{name}"), reading),
            OwnedCell::Items(items) => {
                for (number, item) in items.iter().enumerate() {
                    let path = format!("{path}{name}[{}]", number + 1);
                    match as_value(name, item) {
                        Some(reading) => tell(path, reading),
                        None => gather(&format!("{path}."), item, tell),
                    }
                }
            }
        }
    }
}

/// The value that an item of a list is; nothing if it is an item of a group.
fn as_value<'i>(group: &str, item: &'i [(String, OwnedCell)]) -> Option<&'i OwnedReading> {
    match item {
        [(name, OwnedCell::Reading(reading))] if name == group => Some(reading),
        _ => None,
    }
}

struct Qualities<'a>(&'a [(String, &'static str)]);

impl Serialize for Qualities<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, quality)| (name, quality)))
    }
}

struct Fields<'a>(&'a [(String, OwnedCell)]);

impl Serialize for Fields<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, value)| (name, Named(name, value))))
    }
}

/// A cell, and what it is called.
struct Named<'a>(&'a str, &'a OwnedCell);

impl Serialize for Named<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.1 {
            OwnedCell::Reading(reading) => reading.serialize(serializer),
            OwnedCell::Items(items) => {
                serializer.collect_seq(items.iter().map(|item| OwnedItem(as_value(self.0, item), item)))
            }
        }
    }
}

/// An item: the value that it is, or its fields.
struct OwnedItem<'a>(Option<&'a OwnedReading>, &'a [(String, OwnedCell)]);

impl Serialize for OwnedItem<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            Some(value) => value.serialize(serializer),
            None => Fields(self.1).serialize(serializer),
        }
    }
}

impl Serialize for OwnedReading {
    /// Its value.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.value.serialize(serializer)
    }
}

impl Serialize for OwnedValue {
    /// Numbers as numbers (decimals with places as the nearest floating-point number), codes by name, bytes as upper-case hex, no value as nothing.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            OwnedValue::Absent(_) => serializer.serialize_none(),
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
            OwnedValue::Code { name, .. } => serializer.serialize_str(name),
            OwnedValue::Date(date) => serializer.collect_str(date),
            OwnedValue::Clock(clock) => serializer.collect_str(clock),
            OwnedValue::DateTime(both) => serializer.collect_str(both),
        }
    }
}
