//! Signs that a line was listened to, or recorded, with the wrong settings.

use alloc::vec::Vec;

use super::score::{Heard, other_formats, score};
use super::speed::{Ratio, Speeds};
use super::{is_text, share};
use crate::format::{Parity, Serial};
use crate::input::FaultKind;

/// A sign of wrong settings.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub enum Clue {
    /// It looks like a line of another speed: `ratio` is the line's by that of the recording.
    Speed {
        /// The ratio.
        ratio: Ratio,
        /// Whether it fits well; else it fits best of all that were tried.
        sure: bool,
    },
    /// It looks like an inverted line: high and low are exchanged.
    Inverted,
    /// Seven bits and parity were recorded as eight bits: the eighth bit is the parity.
    SevenBits {
        /// The parity.
        parity: Parity,
        /// Share of characters for which it holds.
        share: f64,
    },
    /// Eight bits and parity were listened to without parity: the stop bit is missing just where a parity bit would be 0.
    EightBitsAndParity {
        /// The parity.
        parity: Parity,
        /// Share of characters for which it holds.
        share: f64,
    },
    /// Many characters have the wrong parity.
    WrongParity {
        /// Their share.
        share: f64,
    },
    /// Many characters lack their stop bit.
    NoStopBit {
        /// Their share.
        share: f64,
    },
}

/// Fewer characters than this say nothing.
const ENOUGH: usize = 48;
/// Ratios of the usual speeds to each other.
const RATIOS: [(u32, u32); 18] = [
    (1, 12),
    (1, 8),
    (1, 6),
    (1, 4),
    (1, 3),
    (1, 2),
    (2, 3),
    (3, 4),
    (5, 6),
    (6, 5),
    (4, 3),
    (3, 2),
    (2, 1),
    (3, 1),
    (4, 1),
    (6, 1),
    (8, 1),
    (12, 1),
];

/// Looks for signs of wrong settings in what was heard; `serial` are the settings that it was heard with, if they are known.
pub fn clues(heard: &Heard, speeds: &mut Speeds) -> Vec<Clue> {
    let characters = &heard.characters[..heard.characters.len().min(2_048)];
    let all = characters.len();
    let mut clues = Vec::new();
    if all < ENOUGH {
        return clues;
    }
    let with = |kinds: &[FaultKind]| {
        let of_kind = characters.iter().filter(|character| character.fault.is_some_and(|fault| kinds.contains(&fault)));
        share(of_kind.count(), all)
    };
    let parity = with(&[FaultKind::Parity]);
    let no_stop = with(&[FaultKind::Framing, FaultKind::Break]);
    if parity > 0.2 {
        clues.push(Clue::WrongParity { share: parity });
    }
    let as_eight = heard.serial.data_bits == 8 && heard.serial.parity == Parity::None;
    let (likeliest, explained): (Serial, f64) = other_formats(heard)[0];
    let distinct = (0..=255).filter(|byte| characters.iter().any(|character| character.byte == *byte)).count();
    if as_eight && explained > 0.97 && distinct >= 12 {
        match (likeliest.data_bits, likeliest.parity) {
            (8, Parity::None) => {}
            (8, parity) if no_stop > 0.1 => {
                clues.push(Clue::EightBitsAndParity { parity, share: explained });
                return clues;
            }
            // Text whose top bit is never set may as well be eight bits.
            (7, parity) if characters.iter().any(|character| character.byte & 0x80 != 0) => {
                clues.push(Clue::SevenBits { parity, share: explained });
                return clues;
            }
            _ => {}
        }
    }
    if no_stop > 0.1 {
        clues.push(Clue::NoStopBit { share: no_stop });
    }
    let text = characters.iter().filter(|character| is_text(character.byte)).count();
    if !as_eight || (no_stop <= 0.1 && (share(text, all) > 0.8 || score(heard).sentences > 0.2)) {
        return clues;
    }
    let mut distance = |ratio, inverted| speeds.distance(characters, ratio, inverted, heard.faults).unwrap_or(9.0);
    let right = distance(Ratio::new(1, 1), false);
    let inverted = distance(Ratio::new(1, 1), true);
    let others = RATIOS.map(|(sender, receiver)| Ratio::new(sender, receiver));
    let nearest = others.map(|ratio| (ratio, distance(ratio, false)));
    let Some((ratio, other)) = nearest.into_iter().min_by(|(_, one), (_, other)| one.total_cmp(other)) else {
        return clues;
    };
    // It must be near to what would be heard, and clearly nearer than to what any data sent at the right speed is.
    // Where stop bits are missing, something is wrong, and less is needed to say what.
    let plain = |distance: f64| match no_stop > 0.1 {
        true => distance < 2.2 && right > distance + 0.3,
        false => distance < 1.3 && right > distance + 0.7,
    };
    if inverted < other && plain(inverted) {
        clues.push(Clue::Inverted);
    } else if plain(other) && distinct >= 2 {
        clues.push(Clue::Speed { ratio, sure: other < 1.3 });
    }
    clues
}
