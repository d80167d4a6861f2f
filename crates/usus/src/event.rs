//! What a decoder says: records, rejects, clipped bytes and notices.

use core::fmt;

use crate::input::{FaultKind, LineId, Loss};
use crate::limits;
use crate::plan::Plan;
use crate::reason::Reason;
use crate::record::Record;
use crate::time::Time;

/// What happened next on a line. Everything in it is lent until the next call.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub enum Event<'a> {
    /// A record.
    Record(Record<'a>),
    /// Bytes that gave no record, with the reason.
    Reject(Reject<'a>),
    /// Bytes of a frame that the edge of the recording cut.
    Clipped(Reject<'a>),
    /// Something worth knowing about bytes that are booked elsewhere.
    Notice(Notice<'a>),
}

impl Event<'_> {
    /// The line that it is about.
    pub fn line(&self) -> LineId {
        match self {
            Event::Record(record) => record.line(),
            Event::Reject(reject) | Event::Clipped(reject) => reject.line,
            Event::Notice(notice) => notice.line,
        }
    }
}

/// Bytes that gave no record.
#[derive(Clone, Copy)]
#[non_exhaustive]
pub struct Reject<'a> {
    /// The plan they were read by.
    pub plan: &'a Plan,
    /// The line.
    pub line: LineId,
    /// Stream offset of the first byte.
    pub offset: u64,
    /// The bytes; of a line that is cleaned, without those that were taken out, which are filler.
    pub bytes: &'a [u8],
    /// Where its frames stand, as offset and length, if it was to become one record of several: then its bytes are those of all of them, one behind
    /// the other. Empty else.
    pub frames: &'a [(u64, u64)],
    /// When the first and the last of them arrived.
    pub times: Option<(Time, Time)>,
    /// Why: what stood in the way of the first candidate among them.
    pub reason: Reason,
    /// How many candidates there were: places where a frame seemed to begin, or one for a whole frame.
    pub candidates: u32,
}

impl fmt::Debug for Reject<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Reject({}+{}, {:?})", self.offset, self.bytes.len(), self.reason)
    }
}

/// Something worth knowing that is neither a record nor a reject.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Notice<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// The line.
    pub line: LineId,
    /// Stream offset of what it is about.
    pub offset: u64,
    /// What it is.
    pub kind: NoticeKind,
}

/// What a notice says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum NoticeKind {
    /// A sentence is longer than the 82 characters of the standard. It is taken, nevertheless.
    LongSentence {
        /// Its length as the standard counts: from `$` to its CR LF, which count as two whatever was sent.
        length: u32,
    },
    /// A line of text was interrupted by a frame of another cut, and is taken as two lines.
    Interrupted,
    /// A line of text is taken that began where the recording began: its start may be missing.
    MaybeBegunBefore,
    /// A counter did not go up by one.
    CounterJump {
        /// The kind of record.
        kind: u16,
        /// Index of the counter among those of the kind.
        counter: u16,
        /// The value that should have come.
        expected: u64,
        /// The value that came.
        found: u64,
    },
    /// There are more series than the limit; this one is not followed: neither its counters nor what it carries.
    TooManySeries {
        /// The kind of record.
        kind: u16,
    },
    /// A record was given by itself, and does not become part of another that is made of several.
    NotJoined {
        /// Why not.
        reason: Reason,
    },
    /// The source marked a fault on a character.
    Fault(FaultKind),
    /// The source says that bytes are missing here.
    Loss(Loss),
}

impl NoticeKind {
    /// A short word for it, the same for all instances.
    pub const fn word(&self) -> &'static str {
        match self {
            NoticeKind::LongSentence { .. } => "long sentence",
            NoticeKind::Interrupted => "interrupted line",
            NoticeKind::MaybeBegunBefore => "line at the recording's start",
            NoticeKind::CounterJump { .. } => "counter jump",
            NoticeKind::TooManySeries { .. } => "too many series",
            NoticeKind::NotJoined { .. } => "not joined",
            NoticeKind::Fault(fault) => fault.word(),
            NoticeKind::Loss(_) => "loss",
        }
    }
}

impl fmt::Display for Notice<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let kind_name = |kind: u16| self.plan.kind_name(kind);
        match self.kind {
            NoticeKind::LongSentence { length } => {
                write!(f, "a sentence of {length} characters, more than the standard's {}", limits::STANDARD_SENTENCE)
            }
            NoticeKind::Interrupted => f.write_str("a line was interrupted by a frame and is taken as two"),
            NoticeKind::MaybeBegunBefore => {
                f.write_str("this line began where the recording began; its start may be missing")
            }
            NoticeKind::CounterJump { kind, counter, expected, found } => {
                let plan = self.plan.0.kinds.get(usize::from(kind));
                let counter = plan.and_then(|kind| kind.counters.get(usize::from(counter)));
                let counter = counter.map_or("", |counter| counter.name.as_str());
                write!(f, "{counter} of {} should be {expected} and is {found}", kind_name(kind))
            }
            NoticeKind::TooManySeries { kind } => {
                write!(f, "too many series of {}; further ones are not followed", kind_name(kind))
            }
            NoticeKind::NotJoined { reason } => {
                write!(f, "given by itself only: {}", reason.describe(self.plan))
            }
            NoticeKind::Fault(fault) => write!(f, "the source marked a fault: {}", fault.word()),
            NoticeKind::Loss(loss) => write!(f, "bytes are missing here: {}", loss.word()),
        }
    }
}
