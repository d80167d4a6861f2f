//! Tables in aligned text, for reading: what came lately, kind by kind.

use std::io::{self, Write};
use std::path::Path;

use usus::quality::Notes;
use usus::{LineId, Plan, Record, Value, ValueType};

use super::cells::{Cell, Rows, Table, TakesRows};
use super::columns::{Column, Front, Holds, KindColumns, TableColumns};
use super::options::OutputOptions;
use super::safe::Safe;
use super::times::TimeStyle;
use super::{Output, OutputError};

/// So many records are shown together, each kind in a table of its own.
const TOGETHER: usize = 500;
/// Longer cells are cut.
const WIDEST: usize = 60;

/// Tables in aligned text. Columns are as wide as what is shown together; control and zero-width characters are escaped.
pub struct Listing<W> {
    rows: Rows,
    pages: Pages<W>,
}

/// What is gathered.
struct Pages<W> {
    target: W,
    times: TimeStyle,
    columns: Vec<KindColumns>,
    /// Of each kind the cells of its records, and of each of its groups.
    cells: Vec<Vec<Vec<String>>>,
    table: Table,
    records: usize,
    /// The table that stands above, how wide its columns are, and which are shown.
    above: Option<(Table, Vec<usize>, Vec<usize>)>,
}

impl<W: Write + Send> Listing<W> {
    /// Tables of all kinds that go to `target`.
    pub fn new(plan: &Plan, target: W, options: &OutputOptions) -> Listing<W> {
        let kinds = KindColumns::all(plan.schema(), Front::Asked(options.columns.for_plan(plan)));
        let cells = kinds.iter().map(|kind| vec![Vec::new(); 1 + kind.groups.len()]).collect();
        let pages = Pages {
            target,
            times: options.times.clone(),
            columns: kinds.clone(),
            cells,
            table: Table { kind: 0, group: None },
            records: 0,
            above: None,
        };
        Listing { rows: Rows::new(kinds), pages }
    }
}

impl<W: Write> Pages<W> {
    /// Shows what was gathered.
    fn show(&mut self) -> io::Result<()> {
        self.records = 0;
        for (kind, columns) in self.columns.iter().enumerate() {
            let tables = std::iter::once(&columns.records).chain(&columns.groups);
            for (number, (table, cells)) in tables.zip(&mut self.cells[kind]).enumerate() {
                if !cells.is_empty() {
                    let named = (Table { kind, group: number.checked_sub(1) }, table);
                    show_table(&mut self.target, named, cells, &mut self.above)?;
                    cells.clear();
                }
            }
        }
        self.target.flush()
    }
}

/// Shows a table. Where it goes on with the one above, and fits under it, without the names of its columns.
fn show_table(
    target: &mut impl Write,
    (id, table): (Table, &TableColumns),
    cells: &[String],
    above: &mut Option<(Table, Vec<usize>, Vec<usize>)>,
) -> io::Result<()> {
    let count = table.columns.len().max(1);
    // A column in which nothing stands says nothing.
    let is_shown = |column: usize| {
        !matches!(table.columns[column].holds, Holds::Quality | Holds::Line)
            || cells.iter().skip(column).step_by(count).any(|cell| !cell.is_empty())
    };
    let shown: Vec<usize> = (0..table.columns.len()).filter(|column| is_shown(*column)).collect();
    let heads: Vec<String> = table.columns.iter().map(|column| Safe(&column.name_and_unit()).to_string()).collect();
    let widths: Vec<usize> = (0..table.columns.len())
        .map(|column| {
            let cells = cells.iter().skip(column).step_by(count).map(|cell| cell.chars().count());
            cells.chain([heads[column].chars().count()]).max().unwrap_or(0)
        })
        .collect();
    let goes_on = above.as_ref().is_some_and(|(known, wide, known_shown)| {
        let fits = widths.iter().zip(wide).all(|(width, wide)| width <= wide);
        *known == id && fits && shown.iter().all(|column| known_shown.contains(column))
    });
    if !goes_on {
        let between = if above.is_some() { "\n" } else { "" };
        writeln!(target, "{between}{}", table.name)?;
        *above = Some((id, widths, shown));
    }
    let Some((_, widths, shown)) = above else { return Ok(()) };
    let mut line = |row: &dyn Fn(usize) -> String| {
        let mut text = String::new();
        for column in shown.iter() {
            let (cell, width) = (row(*column), widths[*column]);
            let space = " ".repeat(width - cell.chars().count());
            text.push_str("  ");
            match is_number(&table.columns[*column]) {
                true => text.extend([space, cell]),
                false => text.extend([cell, space]),
            }
        }
        writeln!(target, "{}", text.trim_end())
    };
    if !goes_on {
        line(&|column| heads[column].clone())?;
    }
    cells.chunks(count).try_for_each(|row| line(&|column| row.get(column).cloned().unwrap_or_default()))
}

/// Whether what a column holds stands at its right.
fn is_number(column: &Column) -> bool {
    match &column.field {
        Some(field) => {
            matches!(field.value_type, ValueType::Integer | ValueType::Decimal | ValueType::F32 | ValueType::F64)
        }
        None => matches!(column.holds, Holds::Offset | Holds::Length | Holds::Item | Holds::Index(_)),
    }
}

impl<W: Write> TakesRows for Pages<W> {
    fn begin_row(&mut self, table: Table) -> Result<(), OutputError> {
        self.table = table;
        self.records += usize::from(table.group.is_none());
        Ok(())
    }

    fn cell(&mut self, cell: Cell<'_>) {
        let mut text = match cell {
            Cell::Nothing | Cell::Value(Value::Absent(_)) => String::new(),
            Cell::Text(text) => Safe(text).to_string(),
            Cell::Whole(number) => number.to_string(),
            Cell::Time(time) => self.times.text(time, 3),
            Cell::Number { coefficient, places } => {
                usus::Decimal::new(coefficient.into(), places).unwrap_or(usus::Decimal::ZERO).to_string()
            }
            Cell::Value(value) => Safe(&value.to_string()).to_string(),
        };
        if text.len() > WIDEST && text.chars().count() > WIDEST {
            text = text.chars().take(WIDEST - 1).collect::<String>() + "…";
        }
        let Table { kind, group } = self.table;
        self.cells[kind][group.map_or(0, |group| group + 1)].push(text);
    }

    fn end_row(&mut self) -> Result<(), OutputError> {
        Ok(())
    }
}

impl<W: Write + Send> Output for Listing<W> {
    fn begin_source(&mut self, name: &str, _stream: &str) -> Result<(), OutputError> {
        self.rows.origin.begin_source(name);
        Ok(())
    }

    fn line(&mut self, line: LineId, name: &str) {
        self.rows.name_line(line, name);
    }

    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        self.rows.record(record, notes, &mut self.pages)?;
        if self.pages.records >= TOGETHER { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> Result<(), OutputError> {
        self.pages.show().map_err(OutputError::write(Path::new("standard output")))
    }
}
