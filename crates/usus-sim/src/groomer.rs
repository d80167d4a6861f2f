//! The receiver in the snow groomer: sentences with its course, packets with the satellites that it hears, and what its driver's box prints, one behind the
//! other without anything between.
//!
//! A packet is C5 5C, its length (low byte first), a type, the time in decimal digits, how many satellites there are, five bytes for each (number,
//! elevation, then nine bits of azimuth, seven of signal and eight of age, from the highest bit on), and a CRC-16 (polynomial 1021) over all before it, high byte first.

use fastrand::Rng;

use crate::{BEGIN, Fact, Message, Model, Wander, places};

pub(crate) struct Receiver {
    /// Tenths of a degree.
    course: Wander,
    /// Hundredths of a knot.
    speed: Wander,
    /// Per cent.
    blade: Wander,
}

impl Receiver {
    pub(crate) fn new(rng: &mut Rng) -> Receiver {
        Receiver {
            course: Wander::new(rng.i64(0..3_600), 0, 3_599, 120),
            speed: Wander::new(540, 0, 1_200, 40),
            blade: Wander::new(35, 0, 100, 9),
        }
    }

    fn satellites(&self, rng: &mut Rng, time: i64, second: u32) -> Message {
        let bcd = |number: u32| (16 * (number / 10) + number % 10) as u8;
        let [hour, minute, last] = [6 + second / 3_600, second / 60 % 60, second % 60];
        let count = rng.u8(0..9);
        let mut bytes = vec![0xC5, 0x5C, 0, 0, 3, bcd(hour), bcd(minute), bcd(last), count];
        let mut items = Vec::new();
        for _ in 0..count {
            let (id, elevation) = (rng.u8(1..64), rng.i8(-5..=90));
            let (azimuth, signal, age) = (rng.u32(0..360), rng.u32(0..60), rng.u32(0..250));
            bytes.extend([id, elevation as u8]);
            bytes.extend_from_slice(&(azimuth << 15 | signal << 8 | age).to_be_bytes()[1..]);
            let text = |number: u32| Fact::from(number.to_string());
            items.push(vec![
                ("id".to_owned(), text(id.into())),
                ("elevation".to_owned(), elevation.to_string().into()),
                ("azimuth".to_owned(), text(azimuth)),
                ("signal".to_owned(), if signal == 0 { "".into() } else { text(signal) }),
                ("age".to_owned(), places(age.into(), 1).into()),
            ]);
        }
        let length = bytes.len() as u16 + 2;
        bytes[2..4].copy_from_slice(&length.to_le_bytes());
        bytes.extend_from_slice(&crc(&bytes).to_be_bytes());
        let fields =
            vec![("time", format!("{hour:02}:{minute:02}:{last:02}").into()), ("satellites", Fact::Items(items))];
        Message::new(time, bytes, Some(("sky", fields)))
    }
}

impl Model for Receiver {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let time = BEGIN + i64::from(second) * 1_000_000_000 + 200_000_000;
        let (course, speed) = (places(self.course.next(rng), 1), places(self.speed.next(rng), 2));
        let fields = vec![("course", course.clone().into()), ("speed", speed.clone().into())];
        let text = format!("GNVTG,{course},T,,M,{speed},N,,K,A");
        let mut messages = vec![Message::sentence(time, &text, Some(("course", fields)))];
        // At once behind the sentence, and behind each other.
        messages.push(self.satellites(rng, time + 50_000_000, second));
        if second % 3 == 1 {
            let (state, blade) = (rng.choice(["down", "up", "float"]).unwrap_or_default(), self.blade.next(rng));
            let fields = vec![("state", state.into()), ("tilt", blade.to_string().into())];
            let bytes = format!("BLADE {state}, tilt {blade} %\r\n").into_bytes();
            let time = time + 120_000_000;
            messages.push(Message {
                time,
                bytes,
                says: Some(("blade", fields)),
                line_end: 2,
                fragile: true,
                opening: None,
                together: None,
                waits: 0,
            });
        }
        messages
    }
}

/// The CRC of XMODEM.
pub(crate) fn crc(bytes: &[u8]) -> u16 {
    let mut crc = 0u16;
    for byte in bytes {
        crc ^= u16::from(*byte) << 8;
        for _ in 0..8 {
            crc = if crc >> 15 == 1 { crc << 1 ^ 0x1021 } else { crc << 1 };
        }
    }
    crc
}
