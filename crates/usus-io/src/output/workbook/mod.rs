//! XLSX: a sheet for each kind and group, and one that says what their columns are.
//!
//! Rows go to files beside the workbook as they come, so that memory does not grow; at the end they are packed into it. What the format cannot hold
//! is held otherwise, and said: more rows than a sheet has go on in another sheet, numbers of more digits than a spreadsheet keeps are texts, texts
//! that are too long are cut.

mod values;

use std::collections::HashSet;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};

use rust_xlsxwriter::{Format, Workbook as Xlsx, XlsxError};
use usus::quality::Notes;
use usus::{LineId, Plan, Record, Schema};

use super::cells::{Cell, Rows, Table, TakesRows};
use super::columns::{Front, Holds, KindColumns, TableColumns, unused};
use super::options::OutputOptions;
use super::part::{self, Part};
use super::times::TimeStyle;
use super::{Existing, Output, OutputError};
use values::{Formats, Misfits};

/// Rows of a sheet, the names of columns included.
const ROWS: u32 = 1_048_576;
/// No name of a sheet is longer.
const LONGEST_NAME: usize = 31;

/// A workbook in XLSX.
pub struct Workbook {
    rows: Rows,
    schema: Schema,
    existing: Existing,
    path: PathBuf,
    sheets: Sheets,
}

/// The sheets, and the row at hand.
struct Sheets {
    xlsx: Xlsx,
    formats: Formats,
    times: TimeStyle,
    path: PathBuf,
    columns: Vec<KindColumns>,
    /// Of each kind the sheet of its records, and those of its groups.
    of_kinds: Vec<Vec<Sheet>>,
    names: HashSet<String>,
    count: usize,
    table: Table,
    column: u16,
    /// What went wrong in the row at hand.
    failed: Option<XlsxError>,
    misfits: Misfits,
    rows: u64,
    /// Rows that a sheet has at most.
    most: u32,
}

/// The sheet that a table is written into, and those before it that are full.
#[derive(Clone, Default)]
struct Sheet {
    /// Its number in the workbook.
    number: Option<usize>,
    name: String,
    /// Its next row.
    row: u32,
    full: u32,
}

impl Workbook {
    /// A workbook that gets its name when it is whole.
    ///
    /// # Errors
    ///
    /// A file that is there already; what the system says.
    pub fn create(plan: &Plan, path: &Path, options: &OutputOptions) -> Result<Workbook, OutputError> {
        part::check(path, options.existing)?;
        let kinds = KindColumns::all(plan.schema(), Front::Asked(options.columns.for_plan(plan)));
        let of_kinds = kinds.iter().map(|kind| vec![Sheet::default(); 1 + kind.groups.len()]).collect();
        let mut xlsx = Xlsx::new();
        let directory = path.parent().filter(|directory| !directory.as_os_str().is_empty()).unwrap_or(Path::new("."));
        xlsx.set_tempdir(directory).map_err(|error| told(path, error))?;
        let sheets = Sheets {
            xlsx,
            formats: Formats::new(&options.times),
            times: options.times.clone(),
            path: path.to_owned(),
            columns: kinds.clone(),
            of_kinds,
            names: HashSet::from(["fields".to_owned(), "history".to_owned()]),
            count: 0,
            table: Table { kind: 0, group: None },
            column: 0,
            failed: None,
            misfits: Misfits::default(),
            rows: 0,
            most: ROWS,
        };
        let (schema, existing) = (plan.schema().clone(), options.existing);
        Ok(Workbook { rows: Rows::new(kinds), schema, existing, path: path.to_owned(), sheets })
    }

    /// The same with fewer rows in a sheet, at least two.
    pub fn with_rows_in_a_sheet(mut self, most: u32) -> Workbook {
        self.sheets.most = most.clamp(2, ROWS);
        self
    }

    /// The sheet that says what the others hold.
    fn describe(&mut self) -> Result<(), XlsxError> {
        let (kinds, remarks) = (self.sheets.columns.clone(), self.sheets.misfits.remarks());
        let zone = self.sheets.times.zone.name().to_owned();
        let sheets: Vec<Vec<String>> =
            self.sheets.of_kinds.iter().map(|sheets| sheets.iter().map(|sheet| sheet.name.clone()).collect()).collect();
        let head = Format::new().set_bold();
        let sheet = self.sheets.xlsx.add_worksheet();
        sheet.set_name("fields")?;
        let mut row = 0;
        let mut put = |cells: &[&str], format: Option<&Format>| -> Result<(), XlsxError> {
            for (column, cell) in cells.iter().enumerate().filter(|(_, cell)| !cell.is_empty()) {
                match format {
                    Some(format) => sheet.write_string_with_format(row, column as u16, *cell, format)?,
                    None => sheet.write_string(row, column as u16, *cell)?,
                };
            }
            row += 1;
            Ok(())
        };
        put(&["sheet", "column", "record", "group", "field", "type", "unit", "tag", "title"], Some(&head))?;
        for (kind, names) in kinds.iter().zip(&sheets) {
            let tables = std::iter::once(&kind.records).chain(&kind.groups);
            for (table, name) in tables.zip(names).filter(|(_, name)| !name.is_empty()) {
                let (record, group) = table.name.split_once('.').unwrap_or((&table.name, ""));
                for column in &table.columns {
                    let Some(field) = &column.field else { continue };
                    let text = |text: &Option<String>| text.clone().unwrap_or_default();
                    let (unit, tag, title) = (text(&field.unit), text(&field.tag), text(&field.title));
                    let header = column.name_and_unit();
                    put(
                        &[
                            name,
                            &header,
                            record,
                            group,
                            field.declared_name(),
                            field.value_type.word(),
                            &unit,
                            &tag,
                            &title,
                        ],
                        None,
                    )?;
                }
            }
        }
        put(&[], None)?;
        let version = self.schema.version.as_ref().map(|version| format!(", version {version}")).unwrap_or_default();
        put(&[&format!("Format {}{version}", self.schema.format)], None)?;
        put(&[&format!("Times of arrival are of the zone {zone}, to the microsecond.")], None)?;
        remarks.iter().try_for_each(|remark| put(&[remark], None))?;
        for (column, width) in [20.0, 28.0, 16.0, 16.0, 20.0, 10.0, 10.0, 14.0, 60.0].into_iter().enumerate() {
            sheet.set_column_width(column as u16, width)?;
        }
        sheet.set_freeze_panes(1, 0)?;
        Ok(())
    }
}

/// The writer panics where a file beside the workbook cannot be written. Nothing of it is used afterwards.
fn guarded<T>(path: &Path, write: impl FnOnce() -> Result<T, OutputError>) -> Result<T, OutputError> {
    catch_unwind(AssertUnwindSafe(write)).unwrap_or_else(|_| {
        let error =
            std::io::Error::other("a file beside it, in which rows are gathered, cannot be written: is the disk full?");
        Err(OutputError::Write { path: path.to_owned(), error })
    })
}

/// What an error of the writer means.
fn told(path: &Path, error: XlsxError) -> OutputError {
    let error = match error {
        XlsxError::IoError(error) => error,
        other => std::io::Error::other(other.to_string()),
    };
    OutputError::Write { path: path.to_owned(), error }
}

impl Sheets {
    fn table(&self, table: Table) -> &TableColumns {
        let kind = &self.columns[table.kind];
        table.group.map_or(&kind.records, |group| &kind.groups[group])
    }

    fn sheet(&mut self, table: Table) -> &mut Sheet {
        &mut self.of_kinds[table.kind][table.group.map_or(0, |group| group + 1)]
    }

    /// Sees to it that there is a sheet with room for a row.
    fn make_room(&mut self, table: Table) -> Result<(), XlsxError> {
        let most = self.most;
        let sheet = self.sheet(table);
        if sheet.number.is_some() && sheet.row < most {
            return Ok(());
        }
        if sheet.number.take().is_some() {
            sheet.full += 1;
            self.misfits.more_sheets += 1;
        }
        let full = self.sheet(table).full;
        let wanted = self.table(table).name.clone();
        let name = match full {
            0 => unused(&wanted, LONGEST_NAME, &mut self.names),
            full => {
                let behind = format!(" ({})", full + 1);
                let cut: String = wanted.chars().take(LONGEST_NAME - behind.len()).collect();
                unused(&format!("{cut}{behind}"), LONGEST_NAME, &mut self.names)
            }
        };
        let columns = self.table(table).columns.clone();
        let (zone, head) = (self.times.zone.name().to_owned(), Format::new().set_bold());
        let worksheet = self.xlsx.add_worksheet_with_constant_memory()?;
        worksheet.set_name(&name)?;
        worksheet.set_freeze_panes(1, 0)?;
        // On paper, all columns stand side by side, under their names.
        worksheet.set_landscape().set_print_fit_to_pages(1, 0).set_repeat_rows(0, 0)?;
        for (number, column) in columns.iter().enumerate() {
            let header = match column.holds {
                Holds::Received => format!("{} [{zone}]", column.name),
                _ => column.name_and_unit(),
            };
            let width = values::width(column).max(header.chars().count().min(40) as f64 + 2.0);
            worksheet.set_column_width(number as u16, width)?;
            worksheet.write_string_with_format(0, number as u16, header, &head)?;
        }
        let number = self.count;
        self.count += 1;
        *self.sheet(table) = Sheet { number: Some(number), name, row: 1, full };
        Ok(())
    }

    fn write(&mut self, cell: Cell<'_>) -> Result<(), XlsxError> {
        let (column, table) = (self.column, self.table);
        self.column += 1;
        let sheet = &self.of_kinds[table.kind][table.group.map_or(0, |group| group + 1)];
        let (number, row) = (sheet.number.unwrap_or_default(), sheet.row);
        let worksheet = self.xlsx.worksheet_from_index(number)?;
        self.formats.write(worksheet, (row, column), cell, &self.times, &mut self.misfits)
    }
}

impl TakesRows for Sheets {
    fn begin_row(&mut self, table: Table) -> Result<(), OutputError> {
        (self.table, self.column) = (table, 0);
        self.make_room(table).map_err(|error| told(&self.path, error))
    }

    fn cell(&mut self, cell: Cell<'_>) {
        if let Err(error) = self.write(cell) {
            self.failed.get_or_insert(error);
        }
    }

    fn end_row(&mut self) -> Result<(), OutputError> {
        self.sheet(self.table).row += 1;
        self.rows += 1;
        self.failed.take().map_or(Ok(()), |error| Err(told(&self.path, error)))
    }
}

impl Output for Workbook {
    fn begin_source(&mut self, name: &str, _stream: &str) -> Result<(), OutputError> {
        self.rows.origin.begin_source(name);
        Ok(())
    }

    fn line(&mut self, line: LineId, name: &str) {
        self.rows.name_line(line, name);
    }

    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        let Workbook { rows, sheets, path, .. } = self;
        guarded(path, || rows.record(record, notes, sheets))
    }

    fn finish(&mut self) -> Result<(), OutputError> {
        let path = self.path.clone();
        guarded(&path, || self.describe().map_err(|error| told(&path, error)))?;
        let (mut part, file) = Part::create(&path, self.existing)?;
        let saved = guarded(&path, || self.sheets.xlsx.save_to_writer(file).map_err(|error| told(&path, error)));
        if saved.is_err() {
            part.give_up();
        }
        saved?;
        part.finish()
    }

    fn files(&self) -> Vec<(PathBuf, u64)> {
        vec![(self.path.clone(), self.sheets.rows)]
    }

    fn remarks(&self) -> Vec<String> {
        let name = self.path.display();
        self.sheets.misfits.remarks().iter().map(|remark| format!("{name}: {remark}")).collect()
    }
}
