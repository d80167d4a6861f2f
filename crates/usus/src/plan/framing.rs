//! The framings: what is known of each before any byte is. How they find frames is in `framing/`, a file for each.

use alloc::boxed::Box;

use super::{Field, FixedPackets, Pattern};
use crate::format::{LineEnd, Presence};
use crate::integer::Integer;
use crate::time::Span;

/// How the frames of one declaration are found.
#[derive(Clone)]
pub(crate) enum Framing {
    Text(Text),
    Sentence(Sentence),
    Packet(Box<Packet>),
    Stuffed(Stuffed),
    Dle(Dle),
    Modbus(Modbus),
    Burst(Burst),
}

/// Lines of text.
#[derive(Clone, Copy)]
pub(crate) struct Text {
    pub(crate) end: LineEnd,
    /// A silence that ends a line, too.
    pub(crate) idle: Option<Span>,
    /// Bytes of the longest line.
    pub(crate) limit: usize,
}

/// Sentences of NMEA 0183.
#[derive(Clone, Copy)]
pub(crate) struct Sentence {
    pub(crate) checksum: Presence,
    /// Whether those without a checksum are taken amid a line, too.
    pub(crate) anywhere: bool,
}

/// Packets with a start pattern, and a length or an end or both.
#[derive(Clone)]
pub(crate) struct Packet {
    pub(crate) start: Pattern,
    pub(crate) length: Length,
    /// What ends it.
    pub(crate) end: Option<Pattern>,
    /// Bytes of a checksum that follows the end.
    pub(crate) behind: usize,
    /// Bytes that must be there before the header can be read.
    pub(crate) header: usize,
    /// The shortest and the longest packet that any record allows.
    pub(crate) shortest: usize,
    pub(crate) longest: usize,
    /// The packets that are known by their first bytes.
    pub(crate) fixed: Option<FixedPackets>,
}

/// How long a packet is, as a whole.
#[derive(Clone)]
pub(crate) enum Length {
    Fixed(usize),
    Field {
        at: usize,
        integer: Integer,
        add: i64,
    },
    /// Fields tell it, all of them the same.
    Fields(LengthFields),
    /// It stands behind a part that varies.
    Past(Box<LengthPast>),
    /// The record that the header chooses has it.
    Record,
    /// Its end tells.
    ToEnd,
}

/// A length behind a part that varies.
#[derive(Clone)]
pub(crate) struct LengthPast {
    pub(crate) part: PartBefore,
    /// What tells the length, where it stands and what it tells if that part is empty.
    pub(crate) field: Field,
    /// Where it ends then.
    pub(crate) end: usize,
}

/// How many bytes such a part has.
#[derive(Clone)]
pub(crate) enum PartBefore {
    Told(Field),
    /// From a byte through the first of these.
    Until(usize, Pattern),
}

/// Frames between delimiters that stand in none of them.
#[derive(Clone, Copy)]
pub(crate) struct Stuffed {
    pub(crate) stuffing: Stuffing,
    /// The most bytes that a frame can have, as it is sent.
    pub(crate) longest: usize,
}

/// How the contents are stuffed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Stuffing {
    Slip,
    Hdlc,
    Cobs,
}

/// Frames whose delimiters are an escape and another byte.
#[derive(Clone, Copy)]
pub(crate) struct Dle {
    pub(crate) escape: u8,
    /// What follows the escape at a start; any byte that means nothing else, if there is none.
    pub(crate) start: Option<u8>,
    /// What follows it at the end.
    pub(crate) end: u8,
    /// Bytes of a checksum that follows the end.
    pub(crate) behind: usize,
    /// The most bytes that a frame can have, as it is sent.
    pub(crate) longest: usize,
}

/// Frames of Modbus RTU, which their lengths and their CRC tell.
#[derive(Clone, Copy)]
pub(crate) struct Modbus {
    /// Whether requests are among them.
    pub(crate) requests: bool,
    /// Whether answers are among them.
    pub(crate) answers: bool,
}

/// How many bytes of contents stand before a message of Modbus, and how many behind it: its checksum.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Envelope {
    pub(crate) before: usize,
    pub(crate) behind: usize,
}

impl Envelope {
    /// The message in contents.
    pub(crate) fn message(self, contents: &[u8]) -> Option<&[u8]> {
        contents.get(self.before..contents.len().checked_sub(self.behind)?)
    }

    /// The unit, the function and what comes first behind them, of a message as it was sent, be its checksum right or not.
    pub(crate) fn begin(self, sent: &[u8]) -> Option<[u8; 4]> {
        if self.before == 0 {
            return sent.first_chunk().copied();
        }
        // In ASCII a colon stands before them.
        let digits: &[u8; 8] = sent.get(self.before..)?.first_chunk()?;
        let mut begin = [0; 4];
        for (place, digit) in digits.iter().enumerate() {
            begin[place / 2] = begin[place / 2] << 4 | char::from(*digit).to_digit(16)? as u8;
        }
        Some(begin)
    }
}

/// What lies between two silences or breaks.
#[derive(Clone, Copy)]
pub(crate) struct Burst {
    /// The silence; a break, if there is none.
    pub(crate) idle: Option<Span>,
    /// The bytes that each has.
    pub(crate) length: Option<usize>,
    /// The most bytes that one can have.
    pub(crate) limit: usize,
}

/// A field that tells a length, perhaps among others that must agree.
pub(crate) type LengthFields = Box<[Field]>;
