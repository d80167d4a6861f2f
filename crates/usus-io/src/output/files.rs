//! The files that records and rejects go into.

use std::path::{Path, PathBuf};

use usus::quality::Notes;
use usus::{Decoder, LineId, Plan, Record, Reject};

#[cfg(feature = "sqlite")]
use super::Database;
#[cfg(feature = "parquet")]
use super::ParquetFiles;
#[cfg(feature = "xlsx")]
use super::Workbook;
use super::json::JsonLines;
use super::options::OutputOptions;
use super::rejects::RejectFile;
use super::tables::Tables;
use super::{Destination, Listing, Output, OutputError, Tracks};

/// The files of one conversion, or of one day of it: the records' and the rejects'.
pub(super) struct Files {
    records: Records,
    rejects: Option<RejectFile>,
}

enum Records {
    Tables(Box<Tables>),
    Json(Box<JsonLines>),
    /// One that sees all records in their order.
    Other(Box<dyn Output>),
    /// One that is written and closed: its files, and its remarks.
    Ended(Vec<(PathBuf, u64)>, Vec<String>),
    /// Nowhere: what has to see all in order is not filled in pieces.
    Nowhere,
}

impl Files {
    /// The files that may be written.
    pub(super) fn paths(
        plan: &Plan,
        destination: &Destination,
        rejects: Option<&Path>,
    ) -> Result<Vec<PathBuf>, OutputError> {
        let mut paths = match destination {
            Destination::JsonLines(path)
            | Destination::Database(path)
            | Destination::Workbook(path)
            | Destination::Tracks(_, path)
            | Destination::Parquet(path) => vec![path.clone()],
            _ => Tables::paths(plan, destination)?,
        };
        paths.extend(rejects.map(Path::to_owned));
        Ok(paths)
    }

    /// Opens the outputs. Nothing that exists is touched unless the options say so, and nothing is opened before it is known that none of them
    /// is read.
    ///
    /// # Errors
    ///
    /// What is in the way.
    pub(super) fn open(plan: &Plan, destination: &Destination, options: &OutputOptions) -> Result<Files, OutputError> {
        let paths = Files::paths(plan, destination, options.rejects.as_deref())?;
        options.protected.check(&paths)?;
        if let (Destination::StandardOutput | Destination::TableOutput | Destination::ListingOutput, Some(other)) =
            (destination, options.protected.holds(Path::new("/proc/self/fd/1")))
        {
            return Err(OutputError::IsInput { path: PathBuf::from("standard output"), other: other.to_owned() });
        }
        let records = match destination {
            Destination::StandardOutput => Records::Json(Box::new(JsonLines::standard_output(plan, options))),
            Destination::JsonLines(path) => Records::Json(Box::new(JsonLines::file(plan, path, options)?)),
            Destination::ListingOutput => Records::Other(Box::new(Listing::new(plan, std::io::stdout(), options))),
            Destination::TableOutput => Records::Tables(Box::new(Tables::standard_output(plan, options)?)),
            Destination::Table(path) => Records::Tables(Box::new(Tables::file(plan, path, options)?)),
            Destination::Directory(path) => Records::Tables(Box::new(Tables::directory(plan, path, options)?)),
            #[cfg(feature = "sqlite")]
            Destination::Database(path) => Records::Other(Box::new(Database::open(plan, path, options)?)),
            #[cfg(feature = "parquet")]
            Destination::Parquet(path) => Records::Other(Box::new(ParquetFiles::file(plan, path, options)?)),
            #[cfg(feature = "parquet")]
            Destination::ParquetDirectory(path) => {
                Records::Other(Box::new(ParquetFiles::directory(plan, path, options)?))
            }
            Destination::Tracks(form, path) => Records::Other(Box::new(Tracks::create(plan, *form, path, options)?)),
            #[cfg(feature = "xlsx")]
            Destination::Workbook(path) => Records::Other(Box::new(Workbook::create(plan, path, options)?)),
            #[cfg(not(feature = "xlsx"))]
            Destination::Workbook(path) => return Err(OutputError::NotBuilt { path: path.clone(), feature: "xlsx" }),
            #[cfg(not(feature = "parquet"))]
            Destination::Parquet(path) | Destination::ParquetDirectory(path) => {
                return Err(OutputError::NotBuilt { path: path.clone(), feature: "parquet" });
            }
            #[cfg(not(feature = "sqlite"))]
            Destination::Database(path) => return Err(OutputError::NotBuilt { path: path.clone(), feature: "sqlite" }),
        };
        let rejects = options.rejects.as_deref();
        let rejects = rejects.map(|path| RejectFile::create(path, options.existing, options.in_place)).transpose()?;
        Ok(Files { records, rejects })
    }

    /// Records into one output of whoever uses the library.
    pub(super) fn of(output: Box<dyn Output>) -> Files {
        Files { records: Records::Other(output), rejects: None }
    }

    /// Whether it may be filled in pieces at the same time.
    pub(super) fn is_divisible(&self) -> bool {
        matches!(self.records, Records::Tables(_) | Records::Json(_))
    }

    /// Whether it takes nothing more.
    pub(super) fn is_ended(&self) -> bool {
        matches!(self.records, Records::Ended(..))
    }

    /// What the output could not hold as it is.
    pub(super) fn remarks(&self) -> Vec<String> {
        match &self.records {
            Records::Other(output) => output.remarks(),
            Records::Ended(_, remarks) => remarks.clone(),
            Records::Tables(_) | Records::Json(_) | Records::Nowhere => Vec::new(),
        }
    }

    /// Files whose torn ends were taken away, and how many bytes those had.
    pub(super) fn mended(&self) -> impl Iterator<Item = &(PathBuf, u64)> {
        let records = match &self.records {
            Records::Tables(tables) => tables.mended(),
            Records::Json(json) => json.mended(),
            Records::Other(_) | Records::Ended(..) | Records::Nowhere => &[],
        };
        records.iter().chain(self.rejects.iter().flat_map(RejectFile::mended))
    }

    /// Says which source what follows comes from.
    pub(super) fn begin_source(&mut self, name: &str, stream: &str) -> Result<(), OutputError> {
        if let Some(rejects) = &mut self.rejects {
            rejects.begin_source(name);
        }
        match &mut self.records {
            Records::Tables(tables) => tables.begin_source(name),
            Records::Json(json) => json.begin_source(name),
            Records::Other(output) => output.begin_source(name, stream)?,
            Records::Ended(..) | Records::Nowhere => {}
        }
        Ok(())
    }

    /// Says that a source has come to its end.
    pub(super) fn end_source(&mut self, decoder: &Decoder) -> Result<(), OutputError> {
        match &mut self.records {
            Records::Other(output) => output.end_source(decoder),
            _ => Ok(()),
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
            Destination::StandardOutput | Destination::TableOutput | Destination::ListingOutput => {
                return Err(OutputError::NotDaily);
            }
            Destination::JsonLines(_) => Records::Json(Box::new(JsonLines::unopened(plan, options))),
            Destination::Table(_) => Records::Tables(Box::new(Tables::unopened(plan, options, true)?)),
            Destination::Directory(_) => Records::Tables(Box::new(Tables::unopened(plan, options, false)?)),
            _ => Records::Nowhere,
        };
        Ok(Files { records, rejects: options.rejects.is_some().then(RejectFile::unopened) })
    }

    /// Writes out what has come.
    pub(super) fn flush(&mut self) -> Result<(), OutputError> {
        let records = match &mut self.records {
            Records::Tables(tables) => tables.flush(),
            Records::Json(json) => json.flush(),
            Records::Other(output) => output.flush(),
            Records::Ended(..) | Records::Nowhere => Ok(()),
        };
        let rejects = self.rejects.as_mut().map_or(Ok(()), RejectFile::flush);
        records.and(rejects)
    }

    /// Ends everything under its final name.
    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        let rejects = self.rejects.as_mut().map_or(Ok(()), RejectFile::finish);
        let records = match &mut self.records {
            Records::Tables(tables) => tables.finish(),
            Records::Json(json) => json.finish(),
            Records::Other(output) => output.finish(),
            Records::Ended(..) | Records::Nowhere => Ok(()),
        };
        records.and(rejects)
    }

    /// Something went wrong: keeps what is whole of rows, and nothing of what is not.
    pub(super) fn give_up(&mut self) -> Result<(), OutputError> {
        if let Records::Other(output) = &mut self.records {
            output.give_up();
            return self.rejects.as_mut().map_or(Ok(()), RejectFile::flush);
        }
        self.flush()
    }

    /// The files written, with the number of rows in each; nothing for standard output.
    pub(super) fn files(&self) -> Vec<(PathBuf, u64)> {
        let mut files = match &self.records {
            Records::Tables(tables) => tables.files(),
            Records::Json(json) => json.files(),
            Records::Other(output) => output.files(),
            Records::Ended(files, _) => files.clone(),
            Records::Nowhere => Vec::new(),
        };
        files.extend(self.rejects.iter().map(RejectFile::file));
        files
    }

    pub(super) fn name_line(&mut self, line: LineId, name: &str) {
        match &mut self.records {
            Records::Tables(tables) => tables.name_line(line.index(), name),
            Records::Json(json) => json.name_line(line.index(), name),
            Records::Other(output) => output.line(line, name),
            Records::Ended(..) | Records::Nowhere => {}
        }
        if let Some(rejects) = &mut self.rejects {
            rejects.name_line(line.index(), name);
        }
    }

    #[inline]
    pub(super) fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        match &mut self.records {
            Records::Tables(tables) => tables.record(record, notes),
            Records::Json(json) => json.record(record, notes),
            Records::Other(output) => output.record(record, notes),
            Records::Ended(..) | Records::Nowhere => Ok(()),
        }
    }

    pub(super) fn reject(&mut self, reject: &Reject<'_>, class: &str) -> Result<(), OutputError> {
        self.rejects.as_mut().map_or(Ok(()), |rejects| rejects.write(reject, class))
    }

    /// The same without rows, to be filled elsewhere and joined.
    pub(super) fn piece(&self) -> Files {
        let records = match &self.records {
            Records::Tables(tables) => Records::Tables(Box::new(tables.piece())),
            Records::Json(json) => Records::Json(Box::new(json.piece())),
            Records::Other(_) | Records::Ended(..) | Records::Nowhere => Records::Nowhere,
        };
        Files { records, rejects: self.rejects.as_ref().map(RejectFile::piece) }
    }

    /// Nothing more is expected: what is open is closed, and opened again if something comes after all.
    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        let records = match &mut self.records {
            Records::Tables(tables) => tables.release(),
            Records::Json(json) => json.release(),
            Records::Other(output) => {
                let ended = output.finish();
                self.records = Records::Ended(output.files(), output.remarks());
                ended
            }
            Records::Ended(..) | Records::Nowhere => Ok(()),
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
