//! A plain, slow twin of the decoder: it looks at all bytes so far, from the first one, each time it is asked, and keeps nothing. It
//! shares only the declaration (`Format`) with the decoder: cutting, choosing and reading are written again, in the most obvious
//! way. It knows what the shipped and the demo formats use, and refuses everything else.

use usus::checksum::Checksum;
use usus::format::{
    Count, Cut, Field, FieldType, Format, Frame, Length, Literal, Order, Place, Presence, Record, When,
};
use usus::{Decimal, Plan};

use crate::drive::Drive;
use crate::properties::{formats, stream};

/// What is certain about the bytes so far: records in full, rejects and clipped bytes by their place.
fn events(format: &Format, bytes: &[u8], closed: bool) -> Vec<String> {
    let mut twin = Twin { format, bytes, closed, events: Vec::new() };
    twin.run();
    twin.events
}

struct Twin<'a> {
    format: &'a Format,
    bytes: &'a [u8],
    closed: bool,
    events: Vec<String>,
}

enum Verdict {
    Frame(usize),
    /// Whether the whole of it was there and only its checksum is wrong.
    Fail {
        whole: bool,
    },
    Open,
}

/// The first thing that a searching cut has to say from a position on.
struct Next {
    /// Where a frame begins, and which and how long; or where it cannot be told yet.
    start: usize,
    frame: Option<(usize, usize)>,
    /// The first failed candidate that was whole, and the first that the end cut.
    whole: Option<usize>,
    short: Option<usize>,
}

impl Twin<'_> {
    fn text(&self) -> Option<&Frame> {
        self.format.frames.iter().find(|frame| matches!(frame.cut, Cut::Text { .. }))
    }

    fn run(&mut self) {
        let (mut at, mut at_edge, mut after_sentence) = (0, true, false);
        loop {
            if after_sentence {
                if at == self.bytes.len() && !self.closed {
                    return;
                }
                match &self.bytes[at..] {
                    [b'\r', b'\n', ..] => at += 2,
                    [b'\r'] if !self.closed => return,
                    [b'\r' | b'\n', ..] => at += 1,
                    _ => {}
                }
            }
            let next = self.next(at);
            if self.text().is_some() {
                while let Some(end) = self.bytes[at..next.start].iter().position(|byte| matches!(byte, b'\r' | b'\n')) {
                    self.line(at, at + end, at_edge, false);
                    (at, at_edge) = (at + end + 1, false);
                }
            }
            let Some((frame, length)) = next.frame else {
                if self.closed && at < self.bytes.len() {
                    self.last(at, at_edge, &next);
                } else if at_edge && self.text().is_none() {
                    // What the recording's start cut is certain as soon as a whole candidate or the largest frame lies behind it.
                    let clip = next.whole.unwrap_or(usize::MAX).min(at + self.largest() - 1);
                    if clip > at && clip <= next.start && !self.closed {
                        self.events.push(format!("{at}+{} clipped", clip - at));
                    }
                }
                return;
            };
            if next.start > at {
                match self.text().is_some() {
                    true => self.line(at, next.start, at_edge, false),
                    false => self.unclaimed(at, next.start, at_edge, next.whole),
                }
            }
            let content = &self.bytes[next.start..next.start + length];
            self.frame(frame, next.start, content, false);
            after_sentence = matches!(self.format.frames[frame].cut, Cut::Sentence { .. });
            (at, at_edge) = (next.start + length, false);
        }
    }

    fn next(&self, at: usize) -> Next {
        let (mut whole, mut short) = (None, None);
        for start in at..self.bytes.len() {
            for (index, frame) in self.format.frames.iter().enumerate() {
                match self.verdict(frame, start) {
                    Verdict::Frame(length) => return Next { start, frame: Some((index, length)), whole, short },
                    Verdict::Open if !self.closed => return Next { start, frame: None, whole, short },
                    Verdict::Open => short = short.or(Some(start)),
                    Verdict::Fail { whole: true } => whole = whole.or(Some(start)),
                    Verdict::Fail { .. } => {}
                }
            }
        }
        Next { start: self.bytes.len(), frame: None, whole, short }
    }

    fn verdict(&self, frame: &Frame, start: usize) -> Verdict {
        match &frame.cut {
            Cut::Text { .. } => Verdict::Fail { whole: false },
            Cut::Sentence { checksum, .. } => {
                assert_eq!(*checksum, Presence::Required);
                sentence(&self.bytes[start..])
            }
            Cut::Packet { start: pattern, length, end: None } => {
                self.packet(frame, &pattern.bytes().unwrap(), length, &self.bytes[start..])
            }
            other => panic!("the twin does not know {other:?}"),
        }
    }

    fn packet(&self, frame: &Frame, pattern: &[u8], length: &Length, bytes: &[u8]) -> Verdict {
        let seen = bytes.len().min(pattern.len());
        if bytes[..seen] != pattern[..seen] {
            return Verdict::Fail { whole: false };
        }
        let header_end = header_end(frame, pattern, length);
        if bytes.len() < header_end {
            return Verdict::Open;
        }
        let total = match length {
            Length::Fixed(length) => length.value as i64,
            Length::Fields(fields) => {
                let [field] = &**fields else { panic!("several lengths") };
                assert_eq!((field.kind, field.scale), (FieldType::Integer(U8), 1));
                i64::from(bytes[field.byte]) + field.add
            }
            other => panic!("the twin does not know {other:?}"),
        };
        let header = self.packet_header(frame, pattern, bytes);
        let record = self.format.records.iter().find(|record| belongs(record, frame) && holds(&record.when, &header));
        let check = frame.checksums.first().map_or(0, |check| check.form.size());
        let possible = match record {
            Some(record) => {
                let (least, item) = lengths(record, frame, pattern, length, check);
                total >= least as i64
                    && (if item == 0 { total == least as i64 } else { (total - least as i64) % item as i64 == 0 })
            }
            None => total <= self.longest(frame, pattern, length, check) as i64,
        };
        if !possible || total < (header_end.max(pattern.len() + check)) as i64 {
            return Verdict::Fail { whole: false };
        }
        let total = total as usize;
        let Some(whole) = bytes.get(..total) else { return Verdict::Open };
        if let Some(check) = frame.checksums.first() {
            assert_eq!((check.byte, check.to), (None, None));
            let covered = &whole[check.from as usize..total - check.form.size()];
            let mut sent = whole[total - check.form.size()..].to_vec();
            if matches!(check.form, usus::format::CheckForm::Binary(integer) if integer.order == Order::Little) {
                sent.reverse();
            }
            let sent = sent.iter().fold(0, |value, byte| value * 256 + u128::from(*byte));
            if sent != slow_checksum(&check.algorithm.to_string(), covered) {
                return Verdict::Fail { whole: true };
            }
        }
        Verdict::Frame(total)
    }

    fn longest(&self, frame: &Frame, pattern: &[u8], length: &Length, check: usize) -> usize {
        if let Length::Fixed(length) = length {
            return length.value;
        }
        let all = self.format.records.iter().filter(|record| belongs(record, frame));
        let all: Vec<(usize, usize)> = all.map(|record| lengths(record, frame, pattern, length, check)).collect();
        if all.iter().any(|(_, item)| *item > 0) {
            let Length::Fields(fields) = length else { panic!() };
            return 255 + fields[0].add as usize;
        }
        all.iter().map(|(least, _)| *least).max().unwrap()
    }

    fn packet_header(&self, frame: &Frame, pattern: &[u8], bytes: &[u8]) -> Vec<(String, String)> {
        let mut cursor = pattern.len();
        let mut found = Vec::new();
        for field in &frame.header {
            cursor = place(field).unwrap_or(cursor);
            let (value, size) = integer(field, &bytes[cursor..]);
            cursor += size;
            found.push((name(field), value.to_string()));
        }
        found
    }

    /// A line of text, or what a frame left of one.
    fn line(&mut self, from: usize, to: usize, at_edge: bool, at_end: bool) {
        if from == to {
            return;
        }
        let index = self.format.frames.iter().position(|frame| matches!(frame.cut, Cut::Text { .. })).unwrap();
        if at_end {
            self.events.push(format!("{from}+{} clipped", to - from));
            return;
        }
        let content = &self.bytes[from..to];
        self.frame(index, from, content, at_edge);
    }

    /// Bytes that nothing claims, in front of a frame.
    fn unclaimed(&mut self, from: usize, to: usize, at_edge: bool, whole: Option<usize>) {
        let mut from = from;
        if at_edge {
            let clip = whole.unwrap_or(to).min(from + self.largest() - 1).min(to);
            if clip > from {
                self.events.push(format!("{from}+{} clipped", clip - from));
            }
            from = clip;
        }
        if to > from {
            self.events.push(format!("{from}+{} reject", to - from));
        }
    }

    /// What is left at the end of the input.
    fn last(&mut self, at: usize, at_edge: bool, next: &Next) {
        let end = self.bytes.len();
        if self.text().is_some() {
            self.line(at, end, at_edge, true);
            return;
        }
        let short = next.short.unwrap_or(end);
        if short > at {
            self.unclaimed(at, short, at_edge, next.whole.filter(|whole| *whole < short));
        }
        if end > short {
            self.events.push(format!("{short}+{} clipped", end - short));
        }
    }

    fn largest(&self) -> usize {
        let of = |frame: &Frame| match &frame.cut {
            Cut::Sentence { .. } => 1_024,
            Cut::Packet { start, length, .. } => self.longest(
                frame,
                &start.bytes().unwrap(),
                length,
                frame.checksums.first().map_or(0, |check| check.form.size()),
            ),
            _ => 0,
        };
        self.format.frames.iter().map(of).max().unwrap()
    }

    /// A whole frame: a record, ignored, or a reject.
    fn frame(&mut self, index: usize, offset: usize, bytes: &[u8], at_edge: bool) {
        let frame = &self.format.frames[index];
        let row = match &frame.cut {
            Cut::Packet { start, .. } => self.packet_row(frame, &start.bytes().unwrap(), bytes),
            Cut::Sentence { .. } => self.text_row(frame, &bytes[1..bytes.len() - 3]),
            _ => self.text_row(frame, bytes),
        };
        let place = format!("{offset}+{}", bytes.len());
        match row {
            Row::Record(text) => self.events.push(format!("{place} {text}")),
            Row::Ignored => {}
            Row::Rejected if at_edge => self.events.push(format!("{place} clipped")),
            Row::Rejected => self.events.push(format!("{place} reject")),
        }
    }

    fn claim(&self, frame: &Frame, header: &[(String, String)]) -> Option<Result<&Record, ()>> {
        let record = self.format.records.iter().find(|record| belongs(record, frame) && holds(&record.when, header));
        let ignored = || {
            self.format.ignores.iter().any(|ignore| {
                ignore.frame.as_ref().is_none_or(|name| name.value == frame.name) && holds(&ignore.when, header)
            })
        };
        record.map(Ok).or_else(|| ignored().then_some(Err(())))
    }

    fn packet_row(&self, frame: &Frame, pattern: &[u8], bytes: &[u8]) -> Row {
        let header = self.packet_header(frame, pattern, bytes);
        let record = match self.claim(frame, &header) {
            Some(Ok(record)) => record,
            Some(Err(())) => return Row::Ignored,
            None => return Row::Rejected,
        };
        let Cut::Packet { length, .. } = &frame.cut else { panic!() };
        let check = frame.checksums.first().map_or(0, |check| check.form.size());
        let mut cursor = header_end(frame, pattern, length);
        let mut text = record.kind.value.clone();
        for field in &frame.header {
            assert!(field.internal);
        }
        let mut numbers = Vec::new();
        for field in &record.fields {
            match &field.group {
                Some(group) => {
                    let Count::Field(from) = &group.count else { panic!("the twin does not know this count") };
                    let (_, count) = numbers.iter().find(|(name, _)| *name == from.value).unwrap();
                    let size: usize = group.fields.iter().map(width).sum();
                    if cursor as i128 + count * size as i128 + check as i128 != bytes.len() as i128 {
                        return Row::Rejected;
                    }
                    text += &format!(" {}=", name(field));
                    for _ in 0..*count {
                        let mut item = Vec::new();
                        for field in &group.fields {
                            item.push(format!("{}={}", name(field), packet_value(field, &bytes[cursor..])));
                            cursor += width(field);
                        }
                        text += &format!("[{}]", item.join(" "));
                    }
                }
                None => {
                    cursor = place(field).unwrap_or(cursor);
                    let here = &bytes[cursor..];
                    if matches!(field.kind.as_ref().unwrap().value, FieldType::Integer(_)) {
                        numbers.push((name(field), integer(field, here).0));
                    }
                    for (bit, name) in &field.flags {
                        text += &format!(" {}={}", name.value, integer(field, here).0 >> bit & 1 == 1);
                    }
                    if !field.internal && field.flags.is_empty() {
                        text += &format!(" {}={}", name(field), packet_value(field, here));
                    }
                    cursor += width(field);
                }
            }
        }
        assert_eq!(cursor + check, bytes.len());
        Row::Record(text)
    }

    fn text_row(&self, frame: &Frame, text: &[u8]) -> Row {
        assert!(!frame.joined && frame.quote.is_none() && frame.separators.len() < 2, "the twin does not know that");
        let separator = frame.separators.first().map_or(b',', |separator| separator.value.as_bytes()[0]);
        let columns: Vec<&[u8]> = text.split(|byte| *byte == separator).collect();
        let header: Vec<(String, String)> = frame
            .header
            .iter()
            .filter_map(|field| {
                let raw = match &field.place {
                    Place::Characters(place) => {
                        let (first, last) = place.value;
                        text.get(first - 1..last.min(text.len())).filter(|text| !text.is_empty())?
                    }
                    Place::Columns(place) => columns[place.value.0 - 1],
                    _ => panic!("the twin does not know this place"),
                };
                (!raw.is_empty()).then(|| (name(field), raw.iter().map(|&byte| char::from(byte)).collect()))
            })
            .collect();
        let record = match self.claim(frame, &header) {
            Some(Ok(record)) => record,
            Some(Err(())) => return Row::Ignored,
            None => return Row::Rejected,
        };
        let mut out = record.kind.value.clone();
        for field in frame.header.iter().filter(|field| !field.internal) {
            let (raw, none) = match &field.place {
                Place::Characters(place) => {
                    let (first, last) = place.value;
                    (text.get(first - 1..last.min(text.len())), "<notsent>")
                }
                Place::Columns(place) => (columns.get(place.value.0 - 1).copied(), "<empty>"),
                _ => panic!("the twin does not know this place"),
            };
            let raw = raw.filter(|text| !text.trim_ascii().is_empty());
            out += &format!(" {}={}", name(field), raw.map_or(none.to_owned(), show_text));
        }
        match columns_row(record, frame, &columns) {
            Some(fields) => Row::Record(out + &fields),
            None => Row::Rejected,
        }
    }
}

enum Row {
    Record(String),
    Ignored,
    Rejected,
}

fn sentence(bytes: &[u8]) -> Verdict {
    if !matches!(bytes[0], b'$' | b'!') {
        return Verdict::Fail { whole: false };
    }
    let mut sum = 0;
    for (index, &byte) in bytes.iter().enumerate().skip(1) {
        if index > 1_024 {
            return Verdict::Fail { whole: false };
        }
        match byte {
            b'*' => {
                let Some(digits) = bytes.get(index + 1..index + 3) else { return Verdict::Open };
                let sent = std::str::from_utf8(digits)
                    .ok()
                    .filter(|digits| digits.bytes().all(|digit| digit.is_ascii_hexdigit()));
                return match sent.and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
                    Some(sent) if sent == sum => Verdict::Frame(index + 3),
                    _ => Verdict::Fail { whole: true },
                };
            }
            b'\r' | b'\n' => return Verdict::Fail { whole: true },
            b'$' => return Verdict::Fail { whole: false },
            b'!' if bytes[0] == b'!' => return Verdict::Fail { whole: false },
            b' '..=b'~' => sum ^= byte,
            _ => return Verdict::Fail { whole: false },
        }
    }
    if bytes.len() > 1_024 { Verdict::Fail { whole: false } } else { Verdict::Open }
}

fn belongs(record: &Record, frame: &Frame) -> bool {
    record.frame.as_ref().is_none_or(|name| name.value == frame.name)
}

/// Conditions of the form `a == 'x' and not b starts 'y'`.
fn holds(when: &Option<When>, header: &[(String, String)]) -> bool {
    let Some(when) = when else { return true };
    when.text.split(" and ").all(|part| {
        let (part, wanted) = part.strip_prefix("not ").map_or((part, true), |part| (part, false));
        let words: Vec<&str> = part.splitn(3, ' ').collect();
        let [name, operator, literal] = words[..] else { panic!("the twin does not know `{part}`") };
        let literal = literal.trim_matches('\'');
        let Some((_, value)) = header.iter().find(|(known, _)| known == name) else { return false };
        let holds = match operator {
            "==" => value == literal,
            "starts" => value.starts_with(literal),
            _ => panic!("the twin does not know `{operator}`"),
        };
        holds == wanted
    })
}

fn name(field: &Field) -> String {
    field.name.as_ref().map(|name| name.value.clone()).unwrap_or_default()
}

fn place(field: &Field) -> Option<usize> {
    match &field.place {
        Place::Byte(byte) => Some(usize::try_from(byte.value).unwrap()),
        Place::Next => None,
        other => panic!("the twin does not know {other:?}"),
    }
}

fn text_width(field: &Field) -> usize {
    match field.width.as_ref().unwrap().value {
        usus::format::Width::Bytes(bytes) => bytes,
        ref other => panic!("the twin does not know {other:?}"),
    }
}

fn width(field: &Field) -> usize {
    match field.kind.as_ref().unwrap().value {
        FieldType::Integer(integer) => integer.bytes.into(),
        FieldType::F32(_) => 4,
        FieldType::Text => text_width(field),
        other => panic!("the twin does not know {other:?}"),
    }
}

/// The only type of lengths that the twin knows.
const U8: usus::format::Integer = usus::format::Integer { signed: false, bytes: 1, order: usus::format::Order::Big };

fn header_end(frame: &Frame, pattern: &[u8], length: &Length) -> usize {
    let mut end = pattern.len();
    if let Length::Fields(fields) = length {
        end = end.max(fields[0].byte + 1);
    }
    let mut cursor = end;
    for field in &frame.header {
        cursor = place(field).unwrap_or(cursor) + width(field);
        end = end.max(cursor);
    }
    end
}

/// The shortest frame of a record, and the size of an item if it varies.
fn lengths(record: &Record, frame: &Frame, pattern: &[u8], length: &Length, check: usize) -> (usize, usize) {
    let mut end = header_end(frame, pattern, length);
    let (mut cursor, mut item) = (end, 0);
    for field in &record.fields {
        match &field.group {
            Some(group) => item = group.fields.iter().map(width).sum(),
            None => {
                cursor = place(field).unwrap_or(cursor) + width(field);
                end = end.max(cursor);
            }
        }
    }
    (end + check, item)
}

fn integer(field: &Field, bytes: &[u8]) -> (i128, usize) {
    let FieldType::Integer(integer) = field.kind.as_ref().unwrap().value else { panic!() };
    let size = usize::from(integer.bytes);
    let mut digits = bytes[..size].to_vec();
    if integer.order == Order::Little {
        digits.reverse();
    }
    let mut value = digits.iter().fold(0i128, |value, byte| value * 256 + i128::from(*byte));
    if integer.signed && digits[0] >= 128 {
        value -= 256i128.pow(size as u32);
    }
    if let Some(bits) = &field.bits {
        let [(first, last)] = *bits.value.ranges() else { panic!("scattered bits") };
        value = value >> first & ((1 << (last - first + 1)) - 1);
    }
    (value, size)
}

fn packet_value(field: &Field, bytes: &[u8]) -> String {
    match field.kind.as_ref().unwrap().value {
        FieldType::Integer(_) => number(field, (integer(field, bytes).0, 0), None),
        FieldType::F32(Order::Big) => {
            let value = f32::from_be_bytes(bytes[..4].try_into().unwrap());
            let mut text = format!("{value:?}");
            if value.is_nan() {
                text = "NaN".to_owned();
            }
            let [low, high] = field.range.as_ref().unwrap().value;
            let width = |bound: usus::Decimal| bound.to_string().parse::<f32>().unwrap();
            let outside = value < width(low) || value > width(high);
            match (value.is_finite(), outside) {
                (false, _) => text + "!not_finite",
                (true, true) => exponent(value, text) + "!out_of_range",
                (true, false) => exponent(value, text),
            }
        }
        FieldType::Text => {
            let text = &bytes[..text_width(field)];
            let end = text.iter().rposition(|byte| Some(*byte) != field.fill).map_or(0, |last| last + 1);
            if end == 0 { "<empty>".to_owned() } else { show_text(&text[..end]) }
        }
        other => panic!("the twin does not know {other:?}"),
    }
}

/// Rust writes `1e21` where the decoder writes `1e+21`.
fn exponent(value: f32, text: String) -> String {
    if value.abs() >= 1.0 { text.replacen('e', "e+", 1) } else { text }
}

/// A number of so many places, by the declaration of its field. `unit` is the unit in which it was sent.
fn number(field: &Field, (coefficient, places): (i128, u32), unit: Option<&str>) -> String {
    let literal = |literal: &Literal| match literal {
        Literal::Text(text) => text.clone(),
        Literal::Number(number) => number.to_string(),
        Literal::Bits(_) | Literal::Bool(_) => panic!(),
    };
    let plain = decimal(coefficient, places);
    if field.no_data.iter().any(|mark| literal(&mark.value) == plain) {
        return "<marked>".to_owned();
    }
    // Codes are whole numbers: 08 and 8.0 are the code 8.
    for (key, name) in &field.codes {
        let key: i128 = literal(&key.value).parse().unwrap();
        if key * 10i128.pow(places) == coefficient {
            return format!("{name}({plain})");
        }
    }
    let (mut coefficient, mut places) = (coefficient, places);
    if let Some(scale) = &field.scale {
        coefficient *= scale.value.coefficient();
        places += u32::from(scale.value.places());
    }
    assert!(field.add.is_none());
    match (unit, field.unit.as_ref().map(|unit| unit.value.as_str())) {
        (None, _) => {}
        (Some(sent), Some(wanted)) if sent == wanted => {}
        (Some(sent), Some("m/s")) => {
            let (numerator, denominator) = match sent {
                "km/h" => (10, 36),
                "kn" => (1_852, 3_600),
                "mph" => (44_704, 100_000),
                other => panic!("the twin does not know {other}"),
            };
            coefficient = half_even(coefficient * numerator * 1_000, denominator);
            places += 3;
        }
        other => panic!("the twin does not know {other:?}"),
    }
    let text = decimal(coefficient, places);
    let compare =
        |bound: Decimal| coefficient * 10i128.pow(bound.places().into()) - bound.coefficient() * 10i128.pow(places);
    match field.range.as_ref().map(|range| range.value) {
        Some([low, high]) if compare(low) < 0 || compare(high) > 0 => text + "!out_of_range",
        _ => text,
    }
}

fn half_even(numerator: i128, denominator: i128) -> i128 {
    let sign = numerator.signum();
    let (quotient, twice) = (numerator.abs() / denominator, numerator.abs() % denominator * 2);
    sign * (quotient + i128::from(twice > denominator || (twice == denominator && quotient % 2 == 1)))
}

fn decimal(coefficient: i128, places: u32) -> String {
    let digits = format!("{:0>width$}", coefficient.abs(), width = places as usize + 1);
    let (whole, fraction) = digits.split_at(digits.len() - places as usize);
    let sign = if coefficient < 0 { "-" } else { "" };
    if places == 0 { format!("{sign}{whole}") } else { format!("{sign}{whole}.{fraction}") }
}

/// The fields of a record of a text; nothing if the columns do not fit.
fn columns_row(record: &Record, frame: &Frame, columns: &[&[u8]]) -> Option<String> {
    // A record goes on behind its header.
    let behind = |field: &Field| if let Place::Columns(place) = &field.place { Some(place.value.1) } else { None };
    let mut cursor = frame.header.iter().rev().find_map(behind).unwrap_or(0);
    let mut text = String::new();
    let sent_unit = |field: &Field, from: usize, fields: &[Field]| -> Option<String> {
        let source = field.unit_from.as_ref()?;
        // Without a place of their own, fields stand one behind the other.
        let mut at = from;
        for other in fields {
            if name(other) == source.value {
                let raw = std::str::from_utf8(columns.get(at)?).ok()?.trim_ascii().to_owned();
                let code = other.codes.iter().find(|(key, _)| key.value == Literal::Text(raw.clone()));
                return Some(code.map_or("?".to_owned(), |(_, name)| name.clone()));
            }
            at += span(other);
        }
        None
    };
    for (index, field) in record.fields.iter().enumerate() {
        if let Place::Columns(place) = &field.place {
            cursor = place.value.0 - 1;
        }
        if let Some(group) = &field.group {
            assert_eq!(group.count, Count::ToEnd);
            let size = group.fields.len();
            text += &format!(" {}=", name(field));
            while columns.len() >= cursor + size {
                let item: Vec<String> = group
                    .fields
                    .iter()
                    .enumerate()
                    .map(|(place, field)| {
                        format!(
                            "{}={}",
                            name(field),
                            column_value(field, &columns[cursor + place..=cursor + place], None)
                        )
                    })
                    .collect();
                text += &format!("[{}]", item.join(" "));
                cursor += size;
            }
            continue;
        }
        let size = span(field);
        let here = columns.get(cursor..cursor + size);
        if here.is_none() && !field.optional {
            return None;
        }
        let unit = sent_unit(field, cursor + size, &record.fields[index + 1..]);
        let value = here.map_or("<notsent>".to_owned(), |here| column_value(field, here, unit.as_deref()));
        if !field.internal {
            text += &format!(" {}={value}", name(field));
        }
        cursor += size;
    }
    let _ = frame;
    (columns.len() <= cursor || record.more).then_some(text)
}

fn span(field: &Field) -> usize {
    match field.kind.as_ref().map(|kind| kind.value) {
        Some(FieldType::Latitude | FieldType::Longitude) => 2,
        Some(FieldType::Date) if field.layout.as_ref().is_some_and(|layout| layout.value == "DD,MM,YYYY") => 3,
        _ => 1,
    }
}

fn column_value(field: &Field, columns: &[&[u8]], unit: Option<&str>) -> String {
    let text = columns[0];
    let trimmed = text.trim_ascii();
    if columns.iter().all(|column| column.trim_ascii().is_empty()) {
        return "<empty>".to_owned();
    }
    let kind = field.kind.as_ref().map_or(FieldType::Text, |kind| kind.value);
    if columns.len() == 1 && trimmed.is_empty() {
        return "<empty>".to_owned();
    }
    let invalid = || "<invalid>!invalid".to_owned();
    match kind {
        FieldType::Text => {
            let code =
                field.codes.iter().find(|(key, _)| matches!(&key.value, Literal::Text(key) if key.as_bytes() == text));
            code.map_or_else(|| show_text(text), |(_, name)| show_text(name.as_bytes()))
        }
        FieldType::Number => match slow_number(trimmed) {
            Some(_) if unit == Some("?") => invalid(),
            // A unit that is not sent at all cannot be converted from.
            Some(_) if unit.is_none() && field.unit_from.is_some() => invalid(),
            Some(value) => {
                let text = number(field, value, unit);
                // The sign of a zero is kept.
                if trimmed[0] == b'-' && value.0 == 0 && !text.contains('(') { format!("-{text}") } else { text }
            }
            None => invalid(),
        },
        FieldType::Hex => {
            let digits =
                std::str::from_utf8(trimmed).ok().filter(|text| text.bytes().all(|byte| byte.is_ascii_hexdigit()));
            digits
                .and_then(|digits| i128::from_str_radix(digits, 16).ok())
                .map_or_else(invalid, |value| value.to_string())
        }
        FieldType::Clock => {
            assert_eq!(field.layout.as_ref().unwrap().value, "hhmmss");
            slow_clock(trimmed).unwrap_or_else(invalid)
        }
        FieldType::Date => {
            let joined = columns.join(&b',');
            slow_date(joined.trim_ascii(), &field.layout.as_ref().unwrap().value).unwrap_or_else(invalid)
        }
        FieldType::Latitude => slow_degrees(trimmed, columns[1].trim_ascii(), 90, "NS").unwrap_or_else(invalid),
        FieldType::Longitude => slow_degrees(trimmed, columns[1].trim_ascii(), 180, "EW").unwrap_or_else(invalid),
        other => panic!("the twin does not know {other:?}"),
    }
}

fn show_text(text: &[u8]) -> String {
    let mark = if std::str::from_utf8(text).is_ok() { "" } else { "!invalid_text" };
    format!("\"{}\"{mark}", text.escape_ascii())
}

/// Coefficient and places of `[+-]digits[.digits]`; the formats' own numbers have no exponent, so one is refused only if damaged.
fn slow_number(text: &[u8]) -> Option<(i128, u32)> {
    let text = std::str::from_utf8(text).ok()?;
    let (sign, digits) = match text.as_bytes().first()? {
        b'-' => (-1, &text[1..]),
        b'+' => (1, &text[1..]),
        _ => (1, text),
    };
    let (mantissa, exponent) = digits.split_once(['e', 'E']).map_or((digits, 0), |(mantissa, exponent)| {
        let plain = exponent.trim_start_matches(['+', '-']);
        let sound = !plain.is_empty()
            && plain.len() <= 3
            && plain.bytes().all(|byte| byte.is_ascii_digit())
            && exponent.len() - plain.len() <= 1;
        (mantissa, if sound { exponent.trim_start_matches('+').parse::<i32>().unwrap() } else { i32::MAX })
    });
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let all = format!("{whole}{fraction}");
    if all.is_empty() || !all.bytes().all(|byte| byte.is_ascii_digit()) || exponent == i32::MAX {
        return None;
    }
    let significant = all.trim_start_matches('0');
    let places = fraction.len() as i32 - exponent;
    let zeros = (-places).max(0) as usize;
    if significant.len() > 38
        || places > 38
        || fraction.len() > 38
        || (!significant.is_empty() && significant.len() + zeros > 38)
    {
        return None;
    }
    let coefficient: i128 =
        if significant.is_empty() { 0 } else { format!("{significant}{}", "0".repeat(zeros)).parse().ok()? };
    Some((sign * coefficient, places.max(0) as u32))
}

fn two(text: &[u8]) -> Option<u32> {
    (text.len() == 2 && text.iter().all(u8::is_ascii_digit))
        .then(|| u32::from(text[0] - b'0') * 10 + u32::from(text[1] - b'0'))
}

fn slow_clock(text: &[u8]) -> Option<String> {
    let (hour, minute, second) = (two(text.get(..2)?)?, two(text.get(2..4)?)?, two(text.get(4..6)?)?);
    let fraction = &text[6..];
    let sound = match fraction {
        [] => true,
        [b'.', digits @ ..] => digits.len() <= 9 && digits.iter().all(u8::is_ascii_digit),
        _ => false,
    };
    if !sound || hour > 23 || minute > 59 || second > 60 {
        return None;
    }
    let fraction = if fraction.len() == 1 { "" } else { std::str::from_utf8(fraction).ok()? };
    Some(format!("{hour:02}:{minute:02}:{second:02}{fraction}"))
}

fn slow_date(text: &[u8], layout: &str) -> Option<String> {
    let (day, month, year) = match layout {
        "DDMMYY" if text.len() == 6 => {
            let year = two(&text[4..])?;
            (two(&text[..2])?, two(&text[2..4])?, if year >= 80 { 1900 + year } else { 2000 + year })
        }
        "DD,MM,YYYY" if text.len() == 10 && text[2] == b',' && text[5] == b',' => {
            (two(&text[..2])?, two(&text[3..5])?, two(&text[6..8])? * 100 + two(&text[8..])?)
        }
        _ => {
            let nothing = text.iter().all(|byte| !byte.is_ascii_alphanumeric());
            return nothing.then(|| "<empty>".to_owned());
        }
    };
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let days = match month {
        2 => 28 + u32::from(leap),
        4 | 6 | 9 | 11 => 30,
        1..=12 => 31,
        _ => return None,
    };
    (1..=days).contains(&day).then(|| format!("{year:04}-{month:02}-{day:02}"))
}

fn slow_degrees(number: &[u8], letter: &[u8], most: i128, letters: &str) -> Option<String> {
    let text = std::str::from_utf8(number).ok()?;
    let letter = std::str::from_utf8(letter).ok().filter(|letter| letter.len() == 1)?;
    let negative = letters.find(letter)? == 1;
    let whole = text.find('.').unwrap_or(text.len());
    if whole < 3 || !text[..whole].bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let degrees: i128 = text[..whole - 2].parse().ok()?;
    let (minutes, places) = slow_number(&text.as_bytes()[whole - 2..])?;
    let unit = 10i128.checked_pow(places)?;
    let shown = (places + 3).max(7);
    if minutes < 0 || minutes >= 60 * unit {
        return None;
    }
    let scaled = (degrees.checked_mul(60 * unit)? + minutes).checked_mul(10i128.checked_pow(shown)?)?;
    let rounded = half_even(scaled, 60 * unit);
    if rounded > most * 10i128.pow(shown) {
        return None;
    }
    Some(format!("{}{}", if negative { "-" } else { "" }, decimal(rounded, shown)))
}

fn slow_checksum(algorithm: &str, bytes: &[u8]) -> u128 {
    match algorithm {
        "CRC-16/MODBUS" => {
            let step = |crc: u16, &byte: &u8| {
                (0..8).fold(crc ^ u16::from(byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 })
            };
            bytes.iter().fold(0xFFFF, step).into()
        }
        "SUM-16" => bytes.iter().map(|byte| u128::from(*byte)).sum::<u128>() % 65_536,
        other => panic!("the twin does not know {other}"),
    }
}

/// The decoder's events as the twin tells them: no notices, and of rejects only their place.
fn told(events: &[String]) -> Vec<String> {
    let short = |event: &String| match event.split_once([',', ':']) {
        Some((front, _)) if front.ends_with(" reject") || front.ends_with(" clipped") => front.to_owned(),
        _ => event.clone(),
    };
    events.iter().filter(|event| !event.contains(" notice: ")).map(short).collect()
}

fn agree(plan: &Plan, format: &Format, bytes: &[u8], pieces: &mut dyn FnMut() -> usize) {
    let mut drive = Drive::new(plan);
    let mut at = 0;
    while at < bytes.len() {
        let to = (at + pieces()).min(bytes.len());
        drive.feed("", None, &bytes[at..to], &[]);
        at = to;
        assert_eq!(
            told(&drive.events),
            events(format, &bytes[..at], false),
            "after {at} bytes of {}",
            bytes.escape_ascii()
        );
    }
    drive.finish();
    assert_eq!(told(&drive.events), events(format, bytes, true), "at the end of {}", bytes.escape_ascii());
}

#[test]
fn the_twin_agrees_after_each_chunk() {
    for (format, plan, device) in formats() {
        for seed in 0..40 {
            let mut rng = fastrand::Rng::with_seed(seed);
            let bytes = stream(device, &mut rng, 700);
            agree(&plan, &format, &bytes, &mut || rng.usize(1..40));
        }
    }
}

#[test]
fn the_twin_agrees_byte_by_byte() {
    for (format, plan, device) in formats() {
        let mut rng = fastrand::Rng::with_seed(99);
        agree(&plan, &format, &stream(device, &mut rng, 600), &mut || 1);
    }
}

/// Cuts whose frames begin alike share a line: which comes first in the file has the first word, after each frame anew.
#[test]
fn the_twin_agrees_where_frames_begin_alike() {
    let packet = |name: &str, start: &str| {
        format!(
            "[[frame]]
            name = '{name}'
            cut = 'packet'
            start = '{start}'
            length = 40
            checksum = {{ algorithm = 'SUM-16', type = 'u16be' }}
            [record.{name}]
            frame = '{name}'
            fields = [{{ name = 'value', type = 'u32be' }}, {{ name = 'note', type = 'text', width = 32 }}]\n"
        )
    };
    let sentence = "[[frame]]
        name = 'sentence'
        cut = 'nmea-0183'
        [record.wind]
        frame = 'sentence'
        more = 'ignore'
        fields = [{ name = 'angle', column = 2, type = 'number' }]\n";
    let (first, second) = (packet("first", "24 42"), packet("second", "24 44"));
    for order in [[first.as_str(), sentence, &second], [sentence, &first, &second], [&second, &first, sentence]] {
        let format = Format::parse(&format!("format = 'alike'\n{}", order.concat())).unwrap();
        let plan = format.compile().unwrap();
        for seed in 0..60 {
            let mut rng = fastrand::Rng::with_seed(seed);
            let mut bytes = Vec::new();
            while bytes.len() < 500 {
                let begun = bytes.len();
                let text = format!("{}MWV,{}.5,R", rng.choice(["BD", "GP", "DT"]).unwrap(), rng.u16(..360));
                let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
                let sentence = format!("${text}*{sum:02X}\r\n");
                match rng.u32(0..8) {
                    // A packet in which a sentence stands, or that is one.
                    kind @ 0..4 => {
                        let start = [&b"$B1"[..], b"$D2", b"", b"\x24"][kind as usize];
                        bytes.extend_from_slice(start);
                        bytes.extend(sentence.bytes());
                        bytes.resize(begun + 38, b'x');
                        let sum = slow_checksum("SUM-16", &bytes[begun..]) as u16;
                        bytes.extend(sum.to_be_bytes());
                    }
                    4..7 => bytes.extend(sentence.bytes()),
                    _ => bytes.extend(rng.choice([&b"$"[..], b"$B", b"boot", b"*00", b"$DTMWV,1"]).unwrap().iter()),
                }
                if rng.u32(0..12) == 0 {
                    let place = rng.usize(begun..bytes.len());
                    bytes[place] ^= 1 << rng.u32(0..8);
                }
            }
            agree(&plan, &format, &bytes, &mut || if seed % 2 == 0 { rng.usize(1..60) } else { 1_000 });
        }
    }
}

#[test]
fn checksums_of_the_twin_are_those_of_the_catalogue() {
    for name in ["CRC-16/MODBUS", "SUM-16"] {
        assert_eq!(slow_checksum(name, b"123456789"), Checksum::named(name).unwrap().of(b"123456789"));
    }
}
