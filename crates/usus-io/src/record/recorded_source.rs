//! A source of which everything is recorded, and served to others, on its way.

use std::path::{Path, PathBuf};

use usus::Time;

use super::parts::{Parts, Rotation};
use super::{RecordError, RecordedLine, Recorder, Standing};
use crate::serve::Server;
use crate::source::clock::{Clock, step_text};
use crate::source::{Remark, Source, SourceError, SourceEvent};

/// A source of which everything is recorded on its way. Its end is told once everything is on the disk.
pub struct RecordedSource {
    source: Box<dyn Source + Send>,
    parts: Parts,
    clock: Clock,
    /// The time of what has none.
    last: Time,
    servers: Vec<(usize, Server)>,
    /// Lines that were announced so far.
    announced: usize,
    /// Whether it was said that nothing is kept any more.
    gave_up: bool,
    /// Whether what comes is written before it is passed on.
    at_once: bool,
}

impl RecordedSource {
    /// Records what comes from `source`, whose lines are those of the recorder; lines beyond these are added. `clock` is the one that the
    /// source's times are of: its steps are noted.
    pub fn new(source: Box<dyn Source + Send>, recorder: Recorder, clock: Clock) -> RecordedSource {
        let last = clock.now();
        RecordedSource {
            source,
            parts: Parts::new(recorder),
            clock,
            last,
            servers: Vec::new(),
            announced: 0,
            gave_up: false,
            at_once: false,
        }
    }

    /// Writes what comes before it is passed on, so that whatever is made of it is in the recording, also after a kill. Without this, the last second
    /// may be missing there.
    pub fn write_at_once(&mut self) {
        self.at_once = true;
    }

    /// Goes on in other files from time to time: `tower.pcapng` in `tower.2.pcapng`, and so on.
    pub fn rotate(&mut self, rotation: Rotation) {
        self.parts.rotate(rotation);
    }

    /// Gives what arrives on a line to other programs as well.
    pub fn serve(&mut self, line: usize, server: Server) {
        self.servers.push((line, server));
    }

    /// Those who serve it.
    pub fn servers_mut(&mut self) -> impl Iterator<Item = &mut Server> {
        self.servers.iter_mut().map(|(_, server)| server)
    }

    /// Records a note about a line.
    pub fn note(&mut self, line: usize, text: &str) {
        self.parts.recorder.note(line, self.clock.now(), text);
    }

    /// How it stands.
    pub fn standing(&self) -> Standing {
        self.parts.recorder.standing()
    }

    /// The file that is recorded into.
    pub fn path(&self) -> &Path {
        self.parts.recorder.path()
    }

    /// All files so far, under the names that they have by now.
    pub fn files(&self) -> Vec<PathBuf> {
        self.parts.paths()
    }
}

impl Source for RecordedSource {
    fn inner(&self) -> Option<&dyn Source> {
        Some(&*self.source)
    }

    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if let Some(step) = self.clock.step() {
            let (time, text) = (self.clock.now(), step_text(step));
            self.parts.recorder.note(0, time, &text);
            return Ok(Some(SourceEvent::Note { line: 0, time: Some(time), text }));
        }
        self.parts.tick();
        if !self.gave_up && self.parts.recorder.is_deleted() {
            self.gave_up = true;
            let path = self.parts.recorder.path().to_owned();
            return Err(SourceError::NotKept(Box::new(RecordError::Deleted { path })));
        }
        let mut event = self.source.next()?;
        let recorder = &mut self.parts.recorder;
        match &mut event {
            Some(SourceEvent::Line(info)) => {
                // A recording that is continued goes on with its offsets.
                info.start = recorder.offset(self.announced).unwrap_or(info.start);
                self.announced += 1;
                if self.announced > recorder.lines().len() {
                    recorder.line(RecordedLine::new(info.name.clone()));
                }
            }
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                self.last = time.unwrap_or(self.last);
                recorder.chunk(*line, self.last, bytes, faults);
                for (_, server) in self.servers.iter_mut().filter(|(served, _)| served == line) {
                    server.give(bytes);
                }
            }
            Some(SourceEvent::Loss { line, why, time }) => recorder.loss(*line, time.unwrap_or(self.last), *why),
            Some(SourceEvent::Note { line, text, time }) => recorder.note(*line, time.unwrap_or(self.last), text),
            Some(SourceEvent::Idle { .. }) => self.servers.iter_mut().for_each(|(_, server)| server.give(&[])),
            Some(SourceEvent::Gone { .. }) => {}
            None => self.parts.finish().map_err(|error| SourceError::NotKept(Box::new(error)))?,
        }
        if self.at_once && event.is_some() {
            self.parts.recorder.write_now();
        }
        Ok(event)
    }

    fn stream(&self) -> Option<&str> {
        Some(&self.parts.recorder.stream)
    }

    fn remarks(&self) -> Vec<Remark> {
        let mut remarks = self.source.remarks();
        remarks.extend(self.parts.remarks());
        remarks
    }
}
