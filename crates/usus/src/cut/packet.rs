//! The `packet` cut: a start pattern, a length that is fixed or told by a field, constants in the header, a checksum.

use super::{CheckState, Start, Verdict, View};
use crate::check;
use crate::claim::{Choice, Choices};
use crate::event::Reason;
use crate::format::Integer;
use crate::plan::{Check, Frame, Inner, Length, Packet, Signature, Signatures};
use crate::read::{Cells, word_of};

/// Where the next start pattern is, or where one may begin that the window's end hides.
pub(super) fn find(packet: &Packet, view: &View<'_>, from: u64) -> Start {
    let bytes = view.from(from);
    // Nearly always the next packet follows at once.
    if packet.begins(bytes) {
        return Start::At(from);
    }
    if let Some(offset) = packet.finder.find(bytes) {
        return Start::At(from + offset as u64);
    }
    let longest = bytes.len().min(packet.start.len() - 1);
    let hidden = (1..=longest).rev().find(|&length| bytes.ends_with(&packet.start[..length])).unwrap_or(0);
    Start::NotBefore(view.end() - hidden as u64)
}

/// What the bytes from a start pattern on are.
#[inline(always)]
pub(super) fn verdict(plan: &Inner, number: u16, packet: &Packet, bytes: &[u8], choices: &mut Choices) -> Verdict {
    let frame = &plan.frames[usize::from(number)];
    if bytes.len() < packet.header {
        return Verdict::Need(packet.header);
    }
    let header = Cells { bytes, wide: bytes, columns: &[], tail: 0 };
    for &index in &frame.constants {
        let field = &frame.header[usize::from(index)];
        if let Some(constant) = &field.equals
            && !header.equals(&field.field, 0, constant)
        {
            return Verdict::Fail(Reason::Constant { frame: number, field: index });
        }
    }
    let length = match frame_length(packet, bytes) {
        Ok(length) => length,
        Err(found) => return Verdict::Fail(Reason::Length { frame: number, found }),
    };
    let choice = choices.choose(plan, number, frame, &header);
    if !admits(plan, packet, choice, length) {
        return Verdict::Fail(Reason::Length { frame: number, found: length as u64 });
    }
    let Some(bytes) = bytes.get(..length) else { return Verdict::Need(length) };
    let check = match test(frame, bytes) {
        Ok(check) => check,
        Err((computed, sent)) => return Verdict::Fail(Reason::Checksum { frame: number, computed, sent }),
    };
    Verdict::Frame { length, content: (0, length as u32), check, choice }
}

/// The signature of the packet at the start of `bytes`, and the packet, if it has one and its checksum holds. `sound` says whether that is so,
/// of the packet and what follows it. Says nothing else than [`verdict`] and what follows from it would, only sooner.
#[inline(always)]
pub(crate) fn signed<'p, 'b>(
    signatures: &'p Signatures,
    bytes: &'b [u8],
    sound: impl Fn(&Signature, &[u8]) -> bool,
) -> Option<(&'p Signature, &'b [u8])> {
    let signature = signatures.of(u64::from_le_bytes(*bytes.first_chunk()?))?;
    let packet = bytes.get(..signature.length)?;
    sound(signature, bytes).then_some((signature, packet))
}

/// Whether the checksum of a packet holds, if it has one.
#[inline(always)]
pub(crate) fn is_sound(signatures: &Signatures, check: Option<&Check>, signature: &Signature, wide: &[u8]) -> bool {
    let Some(check) = check else { return true };
    let Some(covered) = wide.get(signature.covered.from..signature.covered.to) else { return false };
    match signatures.residue {
        Some(residue) => check.checksum.register(covered) == Some(residue),
        None => {
            let cells = Cells { bytes: wide, wide, columns: &[], tail: 0 };
            cells.word(&signature.sent, 0).is_some_and(|sent| check.checksum.narrow(covered) == Some(sent as u64))
        }
    }
}

/// How many bytes the packet that begins with `bytes` has, if it may be one that [`signed`] tells, and they are fewer.
#[inline(always)]
pub(crate) fn signed_needs(signatures: &Signatures, bytes: &[u8]) -> Option<usize> {
    let signature = signatures.of(u64::from_le_bytes(*bytes.first_chunk()?))?;
    (signature.length > bytes.len()).then_some(signature.length)
}

#[inline(always)]
fn test(frame: &Frame, bytes: &[u8]) -> Result<CheckState, (u64, Option<u64>)> {
    match &frame.check {
        Some(check) => check::test(check, bytes).map(|()| CheckState::Holds),
        None => Ok(CheckState::Undeclared),
    }
}

/// The length of the whole frame, or what it claims to be if that cannot be.
#[inline(always)]
fn frame_length(packet: &Packet, bytes: &[u8]) -> Result<usize, u64> {
    let length = match &packet.length {
        Length::Fixed(length) => return Ok(*length),
        Length::Field { at, integer: Integer { bytes: 1, signed: false, .. }, add } => {
            let length = i64::from(bytes.get(*at).copied().unwrap_or(0)).saturating_add(*add);
            return match usize::try_from(length) {
                Ok(length) if (packet.shortest..=packet.longest).contains(&length) => Ok(length),
                _ => Err(u64::try_from(length).unwrap_or(0)),
            };
        }
        Length::Field { at, integer, add } => {
            let value = integer_at(bytes, *at, *integer);
            value.saturating_add(i128::from(*add))
        }
    };
    match usize::try_from(length) {
        Ok(length) if (packet.shortest..=packet.longest).contains(&length) => Ok(length),
        _ => Err(u64::try_from(length).unwrap_or(0)),
    }
}

#[inline(always)]
fn integer_at(bytes: &[u8], at: usize, integer: Integer) -> i128 {
    let Some(bytes) = bytes.get(at..at + usize::from(integer.bytes)) else { return -1 };
    let value = word_of(bytes, integer.order);
    let unused = 64 - u32::from(integer.bytes) * 8;
    match integer.signed {
        true => i128::from(((value << unused) as i64) >> unused),
        false => i128::from(value),
    }
}

/// Whether a frame of that length can be what claims it. One that nothing claims may be as long as any.
#[inline(always)]
fn admits(plan: &Inner, packet: &Packet, choice: Choice, length: usize) -> bool {
    match choice {
        Choice::Kind(kind) => {
            let shape = &plan.kinds[usize::from(kind)].shape;
            let least = shape.front + shape.tail + shape.back;
            match shape.item {
                0 => length == least,
                item => length >= least && (length - least).is_multiple_of(item),
            }
        }
        _ => length <= packet.longest,
    }
}
