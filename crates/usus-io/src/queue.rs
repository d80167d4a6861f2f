//! A queue of events between two threads: one listens, the other does with them what may take its time.
//!
//! It holds a bounded number of bytes. Who fills it either waits when it is full, or does not, and then what is missing is booked as a loss.

use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use usus::{Fault, Loss, Time};

use crate::source::{LineInfo, Remark, Source, SourceError, SourceEvent};

/// How long the queue is waited for before its reader is told that nothing comes.
const PATIENCE: Duration = Duration::from_millis(100);
/// What an event takes beside its bytes.
const OVERHEAD: usize = 64;

/// What becomes of events when the queue is full.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhenFull {
    /// Who sends them waits.
    Wait,
    /// Chunks are dropped; a loss stands where they were.
    Lose,
}

/// Makes a queue for the events of `source` that holds at most about so many bytes.
pub fn queue(source: &dyn Source, limit: usize, when_full: WhenFull) -> (EventSender, EventQueue) {
    let shared = Arc::new(Shared::default());
    let queue = EventQueue {
        shared: Arc::clone(&shared),
        stream: source.stream().map(str::to_owned),
        has_times: source.has_times(),
        has_lines: source.has_lines(),
        is_live: source.is_live(),
        tells_faults: source.tells_faults(),
        patience: PATIENCE,
        event: None,
    };
    (EventSender::new(shared, limit, when_full), queue)
}

/// Reads a source on a thread of its own, so that whoever takes its events late does not hold it up.
pub fn read_ahead(mut source: Box<dyn Source + Send>, limit: usize, when_full: WhenFull) -> EventQueue {
    let (sender, queue) = queue(&*source, limit, when_full);
    std::thread::spawn(move || {
        loop {
            let goes_on = match source.next() {
                Ok(Some(event)) => sender.send(event),
                Ok(None) => false,
                Err(error) => {
                    sender.fail(error);
                    false
                }
            };
            if !goes_on {
                sender.remark(source.remarks());
                return;
            }
        }
    });
    queue
}

#[derive(Default)]
struct State {
    events: VecDeque<Owned>,
    bytes: usize,
    /// Lines of which chunks were dropped since the last that was not.
    lossy: Vec<usize>,
    lost: u64,
    remarks: Vec<Remark>,
    /// How many may still send.
    senders: usize,
    /// Whether nobody takes events any more.
    left: bool,
}

#[derive(Default)]
struct Shared {
    state: Mutex<State>,
    filled: Condvar,
    emptied: Condvar,
}

impl Shared {
    /// A thread that panicked has left whole events behind.
    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// An event that was lent, kept.
pub(crate) enum Owned {
    Line(LineInfo),
    Chunk { line: usize, time: Option<Time>, bytes: Vec<u8>, faults: Vec<Fault> },
    Loss { line: usize, why: Loss, time: Option<Time> },
    Note { line: usize, time: Option<Time>, text: String },
    Gone { line: usize, time: Option<Time> },
    Idle { time: Option<Time> },
    Failed(SourceError),
}

impl Owned {
    pub(crate) fn of(event: SourceEvent<'_>) -> Owned {
        match event {
            SourceEvent::Line(info) => Owned::Line(info),
            SourceEvent::Chunk { line, time, bytes, faults } => {
                Owned::Chunk { line, time, bytes: bytes.to_vec(), faults: faults.to_vec() }
            }
            SourceEvent::Loss { line, why, time } => Owned::Loss { line, why, time },
            SourceEvent::Note { line, time, text } => Owned::Note { line, time, text },
            SourceEvent::Gone { line, time } => Owned::Gone { line, time },
            SourceEvent::Idle { time } => Owned::Idle { time },
        }
    }

    /// Its line.
    pub(crate) fn line(&self) -> Option<usize> {
        match self {
            Owned::Chunk { line, .. }
            | Owned::Loss { line, .. }
            | Owned::Note { line, .. }
            | Owned::Gone { line, .. } => Some(*line),
            Owned::Line(_) | Owned::Idle { .. } | Owned::Failed(_) => None,
        }
    }

    /// Puts it onto another line.
    pub(crate) fn set_line(&mut self, number: usize) {
        match self {
            Owned::Chunk { line, .. }
            | Owned::Loss { line, .. }
            | Owned::Note { line, .. }
            | Owned::Gone { line, .. } => {
                *line = number;
            }
            Owned::Line(_) | Owned::Idle { .. } | Owned::Failed(_) => {}
        }
    }

    /// When it happened.
    pub(crate) fn time(&self) -> Option<Time> {
        match self {
            Owned::Chunk { time, .. }
            | Owned::Loss { time, .. }
            | Owned::Note { time, .. }
            | Owned::Gone { time, .. }
            | Owned::Idle { time } => *time,
            Owned::Line(_) | Owned::Failed(_) => None,
        }
    }

    fn size(&self) -> usize {
        match self {
            Owned::Chunk { bytes, .. } => bytes.len() + OVERHEAD,
            _ => OVERHEAD,
        }
    }

    pub(crate) fn lend(&self) -> SourceEvent<'_> {
        match self {
            Owned::Line(info) => SourceEvent::Line(info.clone()),
            Owned::Chunk { line, time, bytes, faults } => {
                SourceEvent::Chunk { line: *line, time: *time, bytes, faults }
            }
            Owned::Loss { line, why, time } => SourceEvent::Loss { line: *line, why: *why, time: *time },
            Owned::Note { line, time, text } => SourceEvent::Note { line: *line, time: *time, text: text.clone() },
            Owned::Gone { line, time } => SourceEvent::Gone { line: *line, time: *time },
            Owned::Idle { time } => SourceEvent::Idle { time: *time },
            Owned::Failed(_) => SourceEvent::Idle { time: None },
        }
    }
}

/// Puts events into a queue. When the last of them is dropped, the queue has an end.
pub struct EventSender {
    shared: Arc<Shared>,
    limit: usize,
    when_full: WhenFull,
}

impl Clone for EventSender {
    fn clone(&self) -> EventSender {
        EventSender::new(Arc::clone(&self.shared), self.limit, self.when_full)
    }
}

impl EventSender {
    fn new(shared: Arc<Shared>, limit: usize, when_full: WhenFull) -> EventSender {
        shared.lock().senders += 1;
        EventSender { shared, limit, when_full }
    }

    /// Puts an event into the queue. Returns whether anybody still takes them.
    pub fn send(&self, event: SourceEvent<'_>) -> bool {
        let mut state = self.shared.lock();
        if let SourceEvent::Idle { .. } = event
            && !state.events.is_empty()
        {
            // Who is behind need not be told that nothing comes.
            return !state.left;
        }
        if state.bytes >= self.limit {
            match (self.when_full, &event) {
                (WhenFull::Wait, _) => {
                    while state.bytes >= self.limit && !state.left {
                        state = self.shared.emptied.wait(state).unwrap_or_else(PoisonError::into_inner);
                    }
                }
                (WhenFull::Lose, SourceEvent::Chunk { line, bytes, .. }) => {
                    state.lost += bytes.len() as u64;
                    if !state.lossy.contains(line) {
                        state.lossy.push(*line);
                    }
                    return !state.left;
                }
                // What is no chunk is small and seldom.
                (WhenFull::Lose, _) => {}
            }
        }
        if let SourceEvent::Chunk { line, time, .. } = &event
            && let Some(place) = state.lossy.iter().position(|lossy| lossy == line)
        {
            state.lossy.swap_remove(place);
            state.push(Owned::Loss { line: *line, why: Loss::Gap, time: *time });
        }
        state.push(Owned::of(event));
        self.shared.filled.notify_one();
        !state.left
    }

    /// Puts an error into the queue.
    pub(crate) fn fail(&self, error: SourceError) {
        self.shared.lock().push(Owned::Failed(error));
        self.shared.filled.notify_one();
    }

    /// What else is to be known about what was sent.
    pub(crate) fn remark(&self, remarks: Vec<Remark>) {
        self.shared.lock().remarks.extend(remarks);
    }

    /// Bytes that were dropped because the queue was full.
    pub fn lost(&self) -> u64 {
        self.shared.lock().lost
    }
}

impl State {
    fn push(&mut self, event: Owned) {
        self.bytes += event.size();
        self.events.push_back(event);
    }
}

impl Drop for EventSender {
    fn drop(&mut self) {
        let mut state = self.shared.lock();
        state.senders -= 1;
        if state.senders == 0 {
            for line in std::mem::take(&mut state.lossy) {
                state.push(Owned::Loss { line, why: Loss::Gap, time: None });
            }
        }
        self.shared.filled.notify_one();
    }
}

/// The other end of a queue: a source.
pub struct EventQueue {
    shared: Arc<Shared>,
    stream: Option<String>,
    has_times: bool,
    has_lines: bool,
    is_live: bool,
    tells_faults: bool,
    /// How long it waits for an event.
    pub(crate) patience: Duration,
    event: Option<Owned>,
}

impl EventQueue {
    /// The next event, or that nothing comes for a moment; nothing at the end.
    pub(crate) fn take(&mut self) -> Option<Owned> {
        let mut state = self.shared.lock();
        if state.events.is_empty() && state.senders > 0 {
            state = match self.shared.filled.wait_timeout(state, self.patience) {
                Ok((state, _)) => state,
                Err(poisoned) => poisoned.into_inner().0,
            };
        }
        let Some(event) = state.events.pop_front() else {
            return (state.senders > 0).then_some(Owned::Idle { time: None });
        };
        state.bytes -= event.size();
        self.shared.emptied.notify_all();
        Some(event)
    }
}

impl Drop for EventQueue {
    fn drop(&mut self) {
        self.shared.lock().left = true;
        self.shared.emptied.notify_all();
    }
}

impl Source for EventQueue {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        match self.take() {
            Some(Owned::Failed(error)) => Err(error),
            event => {
                self.event = event;
                Ok(self.event.as_ref().map(Owned::lend))
            }
        }
    }

    fn stream(&self) -> Option<&str> {
        self.stream.as_deref()
    }

    fn has_times(&self) -> bool {
        self.has_times
    }

    fn has_lines(&self) -> bool {
        self.has_lines
    }

    fn is_live(&self) -> bool {
        self.is_live
    }

    fn has_more(&self) -> bool {
        !self.shared.lock().events.is_empty()
    }

    fn tells_faults(&self) -> bool {
        self.tells_faults
    }

    fn remarks(&self) -> Vec<Remark> {
        let state = self.shared.lock();
        let mut remarks = state.remarks.clone();
        if state.lost > 0 {
            remarks.push(Remark::NotConverted { bytes: state.lost });
        }
        remarks
    }
}
