//! Byte patterns, as `start` and `end` have them: `"A5 5A"`, `"STX 'R'"`, `"CR LF"`.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

/// The ASCII control characters whose names are patterns, by their values. `FF` is the byte.
const CONTROLS: [&str; 33] = [
    "NUL", "SOH", "STX", "ETX", "EOT", "ENQ", "ACK", "BEL", "BS", "HT", "LF", "VT", "", "CR", "SO", "SI", "DLE", "DC1",
    "DC2", "DC3", "DC4", "NAK", "SYN", "ETB", "CAN", "EM", "SUB", "ESC", "FS", "GS", "RS", "US", "SP",
];

/// The bytes of a pattern: two hex digits for a byte, text in single quotes, and names of ASCII control characters, with blanks between them. Nothing
/// if it is anything else, or empty.
pub fn byte_pattern(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut rest = text.trim_start();
    while !rest.is_empty() {
        if let Some(quoted) = rest.strip_prefix('\'') {
            let (inside, behind) = quoted.split_once('\'')?;
            if inside.is_empty() {
                return None;
            }
            bytes.extend_from_slice(inside.as_bytes());
            rest = behind;
        } else {
            let end = rest.find(|character: char| character.is_whitespace() || character == '\'').unwrap_or(rest.len());
            let (word, behind) = rest.split_at(end);
            rest = behind;
            match control(word) {
                Some(byte) => bytes.push(byte),
                None => bytes.extend(super::hex_bytes(word).filter(|bytes| !bytes.is_empty())?),
            }
        }
        rest = rest.trim_start();
    }
    (!bytes.is_empty()).then_some(bytes)
}

/// A pattern that stands for these bytes: names and quoted text where all of them are ASCII, else hex digits.
pub(super) fn pattern_of(bytes: &[u8]) -> String {
    if !bytes.is_ascii() {
        return super::hex_digits(bytes);
    }
    let mut words: Vec<String> = Vec::new();
    let mut in_quotes = false;
    for &byte in bytes {
        let quotable = byte.is_ascii_graphic() && byte != b'\'';
        match (words.last_mut(), quotable) {
            (Some(word), true) if in_quotes => word.insert(word.len() - 1, char::from(byte)),
            (_, true) => words.push(format!("'{}'", char::from(byte))),
            (_, false) => words.push(match byte {
                0x7F => "DEL".to_string(),
                _ => CONTROLS
                    .get(usize::from(byte))
                    .filter(|name| !name.is_empty())
                    .map_or(format!("{byte:02X}"), |name| (*name).to_string()),
            }),
        }
        in_quotes = quotable;
    }
    words.join(" ")
}

fn control(name: &str) -> Option<u8> {
    match name {
        "DEL" => Some(0x7F),
        _ => CONTROLS.iter().position(|known| !name.is_empty() && *known == name).map(|place| place as u8),
    }
}
