//! Values: a record for each value of others.

use alloc::collections::BTreeMap;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt::Write;

use super::{Bench, Key, Told, put_series};
use crate::plan::{Values as Declared, What};
use crate::quality::Class;
use crate::record::{Cell, Items, Made, Record, Row};
use crate::schema::FieldSchema;
use crate::value::{Absent, Decimal, Quality, Reading, Value};

/// Of each value what it was the time before, if that is asked.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Values(BTreeMap<Vec<u8>, Vec<u8>>);

impl Values {
    pub(super) fn tell(&mut self, of: &Declared, told: Told<'_>, bench: &mut Bench<'_>) {
        let Told::Row(row) = told else { return };
        if !of.of.contains(&row.kind) {
            return bench.pass(row);
        }
        let mut values: Vec<Vec<Made>> = Vec::new();
        if let Some(record) = row.record() {
            let mut gather = Gather { of, known: &mut self.0, most: bench.plan.0.limits.series, values: &mut values };
            gather.record(&record);
        }
        if values.is_empty() {
            return bench.pass(row);
        }
        let mut dealt = bench.dealt(row, values.len());
        for (row, made) in dealt.drain(..).zip(values) {
            let mut rows = bench.list();
            rows.push(row);
            bench.pass(Row::of_rows(of.kind, rows, made));
        }
        bench.room.spend_list(dealt);
    }
}

/// Gathers the values of a record.
struct Gather<'g> {
    of: &'g Declared,
    known: &'g mut BTreeMap<Vec<u8>, Vec<u8>>,
    most: usize,
    values: &'g mut Vec<Vec<Made>>,
}

impl Gather<'_> {
    fn record(&mut self, record: &Record<'_>) {
        let mut series = Vec::new();
        put_series(&record.compiled.series, &record.cells, &mut series);
        let mut key = Vec::from(record.kind.to_le_bytes());
        key.extend((record.line().index() as u32).to_le_bytes());
        key.extend_from_slice(&series);
        series.pop();
        let outputs = &record.compiled.outputs;
        let has_points = outputs.iter().any(|output| matches!(output.what, What::Point { .. }));
        for ((schema, cell), output) in record.fields().zip(outputs) {
            if has_points && !matches!(output.what, What::Point { .. }) {
                continue;
            }
            let from = self.values.len();
            match cell {
                Cell::Reading(reading) => self.value(&key, &schema.name, schema, reading),
                Cell::Group(items) => self.items(&key, "", schema, items),
            }
            for made in &mut self.values[from..] {
                made[0] = Made::Text(record.kind().as_bytes().to_vec());
                if !series.is_empty() {
                    made[1] = Made::Text(series.clone());
                }
            }
        }
    }

    fn items(&mut self, key: &[u8], around: &str, group: &FieldSchema, items: Items<'_>) {
        for (index, item) in items.enumerate() {
            for (schema, cell) in item.fields() {
                let name = around.to_string() + &group.item_path(index, &schema.name);
                match cell {
                    Cell::Reading(reading) => self.value(key, &name, schema, reading),
                    Cell::Group(items) => {
                        let around = alloc::format!("{around}{}[{}].", group.name, index + 1);
                        self.items(key, &around, schema, items);
                    }
                }
            }
        }
    }

    fn value(&mut self, key: &[u8], name: &str, schema: &FieldSchema, reading: Reading<'_>) {
        let Reading { value, quality } = reading;
        if matches!(value, Value::Absent(Absent::NotSent | Absent::Operand)) && quality == Quality::Good {
            return;
        }
        let text = match value {
            Value::Absent(_) => String::new(),
            value => value.to_string(),
        };
        let word = Class::of(value, quality).map_or(quality.word(), Class::word);
        if self.of.changed && !self.is_new(key, name, &text, word) {
            return;
        }
        let number = match value {
            Value::Decimal(number) | Value::Code { number, .. } => Some(number),
            Value::Bool(flag) => Some(Decimal::from_integer(flag.into())),
            // The shortest number that it is; one that is too long for that is told by its text alone.
            Value::F32(_) | Value::F64(_) => Decimal::parse(text.as_bytes()),
            _ => None,
        };
        let said = |text: String| if text.is_empty() { Made::Nothing } else { Made::Text(text.into_bytes()) };
        self.values.push(Vec::from([
            Made::Nothing,
            Made::Nothing,
            said(name.to_string()),
            number.map_or(Made::Nothing, Made::Number),
            said(text),
            said(schema.unit.clone().unwrap_or_default()),
            said(word.to_string()),
        ]));
    }

    /// Whether a value is not what it was the time before. What is beyond the limit of series is always new.
    fn is_new(&mut self, key: &[u8], name: &str, text: &str, word: &str) -> bool {
        let (mut place, mut said) = (key.to_vec(), Vec::new());
        place.extend_from_slice(name.as_bytes());
        // Writing to a Vec does not fail.
        let _ = write!(Key(&mut said), "{word} {text}");
        match self.known.get_mut(&place) {
            Some(known) if *known == said => false,
            Some(known) => {
                *known = said;
                true
            }
            None => {
                if self.known.len() < self.most {
                    self.known.insert(place, said);
                }
                true
            }
        }
    }
}
