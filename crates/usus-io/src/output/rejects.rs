//! The file of rejects: one JSON object a line, with all bytes.

use std::path::{Path, PathBuf};

use super::TextBuffer;
use usus::{Reject, Value};

use super::json::{mend_lines, put_string};
use super::mend::Form;
use super::options::Existing;
use super::writer::RowWriter;
use super::{Origin, OutputError, received_text};

/// Rejects and clipped bytes in JSON Lines:
///
/// ```json
/// {"class":"reject","source":"cell.bin","line":"","offset":4711,"length":13,"reason":"checksum",
///  "detail":"the checksum of a packet does not hold: it gives 1234, sent was 5678","candidates":1,"hex":"A55A08","text":"\\xa5Z\\x08"}
/// ```
///
/// `class` is `reject` or `clipped`; `received` stands where the source has times; `text` shows the bytes as text with escapes.
pub struct RejectFile {
    writer: RowWriter,
    origin: Origin,
    mended: Vec<(PathBuf, u64)>,
}

impl RejectFile {
    pub(super) fn create(path: &Path, existing: Existing, in_place: bool) -> Result<RejectFile, OutputError> {
        let mended = mend_lines(path, existing)?;
        let (writer, _) = RowWriter::create(path, Form::Lines, existing, in_place)?;
        Ok(RejectFile { writer, origin: Origin::default(), mended })
    }

    /// The file if its torn end was taken away, and how many bytes that had.
    pub(super) fn mended(&self) -> &[(PathBuf, u64)] {
        &self.mended
    }

    /// Rows that wait for a file.
    pub(super) fn unopened() -> RejectFile {
        RejectFile { writer: RowWriter::piece(), origin: Origin::default(), mended: Vec::new() }
    }

    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        self.writer.release()
    }

    pub(super) fn piece(&self) -> RejectFile {
        RejectFile { writer: RowWriter::piece(), origin: self.origin.clone(), mended: Vec::new() }
    }

    pub(super) fn join(&mut self, piece: &mut RejectFile) -> Result<(), OutputError> {
        self.writer.join(&mut piece.writer)
    }

    pub(super) fn begin_source(&mut self, name: &str) {
        self.origin.begin_source(name);
    }

    pub(super) fn name_line(&mut self, index: usize, name: &str) {
        self.origin.name_line(index, name);
    }

    pub(super) fn write(&mut self, reject: &Reject<'_>, class: &str) -> Result<(), OutputError> {
        let (source, line) = (&self.origin.source, self.origin.line(reject.line.index()));
        let detail = reject.reason.describe(reject.plan).to_string();
        let text = reject.bytes.escape_ascii().to_string();
        self.writer.row(|room: &mut TextBuffer<'_>| {
            room.text(format!("{{\"class\":\"{class}\",\"source\":").as_bytes());
            put_string(source, room);
            room.text(b",\"line\":");
            put_string(line, room);
            if let Some((first, _)) = reject.times {
                room.text(format!(",\"received\":\"{}\"", received_text(first, 9)).as_bytes());
            }
            let (offset, length) = (reject.offset, reject.bytes.len());
            room.text(format!(",\"offset\":{offset},\"length\":{length}").as_bytes());
            if !reject.frames.is_empty() {
                let ranges: Vec<String> = reject.frames.iter().map(|(at, length)| format!("[{at},{length}]")).collect();
                room.text(format!(",\"ranges\":[{}]", ranges.join(",")).as_bytes());
            }
            room.text(b",\"reason\":");
            put_string(reject.reason.word(), room);
            room.text(b",\"detail\":");
            put_string(&detail, room);
            room.text(format!(",\"candidates\":{},\"hex\":\"", reject.candidates).as_bytes());
            room.value(Value::Bytes(reject.bytes));
            room.text(b"\",\"text\":");
            put_string(&text, room);
            room.text(b"}\n");
        })
    }

    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        self.writer.finish()
    }

    pub(super) fn flush(&mut self) -> Result<(), OutputError> {
        self.writer.flush()
    }

    pub(super) fn file(&self) -> (PathBuf, u64) {
        self.writer.file().unwrap_or_default()
    }
}
