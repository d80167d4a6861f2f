//! The file of rejects: one JSON object a line, with all bytes.

use std::path::{Path, PathBuf};

use usus::{Reject, Value};

use super::json::escape_json;
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
}

impl RejectFile {
    pub(super) fn create(path: &Path, overwrite: bool) -> Result<RejectFile, OutputError> {
        Ok(RejectFile { writer: RowWriter::create(path, overwrite)?, origin: Origin::default() })
    }

    /// Rows that wait for a file.
    pub(super) fn unopened() -> RejectFile {
        RejectFile { writer: RowWriter::piece(), origin: Origin::default() }
    }

    pub(super) fn release(&mut self) -> Result<(), OutputError> {
        self.writer.release()
    }

    pub(super) fn piece(&self) -> RejectFile {
        RejectFile { writer: RowWriter::piece(), origin: self.origin.clone() }
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
        let out = &mut self.writer.buffer;
        out.extend_from_slice(format!("{{\"class\":\"{class}\",\"source\":").as_bytes());
        escape_json(&self.origin.source, out);
        out.extend_from_slice(b",\"line\":");
        escape_json(self.origin.line(reject.line.index()), out);
        if let Some((first, _)) = reject.times {
            out.extend_from_slice(format!(",\"received\":\"{}\"", received_text(first, 9)).as_bytes());
        }
        let (offset, length) = (reject.offset, reject.bytes.len());
        out.extend_from_slice(format!(",\"offset\":{offset},\"length\":{length},\"reason\":").as_bytes());
        escape_json(reject.reason.word(), out);
        out.extend_from_slice(b",\"detail\":");
        escape_json(&reject.reason.describe(reject.plan).to_string(), out);
        out.extend_from_slice(format!(",\"candidates\":{},\"hex\":\"", reject.candidates).as_bytes());
        Value::Bytes(reject.bytes).append_to(out);
        out.extend_from_slice(b"\",\"text\":");
        escape_json(&reject.bytes.escape_ascii().to_string(), out);
        out.extend_from_slice(b"}\n");
        self.writer.end_row()
    }

    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        self.writer.flush()
    }

    pub(super) fn file(&self) -> (PathBuf, u64) {
        self.writer.file().unwrap_or_default()
    }
}
