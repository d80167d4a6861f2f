//! The one place where sources, the decoder and sinks meet.

use usus::{Chunk, Decoder, LineId, Sink, Time};

use crate::source::{LineInfo, Source, SourceError, SourceEvent};

/// How far the pump is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Progress {
    /// Bytes of all lines that went into the decoder.
    pub bytes: u64,
    /// Whether a port or peer has gone away and is waited for.
    pub gone: bool,
}

/// What the pump did.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Pumped {
    /// The lines of the source, by name, with their numbers in the decoder.
    pub lines: Vec<(String, LineId)>,
    /// Whether it was stopped before the end of the input.
    pub stopped: bool,
    /// Times of the first and the last chunk.
    pub times: Option<(Time, Time)>,
    /// Bytes that went into the decoder.
    pub bytes: u64,
    /// Pieces that were decoded at the same time; none if it was done on one core.
    pub pieces: u64,
    /// Those of them that did not go on where the ones before ended, and were decoded again.
    pub again: u64,
    /// Whether so many did not that the rest was decoded on one core.
    pub unjoined: bool,
}

/// Why the pump stopped.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PumpError<E> {
    /// The source cannot go on.
    #[error(transparent)]
    Source(SourceError),
    /// The sink cannot take more.
    #[error("{0}")]
    Sink(E),
    /// The source has a line that the format does not speak of.
    #[error("the format speaks of the lines {roles}; the source has a line `{line}`")]
    UnknownLine {
        /// Name of the line in the source.
        line: String,
        /// Roles of the format.
        roles: String,
    },
}

/// Carries everything from a source through a decoder into a sink, to the end of the input or until `go_on` says no. What was taken
/// in until then is decoded to its end in any case.
///
/// # Errors
///
/// The source's or the sink's first error. What the decoder had booked until then can be asked from its ledgers.
pub fn pump<S: Sink>(
    source: &mut dyn Source,
    decoder: &mut Decoder,
    sink: &mut S,
    go_on: &mut dyn FnMut(Progress) -> bool,
) -> Result<Pumped, PumpError<S::Error>> {
    let mut pumped = Pumped::default();
    pump_on(source, decoder, sink, go_on, &mut pumped)?;
    Ok(pumped)
}

/// So many bytes of small chunks are decoded together.
const TOGETHER: usize = 16 << 10;

/// Feeds chunks so that many small ones in a row on one line are decoded together, which costs less. The events and their order are the same as
/// if each was decoded by itself.
#[derive(Default)]
pub(crate) struct Feeding {
    line: Option<LineId>,
    bytes: usize,
}

impl Feeding {
    /// Feeds a chunk; what it gives may wait for more.
    #[inline]
    pub(crate) fn feed<S: Sink>(
        &mut self,
        decoder: &mut Decoder,
        chunk: Chunk<'_>,
        sink: &mut S,
    ) -> Result<(), S::Error> {
        if self.line != Some(chunk.line) {
            self.drain(decoder, sink)?;
            self.line = Some(chunk.line);
        }
        self.bytes += chunk.bytes.len();
        if self.bytes < TOGETHER && !decoder.plan().holds_frames() {
            decoder.feed(chunk);
            return Ok(());
        }
        self.bytes = 0;
        decoder.decode(chunk, sink)
    }

    /// Drains what waits.
    #[inline]
    pub(crate) fn drain<S: Sink>(&mut self, decoder: &mut Decoder, sink: &mut S) -> Result<(), S::Error> {
        self.bytes = 0;
        match self.line.take() {
            Some(line) => decoder.ready(line).drain(sink),
            None => Ok(()),
        }
    }
}

/// Goes on with a source of which some may have been pumped already.
pub(crate) fn pump_on<S: Sink>(
    source: &mut dyn Source,
    decoder: &mut Decoder,
    sink: &mut S,
    go_on: &mut dyn FnMut(Progress) -> bool,
    pumped: &mut Pumped,
) -> Result<(), PumpError<S::Error>> {
    let (mut gone, mut feeding) = (false, Feeding::default());
    // Of what is live, nothing may come for a long time after any chunk.
    let (live, mut flushed) = (source.is_live(), true);
    loop {
        if !flushed && !source.has_more() {
            flushed = true;
            feeding.drain(decoder, sink).map_err(PumpError::Sink)?;
            sink.flush().map_err(PumpError::Sink)?;
        }
        if !go_on(Progress { bytes: pumped.bytes, gone }) {
            pumped.stopped = true;
            break;
        }
        let event = match source.next() {
            Ok(event) => event,
            Err(error) => {
                // What came before it is decoded.
                feeding.drain(decoder, sink).map_err(PumpError::Sink)?;
                return Err(PumpError::Source(error));
            }
        };
        match event {
            None => break,
            Some(SourceEvent::Note { .. }) => {}
            Some(SourceEvent::Idle { time }) => {
                feeding.drain(decoder, sink).map_err(PumpError::Sink)?;
                if let Some(now) = time {
                    decoder.tick(now).drain(sink).map_err(PumpError::Sink)?;
                }
                sink.flush().map_err(PumpError::Sink)?;
            }
            Some(SourceEvent::Gone { .. }) => {
                gone = true;
                feeding.drain(decoder, sink).map_err(PumpError::Sink)?;
                sink.flush().map_err(PumpError::Sink)?;
            }
            Some(SourceEvent::Line(line)) => announce(decoder, sink, &line, pumped)?,
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                let Some((_, id)) = pumped.lines.get(line) else { continue };
                let line = *id;
                pumped.count(bytes.len(), time);
                feeding.feed(decoder, Chunk { line, time, bytes, faults }, sink).map_err(PumpError::Sink)?;
                flushed = !live;
            }
            Some(SourceEvent::Loss { line, why, time }) => {
                gone = false;
                let Some((_, id)) = pumped.lines.get(line) else { continue };
                feeding.drain(decoder, sink).map_err(PumpError::Sink)?;
                decoder.loss(*id, why, time).drain(sink).map_err(PumpError::Sink)?;
            }
        }
    }
    feeding.drain(decoder, sink).map_err(PumpError::Sink)?;
    decoder.finish().drain(sink).map_err(PumpError::Sink)
}

/// Adds a line of the source to the decoder.
pub(crate) fn announce<S: Sink>(
    decoder: &mut Decoder,
    sink: &mut S,
    line: &LineInfo,
    pumped: &mut Pumped,
) -> Result<(), PumpError<S::Error>> {
    let Some(id) = decoder.line(&line.name, line.start) else {
        let roles = decoder.plan().roles().collect::<Vec<_>>().join(", ");
        return Err(PumpError::UnknownLine { line: line.name.clone(), roles });
    };
    sink.line(id, &line.name);
    pumped.lines.push((line.name.clone(), id));
    Ok(())
}

impl Pumped {
    /// Counts a chunk.
    pub(crate) fn count(&mut self, bytes: usize, time: Option<Time>) {
        self.bytes += bytes as u64;
        if let Some(time) = time {
            let (first, last) = self.times.unwrap_or((time, time));
            self.times = Some((first.min(time), last.max(time)));
        }
    }
}
