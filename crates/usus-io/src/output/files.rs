//! The files that records and rejects go into.

use std::path::{Path, PathBuf};

use usus::quality::Notes;
use usus::{Plan, Record, Reject};

use super::json::JsonLines;
use super::options::OutputOptions;
use super::rejects::RejectFile;
use super::tables::Tables;
use super::{Destination, OutputError};

/// The files of one conversion, or of one day of it: the records' and the rejects'.
pub(super) struct Files {
    records: Records,
    rejects: Option<RejectFile>,
}

enum Records {
    Tables(Tables),
    Json(JsonLines),
}

impl Files {
    /// Opens the outputs. Nothing that exists is touched unless the options say so, and nothing is opened before it is known that none of them
    /// is read.
    ///
    /// # Errors
    ///
    /// What is in the way.
    pub(super) fn open(plan: &Plan, destination: &Destination, options: &OutputOptions) -> Result<Files, OutputError> {
        let mut paths = match destination {
            Destination::JsonLines(path) => vec![path.clone()],
            _ => Tables::paths(plan, destination)?,
        };
        paths.extend(options.rejects.clone());
        options.protected.check(&paths)?;
        if let (Destination::StandardOutput | Destination::TableOutput, Some(other)) =
            (destination, options.protected.holds(Path::new("/proc/self/fd/1")))
        {
            return Err(OutputError::IsInput { path: PathBuf::from("standard output"), other: other.to_owned() });
        }
        let records = match destination {
            Destination::StandardOutput => Records::Json(JsonLines::standard_output(plan, options)),
            Destination::JsonLines(path) => Records::Json(JsonLines::file(plan, path, options)?),
            Destination::TableOutput => Records::Tables(Tables::standard_output(plan, options)?),
            Destination::Table(path) => Records::Tables(Tables::file(plan, path, options)?),
            Destination::Directory(path) => Records::Tables(Tables::directory(plan, path, options)?),
        };
        let rejects = options.rejects.as_deref();
        let rejects = rejects.map(|path| RejectFile::create(path, options.existing)).transpose()?;
        Ok(Files { records, rejects })
    }

    /// Files whose torn ends were taken away, and how many bytes those had.
    pub(super) fn mended(&self) -> impl Iterator<Item = &(PathBuf, u64)> {
        let records = match &self.records {
            Records::Tables(tables) => tables.mended(),
            Records::Json(json) => json.mended(),
        };
        records.iter().chain(self.rejects.iter().flat_map(RejectFile::mended))
    }

    /// Says which source what follows comes from.
    pub(super) fn begin_source(&mut self, name: &str) {
        match &mut self.records {
            Records::Tables(tables) => tables.begin_source(name),
            Records::Json(json) => json.begin_source(name),
        }
        if let Some(rejects) = &mut self.rejects {
            rejects.begin_source(name);
        }
    }

    /// A piece of files that are not open yet, in which rows wait for them.
    ///
    /// # Errors
    ///
    /// If the destination cannot take what the plan gives.
    pub(super) fn unopened(
        plan: &Plan,
        destination: &Destination,
        options: &OutputOptions,
    ) -> Result<Files, OutputError> {
        let records = match destination {
            Destination::StandardOutput | Destination::TableOutput => return Err(OutputError::NotDaily),
            Destination::JsonLines(_) => Records::Json(JsonLines::unopened(plan, options.columns)),
            Destination::Table(_) => Records::Tables(Tables::unopened(plan, options, true)?),
            Destination::Directory(_) => Records::Tables(Tables::unopened(plan, options, false)?),
        };
        Ok(Files { records, rejects: options.rejects.is_some().then(RejectFile::unopened) })
    }

    /// Writes everything out. To be called once at the end, also after an error.
    ///
    /// # Errors
    ///
    /// What the system says.
    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        let records = match &mut self.records {
            Records::Tables(tables) => tables.finish(),
            Records::Json(json) => json.finish(),
        };
        let rejects = self.rejects.as_mut().map_or(Ok(()), RejectFile::finish);
        records.and(rejects)
    }

    /// The files written, with the number of rows in each; nothing for standard output.
    pub(super) fn files(&self) -> Vec<(PathBuf, u64)> {
        let mut files = match &self.records {
            Records::Tables(tables) => tables.files(),
            Records::Json(json) => json.files(),
        };
        files.extend(self.rejects.iter().map(RejectFile::file));
        files
    }

    pub(super) fn name_line(&mut self, index: usize, name: &str) {
        match &mut self.records {
            Records::Tables(tables) => tables.name_line(index, name),
            Records::Json(json) => json.name_line(index, name),
        }
        if let Some(rejects) = &mut self.rejects {
            rejects.name_line(index, name);
        }
    }

    #[inline]
    pub(super) fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        match &mut self.records {
            Records::Tables(tables) => tables.record(record, notes),
            Records::Json(json) => json.record(record, notes),
        }
    }

    pub(super) fn reject(&mut self, reject: &Reject<'_>, class: &str) -> Result<(), OutputError> {
        self.rejects.as_mut().map_or(Ok(()), |rejects| rejects.write(reject, class))
    }

    /// The same without rows, to be filled elsewhere and joined.
    pub(super) fn piece(&self) -> Files {
        let records = match &self.records {
            Records::Tables(tables) => Records::Tables(tables.piece()),
            Records::Json(json) => Records::Json(json.piece()),
        };
        Files { records, rejects: self.rejects.as_ref().map(RejectFile::piece) }
    }

    /// Nothing more is expected: what is open is closed, and opened again if something comes after all.
    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        let records = match &mut self.records {
            Records::Tables(tables) => tables.release(),
            Records::Json(json) => json.release(),
        };
        let rejects = self.rejects.as_mut().map_or(Ok(()), RejectFile::release);
        records.and(rejects)
    }

    /// Puts the rows of a piece behind those that are here, and leaves it empty.
    pub(super) fn join(&mut self, piece: &mut Files) -> Result<(), OutputError> {
        match (&mut self.records, &mut piece.records) {
            (Records::Tables(tables), Records::Tables(piece)) => tables.join(piece)?,
            (Records::Json(json), Records::Json(piece)) => json.join(piece)?,
            // A piece is made by what it is joined to.
            _ => {}
        }
        match (&mut self.rejects, &mut piece.rejects) {
            (Some(rejects), Some(piece)) => rejects.join(piece),
            _ => Ok(()),
        }
    }
}
