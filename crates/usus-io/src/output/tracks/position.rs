//! Where a record is: its latitude, longitude and height.

use usus::{Decimal, KindSchema, Reading, Record, Schema, Value, ValueType};

use crate::output::OutputError;
use crate::output::received_text;

/// What latitudes, longitudes and heights are called, where nobody says.
const LATITUDES: [&str; 2] = ["latitude", "lat"];
const LONGITUDES: [&str; 3] = ["longitude", "lon", "long"];
const HEIGHTS: [&str; 4] = ["altitude", "elevation", "height", "alt"];

/// The fields of a kind that say where it is, and when.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Places {
    latitude: usize,
    longitude: usize,
    /// In metres.
    height: Option<usize>,
    /// An instant.
    time: Option<usize>,
}

/// Where a record is: degrees and metres, as the digits that they are told with.
pub(super) struct Position {
    pub(super) latitude: String,
    pub(super) longitude: String,
    pub(super) height: Option<String>,
    /// When it was received, or else what time it says itself: an instant in UTC.
    pub(super) time: Option<String>,
}

/// The fields for each kind: those that are named, or else those that are called as positions are.
pub(super) fn places(schema: &Schema, named: &[String]) -> Result<Vec<Option<Places>>, OutputError> {
    let places: Vec<Option<Places>> =
        schema.kinds.iter().map(|kind| if kind.wanted { of_kind(kind, named) } else { None }).collect();
    if places.iter().all(Option::is_none) {
        let looked_for = match named {
            [] => "latitude and longitude (or lat and lon)".to_owned(),
            named => named.join(" and "),
        };
        return Err(OutputError::NoPosition { format: schema.format.clone(), looked_for });
    }
    Ok(places)
}

fn of_kind(kind: &KindSchema, named: &[String]) -> Option<Places> {
    let find = |names: &[&str]| {
        let is_number =
            |kind: ValueType| matches!(kind, ValueType::Integer | ValueType::Decimal | ValueType::F32 | ValueType::F64);
        names.iter().find_map(|name| {
            let is_it = |field: &usus::FieldSchema| field.declared_name() == *name || field.name == *name;
            kind.fields.iter().position(|field| is_it(field) && is_number(field.value_type))
        })
    };
    let (latitude, longitude, height) = match named {
        [] => (find(&LATITUDES)?, find(&LONGITUDES)?, find(&HEIGHTS)),
        [latitude, longitude, rest @ ..] => {
            (find(&[latitude])?, find(&[longitude])?, rest.first().and_then(|name| find(&[name])))
        }
        _ => return None,
    };
    // What is not in metres is no height for the formats.
    let height = height.filter(|height| kind.fields[*height].unit.as_deref() == Some("m"));
    let time = kind.fields.iter().position(|field| field.is_instant);
    Some(Places { latitude, longitude, height, time })
}

impl Places {
    /// Where a record is; nothing if it does not say. An error if that is nowhere.
    pub(super) fn of(&self, record: &Record<'_>) -> Result<Option<Position>, ()> {
        let number = |place: usize| digits(record.field(place)?);
        let (Some(latitude), Some(longitude)) = (number(self.latitude), number(self.longitude)) else {
            return Ok(None);
        };
        let within = |text: &str, most: f64| text.parse::<f64>().is_ok_and(|number| number.abs() <= most);
        if !within(&latitude, 90.0) || !within(&longitude, 180.0) {
            return Err(());
        }
        let own = || match record.field(self.time?)?.value {
            Value::DateTime(both) => both.nanoseconds().map(usus::Time::from_nanoseconds),
            _ => None,
        };
        let time = record.received().or_else(own).map(|time| received_text(time, 3));
        Ok(Some(Position { latitude, longitude, height: self.height.and_then(number), time }))
    }
}

/// The digits of a number that is there, without a power of ten.
fn digits(reading: Reading<'_>) -> Option<String> {
    match reading.value {
        Value::Decimal(number) => Some(number.to_string()),
        Value::F32(number) if number.is_finite() => {
            Some(Decimal::parse(number.to_string().as_bytes()).map_or_else(|| number.to_string(), |it| it.to_string()))
        }
        Value::F64(number) if number.is_finite() => Some(number.to_string()),
        _ => None,
    }
}

impl Position {
    /// The geometry of a GeoJSON point: longitude first (RFC 7946, 3.1.1).
    pub(super) fn geo_json(&self) -> String {
        let height = self.height.as_ref().map(|height| format!(",{height}")).unwrap_or_default();
        format!("{{\"type\":\"Point\",\"coordinates\":[{},{}{height}]}}", self.longitude, self.latitude)
    }
}
