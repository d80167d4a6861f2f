//! The beginning of what was recorded, kept so that other declarations can be tried on it.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use crate::decoder::Decoder;
use crate::input::{Chunk, Fault, LineId, Loss};
use crate::plan::Plan;
use crate::sink::Sink;
use crate::time::Time;

/// Bytes that are kept.
const KEPT: usize = 1 << 20;

/// Chunks and losses in the order in which they came.
#[derive(Clone, Debug, Default)]
pub(super) struct Recording {
    lines: Vec<(LineId, String, u64)>,
    pieces: Vec<Piece>,
    bytes: Vec<u8>,
}

#[derive(Clone, Debug)]
enum Piece {
    Chunk { line: LineId, time: Option<Time>, bytes: Range<usize>, faults: Vec<Fault> },
    Loss { line: LineId, why: Loss, at: Option<Time> },
}

impl Recording {
    pub(super) fn line(&mut self, line: LineId, role: &str, start: u64) {
        self.lines.push((line, role.to_string(), start));
    }

    pub(super) fn chunk(&mut self, chunk: Chunk<'_>) {
        if self.is_full() {
            return;
        }
        let begin = self.bytes.len();
        self.bytes.extend_from_slice(&chunk.bytes[..chunk.bytes.len().min(KEPT - begin)]);
        let bytes = begin..self.bytes.len();
        let faults = chunk.faults.iter().filter(|fault| fault.at <= bytes.len()).copied().collect();
        self.pieces.push(Piece::Chunk { line: chunk.line, time: chunk.time, bytes, faults });
    }

    pub(super) fn loss(&mut self, line: LineId, why: Loss, at: Option<Time>) {
        if !self.is_full() {
            self.pieces.push(Piece::Loss { line, why, at });
        }
    }

    /// Whether more came than is kept.
    pub(super) fn is_full(&self) -> bool {
        self.bytes.len() >= KEPT
    }

    /// How many bytes are kept.
    pub(super) fn size(&self) -> usize {
        self.bytes.len()
    }

    /// Decodes it, or so many bytes of it, by a plan.
    pub(super) fn play<S: Sink<Error = core::convert::Infallible>>(
        &self,
        plan: &Plan,
        most: usize,
        sink: &mut S,
    ) -> Decoder {
        let mut decoder = Decoder::new(plan);
        let lines: Vec<(LineId, Option<LineId>)> =
            self.lines.iter().map(|(line, role, start)| (*line, decoder.line(role, *start))).collect();
        let played = |line: &LineId| lines.iter().find(|(known, _)| known == line).and_then(|(_, played)| *played);
        for piece in &self.pieces {
            match piece {
                Piece::Chunk { line, time, bytes, faults } => {
                    if bytes.start >= most {
                        break;
                    }
                    let bytes = bytes.start..bytes.end.min(most);
                    let faults = &faults[..faults.partition_point(|fault| fault.at <= bytes.len())];
                    let Some(line) = played(line) else { continue };
                    let chunk = Chunk { line, time: *time, bytes: &self.bytes[bytes], faults };
                    let Ok(()) = decoder.decode(chunk, sink);
                }
                Piece::Loss { line, why, at } => {
                    let Some(line) = played(line) else { continue };
                    let Ok(()) = decoder.loss(line, *why, *at).drain(sink);
                }
            }
        }
        let Ok(()) = decoder.finish().drain(sink);
        decoder
    }
}
