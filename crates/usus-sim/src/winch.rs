//! The winch's telemetry: SLIP frames of a type and items, each a tag, how many bytes follow, and a value; which ones come differs from frame to frame. A CRC-16
//! (polynomial 1021, high byte first) covers the contents.

use fastrand::Rng;

use crate::groomer::crc;
use crate::{BEGIN, Fact, Message, Model, Wander, places};

pub(crate) struct Winch {
    /// Millimetres.
    rope: Wander,
    /// Tenths of a degree.
    oil: Wander,
    count: u16,
}

impl Winch {
    pub(crate) fn new(rng: &mut Rng) -> Winch {
        Winch {
            rope: Wander::new(rng.i64(0..900_000), 0, 1_200_000, 4_000),
            oil: Wander::new(412, -200, 980, 5),
            count: 0,
        }
    }

    fn state(&mut self, rng: &mut Rng, time: i64) -> Message {
        let mut contents = vec![1];
        contents.extend_from_slice(&self.count.to_be_bytes());
        let mut items = Vec::new();
        for tag in [1u8, 2, 3, 4, 9] {
            // The first always comes.
            if tag > 1 && rng.bool() {
                continue;
            }
            let (name, value, said) = match tag {
                1 => {
                    let rope = self.rope.next(rng);
                    ("rope", (rope as u32).to_be_bytes().to_vec(), ("rope", places(rope, 3)))
                }
                2 => {
                    let oil = self.oil.next(rng);
                    ("oil", (oil as i16).to_be_bytes().to_vec(), ("oil", places(oil, 1)))
                }
                3 => {
                    let state = rng.usize(0..3);
                    ("state", vec![state as u8], ("state", ["stop", "haul", "pay out"][state].to_owned()))
                }
                4 => {
                    let note = rng.choice(["", "slack", "brake hot"]).unwrap_or_default();
                    ("note", note.as_bytes().to_vec(), ("note", note.to_owned()))
                }
                // Nobody has told what this one is.
                _ => (
                    "9",
                    (0..rng.usize(0..5)).map(|_| rng.choice([0xC0, 0xDB, 7]).unwrap_or(0)).collect(),
                    ("", String::new()),
                ),
            };
            contents.extend([tag, value.len() as u8]);
            contents.extend(value);
            let mut item = vec![("tag".to_owned(), Fact::from(name))];
            for field in ["rope", "oil", "state", "note"] {
                let text = if said.0 == field { said.1.clone() } else { String::new() };
                item.push((field.to_owned(), text.into()));
            }
            items.push(item);
        }
        let fields = vec![("count", self.count.to_string().into()), ("items", Fact::Items(items))];
        self.count = self.count.wrapping_add(1);
        let check = crc(&contents);
        contents.extend_from_slice(&check.to_be_bytes());
        Message { opening: Some(END), ..Message::new(time, slip(&contents), Some(("state", fields))) }
    }
}

impl Model for Winch {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let time = BEGIN + i64::from(second) * 1_000_000_000;
        (0..4).map(|quarter| self.state(rng, time + quarter * 250_000_000)).collect()
    }
}

/// What stands between frames.
const END: u8 = 0xC0;

/// A frame with an END before it and one behind it.
fn slip(contents: &[u8]) -> Vec<u8> {
    let mut sent = vec![END];
    for byte in contents {
        match *byte {
            END => sent.extend([0xDB, 0xDC]),
            0xDB => sent.extend([0xDB, 0xDD]),
            byte => sent.push(byte),
        }
    }
    sent.push(END);
    sent
}
