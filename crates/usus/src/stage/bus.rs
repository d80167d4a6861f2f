//! What is known of a bus on which requests and answers share one stream, and nothing in a message says which of both it is.
//!
//! Most messages can only be one of both, and what they are says what the next one is. Where a message can be either, an answer that is the request again for one, it
//! counts whether the conversation was followed without a break, and how long after the request it came: a unit answers sooner than its master loses patience.

use crate::time::Span;

/// How messages followed one another so far.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Bus {
    /// Whether it is known which way the last message went, and nothing was missed since.
    pub(super) in_step: bool,
    /// The least and the longest that an answer took which could be nothing else.
    least: Option<Span>,
    longest: Option<Span>,
    /// The shortest time after which something else was asked, of requests that got no answer.
    shortest: Option<Span>,
}

/// What a message is that may be the answer, or the request again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Either {
    Answer,
    Again,
    Undetermined,
}

/// No master loses patience sooner.
const PATIENCE: i64 = 100_000_000;

/// How a run of messages that are alike, and may go either way, ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum RunEnd {
    /// By something else.
    Followed,
    /// Its last message is followed so soon that it can be no request without an answer.
    Answered,
    /// Its last message is asked again, and so is a request.
    Unanswered,
    /// By bytes that are no message, or nobody knows.
    Disturbed,
}

/// Whether the first of so many messages of such a run is a request; nothing if that is not known. Requests and answers take turns.
pub(super) fn begins_asking(count: usize, end: RunEnd) -> Option<bool> {
    let is_even = count.is_multiple_of(2);
    match end {
        RunEnd::Answered => Some(is_even),
        RunEnd::Unanswered => Some(!is_even),
        // Whole pairs are just that.
        RunEnd::Followed => is_even.then_some(true),
        RunEnd::Disturbed => None,
    }
}

impl Bus {
    /// Bytes were missed, or are no messages.
    pub(super) fn lose(&mut self) {
        self.in_step = false;
    }

    /// An answer took so long.
    pub(super) fn answered(&mut self, latency: Option<Span>) {
        self.in_step = true;
        self.longest = self.longest.max(latency);
        self.least = self.least.into_iter().chain(latency).min();
    }

    /// After so long without an answer something else was asked.
    pub(super) fn unanswered(&mut self, wait: Option<Span>) {
        self.shortest = self.shortest.into_iter().chain(wait).min();
    }

    /// How long an answer takes at least; nothing where that is not known.
    pub(super) fn least_latency(&self) -> Span {
        self.least.unwrap_or(Span::from_nanoseconds(0))
    }

    /// Whether an answer came so soon that no other request and answer can have come before it.
    pub(super) fn is_prompt(&self, latency: Option<Span>) -> bool {
        latency.zip(self.least).is_some_and(|(latency, least)| latency.nanoseconds() < 2 * least.nanoseconds())
    }

    /// What a message is that came so long after the request, by what others took.
    pub(super) fn either(&self, after: Option<Span>) -> Either {
        let Some(after) = after.map(Span::nanoseconds) else { return Either::Undetermined };
        let (longest, shortest) = (self.longest.map(Span::nanoseconds), self.shortest.map(Span::nanoseconds));
        // Patience differs little from one request to the next.
        let is_soon = after <= PATIENCE && shortest.is_none_or(|shortest| after < shortest - shortest / 8);
        match (longest, shortest) {
            _ if is_soon => Either::Answer,
            (Some(longest), Some(shortest)) if longest < shortest => {
                // Halfway between both, as ratios go.
                match i128::from(after) * i128::from(after) <= i128::from(longest.max(1)) * i128::from(shortest) {
                    true => Either::Answer,
                    false => Either::Again,
                }
            }
            (Some(longest), Some(_)) if after > longest => Either::Again,
            (Some(_), Some(_)) => Either::Undetermined,
            (Some(longest), None) if after <= longest => Either::Answer,
            (None, Some(_)) => Either::Again,
            (_, None) => Either::Undetermined,
        }
    }
}
