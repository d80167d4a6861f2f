//! Reading `[[frame]]`: the cut and the keys that belong to it, checksum, header.

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::Spanned as TomlSpanned;
use toml::de::{DeTable, DeValue};

use super::keys::{Keys, unknown_word};
use super::pattern::BytePattern;
use super::{
    Check, Coding, Cut, Direction, FieldType, Frame, Length, LengthField, LineEnd, PartBefore, Presence, Read,
    Repeated, Silence, Spanned, checksum, field,
};
use crate::limits;
use crate::problem::{ProblemKind, Problems};
use crate::time::Span;
use crate::unit;
use crate::value::{Charset, Decimal};

const CUTS: [&str; 12] = [
    "text",
    "nmea-0183",
    "packet",
    "slip",
    "cobs",
    "hdlc",
    "dle",
    "modbus-rtu",
    "modbus-ascii",
    "idle",
    "break",
    "fixed",
];

pub(super) fn read(table: &DeTable<'_>, span: Range<usize>, problems: &mut Problems) -> Option<Frame> {
    let mut keys = Keys::new(table, span, "`[[frame]]`", problems);
    let name = keys.name("name").map(|name| name.value);
    let on = keys.text("on");
    let inside = keys.text("inside");
    let cut_word = keys.required_text("cut");
    let cut = cut_word.as_ref().and_then(|word| read_cut(&mut keys, word));
    let is_ascii = cut_word.as_ref().is_some_and(|word| word.value == "modbus-ascii");
    let ascii = is_ascii.then(|| Frame::modbus_ascii("", read_direction(&mut keys)));
    let cut = cut.or(ascii.as_ref().map(|ascii| ascii.cut.clone()));
    let checksums = match cut {
        Some(Cut::Sentence { .. }) => Vec::new(),
        Some(Cut::ModbusRtu { .. }) => [Check::of_modbus_rtu()].into(),
        _ if is_ascii => ascii.as_ref().map(|ascii| ascii.checksums.clone()).unwrap_or_default(),
        _ => {
            let has_end = matches!(cut, Some(Cut::Packet { end: Some(_), .. } | Cut::Dle { .. }));
            checksum::read(&mut keys, has_end, matches!(cut, Some(Cut::Text { .. })))
        }
    };
    let (coding, read) = match &ascii {
        Some(ascii) => (ascii.coding.clone(), ascii.read.clone()),
        None => (read_coding(&mut keys, cut.as_ref()), read_read(&mut keys, cut.as_ref())),
    };
    if let (Some(check), Some(Read::Bytes)) =
        (checksums.first(), read.as_ref().map(|read| read.value).or(cut.as_ref().map(Cut::usual_read)))
        && check.mark.is_some()
    {
        let with = "a frame that is read as bytes".to_string();
        keys.problem(check.span.clone(), ProblemKind::Conflict { key: "mark", with });
    }
    let header = field::read_all(&mut keys, "header");
    let separators = read_separators(&mut keys);
    let joined = keys.flag("joined");
    let reads = read.as_ref().map(|read| read.value).or(cut.as_ref().map(Cut::usual_read));
    // A record may be read as pairs where its frame is not.
    let in_pairs = reads != Some(Read::Bytes);
    let assign = if in_pairs { keys.short_text("assign") } else { None };
    let words = [("reject", Repeated::Reject), ("first", Repeated::First), ("last", Repeated::Last)];
    let repeated = if in_pairs { keys.word("repeated", "way to take a key that comes twice", &words) } else { None };
    let bits_from = field::read_bits_from(&mut keys);
    if let Some(bits_from) = bits_from.as_ref().filter(|_| reads != Some(Read::Bytes)) {
        let with = "a frame that is read as text".to_string();
        keys.problem(bits_from.span.clone(), ProblemKind::Conflict { key: "bits_from", with });
    }
    let charsets = read_charsets(&mut keys);
    let quote = read_quote(&mut keys, &separators, assign.as_ref());
    let given = [("separator", !separators.is_empty()), ("joined", joined), ("quote", quote.is_some())];
    for (key, _) in given.into_iter().filter(|(_, given)| *given && reads == Some(Read::Bytes)) {
        let with = "a frame that is read as bytes".to_string();
        keys.problem(keys.span(), ProblemKind::Conflict { key, with });
    }
    let span = keys.span();
    keys.done();
    let name = name.unwrap_or_else(|| match cut_word.as_ref().map(|word| word.value.as_str()) {
        Some("nmea-0183") => "sentence".to_string(),
        Some("modbus-rtu" | "modbus-ascii") => "message".to_string(),
        Some(word) => word.to_string(),
        None => String::new(),
    });
    Some(Frame {
        span,
        name,
        on,
        inside,
        cut: cut?,
        modbus: ascii.and_then(|ascii| ascii.modbus),
        read,
        coding,
        checksums,
        header,
        separators,
        joined,
        assign,
        repeated: repeated.unwrap_or_default(),
        bits_from: bits_from.map(|bits_from| bits_from.value),
        charsets,
        quote,
    })
}

fn read_cut(keys: &mut Keys<'_, '_>, word: &Spanned<String>) -> Option<Cut> {
    match word.value.as_str() {
        "text" => {
            let ends = [("any", LineEnd::Any), ("LF", LineEnd::Lf), ("CR", LineEnd::Cr), ("CR LF", LineEnd::CrLf)];
            let end = keys.word("end", "line end", &ends).unwrap_or(LineEnd::Any);
            let idle = keys.text("idle").and_then(|text| read_idle(keys, &text));
            let start = read_line_start(keys);
            Some(Cut::Text { start, end, idle })
        }
        "nmea-0183" => {
            let checksum = read_presence(keys, "checksum").unwrap_or(Presence::Required);
            let anywhere = keys.flag("anywhere");
            Some(Cut::Sentence { checksum, anywhere })
        }
        "packet" => {
            if keys.value("start").is_none() {
                keys.missing("start");
            }
            let start = read_pattern(keys, "start");
            let end = read_pattern(keys, "end");
            let length = read_length(keys, end.is_some());
            Some(Cut::Packet { start: start?, length: length?, end })
        }
        "slip" => Some(Cut::Slip),
        "cobs" => Some(Cut::Cobs),
        "hdlc" => Some(Cut::Hdlc),
        "dle" => read_dle(keys),
        "modbus-rtu" => Some(Cut::ModbusRtu { direction: read_direction(keys) }),
        // It is put together of other parts.
        "modbus-ascii" => None,
        "idle" => {
            if keys.value("idle").is_none() {
                keys.missing("idle");
            }
            let idle = keys.text("idle").and_then(|text| read_idle(keys, &text));
            let length = keys.size("length", 1);
            Some(Cut::Idle { idle: idle?, length })
        }
        "break" => Some(Cut::Break { length: keys.size("length", 1) }),
        "fixed" => {
            if keys.value("length").is_none() {
                keys.missing("length");
            }
            Some(Cut::Fixed { length: keys.size("length", 1)? })
        }
        other => {
            keys.problem(word.span.clone(), unknown_word("cut", other, CUTS.into_iter()));
            None
        }
    }
}

fn read_direction(keys: &mut Keys<'_, '_>) -> Option<Direction> {
    let words = [("requests", Direction::Requests), ("answers", Direction::Answers)];
    keys.word("direction", "direction of messages", &words)
}

/// `start` and `end` of frames between escapes: DLE STX and DLE ETX, if nothing is said.
fn read_dle(keys: &mut Keys<'_, '_>) -> Option<Cut> {
    let (start_span, end_span) = (keys.value("start").map(TomlSpanned::span), keys.value("end").map(TomlSpanned::span));
    let start = match &start_span {
        Some(_) => read_bytes(keys, "start")?,
        None => [0x10, 0x02].to_vec(),
    };
    let end = match &end_span {
        Some(_) => read_bytes(keys, "end")?,
        None => [0x10, 0x03].to_vec(),
    };
    let end: Option<[u8; 2]> = end.try_into().ok();
    let fits = match (&*start, end) {
        ([escape], Some([first, last])) => *escape == first && last != first,
        ([escape, begin], Some([first, last])) => {
            *escape == first && begin != escape && last != first && *begin != last
        }
        _ => false,
    };
    if !fits {
        let why = "`start` and `end` are one escape with two different bytes behind it: \"DLE STX\" and \"DLE ETX\"; \"DLE\" alone, if what follows belongs to the contents";
        keys.problem(start_span.or(end_span).unwrap_or(keys.span()), ProblemKind::Senseless(why));
        return None;
    }
    Some(Cut::Dle { start, end: end? })
}

fn read_idle(keys: &mut Keys<'_, '_>, text: &Spanned<String>) -> Option<Silence> {
    let silence = text.value.split_once(' ').and_then(|(number, unit)| {
        let (number, unit) = (Decimal::parse(number.as_bytes())?, unit.trim());
        if matches!(unit, "characters" | "character") {
            let thousandths = number.times(Decimal::from_integer(1_000))?.convert(1, 1, (0, 1), 0)?.to_integer()?;
            return u32::try_from(thousandths).ok().filter(|thousandths| *thousandths > 0).map(Silence::Characters);
        }
        let conversion = unit::conversion(unit, "s")?;
        let seconds = number.convert(conversion.numerator, conversion.denominator, conversion.addend, 9)?;
        let nanoseconds = i64::try_from(seconds.coefficient()).ok().filter(|&nanoseconds| nanoseconds > 0)?;
        Some(Silence::Time(Span::from_nanoseconds(nanoseconds)))
    });
    if silence.is_none() {
        let kind = ProblemKind::WrongValue {
            key: "idle".to_string(),
            expected: "a time such as \"50 ms\", or \"3.5 characters\"",
            found: alloc::format!("the text \"{}\"", text.value.escape_debug()),
        };
        keys.problem(text.span.clone(), kind);
    }
    silence
}

/// `coding`: steps from what is sent to the contents.
fn read_coding(keys: &mut Keys<'_, '_>, cut: Option<&Cut>) -> Vec<Coding> {
    let tables = keys.tables("coding");
    let mut steps = Vec::new();
    for (table, span) in tables {
        let mut inner = Keys::new(table, span, "`coding`", keys.problems);
        if !table.contains_key("step") {
            inner.missing("step");
        }
        inner.word("step", "step of a coding", &[("hex", ())]);
        let from = inner.place("from").map_or(0, |from| from.value);
        let to = inner.place("to").map(|to| to.value);
        let span = inner.span();
        inner.done();
        steps.push(Coding { span, from, to });
    }
    if let Some(second) = steps.get(1) {
        keys.problem(second.span.clone(), ProblemKind::Senseless("what was made of hex digits holds no more of them"));
        steps.truncate(1);
    }
    let goes = match cut {
        Some(Cut::Text { .. } | Cut::Packet { end: Some(_), length: Length::ToEnd, .. }) | None => true,
        Some(_) => false,
    };
    if let Some(step) = steps.first().filter(|_| !goes) {
        let with = "this cut: lines are coded, and packets that their `end` tells, without `length`".to_string();
        keys.problem(step.span.clone(), ProblemKind::Conflict { key: "coding", with });
        steps.clear();
    }
    steps
}

/// `read`, where a frame is not read as usual for its cut, or a record not as its frame.
pub(super) fn read_read(keys: &mut Keys<'_, '_>, cut: Option<&Cut>) -> Option<Spanned<Read>> {
    let text = keys.text("read")?;
    let words = [("bytes", Read::Bytes), ("columns", Read::Columns), ("pairs", Read::Pairs)];
    let found = words.iter().find(|(word, _)| *word == text.value).map(|(_, read)| *read);
    match found {
        None => keys.problem(
            text.span.clone(),
            unknown_word("way to read a frame", &text.value, words.iter().map(|(word, _)| *word)),
        ),
        Some(Read::Bytes) if matches!(cut, Some(Cut::Sentence { .. })) => {
            let with = "sentences: they are text".to_string();
            keys.problem(text.span.clone(), ProblemKind::Conflict { key: "read", with });
        }
        Some(_) => {}
    }
    Some(Spanned { span: text.span, value: found? })
}

/// `checksum = { presence = … }` of sentences: everything else about it is the standard's.
pub(super) fn read_presence(keys: &mut Keys<'_, '_>, key: &'static str) -> Option<Presence> {
    let value = keys.value(key)?;
    let DeValue::Table(table) = value.get_ref() else {
        keys.wrong(key, "a table such as { presence = \"optional\" }", value);
        return None;
    };
    let words = [("required", Presence::Required), ("optional", Presence::Optional), ("absent", Presence::Absent)];
    let mut inner = Keys::new(table, value.span(), "`checksum` of sentences", keys.problems);
    if !table.contains_key("presence") {
        inner.missing("presence");
    }
    let presence = inner.word("presence", "presence of a checksum", &words);
    inner.done();
    presence
}

/// A pattern, or a list of which each will do.
pub(super) fn read_pattern(keys: &mut Keys<'_, '_>, key: &'static str) -> Option<BytePattern> {
    let mut patterns = Vec::new();
    let texts = keys.texts(key);
    if let Some(one_too_many) = texts.get(limits::SEPARATORS) {
        let kind = ProblemKind::TooMany { what: "patterns", found: texts.len(), limit: limits::SEPARATORS };
        keys.problem(one_too_many.span.clone(), kind);
        return None;
    }
    for text in &texts {
        match BytePattern::parse(&text.value) {
            Some(pattern) if pattern.length() > limits::START => {
                let found = pattern.length();
                let kind = ProblemKind::TooMany { what: "bytes of a pattern", found, limit: limits::START };
                keys.problem(text.span.clone(), kind);
                return None;
            }
            Some(pattern) if patterns.first().is_some_and(|first: &BytePattern| first.length() != pattern.length()) => {
                let why = "patterns of a list have to be of one length: what follows is counted from it";
                keys.problem(text.span.clone(), ProblemKind::Senseless(why));
                return None;
            }
            Some(pattern) => patterns.push(pattern),
            None => {
                let kind = ProblemKind::WrongValue {
                    key: key.to_string(),
                    expected: "bytes such as \"A5 5A\", \"STX 'R'\", \"CR LF\", or with a mask \"80/80\"",
                    found: alloc::format!("the text \"{}\"", text.value.escape_debug()),
                };
                keys.problem(text.span.clone(), kind);
                return None;
            }
        }
    }
    (!patterns.is_empty()).then(|| BytePattern::any_of(patterns))
}

/// A pattern of which all bits matter.
pub(super) fn read_bytes(keys: &mut Keys<'_, '_>, key: &'static str) -> Option<Vec<u8>> {
    let span = keys.value(key)?.span();
    let bytes = read_pattern(keys, key)?.bytes();
    if bytes.is_none() {
        keys.problem(span, ProblemKind::Senseless("this is one text, without a mask"));
    }
    bytes
}

/// `start` of lines, in which no line ends.
fn read_line_start(keys: &mut Keys<'_, '_>) -> Option<BytePattern> {
    let span = keys.value("start")?.span();
    let start = read_pattern(keys, "start")?;
    let ends_line = |byte: &super::MaskedByte| matches!(byte.value, b'\r' | b'\n') && byte.mask == 0xFF;
    if start.alternatives().iter().flatten().any(ends_line) {
        keys.problem(span, ProblemKind::Senseless("a line ends before such a start is over"));
        return None;
    }
    Some(start)
}

fn read_length(keys: &mut Keys<'_, '_>, has_end: bool) -> Option<Length> {
    let Some(value) = keys.value("length") else {
        if !has_end {
            keys.problem(keys.span(), ProblemKind::MissingKey { key: "length", table: "a packet without an `end`" });
        }
        return has_end.then_some(Length::ToEnd);
    };
    match value.get_ref() {
        DeValue::Integer(_) => keys.size("length", 1).map(Length::Fixed),
        DeValue::String(word) if word == "record" => Some(Length::Record),
        DeValue::Table(table) => {
            read_length_field(table, value.span(), true, keys.problems).map(|field| Length::Fields([field].into()))
        }
        DeValue::Array(places) if !places.is_empty() => {
            let mut fields = Vec::new();
            for place in places.iter() {
                match place.get_ref() {
                    DeValue::Table(table) => {
                        fields.extend(read_length_field(table, place.span(), false, keys.problems))
                    }
                    _ => keys.wrong("length", "tables that say where it stands", place),
                }
            }
            if fields.len() > limits::SEPARATORS {
                let found = fields.len();
                let kind = ProblemKind::TooMany { what: "places of the length", found, limit: limits::SEPARATORS };
                keys.problem(value.span(), kind);
                return None;
            }
            (fields.len() == places.len()).then_some(Length::Fields(fields))
        }
        _ => {
            let expected =
                "a number of bytes, a table that says where it stands, a list of such that agree, or \"record\"";
            keys.wrong("length", expected, value);
            None
        }
    }
}

/// `alone` says that no other place has to agree with it: then a part may vary before it.
fn read_length_field(
    table: &DeTable<'_>,
    span: Range<usize>,
    alone: bool,
    problems: &mut Problems,
) -> Option<LengthField> {
    let mut inner = Keys::new(table, span, "`length`", problems);
    let byte = match inner.size("byte", 0) {
        None if !table.contains_key("byte") => {
            inner.missing("byte");
            None
        }
        byte => byte,
    };
    if !table.contains_key("type") {
        inner.missing("type");
    }
    let kind = field::read_type(&mut inner);
    let width = inner.size("width", 1).map(|width| width.value);
    let bits = field::read_bits(&mut inner).map(|bits| bits.value);
    let scale = inner.size("scale", 1).map_or(1, |scale| scale.value);
    let add = inner.place("add").map_or(0, |add| add.value);
    let before = if alone { inner.table("past") } else { None };
    let past = before.and_then(|(table, span)| read_part_before(table, span, inner.problems));
    let span = inner.span();
    inner.done();
    let kind = kind?;
    let is_number = matches!(
        kind.value,
        FieldType::Integer(_) | FieldType::HexInteger(_) | FieldType::Number | FieldType::Hex | FieldType::Bcd(_)
    );
    if !is_number {
        let with = "a length, which is a whole number".to_string();
        problems.add(kind.span, ProblemKind::Conflict { key: "type", with });
        return None;
    }
    Some(LengthField { span, byte: byte?.value, kind: kind.value, width, bits, scale, add, past: past.map(Box::new) })
}

/// `past`: where the bytes of a part are told, or what ends it.
fn read_part_before(table: &DeTable<'_>, span: Range<usize>, problems: &mut Problems) -> Option<PartBefore> {
    if !table.contains_key("until") {
        return read_length_field(table, span, false, problems).map(PartBefore::Told);
    }
    let mut keys = Keys::new(table, span, "`past`", problems);
    if !table.contains_key("byte") {
        keys.missing("byte");
    }
    let (byte, until) = (keys.size("byte", 0), read_pattern(&mut keys, "until"));
    keys.done();
    Some(PartBefore::Until { byte: byte?.value, until: until? })
}

/// `separator`: a text, or several of which each separates.
fn read_separators(keys: &mut Keys<'_, '_>) -> Vec<Spanned<String>> {
    let separators = keys.texts("separator");
    if separators.len() > limits::SEPARATORS {
        let (span, found) = (separators[limits::SEPARATORS].span.clone(), separators.len());
        keys.problem(span, ProblemKind::TooMany { what: "separators", found, limit: limits::SEPARATORS });
    }
    for separator in &separators {
        keys.check_short("separator", separator);
    }
    separators
}

/// `charset`: a character set, or several of which the first that fits is it.
pub(super) fn read_charsets(keys: &mut Keys<'_, '_>) -> Vec<Charset> {
    let mut charsets = Vec::new();
    for text in keys.texts("charset") {
        match Charset::WORDS.iter().find(|(word, _)| *word == text.value) {
            Some((_, charset)) if !charsets.contains(charset) => charsets.push(*charset),
            Some(_) => keys.problem(text.span, ProblemKind::Twice { what: "character set", name: text.value }),
            None => {
                let words = Charset::WORDS.iter().map(|(word, _)| *word);
                keys.problem(text.span, unknown_word("character set", &text.value, words));
            }
        }
    }
    charsets
}

/// `quote`: a character that no separator has.
fn read_quote(keys: &mut Keys<'_, '_>, separators: &[Spanned<String>], assign: Option<&Spanned<String>>) -> Option<u8> {
    let text = keys.text("quote")?;
    match text.value.as_bytes() {
        [quote] if quote.is_ascii_graphic() => {
            if separators.iter().chain(assign).any(|separator| separator.value.as_bytes().contains(quote)) {
                let with = "a `separator` or `assign` that has the same character".to_string();
                keys.problem(text.span, ProblemKind::Conflict { key: "quote", with });
                return None;
            }
            Some(*quote)
        }
        _ => {
            let found = alloc::format!("the text \"{}\"", text.value.escape_debug());
            let expected = "one ASCII character that can be seen";
            keys.problem(text.span, ProblemKind::WrongValue { key: "quote".to_string(), expected, found });
            None
        }
    }
}
