//! Messages that are alike and may be requests as well as answers, where it is not known which way the one before them went. What they are shows at their end.

use alloc::vec::Vec;

use super::bus::{Bus, Either};
use super::question::Question;
use super::silence;
use super::{Exchanges, UNDETERMINED};
use crate::plan::{Exchange, Side};
use crate::record::Row;
use crate::stage::Bench;
use crate::time::Time;

/// Messages that are alike and may go either way, from one on before which something was missed. Which of them are questions shows at their end.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Run {
    pub(super) first: Question,
    pub(super) rest: Vec<Row>,
}

/// The most messages of a run.
const RUN: usize = 32;

/// How a run of messages that are alike, and may go either way, ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum RunEnd {
    /// By something else, as soon as a request follows an answer.
    Followed,
    /// By something else, or nothing, so late that its last message may be a request that nobody answered.
    Late,
    /// Its last message is followed so soon that it can be no request without an answer.
    Answered,
    /// Its last message is a request: it is asked again, or refused.
    Unanswered,
    /// By bytes that are no message, or nobody knows.
    Disturbed,
}

/// Whether the first of so many messages of such a run is a request; nothing if that is not known. Requests and answers take turns.
fn begins_asking(count: usize, end: RunEnd) -> Option<bool> {
    let is_even = count.is_multiple_of(2);
    match end {
        RunEnd::Answered => Some(is_even),
        RunEnd::Unanswered => Some(!is_even),
        // Whole pairs are just that.
        RunEnd::Followed => is_even.then_some(true),
        RunEnd::Late | RunEnd::Disturbed => None,
    }
}

impl Exchanges {
    /// Closes a question with what may be its answer, or the question again: that is not known.
    pub(super) fn leave_open(&mut self, of: &[Exchange], place: usize, row: Row, bench: &mut Bench<'_>) -> Option<Row> {
        let mut row = row;
        let of = &of[self.open.get(place)?.of];
        let found = of
            .members
            .iter()
            .filter(|member| member.is != Side::Question)
            .find_map(|member| Some((member.slot, self.open.get(place)?.fits(of, member, &mut row, bench)?)));
        let (Some((slot, own)), Some(question)) = (found, self.open.remove(place)) else { return Some(row) };
        let answer = bench.keep(row, own, slot);
        self.bus.lose();
        self.remember(&question, true);
        question.end(of, Some(answer), UNDETERMINED, None, bench);
        None
    }

    /// Takes what goes on with a run. Gives back what does not: that ends it.
    pub(super) fn go_on(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) -> Option<Row> {
        let Some(run) = &mut self.run else { return Some(row) };
        let gap = silence::before(&row, run.completed(), bench);
        let is_alike = run.rest.len() < RUN && frame_of(&run.first.row) == frame_of(&row);
        let end = match self.bus.either(gap) {
            Either::Answer if is_alike => {
                run.rest.push(row);
                return None;
            }
            // What can only be an answer is one to a request.
            _ if !of[run.first.of].may_ask(&row, bench) && run.first.may_be_answered_by(&of[run.first.of], &row) => {
                RunEnd::Unanswered
            }
            // Nobody asks for something else so soon but behind an answer.
            Either::Answer => RunEnd::Answered,
            Either::Again if is_alike => RunEnd::Unanswered,
            _ if is_alike => RunEnd::Disturbed,
            _ if self.bus.is_pace(gap) => RunEnd::Followed,
            _ => RunEnd::Late,
        };
        self.settle(of, end, bench);
        Some(row)
    }

    /// Says what a run is, if there is one.
    pub(super) fn settle(&mut self, of: &[Exchange], end: RunEnd, bench: &mut Bench<'_>) {
        let Some(run) = self.run.take() else { return };
        let begins_asking = match (begins_asking(1 + run.rest.len(), end), run.begins_asking(&self.bus, bench)) {
            (Some(one), Some(other)) if one != other => None,
            (by_its_end, by_silences) => by_its_end.or(by_silences),
        };
        let Run { mut first, rest } = run;
        if begins_asking == Some(false) {
            let of = &of[first.of];
            first.end(of, None, UNDETERMINED, None, bench);
        } else {
            first.uncertain = begins_asking.is_none();
            self.open.push_back(first);
        }
        self.bus.in_step = begins_asking.is_some();
        for row in rest {
            let row = match (self.open.len(), begins_asking) {
                (0, _) => Some(row),
                (_, Some(_)) => self.answer(of, row, bench),
                (open, None) => self.leave_open(of, open - 1, row, bench),
            };
            if let Some(row) = row.and_then(|row| self.ask(of, row, bench)) {
                self.stray(of, row, bench);
            }
        }
    }
}

impl Run {
    /// When the last byte of it arrived.
    pub(super) fn completed(&self) -> Option<Time> {
        self.rest.last().and_then(Row::completed)
    }

    /// Whether its first message is a request, by how long the line was silent between its messages; nothing if that does not tell, or one silence says other than
    /// another.
    fn begins_asking(&self, bus: &Bus, bench: &Bench<'_>) -> Option<bool> {
        let mut said = None;
        let mut ended = self.first.asked;
        for (place, row) in self.rest.iter().enumerate() {
            let says = bus
                .is_asked_first(silence::before(row, ended, bench))
                .map(|is_asked| is_asked == place.is_multiple_of(2));
            ended = row.completed();
            match (said, says) {
                (Some(one), Some(other)) if one != other => return None,
                _ => said = said.or(says),
            }
        }
        said
    }
}

pub(super) fn frame_of(row: &Row) -> Option<&[u8]> {
    row.first().map(|kept| &*kept.frame)
}
