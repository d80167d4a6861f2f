//! What lines say on its way through the stages.

use alloc::vec::Vec;

use super::inside::LineInside;
use super::lines::Lines;
use crate::event::{Notice, Reject};
use crate::plan::Plan;
use crate::record::{Kept, Record};
use crate::sink::Sink;
use crate::stage::{Said, Stages};

/// Takes what a line says, and gives a sink what the stages make of it.
pub(super) struct Staged<'a, S> {
    pub(super) plan: &'a Plan,
    pub(super) stages: &'a mut Stages,
    /// What the ledgers are to be told.
    pub(super) settled: &'a mut Vec<Settled>,
    pub(super) sink: &'a mut S,
}

/// What became of a frame that was held.
pub(super) struct Settled {
    /// The number of its line.
    line: usize,
    length: u64,
    is_recorded: bool,
    /// The kind of the record that begins with it.
    kind: Option<u16>,
}

impl Settled {
    /// What the ledgers are told of something that is said.
    fn of(said: &Said, settled: &mut Vec<Settled>) {
        let mut settle = |kept: &Kept, is_recorded, kind| {
            let (line, length) = (kept.origin.line.index(), kept.frame.len() as u64);
            settled.push(Settled { line, length, is_recorded, kind });
        };
        match said {
            Said::Record(row) => row.parts.iter().enumerate().for_each(|(index, part)| {
                settle(part, true, (index == 0).then_some(row.kind));
            }),
            Said::Reject(kept, _) => settle(kept, false, None),
            Said::Notice(..) => {}
        }
    }
}

impl<S: Sink> Staged<'_, S> {
    fn say(&mut self) -> Result<(), S::Error> {
        say_on(self.plan, self.stages, self.settled, self.sink)
    }
}

/// Says what the stages have to say.
pub(super) fn say<S: Sink>(plan: &Plan, lines: &mut Lines, stages: &mut Stages, sink: &mut S) -> Result<(), S::Error> {
    let mut settled = Vec::new();
    let result = say_on(plan, stages, &mut settled, sink);
    settle(settled, lines);
    result
}

fn say_on<S: Sink>(plan: &Plan, stages: &mut Stages, settled: &mut Vec<Settled>, sink: &mut S) -> Result<(), S::Error> {
    if let Some(said) = stages.lent.take() {
        stages.spend(said);
    }
    while let Some(said) = stages.next() {
        Settled::of(&said, settled);
        // It stays, for whoever is shown it.
        let said = stages.lent.insert(said);
        if let Some(event) = said.event(plan) {
            sink.event(event)?;
        }
        if let Some(said) = stages.lent.take() {
            stages.spend(said);
        }
    }
    Ok(())
}

/// Tells the ledgers what became of frames.
pub(super) fn settle(settled: Vec<Settled>, lines: &mut Lines) {
    for Settled { line, length, is_recorded, kind } in settled {
        if let Some(line) = lines.get_mut(line) {
            line.settle(length, is_recorded, kind);
        }
    }
}

impl<S: Sink> Sink for Staged<'_, S> {
    type Error = S::Error;

    fn line_inside(&mut self, inside: &LineInside<'_>) {
        self.sink.line_inside(inside);
    }

    fn record(&mut self, record: &Record<'_>) -> Result<(), S::Error> {
        if !record.compiled.staged {
            return self.sink.record(record);
        }
        self.stages.record(self.plan, record);
        self.say()
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), S::Error> {
        self.sink.reject(reject)
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), S::Error> {
        self.sink.clipped(clipped)
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), S::Error> {
        self.sink.notice(notice)
    }
}
