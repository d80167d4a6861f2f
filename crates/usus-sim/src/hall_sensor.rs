//! The sensor in the station hall: every two seconds a line of keys with their values, in whatever order it happens to have them. What it has not
//! measured it leaves out, or leaves empty.

use fastrand::Rng;

use crate::{BEGIN, Message, Model, Wander, places};

pub(crate) struct Sensor {
    /// Tenths of a degree.
    temperature: Wander,
    /// Per cent.
    humidity: Wander,
    /// Parts per million.
    carbon_dioxide: Wander,
}

impl Sensor {
    pub(crate) fn new(rng: &mut Rng) -> Sensor {
        Sensor {
            temperature: Wander::new(rng.i64(120..220), -80, 320, 2),
            humidity: Wander::new(41, 15, 98, 1),
            carbon_dioxide: Wander::new(612, 400, 2_400, 25),
        }
    }
}

impl Model for Sensor {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        if !second.is_multiple_of(2) {
            return Vec::new();
        }
        let temperature = places(self.temperature.next(rng), 1);
        let has_humidity = rng.u32(0..4) > 0;
        let humidity = if has_humidity { self.humidity.next(rng).to_string() } else { String::new() };
        let carbon_dioxide = self.carbon_dioxide.next(rng);
        let is_warm = second >= 10;
        let gate = rng.choice(["west", "east gate", "goods \"B\""]).unwrap_or_default();
        let door = rng.choice(["open", "shut"]).unwrap_or_default();
        let mut pairs = vec![
            format!("temp={temperature}C"),
            // It warms up before it measures that.
            if is_warm { format!("co2={carbon_dioxide}") } else { "co2=".to_owned() },
            match gate {
                "west" => "gate=west".to_owned(),
                other => format!("gate=\"{}\"", other.replace('"', "\"\"")),
            },
            format!("door={}", if door == "open" { "1" } else { "0" }),
        ];
        if has_humidity {
            pairs.push(format!("hum={humidity}%"));
        }
        rng.shuffle(&mut pairs);
        let fields = vec![
            ("temperature", temperature.into()),
            ("humidity", humidity.into()),
            ("co2", if is_warm { carbon_dioxide.to_string() } else { String::new() }.into()),
            ("gate", gate.into()),
            ("door", door.into()),
        ];
        let bytes = format!("{}\r\n", pairs.join(" ")).into_bytes();
        let time = BEGIN + i64::from(second) * 1_000_000_000 + 120_000_000;
        vec![Message {
            time,
            bytes,
            says: Some(("air", fields)),
            line_end: 2,
            fragile: true,
            opening: None,
            together: None,
            waits: 0,
        }]
    }
}
