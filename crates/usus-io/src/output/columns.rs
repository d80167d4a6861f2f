//! The columns of tables: what they hold, and what they are called. The same in every output that has tables.

use std::collections::HashSet;

use usus::{FieldSchema, KindSchema, Schema};

use super::groups::{self, GroupPath};
use super::options::TableOptions;

/// What a column holds.
#[cfg_attr(not(feature = "sqlite"), allow(dead_code, reason = "only a database needs all of it"))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Holds {
    /// The number of the stream in the output.
    Stream,
    /// The number of the conversion that wrote the row.
    Conversion,
    Source,
    Line,
    Offset,
    Length,
    Item,
    Received,
    /// The number of an item in the group of that level, the outermost being 0.
    Index(usize),
    Field,
    Quality,
}

impl Holds {
    /// What such a column is called if no field has that name.
    const fn word(self) -> &'static str {
        match self {
            Holds::Stream => "stream",
            Holds::Conversion => "conversion",
            Holds::Source => "source",
            Holds::Line => "line",
            Holds::Offset => "offset",
            Holds::Length => "length",
            Holds::Item => "item",
            Holds::Received => "received",
            Holds::Index(_) => "index",
            Holds::Field => "",
            Holds::Quality => "quality",
        }
    }
}

/// A column.
#[derive(Clone, Debug)]
pub(super) struct Column {
    pub(super) name: String,
    pub(super) holds: Holds,
    /// The field that it holds.
    pub(super) field: Option<FieldSchema>,
}

impl Column {
    /// Its name, with the unit behind it.
    pub(super) fn name_and_unit(&self) -> String {
        match self.field.as_ref().and_then(|field| field.unit.as_ref()) {
            Some(unit) => format!("{} [{unit}]", self.name),
            None => self.name.clone(),
        }
    }
}

/// What stands in front of the fields.
#[cfg_attr(not(feature = "sqlite"), allow(dead_code, reason = "only a database needs all of it"))]
#[derive(Clone, Copy, Debug)]
pub(super) enum Front {
    /// What the options ask for; of groups, what ties their items to their records.
    Asked(TableOptions),
    /// All that makes out which record it is.
    Identity,
}

impl Front {
    fn of_records(self, kind: &KindSchema) -> Vec<Holds> {
        match self {
            Front::Asked(options) => [
                (options.source || options.origin, Holds::Source),
                (options.line || options.origin, Holds::Line),
                (has_offset(options, kind), Holds::Offset),
                (options.origin, Holds::Length),
                (options.origin, Holds::Item),
                (options.received, Holds::Received),
            ]
            .into_iter()
            .filter_map(|(asked, holds)| asked.then_some(holds))
            .collect(),
            Front::Identity => {
                use Holds::{Conversion, Item, Length, Line, Offset, Received, Stream};
                vec![Stream, Line, Offset, Item, Conversion, Length, Received]
            }
        }
    }

    /// In front of the numbers of items.
    fn of_items(self, kind: &KindSchema) -> Vec<Holds> {
        match self {
            Front::Asked(_) => {
                let tied = |holds: &Holds| matches!(holds, Holds::Source | Holds::Line | Holds::Offset);
                self.of_records(kind).into_iter().filter(tied).collect()
            }
            Front::Identity => vec![Holds::Stream, Holds::Line, Holds::Offset, Holds::Item],
        }
    }

    /// Behind the numbers of items.
    fn behind_indexes(self) -> &'static [Holds] {
        match self {
            Front::Asked(_) => &[],
            Front::Identity => &[Holds::Conversion],
        }
    }
}

/// A record with groups needs its offset, so that their rows can be tied to it.
pub(super) fn has_offset(options: TableOptions, kind: &KindSchema) -> bool {
    options.origin || kind.fields.iter().any(|field| !field.items.is_empty())
}

/// Whether a reading in the items of a group, but for those of groups in them, can have a quality.
pub(super) fn has_quality(group: &FieldSchema) -> bool {
    group.items.iter().any(|field| field.has_quality)
}

/// The table of a kind's records, or of the items of one of its groups.
#[derive(Clone, Debug)]
pub(super) struct TableColumns {
    /// The kind; of a group, its name behind that, with points between.
    pub(super) name: String,
    /// Where the group is; empty for the records themselves.
    pub(super) group: GroupPath,
    pub(super) columns: Vec<Column>,
}

/// The tables of a kind.
#[derive(Clone, Debug)]
pub(super) struct KindColumns {
    pub(super) records: TableColumns,
    pub(super) groups: Vec<TableColumns>,
}

impl KindColumns {
    /// The tables of every kind, in the order of the schema.
    pub(super) fn all(schema: &Schema, front: Front) -> Vec<KindColumns> {
        schema.kinds.iter().map(|kind| KindColumns::of(kind, front)).collect()
    }

    fn of(kind: &KindSchema, front: Front) -> KindColumns {
        let groups = groups::paths(kind).iter().map(|path| TableColumns::items(kind, path, front)).collect();
        KindColumns { records: TableColumns::records(kind, front), groups }
    }
}

impl TableColumns {
    /// The table of a kind's records.
    pub(super) fn records(kind: &KindSchema, front: Front) -> TableColumns {
        let names = Names::of(kind);
        let mut columns = names.own(front.of_records(kind));
        columns.extend(fields(&kind.fields));
        columns.extend(kind.has_quality().then(|| names.column(Holds::Quality)));
        TableColumns { name: kind.name.clone(), group: GroupPath::new(), columns }
    }

    /// The table of the items of a group.
    pub(super) fn items(kind: &KindSchema, path: &[u16], front: Front) -> TableColumns {
        let (names, groups) = (Names::of(kind), groups::fields(kind, path));
        let mut columns = names.own(front.of_items(kind));
        if let Some((group, around)) = groups.split_last() {
            columns.extend(around.iter().enumerate().map(|(level, around)| Column {
                name: names.free(&format!("{}_index", around.name)),
                holds: Holds::Index(level),
                field: None,
            }));
            columns.push(names.column(Holds::Index(around.len())));
            columns.extend(names.own(front.behind_indexes().to_vec()));
            columns.extend(fields(&group.items));
            columns.extend(has_quality(group).then(|| names.column(Holds::Quality)));
        }
        TableColumns { name: format!("{}.{}", kind.name, groups::name(kind, path)), group: path.to_vec(), columns }
    }
}

/// Groups have tables of their own.
fn fields(fields: &[FieldSchema]) -> impl Iterator<Item = Column> {
    fields.iter().filter(|field| field.items.is_empty()).map(|field| Column {
        name: field.name.clone(),
        holds: Holds::Field,
        field: Some(field.clone()),
    })
}

/// A name of the output's own that no field of a kind has.
pub(super) fn free_name(kind: &KindSchema, name: &str) -> String {
    Names::of(kind).free(name)
}

/// The names that the fields of a kind have, so that the output's own columns get others.
struct Names(HashSet<String>);

impl Names {
    fn of(kind: &KindSchema) -> Names {
        let mut names = HashSet::new();
        gather_names(&kind.fields, &mut names);
        Names(names)
    }

    fn own(&self, holds: Vec<Holds>) -> Vec<Column> {
        holds.into_iter().map(|holds| self.column(holds)).collect()
    }

    fn column(&self, holds: Holds) -> Column {
        Column { name: self.free(holds.word()), holds, field: None }
    }

    /// The name, or one like it that no field has.
    fn free(&self, name: &str) -> String {
        let mut own = name.to_owned();
        while self.0.contains(&own.to_lowercase()) {
            own = format!("usus_{own}");
        }
        own
    }
}

fn gather_names(fields: &[FieldSchema], names: &mut HashSet<String>) {
    for field in fields {
        names.insert(field.name.to_lowercase());
        gather_names(&field.items, names);
    }
}

/// A name that is not taken yet, whether or not case counts: with a number behind it if it is.
#[cfg(any(feature = "sqlite", feature = "xlsx"))]
pub(super) fn unused(name: &str, longest: usize, taken: &mut HashSet<String>) -> String {
    let cut = |room: usize| name.chars().take(room).collect::<String>();
    let mut own = cut(longest);
    let mut number = 2;
    while !taken.insert(own.to_lowercase()) {
        let behind = format!("_{number}");
        own = cut(longest - behind.len()) + &behind;
        number += 1;
    }
    own
}
