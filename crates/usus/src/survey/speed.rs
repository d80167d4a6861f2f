//! At which speed a line would have to be sent to be heard as it was: what a receiver would hear of text and of binary data at other
//! speeds, held against what was heard.
//!
//! For each ratio of speeds, typical bytes are sent over a wire and received; how often each character comes is a distribution. The
//! one that is nearest to what was heard (by relative entropy: the information lost, in nats a character, when it is taken for the other)
//! is the likeliest. Text and binary data of several character formats are tried for each.

use alloc::boxed::Box;
use alloc::vec;
use alloc::vec::Vec;

use super::Character;
use super::levels::{Sending, changes, receive};
use crate::format::Parity;
use crate::input::FaultKind;
use crate::logarithm::ln;

/// The speed of a sender by that of the receiver.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ratio {
    /// The sender's bits…
    pub sender: u32,
    /// …in the time of so many of the receiver's.
    pub receiver: u32,
}

impl Ratio {
    /// The ratio of two speeds, in lowest terms.
    pub fn new(sender: u32, receiver: u32) -> Ratio {
        let (mut one, mut other) = (sender.max(1), receiver.max(1));
        while other != 0 {
            (one, other) = (other, one % other);
        }
        Ratio { sender: sender.max(1) / one, receiver: receiver.max(1) / one }
    }

    fn value(self) -> f64 {
        f64::from(self.sender) / f64::from(self.receiver)
    }

    fn is_one(self) -> bool {
        self.sender == self.receiver
    }
}

/// A byte that is sound, one with a wrong stop bit, and a break.
const SYMBOLS: usize = 513;

fn symbol(character: Character) -> usize {
    match character.fault {
        Some(FaultKind::Break) => 512,
        Some(FaultKind::Framing) => 256 + usize::from(character.byte),
        _ => usize::from(character.byte),
    }
}

/// How often each character comes.
type Distribution = Box<[f32; SYMBOLS]>;

/// What would be heard at one ratio, of each sort of data.
struct Model {
    ratio: Ratio,
    inverted: bool,
    distributions: Vec<Distribution>,
}

/// What would be heard at several ratios of speeds. Making a model takes some milliseconds: keep it.
#[derive(Default)]
pub struct Speeds {
    models: Vec<Model>,
}

/// Characters that are sent for a model.
const SENT: usize = 2_400;
/// The character formats that are tried.
const FORMATS: [(u8, Parity); 5] =
    [(8, Parity::None), (7, Parity::Even), (7, Parity::Odd), (8, Parity::Even), (8, Parity::Odd)];

impl Speeds {
    /// Without a model.
    pub fn new() -> Speeds {
        Speeds::default()
    }

    /// How far what was heard is from what would be heard at that ratio, in nats a character: 0 is the same, 1 near, 4 far. Nothing if
    /// so little was heard that it means nothing. `faults` says whether the receiver tells faults.
    pub fn distance(&mut self, heard: &[Character], ratio: Ratio, inverted: bool, faults: bool) -> Option<f64> {
        if heard.len() < 16 {
            return None;
        }
        let mut counts = [0u32; SYMBOLS];
        heard.iter().for_each(|character| counts[symbol(*character)] += 1);
        if !faults {
            forget_faults_counted(&mut counts);
        }
        let model = self.model(ratio, inverted);
        let distances = model.distributions.iter().map(|expected| distance(&counts, heard.len(), expected, faults));
        distances.min_by(f64::total_cmp)
    }

    fn model(&mut self, ratio: Ratio, inverted: bool) -> &Model {
        let known = self.models.iter().position(|model| model.ratio == ratio && model.inverted == inverted);
        let index = known.unwrap_or_else(|| {
            self.models.push(model(ratio, inverted));
            self.models.len() - 1
        });
        &self.models[index]
    }
}

fn forget_faults_counted(counts: &mut [u32; SYMBOLS]) {
    for byte in 0..256 {
        counts[byte] += core::mem::take(&mut counts[256 + byte]);
    }
    counts[0] += core::mem::take(&mut counts[512]);
}

/// Relative entropy of what was heard to a distribution. Few characters look richer than they are; that is taken off.
fn distance(counts: &[u32; SYMBOLS], heard: usize, expected: &[f32; SYMBOLS], faults: bool) -> f64 {
    let heard = heard as f64;
    let (mut sum, mut distinct) = (0.0, 0.0);
    for (symbol, &count) in counts.iter().enumerate().filter(|(_, count)| **count > 0) {
        let expected = match (faults, symbol) {
            (true, symbol) => expected[symbol],
            (false, 0) => expected[0] + expected[256] + expected[512],
            (false, byte) => expected[byte] + expected[256 + byte],
        };
        let share = f64::from(count) / heard;
        sum += share * ln(share / f64::from(expected));
        distinct += 1.0;
    }
    (sum - distinct / (2.0 * heard)).max(0.0)
}

fn model(ratio: Ratio, inverted: bool) -> Model {
    let mut distributions = Vec::new();
    let contents: &[fn(&mut Chance) -> u8] = &[text_byte, plain_byte, small_byte];
    for &(data_bits, parity) in &FORMATS {
        let sending = Sending { data_bits, parity, inverted };
        for (index, content) in contents.iter().enumerate() {
            // Seven bits are for text.
            if data_bits == 7 && index > 0 {
                continue;
            }
            distributions.push(distribution(ratio, sending, *content));
        }
    }
    Model { ratio, inverted, distributions }
}

fn distribution(ratio: Ratio, sending: Sending, content: fn(&mut Chance) -> u8) -> Distribution {
    let mut chance = Chance(0x1234_5678_9ABC_DEF1);
    let bytes: Vec<u8> = (0..SENT).map(|_| content(&mut chance)).collect();
    // Bytes follow each other at once, but for a rest now and then.
    let rest = ratio.value() * 12.0;
    let levels = changes(&bytes, sending, &mut || match chance.below(24) {
        0 => rest + f64::from(chance.below(100)) / 16.0,
        _ => 0.0,
    });
    let heard = match ratio.is_one() && !inverted_or_parity(sending) {
        // At the right speed bytes are what they are.
        true => bytes.into_iter().map(Character::sound).collect(),
        false => receive(&levels, ratio.value()),
    };
    // What was never heard in the trial is still possible, once in a while.
    let floor = 0.003 / SYMBOLS as f32;
    let mut shares: Distribution =
        vec![floor; SYMBOLS].into_boxed_slice().try_into().unwrap_or_else(|_| Box::new([floor; SYMBOLS]));
    for character in &heard {
        shares[symbol(*character)] += 0.997 / heard.len().max(1) as f32;
    }
    shares
}

fn inverted_or_parity(sending: Sending) -> bool {
    sending.inverted || sending.parity != Parity::None
}

/// Text as devices send it: digits most, capitals, small letters, commas and points, line ends.
fn text_byte(chance: &mut Chance) -> u8 {
    match chance.below(100) {
        0..42 => b'0' + chance.below(10) as u8,
        42..58 => b'A' + chance.below(26) as u8,
        58..68 => b'a' + chance.below(26) as u8,
        68..80 => b",."[chance.below(2) as usize],
        80..87 => b' ',
        87..94 => b"$*:;=-+/"[chance.below(8) as usize],
        94..97 => b'\r',
        _ => b'\n',
    }
}

/// Any byte as often as any other.
fn plain_byte(chance: &mut Chance) -> u8 {
    chance.below(256) as u8
}

/// Numbers of several bytes, whose high ones are nearly nothing.
fn small_byte(chance: &mut Chance) -> u8 {
    match chance.below(10) {
        0..3 => chance.below(4) as u8,
        3 => 0xFF,
        _ => chance.below(256) as u8,
    }
}

/// The same numbers every time (Marsaglia's xorshift).
struct Chance(u64);

impl Chance {
    fn below(&mut self, bound: u32) -> u32 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        ((self.0 >> 33) % u64::from(bound)) as u32
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ratios_are_in_lowest_terms() {
        assert_eq!(Ratio::new(4_800, 115_200), Ratio { sender: 1, receiver: 24 });
        assert_eq!(Ratio::new(57_600, 38_400), Ratio { sender: 3, receiver: 2 });
    }
}
