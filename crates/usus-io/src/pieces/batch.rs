//! Batches: what came from a source, kept for a worker. Any source can be cut so.

use std::ops::Range;

use usus::{Chunk, Decoder, Fault, LineId, Loss, Record, Sink, Time};

use super::PieceOptions;
use crate::pump::{Feeding, Progress, PumpError, Pumped, announce};
use crate::source::{Source, SourceEvent};

/// What keeps a batch of very small chunks small.
const MOST_EVENTS: usize = 32 << 10;

/// What came from a source, kept.
#[derive(Default)]
pub(super) struct Batch {
    events: Vec<BatchEvent>,
    bytes: Vec<u8>,
    faults: Vec<Fault>,
    /// Where the worker of the next batch begins.
    run_up: RunUp,
}

/// A place in a batch a little before its end.
#[derive(Default)]
struct RunUp {
    event: usize,
    /// How many bytes of its chunk come before.
    skipped: usize,
    /// The lines that there are, with the offsets of their next bytes.
    lines: Vec<(String, u64)>,
}

enum BatchEvent {
    Line { name: String, start: u64 },
    Chunk { line: usize, time: Option<Time>, bytes: Range<usize>, faults: Range<usize> },
    Loss { line: usize, why: Loss, time: Option<Time> },
}

impl Batch {
    /// Forgets what is in it; its room stays.
    pub(super) fn clear(&mut self) {
        self.events.clear();
        self.bytes.clear();
        self.faults.clear();
    }

    /// Brings a decoder to where the next batch begins.
    pub(super) fn lead_up(&self, decoder: &mut Decoder) {
        let RunUp { event, skipped, lines } = &self.run_up;
        for (name, offset) in lines {
            decoder.line_amid(name, *offset);
        }
        let Ok(()) = self.play_from(*event, *skipped, decoder, &mut |_: &Record<'_>| {});
    }

    /// Feeds all that was kept.
    pub(super) fn play<S: Sink>(&self, decoder: &mut Decoder, sink: &mut S) -> Result<(), S::Error> {
        self.play_from(0, 0, decoder, sink)
    }

    /// Feeds what was kept from an event on, less the first bytes of its chunk.
    fn play_from<S: Sink>(
        &self,
        from: usize,
        mut skipped: usize,
        decoder: &mut Decoder,
        sink: &mut S,
    ) -> Result<(), S::Error> {
        let mut lines: Vec<LineId> = decoder.lines().collect();
        let mut feeding = Feeding::default();
        for event in &self.events[from..] {
            match event {
                // That the format speaks of the line was seen when it was kept.
                BatchEvent::Line { name, start } => lines.extend(decoder.line(name, *start)),
                BatchEvent::Chunk { line, time, bytes, faults } => {
                    let (bytes, faults) = (&self.bytes[bytes.start + skipped..bytes.end], &self.faults[faults.clone()]);
                    let behind: Vec<Fault>;
                    let faults = match std::mem::take(&mut skipped) {
                        0 => faults,
                        skipped => {
                            let behind_it = faults.iter().filter(|fault| fault.at >= skipped);
                            behind = behind_it.map(|fault| Fault { at: fault.at - skipped, ..*fault }).collect();
                            &behind
                        }
                    };
                    feeding.feed(decoder, Chunk { line: lines[*line], time: *time, bytes, faults }, sink)?;
                }
                BatchEvent::Loss { line, why, time } => {
                    feeding.drain(decoder, sink)?;
                    decoder.loss(lines[*line], *why, *time).drain(sink)?;
                }
            }
        }
        feeding.drain(decoder, sink)
    }

    /// Says that the worker of the next batch begins at least so many bytes before the end, if there are as many. `lines` are those at the
    /// end, with the offsets of their next bytes.
    pub(super) fn set_run_up(&mut self, before: usize, lines: &[(String, u64)]) {
        let mut place = RunUp { event: self.events.len(), skipped: 0, lines: lines.to_vec() };
        let mut left = before;
        while left > 0 && place.event > 0 {
            place.event -= 1;
            match &self.events[place.event] {
                BatchEvent::Line { .. } => drop(place.lines.pop()),
                BatchEvent::Chunk { line, bytes, .. } => {
                    let taken = bytes.len().min(left);
                    left -= taken;
                    place.skipped = bytes.len() - taken;
                    place.lines[*line].1 -= taken as u64;
                }
                BatchEvent::Loss { .. } => {}
            }
        }
        self.run_up = place;
    }
}

/// Reads a source until a batch is full. Says whether there may be more.
#[allow(clippy::too_many_arguments)] // What is known of the source lies with the caller, over all batches.
pub(super) fn fill<S: Sink>(
    batch: &mut Batch,
    source: &mut dyn Source,
    roster: &mut Decoder,
    sink: &mut S,
    options: PieceOptions,
    pumped: &mut Pumped,
    offsets: &mut Vec<(String, u64)>,
    go_on: &mut dyn FnMut(Progress) -> bool,
) -> Result<bool, PumpError<S::Error>> {
    batch.bytes.reserve(options.size);
    loop {
        if batch.bytes.len() >= options.size || batch.events.len() >= MOST_EVENTS {
            return Ok(true);
        }
        if !go_on(Progress { bytes: pumped.bytes, gone: false }) {
            pumped.stopped = true;
            return Ok(false);
        }
        match source.next().map_err(PumpError::Source)? {
            None => return Ok(false),
            Some(SourceEvent::Idle { .. } | SourceEvent::Gone { .. } | SourceEvent::Note { .. }) => {}
            Some(SourceEvent::Line(line)) => {
                announce(roster, sink, &line, pumped)?;
                offsets.push((line.name.clone(), line.start));
                batch.events.push(BatchEvent::Line { name: line.name, start: line.start });
            }
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                let Some((_, offset)) = offsets.get_mut(line) else { continue };
                *offset += bytes.len() as u64;
                pumped.count(bytes.len(), time);
                let (from, first_fault) = (batch.bytes.len(), batch.faults.len());
                batch.bytes.extend_from_slice(bytes);
                batch.faults.extend_from_slice(faults);
                let (bytes, faults) = (from..batch.bytes.len(), first_fault..batch.faults.len());
                batch.events.push(BatchEvent::Chunk { line, time, bytes, faults });
            }
            Some(SourceEvent::Loss { line, why, time }) => {
                if line < offsets.len() {
                    batch.events.push(BatchEvent::Loss { line, why, time });
                }
            }
        }
    }
}
