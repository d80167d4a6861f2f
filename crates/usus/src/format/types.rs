//! The words that `type` can be.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

use super::{BcdType, FieldType, Integer, Order};
use crate::problem::{ProblemKind, nearest};

/// Reads an integer type such as `u16le`.
pub(super) fn integer_type(text: &str) -> Option<Integer> {
    let signed = match text.as_bytes().first()? {
        b'u' => false,
        b'i' => true,
        _ => return None,
    };
    let digits = text.len() - text[1..].trim_start_matches(|c: char| c.is_ascii_digit()).len();
    let bits: u8 = text[1..digits].parse().ok()?;
    if !bits.is_multiple_of(8) || !(8..=64).contains(&bits) {
        return None;
    }
    let order = match &text[digits..] {
        "" if bits == 8 => Order::Big,
        word => order_of(word, bits / 8)?,
    };
    Some(Integer { signed, bytes: bits / 8, order })
}

/// Reads the order of so many bytes: `be`, `le`, or letters where they say anything else.
pub(super) fn order_of(word: &str, bytes: u8) -> Option<Order> {
    match word {
        "be" if bytes > 1 => Some(Order::Big),
        "le" if bytes > 1 => Some(Order::Little),
        letters if letters.len() == usize::from(bytes) => {
            Order::of_letters(letters).filter(|order| matches!(order, Order::Letters(_)))
        }
        _ => None,
    }
}

/// Reads a floating-point type such as `f32le`.
pub(super) fn float_type(text: &str) -> Option<FieldType> {
    match text.split_at_checked(3)? {
        ("f32", order) => order_of(order, 4).map(FieldType::F32),
        ("f64", order) => order_of(order, 8).map(FieldType::F64),
        _ => None,
    }
}

/// Reads a type of bits such as `b12` or `ib7`.
pub(super) fn bits_type(text: &str) -> Option<FieldType> {
    let (signed, width) = match text.strip_prefix("ib") {
        Some(width) => (true, width),
        None => (false, text.strip_prefix('b')?),
    };
    let is_number = width.bytes().all(|byte| byte.is_ascii_digit()) && !width.starts_with('0');
    let width: u8 = width.parse().ok().filter(|_| is_number)?;
    (1 + u8::from(signed)..=64).contains(&width).then_some(FieldType::Bits { width, signed })
}

impl FieldType {
    /// The type of numbers in bytes that a word such as `u16be` or `f32cdab` means.
    pub fn named(word: &str) -> Option<FieldType> {
        float_type(word).or_else(|| integer_type(word).map(FieldType::Integer))
    }
}

impl fmt::Display for Integer {
    /// As `type` has it: `u16le`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = if self.signed { 'i' } else { 'u' };
        match self.bytes {
            1 => write!(f, "{sign}8"),
            bytes => write!(f, "{sign}{}{}", u32::from(bytes) * 8, self.order),
        }
    }
}

impl fmt::Display for FieldType {
    /// As `type` has it; how its digits are sent stands beside it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            FieldType::Integer(integer) | FieldType::HexInteger(integer) => integer.fmt(f),
            FieldType::F32(order) => write!(f, "f32{order}"),
            FieldType::F64(order) => write!(f, "f64{order}"),
            FieldType::Bits { width, signed } => write!(f, "{}b{width}", if *signed { "i" } else { "" }),
            FieldType::Bcd(of) => match of {
                BcdType::Number => f.write_str("number"),
                BcdType::Integer(integer) => integer.fmt(f),
                BcdType::Clock => f.write_str("clock"),
                BcdType::Date => f.write_str("date"),
                BcdType::DateTime => f.write_str("datetime"),
            },
            FieldType::Text => f.write_str("text"),
            FieldType::Bytes | FieldType::HexBytes => f.write_str("bytes"),
            FieldType::Number | FieldType::Hex => f.write_str("number"),
            FieldType::Latitude => f.write_str("lat"),
            FieldType::Longitude => f.write_str("lon"),
            FieldType::Clock => f.write_str("clock"),
            FieldType::Date => f.write_str("date"),
            FieldType::DateTime => f.write_str("datetime"),
            FieldType::Bool => f.write_str("bool"),
        }
    }
}

/// Every word that `type` can be, for messages.
pub(super) fn type_words() -> Vec<String> {
    let mut words: Vec<String> = [
        "text", "bytes", "number", "lat", "lon", "clock", "date", "datetime", "bool", "f32be", "f32le", "f64be",
        "f64le", "u8", "i8",
    ]
    .map(ToString::to_string)
    .to_vec();
    for bits in (16..=64).step_by(8) {
        for (sign, order) in [("u", "be"), ("u", "le"), ("i", "be"), ("i", "le")] {
            words.push(alloc::format!("{sign}{bits}{order}"));
        }
    }
    words
}

/// The problem of a `type` that is none: what a datasheet's word means, or the word that is nearest.
pub(super) fn unknown_type(found: &str) -> ProblemKind {
    let meant = meant(found);
    let note = match found {
        "hex" | "hexadecimal" => {
            Some("hex digits are a `number` with `digits = \"hex\"`; of a checksum, its integer type with that")
        }
        "bcd" | "BCD" => Some("such digits are a `number`, an integer or a time with `digits = \"bcd\"`"),
        _ => None,
    };
    if note.is_some() {
        return ProblemKind::UnknownWord {
            what: "type",
            found: found.to_string(),
            nearest: None,
            allowed: Vec::new(),
            note,
        };
    }
    let (nearest, allowed, note) = match meant.len() {
        0 => match nearest(found, type_words().iter().map(String::as_str)) {
            Some(nearest) => (Some(nearest), meant, None),
            None => {
                let some = [
                    "u8", "i8", "u16be", "u16le", "i16be", "i32le", "f32be", "f64le", "text", "bytes", "number", "lat",
                    "lon", "clock", "date",
                ];
                let note = "integers are `u` or `i` with 8 to 64 bits in steps of 8; `be` has its high byte first, `le` its low byte; bits one behind the other are `b1` to `b64`";
                (None, some.map(ToString::to_string).to_vec(), Some(note))
            }
        },
        1 => (None, meant, None),
        _ => (None, meant, Some("`be` has its high byte first, `le` its low byte")),
    };
    let what = match &allowed[..] {
        [one, ..] if nearest.is_none() && one.starts_with(found) && one.len() == found.len() + 2 => {
            "type: its byte order is missing"
        }
        _ => "type",
    };
    ProblemKind::UnknownWord { what, found: found.to_string(), nearest, allowed, note }
}

/// The types that a datasheet's word means.
fn meant(found: &str) -> Vec<String> {
    let lower = found.to_lowercase();
    let plain: String = lower.chars().filter(char::is_ascii_alphanumeric).collect();
    let plain = if lower.ends_with("_t") { &plain[..plain.len() - 1] } else { &plain };
    // What `be` and `le` say is not said by letters.
    for (letters, order) in [("abcd", "be"), ("dcba", "le"), ("abcdefgh", "be"), ("hgfedcba", "le")] {
        let said = found.strip_suffix(letters).map(|front| alloc::format!("{front}{order}"));
        if let Some(said) = said.filter(|said| type_words().contains(said)) {
            return [said].to_vec();
        }
    }
    let (word, orders): (&str, &[&str]) = match plain {
        plain if plain.len() > 2 && plain.ends_with("be") => (&plain[..plain.len() - 2], &["be"]),
        plain if plain.len() > 2 && plain.ends_with("le") && plain != "double" => (&plain[..plain.len() - 2], &["le"]),
        plain => (plain, &["be", "le"]),
    };
    let kind = match word {
        "byte" | "uchar" | "unsignedchar" | "octet" => "u8",
        "char" | "sbyte" | "signedchar" => return ["i8", "u8", "text"].map(ToString::to_string).to_vec(),
        "short" | "sword" | "signedshort" => "i16",
        "word" | "ushort" | "unsignedshort" => "u16",
        "int" | "long" | "dint" | "integer" | "signedlong" => "i32",
        "uint" | "ulong" | "dword" | "udint" | "unsignedlong" | "unsigned" | "unsignedint" => "u32",
        "longlong" | "lint" => "i64",
        "qword" | "ulonglong" | "ulint" => "u64",
        "float" | "single" | "real" | "float32" | "ieee754" => "f32",
        "double" | "lreal" | "float64" => "f64",
        "string" | "str" | "ascii" | "chars" => return ["text".to_string()].to_vec(),
        "decimal" | "numeric" => return ["number".to_string()].to_vec(),
        "blob" | "raw" | "binary" => return ["bytes".to_string()].to_vec(),
        "time" => return ["clock".to_string()].to_vec(),
        "bit" => return ["b1".to_string()].to_vec(),
        "latitude" => return ["lat".to_string()].to_vec(),
        "longitude" => return ["lon".to_string()].to_vec(),
        other => {
            let letters = other.trim_end_matches(|character: char| character.is_ascii_digit());
            let sign = match letters {
                "u" | "uint" | "unsigned" | "unsignedint" => 'u',
                "s" | "i" | "int" | "sint" | "signed" | "signedint" => 'i',
                "f" | "float" | "real" => 'f',
                _ => return Vec::new(),
            };
            let bits = &other[letters.len()..];
            let ordered = orders.iter().map(|order| alloc::format!("{sign}{bits}{order}"));
            let words = type_words();
            let single = alloc::format!("{sign}{bits}");
            let ordered: Vec<String> = ordered.filter(|word| words.contains(word)).collect();
            let width = bits.parse().ok().filter(|width: &u8| (1..=64).contains(width) && ordered.is_empty());
            return match (words.contains(&single), width) {
                (true, _) => [single].to_vec(),
                // Bits that are no whole bytes lie one behind the other.
                (false, Some(width)) if sign != 'f' => {
                    [alloc::format!("{}b{width}", if sign == 'i' { "i" } else { "" })].to_vec()
                }
                _ => ordered,
            };
        }
    };
    if kind == "u8" {
        ["u8".to_string()].to_vec()
    } else {
        orders.iter().map(|order| alloc::format!("{kind}{order}")).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn datasheets_words_mean_types() {
        for (word, wanted) in [
            ("int16", &["i16be", "i16le"][..]),
            ("INT16_T", &["i16be", "i16le"]),
            ("short", &["i16be", "i16le"]),
            ("word", &["u16be", "u16le"]),
            ("float32", &["f32be", "f32le"]),
            ("Float", &["f32be", "f32le"]),
            ("s16be", &["i16be"]),
            ("uint24le", &["u24le"]),
            ("uint8", &["u8"]),
            ("double", &["f64be", "f64le"]),
            ("unsigned short", &["u16be", "u16le"]),
            ("string", &["text"]),
            ("u20", &["b20"]),
            ("int12", &["ib12"]),
            ("u32dcba", &["u32le"]),
            ("f32abcd", &["f32be"]),
            ("abacus", &[]),
        ] {
            assert_eq!(meant(word), wanted, "{word}");
        }
    }
}
