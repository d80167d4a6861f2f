//! Exchanges: questions with their answers, one record for each question.
//!
//! A question is open until it is answered, another is asked, or too much time has passed. What fits the answer to an open question is that; only then it is
//! looked at as a question.

mod before;
mod bus;
mod question;
mod run;
mod silence;

use alloc::collections::VecDeque;
use alloc::vec::Vec;

use bus::{Bus, Either};
use question::Question;
use run::{Run, RunEnd, frame_of};

use super::{Bench, Gap, Now, Own, Remains, Said, Told, is_open, is_over};
use crate::contents::Ask;
use crate::input::LineId;
use crate::modbus;
use crate::plan::{Exchange, Side};
use crate::reason::Reason;
use crate::record::{Of, Otherwise, Row};
use crate::time::Time;

/// The questions that are open, the oldest first, and how those before them ended.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Exchanges {
    open: VecDeque<Question>,
    closed: VecDeque<Closed>,
    /// Whether nothing was asked since the recording began, or since bytes were missing.
    fresh: bool,
    /// Of messages that may be questions as well as answers, how they followed one another.
    bus: Bus,
    /// What may be questions as well as answers.
    run: Option<Run>,
    /// Whether the message that has come is rather two than one.
    is_pieced: bool,
}

/// A question that is open no more.
#[derive(Clone, Debug, PartialEq)]
struct Closed {
    of: usize,
    key: Vec<u8>,
    frame: Vec<u8>,
    is_answered: bool,
    retry: u32,
}

/// Questions that are remembered, to tell what comes late or again.
const CLOSED: usize = 16;

/// How a question ended, as the record says it.
pub(crate) const ANSWERED: &str = "answered";
pub(crate) const ERROR: &str = "error";
pub(crate) const NO_ANSWER: &str = "no_answer";
const DISTURBED: &str = "disturbed";
pub(crate) const CHECKSUM_ERROR: &str = "checksum_error";
const UNDETERMINED: &str = "undetermined";
pub(crate) const BROADCAST: &str = "broadcast";

impl Exchanges {
    /// A line of questions begins, and one may have been asked before.
    pub(super) fn begins(&mut self) {
        self.fresh = true;
    }

    pub(super) fn is_idle(&self) -> bool {
        self.open.is_empty() && self.run.is_none()
    }

    pub(super) fn deadline(&self, of: &[Exchange]) -> Option<Time> {
        let until = |question: &Question| {
            let answer = question.asked.map(|asked| asked.after(of[question.of].within));
            question.overtaken.into_iter().chain(answer).min()
        };
        let run = self.run.iter().filter_map(|run| Some(run.completed()?.after(of[run.first.of].within)));
        self.open.iter().filter_map(until).chain(run).min()
    }

    pub(super) fn tell(&mut self, of: &[Exchange], told: Told<'_>, bench: &mut Bench<'_>) {
        match told {
            Told::Row(row) => {
                // What has begun in time is in time.
                if let Some(now) = row.received() {
                    self.expire(of, Now::at(now), bench);
                }
                self.take(of, row, bench);
            }
            Told::Time(now) => self.expire(of, now, bench),
            Told::Gap(gap) => self.lose(of, gap, bench),
            Told::End => self.give_up(of, bench),
        }
    }

    fn expire(&mut self, of: &[Exchange], now: Now<'_>, bench: &mut Bench<'_>) {
        let is_over = |question: &Question| {
            is_over(question.asked, of[question.of].within, now)
                || question.overtaken.is_some_and(|by| now.is_over(question.asked.unwrap_or(by), by))
        };
        while let Some(over) = self.open.iter().position(is_over) {
            self.close(of, over, bench);
        }
        if self.run.as_ref().is_some_and(|run| super::is_over(run.completed(), of[run.first.of].within, now)) {
            self.settle(of, RunEnd::Late, bench);
        }
    }

    /// Nobody knows any more what is the answer to a question that is open; those that another has overtaken have none.
    fn give_up(&mut self, of: &[Exchange], bench: &mut Bench<'_>) {
        self.settle(of, RunEnd::Disturbed, bench);
        while let Some(question) = self.open.front() {
            if question.overtaken.is_some() {
                self.close(of, 0, bench);
            } else if let Some(question) = self.open.pop_front() {
                bench.reject([question.row].into(), Reason::NoEndOfExchange { kind: of[question.of].kind }, true);
            }
        }
    }

    /// Bytes that gave no record may have been the answer; where bytes are missing, nobody knows whether there was one.
    fn lose(&mut self, of: &[Exchange], gap: Gap, bench: &mut Bench<'_>) {
        match gap.bytes {
            Some(bytes) => {
                self.damage(of, gap, bench);
                self.disturb(of, &gap, bytes, bench);
            }
            None if is_on(of, gap.line, bench) == (false, false) => {}
            None => {
                self.give_up(of, bench);
                self.closed.clear();
                self.bus.miss(gap.time);
                self.bus.before.forget();
                self.begins();
            }
        }
    }

    /// Notes that what came last is the answer, but for its checksum.
    fn damage(&mut self, of: &[Exchange], gap: Gap, bench: &Bench<'_>) {
        let Some(begin) = gap.damaged.filter(|_| is_on(of, gap.line, bench).1) else { return };
        for question in self.open.iter_mut().filter(|question| question.overtaken.is_none() && !question.disturbed) {
            let request = of[question.of].message(&question.row).unwrap_or_default();
            question.damaged = modbus::begins_answer(request, begin);
        }
    }

    fn disturb(&mut self, of: &[Exchange], gap: &Gap, bytes: u64, bench: &mut Bench<'_>) {
        let Gap { line, time: ended, remains, .. } = *gap;
        let (asks, answers) = is_on(of, line, bench);
        if asks || answers {
            let is_answered = self.run.as_ref().is_some_and(|run| {
                let after = run.completed().zip(remains.begun).map(|(last, begun)| begun.since(last));
                self.bus.is_something_else(frame_of(&run.first.row).unwrap_or_default(), &remains, after)
            });
            self.settle(of, if is_answered { RunEnd::Answered } else { RunEnd::Disturbed }, bench);
            self.bus.miss(ended);
            self.bus.before.add(remains.last(), ended);
        }
        for question in &mut self.open {
            question.disturbed |= answers;
            question.echoed = true;
            question.hidden += if asks { bytes } else { 0 };
        }
    }

    fn take(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) {
        let (last, ended) = (Remains::of(frame_of(&row).unwrap_or_default(), None), row.completed());
        self.is_pieced = self.bus.is_pieced(&row, bench);
        self.decide(of, row, bench);
        self.bus.before.message(last.last(), ended);
    }

    fn decide(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) {
        let row = match self.go_on(of, row, bench) {
            Some(row) => row,
            None => return,
        };
        let row = match self.answer(of, row, bench) {
            Some(row) => row,
            None => return,
        };
        // An echo comes at once.
        self.open.iter_mut().for_each(|question| question.echoed = true);
        let row = match self.ask(of, row, bench) {
            Some(row) => row,
            None => return,
        };
        self.stray(of, row, bench);
    }

    /// Takes what answers an open question. Gives it back if it does not.
    fn answer(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) -> Option<Row> {
        let mut row = row;
        for place in 0..self.open.len() {
            let question = &mut self.open[place];
            let all = of;
            let of = &of[question.of];
            if !question.may_be_answered_by(of, &row) {
                continue;
            }
            if of.modbus.is_some() && (self.is_pieced || question.is_pieced) {
                return self.leave_open(all, place, row, bench);
            }
            if of.may_ask(&row, bench) {
                match self.bus.either(silence::before(&row, question.asked, bench)) {
                    // Another question may have come before it, and it may be one itself.
                    Either::Answer if question.may_hide_another(of, &row, self.bus.least_latency(), bench) => {
                        question.uncertain = true;
                        continue;
                    }
                    Either::Answer => {}
                    Either::Again => continue,
                    Either::Undetermined => return self.leave_open(all, place, row, bench),
                }
            }
            for member in of.members.iter().filter(|member| member.is != Side::Question) {
                let Some(own) = question.fits(of, member, &mut row, bench) else { continue };
                let question = self.open.remove(place)?;
                let latency = match of.modbus {
                    Some(_) => silence::before(&row, question.asked, bench),
                    None => silence::as_received(&row, question.asked),
                };
                let is_prompt = of.modbus.is_some() && self.bus.is_prompt(latency);
                let is_late = of.modbus.is_some()
                    && question.hidden > 0
                    && latency.is_some()
                    && self.bus.either(latency) != Either::Answer;
                if !of.unique
                    && !is_prompt
                    && (is_late || question.may_hide_another(of, &row, self.bus.least_latency(), bench))
                {
                    self.remember(&question, false);
                    let outcome = if of.modbus.is_some() { UNDETERMINED } else { DISTURBED };
                    question.end(of, None, outcome, None, bench);
                    bench.undo(&mut row, own);
                    refuse(row, own, Reason::Between { kind: of.kind }, bench);
                    return None;
                }
                let answer = bench.keep(row, own, member.slot);
                let may_ask = question.uncertain && of.may_ask(&answer, bench);
                let is_sure = self.bus.is_asked_first(latency) == Some(true)
                    || question.is_first && !self.bus.is_rather_asked(latency);
                if may_ask && (question.hidden > 0 || !is_sure) {
                    self.run = Some(Run { first: question, rest: [answer].into() });
                    return None;
                }
                let sure = latency.filter(|_| !of.may_ask(&answer, bench));
                self.bus.answered(answer.completed(), sure);
                let outcome = if member.is == Side::Error { ERROR } else { ANSWERED };
                self.remember(&question, true);
                question.end(of, Some(answer), outcome, latency, bench);
                return None;
            }
            // Its own echo, which is no other question.
            let question = &mut self.open[place];
            if of.echo
                && !question.echoed
                && let (Of::Frame(kept), Some(asked)) = (&row.of, question.row.first())
                && kept.frame == asked.frame
            {
                question.echoed = true;
                let is_wanted = bench.plan.0.kinds.get(usize::from(row.kind)).is_some_and(|kind| kind.wanted);
                match row.of {
                    Of::Frame(kept) if !is_wanted => bench.say(Said::Ignored(kept, None)),
                    of => bench.pass(Row { of, ..row }),
                }
                return None;
            }
        }
        Some(row)
    }

    /// Takes what is a question, which closes those that are open. Gives it back if it is none.
    fn ask(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) -> Option<Row> {
        let mut row = row;
        let asked = row.completed();
        let found = of.iter().enumerate().find_map(|(number, exchange)| {
            let mut questions = exchange.members.iter().filter(|member| member.is == Side::Question);
            if exchange.modbus.is_some() && !exchange.may_ask(&row, bench) {
                return None;
            }
            questions.find_map(|member| Some((number, member.slot, bench.read_by(&member.by, &mut row)?)))
        });
        let Some((number, slot, own)) = found else { return Some(row) };
        let room = of[number].open;
        // On one line the order of the bytes says what came first.
        let is_apart = row.first().is_some_and(|kept| !is_on(of, kept.origin.line, bench).1);
        self.bus.asked(&row, bench);
        for question in self.open.iter().filter(|question| !question.disturbed && !question.uncertain) {
            self.bus.unanswered(silence::before(&row, question.asked, bench));
        }
        while self.open.iter().filter(|question| question.overtaken.is_none()).count() >= room {
            match (asked.filter(|_| is_apart), self.open.iter().position(|question| question.overtaken.is_none())) {
                (Some(_), Some(place)) => self.open[place].overtaken = asked,
                (_, place) => self.close(of, place.unwrap_or(0), bench),
            }
        }
        // Those of one instant do not pile up.
        while self.open.len() > 2 * room {
            self.close(of, 0, bench);
        }
        let row = bench.keep(row, own, slot);
        let mut key = bench.text();
        row.put_key(0, &mut key);
        let frame = row.first().map_or(&[][..], |kept| &kept.frame);
        let before = self.closed.back().filter(|closed| !closed.is_answered && closed.frame == frame);
        // On two lines the one before may just have been overtaken.
        let overtaken = self.open.back().filter(|open| open.overtaken.is_some() && frame_of(&open.row) == Some(frame));
        let retry = overtaken.map(|open| open.retry).or(before.map(|before| before.retry)).map_or(0, |retry| retry + 1);
        self.fresh = false;
        let of = &of[number];
        let is_broadcast = of.modbus.is_some() && of.message(&row).is_some_and(modbus::is_broadcast);
        // Nothing confirms what nobody answers but that it comes in its turn.
        let is_pieced = of.modbus.is_some() && self.is_pieced;
        let uncertain = is_pieced || !self.bus.in_step && (is_broadcast || of.may_answer(&row, bench));
        let is_first = uncertain
            && of.message(&row).is_some_and(|message| modbus::answers(message, message))
            && !self.bus.before.may_end_with(frame_of(&row).unwrap_or_default())
            && !self.bus.is_rather_answered(silence::before(&row, self.bus.before.at, bench));
        self.bus.in_step |= !uncertain;
        let question = Question {
            of: number,
            key,
            row,
            asked,
            overtaken: None,
            disturbed: false,
            damaged: false,
            hidden: 0,
            echoed: false,
            uncertain,
            is_first,
            is_pieced,
            retry,
        };
        if is_broadcast {
            let outcome = if uncertain { UNDETERMINED } else { BROADCAST };
            question.end(of, None, outcome, None, bench);
        } else {
            self.open.push_back(question);
        }
        None
    }

    /// What answers no open question goes on, with what it seems to be.
    fn stray(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) {
        let mut row = row;
        let mut key = core::mem::take(&mut bench.room.key);
        // Those that were asked for last have the first word.
        let last = self.closed.back().map_or(0, |closed| closed.of);
        let looks_like = (last..of.len()).chain(0..last).find_map(|number| {
            if of[number].modbus.is_some() && !of[number].may_answer(&row, bench) {
                return None;
            }
            let mut answers = of[number].members.iter().filter(|member| member.is != Side::Question);
            let own = answers.find_map(|member| bench.read_by_asking(&member.by, &mut row, Ask::Any))?;
            key.clear();
            row.put_key(0, &mut key);
            bench.undo(&mut row, own);
            Some((number, own))
        });
        let Some((number, own)) = looks_like else {
            bench.room.key = key;
            if let Of::Frame(kept) = &row.of
                && is_open(bench.plan, kept)
                && matches!(kept.origin.at_hand.otherwise, Otherwise::Rejected { .. })
            {
                // It may be the answer, damaged, or another question.
                let (line, bytes) = (kept.origin.line, kept.frame.len() as u64);
                let remains = Remains::of(&kept.frame, kept.received());
                let gap = Gap { line, bytes: Some(bytes), time: kept.completed(), damaged: None, remains };
                self.disturb(of, &gap, bytes, bench);
            }
            return bench.pass(row);
        };
        let kind = of[number].kind;
        let is_its = |closed: &Closed| closed.of == number && (!of[number].has_key || closed.key == key);
        let reason = match self.closed.iter().rev().enumerate().find(|(_, closed)| is_its(closed)) {
            Some((0, Closed { is_answered: true, .. })) => Reason::SecondAnswer { kind },
            Some((_, Closed { is_answered: false, .. })) => Reason::LateAnswer { kind },
            _ if self.fresh => Reason::BegunBefore,
            // Others were asked meanwhile.
            _ => Reason::NoQuestion { kind },
        };
        bench.room.key = key;
        refuse(row, own, reason, bench);
    }

    /// Closes a question that has got no answer.
    fn close(&mut self, of: &[Exchange], place: usize, bench: &mut Bench<'_>) {
        if let Some(question) = self.open.remove(place) {
            self.remember(&question, false);
            let number_of = question.of;
            let outcome = match () {
                () if question.uncertain => UNDETERMINED,
                () if question.damaged => CHECKSUM_ERROR,
                () if question.disturbed => DISTURBED,
                () => NO_ANSWER,
            };
            question.end(&of[number_of], None, outcome, None, bench);
        }
    }

    fn remember(&mut self, question: &Question, is_answered: bool) {
        let mut closed = match self.closed.len() < CLOSED {
            true => Closed { of: question.of, key: Vec::new(), frame: Vec::new(), is_answered, retry: 0 },
            false => match self.closed.pop_front() {
                Some(oldest) => oldest,
                None => return,
            },
        };
        closed.key.clone_from(&question.key);
        closed.frame.clear();
        closed.frame.extend_from_slice(question.row.first().map_or(&[][..], |kept| &kept.frame));
        (closed.of, closed.is_answered, closed.retry) = (question.of, is_answered, question.retry);
        self.closed.push_back(closed);
    }
}

/// Whether questions, and answers, of some exchanges come on a line.
fn is_on(of: &[Exchange], line: LineId, bench: &Bench<'_>) -> (bool, bool) {
    let Some(route) = bench.routes.get(line.index()) else { return (false, false) };
    (of.iter().any(|of| of.ask_routes.contains(route)), of.iter().any(|of| of.routes.contains(route)))
}

/// Gives an answer up that belongs to no question: what else may claim it does.
fn refuse(row: Row, own: Own, reason: Reason, bench: &mut Bench<'_>) {
    match (own, row) {
        (Own::Record(kind), row) => {
            let held = bench.hold(row, kind, 0);
            bench.reject([held].into(), reason, reason == Reason::BegunBefore);
        }
        (Own::Frame, mut row) => {
            if let Of::Frame(kept) = &mut row.of
                && let Otherwise::Rejected { reason: otherwise @ Reason::Unclaimed { .. }, clipped } =
                    &mut kept.origin.at_hand.otherwise
            {
                (*otherwise, *clipped) = (reason, reason == Reason::BegunBefore);
            }
            bench.pass(row);
        }
    }
}
