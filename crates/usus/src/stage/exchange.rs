//! Exchanges: questions with their answers, one record for each question.
//!
//! A question is open until it is answered, another is asked, or too much time has passed. What fits the answer to an open question is that; only then it is
//! looked at as a question.

use alloc::collections::VecDeque;
use alloc::vec::Vec;

use super::bus::{self, Bus, Either, RunEnd};
use super::{Bench, Gap, Now, Own, Said, Told, is_open, is_over};
use crate::claim::operand;
use crate::contents::Ask;
use crate::expression::Operand;
use crate::input::LineId;
use crate::modbus::{self, Length};
use crate::plan::{Exchange, Member, Side};
use crate::reason::Reason;
use crate::record::{Made, Of, Otherwise, Row};
use crate::time::{Span, Time};
use crate::value::Decimal;

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
}

/// Messages that are alike and may go either way, from one on before which something was missed. Which of them are questions shows at their end.
#[derive(Clone, Debug, PartialEq)]
struct Run {
    first: Question,
    rest: Vec<Row>,
}

/// Bytes of the shortest answer of Modbus: an exception with its checksum.
const SHORTEST: usize = 5;

/// The most messages of a run.
const RUN: usize = 32;

#[derive(Clone, Debug, PartialEq)]
struct Question {
    /// Which exchange it is of.
    of: usize,
    key: Vec<u8>,
    row: Row,
    /// When its last byte arrived.
    asked: Option<Time>,
    /// When another question came that leaves no room for it. Only what came at the same time can still be its answer.
    overtaken: Option<Time>,
    /// Whether bytes that gave no record came where its answer may come.
    disturbed: bool,
    /// How many such bytes came where questions come.
    hidden: u64,
    /// Whether its echo has come, or something else.
    echoed: bool,
    /// Whether it may be an answer, whose question was not seen.
    uncertain: bool,
    /// How often it was asked before and not answered.
    retry: u32,
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
            self.settle(of, RunEnd::Followed, bench);
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
            Some(bytes) => self.disturb(of, gap.line, bytes, bench),
            None if is_on(of, gap.line, bench) == (false, false) => {}
            None => {
                self.give_up(of, bench);
                self.closed.clear();
                self.bus.lose();
                self.begins();
            }
        }
    }

    fn disturb(&mut self, of: &[Exchange], line: LineId, bytes: u64, bench: &mut Bench<'_>) {
        let (asks, answers) = is_on(of, line, bench);
        if asks || answers {
            self.bus.lose();
            self.settle(of, RunEnd::Disturbed, bench);
        }
        for question in &mut self.open {
            question.disturbed |= answers;
            question.echoed = true;
            question.hidden += if asks { bytes } else { 0 };
        }
    }

    fn take(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) {
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
            if of.may_ask(&row, bench) {
                match self.bus.either(question.asked.zip(row.received()).map(|(asked, begun)| begun.since(asked))) {
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
                let begun = row.received();
                let Some(own) = question.fits(of, member, &mut row, bench) else { continue };
                let question = self.open.remove(place)?;
                let latency = question.asked.zip(begun).map(|(asked, begun)| begun.since(asked));
                let is_prompt = of.modbus.is_some() && self.bus.is_prompt(latency);
                let is_late = of.modbus.is_some() && question.hidden > 0 && self.bus.either(latency) == Either::Again;
                if !of.unique
                    && !is_prompt
                    && (is_late || question.may_hide_another(of, &row, self.bus.least_latency(), bench))
                {
                    self.remember(&question, false);
                    let rows = bench.list();
                    let outcome = if of.modbus.is_some() { UNDETERMINED } else { DISTURBED };
                    bench.pass(question.record(of, None, outcome, None, rows));
                    bench.undo(&mut row, own);
                    refuse(row, own, Reason::Between { kind: of.kind }, bench);
                    return None;
                }
                let answer = bench.keep(row, own, member.slot);
                if question.uncertain && of.may_ask(&answer, bench) {
                    self.run = Some(Run { first: question, rest: [answer].into() });
                    return None;
                }
                self.bus.answered(latency.filter(|_| !of.may_ask(&answer, bench)));
                let outcome = if member.is == Side::Error { ERROR } else { ANSWERED };
                self.remember(&question, true);
                let rows = bench.list();
                bench.pass(question.record(of, Some(answer), outcome, latency, rows));
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
        let begun = row.received();
        for question in self.open.iter().filter(|question| !question.disturbed && !question.uncertain) {
            self.bus.unanswered(question.asked.zip(begun).map(|(asked, begun)| begun.since(asked)));
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
        let mut key = Vec::new();
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
        let uncertain = !self.bus.in_step && (is_broadcast || of.may_answer(&row, bench));
        self.bus.in_step |= !uncertain;
        let question = Question {
            of: number,
            key,
            row,
            asked,
            overtaken: None,
            disturbed: false,
            hidden: 0,
            echoed: false,
            uncertain,
            retry,
        };
        if is_broadcast {
            let (outcome, rows) = (if uncertain { UNDETERMINED } else { BROADCAST }, bench.list());
            bench.pass(question.record(of, None, outcome, None, rows));
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
                self.disturb(of, kept.origin.line, kept.frame.len() as u64, bench);
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
            let outcome = match (question.uncertain, question.disturbed) {
                (true, _) => UNDETERMINED,
                (false, true) => DISTURBED,
                (false, false) => NO_ANSWER,
            };
            let rows = bench.list();
            bench.pass(question.record(&of[number_of], None, outcome, None, rows));
        }
    }

    /// Closes a question with what may be its answer, or the question again: that is not known.
    fn leave_open(&mut self, of: &[Exchange], place: usize, row: Row, bench: &mut Bench<'_>) -> Option<Row> {
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
        let rows = bench.list();
        bench.pass(question.record(of, Some(answer), UNDETERMINED, None, rows));
        None
    }

    /// Takes what goes on with a run. Gives back what does not: that ends it.
    fn go_on(&mut self, of: &[Exchange], row: Row, bench: &mut Bench<'_>) -> Option<Row> {
        let Some(run) = &mut self.run else { return Some(row) };
        let gap = run.completed().zip(row.received()).map(|(last, begun)| begun.since(last));
        let is_alike = run.rest.len() < RUN && frame_of(&run.first.row) == frame_of(&row);
        let end = match self.bus.either(gap) {
            Either::Answer if is_alike => {
                run.rest.push(row);
                return None;
            }
            // Nobody asks for something else so soon but behind an answer.
            Either::Answer => RunEnd::Answered,
            Either::Again if is_alike => RunEnd::Unanswered,
            _ if is_alike => RunEnd::Disturbed,
            _ => RunEnd::Followed,
        };
        self.settle(of, end, bench);
        Some(row)
    }

    /// Says what a run is, if there is one.
    fn settle(&mut self, of: &[Exchange], end: RunEnd, bench: &mut Bench<'_>) {
        let Some(Run { mut first, rest }) = self.run.take() else { return };
        let begins_asking = bus::begins_asking(1 + rest.len(), end);
        if begins_asking == Some(false) {
            let (of, rows) = (&of[first.of], bench.list());
            bench.pass(first.record(of, None, UNDETERMINED, None, rows));
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

impl Run {
    /// When the last byte of it arrived.
    fn completed(&self) -> Option<Time> {
        self.rest.last().and_then(Row::completed)
    }
}

fn frame_of(row: &Row) -> Option<&[u8]> {
    row.first().map(|kept| &*kept.frame)
}

impl Exchange {
    /// The message in a frame of Modbus.
    fn message<'r>(&self, row: &'r Row) -> Option<&'r [u8]> {
        self.modbus?.message(row.first()?.contents())
    }

    /// Whether a message of Modbus can be a question.
    fn may_ask(&self, row: &Row, bench: &Bench<'_>) -> bool {
        self.is_whole(row, bench, |framing| framing.requests, modbus::of_request)
    }

    /// Whether a message of Modbus can be an answer.
    fn may_answer(&self, row: &Row, bench: &Bench<'_>) -> bool {
        self.is_whole(row, bench, |framing| framing.answers, modbus::of_answer)
    }

    fn is_whole(
        &self,
        row: &Row,
        bench: &Bench<'_>,
        goes: impl Fn(&crate::plan::Modbus) -> bool,
        length: impl Fn(&[u8]) -> Length,
    ) -> bool {
        let Some((message, kept)) = self.message(row).zip(row.first()) else { return false };
        let frame = bench.plan.0.frames.get(usize::from(kept.of_frame().0));
        let goes_that_way = frame.and_then(|frame| frame.modbus).is_none_or(|(modbus, _)| goes(&modbus));
        goes_that_way && modbus::is_whole(message, length(message))
    }
}

impl Question {
    /// Whether a message of Modbus is what it asks for; anything else may be.
    fn may_be_answered_by(&self, of: &Exchange, row: &Row) -> bool {
        match (of.message(&self.row), of.message(row)) {
            (Some(request), Some(answer)) => modbus::answers(request, answer),
            _ => true,
        }
    }

    /// Whether another question may be among what gave no record since it was asked: then what comes may be the answer to that.
    fn may_hide_another(&self, of: &Exchange, answer: &Row, thinking: Span, bench: &Bench<'_>) -> bool {
        let length = self.row.first().map_or(0, |kept| kept.frame.len());
        if of.modbus.is_some() && self.leaves_no_time(length, answer, thinking, bench) {
            return false;
        }
        // How little of it may be left. On a bus each is as likely as the next, and they follow at once.
        let parts = if of.modbus.is_some() { 4 } else { 2 };
        self.hidden > 0 && parts * self.hidden >= length as u64
    }

    /// Whether what comes ends so soon that there was no time for another answer and another question of that length before it, and for the units to think.
    fn leaves_no_time(&self, length: usize, answer: &Row, thinking: Span, bench: &Bench<'_>) -> bool {
        let character = bench.plan.0.character.map(Span::nanoseconds);
        let took = self.asked.zip(answer.completed()).map(|(asked, ended)| ended.since(asked).nanoseconds());
        // What came together tells nothing.
        let came_apart = answer.received() > self.asked;
        let all = SHORTEST + length + answer.first().map_or(0, |kept| kept.frame.len());
        came_apart
            && took.zip(character).is_some_and(|(took, character)| {
                took < character.saturating_mul(all as i64).saturating_add(thinking.nanoseconds())
            })
    }

    /// Whether that answers it. What does is read as the answer.
    fn fits(&self, of: &Exchange, member: &Member, row: &mut Row, bench: &mut Bench<'_>) -> Option<Own> {
        let own = bench.read_by_asking(&member.by, row, Ask::Of(&|field| self.asked_for(of, field)))?;
        if !of.has_key {
            return Some(own);
        }
        let mut key = core::mem::take(&mut bench.room.key);
        key.clear();
        let fits = row.put_key(0, &mut key) && key == self.key;
        bench.room.key = key;
        if !fits {
            bench.undo(row, own);
        }
        fits.then_some(own)
    }

    /// What an answer asks of it.
    fn asked_for<'q>(&'q self, of: &'q Exchange, field: u16) -> Operand<'q> {
        let Some(record) = self.row.record() else { return Operand::Absent };
        let fields = of.asked.iter().find(|asked| asked.layout == record.kind).map(|asked| &asked.fields);
        match fields.and_then(|fields| fields.get(usize::from(field))) {
            Some(Some(field)) => operand(field, &record.cells, 0),
            _ => Operand::Absent,
        }
    }

    fn record(
        self,
        of: &Exchange,
        answer: Option<Row>,
        outcome: &'static str,
        latency: Option<Span>,
        mut rows: Vec<Row>,
    ) -> Row {
        // Milliseconds with three places.
        let latency = latency.and_then(|latency| Decimal::new((latency.nanoseconds() / 1_000).into(), 3));
        let retry = match self.retry {
            0 => Made::Nothing,
            retry => Made::Number(Decimal::from_unsigned(retry.into())),
        };
        let mut made = Vec::from([Made::Word(outcome), latency.map_or(Made::Nothing, Made::Number), retry]);
        if let Some(request) = of.message(&self.row) {
            let bits = modbus::bits(request, answer.as_ref().and_then(|answer| of.message(answer)));
            made.push(bits.map_or(Made::Nothing, Made::Text));
        }
        rows.push(self.row);
        rows.extend(answer);
        Row::of_rows(of.kind, rows, made)
    }
}
