//! Rows cell by cell: for outputs whose tables have types.

use usus::fast::Visit;
use usus::quality::{ItemPath, Notes};
use usus::{FieldSchema, Items, LineId, Quality, Reading, Record, Time, Value};

use super::columns::{Holds, KindColumns};
use super::{Origin, OutputError, groups};

/// A cell.
#[derive(Clone, Copy, Debug)]
pub(super) enum Cell<'a> {
    /// Nothing: what would stand there is not known.
    Nothing,
    /// Text of the output's own.
    Text(&'a str),
    /// A whole number of the output's own.
    Whole(u64),
    Time(Time),
    /// `coefficient` divided by ten to the power of `places`.
    Number {
        coefficient: i64,
        places: u8,
    },
    /// A reading's value.
    Value(Value<'a>),
}

/// A table: of the records of a kind, or of one of its groups.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Table {
    pub(super) kind: usize,
    /// The number of the group among those of the kind.
    pub(super) group: Option<usize>,
}

/// Takes rows, cell by cell in the order of the columns.
pub(super) trait TakesRows {
    fn begin_row(&mut self, table: Table) -> Result<(), OutputError>;
    /// What goes wrong is told when the row ends.
    fn cell(&mut self, cell: Cell<'_>);
    fn end_row(&mut self) -> Result<(), OutputError>;
}

/// Takes records apart into the rows of tables.
pub(super) struct Rows {
    pub(super) kinds: Vec<KindColumns>,
    pub(super) origin: Origin,
    pub(super) stream: u64,
    pub(super) conversion: u64,
    quality: String,
    /// The numbers of the item at hand and of those around it, from 0.
    numbers: Vec<u32>,
}

impl Rows {
    pub(super) fn new(kinds: Vec<KindColumns>) -> Rows {
        Rows { kinds, origin: Origin::default(), stream: 0, conversion: 0, quality: String::new(), numbers: Vec::new() }
    }

    pub(super) fn name_line(&mut self, line: LineId, name: &str) {
        self.origin.name_line(line.index(), name);
    }

    /// Puts the rows of a record and of its groups. What is not plain about its readings is noted.
    pub(super) fn record<T: TakesRows>(
        &mut self,
        record: &Record<'_>,
        notes: &mut Notes,
        tables: &mut T,
    ) -> Result<(), OutputError> {
        let Rows { kinds, origin, stream, conversion, quality, numbers } = self;
        let kind = record.kind_index();
        let Some(columns) = kinds.get(kind) else { return Ok(()) };
        let own = |holds: Holds, tables: &mut T, indexes: &[u32]| {
            tables.cell(match holds {
                Holds::Stream => Cell::Whole(*stream),
                Holds::Conversion => Cell::Whole(*conversion),
                Holds::Source => Cell::Text(&origin.source),
                Holds::Line => Cell::Text(origin.line(record.line().index())),
                Holds::Offset => Cell::Whole(record.offset()),
                Holds::Length => Cell::Whole(record.ranges().map(|(_, length)| length).sum()),
                Holds::Item => Cell::Whole(record.item().into()),
                Holds::Received => record.received().map_or(Cell::Nothing, Cell::Time),
                Holds::Index(level) => Cell::Whole(indexes.get(level).map_or(0, |index| u64::from(*index) + 1)),
                Holds::Field | Holds::Quality => return,
            });
        };
        tables.begin_row(Table { kind, group: None })?;
        columns.records.columns.iter().for_each(|column| own(column.holds, tables, &[]));
        quality.clear();
        record.visit(&mut Fields { tables, quality, notes, item: None });
        if columns.records.columns.last().is_some_and(|column| column.holds == Holds::Quality) {
            tables.cell(quality_cell(quality));
        }
        tables.end_row()?;
        for (number, group) in columns.groups.iter().enumerate() {
            let has_quality = group.columns.last().is_some_and(|column| column.holds == Holds::Quality);
            let place = group.group.last().copied().unwrap_or_default();
            groups::each(record, &group.group, &mut |around, path, items| {
                for (index, item) in items.enumerate() {
                    let index = index as u32;
                    numbers.clear();
                    numbers.extend_from_slice(around);
                    numbers.push(index);
                    let path = path.map_or(ItemPath::new(place, index), |path| path.within(place, index));
                    tables.begin_row(Table { kind, group: Some(number) })?;
                    group.columns.iter().for_each(|column| own(column.holds, tables, numbers));
                    quality.clear();
                    item.visit(&mut Fields { tables, quality, notes, item: Some(path) });
                    if has_quality {
                        tables.cell(quality_cell(quality));
                    }
                    tables.end_row()?;
                }
                Ok(())
            })?;
        }
        Ok(())
    }
}

fn quality_cell(quality: &str) -> Cell<'_> {
    if quality.is_empty() { Cell::Nothing } else { Cell::Text(quality) }
}

/// The fields of a row.
struct Fields<'o, T> {
    tables: &'o mut T,
    quality: &'o mut String,
    notes: &'o mut Notes,
    /// The item that it is the row of, if it is one.
    item: Option<ItemPath>,
}

impl<T: TakesRows> Fields<'_, T> {
    #[cold]
    fn tell(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        match self.item {
            Some(item) => self.notes.extend_item(item, schema, reading),
            None => self.notes.extend_field(schema, reading),
        }
        if reading.quality != Quality::Good {
            add_quality(&schema.name, reading.quality, self.quality);
        }
    }
}

/// Adds what is to be said of a field to the text of a `quality` column.
pub(super) fn add_quality(name: &str, quality: Quality, text: &mut String) {
    if !text.is_empty() {
        text.push(';');
    }
    text.push_str(name);
    text.push('=');
    text.push_str(quality.word());
}

impl<T: TakesRows> Visit for Fields<'_, T> {
    fn number(&mut self, schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        self.tables.cell(Cell::Number { coefficient, places });
        if quality != Quality::Good {
            self.tell(schema, Reading { value: Value::Bool(true), quality });
        }
    }

    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        self.tables.cell(Cell::Value(reading.value));
        if reading.quality != Quality::Good || !reading.value.is_present() {
            self.tell(schema, reading);
        }
    }

    fn group(&mut self, _schema: &FieldSchema, _items: Items<'_>) {}
}
