//! From a format to its plan: frames, then the records of each, then what ties them together.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use memchr::memmem::Finder;

use super::field::Medium;
use super::header::{Sheet, condition, header_fields};
use super::{
    Check, ChoiceKey, Cut, Frame, Ignore, Inner, Kind, LayoutRow, Length, Packet, Plan, Role, Route, columns, doubt,
    packet, signature,
};
use crate::claim::{self, Choice};
use crate::format::{self, CheckForm, Format, Presence, Spanned};
use crate::limits;
use crate::problem::{Problem, ProblemKind, Problems, nearest};
use crate::read::Cells;
use crate::schema::{KindSchema, Schema};

impl Format {
    /// Compiles the format: resolves every place, length, name and condition.
    ///
    /// # Errors
    ///
    /// All problems found: fields that overrun their frame, bytes that nothing names, conditions on unknown names, and so on,
    /// each with its place in the format file.
    pub fn compile(&self) -> Result<Plan, Problems> {
        let mut problems = Problems::default();
        let inner = compile(self, &mut problems);
        problems.none_or(&self.text, inner.map(|inner| Plan(Arc::new(inner))))
    }
}

/// What is legal in a format and can hardly be meant.
pub(crate) fn doubts(format: &Format) -> Vec<Problem> {
    let mut problems = Problems::with_doubts();
    compile(format, &mut problems);
    problems.into_doubts(&format.text)
}

/// A frame being compiled, with what its records need to know.
struct Draft {
    frame: Frame,
    sheet: Sheet,
    placing: Placing,
    /// The length of each record's shortest frame, and whether longer ones can be.
    lengths: Vec<(usize, bool)>,
}

#[derive(Clone)]
enum Placing {
    Packet(packet::Placing),
    Columns(columns::Placing),
}

/// The plan of a format; nothing if there is too much in it.
fn compile(format: &Format, problems: &mut Problems) -> Option<Inner> {
    let mut weight = format::Weight::default();
    for record in &format.records {
        let frame = record.frame.as_ref().and_then(|name| format.frames.iter().find(|frame| frame.name == name.value));
        let header = frame.or(format.frames.first()).map(|frame| format::weigh(&frame.header)).unwrap_or_default();
        weight.add(header);
        weight.add(format::weigh(&record.fields));
        if let Some(too_many) = weight.too_many() {
            problems.add(record.kind.span.clone(), too_many);
            return None;
        }
    }
    let mut layout = Vec::new();
    let mut drafts: Vec<Draft> = Vec::new();
    for declared in &format.frames {
        if drafts.iter().any(|draft| draft.frame.name == declared.name) {
            let kind = ProblemKind::Twice { what: "frame", name: declared.name.clone() };
            problems.add(declared.span.clone(), kind);
        }
        drafts.push(compile_frame(format, declared, &mut layout, problems));
    }
    let mut kinds = Vec::new();
    let mut schema = Schema { format: format.name.clone(), kinds: Vec::new() };
    for record in &format.records {
        let Some(index) = frame_of(format, record.frame.as_ref(), &record.kind.span, problems) else { continue };
        report_unreachable(format, record, index, problems);
        let (kind, kind_schema) = compile_record(format, record, index, &mut drafts[index], &mut layout, problems);
        drafts[index].frame.kinds.push(kinds.len() as u16);
        kinds.push(kind);
        schema.kinds.push(kind_schema);
    }
    let mut ignores = Vec::new();
    for ignore in &format.ignores {
        let Some(index) = frame_of(format, ignore.frame.as_ref(), &ignore.span, problems) else { continue };
        let draft = &mut drafts[index];
        draft.frame.ignores.push(ignores.len() as u16);
        ignores.push(compile_ignore(ignore, draft, problems));
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
    Some(Inner { schema, roles, frames, kinds, ignores, routes, limits: format.limits, layout, character })
}

fn compile_frame(
    format: &Format,
    declared: &format::Frame,
    layout: &mut Vec<LayoutRow>,
    problems: &mut Problems,
) -> Draft {
    let medium = match declared.cut {
        format::Cut::Packet { .. } => Medium::Bytes,
        _ => Medium::Text,
    };
    let mut sheet = Sheet::new(medium, declared.separator, &declared.name);
    let fixed = match &declared.cut {
        format::Cut::Packet { length: format::Length::Fixed(length), .. } => Some(length.value),
        _ => None,
    };
    let check = declared.checksum.as_ref().and_then(|check| packet::check(check, fixed, problems));
    let (cut, placing) = match &declared.cut {
        format::Cut::Text { end, idle } => {
            let placing = text_header(&mut sheet, declared, problems);
            (Cut::Text { end: *end, idle: *idle, limit: format.limits.line }, Placing::Columns(placing))
        }
        format::Cut::Sentence { checksum } => {
            let placing = text_header(&mut sheet, declared, problems);
            (Cut::Sentence { checksum: *checksum }, Placing::Columns(placing))
        }
        format::Cut::Packet { start, length } => {
            let (packet, placing) = packet_header(&mut sheet, declared, start, length, problems);
            (Cut::Packet(Box::new(packet)), Placing::Packet(placing))
        }
    };
    layout.extend(frame_rows(declared));
    layout.append(&mut sheet.rows.clone());
    layout.extend(check.as_ref().map(|check| check_row(declared, check)));
    let frame = Frame {
        name: declared.name.clone(),
        cut,
        check,
        header: header_fields(&sheet),
        separator: declared.separator,
        has_columns: matches!(&placing, Placing::Columns(placing) if placing.has_columns()),
        kinds: Vec::new(),
        ignores: Vec::new(),
        key: ChoiceKey::Unknown,
        constants: Vec::new(),
        signatures: None,
        is_direct: false,
    };
    Draft { frame, sheet, placing, lengths: Vec::new() }
}

fn text_header(sheet: &mut Sheet, declared: &format::Frame, problems: &mut Problems) -> columns::Placing {
    let mut placing = columns::Placing::new();
    reject_groups(&declared.header, problems);
    sheet.learn(|sheet, problems| columns::add_fields(sheet, &mut placing.clone(), &declared.header, problems));
    columns::add_fields(sheet, &mut placing, &declared.header, problems);
    placing
}

fn packet_header(
    sheet: &mut Sheet,
    declared: &format::Frame,
    start: &[u8],
    length: &format::Length,
    problems: &mut Problems,
) -> (Packet, packet::Placing) {
    let mut placing = packet::Placing::new(start.len(), &declared.span);
    reject_groups(&declared.header, problems);
    for field in &declared.header {
        if matches!(&field.place, format::Place::Byte(byte) if byte.value < 0) {
            let kind = ProblemKind::Senseless("a header field is read before the frame's end is known");
            problems.add(field.span.clone(), kind);
        }
    }
    let mut header = start.len();
    let length = match length {
        format::Length::Fixed(length) => {
            if length.value > limits::FRAME {
                let kind =
                    ProblemKind::TooMany { what: "bytes for a frame", found: length.value, limit: limits::FRAME };
                problems.add(length.span.clone(), kind);
            }
            Length::Fixed(length.value)
        }
        format::Length::Field { span, byte, integer, add } => {
            placing.name(super::At::Front(*byte), usize::from(integer.bytes), span, "the length");
            header = header.max(byte + usize::from(integer.bytes));
            Length::Field { at: *byte, integer: *integer, add: *add }
        }
    };
    sheet.learn(|sheet, problems| packet::add_fields(sheet, &mut placing.clone(), &declared.header, problems));
    packet::add_fields(sheet, &mut placing, &declared.header, problems);
    for (_, field) in &sheet.known {
        if let (super::At::Front(place), Some(size)) = (field.at, raw_size(&field.raw)) {
            header = header.max(place + size);
        }
    }
    for gate in &sheet.gates {
        if let (super::At::Front(place), Some(size)) = (gate.field.at, raw_size(&gate.field.raw)) {
            header = header.max(place + size);
        }
    }
    let finder = Finder::new(start).into_owned();
    let first = start.iter().take(8).enumerate();
    let pattern = first.fold([0; 2], |[word, mask], (index, byte)| {
        [word | u64::from(*byte) << (8 * index), mask | 0xFF << (8 * index)]
    });
    let packet =
        Packet { start: start.into(), pattern, finder, length, header, shortest: header, longest: limits::FRAME };
    (packet, placing)
}

fn raw_size(raw: &super::Raw) -> Option<usize> {
    match raw {
        super::Raw::Integer { integer, .. } => Some(usize::from(integer.bytes)),
        super::Raw::F32(_) => Some(4),
        super::Raw::F64(_) => Some(8),
        super::Raw::Bytes(size) => *size,
        super::Raw::Columns(_) | super::Raw::Characters(..) => None,
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
    let format::Cut::Packet { start, length } = &declared.cut else { return Vec::new() };
    let bytes: Vec<String> = start.iter().map(|byte| format!("{byte:02X}")).collect();
    let place = packet::place_text(super::At::Front(0), start.len(), false);
    let notes = format!("always {}", bytes.join(" "));
    let mut rows = Vec::new();
    rows.push(frame_row(&declared.name, place, "(start)", "bytes".to_string(), notes));
    if let format::Length::Field { byte, integer, add, .. } = length {
        let place = packet::place_text(super::At::Front(*byte), usize::from(integer.bytes), false);
        let notes = match add {
            0 => "length of the whole frame".to_string(),
            add if *add < 0 => format!("minus {}: length of the whole frame", add.unsigned_abs()),
            add => format!("plus {add}: length of the whole frame"),
        };
        rows.push(frame_row(&declared.name, place, "(length)", integer_word(*integer), notes));
    }
    rows
}

fn check_row(declared: &format::Frame, check: &Check) -> LayoutRow {
    let at = match check.at {
        super::Edge::Front(place) => super::At::Front(place),
        super::Edge::Back(place) => super::At::Back(place),
    };
    let kind = match check.form {
        CheckForm::Binary(integer) => integer_word(integer),
        CheckForm::Hex(integer) => format!("{} in hex", integer_word(integer)),
    };
    let edge = |edge: super::Edge| match edge {
        super::Edge::Front(place) => place.to_string(),
        super::Edge::Back(place) => format!("-{place}"),
    };
    let notes = format!("{} over byte {} to {}", check.checksum.name(), edge(check.from), edge(check.to));
    let place = packet::place_text(at, check.form.size(), false);
    frame_row(&declared.name, place, "(checksum)", kind, notes)
}

fn integer_word(integer: format::Integer) -> String {
    let sign = if integer.signed { 'i' } else { 'u' };
    let order = match integer.order {
        _ if integer.bytes == 1 => "",
        format::Order::Big => "be",
        format::Order::Little => "le",
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
    let earlier = format.records.iter().take_while(|other| other.kind.value != record.kind.value);
    if let Some(earlier) = earlier.filter(of_frame).find(|other| other.when.is_none()) {
        let kind = ProblemKind::Unreachable { record: record.kind.value.clone(), earlier: earlier.kind.value.clone() };
        problems.add(record.kind.span.clone(), kind);
    }
}

fn compile_record(
    format: &Format,
    record: &format::Record,
    frame_index: usize,
    draft: &mut Draft,
    layout: &mut Vec<LayoutRow>,
    problems: &mut Problems,
) -> (Kind, KindSchema) {
    let declared_frame = &format.frames[frame_index];
    let mut sheet = draft.sheet.begin_record(&record.kind.value);
    let shape = match draft.placing.clone() {
        Placing::Packet(mut placing) => {
            sheet.learn(|sheet, problems| packet::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            packet::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            packet::shape(&placing, declared_frame, draft.frame.check.as_ref(), &record.kind, problems)
        }
        Placing::Columns(mut placing) => {
            sheet.learn(|sheet, problems| columns::add_fields(sheet, &mut placing.clone(), &record.fields, problems));
            columns::add_fields(&mut sheet, &mut placing, &record.fields, problems);
            draft.frame.has_columns |= placing.has_columns();
            placing.shape(record.more, declared_frame.separator)
        }
    };
    let mut weight = format::weigh(&declared_frame.header);
    weight.add(format::weigh(&record.fields));
    if weight.fields > limits::FIELDS {
        let kind = ProblemKind::TooMany { what: "fields", found: weight.fields, limit: limits::FIELDS };
        problems.add(record.kind.span.clone(), kind);
    }
    let checksum_required = checksum_required(record, declared_frame, problems);
    let when = record.when.as_ref().and_then(|when| condition(when, &draft.frame.header, problems));
    let series = record.series.iter().filter_map(|name| series_field(&sheet, name, problems)).collect();
    layout.append(&mut sheet.rows);
    draft.lengths.push((shape.least(), shape.item > 0));
    super::Output::count_neighbours(&mut sheet.outputs);
    super::Output::number(&mut sheet.outputs);
    let packet = shape.unit == super::ShapeUnit::Bytes && shape.item == 0;
    let exact = (packet && sheet.gates.is_empty()).then(|| shape.least());
    let fields = sheet.fields();
    let kind = Kind {
        when,
        checksum_required,
        shape,
        gates: sheet.gates,
        near: sheet.outputs.iter().all(super::Output::is_near),
        outputs: sheet.outputs,
        counters: sheet.counters,
        series,
        wanted: true,
        exact,
    };
    let schema = KindSchema { name: record.kind.value.clone(), title: record.title.clone(), fields, wanted: true };
    (kind, schema)
}

fn series_field(sheet: &Sheet, name: &Spanned<String>, problems: &mut Problems) -> Option<super::Field> {
    match sheet.find(&name.value) {
        Ok(field) => Some(field.clone()),
        Err(nearest) => {
            let kind = ProblemKind::UnknownName { what: "field", name: name.value.clone(), nearest };
            problems.add(name.span.clone(), kind);
            None
        }
    }
}

/// Whether a record's frames need a checksum; only sentences can come without.
fn checksum_required(record: &format::Record, frame: &format::Frame, problems: &mut Problems) -> bool {
    let format::Cut::Sentence { checksum } = &frame.cut else {
        if record.checksum.is_some() {
            let with = "this frame: `checksum` of a record is for sentences".to_string();
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

fn compile_ignore(ignore: &format::Ignore, draft: &Draft, problems: &mut Problems) -> Ignore {
    let when = ignore.when.as_ref().and_then(|when| condition(when, &draft.frame.header, problems));
    let count_by = ignore.count_by.as_ref().and_then(|name| {
        let found = draft.sheet.find(&name.value);
        if let Err(nearest) = &found {
            let kind =
                ProblemKind::UnknownName { what: "header field", name: name.value.clone(), nearest: nearest.clone() };
            problems.add(name.span.clone(), kind);
        }
        found.ok().cloned()
    });
    Ignore { when, count_by }
}

/// Works out what a frame's records mean for its cut: the lengths there can be.
fn finish_frame(format: &Format, mut draft: Draft, kinds: &[Kind], ignores: &[Ignore]) -> Frame {
    draft.frame.key = choice_key(&draft.frame, kinds, ignores);
    let constants = draft.frame.header.iter().enumerate().filter(|(_, field)| field.equals.is_some());
    draft.frame.constants = constants.map(|(index, _)| index as u16).collect();
    if let Cut::Packet(packet) = &mut draft.frame.cut {
        let cap = format.limits.frame.unwrap_or(limits::FRAME);
        // Frames that no record claims may be as long as the longest that one does, unless the format says more.
        let varying = draft.lengths.iter().any(|(_, varying)| *varying);
        let longest = draft.lengths.iter().map(|(least, _)| *least).max();
        packet.longest = match (&packet.length, longest) {
            (Length::Fixed(length), _) => *length,
            (Length::Field { integer, add, .. }, _) if varying || format.limits.frame.is_some() => {
                largest_value(*integer).saturating_add_signed(*add as isize).min(cap)
            }
            (_, Some(longest)) => longest.min(cap),
            (_, None) => cap,
        };
        let check_end = draft.frame.check.as_ref().map_or(0, |check| check.form.size());
        packet.shortest = packet.header.max(packet.start.len() + check_end);
    }
    draft.frame.signatures = signature::signatures(&draft.frame, kinds);
    draft.frame.is_direct = draft.frame.check.is_none() && draft.frame.constants.is_empty();
    draft.frame
}

/// Which bytes decide what claims a frame: those of the header fields that its conditions name.
fn choice_key(frame: &Frame, kinds: &[Kind], ignores: &[Ignore]) -> ChoiceKey {
    let mut named = Vec::new();
    let of_kinds = frame.kinds.iter().filter_map(|kind| kinds[usize::from(*kind)].when.as_ref());
    let of_ignores = frame.ignores.iter().filter_map(|ignore| ignores[usize::from(*ignore)].when.as_ref());
    for when in of_kinds.chain(of_ignores) {
        when.names(&mut |name| named.push(&frame.header[usize::from(*name)].field));
    }
    if matches!(frame.cut, Cut::Packet(_)) {
        let places = named.iter().map(|field| match (field.at, raw_size(&field.raw)) {
            (super::At::Front(from), Some(size)) => Some((from, from + size)),
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
        return ChoiceKey::Nothing(claim::choose(kinds, ignores, frame, &cells));
    }
    let (mut characters, mut column) = (0, false);
    for field in named {
        match (field.at, &field.raw) {
            (_, super::Raw::Characters(_, end)) if *end <= 8 => characters = characters.max(*end),
            (super::At::Front(0), super::Raw::Columns(1)) => column = true,
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
        claim::choose(kinds, ignores, frame, &Cells { bytes: &header, wide: &header, columns: &[], tail: 0 })
    });
    Box::new(choices)
}

fn largest_value(integer: format::Integer) -> usize {
    let bits = u32::from(integer.bytes) * 8 - u32::from(integer.signed);
    if bits >= usize::BITS { usize::MAX } else { (1 << bits) - 1 }
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
        let mut route =
            Route { searching: Vec::new(), text: None, largest: 1, smallest: usize::MAX, sentences_apart: true };
        let mut second_text = None;
        for (index, (declared, frame)) in format.frames.iter().zip(frames).enumerate() {
            if declared.on.as_ref().is_some_and(|on| role.is_some_and(|role| role != on.value)) {
                continue;
            }
            let (smallest, largest) = match &frame.cut {
                Cut::Text { limit, .. } => {
                    second_text = second_text.or(route.text.map(|_| declared.span.clone()));
                    route.text = Some(index as u16);
                    (0, *limit)
                }
                Cut::Sentence { checksum } => {
                    route.searching.push(index as u16);
                    // `$*hh`, or `$` and a line end.
                    (if *checksum == Presence::Required { 4 } else { 2 }, limits::SENTENCE)
                }
                Cut::Packet(packet) => {
                    route.searching.push(index as u16);
                    route.sentences_apart &= !matches!(packet.start.first(), Some(b'$' | b'!'));
                    let signed = frame.signatures.as_ref().map(|signatures| signatures.shortest);
                    (signed.unwrap_or(packet.shortest), packet.longest)
                }
            };
            route.smallest = route.smallest.min(smallest);
            route.largest = route.largest.max(largest);
        }
        if route.smallest == usize::MAX {
            route.smallest = 0;
        }
        (route, second_text)
    };
    let names: Vec<Option<&str>> = match roles {
        [] => [None].to_vec(),
        roles => roles.iter().map(|role| Some(role.name.as_str())).collect(),
    };
    let mut routes = Vec::new();
    for name in names {
        let (found, second_text) = route(name);
        if let Some(span) = second_text {
            problems
                .add(span, ProblemKind::Senseless("one line can have only one `text` cut: it takes all that is left"));
        }
        routes.push(found);
    }
    routes
}
