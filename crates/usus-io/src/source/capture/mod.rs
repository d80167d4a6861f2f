//! Captures: pcapng files with one interface for each line and one enhanced packet block for each chunk.
//!
//! pcapng is described by the IETF draft "PCAP Now Generic Dump File Format". How Usus uses it, block by block and option by option,
//! is written down in `docs/captures.md`. Reading is lenient (any byte order, any time resolution, unknown blocks are skipped);
//! writing is always little-endian with nanoseconds.

mod blocks;
mod reader;
mod writer;

use usus::{FaultKind, Loss, Span};

use super::LineInfo;

pub use reader::CaptureReader;
pub use writer::CaptureWriter;

/// LINKTYPE_USER0: the standard has no link type for a bare serial line.
pub const LINK_TYPE: u16 = 147;

const SECTION: u32 = 0x0A0D_0D0A;
const INTERFACE: u32 = 1;
/// The packet block that the standard calls obsolete.
const OLD_PACKET: u32 = 2;
/// A packet without a time, of the first interface.
const SIMPLE_PACKET: u32 = 3;
pub(crate) const PACKET: u32 = 6;
/// Blocks that hold no packets: names, statistics, journal entries, secrets.
const WITHOUT_PACKETS: [u32; 4] = [4, 5, 9, 10];
const CUSTOM: u32 = 0x0000_0BAD;
const BYTE_ORDER: u32 = 0x1A2B_3C4D;

const OPTION_END: u16 = 0;
const INTERFACE_NAME: u16 = 2;
const INTERFACE_DESCRIPTION: u16 = 3;
const COMMENT: u16 = 1;
const PACKET_FLAGS: u16 = 2;
const INTERFACE_SPEED: u16 = 8;
const INTERFACE_RESOLUTION: u16 = 9;
const INTERFACE_OFFSET: u16 = 14;
const SECTION_APPLICATION: u16 = 4;
/// A custom option that holds a text and may be copied.
const OPTION_CUSTOM: u16 = 2988;

/// Custom blocks and options carry the number of an enterprise. 32473 is the one that RFC 5612 sets aside for examples; the texts
/// begin with `usus:`, so that nothing else is taken for ours.
const ENTERPRISE: u32 = 32_473;
const PREFIX: &str = "usus:";

/// Whether a file that begins so is a capture.
pub(super) fn begins_like_one(head: &[u8]) -> bool {
    let magic = head.get(8..12).and_then(|bytes| bytes.try_into().ok()).map(u32::from_le_bytes);
    head.get(..4) == Some(&SECTION.to_le_bytes())
        && magic.is_some_and(|magic| magic == BYTE_ORDER || magic.swap_bytes() == BYTE_ORDER)
}

/// A line as it is written into a capture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CaptureLine {
    /// Its name or role.
    pub name: String,
    /// Its settings, as in `9600 8N1`.
    pub serial: Option<String>,
    /// Stream offset of its first byte in this file.
    pub base: u64,
    /// What it is received with, in words: the adapter.
    pub about: Option<String>,
    /// The adapter's latency timer in milliseconds.
    pub latency: Option<u32>,
    /// By how much the times of its chunks are earlier than when they arrived.
    pub lateness: Span,
}

impl CaptureLine {
    /// A line as another capture has it.
    pub(crate) fn of(info: &LineInfo) -> CaptureLine {
        CaptureLine {
            name: info.name.clone(),
            serial: info.serial.map(|serial| serial.to_string()),
            base: info.start,
            about: info.about.clone(),
            latency: info.latency,
            lateness: info.lateness,
        }
    }
}

const FAULTS: [(&str, FaultKind); 3] =
    [("parity", FaultKind::Parity), ("framing", FaultKind::Framing), ("break", FaultKind::Break)];

const LOSSES: [(&str, Loss); 3] = [("reopened", Loss::Reopened), ("overrun", Loss::Overrun), ("gap", Loss::Gap)];

fn fault_word(kind: FaultKind) -> &'static str {
    FAULTS.iter().find(|(_, known)| *known == kind).map_or("framing", |(word, _)| word)
}

fn loss_word(why: Loss) -> &'static str {
    LOSSES.iter().find(|(_, known)| *known == why).map_or("gap", |(word, _)| word)
}
