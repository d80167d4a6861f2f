//! CSV (RFC 4180): a table for each kind, and one for each group, tied to it by offset.

use std::fs;
use std::path::{Path, PathBuf};

use super::TextBuffer;
use usus::quality::Notes;
use usus::{FieldSchema, KindSchema, Plan, Record, Schema};

use super::columns::{Front, TableColumns, has_offset, has_quality};
use super::groups::{self, GroupPath};
use super::mend::{self, Form};
use super::options::{Existing, OutputOptions, TableOptions, TableStyle};
use super::rows::{ItemRows, RecordRow, Row, put_front};
use super::styled::{Shared, StyledRow};
use super::times::TimeStyle;
use super::writer::{Buffer, RowWriter};
use super::{Destination, Origin, OutputError, Repeated};

/// Tables in CSV.
pub struct Tables {
    place: Place,
    options: TableOptions,
    style: TableStyle,
    times: TimeStyle,
    existing: Existing,
    in_place: bool,
    /// The table of fields.
    fields: Option<RowWriter>,
    schema: Schema,
    kinds: Vec<KindTables>,
    origin: Origin,
    /// The quality column of the row at hand.
    quality: Vec<u8>,
    /// What the rows of the record at hand begin with, those of its groups' items, too.
    front: Buffer,
    /// The same with the numbers of the items around a group.
    inner_front: Buffer,
    /// Rows in another style.
    styled: Vec<u8>,
    /// Files whose torn ends were taken away, and how many bytes those had.
    mended: Vec<(PathBuf, u64)>,
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
    /// Whether its rows are not in the usual style.
    is_styled: bool,
    records: Option<RowWriter>,
    groups: Vec<GroupTable>,
}

/// The table of one group.
struct GroupTable {
    path: GroupPath,
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
    pub(super) fn standard_output(plan: &Plan, options: &OutputOptions) -> Result<Tables, OutputError> {
        let kind = only_kind(plan.schema())?;
        if let Some(group) = kind.fields.iter().find(|field| !field.items.is_empty()) {
            return Err(OutputError::Group { kind: kind.name.clone(), group: group.name.clone() });
        }
        Tables::new(plan, Place::StandardOutput, options)
    }

    /// One kind to a file; its groups to files beside it.
    pub(super) fn file(plan: &Plan, path: &Path, options: &OutputOptions) -> Result<Tables, OutputError> {
        only_kind(plan.schema())?;
        Tables::new(plan, Place::File(path.to_owned()), options)
    }

    /// Every kind to a file of its own in a directory, beside a table of all fields with their units.
    pub(super) fn directory(plan: &Plan, path: &Path, options: &OutputOptions) -> Result<Tables, OutputError> {
        fs::create_dir_all(path).map_err(OutputError::write(path))?;
        let mut tables = Tables::new(plan, Place::Directory(path.to_owned()), options)?;
        tables.write_fields()?;
        Ok(tables)
    }

    fn new(plan: &Plan, place: Place, options: &OutputOptions) -> Result<Tables, OutputError> {
        let mut tables = Tables::of(place, plan.schema().clone(), &options.for_plan(plan), Origin::default());
        tables.clear_the_way()?;
        if !matches!(tables.place, Place::Directory(_)) {
            // Whoever named one table gets it, also without rows.
            tables.begin_named_table()?;
        }
        Ok(tables)
    }

    fn of(place: Place, schema: Schema, options: &OutputOptions, origin: Origin) -> Tables {
        let columns = options.columns;
        let kinds = schema.kinds.iter().map(|kind| {
            let has_front = has_offset(columns, kind) || columns.source || columns.line;
            let plain = kind.fields.iter().filter(|field| field.items.is_empty()).count();
            // A row of one cell may be empty, which the usual way does not look for.
            let single = plain + usize::from(kind.has_quality()) <= 1 && !has_front && !columns.received;
            KindTables {
                has_offset: has_offset(columns, kind),
                has_front,
                has_quality: kind.has_quality(),
                is_styled: options.style != TableStyle::default() || options.times != TimeStyle::default() || single,
                records: None,
                groups: groups_of(kind).collect(),
            }
        });
        Tables {
            place,
            options: columns,
            style: options.style,
            times: options.times.clone(),
            existing: options.existing,
            in_place: options.in_place,
            fields: None,
            kinds: kinds.collect(),
            schema,
            origin,
            quality: Vec::new(),
            front: Buffer::default(),
            inner_front: Buffer::default(),
            styled: Vec::new(),
            mended: Vec::new(),
        }
    }

    /// Rows that wait for tables; of a `single` one, the plan may have one kind only.
    pub(super) fn unopened(plan: &Plan, options: &OutputOptions, single: bool) -> Result<Tables, OutputError> {
        if single {
            only_kind(plan.schema())?;
        }
        Ok(Tables::of(Place::Piece, plan.schema().clone(), &options.for_plan(plan), Origin::default()))
    }

    /// The same tables without rows, to be filled elsewhere and joined.
    pub(super) fn piece(&self) -> Tables {
        let (columns, style, times) = (self.options, self.style, self.times.clone());
        let options = OutputOptions { columns, style, times, ..OutputOptions::default() };
        Tables::of(Place::Piece, self.schema.clone(), &options, self.origin.clone())
    }

    /// The files that may be written, with what each of them is.
    fn files_of(place: &Place, schema: &Schema) -> Vec<(PathBuf, What)> {
        let mut files = Vec::new();
        for (index, kind) in schema.kinds.iter().enumerate().filter(|(_, kind)| kind.wanted) {
            files.extend(path_of(place, &kind.name, None).map(|path| (path, What::Records(index))));
            for (number, group) in groups::paths(kind).iter().enumerate() {
                let path = path_of(place, &kind.name, Some(&groups::name(kind, group)));
                files.extend(path.map(|path| (path, What::Items(index, number))));
            }
        }
        if let Place::Directory(directory) = place {
            files.push((directory.join(fields_name(schema)), What::Fields));
        }
        files
    }

    /// The files that tables of a plan may be written into.
    pub(super) fn paths(plan: &Plan, destination: &Destination) -> Result<Vec<PathBuf>, OutputError> {
        let place = match destination {
            Destination::Table(path) => {
                only_kind(plan.schema())?;
                Place::File(path.clone())
            }
            Destination::Directory(path) => Place::Directory(path.clone()),
            _ => Place::StandardOutput,
        };
        Ok(Tables::files_of(&place, plan.schema()).into_iter().map(|(path, _)| path).collect())
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
                    None => self.begin_group(index, number)?,
                };
                let result = writer.join(rows);
                self.kinds[index].groups[number].items = Some(writer);
                result?;
            }
        }
        Ok(())
    }

    /// Sees to it that no table stands where one may be written: refuses, or removes those of an earlier run, so that they are not
    /// taken for this one's. If this run goes on with them, they have to have the same columns, and a torn end is taken away.
    fn clear_the_way(&mut self) -> Result<(), OutputError> {
        let files: Vec<(PathBuf, What)> = Tables::files_of(&self.place, &self.schema);
        let files: Vec<_> = files.into_iter().filter(|(path, _)| path.exists()).collect();
        let mut torn = Vec::new();
        for (path, what) in &files {
            match self.existing {
                Existing::Refuse => return Err(OutputError::Exists { path: path.clone() }),
                Existing::Replace => {}
                Existing::Continue if !path.is_file() => {}
                Existing::Continue => {
                    let left = mend::look(path, Form::Csv).map_err(OutputError::write(path))?;
                    let expected = self.first_row(*what);
                    let same = match what {
                        What::Fields => fs::read(path).map_err(OutputError::write(path))? == expected,
                        _ => left.first.is_empty() || left.first == expected,
                    };
                    if !same {
                        let row = |row: &[u8]| String::from_utf8_lossy(row).trim_end().to_owned();
                        let (expected, found) = (row(&expected), row(&left.first));
                        return Err(OutputError::OtherColumns { path: path.clone(), expected, found });
                    }
                    torn.extend((left.end < left.length).then_some((path.clone(), left.end, left.length - left.end)));
                }
            }
        }
        if self.existing == Existing::Replace && self.in_place {
            // What is no regular file is written as it is.
            for (path, _) in files.iter().filter(|(path, _)| path.is_file()) {
                fs::remove_file(path).map_err(OutputError::write(path))?;
            }
        }
        for (path, end, bytes) in torn {
            mend::open_behind(&path, end).map_err(OutputError::write(&path))?;
            self.mended.push((path, bytes));
        }
        Ok(())
    }

    /// Files whose torn ends were taken away, and how many bytes those had.
    pub(super) fn mended(&self) -> &[(PathBuf, u64)] {
        &self.mended
    }

    fn begin_named_table(&mut self) -> Result<(), OutputError> {
        let Some(kind) = self.schema.kinds.iter().position(|kind| kind.wanted) else { return Ok(()) };
        let writer = self.begin_records(kind)?;
        self.kinds[kind].records = Some(writer);
        Ok(())
    }

    fn begin(&self, kind: &str, group: Option<&str>, what: What) -> Result<RowWriter, OutputError> {
        let (mut writer, is_new) = match path_of(&self.place, kind, group) {
            Some(path) => RowWriter::create(&path, Form::Csv, self.existing, self.in_place)?,
            None if matches!(self.place, Place::Piece) => return Ok(RowWriter::piece()),
            None => (RowWriter::standard_output(), true),
        };
        if is_new {
            let names = self.first_row(what);
            writer.put(|room: &mut TextBuffer<'_>| room.text(&names));
        }
        Ok(writer)
    }

    fn begin_records(&self, index: usize) -> Result<RowWriter, OutputError> {
        self.begin(&self.schema.kinds[index].name, None, What::Records(index))
    }

    fn begin_group(&self, index: usize, number: usize) -> Result<RowWriter, OutputError> {
        let kind = &self.schema.kinds[index];
        let name = groups::name(kind, &self.kinds[index].groups[number].path);
        self.begin(&kind.name, Some(&name), What::Items(index, number))
    }

    /// What a file begins with: the names of its columns; of the table of fields, all of it.
    fn first_row(&self, what: What) -> Vec<u8> {
        let mut out = Vec::new();
        let front = Front::Asked(self.options);
        let table = match what {
            What::Fields => {
                self.put_fields(&mut out);
                return out;
            }
            What::Records(kind) => TableColumns::records(&self.schema.kinds[kind], front),
            What::Items(kind, number) => {
                let kind = &self.schema.kinds[kind];
                let paths = groups::paths(kind);
                TableColumns::items(kind, paths.get(number).map_or(&[][..], |path| path), front)
            }
        };
        let mut row = StyledRow::new(self.style, &mut out);
        for column in &table.columns {
            // A tag may be any text.
            row.text(&if self.style.units { column.name_and_unit() } else { column.name.clone() });
        }
        row.end();
        out
    }

    pub(super) fn begin_source(&mut self, name: &str) {
        self.origin.begin_source(name);
    }

    pub(super) fn name_line(&mut self, index: usize, name: &str) {
        self.origin.name_line(index, name);
    }

    /// Puts a record. What is not plain about its readings is noted.
    #[inline]
    pub(super) fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        let index = record.kind_index();
        if self.kinds[index].records.is_none() {
            self.kinds[index].records = Some(self.begin_records(index)?);
        }
        if self.kinds[index].is_styled {
            return self.styled_record(record, notes);
        }
        let Tables { options, kinds, origin, quality, front, .. } = self;
        let kind = &mut kinds[index];
        let Some(writer) = &mut kind.records else { return Ok(()) };
        front.clear();
        if kind.has_front {
            front.put(|room: &mut TextBuffer<'_>| put_front(*options, origin, kind.has_offset, record, room));
        }
        let (front, has_quality) = (front.text(), kind.has_quality);
        writer.row(RecordRow { record, options: *options, front, quality, notes, has_quality })?;
        for number in 0..kind.groups.len() {
            self.items(record, index, number, notes)?;
        }
        Ok(())
    }

    /// The rows of a group, whose front is that of the record.
    fn items(&mut self, record: &Record<'_>, kind: usize, number: usize, notes: &mut Notes) -> Result<(), OutputError> {
        // A group that is another variant's has no table before one of that comes.
        let is_there = self.kinds[kind].groups[number].path.first();
        if is_there.is_none_or(|place| record.group_at(usize::from(*place)).is_none()) {
            return Ok(());
        }
        if self.kinds[kind].groups[number].items.is_none() {
            let writer = self.begin_group(kind, number)?;
            self.kinds[kind].groups[number].items = Some(writer);
        }
        let Tables { kinds, quality, front, inner_front, .. } = self;
        let GroupTable { items: Some(writer), has_quality, path } = &mut kinds[kind].groups[number] else {
            return Ok(());
        };
        let group = path.last().copied().unwrap_or_default();
        let front = front.text();
        if let [place] = **path {
            // Nearly always: nothing is around it.
            let Some(items) = record.group_at(usize::from(place)) else { return Ok(()) };
            let noted = notes.len();
            return writer.rows(items.len() as u64, |room: &mut TextBuffer<'_>| {
                // All of it is put again where there was too little room.
                notes.truncate(noted);
                let (row, front) = (Row { room, quality, notes }, Repeated::of(front));
                items.visit(&mut ItemRows { row, front, around: None, group, item: 0, has_quality: *has_quality });
            });
        }
        groups::each(record, path, &mut |indexes, around, items| {
            let noted = notes.len();
            inner_front.clear();
            inner_front.put(|room: &mut TextBuffer<'_>| {
                room.text(front);
                indexes.iter().for_each(|index| room.whole(u64::from(*index) + 1, b','));
            });
            let front = inner_front.text();
            writer.rows(items.len() as u64, |room: &mut TextBuffer<'_>| {
                notes.truncate(noted);
                let row = Row { room, quality, notes };
                let front = Repeated::of(front);
                items.visit(&mut ItemRows { row, front, around, group, item: 0, has_quality: *has_quality });
            })
        })
    }

    /// The rows of a record, and of its groups, in another style.
    #[inline(never)]
    fn styled_record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        let index = record.kind_index();
        for number in 0..self.kinds[index].groups.len() {
            let group = &self.kinds[index].groups[number];
            let place = group.path.first().copied().unwrap_or_default();
            if group.items.is_none() && record.group_at(usize::from(place)).is_some() {
                self.kinds[index].groups[number].items = Some(self.begin_group(index, number)?);
            }
        }
        let Tables { options, style, times, kinds, origin, styled, .. } = self;
        let KindTables { has_offset, has_quality, records, groups, .. } = &mut kinds[index];
        let shared = Shared { style: *style, times, options: *options, origin, has_offset: *has_offset };
        styled.clear();
        shared.record(record, *has_quality, notes, styled);
        if let Some(writer) = records {
            writer.row(|room: &mut TextBuffer<'_>| room.text(styled))?;
        }
        for group in groups {
            let Some(writer) = &mut group.items else { continue };
            let place = group.path.last().copied().unwrap_or_default();
            let has_quality = group.has_quality;
            groups::each(record, &group.path, &mut |indexes, around, items| {
                styled.clear();
                shared.items(record, (indexes, around, place), items, has_quality, notes, styled);
                writer.rows(items.len() as u64, |room: &mut TextBuffer<'_>| room.text(styled))
            })?;
        }
        Ok(())
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

    /// Gives the files their names. Those of an earlier run that were to be replaced are gone then, so that they are not taken for this one's.
    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        self.flush()?;
        if self.existing == Existing::Replace && !self.in_place {
            let written: Vec<PathBuf> = self.written().filter_map(RowWriter::path).collect();
            let files = Tables::files_of(&self.place, &self.schema);
            for (path, _) in files.into_iter().filter(|(path, _)| !written.contains(path) && path.is_file()) {
                fs::remove_file(&path).map_err(OutputError::write(&path))?;
            }
        }
        let kinds = self.kinds.iter_mut().flat_map(KindTables::writers_mut);
        kinds.chain(&mut self.fields).try_for_each(RowWriter::finish)
    }

    fn written(&self) -> impl Iterator<Item = &RowWriter> {
        self.kinds.iter().flat_map(KindTables::writers).chain(&self.fields)
    }

    pub(super) fn flush(&mut self) -> Result<(), OutputError> {
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
    fn write_fields(&mut self) -> Result<(), OutputError> {
        let Place::Directory(directory) = &self.place else { return Ok(()) };
        let path = directory.join(fields_name(&self.schema));
        let (mut writer, is_new) = RowWriter::create(&path, Form::Csv, self.existing, self.in_place)?;
        if is_new {
            let text = self.first_row(What::Fields);
            writer.put(|room: &mut TextBuffer<'_>| room.text(&text));
        }
        let result = writer.flush();
        self.fields = Some(writer);
        result
    }

    fn put_fields(&self, out: &mut Vec<u8>) {
        let mut put = |cells: [&str; 7]| {
            let mut row = StyledRow::new(self.style, out);
            cells.iter().for_each(|cell| row.cell(cell));
            row.end();
        };
        put(["record", "group", "field", "type", "unit", "tag", "title"]);
        let mut put_field = |kind: &str, group: &str, field: &FieldSchema| {
            let text = |text: &Option<String>| text.clone().unwrap_or_default();
            let (unit, tag, title) = (text(&field.unit), text(&field.tag), text(&field.title));
            put([kind, group, &field.name, field.value_type.word(), &unit, &tag, &title]);
        };
        for kind in self.schema.kinds.iter().filter(|kind| kind.wanted) {
            kind.fields.iter().for_each(|field| put_field_and_items(&kind.name, "", field, &mut put_field));
        }
    }
}

/// A field, and those of its items.
fn put_field_and_items(kind: &str, group: &str, field: &FieldSchema, put: &mut dyn FnMut(&str, &str, &FieldSchema)) {
    put(kind, group, field);
    let path = if group.is_empty() { field.name.clone() } else { format!("{group}.{}", field.name) };
    field.items.iter().for_each(|item| put_field_and_items(kind, &path, item, put));
}

/// What a file is.
#[derive(Clone, Copy)]
enum What {
    Records(usize),
    /// The items of one of the groups of the kind.
    Items(usize, usize),
    Fields,
}

/// The file of a kind or of one of its groups.
fn path_of(place: &Place, kind: &str, group: Option<&str>) -> Option<PathBuf> {
    match (place, group) {
        (Place::StandardOutput | Place::Piece, _) => None,
        (Place::File(path), None) => Some(path.clone()),
        (Place::File(path), Some(group)) => Some(path.with_extension(format!("{group}.csv"))),
        (Place::Directory(directory), None) => Some(directory.join(format!("{kind}.csv"))),
        (Place::Directory(directory), Some(group)) => Some(directory.join(format!("{kind}.{group}.csv"))),
    }
}

/// The file of the table of fields. Names of kinds begin with a letter, so it is no kind's.
fn fields_name(schema: &Schema) -> &'static str {
    if schema.kinds.iter().any(|kind| kind.name == "fields") { "_fields.csv" } else { "fields.csv" }
}

/// The single kind that is wanted.
pub(super) fn only_kind(schema: &Schema) -> Result<&KindSchema, OutputError> {
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
fn groups_of(kind: &KindSchema) -> impl Iterator<Item = GroupTable> {
    groups::paths(kind).into_iter().map(|path| {
        let has_quality = groups::fields(kind, &path).last().is_some_and(|field| has_quality(field));
        GroupTable { path, has_quality, items: None }
    })
}
