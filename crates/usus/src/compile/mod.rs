//! From a format to its plan: frames, then the records of each, then what ties them together.

mod bytes;
mod columns;
mod doubt;
mod field;
mod heading;
mod pairs;
mod printed;
mod sheet;
mod variants;
mod whole;

use alloc::borrow::Cow;
use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::claim::{self, Forms};
use crate::expression;
use crate::format::{self, CheckForm, Format, Presence, Spanned};
use crate::integer::{Integer, Order};
use crate::limits;
use crate::plan::{
    At, Check, CheckPlace, Choice, ChoiceKey, Cleaning, Counter, Edge, Field, Form, Frame, Framing, Ignore, Inner,
    Kind, LayoutRow, Length, Named, Packet, Pairs, Pattern, Raw, Reading, Role, Route, Sentence, Separation, ShapeUnit,
    Slip, Slot, Text, fixed_packets,
};
use crate::problem::{ProblemKind, Problems, nearest};
use crate::read::Cells;
use crate::schema::{KindSchema, Schema};
use crate::value::{Charset, sent};

use sheet::{Sheet, condition, header_fields, refuse_condition};
pub(crate) use whole::plan;

/// A frame being compiled, with what its records need to know.
struct Draft {
    frame: Frame,
    sheet: Sheet,
    placing: Placing,
    /// The length of each record's shortest frame, and whether longer ones can be.
    lengths: Vec<(usize, bool)>,
}

impl Draft {
    /// Whether conditions may ask how many columns a text has.
    fn counts_columns(&self) -> bool {
        matches!(self.placing, Placing::Columns(_))
    }
}

#[derive(Clone)]
enum Placing {
    Bytes(bytes::Placing),
    Columns(columns::Placing),
    Pairs(pairs::Placing),
}

/// The plan of a format; nothing if there is too much in it.
fn compile(format: &Format, problems: &mut Problems) -> Option<Inner> {
    let mut weight = format::Weight::default();
    for record in format.records.iter().flat_map(format::Record::layouts) {
        let frame = record.frame.as_ref().and_then(|name| format.frames.iter().find(|frame| frame.name == name.value));
        let header = frame.or(format.frames.first()).map(|frame| format::weigh(&frame.header)).unwrap_or_default();
        weight.add(header);
        weight.add(format::weigh(&record.fields));
        if let Some(too_many) = weight.too_many() {
            problems.add(record.kind.span.clone(), too_many);
            return None;
        }
    }
    let (mut layout, mut slots, mut forms) = (Vec::new(), Vec::new(), printed::Numbers::default());
    let mut drafts: Vec<Draft> = Vec::new();
    for declared in &format.frames {
        let header = in_charsets(Cow::Borrowed(&*declared.header), &declared.charsets);
        let declared = &match header {
            Cow::Borrowed(_) => Cow::Borrowed(declared),
            Cow::Owned(header) => Cow::Owned(format::Frame { header, ..declared.clone() }),
        };
        if drafts.iter().any(|draft| draft.frame.name == declared.name) {
            let kind = ProblemKind::Twice { what: "frame", name: declared.name.clone() };
            problems.add(declared.span.clone(), kind);
        }
        drafts.push(compile_frame(format, declared, &mut layout, &mut slots, problems));
    }
    // Layouts in the order of the file: which record and which frame each is of, and how many variants are before it.
    let mut layouts: Vec<(usize, usize, usize, Kind)> = Vec::new();
    let mut schema = Schema { format: format.name.clone(), kinds: Vec::new() };
    for (number, owner) in format.records.iter().enumerate() {
        let (begun, mut units, mut counted) = (layouts.len(), variants::Units::default(), Vec::new());
        for (variant, record) in owner.layouts().enumerate() {
            let Some(index) = frame_of(format, record.frame.as_ref(), &record.kind.span, problems) else { continue };
            report_unreachable(format, record, index, problems);
            let fields = if owner.variants.is_empty() {
                Cow::Borrowed(&*record.fields)
            } else {
                units.convert(&record.fields, problems)
            };
            let charsets = &format.frames[index].charsets;
            let fields = in_charsets(fields, charsets);
            let converted = match fields {
                Cow::Borrowed(_) => Cow::Borrowed(record),
                Cow::Owned(fields) => Cow::Owned(format::Record { fields, ..record.clone() }),
            };
            let place = Compiled { format, owner, record: &converted, frame: index, variant };
            let mut kind = compile_record(place, &mut drafts[index], &mut layout, &mut forms, problems);
            kind.record = number as u16;
            for counter in kind.counters.iter_mut().skip(drafts[index].sheet.counters.len()) {
                counter.slot = slot_of(counter, &mut counted, &mut slots);
            }
            if let Some(slot) = kind.counters.first().and_then(|first| slots.get_mut(first.slot)) {
                slot.is_first = true;
            }
            layouts.push((number, index, variant, kind));
        }
        let mut kinds: Vec<&mut Kind> = layouts[begun..].iter_mut().map(|(.., kind)| kind).collect();
        let fields = variants::unite(owner, &mut kinds, problems);
        schema.kinds.push(KindSchema {
            name: owner.kind.value.clone(),
            title: owner.title.clone(),
            fields,
            wanted: true,
        });
    }
    // A record that could not be compiled leaves no layout; then there is no plan, but all else that is wrong is told.
    let own = layouts.iter().filter(|(_, _, variant, _)| *variant == 0).count();
    let (mut next, mut next_variant) = (0, own);
    for (_, frame, variant, _) in &layouts {
        let number = if *variant == 0 { &mut next } else { &mut next_variant };
        drafts[*frame].frame.kinds.push(*number as u16);
        *number += 1;
    }
    layouts.sort_by_key(|(_, _, variant, _)| *variant > 0);
    let mut kinds: Vec<Kind> = layouts.into_iter().map(|(.., kind)| kind).collect();
    let named: Vec<u16> = kinds.iter().filter_map(|kind| Some(kind.heading.as_ref()?.record)).collect();
    for kind in kinds.iter_mut().filter(|kind| named.contains(&kind.record)) {
        kind.names_columns = true;
        // Whoever reads it has to notice what it names.
        let frame = &mut drafts[usize::from(kind.frame)].frame;
        (frame.takes_long, frame.has_columns, frame.splits) = (true, true, true);
    }
    let mut ignores = Vec::new();
    for ignore in &format.ignores {
        let Some(index) = frame_of(format, ignore.frame.as_ref(), &ignore.span, problems) else { continue };
        let draft = &mut drafts[index];
        draft.frame.ignores.push(ignores.len() as u16);
        ignores.push(compile_ignore(ignore, &format.frames[index], draft, &mut forms, problems));
    }
    let finish = |draft| finish_frame(format, draft, &kinds, &ignores);
    let frames: Vec<Frame> = drafts.into_iter().map(finish).collect();
    let character = format.serial.map(format::Serial::character);
    let roles: Vec<Role> = format
        .lines
        .iter()
        .map(|line| Role {
            name: line.role.value.clone(),
            character: line.serial.map(format::Serial::character).or(character),
        })
        .collect();
    let routes = compile_routes(format, &roles, &frames, problems);
    if problems.wants_doubts() {
        doubt::whole(format, &frames, &kinds, problems);
    }
    Some(Inner {
        schema,
        roles,
        frames,
        kinds,
        ignores,
        counters: slots,
        stages: Vec::new(),
        routes,
        limits: format.limits,
        layout,
        character,
    })
}

fn compile_frame(
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
    let in_charset = |text: &str| sent(text, &declared.charsets);
    let separators: Vec<Box<[u8]>> = declared.separators.iter().map(|separator| in_charset(&separator.value)).collect();
    let labels = (declared.reads() == format::Read::Pairs).then(|| pairs::labels_of(format, declared));
    let separation = match &labels {
        None => Separation::new(separators, declared.joined, declared.quote, has_gaps(format, declared)),
        Some(labels) => {
            let assign = in_charset(declared.assign.as_ref().map_or("=", |assign| assign.value.as_str()));
            let labels = labels.iter().map(|label| in_charset(label)).collect();
            let pairs = Pairs::new(assign, declared.repeated, labels);
            Separation::of_pairs(separators, declared.joined, declared.quote, pairs)
        }
    };
    let mut sheet = Sheet::new(reading, separation.clone(), &declared.name);
    let fixed = match &declared.cut {
        format::Cut::Packet { length: format::Length::Fixed(length), end, .. } => {
            let behind = declared.checksum.as_ref().map_or(0, format::Check::size_behind);
            Some(length.value.saturating_sub(end.as_ref().map_or(0, Vec::len) + behind))
        }
        _ => None,
    };
    let check = declared.checksum.as_ref().and_then(|check| bytes::check(check, fixed, problems));
    let (mut lead, mut header) = (0, 0);
    let (start, line_start): (&[u8], &[u8]) = match &declared.cut {
        format::Cut::Packet { start, .. } => (start, &[]),
        format::Cut::Text { start: Some(start), .. } => (start, start),
        format::Cut::Text { start: None, .. } | format::Cut::Sentence { .. } | format::Cut::Slip => (&[], &[]),
    };
    let placing = match reading {
        Reading::Bytes => {
            let mut placing = bytes::Placing::new(start.len(), &declared.span);
            header = bytes_header(&mut sheet, &mut placing, declared, start.len(), problems);
            Placing::Bytes(placing)
        }
        Reading::Text => {
            lead = start.len();
            header = header.max(start.len());
            match &labels {
                None => Placing::Columns(text_header(&mut sheet, declared, problems)),
                Some(labels) => Placing::Pairs(pairs_header(&mut sheet, labels, declared, problems)),
            }
        }
    };
    let framing = match &declared.cut {
        format::Cut::Text { end, idle, .. } => {
            Framing::Text(Text { end: *end, idle: *idle, limit: format.limits.line })
        }
        format::Cut::Sentence { checksum, anywhere } => {
            Framing::Sentence(Sentence { checksum: *checksum, anywhere: *anywhere })
        }
        format::Cut::Packet { start, length, end } => {
            Framing::Packet(Box::new(packet(declared, start, length, end.as_deref(), header, problems)))
        }
        format::Cut::Slip => Framing::Slip(Slip { longest: 0 }),
    };
    layout.extend(frame_rows(declared));
    layout.append(&mut sheet.rows.clone());
    layout.extend(check.as_ref().map(|check| check_row(declared, check)));
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
        header: header_fields(&sheet),
        reading,
        separation,
        has_forms: false,
        takes_long: false,
        has_columns: splits,
        splits,
        header_splits,
        lead,
        line_start: line_start.into(),
        kinds: Vec::new(),
        ignores: Vec::new(),
        key: ChoiceKey::Unknown,
        counters: Vec::new(),
        constants: Vec::new(),
    };
    for counter in &mut sheet.counters {
        counter.slot = slots.len();
        slots.push(Slot { last: counter.last, is_first: false });
    }
    Draft { frame, sheet, placing, lengths: Vec::new() }
}

/// The records of a frame.
fn records_of<'f>(format: &'f Format, frame: &'f format::Frame) -> impl Iterator<Item = &'f format::Record> {
    let is_of = |name: &Option<Spanned<String>>| name.as_ref().is_none_or(|name| name.value == frame.name);
    format.records.iter().flat_map(format::Record::layouts).filter(move |record| is_of(&record.frame))
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
    if let format::Cut::Packet { length: format::Length::Field { span, byte, integer, .. }, .. } = &declared.cut {
        placing.name(At::Front(*byte), usize::from(integer.bytes), span, "the length");
        header = header.max(byte + usize::from(integer.bytes));
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
    start: &[u8],
    length: &format::Length,
    end: Option<&[u8]>,
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
        format::Length::Field { byte, integer, add, .. } => {
            header = header.max(byte + usize::from(integer.bytes));
            Length::Field { at: *byte, integer: *integer, add: *add }
        }
        format::Length::ToEnd => Length::ToEnd,
    };
    Packet {
        start: Pattern::new(start),
        length,
        end: end.map(Pattern::new),
        behind: declared.checksum.as_ref().map_or(0, format::Check::size_behind),
        header,
        shortest: header,
        longest: limits::FRAME,
        fixed: None,
    }
}

fn raw_size(raw: &Raw) -> Option<usize> {
    match raw {
        Raw::Integer { integer, .. } => Some(usize::from(integer.bytes)),
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
    let format::Cut::Packet { start, length, end } = &declared.cut else { return Vec::new() };
    let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ");
    let place = bytes::place_text(At::Front(0), start.len(), false);
    let notes = format!("always {}", hex(start));
    let mut rows = Vec::new();
    rows.push(frame_row(&declared.name, place, "(start)", "bytes".to_string(), notes));
    if let format::Length::Field { byte, integer, add, .. } = length {
        let place = bytes::place_text(At::Front(*byte), usize::from(integer.bytes), false);
        let notes = match add {
            0 => "length of the whole frame".to_string(),
            add if *add < 0 => format!("minus {}: length of the whole frame", add.unsigned_abs()),
            add => format!("plus {add}: length of the whole frame"),
        };
        rows.push(frame_row(&declared.name, place, "(length)", integer_word(*integer), notes));
    }
    if let Some(end) = end {
        let behind = declared.checksum.as_ref().map_or(0, format::Check::size_behind);
        let place = bytes::place_text(At::Back(end.len() + behind), end.len(), false);
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
        CheckForm::Binary(integer) => integer_word(integer),
        CheckForm::Hex(integer) => format!("{} in hex", integer_word(integer)),
    };
    let edge = |edge: Edge| match edge {
        Edge::Front(place) => place.to_string(),
        Edge::Back(place) => format!("-{place}"),
    };
    let what = match check.place {
        CheckPlace::In(_) => "byte",
        CheckPlace::Marked => "what stands before the last mark, byte",
        CheckPlace::Behind { through_end: true } => "byte, with the end,",
        CheckPlace::Behind { through_end: false } => "byte, without the end,",
    };
    let notes = format!("{} over {what} {} to {}", check.checksum.name(), edge(check.from), edge(check.to));
    let place = bytes::place_text(at, check.form.size(), false);
    frame_row(&declared.name, place, "(checksum)", kind, notes)
}

fn integer_word(integer: Integer) -> String {
    let sign = if integer.signed { 'i' } else { 'u' };
    let order = match integer.order {
        _ if integer.bytes == 1 => "",
        Order::Big => "be",
        Order::Little => "le",
    };
    format!("{sign}{}{order}", integer.bytes * 8)
}

/// The frame that a record or ignore belongs to.
fn frame_of(
    format: &Format,
    name: Option<&Spanned<String>>,
    span: &core::ops::Range<usize>,
    problems: &mut Problems,
) -> Option<usize> {
    match name {
        Some(name) => {
            let found = format.frames.iter().position(|frame| frame.name == name.value);
            if found.is_none() {
                let nearest = nearest(&name.value, format.frames.iter().map(|frame| frame.name.as_str()));
                let kind = ProblemKind::UnknownName { what: "frame", name: name.value.clone(), nearest };
                problems.add(name.span.clone(), kind);
            }
            found
        }
        None if format.frames.len() > 1 => {
            let kind =
                ProblemKind::Senseless("there are several frames: `frame` has to say which one this is read from");
            problems.add(span.clone(), kind);
            None
        }
        None => (!format.frames.is_empty()).then_some(0),
    }
}

/// Reports a record that an earlier one without a condition leaves nothing to.
fn report_unreachable(format: &Format, record: &format::Record, frame: usize, problems: &mut Problems) {
    let of_frame = |other: &&format::Record| match &other.frame {
        Some(name) => name.value == format.frames[frame].name,
        None => true,
    };
    let all = format.records.iter().flat_map(format::Record::layouts);
    let earlier = all.take_while(|other| !core::ptr::eq(*other, record));
    let takes_all =
        |other: &&format::Record| other.when.is_none() && other.printed.is_empty() && other.pattern.is_none();
    if let Some(earlier) = earlier.filter(of_frame).find(takes_all) {
        let kind = ProblemKind::Unreachable { record: record.kind.value.clone(), earlier: earlier.kind.value.clone() };
        problems.add(record.kind.span.clone(), kind);
    }
}

/// Fields with the character sets of their frame, where they do not say others.
fn in_charsets<'f>(mut fields: Cow<'f, [format::Field]>, charsets: &[Charset]) -> Cow<'f, [format::Field]> {
    if !charsets.is_empty() {
        fields.to_mut().iter_mut().for_each(|field| set_charsets(field, charsets));
    }
    fields
}

fn set_charsets(field: &mut format::Field, charsets: &[Charset]) {
    let has_none = field.kind.as_ref().is_some_and(|kind| kind.value == format::FieldType::Bytes);
    if field.charsets.is_empty() && !has_none {
        field.charsets = charsets.to_vec();
    }
    field.group.iter_mut().for_each(|group| group.fields.iter_mut().for_each(|field| set_charsets(field, charsets)));
}

/// A record, or a variant of one, that is to be compiled.
#[derive(Clone, Copy)]
struct Compiled<'f> {
    format: &'f Format,
    /// The record whose variant it is.
    owner: &'f format::Record,
    record: &'f format::Record,
    frame: usize,
    /// Which variant it is; 0 is the record itself.
    variant: usize,
}

/// The slot of a counter: variants of a record share those of their counters that have one name and begin again alike.
fn slot_of(counter: &Counter, counted: &mut Vec<(String, u64, usize)>, slots: &mut Vec<Slot>) -> usize {
    let known = counted.iter().find(|(name, last, _)| *name == counter.name && *last == counter.last);
    if let Some((.., slot)) = known {
        return *slot;
    }
    counted.push((counter.name.clone(), counter.last, slots.len()));
    slots.push(Slot { last: counter.last, is_first: false });
    slots.len() - 1
}

/// How a record is read that is not read as its frame is: what stands between its columns, and where they are.
fn own_reading(
    record: &format::Record,
    frame: &format::Frame,
    draft: &mut Draft,
    problems: &mut Problems,
) -> Option<(Separation, Placing)> {
    let read = record.read.as_ref().filter(|read| read.value != frame.reads())?;
    let conflict = |with: &str| ProblemKind::Conflict { key: "read", with: with.to_string() };
    let no_text = match (frame.reads(), read.value) {
        (format::Read::Bytes, _) => Some("a frame that is read as bytes"),
        (_, format::Read::Bytes) => Some("a frame of text, of which a record is read as columns or pairs"),
        _ => None,
    };
    if let Some(why) = no_text {
        problems.add(read.span.clone(), conflict(why));
        return None;
    }
    if draft.frame.header_splits {
        problems.add(read.span.clone(), conflict("a header that is read by columns or keys: let it stand in `chars`"));
        return None;
    }
    if record.heading.is_some() && read.value == format::Read::Pairs {
        problems.add(read.span.clone(), conflict("`heading`"));
        return None;
    }
    (draft.frame.takes_long, draft.frame.has_columns) = (true, true);
    let in_charset = |text: &str| sent(text, &frame.charsets);
    let separators = frame.separators.iter().map(|separator| in_charset(&separator.value)).collect();
    Some(match read.value {
        format::Read::Pairs => {
            let labels = pairs::labels_in(frame.header.iter().chain(&record.fields));
            let assign = in_charset(frame.assign.as_ref().map_or("=", |assign| assign.value.as_str()));
            let of_labels = labels.iter().map(|label| in_charset(label)).collect();
            let pairs = Pairs::new(assign, frame.repeated, of_labels);
            (
                Separation::of_pairs(separators, frame.joined, frame.quote, pairs),
                Placing::Pairs(pairs::Placing::new(&labels)),
            )
        }
        _ => {
            let separation = Separation::new(separators, frame.joined, frame.quote, true);
            (separation, Placing::Columns(columns::Placing::new()))
        }
    })
}

fn compile_record(
    Compiled { format, owner, record, frame: frame_index, variant }: Compiled<'_>,
    draft: &mut Draft,
    layout: &mut Vec<LayoutRow>,
    forms: &mut printed::Numbers,
    problems: &mut Problems,
) -> Kind {
    let declared_frame = &format.frames[frame_index];
    let name = match variant {
        0 => owner.kind.value.clone(),
        variant => format!("{}, variant {variant}", owner.kind.value),
    };
    let mut sheet = draft.sheet.begin_record(&name);
    let declaration = printed::Declaration {
        printed: &record.printed,
        pattern: record.pattern.as_ref(),
        fields: &record.fields,
        any_name: false,
        charsets: &declared_frame.charsets,
    };
    let (form, names) = form_of(declared_frame, &declaration, draft, forms, problems);
    let (mut gaps, mut heading) = (None, None);
    let own = own_reading(record, declared_frame, draft, problems);
    let placing = match &own {
        Some((separation, placing)) => {
            sheet.separation = separation.clone();
            placing.clone()
        }
        None => draft.placing.clone(),
    };
    let shape = match placing {
        _ if declaration.is_there() => {
            sheet.separation = Separation::nothing();
            let at = if draft.frame.header_splits { At::Tail } else { At::Front };
            sheet.learn(|sheet, problems| printed::add_fields(sheet, &names, at, &record.fields, problems));
            printed::add_fields(&mut sheet, &names, at, &record.fields, problems);
            printed::shape(names.len())
        }
        Placing::Bytes(mut placing) => {
            sheet.learn(|sheet, problems| bytes::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            bytes::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            bytes::shape(&placing, declared_frame, draft.frame.check.as_ref(), &record.kind, problems)
        }
        Placing::Columns(placing) if record.heading.is_some() => {
            (draft.frame.takes_long, draft.frame.has_columns, draft.frame.splits) = (true, true, true);
            let (found, shape) = heading::add(format, record, &placing, &mut sheet, problems);
            heading = found;
            shape
        }
        Placing::Columns(mut placing) => {
            sheet.learn(|sheet, problems| columns::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            columns::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            draft.frame.has_columns |= placing.has_columns();
            draft.frame.splits |= placing.has_columns() && own.is_none();
            gaps = placing.gaps(&sheet, problems);
            draft.frame.takes_long |= gaps.is_some();
            placing.shape(record.more, &sheet.separation)
        }
        Placing::Pairs(mut placing) => {
            sheet.learn(|sheet, problems| pairs::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            pairs::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            placing.shape(record.more)
        }
    };
    let mut weight = format::weigh(&declared_frame.header);
    weight.add(format::weigh(&record.fields));
    if weight.fields > limits::FIELDS {
        let kind = ProblemKind::TooMany { what: "fields", found: weight.fields, limit: limits::FIELDS };
        problems.add(record.kind.span.clone(), kind);
    }
    let checksum_required = checksum_required(record, declared_frame, problems);
    let when = record.when.as_ref().and_then(|when| {
        condition(when, &draft.frame.header, draft.counts_columns(), &declared_frame.charsets, problems)
    });
    let series = owner.series.iter().filter_map(|name| series_field(&sheet, name, problems)).collect();
    layout.append(&mut sheet.rows);
    draft.lengths.push((shape.least(), shape.item > 0));
    let packet = shape.unit == ShapeUnit::Bytes && shape.item == 0;
    let exact = (packet && sheet.gates.is_empty()).then(|| shape.least());
    Kind {
        record: 0,
        frame: frame_index as u16,
        when,
        form,
        checksum_required,
        shape,
        gaps,
        separation: own.map(|(separation, _)| Box::new(separation)),
        heading,
        names_columns: false,
        gates: sheet.gates,
        near: false,
        outputs: sheet.outputs,
        counters: sheet.counters,
        series,
        wanted: true,
        staged: false,
        exact,
    }
}

fn series_field(sheet: &Sheet, name: &Spanned<String>, problems: &mut Problems) -> Option<Field> {
    match sheet.find(&name.value) {
        Ok(field) => Some(field.clone()),
        Err(nearest) => {
            let kind = ProblemKind::UnknownName { what: "field", name: name.value.clone(), nearest };
            problems.add(name.span.clone(), kind);
            None
        }
    }
}

/// Whether a record's frames need a checksum; only sentences can come without, and lines that have it behind a mark.
fn checksum_required(record: &format::Record, frame: &format::Frame, problems: &mut Problems) -> bool {
    let checksum = match (&frame.cut, &frame.checksum) {
        (format::Cut::Sentence { checksum, .. }, _) => Some(checksum),
        (_, Some(check)) if check.mark.is_some() => Some(&check.presence),
        _ => None,
    };
    let Some(checksum) = checksum else {
        if record.checksum.is_some() {
            let with = "this frame: `checksum` of a record is for sentences, and for lines with a `mark`".to_string();
            problems.add(record.kind.span.clone(), ProblemKind::Conflict { key: "checksum", with });
        }
        return false;
    };
    if *checksum == Presence::Absent && record.checksum == Some(Presence::Required) {
        let with = "a frame without checksums".to_string();
        problems.add(record.kind.span.clone(), ProblemKind::Conflict { key: "checksum", with });
    }
    record.checksum.unwrap_or(*checksum) == Presence::Required
}

/// The automaton of a record or an ignore, and the names of the fields that it finds.
fn form_of(
    frame: &format::Frame,
    declaration: &printed::Declaration<'_>,
    draft: &mut Draft,
    forms: &mut printed::Numbers,
    problems: &mut Problems,
) -> (Option<Box<Form>>, Vec<String>) {
    let Some(span) = declaration.span() else { return (None, Vec::new()) };
    if frame.reads() == format::Read::Bytes {
        let with = "a frame that is read as bytes".to_string();
        problems.add(span, ProblemKind::Conflict { key: "printed", with });
        return (None, Vec::new());
    }
    // What an automaton finds is written down like columns, behind those of the header.
    (draft.frame.has_forms, draft.frame.takes_long, draft.frame.has_columns) = (true, true, true);
    declaration.compile(forms, problems)
}

fn compile_ignore(
    ignore: &format::Ignore,
    frame: &format::Frame,
    draft: &mut Draft,
    forms: &mut printed::Numbers,
    problems: &mut Problems,
) -> Ignore {
    let declaration = printed::Declaration {
        printed: &ignore.printed,
        pattern: ignore.pattern.as_ref(),
        fields: &[],
        any_name: true,
        charsets: &frame.charsets,
    };
    let (form, _) = form_of(frame, &declaration, draft, forms, problems);
    let when = ignore
        .when
        .as_ref()
        .and_then(|when| condition(when, &draft.frame.header, draft.counts_columns(), &frame.charsets, problems));
    let count_by = ignore.count_by.as_ref().and_then(|name| {
        let found = draft.sheet.find(&name.value);
        if let Err(nearest) = &found {
            let kind =
                ProblemKind::UnknownName { what: "header field", name: name.value.clone(), nearest: nearest.clone() };
            problems.add(name.span.clone(), kind);
        }
        found.ok().cloned()
    });
    Ignore { when, form, count_by }
}

/// Works out what a frame's records mean for its cut: the lengths there can be.
fn finish_frame(format: &Format, mut draft: Draft, kinds: &[Kind], ignores: &[Ignore]) -> Frame {
    draft.frame.key = choice_key(&draft.frame, kinds, ignores);
    let constants = draft.frame.header.iter().enumerate().filter(|(_, field)| field.equals.is_some());
    let has_series = draft.frame.kinds.iter().any(|kind| !kinds[usize::from(*kind)].series.is_empty());
    if !has_series && !draft.frame.kinds.is_empty() {
        draft.frame.counters.clone_from(&draft.sheet.counters);
    }
    draft.frame.constants = constants.map(|(index, _)| index as u16).collect();
    let cap = format.limits.frame.unwrap_or(limits::FRAME);
    let check = draft.frame.check.as_ref();
    let least_contents = draft.lengths.iter().map(|(least, _)| *least);
    // Frames that no record claims may be as long as the longest that one does, unless the format says more.
    let varying = draft.lengths.iter().any(|(_, varying)| *varying);
    let longest = if varying { None } else { least_contents.clone().max().filter(|_| format.limits.frame.is_none()) };
    let read_as_text = draft.frame.reading == Reading::Text;
    match &mut draft.frame.framing {
        Framing::Packet(packet) => {
            let behind = packet.end.as_ref().map_or(0, |end| end.bytes.len() + packet.behind);
            let check_in = check.map_or(0, |check| check.form.size()).saturating_sub(packet.behind);
            packet.longest = match (&packet.length, longest) {
                (Length::Fixed(length), _) => *length,
                (Length::ToEnd, _) if read_as_text => (format.limits.line + behind).min(limits::FRAME),
                (Length::Field { integer, add, .. }, None) => {
                    largest_value(*integer).saturating_add_signed(*add as isize).min(cap)
                }
                (Length::Field { integer, add, .. }, Some(_)) if read_as_text => {
                    largest_value(*integer).saturating_add_signed(*add as isize).min(cap)
                }
                (_, Some(longest)) => (longest + behind).min(cap),
                (Length::ToEnd, None) => cap,
            };
            packet.shortest = packet.header.max(packet.start.bytes.len() + check_in) + behind;
            if let (Length::ToEnd, Some(least)) = (&packet.length, least_contents.min()) {
                packet.shortest = packet.shortest.max((least + behind).min(packet.longest));
            }
        }
        Framing::Slip(slip) => {
            let longest = longest.filter(|_| !read_as_text).unwrap_or(cap);
            // Each byte may be sent as two, between two ENDs.
            slip.longest = 2 * longest.min(cap) + 2;
        }
        Framing::Text(_) | Framing::Sentence(_) => {}
    }
    let fixed = match &draft.frame.framing {
        Framing::Packet(packet) => fixed_packets(packet, &draft.frame, kinds),
        Framing::Slip(_) | Framing::Text(_) | Framing::Sentence(_) => None,
    };
    if let Framing::Packet(packet) = &mut draft.frame.framing {
        packet.fixed = fixed;
    }
    draft.frame
}

/// Which bytes decide what claims a frame: those of the header fields that its conditions name.
fn choice_key(frame: &Frame, kinds: &[Kind], ignores: &[Ignore]) -> ChoiceKey {
    if frame.has_forms {
        return ChoiceKey::Unknown;
    }
    let mut named = Vec::new();
    let of_kinds = frame.kinds.iter().filter_map(|kind| kinds[usize::from(*kind)].when.as_ref());
    let of_ignores = frame.ignores.iter().filter_map(|ignore| ignores[usize::from(*ignore)].when.as_ref());
    for when in of_kinds.chain(of_ignores) {
        when.names(&mut |name| named.push(*name));
    }
    let fields = named.iter().map(|name| match name {
        Named::Field(field) => frame.header.get(usize::from(*field)).map(|field| &field.field),
        Named::Length | Named::Columns => None,
    });
    let Some(named) = fields.collect::<Option<Vec<_>>>() else { return ChoiceKey::Unknown };
    if frame.reading == Reading::Bytes {
        let places = named.iter().map(|field| match (field.at, raw_size(&field.raw)) {
            (At::Front(from), Some(size)) => Some((from, from + size)),
            _ => None,
        });
        let Some(places) = places.collect::<Option<Vec<_>>>() else { return ChoiceKey::Unknown };
        let from = places.iter().map(|(from, _)| *from).min().unwrap_or(0);
        let to = places.iter().map(|(_, to)| *to).max().unwrap_or(0);
        return match to - from {
            0 | 1 => ChoiceKey::Byte { at: from, choices: choices_by(from, frame, kinds, ignores) },
            2..=8 => ChoiceKey::Bytes { from, to },
            _ => ChoiceKey::Unknown,
        };
    }
    if named.is_empty() {
        let cells = Cells { bytes: &[], wide: &[], columns: &[], tail: 0 };
        return ChoiceKey::Nothing(claim::choose(kinds, ignores, frame, &cells, 0, &mut Forms::default()));
    }
    let (mut characters, mut column) = (0, false);
    for field in named {
        match (field.at, &field.raw) {
            (_, Raw::Characters(_, end)) if *end <= 8 => characters = characters.max(*end),
            (At::Front(0), Raw::Columns(1) | Raw::Apart(1)) => column = true,
            _ => return ChoiceKey::Unknown,
        }
    }
    ChoiceKey::Text { characters, column }
}

/// What claims a packet by the values of the one byte that decides.
fn choices_by(at: usize, frame: &Frame, kinds: &[Kind], ignores: &[Ignore]) -> Box<[Choice; 256]> {
    let mut header = alloc::vec![0; at + 1];
    let choices = core::array::from_fn(|byte| {
        header[at] = byte as u8;
        let cells = Cells { bytes: &header, wide: &header, columns: &[], tail: 0 };
        claim::choose(kinds, ignores, frame, &cells, 0, &mut Forms::default())
    });
    Box::new(choices)
}

fn largest_value(integer: Integer) -> usize {
    let bits = u32::from(integer.bytes) * 8 - u32::from(integer.signed);
    if bits >= usize::BITS { usize::MAX } else { (1 << bits) - 1 }
}

/// Why the lines of one text frame cannot be told from those of another before it.
fn no_lines_beside(before: &format::Frame, behind: &format::Frame) -> Option<(core::ops::Range<usize>, &'static str)> {
    let (format::Cut::Text { start, end, idle }, format::Cut::Text { end: other_end, idle: other_idle, .. }) =
        (&before.cut, &behind.cut)
    else {
        return None;
    };
    if start.is_none() {
        return Some((
            behind.span.clone(),
            "a `text` frame without `start` before it takes all that is left of the line",
        ));
    }
    let differ = (end, idle) != (other_end, other_idle);
    differ.then(|| (behind.span.clone(), "`text` frames of one line need the same `end` and `idle`"))
}

/// What is taken out of the lines of a role.
fn cleaning_of(format: &Format, role: Option<&str>) -> Cleaning {
    let line = format.lines.iter().find(|line| role == Some(&*line.role.value));
    let clean = line.and_then(|line| line.clean.as_ref()).unwrap_or(&format.clean);
    Cleaning {
        parity: clean.contains(&format::Clean::Parity),
        nul: clean.contains(&format::Clean::Nul),
        flow: clean.contains(&format::Clean::Flow),
        escapes: clean.contains(&format::Clean::Escapes),
    }
}

/// Which cuts run on which line.
fn compile_routes(format: &Format, roles: &[Role], frames: &[Frame], problems: &mut Problems) -> Vec<Route> {
    for declared in &format.frames {
        if let Some(on) = &declared.on
            && !roles.iter().any(|role| role.name == on.value)
        {
            let nearest = nearest(&on.value, roles.iter().map(|role| role.name.as_str()));
            let kind = ProblemKind::UnknownName { what: "line", name: on.value.clone(), nearest };
            problems.add(on.span.clone(), kind);
        }
    }
    let route = |role: Option<&str>| {
        let mut route = Route {
            cleaning: cleaning_of(format, role),
            searching: Vec::new(),
            text: None,
            lines: Vec::new(),
            largest: 1,
        };
        let mut wrong = None;
        for (index, (declared, frame)) in format.frames.iter().zip(frames).enumerate() {
            if declared.on.as_ref().is_some_and(|on| role.is_some_and(|role| role != on.value)) {
                continue;
            }
            if frame.reading == Reading::Bytes && !route.cleaning.is_nothing() {
                let why = "`clean` would take bytes out of these frames, which are read as bytes";
                wrong = wrong.or(Some((declared.span.clone(), why)));
            }
            if frame.framing.searches() {
                route.searching.push(index as u16);
            } else {
                let others = route.lines.iter().map(|other| &format.frames[usize::from(*other)]);
                wrong = wrong.or(others.filter_map(|other| no_lines_beside(other, declared)).next());
                route.text = route.text.or(Some(index as u16));
                route.lines.push(index as u16);
            }
            route.largest = route.largest.max(frame.framing.longest());
        }
        (route, wrong)
    };
    let names: Vec<Option<&str>> = match roles {
        [] => [None].to_vec(),
        roles => roles.iter().map(|role| Some(role.name.as_str())).collect(),
    };
    let mut routes = Vec::new();
    for name in names {
        let (found, wrong) = route(name);
        if let Some((span, why)) = wrong {
            problems.add(span, ProblemKind::Senseless(why));
        }
        routes.push(found);
    }
    routes
}
