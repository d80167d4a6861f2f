//! Framing: which bytes of a line are one frame, and which of them are its contents.
//!
//! # For whoever changes this
//!
//! Each framing is a file: how its frames begin ([`Framing::find`]), what the bytes from there on are ([`Framing::judge`]), what between its
//! frames carries nothing ([`Framing::filler`]), and, if it pays, a quick recogniser ([`Recognise`]) that returns the same frame as the long way.
//! A new one is such a file, and its lines in the list here.
//!
//! The next piece of a line is a function of the bytes from a position on, the position's stream offset, and what lies [`Behind`] it.
//! [`next`] answers what it is, or how many bytes are needed to say so. Three things have to stay true, and the tests hold them:
//!
//! - *More bytes never change an answer*, they only turn a need into one. So nothing may depend on where the window ends, and
//!   where an input ends or has a loss ([`View::closed`]) is part of the question.
//! - *[`Scan`] is a cache.* Whatever stands in it can be worked out again from the bytes, the position and what lies behind it; it only saves
//!   looking at a byte twice. When the position moves, stale entries are recognised by their offsets.
//! - *Every step moves the position forward*, or ends the input. That bounds the work and rules out endless loops.
//!
//! Several framings share a line. Those that search for a start come first: the leftmost candidate is tried, in the order of the file
//! where several begin at one place. What lies before a frame that they found, or before a candidate that is still open, goes to
//! the text framing, or is a run of bytes that nothing claims.

mod burst;
mod coding;
mod columns;
mod dle;
mod fixed;
mod modbus;
mod packet;
mod pass;
mod run;
mod scan;
mod search;
mod sentence;
mod stuffed;
mod text;
mod unstuff;

pub(crate) use coding::{decoded as coded, sent_before};
pub(crate) use columns::Columns;
pub(crate) use dle::DleFrame;
pub(crate) use fixed::{FixedFrame, is_sound};
pub(crate) use modbus::ModbusFrame;
pub(crate) use packet::AnyPacket;
pub(crate) use pass::split;
pub(crate) use scan::Scan;
pub(crate) use search::next;
pub(crate) use sentence::SomeSentence;
pub(crate) use stuffed::StuffedFrame;
pub(crate) use text::{TextLine, line_ends};
pub(crate) use unstuff::{Cobs, Hdlc, Slip};

use alloc::vec::Vec;

use crate::check::Whole;
use crate::checksum::Stretch;
use crate::claim::Choices;
use crate::marks::Marks;
use crate::plan::{Check, CheckPlace, Choice, Frame, Framing, Inner, Modbus};
use crate::reason::Reason;
use crate::time::Span;

use scan::{Sought, Start};

impl Framing {
    /// Whether its frames are searched for; else it takes what the others leave.
    pub(crate) fn searches(&self) -> bool {
        match self {
            Framing::Text(_) | Framing::Burst(_) => false,
            Framing::Sentence(_) | Framing::Packet(_) | Framing::Stuffed(_) | Framing::Dle(_) | Framing::Modbus(_) => {
                true
            }
        }
    }

    /// The longest frame that it finds.
    pub(crate) fn longest(&self) -> usize {
        match self {
            Framing::Text(text) => text.limit,
            Framing::Sentence(_) => crate::limits::SENTENCE,
            Framing::Packet(packet) => packet.longest,
            Framing::Stuffed(stuffed) => stuffed.longest,
            Framing::Dle(dle) => dle.longest,
            Framing::Modbus(_) => Modbus::LONGEST,
            Framing::Burst(burst) => burst.limit,
        }
    }

    /// Where the next candidate is, at or behind an offset. `failed` says whether one that began at or behind the position failed.
    fn find(&self, place: &Place<'_>, from: u64, failed: bool) -> Start {
        match self {
            Framing::Text(_) | Framing::Burst(_) => Start::NotBefore(place.view.end()),
            Framing::Sentence(_) => sentence::find(place.view, from),
            Framing::Packet(packet) => packet.find(place.view, from),
            Framing::Stuffed(of) => stuffed::find(of.stuffing.delimiter(), place, from, failed),
            Framing::Dle(dle) => dle.find(place.view, from),
            Framing::Modbus(_) => Modbus::find(place, from),
        }
    }

    /// Whether one of its frames seems to begin with these bytes.
    pub(crate) fn may_begin(&self, behind: Behind, bytes: &[u8]) -> bool {
        match self {
            Framing::Text(_) | Framing::Burst(_) => false,
            Framing::Sentence(_) => matches!(bytes.first(), Some(b'$' | b'!')),
            Framing::Packet(packet) => packet.start.begins(bytes),
            Framing::Stuffed(of) => stuffed::begins(of.stuffing.delimiter(), behind, bytes),
            Framing::Dle(dle) => dle.begins(bytes),
            Framing::Modbus(_) => bytes.get(1).is_some_and(|code| crate::modbus::is_known(*code)),
        }
    }

    /// What a candidate is.
    fn judge(&self, candidate: &Candidate<'_>, sought: &mut Sought, tools: &mut Tools<'_>) -> Verdict {
        match self {
            Framing::Text(_) | Framing::Burst(_) => Verdict::Nothing,
            Framing::Sentence(sentence) => SomeSentence::of(candidate, sentence).judge(candidate, tools),
            Framing::Packet(packet) => packet.judge(candidate, sought, tools),
            Framing::Stuffed(stuffed) => stuffed.judge(candidate, sought, tools),
            Framing::Dle(dle) => dle.judge(candidate, sought, tools),
            Framing::Modbus(modbus) => modbus.judge(candidate),
        }
    }

    /// What lies in a whole frame between what delimits it, unstuffed; nothing is tested of it.
    pub(crate) fn contents(&self, frame: &[u8], decoded: &mut Vec<u8>) -> Option<Contents> {
        match self {
            Framing::Text(_) | Framing::Burst(_) | Framing::Modbus(_) => Some(Contents::Lie(0, frame.len() as u32)),
            Framing::Sentence(_) => Some(Contents::Lie(1, frame.len() as u32)).filter(|_| !frame.is_empty()),
            Framing::Packet(packet) => packet.contents(frame),
            Framing::Stuffed(stuffed) => stuffed.contents(frame, decoded),
            Framing::Dle(dle) => dle.contents(frame, decoded),
        }
    }

    /// What lies behind a frame of it.
    fn behind(&self) -> Behind {
        match self {
            Framing::Text(_) | Framing::Burst(_) | Framing::Packet(_) | Framing::Dle(_) | Framing::Modbus(_) => {
                Behind::Frame
            }
            Framing::Sentence(_) => Behind::Sentence,
            Framing::Stuffed(of) => Behind::Delimiter(of.stuffing.delimiter()),
        }
    }

    /// What lies at a position and carries nothing by its rules.
    fn filler(&self, place: &Place<'_>) -> Filler {
        match self {
            Framing::Text(_) | Framing::Burst(_) | Framing::Packet(_) | Framing::Dle(_) | Framing::Modbus(_) => {
                Filler::None
            }
            Framing::Sentence(_) => sentence::line_end(place),
            Framing::Stuffed(of) => stuffed::filler(of.stuffing.delimiter(), place),
        }
    }
}

/// A whole frame of a declaration, as its checksum is tested on it: for whoever looks at one by itself. Nothing if it is not stuffed or coded as it has to be.
pub(crate) fn whole_of<'f>(frame: &Frame, sent: &'f [u8], decoded: &'f mut Vec<u8>) -> Option<Whole<'f>> {
    let between = frame.framing.contents(sent, decoded)?;
    let mut raw = sent;
    let contents = match (&*frame.coding, between) {
        ([], between) => between,
        (coding, Contents::Lie(from, to)) => {
            raw = sent.get(from as usize..to as usize)?;
            coded(coding, raw, decoded)?
        }
        // What is stuffed is not coded, too.
        (_, Contents::Decoded(_)) => return None,
    };
    let (contents, _) = contents.of(sent, decoded);
    let before = match (&frame.check, &frame.framing) {
        (Some(check), Framing::Stuffed(stuffed)) => stuffed.stuffing.sent_before(check, contents.len(), sent),
        (Some(check), Framing::Dle(dle)) => dle.sent_part(check, contents.len(), sent),
        (Some(Check { place: CheckPlace::In(edge), .. }), _) if !frame.coding.is_empty() => {
            sent_before(&frame.coding, edge.in_frame(contents.len())?, raw)
        }
        (Some(Check { place: CheckPlace::Behind { through_end: true }, form, .. }), _) => {
            sent.get(..sent.len().checked_sub(form.size())?)?
        }
        _ => raw,
    };
    Some(Whole { contents, frame: sent, sent: before })
}

/// What lies before the position.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Behind {
    /// Nothing, and something is known to begin here.
    Boundary,
    /// Nothing: the recording begins here.
    Start,
    /// Missing bytes.
    Loss,
    /// A frame, or filler.
    Frame,
    /// A sentence, whose line end may follow.
    Sentence,
    /// A sentence and a CR, to which an LF may belong.
    SentenceCr,
    /// A byte that ended a frame, and may begin the next.
    Delimiter(u8),
    /// Bytes that nothing claimed, of which this is the last.
    Unclaimed(u8),
    /// The first part of a line that is too long.
    Overlong,
}

impl Behind {
    /// Whether frames may have lost their beginning here.
    pub(crate) fn is_edge(self) -> bool {
        matches!(self, Behind::Start | Behind::Loss)
    }
}

/// The bytes of a line that can be seen.
#[derive(Clone, Copy)]
pub(crate) struct View<'a> {
    /// The bytes in the window, up to the first place where the line is closed.
    pub(crate) bytes: &'a [u8],
    /// Stream offset of the first of them.
    pub(crate) base: u64,
    /// Whether nothing follows them: the input ends there, or bytes are missing.
    pub(crate) closed: bool,
    /// The first place behind the position where the line was silent for long enough to end a text.
    pub(crate) silence: Option<u64>,
    /// When its bytes arrived.
    pub(crate) marks: &'a Marks,
    /// How long a character takes, if that is known.
    pub(crate) character: Option<Span>,
}

impl<'a> View<'a> {
    fn end(&self) -> u64 {
        self.base + self.bytes.len() as u64
    }

    fn from(&self, offset: u64) -> &'a [u8] {
        &self.bytes[(offset - self.base) as usize..]
    }

    fn between(&self, from: u64, to: u64) -> &'a [u8] {
        &self.bytes[(from - self.base) as usize..(to - self.base) as usize]
    }
}

/// A position in a line, and what lies behind it.
#[derive(Clone, Copy)]
struct Place<'a> {
    view: &'a View<'a>,
    at: u64,
    behind: Behind,
}

/// The next piece of a line. It begins at the position and ends before `to`.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Step {
    /// Bytes that carry nothing by the rules of the framing.
    Filler { to: u64, behind: Behind },
    /// A frame.
    Frame { frame: Framed, to: u64, behind: Behind },
    /// Bytes that nothing claims, or a clipped frame.
    Run { to: u64, reason: Reason, candidates: u32, clipped: bool, behind: Behind },
}

/// A frame as it was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Framed {
    /// Its number in the plan.
    pub(crate) frame: u16,
    pub(crate) contents: Contents,
    pub(crate) check: CheckState,
    pub(crate) choice: Choice,
    pub(crate) ended: Ended,
}

/// Where what is read of a frame is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Contents {
    /// In the frame as it was sent: first byte and end, from the frame's start.
    Lie(u32, u32),
    /// Decoded: so many bytes in [`Scan::decoded`].
    Decoded(u32),
}

impl Contents {
    /// The contents of a frame, and the same with what follows: a word can be taken near the end.
    #[inline(always)]
    pub(crate) fn of<'a>(self, frame_on: &'a [u8], decoded: &'a [u8]) -> (&'a [u8], &'a [u8]) {
        let (wide, length) = match self {
            Contents::Lie(from, to) => (frame_on.get(from as usize..).unwrap_or_default(), (to - from) as usize),
            Contents::Decoded(length) => (decoded, length as usize),
        };
        (wide.get(..length).unwrap_or_default(), wide)
    }
}

/// What is known of a frame's checksum.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum CheckState {
    /// It holds.
    Holds,
    /// The frame came without one.
    Absent,
    /// The frame has none by its declaration.
    Undeclared,
    /// It was not looked at yet.
    Untested,
}

/// How a text ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Ended {
    /// As its framing says.
    Properly,
    /// By a frame of another framing.
    Interrupted,
    /// By the end of the input.
    Closed,
}

/// Where a frame seems to begin.
struct Candidate<'a> {
    plan: &'a Inner,
    /// The number of its frame in the plan.
    frame: u16,
    /// All bytes from there on.
    bytes: &'a [u8],
    view: &'a View<'a>,
    /// Stream offset of the first of them.
    start: u64,
    /// Whether it is the position, and what lies behind that.
    behind: Option<Behind>,
    /// Whether a line of text may begin there.
    begins_line: bool,
}

impl<'a> Candidate<'a> {
    /// The line that it is on.
    fn line(&self) -> Stretch<'a> {
        Stretch { bytes: self.view.bytes, base: self.view.base }
    }
}

/// What judging may use, and fills.
pub(crate) struct Tools<'s> {
    /// What claimed frames with such headers before.
    pub(crate) choices: &'s mut Choices,
    /// Receives where a text's columns begin, of framings that look at them on their way.
    pub(crate) columns: &'s mut Columns,
    /// Receives contents that do not lie in the frame.
    pub(crate) decoded: &'s mut Vec<u8>,
}

/// What a framing says of a candidate.
enum Verdict {
    /// So many bytes from its start are needed to say more.
    Need(usize),
    /// It is a frame of that length.
    Frame { length: usize, contents: Contents, check: CheckState, choice: Choice },
    /// It is none.
    Fail(Reason),
    /// It is none, and did not even seem to be one.
    Nothing,
}

/// What carries nothing at a position.
enum Filler {
    /// Bytes up to an offset.
    To(u64, Behind),
    /// That cannot be said before the window reaches this offset.
    Need(u64),
    None,
}

/// A frame that was recognised at once.
pub(crate) struct Recognised {
    pub(crate) length: usize,
    pub(crate) contents: Contents,
    pub(crate) check: CheckState,
    /// What claims it, if that is known.
    pub(crate) choice: Choice,
    /// Bytes behind it that carry nothing, and what lies behind them then.
    pub(crate) filler: usize,
    pub(crate) behind: Behind,
}

/// Recognises a frame that nearly always comes next on a line without damage. Says nothing else than the long way would, only sooner; what it
/// does not recognise is left to that. A type of its own for each, so that what is constant for a framing is folded into the loop.
pub(crate) trait Recognise: Copy {
    /// Whether it says which record claims a frame, and nothing else decides about it.
    const DECIDES: bool;
    /// Whether it notes where columns begin.
    const SPLITS: bool;

    /// The frame at the start of `bytes`.
    fn recognise(&self, bytes: &[u8], tools: &mut Tools<'_>) -> Option<Recognised>;
}
