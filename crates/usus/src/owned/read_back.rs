//! Reading records back from what the command and serde write: with the schema, which tells a date from a text.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

use serde::de::{self, DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};

use super::{OwnedCell, OwnedReading, OwnedRecord, OwnedValue};
use crate::input::LineId;
use crate::schema::{FieldSchema, KindSchema, Schema};
use crate::time::Time;
use crate::value::{Absent, Clock, Date, DateTime, Decimal, Quality, ValueType};

/// Reads a record of a schema from an object as the command's JSON Lines have them.
///
/// What JSON does not say is not known then: why there is no value (it is taken for an empty one), the number of a code (its name is a text),
/// when the last byte arrived, and which line it was.
///
/// ```
/// use serde::de::DeserializeSeed;
/// use usus::{Format, OwnedValue};
///
/// let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]")?;
/// let plan = format.compile()?;
/// let json = r#"{"kind":"weight","ranges":[[0,4]],"fields":{"weight":12.5}}"#;
/// let record = plan.schema().reader().deserialize(&mut serde_json::Deserializer::from_str(json)).unwrap();
/// assert_eq!(record.get("weight").unwrap().value, plan.records(b"12.5\n")[0].get("weight").unwrap().value);
/// # Ok::<(), usus::Problems>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct RecordReader<'s>(&'s Schema);

impl Schema {
    /// What reads records of this schema back.
    pub fn reader(&self) -> RecordReader<'_> {
        RecordReader(self)
    }
}

impl<'de> DeserializeSeed<'de> for RecordReader<'_> {
    type Value = OwnedRecord;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<OwnedRecord, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for RecordReader<'_> {
    type Value = OwnedRecord;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a record")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<OwnedRecord, A::Error> {
        let mut kind: Option<&KindSchema> = None;
        let mut record = OwnedRecord {
            kind: String::new(),
            line: LineId::FIRST,
            ranges: Vec::new(),
            received: None,
            completed: None,
            fields: Vec::new(),
        };
        let mut qualities: Vec<(String, String)> = Vec::new();
        while let Some(key) = map.next_key::<String>()? {
            match key.as_str() {
                "kind" => {
                    record.kind = map.next_value()?;
                    kind = self.0.kinds.iter().find(|known| known.name == record.kind);
                }
                "received" => record.received = map.next_value::<Option<String>>()?.and_then(|text| Time::parse(&text)),
                "ranges" => record.ranges = map.next_value()?,
                "fields" => {
                    let Some(kind) = kind else {
                        return Err(de::Error::custom(format!(
                            "a kind of the format before `fields`, not `{}`",
                            record.kind
                        )));
                    };
                    record.fields = map.next_value_seed(Fields(&kind.fields, Cells))?;
                }
                "quality" => qualities = map.next_value_seed(Qualities)?,
                _ => {
                    map.next_value::<IgnoredAny>()?;
                }
            }
        }
        record.set_qualities(&qualities);
        Ok(record)
    }
}

impl OwnedRecord {
    fn set_qualities(&mut self, qualities: &[(String, String)]) {
        let quality = |name: &str| {
            let word = &qualities.iter().find(|(known, _)| known == name)?.1;
            Quality::ALL.into_iter().find(|quality| quality.word() == word)
        };
        for (name, cell) in &mut self.fields {
            match cell {
                OwnedCell::Reading(reading) => reading.quality = quality(name).unwrap_or(reading.quality),
                OwnedCell::Items(items) => {
                    for (number, item) in items.iter_mut().enumerate() {
                        for (inner, reading) in item {
                            let path = format!("{name}[{}].{inner}", number + 1);
                            reading.quality = quality(&path).unwrap_or(reading.quality);
                        }
                    }
                }
            }
        }
    }
}

struct Qualities;

impl<'de> DeserializeSeed<'de> for Qualities {
    type Value = Vec<(String, String)>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Qualities {
    type Value = Vec<(String, String)>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("qualities by field")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let mut qualities = Vec::new();
        while let Some(entry) = map.next_entry()? {
            qualities.push(entry);
        }
        Ok(qualities)
    }
}

/// What a field is read as.
trait Read<'de>: Copy {
    type Value;

    fn read<A: MapAccess<'de>>(self, field: &FieldSchema, map: &mut A) -> Result<Self::Value, A::Error>;
}

/// Fields of a record: readings and groups.
#[derive(Clone, Copy)]
struct Cells;

impl<'de> Read<'de> for Cells {
    type Value = OwnedCell;

    fn read<A: MapAccess<'de>>(self, field: &FieldSchema, map: &mut A) -> Result<OwnedCell, A::Error> {
        match field.value_type {
            ValueType::Group => map.next_value_seed(Items(&field.items)).map(OwnedCell::Items),
            _ => Readings.read(field, map).map(OwnedCell::Reading),
        }
    }
}

/// Fields of an item.
#[derive(Clone, Copy)]
struct Readings;

impl<'de> Read<'de> for Readings {
    type Value = OwnedReading;

    fn read<A: MapAccess<'de>>(self, field: &FieldSchema, map: &mut A) -> Result<OwnedReading, A::Error> {
        let value = map.next_value_seed(Value(field.value_type))?;
        Ok(OwnedReading { value, quality: Quality::Good })
    }
}

struct Fields<'s, R>(&'s [FieldSchema], R);

impl<'de, R: Read<'de>> DeserializeSeed<'de> for Fields<'_, R> {
    type Value = Vec<(String, R::Value)>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de, R: Read<'de>> Visitor<'de> for Fields<'_, R> {
    type Value = Vec<(String, R::Value)>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("values by field")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let mut fields = Vec::new();
        while let Some(name) = map.next_key::<String>()? {
            let Some(field) = self.0.iter().find(|field| field.name == name) else {
                return Err(de::Error::custom(format!("a field of the format, not `{name}`")));
            };
            fields.push((name, self.1.read(field, &mut map)?));
        }
        Ok(fields)
    }
}

struct Items<'s>(&'s [FieldSchema]);

impl<'de> DeserializeSeed<'de> for Items<'_> {
    type Value = Vec<Vec<(String, OwnedReading)>>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for Items<'_> {
    type Value = Vec<Vec<(String, OwnedReading)>>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the items of a group")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Self::Value, A::Error> {
        let mut all = Vec::new();
        while let Some(item) = items.next_element_seed(Fields(self.0, Readings))? {
            all.push(item);
        }
        Ok(all)
    }
}

struct Value(ValueType);

impl Value {
    /// A number, from how it is written.
    fn number<E: de::Error>(self, text: &str) -> Result<OwnedValue, E> {
        let decimal = || Decimal::parse(text.as_bytes()).map(OwnedValue::Decimal);
        let value = match self.0 {
            ValueType::F32 => text.parse().ok().map(OwnedValue::F32),
            ValueType::F64 => text.parse().ok().map(OwnedValue::F64),
            _ => decimal(),
        };
        value.ok_or_else(|| de::Error::custom(format!("a number of at most 38 digits, not {text}")))
    }
}

impl<'de> DeserializeSeed<'de> for Value {
    type Value = OwnedValue;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<OwnedValue, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Value {
    type Value = OwnedValue;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a value of the type {:?}", self.0)
    }

    fn visit_unit<E: de::Error>(self) -> Result<OwnedValue, E> {
        Ok(OwnedValue::Absent(Absent::Empty))
    }

    fn visit_bool<E: de::Error>(self, flag: bool) -> Result<OwnedValue, E> {
        Ok(OwnedValue::Bool(flag))
    }

    fn visit_i64<E: de::Error>(self, number: i64) -> Result<OwnedValue, E> {
        self.number(&number.to_string())
    }

    fn visit_u64<E: de::Error>(self, number: u64) -> Result<OwnedValue, E> {
        self.number(&number.to_string())
    }

    fn visit_i128<E: de::Error>(self, number: i128) -> Result<OwnedValue, E> {
        self.number(&number.to_string())
    }

    fn visit_f64<E: de::Error>(self, number: f64) -> Result<OwnedValue, E> {
        self.number(&number.to_string())
    }

    /// A number as it is written, as some readers hand it on to keep all of its digits.
    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<OwnedValue, A::Error> {
        let number = map.next_entry::<String, String>()?.map(|(_, number)| number);
        self.number(&number.unwrap_or_default())
    }

    fn visit_str<E: de::Error>(self, text: &str) -> Result<OwnedValue, E> {
        let value = match self.0 {
            ValueType::Bytes => crate::format::hex_bytes(text).map(OwnedValue::Bytes),
            ValueType::Date => Date::parse(text).map(OwnedValue::Date),
            ValueType::Clock => Clock::parse(text).map(OwnedValue::Clock),
            ValueType::DateTime => DateTime::parse(text).map(OwnedValue::DateTime),
            _ => Some(OwnedValue::Text(text.to_string())),
        };
        value.ok_or_else(|| de::Error::invalid_value(de::Unexpected::Str(text), &self))
    }
}
