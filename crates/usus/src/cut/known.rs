//! Telling a text at once, and what its end needs: what nearly always comes next on a line without damage.

use super::scan::Scan;
use super::{Expect, Verdict, packet, text};
use crate::plan::{Cut, Inner, Packet, Route};

/// A text whose checksum holds, if it has one.
#[derive(Clone, Copy)]
pub(crate) struct Known {
    /// The place of its first character in the frame.
    pub(crate) first: usize,
    /// How many characters it has.
    pub(crate) text: usize,
    /// Length of the frame.
    pub(crate) length: usize,
    /// Bytes of the line end behind it.
    pub(crate) filler: usize,
    /// What may follow, and is not there yet.
    pub(crate) expect: Expect,
}

/// Whether bytes are the start pattern, or as much of it as they are.
fn seems_to_begin(packet: &Packet, bytes: &[u8]) -> bool {
    packet.start.iter().zip(bytes).all(|(start, byte)| start == byte)
}

/// How many bytes the packet at the start of `bytes` needs before more can be said, if it is one that could be told at once then.
#[inline]
pub(crate) fn packet_needs(plan: &Inner, route: &Route, bytes: &[u8], scan: &mut Scan) -> Option<usize> {
    let number = *route.searching.first()?;
    let frame = &plan.frames[usize::from(number)];
    let Cut::Packet(packet) = &frame.cut else { return None };
    if frame.signatures.is_none() || bytes.is_empty() || bytes.len() >= packet.longest {
        return None;
    }
    if bytes.len() < packet.header {
        return seems_to_begin(packet, bytes).then_some(packet.header);
    }
    match packet::verdict(plan, number, packet, bytes, &mut scan.choices) {
        Verdict::Need(length) if packet.begins(bytes) => Some(length),
        _ => None,
    }
}

/// The length of the line ends at the start of `bytes` that are filler by themselves: on a line that only a text cuts.
#[inline]
pub(crate) fn line_ends(plan: &Inner, route: &Route, bytes: &[u8]) -> usize {
    match route.text.map(|frame| &plan.frames[usize::from(frame)].cut) {
        Some(Cut::Text { end, .. }) if route.searching.is_empty() => text::line_ends(*end, bytes),
        _ => 0,
    }
}

/// The length of the CR LF at the start of `bytes`, if it is whole.
#[inline]
pub(crate) fn crlf(bytes: &[u8]) -> usize {
    if bytes.starts_with(b"\r\n") { 2 } else { 0 }
}
