//! A span of time cut out of a source.

use std::collections::VecDeque;

use jiff::civil::DateTime;
use jiff::{Timestamp, tz::Offset};
use usus::Time;

use super::{LineInfo, Source, SourceError, SourceEvent};
use crate::queue::Owned;

/// A time as people write it, in ISO 8601: `2026-11-25T06:30:00Z`, `2026-11-25 06:30`, `2026-11-25`, `2026-11-25T07:30:00.5+01:00`. Without an
/// offset it is in UTC.
pub fn parse_time(text: &str) -> Option<Time> {
    let written = text.parse::<Timestamp>().ok().or_else(|| {
        let civil = text.parse::<DateTime>().ok()?;
        Offset::UTC.to_timestamp(civil).ok()
    });
    written.and_then(|time| i64::try_from(time.as_nanosecond()).ok()).map(Time::from_nanoseconds)
}

/// What another source says from one time on until another. Its lines keep their numbers and stream offsets. Once something comes at the begin or
/// later, what follows is taken to be later, too. Of what is live, nothing more is waited for once the time is over.
pub struct Between {
    source: Box<dyn Source + Send>,
    begin: Option<Time>,
    end: Option<Time>,
    /// Lines that were announced before the time has begun, with the offsets at which they will go on.
    lines: Vec<LineInfo>,
    waiting: VecDeque<Owned>,
    event: Option<Owned>,
}

impl Between {
    /// What comes at `begin` or later, and before `end`.
    pub fn new(source: Box<dyn Source + Send>, begin: Option<Time>, end: Option<Time>) -> Between {
        Between { source, begin, end, lines: Vec::new(), waiting: VecDeque::new(), event: None }
    }

    /// Reads on until the time has begun. Says whether it has.
    fn skip_to(&mut self, begin: Time) -> Result<bool, SourceError> {
        while let Some(event) = self.source.next()? {
            match event {
                SourceEvent::Line(info) => self.lines.push(info),
                SourceEvent::Idle { .. } => return Ok(false),
                SourceEvent::Chunk { line, time, bytes, .. } if time.is_none_or(|time| time < begin) => {
                    if let Some(line) = self.lines.get_mut(line) {
                        line.start += bytes.len() as u64;
                    }
                }
                SourceEvent::Loss { time, .. } | SourceEvent::Note { time, .. } | SourceEvent::Gone { time, .. }
                    if time.is_none_or(|time| time < begin) => {}
                event => {
                    let event = Owned::of(event);
                    self.begin = None;
                    self.waiting.extend(self.lines.drain(..).map(Owned::Line));
                    self.waiting.push_back(event);
                    return Ok(true);
                }
            }
        }
        self.begin = None;
        Ok(true)
    }

    fn is_over(&self, time: Option<Time>) -> bool {
        matches!((time, self.end), (Some(time), Some(end)) if time >= end)
    }
}

impl Source for Between {
    fn inner(&self) -> Option<&dyn Source> {
        Some(&*self.source)
    }

    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if let Some(begin) = self.begin
            && !self.skip_to(begin)?
        {
            return Ok(Some(SourceEvent::Idle { time: None }));
        }
        loop {
            let event = match self.waiting.pop_front() {
                Some(event) => event,
                None => match self.source.next()? {
                    Some(event) => Owned::of(event),
                    None => return Ok(None),
                },
            };
            if self.is_over(event.time()) {
                if self.source.is_live() {
                    return Ok(None);
                }
                continue;
            }
            self.event = Some(event);
            return Ok(self.event.as_ref().map(Owned::lend));
        }
    }

    fn has_more(&self) -> bool {
        !self.waiting.is_empty() || self.source.has_more()
    }
}
