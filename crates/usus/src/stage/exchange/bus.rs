//! What is known of a bus on which requests and answers share one stream, and nothing in a message says which of both it is.
//!
//! Most messages can only be one of both, and what they are says what the next one is. Where a message can be either, an answer that is the request again for one, it
//! counts whether the conversation was followed without a break, and how long after the request it came: a unit answers sooner than its master loses patience.

use crate::time::{Span, Time};

/// How messages followed one another so far.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Bus {
    /// Whether it is known which way the last message went, and nothing was missed since.
    pub(super) in_step: bool,
    /// The least and the longest that an answer took which could be nothing else, and how many were seen, as far as that counts.
    least: Option<Span>,
    longest: Option<Span>,
    latencies: u8,
    /// The shortest time after which something else was asked, of requests that got no answer.
    shortest: Option<Span>,
    /// When the last message came, if it was an answer.
    answered_at: Option<Time>,
    /// The shortest and the longest time from an answer to the next request, and how many were seen, as far as that counts.
    pace: Option<(Span, Span)>,
    paces: u8,
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

/// How many latencies say how long an answer takes at least.
const LATENCIES: u8 = 8;

/// How many times from an answer to the next request say how long it is at least.
const PACES: u8 = 3;

impl Bus {
    /// Bytes were missed, or are no messages.
    pub(super) fn lose(&mut self) {
        self.in_step = false;
        self.answered_at = None;
    }

    /// A request came then.
    pub(super) fn asked(&mut self, begun: Option<Time>) {
        if let (Some(answered), Some(begun)) = (self.answered_at.take(), begun) {
            let pace = begun.since(answered);
            let (shortest, longest) = self.pace.unwrap_or((pace, pace));
            self.pace = Some((shortest.min(pace), longest.max(pace)));
            self.paces = (self.paces + 1).min(PACES);
        }
    }

    /// An answer ended then, and took so long.
    pub(super) fn answered(&mut self, ended: Option<Time>, latency: Option<Span>) {
        self.in_step = true;
        self.answered_at = ended;
        self.longest = self.longest.max(latency);
        self.least = self.least.into_iter().chain(latency).min();
        self.latencies = (self.latencies + u8::from(latency.is_some())).min(LATENCIES);
    }

    /// After so long without an answer something else was asked.
    pub(super) fn unanswered(&mut self, wait: Option<Span>) {
        self.shortest = self.shortest.into_iter().chain(wait).min();
    }

    /// How long an answer takes at least; nothing where that is not known.
    pub(super) fn least_latency(&self) -> Span {
        self.least.filter(|_| self.latencies == LATENCIES).unwrap_or(Span::from_nanoseconds(0))
    }

    /// Whether an answer came so soon that no other request and answer can have come before it.
    pub(super) fn is_prompt(&self, latency: Option<Span>) -> bool {
        latency.is_some_and(|latency| latency.nanoseconds() < 2 * self.least_latency().nanoseconds())
    }

    /// Whether a message came so soon behind another that, of a request and its answer, only the answer can: no request ever came so soon behind an answer.
    pub(super) fn is_sooner_than_requests(&self, after: Option<Span>) -> bool {
        self.paces == PACES
            && after
                .zip(self.pace)
                .is_some_and(|(after, (shortest, _))| 4 * after.nanoseconds() < 3 * shortest.nanoseconds())
    }

    /// Whether a request follows an answer so late, as far as was seen.
    pub(super) fn is_pace(&self, after: Option<Span>) -> bool {
        after.zip(self.pace).is_some_and(|(after, (_, longest))| 4 * after.nanoseconds() <= 5 * longest.nanoseconds())
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
