//! The words that `type` can be.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::keys::unknown_word;
use super::{Integer, Order};
use crate::problem::ProblemKind;

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
        "be" => Order::Big,
        "le" => Order::Little,
        "" if bits == 8 => Order::Big,
        _ => return None,
    };
    Some(Integer { signed, bytes: bits / 8, order })
}

/// Every word that `type` can be, for messages.
pub(super) fn type_words() -> Vec<String> {
    let mut words: Vec<String> = [
        "text", "bytes", "number", "hex", "lat", "lon", "clock", "date", "f32be", "f32le", "f64be", "f64le", "u8", "i8",
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

/// The problem of a `type` that is none.
pub(super) fn unknown_type(found: &str) -> ProblemKind {
    let ordered = ["be", "le"].map(|order| alloc::format!("{found}{order}"));
    let words = type_words();
    if words.contains(&ordered[0]) {
        return ProblemKind::UnknownWord {
            what: "type: its byte order is missing",
            found: found.to_string(),
            nearest: None,
            allowed: ordered.to_vec(),
        };
    }
    match unknown_word("type", found, words.iter().map(String::as_str)) {
        ProblemKind::UnknownWord { what, found, nearest, .. } => {
            ProblemKind::UnknownWord { what, found, nearest, allowed: Vec::new() }
        }
        other => other,
    }
}
