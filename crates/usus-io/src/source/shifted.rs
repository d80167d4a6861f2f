//! A source whose clock is put right.

use usus::{Span, Time};

use super::{Source, SourceError, SourceEvent};

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
    fn inner(&self) -> Option<&dyn Source> {
        Some(&*self.source)
    }

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

    fn set_serial(&mut self, serial: usus::format::Serial) -> Option<Result<(), crate::PortError>> {
        self.source.set_serial(serial)
    }
}
