//! Rows: records as stages hand them on, made of frames that were kept, of other rows, and of values that a stage made.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::{Kept, Record, Spent};
use crate::plan::Keyed;
use crate::stage::{BEHIND_VALUE, Key};
use crate::time::Time;
use crate::value::{Absent, Decimal, Reading, Text, Value};

/// A record as stages hand it on.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Row {
    /// Its layout.
    pub(crate) kind: u16,
    /// In which slot of another it stands.
    pub(crate) slot: u16,
    pub(crate) of: Of,
    pub(crate) made: Vec<Made>,
}

/// What a row is made of.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Of {
    Frame(Box<Kept>),
    Rows(Vec<Row>),
}

impl Row {
    /// A frame by itself.
    pub(crate) fn of(kept: Box<Kept>) -> Row {
        Row { kind: kept.kind, slot: 0, of: Of::Frame(kept), made: Vec::new() }
    }

    /// One of several, in the order in which they came.
    pub(crate) fn of_rows(kind: u16, rows: Vec<Row>, made: Vec<Made>) -> Row {
        Row { kind, slot: 0, of: Of::Rows(rows), made }
    }

    /// It as it stands in a slot.
    pub(crate) fn in_slot(self, slot: u16) -> Row {
        Row { slot, ..self }
    }

    /// It as a record of another layout, as whose part it is kept.
    pub(crate) fn kept_as(mut self, layout: u16) -> Row {
        self.set_kind(layout);
        self
    }

    /// Makes it a record of another layout that reads it alike.
    pub(crate) fn set_kind(&mut self, layout: u16) {
        self.kind = layout;
        if let Of::Frame(kept) = &mut self.of {
            kept.kind = layout;
        }
    }

    /// A copy, whose frames are booked by what else comes of them.
    pub(crate) fn again(&self, spent: &mut Spent) -> Row {
        let of = match &self.of {
            Of::Frame(kept) => Of::Frame(kept.again(spent.pop())),
            Of::Rows(rows) => Of::Rows(rows.iter().map(|row| row.again(spent)).collect()),
        };
        Row { of, made: self.made.clone(), ..*self }
    }

    /// It as a record, whose identity is that of its first frame; nothing if it has none.
    pub(crate) fn record(&self) -> Option<Record<'_>> {
        match &self.of {
            Of::Frame(kept) => Some(kept.record()),
            Of::Rows(rows) => {
                let first = rows.first()?.record()?;
                let compiled = first.origin.plan.0.kinds.get(usize::from(self.kind))?;
                Some(Record { kind: self.kind, compiled, row: Some(self), ..first })
            }
        }
    }

    /// What it is made of, if that is more than a frame.
    pub(crate) fn rows(&self) -> &[Row] {
        match &self.of {
            Of::Frame(_) => &[],
            Of::Rows(rows) => rows,
        }
    }

    /// What stands first in a slot.
    pub(crate) fn in_place(&self, slot: u16) -> Option<&Row> {
        self.rows().iter().find(|row| row.slot == slot)
    }

    /// The first of its frames.
    pub(crate) fn first(&self) -> Option<&Kept> {
        match &self.of {
            Of::Frame(kept) => Some(kept),
            Of::Rows(rows) => rows.first()?.first(),
        }
    }

    /// Calls `take` with each frame of it that is not booked elsewhere.
    pub(crate) fn frames<'r>(&'r self, take: &mut dyn FnMut(&'r Kept)) {
        match &self.of {
            Of::Frame(kept) if kept.is_copy => {}
            Of::Frame(kept) => take(kept),
            Of::Rows(rows) => rows.iter().for_each(|row| row.frames(take)),
        }
    }

    /// Calls `take` with each frame of it, wherever that is booked.
    pub(crate) fn copies<'r>(&'r self, take: &mut dyn FnMut(&'r Kept)) {
        match &self.of {
            Of::Frame(kept) => take(kept),
            Of::Rows(rows) => rows.iter().for_each(|row| row.copies(take)),
        }
    }

    /// Gives its frames away, one by one.
    pub(crate) fn into_frames(self, take: &mut dyn FnMut(Box<Kept>)) {
        match self.of {
            Of::Frame(kept) => take(kept),
            Of::Rows(rows) => rows.into_iter().for_each(|row| row.into_frames(take)),
        }
    }

    /// Gives its frames to a pool.
    pub(crate) fn spend(self, spent: &mut Spent) {
        self.into_frames(&mut |kept| spent.push(kept));
    }

    /// When the first byte of its first frame arrived.
    pub(crate) fn received(&self) -> Option<Time> {
        self.first().and_then(Kept::received)
    }

    /// When the last byte of all its frames arrived.
    pub(crate) fn completed(&self) -> Option<Time> {
        if let Of::Frame(kept) = &self.of {
            return kept.completed();
        }
        let mut completed = None;
        self.frames(&mut |kept| completed = completed.max(kept.completed()));
        completed.or_else(|| self.first().and_then(Kept::completed))
    }

    /// A value that agrees in records that belong together, by its place among them; nothing if there are not so many.
    pub(crate) fn keyed(&self, place: usize) -> Option<Reading<'_>> {
        let record = self.record()?;
        Some(match record.compiled.keyed.get(place)? {
            Keyed::Field(field) => record.cells.reading(field, 0),
            Keyed::Output(output) => record.field(usize::from(*output)).unwrap_or(Reading::absent(Absent::NotSent)),
        })
    }

    /// Puts the values that agree behind a key, but for the first ones: numbers that are equal are written alike. Says whether there is a value of each.
    pub(crate) fn put_key(&self, without: usize, key: &mut Vec<u8>) -> bool {
        use core::fmt::Write;
        let Some(record) = self.record() else { return false };
        let mut is_whole = true;
        for keyed in record.compiled.keyed.iter().skip(without) {
            let reading = match keyed {
                Keyed::Field(field) => record.cells.reading(field, 0),
                Keyed::Output(output) => record.field(usize::from(*output)).unwrap_or(Reading::absent(Absent::NotSent)),
            };
            match reading.value {
                Value::Absent(_) => is_whole = false,
                Value::Decimal(number) | Value::Code { number, .. } => {
                    key.extend_from_slice(number.shortest().text(&mut [0; Decimal::LONGEST]));
                }
                Value::Text(text) => key.extend_from_slice(text.bytes()),
                Value::Clock(clock) if clock.nanoseconds().is_some() => {
                    let nanoseconds = clock.nanoseconds().unwrap_or_default();
                    key.extend_from_slice(itoa::Buffer::new().format(nanoseconds).as_bytes());
                }
                // Writing to a Vec does not fail.
                value => drop(write!(Key(key), "{value}")),
            }
            key.push(BEHIND_VALUE as u8);
        }
        is_whole
    }
}

/// A value that a stage made.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Made {
    Nothing,
    Number(Decimal),
    Word(&'static str),
    Text(Vec<u8>),
}

impl Made {
    pub(super) fn reading(&self) -> Reading<'_> {
        match self {
            Made::Nothing => Reading::absent(Absent::NotSent),
            Made::Number(number) => Reading::good(Value::Decimal(*number)),
            Made::Word(word) => Reading::good(Value::Text(Text::new(word.as_bytes()))),
            Made::Text(text) => Reading::good(Value::Text(Text::new(text))),
        }
    }
}
