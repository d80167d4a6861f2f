//! The drive cabinet: a controller asks the drive (unit 1) and the gearbox monitor (unit 2) for their registers over Modbus RTU, four
//! times a second. Request and answer go over wires of their own, so that a tap of both is two lines.
//!
//! A frame is the unit, the function, the data, and a CRC-16 (polynomial 8005 reflected, begun with FFFF), low byte first. Now and then
//! unit 2 is asked for a register that it does not have, and answers with an exception; sometimes it does not answer at all.

use fastrand::Rng;

use crate::rope_tension::crc;
use crate::{BEGIN, Message, Model, Wander};

/// One wire of the conversation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wire {
    Requests,
    Answers,
}

pub(crate) struct Cabinet {
    wire: Wire,
    /// Revolutions a minute.
    speed: Wander,
    /// Tenths of a per cent.
    torque: Wander,
    /// Tenths of a degree.
    oil: Wander,
    /// Hundredths of a millimetre a second.
    vibration: Wander,
}

impl Cabinet {
    pub(crate) fn new(rng: &mut Rng, wire: Wire) -> Cabinet {
        Cabinet {
            wire,
            speed: Wander::new(rng.i64(600..900), 0, 1_500, 12),
            torque: Wander::new(430, -200, 1_200, 25),
            oil: Wander::new(512, 50, 950, 2),
            vibration: Wander::new(240, 20, 1_800, 30),
        }
    }

    /// Asks at `time`; both wires go through the same chances, and each keeps what it carries.
    fn exchange(&self, time: i64, request: &[u8], answer: Option<Vec<u8>>, messages: &mut Vec<Message>) {
        let request = frame(request);
        // The unit thinks for a moment after the request's last character.
        let answered = time + 573_000 * request.len() as i64 + 3_200_000;
        match (self.wire, answer) {
            (Wire::Requests, _) => messages.push(message(time, request)),
            (Wire::Answers, Some(answer)) => messages.push(message(answered, frame(&answer))),
            (Wire::Answers, None) => {}
        }
    }
}

impl Model for Cabinet {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let mut messages = Vec::new();
        for quarter in 0..4 {
            let time = BEGIN + i64::from(second) * 1_000_000_000 + quarter * 250_000_000;
            let drive = [self.speed.next(rng), self.torque.next(rng)];
            self.exchange(time, &[1, 3, 0, 0x10, 0, 2], Some(registers(1, 3, &drive)), &mut messages);
            let gearbox = [self.oil.next(rng), self.vibration.next(rng)];
            let answer = (rng.u32(0..40) != 0).then(|| registers(2, 4, &gearbox));
            self.exchange(time + 90_000_000, &[2, 4, 0, 0, 0, 2], answer, &mut messages);
        }
        if second % 10 == 9 {
            let time = BEGIN + i64::from(second) * 1_000_000_000 + 930_000_000;
            self.exchange(time, &[2, 4, 0x01, 0x90, 0, 1], Some(vec![2, 0x84, 2]), &mut messages);
        }
        messages
    }
}

/// The answer that holds those registers.
fn registers(unit: u8, function: u8, values: &[i64]) -> Vec<u8> {
    let mut bytes = vec![unit, function, values.len() as u8 * 2];
    for value in values {
        bytes.extend_from_slice(&(*value as i16).to_be_bytes());
    }
    bytes
}

fn frame(bytes: &[u8]) -> Vec<u8> {
    let mut frame = bytes.to_vec();
    frame.extend_from_slice(&crc(bytes).to_le_bytes());
    frame
}

fn message(time: i64, bytes: Vec<u8>) -> Message {
    Message { time, bytes, says: None, line_end: 0, fragile: false, opening: None, together: None }
}
