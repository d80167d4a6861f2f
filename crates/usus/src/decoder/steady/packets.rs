//! Packet after packet that its first bytes tell.

use super::{Signed, hand_over};
use crate::cut;
use crate::decoder::line::{Line, Seen};
use crate::plan::{Plan, Signature, Signatures};
use crate::read::Cells;
use crate::record::Record;
use crate::sink::Sink;

impl Line {
    /// Hands over packet after packet that its first bytes tell, with what does not change from one to the next kept apart from what does.
    /// Says whether there was nothing else to say.
    pub(super) fn packets<S: Sink>(
        &mut self,
        plan: &Plan,
        Signed { signatures, check }: Signed<'_>,
        seen: Seen<'_>,
        until: usize,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        // Most have a small CRC right behind what it covers: those get a loop with nothing else in it.
        if let Some(crc) = check.and_then(|check| check.checksum.small())
            && signatures.residue.is_some()
        {
            let sound =
                |signature: &Signature, wide: &[u8]| crc.left_by(&signature.covered, wide) == Some(signature.left);
            return self.sound_packets(plan, signatures, sound, seen, until, sink);
        }
        let sound = |signature: &Signature, wide: &[u8]| cut::is_sound(signatures, check, signature, wide);
        self.sound_packets(plan, signatures, sound, seen, until, sink)
    }

    #[inline(never)]
    fn sound_packets<S: Sink>(
        &mut self,
        plan: &Plan,
        signatures: &Signatures,
        sound: impl Fn(&Signature, &[u8]) -> bool + Copy,
        seen: Seen<'_>,
        until: usize,
        sink: &mut S,
    ) -> Result<bool, S::Error> {
        let kinds = &*plan.0.kinds;
        let window = seen.bytes;
        let counts = &mut *self.ledger.records;
        let begun = (self.at - seen.base) as usize;
        // Any will do until there is a packet.
        let Some(compiled) = kinds.first() else { return Ok(true) };
        let mut record = Record {
            plan,
            kind: 0,
            compiled,
            line: self.id,
            offset: self.at,
            length: 0,
            frame: &[],
            cells: Cells { bytes: &[], wide: &[], columns: &[], tail: 0 },
            count: 0,
            marks: &self.marks,
        };
        let mut at = begun;
        let mut result = Ok(true);
        while at < until
            && let Some(wide) = window.get(at..)
            && let Some((signature, frame)) = cut::signed(signatures, wide, sound)
            && let Some(kind) = kinds.get(usize::from(signature.kind))
            && let Some(count) = counts.get_mut(usize::from(signature.kind))
        {
            record.compiled = kind;
            (record.kind, record.offset, record.length) = (signature.kind, seen.base + at as u64, frame.len() as u32);
            (record.frame, record.cells.bytes, record.cells.wide) = (frame, frame, wide);
            record.cells.tail = frame.len();
            *count += 1;
            at += frame.len();
            match hand_over(&record, (0, record.length), &mut self.fold, &mut self.queue, sink) {
                Ok(true) => {}
                stop => {
                    result = stop;
                    break;
                }
            }
        }
        // A packet has no columns, whatever came before it.
        self.scan.columns.clear();
        if at > begun {
            self.scan.clear();
        }
        self.ledger.recorded += (at - begun) as u64;
        self.at = seen.base + at as u64;
        result
    }
}
