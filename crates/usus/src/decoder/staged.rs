//! What lines say on its way through the stages.

use alloc::vec::Vec;

use super::inside::LineInside;
use super::lines::Lines;
use crate::event::{Notice, NoticeKind, Reject};
use crate::plan::Plan;
use crate::record::{Kept, Record};
use crate::sink::Sink;
use crate::stage::{Rejected, Said, Stages};

/// Takes what a line says, and gives a sink what the stages make of it.
pub(super) struct Staged<'a, S> {
    pub(super) plan: &'a Plan,
    pub(super) stages: &'a mut Stages,
    /// What the ledgers are to be told.
    pub(super) settled: &'a mut Vec<Settled>,
    pub(super) sink: &'a mut S,
}

/// What became of a frame that was held.
pub(super) enum Settled {
    /// So many bytes of a line are recorded.
    Recorded { line: usize, length: u64 },
    /// A record was made.
    Record { line: usize, kind: u16 },
    /// So many bytes of a line are rejected.
    Rejected { line: usize, length: u64, clipped: bool },
    /// A frame is ignored, and counted by that name.
    Ignored { line: usize, length: u64, name: Option<Vec<u8>> },
}

impl Settled {
    /// What the ledgers are told of something that is said.
    fn of(said: &Said, settled: &mut Vec<Settled>) {
        let line = |kept: &Kept| kept.origin.line.index();
        match said {
            Said::Record(row) => {
                row.frames(&mut |kept| {
                    settled.push(Settled::Recorded { line: line(kept), length: kept.frame.len() as u64 });
                });
                settled.extend(row.first().map(|first| Settled::Record { line: line(first), kind: row.kind }));
            }
            Said::Reject(Rejected { kept, clipped, .. }) => {
                let (length, clipped) = (kept.frame.len() as u64, *clipped);
                settled.push(Settled::Rejected { line: line(kept), length, clipped });
            }
            Said::Ignored(kept, ignore) => {
                let record = kept.record();
                let ignore = ignore.and_then(|ignore| kept.origin.plan.0.ignores.get(usize::from(ignore)));
                let name = ignore.and_then(|ignore| record.cells.counted_by(ignore.count_by.as_ref()?));
                settled.push(Settled::Ignored { line: line(kept), length: kept.frame.len() as u64, name });
            }
            Said::Notice(..) | Said::Passed(_) | Said::Gap(_) => {}
        }
    }

    fn line(&self) -> usize {
        let (Settled::Recorded { line, .. }
        | Settled::Record { line, .. }
        | Settled::Rejected { line, .. }
        | Settled::Ignored { line, .. }) = self;
        *line
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
    for settled in settled {
        if let Some(line) = lines.get_mut(settled.line()) {
            line.settle(settled);
        }
    }
}

impl<S: Sink> Sink for Staged<'_, S> {
    type Error = S::Error;

    fn line_inside(&mut self, inside: &LineInside<'_>) {
        if let Some(of) = self.plan.0.insides.iter().find(|of| of.name == inside.field) {
            self.stages.add_line(self.plan, inside.line, of.route, inside.is_edge);
        }
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
        match self.stages.nothing_came(self.plan, reject, false) {
            true => self.say(),
            false => self.sink.reject(reject),
        }
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), S::Error> {
        match self.stages.nothing_came(self.plan, clipped, true) {
            true => self.say(),
            false => self.sink.clipped(clipped),
        }
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), S::Error> {
        match notice.kind {
            NoticeKind::Loss(_) if self.stages.loss(self.plan, notice) => self.say(),
            _ => self.sink.notice(notice),
        }
    }
}
