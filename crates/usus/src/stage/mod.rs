//! Stages: what needs more than one frame, in order, behind the part that looks at each by itself.
//!
//! # For whoever adds one
//!
//! A stage is an entry in the plan ([`Stage`]), a file here with its state, and its lines in [`State`]. It is told ([`Told`]) of records and frames one by
//! one, of what gave no record, of the time, and of the end; it puts what goes on into what comes behind it: records, those that it held or made of several,
//! rejects of what it held, notices. What it does not hand on is gone; so it hands on, or rejects, every frame that it was given, at the end of the
//! input at the latest.
//!
//! - Stages stand in the order of their kinds: blocks and multiparts look at each line by itself; before the others, what several lines say is put in the
//!   order of its last bytes' times ([`order`]).
//! - Frames of which stages read records themselves come here before anything is made of them, claimed or not ([`Open`](crate::plan::Open)). What no stage takes becomes
//!   what it would have been.
//! - What it holds is pending in the ledger of its line, until it goes out. Where a record goes on by itself, too, a copy is held, which is booked by
//!   nobody; what becomes of nothing then is a notice instead of a reject.
//! - Rejects of held frames come after events with higher offsets: the order of events is not that of offsets then. It is the same however the input
//!   was split.
//! - On several cores a part of a stream is decoded for itself, begun a little before it. The parts are joined where the states agree
//!   ([`Stages::agrees`]); where they do not, the part is decoded again.
//! - Counters are apart: they hold nothing back, and what they say of a part's first record is asked when it is joined.

mod block;
mod counters;
mod exchange;
mod latest;
mod merge;
mod multipart;
mod order;
mod points;
mod values;

use alloc::boxed::Box;
use alloc::collections::VecDeque;
use alloc::vec::Vec;

use block::Blocks;
pub(crate) use counters::{BEHIND_VALUE, Counters, Key, put_series};
use exchange::Exchanges;
pub(crate) use exchange::{ANSWERED, BROADCAST, CHECKSUM_ERROR, ERROR, NO_ANSWER};
use latest::Latests;
use merge::Merges;
use multipart::Multiparts;
use order::Order;
use points::Images;
pub(crate) use points::{ABSENT, PIECED};
use values::Values;

use crate::contents::{Ask, Laying};
use crate::event::{Event, Notice, NoticeKind, Reject};
use crate::input::LineId;
use crate::plan::{By, Plan, Stage};
use crate::reason::Reason;
use crate::record::{Kept, Made, Of, Otherwise, Record, Row, Spent};
use crate::time::{Span, Time};

/// The stages of a decoder, and what they have to say.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stages {
    states: Vec<State>,
    /// For each stage, which layouts it takes.
    takes: Vec<Vec<Takes>>,
    /// The first stage that joins lines.
    joining: usize,
    /// Where lines are joined, what waits for its turn.
    order: Option<Order>,
    /// The latest time that was seen.
    now: Option<Time>,
    /// How each line is cut, by its route.
    routes: Vec<usize>,
    outbox: VecDeque<Said>,
    /// What was said last, for whoever is shown it.
    pub(crate) lent: Option<Said>,
    room: Room,
    /// What is on its way through the stages, and from which one on; whether it has had its turn among the lines.
    way: VecDeque<(Said, usize, bool)>,
    behind: Vec<Said>,
}

/// Room to work in.
#[derive(Clone, Debug, Default)]
struct Room {
    /// Of frames that were kept before.
    spent: Spent,
    /// Of rows that were put together before.
    lists: Vec<Vec<Row>>,
    /// Of values that were made, and of texts.
    made: Vec<Vec<Made>>,
    texts: Vec<Vec<u8>>,
    laying: Laying,
    key: Vec<u8>,
}

impl Room {
    /// Takes back what a row has taken.
    fn spend(&mut self, row: Row) {
        self.spend_made(row.made);
        match row.of {
            Of::Frame(kept) => self.spent.push(kept),
            Of::Rows(mut rows) => {
                rows.drain(..).for_each(|row| self.spend(row));
                self.spend_list(rows);
            }
        }
    }

    fn spend_list(&mut self, rows: Vec<Row>) {
        if self.lists.len() < SPENT {
            self.lists.push(rows);
        }
    }

    fn spend_made(&mut self, mut made: Vec<Made>) {
        for made in made.drain(..) {
            if let Made::Text(text) = made {
                self.spend_text(text);
            }
        }
        if made.capacity() > 0 && self.made.len() < SPENT {
            self.made.push(made);
        }
    }

    fn spend_text(&mut self, mut text: Vec<u8>) {
        if self.texts.len() < SPENT {
            text.clear();
            self.texts.push(text);
        }
    }
}

/// Whether a stage takes what is of a layout.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Takes {
    No,
    /// As a frame, which it may read by a layout of its own.
    Frame,
    /// As a record, which becomes part of another.
    Record,
}

/// What a stage keeps from one record to the next.
#[derive(Clone, Debug, PartialEq)]
enum State {
    Blocks(Blocks),
    Multiparts(Multiparts),
    Exchanges(Box<Exchanges>),
    Points(Images),
    Merges(Merges),
    Latests(Latests),
    Values(Values),
}

/// What a stage is told.
enum Told<'t> {
    /// A record, or a frame that nothing has claimed yet.
    Row(Row),
    Gap(Gap),
    /// What has waited until then waits no longer.
    Time(Now<'t>),
    /// Nothing comes any more.
    End,
}

/// What time it is, and from when on there are bytes of lines that are not decided.
#[derive(Clone, Copy)]
struct Now<'t> {
    now: Time,
    open: &'t [Time],
}

impl Now<'_> {
    /// When a record arrived: what came before it is decided.
    fn at(now: Time) -> Now<'static> {
        Now { now, open: &[] }
    }

    /// Whether what has begun then has waited until a deadline in vain. What is not decided yet may belong to it, but holds it up no longer than it waits
    /// itself.
    fn is_over(self, begun: Time, deadline: Time) -> bool {
        let held_up = || {
            let may_belong = self.open.iter().any(|open| (begun..=deadline).contains(open));
            may_belong && self.now <= deadline.after(deadline.since(begun))
        };
        deadline < self.now && !held_up()
    }
}

/// Bytes of a line that gave no record, or are missing.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Gap {
    line: LineId,
    /// How many bytes gave no record; nothing if bytes are missing.
    bytes: Option<u64>,
    time: Option<Time>,
    /// The begin of a message of Modbus whose checksum fails, if that is what it is.
    damaged: Option<[u8; 4]>,
    remains: Remains,
}

/// What is known of bytes that gave no record: the first and the last of them, and when the first one came.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Remains {
    begun: Option<Time>,
    count: usize,
    first: [u8; REMAINS],
    last: [u8; REMAINS],
}

/// How many of them are kept.
const REMAINS: usize = 16;

impl Remains {
    fn of(bytes: &[u8], begun: Option<Time>) -> Remains {
        let mut remains = Remains { begun, count: bytes.len().min(REMAINS), ..Remains::default() };
        remains.first[..remains.count].copy_from_slice(&bytes[..remains.count]);
        remains.last[..remains.count].copy_from_slice(&bytes[bytes.len() - remains.count..]);
        remains
    }

    fn first(&self) -> &[u8] {
        &self.first[..self.count]
    }

    fn last(&self) -> &[u8] {
        &self.last[..self.count]
    }
}

/// What goes on from a stage.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Said {
    Record(Row),
    /// Frames of which nothing comes.
    Reject(Rejected),
    /// A frame that is ignored, and by what.
    Ignored(Box<Kept>, Option<u16>),
    Notice(LineId, u64, NoticeKind),
    /// Bytes that gave no record and are booked already, behind what stages had to say of them.
    Passed(Passed),
    /// Something that only stages hear of.
    Gap(Gap),
}

/// Bytes of a line that gave no record.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Passed {
    line: LineId,
    offset: u64,
    bytes: Vec<u8>,
    times: Option<(Time, Time)>,
    reason: Reason,
    candidates: u32,
    clipped: bool,
}

/// Frames of one line of which nothing comes.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Rejected {
    /// The first of them, with the bytes of all.
    pub(crate) kept: Box<Kept>,
    /// Where they stand, if they are several.
    pub(crate) frames: Vec<(u64, u64)>,
    last: Option<Time>,
    reason: Reason,
    pub(crate) clipped: bool,
}

/// How something was taken as what stands in a slot.
#[derive(Clone, Copy, Debug)]
enum Own {
    /// As a frame, by a layout of the stage's own.
    Frame,
    /// As a record, of this layout.
    Record(u16),
}

/// What a stage works with.
struct Bench<'a> {
    plan: &'a Plan,
    room: &'a mut Room,
    routes: &'a [usize],
    takes: &'a [Vec<Takes>],
    /// The number of the stage.
    stage: usize,
    behind: &'a mut Vec<Said>,
}

impl Said {
    /// It as an event; nothing if there is nothing to be shown of it.
    pub(crate) fn event<'a>(&'a self, plan: &'a Plan) -> Option<Event<'a>> {
        Some(match self {
            Said::Record(row) => Event::Record(row.record().filter(|record| record.compiled.wanted)?),
            Said::Reject(rejected) => {
                let Rejected { kept, frames, last, reason, clipped } = rejected;
                let record = kept.record();
                let times = record.received().zip(last.or(record.completed()));
                let (line, offset, bytes) = (kept.origin.line, record.offset(), &*kept.frame);
                let reject = Reject { plan, line, offset, bytes, frames, times, reason: *reason, candidates: 1 };
                if *clipped { Event::Clipped(reject) } else { Event::Reject(reject) }
            }
            Said::Notice(line, offset, kind) => {
                Event::Notice(Notice { plan, line: *line, offset: *offset, kind: *kind })
            }
            Said::Passed(passed) => {
                let Passed { line, offset, bytes, times, reason, candidates, clipped } = passed;
                let (line, offset, times, reason) = (*line, *offset, *times, *reason);
                let reject = Reject { plan, line, offset, bytes, frames: &[], times, reason, candidates: *candidates };
                if *clipped { Event::Clipped(reject) } else { Event::Reject(reject) }
            }
            Said::Ignored(..) | Said::Gap(_) => return None,
        })
    }

    /// When and on which line it came.
    fn came(&self) -> (Option<Time>, u32) {
        let of = |kept: Option<&Kept>| kept.map_or(0, |kept| kept.origin.line.index() as u32);
        match self {
            Said::Record(row) => (row.completed(), of(row.first())),
            Said::Reject(rejected) => (rejected.last, of(Some(&rejected.kept))),
            Said::Ignored(kept, _) => (kept.completed(), of(Some(kept))),
            Said::Notice(line, ..) | Said::Passed(Passed { line, .. }) => (None, line.index() as u32),
            Said::Gap(gap) => (gap.time, gap.line.index() as u32),
        }
    }
}

/// The begin of a message of Modbus whose checksum fails.
fn damaged(plan: &Plan, reason: Reason, bytes: &[u8]) -> Option<[u8; 4]> {
    let Reason::Checksum { frame, .. } = reason else { return None };
    plan.0.frames.get(usize::from(frame))?.modbus?.1.begin(bytes)
}

impl Stages {
    pub(crate) fn new(plan: &Plan) -> Stages {
        let stages = &plan.0.stages;
        let state = |stage: &Stage| match stage {
            Stage::Block(_) => State::Blocks(Blocks::default()),
            Stage::Multipart(_) => State::Multiparts(Multiparts::default()),
            Stage::Exchange(_) => State::Exchanges(Box::default()),
            Stage::Points(points) => State::Points(Images::new(points)),
            Stage::Merge(_) => State::Merges(Merges::default()),
            Stage::Latest(_) => State::Latests(Latests::default()),
            Stage::Values(_) => State::Values(Values::default()),
        };
        let joining = stages.iter().position(Stage::joins_lines).unwrap_or(stages.len());
        let within = stages.iter().skip(joining).map(Stage::within).max();
        let order = within.filter(|_| plan.0.roles.len() > 1).map(Order::new);
        let takes = takes(plan);
        Stages { states: stages.iter().map(state).collect(), takes, joining, order, ..Stages::default() }
    }

    /// Whether there are none.
    pub(crate) fn is_nothing(&self) -> bool {
        self.states.is_empty()
    }

    /// Is told how a line is cut, and whether something may have begun before it.
    pub(crate) fn add_line(&mut self, plan: &Plan, line: LineId, route: usize, is_edge: bool) {
        for (state, stage) in self.states.iter_mut().zip(&plan.0.stages).filter(|_| is_edge) {
            match (state, stage) {
                (State::Blocks(blocks), _) => blocks.begins(line),
                (State::Multiparts(multiparts), _) => multiparts.begins(line),
                (State::Exchanges(exchanges), Stage::Exchange(of))
                    if of.iter().any(|of| of.ask_routes.contains(&route)) =>
                {
                    exchanges.begins()
                }
                _ => {}
            }
        }
        if self.routes.len() <= line.index() {
            self.routes.resize(line.index() + 1, usize::MAX);
        }
        self.routes[line.index()] = route;
    }

    /// Takes a record of a kind that a stage takes.
    pub(crate) fn record(&mut self, plan: &Plan, record: &Record<'_>) {
        let kept = Kept::of(record, self.room.spent.pop());
        self.pass(plan, Said::Record(Row::of(kept)), 0, false);
    }

    /// Takes bytes of a line in that gave no record. Says whether there is something to be said before; they are said behind it then.
    pub(crate) fn nothing_came(&mut self, plan: &Plan, reject: &Reject<'_>, clipped: bool) -> bool {
        let Reject { line, offset, bytes, times, reason, candidates, .. } = *reject;
        let time = times.map(|(_, last)| last);
        let remains = Remains::of(bytes, times.map(|(first, _)| first));
        let damaged = damaged(plan, reason, bytes);
        let gap = Gap { line, bytes: Some(bytes.len() as u64), time, damaged, remains };
        self.pass(plan, Said::Gap(gap), 0, false);
        let says = !self.outbox.is_empty();
        if says {
            let bytes = bytes.to_vec();
            self.outbox.push_back(Said::Passed(Passed { line, offset, bytes, times, reason, candidates, clipped }));
        }
        says
    }

    /// Is told that bytes of a line are missing. Says whether there is something to be said before that; it is said behind it then.
    pub(crate) fn loss(&mut self, plan: &Plan, notice: &Notice<'_>) -> bool {
        let (line, remains) = (notice.line, Remains::default());
        self.pass(plan, Said::Gap(Gap { line, bytes: None, time: self.now, damaged: None, remains }), 0, false);
        let says = !self.outbox.is_empty();
        if says {
            self.outbox.push_back(Said::Notice(notice.line, notice.offset, notice.kind));
        }
        says
    }

    /// Says what time it is on the lines: what has waited for too long waits no longer, nor does that before which nothing can come any more. On lines
    /// there are bytes, from `open` on, that are not decided yet. It is to be called where the time goes on, before what came then: so what goes out when does not depend
    /// on how what came before was split.
    pub(crate) fn at(&mut self, plan: &Plan, now: Time, open: impl Iterator<Item = Time>) {
        if self.now.is_some_and(|before| before >= now) {
            return;
        }
        self.now = Some(now);
        if self.is_idle() {
            return;
        }
        let open: Vec<Time> = open.collect();
        let first = open.iter().min().copied();
        for index in 0..self.states.len() {
            if index == self.joining
                && let Some(order) = &mut self.order
            {
                for (said, stage) in order.ready(now, first) {
                    self.pass(plan, said, stage, true);
                }
            }
            if self.states[index].deadline(&plan.0.stages[index]).is_some_and(|deadline| deadline < now) {
                self.tell(plan, index, Told::Time(Now { now, open: &open }));
                self.go(plan);
            }
        }
    }

    /// When something waits no longer, if nothing arrives before. Bytes from `open` on are not decided yet.
    pub(crate) fn deadline(&self, plan: &Plan, open: Option<Time>) -> Option<Time> {
        let just_behind = |time: Time| time.after(Span::from_nanoseconds(1));
        let states = self.states.iter().zip(&plan.0.stages).filter_map(|(state, stage)| {
            let deadline = state.deadline(stage)?;
            // Something has begun that may still belong to it.
            let is_over = self.now.is_some_and(|now| deadline < now);
            Some(if is_over { deadline.after(stage.within()) } else { deadline })
        });
        states.map(just_behind).chain(self.order.as_ref().and_then(|order| order.deadline(open))).min()
    }

    /// Nothing comes any more.
    pub(crate) fn finish(&mut self, plan: &Plan) {
        for index in 0..self.states.len() {
            if index == self.joining {
                let all = self.order.as_mut().map(Order::all).unwrap_or_default();
                for (said, stage) in all {
                    self.pass(plan, said, stage, true);
                }
            }
            self.tell(plan, index, Told::End);
            self.go(plan);
        }
    }

    /// Passes something through the stages from one on.
    fn pass(&mut self, plan: &Plan, said: Said, from: usize, in_turn: bool) {
        self.way.push_back((said, from, in_turn));
        self.go(plan);
    }

    fn go(&mut self, plan: &Plan) {
        while let Some((said, from, in_turn)) = self.way.pop_front() {
            let next = (from..self.states.len()).find(|index| self.takes(plan, *index, &said));
            let Some(index) = next else {
                self.end(plan, said);
                continue;
            };
            if index >= self.joining
                && !in_turn
                && let (Some(order), (Some(time), line)) = (&mut self.order, said.came())
            {
                order.wait(time, line, said, index);
                continue;
            }
            match said {
                Said::Record(row) => self.tell(plan, index, Told::Row(row)),
                Said::Gap(gap) => {
                    self.tell(plan, index, Told::Gap(gap));
                    self.way.push_front((said, index + 1, in_turn));
                }
                said => self.outbox.push_back(said),
            }
        }
    }

    fn takes(&self, plan: &Plan, stage: usize, said: &Said) -> bool {
        match said {
            Said::Record(row) => self.takes[stage].get(usize::from(row.kind)).is_some_and(|takes| *takes != Takes::No),
            Said::Gap(_) => !matches!(plan.0.stages[stage], Stage::Merge(_) | Stage::Latest(_) | Stage::Values(_)),
            _ => false,
        }
    }

    /// Tells a stage something. What it says of it is on its way then.
    fn tell(&mut self, plan: &Plan, index: usize, told: Told<'_>) {
        let in_turn = index >= self.joining;
        let mut behind = core::mem::take(&mut self.behind);
        let Stages { room, routes, takes, .. } = self;
        let mut bench = Bench { plan, room, routes, takes, stage: index, behind: &mut behind };
        match (&plan.0.stages[index], &mut self.states[index]) {
            (Stage::Block(block), State::Blocks(blocks)) => blocks.tell(block, told, &mut bench),
            (Stage::Multipart(of), State::Multiparts(multiparts)) => multiparts.tell(of, told, &mut bench),
            (Stage::Exchange(of), State::Exchanges(exchanges)) => exchanges.tell(of, told, &mut bench),
            (Stage::Points(points), State::Points(images)) => images.tell(points, told, &mut bench),
            (Stage::Merge(merge), State::Merges(merges)) => merges.tell(merge, told, &mut bench),
            (Stage::Latest(latest), State::Latests(latests)) => latests.tell(latest, told, &mut bench),
            (Stage::Values(of), State::Values(values)) => values.tell(of, told, &mut bench),
            // The states were made from the stages.
            _ => {}
        }
        for said in behind.drain(..).rev() {
            self.way.push_front((said, index + 1, in_turn));
        }
        self.behind = behind;
    }

    /// What has gone through all stages goes out; what none of them took, and no record has claimed, becomes what it would have been.
    fn end(&mut self, plan: &Plan, said: Said) {
        let said = match said {
            Said::Gap(_) => return,
            Said::Record(Row { of: Of::Frame(mut kept), .. }) if is_open(plan, &kept) => {
                match kept.origin.at_hand.otherwise {
                    Otherwise::Ignored(ignore) => Said::Ignored(kept, Some(ignore)),
                    Otherwise::Rejected { reason, clipped } => {
                        let (reason, clipped) = match reason {
                            Reason::Unclaimed { .. } => self.astray(plan, &mut kept).unwrap_or((reason, clipped)),
                            reason => (reason, clipped),
                        };
                        Said::Reject(Rejected::one(kept, reason, clipped))
                    }
                }
            }
            said => said,
        };
        self.outbox.push_back(said);
    }

    /// What a frame that nobody takes seems to be part of: of something that has begun before the recording if nothing of that kind has begun since.
    fn astray(&mut self, plan: &Plan, kept: &mut Kept) -> Option<(Reason, bool)> {
        let laying = &mut self.room.laying;
        for (state, stage) in self.states.iter().zip(&plan.0.stages) {
            let (State::Blocks(blocks), Stage::Block(_)) = (state, stage) else { continue };
            for kind in stage.layouts() {
                if kept.read_as(kind, Ask::Any, laying).is_ok() {
                    kept.undo(laying);
                    return Some(match blocks.has_begun(kept.origin.line) {
                        true => (Reason::Astray { kind }, false),
                        false => (Reason::BegunBefore, true),
                    });
                }
            }
        }
        None
    }

    /// The next thing to be said.
    pub(crate) fn next(&mut self) -> Option<Said> {
        self.outbox.pop_front()
    }

    /// Takes back the room of what was said.
    pub(crate) fn spend(&mut self, said: Said) {
        match said {
            Said::Record(row) => self.room.spend(row),
            Said::Reject(Rejected { kept, .. }) | Said::Ignored(kept, _) => self.room.spent.push(kept),
            Said::Notice(..) | Said::Passed(_) | Said::Gap(_) => {}
        }
        self.room.spent.truncate(SPENT);
    }

    /// Whether these go on exactly where others are.
    pub(crate) fn agrees(&self, others: &Stages) -> bool {
        // What was held when a time was seen first is not looked at again where that comes again.
        let now_agrees = self.now == others.now || self.is_idle();
        now_agrees && self.states == others.states && self.order == others.order && others.outbox == self.outbox
    }

    /// Whether nothing is held.
    fn is_idle(&self) -> bool {
        self.states.iter().all(State::is_idle) && self.order.as_ref().is_none_or(Order::is_empty)
    }
}

/// Room that is kept for what is kept next.
const SPENT: usize = 64;

/// For each stage, which layouts it takes. What is not wanted, and needed by nobody, is not put together of other records.
fn takes(plan: &Plan) -> Vec<Vec<Takes>> {
    let kinds = &plan.0.kinds;
    let mut takes: Vec<Vec<Takes>> = Vec::new();
    // Those behind tell whether somebody needs what comes of one.
    for stage in plan.0.stages.iter().rev() {
        let mut taken = alloc::vec![Takes::No; kinds.len()];
        let needed = |made: u16| {
            kinds.get(usize::from(made)).is_some_and(|kind| kind.wanted)
                || takes.iter().any(|later| later.get(usize::from(made)).is_some_and(|takes| *takes == Takes::Record))
        };
        let is_needed = match stage {
            Stage::Block(block) => needed(block.kind),
            Stage::Multipart(multipart) => needed(multipart.kind),
            Stage::Exchange(exchanges) => exchanges.iter().any(|exchange| needed(exchange.kind)),
            Stage::Points(points) => points.units.iter().any(|unit| needed(unit.kind)),
            Stage::Merge(merge) => needed(merge.kind),
            Stage::Latest(latest) => latest.kinds.iter().any(|kind| needed(*kind)),
            Stage::Values(values) => needed(values.kind),
        };
        for kept_as in stage.taken().iter().filter(|_| is_needed) {
            taken[usize::from(kept_as.from)] = Takes::Record;
        }
        // Frames that it reads itself are its own, whether or not anybody wants what comes of them.
        let frames: Vec<u16> =
            stage.layouts().iter().filter_map(|layout| Some(kinds.get(usize::from(*layout))?.frame)).collect();
        for (kind, taken) in kinds.iter().zip(&mut taken) {
            let is_read = frames.contains(&kind.frame) && !kind.is_composed && (!kind.is_part || kind.is_open);
            if *taken == Takes::No && is_read {
                *taken = Takes::Frame;
            }
        }
        takes.push(taken);
    }
    takes.reverse();
    takes
}

/// Whether nothing has claimed a frame.
fn is_open(plan: &Plan, kept: &Kept) -> bool {
    plan.0.kinds.get(usize::from(kept.kind)).is_some_and(|kind| kind.is_open)
}

impl State {
    /// Whether it holds nothing.
    fn is_idle(&self) -> bool {
        match self {
            State::Blocks(blocks) => blocks.is_idle(),
            State::Multiparts(multiparts) => multiparts.is_idle(),
            State::Exchanges(exchanges) => exchanges.is_idle(),
            State::Merges(merges) => merges.is_idle(),
            State::Points(_) | State::Latests(_) | State::Values(_) => true,
        }
    }

    /// Until when what it holds waits.
    fn deadline(&self, stage: &Stage) -> Option<Time> {
        match self {
            State::Blocks(blocks) => blocks.deadline(stage.within()),
            State::Multiparts(multiparts) => multiparts.deadline(stage.within()),
            State::Exchanges(exchanges) => match stage {
                Stage::Exchange(of) => exchanges.deadline(of),
                _ => None,
            },
            State::Merges(merges) => merges.deadline(stage.within()),
            State::Points(_) | State::Latests(_) | State::Values(_) => None,
        }
    }
}

impl Rejected {
    fn one(kept: Box<Kept>, reason: Reason, clipped: bool) -> Rejected {
        let last = kept.completed();
        Rejected { kept, frames: Vec::new(), last, reason, clipped }
    }
}

impl Bench<'_> {
    /// An empty list of rows.
    fn list(&mut self) -> Vec<Row> {
        self.room.lists.pop().unwrap_or_default()
    }

    /// An empty text.
    fn text(&mut self) -> Vec<u8> {
        self.room.texts.pop().unwrap_or_default()
    }

    /// Values that a stage makes.
    fn made<const VALUES: usize>(&mut self, values: [Made; VALUES]) -> Vec<Made> {
        let mut made = self.room.made.pop().unwrap_or_default();
        made.extend(values);
        made
    }

    fn say(&mut self, said: Said) {
        self.behind.push(said);
    }

    /// Passes a record on.
    fn pass(&mut self, row: Row) {
        self.behind.push(Said::Record(row));
    }

    /// A record so many times: the first has the frames, the others have copies.
    fn dealt(&mut self, row: Row, times: usize) -> Vec<Row> {
        let mut rows = self.list();
        rows.extend((1..times).map(|_| row.again(&mut self.room.spent)));
        rows.insert(0, row);
        rows
    }

    /// A record to be held as another layout: itself, or a copy if it goes on by itself, too.
    fn hold(&mut self, row: Row, layout: u16, slot: u16) -> Row {
        if !self.goes_on(row.kind) {
            return row.kept_as(layout).in_slot(slot);
        }
        let copy = row.again(&mut self.room.spent).kept_as(layout).in_slot(slot);
        self.pass(row);
        copy
    }

    /// Whether somebody wants records of a layout by themselves.
    fn goes_on(&self, layout: u16) -> bool {
        let kind = usize::from(layout);
        // Stages behind that read frames themselves do not read what this one has taken.
        let mut later = self.takes.iter().skip(self.stage + 1);
        self.plan.0.kinds.get(kind).is_some_and(|kind| kind.wanted)
            || later.any(|takes| takes.get(kind) == Some(&Takes::Record))
    }

    /// Reads a frame by a layout, if it fits that; else it stays what it was.
    fn read_as(&mut self, row: &mut Row, layout: u16) -> bool {
        self.read_by(&By::Layout(layout), row).is_some()
    }

    /// Takes a record or frame as what stands in a slot, if it is that. Else it stays what it was.
    fn read_by(&mut self, by: &By, row: &mut Row) -> Option<Own> {
        self.read_by_asking(by, row, Ask::Nothing)
    }

    /// The same of an answer. `ask` tells what is known of the question.
    fn read_by_asking<'a>(&mut self, by: &By, row: &mut Row, ask: Ask<'_, 'a>) -> Option<Own> {
        match (by, &mut row.of) {
            (By::Layout(layout), Of::Frame(kept)) => {
                kept.read_as(*layout, ask, &mut self.room.laying).ok()?;
                row.kind = *layout;
                Some(Own::Frame)
            }
            (By::Layout(_), Of::Rows(_)) => None,
            (By::Record(taken), _) => {
                let kept_as = *taken.iter().find(|kept_as| kept_as.from == row.kind)?;
                row.set_kind(kept_as.layout);
                Some(Own::Record(kept_as.from))
            }
        }
    }

    /// Makes what was read last what it was before.
    fn undo(&mut self, row: &mut Row, own: Own) {
        match (own, &mut row.of) {
            (Own::Record(from), _) => row.set_kind(from),
            (Own::Frame, Of::Frame(kept)) => {
                kept.undo(&mut self.room.laying);
                row.kind = kept.kind;
            }
            (Own::Frame, Of::Rows(_)) => {}
        }
    }

    /// Keeps what was read: a record that goes on by itself as a copy.
    fn keep(&mut self, row: Row, own: Own, slot: u16) -> Row {
        match own {
            Own::Frame => row.in_slot(slot),
            Own::Record(from) => {
                let layout = row.kind;
                self.hold(row.kept_as(from), layout, slot)
            }
        }
    }

    /// Whether a stage behind this one would read a frame that nothing has claimed.
    fn is_read_behind(&mut self, row: &mut Row) -> bool {
        let behind = self.plan.0.stages.iter().skip(self.stage + 1);
        for stage in behind.filter(|stage| matches!(stage, Stage::Exchange(_))) {
            for layout in stage.layouts() {
                if let Some(own) = self.read_by_asking(&By::Layout(layout), row, Ask::Any) {
                    self.undo(row, own);
                    return true;
                }
            }
        }
        false
    }

    /// Rejects what was held of one line, all of it together. What was a copy is told of instead.
    fn reject(&mut self, rows: Vec<Row>, reason: Reason, clipped: bool) {
        let place = rows.first().and_then(Row::first).map(|kept| (kept.origin.line, kept.record().offset()));
        let (mut frames, mut rejected): (Vec<(u64, u64)>, Option<Rejected>) = (Vec::new(), None);
        for row in rows {
            row.into_frames(&mut |kept| {
                if kept.is_copy {
                    self.room.spent.push(kept);
                    return;
                }
                frames.push(kept.range());
                match &mut rejected {
                    None => rejected = Some(Rejected::one(kept, reason, clipped)),
                    Some(rejected) => {
                        rejected.last = rejected.last.max(kept.completed());
                        rejected.kept.frame.extend_from_slice(&kept.frame);
                        self.room.spent.push(kept);
                    }
                }
            });
        }
        match (rejected, place) {
            (Some(rejected), _) => {
                let frames = if frames.len() > 1 { frames } else { Vec::new() };
                self.say(Said::Reject(Rejected { frames, ..rejected }));
            }
            (None, Some((line, offset))) => self.say(Said::Notice(line, offset, NoticeKind::NotJoined { reason })),
            (None, None) => {}
        }
    }
}

/// Whether what began then has waited for longer.
fn is_over(begun: Option<Time>, within: Span, now: Now<'_>) -> bool {
    begun.is_some_and(|begun| now.is_over(begun, begun.after(within)))
}
