//! A buffered writer to a file or standard output that knows its path and counts its rows.

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
    StandardOutput(io::Stdout),
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

    /// Ends a row that was appended to the buffer.
    pub(super) fn end_row(&mut self) -> Result<(), OutputError> {
        self.rows += 1;
        if self.buffer.len() >= BUFFER { self.flush() } else { Ok(()) }
    }

    /// Writes the buffer out. What could not be written is dropped, so that a later call does not write it behind a gap.
    pub(super) fn flush(&mut self) -> Result<(), OutputError> {
        let result = match &mut self.target {
            Target::File(file) => file.write_all(&self.buffer),
            Target::StandardOutput(output) => output.write_all(&self.buffer).and_then(|()| output.flush()),
        };
        self.buffer.clear();
        result.map_err(OutputError::write(&self.path))
    }

    /// The file and its rows; nothing for standard output.
    pub(super) fn file(&self) -> Option<(PathBuf, u64)> {
        matches!(self.target, Target::File(_)).then(|| (self.path.clone(), self.rows))
    }
}
