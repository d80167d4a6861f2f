//! The values of cells, as spreadsheets have them.

use rust_xlsxwriter::{Format, Worksheet, XlsxError};
use usus::{Clock, Date, DateTime, Decimal, Time, Value, ValueType};

use crate::output::cells::Cell;
use crate::output::columns::{Column, Holds};
use crate::output::times::TimeStyle;

/// Characters of a cell.
const LONGEST_TEXT: usize = 32_767;
/// A spreadsheet keeps fifteen digits of a number.
const DIGITS: u128 = 1_000_000_000_000_000;

/// What could not be held as it is.
#[derive(Default)]
pub(super) struct Misfits {
    /// Sheets that go on with others that are full.
    pub(super) more_sheets: u64,
    /// Numbers of more than fifteen digits, which are texts.
    long_numbers: u64,
    cut_texts: u64,
    /// Dates before 1 March 1900 and behind 9999, which are texts.
    dates: u64,
}

impl Misfits {
    pub(super) fn remarks(&self) -> Vec<String> {
        let told = [
            (self.more_sheets, "times a sheet was full, and its table goes on in another one"),
            (self.long_numbers, "numbers have more than the 15 digits that a spreadsheet keeps, and are texts"),
            (self.cut_texts, "texts have more than the 32,767 characters that a cell holds, and were cut"),
            (self.dates, "dates are before March 1900 or behind 9999, where spreadsheets have none, and are texts"),
        ];
        told.into_iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{count} {what}")).collect()
    }
}

/// How cells are shown.
pub(super) struct Formats {
    received: Format,
    date: Format,
    clock: Format,
    date_time: Format,
    flag: Format,
    /// Numbers with 0, 1, 2 … places.
    places: Vec<Format>,
}

impl Formats {
    pub(super) fn new(times: &TimeStyle) -> Formats {
        let shown = |text: &str| Format::new().set_num_format(text);
        // No spreadsheet shows more than milliseconds; what is there is finer.
        let fraction = match times.digits.unwrap_or(3) {
            0 => String::new(),
            digits => format!(".{}", "0".repeat(usize::from(digits.min(3)))),
        };
        let places = (0..=15).map(|places| match places {
            0 => shown("0"),
            places => shown(&format!("0.{}", "0".repeat(places))),
        });
        Formats {
            received: shown(&format!("yyyy-mm-dd hh:mm:ss{fraction}")),
            date: shown("yyyy-mm-dd"),
            clock: shown("hh:mm:ss.000"),
            // Some spreadsheets show truth values as numbers if nothing else is asked for.
            flag: shown("\"TRUE\";\"TRUE\";\"FALSE\""),
            date_time: shown("yyyy-mm-dd hh:mm:ss.000"),
            places: places.collect(),
        }
    }

    pub(super) fn write(
        &self,
        sheet: &mut Worksheet,
        (row, column): (u32, u16),
        cell: Cell<'_>,
        times: &TimeStyle,
        misfits: &mut Misfits,
    ) -> Result<(), XlsxError> {
        let number = |sheet: &mut Worksheet, number: f64, format: &Format| {
            sheet.write_number_with_format(row, column, number, format).map(|_| ())
        };
        let text = |sheet: &mut Worksheet, text: String, misfits: &mut Misfits| {
            let text = match text.len() > LONGEST_TEXT && text.chars().count() > LONGEST_TEXT {
                true => {
                    misfits.cut_texts += 1;
                    text.chars().take(LONGEST_TEXT).collect()
                }
                false => text,
            };
            // An empty text is no empty cell, as it is none in JSON Lines.
            sheet.write_string(row, column, text).map(|_| ())
        };
        let mut dated = |sheet: &mut Worksheet, serial: Option<f64>, format: &Format, shown: String| match serial {
            Some(serial) => number(sheet, serial, format),
            None => {
                misfits.dates += 1;
                text(sheet, shown, misfits)
            }
        };
        match cell {
            Cell::Nothing | Cell::Value(Value::Absent(_)) => Ok(()),
            Cell::Text(shown) => text(sheet, shown.to_owned(), misfits),
            Cell::Whole(whole) => self.decimal(sheet, (row, column), Decimal::from_unsigned(whole), misfits),
            Cell::Time(time) => dated(sheet, serial_of(times.zone.local(time)), &self.received, times.text(time, 9)),
            Cell::Number { coefficient, places } => {
                let decimal = Decimal::new(coefficient.into(), places).unwrap_or(Decimal::ZERO);
                self.decimal(sheet, (row, column), decimal, misfits)
            }
            Cell::Value(value) => match value {
                Value::Decimal(decimal) => self.decimal(sheet, (row, column), decimal, misfits),
                // A spreadsheet has no NaN; the quality says what it is.
                Value::F32(number) if !number.is_finite() => Ok(()),
                Value::F64(number) if !number.is_finite() => Ok(()),
                Value::F32(_) | Value::F64(_) => {
                    let shown = value.to_string().parse().unwrap_or(0.0);
                    sheet.write_number(row, column, shown).map(|_| ())
                }
                Value::Bool(flag) => sheet.write_boolean_with_format(row, column, flag, &self.flag).map(|_| ()),
                Value::Date(date) => dated(sheet, date_serial(date), &self.date, date.to_string()),
                Value::Clock(clock) => match day_part(clock) {
                    Some(part) => number(sheet, part, &self.clock),
                    None => text(sheet, clock.to_string(), misfits),
                },
                Value::DateTime(both) => dated(sheet, both_serial(both), &self.date_time, both.to_string()),
                other => text(sheet, other.to_string(), misfits),
            },
        }
    }

    fn decimal(
        &self,
        sheet: &mut Worksheet,
        (row, column): (u32, u16),
        decimal: Decimal,
        misfits: &mut Misfits,
    ) -> Result<(), XlsxError> {
        if decimal.magnitude() >= DIGITS {
            misfits.long_numbers += 1;
            return sheet.write_string(row, column, decimal.to_string()).map(|_| ());
        }
        match self.places.get(usize::from(decimal.places())) {
            Some(format) => sheet.write_number_with_format(row, column, decimal.to_f64(), format).map(|_| ()),
            None => sheet.write_number(row, column, decimal.to_f64()).map(|_| ()),
        }
    }
}

/// Days since the last of 1899, as spreadsheets count; those before March 1900 are counted differently by different ones.
fn serial(days: i64, part: f64) -> Option<f64> {
    const BEGINNING: i64 = 25_569;
    let serial = days + BEGINNING;
    (61..=2_958_465).contains(&serial).then_some(serial as f64 + part)
}

/// The serial number of a time.
fn serial_of(time: Time) -> Option<f64> {
    const DAY: i64 = 86_400_000_000_000;
    let (days, rest) = (time.nanoseconds().div_euclid(DAY), time.nanoseconds().rem_euclid(DAY));
    serial(days, rest as f64 / DAY as f64)
}

fn date_serial(date: Date) -> Option<f64> {
    serial(date.days(), 0.0)
}

fn day_part(clock: Clock) -> Option<f64> {
    clock.nanoseconds().map(|nanoseconds| nanoseconds as f64 / 86_400e9)
}

/// With an offset from UTC, that of UTC.
fn both_serial(both: DateTime) -> Option<f64> {
    let part = day_part(both.clock())? - f64::from(both.offset().unwrap_or(0)) / 1_440.0;
    serial(both.date().days() + part.floor() as i64, part - part.floor())
}

/// How wide a column is, in characters.
pub(super) fn width(column: &Column) -> f64 {
    match (column.holds, &column.field) {
        (Holds::Received, _) => 24.0,
        (Holds::Quality, _) => 24.0,
        (Holds::Source | Holds::Line, _) => 16.0,
        (_, Some(field)) => match field.value_type {
            ValueType::DateTime => 24.0,
            ValueType::Text | ValueType::Code => 16.0,
            ValueType::Date | ValueType::Clock => 13.0,
            _ => 9.0,
        },
        _ => 9.0,
    }
}
