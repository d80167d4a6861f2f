//! A span of time cut out of a source.

use std::collections::VecDeque;

use jiff::civil::DateTime;
use jiff::{Timestamp, tz::Offset};
use usus::Time;

use super::{LineInfo, Remark, Source, SourceError, SourceEvent, Torn};
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

/// What another source says from one time on until another. Each line keeps its stream offsets; one on which nothing comes in that time is
/// left out. Of what is live, nothing more is waited for once the time is over.
pub struct Between {
    source: Box<dyn Source + Send>,
    begin: Option<Time>,
    end: Option<Time>,
    lines: Vec<Line>,
    shown: usize,
    waiting: VecDeque<Owned>,
    event: Option<Owned>,
}

/// A line of the source.
struct Line {
    info: LineInfo,
    /// Its number here, once something came on it.
    number: Option<usize>,
}

impl Between {
    /// What comes at `begin` or later, and before `end`.
    pub fn new(source: Box<dyn Source + Send>, begin: Option<Time>, end: Option<Time>) -> Between {
        Between { source, begin, end, lines: Vec::new(), shown: 0, waiting: VecDeque::new(), event: None }
    }
}

impl Source for Between {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if let Some(event) = self.waiting.pop_front() {
            self.event = Some(event);
            return Ok(self.event.as_ref().map(Owned::lend));
        }
        let live = self.source.is_live();
        loop {
            let Some(event) = self.source.next()? else { return Ok(None) };
            let (line, time) = match &event {
                SourceEvent::Line(info) => {
                    self.lines.push(Line { info: info.clone(), number: None });
                    continue;
                }
                SourceEvent::Idle { time } => (None, *time),
                SourceEvent::Chunk { line, time, .. }
                | SourceEvent::Loss { line, time, .. }
                | SourceEvent::Note { line, time, .. }
                | SourceEvent::Gone { line, time } => (Some(*line), *time),
            };
            if let (Some(time), Some(end)) = (time, self.end)
                && time >= end
            {
                if live {
                    return Ok(None);
                }
                continue;
            }
            let Some(number) = line else {
                self.event = Some(Owned::of(event));
                return Ok(self.event.as_ref().map(Owned::lend));
            };
            let Some(line) = self.lines.get_mut(number) else { continue };
            let before = match (time, self.begin) {
                (Some(time), Some(begin)) => time < begin,
                // What has no time belongs to what it stands beside.
                (None, Some(_)) => line.number.is_none(),
                (_, None) => false,
            };
            if before {
                if let SourceEvent::Chunk { bytes, .. } = &event {
                    line.info.start += bytes.len() as u64;
                }
                continue;
            }
            let mut event = Owned::of(event);
            match line.number {
                Some(number) => event.set_line(number),
                None => {
                    event.set_line(self.shown);
                    line.number = Some(self.shown);
                    self.shown += 1;
                    self.waiting.push_back(event);
                    event = Owned::Line(line.info.clone());
                }
            }
            self.event = Some(event);
            return Ok(self.event.as_ref().map(Owned::lend));
        }
    }

    fn stream(&self) -> Option<&str> {
        self.source.stream()
    }

    fn has_times(&self) -> bool {
        self.source.has_times()
    }

    fn has_lines(&self) -> bool {
        self.source.has_lines()
    }

    fn is_live(&self) -> bool {
        self.source.is_live()
    }

    fn has_more(&self) -> bool {
        !self.waiting.is_empty() || self.source.has_more()
    }

    fn size(&self) -> Option<u64> {
        self.source.size()
    }

    fn torn(&self) -> Option<Torn> {
        self.source.torn()
    }

    fn remarks(&self) -> Vec<Remark> {
        self.source.remarks()
    }

    fn tells_faults(&self) -> bool {
        self.source.tells_faults()
    }
}
