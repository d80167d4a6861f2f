//! Reading back what was converted: JSON Lines, CSV and SQLite, row by row.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};
use serde_json::Value;

/// A row, by what it is told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Row {
    pub(super) kind: String,
    /// Source and line.
    pub(super) stream: (String, String),
    pub(super) offset: u64,
    /// The numbers of an item of a group, from the outermost.
    pub(super) item: Vec<u64>,
    /// Fields with their values as text; nothing for what is absent.
    pub(super) fields: Vec<(String, Option<String>)>,
}

pub(super) type Rows = Box<dyn Iterator<Item = Result<Row, String>>>;

/// What was converted: one run of rows, or one for each table.
pub(super) enum Converted {
    /// All kinds in the order in which they came.
    Mixed(Rows),
    Tables(BTreeMap<String, Rows>),
}

/// Opens a conversion.
pub(super) fn open(path: &Path) -> Result<Converted, String> {
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    match ending {
        _ if path.is_dir() => directory(path).map(Converted::Tables),
        "jsonl" => json_lines(path).map(Converted::Mixed),
        "csv" => {
            let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
            Ok(Converted::Tables(BTreeMap::from([("records".to_owned(), table(path, &name)?)])))
        }
        "sqlite" | "sqlite3" | "db" => database(path).map(Converted::Tables),
        _ => Err(format!(
            "{} is no conversion that can be read back; a directory of CSV, .csv, .jsonl and .sqlite are",
            path.display()
        )),
    }
}

fn cannot(path: &Path) -> impl Fn(std::io::Error) -> String + use<> {
    let path = path.to_owned();
    move |error| format!("cannot read {}: {error}", path.display())
}

fn json_lines(path: &Path) -> Result<Rows, String> {
    let file = BufReader::new(File::open(path).map_err(cannot(path))?);
    let path = path.to_owned();
    let rows = file.lines().enumerate().map(move |(number, line)| {
        let line = line.map_err(cannot(&path))?;
        let wrong = |what: String| format!("{}:{}: {what}", path.display(), number + 1);
        let value: Value = serde_json::from_str(&line).map_err(|error| wrong(error.to_string()))?;
        json_row(&value).ok_or_else(|| wrong("it is no record as usus writes them".to_owned()))
    });
    Ok(Box::new(rows))
}

fn json_row(value: &Value) -> Option<Row> {
    let text = |key: &str| value[key].as_str().unwrap_or_default().to_owned();
    let mut fields = Vec::new();
    for (name, value) in value["fields"].as_object()? {
        flatten(name, value, &mut fields);
    }
    for (name, quality) in value["quality"].as_object().into_iter().flatten() {
        fields.push((format!("quality of {name}"), quality.as_str().map(str::to_owned)));
    }
    Some(Row {
        kind: value["kind"].as_str()?.to_owned(),
        stream: (text("source"), text("line")),
        offset: value["ranges"][0][0].as_u64()?,
        item: Vec::new(),
        fields,
    })
}

/// A field; the items of a group one by one, as `peaks[2].force`.
fn flatten(name: &str, value: &Value, fields: &mut Vec<(String, Option<String>)>) {
    match value {
        Value::Array(items) => {
            fields.push((format!("number of {name}"), Some(items.len().to_string())));
            for (index, item) in items.iter().enumerate() {
                let name = format!("{name}[{}]", index + 1);
                match item {
                    Value::Object(members) => {
                        members.iter().for_each(|(member, value)| flatten(&format!("{name}.{member}"), value, fields));
                    }
                    other => flatten(&name, other, fields),
                }
            }
        }
        Value::Null => fields.push((name.to_owned(), None)),
        Value::String(text) => fields.push((name.to_owned(), Some(text.clone()))),
        other => fields.push((name.to_owned(), Some(other.to_string()))),
    }
}

/// The tables of a directory; what says what the columns are is none.
fn directory(path: &Path) -> Result<BTreeMap<String, Rows>, String> {
    let mut tables = BTreeMap::new();
    for entry in fs::read_dir(path).map_err(cannot(path))? {
        let file = entry.map_err(cannot(path))?.path();
        let name = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        if file.extension().is_some_and(|ending| ending == "csv") && !is_about_fields(&file) {
            tables.insert(name.clone(), table(&file, &name)?);
        }
    }
    match tables.is_empty() {
        true => Err(format!("there are no tables in {}", path.display())),
        false => Ok(tables),
    }
}

/// Whether it is the table of all fields, which a format with a record of that name has under another one.
fn is_about_fields(path: &Path) -> bool {
    let Ok(mut file) = File::open(path) else { return false };
    let mut head = [0; 20];
    let count = file.read(&mut head).unwrap_or(0);
    head[..count].starts_with(b"record,group,field,t")
}

/// The columns of a table.
struct Columns {
    names: Vec<String>,
    source: Option<usize>,
    line: Option<usize>,
    offset: usize,
    items: Vec<usize>,
    /// Those in front of the fields.
    own: usize,
}

impl Columns {
    fn of(names: Vec<String>, path: &Path) -> Result<Columns, String> {
        // The output's own columns stand in front, under names that no field has.
        let is_called = |name: &String, wanted: &str| {
            let own = name.trim_start_matches("usus_");
            own == wanted || (wanted == "index" && own.ends_with("_index"))
        };
        let words = ["source", "line", "offset", "length", "item", "received", "index"];
        let own = names.iter().take_while(|name| words.iter().any(|word| is_called(name, word))).count();
        let find = |word: &str| names[..own].iter().position(|name| is_called(name, word));
        let Some(offset) = find("offset") else {
            return Err(format!(
                "{} does not say where its rows stood in the stream; convert with --origin, or to .jsonl or .sqlite",
                path.display()
            ));
        };
        let items = (0..own).filter(|at| is_called(&names[*at], "index") || is_called(&names[*at], "item")).collect();
        Ok(Columns { source: find("source"), line: find("line"), offset, items, own, names })
    }

    fn row(&self, kind: &str, cells: &[Option<String>]) -> Option<Row> {
        let text = |at: Option<usize>| at.and_then(|at| cells.get(at)?.clone()).unwrap_or_default();
        let number = |at: usize| cells.get(at)?.as_ref()?.parse::<u64>().ok();
        Some(Row {
            kind: kind.to_owned(),
            stream: (text(self.source), text(self.line)),
            offset: number(self.offset)?,
            item: self.items.iter().filter_map(|at| number(*at)).collect(),
            fields: self.names.iter().cloned().zip(cells.iter().cloned()).skip(self.own).collect(),
        })
    }
}

/// A table in CSV with its usual separator.
fn table(path: &Path, kind: &str) -> Result<Rows, String> {
    let mut cells = Cells::open(path)?;
    let names = cells.next().transpose()?.unwrap_or_default();
    let columns = Columns::of(names, path)?;
    let (kind, path) = (kind.to_owned(), path.to_owned());
    let rows = cells.enumerate().map(move |(number, cells)| {
        let cells: Vec<Option<String>> =
            cells?.into_iter().map(|cell| Some(cell).filter(|cell| !cell.is_empty())).collect();
        columns.row(&kind, &cells).ok_or_else(|| format!("{}: row {} has no offset", path.display(), number + 2))
    });
    Ok(Box::new(rows))
}

/// The rows of a CSV file, cell by cell.
struct Cells {
    path: PathBuf,
    file: BufReader<File>,
    reader: csv_core::Reader,
    done: bool,
}

impl Cells {
    fn open(path: &Path) -> Result<Cells, String> {
        let file = BufReader::new(File::open(path).map_err(cannot(path))?);
        Ok(Cells { path: path.to_owned(), file, reader: csv_core::Reader::new(), done: false })
    }

    fn row(&mut self) -> Result<Option<Vec<String>>, String> {
        let (mut text, mut ends) = (vec![0; 1 << 12], vec![0; 64]);
        let (mut written, mut counted) = (0, 0);
        loop {
            let input = self.file.fill_buf().map_err(cannot(&self.path))?;
            let (result, read, put, ended) = self.reader.read_record(input, &mut text[written..], &mut ends[counted..]);
            self.file.consume(read);
            (written, counted) = (written + put, counted + ended);
            match result {
                csv_core::ReadRecordResult::InputEmpty => {}
                csv_core::ReadRecordResult::OutputFull => text.resize(text.len() * 2, 0),
                csv_core::ReadRecordResult::OutputEndsFull => ends.resize(ends.len() * 2, 0),
                csv_core::ReadRecordResult::End => return Ok(None),
                csv_core::ReadRecordResult::Record => {
                    let mut from = 0;
                    let cells = ends[..counted].iter().map(|end| {
                        let cell = String::from_utf8_lossy(&text[from..*end]).into_owned();
                        from = *end;
                        cell
                    });
                    return Ok(Some(cells.collect()));
                }
            }
        }
    }
}

impl Iterator for Cells {
    type Item = Result<Vec<String>, String>;

    fn next(&mut self) -> Option<Result<Vec<String>, String>> {
        if self.done {
            return None;
        }
        let row = self.row().transpose();
        self.done = !matches!(row, Some(Ok(_)));
        row
    }
}

/// The tables of a database. Of a table, so many rows are asked for at a time, behind the last one.
fn database(path: &Path) -> Result<BTreeMap<String, Rows>, String> {
    let failed = |error: rusqlite::Error| format!("cannot read {}: {error}", path.display());
    let open = || Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).map_err(failed);
    let connection = open()?;
    let names: Vec<String> = connection
        .prepare("SELECT DISTINCT table_name FROM usus_fields ORDER BY 1")
        .and_then(|mut statement| statement.query_map([], |row| row.get(0))?.collect())
        .map_err(|_| format!("{} is no database as usus writes them", path.display()))?;
    let mut tables = BTreeMap::new();
    for name in names {
        let rows = TableRows::new(open()?, &name).map_err(failed)?;
        tables.insert(name, Box::new(rows) as Rows);
    }
    Ok(tables)
}

/// Rows asked for at a time.
const PAGE: usize = 10_000;

struct TableRows {
    connection: Connection,
    /// Asks for the first rows, and for those behind a key.
    first: String,
    next: String,
    keys: usize,
    /// The key of the last row.
    last: Vec<rusqlite::types::Value>,
    name: String,
    columns: Columns,
    page: std::vec::IntoIter<Row>,
    ended: bool,
}

impl TableRows {
    fn new(connection: Connection, name: &str) -> rusqlite::Result<TableRows> {
        let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
        let mut statement = connection.prepare("SELECT name, pk FROM pragma_table_info(?1)")?;
        let found: Vec<(String, i64)> =
            statement.query_map([name], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
        drop(statement);
        // The key is stream, line, offset, item, and the numbers of items of groups.
        let key: Vec<&String> = found.iter().filter(|(_, place)| *place > 0).map(|(name, _)| name).collect();
        let fields: Vec<&String> = {
            let mut own: Vec<&str> = vec!["conversion", "length", "received"];
            own.extend(key.iter().map(|name| name.as_str()));
            found.iter().map(|(name, _)| name).filter(|name| !own.contains(&name.trim_start_matches("usus_"))).collect()
        };
        let of_key: Vec<String> = key[1..].iter().map(|name| format!("t.{}", quoted(name))).collect();
        let of_fields: Vec<String> = fields.iter().map(|name| format!("t.{}", quoted(name))).collect();
        let shown = [&of_key[..], &of_fields[..]].concat().join(", ");
        let order: Vec<String> = key.iter().map(|name| format!("t.{}", quoted(name))).collect();
        let (order, marks) = (order.join(", "), vec!["?"; key.len()].join(", "));
        let select = format!(
            "SELECT t.{}, s.stream, {shown} FROM {} t JOIN usus_streams s ON s.id = t.{}",
            quoted(key[0]),
            quoted(name),
            quoted(key[0])
        );
        let first = format!("{select} ORDER BY {order} LIMIT {PAGE}");
        let next = format!("{select} WHERE ({order}) > ({marks}) ORDER BY {order} LIMIT {PAGE}");
        let (keys, last) = (key.len(), Vec::new());
        let items = (3..of_key.len() + 1).collect();
        let mut names = vec!["source".to_owned()];
        names.extend(key[1..].iter().map(|name| (*name).clone()));
        names.extend(fields.into_iter().cloned());
        let columns = Columns { source: Some(0), line: Some(1), offset: 2, items, own: of_key.len() + 1, names };
        let name = name.to_owned();
        let page = Vec::new().into_iter();
        Ok(TableRows { connection, first, next, keys, last, name, columns, page, ended: false })
    }

    fn next_page(&mut self) -> rusqlite::Result<()> {
        let sql = if self.last.is_empty() { &self.first } else { &self.next };
        let mut statement = self.connection.prepare_cached(sql)?;
        let count = statement.column_count();
        let mut rows = statement.query(rusqlite::params_from_iter(std::mem::take(&mut self.last)))?;
        let mut page = Vec::new();
        while let Some(row) = rows.next()? {
            self.last.clear();
            // The number of the stream, and behind its name the rest of the key.
            self.last.push(row.get(0)?);
            for at in 0..self.keys - 1 {
                self.last.push(row.get(2 + at)?);
            }
            let cells: Vec<Option<String>> =
                (1..count).map(|at| row.get_ref(at).map(text_of)).collect::<Result<_, _>>()?;
            page.extend(self.columns.row(&self.name, &cells));
        }
        self.ended = page.len() < PAGE;
        self.page = page.into_iter();
        Ok(())
    }
}

fn text_of(value: ValueRef<'_>) -> Option<String> {
    match value {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string()),
        ValueRef::Real(number) => Some(number.to_string()),
        ValueRef::Text(text) => Some(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Some(bytes.iter().map(|byte| format!("{byte:02X}")).collect()),
    }
}

impl Iterator for TableRows {
    type Item = Result<Row, String>;

    fn next(&mut self) -> Option<Result<Row, String>> {
        if self.page.len() == 0
            && !self.ended
            && let Err(error) = self.next_page()
        {
            self.ended = true;
            return Some(Err(format!("cannot read the table {}: {error}", self.name)));
        }
        self.page.next().map(Ok)
    }
}
