//! Byte patterns, as `start`, `end` and `until` have them: `"A5 5A"`, `"STX 'R'"`, `"CR LF"`, `"80/80"`, or a list of which one is meant.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

/// The ASCII control characters whose names are patterns, by their values. `FF` is the byte.
const CONTROLS: [&str; 33] = [
    "NUL", "SOH", "STX", "ETX", "EOT", "ENQ", "ACK", "BEL", "BS", "HT", "LF", "VT", "", "CR", "SO", "SI", "DLE", "DC1",
    "DC2", "DC3", "DC4", "NAK", "SYN", "ETB", "CAN", "EM", "SUB", "ESC", "FS", "GS", "RS", "US", "SP",
];

/// Bytes by which frames and their parts are found: one sequence, or several of which each will do.
///
/// ```
/// use usus::format::BytePattern;
///
/// let start = BytePattern::from(*b"\xA5\x5A");
/// assert_eq!(BytePattern::parse("A5 5A"), Some(start));
/// // The first byte of a frame is the one whose highest bit is set.
/// assert_eq!(BytePattern::parse("80/80").unwrap().to_string(), "80/80");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BytePattern {
    alternatives: Vec<Vec<MaskedByte>>,
}

/// A byte of a pattern, of which some bits may not matter.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MaskedByte {
    /// What the bits that matter are; the others are 0.
    pub value: u8,
    /// Which bits matter.
    pub mask: u8,
}

impl BytePattern {
    /// Reads two hex digits for a byte (`80/80` with those of a mask behind it), text in single quotes, and names of ASCII control characters, with blanks
    /// between them. Nothing if it is anything else, or empty.
    pub fn parse(text: &str) -> Option<BytePattern> {
        let mut bytes = Vec::new();
        let plain = |value: u8| MaskedByte { value, mask: 0xFF };
        let mut rest = text.trim_start();
        while !rest.is_empty() {
            if let Some(quoted) = rest.strip_prefix('\'') {
                let (inside, behind) = quoted.split_once('\'')?;
                if inside.is_empty() {
                    return None;
                }
                bytes.extend(inside.bytes().map(plain));
                rest = behind;
            } else {
                let ends = |character: char| character.is_whitespace() || character == '\'';
                let (word, behind) = rest.split_at(rest.find(ends).unwrap_or(rest.len()));
                rest = behind;
                match (control(word), word.split_once('/')) {
                    (Some(byte), _) => bytes.push(plain(byte)),
                    (None, Some((value, mask))) => {
                        let one = |digits: &str| match *super::hex_bytes(digits)? {
                            [byte] => Some(byte),
                            _ => None,
                        };
                        let (value, mask) = (one(value)?, one(mask)?);
                        if value & !mask != 0 {
                            return None;
                        }
                        bytes.push(MaskedByte { value, mask });
                    }
                    (None, None) => {
                        bytes.extend(super::hex_bytes(word).filter(|bytes| !bytes.is_empty())?.into_iter().map(plain));
                    }
                }
            }
            rest = rest.trim_start();
        }
        (!bytes.is_empty()).then(|| BytePattern { alternatives: [bytes].into() })
    }

    /// Several patterns of which each will do.
    pub fn any_of(patterns: impl IntoIterator<Item = BytePattern>) -> BytePattern {
        BytePattern { alternatives: patterns.into_iter().flat_map(|pattern| pattern.alternatives).collect() }
    }

    /// The sequences of which each will do.
    pub fn alternatives(&self) -> &[Vec<MaskedByte>] {
        &self.alternatives
    }

    /// Its bytes, if it is one sequence and all bits of it matter.
    pub fn bytes(&self) -> Option<Vec<u8>> {
        match &*self.alternatives {
            [one] if one.iter().all(|byte| byte.mask == 0xFF) => Some(one.iter().map(|byte| byte.value).collect()),
            _ => None,
        }
    }

    /// How many bytes it has; where its sequences differ in that, the shortest.
    pub fn length(&self) -> usize {
        self.alternatives.iter().map(Vec::len).min().unwrap_or(0)
    }

    /// Each of its sequences, as it is written.
    pub(crate) fn words(&self) -> Vec<String> {
        self.alternatives.iter().map(|bytes| written(bytes)).collect()
    }
}

impl<B: AsRef<[u8]>> From<B> for BytePattern {
    /// These bytes.
    fn from(bytes: B) -> BytePattern {
        let bytes = bytes.as_ref().iter().map(|byte| MaskedByte { value: *byte, mask: 0xFF });
        BytePattern { alternatives: [bytes.collect()].into() }
    }
}

impl core::fmt::Display for BytePattern {
    /// As it is written; several with `or` between them.
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        f.write_str(&self.words().join(" or "))
    }
}

/// The bytes of a pattern in which all bits matter; nothing if it is none.
pub fn byte_pattern(text: &str) -> Option<Vec<u8>> {
    BytePattern::parse(text)?.bytes()
}

/// A pattern that stands for these bytes: names and quoted text where all of them are ASCII, else hex digits.
fn written(bytes: &[MaskedByte]) -> String {
    let in_hex = |byte: &MaskedByte| match byte.mask {
        0xFF => format!("{:02X}", byte.value),
        mask => format!("{:02X}/{mask:02X}", byte.value),
    };
    if bytes.iter().any(|byte| byte.mask < 0xFF || !byte.value.is_ascii()) {
        return bytes.iter().map(in_hex).collect::<Vec<_>>().join(" ");
    }
    let mut words: Vec<String> = Vec::new();
    let mut in_quotes = false;
    for MaskedByte { value: byte, .. } in bytes.iter().copied() {
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

/// A pattern that stands for these bytes.
pub(super) fn pattern_of(bytes: &[u8]) -> String {
    BytePattern::from(bytes).to_string()
}

fn control(name: &str) -> Option<u8> {
    match name {
        "DEL" => Some(0x7F),
        _ => CONTROLS.iter().position(|known| !name.is_empty() && *known == name).map(|place| place as u8),
    }
}
