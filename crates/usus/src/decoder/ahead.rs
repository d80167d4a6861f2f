//! A chunk that is decoded where it lies: what is whole is not copied into the window, which gets what is open at its ends.

use super::line::{Line, Seen};
use super::{drain_line, drain_seen};
use crate::event::Fault;
use crate::plan::Plan;
use crate::sink::Sink;
use crate::time::Time;

/// Smaller chunks are copied at once.
const LEAST: usize = 64;

/// So much of a chunk is copied at first, behind what is open before it.
const AT_ONCE: usize = 256;

/// Takes a chunk in, and hands all that is ready to a sink.
#[inline(never)]
pub(super) fn decode<S: Sink>(
    plan: &Plan,
    line: &mut Line,
    time: Option<Time>,
    bytes: &[u8],
    faults: &[Fault],
    sink: &mut S,
) -> Result<(), S::Error> {
    if let ([_], []) = (bytes, faults)
        && line.goes_on(time)
    {
        line.append(bytes);
        return drain_line(plan, line, sink);
    }
    if bytes.len() < LEAST || !faults.is_empty() {
        line.push(time, bytes, faults);
        return drain_line(plan, line, sink);
    }
    let start = line.end();
    line.arrive(time, bytes.len(), faults);
    let mut ahead = Ahead { bytes, start, taken: 0 };
    let result = ahead.drain(plan, line, sink);
    if result.is_err() {
        // Nothing is lost with what the sink did not take.
        ahead.take(line, bytes.len());
    }
    result
}

/// A chunk, of which the window has only the first bytes yet.
struct Ahead<'d> {
    bytes: &'d [u8],
    /// The stream offset of the first of them.
    start: u64,
    /// How many of them the line has: its window ends there.
    taken: usize,
}

impl Ahead<'_> {
    fn drain<S: Sink>(&mut self, plan: &Plan, line: &mut Line, sink: &mut S) -> Result<(), S::Error> {
        let mut most = AT_ONCE;
        // What is open before the chunk ends in its first bytes, nearly always.
        while !self.give_back(line) {
            self.take(line, most);
            drain_line(plan, line, sink)?;
            if self.taken == self.bytes.len() {
                return Ok(());
            }
            most *= 2;
        }
        let result = drain_seen(plan, line, Seen { bytes: self.bytes, base: self.start }, sink);
        self.give_back(line);
        result?;
        self.take(line, self.bytes.len());
        line.fall_asleep(&plan.0);
        Ok(())
    }

    /// Copies the next bytes into the window, at most so many.
    fn take(&mut self, line: &mut Line, most: usize) {
        let rest = &self.bytes[self.taken..];
        let next = &rest[..rest.len().min(most)];
        line.append(next);
        self.taken += next.len();
    }

    /// Takes back what the window has of the chunk, if it has nothing else that is open. Says whether that is so.
    fn give_back(&mut self, line: &mut Line) -> bool {
        let open = line.open_from();
        let Some(taken) = open.checked_sub(self.start) else { return false };
        line.window.clear();
        line.base = open;
        self.taken = taken as usize;
        true
    }
}
