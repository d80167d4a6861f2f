//! Placing the fields of packets: every byte of the frame gets a name, and every kind its length.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use super::field::{byte_size, field_type};
use super::sheet::{Sheet, refuse_condition};
use crate::checksum::Checksum;
use crate::format::{
    Bits, BitsFrom, Check as DeclaredCheck, Count as DeclaredCount, Cut, Field as Declared, FieldType, Frame,
    Group as DeclaredGroup, Integer, Length, Order, Place, Presence, Spanned,
};
use crate::limits;
use crate::plan::{At, Check, CheckPlace, Count, Edge, Field, Group, Meaning, Output, Reading, Shape};
use crate::problem::{ProblemKind, Problems};
use crate::schema::FieldSchema;
use crate::value::ValueType;

/// Bytes that something names.
#[derive(Clone)]
struct Named {
    at: At,
    size: usize,
    span: Range<usize>,
    /// What it is, for messages.
    what: String,
    /// The bits that are read of each byte, where only some are.
    bits: Option<[u8; 8]>,
}

impl Named {
    /// All of so many bytes.
    fn whole(at: At, size: usize, span: &Range<usize>, what: &str) -> Named {
        Named { at, size, span: span.clone(), what: what.to_string(), bits: None }
    }

    /// The bytes of a field.
    fn field(declared: &Declared, at: At, size: usize) -> Named {
        let what = match &declared.name {
            Some(name) => format!("`{}`", name.value),
            None if declared.reserved => "reserved bytes".to_string(),
            None if !declared.flags.is_empty() => "flags".to_string(),
            None => "a constant".to_string(),
        };
        Named { bits: bits_read(declared), ..Named::whole(at, size, &declared.span, &what) }
    }

    /// The first and the last byte that both name, where that can hardly be meant: parts of an integer may be read beside the whole.
    fn overlap(&self, other: &Named) -> Option<(usize, usize)> {
        let (At::Front(mine), At::Front(others)) = (self.at, other.at) else { return None };
        let (first, end) = (mine.max(others), (mine + self.size).min(others + other.size));
        let shares = |byte: usize| match (self.bits, other.bits) {
            (None, None) => true,
            (Some(bits), Some(other_bits)) => bits[byte - mine] & other_bits[byte - others] != 0,
            _ => false,
        };
        let first = (first..end).find(|byte| shares(*byte))?;
        Some((first, (first..end).rev().find(|byte| shares(*byte)).unwrap_or(first)))
    }
}

/// The bits that a field reads of each of its bytes, if it reads only some.
fn bits_read(declared: &Declared) -> Option<[u8; 8]> {
    let Some(FieldType::Integer(integer)) = declared.kind.as_ref().map(|kind| kind.value) else { return None };
    let bit = |bit: u8| 1u64.checked_shl(bit.into()).unwrap_or(0);
    let mask: u64 = match &declared.bits {
        Some(bits) => bits.value.mask(),
        None if declared.flags.is_empty() => return None,
        None => declared.flags.iter().fold(0, |mask, (flag, _)| mask | bit(*flag)),
    };
    let (bytes, mut read) = (usize::from(integer.bytes), [0; 8]);
    if bytes > read.len() {
        return None;
    }
    for (place, byte) in read.iter_mut().enumerate().take(bytes) {
        *byte = (mask >> (8 * integer.order.rank(place, bytes))) as u8;
    }
    Some(read)
}

/// Where the next field goes, and what is named so far.
#[derive(Clone)]
pub(super) struct Placing {
    cursor: At,
    /// Bits that are taken already of the byte before the cursor, and from which end.
    bit: u8,
    bits_from: BitsFrom,
    named: Vec<Named>,
    /// Start and item size of the part of varying size, once there is one.
    varying: Option<(usize, usize)>,
    count: Count,
    /// Whether something could not be placed, so that gaps are not the declaration's fault.
    unsure: bool,
}

impl Placing {
    /// Begins behind the start pattern.
    pub(super) fn new(start: usize, bits_from: BitsFrom, span: &Range<usize>) -> Placing {
        let named = [Named::whole(At::Front(0), start, span, "the start")].to_vec();
        Placing { cursor: At::Front(start), named, ..Placing::item(bits_from) }
    }

    /// Begins an item of a group.
    fn item(bits_from: BitsFrom) -> Placing {
        let (cursor, count) = (At::Front(0), Count::ToEnd);
        Placing { cursor, bit: 0, bits_from, named: Vec::new(), varying: None, count, unsure: false }
    }

    /// Names bytes that are no field: the length.
    pub(super) fn name(&mut self, at: At, size: usize, span: &Range<usize>, what: &str) {
        self.named.push(Named::whole(at, size, span, what));
        if let (At::Front(place), At::Front(cursor)) = (at, self.cursor) {
            self.cursor = At::Front(cursor.max(place + size));
        }
    }

    /// Where bits that lie one behind the other are: the field as bits of an integer that is made up of the bytes in which they lie.
    fn place_bits(
        &mut self,
        declared: &Declared,
        (width, signed): (u8, bool),
        problems: &mut Problems,
    ) -> Option<(Declared, Integer, At)> {
        if let Place::Next = declared.place {
            // The byte before the cursor is begun.
            let back = |place: usize| place - usize::from(self.bit > 0);
            self.cursor = match self.cursor {
                At::Front(place) => At::Front(back(place)),
                At::Tail(place) => At::Tail(back(place)),
                At::Back(_) => self.cursor,
            };
        } else {
            self.bit = 0;
        }
        let (begun, end) = (self.bit, self.bit + width);
        let (bytes, order) =
            (end.div_ceil(8), if self.bits_from == BitsFrom::High { Order::Big } else { Order::Little });
        let lowest = if self.bits_from == BitsFrom::High { 8 * bytes - end } else { begun };
        let integer = Integer { signed, bytes, order };
        let bits = Bits::range(lowest, lowest + width - 1);
        let mut within = declared.clone();
        within.kind = Some(FieldType::Integer(integer).into());
        for (flag, name) in &mut within.flags {
            if *flag >= width {
                let found = format!("bit {flag} of {width} bits");
                let expected = "bits of the field's own type";
                problems.add(name.span.clone(), ProblemKind::WrongValue { key: "flags".to_string(), expected, found });
                return None;
            }
            *flag += lowest;
        }
        if let Some(own) = &declared.bits {
            let with = "bits that lie one behind the other".to_string();
            problems.add(own.span.clone(), ProblemKind::Conflict { key: "bits", with });
            return None;
        }
        if within.flags.is_empty() {
            within.bits = Some(bits.into());
        }
        let at = self.place(&within, bytes.into(), problems);
        self.bit = end % 8;
        Some((within, integer, at))
    }

    /// The place of a field of that size, and the cursor moved behind it.
    fn place(&mut self, declared: &Declared, size: usize, problems: &mut Problems) -> At {
        self.bit = 0;
        let at = match &declared.place {
            Place::Byte(byte) => match Edge::of(byte.value) {
                Edge::Front(place) => At::Front(place),
                Edge::Back(place) => At::Back(place),
            },
            Place::Next => self.cursor,
            Place::Columns(place) | Place::Characters(place) => {
                let kind = ProblemKind::Conflict { key: "column", with: "a packet: its places are bytes".to_string() };
                problems.add(place.span.clone(), kind);
                self.cursor
            }
        };
        if let (At::Back(place), true) = (at, size > 0)
            && size > place
        {
            let kind = ProblemKind::Senseless("this reaches past the end of the frame");
            problems.add(declared.span.clone(), kind);
        }
        if matches!(at, At::Front(place) | At::Tail(place) if place + size > limits::FRAME) {
            let kind =
                ProblemKind::TooMany { what: "bytes for a frame", found: end_of(at, size), limit: limits::FRAME };
            problems.add(declared.span.clone(), kind);
            self.unsure = true;
            return at;
        }
        self.named.push(Named::field(declared, at, size));
        match at {
            At::Front(place) => self.cursor = At::Front(place + size),
            At::Tail(place) => self.cursor = At::Tail(place + size),
            At::Back(_) => {}
        }
        at
    }

    /// Begins the part of varying size at the cursor; what follows is counted from its end.
    fn vary(&mut self, declared: &Declared, item: usize, count: Count, problems: &mut Problems) -> At {
        self.bit = 0;
        let at = match (self.cursor, &declared.place, &self.varying) {
            (_, _, Some(_)) => {
                let kind = ProblemKind::Unplaced("something of varying size stands before it");
                problems.add(declared.span.clone(), kind);
                return self.cursor;
            }
            (_, Place::Byte(byte), _) => match Edge::of(byte.value) {
                Edge::Front(place) => place,
                Edge::Back(_) => {
                    let kind =
                        ProblemKind::Unplaced("its size varies, so its start cannot be counted from the frame's end");
                    problems.add(declared.span.clone(), kind);
                    return self.cursor;
                }
            },
            (At::Front(place), _, _) => place,
            (cursor, _, _) => return cursor,
        };
        self.varying = Some((at, item));
        self.count = count;
        self.cursor = At::Tail(0);
        At::Front(at)
    }
}

/// Adds the fields of a header, record or group.
pub(super) fn add_fields(sheet: &mut Sheet, placing: &mut Placing, fields: &[Declared], problems: &mut Problems) {
    for declared in fields {
        refuse_condition(declared, "what is read as bytes", problems);
        match &declared.group {
            Some(group) => add_group(sheet, placing, declared, group, problems),
            None => add_field(sheet, placing, declared, problems),
        }
    }
}

fn add_field(sheet: &mut Sheet, placing: &mut Placing, declared: &Declared, problems: &mut Problems) {
    if sheet.add_part(declared, problems) {
        return;
    }
    let Some(kind) = field_type(declared, Reading::Bytes, problems) else {
        placing.unsure = true;
        return;
    };
    if let FieldType::Bits { width, signed } = kind {
        let begun = placing.bit;
        let Some((within, integer, at)) = placing.place_bits(declared, (width, signed), problems) else {
            placing.unsure = true;
            return;
        };
        let begun = if declared.place == Place::Next { begun } else { 0 };
        let place = place_text(at, integer.bytes.into(), sheet.group.is_some());
        let place = if begun > 0 || width % 8 > 0 { format!("{place} from bit {begun}") } else { place };
        sheet.add_bits(kind.to_string(), &within, integer, at, place, problems);
        return;
    }
    let with_bits_from;
    let declared = match (kind, &declared.bits_from, placing.bits_from) {
        (FieldType::Bcd(_), None, BitsFrom::Low) => {
            with_bits_from = Declared { bits_from: Some(BitsFrom::Low.into()), ..declared.clone() };
            &with_bits_from
        }
        _ => declared,
    };
    let (at, place) = match byte_size(declared, kind) {
        Some(size) => {
            let at = placing.place(declared, size, problems);
            (at, place_text(at, size, sheet.group.is_some()))
        }
        None => {
            let at = placing.vary(declared, 1, Count::ToEnd, problems);
            (at, format!("{} to …", place_text(at, 1, sheet.group.is_some())))
        }
    };
    sheet.add(declared, kind, at, place, problems);
}

fn add_group(
    sheet: &mut Sheet,
    placing: &mut Placing,
    declared: &Declared,
    group: &DeclaredGroup,
    problems: &mut Problems,
) {
    let Some(name) = &declared.name else {
        problems.add(declared.span.clone(), ProblemKind::MissingKey { key: "name", table: "a group" });
        return;
    };
    let mut items = sheet.for_group(&name.value);
    let mut inner = Placing::item(placing.bits_from);
    items.learn(|items, problems| add_fields(items, &mut inner.clone(), &group.fields, problems));
    add_fields(&mut items, &mut inner, &group.fields, problems);
    if inner.varying.is_some() {
        let kind = ProblemKind::Unplaced("the items of a group have to be of one size");
        problems.add(declared.span.clone(), kind);
        return;
    }
    let size = inner.named.iter().map(end_in_front).max().unwrap_or(0);
    if size == 0 {
        problems.add(declared.span.clone(), ProblemKind::EmptyItem);
        placing.unsure = true;
        return;
    }
    report_gaps_and_overlaps(&inner.named, size, &declared.span, problems);
    let (first, count, place) = match &group.count {
        DeclaredCount::Fixed(count) => {
            let whole = size.saturating_mul(count.value);
            if whole > crate::limits::FRAME {
                let kind =
                    ProblemKind::TooMany { what: "bytes for a group", found: whole, limit: crate::limits::FRAME };
                problems.add(count.span.clone(), kind);
                placing.unsure = true;
                return;
            }
            let at = placing.place(declared, whole, problems);
            (at, Some(count.value), format!("{}, {} times {size}", place_text(at, whole, false), count.value))
        }
        DeclaredCount::Field(from) => {
            let Some(field) = find_count(sheet, from, problems) else {
                placing.unsure = true;
                return;
            };
            let at = placing.vary(declared, size, Count::Field(field.into()), problems);
            (at, None, format!("{} to …, {} times {size}", place_text(at, 1, false), from.value))
        }
        DeclaredCount::ToEnd => {
            let at = placing.vary(declared, size, Count::ToEnd, problems);
            (at, None, format!("{} to …, {size} each", place_text(at, 1, false)))
        }
    };
    push_group(sheet, items, declared, name, Group { first, size, count, outputs: Vec::new() }, place);
}

/// The field that counts a group's items.
pub(super) fn find_count(sheet: &Sheet, from: &Spanned<String>, problems: &mut Problems) -> Option<Field> {
    match sheet.find(&from.value) {
        Ok(field) if matches!(field.meaning, Meaning::Number { .. }) => Some(field.clone()),
        Ok(_) => {
            problems.add(from.span.clone(), ProblemKind::Senseless("a count has to be a number"));
            None
        }
        Err(nearest) => {
            let kind = ProblemKind::UnknownName { what: "earlier field", name: from.value.clone(), nearest };
            problems.add(from.span.clone(), kind);
            None
        }
    }
}

/// Adds a finished group to its record.
pub(super) fn push_group(
    sheet: &mut Sheet,
    items: Sheet,
    declared: &Declared,
    name: &Spanned<String>,
    group: Group,
    place: String,
) {
    let mut row = sheet.row(declared, place, "group".to_string());
    row.name.clone_from(&name.value);
    sheet.rows.push(row);
    let fields = items.fields();
    sheet.rows.extend(items.rows);
    if declared.internal {
        return;
    }
    let schema = FieldSchema {
        name: name.value.clone(),
        title: declared.title.clone(),
        tag: declared.tag.clone(),
        unit: None,
        value_type: ValueType::Group,
        has_quality: false,
        items: fields,
        place: 0,
    };
    sheet.outputs.push(Output::of_group(schema, Group { outputs: items.outputs, ..group }));
}

fn end_in_front(named: &Named) -> usize {
    if matches!(named.at, At::Front(_)) { end_of(named.at, named.size) } else { 0 }
}

/// The place behind something.
fn end_of(at: At, size: usize) -> usize {
    match at {
        At::Front(place) | At::Tail(place) => place + size,
        At::Back(_) => 0,
    }
}

/// The shape of a record's frames, with every byte named, or problems.
pub(super) fn shape(
    placing: &Placing,
    frame: &Frame,
    check: Option<&Check>,
    record: &Spanned<String>,
    problems: &mut Problems,
) -> Shape {
    let mut named = placing.named.clone();
    if let (Some(check), Some(declared)) = (check, &frame.checksum) {
        let at = match check.place {
            CheckPlace::In(Edge::Front(place)) => Some(At::Front(place)),
            CheckPlace::In(Edge::Back(place)) => Some(At::Back(place)),
            // Bytes have no mark, and what is behind is not among them.
            CheckPlace::Marked | CheckPlace::Behind { .. } => None,
        };
        named.extend(at.map(|at| Named::whole(at, check.form.size(), &declared.span, CHECKSUM)));
    }
    let has_check = check.is_some_and(|check| matches!(check.place, CheckPlace::In(_)));
    let fixed = match &frame.cut {
        Cut::Packet { length: Length::Fixed(length), end, .. } => {
            let behind = frame.checksum.as_ref().map_or(0, DeclaredCheck::size_behind);
            Some(length.value.saturating_sub(end.as_ref().map_or(0, Vec::len) + behind))
        }
        _ => None,
    };
    if let (Some(length), None) = (fixed, placing.varying) {
        for named in &mut named {
            if let At::Back(place) = named.at {
                named.at = At::Front(length.saturating_sub(place));
            }
        }
        report_overruns(&named, length, problems);
        if !placing.unsure {
            report_gaps_and_overlaps(&named, length, &record.span, problems);
        }
        report_on_checksum(&named, has_check, problems);
        return Shape::fixed_bytes(length, 0);
    }
    let part = |of: fn(At) -> Option<usize>| named.iter().filter_map(move |named| Some((of(named.at)?, named.size)));
    let front_of = |at: At| if let At::Front(place) = at { Some(place) } else { None };
    let tail_of = |at: At| if let At::Tail(place) = at { Some(place) } else { None };
    let back_of = |at: At| if let At::Back(place) = at { Some(place) } else { None };
    let front_end = part(front_of).map(|(place, size)| place + size).max().unwrap_or(0);
    let tail = part(tail_of).map(|(place, size)| place + size).max().unwrap_or(0);
    let back = part(back_of).map(|(place, _)| place).max().unwrap_or(0);
    let front = placing.varying.map_or(front_end, |(start, _)| start);
    if front_end > front {
        let kind = ProblemKind::Unplaced(
            "something of varying size stands before it; let it follow, or count it from the frame's end",
        );
        for named in named.iter().filter(|named| end_in_front(named) > front) {
            problems.add(named.span.clone(), kind.clone());
        }
    }
    if !placing.unsure {
        report_gaps_and_overlaps(&named, front, &record.span, problems);
    }
    report_on_checksum(&named, has_check, problems);
    report_back_gaps(&named, back, &record.span, problems);
    let item = placing.varying.map_or(0, |(_, item)| item);
    let least = front + tail + back;
    if let Some(length) = fixed
        && (length < least || !(length - least).is_multiple_of(item.max(1)))
    {
        let kind = ProblemKind::Overrun { first: 0, last: least.max(1) - 1, frame: length };
        problems.add(record.span.clone(), kind);
    }
    Shape { tail, tail_required: tail, back, item, count: placing.count.clone(), ..Shape::fixed_bytes(front, 0) }
}

fn report_overruns(named: &[Named], frame: usize, problems: &mut Problems) {
    for named in named {
        if let At::Front(place) = named.at
            && place + named.size > frame
            && named.size > 0
        {
            let kind = ProblemKind::Overrun { first: place, last: place + named.size - 1, frame };
            problems.add(named.span.clone(), kind);
        }
    }
}

/// Reports the bytes of the first `length` that nothing names, and those that two things name. Where there are both, the second is why.
fn report_gaps_and_overlaps(named: &[Named], length: usize, span: &Range<usize>, problems: &mut Problems) {
    let mut gaps = Problems::default();
    report_gaps(named, length, span, &mut gaps);
    let mut overlaps = 0;
    // In the order of their places, so that only what lies side by side has to be compared.
    let mut places: Vec<(usize, &Named)> = named
        .iter()
        .enumerate()
        .filter(|(_, named)| matches!(named.at, At::Front(_)) && named.what != CHECKSUM)
        .collect();
    places.sort_by_key(|(order, named)| (end_in_front(named) - named.size, *order));
    for (index, (order, named)) in places.iter().enumerate() {
        let beside = places[..index].iter().rev().take(BESIDE);
        for (other_order, other) in beside {
            let Some((first, last)) = named.overlap(other) else { continue };
            // What stands later in the file is what is in the way.
            let (here, there) = if order > other_order { (named, other) } else { (other, named) };
            let kind = ProblemKind::Overlap { unit: "byte", first, last, other: there.what.clone() };
            overlaps += 1;
            match gaps.is_empty() {
                true => problems.doubt(here.span.clone(), kind),
                false => problems.add(here.span.clone(), kind),
            }
        }
    }
    if overlaps == 0 {
        problems.join(gaps);
    }
}

/// Of so many fields before it in the frame, it is asked whether one reaches into a field: a bound on the work, far beyond what is meant.
const BESIDE: usize = 64;

/// What the checksum is called. That a field lies on it is a problem of its own.
const CHECKSUM: &str = "the checksum";

/// Reports the bytes of the first `length` that nothing names.
fn report_gaps(named: &[Named], length: usize, span: &Range<usize>, problems: &mut Problems) {
    let mut covered = alloc::vec![false; length];
    for named in named {
        if let At::Front(place) = named.at {
            let end = (place + named.size).min(length);
            covered[place.min(end)..end].fill(true);
        }
    }
    let mut at = 0;
    while let Some(first) = covered[at..].iter().position(|covered| !covered).map(|offset| at + offset) {
        let end = covered[first..].iter().position(|covered| *covered).map_or(length, |offset| first + offset);
        problems.add(span.clone(), ProblemKind::Unnamed { first, last: end - 1 });
        at = end;
    }
}

/// The same for the last `length` bytes.
fn report_back_gaps(named: &[Named], length: usize, span: &Range<usize>, problems: &mut Problems) {
    let mut covered = alloc::vec![false; length];
    for named in named {
        if let At::Back(place) = named.at {
            let first = length - place;
            covered[first..(first + named.size).min(length)].fill(true);
        }
    }
    if covered.iter().any(|covered| !covered) {
        let kind = ProblemKind::Senseless(
            "between the places counted from the frame's end there are bytes that nothing names",
        );
        problems.add(span.clone(), kind);
    }
}

/// Reports the fields that share bytes with the checksum, which is the last one named.
fn report_on_checksum(named: &[Named], has_check: bool, problems: &mut Problems) {
    let Some((check, fields)) = named.split_last().filter(|_| has_check) else { return };
    let place = |at: At| match at {
        At::Front(place) => (0, place as i64),
        At::Tail(place) => (1, place as i64),
        At::Back(place) => (2, -(place as i64)),
    };
    let (base, start) = place(check.at);
    for field in fields {
        let (other, first) = place(field.at);
        if base == other && first < start + check.size as i64 && start < first + field.size as i64 {
            problems.add(field.span.clone(), ProblemKind::OnChecksum);
        }
    }
}

/// Resolves where a checksum stands and what it covers.
pub(super) fn check(declared: &DeclaredCheck, length: Option<usize>, problems: &mut Problems) -> Option<Check> {
    let checksum = Checksum::named(&declared.algorithm)?;
    let size = declared.form.size();
    let bits = match declared.form {
        crate::format::CheckForm::Binary(integer) | crate::format::CheckForm::Hex(integer) => {
            usize::from(integer.bytes) * 8
        }
    };
    if bits < usize::from(checksum.width()) {
        let kind = ProblemKind::Senseless("the type is too narrow for this checksum");
        problems.add(declared.span.clone(), kind);
    }
    let at = declared.byte.map_or(Edge::Back(size), Edge::of);
    let from = Edge::of(declared.from);
    let to = match (declared.to, at) {
        (Some(to), _) => Edge::of(to),
        (None, _) if declared.behind => Edge::Back(1),
        (None, Edge::Back(place)) => Edge::Back(place + 1),
        (None, Edge::Front(place)) if matches!(from, Edge::Front(first) if first < place) => Edge::Front(place - 1),
        (None, Edge::Front(_)) => Edge::Back(1),
    };
    if matches!(at, Edge::Back(place) if place < size) {
        problems.add(declared.span.clone(), ProblemKind::Senseless("the checksum reaches past the end of the frame"));
    }
    let place = match declared.behind {
        _ if declared.mark.is_some() => CheckPlace::Marked,
        true => CheckPlace::Behind { through_end: declared.through_end },
        false => CheckPlace::In(at),
    };
    let to = if declared.mark.is_some() { Edge::Back(1) } else { to };
    let mark = declared.mark.as_deref().map(Box::from);
    let optional = declared.presence == Presence::Optional;
    let check = Check { checksum, form: declared.form, place, from, to, mark, optional };
    if covers_itself(&check, size, length) {
        problems.add(declared.span.clone(), ProblemKind::CoversItself);
    }
    Some(check)
}

fn covers_itself(check: &Check, size: usize, length: Option<usize>) -> bool {
    // Without a fixed length, a frame so long that its two ends do not meet tells the same.
    let length = length.unwrap_or(4 * crate::limits::FRAME);
    let CheckPlace::In(at) = check.place else { return false };
    match (at.in_frame(length), check.from.in_frame(length), check.to.in_frame(length)) {
        (Some(at), Some(from), Some(to)) => from < at + size && at <= to,
        _ => false,
    }
}

/// A place in words: `byte 4-6`, `last 2 bytes`.
pub(super) fn place_text(at: At, size: usize, in_group: bool) -> String {
    let range = |place: usize| match size {
        0 | 1 => place.to_string(),
        _ => format!("{place}-{}", place + size - 1),
    };
    match at {
        At::Front(place) if in_group => format!("item byte {}", range(place)),
        At::Front(place) => format!("byte {}", range(place)),
        At::Tail(place) => format!("then byte {}", range(place)),
        At::Back(place) if place == size && size == 1 => "last byte".to_string(),
        At::Back(place) if place == size => format!("last {size} bytes"),
        At::Back(place) if size == 1 => format!("byte -{place}"),
        At::Back(place) => format!("byte -{place} to -{}", place - size + 1),
    }
}
