//! CSV (RFC 4180): a table for each kind, and one for each group, tied to it by offset.

use std::fs;
use std::path::{Path, PathBuf};

use usus::{FieldSchema, KindSchema, Plan, Record, Room, Schema};

use super::rows::{ItemRows, RecordRow, Row, end_row, put_front, put_text};
use super::writer::{Buffer, RowWriter};
use super::{Origin, OutputError, Repeated};

/// Which columns stand in front of the fields. They are the same for every row, whatever comes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TableOptions {
    /// `source`: there are several.
    pub source: bool,
    /// `line`: sources have named lines.
    pub line: bool,
    /// `offset`, `length` and `item`, and the two above.
    pub origin: bool,
    /// `received`: at least one source has times.
    pub received: bool,
}

/// Tables in CSV.
pub struct Tables {
    place: Place,
    options: TableOptions,
    schema: Schema,
    kinds: Vec<KindTables>,
    origin: Origin,
    overwrite: bool,
    /// The quality column of the row at hand.
    quality: Vec<u8>,
    /// What the rows of the record at hand begin with, those of its groups' items, too.
    front: Buffer,
}

/// Where the tables go.
enum Place {
    StandardOutput,
    File(PathBuf),
    Directory(PathBuf),
    /// Nowhere: other tables take the rows when their turn comes.
    Piece,
}

/// The tables of one kind. Each begins with its first row, so that a kind that never comes leaves no file.
struct KindTables {
    has_offset: bool,
    /// Whether anything stands in front of the fields that says where a record comes from.
    has_front: bool,
    has_quality: bool,
    records: Option<RowWriter>,
    groups: Vec<GroupTable>,
}

/// The table of one group.
struct GroupTable {
    /// The place of the group's field.
    place: usize,
    has_quality: bool,
    items: Option<RowWriter>,
}

impl KindTables {
    fn writers(&self) -> impl Iterator<Item = &RowWriter> {
        self.records.iter().chain(self.groups.iter().filter_map(|group| group.items.as_ref()))
    }

    fn writers_mut(&mut self) -> impl Iterator<Item = &mut RowWriter> {
        self.records.iter_mut().chain(self.groups.iter_mut().filter_map(|group| group.items.as_mut()))
    }
}

impl Tables {
    /// One kind to standard output.
    pub(super) fn standard_output(plan: &Plan, options: TableOptions) -> Result<Tables, OutputError> {
        let kind = only_kind(plan.schema())?;
        if let Some(group) = kind.fields.iter().find(|field| !field.items.is_empty()) {
            return Err(OutputError::Group { kind: kind.name.clone(), group: group.name.clone() });
        }
        Tables::new(plan, Place::StandardOutput, options, false)
    }

    /// One kind to a file; its groups to files beside it.
    pub(super) fn file(
        plan: &Plan,
        path: &Path,
        options: TableOptions,
        overwrite: bool,
    ) -> Result<Tables, OutputError> {
        only_kind(plan.schema())?;
        Tables::new(plan, Place::File(path.to_owned()), options, overwrite)
    }

    /// Every kind to a file of its own in a directory, beside a table of all fields with their units.
    pub(super) fn directory(
        plan: &Plan,
        path: &Path,
        options: TableOptions,
        overwrite: bool,
    ) -> Result<Tables, OutputError> {
        fs::create_dir_all(path).map_err(OutputError::write(path))?;
        let tables = Tables::new(plan, Place::Directory(path.to_owned()), options, overwrite)?;
        tables.write_fields(&path.join("fields.csv"))?;
        Ok(tables)
    }

    fn new(plan: &Plan, place: Place, options: TableOptions, overwrite: bool) -> Result<Tables, OutputError> {
        let schema = plan.schema().clone();
        let mut tables = Tables::of(place, options, schema, Origin::default(), overwrite);
        tables.clear_the_way()?;
        if !matches!(tables.place, Place::Directory(_)) {
            // Whoever named one table gets it, also without rows.
            tables.begin_named_table()?;
        }
        Ok(tables)
    }

    fn of(place: Place, options: TableOptions, schema: Schema, origin: Origin, overwrite: bool) -> Tables {
        let kinds = schema.kinds.iter().map(|kind| KindTables {
            has_offset: has_offset(options, kind),
            has_front: has_offset(options, kind) || options.source || options.line,
            has_quality: kind.has_quality(),
            records: None,
            groups: groups(kind).collect(),
        });
        Tables {
            place,
            options,
            kinds: kinds.collect(),
            schema,
            origin,
            overwrite,
            quality: Vec::new(),
            front: Buffer::default(),
        }
    }

    /// Rows that wait for tables; of a `single` one, the plan may have one kind only.
    pub(super) fn unopened(plan: &Plan, options: TableOptions, single: bool) -> Result<Tables, OutputError> {
        if single {
            only_kind(plan.schema())?;
        }
        Ok(Tables::of(Place::Piece, options, plan.schema().clone(), Origin::default(), false))
    }

    /// The same tables without rows, to be filled elsewhere and joined.
    pub(super) fn piece(&self) -> Tables {
        Tables::of(Place::Piece, self.options, self.schema.clone(), self.origin.clone(), false)
    }

    /// Puts the rows of a piece behind those that are here, and leaves it empty.
    pub(super) fn join(&mut self, piece: &mut Tables) -> Result<(), OutputError> {
        for (index, kind) in piece.kinds.iter_mut().enumerate() {
            if let Some(rows) = &mut kind.records {
                let mut writer = match self.kinds[index].records.take() {
                    Some(writer) => writer,
                    None => self.begin_records(index)?,
                };
                let result = writer.join(rows);
                self.kinds[index].records = Some(writer);
                result?;
            }
            for (number, group) in kind.groups.iter_mut().enumerate() {
                let Some(rows) = &mut group.items else { continue };
                let mut writer = match self.kinds[index].groups[number].items.take() {
                    Some(writer) => writer,
                    None => self.begin_group(index, group.place)?,
                };
                let result = writer.join(rows);
                self.kinds[index].groups[number].items = Some(writer);
                result?;
            }
        }
        Ok(())
    }

    /// Sees to it that no table stands where one may be written: refuses, or removes those of an earlier run, so that they are not
    /// taken for this one's.
    fn clear_the_way(&self) -> Result<(), OutputError> {
        let mut paths = Vec::new();
        for kind in self.schema.kinds.iter() {
            paths.extend(self.path(&kind.name, None));
            let groups = kind.fields.iter().filter(|field| !field.items.is_empty());
            paths.extend(groups.filter_map(|group| self.path(&kind.name, Some(&group.name))));
        }
        if let Place::Directory(directory) = &self.place {
            paths.push(directory.join("fields.csv"));
        }
        for path in paths {
            if !path.exists() {
                continue;
            }
            if !self.overwrite {
                return Err(OutputError::Exists { path });
            }
            fs::remove_file(&path).map_err(OutputError::write(&path))?;
        }
        Ok(())
    }

    fn begin_named_table(&mut self) -> Result<(), OutputError> {
        let Some(kind) = self.schema.kinds.iter().position(|kind| kind.wanted) else { return Ok(()) };
        let writer = self.begin_records(kind)?;
        self.kinds[kind].records = Some(writer);
        Ok(())
    }

    /// The file of a kind or of one of its groups.
    fn path(&self, kind: &str, group: Option<&str>) -> Option<PathBuf> {
        match (&self.place, group) {
            (Place::StandardOutput | Place::Piece, _) => None,
            (Place::File(path), None) => Some(path.clone()),
            (Place::File(path), Some(group)) => Some(path.with_extension(format!("{group}.csv"))),
            (Place::Directory(directory), None) => Some(directory.join(format!("{kind}.csv"))),
            (Place::Directory(directory), Some(group)) => Some(directory.join(format!("{kind}.{group}.csv"))),
        }
    }

    fn begin(&self, kind: &str, group: Option<&str>) -> Result<RowWriter, OutputError> {
        match self.path(kind, group) {
            Some(path) => RowWriter::create(&path, self.overwrite),
            None if matches!(self.place, Place::Piece) => Ok(RowWriter::piece()),
            None => Ok(RowWriter::standard_output()),
        }
    }

    fn begin_records(&self, index: usize) -> Result<RowWriter, OutputError> {
        let kind = &self.schema.kinds[index];
        let mut writer = self.begin(&kind.name, None)?;
        if matches!(self.place, Place::Piece) {
            return Ok(writer);
        }
        let options = self.options;
        let fields = kind.fields.iter().filter(|field| field.items.is_empty()).map(|field| field.name.as_str());
        let columns = self
            .front_names(kind)
            .into_iter()
            .chain([(options.origin, "length"), (options.origin, "item"), (options.received, "received")])
            .chain(fields.map(|name| (true, name)))
            .chain([(kind.has_quality(), "quality")]);
        put_names(columns, &mut writer);
        Ok(writer)
    }

    fn begin_group(&self, index: usize, place: usize) -> Result<RowWriter, OutputError> {
        let kind = &self.schema.kinds[index];
        let field = &kind.fields[place];
        let mut writer = self.begin(&kind.name, Some(&field.name))?;
        if matches!(self.place, Place::Piece) {
            return Ok(writer);
        }
        let columns = self
            .front_names(kind)
            .into_iter()
            .chain([(true, "index")])
            .chain(field.items.iter().map(|field| (true, field.name.as_str())))
            .chain([(field.items_have_quality(), "quality")]);
        put_names(columns, &mut writer);
        Ok(writer)
    }

    /// The columns that a record's table and its groups' tables share, and whether they are shown: what ties them together.
    fn front_names<'n>(&self, kind: &KindSchema) -> [(bool, &'n str); 3] {
        let options = self.options;
        [
            (options.source || options.origin, "source"),
            (options.line || options.origin, "line"),
            (has_offset(options, kind), "offset"),
        ]
    }

    pub(super) fn begin_source(&mut self, name: &str) {
        self.origin.begin_source(name);
    }

    pub(super) fn name_line(&mut self, index: usize, name: &str) {
        self.origin.name_line(index, name);
    }

    #[inline]
    pub(super) fn record(&mut self, record: &Record<'_>) -> Result<(), OutputError> {
        let index = record.kind_index();
        if self.kinds[index].records.is_none() {
            self.kinds[index].records = Some(self.begin_records(index)?);
        }
        let Tables { options, kinds, origin, quality, front, .. } = self;
        let kind = &mut kinds[index];
        let Some(writer) = &mut kind.records else { return Ok(()) };
        front.clear();
        if kind.has_front {
            front.put(|room: &mut Room<'_>| put_front(*options, origin, kind.has_offset, record, room));
        }
        let (front, has_quality) = (front.text(), kind.has_quality);
        writer.row(RecordRow { record, options: *options, front, quality, has_quality })?;
        for number in 0..kind.groups.len() {
            self.items(record, index, number)?;
        }
        Ok(())
    }

    /// The rows of a group, whose front is that of the record.
    fn items(&mut self, record: &Record<'_>, kind: usize, number: usize) -> Result<(), OutputError> {
        let group = &mut self.kinds[kind].groups[number];
        let Some(items) = record.group_at(group.place) else { return Ok(()) };
        if group.items.is_none() {
            let writer = self.begin_group(kind, self.kinds[kind].groups[number].place)?;
            self.kinds[kind].groups[number].items = Some(writer);
        }
        let Tables { kinds, quality, front, .. } = self;
        let GroupTable { items: Some(writer), has_quality, .. } = &mut kinds[kind].groups[number] else {
            return Ok(());
        };
        writer.rows(items.len() as u64, |room: &mut Room<'_>| {
            let row = Row { room, quality };
            items.visit(&mut ItemRows { row, front: Repeated::of(front.text()), has_quality: *has_quality });
        })
    }

    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        let mut result = Ok(());
        for kind in &mut self.kinds {
            for writer in kind.writers_mut() {
                result = result.and(writer.release());
            }
        }
        result
    }

    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        let mut result = Ok(());
        for kind in &mut self.kinds {
            for writer in kind.writers_mut() {
                let flushed = writer.flush();
                result = result.and(flushed);
            }
        }
        result
    }

    pub(super) fn files(&self) -> Vec<(PathBuf, u64)> {
        let writers = self.kinds.iter().flat_map(KindTables::writers);
        writers.filter_map(RowWriter::file).collect()
    }

    /// The table of all fields: their types, units and titles.
    fn write_fields(&self, path: &Path) -> Result<(), OutputError> {
        let mut writer = RowWriter::create(path, self.overwrite)?;
        writer.put(|room: &mut Room<'_>| room.text(b"record,group,field,type,unit,tag,title\r\n"));
        for kind in self.schema.kinds.iter().filter(|kind| kind.wanted) {
            for field in &kind.fields {
                put_field(&kind.name, "", field, &mut writer);
                for item in &field.items {
                    put_field(&kind.name, &field.name, item, &mut writer);
                }
            }
        }
        writer.flush()
    }
}

fn put_field(kind: &str, group: &str, field: &FieldSchema, writer: &mut RowWriter) {
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    let (unit, tag, title) = (text(&field.unit), text(&field.tag), text(&field.title));
    writer.put(|room: &mut Room<'_>| {
        for column in [kind, group, &field.name, field.value_type.word(), &unit, &tag, &title] {
            put_text(column.as_bytes(), room);
            room.byte(b',');
        }
        end_row(None, room);
    });
}

/// The first row of a table: the names of those columns that are shown.
fn put_names<'n>(columns: impl Iterator<Item = (bool, &'n str)> + Clone, writer: &mut RowWriter) {
    writer.put(|room: &mut Room<'_>| {
        for (_, name) in columns.clone().filter(|(shown, _)| *shown) {
            room.text(name.as_bytes());
            room.byte(b',');
        }
        end_row(None, room);
    });
}

/// The single kind that is wanted.
fn only_kind(schema: &Schema) -> Result<&KindSchema, OutputError> {
    let mut wanted = schema.kinds.iter().filter(|kind| kind.wanted);
    match (wanted.next(), wanted.next()) {
        (Some(kind), None) => Ok(kind),
        _ => {
            let kinds: Vec<&str> =
                schema.kinds.iter().filter(|kind| kind.wanted).map(|kind| kind.name.as_str()).collect();
            Err(OutputError::SeveralKinds { kinds: kinds.join(", ") })
        }
    }
}

/// The tables of a kind's groups.
fn groups(kind: &KindSchema) -> impl Iterator<Item = GroupTable> {
    let fields = kind.fields.iter().enumerate().filter(|(_, field)| !field.items.is_empty());
    fields.map(|(place, field)| GroupTable { place, has_quality: field.items_have_quality(), items: None })
}

/// A record with groups needs its offset, so that their rows can be tied to it.
fn has_offset(options: TableOptions, kind: &KindSchema) -> bool {
    options.origin || kind.fields.iter().any(|field| !field.items.is_empty())
}
