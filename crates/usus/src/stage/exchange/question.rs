//! A question that is open, what may be its answer, and the record of both.

use alloc::vec::Vec;

use crate::claim::operand;
use crate::contents::Ask;
use crate::expression::Operand;
use crate::modbus::{self, Length};
use crate::plan::{Exchange, Member};
use crate::record::{Made, Row};
use crate::stage::{Bench, Own};
use crate::time::{Span, Time};
use crate::value::Decimal;

/// Bytes of the shortest answer of Modbus: an exception with its checksum.
const SHORTEST: usize = 5;

#[derive(Clone, Debug, PartialEq)]
pub(super) struct Question {
    /// Which exchange it is of.
    pub(super) of: usize,
    pub(super) key: Vec<u8>,
    pub(super) row: Row,
    /// When its last byte arrived.
    pub(super) asked: Option<Time>,
    /// When another question came that leaves no room for it. Only what came at the same time can still be its answer.
    pub(super) overtaken: Option<Time>,
    /// Whether bytes that gave no record came where its answer may come.
    pub(super) disturbed: bool,
    /// Whether a message came that would be its answer if its checksum held.
    pub(super) damaged: bool,
    /// How many such bytes came where questions come.
    pub(super) hidden: u64,
    /// Whether its echo has come, or something else.
    pub(super) echoed: bool,
    /// Whether it may be an answer, whose question was not seen.
    pub(super) uncertain: bool,
    /// Whether what came right before it is not the question to which it would be the answer, nor what is left of that.
    pub(super) is_first: bool,
    /// Whether it is rather two than one.
    pub(super) is_pieced: bool,
    /// How often it was asked before and not answered.
    pub(super) retry: u32,
}

impl Exchange {
    /// The message in a frame of Modbus.
    pub(super) fn message<'r>(&self, row: &'r Row) -> Option<&'r [u8]> {
        self.modbus?.message(row.first()?.contents())
    }

    /// Whether a message of Modbus can be a question.
    pub(super) fn may_ask(&self, row: &Row, bench: &Bench<'_>) -> bool {
        self.is_whole(row, bench, |framing| framing.requests, modbus::of_request)
    }

    /// Whether a message of Modbus can be an answer.
    pub(super) fn may_answer(&self, row: &Row, bench: &Bench<'_>) -> bool {
        self.is_whole(row, bench, |framing| framing.answers, modbus::of_answer)
    }

    pub(super) fn is_whole(
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
    pub(super) fn may_be_answered_by(&self, of: &Exchange, row: &Row) -> bool {
        match (of.message(&self.row), of.message(row)) {
            (Some(request), Some(answer)) => modbus::answers(request, answer),
            _ => true,
        }
    }

    /// Whether another question may be among what gave no record since it was asked: then what comes may be the answer to that.
    pub(super) fn may_hide_another(&self, of: &Exchange, answer: &Row, thinking: Span, bench: &Bench<'_>) -> bool {
        let length = self.row.first().map_or(0, |kept| kept.frame.len());
        if of.modbus.is_some() && self.leaves_no_time(length, answer, thinking, bench) {
            return false;
        }
        // How little of it may be left. On a bus each is as likely as the next, and they follow at once.
        let parts = if of.modbus.is_some() { 4 } else { 2 };
        self.hidden > 0 && parts * self.hidden >= length as u64
    }

    /// Whether what comes ends so soon that there was no time for another answer and another question of that length before it, and for the units to think.
    pub(super) fn leaves_no_time(&self, length: usize, answer: &Row, thinking: Span, bench: &Bench<'_>) -> bool {
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
    pub(super) fn fits(&self, of: &Exchange, member: &Member, row: &mut Row, bench: &mut Bench<'_>) -> Option<Own> {
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
    pub(super) fn asked_for<'q>(&'q self, of: &'q Exchange, field: u16) -> Operand<'q> {
        let Some(record) = self.row.record() else { return Operand::Absent };
        let fields = of.asked.iter().find(|asked| asked.layout == record.kind).map(|asked| &asked.fields);
        match fields.and_then(|fields| fields.get(usize::from(field))) {
            Some(Some(field)) => operand(field, &record.cells, 0),
            _ => Operand::Absent,
        }
    }

    /// Passes it on with its answer, and how it ended.
    pub(super) fn end(
        self,
        of: &Exchange,
        answer: Option<Row>,
        outcome: &'static str,
        latency: Option<Span>,
        bench: &mut Bench<'_>,
    ) {
        // Milliseconds with three places.
        let latency = latency.and_then(|latency| Decimal::new((latency.nanoseconds() / 1_000).into(), 3));
        let retry = match self.retry {
            0 => Made::Nothing,
            retry => Made::Number(Decimal::from_unsigned(retry.into())),
        };
        let mut made = bench.made([Made::Word(outcome), latency.map_or(Made::Nothing, Made::Number), retry]);
        if let Some(request) = of.message(&self.row) {
            let bits = modbus::bits(request, answer.as_ref().and_then(|answer| of.message(answer)));
            made.push(bits.map_or(Made::Nothing, Made::Text));
        }
        bench.room.spend_text(self.key);
        let mut rows = bench.list();
        rows.push(self.row);
        rows.extend(answer);
        bench.pass(Row::of_rows(of.kind, rows, made));
    }
}
