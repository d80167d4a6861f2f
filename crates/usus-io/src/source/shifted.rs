//! A source whose clock is put right.

use usus::{Span, Time};

use super::{Remark, Source, SourceError, SourceEvent, Torn};

/// Another source with all its times moved.
pub struct Shifted {
    source: Box<dyn Source + Send>,
    shift: Span,
}

impl Shifted {
    /// Moves the times of `source` by `shift`: later, or, if it is negative, earlier.
    pub fn new(source: Box<dyn Source + Send>, shift: Span) -> Shifted {
        Shifted { source, shift }
    }
}

impl Source for Shifted {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        let shift = self.shift;
        let moved = |time: Option<Time>| time.map(|time| time.after(shift));
        Ok(self.source.next()?.map(|event| match event {
            SourceEvent::Chunk { line, time, bytes, faults } => {
                SourceEvent::Chunk { line, time: moved(time), bytes, faults }
            }
            SourceEvent::Loss { line, why, time } => SourceEvent::Loss { line, why, time: moved(time) },
            SourceEvent::Gone { line, time } => SourceEvent::Gone { line, time: moved(time) },
            SourceEvent::Idle { time } => SourceEvent::Idle { time: moved(time) },
            other => other,
        }))
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

    fn size(&self) -> Option<u64> {
        self.source.size()
    }

    fn torn(&self) -> Option<Torn> {
        self.source.torn()
    }

    fn remarks(&self) -> Vec<Remark> {
        self.source.remarks()
    }

    fn has_more(&self) -> bool {
        self.source.has_more()
    }

    fn tells_faults(&self) -> bool {
        self.source.tells_faults()
    }

    fn set_serial(&mut self, serial: usus::format::Serial) -> Option<Result<(), crate::PortError>> {
        self.source.set_serial(serial)
    }
}
