//! A Modbus line: two units that are polled for their registers, on one wire without times. Beside the declared points a segmenter and pairer by hand, which knows just
//! these two functions; only decoding is timed. The line is a perfect one: what is told of a damaged one is not the same.

use fastrand::Rng;
use usus::Format;

use crate::input;
use crate::packets::Crc;
use crate::sum::Sum;
use crate::{Extent, declared_decode, in_turn, say_decode};

const FORMAT: &str = r#"
format = "cabinet"
[[frame]]
cut = "modbus-rtu"
[unit.drive]
id = 1
points = [
  { name = "speed",  table = "holding_register", address = 16, type = "u16be", scale = 0.1, unit = "r/min" },
  { name = "torque", table = "holding_register", address = 17, type = "i16be", scale = 0.1, unit = "%" },
  { name = "state",  table = "holding_register", address = 18, type = "u16be" },
  { name = "hours",  table = "holding_register", address = 19, type = "u32cdab", scale = 0.1, unit = "h" },
]
[unit.meter]
id = 2
points = [
  { name = "voltage", table = "input_register", address = 0, type = "u32be", scale = 0.001, unit = "V" },
  { name = "current", table = "input_register", address = 2, type = "u32be", scale = 0.001, unit = "A" },
  { name = "energy",  table = "input_register", address = 4, type = "u32be", scale = 0.001, unit = "kWh" },
]
"#;

/// A poll of each unit, with its answer.
fn polls(rng: &mut Rng, crc: &Crc, out: &mut Vec<u8>) {
    for (unit, code, address, count) in [(1, 3, 16, 5), (2, 4, 0, 6)] {
        let mut send = |message: &[u8]| {
            out.extend_from_slice(message);
            out.extend(crc.of(message).to_le_bytes());
        };
        send(&[unit, code, 0, address, 0, count]);
        let mut answer = vec![unit, code, 2 * count];
        answer.extend(std::iter::repeat_with(|| rng.u8(..)).take(2 * usize::from(count)));
        send(&answer);
    }
}

/// How many answers an input has, and their values.
fn by_hand(input: &[u8], crc: &Crc) -> (u64, Sum) {
    let (mut records, mut sum, mut at) = (0, Sum::default(), 0);
    let mut asked: Option<(u8, u8, u16, u16)> = None;
    while at + 5 <= input.len() {
        let bytes = &input[at..];
        let (unit, code) = (bytes[0], bytes[1]);
        if let Some((of, by, address, count)) = asked {
            let length = 5 + usize::from(bytes[2]);
            let is_its = of == unit && by == code && bytes[2] == 2 * count as u8;
            if is_its && bytes.get(..length).is_some_and(|frame| crc.of(frame) == 0) {
                records += u64::from(read(unit, code, address, &bytes[3..length - 2], &mut sum).is_some());
                (asked, at) = (None, at + length);
                continue;
            }
        }
        match bytes.get(..8) {
            Some(frame) if matches!(code, 3 | 4) && crc.of(frame) == 0 => {
                let word = |at: usize| u16::from_be_bytes([frame[at], frame[at + 1]]);
                (asked, at) = (Some((unit, code, word(2), word(4))), at + 8);
            }
            _ => at += 1,
        }
    }
    (records, sum)
}

fn read(unit: u8, code: u8, address: u16, registers: &[u8], sum: &mut Sum) -> Option<()> {
    let word = |at: usize| Some(u16::from_be_bytes(*registers.get(2 * at..)?.first_chunk()?));
    let two = |at: usize| Some(u32::from_be_bytes(*registers.get(2 * at..)?.first_chunk()?));
    sum.number(unit.into());
    sum.number(code.into());
    match (unit, code, address) {
        (1, 3, 16) => {
            sum.number(word(0)?.into());
            sum.number((word(1)? as i16).into());
            sum.number(word(2)?.into());
            sum.number((i64::from(word(4)?) << 16) | i64::from(word(3)?));
        }
        (2, 4, 0) => {
            for at in [0, 2, 4] {
                sum.number(two(at)?.into());
            }
        }
        _ => return None,
    }
    Some(())
}

/// Prints what it costs.
pub fn run(extent: Extent) {
    let crc = Crc::new();
    let plan =
        Format::parse(FORMAT).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}"));
    let input = input::frames(extent.size, u32::MAX, |rng, out| polls(rng, &crc, out));
    let (times, results) =
        in_turn(extent.rounds, &mut [&mut || by_hand(&input, &crc), &mut || declared_decode(&plan, &input, 1 << 16)]);
    assert_eq!(results[0], results[1], "bus");
    say_decode("bus", input.len(), &times);
}
