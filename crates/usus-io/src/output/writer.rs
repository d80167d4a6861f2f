//! A buffered writer to a file or standard output that knows its path and counts its rows, and pieces of it that are filled elsewhere.

use super::TextBuffer;
use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use super::mend::{self, Form, whole_rows};
use super::part::Part;
use super::{Existing, OutputError};

/// How much is gathered before it is written.
const BUFFER: usize = 1 << 16;

pub(super) struct RowWriter {
    target: Target,
    path: PathBuf,
    /// It, if it gets its name at the end only.
    part: Option<Part>,
    form: Form,
    /// Rows not yet written.
    buffer: Buffer,
    /// Rows that were put.
    rows: u64,
    /// Those of them that are in the file.
    written: u64,
}

/// Text, and room for more behind it.
#[derive(Default)]
pub(super) struct Buffer {
    bytes: Vec<u8>,
    used: usize,
}

/// Text that is put into a buffer.
pub(super) trait Put {
    /// Puts it. Called again if there was too little room.
    fn put(&mut self, room: &mut TextBuffer<'_>);
}

impl<F: FnMut(&mut TextBuffer<'_>)> Put for F {
    #[inline(always)]
    fn put(&mut self, room: &mut TextBuffer<'_>) {
        self(room);
    }
}

/// TextBuffer that a buffer has at least, once there is something in it.
const ROOM: usize = 1 << 13;

impl Buffer {
    /// Puts text behind what is there.
    #[inline]
    pub(super) fn put(&mut self, mut text: impl Put) {
        if !self.fits(&mut text) {
            self.put_again(&mut text);
        }
    }

    /// Puts text if there is room for it.
    #[inline(always)]
    fn fits(&mut self, text: &mut (impl Put + ?Sized)) -> bool {
        let mut room = TextBuffer::new(&mut self.bytes[self.used..]);
        text.put(&mut room);
        let length = room.filled();
        self.used += length.unwrap_or_default();
        length.is_some()
    }

    /// Apart from the first try: in a loop around it, all that might be put would be worked out beforehand.
    #[cold]
    #[inline(never)]
    fn put_again(&mut self, text: &mut dyn Put) {
        loop {
            self.bytes.resize((2 * self.bytes.len()).max(ROOM), 0);
            if self.fits(text) {
                return;
            }
        }
    }

    /// The text.
    pub(super) fn text(&self) -> &[u8] {
        &self.bytes[..self.used]
    }

    /// Empties it; its room stays.
    pub(super) fn clear(&mut self) {
        self.used = 0;
    }
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
    /// A writer of a file, and whether the file is new. Nothing that exists is touched unless the options say so.
    /// One that is not written in place gets its name at the end.
    pub(super) fn create(
        path: &Path,
        form: Form,
        existing: Existing,
        in_place: bool,
    ) -> Result<(RowWriter, bool), OutputError> {
        if existing == Existing::Continue && path.is_file() {
            let left = mend::look(path, form).map_err(OutputError::write(path))?;
            let file = mend::open_behind(path, left.end).map_err(OutputError::write(path))?;
            return Ok((RowWriter::new(Target::File(file), path.to_owned(), form), left.end == 0));
        }
        if !in_place && existing != Existing::Continue {
            let (part, file) = Part::create(path, existing)?;
            let writer = RowWriter::new(Target::File(file), path.to_owned(), form);
            return Ok((RowWriter { part: Some(part), ..writer }, true));
        }
        let mut options = OpenOptions::new();
        options.write(true);
        // An existing file is replaced only when asked, also if it comes into being just now.
        match existing {
            Existing::Replace => options.create(true).truncate(true),
            // A pipe or a device has nothing that could be gone on behind.
            Existing::Continue if path.exists() => &mut options,
            Existing::Refuse | Existing::Continue => options.create_new(true),
        };
        let file = options.open(path).map_err(|error| match error.kind() {
            io::ErrorKind::AlreadyExists => OutputError::Exists { path: path.to_owned() },
            _ => OutputError::write(path)(error),
        })?;
        Ok((RowWriter::new(Target::File(file), path.to_owned(), form), true))
    }

    fn new(target: Target, path: PathBuf, form: Form) -> RowWriter {
        RowWriter { target, path, part: None, form, buffer: Buffer::default(), rows: 0, written: 0 }
    }

    pub(super) fn standard_output() -> RowWriter {
        RowWriter::new(Target::StandardOutput(io::stdout()), PathBuf::from("standard output"), Form::Lines)
    }

    /// A writer that keeps all rows until [`RowWriter::join`] takes them.
    pub(super) fn piece() -> RowWriter {
        RowWriter::new(Target::Piece, PathBuf::new(), Form::Lines)
    }

    /// Writes the rows of a piece behind those that are here, and leaves it empty.
    pub(super) fn join(&mut self, piece: &mut RowWriter) -> Result<(), OutputError> {
        let (count, rows) = (std::mem::take(&mut piece.rows), piece.buffer.text());
        let result = if self.buffer.used + rows.len() < BUFFER {
            self.buffer.put(|room: &mut TextBuffer<'_>| room.text(rows));
            self.rows += count;
            Ok(())
        } else {
            self.flush().and_then(|()| {
                self.rows += count;
                self.write(rows)
            })
        };
        piece.buffer.clear();
        result
    }

    /// Puts a row, with whatever ends it.
    #[inline]
    pub(super) fn row(&mut self, row: impl Put) -> Result<(), OutputError> {
        self.rows(1, row)
    }

    /// Puts so many rows together.
    #[inline]
    pub(super) fn rows(&mut self, count: u64, rows: impl Put) -> Result<(), OutputError> {
        self.buffer.put(rows);
        self.rows += count;
        if self.buffer.used >= BUFFER && !matches!(self.target, Target::Piece) { self.flush() } else { Ok(()) }
    }

    /// Puts what is no row: the names of the columns.
    #[inline]
    pub(super) fn put(&mut self, text: impl Put) {
        self.buffer.put(text);
    }

    /// Writes the rows out. What could not be written is dropped, so that a later call does not write it behind a gap.
    pub(super) fn flush(&mut self) -> Result<(), OutputError> {
        if self.buffer.text().is_empty() {
            return Ok(());
        }
        let mut buffer = std::mem::take(&mut self.buffer);
        let result = self.write(buffer.text());
        buffer.clear();
        self.buffer = buffer;
        result
    }

    /// Writes the rows out, and gives the file its name.
    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        self.flush()?;
        self.part.as_mut().map_or(Ok(()), Part::finish)
    }

    /// Closes the file until more comes, and gives its memory back.
    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        let result = self.flush();
        if matches!(self.target, Target::File(_)) {
            self.target = Target::Released;
            self.buffer = Buffer::default();
        }
        result
    }

    fn write(&mut self, rows: &[u8]) -> Result<(), OutputError> {
        if matches!(self.target, Target::Released) {
            let path = self.part.as_ref().map_or(self.path.as_path(), Part::current);
            let file = OpenOptions::new().append(true).open(path).map_err(OutputError::write(&self.path))?;
            self.target = Target::File(file);
        }
        let result = match &mut self.target {
            Target::File(file) => write_all(file, rows),
            Target::StandardOutput(output) => {
                output.write_all(rows).and_then(|()| output.flush()).map_err(|error| (0, error))
            }
            Target::Piece | Target::Released => Ok(()),
        };
        match result {
            Ok(()) => {
                self.written = self.rows;
                Ok(())
            }
            Err((done, error)) => {
                self.keep_whole_rows(rows, done);
                Err(OutputError::write(&self.path)(error))
            }
        }
    }

    /// The rest could not be written, as on a full disk: no torn row stays, and what is in the file is what counts.
    #[cold]
    fn keep_whole_rows(&mut self, rows: &[u8], done: usize) {
        let ((all, _), (whole, end)) = (whole_rows(rows, self.form), whole_rows(&rows[..done], self.form));
        if let Target::File(file) = &mut self.target {
            // What is no regular file has no length, and keeps what it got.
            let _ = file.stream_position().and_then(|at| {
                let at = at - (done - end) as u64;
                file.set_len(at)?;
                file.seek(SeekFrom::Start(at))
            });
        }
        // The names of columns are no row.
        let names = all.saturating_sub(self.rows - self.written);
        self.rows = self.written + whole.saturating_sub(names);
        self.written = self.rows;
    }

    /// The name that the file has, or will have.
    pub(super) fn path(&self) -> Option<PathBuf> {
        matches!(self.target, Target::File(_) | Target::Released).then(|| self.path.clone())
    }

    /// The file, under the name that it has now, and its rows; nothing for standard output.
    pub(super) fn file(&self) -> Option<(PathBuf, u64)> {
        let path = self.part.as_ref().map_or(self.path.as_path(), Part::current);
        matches!(self.target, Target::File(_) | Target::Released).then(|| (path.to_owned(), self.rows))
    }
}

/// Writes all of it; if that fails, how much was written.
fn write_all(file: &mut File, mut rows: &[u8]) -> Result<(), (usize, io::Error)> {
    let length = rows.len();
    while !rows.is_empty() {
        match file.write(rows) {
            Ok(0) => return Err((length - rows.len(), io::ErrorKind::WriteZero.into())),
            Ok(count) => rows = &rows[count..],
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err((length - rows.len(), error)),
        }
    }
    Ok(())
}
