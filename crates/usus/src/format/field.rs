//! Reading fields and groups of fields.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::frame::{read_charsets, read_pattern};
use super::keys::{Keys, decimal, in_file_order, pair_of, span_of, wrong};
use super::read::read_when;
use super::types::{bits_type, float_type, integer_type, unknown_type};
use super::{
    BcdType, Bits, BitsFrom, BytePattern, Count, Field, FieldType, Group, Literal, Place, Ratio, Run, Sign, Spanned,
    Width,
};
use crate::limits;
use crate::problem::{ProblemKind, Problems};
use crate::value::Decimal;

/// Reads a list of fields.
pub(super) fn read_all(keys: &mut Keys<'_, '_>, key: &'static str) -> Vec<Field> {
    read_list(keys, key, 0)
}

fn read_list(keys: &mut Keys<'_, '_>, key: &'static str, depth: usize) -> Vec<Field> {
    let tables = keys.tables(key);
    if let Some((_, span)) = tables.get(limits::FIELDS) {
        let kind = ProblemKind::TooMany { what: "fields", found: tables.len(), limit: limits::FIELDS };
        keys.problem(span.clone(), kind);
    }
    tables.into_iter().take(limits::FIELDS).map(|(table, span)| read(table, span, depth, keys.problems)).collect()
}

/// `depth` says how many groups are around it.
fn read(table: &DeTable<'_>, span: Range<usize>, depth: usize, problems: &mut Problems) -> Field {
    let mut keys = Keys::new(table, span, "a field", problems);
    let field = read_keys(&mut keys, depth);
    keys.done();
    field
}

/// All keys that a field may have.
pub(super) fn known_keys() -> Vec<&'static str> {
    let (table, mut problems) = (DeTable::new(), Problems::default());
    let mut keys = Keys::new(&table, 0..0, "a field", &mut problems);
    read_keys(&mut keys, 0);
    keys.known()
}

/// Reads the keys of a field that so many groups are around.
pub(super) fn read_keys(keys: &mut Keys<'_, '_>, depth: usize) -> Field {
    let span = keys.span();
    let name = keys.name("name");
    let internal = keys.flag("internal");
    let place = read_place(keys);
    let label = keys.text("label");
    let kind = read_type(keys);
    let is_bool = kind.as_ref().is_some_and(|kind| kind.value == FieldType::Bool);
    let field = Field {
        span,
        name,
        title: keys.text("title").map(|title| title.value),
        tag: keys.text("tag").map(|tag| tag.value),
        internal,
        place,
        label,
        kind,
        width: read_width(keys, "width"),
        until: None,
        bits: read_bits(keys),
        bits_from: read_bits_from(keys),
        sign: read_sign(keys),
        flags: read_flags(keys),
        codes: read_codes(keys, is_bool),
        equals: keys.literal("equals"),
        reserved: keys.flag("reserved"),
        scale: read_scale(keys),
        ratio: read_ratio(keys),
        add: keys.decimal("add"),
        places: keys
            .within("places", 0, i64::from(limits::PLACES))
            .and_then(|places| Some(Spanned { span: places.span, value: u8::try_from(places.value).ok()? })),
        unit: keys.text("unit"),
        unit_sent: keys.text("unit_sent"),
        suffixes: read_suffixes(keys),
        decimal: read_character(keys, "decimal", &[",", "."]),
        thousands: read_character(keys, "thousands", &[",", ".", "'", " ", "_"]),
        limit_marks: read_limit_marks(keys),
        sign_from: keys.text("sign_from"),
        scale_from: keys.text("scale_from"),
        unit_from: keys.text("unit_from"),
        no_data: keys.literals("no_data"),
        range: read_range(keys),
        counter: keys.flag("counter"),
        rollover: keys.within("rollover", 1, i64::MAX),
        layout: keys.text("layout"),
        since: read_since(keys),
        first_year: keys.within("first_year", 0, 9_900),
        zone: read_zone(keys),
        when: read_when(keys),
        optional: keys.flag("optional"),
        strict: keys
            .word("invalid", "treatment of invalid text", &[("reject", true), ("keep", false)])
            .unwrap_or(false),
        charsets: read_charsets(keys),
        fill: read_fill(keys),
        closed: keys.flag("closed"),
        address: read_address(keys),
        run: None,
        group: None,
    };
    let until = read_until(keys);
    if let Some(run) = read_run(keys, depth) {
        return Field { until, run: Some(run), ..field };
    }
    match read_group(keys, &field, until.clone(), depth) {
        Some(group) => Field { group: Some(group), ..field },
        None => Field { until, ..field },
    }
}

fn read_place(keys: &mut Keys<'_, '_>) -> Place {
    let byte = keys.place("byte").map(Place::Byte);
    let column = keys.value("column").and_then(|value| span_of(keys.problems, "column", 1, value)).map(Place::Columns);
    let chars = keys.value("chars").and_then(|value| span_of(keys.problems, "chars", 1, value)).map(Place::Characters);
    let given = [byte, column, chars].into_iter().flatten().collect::<Vec<_>>();
    if given.len() > 1 {
        let kind = ProblemKind::Senseless("one of `byte`, `column` and `chars` says the place, not several");
        keys.problem(keys.span(), kind);
    }
    given.into_iter().next().unwrap_or(Place::Next)
}

pub(super) fn read_type(keys: &mut Keys<'_, '_>) -> Option<Spanned<FieldType>> {
    let Some(word) = keys.text("type") else {
        if let Some(digits) = keys.value("digits") {
            keys.problem(
                digits.span(),
                ProblemKind::Conflict { key: "digits", with: "a field without `type`".to_string() },
            );
        }
        return None;
    };
    let found = match word.value.as_str() {
        "text" => Some(FieldType::Text),
        "bytes" => Some(FieldType::Bytes),
        "number" => Some(FieldType::Number),
        "lat" => Some(FieldType::Latitude),
        "lon" => Some(FieldType::Longitude),
        "clock" => Some(FieldType::Clock),
        "date" => Some(FieldType::Date),
        "datetime" => Some(FieldType::DateTime),
        "bool" => Some(FieldType::Bool),
        other => {
            let integer = || integer_type(other).map(FieldType::Integer);
            float_type(other).or_else(integer).or_else(|| bits_type(other))
        }
    };
    if let (Some(digits), Some(found)) = (keys.word("digits", "way to send digits", &DIGITS), found) {
        let sent = match (digits, found) {
            (Digits::Hex, FieldType::Number) => Some(FieldType::Hex),
            (Digits::Hex, FieldType::Integer(integer)) => Some(FieldType::HexInteger(integer)),
            (Digits::Hex, FieldType::Bytes) => Some(FieldType::HexBytes),
            (Digits::Bcd, FieldType::Number) => Some(FieldType::Bcd(BcdType::Number)),
            (Digits::Bcd, FieldType::Integer(integer)) => Some(FieldType::Bcd(BcdType::Integer(integer))),
            (Digits::Bcd, FieldType::Clock) => Some(FieldType::Bcd(BcdType::Clock)),
            (Digits::Bcd, FieldType::Date) => Some(FieldType::Bcd(BcdType::Date)),
            (Digits::Bcd, FieldType::DateTime) => Some(FieldType::Bcd(BcdType::DateTime)),
            _ => None,
        };
        if let Some(value) = sent {
            return Some(Spanned { span: word.span, value });
        }
        let with = match digits {
            Digits::Hex => "this type: only a `number`, an integer or `bytes` can be sent in hex digits",
            Digits::Bcd => "this type: only numbers, dates and times can be sent in decimal digits",
        };
        keys.problem(word.span.clone(), ProblemKind::Conflict { key: "digits", with: with.to_string() });
    }
    match found {
        Some(value) => Some(Spanned { span: word.span, value }),
        None => {
            keys.problem(word.span, unknown_type(&word.value));
            None
        }
    }
}

/// How the digits of a field are sent.
#[derive(Clone, Copy)]
enum Digits {
    Hex,
    Bcd,
}

const DIGITS: [(&str, Digits); 2] = [("hex", Digits::Hex), ("bcd", Digits::Bcd)];

/// `bits_from` of a frame or a field.
pub(super) fn read_bits_from(keys: &mut Keys<'_, '_>) -> Option<Spanned<BitsFrom>> {
    let span = keys.value("bits_from")?.span();
    let words = [("high", BitsFrom::High), ("low", BitsFrom::Low)];
    keys.word("bits_from", "end of a byte", &words).map(|value| Spanned { span, value })
}

fn read_sign(keys: &mut Keys<'_, '_>) -> Option<Spanned<Sign>> {
    let span = keys.value("sign")?.span();
    let words = [("magnitude", Sign::Magnitude), ("offset", Sign::Offset)];
    keys.word("sign", "way to send a sign", &words).map(|value| Spanned { span, value })
}

/// `bits`: one range, or several with commas between them.
pub(super) fn read_bits(keys: &mut Keys<'_, '_>) -> Option<Spanned<Bits>> {
    let value = keys.value("bits")?;
    let range = |text: &str| {
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        Some((first.trim().parse::<u8>().ok()?, last.trim().parse::<u8>().ok()?))
    };
    let ranges = match value.get_ref() {
        DeValue::String(text) => text.split(',').map(range).collect::<Option<Vec<_>>>(),
        other => super::keys::integer(other).and_then(|bit| u8::try_from(bit).ok()).map(|bit| [(bit, bit)].to_vec()),
    };
    let bits = ranges.as_ref().and_then(|ranges| Bits::of(ranges));
    let Some(bits) = bits else {
        let expected = "bits from 0 to 63, such as 5, \"0-3\", or \"12-15,0-3\" with the higher part first";
        wrong(keys.problems, "bits", expected, value);
        return None;
    };
    let mut all: Vec<u8> = bits.ranges().iter().flat_map(|(first, last)| *first..=*last).collect();
    all.sort_unstable();
    if all.windows(2).any(|two| two[0] == two[1]) {
        keys.problem(value.span(), ProblemKind::Senseless("a bit is named twice"));
        return None;
    }
    Some(Spanned { span: value.span(), value: bits })
}

fn read_flags(keys: &mut Keys<'_, '_>) -> Vec<(u8, Spanned<String>)> {
    let Some((table, span)) = keys.table("flags") else { return Vec::new() };
    let entries = in_file_order(table);
    if entries.is_empty() {
        keys.problem(span, ProblemKind::Senseless("`flags` names no bit"));
    }
    let mut flags = Vec::new();
    for (bit, value) in entries {
        let Some(bit_number) = bit.value.parse::<u8>().ok().filter(|&bit| bit < 64) else {
            let kind = ProblemKind::WrongValue {
                key: "flags".to_string(),
                expected: "the numbers of bits, from 0 to 63, as keys",
                found: alloc::format!("`{}`", bit.value),
            };
            keys.problem(bit.span, kind);
            continue;
        };
        let DeValue::String(name) = value.get_ref() else {
            keys.wrong("flags", "names of bits", value);
            continue;
        };
        let name = Spanned { span: value.span(), value: name.clone().into_owned() };
        if let Some(name) = keys.checked_name(name) {
            flags.push((bit_number, name));
        }
    }
    flags
}

fn read_codes(keys: &mut Keys<'_, '_>, is_bool: bool) -> Vec<(Spanned<Literal>, String)> {
    let Some((table, span)) = keys.table("codes") else { return Vec::new() };
    let entries = in_file_order(table);
    if entries.len() > limits::CODES {
        let kind = ProblemKind::TooMany { what: "codes", found: entries.len(), limit: limits::CODES };
        keys.problem(span, kind);
        return Vec::new();
    }
    let mut codes = Vec::new();
    for (key, value) in entries {
        let name = match value.get_ref() {
            DeValue::String(name) if !is_bool => name.clone().into_owned(),
            DeValue::Boolean(flag) if is_bool => flag.to_string(),
            _ => {
                let expected = if is_bool { "`true` or `false` for each word" } else { "names in quotes" };
                keys.wrong("codes", expected, value);
                continue;
            }
        };
        codes.push((Spanned { span: key.span, value: Literal::Text(key.value) }, name));
    }
    codes
}

/// `suffix`: a text, or texts with the units that they mean.
fn read_suffixes(keys: &mut Keys<'_, '_>) -> Vec<(Spanned<String>, Option<Spanned<String>>)> {
    let Some(value) = keys.value("suffix") else { return Vec::new() };
    let suffixes = match value.get_ref() {
        DeValue::String(text) => {
            [(Spanned { span: value.span(), value: text.clone().into_owned() }, None)].into_iter().collect()
        }
        DeValue::Table(table) => {
            let mut suffixes = Vec::new();
            for (suffix, unit) in in_file_order(table) {
                let DeValue::String(name) = unit.get_ref() else {
                    keys.wrong("suffix", "units in quotes", unit);
                    continue;
                };
                suffixes.push((suffix, Some(Spanned { span: unit.span(), value: name.clone().into_owned() })));
            }
            suffixes
        }
        _ => {
            keys.wrong("suffix", "a text, or a table of texts with the units that they mean", value);
            Vec::new()
        }
    };
    if suffixes.len() > limits::SEPARATORS {
        let kind = ProblemKind::TooMany { what: "suffixes", found: suffixes.len(), limit: limits::SEPARATORS };
        keys.problem(value.span(), kind);
    }
    suffixes.into_iter().filter(|(suffix, _)| keys.check_short("suffix", suffix)).collect()
}

/// One of a few characters.
fn read_character(keys: &mut Keys<'_, '_>, key: &'static str, allowed: &[&str]) -> Option<Spanned<String>> {
    let text = keys.text(key)?;
    if allowed.contains(&text.value.as_str()) {
        return Some(text);
    }
    keys.problem(text.span, super::keys::unknown_word("mark in numbers", &text.value, allowed.iter().copied()));
    None
}

/// `limit_marks`: two different texts.
fn read_limit_marks(keys: &mut Keys<'_, '_>) -> Option<Spanned<[String; 2]>> {
    let value = keys.value("limit_marks")?;
    let text = |value: &DeValue<'_>| match value {
        DeValue::String(text) if (1..=limits::START).contains(&text.len()) => Some(text.clone().into_owned()),
        _ => None,
    };
    let expected = "two texts, before a value that is below and one that is above";
    let marks = pair_of(keys.problems, "limit_marks", expected, value, text)?;
    if marks[0] == marks[1] {
        keys.problem(value.span(), ProblemKind::Senseless("the marks for below and above are the same"));
        return None;
    }
    Some(Spanned { span: value.span(), value: marks })
}

/// `since`: a day, or an instant of it.
fn read_since(keys: &mut Keys<'_, '_>) -> Option<Spanned<String>> {
    let text = keys.text("since")?;
    if crate::value::instant(&text.value).is_some() {
        return Some(text);
    }
    let found = alloc::format!("the text \"{}\"", text.value.escape_debug());
    let expected = "a day such as \"1970-01-01\", or \"1980-01-06T00:00:00\"";
    keys.problem(text.span, ProblemKind::WrongValue { key: "since".to_string(), expected, found });
    None
}

/// `zone`: an offset from UTC.
fn read_zone(keys: &mut Keys<'_, '_>) -> Option<Spanned<String>> {
    let text = keys.text("zone")?;
    if crate::value::parse_offset(text.value.as_bytes()).is_some_and(|(_, rest)| rest.is_empty()) {
        return Some(text);
    }
    let found = alloc::format!("the text \"{}\"", text.value.escape_debug());
    let expected = "how far the clock is ahead of UTC, such as \"+02:00\" or \"Z\"";
    keys.problem(text.span, ProblemKind::WrongValue { key: "zone".to_string(), expected, found });
    None
}

fn read_scale(keys: &mut Keys<'_, '_>) -> Option<Spanned<Decimal>> {
    if matches!(keys.value("scale")?.get_ref(), DeValue::String(_)) {
        return None;
    }
    let scale = keys.decimal("scale")?;
    if scale.value.is_zero() {
        keys.problem(scale.span, ProblemKind::Senseless("a scale of zero makes every value the same"));
        return None;
    }
    Some(scale)
}

/// `scale` as a text: a ratio of whole numbers.
fn read_ratio(keys: &mut Keys<'_, '_>) -> Option<Spanned<Ratio>> {
    let value = keys.value("scale")?;
    let DeValue::String(text) = value.get_ref() else { return None };
    let ratio = text.split_once('/').and_then(|(numerator, denominator)| {
        let ratio = Ratio { numerator: numerator.trim().parse().ok()?, denominator: denominator.trim().parse().ok()? };
        (ratio.numerator != 0 && ratio.denominator > 0).then_some(ratio)
    });
    match ratio {
        Some(ratio) => Some(Spanned { span: value.span(), value: ratio }),
        None => {
            keys.wrong("scale", "a number, or a ratio of whole numbers such as \"180/2147483648\"", value);
            None
        }
    }
}

fn read_range(keys: &mut Keys<'_, '_>) -> Option<Spanned<[Decimal; 2]>> {
    let value = keys.value("range")?;
    let range = pair_of(keys.problems, "range", "the smallest and the largest value", value, decimal)?;
    if range[0].compare(range[1]).is_gt() {
        keys.problem(value.span(), ProblemKind::Senseless("the smallest value is above the largest"));
        return None;
    }
    Some(Spanned { span: value.span(), value: range })
}

fn read_fill(keys: &mut Keys<'_, '_>) -> Option<u8> {
    let value = keys.value("fill")?;
    let byte = match value.get_ref() {
        DeValue::String(text) if text.len() == 1 => text.bytes().next(),
        other => super::keys::integer(other).and_then(|number| u8::try_from(number).ok()),
    };
    if byte.is_none() {
        keys.wrong("fill", "one ASCII character or a byte's number", value);
    }
    byte
}

/// A number of bytes, or the name of the field that says it.
fn read_width(keys: &mut Keys<'_, '_>, key: &'static str) -> Option<Spanned<Width>> {
    match keys.value(key)?.get_ref() {
        DeValue::String(_) => keys.text(key).map(|name| Spanned { span: name.span, value: Width::Field(name.value) }),
        _ => keys.size(key, 1).map(|size| Spanned { span: size.span, value: Width::Bytes(size.value) }),
    }
}

fn read_until(keys: &mut Keys<'_, '_>) -> Option<Spanned<BytePattern>> {
    let span = keys.value("until")?.span();
    read_pattern(keys, "until").map(|value| Spanned { span, value })
}

/// `address`: a number, in decimal or hex.
fn read_address(keys: &mut Keys<'_, '_>) -> Option<Spanned<u64>> {
    let value = keys.value("address")?;
    let address = super::keys::integer(value.get_ref()).and_then(|address| u64::try_from(address).ok());
    if address.is_none() {
        keys.wrong("address", "a whole number from 0", value);
    }
    Some(Spanned { span: value.span(), value: address? })
}

/// A run of values with addresses.
fn read_run(keys: &mut Keys<'_, '_>, depth: usize) -> Option<Run> {
    let from = keys.text("address_from");
    let step = keys.size("step", 1);
    let Some(from) = from else {
        if let Some(step) = step {
            let with = "a field without `address_from`".to_string();
            keys.problem(step.span, ProblemKind::Conflict { key: "step", with });
        }
        return None;
    };
    for key in ["count", "up_to", "size"] {
        if let Some(value) = keys.value(key) {
            let with = "`address_from`: a run takes what is left".to_string();
            keys.problem(value.span(), ProblemKind::Conflict { key, with });
        }
    }
    let fields = read_list(keys, "fields", depth);
    for field in &fields {
        let has_place = field.place != Place::Next || field.when.is_some() || field.optional || field.until.is_some();
        if field.address.is_none() || field.group.is_some() || field.run.is_some() || has_place {
            let why = "a value in a run has an `address` and a size, and nothing else says where it is";
            keys.problem(field.span.clone(), ProblemKind::Senseless(why));
        }
    }
    if fields.is_empty() {
        keys.missing("fields");
    }
    Some(Run { from, step: step.map_or(1, |step| step.value), fields })
}

/// A group, or a list of values such as `field` is. `until` ends it, if it is a group and nothing else does.
fn read_group(
    keys: &mut Keys<'_, '_>,
    field: &Field,
    until: Option<Spanned<BytePattern>>,
    depth: usize,
) -> Option<Group> {
    let count = read_count(keys);
    let size = read_width(keys, "size");
    let fields_span = keys.value("fields").map(toml::Spanned::span);
    let count = match (count, until, &fields_span) {
        (Some(_), Some(until), _) => {
            keys.problem(until.span, ProblemKind::Senseless("`until` and `count` or `up_to` exclude each other"));
            return None;
        }
        (Some(count), None, _) => count,
        (None, Some(until), Some(_)) => Count::Until(until),
        (None, None, Some(span)) => {
            let kind = ProblemKind::Senseless("a group needs `count`, `until`, or `up_to = \"end\"`");
            keys.problem(span.clone(), kind);
            return None;
        }
        (None, _, None) => {
            if let Some(size) = size {
                let with = "a field that is no group".to_string();
                keys.problem(size.span, ProblemKind::Conflict { key: "size", with });
            }
            return None;
        }
    };
    if depth >= limits::NESTING {
        let kind = ProblemKind::TooMany { what: "groups in one another", found: depth + 1, limit: limits::NESTING };
        keys.problem(keys.span(), kind);
        return None;
    }
    let fields = read_list(keys, "fields", depth + 1);
    if fields.is_empty() && field.kind.is_none() {
        let kind = ProblemKind::Senseless("a group needs `fields`, and a list of values its `type`");
        keys.problem(keys.span(), kind);
        return None;
    }
    Some(Group { count, size, fields })
}

fn read_count(keys: &mut Keys<'_, '_>) -> Option<Count> {
    let count = keys.value("count").and_then(|value| match value.get_ref() {
        DeValue::String(_) => keys.text("count").map(Count::Field),
        // One that is out of bounds is a count all the same: nothing else is said about it.
        _ => Some(Count::Fixed(keys.size("count", 1).unwrap_or(Spanned { span: value.span(), value: 1 }))),
    });
    let to_end = keys.word("up_to", "end of a group", &[("end", Count::ToEnd)].map(|(word, _)| (word, ())));
    match (count, to_end) {
        (Some(_), Some(())) => {
            keys.problem(keys.span(), ProblemKind::Senseless("`count` and `up_to` exclude each other"));
            Some(Count::ToEnd)
        }
        (count, None) => count,
        (None, Some(())) => Some(Count::ToEnd),
    }
}
