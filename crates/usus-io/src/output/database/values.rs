//! The values of a row, as SQLite takes them.

use rusqlite::Statement;
use rusqlite::types::{ToSqlOutput, Value as Owned, ValueRef};
use usus::{Decimal, Value};

use crate::output::cells::Cell;
use crate::output::received_text;

/// The values of the row at hand, in the order of its columns. Their memory is used again for the next one.
#[derive(Default)]
pub(super) struct Values {
    values: Vec<Stored>,
    /// Texts and bytes, one behind the other.
    bytes: Vec<u8>,
}

#[derive(Clone, Copy)]
enum Stored {
    Null,
    Integer(i64),
    Real(f64),
    /// So many of the bytes.
    Text(usize),
    Blob(usize),
}

impl Values {
    pub(super) fn clear(&mut self) {
        self.values.clear();
        self.bytes.clear();
    }

    pub(super) fn put(&mut self, cell: Cell<'_>) {
        let stored = match cell {
            Cell::Nothing => Stored::Null,
            Cell::Text(text) => self.text(text),
            Cell::Whole(number) => {
                i64::try_from(number).map_or_else(|_| self.text(&number.to_string()), Stored::Integer)
            }
            Cell::Time(time) => self.text(&received_text(time, 9)),
            Cell::Number { coefficient, places: 0 } => Stored::Integer(coefficient),
            Cell::Number { coefficient, places } => {
                self.decimal(Decimal::new(coefficient.into(), places).unwrap_or(Decimal::ZERO))
            }
            Cell::Value(value) => self.value(value),
        };
        self.values.push(stored);
    }

    fn text(&mut self, text: &str) -> Stored {
        self.bytes.extend_from_slice(text.as_bytes());
        Stored::Text(text.len())
    }

    fn value(&mut self, value: Value<'_>) -> Stored {
        match value {
            Value::Absent(_) => Stored::Null,
            Value::Decimal(number) => self.decimal(number),
            // The shortest text of its own width is what all other outputs show.
            Value::F32(number) if number.is_finite() => value.to_string().parse().map_or(Stored::Null, Stored::Real),
            Value::F32(number) => Stored::Real(number.into()),
            Value::F64(number) => Stored::Real(number),
            Value::Bool(flag) => Stored::Integer(flag.into()),
            Value::Bytes(_) | Value::HexBytes(_) => {
                let bytes = value.to_bytes().unwrap_or_default();
                self.bytes.extend_from_slice(&bytes);
                Stored::Blob(bytes.len())
            }
            Value::Text(text) => {
                let before = self.bytes.len();
                text.pieces().for_each(|piece| self.bytes.extend_from_slice(piece.as_bytes()));
                Stored::Text(self.bytes.len() - before)
            }
            other => self.text(&other.to_string()),
        }
    }

    /// A number that neither an integer nor a floating-point number holds is a text of its digits.
    fn decimal(&mut self, number: Decimal) -> Stored {
        if number.places() == 0 {
            let whole = number.to_integer().and_then(|number| i64::try_from(number).ok());
            return whole.map_or_else(|| self.text(&number.to_string()), Stored::Integer);
        }
        match exact(number) {
            Some(real) => Stored::Real(real),
            None => self.text(&number.to_string()),
        }
    }

    pub(super) fn bind(&self, statement: &mut Statement<'_>) -> rusqlite::Result<()> {
        let mut bytes = &self.bytes[..];
        let mut take = |length: usize| {
            let (taken, rest) = bytes.split_at(length.min(bytes.len()));
            bytes = rest;
            taken
        };
        for (index, stored) in self.values.iter().enumerate() {
            let value = match *stored {
                Stored::Null => ToSqlOutput::Owned(Owned::Null),
                Stored::Integer(number) => ToSqlOutput::Owned(Owned::Integer(number)),
                Stored::Real(number) => ToSqlOutput::Owned(Owned::Real(number)),
                Stored::Text(length) => ToSqlOutput::Borrowed(ValueRef::Text(take(length))),
                Stored::Blob(length) => ToSqlOutput::Borrowed(ValueRef::Blob(take(length))),
            };
            statement.raw_bind_parameter(index + 1, value)?;
        }
        Ok(())
    }
}

/// The floating-point number that is shown with a decimal's digits again; nothing if there is none.
fn exact(number: Decimal) -> Option<f64> {
    let real = number.to_f64();
    /// Any number with so many digits comes back from a floating-point number.
    const DIGITS: u128 = 1_000_000_000_000_000;
    if number.magnitude() < DIGITS {
        return Some(real);
    }
    let shown = Decimal::parse(real.to_string().as_bytes());
    shown.is_some_and(|shown| shown.compare(number).is_eq()).then_some(real)
}
