//! The values of a column, gathered until there are enough for a batch.

use std::sync::Arc;

use arrow_array::types::{
    Date32Type, Decimal128Type, Float32Type, Float64Type, Int64Type, Time64NanosecondType, TimestampNanosecondType,
    UInt64Type,
};
use arrow_array::{
    ArrayRef, ArrowPrimitiveType, BinaryArray, BooleanArray, ListArray, PrimitiveArray, StringArray, StructArray,
};
use arrow_buffer::{BooleanBufferBuilder, Buffer, NullBufferBuilder, OffsetBuffer, ScalarBuffer};
use arrow_schema::{ArrowError, DataType, FieldRef, TimeUnit};
use usus::{Decimal, Value};

use crate::output::cells::Cell;

/// A column of a batch.
pub(super) struct Column {
    field: FieldRef,
    values: Values,
    valid: NullBufferBuilder,
}

enum Values {
    Integers(Vec<i64>),
    Unsigned(Vec<u64>),
    /// With so many places.
    Decimals(Vec<i128>, u8),
    Singles(Vec<f32>),
    Doubles(Vec<f64>),
    Flags(BooleanBufferBuilder),
    Texts(Runs),
    Bytes(Runs),
    Dates(Vec<i32>),
    Clocks(Vec<i64>),
    Times(Vec<i64>),
    /// The ends of the lists of items, and the fields of all items; a list of values has one.
    Lists {
        ends: Vec<i32>,
        items: Vec<Column>,
        is_values: bool,
    },
}

/// Texts or bytes, one behind the other.
#[derive(Default)]
struct Runs {
    ends: Vec<i32>,
    bytes: Vec<u8>,
}

impl Runs {
    fn end(&mut self) {
        // Batches are cut long before.
        self.ends.push(i32::try_from(self.bytes.len()).unwrap_or(i32::MAX));
    }
}

/// Whether a column holds what it was given.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Held {
    Yes,
    /// A number had more digits than a floating-point number has.
    Rounded,
    /// It is out of what the column's type can hold, and absent there.
    No,
}

impl Column {
    pub(super) fn new(field: FieldRef) -> Column {
        let values = match field.data_type() {
            DataType::UInt64 => Values::Unsigned(Vec::new()),
            DataType::Decimal128(_, places) => Values::Decimals(Vec::new(), places.unsigned_abs()),
            DataType::Float32 => Values::Singles(Vec::new()),
            DataType::Float64 => Values::Doubles(Vec::new()),
            DataType::Boolean => Values::Flags(BooleanBufferBuilder::new(0)),
            DataType::Utf8 => Values::Texts(Runs::default()),
            DataType::Binary => Values::Bytes(Runs::default()),
            DataType::Date32 => Values::Dates(Vec::new()),
            DataType::Time64(_) => Values::Clocks(Vec::new()),
            DataType::Timestamp(..) => Values::Times(Vec::new()),
            DataType::List(item) => {
                let (items, is_values) = match item.data_type() {
                    DataType::Struct(fields) => {
                        (fields.iter().map(|field| Column::new(field.clone())).collect(), false)
                    }
                    _ => (vec![Column::new(item.clone())], true),
                };
                Values::Lists { ends: Vec::new(), items, is_values }
            }
            _ => Values::Integers(Vec::new()),
        };
        Column { field, values, valid: NullBufferBuilder::new(0) }
    }

    /// The columns of a list's items.
    pub(super) fn items(&mut self) -> &mut [Column] {
        match &mut self.values {
            Values::Lists { items, .. } => items,
            _ => &mut [],
        }
    }

    /// Ends the list of a record: the items that were put since the last one are its.
    pub(super) fn end_list(&mut self) {
        if let Values::Lists { ends, items, .. } = &mut self.values {
            let length = items.first().map_or(0, Column::len);
            ends.push(i32::try_from(length).unwrap_or(i32::MAX));
            self.valid.append_non_null();
        }
    }

    fn len(&self) -> usize {
        self.valid.len()
    }

    /// How many bytes its texts take.
    pub(super) fn text_bytes(&self) -> usize {
        match &self.values {
            Values::Texts(runs) | Values::Bytes(runs) => runs.bytes.len(),
            Values::Lists { items, .. } => items.iter().map(|item| item.text_bytes() + 8 * item.len()).sum(),
            _ => 0,
        }
    }

    /// Puts a decimal number.
    #[inline]
    pub(super) fn number(&mut self, coefficient: i64, places: u8) -> Held {
        match &mut self.values {
            Values::Integers(values) if places == 0 => values.push(coefficient),
            Values::Decimals(values, known) if *known == places => values.push(coefficient.into()),
            _ => return self.decimal(Decimal::new(coefficient.into(), places).unwrap_or(Decimal::ZERO)),
        }
        self.valid.append_non_null();
        Held::Yes
    }

    fn decimal(&mut self, number: Decimal) -> Held {
        let mut held = Held::Yes;
        let is_held = match &mut self.values {
            Values::Integers(values) => put(values, number.to_integer().and_then(|number| number.try_into().ok())),
            Values::Unsigned(values) => put(values, number.to_integer().and_then(|number| number.try_into().ok())),
            Values::Decimals(values, places) => put(values, at_places(number, *places)),
            Values::Doubles(values) => {
                let double = number.to_f64();
                if number.magnitude() >= 1 << 53 || number.places() > 22 {
                    let shown = Decimal::parse(double.to_string().as_bytes());
                    if !shown.is_some_and(|shown| shown.compare(number).is_eq()) {
                        held = Held::Rounded;
                    }
                }
                put(values, Some(double))
            }
            Values::Texts(runs) => {
                runs.bytes.extend_from_slice(number.to_string().as_bytes());
                runs.end();
                true
            }
            _ => return self.nothing(),
        };
        self.valid.append(is_held);
        if is_held { held } else { Held::No }
    }

    /// Puts a cell.
    #[inline]
    pub(super) fn put(&mut self, cell: Cell<'_>) -> Held {
        match cell {
            Cell::Number { coefficient, places } => return self.number(coefficient, places),
            Cell::Nothing | Cell::Value(Value::Absent(_)) => {
                self.nothing();
                return Held::Yes;
            }
            Cell::Whole(number) => return self.decimal(Decimal::from_unsigned(number)),
            Cell::Value(Value::Decimal(number)) => return self.decimal(number),
            _ => {}
        }
        let is_held = match (&mut self.values, cell) {
            (Values::Texts(runs), Cell::Text(text)) => {
                runs.bytes.extend_from_slice(text.as_bytes());
                runs.end();
                true
            }
            (Values::Texts(runs), Cell::Value(value)) => {
                match value {
                    Value::Text(text) => text.pieces().for_each(|piece| runs.bytes.extend_from_slice(piece.as_bytes())),
                    Value::Code { name, .. } => runs.bytes.extend_from_slice(name.as_bytes()),
                    other => runs.bytes.extend_from_slice(other.to_string().as_bytes()),
                }
                runs.end();
                true
            }
            (Values::Bytes(runs), Cell::Value(value)) => {
                runs.bytes.extend_from_slice(&value.to_bytes().unwrap_or_default());
                runs.end();
                true
            }
            (Values::Times(values), Cell::Time(time)) => put(values, Some(time.nanoseconds())),
            (Values::Times(values), Cell::Value(Value::DateTime(both))) => put(values, both.nanoseconds()),
            (Values::Dates(values), Cell::Value(Value::Date(date))) => put(values, i32::try_from(date.days()).ok()),
            (Values::Clocks(values), Cell::Value(Value::Clock(clock))) => put(values, clock.nanoseconds()),
            (Values::Singles(values), Cell::Value(Value::F32(number))) => put(values, Some(number)),
            (Values::Doubles(values), Cell::Value(Value::F64(number))) => put(values, Some(number)),
            (Values::Flags(values), Cell::Value(Value::Bool(flag))) => {
                values.append(flag);
                true
            }
            _ => return self.nothing(),
        };
        self.valid.append(is_held);
        if is_held { Held::Yes } else { Held::No }
    }

    /// Puts nothing, and says that it holds not even that.
    fn nothing(&mut self) -> Held {
        match &mut self.values {
            Values::Integers(values) | Values::Clocks(values) | Values::Times(values) => values.push(0),
            Values::Unsigned(values) => values.push(0),
            Values::Decimals(values, _) => values.push(0),
            Values::Singles(values) => values.push(0.0),
            Values::Doubles(values) => values.push(0.0),
            Values::Flags(values) => values.append(false),
            Values::Texts(runs) | Values::Bytes(runs) => runs.end(),
            Values::Dates(values) => values.push(0),
            Values::Lists { ends, items, .. } => {
                let length = items.first().map_or(0, Column::len);
                ends.push(i32::try_from(length).unwrap_or(i32::MAX));
            }
        }
        self.valid.append_null();
        Held::No
    }

    /// What was put, as an array; the column is empty then.
    pub(super) fn take(&mut self) -> Result<ArrayRef, ArrowError> {
        let nulls = self.valid.finish();
        fn primitive<T: ArrowPrimitiveType>(
            values: &mut Vec<T::Native>,
            nulls: Option<arrow_buffer::NullBuffer>,
        ) -> Result<PrimitiveArray<T>, ArrowError> {
            PrimitiveArray::try_new(std::mem::take(values).into(), nulls)
        }
        Ok(match &mut self.values {
            Values::Integers(values) => Arc::new(primitive::<Int64Type>(values, nulls)?),
            Values::Unsigned(values) => Arc::new(primitive::<UInt64Type>(values, nulls)?),
            Values::Decimals(values, _) => {
                let array = primitive::<Decimal128Type>(values, nulls)?;
                match self.field.data_type() {
                    DataType::Decimal128(digits, places) => Arc::new(array.with_precision_and_scale(*digits, *places)?),
                    _ => Arc::new(array),
                }
            }
            Values::Singles(values) => Arc::new(primitive::<Float32Type>(values, nulls)?),
            Values::Doubles(values) => Arc::new(primitive::<Float64Type>(values, nulls)?),
            Values::Flags(values) => Arc::new(BooleanArray::new(values.finish(), nulls)),
            Values::Texts(runs) => {
                let (ends, bytes) = runs.take();
                Arc::new(StringArray::try_new(ends, bytes, nulls)?)
            }
            Values::Bytes(runs) => {
                let (ends, bytes) = runs.take();
                Arc::new(BinaryArray::try_new(ends, bytes, nulls)?)
            }
            Values::Dates(values) => Arc::new(primitive::<Date32Type>(values, nulls)?),
            Values::Clocks(values) => Arc::new(primitive::<Time64NanosecondType>(values, nulls)?),
            Values::Times(values) => {
                let array = primitive::<TimestampNanosecondType>(values, nulls)?;
                match self.field.data_type() {
                    DataType::Timestamp(TimeUnit::Nanosecond, Some(zone)) => {
                        Arc::new(array.with_timezone(zone.clone()))
                    }
                    _ => Arc::new(array),
                }
            }
            Values::Lists { ends, items, is_values } => {
                let arrays = items.iter_mut().map(Column::take).collect::<Result<Vec<_>, _>>()?;
                let DataType::List(item) = self.field.data_type() else {
                    return Err(ArrowError::SchemaError("a list is none".to_owned()));
                };
                let values: ArrayRef = match (item.data_type(), *is_values, arrays.into_iter()) {
                    (DataType::Struct(fields), false, arrays) => {
                        Arc::new(StructArray::try_new(fields.clone(), arrays.collect(), None)?)
                    }
                    (_, _, mut arrays) => {
                        arrays.next().ok_or_else(|| ArrowError::SchemaError("a list has no values".to_owned()))?
                    }
                };
                Arc::new(ListArray::try_new(item.clone(), offsets(std::mem::take(ends)), values, nulls)?)
            }
        })
    }
}

impl Runs {
    fn take(&mut self) -> (OffsetBuffer<i32>, Buffer) {
        (offsets(std::mem::take(&mut self.ends)), Buffer::from_vec(std::mem::take(&mut self.bytes)))
    }
}

/// Ends as Arrow has them: with a 0 in front.
fn offsets(ends: Vec<i32>) -> OffsetBuffer<i32> {
    let mut all = Vec::with_capacity(ends.len() + 1);
    all.push(0);
    all.extend(ends);
    OffsetBuffer::new(ScalarBuffer::from(all))
}

/// Puts a value, or something in its place. Says whether there is one.
fn put<T: Default>(values: &mut Vec<T>, value: Option<T>) -> bool {
    let is_there = value.is_some();
    values.push(value.unwrap_or_default());
    is_there
}

/// The coefficient of a number that has so many places.
fn at_places(number: Decimal, places: u8) -> Option<i128> {
    let more = places.checked_sub(number.places())?;
    number.coefficient().checked_mul(10i128.checked_pow(more.into())?)
}
