//! The valley station's line: the weather box's sentences with the anchor-load unit's packets between them, and what both print
//! while they boot.
//!
//! A packet is 7E 81, a counter, the loads of the north and south anchor in newtons (all low byte first), and the sum of those bytes,
//! high byte first.

use fastrand::Rng;

use crate::{BEGIN, Message, Model, Wander, half_even, places};

pub(crate) struct Station {
    count: u16,
    /// Newtons.
    north: Wander,
    south: Wander,
    /// Tenths of a degree.
    angle: Wander,
    /// Tenths of a kilometre per hour.
    speed: Wander,
}

impl Model for Station {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let mut messages = Vec::new();
        let time = BEGIN + i64::from(second) * 1_000_000_000;
        // Both units are switched off and on for lubrication.
        if second.is_multiple_of(240) {
            messages.extend(boot(time));
        }
        for tenth in 0..10 {
            messages.push(self.load(rng, time + tenth * 100_000_000));
            if tenth == 4 {
                messages.push(self.wind(rng, time + 410_000_000, second));
            }
        }
        if second % 5 == 2 {
            let air = places(rng.i64(-80..120), 1);
            messages.push(Message::sentence(time + 950_000_000, &format!("VSXDR,C,{air},C,hall"), None));
        }
        if second % 30 == 29 {
            messages.push(line(time + 960_000_000, "# lubricator: stroke counted", None));
        }
        messages
    }
}

impl Station {
    pub(crate) fn new(rng: &mut Rng) -> Station {
        Station {
            count: rng.u16(..),
            north: Wander::new(412_000, -5_000, 900_000, 900),
            south: Wander::new(398_000, -5_000, 900_000, 900),
            angle: Wander::new(450, 0, 3_599, 60),
            speed: Wander::new(110, 0, 900, 15),
        }
    }

    fn load(&mut self, rng: &mut Rng, time: i64) -> Message {
        let (north, south) = (self.north.next(rng), self.south.next(rng));
        let mut bytes = vec![0x7E, 0x81];
        bytes.extend_from_slice(&self.count.to_le_bytes());
        bytes.extend_from_slice(&(north as i32).to_le_bytes());
        bytes.extend_from_slice(&(south as i32).to_le_bytes());
        let sum = bytes[2..].iter().fold(0u16, |sum, byte| sum.wrapping_add(u16::from(*byte)));
        bytes.extend_from_slice(&sum.to_be_bytes());
        let fields = vec![
            ("count", self.count.to_string().into()),
            ("north", places(north, 3).into()),
            ("south", places(south, 3).into()),
        ];
        self.count = self.count.wrapping_add(1);
        Message {
            time,
            bytes,
            says: Some(("load", fields)),
            line_end: 0,
            fragile: false,
            opening: None,
            together: None,
            waits: 0,
        }
    }

    /// The weather box is set to kilometres per hour; on each fourth minute somebody has set it to metres per second, on each fifth to
    /// knots.
    fn wind(&mut self, rng: &mut Rng, time: i64, second: u32) -> Message {
        let (angle, speed) = (places(self.angle.next(rng), 1), self.speed.next(rng));
        let minute = second / 60;
        let (letter, metres_per_second) = if minute % 5 == 4 {
            ("N", places(half_even(speed * 1_852 * 1_000, 3_600), 4))
        } else if minute % 4 == 3 {
            ("M", places(speed, 1))
        } else {
            ("K", places(half_even(speed * 10_000, 36), 4))
        };
        let fields = vec![
            ("angle", angle.clone().into()),
            ("reference", "relative".into()),
            ("speed", metres_per_second.into()),
            ("status", "valid".into()),
        ];
        let text = format!("VSMWV,{angle},R,{},{letter},A", places(speed, 1));
        Message::sentence(time, &text, Some(("wind", fields)))
    }
}

fn boot(time: i64) -> Vec<Message> {
    [("anchor", "self test passed"), ("weather", "firmware 4.2, heater fitted"), ("anchor", "zero -0.013 kN")]
        .into_iter()
        .map(|(unit, message)| {
            line(time, &format!("boot {unit}: {message}"), Some((format!("boot {unit}"), format!(" {message}"))))
        })
        .collect()
}

fn line(time: i64, text: &str, says: Option<(String, String)>) -> Message {
    let says = says.map(|(unit, message)| ("boot", vec![("unit_name", unit.into()), ("message", message.into())]));
    Message::line(time, text, says)
}
