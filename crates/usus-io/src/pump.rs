//! The one place where sources, the decoder and sinks meet.

use usus::{Chunk, Decoder, LineId, Sink};

use crate::source::{Source, SourceError, SourceEvent};

/// How far the pump is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Progress {
    /// Bytes of all lines that went into the decoder.
    pub bytes: u64,
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
    pub times: Option<(usus::Time, usus::Time)>,
    /// Bytes that went into the decoder.
    pub bytes: u64,
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
    loop {
        if !go_on(Progress { bytes: pumped.bytes }) {
            pumped.stopped = true;
            break;
        }
        match source.next().map_err(PumpError::Source)? {
            None => break,
            Some(SourceEvent::Idle) => {}
            Some(SourceEvent::Line(line)) => {
                let Some(id) = decoder.line(&line.name, line.start) else {
                    let roles = decoder.plan().roles().collect::<Vec<_>>().join(", ");
                    return Err(PumpError::UnknownLine { line: line.name, roles });
                };
                sink.line(id, &line.name);
                pumped.lines.push((line.name, id));
            }
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                let Some((_, id)) = pumped.lines.get(line) else { continue };
                pumped.bytes += bytes.len() as u64;
                if let Some(time) = time {
                    let (first, last) = pumped.times.unwrap_or((time, time));
                    pumped.times = Some((first.min(time), last.max(time)));
                }
                decoder.feed(Chunk { line: *id, time, bytes, faults }).drain(sink).map_err(PumpError::Sink)?;
            }
            Some(SourceEvent::Loss { line, why, time }) => {
                let Some((_, id)) = pumped.lines.get(line) else { continue };
                decoder.loss(*id, why, time).drain(sink).map_err(PumpError::Sink)?;
            }
        }
    }
    decoder.finish().drain(sink).map_err(PumpError::Sink)?;
    Ok(pumped)
}
