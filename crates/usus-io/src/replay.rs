//! What was recorded, played to other programs as if the device were there, or taken out as raw bytes.

use std::io::{self, Write};
use std::time::{Duration, Instant};

use usus::Time;

use crate::listen::Stop;
use crate::serve::Server;
use crate::source::{Source, SourceError, SourceEvent};

/// How often it is looked whether somebody is there, or takes more.
const TICK: Duration = Duration::from_millis(2);
/// A program that has just opened a terminal gets a moment to set it up.
const SETTLING: Duration = Duration::from_millis(50);
/// A listener may be so far behind before it is waited for, in bytes.
const BEHIND: usize = 1 << 16;
/// At the end, a listener is waited for until it has taken all, or for so long.
const LINGERS: Duration = Duration::from_secs(1);

/// How it is played.
#[derive(Clone, Debug, PartialEq)]
pub struct ReplayOptions {
    /// Which line; needed where there are several.
    pub line: Option<String>,
    /// How many times as fast as it was recorded; without an end, as fast as it is taken.
    pub speed: f64,
}

impl Default for ReplayOptions {
    fn default() -> ReplayOptions {
        ReplayOptions { line: None, speed: 1.0 }
    }
}

/// What was played.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Replayed {
    /// Bytes that were played.
    pub bytes: u64,
    /// Bytes that came back, and went nowhere.
    pub received: u64,
}

/// Why something cannot be played.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ReplayError {
    /// It cannot be read.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// It cannot be written.
    #[error("cannot write: {0}")]
    Write(io::Error),
    /// There are no times by which it could be played.
    #[error("it holds no times")]
    NoTimes,
    /// It has several lines, which must not be mixed.
    #[error("it holds several lines: {}", names.join(", "))]
    Several {
        /// Their names.
        names: Vec<String>,
    },
    /// It has no such line.
    #[error("it holds no line {wanted}; it holds {}", names.join(", "))]
    NoLine {
        /// The line that was asked for.
        wanted: String,
        /// Those that there are.
        names: Vec<String>,
    },
}

/// Plays a line to whoever is served, once somebody is there, until its end or until it is to stop. Who listens is waited for when it is behind.
///
/// # Errors
///
/// If it cannot be played; what cannot be played at all is told before anybody is waited for.
pub fn replay(
    source: &mut dyn Source,
    options: &ReplayOptions,
    server: &mut Server,
    stop: &Stop,
) -> Result<Replayed, ReplayError> {
    let at_once = options.speed.is_infinite();
    if !at_once && !source.has_times() {
        return Err(ReplayError::NoTimes);
    }
    let mut line = OneLine { source, names: Vec::new(), wanted: options.line.as_deref() };
    let mut next = line.next()?;
    while !server.is_listened_to() && !stop.is_asked_for() {
        std::thread::sleep(TICK);
    }
    std::thread::sleep(SETTLING);
    let begun = Instant::now();
    let (mut first, mut replayed) = (None::<Time>, Replayed::default());
    while let Some((time, bytes)) = next.take().filter(|_| !stop.is_asked_for()) {
        if let Some(time) = time.filter(|_| !at_once) {
            let since = time.since(*first.get_or_insert(time)).nanoseconds().max(0) as f64;
            wait(begun, Duration::from_nanos((since / options.speed) as u64), server, stop);
        }
        server.give(&bytes);
        while server.behind() > BEHIND && !stop.is_asked_for() {
            std::thread::sleep(TICK);
            server.give(&[]);
        }
        replayed.bytes += bytes.len() as u64;
        next = line.next()?;
    }
    // What was not read yet would go with the terminal.
    let mut last = (server.behind(), Instant::now());
    while server.is_listened_to() && last.1.elapsed() < LINGERS && !stop.is_asked_for() {
        std::thread::sleep(TICK);
        if server.behind() != last.0 {
            last = (server.behind(), Instant::now());
        }
        if server.is_taken() {
            break;
        }
    }
    replayed.received = server.received();
    Ok(replayed)
}

/// Writes the raw bytes of a line. Returns how many there are.
///
/// # Errors
///
/// If it cannot be read, or they cannot be written.
pub fn extract(source: &mut dyn Source, line: Option<&str>, writer: &mut dyn Write) -> Result<u64, ReplayError> {
    let mut line = OneLine { source, names: Vec::new(), wanted: line };
    let mut written = 0;
    while let Some((_, bytes)) = line.next()? {
        writer.write_all(&bytes).map_err(ReplayError::Write)?;
        written += bytes.len() as u64;
    }
    writer.flush().map_err(ReplayError::Write)?;
    Ok(written)
}

/// Bytes that came together, and when.
type Chunk = (Option<Time>, Vec<u8>);

/// One line of a source.
struct OneLine<'s> {
    source: &'s mut dyn Source,
    names: Vec<String>,
    wanted: Option<&'s str>,
}

impl OneLine<'_> {
    /// Its next chunk.
    fn next(&mut self) -> Result<Option<Chunk>, ReplayError> {
        while let Some(event) = self.source.next()? {
            match event {
                SourceEvent::Line(info) => self.names.push(info.name),
                SourceEvent::Chunk { line, time, bytes, .. } => {
                    let known = self.names.get(line);
                    match self.wanted {
                        Some(wanted) if known.is_some_and(|name| name == wanted) => {}
                        Some(_) => continue,
                        // A line may go on as another of the same name.
                        None if self.names.iter().any(|name| Some(name) != known) => {
                            return Err(ReplayError::Several { names: self.names.clone() });
                        }
                        None => {}
                    }
                    return Ok(Some((time, bytes.to_vec())));
                }
                _ => {}
            }
        }
        match self.wanted {
            Some(wanted) if !self.names.iter().any(|name| name == wanted) => {
                Err(ReplayError::NoLine { wanted: wanted.to_owned(), names: self.names.clone() })
            }
            _ => Ok(None),
        }
    }
}

/// Waits until so long after the begin, or until it is to stop; meanwhile what is left is given.
fn wait(begun: Instant, until: Duration, server: &mut Server, stop: &Stop) {
    while !stop.is_asked_for() {
        let left = until.saturating_sub(begun.elapsed());
        if left.is_zero() {
            return;
        }
        let pause = if server.behind() > 0 { TICK } else { Duration::from_millis(50) };
        std::thread::sleep(left.min(pause));
        server.give(&[]);
    }
}
