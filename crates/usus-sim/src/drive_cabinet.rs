//! The drive cabinet: a controller asks the drive (unit 1) and the energy meter (unit 2) for their registers over Modbus RTU, twice a second, and writes the
//! drive's. On one wire of which a tap hears all, or with requests and answers on wires of their own, so that a tap of both is two lines.
//!
//! A frame is the unit, the function, the data, and a CRC-16 (polynomial 8005 reflected, begun with FFFF), low byte first. Now and then the meter is asked
//! for a register that it does not have, and answers with an exception; for a while of each minute it is switched off, and is asked again then.

use fastrand::Rng;

use crate::rope_tension::crc;
use crate::{BEGIN, Fact, Message, Model, Wander, places};

/// What a tap hears of the conversation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wire {
    Both,
    Requests,
    Answers,
}

pub(crate) struct Cabinet {
    wire: Wire,
    /// Tenths of a revolution a minute.
    speed: Wander,
    /// Tenths of a per cent.
    torque: Wander,
    /// What the controller wants, as the speed.
    wanted: i64,
    fan: bool,
    /// Quarters of a volt.
    voltage: Wander,
    /// Sixteenths of an ampere.
    current: Wander,
    /// Watt-hours.
    energy: u32,
    number: u64,
}

/// What a record says: its kind, and its fields.
type Says = (&'static str, Vec<(&'static str, Fact)>);

/// How many seconds of each minute the meter is switched off.
const OFF: std::ops::Range<u32> = 20..26;
const MILLISECOND: i64 = 1_000_000;

impl Cabinet {
    pub(crate) fn new(rng: &mut Rng, wire: Wire) -> Cabinet {
        Cabinet {
            wire,
            speed: Wander::new(rng.i64(6_000..9_000), 0, 15_000, 120),
            torque: Wander::new(430, -200, 1_200, 25),
            wanted: 7_500,
            fan: false,
            voltage: Wander::new(1_601, 1_501, 1_701, 2),
            current: Wander::new(901, 17, 4_001, 16),
            energy: 4_293_000,
            number: 0,
        }
    }

    /// Asks at `time`; all wires go through the same chances, and each keeps what it carries. Without an answer, the unit is silent.
    fn ask(&mut self, time: i64, request: &[u8], answer: Option<(&[u8], Option<Says>)>, messages: &mut Vec<Message>) {
        let request = frame(request);
        // The unit thinks for a moment after the request's last character.
        let thinks = 3_200_000;
        let answered = time + 573_000 * request.len() as i64 + thinks;
        self.number += 1;
        let says = answer.as_ref().and_then(|(_, says)| says.clone());
        let request = message(time, request);
        let answer = answer.map(|(answer, _)| Message { waits: thinks, ..message(answered, frame(answer)) });
        match (self.wire, says) {
            // What is said by both is so where both are heard.
            (Wire::Both, Some(says)) => {
                messages.push(request.together(self.number, None));
                messages.extend(answer.map(|answer| answer.together(self.number, Some(says))));
            }
            (Wire::Both, None) => {
                messages.push(request);
                messages.extend(answer);
            }
            (Wire::Requests, _) => messages.push(request),
            (Wire::Answers, _) => messages.extend(answer),
        }
    }

    fn poll_drive(&mut self, rng: &mut Rng, time: i64, hours: u32, messages: &mut Vec<Message>) {
        let (speed, torque) = (self.speed.next(rng), self.torque.next(rng));
        let (brake_open, overheated) = (speed > 0, rng.u8(..60) == 0);
        let state = u16::from(speed > 0) | u16::from(brake_open) << 8 | u16::from(overheated) << 9;
        let [hours_high, hours_low] = [(hours >> 16) as u16, hours as u16];
        // The drive has the lower half of its numbers first.
        let answer = registers(1, 3, &[speed as u16, torque as u16, state, hours_low, hours_high]);
        let says = drive(
            "read_holding_registers",
            &[
                ("speed", places(speed, 1)),
                ("torque", places(torque, 1)),
                ("state", if speed > 0 { "run" } else { "stop" }.to_owned()),
                ("brake_open", brake_open.to_string()),
                ("overheated", overheated.to_string()),
                ("hours", places(hours.into(), 1)),
            ],
        );
        self.ask(time, &[1, 3, 0, 16, 0, 5], Some((&answer, Some(says))), messages);
    }

    fn poll_meter(&mut self, rng: &mut Rng, time: i64, is_off: bool, messages: &mut Vec<Message>) {
        let (voltage, current) = (self.voltage.next(rng) | 1, self.current.next(rng) | 1);
        self.energy += rng.u32(0..12);
        let [voltage, current] = [voltage as f32 / 4.0, current as f32 / 16.0];
        let words =
            [voltage.to_bits(), current.to_bits(), self.energy].map(|number| [(number >> 16) as u16, number as u16]);
        let answer = registers(2, 4, words.as_flattened());
        let request = [2, 4, 0, 0, 0, 6];
        if is_off {
            // It loses patience, and asks once more.
            self.ask(time, &request, None, messages);
            return self.ask(time + 150 * MILLISECOND, &request, None, messages);
        }
        let fields = [
            ("unit", "2".into()),
            ("function", "read_input_registers".into()),
            ("voltage", voltage.to_string().into()),
            ("current", current.to_string().into()),
            ("energy", places(self.energy.into(), 3).into()),
        ];
        self.ask(time, &request, Some((&answer, Some(("meter", fields.into())))), messages);
    }
}

/// What the drive's registers say: those fields, and no others.
fn drive(function: &str, says: &[(&'static str, String)]) -> Says {
    const FIELDS: [&str; 8] = ["speed", "torque", "state", "brake_open", "overheated", "hours", "wanted_speed", "fan"];
    let mut fields: Vec<(&'static str, Fact)> = vec![("unit", "1".into()), ("function", function.into())];
    fields.extend(FIELDS.map(|name| {
        let said = says.iter().find(|(known, _)| *known == name);
        (name, said.map_or("", |(_, said)| said.as_str()).into())
    }));
    ("drive", fields)
}

impl Model for Cabinet {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let mut messages = Vec::new();
        let begin = BEGIN + i64::from(second) * 1_000 * MILLISECOND;
        // Tenths of an hour.
        let hours = 65_530 + second / 6;
        for half in 0..2 {
            let time = begin + half * 500 * MILLISECOND;
            self.poll_drive(rng, time, hours, &mut messages);
            let is_off = OFF.contains(&(second % 60));
            self.poll_meter(rng, time + 120 * MILLISECOND, is_off, &mut messages);
            match (half, second % 10) {
                (0, 3) => {
                    self.wanted = 100 * rng.i64(60..90);
                    let [high, low] = (self.wanted as u16).to_be_bytes();
                    let both = [1, 6, 0, 48, high, low];
                    let says = drive("write_register", &[("wanted_speed", places(self.wanted, 1))]);
                    self.ask(time + 400 * MILLISECOND, &both, Some((&both, Some(says))), &mut messages);
                }
                (0, 7) => {
                    self.fan = !self.fan;
                    let request = [1, 15, 0, 3, 0, 1, 1, u8::from(self.fan)];
                    let says = drive("write_coils", &[("fan", self.fan.to_string())]);
                    self.ask(time + 400 * MILLISECOND, &request, Some((&request[..6], Some(says))), &mut messages);
                }
                (1, 9) if !is_off => {
                    self.ask(
                        time + 400 * MILLISECOND,
                        &[2, 4, 1, 0x90, 0, 1],
                        Some((&[2, 0x84, 2], None)),
                        &mut messages,
                    );
                }
                (1, 5) => {
                    let says = drive("read_coils", &[("fan", self.fan.to_string())]);
                    let coils = if self.fan { 0b1010 } else { 0b0010 };
                    self.ask(
                        time + 400 * MILLISECOND,
                        &[1, 1, 0, 0, 0, 5],
                        Some((&[1, 1, 1, coils], Some(says))),
                        &mut messages,
                    );
                }
                _ => {}
            }
        }
        messages
    }
}

/// The answer that holds those registers.
fn registers(unit: u8, function: u8, values: &[u16]) -> Vec<u8> {
    let mut bytes = vec![unit, function, values.len() as u8 * 2];
    for value in values {
        bytes.extend_from_slice(&value.to_be_bytes());
    }
    bytes
}

fn frame(bytes: &[u8]) -> Vec<u8> {
    let mut frame = bytes.to_vec();
    frame.extend_from_slice(&crc(bytes).to_le_bytes());
    frame
}

fn message(time: i64, bytes: Vec<u8>) -> Message {
    Message { time, bytes, says: None, line_end: 0, fragile: false, opening: None, together: None, waits: 0 }
}
