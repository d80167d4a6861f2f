//! Ranges of a source whose bytes can be read at any place: each worker reads its own, a little at a time, so that nothing is kept.

use usus::{Chunk, Decoder, LineId, Record, Sink};

use crate::pump::PumpError;
use crate::source::{ReadAt, SourceError};

/// A range of bytes, by their offsets, and where the worker begins that decodes it.
#[derive(Clone, Copy)]
pub(super) struct Range {
    pub(super) begun: u64,
    pub(super) from: u64,
    pub(super) to: u64,
}

/// Reads bytes into room that stays.
pub(super) struct RangeReader<'a> {
    bytes: &'a dyn ReadAt,
    room: Vec<u8>,
}

/// How much is read at once: enough that calls cost nothing, little enough to stay in the processor's cache.
const ROOM: usize = 1 << 16;

impl<'a> RangeReader<'a> {
    pub(super) fn new(bytes: &'a dyn ReadAt) -> RangeReader<'a> {
        RangeReader { bytes, room: vec![0; ROOM] }
    }

    /// Brings a new decoder to where a range begins.
    pub(super) fn lead_up<E>(&mut self, range: Range, decoder: &mut Decoder) -> Result<(), PumpError<E>> {
        let Some(line) = decoder.line_amid("", range.begun) else { return Ok(()) };
        match self.decode(range.begun, range.from, line, decoder, &mut |_: &Record<'_>| {}) {
            Ok(_) => Ok(()),
            Err(PumpError::Source(error)) => Err(PumpError::Source(error)),
            Err(_) => Ok(()),
        }
    }

    /// Decodes a range. Returns how many bytes it had: fewer if the source ends in it.
    pub(super) fn play<S: Sink>(
        &mut self,
        range: Range,
        decoder: &mut Decoder,
        sink: &mut S,
    ) -> Result<u64, PumpError<S::Error>> {
        let known = decoder.lines().next();
        let Some(line) = known.or_else(|| decoder.line("", range.from)) else { return Ok(0) };
        self.decode(range.from, range.to, line, decoder, sink)
    }

    fn decode<S: Sink>(
        &mut self,
        from: u64,
        to: u64,
        line: LineId,
        decoder: &mut Decoder,
        sink: &mut S,
    ) -> Result<u64, PumpError<S::Error>> {
        let mut at = from;
        while at < to {
            let most = self.room.len().min((to - at) as usize);
            match self.bytes.read_at(&mut self.room[..most], at) {
                Ok(0) => break,
                Ok(got) => {
                    decoder.decode(Chunk::new(line, &self.room[..got]), sink).map_err(PumpError::Sink)?;
                    at += got as u64;
                }
                Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                Err(error) => return Err(PumpError::Source(SourceError::Read { at, error })),
            }
        }
        Ok(at - from)
    }
}
