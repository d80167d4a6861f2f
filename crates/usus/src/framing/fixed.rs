//! Packets that are known by their first eight bytes: the shortest way to a record.

use super::{Behind, CheckState, Contents, Recognise, Recognised, Tools};
use crate::plan::{Check, Choice, FixedPacket, FixedPackets};
use crate::read::Cells;

/// A packet that its packet tells.
#[derive(Clone, Copy)]
pub(crate) struct FixedFrame<'p, S> {
    fixed: &'p FixedPackets,
    /// Whether its checksum holds, of its packet and the bytes from its first on.
    sound: S,
}

impl<'p, S: Fn(&FixedPacket, &[u8]) -> bool + Copy> FixedFrame<'p, S> {
    pub(crate) fn new(fixed: &'p FixedPackets, sound: S) -> FixedFrame<'p, S> {
        FixedFrame { fixed, sound }
    }
}

impl<S: Fn(&FixedPacket, &[u8]) -> bool + Copy> Recognise for FixedFrame<'_, S> {
    const DECIDES: bool = true;
    const SPLITS: bool = false;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], _: &mut Tools<'_>) -> Option<Recognised> {
        let packet = self.fixed.of(u64::from_le_bytes(*bytes.first_chunk()?))?;
        let length = packet.length;
        if length > bytes.len() || !(self.sound)(packet, bytes) {
            return None;
        }
        let (contents, check) = (Contents::Lie(0, length as u32), CheckState::Holds);
        let choice = Choice::Kind(packet.kind);
        Some(Recognised { length, contents, check, choice, filler: 0, behind: Behind::Frame })
    }
}

/// Whether the checksum of a packet holds, if it has one.
#[inline(always)]
pub(crate) fn is_sound(fixed: &FixedPackets, check: Option<&Check>, packet: &FixedPacket, wide: &[u8]) -> bool {
    let Some(check) = check else { return true };
    let Some(covered) = wide.get(packet.covered.from..packet.covered.to) else { return false };
    match fixed.residue {
        Some(residue) => check.checksum.register(covered) == Some(residue),
        None => {
            let sent = Cells::of_bytes(wide).word(&packet.sent, 0);
            sent.is_some_and(|sent| check.checksum.narrow(covered) == Some(sent as u64))
        }
    }
}
