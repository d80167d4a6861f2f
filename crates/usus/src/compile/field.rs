//! Compiling one field: its raw form and what is made of it.

use alloc::borrow::ToOwned;
use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::expression::Type;
use crate::format::{BcdType, BitsFrom, Field as Declared, FieldType, Literal, Place, Ratio, Spanned};
use crate::integer::{Integer, Order, Sign};
use crate::limits;
use crate::plan::{
    At, Bcd, Constant, Convert, Field, Meaning, NumberOf, Raw, Reading, ScaleFrom, SentUnits, Separation, SignFrom,
    Taken, Tests, UnitFrom, Word,
};
use crate::problem::{ProblemKind, Problems};
use crate::schema::{FieldSchema, Numbers};
use crate::unit::{self, Conversion};
use crate::value::{Decimal, FIRST_YEAR, Layout, LayoutOf, Notation, ValueType, instant, parse_offset, sent, sent_as};

/// Finds another field of the record, or the known name most like it.
pub(super) type Lookup<'a> = dyn Fn(&str) -> Result<(Declared, Field), Option<String>> + 'a;

/// The declared type, or what stands for it when none is declared.
pub(super) fn field_type(field: &Declared, medium: Reading, problems: &mut Problems) -> Option<FieldType> {
    match (&field.kind, medium) {
        (Some(kind), _) => Some(kind.value),
        (None, Reading::Text) => Some(FieldType::Text),
        (None, Reading::Bytes) => {
            problems.add(field.span.clone(), ProblemKind::MissingKey { key: "type", table: "a field of a packet" });
            None
        }
    }
}

/// Bytes that a field of a packet takes; `None` inside if that varies.
pub(super) fn byte_size(field: &Declared, kind: FieldType) -> Option<usize> {
    match kind {
        FieldType::Integer(integer) => Some(usize::from(integer.bytes)),
        FieldType::HexInteger(integer) => Some(2 * usize::from(integer.bytes)),
        FieldType::Bcd(BcdType::Integer(integer)) => Some(usize::from(integer.bytes)),
        FieldType::F32(_) => Some(4),
        FieldType::F64(_) => Some(8),
        _ => field.width.as_ref()?.value.bytes(),
    }
}

/// Columns that a field of a text takes.
pub(super) fn column_size(
    declared: &Declared,
    kind: FieldType,
    layout: Option<&Layout>,
    separation: &Separation,
) -> usize {
    match kind {
        // Its digits may be spread over several.
        FieldType::HexInteger(integer) => match &declared.place {
            Place::Columns(place) => {
                let columns = (place.value.1 + 1).saturating_sub(place.value.0);
                if columns > 0 && (2 * usize::from(integer.bytes)).is_multiple_of(columns) { columns } else { 1 }
            }
            _ => 1,
        },
        FieldType::Latitude | FieldType::Longitude => 2,
        FieldType::Clock | FieldType::Date | FieldType::DateTime => {
            1 + layout.map_or(0, |layout| separation.count(&layout.between()))
        }
        _ => 1,
    }
}

/// The layout of a date or clock field.
pub(super) fn layout_of(field: &Declared, kind: FieldType, problems: &mut Problems) -> Option<Layout> {
    let (of, default, expected) = match kind {
        FieldType::Date | FieldType::Bcd(BcdType::Date) => {
            (LayoutOf::Date, None, "day, month and year, as in \"DDMMYY\" or \"DD MMM YYYY\"")
        }
        FieldType::Clock | FieldType::Bcd(BcdType::Clock) => (
            LayoutOf::Clock,
            Some(if kind == FieldType::Clock { "hh:mm:ss" } else { "hhmmss" }),
            "hours and minutes, and perhaps seconds, as in \"hhmmss\" or \"hh:mm AM\"",
        ),
        FieldType::DateTime | FieldType::Bcd(BcdType::DateTime) => {
            (LayoutOf::DateTime, None, "the parts of a date and of a clock, as in \"YYYY-MM-DD hh:mm:ss\"")
        }
        _ => return None,
    };
    // A day and a month are easily taken for each other: a date has to say which is which.
    let Some(text) = field.layout.as_ref().map(|layout| layout.value.as_str()).or(default) else {
        problems.add(field.span.clone(), ProblemKind::MissingKey { key: "layout", table: "a date" });
        return None;
    };
    let first_year = field.first_year.as_ref().and_then(|year| i16::try_from(year.value).ok()).unwrap_or(FIRST_YEAR);
    let zone = field.zone.as_ref().and_then(|zone| parse_offset(zone.value.as_bytes()));
    let layout = Layout::parse(text, of, first_year, zone.map(|(offset, _)| offset));
    if let (None, Some(written)) = (&layout, &field.layout) {
        let found = format!("the text \"{}\"", written.value.escape_debug());
        problems.add(written.span.clone(), ProblemKind::WrongValue { key: "layout".to_owned(), expected, found });
    }
    layout
}

/// Compiles a field that stands at `at`. `lookup` finds another field of the record by name, for `unit_from`.
pub(super) fn compile(
    declared: &Declared,
    kind: FieldType,
    at: At,
    medium: Reading,
    separation: &Separation,
    lookup: &Lookup<'_>,
    problems: &mut Problems,
) -> Option<Field> {
    check_keys(declared, kind, medium, problems);
    if let (Some(label), false) = (&declared.label, separation.is_pairs()) {
        let with = "a frame that is not read as pairs".to_string();
        problems.add(label.span.clone(), ProblemKind::Conflict { key: "label", with });
    }
    let layout = layout_of(declared, kind, problems);
    let raw = raw(declared, kind, medium, layout.as_ref(), separation, problems)?;
    let meaning = match kind {
        FieldType::Integer(_) => number(declared, kind, NumberOf::Integer, lookup, problems),
        // Where they lie was found out before: they are bits of an integer.
        FieldType::Bits { .. } => return None,
        FieldType::Number => number(declared, kind, NumberOf::Decimal, lookup, problems),
        FieldType::Hex => number(declared, kind, NumberOf::Hex, lookup, problems),
        FieldType::HexInteger(integer) => {
            number(declared, kind, NumberOf::HexInteger(taken(declared, integer)), lookup, problems)
        }
        FieldType::Bcd(BcdType::Number | BcdType::Integer(_)) => {
            number(declared, kind, NumberOf::Decimal, lookup, problems)
        }
        FieldType::F32(_) | FieldType::F64(_) => Meaning::Float,
        FieldType::Text => Meaning::Text {
            fill: declared.fill,
            codes: declared
                .codes
                .iter()
                .flat_map(|(key, name)| {
                    literal_sent(&key.value, declared).into_iter().map(|sent| (sent, name.as_str().into()))
                })
                .collect(),
            charsets: declared.charsets.as_slice().into(),
        },
        FieldType::Bytes => Meaning::Bytes,
        FieldType::HexBytes => Meaning::HexBytes,
        FieldType::Latitude => Meaning::Degrees { most: 90, letters: *b"NS" },
        FieldType::Longitude => Meaning::Degrees { most: 180, letters: *b"EW" },
        FieldType::Clock | FieldType::Bcd(BcdType::Clock) => Meaning::Clock(layout?),
        FieldType::Date | FieldType::Bcd(BcdType::Date) => Meaning::Date(layout?),
        FieldType::DateTime | FieldType::Bcd(BcdType::DateTime) => Meaning::DateTime(layout?),
        FieldType::Bool => {
            if declared.codes.is_empty() {
                problems.add(declared.span.clone(), ProblemKind::MissingKey { key: "codes", table: "a `bool`" });
            }
            Meaning::Bool(
                declared
                    .codes
                    .iter()
                    .flat_map(|(key, name)| {
                        literal_sent(&key.value, declared).into_iter().map(move |sent| (sent, name == "true"))
                    })
                    .collect(),
            )
        }
    };
    let mut no_data: Vec<Constant> = Vec::new();
    for literal in &declared.no_data {
        let one = constant(literal, kind, declared, "no_data", problems);
        no_data.extend(one);
        if let (Literal::Text(text), Some(Constant::Text(_))) = (&literal.value, no_data.last()) {
            no_data.extend(sent_as(text, &declared.charsets).into_iter().skip(1).map(Constant::Text));
        }
    }
    super::doubt::field(declared, kind, problems);
    let notation = notation(declared, problems);
    let mut field = Field {
        at,
        raw,
        no_data: no_data.into(),
        meaning,
        notation: notation.filter(|notation| !notation.is_plain()).map(Box::new),
        range: declared.range.as_ref().map(|range| range.value),
        closed: declared.closed,
        word: None,
        tests: None,
    };
    shorten(&mut field);
    Some(field)
}

/// Finds the short way to a field's value, if there is one.
fn shorten(field: &mut Field) {
    (field.word, field.tests) = word(field).unzip();
    field.tests = field.tests.take().filter(|tests| !tests.is_nothing());
}

/// The short way to an integer's value, if all of it fits 64 bits.
fn word(field: &Field) -> Option<(Word, Box<Tests>)> {
    if field.closed {
        return None;
    }
    let (Raw::Integer(taken), Meaning::Number { convert, codes, .. }) = (&field.raw, &field.meaning) else {
        return None;
    };
    let Taken { integer, bits, sign: Sign::Complement } = *taken else { return None };
    let (first, last) = match bits {
        Some(bits) => bits.single()?,
        None => (0, integer.bytes * 8 - 1),
    };
    if integer.bytes > 8 || matches!(integer.order, Order::Letters(_)) {
        return None;
    }
    let width = last - first + 1;
    let whole = |number: &Decimal| i64::try_from(number.to_integer()?).ok();
    let scale = convert.scale.unwrap_or(Decimal::from_integer(1));
    let add = convert.add.unwrap_or(Decimal::ZERO);
    let places = scale.places().max(add.places());
    let at_places = |number: Decimal| {
        let missing = places.checked_sub(number.places())?;
        number.small_coefficient()?.checked_mul(10i64.checked_pow(missing.into())?)
    };
    let (factor, addend) = (at_places(scale)?, at_places(add)?);
    let range = match field.range {
        Some([low, high]) => (at_places(low)?, at_places(high)?),
        None => Tests::ANY,
    };
    let no_data = match &*field.no_data {
        [] => None,
        [Constant::Number(number)] => Some(whole(number)?),
        _ => return None,
    };
    let codes: Box<[i64]> = codes.iter().map(|(number, _)| whole(number)).collect::<Option<_>>()?;
    // A raw value of 64 unsigned bits, or a product of more, takes the long way.
    let fits = u32::from(width) + (64 - factor.unsigned_abs().leading_zeros()) <= 62 && addend.unsigned_abs() < 1 << 62;
    let told_elsewhere =
        convert.sign.is_some() || convert.scale_from.is_some() || convert.unit.is_some() || convert.sent.is_some();
    if factor <= 0 || !fits || told_elsewhere || (!integer.signed && width == 64) {
        return None;
    }
    let (At::Front(first_byte) | At::Part { offset: first_byte, .. }) = field.at else { return None };
    let big = integer.order == Order::Big;
    let word = Word {
        first: u32::try_from(first_byte).ok()?,
        big,
        // High byte first, the field ends the word's top bytes; low byte first, it begins at the lowest bit.
        shift: if big { 64 - integer.bytes * 8 + first } else { first },
        mask: u64::MAX >> (64 - width),
        sign: if integer.signed { 1 << (width - 1) } else { 0 },
        size: integer.bytes,
        places,
        factor,
        addend,
    };
    Some((word, Box::new(Tests { range, no_data, codes })))
}

fn raw(
    declared: &Declared,
    kind: FieldType,
    medium: Reading,
    layout: Option<&Layout>,
    separation: &Separation,
    problems: &mut Problems,
) -> Option<Raw> {
    if let FieldType::HexInteger(integer) = kind {
        check_bits(declared, integer, problems)?;
    }
    if medium == Reading::Text {
        if let Place::Characters(chars) = &declared.place {
            return Some(Raw::Characters(chars.value.0 - 1, chars.value.1));
        }
        let columns = column_size(declared, kind, layout, separation);
        return Some(match separation {
            Separation::Byte(_) => Raw::Columns(columns),
            Separation::Apart(_) if !separation.has_columns() => Raw::Found,
            Separation::Apart(_) => Raw::Apart(columns),
        });
    }
    match kind {
        FieldType::Integer(integer) => {
            check_bits(declared, integer, problems)?;
            Some(Raw::Integer(taken(declared, integer)))
        }
        FieldType::F32(order) => Some(Raw::F32(order)),
        FieldType::F64(order) => Some(Raw::F64(order)),
        FieldType::HexInteger(integer) => Some(Raw::Bytes(Some(2 * usize::from(integer.bytes)))),
        FieldType::Bcd(of) => {
            let (bytes, order) = match of {
                BcdType::Integer(integer) => (usize::from(integer.bytes), integer.order),
                _ => (declared.width.as_ref()?.value.bytes()?, Order::Big),
            };
            if bytes > Bcd::MOST {
                let kind = ProblemKind::TooMany { what: "bytes of digits", found: bytes, limit: Bcd::MOST };
                problems.add(declared.span.clone(), kind);
                return None;
            }
            let low_first = declared.bits_from.as_ref().is_some_and(|from| from.value == BitsFrom::Low);
            Some(Raw::Bcd(Bcd { bytes, order, low_first }))
        }
        _ => Some(Raw::Bytes(declared.width.as_ref().and_then(|width| width.value.bytes()))),
    }
}

/// How an integer is taken from its bytes, as it is declared.
pub(super) fn taken(declared: &Declared, integer: Integer) -> Taken {
    let sign = declared.sign.as_ref().map_or(Sign::Complement, |sign| sign.value);
    Taken { integer, bits: declared.bits.as_ref().map(|bits| bits.value), sign }
}

/// Reports bits that an integer does not have.
fn check_bits(declared: &Declared, integer: Integer, problems: &mut Problems) -> Option<()> {
    let Some(bits) = declared.bits.as_ref().filter(|bits| bits.value.highest() >= integer.bytes.saturating_mul(8))
    else {
        return Some(());
    };
    let kind = ProblemKind::WrongValue {
        key: "bits".to_owned(),
        expected: "bits of the field's own type",
        found: format!("bit {} of {} bits", bits.value.highest(), integer.bytes * 8),
    };
    problems.add(bits.span.clone(), kind);
    None
}

/// Reports keys that do not go with the type or the medium.
fn check_keys(declared: &Declared, kind: FieldType, medium: Reading, problems: &mut Problems) {
    let binary = matches!(kind, FieldType::Integer(_));
    let integer = binary || matches!(kind, FieldType::HexInteger(_));
    let bcd_number = matches!(kind, FieldType::Bcd(BcdType::Number | BcdType::Integer(_)));
    let numeric = integer || bcd_number || matches!(kind, FieldType::Number | FieldType::Hex);
    let float = matches!(kind, FieldType::F32(_) | FieldType::F64(_));
    let texts_only = matches!(kind, FieldType::Number | FieldType::Hex | FieldType::Latitude | FieldType::Longitude)
        || matches!(kind, FieldType::Clock | FieldType::Date | FieldType::DateTime | FieldType::Bool);
    let bcd = matches!(kind, FieldType::Bcd(_));
    let sized =
        texts_only || matches!(kind, FieldType::Text | FieldType::Bytes | FieldType::HexBytes | FieldType::Bcd(_));
    let sized = sized && !matches!(kind, FieldType::Bcd(BcdType::Integer(_)));
    let mut conflict = |present: bool, key: &'static str, with: &str| {
        if present {
            problems.add(declared.span.clone(), ProblemKind::Conflict { key, with: with.to_string() });
        }
    };
    let in_bytes = medium == Reading::Bytes;
    let is_sized = declared.width.is_some() || (declared.until.is_some() && !bcd);
    let unsized_text = in_bytes && (texts_only || bcd) && sized && !is_sized;
    conflict(unsized_text, "type", "a packet, unless `width` or `until` says how many bytes it takes");
    let told = declared.width.as_ref().is_some_and(|width| width.value.bytes().is_none());
    conflict(told && bcd, "width", "digits of which two lie in a byte, unless it is a number");
    conflict(
        declared.until.is_some() && !(in_bytes && sized && !bcd),
        "until",
        "this type: of a packet, texts and bytes end so",
    );
    conflict(declared.until.is_some() && declared.width.is_some(), "until", "`width`");
    conflict(
        !in_bytes && (binary || float || bcd || matches!(kind, FieldType::Bytes | FieldType::Bits { .. })),
        "type",
        "a text: it is a type of packets; use `number` or `text`, or say `digits = \"hex\"`",
    );
    conflict(
        declared.width.is_some() && !(in_bytes && sized),
        "width",
        "this type: only what has no size of its own has one, in packets",
    );
    conflict(declared.bits.is_some() && !integer, "bits", "this type: only integers have bits");
    let signed = matches!(kind, FieldType::Integer(integer) | FieldType::HexInteger(integer) if integer.signed);
    conflict(declared.sign.is_some() && !signed, "sign", "this type: only integers with a sign have one");
    conflict(declared.sign.is_some() && !declared.flags.is_empty(), "sign", "`flags`");
    conflict(declared.bits_from.is_some() && !bcd, "bits_from", "this type: of a field it is for `digits = \"bcd\"`");
    conflict(!declared.flags.is_empty() && !integer, "flags", "this type: only integers have bits");
    conflict(!declared.flags.is_empty() && declared.bits.is_some(), "bits", "`flags`");
    let coded = numeric || matches!(kind, FieldType::Text | FieldType::Bool);
    conflict(!declared.codes.is_empty() && !coded, "codes", "this type");
    let is_scaled = declared.scale.is_some() || declared.ratio.is_some();
    conflict(is_scaled && !numeric, "scale", "this type: only integers and numbers are scaled");
    conflict(
        declared.scale_from.is_some() && !numeric,
        "scale_from",
        "this type: only integers and numbers are scaled",
    );
    conflict(declared.scale_from.is_some() && declared.counter, "scale_from", "`counter`");
    conflict(declared.add.is_some() && !numeric, "add", "this type: only integers and numbers are scaled");
    conflict(declared.sign_from.is_some() && !numeric, "sign_from", "this type: only numbers have a sign");
    conflict(declared.sign_from.is_some() && declared.counter, "sign_from", "`counter`");
    conflict(declared.unit_from.is_some() && !numeric, "unit_from", "this type: only numbers convert");
    conflict(declared.unit_from.is_some() && declared.unit.is_none(), "unit_from", "a field without `unit`");
    let units = usize::from(declared.unit_from.is_some())
        + usize::from(declared.unit_sent.is_some())
        + usize::from(declared.suffixes.iter().any(|(_, unit)| unit.is_some()));
    conflict(units > 1, "unit_sent", "something else that tells the unit which is sent");
    conflict(declared.unit_sent.is_some() && !numeric, "unit_sent", "this type: only numbers convert");
    let converts = units > 0 || declared.ratio.is_some();
    conflict(declared.places.is_some() && !converts, "places", "a field whose unit is not converted");
    let written = kind == FieldType::Number;
    for (key, said) in [
        ("suffix", !declared.suffixes.is_empty()),
        ("decimal", declared.decimal.is_some()),
        ("thousands", declared.thousands.is_some()),
        ("limit_marks", declared.limit_marks.is_some()),
    ] {
        conflict(said && !written, key, "this type: only a `number` is written so");
    }
    conflict(
        declared.range.is_some() && !(numeric || float || matches!(kind, FieldType::Latitude | FieldType::Longitude)),
        "range",
        "this type",
    );
    let bcd_time = matches!(kind, FieldType::Bcd(BcdType::Clock | BcdType::Date | BcdType::DateTime));
    conflict(
        declared.layout.is_some()
            && !(bcd_time || matches!(kind, FieldType::Clock | FieldType::Date | FieldType::DateTime)),
        "layout",
        "this type: only dates and clocks have one",
    );
    let dated = matches!(kind, FieldType::Date | FieldType::DateTime)
        || matches!(kind, FieldType::Bcd(BcdType::Date | BcdType::DateTime));
    conflict(declared.since.is_some() && !numeric, "since", "this type: only integers and numbers count seconds");
    let plain_number =
        declared.codes.is_empty() && declared.flags.is_empty() && declared.unit.is_none() && declared.range.is_none();
    conflict(declared.since.is_some() && !plain_number, "since", "`codes`, `flags`, `unit` or `range`");
    conflict(declared.since.is_some() && declared.counter, "since", "`counter`");
    conflict(declared.first_year.is_some() && !dated, "first_year", "this type: only dates have one");
    let zoned = matches!(kind, FieldType::DateTime | FieldType::Bcd(BcdType::DateTime));
    conflict(declared.zone.is_some() && !zoned, "zone", "this type: only a date with a time of day has one");
    let is_bytes = matches!(kind, FieldType::Bytes | FieldType::HexBytes);
    conflict(!declared.charsets.is_empty() && is_bytes, "charset", "this type: it has no characters");
    conflict(declared.fill.is_some() && kind != FieldType::Text, "fill", "this type: only texts are filled");
    conflict(declared.counter && !numeric, "counter", "this type: only numbers count");
    conflict(declared.rollover.is_some() && !declared.counter, "rollover", "a field that is no `counter`");
    conflict(declared.closed && declared.codes.is_empty(), "closed", "a field without `codes`");
    let may_be_invalid = texts_only || bcd || declared.closed;
    conflict(declared.strict && in_bytes && !may_be_invalid, "invalid", "this type: every value of it is valid");
}

/// How a number is made, with its scale, codes and unit.
fn number(declared: &Declared, kind: FieldType, of: NumberOf, lookup: &Lookup<'_>, problems: &mut Problems) -> Meaning {
    let mut codes = Vec::new();
    for (key, name) in &declared.codes {
        match code_of(&key.value, kind, declared) {
            Some(number) => codes.push((number, name.as_str().into())),
            None => {
                let found = describe(&key.value);
                let expected = "numbers as keys";
                problems.add(key.span.clone(), ProblemKind::WrongValue { key: "codes".to_owned(), expected, found });
            }
        }
    }
    let unit = declared.unit_from.as_ref().and_then(|from| unit_from(declared, from, lookup, problems));
    let convert = Convert {
        scale: declared.scale.as_ref().map(|scale| scale.value),
        scale_from: scale_from(declared, lookup, problems).map(Box::new),
        // What is added to a ratio is part of its conversion.
        add: declared.add.as_ref().filter(|_| declared.ratio.is_none()).map(|add| add.value),
        sign: sign_from(declared, lookup, problems).map(Box::new),
        unit: unit.map(Box::new),
        sent: ratio(declared, problems).or_else(|| sent_units(declared, problems)).map(Box::new),
    };
    if let Some(since) = declared.since.as_ref().and_then(|since| instant(&since.value)) {
        return Meaning::Since { of, convert, since };
    }
    Meaning::Number { of, convert, codes: codes.into() }
}

/// A key of `codes`: TOML keys are texts, so numbers are read from them, in decimal or as 0x….
fn code_of(key: &Literal, kind: FieldType, declared: &Declared) -> Option<Decimal> {
    match kind {
        FieldType::Integer(integer) | FieldType::HexInteger(integer) => code_number(key, taken(declared, integer)),
        // Whoever sends digits sends no sign in their bits.
        _ => code_number(key, Taken::whole(Integer { signed: false, bytes: 8, order: Order::Big })),
    }
}

/// A key of `codes` of an integer.
pub(super) fn code_number(key: &Literal, taken: Taken) -> Option<Decimal> {
    match key {
        Literal::Number(number) => Some(*number),
        Literal::Bits(pattern) => Some(bits_of(*pattern, taken)),
        Literal::Text(text) => match text.strip_prefix("0x") {
            Some(digits) => u64::from_str_radix(digits, 16).ok().map(|pattern| bits_of(pattern, taken)),
            None => Decimal::parse(text.as_bytes()),
        },
        Literal::Bool(_) => None,
    }
}

/// The number that a pattern of bits is in an integer, or in some of its bits. What does not fit stays as it is.
pub(super) fn bits_of(pattern: u64, taken: Taken) -> Decimal {
    let fits = pattern <= u64::MAX >> (64 - taken.width());
    if fits { taken.value(pattern) } else { Decimal::from_unsigned(pattern) }
}

/// A suffix as it is sent, and the unit that it means.
type SentSuffix<'d> = (Box<[u8]>, Option<&'d Spanned<String>>);

/// The suffixes of a field, the longest first.
fn suffixes(declared: &Declared) -> Vec<SentSuffix<'_>> {
    let all = declared.suffixes.iter().flat_map(|(suffix, unit)| {
        sent_as(&suffix.value, &declared.charsets).into_iter().map(move |sent| (sent, unit.as_ref()))
    });
    let mut all: Vec<_> = all.collect();
    all.sort_by_key(|(suffix, _)| core::cmp::Reverse(suffix.len()));
    all
}

/// How the field's numbers are written.
pub(super) fn notation(declared: &Declared, problems: &mut Problems) -> Option<Notation> {
    let byte = |text: &Option<Spanned<String>>| text.as_ref().and_then(|text| text.value.bytes().next());
    let suffixes: Vec<Box<[u8]>> = suffixes(declared).into_iter().map(|(suffix, _)| suffix).collect();
    let decimal = byte(&declared.decimal).filter(|byte| *byte != b'.');
    let thousands = byte(&declared.thousands);
    if let Some(written) = declared.thousands.as_ref().filter(|_| thousands == Some(decimal.unwrap_or(b'.'))) {
        let with = "the same mark before the places".to_string();
        problems.add(written.span.clone(), ProblemKind::Conflict { key: "thousands", with });
        return None;
    }
    let limit_marks = declared.limit_marks.as_ref();
    let limit_marks = limit_marks.map(|marks| marks.value.clone().map(|mark| sent(&mark, &declared.charsets)));
    Some(Notation { decimal, thousands, suffixes: suffixes.into(), limit_marks })
}

/// A scale that is a ratio, with what is added then: as from one unit to another.
fn ratio(declared: &Declared, problems: &mut Problems) -> Option<SentUnits> {
    let ratio = declared.ratio.as_ref()?;
    let Some(places) = &declared.places else {
        let kind = ProblemKind::Senseless("a ratio needs `places`: to how many a value is rounded");
        problems.add(ratio.span.clone(), kind);
        return None;
    };
    let others = [
        ("`scale_from`", declared.scale_from.is_some()),
        ("`unit_from`", declared.unit_from.is_some()),
        ("`unit_sent`", declared.unit_sent.is_some()),
        ("`suffix`", !declared.suffixes.is_empty()),
        ("`since`", declared.since.is_some()),
    ];
    for (with, _) in others.into_iter().filter(|(_, given)| *given) {
        let with = alloc::format!("{with}: a ratio is no number");
        problems.add(ratio.span.clone(), ProblemKind::Conflict { key: "scale", with });
    }
    let add = declared.add.as_ref().map_or(Some((0, 1)), |add| fraction(add.value));
    let Some(addend) = add else {
        problems.add(ratio.span.clone(), ProblemKind::Senseless("what is added to a ratio has at most 18 places"));
        return None;
    };
    let Ratio { numerator, denominator } = ratio.value;
    let conversion = Conversion { numerator: numerator.into(), denominator: denominator.into(), addend };
    Some(SentUnits { conversions: [conversion].into(), places: Some(places.value) })
}

/// A number as a fraction, if it is not too long.
fn fraction(number: Decimal) -> Option<(i128, i128)> {
    let denominator = 10i128.checked_pow(u32::from(number.places())).filter(|_| number.places() <= 18)?;
    let whole = i64::try_from(number.magnitude()).ok()?;
    Some((if number.is_negative() { -i128::from(whole) } else { whole.into() }, denominator))
}

/// From the units that `unit_sent` or the suffixes name to that of the value, in the order of the notation's suffixes.
fn sent_units(declared: &Declared, problems: &mut Problems) -> Option<SentUnits> {
    let mut sent: Vec<&Spanned<String>> = declared.unit_sent.iter().collect();
    let suffixes = suffixes(declared);
    sent.extend(suffixes.iter().filter_map(|(_, unit)| *unit));
    let first = sent.first()?;
    let Some(wanted) = &declared.unit else {
        let with = "a field without `unit`".to_string();
        let key = if declared.unit_sent.is_some() { "unit_sent" } else { "suffix" };
        problems.add(first.span.clone(), ProblemKind::Conflict { key, with });
        return None;
    };
    let mut conversions = Vec::new();
    for unit in sent {
        match unit::conversion(&unit.value, &wanted.value) {
            Some(conversion) => conversions.push(conversion),
            None => {
                let kind = ProblemKind::Unit { from: unit.value.clone(), to: wanted.value.clone() };
                problems.add(unit.span.clone(), kind);
            }
        }
    }
    // Without units of their own, all suffixes stand behind the one that is sent.
    while conversions.len() < suffixes.len() {
        conversions.push(*conversions.first()?);
    }
    Some(SentUnits { conversions: conversions.into(), places: declared.places.as_ref().map(|places| places.value) })
}

/// A field that tells how another is sent: as it is declared, and as what was sent of it is compared, not the name of that.
fn told_by(
    from: &Spanned<String>,
    without_codes: &'static str,
    lookup: &Lookup<'_>,
    problems: &mut Problems,
) -> Option<(Declared, Field)> {
    let (source, mut field) = match lookup(&from.value) {
        Ok(found) => found,
        Err(nearest) => {
            let kind = ProblemKind::UnknownName { what: "field", name: from.value.clone(), nearest };
            problems.add(from.span.clone(), kind);
            return None;
        }
    };
    if source.codes.is_empty() {
        problems.add(from.span.clone(), ProblemKind::Senseless(without_codes));
        return None;
    }
    match &mut field.meaning {
        Meaning::Text { codes, .. } => *codes = Box::default(),
        Meaning::Number { codes, .. } => *codes = Box::default(),
        _ => {}
    }
    shorten(&mut field);
    Some((source, field))
}

/// What was sent where a code is meant.
fn sent_code(source: &Declared, field: &Field, key: &Literal) -> Option<Constant> {
    let kind = source.kind.as_ref().map_or(FieldType::Text, |kind| kind.value);
    match &field.meaning {
        Meaning::Text { .. } => literal_sent(key, source).into_iter().next().map(Constant::Text),
        _ => code_of(key, kind, source).map(Constant::Number),
    }
}

fn scale_from(declared: &Declared, lookup: &Lookup<'_>, problems: &mut Problems) -> Option<ScaleFrom> {
    let from = declared.scale_from.as_ref()?;
    if let Ok((source, field)) = lookup(&from.value)
        && source.codes.is_empty()
    {
        if !matches!(field.meaning, Meaning::Number { .. }) {
            problems
                .add(from.span.clone(), ProblemKind::Senseless("the field that tells the scale has to be a number"));
        }
        return Some(ScaleFrom { field, scales: Box::default() });
    }
    let without_codes = "the field that tells the scale is a number, or has `codes` that are numbers";
    let (source, field) = told_by(from, without_codes, lookup, problems)?;
    let mut scales = Vec::new();
    for (key, name) in &source.codes {
        match Decimal::parse(name.as_bytes()) {
            Some(scale) => scales.extend(sent_code(&source, &field, &key.value).map(|sent| (sent, scale))),
            None => {
                let found = format!("the text \"{}\"", name.escape_debug());
                let expected = "numbers as names: they are scales";
                problems.add(from.span.clone(), ProblemKind::WrongValue { key: "codes".to_owned(), expected, found });
            }
        }
    }
    Some(ScaleFrom { field, scales: scales.into() })
}

fn sign_from(declared: &Declared, lookup: &Lookup<'_>, problems: &mut Problems) -> Option<SignFrom> {
    let from = declared.sign_from.as_ref()?;
    let without_codes = "the field that tells the sign needs `codes` that are called \"+\" and \"-\"";
    let (source, field) = told_by(from, without_codes, lookup, problems)?;
    let sign = |(key, name): &(Spanned<Literal>, String)| {
        let is_minus = match name.as_str() {
            "+" => false,
            "-" => true,
            _ => return None,
        };
        Some((sent_code(&source, &field, &key.value)?, is_minus))
    };
    let signs: Box<[(Constant, bool)]> = source.codes.iter().filter_map(sign).collect();
    if signs.is_empty() {
        problems.add(from.span.clone(), ProblemKind::Senseless(without_codes));
    }
    Some(SignFrom { field, signs })
}

fn unit_from(
    declared: &Declared,
    from: &Spanned<String>,
    lookup: &Lookup<'_>,
    problems: &mut Problems,
) -> Option<UnitFrom> {
    let wanted = declared.unit.as_ref()?;
    let without_codes = "the field that tells the unit needs `codes` that name the units";
    let (source, field) = told_by(from, without_codes, lookup, problems)?;
    let mut units = Vec::new();
    for (key, name) in &source.codes {
        match unit::conversion(name, &wanted.value) {
            Some(conversion) => {
                let constant = sent_code(&source, &field, &key.value);
                units.extend(constant.map(|constant| (constant, conversion)));
            }
            None => {
                let kind = ProblemKind::Unit { from: name.clone(), to: wanted.value.clone() };
                problems.add(wanted.span.clone(), kind);
            }
        }
    }
    let places = declared.places.as_ref().map(|places| places.value);
    Some(UnitFrom { field, units: units.into(), places })
}

/// All ways in which a literal may be sent in the character sets of its field.
fn literal_sent(literal: &Literal, declared: &Declared) -> Vec<Box<[u8]>> {
    let text = match literal {
        Literal::Text(text) => text.clone(),
        Literal::Number(number) => number.to_string(),
        Literal::Bits(bits) => bits.to_string(),
        Literal::Bool(flag) => flag.to_string(),
    };
    sent_as(&text, &declared.charsets)
}

fn describe(literal: &Literal) -> String {
    match literal {
        Literal::Text(text) => format!("the text \"{}\"", text.escape_debug()),
        Literal::Number(number) => format!("the number {number}"),
        Literal::Bits(bits) => format!("the number {bits:#x}"),
        Literal::Bool(flag) => format!("`{flag}`"),
    }
}

/// A literal as what the raw value of a field is compared with.
pub(super) fn constant(
    literal: &Spanned<Literal>,
    kind: FieldType,
    declared: &Declared,
    key: &'static str,
    problems: &mut Problems,
) -> Option<Constant> {
    let texts = !matches!(kind, FieldType::Integer(_));
    let bcd_number = matches!(kind, FieldType::Bcd(BcdType::Number | BcdType::Integer(_)));
    let numbers = bcd_number
        || matches!(kind, FieldType::Integer(_) | FieldType::HexInteger(_) | FieldType::Number | FieldType::Hex)
        || matches!(kind, FieldType::F32(_) | FieldType::F64(_));
    match &literal.value {
        Literal::Number(number) if numbers => Some(Constant::Number(*number)),
        Literal::Bits(pattern) if numbers => Some(match kind {
            FieldType::Integer(integer) | FieldType::HexInteger(integer) => {
                Constant::Number(bits_of(*pattern, taken(declared, integer)))
            }
            FieldType::F32(_) | FieldType::F64(_) => Constant::Bits(*pattern),
            // A pattern of bits is one of digits.
            FieldType::Bcd(_) => {
                let digits = 2 * byte_size(declared, kind).unwrap_or(1);
                Constant::Text(format!("{pattern:0digits$X}").into_bytes().into())
            }
            _ => Constant::Number(Decimal::from_unsigned(*pattern)),
        }),
        Literal::Text(text) if texts && !matches!(kind, FieldType::F32(_) | FieldType::F64(_)) => {
            Some(Constant::Text(sent(text, &declared.charsets)))
        }
        other => {
            let expected = if numbers { "a number" } else { "a text" };
            let kind = ProblemKind::WrongValue { key: key.to_owned(), expected, found: describe(other) };
            problems.add(literal.span.clone(), kind);
            None
        }
    }
}

/// The type that an expression sees in a field; nothing if it cannot be used there.
pub(super) fn expression_type(field: &Field) -> Option<Type> {
    match field.meaning {
        Meaning::Number { .. } | Meaning::Float => Some(Type::Number),
        Meaning::Text { .. } => Some(Type::Text),
        _ => None,
    }
}

/// The field's entry in the schema.
pub(super) fn schema(declared: &Declared, kind: FieldType, name: &str) -> FieldSchema {
    let value_type = match kind {
        _ if declared.since.is_some() => ValueType::DateTime,
        FieldType::Integer(_) | FieldType::HexInteger(_) | FieldType::Number | FieldType::Hex
            if !declared.codes.is_empty() =>
        {
            ValueType::Code
        }
        FieldType::Bcd(BcdType::Number | BcdType::Integer(_)) if !declared.codes.is_empty() => ValueType::Code,
        FieldType::Number => ValueType::Decimal,
        FieldType::Integer(_) | FieldType::HexInteger(_) | FieldType::Hex | FieldType::Bits { .. }
            if is_whole(declared) =>
        {
            ValueType::Integer
        }
        FieldType::Bcd(BcdType::Number | BcdType::Integer(_)) if is_whole(declared) => ValueType::Integer,
        FieldType::Integer(_) | FieldType::HexInteger(_) | FieldType::Hex | FieldType::Bits { .. } => {
            ValueType::Decimal
        }
        FieldType::Bcd(BcdType::Number | BcdType::Integer(_)) => ValueType::Decimal,
        FieldType::F32(_) => ValueType::F32,
        FieldType::F64(_) => ValueType::F64,
        FieldType::Text => ValueType::Text,
        FieldType::Bytes | FieldType::HexBytes => ValueType::Bytes,
        FieldType::Latitude | FieldType::Longitude => ValueType::Decimal,
        FieldType::Clock | FieldType::Bcd(BcdType::Clock) => ValueType::Clock,
        FieldType::Date | FieldType::Bcd(BcdType::Date) => ValueType::Date,
        FieldType::DateTime | FieldType::Bcd(BcdType::DateTime) => ValueType::DateTime,
        FieldType::Bool => ValueType::Bool,
    };
    let surprises = declared.closed || !matches!(kind, FieldType::Integer(_) | FieldType::Bytes);
    let degrees = matches!(kind, FieldType::Latitude | FieldType::Longitude).then(|| "°".to_string());
    FieldSchema {
        name: name.to_string(),
        title: declared.title.clone(),
        tag: declared.tag.clone(),
        unit: declared.unit.as_ref().map(|unit| unit.value.clone()).or(degrees),
        value_type,
        declared: None,
        numbers: numbers(declared, kind),
        is_instant: false,
        has_quality: surprises
            || declared.since.is_some()
            || declared.range.is_some()
            || declared.unit_from.is_some()
            || declared.sign_from.is_some()
            || declared.scale_from.is_some()
            || declared.unit_sent.is_some()
            || declared.ratio.is_some(),
        items: Vec::new(),
        place: 0,
    }
}

/// Whether the values of a field are instants.
pub(super) fn is_instant(field: &Field) -> bool {
    match &field.meaning {
        Meaning::DateTime(layout) => layout.tells_offset(),
        Meaning::Since { since, .. } => since.offset().is_some(),
        _ => false,
    }
}

/// What the numbers of a field can be; nothing if its places, or how many digits it has, are known only with what is sent.
fn numbers(declared: &Declared, kind: FieldType) -> Option<Numbers> {
    let (bits, signed) = match kind {
        FieldType::Integer(integer) | FieldType::HexInteger(integer) => (u32::from(integer.bytes) * 8, integer.signed),
        FieldType::Bits { width, signed } => (u32::from(width), signed),
        FieldType::Bcd(BcdType::Integer(integer)) => (u32::from(integer.bytes) * 8, false),
        _ => return None,
    };
    let told = declared.unit_from.is_some() || declared.unit_sent.is_some() || declared.ratio.is_some();
    if told {
        let most = 10i128.pow(limits::DIGITS as u32) - 1;
        let numbers = |places: &Spanned<u8>| Numbers { places: places.value, least: -most, most };
        return declared.places.as_ref().map(numbers);
    }
    if declared.scale_from.is_some() {
        return None;
    }
    let most = match kind {
        FieldType::Bcd(_) => 10i128.pow(bits / 4) - 1,
        _ => (1i128 << bits) - 1,
    };
    let (least, most) = match (signed, &declared.sign, &declared.sign_from) {
        (true, None, None) => (-(1 << (bits - 1)), most >> 1),
        (false, None, None) => (0, most),
        _ => (-most, most),
    };
    let one = Decimal::from_integer(1);
    let scale = declared.scale.as_ref().map_or(one, |scale| scale.value);
    let add = declared.add.as_ref().map_or(Decimal::ZERO, |add| add.value);
    let places = scale.places().max(add.places());
    let at_places =
        |number: Decimal| number.coefficient().checked_mul(10i128.checked_pow(u32::from(places - number.places()))?);
    let (factor, addend) = (at_places(scale)?, at_places(add)?);
    let end = |raw: i128| raw.checked_mul(factor)?.checked_add(addend);
    let (one, other) = (end(least)?, end(most)?);
    Some(Numbers { places, least: one.min(other), most: one.max(other) })
}

/// Whether scaling keeps integers whole.
fn is_whole(declared: &Declared) -> bool {
    let whole = |number: &Option<Spanned<Decimal>>| number.as_ref().is_none_or(|number| number.value.places() == 0);
    let told = declared.unit_from.is_some() || declared.scale_from.is_some();
    whole(&declared.scale) && whole(&declared.add) && !told && declared.unit_sent.is_none() && declared.ratio.is_none()
}
