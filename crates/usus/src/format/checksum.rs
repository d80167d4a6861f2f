//! `checksum`: which it is, where it stands, what it covers, and how it is written.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::frame::read_bytes;
use super::keys::{Keys, unsigned};
use super::types::{integer_type, unknown_type};
use super::{Integer, Order, Presence};
use crate::checksum::{self, Algorithm, Checksum, Complement, CyclicParameters, Modulus, SumParameters};
use crate::limits;
use crate::problem::{ProblemKind, nearest};

/// `checksum = { … }`: a checksum in the frame.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Check {
    /// Where it stands in the file.
    pub span: Range<usize>,
    /// `algorithm`: its name, or its parameters.
    pub algorithm: Algorithm,
    /// `type`, with `digits`, `zero`, `digit_bits` and `width`: how it is written in the frame.
    pub form: CheckForm,
    /// `byte`: its first byte; negative places count from the frame's end. Without it, it is the frame's last bytes.
    pub byte: Option<i64>,
    /// `from`: the first byte covered; negative from the end.
    pub from: i64,
    /// `to`: the last byte covered; without it, the byte before the checksum.
    pub to: Option<i64>,
    /// `mark`: it stands behind the last such bytes of a text, which are covered up to them.
    pub mark: Option<Vec<u8>>,
    /// `presence`: whether it has to be there, of a text with a `mark`.
    pub presence: Presence,
    /// `behind`: it follows the end of the packet.
    pub behind: bool,
    /// `through_end`: it covers the end, too.
    pub through_end: bool,
    /// `over = "sent"`: it covers the bytes as they were sent, from the first one of the start.
    pub over_sent: bool,
}

impl Check {
    /// A checksum over all bytes of the frame before it, which are its last ones.
    pub fn new(algorithm: impl Into<Algorithm>, form: CheckForm) -> Check {
        Check {
            span: 0..0,
            algorithm: algorithm.into(),
            form,
            byte: None,
            from: 0,
            to: None,
            mark: None,
            presence: Presence::Required,
            behind: false,
            through_end: false,
            over_sent: false,
        }
    }

    /// The CRC of Modbus RTU.
    pub(super) fn of_modbus_rtu() -> Check {
        let form = Integer { bytes: 2, signed: false, order: Order::Little };
        Check::new("CRC-16/MODBUS", CheckForm::Binary(form))
    }

    /// The LRC of Modbus ASCII: the sum of the bytes behind the colon, negated.
    pub(super) fn of_modbus_ascii() -> Check {
        let byte = Integer { bytes: 1, signed: false, order: Order::Big };
        let sum = SumParameters { complement: Complement::Two, ..SumParameters::of_bytes(8) };
        Check { from: 1, ..Check::new(Algorithm::Sum(sum), CheckForm::Binary(byte)) }
    }

    /// Bytes that it takes behind the end of its packet.
    pub fn size_behind(&self) -> usize {
        if self.behind { self.form.size() } else { 0 }
    }
}

/// How a checksum is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum CheckForm {
    /// As an integer.
    Binary(Integer),
    /// As the hex digits of an integer, two for each byte.
    Hex(Integer),
    /// As characters that count from one on.
    Characters(Characters),
    /// As decimal digits: so many, or, behind a mark, as many as there are.
    Decimal(Option<usize>),
}

/// A checksum as characters, each of which is so many characters behind the one that says zero.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Characters {
    /// Which comes first: the one that says the highest bits, or the lowest.
    pub order: Order,
    /// The character that says zero.
    pub zero: u8,
    /// Bits that each says: up to 8.
    pub bits: u8,
    /// How many there are.
    pub width: usize,
}

impl CheckForm {
    /// Bytes of the frame that it takes; 0 if that varies.
    pub fn size(self) -> usize {
        match self {
            CheckForm::Binary(integer) => usize::from(integer.bytes),
            CheckForm::Hex(integer) => 2 * usize::from(integer.bytes),
            CheckForm::Characters(characters) => characters.width,
            CheckForm::Decimal(width) => width.unwrap_or(0),
        }
    }
}

/// Reads `checksum`: a table, or a list of them.
pub(super) fn read(keys: &mut Keys<'_, '_>, has_end: bool, in_lines: bool) -> Vec<Check> {
    let Some(value) = keys.value("checksum") else { return Vec::new() };
    let tables = match value.get_ref() {
        DeValue::Array(items) if !items.is_empty() => keys.tables("checksum"),
        DeValue::Table(table) => [(table, value.span())].to_vec(),
        _ => {
            keys.wrong("checksum", "a table, or a list of tables", value);
            return Vec::new();
        }
    };
    if let Some((_, span)) = tables.get(limits::CHECKSUMS) {
        let (found, limit) = (tables.len(), limits::CHECKSUMS);
        keys.problem(span.clone(), ProblemKind::TooMany { what: "checksums of a frame", found, limit });
        return Vec::new();
    }
    let mut checks = Vec::new();
    for (table, span) in tables {
        let mut inner = Keys::new(table, span, "`checksum`", keys.problems);
        let check = read_one(&mut inner, has_end, in_lines);
        inner.done();
        checks.extend(check);
    }
    for check in checks.iter().skip(1) {
        for (key, stands) in [("behind", check.behind), ("mark", check.mark.is_some())] {
            if stands {
                let with = "a checksum that is not the first of its frame".to_string();
                keys.problem(check.span.clone(), ProblemKind::Conflict { key, with });
            }
        }
    }
    checks
}

fn read_one(keys: &mut Keys<'_, '_>, has_end: bool, in_lines: bool) -> Option<Check> {
    let algorithm = read_algorithm(keys);
    let mark = read_bytes(keys, "mark");
    let form = read_form(keys, mark.is_some());
    let byte = keys.place("byte").map(|byte| byte.value);
    let from = keys.place("from").map_or(0, |from| from.value);
    let to = keys.place("to").map(|to| to.value);
    let words = [("required", Presence::Required), ("optional", Presence::Optional)];
    let presence = keys.word("presence", "presence of a checksum", &words).unwrap_or(Presence::Required);
    let over_sent = keys.word("over", "thing that a checksum covers", &[("contents", false), ("sent", true)]);
    let over_sent = over_sent.unwrap_or(false);
    let behind = keys.flag("behind");
    let through_end = keys.flag("through_end");
    let span = keys.span();
    for (key, stands) in [("byte", byte.is_some() && behind), ("through_end", through_end && !behind)] {
        if stands {
            let with =
                if behind { "`behind`, which says where it stands" } else { "a checksum that is not `behind` the end" };
            keys.problem(span.clone(), ProblemKind::Conflict { key, with: with.to_string() });
        }
    }
    for (key, stands) in [("byte", byte.is_some()), ("to", to.is_some()), ("behind", behind)] {
        if stands && mark.is_some() {
            let with = "`mark`, which says where it stands".to_string();
            keys.problem(span.clone(), ProblemKind::Conflict { key, with });
        }
    }
    if presence == Presence::Optional && !(mark.is_some() && in_lines) {
        let with =
            "a checksum without `mark`, or in anything but a `text` cut: nothing tells that it is there".to_string();
        keys.problem(span.clone(), ProblemKind::Conflict { key: "presence", with });
    }
    if behind && !has_end {
        let with = "a frame without an `end` to stand behind".to_string();
        keys.problem(span.clone(), ProblemKind::Conflict { key: "behind", with });
    }
    let (algorithm, form) = (algorithm?, form?);
    Some(Check { span, algorithm, form, byte, from, to, mark, presence, behind, through_end, over_sent })
}

/// `algorithm`: a name, or a table of parameters.
fn read_algorithm(keys: &mut Keys<'_, '_>) -> Option<Algorithm> {
    let Some(value) = keys.value("algorithm") else {
        keys.missing("algorithm");
        return None;
    };
    match value.get_ref() {
        DeValue::String(name) => {
            let known = Checksum::named(name).is_some();
            if !known {
                keys.problem(value.span(), unknown_checksum(name));
            }
            known.then(|| Algorithm::Named(name.clone().into_owned()))
        }
        DeValue::Table(table) => {
            let mut inner = Keys::new(table, value.span(), "`algorithm`", keys.problems);
            let algorithm = match table.contains_key("polynomial") || table.contains_key("width") {
                true => read_cyclic(&mut inner).map(Algorithm::Cyclic),
                false => read_sum(&mut inner, table).map(Algorithm::Sum),
            };
            inner.done();
            let algorithm = algorithm?;
            match algorithm.flaw() {
                Some(flaw) => keys.problem(value.span(), ProblemKind::Senseless(flaw)),
                None => {
                    if let Some(name) = algorithm.name() {
                        let name = name.to_string();
                        keys.problems.doubt(value.span(), ProblemKind::ChecksumHasName { name });
                    }
                }
            }
            algorithm.flaw().is_none().then_some(algorithm)
        }
        _ => {
            keys.wrong("algorithm", "a name, or a table of parameters", value);
            None
        }
    }
}

/// The parameters of a CRC.
fn read_cyclic(keys: &mut Keys<'_, '_>) -> Option<CyclicParameters> {
    let width = keys.within("width", 1, 64);
    let mut number = |key: &'static str, is_required: bool| match keys.value(key) {
        None => {
            if is_required {
                keys.missing(key);
            }
            (!is_required).then_some(0)
        }
        Some(value) => {
            let number = unsigned(value.get_ref());
            if number.is_none() {
                keys.wrong(key, "a number that is not negative, such as 0x8005", value);
            }
            number.map(u128::from)
        }
    };
    let (polynomial, initial, final_xor) =
        (number("polynomial", true), number("initial", false), number("final", false));
    if width.is_none() && keys.value("width").is_none() {
        keys.missing("width");
    }
    let (reflect_input, reflect_output) = match keys.value("reflected") {
        None => (false, false),
        Some(value) => match value.get_ref() {
            DeValue::Boolean(both) => (*both, *both),
            DeValue::String(word) if word == "input" => (true, false),
            DeValue::String(word) if word == "output" => (false, true),
            _ => {
                keys.wrong("reflected", "`true`, `false`, \"input\" or \"output\"", value);
                return None;
            }
        },
    };
    let width = width?.value as u8;
    Some(CyclicParameters {
        width,
        polynomial: polynomial?,
        initial: initial?,
        reflect_input,
        reflect_output,
        final_xor: final_xor?,
    })
}

/// The parameters of a sum.
fn read_sum(keys: &mut Keys<'_, '_>, table: &DeTable<'_>) -> Option<SumParameters> {
    let is_xor = keys.flag("xor");
    let sums = keys.within("sums", 1, 2).map_or(1, |sums| sums.value as u8);
    let of = read_summed(keys);
    let modulus = read_modulus(keys);
    let bits = keys.within("bits", 1, 64);
    let initial = read_initial(keys, sums);
    let words = [("one", Complement::One), ("two", Complement::Two)];
    let complement = keys.word("complement", "complement", &words).unwrap_or(Complement::None);
    let (of, modulus, initial) = (of?, modulus?, initial?);
    let bits = match (bits, modulus) {
        (Some(bits), _) => bits.value as u8,
        (None, Modulus::Number(modulus)) => (64 - modulus.saturating_sub(1).leading_zeros()).max(1) as u8,
        (None, _) if is_xor => of.bytes * 8,
        (None, _) => {
            if !table.contains_key("bits") {
                keys.missing("bits");
            }
            return None;
        }
    };
    // As many values as there are bits is what is usual.
    let modulus = match modulus {
        Modulus::Number(modulus) if bits < 64 && modulus == 1 << bits => Modulus::Bits,
        modulus => modulus,
    };
    Some(SumParameters { of, is_xor, sums, bits, modulus, initial, complement })
}

/// `of`: the integers that are added.
fn read_summed(keys: &mut Keys<'_, '_>) -> Option<Integer> {
    let Some(word) = keys.text("of") else { return Some(SumParameters::of_bytes(8).of) };
    let of = integer_type(&word.value);
    if of.is_none() {
        keys.problem(word.span, unknown_type(&word.value));
    }
    of
}

fn read_modulus(keys: &mut Keys<'_, '_>) -> Option<Modulus> {
    let Some(value) = keys.value("modulus") else { return Some(Modulus::Bits) };
    match (value.get_ref(), unsigned(value.get_ref())) {
        (DeValue::String(word), _) if word == "end-around" => Some(Modulus::EndAround),
        (_, Some(modulus)) => Some(Modulus::Number(modulus)),
        _ => {
            keys.wrong("modulus", "a number from 2, or \"end-around\"", value);
            None
        }
    }
}

/// `initial`: what one sum begins with, or each of two.
fn read_initial(keys: &mut Keys<'_, '_>, sums: u8) -> Option<[u64; 2]> {
    let Some(value) = keys.value("initial") else { return Some([0; 2]) };
    let initial = match value.get_ref() {
        DeValue::Array(items) if items.len() == 2 && sums == 2 => {
            unsigned(items[0].get_ref()).zip(unsigned(items[1].get_ref()))
        }
        other => unsigned(other).map(|first| (first, 0)),
    };
    if initial.is_none() {
        keys.wrong("initial", "a number that is not negative; of two sums, a list of two", value);
    }
    initial.map(|(first, second)| [first, second])
}

/// How a checksum is written.
fn read_form(keys: &mut Keys<'_, '_>, has_mark: bool) -> Option<CheckForm> {
    let in_hex = keys.word("digits", "way to send digits", &[("hex", ())]).is_some();
    let zero = keys.value("zero").map(toml::Spanned::span);
    let zero_bytes = read_bytes(keys, "zero");
    let digit_bits = keys.within("digit_bits", 1, 8);
    let width = keys.size("width", 1);
    let word = keys.required_text("type")?;
    let conflict = |keys: &mut Keys<'_, '_>, key: &'static str, with: &str| {
        keys.problem(keys.span(), ProblemKind::Conflict { key, with: with.to_string() });
    };
    if word.value == "number" {
        for (key, stands) in [("digits", in_hex), ("zero", zero.is_some()), ("digit_bits", digit_bits.is_some())] {
            if stands {
                conflict(keys, key, "the type `number`: decimal digits");
            }
        }
        if width.is_none() && !has_mark {
            keys.missing("width");
            return None;
        }
        return Some(CheckForm::Decimal(width.map(|width| width.value)));
    }
    let Some(integer) = integer_type(&word.value) else {
        keys.problem(word.span, unknown_type(&word.value));
        return None;
    };
    let Some(zero_span) = zero else {
        for (key, stands) in [("width", width.is_some()), ("digit_bits", digit_bits.is_some())] {
            if stands {
                conflict(keys, key, "a checksum that is not sent as characters: it has no `zero`");
            }
        }
        return Some(if in_hex { CheckForm::Hex(integer) } else { CheckForm::Binary(integer) });
    };
    if in_hex {
        conflict(keys, "zero", "`digits`");
    }
    let (Some([zero]), Order::Big | Order::Little) = (zero_bytes.as_deref(), integer.order) else {
        let why = "`zero` is one character such as \"'0'\", and the order of characters `be` or `le`";
        keys.problem(zero_span, ProblemKind::Senseless(why));
        return None;
    };
    let bits = digit_bits.map(|bits| bits.value as u8);
    let width = match (width, bits) {
        (Some(width), _) => width.value,
        (None, Some(bits)) => usize::from((integer.bytes * 8).div_ceil(bits)),
        (None, None) => 1,
    };
    if bits.is_none() && width > 1 {
        keys.missing("digit_bits");
        return None;
    }
    if width > limits::START {
        let kind = ProblemKind::TooMany { what: "characters of a checksum", found: width, limit: limits::START };
        keys.problem(zero_span, kind);
        return None;
    }
    let order = if width == 1 { Order::Big } else { integer.order };
    Some(CheckForm::Characters(Characters { order, zero: *zero, bits: bits.unwrap_or(8), width }))
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
                Some("or another of the catalogue (docs/checksums.md lists all), or parameters"),
            ),
        },
    };
    let allowed: Vec<String> = allowed.iter().map(ToString::to_string).collect();
    ProblemKind::UnknownWord { what: "checksum algorithm", found: found.to_string(), nearest, allowed, note }
}
