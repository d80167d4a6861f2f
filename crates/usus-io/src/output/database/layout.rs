//! The tables of a database: their names, columns and statements.

use std::collections::HashSet;

use usus::{FieldSchema, Schema, ValueType};

use crate::output::cells::Table;
use crate::output::columns::{Column, Holds, KindColumns, TableColumns, unused};

/// The tables of the output itself.
const OWN: [&str; 3] = ["usus_streams", "usus_conversions", "usus_fields"];

/// No name of a table is longer.
const LONGEST_NAME: usize = 200;

pub(super) struct Layout {
    kinds: Vec<KindLayout>,
    pub(super) format: String,
    /// A row for each field: what the table `usus_fields` says.
    pub(super) fields: Vec<[String; 8]>,
    /// Views that join the items of groups to their records, with their statements.
    pub(super) views: Vec<(String, String)>,
    removals: Vec<String>,
}

struct KindLayout {
    wanted: bool,
    records: TableLayout,
    groups: Vec<TableLayout>,
}

pub(super) struct TableLayout {
    pub(super) name: String,
    /// Its columns with the types that they are declared with.
    pub(super) columns: Vec<(String, &'static str)>,
    key: Vec<String>,
    /// The column for the number of the conversion.
    conversion: String,
    insertion: String,
}

/// A name as SQL takes it, whatever it is.
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\"").replace('\0', "\u{FFFD}"))
}

fn list(names: &[String]) -> String {
    names.iter().map(|name| quoted(name)).collect::<Vec<_>>().join(", ")
}

impl Layout {
    pub(super) fn new(schema: &Schema, columns: &[KindColumns]) -> Layout {
        let mut taken: HashSet<String> = OWN.iter().map(|name| (*name).to_owned()).collect();
        // Names of kinds first: they are what people look for.
        let records: Vec<TableLayout> = columns
            .iter()
            .map(|kind| TableLayout::new(unused(&kind.records.name, LONGEST_NAME, &mut taken), &kind.records))
            .collect();
        let kinds: Vec<KindLayout> = records
            .into_iter()
            .zip(schema.kinds.iter().zip(columns))
            .map(|(records, (schema, kind))| {
                let groups = kind.groups.iter().map(|group| {
                    TableLayout::new(unused(&group.name.replace('.', "_"), LONGEST_NAME, &mut taken), group)
                });
                KindLayout { wanted: schema.wanted, records, groups: groups.collect() }
            })
            .collect();
        let mut views = Vec::new();
        for kind in kinds.iter().filter(|kind| kind.wanted) {
            for group in &kind.groups {
                let name = unused(&format!("{}_with_{}", group.name, kind.records.name), LONGEST_NAME, &mut taken);
                views.push((name.clone(), view(&name, &kind.records, group)));
            }
        }
        let mut fields = Vec::new();
        for ((schema, columns), kind) in schema.kinds.iter().zip(columns).zip(&kinds).filter(|(_, kind)| kind.wanted) {
            let tables = std::iter::once(&columns.records).chain(&columns.groups);
            for (table, layout) in tables.zip(kind.tables()) {
                let path = table.name.strip_prefix(&schema.name).unwrap_or_default().trim_start_matches('.');
                let held = table.columns.iter().filter_map(|column| column.field.as_ref());
                fields.extend(held.map(|field| described(&layout.name, &schema.name, path, field)));
            }
        }
        let wanted = kinds.iter().filter(|kind| kind.wanted);
        let removals = wanted.flat_map(KindLayout::tables).map(TableLayout::removal).collect();
        Layout { kinds, format: schema.format.clone(), fields, views, removals }
    }

    pub(super) fn count(&self) -> usize {
        self.tables().count()
    }

    pub(super) fn tables(&self) -> impl Iterator<Item = &TableLayout> {
        self.kinds.iter().filter(|kind| kind.wanted).flat_map(KindLayout::tables)
    }

    pub(super) fn insertion(&self, table: Table) -> &str {
        let kind = &self.kinds[table.kind];
        &table.group.map_or(&kind.records, |group| &kind.groups[group]).insertion
    }

    /// Statements that take away rows of a stream, line and range of offsets that another conversion wrote.
    pub(super) fn removals(&self) -> &[String] {
        &self.removals
    }
}

impl KindLayout {
    fn tables(&self) -> impl Iterator<Item = &TableLayout> {
        std::iter::once(&self.records).chain(&self.groups)
    }
}

impl TableLayout {
    fn new(name: String, table: &TableColumns) -> TableLayout {
        let columns: Vec<(String, &'static str)> =
            table.columns.iter().map(|column| (column.name.clone(), declared_type(column))).collect();
        let is_key = |column: &&Column| {
            matches!(column.holds, Holds::Stream | Holds::Line | Holds::Offset | Holds::Item | Holds::Index(_))
        };
        let key: Vec<String> = table.columns.iter().filter(is_key).map(|column| column.name.clone()).collect();
        let names: Vec<String> = columns.iter().map(|(name, _)| name.clone()).collect();
        let marks = vec!["?"; columns.len()].join(", ");
        let insertion = format!("INSERT OR REPLACE INTO {} ({}) VALUES ({marks})", quoted(&name), list(&names));
        let conversion = table.columns.iter().find(|column| column.holds == Holds::Conversion);
        let conversion = conversion.map_or_else(String::new, |column| column.name.clone());
        TableLayout { name, columns, key, conversion, insertion }
    }

    /// The statement that makes it.
    pub(super) fn creation(&self) -> String {
        let columns: Vec<String> = self
            .columns
            .iter()
            .map(|(name, declared)| format!("{} {declared}", quoted(name)).trim_end().to_owned())
            .collect();
        // Keyed rows lie in the order of the key, and so in that of their streams.
        let (columns, key) = (columns.join(", "), list(&self.key));
        format!("CREATE TABLE {} ({columns}, PRIMARY KEY ({key})) WITHOUT ROWID", quoted(&self.name))
    }

    /// The statement that takes away what another conversion made of some bytes. The key begins with the stream, the line and the offset.
    fn removal(&self) -> String {
        let conversion = quoted(&self.conversion);
        let [stream, line, offset] = [0, 1, 2].map(|at| quoted(&self.key[at]));
        format!(
            "DELETE FROM {} WHERE {stream} = ?1 AND {line} = ?2 AND {offset} >= ?3 AND {offset} < ?4 AND {conversion} <> ?5",
            quoted(&self.name)
        )
    }
}

/// The statement of a view: each item of a group with what its record says.
fn view(name: &str, records: &TableLayout, group: &TableLayout) -> String {
    let shared = records.key.len();
    let tie: Vec<String> =
        (0..shared).map(|at| format!("r.{} = g.{}", quoted(&records.key[at]), quoted(&group.key[at]))).collect();
    let mut shown: Vec<String> = records.columns.iter().map(|(name, _)| format!("r.{}", quoted(name))).collect();
    let mut taken: HashSet<String> = records.columns.iter().map(|(name, _)| name.to_lowercase()).collect();
    for (column, _) in &group.columns[shared..] {
        if *column == group.conversion {
            continue;
        }
        let own = match taken.contains(&column.to_lowercase()) {
            true => unused(&format!("{}_{column}", group.name), LONGEST_NAME, &mut taken),
            false => unused(column, LONGEST_NAME, &mut taken),
        };
        shown.push(format!("g.{} AS {}", quoted(column), quoted(&own)));
    }
    let (records, group) = (quoted(&records.name), quoted(&group.name));
    format!(
        "CREATE VIEW {} AS SELECT {} FROM {group} AS g JOIN {records} AS r ON {}",
        quoted(name),
        shown.join(", "),
        tie.join(" AND ")
    )
}

/// What is said of a field: table, column, record, group, type, unit, tag and title.
fn described(table: &str, record: &str, group: &str, field: &FieldSchema) -> [String; 8] {
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    [
        table.to_owned(),
        field.name.clone(),
        record.to_owned(),
        group.to_owned(),
        field.value_type.word().to_owned(),
        text(&field.unit),
        text(&field.tag),
        text(&field.title),
    ]
}

/// The type that a column is declared with. One whose numbers may be too long for SQLite's own has none: else their digits would be made a number.
fn declared_type(column: &Column) -> &'static str {
    match (column.holds, &column.field) {
        (Holds::Source | Holds::Line | Holds::Received | Holds::Quality, _) => "TEXT",
        (_, None) => "INTEGER",
        (_, Some(field)) => match field.value_type {
            ValueType::Bool => "INTEGER",
            ValueType::F32 | ValueType::F64 => "REAL",
            ValueType::Bytes => "BLOB",
            ValueType::Integer | ValueType::Decimal => match field.numbers {
                Some(numbers) if numbers.places == 0 => {
                    let fits = i64::try_from(numbers.least).is_ok() && i64::try_from(numbers.most).is_ok();
                    if fits { "INTEGER" } else { "" }
                }
                Some(numbers) if numbers.digits() <= 15 => "REAL",
                _ => "",
            },
            _ => "TEXT",
        },
    }
}
