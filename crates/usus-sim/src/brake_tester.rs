//! The brake tester: every four seconds a block of report text for humans, in lines that CR and LF end.

use fastrand::Rng;

use crate::{BEGIN, Message, Model, Wander, places};

pub(crate) struct Tester {
    test: u32,
    /// Tenths of a kilonewton, of three brakes.
    force: [Wander; 3],
    /// Milliseconds.
    delay: Wander,
}

impl Tester {
    pub(crate) fn new(rng: &mut Rng) -> Tester {
        let test = rng.u32(100..900);
        let force = [417, 402, 396].map(|start| Wander::new(start, 250, 600, 9));
        Tester { test, force, delay: Wander::new(180, 90, 400, 12) }
    }
}

impl Model for Tester {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        if !second.is_multiple_of(4) {
            return Vec::new();
        }
        let time = BEGIN + i64::from(second) * 1_000_000_000;
        self.test += 1;
        let mut lines = vec![format!("Brake test {}", self.test)];
        for (index, force) in self.force.iter_mut().enumerate() {
            lines.push(format!("Brake {} force: {} kN", index + 1, places(force.next(rng), 1)));
        }
        lines.push(format!("Delay: {} ms", self.delay.next(rng)));
        lines.push(if rng.u32(0..12) == 0 { "Result: REPEAT" } else { "Result: PASS" }.to_owned());
        let line = |(index, text): (usize, String)| Message {
            time: time + index as i64 * 150_000_000,
            bytes: format!("{text}\r\n").into_bytes(),
            says: None,
            line_end: 2,
            fragile: true,
        };
        lines.into_iter().enumerate().map(line).collect()
    }
}
