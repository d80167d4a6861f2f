//! How long a bus was silent before a message, and within one, and what is known of such silences.

use crate::record::Row;
use crate::stage::Bench;
use crate::time::{Span, Time};

/// How many silences say how long such are.
pub(super) const ENOUGH: u8 = 8;

/// How many say about how long such are.
pub(super) const SOME: u8 = 3;

/// How many say that hardly any is shorter or longer.
pub(super) const MANY: u8 = 32;

/// How many at least are remembered: one that was none of the sort is forgotten again.
const REMEMBERED: u8 = 255;

/// Silences of one sort, as far as they are remembered.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(super) struct Silences {
    pub(super) shortest: Span,
    pub(super) longest: Span,
    /// How many were seen, as far as that counts.
    pub(super) count: u8,
    /// The shortest and the longest of the latest, and how many these are.
    latest: (Span, Span),
    of_late: u8,
}

impl Silences {
    pub(super) fn note(&mut self, silence: Span) {
        if self.of_late == REMEMBERED {
            ((self.shortest, self.longest), self.of_late) = (self.latest, 0);
        }
        if self.count == 0 {
            (self.shortest, self.longest) = (silence, silence);
        }
        if self.of_late == 0 {
            self.latest = (silence, silence);
        }
        (self.shortest, self.longest) = (self.shortest.min(silence), self.longest.max(silence));
        self.latest = (self.latest.0.min(silence), self.latest.1.max(silence));
        self.count = self.count.saturating_add(1);
        self.of_late += 1;
    }

    /// How short such may be: the shortest of a few is about the more above that the fewer they are.
    pub(super) fn least(self) -> Span {
        let (shortest, longest) = (self.shortest.nanoseconds(), self.longest.nanoseconds());
        Span::from_nanoseconds(shortest - (longest - shortest) / i64::from(self.count.max(1)))
    }

    /// Whether a silence is such as these were.
    pub(super) fn are_like(self, silence: Span) -> bool {
        (self.shortest..=self.longest).contains(&silence)
    }

    /// Whether a silence is longer than these, and such as others are, so many of which are known of each.
    pub(super) fn are_exceeded_by(self, silence: Option<Span>, other: Silences, count: u8) -> bool {
        let is_longer = |silence: Span| silence > self.longest && silence >= other.shortest;
        self.count.min(other.count) >= count && silence.is_some_and(is_longer)
    }
}

/// How long after a time a message began, as its pieces have it.
pub(super) fn as_received(message: &Row, from: Option<Time>) -> Option<Span> {
    from.zip(message.received()).map(|(from, begun)| begun.since(from))
}

/// How long the line was silent before a message, from a time on: until its first byte, which came no later than its last one allows. The times of pieces
/// are those of their last bytes.
pub(super) fn before(message: &Row, from: Option<Time>, bench: &Bench<'_>) -> Option<Span> {
    let by_its_begin = as_received(message, from)?.nanoseconds();
    let ended = from.zip(message.completed()).map(|(from, ended)| ended.since(from).nanoseconds());
    let by_its_end = ended.zip(took_at_least(message, bench)).map(|(ended, took)| ended.saturating_sub(took));
    let silence = by_its_end.into_iter().fold(by_its_begin, i64::min);
    Some(Span::from_nanoseconds(silence.max(0)))
}

/// How long the line was silent within a message.
pub(super) fn within(message: &Row, bench: &Bench<'_>) -> Option<Span> {
    let took = message.completed()?.since(message.received()?).nanoseconds();
    Some(Span::from_nanoseconds(took.saturating_sub(took_at_least(message, bench)?)))
}

/// How long it takes at least from the first byte of a message to its last one.
fn took_at_least(message: &Row, bench: &Bench<'_>) -> Option<i64> {
    let further = message.first().map_or(1, |kept| kept.frame.len()).saturating_sub(1) as i64;
    bench.plan.0.character.map(|character| character.nanoseconds().saturating_mul(further))
}
