//! How well what was heard goes with the settings that it was heard with, and which other character formats would explain it.

use alloc::vec::Vec;

use super::{Character, is_text, share};
use crate::format::{Parity, Serial};
use crate::input::FaultKind;

/// What was heard with some settings.
#[derive(Clone, Debug)]
pub struct Heard {
    /// The settings.
    pub serial: Serial,
    /// The characters.
    pub characters: Vec<Character>,
    /// Whether the receiver tells faults.
    pub faults: bool,
}

/// Evidence for settings. Shares are from 0 to 1.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Score {
    /// Characters that it rests on.
    pub characters: usize,
    /// Share that is sound: right stop bit, right parity.
    pub sound: f64,
    /// Share that is text.
    pub text: f64,
    /// Share that belongs to sentences whose checksum holds.
    pub sentences: f64,
    /// Line ends among a hundred characters.
    pub line_ends: f64,
    /// Share of three bytes in a row that came before.
    pub repeated: f64,
    /// All of it, from 0 to 100.
    pub points: f64,
}

/// Looks for evidence in what was heard.
pub fn score(heard: &Heard) -> Score {
    let characters = &heard.characters;
    let mask = (0xFF_u16 >> (8 - heard.serial.data_bits.clamp(5, 8))) as u8;
    let bytes: Vec<u8> = characters.iter().map(|character| character.byte & mask).collect();
    let sound = characters.iter().filter(|character| character.fault.is_none()).count();
    let text = characters.iter().zip(&bytes).filter(|(character, byte)| character.fault.is_none() && is_text(**byte));
    let mut score = Score {
        characters: bytes.len(),
        sound: share(sound, bytes.len()),
        text: share(text.count(), bytes.len()),
        sentences: share(sentence_bytes(&bytes), bytes.len()),
        line_ends: 100.0 * share(line_ends(&bytes), bytes.len()),
        repeated: repeated(&bytes),
        points: 0.0,
    };
    // Faults weigh most: with the right settings there are next to none. Text is what chance makes least often; binary data can only be
    // told by what repeats in it.
    let text = if score.line_ends > 0.3 { score.text } else { score.text * 0.9 };
    let content = (text * text).max(0.4 + 0.4 * score.repeated).max(score.sentences);
    let enough = (score.characters as f64 / 24.0).min(1.0);
    score.points = 100.0 * score.sound * score.sound * content * enough;
    score
}

/// How well the character formats that could be heard as eight bits without parity explain what was heard as such: the share of
/// characters that are as they would be. The likeliest first.
pub fn other_formats(heard: &Heard) -> Vec<(Serial, f64)> {
    let formats = [
        (7, Parity::Even),
        (7, Parity::Odd),
        (7, Parity::Mark),
        (8, Parity::Even),
        (8, Parity::Odd),
        (8, Parity::None),
    ];
    let mut explained: Vec<(Serial, f64)> = formats
        .into_iter()
        .map(|(data_bits, parity)| {
            let serial = Serial { data_bits, parity, half_stop_bits: 2, ..heard.serial };
            (serial, explains(serial, heard))
        })
        .collect();
    // Of formats that explain the same, the one that says most stands first already.
    explained.sort_by_key(|(_, share)| core::cmp::Reverse(rounded(*share)));
    explained
}

/// What explains nearly all explains it: who joins a line in the middle of its text hears some nonsense first.
fn rounded(share: f64) -> u32 {
    if share > 0.85 { 100 } else { (share * 10.0) as u32 }
}

fn explains(serial: Serial, heard: &Heard) -> f64 {
    let odd = |byte: u8| byte.count_ones() % 2 == 1;
    let fits = |character: &&Character| {
        let stopped = !matches!(character.fault, Some(FaultKind::Framing | FaultKind::Break));
        match (serial.data_bits, serial.parity) {
            // The eighth bit is the parity of the seven.
            (7, Parity::Even) => stopped && !odd(character.byte),
            (7, Parity::Odd) => stopped && odd(character.byte),
            (7, Parity::Mark) => stopped && character.byte & 0x80 != 0,
            // The ninth is taken for the stop bit.
            (_, Parity::Even) => heard.faults && stopped == odd(character.byte),
            (_, Parity::Odd) => heard.faults && stopped != odd(character.byte),
            _ => stopped,
        }
    };
    // A line of half the speed doubles each bit; the last of them, taken for the stop bit, then always is what even parity would be.
    let doubled = |byte: u8| byte & 1 == 0 && (byte >> 1 ^ byte >> 2) & 0b1_0101 == 0;
    let halves = heard.characters.iter().filter(|character| doubled(character.byte)).count();
    if serial.data_bits == 8 && serial.parity == Parity::Even && halves * 2 > heard.characters.len() {
        return 0.0;
    }
    let missing = heard.characters.iter().filter(|character| character.fault.is_some()).count();
    if serial.data_bits == 8 && serial.parity != Parity::None && missing * 20 < heard.characters.len() {
        // A parity bit is 0 now and then.
        return 0.0;
    }
    let count = heard.characters.iter().filter(fits).count();
    let all = share(count, heard.characters.len());
    // Seven bits hold text; bytes that happen to be even without being text say nothing.
    let text = heard.characters.iter().filter(|character| is_text(character.byte & 0x7F)).count();
    if serial.data_bits == 7 && share(text, heard.characters.len()) < 0.75 { 0.0 } else { all }
}

/// Bytes of sentences (NMEA 0183: `$` or `!`, text, `*`, the xor of the text in two hex digits) whose checksum holds.
fn sentence_bytes(bytes: &[u8]) -> usize {
    let mut sum = 0;
    for (at, byte) in bytes.iter().enumerate().filter(|(_, byte)| matches!(byte, b'$' | b'!')) {
        let rest = &bytes[at + 1..bytes.len().min(at + 100)];
        let Some(star) = rest.iter().position(|byte| *byte == b'*') else { continue };
        let expected = rest[..star].iter().fold(0, |sum, byte| sum ^ byte);
        let digits = rest.get(star + 1..star + 3).and_then(|digits| core::str::from_utf8(digits).ok());
        let sent = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
        if *byte != b'*' && sent == Some(expected) && star > 4 {
            sum += star + 4;
        }
    }
    sum
}

/// CR LF counts once.
fn line_ends(bytes: &[u8]) -> usize {
    let ends = |at: usize| match bytes[at] {
        b'\n' => true,
        b'\r' => bytes.get(at + 1) != Some(&b'\n'),
        _ => false,
    };
    (0..bytes.len()).filter(|&at| ends(at)).count()
}

/// Share of triples of bytes that came before.
fn repeated(bytes: &[u8]) -> f64 {
    if bytes.len() < 8 {
        return 0.0;
    }
    let mut triples: Vec<[u8; 3]> = bytes.windows(3).map(|triple| [triple[0], triple[1], triple[2]]).collect();
    let all = triples.len();
    triples.sort_unstable();
    triples.dedup();
    share(all - triples.len(), all)
}
