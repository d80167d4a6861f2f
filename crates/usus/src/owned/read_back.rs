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
                    record.fields = map.next_value_seed(Fields(&kind.fields))?;
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
        set_in("", &mut self.fields, &quality);
    }
}

/// Sets the qualities of fields by their paths.
fn set_in(path: &str, fields: &mut [(String, OwnedCell)], quality: &dyn Fn(&str) -> Option<Quality>) {
    for (name, cell) in fields {
        match cell {
            OwnedCell::Reading(reading) => {
                reading.quality = quality(&format!("{path}{name}")).unwrap_or(reading.quality);
            }
            OwnedCell::Items(items) => {
                for (number, item) in items.iter_mut().enumerate() {
                    let path = format!("{path}{name}[{}]", number + 1);
                    match &mut **item {
                        // The value of a list.
                        [(value, OwnedCell::Reading(reading))] if value == name => {
                            reading.quality = quality(&path).unwrap_or(reading.quality);
                        }
                        fields => set_in(&format!("{path}."), fields, quality),
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

/// A field of a record or an item: a reading, or a group.
struct Cell<'s>(&'s FieldSchema);

impl<'de> DeserializeSeed<'de> for Cell<'_> {
    type Value = OwnedCell;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<OwnedCell, D::Error> {
        match self.0.value_type {
            ValueType::Group | ValueType::List => Items(self.0).deserialize(deserializer).map(OwnedCell::Items),
            value_type => {
                let value = Value(value_type).deserialize(deserializer)?;
                Ok(OwnedCell::Reading(OwnedReading { value, quality: Quality::Good }))
            }
        }
    }
}

struct Fields<'s>(&'s [FieldSchema]);

impl<'de> DeserializeSeed<'de> for Fields<'_> {
    type Value = Vec<(String, OwnedCell)>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Fields<'_> {
    type Value = Vec<(String, OwnedCell)>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("values by field")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let mut fields = Vec::new();
        while let Some(name) = map.next_key::<String>()? {
            let Some(field) = self.0.iter().find(|field| field.name == name) else {
                return Err(de::Error::custom(format!("a field of the format, not `{name}`")));
            };
            fields.push((name, map.next_value_seed(Cell(field))?));
        }
        Ok(fields)
    }
}

/// The items of a group, or the values of a list.
struct Items<'s>(&'s FieldSchema);

impl<'de> DeserializeSeed<'de> for Items<'_> {
    type Value = Vec<Vec<(String, OwnedCell)>>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for Items<'_> {
    type Value = Vec<Vec<(String, OwnedCell)>>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the items of a group")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Self::Value, A::Error> {
        let mut all = Vec::new();
        match (self.0.is_list(), self.0.items.first()) {
            (true, Some(value)) => {
                while let Some(cell) = items.next_element_seed(Cell(value))? {
                    all.push([(value.name.clone(), cell)].into());
                }
            }
            _ => {
                while let Some(item) = items.next_element_seed(Fields(&self.0.items))? {
                    all.push(item);
                }
            }
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
