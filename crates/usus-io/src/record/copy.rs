//! Captures made of captures: a span of one, several that belong together.

use std::collections::VecDeque;
use std::fs::{self, OpenOptions};
use std::io::{self, BufWriter};
use std::path::Path;

use usus::Time;

use super::RecordError;
use crate::queue::Owned;
use crate::source::capture::{CaptureLine, CaptureWriter};
use crate::source::{LineInfo, Source, SourceError};

/// A capture that goes into another.
pub struct Original {
    /// What its line is to be called; empty: as it is called there. Of one with several lines it stands before their names.
    pub name: String,
    /// It.
    pub source: Box<dyn Source + Send>,
}

/// Why captures cannot be copied.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CopyError {
    /// One of them cannot be read.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// The copy cannot be written.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// Lines of different streams have the same name.
    #[error("lines of different recordings are called `{name}`; give them names, as in request=FILE answer=FILE")]
    SameName {
        /// It.
        name: String,
    },
}

/// What was copied.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Copied {
    /// Bytes of lines.
    pub bytes: u64,
    /// Lines.
    pub lines: usize,
    /// Bytes of torn ends that could not be read.
    pub torn: u64,
}

/// Copies captures into one that is not there yet, in the order of their times. Files of one recording become one again: a line that goes on
/// where it ended is the same line. Recordings of different streams become lines beside each other, under an id of their own.
///
/// # Errors
///
/// If one cannot be read, or the copy cannot be written: then there is none.
pub fn copy_captures(originals: Vec<Original>, path: &Path) -> Result<Copied, CopyError> {
    let cannot = |error: io::Error| {
        let path = path.to_owned();
        match error.kind() {
            io::ErrorKind::AlreadyExists => RecordError::Exists { path },
            _ => RecordError::Write { path, error },
        }
    };
    let mut readers = Vec::new();
    for original in originals {
        let mut reader =
            Reader { original, announced: VecDeque::new(), several: false, lines: Vec::new(), next: None, last: None };
        reader.advance()?;
        reader.several = reader.announced.len() > 1;
        readers.push(reader);
    }
    let mut streams: Vec<String> = Vec::new();
    for stream in readers.iter().map(Reader::stream) {
        if !streams.contains(&stream) {
            streams.push(stream);
        }
    }
    let file = OpenOptions::new().write(true).create_new(true).open(path).map_err(cannot)?;
    let copied = (|| {
        let writer = BufWriter::with_capacity(1 << 16, &file);
        let mut capture = CaptureWriter::new(writer, &streams.join(" and ")).map_err(cannot)?;
        let mut copied = Copied::default();
        let mut lines: Vec<CopiedLine> = Vec::new();
        while let Some(index) = earliest(&readers) {
            let reader = &mut readers[index];
            while let Some(info) = reader.announced.pop_front() {
                announce(reader, &info, &mut lines, &mut capture, &cannot)?;
            }
            if let Some(event) = reader.advance()? {
                write(reader, event, &mut lines, &mut capture, &mut copied).map_err(cannot)?;
            }
        }
        capture.finish().map_err(cannot)?;
        file.sync_all().map_err(cannot)?;
        copied.lines = lines.len();
        copied.torn = readers.iter().filter_map(|reader| reader.original.source.torn()).map(|torn| torn.bytes).sum();
        Ok(copied)
    })();
    if copied.is_err() {
        // Half a copy would be taken for a whole one.
        let _ = fs::remove_file(path);
    }
    copied
}

/// One that is read, as far as its next event.
struct Reader {
    original: Original,
    /// Lines that go before the next event: only then is it known whether they continue others.
    announced: VecDeque<LineInfo>,
    /// Whether it has several lines.
    several: bool,
    /// Numbers of its lines in the copy.
    lines: Vec<u32>,
    next: Option<Owned>,
    last: Option<Time>,
}

impl Reader {
    fn stream(&self) -> String {
        self.original.source.stream().unwrap_or("without an id").to_owned()
    }

    /// Reads on to the next event that matters, and returns the one before.
    fn advance(&mut self) -> Result<Option<Owned>, SourceError> {
        let next = loop {
            match self.original.source.next()?.map(Owned::of) {
                Some(Owned::Idle { .. } | Owned::Gone { .. }) => {}
                Some(Owned::Line(info)) => self.announced.push_back(info),
                next => break next,
            }
        };
        self.last = next.as_ref().and_then(Owned::time).or(self.last);
        Ok(std::mem::replace(&mut self.next, next))
    }
}

/// The number of the reader whose event is the earliest of all.
fn earliest(readers: &[Reader]) -> Option<usize> {
    let waiting = readers.iter().enumerate().filter(|(_, reader)| reader.next.is_some());
    waiting.min_by_key(|(_, reader)| reader.last).map(|(index, _)| index)
}

/// A line of the copy.
struct CopiedLine {
    name: String,
    stream: String,
    /// Stream offset of its next byte.
    end: u64,
    last: Time,
}

/// A line of an original is there: one of the copy that goes on, or a new one.
fn announce<W: io::Write>(
    reader: &mut Reader,
    info: &LineInfo,
    lines: &mut Vec<CopiedLine>,
    capture: &mut CaptureWriter<W>,
    cannot: &dyn Fn(io::Error) -> RecordError,
) -> Result<(), CopyError> {
    let called = &reader.original.name;
    let name = match (called.is_empty(), info.name.is_empty()) {
        (true, _) => info.name.clone(),
        (false, true) => called.clone(),
        (false, false) if !reader.several => called.clone(),
        (false, false) => format!("{called}/{}", info.name),
    };
    let stream = reader.stream();
    let known = lines.iter().position(|line| line.name == name && line.stream == stream && line.end == info.start);
    if let Some(number) = known {
        reader.lines.push(number as u32);
        return Ok(());
    }
    if lines.iter().any(|line| line.name == name && line.stream != stream) {
        return Err(CopyError::SameName { name });
    }
    let line = CaptureLine { name: name.clone(), ..CaptureLine::of(info) };
    reader.lines.push(capture.line(&line).map_err(cannot)?);
    lines.push(CopiedLine { name, stream, end: info.start, last: Time::from_nanoseconds(0) });
    Ok(())
}

/// Writes what happened on a line.
fn write<W: io::Write>(
    reader: &Reader,
    event: Owned,
    lines: &mut [CopiedLine],
    capture: &mut CaptureWriter<W>,
    copied: &mut Copied,
) -> io::Result<()> {
    let Some(number) = event.line().and_then(|line| reader.lines.get(line)).copied() else { return Ok(()) };
    let Some(line) = lines.get_mut(number as usize) else { return Ok(()) };
    // What has no time happened no earlier than what came before it.
    let (known, time) = (event.time(), event.time().unwrap_or(line.last));
    line.last = time;
    match event {
        Owned::Chunk { bytes, faults, .. } => {
            line.end += bytes.len() as u64;
            copied.bytes += bytes.len() as u64;
            capture.any_chunk(number, known, &bytes, &faults)
        }
        Owned::Loss { why, .. } => capture.loss(number, time, why),
        Owned::Note { text, .. } => capture.note(number, time, &text),
        _ => Ok(()),
    }
}
