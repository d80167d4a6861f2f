//! Packets that are known by their first eight bytes: the shortest way to a record.

use super::{Behind, CheckState, Contents, Recognise, Recognised, Tools};
use crate::plan::{Check, Choice, Signature, Signatures};
use crate::read::Cells;

/// A packet that its signature tells.
#[derive(Clone, Copy)]
pub(crate) struct Signed<'p, S> {
    signatures: &'p Signatures,
    /// Whether its checksum holds, of its signature and the bytes from its first on.
    sound: S,
}

impl<'p, S: Fn(&Signature, &[u8]) -> bool + Copy> Signed<'p, S> {
    pub(crate) fn new(signatures: &'p Signatures, sound: S) -> Signed<'p, S> {
        Signed { signatures, sound }
    }
}

impl<S: Fn(&Signature, &[u8]) -> bool + Copy> Recognise for Signed<'_, S> {
    const DECIDES: bool = true;
    const SPLITS: bool = false;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], _: &mut Tools<'_>) -> Option<Recognised> {
        let signature = self.signatures.of(u64::from_le_bytes(*bytes.first_chunk()?))?;
        let length = signature.length;
        if length > bytes.len() || !(self.sound)(signature, bytes) {
            return None;
        }
        let (contents, check) = (Contents::Lie(0, length as u32), CheckState::Holds);
        let choice = Choice::Kind(signature.kind);
        Some(Recognised { length, contents, check, choice, filler: 0, behind: Behind::Frame })
    }
}

/// Whether the checksum of a packet holds, if it has one.
#[inline(always)]
pub(crate) fn is_sound(signatures: &Signatures, check: Option<&Check>, signature: &Signature, wide: &[u8]) -> bool {
    let Some(check) = check else { return true };
    let Some(covered) = wide.get(signature.covered.from..signature.covered.to) else { return false };
    match signatures.residue {
        Some(residue) => check.checksum.register(covered) == Some(residue),
        None => {
            let sent = Cells::of_bytes(wide).word(&signature.sent, 0);
            sent.is_some_and(|sent| check.checksum.narrow(covered) == Some(sent as u64))
        }
    }
}
