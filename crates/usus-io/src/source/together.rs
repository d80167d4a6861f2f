//! Several sources that are listened to at once, as lines of one, in the order of their times.

use std::collections::BTreeMap;
use std::time::Duration;

use usus::{Span, Time};

use super::clock::Clock;
use super::{LineInfo, Source, SourceError, SourceEvent};
use crate::listen::Stop;
use crate::queue::{EventQueue, EventSender, Owned, WhenFull, queue};

/// Several lines are waited for so long after the latest of their adapters: a thread may be late, too.
const SLACK: Span = Span::from_nanoseconds(5_000_000);
/// What may wait to be taken, in bytes, before sources are not read on.
const LIMIT: usize = 32 << 20;
/// Lines of one source; its number is counted in multiples of this.
const LINES: usize = 1 << 16;
/// How long it is waited before it is told that nothing comes.
const PATIENCE: Duration = Duration::from_millis(100);

/// A source that is to be listened to with others.
pub struct Member {
    /// What its line is called. A source with lines of its own keeps their names; this one stands before them, if it is not empty.
    pub name: String,
    /// It, with times as they are.
    pub source: Box<dyn Source + Send>,
    /// How late its adapter hands on what came: its times are so much earlier.
    pub lateness: Span,
    /// By how much its times are to be moved.
    pub shift: Span,
}

impl Member {
    /// A source without a name of which the times are right.
    pub fn new(source: Box<dyn Source + Send>) -> Member {
        Member { name: String::new(), source, lateness: Span::default(), shift: Span::default() }
    }
}

/// Several sources as one, each listened to on a thread of its own.
///
/// What comes is handed out in the order of its times, also if an adapter is later than another: a line is held back for as long as the
/// latest of them may still bring something earlier, and five milliseconds longer. A single source is not held back.
///
/// A source that fails is told by an error; the others go on, and so does this when it is asked again.
pub struct Together {
    queue: EventQueue,
    clock: Clock,
    /// By the number of the source.
    sources: Vec<Delay>,
    /// How long after the time of an event nothing earlier can come.
    hold: Span,
    /// Numbers of the lines here, by those of the sources.
    lines: BTreeMap<usize, usize>,
    announced: usize,
    /// What came and is held back, by its time and its turn.
    held: BTreeMap<(Time, u64), Owned>,
    turn: u64,
    ended: bool,
    several: bool,
    event: Option<Owned>,
}

struct Delay {
    name: String,
    /// Whether its one line is announced here.
    is_line: bool,
    shift: Span,
}

impl Together {
    /// Begins to listen, until all sources end or it is to stop.
    pub fn listen(members: Vec<Member>, clock: Clock, stop: &Stop) -> Together {
        let several = members.len() > 1;
        let latest = members.iter().map(|member| member.lateness).max().unwrap_or_default();
        let hold = if several { Span::from_nanoseconds(latest.nanoseconds() + SLACK.nanoseconds()) } else { latest };
        let about = About {
            has_lines: several || members.iter().any(|member| member.source.has_lines() || !member.name.is_empty()),
            is_live: members.iter().any(|member| member.source.is_live()),
            tells_faults: members.iter().any(|member| member.source.tells_faults()),
        };
        let (sender, mut queue) = queue(&about, LIMIT, WhenFull::Wait);
        queue.patience = PATIENCE;
        let mut sources = Vec::new();
        for (number, member) in members.into_iter().enumerate() {
            let is_line = !member.source.has_lines();
            sources.push(Delay { name: member.name.clone(), is_line, shift: member.shift });
            let listener = Listener {
                first_line: number * LINES,
                sender: sender.clone(),
                clock: clock.clone(),
                stop: stop.clone(),
            };
            std::thread::spawn(move || listener.listen(member));
        }
        Together {
            queue,
            clock,
            sources,
            hold,
            lines: BTreeMap::new(),
            announced: 0,
            held: BTreeMap::new(),
            turn: 0,
            ended: false,
            several,
            event: None,
        }
    }

    /// Takes in what has come, and says what is to be told now.
    fn step(&mut self) -> Result<Option<Owned>, SourceError> {
        loop {
            // Lines have the order of the sources, whichever speaks first.
            if let Some(source) = self.sources.get(self.announced) {
                let number = self.announced;
                self.announced += 1;
                if source.is_line {
                    self.lines.insert(number * LINES, self.lines.len());
                    return Ok(Some(Owned::Line(LineInfo::new(source.name.clone()))));
                }
                continue;
            }
            let now = self.clock.now();
            let due = |time: Time| !self.several || self.ended || time.after(self.hold) <= now;
            if let Some(first) = self.held.first_entry()
                && due(first.key().0)
            {
                return Ok(Some(first.remove()));
            }
            self.queue.patience = match self.held.first_key_value() {
                Some(((time, _), _)) => {
                    let wait = time.after(self.hold).since(now).nanoseconds().max(0);
                    PATIENCE.min(Duration::from_nanos(wait as u64))
                }
                None => PATIENCE,
            };
            match self.queue.take() {
                None if self.held.is_empty() => return Ok(None),
                None => self.ended = true,
                Some(Owned::Failed(error)) => return Err(error),
                Some(Owned::Line(info)) => {
                    if let Some(line) = self.line(info) {
                        return Ok(Some(line));
                    }
                }
                Some(Owned::Idle { .. }) if self.held.is_empty() => {
                    let shift = self.sources.iter().map(|source| source.shift).min().unwrap_or_default();
                    let early = Span::from_nanoseconds(-self.hold.nanoseconds());
                    return Ok(Some(Owned::Idle { time: Some(now.after(early).after(shift)) }));
                }
                Some(Owned::Idle { .. }) => {}
                Some(event) => self.hold_back(event),
            }
        }
    }

    /// A line that a source with lines of its own has announced.
    fn line(&mut self, mut info: LineInfo) -> Option<Owned> {
        // What is live begins at 0; on its way here this holds the line's number.
        let number = std::mem::take(&mut info.start) as usize;
        let source = self.sources.get(number / LINES).filter(|source| !source.is_line)?;
        if !source.name.is_empty() {
            info.name = format!("{}/{}", source.name, info.name);
        }
        self.lines.insert(number, self.lines.len());
        Some(Owned::Line(info))
    }

    fn hold_back(&mut self, mut event: Owned) {
        let Some(line) = event.line() else { return };
        let shift = self.sources.get(line / LINES).map_or(Span::default(), |source| source.shift);
        let Some(here) = self.lines.get(&line) else { return };
        event.set_line(*here);
        let now = self.clock.now();
        // Nothing is from the future: it would be held back until then.
        let unshifted = Span::from_nanoseconds(-shift.nanoseconds());
        let time = event.time().map_or(now, |time| time.after(unshifted)).min(now);
        self.turn += 1;
        self.held.insert((time, self.turn), event);
    }
}

/// What the sources have in common.
struct About {
    has_lines: bool,
    is_live: bool,
    tells_faults: bool,
}

impl Source for About {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        Ok(None)
    }

    fn has_times(&self) -> bool {
        true
    }

    fn has_lines(&self) -> bool {
        self.has_lines
    }

    fn is_live(&self) -> bool {
        self.is_live
    }

    fn tells_faults(&self) -> bool {
        self.tells_faults
    }
}

/// Listens to one of them.
struct Listener {
    first_line: usize,
    sender: EventSender,
    clock: Clock,
    stop: Stop,
}

impl Listener {
    fn listen(self, mut member: Member) {
        let live = member.source.is_live() && member.source.has_times();
        let early = Span::from_nanoseconds(-member.lateness.nanoseconds());
        let first = self.first_line;
        let mut lines = 0;
        while !self.stop.is_asked_for() {
            let event = match member.source.next() {
                Ok(Some(event)) => event,
                Ok(None) => break,
                Err(error) => {
                    let name = member.name.clone();
                    self.sender.fail(SourceError::OfLine { name, error: Box::new(error) });
                    break;
                }
            };
            // What has no times, or those of another day, arrives now.
            let stamp = |time: Option<Time>| {
                let time = time.filter(|_| live).unwrap_or_else(|| self.clock.now());
                Some(time.after(early).after(member.shift))
            };
            let event = match event {
                SourceEvent::Line(mut info) => {
                    info.start = (first + lines) as u64;
                    lines += 1;
                    SourceEvent::Line(info)
                }
                SourceEvent::Chunk { line, time, bytes, faults } => {
                    SourceEvent::Chunk { line: first + line, time: stamp(time), bytes, faults }
                }
                SourceEvent::Loss { line, why, time } => {
                    SourceEvent::Loss { line: first + line, why, time: stamp(time) }
                }
                SourceEvent::Note { line, time, text } => {
                    SourceEvent::Note { line: first + line, time: stamp(time), text }
                }
                SourceEvent::Gone { line, time } => SourceEvent::Gone { line: first + line, time: stamp(time) },
                SourceEvent::Idle { .. } => SourceEvent::Idle { time: None },
            };
            if !self.sender.send(event) {
                break;
            }
        }
        self.sender.remark(member.source.remarks());
    }
}

impl Source for Together {
    fn inner(&self) -> Option<&dyn Source> {
        Some(&self.queue)
    }

    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        self.event = self.step()?;
        Ok(self.event.as_ref().map(Owned::lend))
    }
}
