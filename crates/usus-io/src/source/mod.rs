//! Sources: where bytes come from.

pub(crate) mod address;
pub(crate) mod between;
pub(crate) mod capture;
pub(crate) mod clock;
pub(crate) mod dump;
mod error;
pub(crate) mod port;
pub(crate) mod raw;
mod remark;
pub(crate) mod shifted;
pub(crate) mod tcp;
mod telnet;
pub(crate) mod together;
pub(crate) mod udp;

use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};

use flate2::read::MultiGzDecoder;
use rustix::event::{PollFd, PollFlags, poll};
use usus::format::Serial;
use usus::{Fault, Loss, Span, Time};

use crate::port::{PortError, PortOptions};
use crate::record::{compressed, part};
pub(crate) use address::{Address, PortName};
use clock::Clock;
use dump::DumpLayout;
pub use error::SourceError;
pub use remark::Remark;

/// A source of bytes: one or several lines.
pub trait Source {
    /// The next thing that happened, or nothing at the end. A line is announced before its first chunk.
    ///
    /// # Errors
    ///
    /// What kept the source from being read; what was read before stays valid.
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError>;

    /// Its bytes, if they can be read at any place: those of one line without a name that begins at 0, of which nothing is known beside them.
    /// To be asked before anything else happened. Whoever takes it says himself that there is a line.
    fn anywhere(&mut self) -> Option<Anywhere<'_>> {
        None
    }

    /// The source that this one reads from and passes on, if it does. What this one does not say is as it is there.
    fn inner(&self) -> Option<&dyn Source> {
        None
    }

    /// The id of its stream, if it has one of its own.
    fn stream(&self) -> Option<&str> {
        self.inner().and_then(Source::stream)
    }

    /// Whether its chunks have times.
    fn has_times(&self) -> bool {
        self.inner().is_some_and(Source::has_times)
    }

    /// Whether its lines have names of their own.
    fn has_lines(&self) -> bool {
        self.inner().is_some_and(Source::has_lines)
    }

    /// How many bytes the source has in all, as far as that is known beforehand (of a capture, its file).
    fn size(&self) -> Option<u64> {
        self.inner().and_then(Source::size)
    }

    /// Whether it goes on as long as somebody sends, and is to be written as it comes.
    fn is_live(&self) -> bool {
        self.inner().is_some_and(Source::is_live)
    }

    /// Whether more can be had without waiting, as far as that is known.
    fn has_more(&self) -> bool {
        self.inner().is_some_and(Source::has_more)
    }

    /// What is at its end that could not be read any more.
    fn torn(&self) -> Option<Torn> {
        self.inner().and_then(Source::torn)
    }

    /// What else is to be known about what was read.
    fn remarks(&self) -> Vec<Remark> {
        self.inner().map(Source::remarks).unwrap_or_default()
    }

    /// Whether faults of characters are told.
    fn tells_faults(&self) -> bool {
        self.inner().is_some_and(Source::tells_faults)
    }

    /// Sets the line settings of a port anew; nothing where there are none to be set.
    fn set_serial(&mut self, serial: Serial) -> Option<Result<(), PortError>> {
        let _ = serial;
        None
    }
}

/// Bytes that can be read at any place, at the same time.
pub trait ReadAt: Sync {
    /// Fills as much of `buffer` as there is from an offset on, or less. Returns how much; nothing at the end.
    ///
    /// # Errors
    ///
    /// Whatever kept them from being read.
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize>;
}

impl ReadAt for File {
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        std::os::unix::fs::FileExt::read_at(self, buffer, offset)
    }
}

impl ReadAt for &[u8] {
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let rest = usize::try_from(offset).ok().and_then(|offset| self.get(offset..)).unwrap_or_default();
        let length = rest.len().min(buffer.len());
        buffer[..length].copy_from_slice(&rest[..length]);
        Ok(length)
    }
}

/// The bytes of a source that can be read at any place.
pub struct Anywhere<'s> {
    /// The bytes.
    pub bytes: &'s dyn ReadAt,
    /// How many there were when the source was opened.
    pub size: u64,
    /// The offset at which [`Source::next`] goes on.
    pub at: &'s mut u64,
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
    /// Somebody has noted something.
    Note {
        /// The line.
        line: usize,
        /// When.
        time: Option<Time>,
        /// What.
        text: String,
    },
    /// A port or a peer has gone away, and is waited for. Once it is back, a loss says so.
    Gone {
        /// The line.
        line: usize,
        /// When.
        time: Option<Time>,
    },
    /// Nothing came for a moment. The source says so now and then, so that its reader can do something else.
    Idle {
        /// What time it is where the source is live: everything that arrived until then was handed out.
        time: Option<Time>,
    },
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
    /// What it is received with, in words: the adapter.
    pub about: Option<String>,
    /// The adapter's latency timer in milliseconds.
    pub latency: Option<u32>,
    /// By how much its times are earlier than when its bytes arrived.
    pub lateness: Span,
}

impl LineInfo {
    /// A line of that name that begins at 0.
    pub fn new(name: impl Into<String>) -> LineInfo {
        LineInfo { name: name.into(), start: 0, serial: None, about: None, latency: None, lateness: Span::default() }
    }
}

/// How sources are to be opened: what goes with each kind of them.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct SourceOptions {
    /// Settings of a port.
    pub port: Option<PortOptions>,
    /// Take telnet's escapes out of what comes over TCP.
    pub telnet: bool,
    /// Ask a silent TCP peer now and then whether it is still there.
    pub keep_alive: bool,
    /// A file or standard input is text with bytes written in it, in these columns.
    pub dump: Option<DumpLayout>,
    /// Put the source's clock right: its times are moved by so much.
    pub shift: Span,
    /// How late an adapter hands on what came: all times are so much earlier.
    pub lateness: Span,
    /// The clock that says when something arrived. Sources that are to be compared share one.
    pub clock: Clock,
}

/// The end of a capture that was not written whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Torn {
    /// Offset in the file where the torn block begins.
    pub at: u64,
    /// Bytes from there on.
    pub bytes: u64,
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

/// Waits a moment for something to read.
fn is_readable(file: BorrowedFd<'_>) -> bool {
    let mut wait = [PollFd::from_borrowed_fd(file, PollFlags::IN)];
    matches!(poll(&mut wait, Some(&PATIENCE)), Ok(ready) if ready > 0)
}

/// Opens a source.
///
/// # Errors
///
/// If it cannot be opened, or a port has no settings.
pub fn open_address(address: &Address, options: &SourceOptions) -> Result<Box<dyn Source + Send>, SourceError> {
    let source: Box<dyn Source + Send> = match address {
        Address::StandardInput => open_file(Path::new("-"), options)?,
        Address::File(path) => open_file(path, options)?,
        Address::Port(names) => {
            let no_settings = || SourceError::NoSettings { port: address.to_string() };
            let port = options.port.ok_or_else(no_settings)?;
            Box::new(port::PortSource::open(names.clone(), port, options.clock.clone())?)
        }
        Address::Call(peer) => Box::new(tcp::TcpSource::call(peer, options.clone())?),
        Address::Answer(port) => Box::new(tcp::TcpSource::answer(*port, options.clone())?),
        Address::Datagrams(group, port) => Box::new(udp::UdpSource::open(group, *port, options.clock.clone())?),
    };
    let shift = options.shift.nanoseconds().saturating_sub(options.lateness.nanoseconds());
    Ok(match shift {
        0 => source,
        _ => Box::new(shifted::Shifted::new(source, Span::from_nanoseconds(shift))),
    })
}

/// Opens a file, or standard input for `-`: a capture if it begins like one, else raw bytes; either may be compressed with gzip.
///
/// # Errors
///
/// If it cannot be opened or its first bytes cannot be read.
pub fn open(path: &Path) -> Result<Box<dyn Source + Send>, SourceError> {
    open_file(path, &SourceOptions::default())
}

/// Opens a capture with the files that it goes on in, one behind the other: `tower.pcapng`, `tower.2.pcapng`, and so on, as far as they are of the same
/// stream. Each may be compressed by now.
///
/// # Errors
///
/// If one cannot be opened, or is no capture.
pub fn open_parts(first: &Path) -> Result<Box<dyn Source + Send>, SourceError> {
    let named = |path: PathBuf| if path.exists() { path } else { compressed(&path) };
    let begin = named(first.to_owned());
    let stream = open(&begin)?.stream().map(str::to_owned);
    let mut whole: Reader = open_plain(&begin)?;
    for number in 2.. {
        let next = named(part(first, number));
        if stream.is_none() || !next.exists() || open(&next)?.stream().map(str::to_owned) != stream {
            break;
        }
        whole = Box::new(whole.chain(open_plain(&next)?));
    }
    Ok(Box::new(capture::CaptureReader::new(whole, None).begun()))
}

/// What reads a file, not compressed any more.
fn open_plain(path: &Path) -> Result<Reader, SourceError> {
    let cannot_open = |error| SourceError::Open { path: path.to_owned(), error };
    let (head, reader) = open_bytes(path).and_then(|(reader, _)| peek(reader)).map_err(cannot_open)?;
    Ok(if head.starts_with(&GZIP) { Box::new(MultiGzDecoder::new(reader)) } else { reader })
}

type Reader = Box<dyn Read + Send>;

fn open_file(path: &Path, options: &SourceOptions) -> Result<Box<dyn Source + Send>, SourceError> {
    let cannot_open = |error| SourceError::Open { path: path.to_owned(), error };
    let (reader, file) = open_bytes(path).map_err(cannot_open)?;
    let (head, reader) = peek(reader).map_err(cannot_open)?;
    let (head, reader, file) = match head.starts_with(&GZIP) {
        true => {
            let (head, reader) = peek(Box::new(MultiGzDecoder::new(reader))).map_err(cannot_open)?;
            (head, reader, None)
        }
        false => (head, reader, file),
    };
    if let Some(layout) = &options.dump {
        return Ok(Box::new(dump::DumpReader::new(reader, layout.clone())));
    }
    if capture::begins_like_one(&head) {
        let size = file.map(|(_, size)| size);
        return Ok(Box::new(capture::CaptureReader::new(reader, size).begun()));
    }
    Ok(match file {
        Some((file, size)) => Box::new(raw::RawBytes::new(file, size)),
        None => Box::new(raw::RawReader::new(reader, None)),
    })
}

/// How a gzip file begins (RFC 1952).
const GZIP: [u8; 2] = [0x1F, 0x8B];

/// What reads a file or standard input; if it is a regular file, also that and its size: its bytes can be read at any place, too.
fn open_bytes(path: &Path) -> io::Result<(Reader, Option<(File, u64)>)> {
    if path == Path::new("-") {
        return Ok((Box::new(Patient(io::stdin())), None));
    }
    let file = File::open(path)?;
    let about = file.metadata()?;
    if about.is_dir() {
        return Err(io::ErrorKind::IsADirectory.into());
    }
    Ok(match about.is_file() {
        true => (Box::new(file.try_clone()?), Some((file, about.len()))),
        false => (Box::new(Patient(file)), None),
    })
}

/// The first bytes, and a reader that begins with them again.
fn peek(mut reader: Reader) -> io::Result<(Vec<u8>, Reader)> {
    let mut head = vec![0u8; 12];
    let mut got = 0;
    while got < head.len() {
        match reader.read(&mut head[got..]) {
            Ok(0) => break,
            Ok(more) => got += more,
            Err(error) if is_pause(&error) => {}
            Err(error) => return Err(error),
        }
    }
    head.truncate(got);
    let whole = io::Cursor::new(head.clone()).chain(reader);
    Ok((head, Box::new(whole)))
}
