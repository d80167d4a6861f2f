//! What is known of a bus on which requests and answers share one stream, and nothing in a message says which of both it is.
//!
//! Most messages can only be one of both, and what they are says what the next one is. Where a message can be either, an answer that is the request again for one, it
//! counts whether the conversation was followed without a break, and how long after the request it came: a unit answers sooner than its master loses patience.
//! Behind damage it counts how long the line is silent before answers and before requests (`silence.rs`), and what came right before (`before.rs`).

use super::before::{Before, may_be_again};
use super::silence::{self, ENOUGH, MANY, SOME, Silences};
use crate::modbus::{self, Length};
use crate::record::Row;
use crate::stage::{Bench, Remains};
use crate::time::{Span, Time};

/// How messages followed one another so far.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Bus {
    /// Whether it is known which way the last message went, and nothing was missed since.
    pub(super) in_step: bool,
    /// What came last.
    pub(super) before: Before,
    /// How long answers took that could be nothing else.
    latency: Silences,
    /// When the last message came, if it was an answer.
    answered_at: Option<Time>,
    /// How long after an answer something was asked.
    pace: Silences,
    /// The shortest time after which something else was asked, of requests that got no answer.
    patience: Option<Span>,
    /// The same of those of which the answer may have been lost without a trace.
    doubtful: Option<Span>,
    /// Whether bytes were missed so far, or gave no record.
    is_damaged: bool,
    /// How many messages came, and in how many of them the line was silent for long, of late.
    messages: u8,
    halting: u8,
}

/// What a message is that may be the answer, or the request again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Either {
    Answer,
    Again,
    Undetermined,
}

/// The fewest bytes that show what message they were of.
const SHORTEST: usize = 4;

/// No master loses patience sooner.
const PATIENCE: i64 = 100_000_000;

/// So many messages in which the line is never silent for long make it odd if it is in one.
const ODD: u8 = 64;

impl Bus {
    /// Whether a message is rather the begin of one and the end of another, of which the rest and what was between them was lost: there was time for an answer and
    /// another request within it, and other messages have no such silences.
    pub(super) fn is_pieced(&mut self, message: &Row, bench: &Bench<'_>) -> bool {
        let are_known = self.latency.count.min(self.pace.count) >= SOME;
        let Some(silent) = silence::within(message, bench).filter(|_| are_known) else { return false };
        let turnaround = self.latency.shortest.nanoseconds().saturating_add(self.pace.shortest.nanoseconds());
        let is_halting = silent.nanoseconds() >= turnaround;
        let is_odd = self.messages >= ENOUGH && u16::from(self.halting) * u16::from(ODD) < self.messages.into();
        if self.messages == u8::MAX {
            (self.messages, self.halting) = (self.messages / 2, self.halting / 2);
        }
        self.messages += 1;
        self.halting += u8::from(is_halting);
        is_halting && is_odd
    }

    /// Nobody knows any more which way the last message went.
    pub(super) fn lose(&mut self) {
        self.in_step = false;
        self.answered_at = None;
    }

    /// Bytes were missed, or gave no record.
    pub(super) fn miss(&mut self, at: Option<Time>) {
        self.lose();
        self.is_damaged |= at.is_some();
    }

    /// A request came.
    pub(super) fn asked(&mut self, request: &Row, bench: &Bench<'_>) {
        if let Some(pace) = silence::before(request, self.answered_at.take(), bench) {
            self.pace.note(pace);
        }
    }

    /// An answer ended then, and took so long.
    pub(super) fn answered(&mut self, ended: Option<Time>, latency: Option<Span>) {
        self.in_step = true;
        self.answered_at = ended;
        if let Some(latency) = latency {
            self.latency.note(latency);
        }
    }

    /// After so long without an answer something else was asked.
    pub(super) fn unanswered(&mut self, wait: Option<Span>) {
        // Who waits for answers that take longer has not given up so soon: one of both messages is not what it seems to be.
        let is_one =
            |wait: &Span| self.latency.count < ENOUGH || *wait > self.latency.longest || wait.nanoseconds() > PATIENCE;
        let Some(wait) = wait.filter(is_one) else { return };
        let turnaround = self.latency.longest.nanoseconds().saturating_add(self.pace.longest.nanoseconds());
        let is_longer = self.latency.count.min(self.pace.count) >= ENOUGH && wait.nanoseconds() > turnaround;
        let patience = if self.is_damaged && !is_longer { &mut self.doubtful } else { &mut self.patience };
        *patience = Some(patience.map_or(wait, |patience| patience.min(wait)));
    }

    /// How long an answer takes at least; nothing where that is not known.
    pub(super) fn least_latency(&self) -> Span {
        if self.latency.count >= ENOUGH { self.latency.shortest } else { Span::from_nanoseconds(0) }
    }

    /// Whether an answer came so soon that no other request and answer can have come before it.
    pub(super) fn is_prompt(&self, latency: Option<Span>) -> bool {
        latency.is_some_and(|latency| latency.nanoseconds() < 2 * self.least_latency().nanoseconds())
    }

    /// Whether a message came so soon behind another that, of a request and its answer, only the answer can: no request ever came so soon behind an answer.
    pub(super) fn is_sooner_than_requests(&self, after: Option<Span>) -> bool {
        let Some(after) = after else { return false };
        let is_usual = self.latency.count >= ENOUGH && self.pace.count >= ENOUGH && after <= self.latency.longest;
        let is_much_sooner = self.pace.count >= SOME && 4 * after.nanoseconds() < 3 * self.pace.shortest.nanoseconds();
        is_much_sooner || is_usual && after < self.pace.least()
    }

    /// Whether a message came rather as late as requests follow answers than as late as answers come.
    pub(super) fn is_rather_asked(&self, after: Option<Span>) -> bool {
        self.latency.are_exceeded_by(after, self.pace, SOME)
    }

    /// Whether a message came rather as late as answers come than as late as requests follow answers.
    pub(super) fn is_rather_answered(&self, after: Option<Span>) -> bool {
        self.pace.are_exceeded_by(after, self.latency, SOME)
    }

    /// Whether the first of two messages that are alike is the request and the other its answer (`true`), or the first is an answer and the other the next request, by
    /// how long the line was silent between them; nothing where that does not tell.
    pub(super) fn is_asked_first(&self, between: Option<Span>) -> Option<bool> {
        let are_known = self.latency.count.min(self.pace.count) >= MANY;
        let by_both = |silence: Span| (self.latency.are_like(silence), self.pace.are_like(silence));
        if self.is_sooner_than_requests(between) {
            Some(true)
        } else if self.latency.are_exceeded_by(between, self.pace, ENOUGH) {
            Some(false)
        } else {
            let (is_latency, is_pace) = between.filter(|_| are_known).map(by_both)?;
            (is_latency != is_pace).then_some(is_latency)
        }
    }

    /// Whether bytes that gave no record are what is left of another message than a frame before them, and came so soon that nobody asks for that but behind an
    /// answer.
    pub(super) fn is_something_else(&self, frame: &[u8], remains: &Remains, after: Option<Span>) -> bool {
        let began = remains.first();
        let is_other =
            |(one, other): (&[u8; 2], &[u8; 2])| one != other && *one != [other[0], other[1] | modbus::EXCEPTION];
        self.either(after) == Either::Answer
            && began.len() >= SHORTEST
            && began.first_chunk().zip(frame.first_chunk()).is_some_and(is_other)
            && modbus::of_request(began) != Length::None
            && !may_be_again(began, frame)
    }

    /// Whether a request follows an answer so late, as far as was seen.
    pub(super) fn is_pace(&self, after: Option<Span>) -> bool {
        let longest = self.pace.longest.nanoseconds();
        self.pace.count > 0 && after.is_some_and(|after| 4 * after.nanoseconds() <= 5 * longest)
    }

    /// What a message is that came so long after the request, by what others took.
    pub(super) fn either(&self, after: Option<Span>) -> Either {
        let Some(after) = after.map(Span::nanoseconds) else { return Either::Undetermined };
        let longest = (self.latency.count > 0).then_some(self.latency.longest.nanoseconds());
        let patience = self.patience.or(self.doubtful).map(Span::nanoseconds);
        let again = if self.patience.is_some() { Either::Again } else { Either::Undetermined };
        // Patience differs little from one request to the next.
        let is_soon = after <= PATIENCE && patience.is_none_or(|patience| after < patience - patience / 8);
        match (longest, patience) {
            _ if is_soon => Either::Answer,
            (Some(longest), Some(patience)) if longest < patience => {
                // Halfway between both, as ratios go.
                match i128::from(after) * i128::from(after) <= i128::from(longest.max(1)) * i128::from(patience) {
                    true => Either::Answer,
                    false => again,
                }
            }
            (Some(longest), Some(_)) if after > longest => again,
            (Some(_), Some(_)) => Either::Undetermined,
            (Some(longest), None) if after <= longest => Either::Answer,
            (None, Some(_)) => again,
            (_, None) => Either::Undetermined,
        }
    }
}
