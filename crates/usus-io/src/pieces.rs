//! The pump on several cores: a source is decoded in pieces at the same time, and the pieces are joined in order.
//!
//! # How
//!
//! The caller's thread reads the source into batches and gives each to a worker. The worker begins a little before its batch, in the
//! one before it, and throws away what that gives; at its batch's first byte it has nearly always found its place, and from there on
//! its events go into a piece of the sink ([`Pieces`]). The caller's thread takes the pieces in order: where the worker's decoder goes
//! on where the one before has ended ([`Decoder::follow`]), its piece is joined to the sink; where it does not, the batch is decoded
//! again, behind what came before. Either way the sink sees what it would have seen from one decoder.

use std::collections::VecDeque;
use std::ops::Range;
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::sync::{Arc, Mutex};
use std::thread;

use usus::{Chunk, Decoder, Fault, LineId, Loss, Plan, Record, Sink, Time};

use crate::pump::{Feeding, Progress, PumpError, Pumped, announce, pump_on};
use crate::source::{Source, SourceEvent};

/// A sink that can be filled in pieces at the same time.
pub trait Pieces: Sink<Error: Send> {
    /// Takes the events of a piece of the stream.
    type Piece: Sink<Error = Self::Error> + Send;

    /// A piece that knows what this sink was told about lines, and holds nothing yet.
    fn piece(&self) -> Self::Piece;

    /// Puts what a piece holds behind what is there, as if its events had come to this sink. The piece is as new then: it is filled again,
    /// unless there are other lines by then.
    ///
    /// # Errors
    ///
    /// Whatever the sink cannot do.
    fn join(&mut self, piece: &mut Self::Piece) -> Result<(), Self::Error>;
}

/// How a source is cut in pieces.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PieceOptions {
    /// How many workers decode.
    pub jobs: usize,
    /// How many bytes make a piece, at least.
    pub size: usize,
    /// How many bytes before its piece a worker begins, at least. Doubled whenever a piece does not join: its frames may be large.
    pub before: usize,
}

impl PieceOptions {
    /// Pieces of a size that costs little memory and little time, for so many workers.
    pub fn jobs(jobs: usize) -> PieceOptions {
        PieceOptions { jobs, size: 512 << 10, before: 8 << 10 }
    }
}

/// What keeps a batch of very small chunks small.
const MOST_EVENTS: usize = 32 << 10;
/// How many pieces are given out ahead for each worker: a thread that has been waiting is not at work at once.
const AHEAD: usize = 4;
/// So many pieces that do not join, more than half of all, and the rest is decoded on one core.
const MOST_AGAIN: u64 = 32;

/// Does what [`pump`](crate::pump) does, on several cores. The decoder has to be new; with one job, a source of
/// no more than one piece, or pieces that do not join, it is the same.
///
/// # Errors
///
/// The source's or the sink's first error, as [`pump`](crate::pump) would meet it.
pub fn pump_pieces<S: Pieces>(
    source: &mut dyn Source,
    decoder: &mut Decoder,
    sink: &mut S,
    options: PieceOptions,
    go_on: &mut dyn FnMut(Progress) -> bool,
) -> Result<Pumped, PumpError<S::Error>> {
    let mut pumped = Pumped::default();
    // What fits one piece is done before other threads have begun.
    let is_large = source.size().is_none_or(|size| size > options.size as u64);
    if options.jobs > 1 && is_large && decoder.lines().len() == 0 {
        let plan = decoder.plan().clone();
        let at_end = thread::scope(|scope| {
            let (jobs, waiting) = channel();
            let waiting = Arc::new(Mutex::new(waiting));
            for _ in 0..options.jobs {
                let (plan, waiting) = (plan.clone(), Arc::clone(&waiting));
                scope.spawn(move || {
                    while let Some(job) = next_job(&waiting) {
                        work(&plan, job);
                    }
                });
            }
            let pieced =
                Pieced { decoder, sink, jobs, in_flight: VecDeque::new(), emptied: Vec::new(), spent: Vec::new() };
            pieced.run(source, options, &mut pumped, go_on)
        })?;
        if at_end {
            decoder.finish().drain(sink).map_err(PumpError::Sink)?;
            return Ok(pumped);
        }
    }
    pump_on(source, decoder, sink, go_on, &mut pumped)?;
    Ok(pumped)
}

/// What came from a source, kept.
#[derive(Default)]
struct Batch {
    events: Vec<Kept>,
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

enum Kept {
    Line { name: String, start: u64 },
    Chunk { line: usize, time: Option<Time>, bytes: Range<usize>, faults: Range<usize> },
    Loss { line: usize, why: Loss, time: Option<Time> },
}

impl Batch {
    /// Feeds what was kept from an event on, less the first bytes of its chunk.
    fn play<S: Sink>(
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
                Kept::Line { name, start } => lines.extend(decoder.line(name, *start)),
                Kept::Chunk { line, time, bytes, faults } => {
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
                Kept::Loss { line, why, time } => {
                    feeding.drain(decoder, sink)?;
                    decoder.loss(lines[*line], *why, *time).drain(sink)?;
                }
            }
        }
        feeding.drain(decoder, sink)
    }

    /// The place at least so many bytes before the end, if there are as many, and the lines there. `lines` are those at the end.
    fn run_up(&self, before: usize, lines: &[(String, u64)]) -> RunUp {
        let mut place = RunUp { event: self.events.len(), skipped: 0, lines: lines.to_vec() };
        let mut left = before;
        while left > 0 && place.event > 0 {
            place.event -= 1;
            match &self.events[place.event] {
                Kept::Line { .. } => drop(place.lines.pop()),
                Kept::Chunk { line, bytes, .. } => {
                    let taken = bytes.len().min(left);
                    left -= taken;
                    place.skipped = bytes.len() - taken;
                    place.lines[*line].1 -= taken as u64;
                }
                Kept::Loss { .. } => {}
            }
        }
        place
    }
}

struct Job<P: Sink> {
    before: Option<Arc<Batch>>,
    batch: Arc<Batch>,
    piece: P,
    result: SyncSender<Done<P>>,
}

struct Done<P: Sink> {
    decoder: Decoder,
    piece: P,
    result: Result<(), P::Error>,
}

/// Waits for a job. Nothing if there will be none, or another worker has panicked.
fn next_job<P: Sink>(waiting: &Mutex<Receiver<Job<P>>>) -> Option<Job<P>> {
    waiting.lock().ok()?.recv().ok()
}

/// Decodes a batch.
fn work<P: Sink>(plan: &Plan, mut job: Job<P>) {
    let mut decoder = Decoder::new(plan);
    if let Some(before) = &job.before {
        let RunUp { event, skipped, lines } = &before.run_up;
        for (name, offset) in lines {
            decoder.line_amid(name, *offset);
        }
        let Ok(()) = before.play(*event, *skipped, &mut decoder, &mut |_: &Record<'_>| {});
        decoder.begin_part();
    }
    let result = job.batch.play(0, 0, &mut decoder, &mut job.piece);
    // Nobody takes it if what came before could not be joined.
    let _ = job.result.send(Done { decoder, piece: job.piece, result });
}

/// A batch that a worker has, or will have.
struct InFlight<P: Sink> {
    batch: Arc<Batch>,
    /// How many lines its piece knows.
    lines: usize,
    done: Receiver<Done<P>>,
}

/// A pump at work on several cores.
struct Pieced<'a, S: Pieces> {
    /// The decoder of all that is joined.
    decoder: &'a mut Decoder,
    sink: &'a mut S,
    /// Whoever is free takes the next.
    jobs: Sender<Job<S::Piece>>,
    in_flight: VecDeque<InFlight<S::Piece>>,
    /// Pieces that were joined, and how many lines they know.
    emptied: Vec<(usize, S::Piece)>,
    /// Batches that are done with, or will be when the worker of the next one has begun.
    spent: Vec<Arc<Batch>>,
}

impl<S: Pieces> Pieced<'_, S> {
    /// Goes on to the end of the source. Says whether it got there; if not, one core has to go on.
    fn run(
        mut self,
        source: &mut dyn Source,
        mut options: PieceOptions,
        pumped: &mut Pumped,
        go_on: &mut dyn FnMut(Progress) -> bool,
    ) -> Result<bool, PumpError<S::Error>> {
        // It only numbers the lines as the decoders of the batches will.
        let mut roster = Decoder::new(self.decoder.plan());
        let mut offsets = Vec::new();
        let (mut before, mut again) = (None, pumped.again);
        loop {
            let mut batch = self.empty_batch();
            let more = fill(&mut batch, source, &mut roster, self.sink, options, pumped, &mut offsets, go_on);
            batch.run_up = batch.run_up(options.before, &offsets);
            // Also what came before an error of the source.
            let batch = Arc::new(batch);
            self.give(before.replace(Arc::clone(&batch)), batch, offsets.len());
            // More than there are workers, so that none waits while a piece is joined.
            while self.in_flight.len() > AHEAD * options.jobs {
                self.take(pumped)?;
            }
            if pumped.again > again {
                again = pumped.again;
                options.before = (2 * options.before).min(options.size / 2).max(options.before);
            }
            let more = match more {
                Ok(more) => more,
                Err(error) => {
                    self.take_all(pumped)?;
                    return Err(error);
                }
            };
            if !more {
                self.take_all(pumped)?;
                return Ok(true);
            }
            if pumped.again >= MOST_AGAIN && 2 * pumped.again > pumped.pieces {
                self.take_all(pumped)?;
                pumped.unjoined = true;
                return Ok(false);
            }
        }
    }

    /// A batch without anything in it, but with room, if one is done with: new memory costs time.
    fn empty_batch(&mut self) -> Batch {
        let free = self.spent.iter().position(|batch| Arc::strong_count(batch) == 1);
        let mut batch = free.and_then(|index| Arc::into_inner(self.spent.swap_remove(index))).unwrap_or_default();
        batch.events.clear();
        batch.bytes.clear();
        batch.faults.clear();
        batch
    }

    fn give(&mut self, before: Option<Arc<Batch>>, batch: Arc<Batch>, lines: usize) {
        self.emptied.retain(|(known, _)| *known == lines);
        let piece = self.emptied.pop().map_or_else(|| self.sink.piece(), |(_, piece)| piece);
        let (result, done) = sync_channel(1);
        let job = Job { before, batch: Arc::clone(&batch), piece, result };
        // Workers are gone only if one has panicked, which is passed on when they are waited for.
        if self.jobs.send(job).is_ok() {
            self.in_flight.push_back(InFlight { batch, lines, done });
        }
    }

    fn take_all(&mut self, pumped: &mut Pumped) -> Result<(), PumpError<S::Error>> {
        while !self.in_flight.is_empty() {
            self.take(pumped)?;
        }
        Ok(())
    }

    /// Takes the next piece, and joins it or decodes it again.
    fn take(&mut self, pumped: &mut Pumped) -> Result<(), PumpError<S::Error>> {
        let Some(InFlight { batch, lines, done }) = self.in_flight.pop_front() else { return Ok(()) };
        let Ok(mut done) = done.recv() else { return Ok(()) };
        let first = pumped.pieces == 0;
        pumped.pieces += 1;
        if first || done.decoder.follow(self.decoder) {
            *self.decoder = done.decoder;
            self.sink.join(&mut done.piece).and(done.result).map_err(PumpError::Sink)?;
            self.emptied.push((lines, done.piece));
        } else {
            pumped.again += 1;
            batch.play(0, 0, self.decoder, self.sink).map_err(PumpError::Sink)?;
        }
        self.spent.push(batch);
        Ok(())
    }
}

/// Reads a source until a batch is full. Says whether there may be more.
#[allow(clippy::too_many_arguments)] // What is known of the source lies with the caller, over all batches.
fn fill<S: Sink>(
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
                batch.events.push(Kept::Line { name: line.name, start: line.start });
            }
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                let Some((_, offset)) = offsets.get_mut(line) else { continue };
                *offset += bytes.len() as u64;
                pumped.count(bytes.len(), time);
                let (from, first_fault) = (batch.bytes.len(), batch.faults.len());
                batch.bytes.extend_from_slice(bytes);
                batch.faults.extend_from_slice(faults);
                let (bytes, faults) = (from..batch.bytes.len(), first_fault..batch.faults.len());
                batch.events.push(Kept::Chunk { line, time, bytes, faults });
            }
            Some(SourceEvent::Loss { line, why, time }) => {
                if line < offsets.len() {
                    batch.events.push(Kept::Loss { line, why, time });
                }
            }
        }
    }
}
