//! The cabin doors: a controller asks each for its state and its load, on a bus in ASCII of which question and answer have a wire each.
//!
//! A question is `?`, two digits of the door, and `S` or `W`; an answer `=`, the door, and what it says; `!` and a number instead of `=` is an error. Behind a `*` stand
//! two hex digits: all characters before it, combined by exclusive or. CR ends each. Door 03 is switched off for a while, and then asked again at once.

use fastrand::Rng;

use crate::Device;
use crate::{BEGIN, Fact, Faults, Message, Model, Recording, Truth, Wander, places, record};

/// One wire of the conversation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wire {
    Questions,
    Answers,
}

pub(crate) struct Doors {
    wire: Wire,
    /// Tenths of a kilogram, of four doors.
    load: [Wander; 4],
    number: u64,
}

/// How many seconds of each minute the third door is switched off, from the tenth on.
const OFF: std::ops::Range<u32> = 10..18;

impl Doors {
    pub(crate) fn new(rng: &mut Rng, wire: Wire) -> Doors {
        let load = std::array::from_fn(|_| Wander::new(rng.i64(400..6_000), -20, 9_000, 400));
        Doors { wire, load, number: 0 }
    }

    /// Asks at `time`. Both wires go through the same chances, and each keeps what it carries.
    fn ask(&mut self, rng: &mut Rng, time: i64, door: usize, command: char, is_off: bool, messages: &mut Vec<Message>) {
        let question = message(time, &format!("?{door:02}{command}"));
        let load = self.load[door - 1].next(rng);
        let (is_busy, is_open, thinks) = (rng.u32(0..25) == 0, rng.bool(), rng.i64(4..30));
        let (state, weight, error, answer) = match (is_busy, command) {
            (true, _) => ("", String::new(), "busy", format!("!{door:02}5")),
            (_, 'S') if is_open => ("open", String::new(), "", format!("={door:02}3")),
            (_, 'S') => ("shut", String::new(), "", format!("={door:02}0")),
            _ => ("", places(load, 1), "", format!("={door:02},{}", places(load, 1))),
        };
        self.number += 1;
        let fields: Vec<(&'static str, Fact)> = vec![
            ("door", format!("{door:02}").into()),
            ("command", command.to_string().into()),
            ("state", state.into()),
            ("weight", weight.into()),
            ("error", error.into()),
            ("outcome", if error.is_empty() { "answered" } else { "error" }.into()),
            ("latency", "".into()),
            // The same is never asked twice in a row.
            ("retry", "".into()),
        ];
        match self.wire {
            Wire::Questions => messages.push(with_sum(question.together(self.number, Some(("door", fields))))),
            Wire::Answers if is_off => {}
            Wire::Answers => {
                // The bus takes 1.04 ms for each of the question's characters, of which there are eight.
                let time = time + 8_400_000 + thinks * 1_000_000;
                let says = Some(("door", Vec::new()));
                messages.push(with_sum(message(time, &answer).together(self.number, says)));
            }
        }
    }
}

/// Its checksum vouches for a line; but it is lost with whatever is damaged just before it.
fn with_sum(mut message: Message) -> Message {
    message.together.iter_mut().for_each(|together| together.has_sum = true);
    message
}

fn message(time: i64, text: &str) -> Message {
    let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
    let bytes = format!("{text}*{sum:02X}\r").into_bytes();
    Message { time, bytes, says: None, line_end: 1, fragile: true, opening: None, together: None, waits: 0 }
}

impl Model for Doors {
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message> {
        let mut messages = Vec::new();
        let begin = BEGIN + i64::from(second) * 1_000_000_000;
        let command = if second.is_multiple_of(2) { 'S' } else { 'W' };
        for door in 1..=4 {
            let time = begin + door as i64 * 200_000_000;
            let is_off = door == 3 && OFF.contains(&(second % 60));
            self.ask(rng, time, door, command, is_off, &mut messages);
        }
        messages
    }
}

/// What was said on both wires of a conversation, as it was received, and what it says together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conversation {
    /// The wire of the questions.
    pub questions: Recording,
    /// The wire of the answers.
    pub answers: Recording,
    /// For each question that arrived whole, what it and its answer say, at the question's place.
    pub truth: Vec<Truth>,
}

/// Simulates so many seconds of the polled doors, each wire received with those faults.
///
/// ```
/// let talk = usus_sim::converse(7, 30, &usus_sim::Faults::none());
/// assert!(talk.questions.bytes().starts_with(b"?01S*"));
/// assert_eq!(talk.truth.len(), 120);
/// ```
pub fn converse(seed: u64, seconds: u32, faults: &Faults) -> Conversation {
    let [mut questions, mut answers] =
        [Device::DoorQuestions, Device::DoorAnswers].map(|wire| record(wire, seed, seconds, faults));
    let mut truth = Vec::new();
    // Both have numbered what they say alike.
    let answered = core::mem::take(&mut answers.truth);
    for asked in core::mem::take(&mut questions.truth) {
        let answer = answered.iter().find(|answer| answer.id == asked.id);
        let latency = answer.and_then(|answer| {
            let asked = arrival(&questions, asked.offset? + asked.length - 1)?;
            Some(arrival(&answers, answer.offset?)? - asked)
        });
        truth.push(asked.answered_by(answer, latency));
    }
    Conversation { questions, answers, truth }
}

/// When a byte arrived.
fn arrival(recording: &Recording, offset: u64) -> Option<i64> {
    let mut end = 0;
    let holds = |chunk: &&crate::TimedBytes| {
        end += chunk.bytes.len() as u64;
        end > offset
    };
    recording.chunks.iter().find(holds).map(|chunk| chunk.time)
}

impl Truth {
    /// What a question says with its answer, if that was sent. Of one whose answer was damaged it is not known where, or whether, that is told.
    fn answered_by(self, answer: Option<&Truth>, latency: Option<i64>) -> Truth {
        let without = |(name, fact): &(&'static str, Fact)| match *name {
            "state" | "weight" | "error" => (*name, "".into()),
            "outcome" => (*name, "no_answer".into()),
            _ => (*name, fact.clone()),
        };
        let with_latency = |(name, fact): &(&'static str, Fact)| match (*name, latency) {
            // Milliseconds, in whole microseconds.
            ("latency", Some(latency)) => (*name, places(latency / 1_000, 3).into()),
            _ => (*name, fact.clone()),
        };
        let (offset, fields) = match answer {
            None => (self.offset, self.fields.iter().map(without).collect()),
            Some(answer) => (answer.offset.and(self.offset), self.fields.iter().map(with_latency).collect()),
        };
        Truth { offset, fields, ..self }
    }
}
