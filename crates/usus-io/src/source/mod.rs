//! Sources: where bytes come from.

pub(crate) mod capture;
pub(crate) mod raw;

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use rustix::event::{PollFd, PollFlags, poll};
use usus::format::Serial;
use usus::{Fault, Loss, Time};

/// A source of bytes: one or several lines.
pub trait Source {
    /// The next thing that happened, or nothing at the end. A line is announced before its first chunk.
    ///
    /// # Errors
    ///
    /// What kept the source from being read; what was read before stays valid.
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError>;

    /// The id of its stream, if it has one of its own.
    fn stream(&self) -> Option<&str> {
        None
    }

    /// Whether its chunks have times.
    fn has_times(&self) -> bool {
        false
    }

    /// Whether its lines have names of their own.
    fn has_lines(&self) -> bool {
        false
    }

    /// How many bytes the source has in all, as far as that is known beforehand (of a capture, its file).
    fn size(&self) -> Option<u64> {
        None
    }

    /// What is at its end that could not be read any more.
    fn torn(&self) -> Option<Torn> {
        None
    }
}

/// What a source says.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum SourceEvent<'a> {
    /// There is a line. Lines count from 0 in the order in which they are announced.
    Line(LineInfo),
    /// Bytes arrived.
    Chunk {
        /// The line.
        line: usize,
        /// When.
        time: Option<Time>,
        /// The bytes.
        bytes: &'a [u8],
        /// Faults on them.
        faults: &'a [Fault],
    },
    /// Bytes are missing here.
    Loss {
        /// The line.
        line: usize,
        /// Why.
        why: Loss,
        /// When.
        time: Option<Time>,
    },
    /// Nothing came for a moment. The source says so now and then, so that its reader can do something else.
    Idle,
}

/// A line of a source.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LineInfo {
    /// Its name: its role in a format that speaks of several lines.
    pub name: String,
    /// Stream offset of its first byte.
    pub start: u64,
    /// Its settings, as far as they are known.
    pub serial: Option<Serial>,
}

impl LineInfo {
    /// A line of that name that begins at 0.
    pub fn new(name: impl Into<String>) -> LineInfo {
        LineInfo { name: name.into(), start: 0, serial: None }
    }
}

/// The end of a capture that was not written whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Torn {
    /// Offset in the file where the torn block begins.
    pub at: u64,
    /// Bytes from there on.
    pub bytes: u64,
}

/// Why a source cannot be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SourceError {
    /// It cannot be opened.
    #[error("cannot open {}: {error}", path.display())]
    Open {
        /// Its path.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
    /// It cannot be read any further.
    #[error("cannot read on at byte {at}: {error}")]
    Read {
        /// Offset in the file.
        at: u64,
        /// What the system says.
        error: io::Error,
    },
    /// It is a capture, but broken.
    #[error("not a sound capture at byte {at}: {what}")]
    Capture {
        /// Offset in the file.
        at: u64,
        /// What is wrong.
        what: &'static str,
    },
    /// It is a capture of something that is no serial line.
    #[error("interface {interface} has link type {found}; a serial line is captured with {}", capture::LINK_TYPE)]
    LinkType {
        /// Number of the interface.
        interface: usize,
        /// Its link type.
        found: u16,
    },
}

/// How long a pipe is waited for before its reader is told that nothing comes.
const PATIENCE: rustix::event::Timespec = rustix::event::Timespec { tv_sec: 0, tv_nsec: 100_000_000 };

/// A pipe or terminal that says `WouldBlock` when nothing comes for a moment: a blocked read cannot be interrupted otherwise.
struct Patient<R>(R);

impl<R: Read + AsFd> Read for Patient<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let mut wait = [PollFd::new(&self.0, PollFlags::IN)];
        match poll(&mut wait, Some(&PATIENCE)) {
            Ok(0) => Err(io::ErrorKind::WouldBlock.into()),
            Ok(_) => self.0.read(buffer),
            Err(error) => Err(error.into()),
        }
    }
}

/// Whether reading can simply be tried again.
fn is_pause(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::Interrupted | io::ErrorKind::WouldBlock)
}

/// Opens a file, or standard input for `-`: a capture if it begins like one, else raw bytes.
///
/// # Errors
///
/// If it cannot be opened or its first bytes cannot be read.
pub fn open(path: &Path) -> Result<Box<dyn Source + Send>, SourceError> {
    let cannot_open = |error| SourceError::Open { path: path.to_owned(), error };
    let (mut reader, size): (Box<dyn Read + Send>, Option<u64>) = if path == Path::new("-") {
        (Box::new(Patient(io::stdin())), None)
    } else {
        let file = File::open(path).map_err(cannot_open)?;
        let about = file.metadata().map_err(cannot_open)?;
        if about.is_dir() {
            return Err(cannot_open(io::Error::from(io::ErrorKind::IsADirectory)));
        }
        match about.is_file() {
            true => (Box::new(file), Some(about.len())),
            false => (Box::new(Patient(file)), None),
        }
    };
    let mut head = [0u8; 12];
    let mut got = 0;
    while got < head.len() {
        match reader.read(&mut head[got..]) {
            Ok(0) => break,
            Ok(more) => got += more,
            Err(error) if is_pause(&error) => {}
            Err(error) => return Err(cannot_open(error)),
        }
    }
    let whole = io::Cursor::new(head[..got].to_vec()).chain(reader);
    if capture::begins_like_one(&head[..got]) {
        let reader = BufReader::with_capacity(1 << 17, whole);
        return Ok(Box::new(capture::CaptureReader::new(reader, size)));
    }
    Ok(Box::new(raw::RawReader::new(whole, size)))
}
