//! SQLite: a table for each kind and group, keyed by where a record stands in its stream, so that converting a stream again replaces its rows.
//!
//! A conversion is written in transactions: one for each source that ends by itself, one for each pause of what is live. Others read the
//! database meanwhile (its journal is a write-ahead log), and see whole transactions only.

mod layout;
mod opening;
mod values;

use std::path::{Path, PathBuf};

use rusqlite::Connection;
use usus::quality::Notes;
use usus::{Decoder, LineId, Plan, Record};

use super::cells::{Cell, Rows, Table, TakesRows};
use super::columns::{Front, KindColumns};
use super::options::OutputOptions;
use super::part::meanwhile;
use super::{Existing, Output, OutputError};
use layout::Layout;
use values::Values;

/// A database in SQLite.
pub struct Database {
    rows: Rows,
    tables: Tables,
    /// The format, and its version.
    format: (String, Option<String>),
    /// Names of the lines of the source at hand.
    lines: Vec<(LineId, String)>,
    /// Whether the stream at hand has been converted before.
    again: bool,
    /// Whether nothing was there before.
    is_new: bool,
    /// Whether something of this conversion is there for good.
    is_kept: bool,
    /// The name that it gets when it is whole, if it has another one meanwhile.
    finally: Option<PathBuf>,
}

/// The tables, and the row at hand.
struct Tables {
    connection: Connection,
    path: PathBuf,
    layout: Layout,
    in_transaction: bool,
    table: Table,
    values: Values,
    /// Rows put into each table.
    count: u64,
}

impl Database {
    /// Opens a database, or makes one. What is there already is touched only if the options say so.
    ///
    /// # Errors
    ///
    /// What is in the way: another file, a database that is no such, one with other columns or of another layout, one that is locked.
    pub fn open(plan: &Plan, path: &Path, options: &OutputOptions) -> Result<Database, OutputError> {
        let existing = options.existing;
        if existing == Existing::Refuse && path.exists() {
            return Err(OutputError::Exists { path: path.to_owned() });
        }
        let is_new = existing != Existing::Continue || !path.exists();
        // What is new and ends by itself gets its name when it is whole.
        let finally = (is_new && !options.in_place && existing != Existing::Continue).then(|| path.to_owned());
        let written = finally.as_deref().map_or_else(|| path.to_owned(), meanwhile);
        let (path, existing) = (&written, if finally.is_some() { Existing::Replace } else { existing });
        let kinds = KindColumns::all(plan.schema(), Front::Identity);
        let layout = Layout::new(plan.schema(), &kinds);
        let connection = opening::open(path, existing, &layout)?;
        // Each table has a statement.
        connection.set_prepared_statement_cache_capacity(layout.count() + 16);
        let table = Table { kind: 0, group: None };
        let tables = Tables {
            connection,
            path: path.to_owned(),
            layout,
            in_transaction: false,
            table,
            values: Values::default(),
            count: 0,
        };
        let format = (plan.schema().format.clone(), plan.schema().version.clone());
        Ok(Database {
            rows: Rows::new(kinds),
            tables,
            format,
            lines: Vec::new(),
            again: false,
            is_new,
            is_kept: false,
            finally,
        })
    }

    /// Takes away what an earlier conversion made of the same bytes and this one did not.
    fn remove_stale(&mut self, decoder: &Decoder) -> Result<(), OutputError> {
        if !std::mem::take(&mut self.again) {
            return Ok(());
        }
        self.tables.begin()?;
        for (line, name) in &self.lines {
            let covered = decoder.covered(*line);
            for sql in self.tables.layout.removals() {
                let (from, to) = (whole(covered.start), whole(covered.end));
                let (stream, conversion) = (whole(self.rows.stream), whole(self.rows.conversion));
                self.tables
                    .connection
                    .execute(sql, (stream, name, from, to, conversion))
                    .map_err(|error| self.tables.failed(error))?;
            }
        }
        Ok(())
    }
}

/// Offsets and the like are within what SQLite holds.
fn whole(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

impl Tables {
    fn failed(&self, error: rusqlite::Error) -> OutputError {
        opening::told(&self.path, error)
    }

    /// Closes the database.
    fn let_go(&mut self) {
        if let Ok(nowhere) = Connection::open_in_memory() {
            self.connection = nowhere;
        }
    }

    fn begin(&mut self) -> Result<(), OutputError> {
        if !self.in_transaction {
            self.connection.execute_batch("BEGIN IMMEDIATE").map_err(|error| self.failed(error))?;
            self.in_transaction = true;
        }
        Ok(())
    }

    fn commit(&mut self) -> Result<(), OutputError> {
        if std::mem::take(&mut self.in_transaction) {
            let committed = self.connection.execute_batch("COMMIT");
            return committed.map_err(|error| {
                let _ = self.connection.execute_batch("ROLLBACK");
                self.failed(error)
            });
        }
        Ok(())
    }
}

impl TakesRows for Tables {
    fn begin_row(&mut self, table: Table) -> Result<(), OutputError> {
        self.begin()?;
        self.table = table;
        self.values.clear();
        Ok(())
    }

    fn cell(&mut self, cell: Cell<'_>) {
        self.values.put(cell);
    }

    fn end_row(&mut self) -> Result<(), OutputError> {
        self.count += 1;
        let sql = self.layout.insertion(self.table);
        let done = self.connection.prepare_cached(sql).and_then(|mut statement| {
            self.values.bind(&mut statement)?;
            statement.raw_execute()
        });
        done.map(|_| ()).map_err(|error| self.failed(error))
    }
}

impl Output for Database {
    fn begin_source(&mut self, name: &str, stream: &str) -> Result<(), OutputError> {
        self.lines.clear();
        self.rows.origin.begin_source(name);
        self.tables.begin()?;
        let (format, version) = (&self.format.0, &self.format.1);
        let begun = opening::begin(&self.tables.connection, name, stream, format, version.as_deref());
        let (stream, conversion, again) = begun.map_err(|error| self.tables.failed(error))?;
        (self.rows.stream, self.rows.conversion, self.again) = (stream, conversion, again);
        Ok(())
    }

    fn line(&mut self, line: LineId, name: &str) {
        // Streams that stand one behind the other in a file may call their lines alike.
        let alike = self.lines.iter().filter(|(other, known)| *other != line && known == name).count();
        let name = if alike == 0 { name.to_owned() } else { format!("{name}#{}", alike + 1) };
        self.rows.name_line(line, &name);
        self.lines.push((line, name));
    }

    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        self.rows.record(record, notes, &mut self.tables)
    }

    fn end_source(&mut self, decoder: &Decoder) -> Result<(), OutputError> {
        self.remove_stale(decoder)?;
        self.tables.begin()?;
        let conversion = whole(self.rows.conversion);
        opening::end(&self.tables.connection, conversion).map_err(|error| self.tables.failed(error))?;
        self.flush()
    }

    fn flush(&mut self) -> Result<(), OutputError> {
        self.tables.commit()?;
        self.is_kept = true;
        Ok(())
    }

    fn finish(&mut self) -> Result<(), OutputError> {
        self.flush()?;
        opening::close(&self.tables.connection);
        let Some(finally) = self.finally.take() else { return Ok(()) };
        self.tables.let_go();
        let written = std::mem::replace(&mut self.tables.path, finally);
        opening::rename(&written, &self.tables.path)
    }

    fn give_up(&mut self) {
        let _ = self.tables.connection.execute_batch("ROLLBACK");
        self.tables.in_transaction = false;
        if self.finally.is_some() || (self.is_new && !self.is_kept) {
            // It has not got its name, or nothing but empty tables would be left.
            self.tables.let_go();
            opening::remove(&self.tables.path);
            return;
        }
        opening::close(&self.tables.connection);
    }

    fn files(&self) -> Vec<(PathBuf, u64)> {
        vec![(self.tables.path.clone(), self.tables.count)]
    }
}
