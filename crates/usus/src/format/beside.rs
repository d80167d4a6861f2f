//! Files beside a format: fields and codes out of the rows of a CSV (RFC 4180). Each row is written as TOML, and read like anything else.

use alloc::collections::BTreeMap;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;
use core::ops::Range;

use csv_core::{ReadFieldResult, Reader, ReaderBuilder};
use toml::Spanned as TomlSpanned;
use toml::de::{DeTable, DeValue};

use super::field::known_keys;
use super::keys::{Keys, in_file_order};
use super::point;
use super::source::{FileBeside, Load, Row, Source, behind};
use super::write::quoted;
use crate::limits;
use crate::problem::{ProblemKind, Problems, nearest};

/// Keys that a file may stand behind.
const LISTS: [&str; 3] = ["fields", "header", POINTS];
const POINTS: &str = "points";
const CODES: &str = "codes";

/// Keys whose values are texts, whatever stands in a cell.
const TEXTS: [&str; 27] = [
    "name",
    "title",
    "tag",
    "label",
    "type",
    "digits",
    "bits_from",
    "sign",
    "unit",
    "unit_sent",
    "unit_from",
    "scale_from",
    "sign_from",
    "layout",
    "since",
    "zone",
    "when",
    "invalid",
    "decimal",
    "thousands",
    "until",
    "address_from",
    "up_to",
    "charset",
    "table",
    "reference",
    "within",
];

/// The rows of all files that a format names, as TOML.
#[derive(Default)]
pub(super) struct Beside {
    /// A key for each place at which a file is named, in the order of the places: `r0`, `r1`, …
    pub(super) text: String,
    files: Vec<FileBeside>,
    rows: Vec<Row>,
}

impl Beside {
    /// Loads the files that a document names.
    pub(super) fn load(document: &DeTable<'_>, text: &str, load: &mut Load<'_>, problems: &mut Problems) -> Beside {
        let mut beside = Beside::default();
        let mut named = Vec::new();
        find(document, true, &mut named);
        for (number, (key, table, span)) in named.into_iter().enumerate() {
            beside.text += &format!("r{number} = ");
            beside.add(key, table, span, behind(text), load, problems);
            beside.text.push('\n');
        }
        beside
    }

    /// Where the format comes from.
    pub(super) fn into_source(self, text: &str) -> Source {
        Source { text: text.into(), files: self.files.into(), rows: self.rows.into() }
    }

    /// Adds the rows of one file.
    fn add(
        &mut self,
        key: &str,
        table: &DeTable<'_>,
        span: Range<usize>,
        behind: usize,
        load: &mut Load<'_>,
        problems: &mut Problems,
    ) {
        let (open, close) = if key == CODES { ("{", "}") } else { ("[", "]") };
        let begin = behind + self.text.len();
        self.text += open;
        let mut keys = Keys::new(table, span.clone(), "a file of rows", problems);
        let (file, separator) = (keys.required_text("file"), keys.short_text("separator"));
        // What is wrong with all of them is told at their first line.
        let name = file.as_ref().map_or("", |file| file.value.as_str()).into();
        self.rows.push(Row { begin, file: name, line: 1, named: span.clone() });
        let mapped = read_mapping(&mut keys);
        keys.done();
        let separator = match separator.as_ref().map(|separator| separator.value.as_bytes()) {
            None => Some(b','),
            Some([byte]) if byte.is_ascii() && !matches!(byte, b'"' | b'\r' | b'\n') => Some(*byte),
            Some(_) => None,
        };
        match (file, separator) {
            (Some(file), Some(separator)) => {
                if let Some(found) = self.file(&file.value, file.span, load, problems) {
                    let rows = Rows { key, file: file.value.as_str().into(), separator, mapped: &mapped, named: span };
                    self.add_rows(&rows, &found, behind, problems);
                }
            }
            (_, None) => problems.add(span, ProblemKind::Senseless("the `separator` of a file is one ASCII character")),
            (None, _) => {}
        }
        self.text += close;
    }

    /// The text of a file, which is loaded once.
    fn file(
        &mut self,
        name: &str,
        span: Range<usize>,
        load: &mut Load<'_>,
        problems: &mut Problems,
    ) -> Option<Arc<str>> {
        if let Some(known) = self.files.iter().find(|file| file.name == name) {
            return Some(Arc::clone(&known.text));
        }
        let wrong = match load(name) {
            Ok(text) if text.len() > limits::FORMAT_BYTES => {
                let why = format!("it has more than {} bytes", limits::FORMAT_BYTES);
                ProblemKind::NotLoaded { file: name.to_string(), why }
            }
            Ok(text) => {
                let text: Arc<str> = text.into();
                self.files.push(FileBeside { name: name.to_string(), text: Arc::clone(&text) });
                return Some(text);
            }
            Err(why) => ProblemKind::NotLoaded { file: name.to_string(), why },
        };
        problems.add(span, wrong);
        None
    }

    fn add_rows(&mut self, rows: &Rows<'_>, text: &str, behind: usize, problems: &mut Problems) {
        let mut wrong = |line: usize, kind: ProblemKind| {
            let kind = ProblemKind::InFile { file: rows.file.to_string(), line, kind: kind.into() };
            problems.add(rows.named.clone(), kind);
        };
        let text = text.strip_prefix('\u{FEFF}').unwrap_or(text);
        let mut lines = Cells::new(text, rows.separator);
        let Some((line, headings)) = lines.next() else {
            return wrong(1, ProblemKind::Senseless("there is no row of headings"));
        };
        let columns = columns(rows, line, &headings, &mut wrong);
        let most = if rows.key == CODES { limits::CODES } else { limits::FIELDS };
        let mut codes: BTreeMap<String, String> = BTreeMap::new();
        // One more than there can be is said where they are read.
        for (line, cells) in lines.take(most + 1) {
            if cells.len() > columns.len() && cells[columns.len()..].iter().any(|cell| !cell.trim().is_empty()) {
                wrong(line, ProblemKind::Senseless("there are more cells than headings"));
                continue;
            }
            let filled: Vec<(&str, &str)> = columns
                .iter()
                .zip(&cells)
                .filter_map(|(column, cell)| Some((column.as_deref()?, cell.trim())))
                .filter(|(_, cell)| !cell.is_empty())
                .collect();
            let row = match rows.key {
                CODES => code(&filled).map(|(row, value)| (row, Some(value))),
                _ => {
                    let entries: Vec<String> = filled.iter().map(|(key, cell)| entry(key, cell)).collect();
                    Ok((format!("{{ {} }}, ", entries.join(", ")), None))
                }
            };
            match row {
                Ok((row, Some(value))) if codes.get(&value).is_some_and(|known| *known != row) => {
                    wrong(line, ProblemKind::Twice { what: "code", name: value });
                }
                // The same again says nothing new.
                Ok((_, Some(value))) if codes.contains_key(&value) => {}
                Ok((row, value)) => {
                    let begin = behind + self.text.len();
                    self.rows.push(Row { begin, file: Arc::clone(&rows.file), line, named: rows.named.clone() });
                    self.text += &row;
                    codes.extend(value.map(|value| (value, row)));
                }
                Err(kind) => wrong(line, kind),
            }
        }
    }
}

/// What is to be done with a file.
struct Rows<'r> {
    /// The key that it stands behind.
    key: &'r str,
    file: Arc<str>,
    separator: u8,
    /// Headings, and the keys that they mean.
    mapped: &'r [(String, String)],
    /// Where it is named.
    named: Range<usize>,
}

/// The keys of the columns; nothing of those that are left out.
fn columns(
    rows: &Rows<'_>,
    line: usize,
    headings: &[String],
    wrong: &mut impl FnMut(usize, ProblemKind),
) -> Vec<Option<String>> {
    let known = match rows.key {
        CODES => ["value", "name"].to_vec(),
        POINTS => point::known_keys(),
        _ => known_keys(),
    };
    for (heading, _) in rows.mapped.iter().filter(|(heading, _)| !headings.iter().any(|known| known.trim() == heading))
    {
        let nearest = nearest(heading, headings.iter().map(|heading| heading.trim()));
        wrong(line, ProblemKind::UnknownName { what: "heading", name: heading.clone(), nearest });
    }
    let mut columns: Vec<Option<String>> = Vec::new();
    for heading in headings.iter().map(|heading| heading.trim()) {
        let mapped = rows.mapped.iter().find(|(known, _)| known == heading).map(|(_, key)| key.as_str());
        let key = mapped.unwrap_or(heading);
        let column = match key {
            "" => None,
            key if columns.iter().flatten().any(|before| before == key) => {
                wrong(line, ProblemKind::Twice { what: "column", name: key.to_string() });
                None
            }
            key if known.contains(&key) => Some(key.to_string()),
            key => {
                let (nearest, key) = (nearest(key, known.iter().copied()), key.to_string());
                wrong(line, ProblemKind::UnknownHeading { key, nearest });
                None
            }
        };
        columns.push(column);
    }
    columns
}

/// A code, as an entry of a table, and its value.
fn code(filled: &[(&str, &str)]) -> Result<(String, String), ProblemKind> {
    let cell = |key: &str| filled.iter().find(|(known, _)| *known == key).map(|(_, cell)| *cell);
    match (cell("value"), cell("name")) {
        (Some(value), Some(name)) => Ok((format!("{} = {}, ", quoted(value), quoted(name)), value.to_string())),
        (None, _) => Err(ProblemKind::MissingKey { key: "value", table: "a code" }),
        (_, None) => Err(ProblemKind::MissingKey { key: "name", table: "a code" }),
    }
}

/// A cell, as an entry of a field's table.
fn entry(key: &str, cell: &str) -> String {
    let as_it_is = || {
        // Text that looks like a date, or like a TOML string, is text.
        let begins = cell.starts_with(|first: char| first.is_ascii_digit() || "+-[{".contains(first));
        let one_line = !cell.contains(['\n', '\r']);
        let found = if begins && one_line { DeValue::parse(cell).ok() } else { None };
        found.is_some_and(|found| !matches!(found.get_ref(), DeValue::Datetime(_) | DeValue::String(_)))
    };
    let value = match cell {
        _ if TEXTS.contains(&key) => quoted(cell),
        "true" | "True" | "TRUE" => "true".to_string(),
        "false" | "False" | "FALSE" => "false".to_string(),
        cell if as_it_is() => cell.to_string(),
        cell => quoted(cell),
    };
    format!("{key} = {value}")
}

/// `keys`: headings and what they mean.
fn read_mapping(keys: &mut Keys<'_, '_>) -> Vec<(String, String)> {
    let Some((table, _)) = keys.table("keys") else { return Vec::new() };
    let mut mapped = Vec::new();
    for (heading, key) in in_file_order(table) {
        match key.get_ref() {
            DeValue::String(key) => mapped.push((heading.value, key.clone().into_owned())),
            _ => keys.wrong("keys", "the keys that headings mean, in quotes", key),
        }
    }
    mapped
}

/// Whether a value names a file of rows for a key.
fn names_file<'t>(key: &str, value: &'t DeValue<'_>) -> Option<&'t DeTable<'t>> {
    let DeValue::Table(table) = value else { return None };
    let file = table.get("file")?.get_ref().as_str();
    match key {
        CODES => {
            // A code of that name may mean something itself.
            let others = table.iter().any(|(key, _)| !["file", "keys", "separator"].contains(&&**key.get_ref()));
            (!others && file.is_some_and(|file| file.ends_with(".csv"))).then_some(table)
        }
        key => LISTS.contains(&key).then_some(table),
    }
}

type Named<'t> = (&'t str, &'t DeTable<'t>, Range<usize>);

/// The places at which files are named.
fn find<'t>(table: &'t DeTable<'t>, is_top: bool, named: &mut Vec<Named<'t>>) {
    for (key, value) in table {
        // Examples say what comes out.
        if is_top && key.get_ref() == "example" {
            continue;
        }
        match (names_file(key.get_ref(), value.get_ref()), value.get_ref()) {
            (Some(file), _) => named.push((key.get_ref(), file, value.span())),
            (None, DeValue::Table(table)) => find(table, false, named),
            (None, DeValue::Array(items)) => {
                for item in items {
                    if let DeValue::Table(table) = item.get_ref() {
                        find(table, false, named);
                    }
                }
            }
            _ => {}
        }
    }
}

/// Puts rows in the places of the files that have them, in the same order.
pub(super) fn replace<'i>(
    table: &mut DeTable<'i>,
    is_top: bool,
    rows: &mut impl Iterator<Item = TomlSpanned<DeValue<'i>>>,
) {
    for (key, value) in table.iter_mut() {
        if is_top && key.get_ref() == "example" {
            continue;
        }
        if names_file(key.get_ref(), value.get_ref()).is_some() {
            if let Some(rows) = rows.next() {
                *value = rows;
            }
            continue;
        }
        match value.get_mut() {
            DeValue::Table(table) => replace(table, false, rows),
            DeValue::Array(items) => {
                for item in items.iter_mut() {
                    if let DeValue::Table(table) = item.get_mut() {
                        replace(table, false, rows);
                    }
                }
            }
            _ => {}
        }
    }
}

/// The rows of a CSV that are not blank, each with the line on which it begins.
struct Cells<'t> {
    reader: Reader,
    rest: &'t [u8],
    ended: bool,
}

impl<'t> Cells<'t> {
    fn new(text: &'t str, separator: u8) -> Cells<'t> {
        Cells { reader: ReaderBuilder::new().delimiter(separator).build(), rest: text.as_bytes(), ended: false }
    }

    fn row(&mut self) -> Option<(usize, Vec<String>)> {
        if self.ended {
            return None;
        }
        let (mut line, mut cells, mut cell, mut room) = (None, Vec::new(), Vec::new(), [0; 256]);
        loop {
            let (result, taken, put) = self.reader.read_field(self.rest, &mut room);
            self.rest = self.rest.get(taken..).unwrap_or_default();
            cell.extend_from_slice(room.get(..put).unwrap_or_default());
            line.get_or_insert(self.reader.line() as usize);
            match result {
                // What there is ends with the text.
                ReadFieldResult::InputEmpty | ReadFieldResult::OutputFull => {}
                ReadFieldResult::Field { record_end } => {
                    cells.push(String::from_utf8_lossy(&cell).into_owned());
                    cell.clear();
                    if record_end {
                        return Some((line.unwrap_or(1), cells));
                    }
                }
                ReadFieldResult::End => {
                    self.ended = true;
                    return (!cells.is_empty()).then_some((line.unwrap_or(1), cells));
                }
            }
        }
    }
}

impl Iterator for Cells<'_> {
    type Item = (usize, Vec<String>);

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            let (line, cells) = self.row()?;
            if cells.iter().any(|cell| !cell.trim().is_empty()) {
                return Some((line, cells));
            }
        }
    }
}
