//! What a receiver would make of characters that are sent at another speed: the levels on the wire, sampled as a UART samples them.

use alloc::vec::Vec;

use super::Character;
use crate::format::Parity;
use crate::input::FaultKind;

/// How characters are sent.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Sending {
    pub(super) data_bits: u8,
    pub(super) parity: Parity,
    pub(super) inverted: bool,
}

/// The levels of bytes: when they change, in bits of the sender, beginning with a change to low. `gap` says how many bits the line rests
/// before each byte.
pub(super) fn changes(bytes: &[u8], sending: Sending, gap: &mut dyn FnMut() -> f64) -> Vec<f64> {
    let mut changes = Vec::with_capacity(bytes.len() * 6);
    let (mut time, mut high) = (1.0, true);
    let mut bit = |time: f64, wanted: bool| {
        if high != wanted {
            changes.push(time);
            high = wanted;
        }
    };
    if sending.inverted {
        // An inverted line rests low, which a receiver takes for a break until it first goes up.
        bit(0.0, false);
    }
    for &byte in bytes {
        time += gap();
        bit(time, sending.inverted);
        let data = byte & (0xFF_u16 >> (8 - sending.data_bits)) as u8;
        for index in 0..sending.data_bits {
            time += 1.0;
            bit(time, (data >> index & 1 == 1) != sending.inverted);
        }
        if sending.parity != Parity::None {
            time += 1.0;
            let odd = data.count_ones() % 2 == 1;
            bit(time, (odd == (sending.parity == Parity::Even)) != sending.inverted);
        }
        time += 1.0;
        bit(time, !sending.inverted);
        time += 1.0;
    }
    changes
}

/// What a receiver with eight bits, no parity and one stop bit makes of them; `ratio` of the sender's bits are one of the receiver's.
pub(super) fn receive(changes: &[f64], ratio: f64) -> Vec<Character> {
    let mut heard = Vec::new();
    // Changes at even places are to low.
    let mut next = 0;
    while next < changes.len() {
        let start = changes[next];
        let mut at = next;
        let mut sample = |bits: f64| {
            let time = start + bits * ratio;
            while at < changes.len() && changes[at] <= time {
                at += 1;
            }
            at % 2 == 0
        };
        if sample(0.5) {
            // Too short for a start bit; whatever went on meanwhile was not seen.
            next = at;
            continue;
        }
        let byte = (0..8).map(|bit| u8::from(sample(1.5 + f64::from(bit))) << bit).sum();
        let stopped = sample(9.5);
        let fault = match (stopped, byte) {
            (true, _) => None,
            (false, 0) => Some(FaultKind::Break),
            (false, _) => Some(FaultKind::Framing),
        };
        heard.push(Character { byte, fault });
        // After a wrong stop bit, the line has to come up first.
        next = if stopped { at } else { at + 1 };
    }
    heard
}
