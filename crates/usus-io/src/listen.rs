//! A source as a program may want it: events that it owns, one by one or through a callback, and a way to stop from another thread.

use std::collections::VecDeque;
use std::ops::ControlFlow;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use usus::{FaultKind, Loss, Time};

use crate::source::{LineInfo, Source, SourceError, SourceEvent};

/// Something that happened on a line.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum LineEvent {
    /// A line is there. Lines count from 0 in the order in which they are opened.
    Opened {
        /// The line.
        line: usize,
        /// What is known of it.
        info: LineInfo,
    },
    /// Bytes arrived together.
    Data {
        /// The line.
        line: usize,
        /// When, if that is known.
        time: Option<Time>,
        /// Stream offset of the first of them.
        offset: u64,
        /// The bytes.
        bytes: Vec<u8>,
    },
    /// A character was faulty. It comes behind the data that it is part of.
    Fault {
        /// The line.
        line: usize,
        /// When its data arrived.
        time: Option<Time>,
        /// Stream offset of the character; of a break, of the byte behind it.
        offset: u64,
        /// What is wrong with it.
        kind: FaultKind,
    },
    /// Bytes are missing from here on.
    Loss {
        /// The line.
        line: usize,
        /// When.
        time: Option<Time>,
        /// Why.
        why: Loss,
    },
    /// The port or the peer is gone. It is waited for where that makes sense; a loss follows when it is back.
    Closed {
        /// The line.
        line: usize,
        /// When.
        time: Option<Time>,
    },
}

/// Stops listening, from any thread. All clones are the same stop.
#[derive(Clone, Debug, Default)]
pub struct Stop(Arc<AtomicBool>);

impl From<Arc<AtomicBool>> for Stop {
    /// One that is asked for by setting the flag.
    fn from(flag: Arc<AtomicBool>) -> Stop {
        Stop(flag)
    }
}

impl Stop {
    /// One that has not been asked for yet.
    pub fn new() -> Stop {
        Stop::default()
    }

    /// Asks for it. Who listens ends within a tenth of a second, with all that has arrived until then.
    pub fn stop(&self) {
        self.0.store(true, Ordering::Release);
    }

    /// Whether it was asked for.
    pub fn is_asked_for(&self) -> bool {
        self.0.load(Ordering::Acquire)
    }
}

/// The events of a source, one by one, until it ends or is stopped.
pub struct LineEvents {
    source: Box<dyn Source + Send>,
    stop: Stop,
    offsets: Vec<u64>,
    waiting: VecDeque<LineEvent>,
    done: bool,
}

impl LineEvents {
    /// The events of `source`.
    pub fn new(source: Box<dyn Source + Send>, stop: Stop) -> LineEvents {
        LineEvents { source, stop, offsets: Vec::new(), waiting: VecDeque::new(), done: false }
    }
}

impl Iterator for LineEvents {
    type Item = Result<LineEvent, SourceError>;

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            if let Some(event) = self.waiting.pop_front() {
                return Some(Ok(event));
            }
            if self.done || self.stop.is_asked_for() {
                return None;
            }
            match self.source.next() {
                Ok(Some(event)) => own(event, &mut self.offsets, &mut self.waiting),
                Ok(None) => self.done = true,
                Err(error) => {
                    self.done = true;
                    return Some(Err(error));
                }
            }
        }
    }
}

/// Calls `take` with each event of a source until it ends, is stopped, or `take` breaks off.
///
/// # Errors
///
/// What kept the source from being read on.
pub fn listen(
    source: &mut dyn Source,
    stop: &Stop,
    take: &mut dyn FnMut(LineEvent) -> ControlFlow<()>,
) -> Result<(), SourceError> {
    let (mut offsets, mut waiting) = (Vec::new(), VecDeque::new());
    while !stop.is_asked_for() {
        let Some(event) = source.next()? else { break };
        own(event, &mut offsets, &mut waiting);
        while let Some(event) = waiting.pop_front() {
            if take(event).is_break() {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// Makes events that can be kept of what a source lends.
fn own(event: SourceEvent<'_>, offsets: &mut Vec<u64>, events: &mut VecDeque<LineEvent>) {
    match event {
        SourceEvent::Line(info) => {
            offsets.push(info.start);
            events.push_back(LineEvent::Opened { line: offsets.len() - 1, info });
        }
        SourceEvent::Chunk { line, time, bytes, faults } => {
            let Some(end) = offsets.get_mut(line) else { return };
            let offset = *end;
            *end += bytes.len() as u64;
            if !bytes.is_empty() {
                events.push_back(LineEvent::Data { line, time, offset, bytes: bytes.to_vec() });
            }
            let fault = |fault: &usus::Fault| LineEvent::Fault {
                line,
                time,
                offset: offset + fault.at as u64,
                kind: fault.kind,
            };
            events.extend(faults.iter().map(fault));
        }
        SourceEvent::Loss { line, why, time } => events.push_back(LineEvent::Loss { line, time, why }),
        SourceEvent::Gone { line, time } => events.push_back(LineEvent::Closed { line, time }),
        SourceEvent::Idle { .. } | SourceEvent::Note { .. } => {}
    }
}
