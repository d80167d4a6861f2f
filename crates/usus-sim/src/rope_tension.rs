//! The haul-rope tension cell: A5 5A, a length, a type, the data, and a CRC-16 (polynomial 8005 reflected, begun with FFFF) over
//! all but the start, low byte first. Type 1 is a sample, twenty a second; type 2 a status, once in five seconds.

use fastrand::Rng;

use crate::{BEGIN, Fact, Message, Model, Wander, places};

pub(crate) struct Cell {
    sequence: u8,
    /// Hundredths of a kilonewton.
    tension: Wander,
    /// Tenths of a degree.
    core: Wander,
    /// Tenths of a volt.
    supply: Wander,
}

impl Model for Cell {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let mut messages: Vec<Message> = (0..20).map(|sample| self.sample(rng, second, sample)).collect();
        if second % 5 == 4 {
            messages.push(self.status(rng, second));
        }
        messages
    }
}

impl Cell {
    pub(crate) fn new(rng: &mut Rng) -> Cell {
        Cell {
            sequence: rng.u8(..),
            tension: Wander::new(rng.i64(8_000..14_000), -800, 26_000, 350),
            core: Wander::new(45, -300, 600, 1),
            supply: Wander::new(241, 228, 252, 1),
        }
    }

    fn sample(&mut self, rng: &mut Rng, second: u32, sample: u32) -> Message {
        let tension = self.tension.next(rng);
        // The core is not measured while the cell warms up.
        let core = (second >= 3).then(|| self.core.next(rng));
        let mode = match second {
            0..5 => 0,
            5..12 => 2,
            _ if second.is_multiple_of(97) => 3,
            _ => 1,
        };
        let flags = u8::from(tension > 25_000) | u8::from(rng.u32(0..500) == 0) << 3;
        let mut data = vec![self.sequence];
        data.extend_from_slice(&(tension as i32).to_be_bytes()[1..]);
        data.extend_from_slice(&core.map_or(i16::MIN, |core| core as i16).to_be_bytes());
        data.push(mode << 4 | flags);
        let mode_name = match mode {
            0 => "idle",
            1 => "run",
            2 => "creep",
            _ => "3",
        };
        let flag = |bit: u8| if flags >> bit & 1 == 1 { "true" } else { "false" };
        let fields = vec![
            ("sequence", self.sequence.to_string().into()),
            ("tension", places(tension, 2).into()),
            ("core", core.map_or(String::new(), |core| places(core, 1)).into()),
            ("mode", mode_name.into()),
            ("overload", flag(0).into()),
            ("bridge_open", flag(3).into()),
        ];
        self.sequence = self.sequence.wrapping_add(1);
        let time = BEGIN + i64::from(second) * 1_000_000_000 + i64::from(sample) * 50_000_000;
        packet(time, 1, &data, "sample", fields)
    }

    fn status(&mut self, rng: &mut Rng, second: u32) -> Message {
        let uptime = 3_600 + second;
        let supply = self.supply.next(rng);
        let volts = supply as f32 / 10.0;
        let mut data = b"HRT0042\0".to_vec();
        data.extend_from_slice(&uptime.to_be_bytes());
        data.extend_from_slice(&volts.to_be_bytes());
        let mut peaks = Vec::new();
        let count = rng.u8(0..5);
        data.push(count);
        for _ in 0..count {
            let (age, force) = (rng.u16(0..5_000), rng.i64(9_000..26_500));
            data.extend_from_slice(&age.to_be_bytes());
            data.extend_from_slice(&(force as i32).to_be_bytes()[1..]);
            peaks.push(vec![("age".to_owned(), age.to_string().into()), ("force".to_owned(), places(force, 2).into())]);
        }
        let fields = vec![
            ("serial", "HRT0042".into()),
            ("uptime", uptime.to_string().into()),
            ("supply", places(supply, 1).into()),
            ("peaks", Fact::Items(peaks)),
        ];
        let time = BEGIN + i64::from(second) * 1_000_000_000 + 980_000_000;
        packet(time, 2, &data, "status", fields)
    }
}

fn packet(time: i64, kind: u8, data: &[u8], name: &'static str, fields: Vec<(&'static str, Fact)>) -> Message {
    let mut bytes = vec![0xA5, 0x5A, data.len() as u8 + 1, kind];
    bytes.extend_from_slice(data);
    bytes.extend_from_slice(&crc(&bytes[2..]).to_le_bytes());
    Message {
        time,
        bytes,
        says: Some((name, fields)),
        line_end: 0,
        fragile: false,
        opening: None,
        together: None,
        waits: 0,
    }
}

pub(crate) fn crc(bytes: &[u8]) -> u16 {
    let mut crc = 0xFFFF;
    for &byte in bytes {
        crc ^= u16::from(byte);
        for _ in 0..8 {
            crc = if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 };
        }
    }
    crc
}
