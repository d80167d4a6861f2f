//! The brake tester: every four seconds a block of report text for humans, in lines that CR and LF end; and between the blocks, when somebody
//! asks for it at its keyboard, the reading of a single brake, at length for people or shortly for machines. What is typed comes back as an echo.

use fastrand::Rng;

use crate::{BEGIN, Fact, Message, Model, Wander, places};

pub(crate) struct Tester {
    test: u32,
    /// Tenths of a kilonewton, of three brakes.
    force: [Wander; 3],
    /// Milliseconds.
    delay: Wander,
    /// The number of the next reading.
    reading: u32,
    /// Millimetres a second.
    speed: Wander,
    /// Whether readings are printed shortly.
    is_short: bool,
}

impl Tester {
    pub(crate) fn new(rng: &mut Rng) -> Tester {
        let test = rng.u32(100..900);
        let force = [417, 402, 396].map(|start| Wander::new(start, 250, 600, 9));
        let (delay, speed) = (Wander::new(180, 90, 400, 12), Wander::new(2_300, 0, 5_000, 200));
        Tester { test, force, delay, reading: rng.u32(1..999), speed, is_short: false }
    }

    /// All brakes in one go, with their sum at the end. Now and then something is typed meanwhile.
    fn report(&mut self, rng: &mut Rng, time: i64) -> Message {
        self.test += 1;
        let mut lines = vec![format!("Brake test {}", self.test)];
        let (mut tests, mut together) = (Vec::new(), 0);
        for (index, force) in self.force.iter_mut().enumerate() {
            let tenths = force.next(rng);
            together += tenths;
            let (brake, force) = ((index + 1).to_string(), places(tenths, 1));
            lines.push(format!("Brake {brake} force: {force} kN"));
            tests.push(vec![("brake".to_owned(), brake.into()), ("force".to_owned(), force.into())]);
            if rng.u32(0..8) == 0 {
                lines.push("> light".to_owned());
            }
        }
        let delay = self.delay.next(rng).to_string();
        let is_slow = rng.u32(0..3) == 0;
        if is_slow {
            lines.push(format!("Delay: {delay} ms"));
        }
        lines.push(format!("Total: {} brakes, {} kN", tests.len(), places(together, 1)));
        let result = if rng.u32(0..12) == 0 { "REPEAT" } else { "PASS" };
        lines.push(format!("Result: {result}"));
        let fields = vec![
            ("test", self.test.to_string().into()),
            ("tests", Fact::Items(tests)),
            ("delay", if is_slow { delay } else { String::new() }.into()),
            ("result", if result == "PASS" { "pass" } else { "repeat" }.into()),
        ];
        Message::line(time, &lines.join("\r\n"), Some(("report", fields)))
    }

    /// Somebody asks for a reading, and sometimes for the other way to print it before.
    fn single(&mut self, rng: &mut Rng, time: i64) -> Vec<Message> {
        let brake = rng.usize(0..3);
        let mut messages = Vec::new();
        if rng.u32(0..3) == 0 {
            self.is_short = !self.is_short;
            messages.push(Message::line(time, if self.is_short { "> short" } else { "> long" }, None));
        }
        messages.push(Message::line(time + 400_000_000, &format!("> read {}", brake + 1), None));
        // Tenths of a kilonewton, millimetres a second, tenths of a degree.
        let (force, speed) = (self.force[brake].next(rng), self.speed.next(rng));
        let pads = (rng.u32(0..4) > 0).then(|| rng.i64(-50..1_200));
        let state = rng.choice(["", "", "wet", "worn"]).unwrap_or_default();
        let number = self.reading;
        self.reading = if number == 999 { 0 } else { number + 1 };
        let pads_text = pads.map_or(String::new(), |pads| places(pads, 1));
        let (text, force_text, speed_text) = if self.is_short {
            let letter = match state {
                "wet" => "W",
                "worn" => "N",
                _ => "",
            };
            let text = format!("{number};{};{};{speed};{pads_text};{letter}", brake + 1, force * 100);
            (text, places(force * 100, 3), places(speed, 3))
        } else {
            // At length, the speed is printed in whole centimetres a second.
            let (force, speed) = (places(force, 1), places(speed / 10, 2));
            let mut text = format!("Reading {number}: brake {} holds {force} kN at {speed} m/s", brake + 1);
            if pads.is_some() {
                text += &format!(", pads {pads_text} C");
            }
            if !state.is_empty() {
                text += &format!(", {state}");
            }
            (text, force, speed)
        };
        let fields = vec![
            ("number", number.to_string().into()),
            ("brake", (brake + 1).to_string().into()),
            ("force", force_text.into()),
            ("speed", speed_text.into()),
            ("pads", pads_text.into()),
            ("state", state.into()),
        ];
        messages.push(Message::line(time + 800_000_000, &text, Some(("reading", fields))));
        messages
    }
}

impl Model for Tester {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let time = BEGIN + i64::from(second) * 1_000_000_000;
        if second % 4 == 2 {
            return self.single(rng, time);
        }
        if !second.is_multiple_of(4) {
            return Vec::new();
        }
        vec![self.report(rng, time)]
    }
}
