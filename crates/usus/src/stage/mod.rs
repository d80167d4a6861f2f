//! Stages: what needs more than one frame, in order, behind the part that looks at each by itself.
//!
//! # For whoever adds one
//!
//! A stage is an entry in the plan ([`Stage`]), a file here with its state, and its lines in [`State`]. It takes records one by one, of all lines in
//! the order of their last bytes' times (as they are fed where there are no times), and puts what goes on into what comes behind it: records,
//! those that it held, changed or made of several, rejects of what it held, notices. What it does not hand on is gone, and booked as
//! recorded in nothing; so it hands on, or rejects, every frame that it was given, at the end of the input at the latest.
//!
//! - What it holds is pending in the ledger of its line, until it goes out.
//! - Rejects of held frames come after events with higher offsets: the order of events is not that of offsets then. It is the same however the input
//!   was split.
//! - On several cores a part of a stream is decoded for itself, begun a little before it. Where a stage's state follows from what lies a bounded stretch
//!   before, the parts are joined where the states agree ([`Stages::agrees`]); a stage that carries its state on says so in the plan
//!   ([`Stage::carries`]), and one decoder goes through all of the stream.
//! - Counters are apart: they hold nothing back, and what they say of a part's first record is asked when it is joined.

mod counters;
mod join;
mod order;
mod reread;

use alloc::collections::VecDeque;
use alloc::vec::Vec;

pub(crate) use counters::{BEHIND_VALUE, Counters, put_series};
use join::Joining;
use order::Order;
use reread::Rereading;

use crate::event::{Event, Notice, NoticeKind, Reject};
use crate::input::LineId;
use crate::plan::{Output, Plan, Stage, What};
use crate::reason::Reason;
use crate::record::{Kept, Made, Record, Row};
use crate::time::Time;
use crate::value::Decimal;

/// The stages of a decoder, and what they have to say.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stages {
    states: Vec<State>,
    /// Where lines are joined, what waits for its turn.
    order: Option<Order>,
    outbox: VecDeque<Said>,
    /// What was said last, for whoever is shown it.
    pub(crate) lent: Option<Said>,
    /// Room of what was kept before.
    spent: Vec<Kept>,
}

/// What a stage keeps from one record to the next.
#[derive(Clone, Debug, PartialEq)]
enum State {
    Join(Joining),
    Reread(Rereading),
    Number(u64),
}

/// What goes on from a stage.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Said {
    Record(Row),
    /// Frames of which nothing comes.
    Reject(Kept, Reason),
    Notice(LineId, u64, NoticeKind),
}

impl Said {
    /// It as an event; nothing if there is nothing to be shown of it.
    pub(crate) fn event<'a>(&'a self, plan: &'a Plan) -> Option<Event<'a>> {
        Some(match self {
            Said::Record(row) => Event::Record(row.record().filter(|record| record.compiled.wanted)?),
            Said::Reject(kept, reason) => {
                let record = kept.record();
                let times = record.received().zip(record.completed());
                let (line, offset, bytes) = (kept.origin.line, kept.record().offset(), &*kept.frame);
                Event::Reject(Reject { plan, line, offset, bytes, times, reason: *reason, candidates: 1 })
            }
            Said::Notice(line, offset, kind) => {
                Event::Notice(Notice { plan, line: *line, offset: *offset, kind: *kind })
            }
        })
    }
}

impl Stages {
    pub(crate) fn new(plan: &Plan) -> Stages {
        let state = |stage: &Stage| match stage {
            Stage::Join(_) => State::Join(Joining::default()),
            Stage::Reread { .. } => State::Reread(Rereading::default()),
            Stage::Number => State::Number(0),
        };
        let within = plan.0.stages.iter().filter_map(Stage::joins_lines).max();
        let order = within.filter(|_| plan.0.roles.len() > 1).map(Order::new);
        Stages { states: plan.0.stages.iter().map(state).collect(), order, ..Stages::default() }
    }

    /// Whether there are none.
    pub(crate) fn is_nothing(&self) -> bool {
        self.states.is_empty()
    }

    /// Takes a record of a kind that a stage takes.
    pub(crate) fn record(&mut self, plan: &Plan, record: &Record<'_>) {
        let kept = Kept::of(record, self.spent.pop());
        match (&mut self.order, record.completed()) {
            (Some(order), Some(time)) => order.wait(time, Said::Record(Row::of(kept))),
            _ => self.pass(plan, Said::Record(Row::of(kept)), 0),
        }
    }

    /// Says what time it is on the lines: what has waited for too long waits no longer, nor does that before which nothing can come any more. Bytes
    /// from `open` on are not decided yet. It is to be called where the time goes on, before what came then: so what goes out when does not depend
    /// on how what came before was split.
    pub(crate) fn at(&mut self, plan: &Plan, now: Time, open: impl FnOnce() -> Option<Time>) {
        if let Some(order) = &mut self.order
            && order.goes_on(now)
        {
            let ready = order.ready(now, open());
            self.pass_all(plan, ready);
        }
    }

    /// When something waits no longer, if nothing arrives before.
    pub(crate) fn deadline(&self) -> Option<Time> {
        self.order.as_ref().and_then(Order::deadline)
    }

    /// Nothing comes any more.
    pub(crate) fn finish(&mut self, plan: &Plan) {
        if let Some(order) = &mut self.order {
            let all = order.all();
            self.pass_all(plan, all);
        }
        for index in 0..self.states.len() {
            let mut said = Vec::new();
            match &mut self.states[index] {
                State::Join(joining) => joining.finish(&mut said),
                State::Reread(rereading) => rereading.finish(&mut said),
                State::Number(_) => {}
            }
            for said in said {
                self.pass(plan, said, index + 1);
            }
        }
    }

    fn pass_all(&mut self, plan: &Plan, all: Vec<Said>) {
        for said in all {
            self.pass(plan, said, 0);
        }
    }

    /// Passes something through the stages from one on.
    fn pass(&mut self, plan: &Plan, said: Said, from: usize) {
        let Said::Record(row) = said else {
            self.outbox.push_back(said);
            return;
        };
        let takes = |index: &usize| plan.0.stages[*index].takes(row.kind);
        let Some(index) = (from..self.states.len()).find(takes) else {
            self.outbox.push_back(Said::Record(row));
            return;
        };
        let mut behind = Vec::new();
        match (&plan.0.stages[index], &mut self.states[index]) {
            (Stage::Join(join), State::Join(joining)) => joining.record(join, row, &mut behind),
            (Stage::Reread { kind, other }, State::Reread(rereading)) => {
                rereading.record(*kind, *other, row, &mut behind);
            }
            (Stage::Number, State::Number(number)) => {
                let made = Made::Number(Decimal::from_unsigned(*number));
                *number += 1;
                behind.push(Said::Record(Row { made: [made].into(), ..row }));
            }
            // The states were made from the stages.
            _ => behind.push(Said::Record(row)),
        }
        for said in behind {
            self.pass(plan, said, index + 1);
        }
    }

    /// The next thing to be said.
    pub(crate) fn next(&mut self) -> Option<Said> {
        self.outbox.pop_front()
    }

    /// Takes back the room of what was said.
    pub(crate) fn spend(&mut self, said: Said) {
        match said {
            Said::Record(row) => self.spent.extend(row.parts),
            Said::Reject(kept, _) => self.spent.push(kept),
            Said::Notice(..) => {}
        }
        self.spent.truncate(SPENT);
    }

    /// Whether these go on exactly where others are.
    pub(crate) fn agrees(&self, others: &Stages) -> bool {
        self.states == others.states && self.order == others.order && others.outbox == self.outbox
    }
}

/// Room that is kept for what is kept next.
const SPENT: usize = 64;

/// The outputs of a record, when a stage makes a row of it: what stands in a frame stays there.
pub(crate) fn outputs_of_part(outputs: &[Output], part: u16) -> Vec<Output> {
    let of_part =
        |output: &Output| Output::new((*output.schema).clone(), What::Part(part, output.clone().into()), None);
    outputs.iter().map(of_part).collect()
}
