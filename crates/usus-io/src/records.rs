//! The records of a source by an ordinary iterator: for whoever wants to keep them rather than to see each as it passes.

use std::collections::VecDeque;

use usus::{Chunk, Decoder, LineId, OwnedRecord, Plan, Record};

use crate::pump::PumpError;
use crate::source::{Source, SourceEvent};

/// The records of a source, each a copy: what [`records`] gives.
pub struct Records {
    source: Box<dyn Source>,
    decoder: Decoder,
    /// The decoder's lines, in the order of the source's.
    lines: Vec<LineId>,
    ready: VecDeque<OwnedRecord>,
    ended: bool,
}

/// The records of a source, one by one, as they come. What is no record is left out; [`Records::decoder`] has the account of it.
///
/// ```
/// use usus::Format;
/// use usus_io::{RawReader, records};
///
/// let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]")?;
/// let source = RawReader::new(&b"12.5\n13.25\n"[..], None);
/// let weights: Vec<String> = records(Box::new(source), &format.compile()?)
///     .map(|record| Ok(format!("{:?}", record?.get("weight").unwrap().value)))
///     .collect::<Result<_, Box<dyn std::error::Error>>>()?;
/// assert_eq!(weights.len(), 2);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn records(source: Box<dyn Source>, plan: &Plan) -> Records {
    Records { source, decoder: Decoder::new(plan), lines: Vec::new(), ready: VecDeque::new(), ended: false }
}

impl Records {
    /// The decoder, with the ledgers of what was decoded so far.
    pub fn decoder(&self) -> &Decoder {
        &self.decoder
    }

    /// Takes the next event of the source.
    fn go_on(&mut self) -> Result<(), PumpError<std::convert::Infallible>> {
        let ready = &mut self.ready;
        let mut keep = |record: &Record<'_>| ready.push_back(record.to_owned());
        match self.source.next().map_err(PumpError::Source)? {
            None => {
                self.ended = true;
                let Ok(()) = self.decoder.finish().drain(&mut keep);
            }
            Some(SourceEvent::Line(line)) => match self.decoder.line(&line.name, line.start) {
                Some(id) => self.lines.push(id),
                None => {
                    let roles = self.decoder.plan().roles().collect::<Vec<_>>().join(", ");
                    return Err(PumpError::UnknownLine { line: line.name.clone(), roles });
                }
            },
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                if let Some(line) = self.lines.get(line).copied() {
                    let Ok(()) = self.decoder.decode(Chunk { line, time, bytes, faults }, &mut keep);
                }
            }
            Some(SourceEvent::Loss { line, why, time }) => {
                if let Some(line) = self.lines.get(line).copied() {
                    let Ok(()) = self.decoder.loss(line, why, time).drain(&mut keep);
                }
            }
            Some(SourceEvent::Idle { time: Some(now) }) => {
                let Ok(()) = self.decoder.tick(now).drain(&mut keep);
            }
            Some(SourceEvent::Idle { time: None } | SourceEvent::Gone { .. } | SourceEvent::Note { .. }) => {}
        }
        Ok(())
    }
}

impl Iterator for Records {
    type Item = Result<OwnedRecord, PumpError<std::convert::Infallible>>;

    /// The next record; waits for it where the source is live. An error of the source ends it.
    fn next(&mut self) -> Option<Self::Item> {
        loop {
            if let Some(record) = self.ready.pop_front() {
                return Some(Ok(record));
            }
            if self.ended {
                return None;
            }
            if let Err(error) = self.go_on() {
                self.ended = true;
                return Some(Err(error));
            }
        }
    }
}
