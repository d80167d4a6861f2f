//! Placing the fields of packets: every byte of the frame gets a name, and every kind its length.

use alloc::borrow::Cow;
use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use super::field::{byte_size, field_type};
use super::sheet::{Sheet, refuse_condition};
use crate::checksum::Checksum;
use crate::format::{
    Bits, BitsFrom, Characters, Check as DeclaredCheck, CheckForm, Count, Field as Declared, FieldType, Frame,
    Group as DeclaredGroup, Integer, Order, Place, Presence, Spanned,
};
use crate::limits;
use crate::plan::{
    At, Check, CheckPlace, Count as PlannedCount, Edge, Field, Group, Meaning, Output, Reading, Shape, Stride,
};
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
    count: PlannedCount,
    /// Whether something could not be placed, so that gaps are not the declaration's fault.
    unsure: bool,
}

impl Placing {
    /// Begins behind the start pattern.
    pub(super) fn new(start: usize, bits_from: BitsFrom, span: &Range<usize>) -> Placing {
        let named = [Named::whole(At::Front(0), start, span, "the start")].to_vec();
        Placing { cursor: At::Front(start), named, ..Placing::item(bits_from) }
    }

    /// Begins an item of a group, or a run of fields behind something of varying size.
    pub(super) fn item(bits_from: BitsFrom) -> Placing {
        let (cursor, count) = (At::Front(0), PlannedCount::ToEnd);
        Placing { cursor, bit: 0, bits_from, named: Vec::new(), varying: None, count, unsure: false }
    }

    pub(super) fn bits_from(&self) -> BitsFrom {
        self.bits_from
    }

    /// Notes that something could not be placed, so that gaps are not the declaration's fault.
    pub(super) fn be_unsure(&mut self) {
        self.unsure = true;
    }

    /// The name of the first field in it.
    pub(super) fn first_name(&self) -> String {
        self.named.first().map_or("the begin".to_string(), |named| named.what.trim_matches('`').to_string())
    }

    /// Reports what nothing names of a run of fields, and returns how many bytes it has.
    pub(super) fn end_of_run(&self, span: &Range<usize>, problems: &mut Problems) -> usize {
        let size = self.size();
        if !self.unsure {
            report_gaps_and_overlaps(&self.named, size, span, problems);
        }
        size
    }

    /// How many bytes a run of fields has.
    pub(super) fn size(&self) -> usize {
        self.named.iter().map(end_in_front).max().unwrap_or(0)
    }

    /// What is placed behind it: only what is counted from the frame's end is remembered.
    pub(super) fn behind(&self) -> Placing {
        let named = self.named.iter().filter(|named| matches!(named.at, At::Back(_))).cloned().collect();
        Placing { named, unsure: self.unsure, ..Placing::item(self.bits_from) }
    }

    /// Bytes that are counted from the frame's end.
    pub(super) fn back(&self) -> usize {
        let back = |named: &Named| if let At::Back(place) = named.at { place } else { 0 };
        self.named.iter().map(back).max().unwrap_or(0)
    }

    /// Names the bytes of a checksum.
    pub(super) fn name_check(&mut self, check: &Check, span: &Range<usize>) {
        let at = match check.place {
            CheckPlace::In(Edge::Front(place)) => At::Front(place),
            CheckPlace::In(Edge::Back(place)) => At::Back(place),
            CheckPlace::Marked | CheckPlace::Behind { .. } => return,
        };
        self.named.push(Named::whole(at, check.form.size(), span, CHECKSUM));
    }

    /// Names bytes that are no field: the length.
    pub(super) fn name(&mut self, at: At, size: usize, span: &Range<usize>, what: &str) {
        self.named.push(Named::whole(at, size, span, what));
        if let (At::Front(place), At::Front(cursor)) = (at, self.cursor) {
            self.cursor = At::Front(cursor.max(place + size));
        }
    }

    /// Where bits that lie one behind the other are: the field as bits of an integer that is made up of the bytes in which they lie.
    pub(super) fn place_bits(
        &mut self,
        declared: &Declared,
        (width, signed): (u8, bool),
        problems: &mut Problems,
    ) -> Option<PlacedBits> {
        if let Place::Next = declared.place {
            // The byte before the cursor is begun.
            let back = |place: usize| place - usize::from(self.bit > 0);
            self.cursor = match self.cursor {
                At::Front(place) => At::Front(back(place)),
                At::Tail(place) => At::Tail(back(place)),
                At::Back(_) | At::Part { .. } => self.cursor,
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
        Some(PlacedBits { within, integer, at, begun })
    }

    /// The place of a field of that size, and the cursor moved behind it.
    pub(super) fn place(&mut self, declared: &Declared, size: usize, problems: &mut Problems) -> At {
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
            At::Back(_) | At::Part { .. } => {}
        }
        at
    }

    /// Begins the part of varying size at the cursor; what follows is counted from its end.
    fn vary(&mut self, declared: &Declared, item: usize, count: PlannedCount, problems: &mut Problems) -> At {
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

/// Bits that were placed one behind the other.
pub(super) struct PlacedBits {
    /// The field as bits of an integer, and where that is.
    pub(super) within: Declared,
    pub(super) integer: Integer,
    pub(super) at: At,
    /// Bits of the first byte that others have taken.
    begun: u8,
}

impl PlacedBits {
    /// Where they are, in words.
    pub(super) fn place_text(&self, at: At, in_group: bool) -> String {
        let place = place_text(at, self.integer.bytes.into(), in_group);
        let is_whole = self.begun == 0 && self.within.bits.as_ref().is_none_or(|bits| bits.value.width() % 8 == 0);
        if is_whole { place } else { format!("{place} from bit {}", self.begun) }
    }
}

/// A field of digits in halves of bytes, with the half that comes first where it does not say that.
pub(super) fn with_bits_from(declared: &Declared, kind: FieldType, bits_from: BitsFrom) -> Cow<'_, Declared> {
    match (kind, &declared.bits_from, bits_from) {
        (FieldType::Bcd(_), None, BitsFrom::Low) => {
            Cow::Owned(Declared { bits_from: Some(BitsFrom::Low.into()), ..declared.clone() })
        }
        _ => Cow::Borrowed(declared),
    }
}

/// A list of values as a group of which each item has one; nothing if it is none.
pub(super) fn listed(declared: &Declared) -> Option<Declared> {
    let group = declared.group.as_ref().filter(|group| group.fields.is_empty())?;
    let value = Declared {
        title: None,
        tag: None,
        internal: false,
        place: Place::Next,
        when: None,
        optional: false,
        group: None,
        ..declared.clone()
    };
    let fields = [value].to_vec();
    Some(Declared {
        span: declared.span.clone(),
        name: declared.name.clone(),
        title: declared.title.clone(),
        tag: declared.tag.clone(),
        internal: declared.internal,
        place: declared.place.clone(),
        when: declared.when.clone(),
        optional: declared.optional,
        group: Some(DeclaredGroup { fields, ..group.clone() }),
        ..Declared::default()
    })
}

/// Whether the values of a list are bits, so that each has a way of its own to be read.
pub(super) fn is_spread(listed: &Declared) -> bool {
    let value = listed.group.as_ref().and_then(|group| group.fields.first());
    value.is_some_and(|value| {
        value.bits.is_some() || matches!(value.kind.as_ref().map(|kind| kind.value), Some(FieldType::Bits { .. }))
    })
}

/// Adds a list of values that are bits: of one integer, or one behind the other. `map` says where a place of the run is in the frame.
pub(super) fn add_spread(
    sheet: &mut Sheet,
    placing: &mut Placing,
    declared: &Declared,
    listed: &Declared,
    map: impl Fn(At) -> At,
    problems: &mut Problems,
) {
    let (Some(name), Some(group)) = (&declared.name, &listed.group) else {
        problems.add(declared.span.clone(), ProblemKind::MissingKey { key: "name", table: "a list" });
        return;
    };
    let Some(value) = group.fields.first() else { return };
    let Count::Fixed(count) = &group.count else {
        let why = "a list of bits has a fixed number of values";
        problems.add(declared.span.clone(), ProblemKind::Senseless(why));
        return;
    };
    if count.value > limits::FIELDS || listed.when.is_some() || listed.optional {
        let why = "a list of bits is always there, and has no more values than a record has fields";
        problems.add(declared.span.clone(), ProblemKind::Senseless(why));
        return;
    }
    let mut items = sheet.for_group(&name.value);
    let whole = value.kind.as_ref().map(|kind| kind.value);
    let mut outputs = Vec::new();
    let mut first = None;
    for index in 0..count.value {
        let mut value = value.clone();
        items.known.clear();
        items.outputs.clear();
        match (whole, &value.bits) {
            (Some(FieldType::Bits { width, signed }), _) => {
                value.place = if index == 0 { declared.place.clone() } else { Place::Next };
                let Some(bits) = placing.place_bits(&value, (width, signed), problems) else { return };
                let at = map(bits.at);
                items.add_bits(String::new(), &bits.within, bits.integer, at, String::new(), problems);
            }
            (Some(kind @ FieldType::Integer(integer)), Some(bits)) => {
                let at = match first {
                    Some(at) => at,
                    None => {
                        // All of its bytes are named, whichever bits the values are.
                        let whole = Declared { bits: None, ..value.clone() };
                        map(placing.place(&whole, integer.bytes.into(), problems))
                    }
                };
                first = Some(at);
                let up = bits.value.width().saturating_mul(index.min(255) as u8);
                let ranges: Vec<(u8, u8)> = bits
                    .value
                    .ranges()
                    .iter()
                    .map(|(from, to)| (from.saturating_add(up), to.saturating_add(up)))
                    .collect();
                let shifted = Bits::of(&ranges).filter(|shifted| shifted.highest() < 8 * integer.bytes);
                let Some(shifted) = shifted else {
                    let why = "there are more values than the integer has bits for";
                    problems.add(count.span.clone(), ProblemKind::Senseless(why));
                    return;
                };
                value.bits = Some(shifted.into());
                items.add(&value, kind, at, String::new(), problems);
            }
            _ => {
                let with = "this type: only integers have bits".to_string();
                problems.add(declared.span.clone(), ProblemKind::Conflict { key: "bits", with });
                return;
            }
        }
        outputs.append(&mut items.outputs);
    }
    items.rows.clear();
    let place = match outputs.len() {
        1 => "1 value".to_string(),
        many => format!("{many} values"),
    };
    let value = outputs.first().map(|output| (*output.schema).clone());
    let group = Group { first: At::Front(0), step: Stride::Spread, count: Some(outputs.len()), outputs: Vec::new() };
    items.outputs = outputs;
    push_group_of(sheet, items, value.into_iter().collect(), declared, name, group, place);
}

/// The bytes of an item whose fields all have a size; nothing if they are none, which is reported.
pub(super) fn item_size(
    items: &mut Sheet,
    bits_from: BitsFrom,
    declared: &Declared,
    group: &DeclaredGroup,
    problems: &mut Problems,
) -> Option<usize> {
    let mut inner = Placing::item(bits_from);
    items.learn(|items, problems| add_fields(items, &mut inner.clone(), &group.fields, problems));
    add_fields(items, &mut inner, &group.fields, problems);
    let of_fields = inner.named.iter().map(end_in_front).max().unwrap_or(0);
    let declared_size = group.size.as_ref().and_then(|size| size.value.bytes());
    if let Some(size) = group.size.as_ref().filter(|_| declared_size.is_some_and(|size| size < of_fields)) {
        problems.add(size.span.clone(), ProblemKind::Senseless("the fields of an item have more bytes than this"));
    }
    let size = declared_size.unwrap_or(of_fields);
    if size == 0 {
        problems.add(declared.span.clone(), ProblemKind::EmptyItem);
        return None;
    }
    report_gaps_and_overlaps(&inner.named, of_fields, &declared.span, problems);
    Some(size)
}

/// Adds the fields of a header, record or group.
pub(super) fn add_fields(sheet: &mut Sheet, placing: &mut Placing, fields: &[Declared], problems: &mut Problems) {
    for declared in fields {
        refuse_condition(declared, "a header, or an item whose size has to be known", problems);
        match (&declared.group, listed(declared)) {
            (Some(_), Some(listed)) if is_spread(&listed) => {
                add_spread(sheet, placing, declared, &listed, |at| at, problems);
            }
            (Some(_), Some(listed)) => {
                let group = listed.group.clone();
                group.iter().for_each(|group| add_group(sheet, placing, &listed, group, problems));
            }
            (Some(group), None) => add_group(sheet, placing, declared, group, problems),
            (None, _) => add_field(sheet, placing, declared, problems),
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
        let Some(bits) = placing.place_bits(declared, (width, signed), problems) else {
            placing.unsure = true;
            return;
        };
        let place = bits.place_text(bits.at, sheet.group.is_some());
        sheet.add_bits(kind.to_string(), &bits.within, bits.integer, bits.at, place, problems);
        return;
    }
    let declared = &*with_bits_from(declared, kind, placing.bits_from);
    let (at, place) = match byte_size(declared, kind) {
        Some(size) => {
            let at = placing.place(declared, size, problems);
            (at, place_text(at, size, sheet.group.is_some()))
        }
        None => {
            let at = placing.vary(declared, 1, PlannedCount::ToEnd, problems);
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
    let Some(size) = item_size(&mut items, placing.bits_from, declared, group, problems) else {
        placing.unsure = true;
        return;
    };
    let (first, count, place) = match &group.count {
        Count::Fixed(count) => {
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
        Count::Field(from) => {
            let Some(field) = find_count(sheet, from, problems) else {
                placing.unsure = true;
                return;
            };
            let at = placing.vary(declared, size, PlannedCount::Field(field.into()), problems);
            (at, None, format!("{} to …, {} times {size}", place_text(at, 1, false), from.value))
        }
        // Those are walked through.
        Count::Until(_) => return,
        Count::ToEnd => {
            let at = placing.vary(declared, size, PlannedCount::ToEnd, problems);
            (at, None, format!("{} to …, {size} each", place_text(at, 1, false)))
        }
    };
    let group = Group { first, step: Stride::Even(size), count, outputs: Vec::new() };
    let gates = core::mem::take(&mut items.gates);
    sheet.add_item_gates(&name.value, &group, gates);
    push_group(sheet, items, declared, name, group, place);
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
    let fields = items.fields();
    push_group_of(sheet, items, fields, declared, name, group, place);
}

/// The same, with what the schema says of the items' fields.
fn push_group_of(
    sheet: &mut Sheet,
    items: Sheet,
    fields: Vec<FieldSchema>,
    declared: &Declared,
    name: &Spanned<String>,
    group: Group,
    place: String,
) {
    // A list that was made a group has itself as its one field.
    let is_list = declared.group.as_ref().is_some_and(|group| match &*group.fields {
        [] => true,
        [value] => value.span == declared.span && value.name == declared.name,
        _ => false,
    });
    let mut row = sheet.row(declared, place, if is_list { "list" } else { "group" }.to_string());
    row.name.clone_from(&name.value);
    sheet.rows.push(row);
    sheet.rows.extend(items.rows);
    if declared.internal {
        return;
    }
    let schema = FieldSchema {
        name: name.value.clone(),
        title: declared.title.clone(),
        tag: declared.tag.clone(),
        unit: None,
        value_type: if is_list { ValueType::List } else { ValueType::Group },
        declared: None,
        numbers: None,
        is_instant: false,
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
        At::Back(_) | At::Part { .. } => 0,
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
    for (check, declared) in check.into_iter().flat_map(Check::all).zip(&frame.checksums) {
        let at = match check.place {
            CheckPlace::In(Edge::Front(place)) => Some(At::Front(place)),
            CheckPlace::In(Edge::Back(place)) => Some(At::Back(place)),
            // Bytes have no mark, and what is behind is not among them.
            CheckPlace::Marked | CheckPlace::Behind { .. } => None,
        };
        named.extend(at.map(|at| Named::whole(at, check.form.size(), &declared.span, CHECKSUM)));
    }
    let is_in = |check: &&Check| matches!(check.place, CheckPlace::In(_));
    let checks = check.map_or(0, |check| check.all().filter(is_in).count());
    let fixed = frame.fixed_contents();
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
        report_on_checksum(&named, checks, problems);
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
    report_on_checksum(&named, checks, problems);
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
fn report_on_checksum(named: &[Named], checks: usize, problems: &mut Problems) {
    let (fields, checks) = named.split_at(named.len().saturating_sub(checks));
    let place = |at: At| match at {
        At::Front(place) => (0, place as i64),
        At::Tail(place) => (1, place as i64),
        At::Back(place) => (2, -(place as i64)),
        At::Part { offset, .. } => (3, offset as i64),
    };
    for (index, check) in checks.iter().enumerate() {
        let (base, start) = place(check.at);
        for field in fields.iter().chain(&checks[..index]) {
            let (other, first) = place(field.at);
            if base == other && first < start + check.size as i64 && start < first + field.size as i64 {
                problems.add(field.span.clone(), ProblemKind::OnChecksum);
            }
        }
    }
}

/// Resolves where a checksum stands and what it covers.
pub(super) fn check(declared: &DeclaredCheck, frame: &Frame, problems: &mut Problems) -> Option<Check> {
    let checksum = Checksum::new(&declared.algorithm)?;
    let size = declared.form.size();
    if largest(declared.form) < checksum.most() {
        let kind = ProblemKind::Senseless("the type is too narrow for this checksum");
        problems.add(declared.span.clone(), kind);
    }
    let at = declared.byte.map_or(Edge::Back(size), Edge::of);
    let from = Edge::of(declared.from);
    let to = match (declared.to, at) {
        (Some(to), _) => Edge::of(to),
        (None, _) if declared.over_sent => Edge::Back(1),
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
    let over_sent = declared.over_sent;
    let others = Box::default();
    let check =
        Check { checksum, form: declared.form, place, from, to, mark, optional, over_sent, others, lenient: false };
    if !over_sent && covers_itself(&check, size, frame.fixed_contents()) {
        problems.add(declared.span.clone(), ProblemKind::CoversItself);
    }
    Some(check)
}

/// The largest number that fits into what is sent of a checksum.
fn largest(form: CheckForm) -> u128 {
    let of_bits = |bits: usize| u128::MAX.checked_shr(128u32.saturating_sub(bits as u32)).unwrap_or(0);
    match form {
        CheckForm::Binary(integer) | CheckForm::Hex(integer) => of_bits(8 * usize::from(integer.bytes)),
        CheckForm::Characters(Characters { zero, width: 1, bits, .. }) => of_bits(bits.into()).min((255 - zero).into()),
        CheckForm::Characters(of) => of_bits(of.width * usize::from(of.bits)),
        CheckForm::Decimal(None) => u128::MAX,
        CheckForm::Decimal(Some(width)) => 10u128.checked_pow(width as u32).map_or(u128::MAX, |power| power - 1),
    }
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
        At::Back(place) => format!("byte -{place} to -{}", (place + 1).saturating_sub(size)),
        At::Part { offset, .. } if in_group => format!("item, then byte {}", range(offset)),
        At::Part { offset, .. } => format!("then byte {}", range(offset)),
    }
}
