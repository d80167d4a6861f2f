//! Reading `[[frame]]`: the cut and the keys that belong to it, checksum, header.

use alloc::string::{String, ToString};
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::keys::{Keys, hex_bytes, unknown_word};
use super::types::{integer_type, unknown_type};
use super::{Check, CheckForm, Cut, Frame, Length, LineEnd, Presence, Spanned, field};
use crate::checksum::{self, Checksum};
use crate::limits;
use crate::problem::{ProblemKind, Problems, nearest};
use crate::time::Span;
use crate::unit;
use crate::value::Decimal;

const CUTS: [&str; 3] = ["text", "nmea-0183", "packet"];

pub(super) fn read(table: &DeTable<'_>, span: Range<usize>, problems: &mut Problems) -> Option<Frame> {
    let mut keys = Keys::new(table, span, "`[[frame]]`", problems);
    let name = keys.name("name").map(|name| name.value);
    let on = keys.text("on");
    let cut_word = keys.required_text("cut");
    let cut = cut_word.as_ref().and_then(|word| read_cut(&mut keys, word));
    let check = match cut {
        Some(Cut::Sentence { .. }) => None,
        _ => read_check(&mut keys),
    };
    let header = field::read_all(&mut keys, "header");
    let separator = read_separator(&mut keys);
    let span = keys.span();
    keys.done();
    let name = name.unwrap_or_else(|| match cut_word.as_ref().map(|word| word.value.as_str()) {
        Some("nmea-0183") => "sentence".to_string(),
        Some(word) => word.to_string(),
        None => String::new(),
    });
    Some(Frame { span, name, on, cut: cut?, checksum: check, header, separator })
}

fn read_cut(keys: &mut Keys<'_, '_>, word: &Spanned<String>) -> Option<Cut> {
    match word.value.as_str() {
        "text" => {
            let ends = [("any", LineEnd::Any), ("LF", LineEnd::Lf), ("CR", LineEnd::Cr), ("CR LF", LineEnd::CrLf)];
            let end = keys.word("end", "line end", &ends).unwrap_or(LineEnd::Any);
            let idle = keys.text("idle").and_then(|text| read_idle(keys, &text));
            Some(Cut::Text { end, idle })
        }
        "nmea-0183" => {
            let words =
                [("required", Presence::Required), ("optional", Presence::Optional), ("absent", Presence::Absent)];
            let checksum = keys.word("checksum", "presence of a checksum", &words).unwrap_or(Presence::Required);
            Some(Cut::Sentence { checksum })
        }
        "packet" => {
            let start = read_start(keys);
            let length = read_length(keys);
            Some(Cut::Packet { start: start?, length: length? })
        }
        other => {
            keys.problem(word.span.clone(), unknown_word("cut", other, CUTS.into_iter()));
            None
        }
    }
}

fn read_idle(keys: &mut Keys<'_, '_>, text: &Spanned<String>) -> Option<Span> {
    let nanoseconds = text.value.split_once(' ').and_then(|(number, unit)| {
        let conversion = unit::conversion(unit.trim(), "s")?;
        let number = Decimal::parse(number.as_bytes())?;
        let seconds = number.convert(conversion.numerator, conversion.denominator, conversion.addend, 9)?;
        i64::try_from(seconds.coefficient()).ok().filter(|&nanoseconds| nanoseconds > 0)
    });
    if nanoseconds.is_none() {
        let kind = ProblemKind::WrongValue {
            key: "idle".to_string(),
            expected: "a time such as \"50 ms\"",
            found: alloc::format!("the text \"{}\"", text.value.escape_debug()),
        };
        keys.problem(text.span.clone(), kind);
    }
    nanoseconds.map(Span::from_nanoseconds)
}

fn read_start(keys: &mut Keys<'_, '_>) -> Option<alloc::vec::Vec<u8>> {
    let text = keys.required_text("start")?;
    match hex_bytes(&text.value) {
        Some(bytes) if !bytes.is_empty() && bytes.len() <= limits::START => Some(bytes),
        Some(bytes) if !bytes.is_empty() => {
            let kind = ProblemKind::TooMany { what: "bytes of a start", found: bytes.len(), limit: limits::START };
            keys.problem(text.span, kind);
            None
        }
        _ => {
            let kind = ProblemKind::WrongValue {
                key: "start".to_string(),
                expected: "bytes in hex such as \"A5 5A\"",
                found: alloc::format!("the text \"{}\"", text.value.escape_debug()),
            };
            keys.problem(text.span, kind);
            None
        }
    }
}

fn read_length(keys: &mut Keys<'_, '_>) -> Option<Length> {
    let Some(value) = keys.value("length") else {
        keys.missing("length");
        return None;
    };
    match value.get_ref() {
        DeValue::Integer(_) => keys.size("length", 1).map(Length::Fixed),
        DeValue::Table(table) => {
            let mut inner = Keys::new(table, value.span(), "`length`", keys.problems);
            let byte = match inner.size("byte", 0) {
                None if !table.contains_key("byte") => {
                    inner.missing("byte");
                    None
                }
                byte => byte,
            };
            let word = inner.required_text("type");
            let add = inner.place("add").map_or(0, |add| add.value);
            let integer = word.and_then(|word| {
                let integer = integer_type(&word.value);
                if integer.is_none() {
                    inner.problem(word.span, unknown_type(&word.value));
                }
                integer
            });
            let span = inner.span();
            inner.done();
            Some(Length::Field { span, byte: byte?.value, integer: integer?, add })
        }
        _ => {
            keys.wrong("length", "a number of bytes, or a table that says where it stands", value);
            None
        }
    }
}

fn read_check(keys: &mut Keys<'_, '_>) -> Option<Check> {
    let (table, span) = keys.table("checksum")?;
    let mut inner = Keys::new(table, span, "`checksum`", keys.problems);
    let algorithm = inner.required_text("algorithm").and_then(|name| {
        let known = Checksum::named(&name.value).is_some();
        if !known {
            inner.problem(name.span, unknown_checksum(&name.value));
        }
        known.then_some(name.value)
    });
    let in_hex = inner.word("digits", "way to send digits", &[("hex", ())]).is_some();
    let form = inner.required_text("type").and_then(|word| {
        let integer = integer_type(&word.value);
        if integer.is_none() {
            inner.problem(word.span, unknown_type(&word.value));
        }
        integer.map(if in_hex { CheckForm::Hex } else { CheckForm::Binary })
    });
    let byte = inner.place("byte").map(|byte| byte.value);
    let from = inner.place("from").map_or(0, |from| from.value);
    let to = inner.place("to").map(|to| to.value);
    let span = inner.span();
    inner.done();
    Some(Check { span, algorithm: algorithm?, form: form?, byte, from, to })
}

/// The problem of an `algorithm` that is none: what a datasheet's name means, or the name that is nearest.
fn unknown_checksum(found: &str) -> ProblemKind {
    let (nearest, allowed, note) = match checksum::meant(found) {
        Some(meant) => (None, meant.names, meant.note),
        None => match nearest(found, Checksum::names()) {
            Some(nearest) => (Some(nearest), &[][..], None),
            None => (
                None,
                &["SUM-8", "SUM-16", "XOR-8", "CRC-8/SMBUS", "CRC-16/MODBUS", "CRC-16/XMODEM", "CRC-32/ISO-HDLC"][..],
                Some("or another CRC of the catalogue (docs/checksums.md lists all)"),
            ),
        },
    };
    let allowed = allowed.iter().map(ToString::to_string).collect();
    ProblemKind::UnknownWord { what: "checksum algorithm", found: found.to_string(), nearest, allowed, note }
}

fn read_separator(keys: &mut Keys<'_, '_>) -> u8 {
    let Some(text) = keys.text("separator") else { return b',' };
    match text.value.as_bytes() {
        [byte] => *byte,
        _ => {
            let kind = ProblemKind::WrongValue {
                key: "separator".to_string(),
                expected: "one ASCII character",
                found: alloc::format!("the text \"{}\"", text.value.escape_debug()),
            };
            keys.problem(text.span, kind);
            b','
        }
    }
}
