//! What was seen while a stream was decoded: of each kind its records, of each field its values, of rejects the first of each reason.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::convert::Infallible;

use super::{FieldSeen, KindSeen, Odd, RejectSeen};
use crate::event::{Notice, NoticeKind, Reject};
use crate::plan::Plan;
use crate::quality::{Class, shown};
use crate::read::Sent;
use crate::record::{Cell, Items, Record};
use crate::schema::FieldSchema;
use crate::sink::Sink;
use crate::time::Time;
use crate::value::{Absent, Decimal, Reading, Value};

/// Bytes of a reject, and of a value, that are shown.
const SHOWN: usize = 24;

/// Sorts of rejects that are told apart.
const REASONS: usize = 32;

/// A sink that remembers.
#[derive(Clone, Debug)]
pub(super) struct Seen {
    kinds: Vec<Kind>,
    rejects: Vec<RejectSeen>,
}

#[derive(Clone, Debug)]
struct Kind {
    told: KindSeen,
    times: Option<(Time, Time)>,
    fields: Vec<Field>,
}

#[derive(Clone, Debug)]
struct Field {
    told: FieldSeen,
    first: Option<String>,
    changes: bool,
    least: Option<Number>,
    most: Option<Number>,
}

#[derive(Clone, Copy, Debug)]
enum Number {
    Exact(Decimal),
    Single(f32),
    Double(f64),
}

impl Number {
    fn of(value: &Value<'_>) -> Option<Number> {
        match value {
            Value::Decimal(decimal) => Some(Number::Exact(*decimal)),
            Value::F32(value) if value.is_finite() => Some(Number::Single(*value)),
            Value::F64(value) if value.is_finite() => Some(Number::Double(*value)),
            _ => None,
        }
    }

    fn is_below(self, other: Number) -> bool {
        match (self, other) {
            (Number::Exact(one), Number::Exact(other)) => one.compare(other).is_lt(),
            (one, other) => one.float() < other.float(),
        }
    }

    fn float(self) -> f64 {
        match self {
            Number::Exact(decimal) => decimal.to_f64(),
            Number::Single(float) => float.into(),
            Number::Double(float) => float,
        }
    }

    fn text(self) -> String {
        match self {
            Number::Exact(decimal) => decimal.to_string(),
            Number::Single(float) => float.to_string(),
            Number::Double(float) => float.to_string(),
        }
    }
}

impl Seen {
    pub(super) fn new(plan: &Plan) -> Seen {
        let kind = |schema: &crate::schema::KindSchema| Kind {
            told: KindSeen {
                kind: schema.name.clone(),
                records: 0,
                rate: None,
                jumps: 0,
                first_jump: None,
                fields: Vec::new(),
            },
            times: None,
            fields: Vec::new(),
        };
        Seen { kinds: plan.schema().kinds.iter().map(kind).collect(), rejects: Vec::new() }
    }

    /// What was seen, field by field in the order of the schema.
    pub(super) fn told(self) -> (Vec<KindSeen>, Vec<RejectSeen>) {
        let kinds = self.kinds.into_iter().map(|kind| {
            let rate = kind.times.and_then(|(first, last)| {
                let seconds = last.since(first).nanoseconds() as f64 / 1e9;
                (seconds > 0.0 && kind.told.records > 2).then(|| kind.told.records.saturating_sub(1) as f64 / seconds)
            });
            let fields = kind.fields.into_iter().map(|field| FieldSeen {
                constant: field.first.filter(|_| !field.changes),
                least: field.least.map(Number::text),
                most: field.most.map(Number::text),
                ..field.told
            });
            KindSeen { rate, fields: fields.collect(), ..kind.told }
        });
        (kinds.collect(), self.rejects)
    }
}

impl Kind {
    fn field(&mut self, name: &str, schema: &FieldSchema) -> &mut Field {
        let known = self.fields.iter().position(|field| field.told.name == name);
        let place = known.unwrap_or_else(|| {
            let told = FieldSeen { name: name.to_string(), unit: schema.unit.clone(), ..FieldSeen::default() };
            self.fields.push(Field { told, first: None, changes: false, least: None, most: None });
            self.fields.len() - 1
        });
        &mut self.fields[place]
    }

    fn items(&mut self, path: &str, items: Items<'_>, offset: u64) {
        for item in items {
            for (place, (schema, cell)) in item.fields().enumerate() {
                let name = alloc::format!("{path}.{}", schema.name);
                match cell {
                    Cell::Reading(reading) => self.field(&name, schema).take(reading, item.sent(place), offset),
                    Cell::Group(items) => self.items(&name, items, offset),
                }
            }
        }
    }
}

impl Field {
    fn take(&mut self, reading: Reading<'_>, sent: Option<Sent<'_>>, offset: u64) {
        self.told.readings += 1;
        let odd = |odd: &mut Option<Odd>| match odd {
            Some(odd) => odd.count += 1,
            None => {
                let text = sent
                    .map(|sent| shown(&sent.bytes[..sent.bytes.len().min(SHOWN)], sent.is_text))
                    .unwrap_or_default();
                *odd = Some(Odd { count: 1, offset, sent: text });
            }
        };
        match Class::of(reading.value, reading.quality) {
            Some(Class::OutOfRange) => odd(&mut self.told.out_of_range),
            Some(Class::Invalid | Class::InvalidText | Class::NotFinite) => odd(&mut self.told.invalid),
            Some(Class::Marked) | None => {}
        }
        if let Value::Absent(why) = reading.value {
            if why != Absent::Invalid {
                self.told.absent += 1;
            }
            return;
        }
        if let Some(number) = Number::of(&reading.value) {
            if self.least.is_none_or(|least| number.is_below(least)) {
                self.least = Some(number);
            }
            if self.most.is_none_or(|most| most.is_below(number)) {
                self.most = Some(number);
            }
        }
        if !self.changes {
            let text = match reading.value {
                Value::Code { number, name } => alloc::format!("{name} ({number})"),
                value => value.to_string(),
            };
            match &self.first {
                None => self.first = Some(text),
                Some(first) => self.changes = *first != text,
            }
        }
    }
}

impl Sink for Seen {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let Some(kind) = self.kinds.get_mut(record.kind_index()) else { return Ok(()) };
        kind.told.records += 1;
        if let Some(time) = record.completed() {
            let first = kind.times.map_or(time, |(first, _)| first);
            kind.times = Some((first, time));
        }
        let offset = record.offset();
        for (place, (schema, cell)) in record.fields().enumerate() {
            match cell {
                // Another layout of the record has it.
                Cell::Reading(Reading { value: Value::Absent(Absent::NotSent), .. }) => {}
                Cell::Reading(reading) => kind.field(&schema.name, schema).take(reading, record.sent(place), offset),
                Cell::Group(items) => kind.items(&schema.name, items, offset),
            }
        }
        Ok(())
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        let word = reject.reason.word();
        let (bytes, frames) = (reject.bytes.len() as u64, u64::from(reject.candidates.max(1)));
        if let Some(known) = self.rejects.iter_mut().find(|known| known.word == word) {
            known.rejects += 1;
            known.bytes += bytes;
            known.candidates += frames;
        } else if self.rejects.len() < REASONS {
            self.rejects.push(RejectSeen {
                word: word.to_string(),
                rejects: 1,
                bytes,
                candidates: frames,
                offset: reject.offset,
                reason: reject.reason.describe(reject.plan).to_string(),
                first: reject.bytes[..reject.bytes.len().min(SHOWN)].to_vec(),
            });
        }
        Ok(())
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), Infallible> {
        if let NoticeKind::CounterJump { kind, .. } = notice.kind
            && let Some(record) = notice.plan.0.kinds.get(usize::from(kind)).map(|kind| usize::from(kind.record))
            && let Some(kind) = self.kinds.get_mut(record)
        {
            kind.told.jumps += 1;
            kind.told.first_jump = kind.told.first_jump.or(Some(notice.offset));
        }
        Ok(())
    }
}
