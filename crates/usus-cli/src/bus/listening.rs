//! A source that is listened to until it ends, or as far as it has come.

use std::sync::atomic::{AtomicBool, Ordering};

use usus::bus::Survey;
use usus::format::Serial;
use usus::{Chunk, Decoder, Format, LineId};
use usus_io::{Source, SourceEvent};

/// A source, and what is heard of it.
pub(super) struct Listening {
    source: Box<dyn Source + Send>,
    /// The only line of the source that is meant.
    only: Option<String>,
    /// The lines of the source.
    names: Vec<String>,
    /// What is heard, by each of the formats.
    hearings: Vec<Hearing>,
}

/// What is heard by one format.
pub(super) struct Hearing {
    pub(super) format: Format,
    /// The settings of the line, if they are known.
    pub(super) serial: Option<Serial>,
    pub(super) survey: Survey,
    /// How many bytes came.
    pub(super) bytes: u64,
    decoder: Decoder,
    /// What the lines of the source are to the decoder.
    lines: Vec<Option<LineId>>,
}

impl Listening {
    /// Listens to a line with those settings, which those of a format go before.
    pub(super) fn new(
        only: Option<String>,
        formats: Vec<Format>,
        serial: Option<Serial>,
        source: Box<dyn Source + Send>,
    ) -> Result<Listening, String> {
        let hearings = formats.into_iter().map(|format| Hearing::new(format, serial)).collect::<Result<_, _>>()?;
        Ok(Listening { source, only, names: Vec::new(), hearings })
    }

    /// What makes the most of what came.
    pub(super) fn best(&self) -> &Hearing {
        let messages = |place: &usize| self.hearings[*place].survey.bytes().0;
        // Of those that make as much of it, the first.
        let best = (0..self.hearings.len()).rev().max_by_key(messages);
        &self.hearings[best.unwrap_or(0)]
    }

    /// Hears all until the source ends.
    pub(super) fn hear_all(&mut self, stop: &AtomicBool) -> Result<(), String> {
        while !stop.load(Ordering::Relaxed) && self.step()? {}
        self.finish();
        let heard = self.hearings.iter().any(|hearing| hearing.lines.iter().any(Option::is_some));
        match heard || self.names.is_empty() {
            true => Ok(()),
            false => Err(format!("there is no line {}: {}", self.only.as_deref().unwrap_or_default(), self.lines())),
        }
    }

    /// Nothing comes any more.
    pub(super) fn finish(&mut self) {
        for Hearing { decoder, survey, .. } in &mut self.hearings {
            let Ok(()) = decoder.finish().drain(survey);
        }
    }

    fn lines(&self) -> String {
        format!("the source has the lines {}", self.names.join(", "))
    }

    /// Takes the next event of the source. Whether there may be more.
    pub(super) fn step(&mut self) -> Result<bool, String> {
        let event = self.source.next().map_err(|error| error.to_string())?;
        let Some(event) = event else { return Ok(false) };
        let mut is_another = false;
        if let SourceEvent::Line(info) = &event {
            self.names.push(info.name.clone());
        }
        for hearing in &mut self.hearings {
            is_another |= hearing.take(&event, self.only.as_deref())?;
        }
        match is_another {
            false => Ok(true),
            true => Err(format!(
                "{}; --line says which one is the bus, or --requests and --answers which two are",
                self.lines()
            )),
        }
    }
}

impl Hearing {
    fn new(format: Format, serial: Option<Serial>) -> Result<Hearing, String> {
        let mut set = format.clone();
        set.serial = format.serial.or(serial);
        let plan = Survey::plan_of(&set.compile().map_err(|problems| problems.to_string())?);
        let survey = Survey::new(&plan);
        match survey.is_of_bus() {
            true => {
                let decoder = Decoder::new(&plan);
                Ok(Hearing { format, serial: set.serial, survey, bytes: 0, decoder, lines: Vec::new() })
            }
            false => Err("the format has no transactions of a Modbus line".to_owned()),
        }
    }

    /// Takes an event of the source. Whether it is another line where only one can be heard.
    fn take(&mut self, event: &SourceEvent<'_>, only: Option<&str>) -> Result<bool, String> {
        let Hearing { survey, decoder, lines, .. } = self;
        let line = |line: usize| lines.get(line).copied().flatten();
        match *event {
            SourceEvent::Line(ref info) => {
                let is_meant = only.is_none_or(|only| only == info.name);
                let is_first = self.lines.iter().all(Option::is_none);
                if is_meant && is_first && self.serial.is_none() {
                    let lines = std::mem::take(&mut self.lines);
                    *self = Hearing { lines, ..Hearing::new(self.format.clone(), info.serial)? };
                }
                let several = self.decoder.plan().roles().next().is_some();
                let role = if several { info.name.as_str() } else { "" };
                let line = if is_meant { self.decoder.line(role, info.start) } else { None };
                self.lines.push(line);
                return Ok(is_meant && !several && !is_first);
            }
            SourceEvent::Chunk { line: at, time, bytes, faults } => {
                if let Some(line) = line(at) {
                    self.bytes += bytes.len() as u64;
                    let Ok(()) = decoder.decode(Chunk { line, time, bytes, faults }, survey);
                }
            }
            SourceEvent::Loss { line: at, why, time } => {
                if let Some(line) = line(at) {
                    let Ok(()) = decoder.loss(line, why, time).drain(survey);
                }
            }
            SourceEvent::Idle { time: Some(now) } => {
                let Ok(()) = decoder.tick(now).drain(survey);
            }
            _ => {}
        }
        Ok(false)
    }
}
