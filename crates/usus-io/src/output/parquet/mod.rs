//! Parquet: a file for each kind, its groups as lists in it, compressed with zstd.
//!
//! Numbers whose places the format fixes are exact decimals; numbers of texts, whose places vary, are doubles. Row groups are bounded, so that
//! memory does not grow with the input. A file gets its name when it is whole.

mod column;
mod fields;

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::{RecordBatch, RecordBatchOptions};
use arrow_schema::{ArrowError, Schema as ArrowSchema};
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use usus::fast::Visit;
use usus::quality::{ItemPath, Notes};
use usus::{FieldSchema, Items, LineId, Plan, Quality, Reading, Record, Schema, Value};

use super::cells::{Cell, add_quality};
use super::columns::{Front, Holds, TableColumns, free_name};
use super::options::OutputOptions;
use super::part::{self, Part};
use super::tables::only_kind;
use super::{Existing, Origin, Output, OutputError};
use column::{Column, Held};

/// So many rows are handed to the writer together.
const BATCH_ROWS: usize = 8_192;
/// A batch ends earlier if its texts take so many bytes.
const BATCH_BYTES: usize = 8 << 20;
/// No row group has more rows.
const GROUP_ROWS: usize = 131_072;
/// All row groups under way take no more memory than this: else all are ended.
const GROUP_BYTES: usize = 128 << 20;

/// Records in Parquet.
pub struct ParquetFiles {
    place: Place,
    existing: Existing,
    schema: Schema,
    kinds: Vec<Kind>,
    origin: Origin,
    /// Batches since the memory was last looked at.
    batches: u32,
    rounded: u64,
    not_held: u64,
}

enum Place {
    File(PathBuf),
    Directory(PathBuf),
}

/// The file of a kind.
struct Kind {
    arrow: Arc<ArrowSchema>,
    in_front: Vec<Holds>,
    columns: Vec<Column>,
    /// Rows in the batch.
    rows: usize,
    /// What is to be said of the row at hand.
    quality: String,
    has_quality: bool,
    file: Option<(Part, ArrowWriter<File>)>,
    /// Rows in all.
    count: u64,
}

impl ParquetFiles {
    /// One kind to a file.
    ///
    /// # Errors
    ///
    /// Several kinds; a file that is there already.
    pub fn file(plan: &Plan, path: &Path, options: &OutputOptions) -> Result<ParquetFiles, OutputError> {
        only_kind(plan.schema())?;
        part::check(path, options.existing)?;
        let mut files = ParquetFiles::new(plan, Place::File(path.to_owned()), options);
        // Whoever named one file gets it, also without rows.
        if let Some(kind) = plan.schema().kinds.iter().position(|kind| kind.wanted) {
            files.begin(kind)?;
        }
        Ok(files)
    }

    /// Every kind to a file of its own in a directory.
    ///
    /// # Errors
    ///
    /// A file that is there already; a directory that cannot be made.
    pub fn directory(plan: &Plan, path: &Path, options: &OutputOptions) -> Result<ParquetFiles, OutputError> {
        fs::create_dir_all(path).map_err(OutputError::write(path))?;
        let files = ParquetFiles::new(plan, Place::Directory(path.to_owned()), options);
        for path in files.paths() {
            part::check(&path, options.existing)?;
        }
        Ok(files)
    }

    fn new(plan: &Plan, place: Place, options: &OutputOptions) -> ParquetFiles {
        let columns = options.columns.for_plan(plan);
        let kinds = plan.schema().kinds.iter().map(|kind| {
            let table = TableColumns::records(kind, Front::Asked(columns));
            let in_front = |holds: &Holds| !matches!(holds, Holds::Field | Holds::Quality);
            let has_quality = kind.fields.iter().any(|field| field.has_quality || field.items_have_quality());
            let quality = has_quality.then(|| free_name(kind, "quality"));
            let arrow = Arc::new(fields::schema(plan.schema(), kind, &table, quality.as_deref()));
            Kind {
                columns: arrow.fields().iter().map(|field| Column::new(field.clone())).collect(),
                arrow,
                in_front: table.columns.iter().map(|column| column.holds).filter(in_front).collect(),
                rows: 0,
                quality: String::new(),
                has_quality,
                file: None,
                count: 0,
            }
        });
        ParquetFiles {
            place,
            existing: options.existing,
            kinds: kinds.collect(),
            schema: plan.schema().clone(),
            origin: Origin::default(),
            batches: 0,
            rounded: 0,
            not_held: 0,
        }
    }

    fn path(&self, kind: usize) -> PathBuf {
        match &self.place {
            Place::File(path) => path.clone(),
            Place::Directory(directory) => directory.join(format!("{}.parquet", self.schema.kinds[kind].name)),
        }
    }

    /// The files that may be written.
    fn paths(&self) -> Vec<PathBuf> {
        let wanted = self.schema.kinds.iter().enumerate().filter(|(_, kind)| kind.wanted);
        wanted.map(|(index, _)| self.path(index)).collect()
    }

    fn begin(&mut self, kind: usize) -> Result<(), OutputError> {
        let path = self.path(kind);
        let (part, file) = Part::create(&path, self.existing)?;
        let level = ZstdLevel::try_new(1).map_err(failed(&path))?;
        let properties = WriterProperties::builder()
            .set_compression(Compression::ZSTD(level))
            .set_max_row_group_row_count(Some(GROUP_ROWS))
            // Those of each page cost more than they save whoever reads.
            .set_statistics_enabled(EnabledStatistics::Chunk)
            .set_created_by(concat!("usus ", env!("CARGO_PKG_VERSION")).to_owned());
        let arrow = self.kinds[kind].arrow.clone();
        let writer = ArrowWriter::try_new(file, arrow, Some(properties.build())).map_err(failed(&path))?;
        self.kinds[kind].file = Some((part, writer));
        Ok(())
    }

    /// Hands the batch of a kind to its writer.
    fn end_batch(&mut self, kind: usize) -> Result<(), OutputError> {
        if self.kinds[kind].rows == 0 {
            return Ok(());
        }
        if self.kinds[kind].file.is_none() {
            self.begin(kind)?;
        }
        self.kinds[kind].end_batch()?;
        self.batches += 1;
        if self.batches.is_multiple_of(16) {
            let under_way = self.kinds.iter().filter_map(|kind| Some(kind.file.as_ref()?.1.memory_size()));
            if under_way.sum::<usize>() > GROUP_BYTES {
                for (part, writer) in self.kinds.iter_mut().filter_map(|kind| kind.file.as_mut()) {
                    writer.flush().map_err(failed(part.path()))?;
                }
            }
        }
        Ok(())
    }
}

/// What an error of the writer means.
fn failed(path: &Path) -> impl FnOnce(ParquetError) -> OutputError + use<> {
    let path = path.to_owned();
    move |error| {
        let error = match error {
            ParquetError::External(error) => match error.downcast::<std::io::Error>() {
                Ok(error) => *error,
                Err(error) => std::io::Error::other(error),
            },
            other => std::io::Error::other(other),
        };
        OutputError::Write { path, error }
    }
}

impl Kind {
    fn end_batch(&mut self) -> Result<(), OutputError> {
        let Some((part, writer)) = &mut self.file else { return Ok(()) };
        let failed = |error: ArrowError| failed(part.path())(error.into());
        let arrays = self.columns.iter_mut().map(Column::take).collect::<Result<Vec<_>, _>>().map_err(failed)?;
        let options = RecordBatchOptions::new().with_row_count(Some(self.rows));
        let batch = RecordBatch::try_new_with_options(self.arrow.clone(), arrays, &options).map_err(failed)?;
        self.rows = 0;
        writer.write(&batch).map_err(self::failed(part.path()))
    }
}

impl Output for ParquetFiles {
    fn begin_source(&mut self, name: &str, _stream: &str) -> Result<(), OutputError> {
        self.origin.begin_source(name);
        Ok(())
    }

    fn line(&mut self, line: LineId, name: &str) {
        self.origin.name_line(line.index(), name);
    }

    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        let index = record.kind_index();
        let Kind { columns, in_front, quality, has_quality, rows, count, .. } = &mut self.kinds[index];
        let mut misfits = Misfits::default();
        for (holds, column) in in_front.iter().zip(&mut *columns) {
            column.put(match holds {
                Holds::Source => Cell::Text(&self.origin.source),
                Holds::Line => Cell::Text(self.origin.line(record.line().index())),
                Holds::Offset => Cell::Whole(record.offset()),
                Holds::Length => Cell::Whole(record.ranges().map(|(_, length)| length).sum()),
                Holds::Item => Cell::Whole(record.item().into()),
                Holds::Received => record.received().map_or(Cell::Nothing, Cell::Time),
                _ => Cell::Nothing,
            });
        }
        quality.clear();
        let fields = &mut columns[in_front.len()..];
        let mut told = Told { quality, notes, misfits: &mut misfits };
        record.visit(&mut Fields { columns: fields, next: 0, told: &mut told, around: None, item: None });
        if *has_quality && let Some(column) = columns.last_mut() {
            column.put(if quality.is_empty() { Cell::Nothing } else { Cell::Text(quality) });
        }
        (*rows, *count) = (*rows + 1, *count + 1);
        self.rounded += misfits.rounded;
        self.not_held += misfits.not_held;
        let is_full = *rows >= BATCH_ROWS
            || (rows.is_multiple_of(16) && columns.iter().map(Column::text_bytes).sum::<usize>() >= BATCH_BYTES);
        if is_full { self.end_batch(index) } else { Ok(()) }
    }

    fn finish(&mut self) -> Result<(), OutputError> {
        for kind in 0..self.kinds.len() {
            self.end_batch(kind)?;
        }
        for kind in &mut self.kinds {
            if let Some((part, writer)) = &mut kind.file {
                writer.finish().map_err(failed(part.path()))?;
            }
        }
        if self.existing == Existing::Replace {
            // Those of an earlier run are not to be taken for this one's.
            for (path, kind) in (0..self.kinds.len()).map(|kind| (self.path(kind), &self.kinds[kind])) {
                if kind.file.is_none() && path.is_file() && matches!(self.place, Place::Directory(_)) {
                    fs::remove_file(&path).map_err(OutputError::write(&path))?;
                }
            }
        }
        self.kinds.iter_mut().filter_map(|kind| kind.file.as_mut()).try_for_each(|(part, _)| part.finish())
    }

    fn give_up(&mut self) {
        self.kinds.iter_mut().for_each(|kind| {
            if let Some((mut part, _)) = kind.file.take() {
                part.give_up();
            }
        });
    }

    fn files(&self) -> Vec<(PathBuf, u64)> {
        let files = self.kinds.iter().filter_map(|kind| Some((kind.file.as_ref()?.0.path().to_owned(), kind.count)));
        files.collect()
    }

    fn remarks(&self) -> Vec<String> {
        let mut remarks = Vec::new();
        if self.rounded > 0 {
            remarks.push(format!(
                "{} numbers have more digits than a double, and were rounded in Parquet; CSV, JSON Lines and SQLite keep all",
                self.rounded
            ));
        }
        if self.not_held > 0 {
            remarks.push(format!(
                "{} values are out of what their Parquet types hold, and are absent there: times before 1677 or after 2262, leap seconds",
                self.not_held
            ));
        }
        remarks
    }
}

/// What columns could not hold as it is.
#[derive(Default)]
struct Misfits {
    rounded: u64,
    not_held: u64,
}

/// What is told of a row beside its values.
struct Told<'o> {
    quality: &'o mut String,
    notes: &'o mut Notes,
    misfits: &'o mut Misfits,
}

/// The item that fields stand in: its group and number, and what is around that.
#[derive(Clone, Copy)]
struct Around<'a> {
    outer: Option<&'a Around<'a>>,
    group: &'a FieldSchema,
    index: usize,
}

impl Around<'_> {
    /// What a field of the item is called.
    fn path(&self, field: &str) -> String {
        let own = self.group.item_path(self.index, field);
        match self.outer {
            Some(outer) => outer.path(&own),
            None => own,
        }
    }
}

/// The fields of a record or of an item.
struct Fields<'o, 't> {
    columns: &'o mut [Column],
    next: usize,
    told: &'o mut Told<'t>,
    around: Option<&'o Around<'o>>,
    item: Option<ItemPath>,
}

impl Fields<'_, '_> {
    #[inline]
    fn put(&mut self, cell: Cell<'_>) {
        if let Some(column) = self.columns.get_mut(self.next) {
            let held = column.put(cell);
            if held != Held::Yes {
                self.misfit(held);
            }
        }
        self.next += 1;
    }

    #[cold]
    fn misfit(&mut self, held: Held) {
        match held {
            Held::Rounded => self.told.misfits.rounded += 1,
            Held::No => self.told.misfits.not_held += 1,
            Held::Yes => {}
        }
    }

    #[cold]
    fn tell(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        match self.item {
            Some(item) => self.told.notes.extend_item(item, schema, reading),
            None => self.told.notes.extend_field(schema, reading),
        }
        if reading.quality != Quality::Good {
            match self.around {
                Some(around) => add_quality(&around.path(&schema.name), reading.quality, self.told.quality),
                None => add_quality(&schema.name, reading.quality, self.told.quality),
            }
        }
    }
}

impl Visit for Fields<'_, '_> {
    #[inline]
    fn number(&mut self, schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        self.put(Cell::Number { coefficient, places });
        if quality != Quality::Good {
            self.tell(schema, Reading { value: Value::Bool(true), quality });
        }
    }

    #[inline]
    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        self.put(Cell::Value(reading.value));
        if reading.quality != Quality::Good || !reading.value.is_present() {
            self.tell(schema, reading);
        }
    }

    fn group(&mut self, schema: &FieldSchema, items: Items<'_>) {
        if let Some(column) = self.columns.get_mut(self.next) {
            for (index, item) in items.enumerate() {
                let at = index as u32;
                let path = self.item.map_or(ItemPath::new(schema.place, at), |path| path.within(schema.place, at));
                let around = Around { outer: self.around, group: schema, index };
                let (columns, told) = (column.items(), &mut *self.told);
                item.visit(&mut Fields { columns, next: 0, told, around: Some(&around), item: Some(path) });
            }
            column.end_list();
        }
        self.next += 1;
    }
}
