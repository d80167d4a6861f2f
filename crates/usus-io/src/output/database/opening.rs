//! Opening a database, and the tables of the output itself.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, Error, ErrorCode, OptionalExtension};

use super::layout::{Layout, TableLayout, quoted};
use crate::output::{Existing, OutputError};

/// Marks a database as ours: "usus" in ASCII.
const APPLICATION: i32 = 0x7573_7573;
/// The layout of the output's own tables, and of what all others have in common.
const LAYOUT: i32 = 1;
/// How long another program may hold it.
const PATIENCE: Duration = Duration::from_secs(5);

const OWN_TABLES: &str = "
CREATE TABLE usus_streams (
  id INTEGER PRIMARY KEY,
  stream TEXT NOT NULL UNIQUE
);
CREATE TABLE usus_conversions (
  id INTEGER PRIMARY KEY,
  stream INTEGER NOT NULL,
  source TEXT NOT NULL,
  format TEXT NOT NULL,
  version TEXT,
  finished INTEGER NOT NULL
);
CREATE TABLE usus_fields (
  table_name TEXT NOT NULL,
  column_name TEXT NOT NULL,
  record TEXT NOT NULL,
  group_path TEXT NOT NULL,
  type TEXT NOT NULL,
  unit TEXT NOT NULL,
  tag TEXT NOT NULL,
  title TEXT NOT NULL,
  PRIMARY KEY (table_name, column_name)
) WITHOUT ROWID;
";

/// An error of SQLite, told with what it means here.
pub(super) fn told(path: &Path, error: Error) -> OutputError {
    let why = match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            format!("another program has locked it, and did not let go for {} s", PATIENCE.as_secs())
        }
        Some(ErrorCode::NotADatabase) => "it is no SQLite database".to_owned(),
        Some(ErrorCode::DiskFull) => "the disk is full".to_owned(),
        Some(ErrorCode::ReadOnly) => "it may only be read".to_owned(),
        Some(ErrorCode::DatabaseCorrupt) => "it is damaged".to_owned(),
        _ => error.to_string(),
    };
    OutputError::Database { path: path.to_owned(), why }
}

/// The files of a database: it, and what SQLite keeps beside it.
fn files(path: &Path) -> [PathBuf; 3] {
    let beside = |ending: &str| {
        let mut name = path.file_name().unwrap_or_default().to_owned();
        name.push(ending);
        path.with_file_name(name)
    };
    [path.to_owned(), beside("-wal"), beside("-shm")]
}

/// Removes a database that is closed.
pub(super) fn remove(path: &Path) {
    files(path).iter().for_each(|file| {
        let _ = fs::remove_file(file);
    });
}

/// Gives a database that is closed its name.
pub(super) fn rename(from: &Path, to: &Path) -> Result<(), OutputError> {
    // What an earlier one has left beside it would be taken for its own.
    files(to)[1..].iter().for_each(|file| {
        let _ = fs::remove_file(file);
    });
    fs::rename(from, to).map_err(OutputError::write(to))
}

pub(super) fn open(path: &Path, existing: Existing, layout: &Layout) -> Result<Connection, OutputError> {
    let is_there = path.exists() && existing == Existing::Continue;
    if existing == Existing::Replace && path.exists() {
        // Whoever has it open would go on with what is no more.
        fs::remove_file(path).map_err(OutputError::write(path))?;
        remove(path);
    }
    if !is_there {
        // What SQLite says of a directory that is not there is of no help.
        fs::OpenOptions::new().write(true).create_new(true).open(path).map_err(OutputError::write(path))?;
    }
    let opened = try_open(path, layout);
    if opened.is_err() && !is_there {
        remove(path);
    }
    opened
}

fn try_open(path: &Path, layout: &Layout) -> Result<Connection, OutputError> {
    let failed = |error| told(path, error);
    let connection = Connection::open(path).map_err(failed)?;
    connection.busy_timeout(PATIENCE).map_err(failed)?;
    let number = |name: &str| connection.query_row(&format!("PRAGMA {name}"), [], |row| row.get::<_, i32>(0));
    let tables: i64 =
        connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0)).map_err(failed)?;
    let (application, version) = (number("application_id").map_err(failed)?, number("user_version").map_err(failed)?);
    if tables > 0 && application != APPLICATION {
        let why = "it is a database of something else; name another file".to_owned();
        return Err(OutputError::Database { path: path.to_owned(), why });
    }
    if tables > 0 && version != LAYOUT {
        let why = format!(
            "its layout is the {version}th, and this version of usus writes the {LAYOUT}th; write to another file"
        );
        return Err(OutputError::Database { path: path.to_owned(), why });
    }
    connection.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL;").map_err(failed)?;
    connection.execute_batch("BEGIN IMMEDIATE").map_err(failed)?;
    if tables == 0 {
        connection.execute_batch(OWN_TABLES).map_err(failed)?;
        connection
            .execute_batch(&format!("PRAGMA application_id = {APPLICATION}; PRAGMA user_version = {LAYOUT};"))
            .map_err(failed)?;
    }
    let mut differences = Vec::new();
    for table in layout.tables() {
        let found = columns(&connection, table).map_err(failed)?;
        if found.is_empty() {
            connection.execute_batch(&table.creation()).map_err(failed)?;
        } else {
            differences.extend(difference(table, &found));
        }
    }
    describe(&connection, layout, &mut differences).map_err(failed)?;
    if !differences.is_empty() {
        let differences = differences.join("; ");
        return Err(OutputError::OtherSchema { path: path.to_owned(), format: layout.format.clone(), differences });
    }
    for (name, creation) in &layout.views {
        connection.execute_batch(&format!("DROP VIEW IF EXISTS {}; {creation}", quoted(name))).map_err(failed)?;
    }
    connection.execute_batch("COMMIT").map_err(failed)?;
    Ok(connection)
}

/// The columns that a table has, with their declared types; none if there is no such table.
fn columns(connection: &Connection, table: &TableLayout) -> rusqlite::Result<Vec<(String, String)>> {
    let mut statement = connection.prepare("SELECT name, type FROM pragma_table_info(?1)")?;
    let rows = statement.query_map([&table.name], |row| Ok((row.get(0)?, row.get(1)?)))?;
    rows.collect()
}

/// What is different in a table that is there.
fn difference(table: &TableLayout, found: &[(String, String)]) -> Vec<String> {
    let mut differences = Vec::new();
    for (name, declared) in &table.columns {
        match found.iter().find(|(known, _)| known == name) {
            None => differences.push(format!("{} has no column {name}", table.name)),
            Some((_, known)) if known != declared => {
                let shown =
                    |declared: &str| if declared.is_empty() { "any number".to_owned() } else { declared.to_owned() };
                differences.push(format!("{}.{name} is {} instead of {}", table.name, shown(known), shown(declared)));
            }
            Some(_) => {}
        }
    }
    for (name, _) in found {
        if !table.columns.iter().any(|(known, _)| known == name) {
            differences.push(format!("{}.{name} is no field any more", table.name));
        }
    }
    differences
}

/// Says in the table of fields what each column is. Where one is in another unit, what is there cannot stand beside what would come.
fn describe(connection: &Connection, layout: &Layout, differences: &mut Vec<String>) -> rusqlite::Result<()> {
    let mut known = connection.prepare("SELECT unit FROM usus_fields WHERE table_name = ?1 AND column_name = ?2")?;
    let mut put = connection.prepare("INSERT OR REPLACE INTO usus_fields VALUES (?, ?, ?, ?, ?, ?, ?, ?)")?;
    for field in &layout.fields {
        let [table, column, _, _, _, unit, ..] = field;
        let before: Option<String> = known.query_row([table, column], |row| row.get(0)).optional()?;
        if let Some(before) = before.filter(|before| before != unit) {
            let shown = |unit: &str| if unit.is_empty() { "no unit".to_owned() } else { unit.to_owned() };
            differences.push(format!("{table}.{column} is in {} instead of {}", shown(&before), shown(unit)));
        }
        put.execute(rusqlite::params_from_iter(field))?;
    }
    Ok(())
}

/// Notes that a stream is being converted. Returns its number, that of the conversion, and whether the stream was converted before.
pub(super) fn begin(
    connection: &Connection,
    source: &str,
    stream: &str,
    format: &str,
    version: Option<&str>,
) -> rusqlite::Result<(u64, u64, bool)> {
    let known: Option<i64> =
        connection.query_row("SELECT id FROM usus_streams WHERE stream = ?1", [stream], |row| row.get(0)).optional()?;
    let id = match known {
        Some(id) => id,
        None => {
            connection.execute("INSERT INTO usus_streams (stream) VALUES (?1)", [stream])?;
            connection.last_insert_rowid()
        }
    };
    connection.execute(
        "INSERT INTO usus_conversions (stream, source, format, version, finished) VALUES (?1, ?2, ?3, ?4, 0)",
        (id, source, format, version),
    )?;
    let conversion = connection.last_insert_rowid();
    Ok((id.unsigned_abs(), conversion.unsigned_abs(), known.is_some()))
}

/// Notes that the conversion has come to the end of its source.
pub(super) fn end(connection: &Connection, conversion: i64) -> rusqlite::Result<()> {
    connection.execute("UPDATE usus_conversions SET finished = 1 WHERE id = ?1", [conversion]).map(|_| ())
}

/// Makes one file of it again, if nobody else reads it.
pub(super) fn close(connection: &Connection) {
    let _ = connection.execute_batch("PRAGMA journal_mode = DELETE");
}
