//! The pump on several cores: a source is decoded in pieces at the same time, and the pieces are joined in order.
//!
//! # How
//!
//! A source is cut in stretches, and each is given to a worker. Where its bytes can be read at any place, as those of a raw file can, a
//! stretch is a range of them that the worker reads itself; else the caller's thread reads the source into batches. The worker begins a
//! little before its stretch and throws away what that gives; at its stretch's first byte it has nearly always found its place, and from
//! there on its events go into a piece of the sink ([`Pieces`]). The caller's thread takes the pieces in order: where the worker's decoder
//! goes on where the one before has ended ([`Decoder::follow`]), its piece is joined to the sink; where it does not, the stretch is decoded
//! again, behind what came before. Either way the sink sees what it would have seen from one decoder.

mod batch;
mod range;

use std::collections::VecDeque;
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::sync::{Arc, Mutex};
use std::thread;

use usus::{Decoder, Plan, Sink};

use crate::pump::{Progress, PumpError, Pumped, announce, pump_on};
use crate::source::{Anywhere, LineInfo, ReadAt, Source};
use batch::{Batch, fill};
use range::{Range, RangeReader};

/// A sink that can be filled in pieces at the same time.
pub trait Pieces: Sink<Error: Send> {
    /// Takes the events of a piece of the stream.
    type Piece: Sink<Error = Self::Error> + Send;

    /// Whether pieces make it no other than one after the other does. If not, all is decoded on one core.
    fn is_divisible(&self) -> bool {
        true
    }

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
        PieceOptions { jobs, size: 512 << 10, before: 4 << 10 }
    }
}

/// How many pieces are given out ahead for each worker: a thread that has been waiting is not at work at once.
const AHEAD: usize = 2;
/// So many pieces that do not join, more than half of all, and the rest is decoded on one core.
const MOST_AGAIN: u64 = 32;

/// Does what [`pump`](crate::pump) does, on several cores. The decoder has to be new; with one job, a source of
/// no more than one piece, pieces that do not join, or records that can only be told in order, it is the same.
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
    let in_parts = options.jobs > 1 && is_large && !decoder.plan().needs_order() && sink.is_divisible();
    if in_parts && decoder.lines().len() == 0 {
        let at_end = match source.anywhere() {
            Some(Anywhere { bytes, size, at }) => on_threads(decoder, sink, options, Some(bytes), |pieced| {
                pieced.run_ranges(size, at, &mut pumped, go_on)
            })?,
            None => on_threads(decoder, sink, options, None, |pieced| pieced.run(source, &mut pumped, go_on))?,
        };
        if at_end {
            decoder.finish().drain(sink).map_err(PumpError::Sink)?;
            return Ok(pumped);
        }
    }
    pump_on(source, decoder, sink, go_on, &mut pumped)?;
    Ok(pumped)
}

/// Does something while workers wait for jobs.
fn on_threads<'a, S: Pieces, T>(
    decoder: &'a mut Decoder,
    sink: &'a mut S,
    options: PieceOptions,
    bytes: Option<&'a dyn ReadAt>,
    run: impl FnOnce(Pieced<'a, S>) -> T,
) -> T {
    let plan = decoder.plan().clone();
    thread::scope(|scope| {
        let (jobs, waiting) = channel();
        let waiting = Arc::new(Mutex::new(waiting));
        for _ in 0..options.jobs {
            let (plan, waiting) = (plan.clone(), Arc::clone(&waiting));
            scope.spawn(move || {
                let mut reader = bytes.map(RangeReader::new);
                while let Some(job) = next_job(&waiting) {
                    work(&plan, reader.as_mut(), job);
                }
            });
        }
        let (reader, in_flight) = (bytes.map(RangeReader::new), VecDeque::new());
        let (emptied, spent) = (Vec::new(), Vec::new());
        run(Pieced { decoder, sink, options, reader, jobs, in_flight, emptied, spent })
    })
}

/// A part of a source that one worker decodes.
#[derive(Clone)]
enum Stretch {
    /// A batch, and the one before it.
    Batch { before: Option<Arc<Batch>>, batch: Arc<Batch> },
    /// A range that the worker reads.
    Range(Range),
}

impl Stretch {
    /// Brings a new decoder to where it begins, if something lies before that.
    fn lead_up<E>(&self, reader: Option<&mut RangeReader<'_>>, decoder: &mut Decoder) -> Result<(), PumpError<E>> {
        match (self, reader) {
            (Stretch::Batch { before: Some(before), .. }, _) => before.lead_up(decoder),
            (Stretch::Range(range), Some(reader)) if range.from > 0 => reader.lead_up(*range, decoder)?,
            _ => return Ok(()),
        }
        decoder.begin_part();
        Ok(())
    }

    /// Decodes it. Returns how many bytes were read for that.
    fn play<S: Sink>(
        &self,
        reader: Option<&mut RangeReader<'_>>,
        decoder: &mut Decoder,
        sink: &mut S,
    ) -> Result<u64, PumpError<S::Error>> {
        match (self, reader) {
            (Stretch::Batch { batch, .. }, _) => batch.play(decoder, sink).map(|()| 0).map_err(PumpError::Sink),
            (Stretch::Range(range), Some(reader)) => reader.play(*range, decoder, sink),
            (Stretch::Range(_), None) => Ok(0),
        }
    }
}

struct Job<P: Sink> {
    stretch: Stretch,
    piece: P,
    result: SyncSender<Done<P>>,
}

struct Done<P: Sink> {
    decoder: Decoder,
    piece: P,
    result: Result<u64, PumpError<P::Error>>,
}

/// Waits for a job. Nothing if there will be none, or another worker has panicked.
fn next_job<P: Sink>(waiting: &Mutex<Receiver<Job<P>>>) -> Option<Job<P>> {
    waiting.lock().ok()?.recv().ok()
}

/// Decodes a stretch.
fn work<P: Sink>(plan: &Plan, mut reader: Option<&mut RangeReader<'_>>, mut job: Job<P>) {
    let mut decoder = Decoder::new(plan);
    let led_up = job.stretch.lead_up(reader.as_deref_mut(), &mut decoder);
    let result = led_up.and_then(|()| job.stretch.play(reader, &mut decoder, &mut job.piece));
    // Nobody takes it if what came before could not be joined.
    let _ = job.result.send(Done { decoder, piece: job.piece, result });
}

/// A stretch that a worker has, or will have.
struct InFlight<P: Sink> {
    stretch: Stretch,
    /// How many lines its piece knows.
    lines: usize,
    done: Receiver<Done<P>>,
}

/// A pump at work on several cores.
struct Pieced<'a, S: Pieces> {
    /// The decoder of all that is joined.
    decoder: &'a mut Decoder,
    sink: &'a mut S,
    options: PieceOptions,
    /// Reads again what could not be joined, of a source whose workers read themselves.
    reader: Option<RangeReader<'a>>,
    /// Whoever is free takes the next.
    jobs: Sender<Job<S::Piece>>,
    in_flight: VecDeque<InFlight<S::Piece>>,
    /// Pieces that were joined, and how many lines they know.
    emptied: Vec<(usize, S::Piece)>,
    /// Batches that are done with, or will be when the worker of the next one has begun.
    spent: Vec<Arc<Batch>>,
}

impl<S: Pieces> Pieced<'_, S> {
    /// Goes on to the end of the source, in batches. Says whether it got there; if not, one core has to go on.
    fn run(
        mut self,
        source: &mut dyn Source,
        pumped: &mut Pumped,
        go_on: &mut dyn FnMut(Progress) -> bool,
    ) -> Result<bool, PumpError<S::Error>> {
        // It only numbers the lines as the decoders of the batches will.
        let mut roster = Decoder::new(self.decoder.plan());
        let mut offsets = Vec::new();
        let mut before = None;
        loop {
            let mut batch = self.empty_batch();
            let options = self.options;
            let more = fill(&mut batch, source, &mut roster, self.sink, options, pumped, &mut offsets, go_on);
            batch.set_run_up(options.before, &offsets);
            // Also what came before an error of the source.
            let batch = Arc::new(batch);
            self.give(Stretch::Batch { before: before.replace(Arc::clone(&batch)), batch }, offsets.len());
            self.take_some(pumped)?;
            let more = match more {
                Ok(more) => more,
                Err(error) => {
                    self.take_all(pumped)?;
                    return Err(error);
                }
            };
            if !more || self.is_pathological(pumped) {
                self.take_all(pumped)?;
                return Ok(!more);
            }
        }
    }

    /// The same in ranges. `at` is where the source goes on.
    fn run_ranges(
        mut self,
        size: u64,
        at: &mut u64,
        pumped: &mut Pumped,
        go_on: &mut dyn FnMut(Progress) -> bool,
    ) -> Result<bool, PumpError<S::Error>> {
        announce(&mut Decoder::new(self.decoder.plan()), self.sink, &LineInfo::new(""), pumped)?;
        while *at < size && !pumped.unjoined {
            if !go_on(Progress { bytes: pumped.bytes, gone: false }) {
                pumped.stopped = true;
                break;
            }
            let before = self.options.before as u64;
            let range =
                Range { begun: at.saturating_sub(before), from: *at, to: size.min(*at + self.options.size as u64) };
            *at = range.to;
            self.give(Stretch::Range(range), 1);
            self.take_some(pumped)?;
            self.is_pathological(pumped);
        }
        self.take_all(pumped)?;
        // The file may have grown meanwhile.
        Ok(pumped.stopped)
    }

    /// Whether so many pieces do not join that one core is faster. Notes it.
    fn is_pathological(&self, pumped: &mut Pumped) -> bool {
        pumped.unjoined |= pumped.again >= MOST_AGAIN && 2 * pumped.again > pumped.pieces;
        pumped.unjoined
    }

    /// A batch without anything in it, but with room, if one is done with: new memory costs time.
    fn empty_batch(&mut self) -> Batch {
        let free = self.spent.iter().position(|batch| Arc::strong_count(batch) == 1);
        let mut batch = free.and_then(|index| Arc::into_inner(self.spent.swap_remove(index))).unwrap_or_default();
        batch.clear();
        batch
    }

    fn give(&mut self, stretch: Stretch, lines: usize) {
        self.emptied.retain(|(known, _)| *known == lines);
        let piece = self.emptied.pop().map_or_else(|| self.sink.piece(), |(_, piece)| piece);
        let (result, done) = sync_channel(1);
        let job = Job { stretch: stretch.clone(), piece, result };
        // Workers are gone only if one has panicked, which is passed on when they are waited for.
        if self.jobs.send(job).is_ok() {
            self.in_flight.push_back(InFlight { stretch, lines, done });
        }
    }

    /// Takes pieces until there are only so many ahead that no worker waits while one is joined.
    fn take_some(&mut self, pumped: &mut Pumped) -> Result<(), PumpError<S::Error>> {
        while self.in_flight.len() > AHEAD * self.options.jobs {
            self.take(pumped)?;
        }
        Ok(())
    }

    fn take_all(&mut self, pumped: &mut Pumped) -> Result<(), PumpError<S::Error>> {
        while !self.in_flight.is_empty() {
            self.take(pumped)?;
        }
        Ok(())
    }

    /// Takes the next piece, and joins it or decodes it again.
    fn take(&mut self, pumped: &mut Pumped) -> Result<(), PumpError<S::Error>> {
        let Some(InFlight { stretch, lines, done }) = self.in_flight.pop_front() else { return Ok(()) };
        let Ok(mut done) = done.recv() else { return Ok(()) };
        let first = pumped.pieces == 0;
        pumped.pieces += 1;
        if first || done.decoder.follow(self.decoder) {
            *self.decoder = done.decoder;
            self.sink.join(&mut done.piece).map_err(PumpError::Sink)?;
            pumped.bytes += done.result?;
            self.emptied.push((lines, done.piece));
        } else {
            pumped.again += 1;
            let options = &mut self.options;
            options.before = (2 * options.before).min(options.size / 2).max(options.before);
            pumped.bytes += stretch.play(self.reader.as_mut(), self.decoder, self.sink)?;
        }
        if let Stretch::Batch { batch, .. } = stretch {
            self.spent.push(batch);
        }
        Ok(())
    }
}
