//! Packets that are known by their first eight bytes: the shortest way to a record.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::{Check, CheckPlace, Choice, ChoiceKey, Edge, Frame, Kind, Length, Packet, Reading, Word};
use crate::checksum::Place;
use crate::format::CheckForm;
use crate::integer::{Integer, Order};

/// The packets of one frame that are known by their first eight bytes.
#[derive(Clone)]
pub(crate) struct FixedPackets {
    /// How far the byte that decides about the kind is to be shifted down in the first eight bytes.
    shift: u32,
    /// The number of the packet for each value of that byte, or [`NONE`].
    by_byte: Box<[u16; 256]>,
    all: Vec<FixedPacket>,
    /// What is left in the checksum's register by what it covers and itself behind it, if that is always the same. What is covered includes
    /// it then.
    pub(crate) residue: Option<u64>,
}

/// A kind of packet whose length is always the same, and about which nothing decides but its start, its length, one byte and its
/// checksum.
#[derive(Clone)]
pub(crate) struct FixedPacket {
    pub(crate) kind: u16,
    pub(crate) length: usize,
    /// Which bits of the first eight bytes, low byte first, have to be what.
    mask: u64,
    value: u64,
    /// The bytes that the checksum covers, and where it stands.
    pub(crate) covered: Place,
    pub(crate) sent: Word,
    /// What the covered bytes leave in an empty register, if that is always the same.
    pub(crate) left: u64,
}

impl FixedPackets {
    /// The packet that begins with these eight bytes, low byte first.
    #[inline(always)]
    pub(crate) fn of(&self, first: u64) -> Option<&FixedPacket> {
        let number = self.by_byte[(first >> (self.shift & 63)) as usize & 0xFF];
        self.all.get(usize::from(number)).filter(|packet| first & packet.mask == packet.value)
    }
}

/// No packet has this number.
const NONE: u16 = u16::MAX;

const BYTE: Integer = Integer { signed: false, bytes: 1, order: Order::Little };

/// The fixed packets of a frame's kinds, if its choice and its checksum allow any.
pub(crate) fn fixed_packets(packet: &Packet, frame: &Frame, kinds: &[Kind]) -> Option<FixedPackets> {
    let ChoiceKey::Byte { at: at @ 0..8, choices } = &frame.key else { return None };
    let has_others = frame.check.as_ref().is_some_and(|check| !check.others.is_empty());
    if packet.end.is_some() || frame.reading == Reading::Text || has_others {
        return None;
    }
    let mut all: Vec<FixedPacket> = Vec::new();
    let mut by_byte = Box::new([NONE; 256]);
    for (number, choice) in by_byte.iter_mut().zip(choices.iter()) {
        let Choice::Kind(kind) = *choice else { continue };
        *number = match all.iter().position(|packet| packet.kind == kind) {
            Some(known) => known as u16,
            None => match fixed_packet(frame, packet, kind, &kinds[usize::from(kind)]) {
                Some(packet) => {
                    all.push(packet);
                    all.len() as u16 - 1
                }
                None => NONE,
            },
        };
    }
    let residue = frame.check.as_ref().and_then(residue);
    if let (Some(check), Some(residue)) = (&frame.check, residue) {
        for packet in &mut all {
            let Place { from, to, .. } = packet.covered;
            packet.covered = Place::new(from, to + usize::from(packet.sent.size));
            // Zeros leave nothing but what the first register becomes.
            let zeros = alloc::vec![0; packet.covered.to - from];
            packet.left = residue ^ check.checksum.register(&zeros).unwrap_or_default();
        }
    }
    Some(FixedPackets { shift: *at as u32 * 8, by_byte, all, residue })
}

/// What what a checksum covers, and itself right behind that, leave in its register.
fn residue(check: &Check) -> Option<u64> {
    let CheckForm::Binary(integer) = check.form else { return None };
    let stands_behind = match (check.to, check.place) {
        (Edge::Back(last), CheckPlace::In(Edge::Back(at))) => last == at + 1,
        (Edge::Front(last), CheckPlace::In(Edge::Front(at))) => last + 1 == at,
        _ => false,
    };
    let is_whole = integer.bytes * 8 == check.checksum.width();
    if stands_behind && is_whole { check.checksum.residue(integer.order) } else { None }
}

fn fixed_packet(frame: &Frame, packet: &Packet, number: u16, kind: &Kind) -> Option<FixedPacket> {
    let length = kind.exact?;
    if length < packet.header || !frame.constants.is_empty() {
        return None;
    }
    let [mut value, mut mask] = packet.start.only_word()?;
    if let Length::Field { at, integer, add } = &packet.length {
        let bits = u32::from(integer.bytes) * 8;
        if matches!(integer.order, Order::Letters(_)) {
            return None;
        }
        let sent = u64::try_from(i64::try_from(length).ok()?.checked_sub(*add)?).ok()?;
        let largest = u64::MAX >> (64 - bits) >> u32::from(integer.signed);
        if sent > largest || at + usize::from(integer.bytes) > 8 {
            return None;
        }
        let bytes = if integer.order == Order::Big { sent.swap_bytes() >> (64 - bits) } else { sent };
        value |= bytes << (8 * at);
        mask |= (u64::MAX >> (64 - bits)) << (8 * at);
    }
    let (covered, sent) = match &frame.check {
        Some(check) => checked(check, length)?,
        None => (Place::new(0, 0), integer_word(0, BYTE)),
    };
    Some(FixedPacket { kind: number, length, mask, value, covered, sent, left: 0 })
}

/// What a checksum covers in a packet of that length, and where it stands.
fn checked(check: &Check, length: usize) -> Option<(Place, Word)> {
    let (CheckForm::Binary(integer), CheckPlace::In(at)) = (check.form, check.place) else { return None };
    if matches!(integer.order, Order::Letters(_)) {
        return None;
    }
    let place = |edge: Edge| edge.in_frame(length);
    let (from, to, at) = (place(check.from)?, place(check.to)? + 1, place(at)?);
    let inside = from <= to && to <= length && at + usize::from(integer.bytes) <= length;
    (inside && check.checksum.width() <= 64).then(|| (Place::new(from, to), integer_word(at, integer)))
}

/// An unsigned integer of whole bytes as it is.
fn integer_word(at: usize, integer: Integer) -> Word {
    let bits = integer.bytes * 8;
    let big = integer.order == Order::Big;
    Word {
        first: at as u32,
        big,
        shift: if big { 64 - bits } else { 0 },
        size: integer.bytes,
        places: 0,
        mask: u64::MAX >> (64 - bits),
        sign: 0,
        factor: 1,
        addend: 0,
    }
}
