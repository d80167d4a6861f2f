//! Recording lines into captures that can be trusted: nothing is overwritten, what is written stays readable whatever happens, a full disk
//! is waited out.
//!
//! Whole blocks gather in memory and go into the file together, twice a second; what was only half written, because the disk is
//! full, is cut off again. So a file ends with a whole block at any time, but for a power failure in the middle of a write, and such a torn
//! end is cut off when the capture is continued.

mod compress;
mod copy;
mod parts;
mod recorded_source;

use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::fs::FlockOperation;
use usus::format::Serial;
use usus::{Fault, Loss, Span, Time};

use crate::port::holders_of;
use crate::source::capture::{CaptureLine, CaptureReader, CaptureWriter, PACKET};
use crate::source::{LineInfo, Source, SourceError, SourceEvent};

pub(crate) use compress::compressed;
pub use copy::{Copied, CopyError, Original, copy_captures};
pub use parts::Rotation;
pub(crate) use parts::part;
pub use recorded_source::RecordedSource;

/// What is gathered is written at least so often…
const WRITTEN_EVERY: Duration = Duration::from_millis(500);
/// …or once it is so much…
const WRITTEN_FROM: usize = 1 << 16;
/// …and forced onto the disk at least so often.
const FORCED_EVERY: Duration = Duration::from_secs(8);
/// It is looked so often whether the file is still there.
const SEEN_EVERY: Duration = Duration::from_secs(1);
/// While nothing can be written, so much is kept; then bytes are lost, and booked as lost.
const KEPT: usize = 8 << 20;

/// A line to be recorded.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct RecordedLine {
    /// Its name; a capture of several lines tells them apart by it.
    pub name: String,
    /// Its settings.
    pub serial: Option<Serial>,
    /// The adapter, in words.
    pub about: Option<String>,
    /// The adapter's latency timer in milliseconds.
    pub latency: Option<u32>,
    /// By how much the times are earlier than when the bytes arrived.
    pub lateness: Span,
}

impl RecordedLine {
    /// A line of that name.
    pub fn new(name: impl Into<String>) -> RecordedLine {
        RecordedLine { name: name.into(), ..RecordedLine::default() }
    }

    fn in_capture(&self, base: u64) -> CaptureLine {
        CaptureLine {
            name: self.name.clone(),
            serial: self.serial.map(|serial| serial.to_string()),
            base,
            about: self.about.clone(),
            latency: self.latency,
            lateness: self.lateness,
        }
    }
}

/// Why something cannot be recorded.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RecordError {
    /// The file is there already.
    #[error("{} is there already, and captures are never overwritten; continue it with --append, or name another", path.display())]
    Exists {
        /// Its path.
        path: PathBuf,
    },
    /// Somebody else records into the file.
    #[error("{} is being recorded into by {}", path.display(), by.as_deref().unwrap_or("another program"))]
    Busy {
        /// Its path.
        path: PathBuf,
        /// The program and its number, if that can be seen.
        by: Option<String>,
    },
    /// The capture is of other lines.
    #[error("{} cannot be continued: it is a capture of {found}, and this would be one of {wanted}", path.display())]
    Other {
        /// Its path.
        path: PathBuf,
        /// Its lines.
        found: String,
        /// The lines at hand.
        wanted: String,
    },
    /// The file to be continued is no sound capture.
    #[error("{} cannot be continued: {error}", path.display())]
    Unsound {
        /// Its path.
        path: PathBuf,
        /// Why.
        error: SourceError,
    },
    /// The file was deleted while it was recorded into.
    #[error("{} was deleted while it was recorded into: nothing of it can be had any more", path.display())]
    Deleted {
        /// Its path.
        path: PathBuf,
    },
    /// The system does not let it be written.
    #[error("cannot write {}: {error}", path.display())]
    Write {
        /// Its path.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
}

/// Whether what is recorded is on its way to the disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Standing {
    /// Bytes of lines that were recorded.
    pub bytes: u64,
    /// Bytes of lines that could not be kept: the disk was full for too long.
    pub lost: u64,
    /// Places at which bytes are missing: ports that were away, overruns, bytes that could not be kept.
    pub losses: u64,
    /// Whether the disk takes nothing at the moment.
    pub full: bool,
}

/// Records into one file.
pub struct Recorder {
    path: PathBuf,
    file: File,
    /// Bytes of the file that are whole blocks.
    written: u64,
    blocks: CaptureWriter<Vec<u8>>,
    lines: Vec<Recorded>,
    stream: String,
    standing: Standing,
    last_written: Instant,
    last_forced: Instant,
    last_time: Time,
    /// Notes that wait for their line.
    early: Vec<(usize, Time, String)>,
    last_seen: Instant,
    deleted: bool,
}

struct Recorded {
    line: RecordedLine,
    /// Stream offset of its next byte.
    offset: u64,
    /// Whether bytes of it could not be kept.
    lossy: bool,
}

impl Recorder {
    /// Begins a capture in a file that must not be there yet. `stream` is its id: captures that go on under another name have the same.
    ///
    /// # Errors
    ///
    /// If the file is there, or cannot be made.
    pub fn create(path: &Path, stream: &str, lines: &[RecordedLine]) -> Result<Recorder, RecordError> {
        Recorder::create_at(path, stream, lines.iter().map(|line| (line.clone(), 0)).collect())
    }

    fn create_at(path: &Path, stream: &str, lines: Vec<(RecordedLine, u64)>) -> Result<Recorder, RecordError> {
        let file = OpenOptions::new().read(true).write(true).create_new(true).open(path).map_err(|error| {
            let path = path.to_owned();
            match error.kind() {
                io::ErrorKind::AlreadyExists => RecordError::Exists { path },
                _ => RecordError::Write { path, error },
            }
        })?;
        Recorder::begin(path, file, 0, stream, lines)
    }

    /// Continues a capture of the same lines with the same settings. A torn end is cut off, and that bytes are missing between then and now
    /// is recorded.
    ///
    /// # Errors
    ///
    /// If it is no sound capture, or one of other lines, or somebody is recording into it.
    pub fn append(path: &Path, lines: &[RecordedLine], now: Time) -> Result<Recorder, RecordError> {
        let cannot = |error| RecordError::Write { path: path.to_owned(), error };
        let file = OpenOptions::new().read(true).write(true).open(path).map_err(cannot)?;
        lock(path, &file)?;
        let held = hold(&file).map_err(|error| RecordError::Unsound { path: path.to_owned(), error })?;
        let same = held.lines.len() == lines.len()
            && held
                .lines
                .iter()
                .zip(lines)
                .all(|((info, _), line)| info.name == line.name && info.serial == line.serial);
        if !same {
            let wanted = described(lines.iter().map(|line| (line.name.as_str(), line.serial)));
            let found = described(held.lines.iter().map(|(info, _)| (info.name.as_str(), info.serial)));
            return Err(RecordError::Other { path: path.to_owned(), found, wanted });
        }
        let lines = lines.iter().zip(&held.lines).map(|(line, (_, offset))| (line.clone(), *offset)).collect();
        file.set_len(held.whole).map_err(cannot)?;
        let mut recorder = Recorder::begin(path, file, held.whole, &held.stream, lines)?;
        for line in 0..recorder.lines.len() {
            recorder.loss(line, now, Loss::Gap);
        }
        // What is missing from before is no loss of this recording.
        recorder.standing = Standing::default();
        Ok(recorder)
    }

    fn begin(
        path: &Path,
        file: File,
        written: u64,
        stream: &str,
        lines: Vec<(RecordedLine, u64)>,
    ) -> Result<Recorder, RecordError> {
        lock(path, &file)?;
        let cannot = |error| RecordError::Write { path: path.to_owned(), error };
        let mut blocks = CaptureWriter::new(Vec::new(), stream).map_err(cannot)?;
        for (line, base) in &lines {
            blocks.line(&line.in_capture(*base)).map_err(cannot)?;
        }
        let now = Instant::now();
        let mut recorder = Recorder {
            path: path.to_owned(),
            file,
            written,
            blocks,
            lines: lines.into_iter().map(|(line, offset)| Recorded { line, offset, lossy: false }).collect(),
            stream: stream.to_owned(),
            standing: Standing::default(),
            last_written: now,
            last_forced: now,
            last_time: Time::from_nanoseconds(0),
            early: Vec::new(),
            last_seen: now,
            deleted: false,
        };
        // That it can be written at all is to be known at once.
        recorder.write().map_err(cannot)?;
        Ok(recorder)
    }

    /// Adds a line that was not known when it began; its number is that of the lines before it.
    pub fn line(&mut self, line: RecordedLine) {
        // Writing into memory does not fail.
        let _ = self.blocks.line(&line.in_capture(0));
        self.lines.push(Recorded { line, offset: 0, lossy: false });
        for (line, time, text) in std::mem::take(&mut self.early) {
            self.note(line, time, &text);
        }
    }

    /// Its lines.
    pub fn lines(&self) -> impl ExactSizeIterator<Item = &RecordedLine> {
        self.lines.iter().map(|recorded| &recorded.line)
    }

    /// Goes on in another file: the same stream, the same lines, offsets that continue.
    ///
    /// # Errors
    ///
    /// If this one cannot be ended or the other cannot be made: then this one goes on.
    pub fn go_on_in(&mut self, path: &Path) -> Result<(), RecordError> {
        let cannot = |path: &Path| {
            let path = path.to_owned();
            move |error| RecordError::Write { path, error }
        };
        self.write().map_err(cannot(&self.path))?;
        let lines = self.lines.iter().map(|line| (line.line.clone(), line.offset)).collect();
        let mut next = Recorder::create_at(path, &self.stream, lines)?;
        if let Err(error) = self.file.sync_all() {
            let _ = std::fs::remove_file(path);
            return Err(cannot(&self.path)(error));
        }
        (next.standing, next.last_time, next.early) = (self.standing, self.last_time, std::mem::take(&mut self.early));
        *self = next;
        Ok(())
    }

    /// Records a chunk. Lines count from 0 in the order in which they were given.
    pub fn chunk(&mut self, line: usize, time: Time, bytes: &[u8], faults: &[Fault]) {
        let Some(recorded) = self.lines.get_mut(line) else { return };
        self.last_time = time;
        if self.blocks.writer_mut().len() > KEPT {
            self.standing.lost += bytes.len() as u64;
            recorded.lossy = true;
            return;
        }
        if std::mem::take(&mut recorded.lossy) {
            self.standing.losses += 1;
            let _ = self.blocks.loss(line as u32, time, Loss::Gap);
        }
        recorded.offset += bytes.len() as u64;
        self.standing.bytes += bytes.len() as u64;
        // Writing into memory does not fail.
        let _ = self.blocks.chunk(line as u32, time, bytes, faults);
        if self.blocks.writer_mut().len() >= WRITTEN_FROM && !self.standing.full {
            self.tick();
        }
    }

    /// Records that bytes are missing.
    pub fn loss(&mut self, line: usize, time: Time, why: Loss) {
        if line >= self.lines.len() {
            return;
        }
        self.standing.losses += 1;
        let _ = self.blocks.loss(line as u32, time, why);
    }

    /// Records a note about a line. One of a line that is not there yet waits for it.
    pub fn note(&mut self, line: usize, time: Time, text: &str) {
        if line >= self.lines.len() {
            return self.early.push((line, time, text.to_owned()));
        }
        let _ = self.blocks.note(line as u32, time, text);
    }

    /// Writes what is due. It is to be called several times a second, also when nothing comes.
    pub fn tick(&mut self) {
        // A full disk is asked again only so often.
        let much = !self.standing.full && self.blocks.writer_mut().len() >= WRITTEN_FROM;
        let due = much || self.last_written.elapsed() >= WRITTEN_EVERY;
        if due {
            self.standing.full = self.write().is_err();
        }
        if self.last_forced.elapsed() >= FORCED_EVERY {
            self.last_forced = Instant::now();
            self.standing.full |= self.file.sync_data().is_err();
        }
    }

    /// Writes what there is, unless the disk is full.
    pub fn write_now(&mut self) {
        if !self.standing.full {
            self.standing.full = self.write().is_err();
        }
    }

    /// How it stands.
    pub fn standing(&self) -> Standing {
        self.standing
    }

    /// Bytes of the file so far, with what is on its way.
    pub fn size(&mut self) -> u64 {
        self.written + self.blocks.writer_mut().len() as u64
    }

    /// The stream offset at which a line goes on, if there is one of that number.
    pub(crate) fn offset(&self, line: usize) -> Option<u64> {
        self.lines.get(line).map(|line| line.offset)
    }

    /// The id of its stream.
    pub fn stream(&self) -> &str {
        &self.stream
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Ends it, with everything on the disk. What is recorded afterwards is no part of it.
    ///
    /// # Errors
    ///
    /// If the last of it cannot be written.
    pub fn finish(&mut self) -> Result<Standing, RecordError> {
        for line in 0..self.lines.len() {
            if std::mem::take(&mut self.lines[line].lossy) {
                self.standing.losses += 1;
                let _ = self.blocks.loss(line as u32, self.last_time, Loss::Gap);
            }
        }
        let path = self.path.clone();
        let cannot = |error| RecordError::Write { path, error };
        if let Err(error) = self.write().and_then(|()| self.file.sync_all()) {
            self.give_up();
            return Err(cannot(error));
        }
        // Others may go on with it now.
        let _ = rustix::fs::flock(&self.file, FlockOperation::Unlock);
        Ok(self.standing)
    }

    /// Writes all blocks; of those that do not fit, none is torn: they wait.
    fn write(&mut self) -> io::Result<()> {
        self.last_written = Instant::now();
        let pending = self.blocks.writer_mut();
        if pending.is_empty() {
            return Ok(());
        }
        let (mut done, mut result) = (0, self.file.seek(SeekFrom::Start(self.written)).map(|_| ()));
        while result.is_ok() && done < pending.len() {
            match self.file.write(&pending[done..]) {
                Ok(0) => result = Err(io::ErrorKind::WriteZero.into()),
                Ok(count) => done += count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => result = Err(error),
            }
        }
        let whole = blocks(pending).map(|block| block.end).take_while(|end| *end <= done).last().unwrap_or(0);
        self.written += whole as u64;
        pending.drain(..whole);
        if result.is_err() {
            let _ = self.file.set_len(self.written);
        }
        result
    }

    /// Books what waits to be written as lost: it never will be.
    fn give_up(&mut self) {
        let pending = self.blocks.writer_mut();
        let bytes: u64 = blocks(pending).map(|block| block.line_bytes).sum();
        pending.clear();
        self.standing.bytes -= bytes.min(self.standing.bytes);
        self.standing.lost += bytes;
        self.standing.losses += u64::from(bytes > 0);
    }

    /// Whether the file is still there. One that was deleted takes all that is written, and nobody will ever see it.
    pub(crate) fn is_deleted(&mut self) -> bool {
        if self.last_seen.elapsed() >= SEEN_EVERY {
            self.last_seen = Instant::now();
            self.deleted = rustix::fs::fstat(&self.file).is_ok_and(|about| about.st_nlink == 0);
        }
        self.deleted
    }
}

/// A block that waits to be written: where it ends, and how many bytes of a line it holds.
struct Pending {
    end: usize,
    line_bytes: u64,
}

/// The blocks that wait to be written.
fn blocks(pending: &[u8]) -> impl Iterator<Item = Pending> {
    let word = |at: usize| pending.get(at..at + 4).and_then(|word| word.try_into().ok()).map_or(0, u32::from_le_bytes);
    let mut at = 0;
    std::iter::from_fn(move || {
        let length = word(at + 4) as usize;
        (length > 0).then(|| {
            let line_bytes = if word(at) == PACKET { word(at + 20).into() } else { 0 };
            at += length;
            Pending { end: at, line_bytes }
        })
    })
}

impl Drop for Recorder {
    /// What is gathered is not lost with it.
    fn drop(&mut self) {
        let _ = self.write();
    }
}

/// What is in a capture that is to be continued.
struct Held {
    stream: String,
    lines: Vec<(LineInfo, u64)>,
    whole: u64,
}

fn hold(mut file: &File) -> Result<Held, SourceError> {
    let rewind = |mut file: &File| file.seek(SeekFrom::Start(0)).map_err(|error| SourceError::Read { at: 0, error });
    rewind(file)?;
    let mut reader = CaptureReader::new(&mut file, None);
    let mut lines: Vec<(LineInfo, u64)> = Vec::new();
    while let Some(event) = reader.next()? {
        match event {
            SourceEvent::Line(info) => lines.push((info.clone(), info.start)),
            SourceEvent::Chunk { line, bytes, .. } => {
                if let Some((_, offset)) = lines.get_mut(line) {
                    *offset += bytes.len() as u64;
                }
            }
            _ => {}
        }
    }
    let whole = reader.whole();
    Ok(Held { stream: reader.stream().unwrap_or_default().to_owned(), lines, whole })
}

fn lock(path: &Path, file: &File) -> Result<(), RecordError> {
    match rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive) {
        Err(rustix::io::Errno::WOULDBLOCK) => {
            let others = holders_of(path).into_iter().filter(|process| process.id != std::process::id());
            let by = others.map(|process| format!("{} (process {})", process.name, process.id)).next();
            Err(RecordError::Busy { path: path.to_owned(), by })
        }
        // File systems that know no locks.
        _ => Ok(()),
    }
}

fn described<'l>(lines: impl Iterator<Item = (&'l str, Option<Serial>)>) -> String {
    let line = |(name, serial): (&str, Option<Serial>)| {
        let name = if name.is_empty() { "one line" } else { name };
        serial.map_or(name.to_owned(), |serial| format!("{name} ({serial})"))
    };
    lines.map(line).collect::<Vec<_>>().join(" and ")
}
