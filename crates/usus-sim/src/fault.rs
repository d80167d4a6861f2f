//! The line between device and receiver: faults, and the pieces in which bytes arrive.

use std::collections::BTreeMap;

use fastrand::Rng;

use crate::{BEGIN, Device, Message, Recording, TimedBytes, Together, Truth};

/// What goes wrong between a device and its receiver.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Faults {
    /// The recording begins so many bytes into the first message.
    pub cut_start: usize,
    /// Share of bytes of which one bit is flipped.
    pub flipped: f64,
    /// Share of bytes that are lost.
    pub lost: f64,
    /// Share of messages with noise before them.
    pub noise: f64,
}

impl Faults {
    /// A perfect line.
    pub const fn none() -> Faults {
        Faults { cut_start: 0, flipped: 0.0, lost: 0.0, noise: 0.0 }
    }

    /// Every fault there is, as rare as on a poor but usable line.
    pub const fn all() -> Faults {
        Faults { cut_start: 7, flipped: 0.000_2, lost: 0.000_1, noise: 0.004 }
    }
}

/// What several messages say together, as far as they have come.
struct Begun {
    offset: u64,
    length: u64,
    messages: usize,
    whole: bool,
    protected: bool,
}

/// A message as it was received.
pub(crate) struct Arrival {
    pub(crate) bytes: Vec<u8>,
    /// Noise in front of it.
    noise: usize,
    whole: bool,
}

/// Sends messages over a line with those faults.
pub(crate) fn receive(device: Device, messages: Vec<Message>, faults: &Faults, rng: &mut Rng) -> Recording {
    let mut recording = Recording { device, chunks: Vec::new(), truth: Vec::new() };
    let (mut offset, mut free, mut clean, mut last) = (0u64, BEGIN, true, None);
    let mut begun: BTreeMap<u64, Begun> = BTreeMap::new();
    for (index, message) in messages.into_iter().enumerate() {
        let cut = if index == 0 { faults.cut_start.min(message.bytes.len()) } else { 0 };
        let received = damage(&message, cut, faults, rng);
        let whole = received.whole && !(message.fragile && (received.noise > 0 || !clean));
        // What is damaged but ends its line does no harm to the next one.
        let line_end = &message.bytes[message.bytes.len() - message.line_end..];
        clean = received.whole || (message.line_end > 0 && received.bytes.ends_with(line_end));
        // What closes what came before it is none of it.
        let before = if received.noise > 0 { received.bytes.get(received.noise - 1).copied() } else { last };
        let taken =
            u64::from(message.opening.is_some() && before.is_some_and(|before| message.opening != Some(before)));
        let begins = offset + received.noise as u64 + taken;
        let length = (message.bytes.len() - message.line_end) as u64 - taken;
        let protected = !message.fragile;
        if let Some((kind, fields)) = message.says {
            let offset = whole.then_some(begins);
            recording.truth.push(Truth { kind, offset, length, messages: 1, id: 0, protected, fields });
        }
        if let Some(Together { id, says, has_sum }) = message.together {
            let begun_here = Begun { offset: begins, length: 0, messages: 0, whole: true, protected: true };
            let so_far = begun.entry(id).or_insert(begun_here);
            so_far.length += length;
            so_far.messages += 1;
            so_far.whole &= whole;
            so_far.protected &= has_sum;
            if let (Some((kind, fields)), Some(all)) = (says.clone(), says.and_then(|_| begun.remove(&id))) {
                let Begun { offset, length, messages, whole, protected } = all;
                let offset = whole.then_some(offset);
                recording.truth.push(Truth { kind, offset, length, messages, id, protected, fields });
            }
        }
        offset += received.bytes.len() as u64;
        last = received.bytes.last().copied().or(last);
        free = arrive(device, &received.bytes, message.time.max(free + message.waits), rng, &mut recording.chunks);
    }
    recording
}

/// One message with its faults.
pub(crate) fn damage(message: &Message, cut: usize, faults: &Faults, rng: &mut Rng) -> Arrival {
    let mut received = Arrival { bytes: Vec::new(), noise: 0, whole: cut == 0 };
    if rng.f64() < faults.noise {
        received.noise = rng.usize(1..12);
        received.bytes.extend((0..received.noise).map(|_| rng.u8(..)));
    }
    let needed = message.bytes.len() - message.line_end;
    for (index, &byte) in message.bytes.iter().enumerate().skip(cut) {
        let roll = rng.f64();
        if roll < faults.lost {
            received.whole &= index >= needed;
        } else if roll < faults.lost + faults.flipped {
            let flipped = byte ^ 1 << rng.u8(0..8);
            received.bytes.push(flipped);
            // A hex digit of a sentence's checksum means the same as a small letter.
            let same_digit = message.line_end > 0 && index + 2 >= needed && flipped.eq_ignore_ascii_case(&byte);
            received.whole &= index >= needed || (same_digit && !message.fragile);
        } else {
            received.bytes.push(byte);
        }
    }
    // A line that nothing vouches for needs its line end, too.
    received.whole &= !message.fragile || received.bytes.ends_with(&message.bytes);
    received
}

/// Bytes arrive at the line's speed, in the pieces in which a receiver happens to read them. Returns when the line is free again.
fn arrive(device: Device, bytes: &[u8], begin: i64, rng: &mut Rng, chunks: &mut Vec<TimedBytes>) -> i64 {
    let mut time = begin;
    let mut rest = bytes;
    while !rest.is_empty() {
        let (piece, after) = rest.split_at(rng.usize(1..=32).min(rest.len()));
        time += device.character() * piece.len() as i64;
        chunks.push(TimedBytes { time, bytes: piece.to_vec() });
        rest = after;
    }
    time
}
