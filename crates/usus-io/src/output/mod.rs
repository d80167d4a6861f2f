//! Outputs: where records go.

mod cells;
mod columns;
#[cfg(feature = "sqlite")]
mod database;
mod days;
mod files;
mod groups;
mod json;
mod listing;
mod mend;
mod options;
#[cfg(feature = "parquet")]
mod parquet;
mod part;
mod rejects;
mod rows;
mod safe;
mod styled;
mod tables;
mod text_buffer;
mod times;
mod tracks;
#[cfg(feature = "xlsx")]
mod workbook;
mod writer;

use std::borrow::Cow;
use std::error::Error;
use std::io;
use std::path::{Path, PathBuf};

use usus::quality::Notes;
use usus::{Decoder, LineId, Record};

#[cfg(feature = "parquet")]
pub use self::parquet::ParquetFiles;
#[cfg(feature = "sqlite")]
pub use database::Database;
pub use days::Outputs;
pub use json::JsonLines;
pub use listing::Listing;
pub use options::{Existing, OutputOptions, Protected, TableOptions, TableStyle};
pub use rejects::RejectFile;
pub use safe::Safe;
pub use tables::Tables;
pub use text_buffer::TextBuffer;
pub use times::{TimeStyle, Zone, received_text};
pub use tracks::{TrackForm, Tracks};
#[cfg(feature = "xlsx")]
pub use workbook::Workbook;

/// Where records are to go, told from the name that the user gives.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Destination {
    /// JSON Lines to standard output.
    StandardOutput,
    /// CSV of one kind to standard output.
    TableOutput,
    /// Aligned text of all kinds to standard output.
    ListingOutput,
    /// JSON Lines to a file.
    JsonLines(PathBuf),
    /// CSV of one kind to a file.
    Table(PathBuf),
    /// CSV of all kinds to a directory.
    Directory(PathBuf),
    /// A database in SQLite.
    Database(PathBuf),
    /// Positions of all kinds that have one.
    Tracks(TrackForm, PathBuf),
    /// A workbook in XLSX.
    Workbook(PathBuf),
    /// Parquet of one kind to a file.
    Parquet(PathBuf),
    /// Parquet of all kinds to a directory.
    ParquetDirectory(PathBuf),
}

impl Destination {
    /// The destination of that name: `-` is standard output, `.jsonl` and `.csv` are files, `csv:-` is CSV to standard output, and a
    /// name without an ending is a directory.
    ///
    /// # Errors
    ///
    /// An ending that means nothing.
    pub fn named(name: &Path) -> Result<Destination, OutputError> {
        if name == Path::new("-") {
            return Ok(Destination::StandardOutput);
        }
        if name == Path::new("csv:-") {
            return Ok(Destination::TableOutput);
        }
        if let Some(directory) = name.to_str().and_then(|name| name.strip_prefix("parquet:")) {
            if directory.is_empty() {
                return Err(OutputError::UnknownEnding { path: name.to_owned() });
            }
            return Ok(Destination::ParquetDirectory(PathBuf::from(directory)));
        }
        if name == Path::new("table:-") {
            return Ok(Destination::ListingOutput);
        }
        match name.extension().and_then(|ending| ending.to_str()) {
            _ if name.is_dir() => Ok(Destination::Directory(name.to_owned())),
            Some("jsonl") => Ok(Destination::JsonLines(name.to_owned())),
            Some("csv") => Ok(Destination::Table(name.to_owned())),
            Some("geojson") => Ok(Destination::Tracks(TrackForm::GeoJson, name.to_owned())),
            Some("gpx") => Ok(Destination::Tracks(TrackForm::Gpx, name.to_owned())),
            Some("kml") => Ok(Destination::Tracks(TrackForm::Kml, name.to_owned())),
            Some("xlsx") => Ok(Destination::Workbook(name.to_owned())),
            Some("parquet") => Ok(Destination::Parquet(name.to_owned())),
            Some("sqlite" | "sqlite3" | "db") => Ok(Destination::Database(name.to_owned())),
            None => Ok(Destination::Directory(name.to_owned())),
            Some(_) => Err(OutputError::UnknownEnding { path: name.to_owned() }),
        }
    }
}

impl Destination {
    /// Whether it is text, row by row: such can be filled in pieces.
    pub fn is_text(&self) -> bool {
        use Destination::{Directory, JsonLines, StandardOutput, Table, TableOutput};
        matches!(self, StandardOutput | TableOutput | JsonLines(_) | Table(_) | Directory(_))
    }

    /// The directory that its files stand in; nothing for standard output.
    pub fn directory(&self) -> Option<&Path> {
        match self {
            Destination::StandardOutput | Destination::TableOutput | Destination::ListingOutput => None,
            Destination::Directory(path) | Destination::ParquetDirectory(path) => Some(path),
            Destination::JsonLines(path)
            | Destination::Table(path)
            | Destination::Database(path)
            | Destination::Workbook(path)
            | Destination::Tracks(_, path)
            | Destination::Parquet(path) => path.parent(),
        }
    }

    /// The same with the date of a day in its name: `tables/2026-11-25/`, `tower.2026-11-25.csv`. Standard output has no name.
    pub fn on(&self, date: &str) -> Option<Destination> {
        match self {
            Destination::StandardOutput | Destination::TableOutput | Destination::ListingOutput => None,
            Destination::JsonLines(path) => Some(Destination::JsonLines(dated(path, date))),
            Destination::Table(path) => Some(Destination::Table(dated(path, date))),
            Destination::Directory(path) => Some(Destination::Directory(path.join(date))),
            Destination::Database(path) => Some(Destination::Database(dated(path, date))),
            Destination::Workbook(path) => Some(Destination::Workbook(dated(path, date))),
            Destination::Tracks(form, path) => Some(Destination::Tracks(*form, dated(path, date))),
            Destination::Parquet(path) => Some(Destination::Parquet(dated(path, date))),
            Destination::ParquetDirectory(path) => Some(Destination::ParquetDirectory(path.join(date))),
        }
    }
}

impl Destination {
    /// The dates in the names of what is there of it.
    fn dates(&self) -> Vec<String> {
        match self {
            Destination::StandardOutput | Destination::TableOutput | Destination::ListingOutput => Vec::new(),
            Destination::Directory(path) | Destination::ParquetDirectory(path) => {
                names_in(path).into_iter().filter(|name| begins_with_date(name)).collect()
            }
            Destination::JsonLines(path)
            | Destination::Table(path)
            | Destination::Database(path)
            | Destination::Tracks(_, path)
            | Destination::Workbook(path)
            | Destination::Parquet(path) => dates_of(path),
        }
    }
}

/// The dates in the names of the files that are there for each day, where this would be the one without a date.
fn dates_of(path: &Path) -> Vec<String> {
    let directory = path.parent().filter(|directory| !directory.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    let names = names_in(directory).into_iter();
    let date = |name: String| Some(name.strip_prefix(&*stem)?.strip_prefix('.')?.rsplit_once('.')?.0.to_owned());
    names.filter_map(date).filter(|date| begins_with_date(date)).collect()
}

fn names_in(directory: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(directory).into_iter().flatten().flatten();
    entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect()
}

fn begins_with_date(name: &str) -> bool {
    let is_digit = |at: usize, byte: u8| if matches!(at, 4 | 7) { byte == b'-' } else { byte.is_ascii_digit() };
    name.len() >= 10 && name.bytes().take(10).enumerate().all(|(at, byte)| is_digit(at, byte))
}

/// A file's name with a date before its ending.
fn dated(path: &Path, date: &str) -> PathBuf {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    let ending = path.extension().map_or(String::new(), |ending| format!(".{}", ending.to_string_lossy()));
    path.with_file_name(format!("{stem}.{date}{ending}"))
}

/// Why an output cannot be written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum OutputError {
    /// The name's ending means no kind of output.
    #[error("{} has an ending that is no kind of output; .csv, .jsonl, .sqlite, .xlsx, .parquet, .geojson, .gpx, .kml and a directory are", path.display())]
    UnknownEnding {
        /// The name.
        path: PathBuf,
    },
    /// Something is there already.
    #[error("{} exists already; --overwrite replaces it, --append goes on in it", path.display())]
    Exists {
        /// Its path.
        path: PathBuf,
    },
    /// An output would be written over something that is read.
    #[error("{} is read itself, as {}; write to another place", path.display(), other.display())]
    IsInput {
        /// The output.
        path: PathBuf,
        /// The input, as it was named.
        other: PathBuf,
    },
    /// Two outputs are the same file.
    #[error("{} would be written by two outputs; give each a file of its own", path.display())]
    Twice {
        /// The file.
        path: PathBuf,
    },
    /// What is there cannot be gone on with.
    #[error("{} has other columns than what would be put behind them: {found} instead of {expected}; write to another place", path.display())]
    OtherColumns {
        /// The file.
        path: PathBuf,
        /// The columns that it would have to have.
        expected: String,
        /// Those that it has.
        found: String,
    },
    /// A database cannot be opened or written.
    #[error("cannot write {}: {why}", path.display())]
    Database {
        /// The file.
        path: PathBuf,
        /// What is the matter.
        why: String,
    },
    /// What is in a database does not go together with what would be put beside it.
    #[error("{} does not fit the format {format} as it is now: {differences}; write to another file", path.display())]
    OtherSchema {
        /// The file.
        path: PathBuf,
        /// The format.
        format: String,
        /// What is different.
        differences: String,
    },
    /// A file that is written whole cannot be gone on with.
    #[error("{} is there, and is of a kind that is written whole: it cannot be gone on in; --overwrite replaces it", path.display())]
    NotContinued {
        /// Its path.
        path: PathBuf,
    },
    /// No record of the format says where it is.
    #[error("no record of the format {format} has the fields {looked_for}; --position LATITUDE,LONGITUDE names others")]
    NoPosition {
        /// The format.
        format: String,
        /// The names that were looked for.
        looked_for: String,
    },
    /// This program was built without an output.
    #[error("{} cannot be written: this program was built without the feature `{feature}`", path.display())]
    NotBuilt {
        /// The file.
        path: PathBuf,
        /// The feature of `usus-io` that it needs.
        feature: &'static str,
    },
    /// What an output of one's own says.
    #[error("{0}")]
    Other(Box<dyn Error + Send + Sync>),
    /// Several kinds of record do not go into one table.
    #[error(
        "the format has the records {kinds}, and one table holds only one; name it with --records, or give a directory (for Parquet, parquet:DIR)"
    )]
    SeveralKinds {
        /// The kinds.
        kinds: String,
    },
    /// Groups need tables of their own, and there is no place for them.
    #[error(
        "{kind} has the group {group}, which needs a table of its own; give a directory, or leave it out with --fields"
    )]
    Group {
        /// The kind.
        kind: String,
        /// The group.
        group: String,
    },
    /// What is written day by day needs a name of its own for each.
    #[error("standard output cannot be divided into days; name a directory or a file")]
    NotDaily,
    /// The system refuses.
    #[error("cannot write {}: {error}", path.display())]
    Write {
        /// The file.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
}

/// What the records of a conversion are written into. Only records have to be dealt with; a closure over records that may fail is an output, too.
///
/// ```
/// use usus::{Format, Record};
/// use usus_io::{Output, Outputs, RawReader, pump};
///
/// let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]")?;
/// let plan = format.compile()?;
/// let heavy = |record: &Record<'_>| match record.get("weight").and_then(|reading| reading.value.to_f64()) {
///     Some(weight) if weight > 100.0 => Err(format!("{weight} is too heavy")),
///     _ => Ok(()),
/// };
/// let mut outputs = Outputs::of(&plan, Box::new(heavy));
/// let mut source = RawReader::new(&b"12.5\n113\n"[..], None);
/// let ended = pump(&mut source, &mut usus::Decoder::new(&plan), &mut outputs, &mut |_| true);
/// assert_eq!(ended.unwrap_err().to_string(), "113 is too heavy");
/// # Ok::<(), usus::Problems>(())
/// ```
pub trait Output: Send {
    /// Is told which source what follows comes from: its name for people, and the id of its stream.
    ///
    /// # Errors
    ///
    /// Whatever the output cannot do; so in all of these.
    fn begin_source(&mut self, _name: &str, _stream: &str) -> Result<(), OutputError> {
        Ok(())
    }

    /// Is told what a line is called.
    fn line(&mut self, _line: LineId, _name: &str) {}

    /// Takes a record. What is not plain about its readings is to be noted; [`Notes::extend_record`] does that.
    ///
    /// # Errors
    ///
    /// Whatever the output cannot do.
    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError>;

    /// Is told that a source has come to its end, with the decoder that has decoded it.
    ///
    /// # Errors
    ///
    /// Whatever the output cannot do.
    fn end_source(&mut self, _decoder: &Decoder) -> Result<(), OutputError> {
        Ok(())
    }

    /// Writes out what it has gathered: nothing more comes for the moment.
    ///
    /// # Errors
    ///
    /// Whatever the output cannot do.
    fn flush(&mut self) -> Result<(), OutputError> {
        Ok(())
    }

    /// Writes everything, and gives it its final name. Called once, at the end.
    ///
    /// # Errors
    ///
    /// Whatever the output cannot do.
    fn finish(&mut self) -> Result<(), OutputError> {
        self.flush()
    }

    /// Called instead at the end if something went wrong: what is not whole is to be taken away.
    fn give_up(&mut self) {}

    /// The files written, with the number of rows in each.
    fn files(&self) -> Vec<(PathBuf, u64)> {
        Vec::new()
    }

    /// What it could not hold as it is, for people: at the end.
    fn remarks(&self) -> Vec<String> {
        Vec::new()
    }
}

impl<E, F> Output for F
where
    E: Into<Box<dyn Error + Send + Sync>>,
    F: FnMut(&Record<'_>) -> Result<(), E> + Send,
{
    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        notes.extend_record(record);
        self(record).map_err(|error| OutputError::Other(error.into()))
    }
}

impl OutputError {
    pub(crate) fn write(path: &Path) -> impl FnOnce(io::Error) -> OutputError + use<> {
        let path = path.to_owned();
        move |error| OutputError::Write { path, error }
    }

    /// Whether the reader of a pipe went away.
    pub fn is_closed_pipe(&self) -> bool {
        matches!(self, OutputError::Write { error, .. } if error.kind() == io::ErrorKind::BrokenPipe)
    }
}

/// A text that is put again and again. Nearly always it is no longer than `N` bytes: a block of fixed size is copied faster.
struct Repeated<'t, const N: usize> {
    block: [u8; N],
    length: usize,
    /// The text, if it is longer.
    long: Cow<'t, [u8]>,
}

impl<'t, const N: usize> Repeated<'t, N> {
    fn of(text: impl Into<Cow<'t, [u8]>>) -> Repeated<'t, N> {
        let (mut block, text) = ([0; N], text.into());
        match block.get_mut(..text.len()) {
            Some(start) => {
                start.copy_from_slice(&text);
                Repeated { block, length: text.len(), long: Cow::Borrowed(&[]) }
            }
            None => Repeated { block, length: 0, long: text },
        }
    }

    #[inline(always)]
    fn put(&self, room: &mut TextBuffer<'_>) {
        if self.length > 0 { room.block(&self.block, self.length) } else { room.text(&self.long) }
    }
}

/// Whether a text is printable ASCII without either of two characters, told eight characters at a time. Nearly every text is.
#[inline]
fn is_bare(text: &[u8], without: [u8; 2]) -> bool {
    if let Some(last) = text.last_chunk::<8>() {
        return text.as_chunks::<8>().0.iter().chain([last]).all(|eight| are_bare(*eight, without));
    }
    // What is not there counts as something harmless, and what is there twice does not matter.
    let mut eight = [b'0'; 8];
    if let (Some(first), Some(last)) = (text.first_chunk::<4>(), text.last_chunk::<4>()) {
        eight[..4].copy_from_slice(first);
        eight[4..].copy_from_slice(last);
    } else if let (Some(first), Some(last)) = (text.first(), text.last()) {
        (eight[0], eight[1], eight[2]) = (*first, text[text.len() / 2], *last);
    }
    are_bare(eight, without)
}

/// Puts a flag and a comma behind it. Flags of instruments are hard to guess: both words are there, and one is taken.
#[inline(always)]
fn put_flag(flag: bool, room: &mut TextBuffer<'_>) {
    let words = [u64::from_le_bytes(*b"false,\0\0"), u64::from_le_bytes(*b"true,\0\0\0")];
    room.block(&words[usize::from(flag)].to_le_bytes(), 6 - usize::from(flag));
}

#[inline(always)]
fn are_bare(eight: [u8; 8], without: [u8; 2]) -> bool {
    let all = |byte: u8| u64::from_ne_bytes([byte; 8]);
    let word = u64::from_ne_bytes(eight);
    // The top bit of a byte is set by a sum if the byte is large enough; no sum runs over into the next byte.
    let low = word & all(0x7F);
    let printable = (low + all(0x80 - b' ')) & !(low + all(1)) & !word;
    let others = without.map(|byte| {
        let other = low ^ all(byte);
        other + all(0x7F)
    });
    printable & others[0] & others[1] & all(0x80) == all(0x80)
}

/// Names of the source and lines that records come from.
#[derive(Clone, Debug, Default)]
struct Origin {
    source: String,
    lines: Vec<String>,
}

impl Origin {
    fn begin_source(&mut self, name: &str) {
        name.clone_into(&mut self.source);
        self.lines.clear();
    }

    fn name_line(&mut self, index: usize, name: &str) {
        if self.lines.len() <= index {
            self.lines.resize(index + 1, String::new());
        }
        name.clone_into(&mut self.lines[index]);
    }

    fn line(&self, line: usize) -> &str {
        self.lines.get(line).map_or("", String::as_str)
    }
}
