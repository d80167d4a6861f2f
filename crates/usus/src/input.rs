//! What goes into a decoder: lines, their chunks of bytes, and what their source says of them.

use crate::time::Time;

/// One of a decoder's lines, as [`Decoder::line`](crate::Decoder::line) returns it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct LineId(pub(crate) u32);

impl LineId {
    /// The line that was added first.
    pub const FIRST: LineId = LineId(0);

    /// Its number: lines count from 0 in the order in which they were added.
    pub const fn index(self) -> usize {
        self.0 as usize
    }
}

/// Some bytes of one line that arrived together.
#[derive(Clone, Copy, Debug)]
pub struct Chunk<'a> {
    /// The line.
    pub line: LineId,
    /// When they arrived, if that is known: the time at which reading them returned.
    pub time: Option<Time>,
    /// The bytes.
    pub bytes: &'a [u8],
    /// Faults that the source saw on them, by their places.
    pub faults: &'a [Fault],
}

impl<'a> Chunk<'a> {
    /// Bytes without times and faults, as from a raw file.
    pub fn new(line: LineId, bytes: &'a [u8]) -> Chunk<'a> {
        Chunk { line, time: None, bytes, faults: &[] }
    }
}

impl<'a> From<&'a [u8]> for Chunk<'a> {
    /// Bytes of the first line.
    fn from(bytes: &'a [u8]) -> Chunk<'a> {
        Chunk::new(LineId::FIRST, bytes)
    }
}

/// A fault that the source saw on one character.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum FaultKind {
    /// Its parity is wrong.
    Parity,
    /// Its stop bit is missing.
    Framing,
    /// The line was held at the start level for longer than a character.
    Break,
}

impl FaultKind {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            FaultKind::Parity => "parity fault",
            FaultKind::Framing => "framing fault",
            FaultKind::Break => "break",
        }
    }
}

/// A fault on one byte of a chunk.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Fault {
    /// Index of the byte in the chunk; the length of the chunk for a break behind it.
    pub at: usize,
    /// What it is.
    pub kind: FaultKind,
}

/// Why bytes are missing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Loss {
    /// The port was closed and opened again.
    Reopened,
    /// The receiver could not keep up.
    Overrun,
    /// The recording itself has a gap.
    Gap,
    /// Of what lies inside of other records: some of those are missing, or were rejected.
    Around,
}

impl Loss {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Loss::Reopened => "the port was opened again",
            Loss::Overrun => "the receiver was overrun",
            Loss::Gap => "the recording has a gap",
            Loss::Around => "what is around it has a gap",
        }
    }
}
