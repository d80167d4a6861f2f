//! A buffered writer to a file or standard output that knows its path and counts its rows, and pieces of it that are filled elsewhere.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use super::OutputError;

/// How much is gathered before it is written.
const BUFFER: usize = 1 << 16;

pub(super) struct RowWriter {
    target: Target,
    path: PathBuf,
    /// Rows not yet written. Formatters append to it directly.
    pub(super) buffer: Vec<u8>,
    rows: u64,
}

enum Target {
    File(File),
    /// A file that is opened again if something comes.
    Released,
    StandardOutput(io::Stdout),
    /// Another writer, which takes what is here when its turn comes.
    Piece,
}

impl RowWriter {
    pub(super) fn create(path: &Path, overwrite: bool) -> Result<RowWriter, OutputError> {
        let mut options = OpenOptions::new();
        options.write(true);
        // An existing file is replaced only when asked, also if it comes into being just now.
        if overwrite {
            options.create(true).truncate(true)
        } else {
            options.create_new(true)
        };
        let file = options.open(path).map_err(|error| match error.kind() {
            io::ErrorKind::AlreadyExists => OutputError::Exists { path: path.to_owned() },
            _ => OutputError::write(path)(error),
        })?;
        Ok(RowWriter {
            target: Target::File(file),
            path: path.to_owned(),
            buffer: Vec::with_capacity(2 * BUFFER),
            rows: 0,
        })
    }

    pub(super) fn standard_output() -> RowWriter {
        let target = Target::StandardOutput(io::stdout());
        RowWriter { target, path: PathBuf::from("standard output"), buffer: Vec::with_capacity(2 * BUFFER), rows: 0 }
    }

    /// A writer that keeps all rows until [`RowWriter::join`] takes them.
    pub(super) fn piece() -> RowWriter {
        RowWriter { target: Target::Piece, path: PathBuf::new(), buffer: Vec::new(), rows: 0 }
    }

    /// Writes the rows of a piece behind those that are here, and leaves it empty.
    pub(super) fn join(&mut self, piece: &mut RowWriter) -> Result<(), OutputError> {
        self.rows += std::mem::take(&mut piece.rows);
        let result = if self.buffer.len() + piece.buffer.len() < BUFFER {
            self.buffer.extend_from_slice(&piece.buffer);
            Ok(())
        } else {
            self.flush().and_then(|()| self.write(&piece.buffer))
        };
        piece.buffer.clear();
        result
    }

    /// Ends a row that was appended to the buffer.
    pub(super) fn end_row(&mut self) -> Result<(), OutputError> {
        self.rows += 1;
        if self.buffer.len() >= BUFFER && !matches!(self.target, Target::Piece) { self.flush() } else { Ok(()) }
    }

    /// Writes the buffer out. What could not be written is dropped, so that a later call does not write it behind a gap.
    pub(super) fn flush(&mut self) -> Result<(), OutputError> {
        if self.buffer.is_empty() {
            return Ok(());
        }
        let mut buffer = std::mem::take(&mut self.buffer);
        let result = self.write(&buffer);
        buffer.clear();
        self.buffer = buffer;
        result
    }

    /// Closes the file until more comes, and gives its memory back.
    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        let result = self.flush();
        if matches!(self.target, Target::File(_)) {
            self.target = Target::Released;
            self.buffer = Vec::new();
        }
        result
    }

    fn write(&mut self, rows: &[u8]) -> Result<(), OutputError> {
        if matches!(self.target, Target::Released) {
            let file = OpenOptions::new().append(true).open(&self.path).map_err(OutputError::write(&self.path))?;
            self.target = Target::File(file);
        }
        let result = match &mut self.target {
            Target::File(file) => file.write_all(rows),
            Target::StandardOutput(output) => output.write_all(rows).and_then(|()| output.flush()),
            Target::Piece | Target::Released => Ok(()),
        };
        result.map_err(OutputError::write(&self.path))
    }

    /// The file and its rows; nothing for standard output.
    pub(super) fn file(&self) -> Option<(PathBuf, u64)> {
        matches!(self.target, Target::File(_) | Target::Released).then(|| (self.path.clone(), self.rows))
    }
}
