//! Outputs: where records go.

mod json;
mod rejects;
mod tables;
mod writer;

use std::io;
use std::path::{Path, PathBuf};

use usus::{LineId, Notice, Plan, Record, Reject, Sink, Time};

use crate::pieces::Pieces;

pub use json::{JsonLines, escape_json};
pub use rejects::RejectFile;
pub use tables::{TableOptions, Tables};

/// Where records are to go, told from the name that the user gives.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Destination {
    /// JSON Lines to standard output.
    StandardOutput,
    /// CSV of one kind to standard output.
    TableOutput,
    /// JSON Lines to a file.
    JsonLines(PathBuf),
    /// CSV of one kind to a file.
    Table(PathBuf),
    /// CSV of all kinds to a directory.
    Directory(PathBuf),
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
        match name.extension().and_then(|ending| ending.to_str()) {
            _ if name.is_dir() => Ok(Destination::Directory(name.to_owned())),
            Some("jsonl") => Ok(Destination::JsonLines(name.to_owned())),
            Some("csv") => Ok(Destination::Table(name.to_owned())),
            None => Ok(Destination::Directory(name.to_owned())),
            Some(_) => Err(OutputError::UnknownEnding { path: name.to_owned() }),
        }
    }
}

/// Why an output cannot be written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum OutputError {
    /// The name's ending means no kind of output.
    #[error("{} has an ending that is no kind of output; .csv, .jsonl and a directory are", path.display())]
    UnknownEnding {
        /// The name.
        path: PathBuf,
    },
    /// Something is there already.
    #[error("{} exists already; it is replaced only with --overwrite", path.display())]
    Exists {
        /// Its path.
        path: PathBuf,
    },
    /// Several kinds of record do not go into one table.
    #[error(
        "the format has the records {kinds}, and one table holds only one; name it with --records, or give a directory"
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
    /// The system refuses.
    #[error("cannot write {}: {error}", path.display())]
    Write {
        /// The file.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
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

/// All outputs of one conversion: the records' and the rejects'.
pub struct Outputs {
    records: Records,
    rejects: Option<RejectFile>,
}

enum Records {
    Tables(Tables),
    Json(JsonLines),
}

impl Outputs {
    /// Opens the outputs. Nothing that exists is touched unless `overwrite` says so.
    ///
    /// # Errors
    ///
    /// What is in the way.
    pub fn open(
        plan: &Plan,
        destination: &Destination,
        options: TableOptions,
        rejects: Option<&Path>,
        overwrite: bool,
    ) -> Result<Outputs, OutputError> {
        let records = match destination {
            Destination::StandardOutput => Records::Json(JsonLines::standard_output(plan, options)),
            Destination::JsonLines(path) => Records::Json(JsonLines::file(plan, path, options, overwrite)?),
            Destination::TableOutput => Records::Tables(Tables::standard_output(plan, options)?),
            Destination::Table(path) => Records::Tables(Tables::file(plan, path, options, overwrite)?),
            Destination::Directory(path) => Records::Tables(Tables::directory(plan, path, options, overwrite)?),
        };
        let rejects = rejects.map(|path| RejectFile::create(path, overwrite)).transpose()?;
        Ok(Outputs { records, rejects })
    }

    /// Says which source what follows comes from.
    pub fn begin_source(&mut self, name: &str) {
        match &mut self.records {
            Records::Tables(tables) => tables.begin_source(name),
            Records::Json(json) => json.begin_source(name),
        }
        if let Some(rejects) = &mut self.rejects {
            rejects.begin_source(name);
        }
    }

    /// Writes everything out. To be called once at the end, also after an error.
    ///
    /// # Errors
    ///
    /// What the system says.
    pub fn finish(&mut self) -> Result<(), OutputError> {
        let records = match &mut self.records {
            Records::Tables(tables) => tables.finish(),
            Records::Json(json) => json.finish(),
        };
        let rejects = self.rejects.as_mut().map_or(Ok(()), RejectFile::finish);
        records.and(rejects)
    }

    /// The files written, with the number of rows in each; nothing for standard output.
    pub fn files(&self) -> Vec<(PathBuf, u64)> {
        let mut files = match &self.records {
            Records::Tables(tables) => tables.files(),
            Records::Json(json) => json.files(),
        };
        files.extend(self.rejects.iter().map(RejectFile::file));
        files
    }
}

impl Sink for Outputs {
    type Error = OutputError;

    fn line(&mut self, line: LineId, name: &str) {
        match &mut self.records {
            Records::Tables(tables) => tables.name_line(line.index(), name),
            Records::Json(json) => json.name_line(line.index(), name),
        }
        if let Some(rejects) = &mut self.rejects {
            rejects.name_line(line.index(), name);
        }
    }

    fn record(&mut self, record: &Record<'_>) -> Result<(), OutputError> {
        match &mut self.records {
            Records::Tables(tables) => tables.record(record),
            Records::Json(json) => json.record(record),
        }
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), OutputError> {
        self.rejects.as_mut().map_or(Ok(()), |rejects| rejects.write(reject, "reject"))
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), OutputError> {
        self.rejects.as_mut().map_or(Ok(()), |rejects| rejects.write(clipped, "clipped"))
    }

    fn notice(&mut self, _notice: &Notice<'_>) -> Result<(), OutputError> {
        Ok(())
    }
}

impl Pieces for Outputs {
    type Piece = Outputs;

    fn piece(&self) -> Outputs {
        let records = match &self.records {
            Records::Tables(tables) => Records::Tables(tables.piece()),
            Records::Json(json) => Records::Json(json.piece()),
        };
        Outputs { records, rejects: self.rejects.as_ref().map(RejectFile::piece) }
    }

    fn join(&mut self, piece: Outputs) -> Result<(), OutputError> {
        match (&mut self.records, &piece.records) {
            (Records::Tables(tables), Records::Tables(piece)) => tables.join(piece)?,
            (Records::Json(json), Records::Json(piece)) => json.join(piece)?,
            // A piece is made by what it is joined to.
            _ => {}
        }
        match (&mut self.rejects, &piece.rejects) {
            (Some(rejects), Some(piece)) => rejects.join(piece),
            _ => Ok(()),
        }
    }
}

/// A time as outputs show it: ISO 8601 in UTC with so many digits of a second, at most nine; the rest is cut off.
pub fn received_text(time: Time, digits: usize) -> String {
    let mut text = time.to_string();
    // "….123456789Z": the point and the unwanted digits stand before the Z.
    text.truncate(text.len() - 1 - (9 - digits.min(9)));
    if digits == 0 {
        text.pop();
    }
    text.push('Z');
    text
}

/// Whether all bytes are such, told eight at a time.
#[inline(always)]
fn all(bytes: &[u8], such: impl Fn(u8) -> bool) -> bool {
    let (eights, rest) = bytes.as_chunks::<8>();
    eights.iter().all(|eight| eight.iter().fold(true, |all, byte| all & such(*byte)))
        && rest.iter().all(|byte| such(*byte))
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
