//! Telling a frame at once: what nearly always comes next on a line without damage.

use super::scan::Scan;
use super::{Expect, Verdict, packet, sentence, text};
use crate::claim::{self, Extent};
use crate::plan::{Cut, Inner, Packet, Route};

/// A frame that is a record, and the line end behind it.
#[derive(Clone, Copy)]
pub(crate) struct Known {
    pub(crate) kind: u16,
    pub(crate) length: usize,
    /// First byte and end of what is read in it.
    pub(crate) content: (u32, u32),
    /// How many of [`Scan::columns`] are its own.
    pub(crate) columns: usize,
    pub(crate) extent: Extent,
    /// Bytes of the line end.
    pub(crate) filler: usize,
    /// What may follow, and is not there yet.
    pub(crate) expect: Expect,
}

/// A frame at the very start of `bytes` that can be told to be a record at once, and nothing else is to be said about: nearly all that
/// comes. Says nothing else than [`step`] and what follows from it would, only sooner.
#[inline(always)]
pub(crate) fn known(plan: &Inner, route: &Route, bytes: &[u8], scan: &mut Scan) -> Option<Known> {
    for &number in &route.searching {
        let frame = &plan.frames[usize::from(number)];
        match &frame.cut {
            Cut::Packet(packet) => {
                if let Some(signature) = packet::known(frame, bytes) {
                    let (kind, length) = (signature.kind, signature.length);
                    let extent = Extent { count: 0, tail: length };
                    let (content, expect) = ((0, length as u32), Expect::Nothing);
                    return Some(Known { kind, length, content, columns: 0, extent, filler: 0, expect });
                }
                // The first frame that begins here has the first word.
                if packet.begins(bytes) {
                    return None;
                }
            }
            Cut::Sentence { checksum } => {
                if matches!(bytes.first(), Some(b'$' | b'!')) {
                    let (end, ended) = sentence::known(*checksum, frame.separator, bytes, &mut scan.columns)?;
                    let (length, content) = (end + 4, (1, end as u32 + 1));
                    let (kind, columns, extent) = claim::known(plan, number, frame, bytes, content, scan)?;
                    let (filler, expect) = if ended { (2, Expect::Nothing) } else { (0, Expect::CrOrLf) };
                    return Some(Known { kind, length, content, columns, extent, filler, expect });
                }
            }
            Cut::Text { .. } => {}
        }
    }
    let (number, true) = (route.text?, route.searching.is_empty()) else { return None };
    let frame = &plan.frames[usize::from(number)];
    let Cut::Text { end, limit, .. } = frame.cut else { return None };
    let (length, filler) = text::known(end, limit, frame.separator, bytes, &mut scan.columns)?;
    let content = (0, length as u32);
    let (kind, columns, extent) = claim::known(plan, number, frame, bytes, content, scan)?;
    Some(Known { kind, length, content, columns, extent, filler, expect: Expect::Nothing })
}

/// Whether bytes are the start pattern, or as much of it as they are.
fn seems_to_begin(packet: &Packet, bytes: &[u8]) -> bool {
    packet.start.iter().zip(bytes).all(|(start, byte)| start == byte)
}

/// How many bytes the packet at the start of `bytes` needs before more can be said, if it is one that [`known`] would tell then.
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
