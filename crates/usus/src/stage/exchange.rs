//! Exchanges: questions with their answers, one record for each question.
//!
//! A question is open until it is answered, another is asked, or too much time has passed. What fits the answer to an open question is that; only then it is
//! looked at as a question.

use alloc::collections::VecDeque;
use alloc::vec::Vec;

use super::{Bench, Gap, Own, Said, Told, is_open, is_over};
use crate::claim::operand;
use crate::contents::Ask;
use crate::expression::Operand;
use crate::input::LineId;
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
}

#[derive(Clone, Debug, PartialEq)]
struct Question {
    key: Vec<u8>,
    row: Row,
    /// When its last byte arrived.
    asked: Option<Time>,
    /// Whether bytes that gave no record came where its answer may come.
    disturbed: bool,
    /// Whether its echo has come.
    echoed: bool,
    /// How often it was asked before and not answered.
    retry: u32,
}

/// A question that is open no more.
#[derive(Clone, Debug, PartialEq)]
struct Closed {
    key: Vec<u8>,
    frame: Vec<u8>,
    is_answered: bool,
    retry: u32,
}

/// Questions that are remembered, to tell what comes late or again.
const CLOSED: usize = 16;

/// How a question ended, as the record says it.
const ANSWERED: &str = "answered";
const ERROR: &str = "error";
const NO_ANSWER: &str = "no_answer";
const DISTURBED: &str = "disturbed";

impl Exchanges {
    pub(super) fn is_idle(&self) -> bool {
        self.open.is_empty()
    }

    pub(super) fn deadline(&self, within: Span) -> Option<Time> {
        self.open.iter().filter_map(|question| question.asked).min().map(|asked| asked.after(within))
    }

    pub(super) fn tell(&mut self, of: &Exchange, told: Told, bench: &mut Bench<'_>) {
        match told {
            Told::Row(row) => {
                // What has begun in time is in time.
                if let Some(now) = row.times().0 {
                    self.expire(of, now, bench);
                }
                self.take(of, row, bench);
            }
            Told::Time(now) => self.expire(of, now, bench),
            Told::Gap(gap) => self.lose(of, gap, bench),
            Told::End => {
                for question in self.open.drain(..) {
                    bench.reject([question.row].into(), Reason::NoEndOfExchange { kind: of.kind }, true);
                }
            }
        }
    }

    fn expire(&mut self, of: &Exchange, now: Time, bench: &mut Bench<'_>) {
        while let Some(over) = self.open.iter().position(|question| is_over(question.asked, of.within, now)) {
            self.close(of, over, bench);
        }
    }

    /// Bytes that gave no record may have been the answer; where bytes are missing, nobody knows whether there was one.
    fn lose(&mut self, of: &Exchange, gap: Gap, bench: &mut Bench<'_>) {
        match gap.bytes {
            Some(_) => self.disturb(of, gap.line, bench),
            None if !is_answering(of, gap.line, bench) => {}
            None => {
                for question in self.open.drain(..) {
                    bench.reject([question.row].into(), Reason::NoEndOfExchange { kind: of.kind }, true);
                }
            }
        }
    }

    fn disturb(&mut self, of: &Exchange, line: LineId, bench: &Bench<'_>) {
        if is_answering(of, line, bench) {
            self.open.iter_mut().for_each(|question| question.disturbed = true);
        }
    }

    fn take(&mut self, of: &Exchange, row: Row, bench: &mut Bench<'_>) {
        let row = match self.answer(of, row, bench) {
            Some(row) => row,
            None => return,
        };
        let row = match self.ask(of, row, bench) {
            Some(row) => row,
            None => return,
        };
        self.stray(of, row, bench);
    }

    /// Takes what answers an open question. Gives it back if it does not.
    fn answer(&mut self, of: &Exchange, row: Row, bench: &mut Bench<'_>) -> Option<Row> {
        let mut row = row;
        for place in 0..self.open.len() {
            let question = &mut self.open[place];
            for member in of.members.iter().filter(|member| member.is != Side::Question) {
                let begun = row.times().0;
                let Some(own) = question.fits(of, member, &mut row, bench) else { continue };
                let question = self.open.remove(place)?;
                let answer = bench.keep(row, own, member.slot);
                let latency = question.asked.zip(begun).map(|(asked, begun)| begun.since(asked));
                let outcome = if member.is == Side::Error { ERROR } else { ANSWERED };
                self.remember(&question, true);
                bench.pass(question.record(of, Some(answer), outcome, latency));
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
    fn ask(&mut self, of: &Exchange, row: Row, bench: &mut Bench<'_>) -> Option<Row> {
        let mut row = row;
        let asked = row.completed();
        let questions = of.members.iter().filter(|member| member.is == Side::Question);
        let found = questions.into_iter().find_map(|member| bench.read_by(&member.by, &mut row));
        let Some(own) = found else { return Some(row) };
        while self.open.len() >= of.open {
            self.close(of, 0, bench);
        }
        let row = bench.keep(row, own, 0);
        let mut key = Vec::new();
        row.put_key(0, &mut key);
        let frame = row.first().map_or(&[][..], |kept| &kept.frame);
        let before = self.closed.back().filter(|closed| !closed.is_answered && closed.frame == frame);
        let retry = before.map_or(0, |before| before.retry + 1);
        self.open.push_back(Question { key, row, asked, disturbed: false, echoed: false, retry });
        None
    }

    /// What answers no open question goes on, with what it seems to be.
    fn stray(&mut self, of: &Exchange, row: Row, bench: &mut Bench<'_>) {
        let mut row = row;
        let mut key = core::mem::take(&mut bench.room.key);
        let looks_like = of.members.iter().filter(|member| member.is != Side::Question).find_map(|member| {
            let own = bench.read_by_asking(&member.by, &mut row, Ask::Any)?;
            key.clear();
            row.put_key(0, &mut key);
            let layout = row.kind;
            bench.undo(&mut row, own);
            Some((layout, matches!(own, Own::Frame)))
        });
        let Some((layout, is_own)) = looks_like else {
            bench.room.key = key;
            if let Of::Frame(kept) = &row.of
                && is_open(bench.plan, kept)
                && matches!(kept.origin.at_hand.otherwise, Otherwise::Rejected { .. })
            {
                // It may be the answer, damaged.
                self.disturb(of, kept.origin.line, bench);
            }
            return bench.pass(row);
        };
        let kind = of.kind;
        let reason = match self.closed.iter().rev().find(|closed| !of.has_key || closed.key == key) {
            Some(Closed { is_answered: true, .. }) => Reason::SecondAnswer { kind },
            Some(Closed { is_answered: false, .. }) => Reason::LateAnswer { kind },
            None => Reason::NoQuestion { kind },
        };
        bench.room.key = key;
        if !is_own {
            let held = bench.hold(row, layout, 0);
            return bench.reject([held].into(), reason, false);
        }
        if let Of::Frame(kept) = &mut row.of
            && let Otherwise::Rejected { reason: otherwise @ Reason::Unclaimed { .. }, .. } =
                &mut kept.origin.at_hand.otherwise
        {
            *otherwise = reason;
        }
        bench.pass(row);
    }

    /// Closes a question that has got no answer.
    fn close(&mut self, of: &Exchange, place: usize, bench: &mut Bench<'_>) {
        if let Some(question) = self.open.remove(place) {
            self.remember(&question, false);
            let outcome = if question.disturbed { DISTURBED } else { NO_ANSWER };
            bench.pass(question.record(of, None, outcome, None));
        }
    }

    fn remember(&mut self, question: &Question, is_answered: bool) {
        let mut closed = match self.closed.len() < CLOSED {
            true => Closed { key: Vec::new(), frame: Vec::new(), is_answered, retry: 0 },
            false => match self.closed.pop_front() {
                Some(oldest) => oldest,
                None => return,
            },
        };
        closed.key.clone_from(&question.key);
        closed.frame.clear();
        closed.frame.extend_from_slice(question.row.first().map_or(&[][..], |kept| &kept.frame));
        (closed.is_answered, closed.retry) = (is_answered, question.retry);
        self.closed.push_back(closed);
    }
}

/// Whether answers come on a line.
fn is_answering(of: &Exchange, line: LineId, bench: &Bench<'_>) -> bool {
    bench.routes.get(line.index()).is_some_and(|route| of.routes.contains(route))
}

impl Question {
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

    fn record(self, of: &Exchange, answer: Option<Row>, outcome: &'static str, latency: Option<Span>) -> Row {
        // Milliseconds with three places.
        let latency = latency.and_then(|latency| Decimal::new((latency.nanoseconds() / 1_000).into(), 3));
        let retry = match self.retry {
            0 => Made::Nothing,
            retry => Made::Number(Decimal::from_unsigned(retry.into())),
        };
        let made = [Made::Word(outcome), latency.map_or(Made::Nothing, Made::Number), retry].into();
        let mut rows = Vec::with_capacity(2);
        rows.push(self.row);
        rows.extend(answer);
        Row::of_rows(of.kind, rows, made)
    }
}
