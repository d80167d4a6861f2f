//! Compiling a frame: how it is found, its header, its checksum, and what a layout says of them.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::sheet::{Sheet, header_fields, refuse_condition};
use super::{Draft, Placing, bytes, columns, field, pairs};
use crate::expression;
use crate::format::{self, CheckForm, FieldType, Format, Spanned};
use crate::integer::Order;
use crate::limits;
use crate::plan::{
    At, Burst, Check, CheckPlace, ChoiceKey, Coding, Dle, Edge, Envelope, Frame, Framing, LayoutRow, Length,
    LengthPast, Modbus, Packet, Pairs, PartBefore, Pattern, Raw, Reading, Sentence, Separation, Slot, Stuffed,
    Stuffing, Text,
};
use crate::problem::{ProblemKind, Problems};
use crate::time::Span;
use crate::value::{Decimal, sent};

pub(super) fn compile_frame(
    format: &Format,
    declared: &format::Frame,
    layout: &mut Vec<LayoutRow>,
    slots: &mut Vec<Slot>,
    problems: &mut Problems,
) -> Draft {
    let reading = match declared.reads() {
        format::Read::Bytes => Reading::Bytes,
        format::Read::Columns | format::Read::Pairs => Reading::Text,
    };
    let labels = (declared.reads() == format::Read::Pairs).then(|| pairs::labels_of(format, declared));
    let separation = separation(declared, labels.as_deref(), has_gaps(format, declared));
    let mut sheet = Sheet::new(reading, separation.clone(), &declared.name);
    let check = checks(declared, problems);
    let (mut lead, mut header) = (0, 0);
    let start = match &declared.cut {
        format::Cut::Packet { start, .. } => Some(start),
        format::Cut::Text { start, .. } => start.as_ref(),
        _ => None,
    };
    let line_start = start.filter(|_| matches!(declared.cut, format::Cut::Text { .. }));
    let start = start.map_or(0, format::BytePattern::length);
    let placing = match reading {
        Reading::Bytes => {
            let mut placing = bytes::Placing::new(start, declared.bits_from.unwrap_or_default(), &declared.span);
            header = bytes_header(&mut sheet, &mut placing, declared, start, problems);
            Placing::Bytes(placing)
        }
        Reading::Text => {
            lead = start;
            header = header.max(start);
            match &labels {
                None => Placing::Columns(text_header(&mut sheet, declared, problems)),
                Some(labels) => Placing::Pairs(pairs_header(&mut sheet, labels, declared, problems)),
            }
        }
    };
    let framing = match &declared.cut {
        format::Cut::Text { end, idle, .. } => {
            let idle = idle.and_then(|idle| silence(format, declared, idle, problems));
            Framing::Text(Text { end: *end, idle, limit: format.limits.line })
        }
        format::Cut::Sentence { checksum, anywhere } => {
            Framing::Sentence(Sentence { checksum: *checksum, anywhere: *anywhere })
        }
        format::Cut::Packet { start, length, end } => {
            Framing::Packet(Box::new(packet(declared, start, length, end.as_ref(), header, problems)))
        }
        format::Cut::Slip => Framing::Stuffed(Stuffed { stuffing: Stuffing::Slip, longest: 0 }),
        format::Cut::Cobs => Framing::Stuffed(Stuffed { stuffing: Stuffing::Cobs, longest: 0 }),
        format::Cut::Hdlc => Framing::Stuffed(Stuffed { stuffing: Stuffing::Hdlc, longest: 0 }),
        format::Cut::Dle { start, end: [escape, end] } => Framing::Dle(Dle {
            escape: *escape,
            start: start.get(1).copied(),
            end: *end,
            behind: declared.checksum_behind(),
            longest: 0,
        }),
        format::Cut::ModbusRtu { direction } => Framing::Modbus(directions(*direction)),
        format::Cut::Idle { idle, length } => Framing::Burst(Burst {
            idle: silence(format, declared, *idle, problems),
            length: length.as_ref().map(|length| length.value),
            limit: 0,
        }),
        format::Cut::Break { length } => {
            Framing::Burst(Burst { idle: None, length: length.as_ref().map(|length| length.value), limit: 0 })
        }
        format::Cut::Fixed { length } => {
            if declared.checksums.is_empty() && declared.header.iter().all(|field| field.equals.is_none()) {
                let why = "nothing tells these bytes from others: they need a checksum, or a constant in the `header`";
                problems.add(declared.span.clone(), ProblemKind::Senseless(why));
            }
            let (start, length) = (format::BytePattern::from([]), format::Length::Fixed(length.clone()));
            Framing::Packet(Box::new(packet(declared, &start, &length, None, header, problems)))
        }
    };
    layout.extend(frame_rows(declared));
    layout.append(&mut sheet.rows.clone());
    layout.extend(check.iter().flat_map(Check::all).map(|check| check_row(declared, check)));
    let splits = match &placing {
        Placing::Bytes(_) => false,
        Placing::Columns(placing) => placing.has_columns() || counts_columns(format, declared),
        Placing::Pairs(_) => true,
    };
    let header_splits = match &placing {
        Placing::Pairs(_) => declared.header.iter().any(|field| !matches!(field.place, format::Place::Characters(_))),
        _ => splits,
    };
    let reads_pairs = |read: Option<&Spanned<format::Read>>| read.is_some_and(|read| read.value == format::Read::Pairs);
    let has_pairs = declared.reads() == format::Read::Pairs
        || records_of(format, declared).any(|record| reads_pairs(record.read.as_ref()));
    if let Some(assign) = declared.assign.as_ref().filter(|_| !has_pairs) {
        let with = "a frame of which nothing is read as pairs".to_string();
        problems.add(assign.span.clone(), ProblemKind::Conflict { key: "assign", with });
    }
    if declared.repeated != format::Repeated::Reject && !has_pairs {
        let with = "a frame of which nothing is read as pairs".to_string();
        problems.add(declared.span.clone(), ProblemKind::Conflict { key: "repeated", with });
    }
    let frame = Frame {
        name: declared.name.clone(),
        framing,
        check,
        modbus: declared.of_modbus().map(|direction| (directions(direction), envelope(declared))),
        coding: coding(declared),
        header: header_fields(&sheet),
        reading,
        separation,
        has_forms: false,
        takes_long: !declared.coding.is_empty(),
        is_walked: false,
        has_columns: splits,
        splits,
        header_splits,
        lead,
        line_start: line_start.map(Pattern::new),
        kinds: Vec::new(),
        ignores: Vec::new(),
        key: ChoiceKey::Unknown,
        open: None,
        counters: Vec::new(),
        constants: Vec::new(),
    };
    for counter in &mut sheet.counters {
        counter.slot = slots.len();
        slots.push(Slot { last: counter.last, is_first: false });
    }
    Draft { frame, sheet, placing, lengths: Vec::new() }
}

/// Where a message of Modbus lies in the contents of a frame: in ASCII behind a colon.
fn envelope(declared: &format::Frame) -> Envelope {
    let behind = declared.checksums.first().map_or(0, |check| check.form.size());
    Envelope { before: declared.modbus.map_or(0, |_| 1), behind }
}

/// Which messages of Modbus a frame has.
fn directions(direction: Option<format::Direction>) -> Modbus {
    Modbus {
        requests: direction != Some(format::Direction::Answers),
        answers: direction != Some(format::Direction::Requests),
    }
}

/// The checksums of a frame, of which the first is tested before all others.
fn checks(declared: &format::Frame, problems: &mut Problems) -> Option<Check> {
    let mut checks = declared.checksums.iter().filter_map(|check| bytes::check(check, declared, problems));
    let mut first = checks.next()?;
    first.others = checks.collect();
    if !is_altered(declared) {
        // What is sent is what is read.
        first.over_sent = false;
        first.others.iter_mut().for_each(|check| check.over_sent = false);
    }
    Some(first)
}

/// Whether what is sent of a frame is not what is read of it.
fn is_altered(declared: &format::Frame) -> bool {
    let is_stuffed =
        matches!(declared.cut, format::Cut::Slip | format::Cut::Cobs | format::Cut::Hdlc | format::Cut::Dle { .. });
    is_stuffed || !declared.coding.is_empty()
}

fn coding(declared: &format::Frame) -> Box<[Coding]> {
    let step =
        |step: &format::Coding| Coding { from: Edge::of(step.from), to: step.to.map_or(Edge::Back(1), Edge::of) };
    declared.coding.iter().map(step).collect()
}

/// How long a silence is, by the settings of the line.
fn silence(format: &Format, declared: &format::Frame, idle: format::Silence, problems: &mut Problems) -> Option<Span> {
    let thousandths = match idle {
        format::Silence::Time(span) => return Some(span),
        format::Silence::Characters(thousandths) => i64::from(thousandths),
    };
    let on = declared.on.as_ref().map(|on| &on.value);
    let of_role = format.lines.iter().find(|line| Some(&line.role.value) == on).and_then(|line| line.serial);
    let Some(serial) = of_role.or(format.serial) else {
        let why = "how long characters take is not known: the format needs `serial`";
        problems.add(declared.span.clone(), ProblemKind::Senseless(why));
        // Any will do: there is no plan.
        return Some(Span::from_nanoseconds(1));
    };
    Some(Span::from_nanoseconds(serial.character().nanoseconds().saturating_mul(thousandths) / 1_000))
}

/// What stands between the columns of a frame's texts, or between pairs with these labels. `apart` says whether columns have to lie apart.
pub(super) fn separation(declared: &format::Frame, labels: Option<&[String]>, apart: bool) -> Separation {
    let in_charset = |text: &str| sent(text, &declared.charsets);
    let separators = declared.separators.iter().map(|separator| in_charset(&separator.value)).collect();
    match labels {
        None => Separation::new(separators, declared.joined, declared.quote, apart),
        Some(labels) => {
            let assign = in_charset(declared.assign.as_ref().map_or("=", |assign| assign.value.as_str()));
            let labels = labels.iter().map(|label| in_charset(label)).collect();
            let pairs = Pairs::new(assign, declared.repeated, labels);
            Separation::of_pairs(separators, declared.joined, declared.quote, pairs)
        }
    }
}

/// The records of a frame.
pub(super) fn records_of<'f>(format: &'f Format, frame: &'f format::Frame) -> impl Iterator<Item = &'f format::Record> {
    let is_of = |name: Option<&Spanned<String>>| name.is_none_or(|name| name.value == frame.name);
    format.layouts().into_iter().filter(move |(name, _)| is_of(*name)).map(|(_, record)| record)
}

/// Whether columns of a frame's records may not be there amid others.
fn has_gaps(format: &Format, frame: &format::Frame) -> bool {
    records_of(format, frame)
        .filter(|record| record.printed.is_empty() && record.pattern.is_none())
        .any(|record| record.heading.is_some() || columns::may_have_gaps(&record.fields))
}

/// Whether a condition of a frame's records asks how many columns there are.
fn counts_columns(format: &Format, frame: &format::Frame) -> bool {
    let is_of = |name: &Option<Spanned<String>>| name.as_ref().is_none_or(|name| name.value == frame.name);
    let of_records = records_of(format, frame).filter_map(|record| record.when.as_ref());
    let of_ignores =
        format.ignores.iter().filter(|ignore| is_of(&ignore.frame)).filter_map(|ignore| ignore.when.as_ref());
    of_records.chain(of_ignores).any(|when| {
        let mut found = false;
        if let Ok(tree) = expression::parse(&when.text) {
            tree.names(&mut |name| found |= name == "columns");
        }
        found
    })
}

fn text_header(sheet: &mut Sheet, declared: &format::Frame, problems: &mut Problems) -> columns::Placing {
    let mut placing = columns::Placing::new();
    reject_groups(&declared.header, problems);
    for field in &declared.header {
        refuse_condition(field, "a header: its fields are always there", problems);
    }
    sheet.learn(|sheet, problems| columns::add_fields(sheet, &mut placing.clone(), &declared.header, problems));
    columns::add_fields(sheet, &mut placing, &declared.header, problems);
    placing.end_header();
    placing
}

fn pairs_header(
    sheet: &mut Sheet,
    labels: &[String],
    declared: &format::Frame,
    problems: &mut Problems,
) -> pairs::Placing {
    let mut placing = pairs::Placing::new(labels);
    sheet.learn(|sheet, problems| pairs::add_fields(sheet, &mut placing.clone(), &declared.header, problems));
    pairs::add_fields(sheet, &mut placing, &declared.header, problems);
    placing
}

/// Places the fields of a header that is read as bytes. Returns how many bytes have to be there before it can be read.
fn bytes_header(
    sheet: &mut Sheet,
    placing: &mut bytes::Placing,
    declared: &format::Frame,
    start: usize,
    problems: &mut Problems,
) -> usize {
    reject_groups(&declared.header, problems);
    for field in &declared.header {
        if matches!(&field.place, format::Place::Byte(byte) if byte.value < 0) {
            let kind = ProblemKind::Senseless("a header field is read before the frame's end is known");
            problems.add(field.span.clone(), kind);
        }
    }
    let mut header = start;
    if let format::Cut::Packet { length: format::Length::Fields(fields), .. } = &declared.cut {
        // Behind a part that varies, records say themselves what is where.
        for field in fields.iter().filter(|field| field.past.is_none()) {
            let size = length_size(field);
            placing.name(At::Front(field.byte), size, &field.span, "the length");
            header = header.max(field.byte + size);
        }
    }
    sheet.learn(|sheet, problems| bytes::add_fields(sheet, &mut placing.clone(), &declared.header, problems));
    bytes::add_fields(sheet, placing, &declared.header, problems);
    let fields = sheet.known.iter().map(|(_, field)| field).chain(sheet.gates.iter().map(|gate| &gate.field));
    for field in fields {
        if let (At::Front(place), Some(size)) = (field.at, raw_size(&field.raw)) {
            header = header.max(place + size);
        }
    }
    header
}

fn packet(
    declared: &format::Frame,
    start: &format::BytePattern,
    length: &format::Length,
    end: Option<&format::BytePattern>,
    header: usize,
    problems: &mut Problems,
) -> Packet {
    let mut header = header;
    let length = match length {
        format::Length::Fixed(length) => {
            if length.value > limits::FRAME {
                let kind =
                    ProblemKind::TooMany { what: "bytes for a frame", found: length.value, limit: limits::FRAME };
                problems.add(length.span.clone(), kind);
            }
            Length::Fixed(length.value)
        }
        format::Length::Fields(fields) => {
            header = match &**fields {
                // What varies is not known before.
                [format::LengthField { past: Some(_), .. }] => header,
                fields => fields.iter().fold(header, |header, field| header.max(field.byte + length_size(field))),
            };
            match &**fields {
                [field @ format::LengthField { past: Some(before), .. }] => {
                    match length_past(field, before, start.length(), problems) {
                        Some(past) => {
                            header = header.max(past.end);
                            Length::Past(past.into())
                        }
                        None => Length::ToEnd,
                    }
                }
                [format::LengthField { byte, kind: FieldType::Integer(integer), bits: None, scale: 1, add, .. }]
                    if !matches!(integer.order, Order::Letters(_)) =>
                {
                    Length::Field { at: *byte, integer: *integer, add: *add }
                }
                fields => Length::Fields(fields.iter().filter_map(|field| length_field(field, problems)).collect()),
            }
        }
        format::Length::Record => Length::Record,
        format::Length::ToEnd => Length::ToEnd,
    };
    Packet {
        start: Pattern::new(start),
        length,
        end: end.map(Pattern::new),
        behind: declared.checksum_behind(),
        header,
        shortest: header,
        longest: limits::FRAME,
        fixed: None,
    }
}

/// A length behind a part that varies.
fn length_past(
    field: &format::LengthField,
    before: &format::PartBefore,
    start: usize,
    problems: &mut Problems,
) -> Option<LengthPast> {
    let (begin, part) = match before {
        format::PartBefore::Told(told) => {
            (told.byte + length_size(told), PartBefore::Told(length_field(told, problems)?))
        }
        format::PartBefore::Until { byte, until } => (*byte, PartBefore::Until(*byte, Pattern::new(until))),
    };
    if begin < start {
        let kind = ProblemKind::Senseless("a part that varies stands behind the start");
        problems.add(field.span.clone(), kind);
    }
    if field.byte < begin {
        let kind = ProblemKind::Senseless(
            "the length stands behind the part that varies: its `byte` counts as if that was empty",
        );
        problems.add(field.span.clone(), kind);
    }
    Some(LengthPast { part, field: length_field(field, problems)?, end: field.byte + length_size(field) })
}

/// Bytes of a field that tells a length.
pub(crate) fn length_size(field: &format::LengthField) -> usize {
    match field.kind {
        FieldType::Integer(integer) | FieldType::Bcd(format::BcdType::Integer(integer)) => integer.bytes.into(),
        FieldType::HexInteger(integer) => 2 * usize::from(integer.bytes),
        _ => field.width.unwrap_or(1),
    }
}

/// A field that tells a length, as any field that is scaled.
fn length_field(field: &format::LengthField, problems: &mut Problems) -> Option<crate::plan::Field> {
    let whole = |number: usize| Decimal::from_unsigned(number as u64);
    let declared = format::Field {
        span: field.span.clone(),
        place: format::Place::Byte((field.byte as i64).into()),
        kind: Some(field.kind.into()),
        width: field.width.map(|width| format::Width::Bytes(width).into()),
        bits: field.bits.map(Spanned::from),
        scale: (field.scale != 1).then(|| whole(field.scale).into()),
        add: (field.add != 0).then(|| Decimal::from_integer(field.add).into()),
        ..format::Field::default()
    };
    let lookup = |_: &str| Err(None);
    let at = At::Front(field.byte);
    field::compile(&declared, field.kind, at, Reading::Bytes, &Separation::nothing(), &lookup, problems)
}

pub(super) fn raw_size(raw: &Raw) -> Option<usize> {
    match raw {
        Raw::Integer(taken) => Some(usize::from(taken.integer.bytes)),
        Raw::Bcd(bcd) => Some(bcd.bytes),
        Raw::F32(_) => Some(4),
        Raw::F64(_) => Some(8),
        Raw::Bytes(size) => *size,
        Raw::Columns(_) | Raw::Apart(_) | Raw::Found | Raw::Characters(..) => None,
    }
}

fn reject_groups(header: &[format::Field], problems: &mut Problems) {
    for field in header {
        if field.group.is_some() {
            let kind = ProblemKind::Senseless("a header has no groups");
            problems.add(field.span.clone(), kind);
        }
    }
}

/// A row for what a frame declares beside its fields.
fn frame_row(frame: &str, place: String, name: &str, kind: String, notes: String) -> LayoutRow {
    LayoutRow {
        frame: frame.to_string(),
        record: None,
        group: None,
        place,
        name: name.to_string(),
        kind,
        unit: String::new(),
        notes,
    }
}

/// The rows for a packet's start and length.
fn frame_rows(declared: &format::Frame) -> Vec<LayoutRow> {
    let (start, length, end) = match &declared.cut {
        format::Cut::Packet { start, length, end } => (start, length, end),
        _ => return Vec::new(),
    };
    let hex = |pattern: &format::BytePattern| match pattern.bytes() {
        Some(bytes) => bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" "),
        None => pattern.to_string(),
    };
    let place = bytes::place_text(At::Front(0), start.length(), false);
    let notes = format!("always {}", hex(start));
    let mut rows = Vec::new();
    rows.push(frame_row(&declared.name, place, "(start)", "bytes".to_string(), notes));
    let fields = if let format::Length::Fields(fields) = length { &**fields } else { &[] };
    for field in fields {
        let place = bytes::place_text(At::Front(field.byte), length_size(field), false);
        let place = if field.past.is_some() { format!("{place}, past what varies") } else { place };
        let times = if field.scale == 1 { String::new() } else { format!("times {}, ", field.scale) };
        let notes = match field.add {
            0 if field.scale == 1 => "length of the whole frame".to_string(),
            0 => format!("times {}: length of the whole frame", field.scale),
            add if add < 0 => format!("{times}minus {}: length of the whole frame", add.unsigned_abs()),
            add => format!("{times}plus {add}: length of the whole frame"),
        };
        let bits = field.bits.map(|bits| format!(" bits {bits}")).unwrap_or_default();
        rows.push(frame_row(&declared.name, place, "(length)", format!("{}{bits}", field.kind), notes));
    }
    if let Some(end) = end {
        let behind = declared.checksum_behind();
        let place = bytes::place_text(At::Back(end.length() + behind), end.length(), false);
        rows.push(frame_row(&declared.name, place, "(end)", "bytes".to_string(), format!("always {}", hex(end))));
    }
    rows
}

fn check_row(declared: &format::Frame, check: &Check) -> LayoutRow {
    let at = match check.place {
        CheckPlace::In(Edge::Front(place)) => At::Front(place),
        CheckPlace::In(Edge::Back(place)) => At::Back(place),
        CheckPlace::Marked | CheckPlace::Behind { .. } => At::Back(check.form.size()),
    };
    let kind = match check.form {
        CheckForm::Binary(integer) => integer.to_string(),
        CheckForm::Hex(integer) => format!("{integer} in hex"),
        CheckForm::Characters(of) => match of.width {
            1 => format!("'{}' for 0", [of.zero].escape_ascii()),
            width => {
                format!("{width} characters of {} bits, '{}' for 0, {}", of.bits, [of.zero].escape_ascii(), of.order)
            }
        },
        CheckForm::Decimal(Some(1)) => "a digit".to_string(),
        CheckForm::Decimal(Some(width)) => format!("{width} digits"),
        CheckForm::Decimal(None) => "digits".to_string(),
    };
    let edge = |edge: Edge| match edge {
        Edge::Front(place) => place.to_string(),
        Edge::Back(place) => format!("-{place}"),
    };
    let what = match check.place {
        _ if check.over_sent => "what was sent before it, byte",
        CheckPlace::In(_) => "byte",
        CheckPlace::Marked => "what stands before the last mark, byte",
        CheckPlace::Behind { through_end: true } => "byte, with the end,",
        CheckPlace::Behind { through_end: false } => "byte, without the end,",
    };
    let notes = format!("{} over {what} {} to {}", check.checksum.name(), edge(check.from), edge(check.to));
    let place = match check.form {
        CheckForm::Decimal(None) => "behind the mark".to_string(),
        _ => bytes::place_text(at, check.form.size(), false),
    };
    frame_row(&declared.name, place, "(checksum)", kind, notes)
}
