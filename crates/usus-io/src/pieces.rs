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
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
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

    /// Puts a piece behind what is there, as if its events had come to this sink.
    ///
    /// # Errors
    ///
    /// Whatever the sink cannot do.
    fn join(&mut self, piece: Self::Piece) -> Result<(), Self::Error>;
}

/// How a source is cut in pieces.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PieceOptions {
    /// How many workers decode.
    pub jobs: usize,
    /// How many bytes make a piece, at least.
    pub size: usize,
    /// How many bytes before its piece a worker begins, at least.
    pub before: usize,
}

impl PieceOptions {
    /// Pieces of a size that costs little memory and little time, for so many workers.
    pub fn jobs(jobs: usize) -> PieceOptions {
        PieceOptions { jobs, size: 4 << 20, before: 16 << 10 }
    }
}

/// What keeps a batch of very small chunks small.
const MOST_EVENTS: usize = 32 << 10;
/// So many pieces that do not join, more than half of all, and the rest is decoded on one core.
const MOST_AGAIN: u64 = 8;

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
            let workers = (0..options.jobs).map(|_| {
                let (give, jobs) = sync_channel::<Job<S::Piece>>(2);
                let (results, take) = sync_channel(2);
                let plan = plan.clone();
                scope.spawn(move || jobs.iter().try_for_each(|job| results.send(work(&plan, job))));
                Worker { give, take }
            });
            let workers = workers.collect();
            Pieced { decoder, sink, workers, in_flight: VecDeque::new(), next: 0, spent: Vec::new() }.run(
                source,
                options,
                &mut pumped,
                go_on,
            )
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
    /// Where the worker of the next batch begins: the event, and the lines that there are, with the offsets of their next bytes.
    scouting: Option<(usize, Vec<(String, u64)>)>,
}

enum Kept {
    Line { name: String, start: u64 },
    Chunk { line: usize, time: Option<Time>, bytes: Range<usize>, faults: Range<usize> },
    Loss { line: usize, why: Loss, time: Option<Time> },
}

impl Batch {
    /// Feeds what was kept from an event on.
    fn play<S: Sink>(&self, from: usize, decoder: &mut Decoder, sink: &mut S) -> Result<(), S::Error> {
        let mut lines: Vec<LineId> = decoder.lines().collect();
        let mut feeding = Feeding::default();
        for event in &self.events[from..] {
            match event {
                // That the format speaks of the line was seen when it was kept.
                Kept::Line { name, start } => lines.extend(decoder.line(name, *start)),
                Kept::Chunk { line, time, bytes, faults } => {
                    let (bytes, faults) = (&self.bytes[bytes.clone()], &self.faults[faults.clone()]);
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
}

struct Job<P> {
    before: Option<Arc<Batch>>,
    batch: Arc<Batch>,
    piece: P,
}

struct Done<P: Sink> {
    decoder: Decoder,
    piece: P,
    result: Result<(), P::Error>,
}

/// Decodes a batch.
fn work<P: Sink>(plan: &Plan, mut job: Job<P>) -> Done<P> {
    let mut decoder = Decoder::new(plan);
    if let Some(before) = &job.before {
        if let Some((from, lines)) = &before.scouting {
            for (name, offset) in lines {
                decoder.line_amid(name, *offset);
            }
            let Ok(()) = before.play(*from, &mut decoder, &mut |_: &Record<'_>| {});
        }
        decoder.begin_part();
    }
    let result = job.batch.play(0, &mut decoder, &mut job.piece);
    Done { decoder, piece: job.piece, result }
}

/// The ends of a worker.
struct Worker<P: Sink> {
    give: SyncSender<Job<P>>,
    take: Receiver<Done<P>>,
}

/// A pump at work on several cores.
struct Pieced<'a, S: Pieces> {
    /// The decoder of all that is joined.
    decoder: &'a mut Decoder,
    sink: &'a mut S,
    /// Each gets its share in turn, so that their results come in turn.
    workers: Vec<Worker<S::Piece>>,
    in_flight: VecDeque<(usize, Arc<Batch>)>,
    next: usize,
    /// Batches that are done with, or will be when the worker of the next one has begun.
    spent: Vec<Arc<Batch>>,
}

impl<S: Pieces> Pieced<'_, S> {
    /// Goes on to the end of the source. Says whether it got there; if not, one core has to go on.
    fn run(
        mut self,
        source: &mut dyn Source,
        options: PieceOptions,
        pumped: &mut Pumped,
        go_on: &mut dyn FnMut(Progress) -> bool,
    ) -> Result<bool, PumpError<S::Error>> {
        // It only numbers the lines as the decoders of the batches will.
        let mut roster = Decoder::new(self.decoder.plan());
        let mut offsets = Vec::new();
        let mut before = None;
        loop {
            let mut batch = self.empty_batch();
            let more = fill(&mut batch, source, &mut roster, self.sink, options, pumped, &mut offsets, go_on);
            // Also what came before an error of the source.
            let batch = Arc::new(batch);
            self.give(before.replace(Arc::clone(&batch)), batch);
            // One more than there are workers, so that none waits while a piece is joined.
            while self.in_flight.len() > options.jobs {
                self.take(pumped)?;
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
        batch.scouting = None;
        batch
    }

    fn give(&mut self, before: Option<Arc<Batch>>, batch: Arc<Batch>) {
        let worker = self.next % self.workers.len();
        self.next += 1;
        let job = Job { before, batch: Arc::clone(&batch), piece: self.sink.piece() };
        // A worker is gone only if it has panicked, which is passed on when it is waited for.
        if self.workers[worker].give.send(job).is_ok() {
            self.in_flight.push_back((worker, batch));
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
        let Some((worker, batch)) = self.in_flight.pop_front() else { return Ok(()) };
        let Ok(mut done) = self.workers[worker].take.recv() else { return Ok(()) };
        let first = pumped.pieces == 0;
        pumped.pieces += 1;
        if first || done.decoder.follow(self.decoder) {
            *self.decoder = done.decoder;
            self.sink.join(done.piece).and(done.result).map_err(PumpError::Sink)?;
        } else {
            pumped.again += 1;
            batch.play(0, self.decoder, self.sink).map_err(PumpError::Sink)?;
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
    let mut largest = 0;
    loop {
        let (bytes, events) = (batch.bytes.len(), batch.events.len());
        let is_full = bytes >= options.size || events >= MOST_EVENTS;
        let is_near = bytes + largest + options.before >= options.size || events + MOST_EVENTS / 8 >= MOST_EVENTS;
        if batch.scouting.is_none() && (is_near || is_full) {
            batch.scouting = Some((events, offsets.clone()));
        }
        if is_full {
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
                largest = largest.max(bytes.len());
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
