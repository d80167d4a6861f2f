//! Writing a format as a file: what `read` reads.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt::Display;

use toml_writer::{ToTomlKey, ToTomlValue, TomlKeyBuilder, TomlStringBuilder};

use super::pattern::pattern_of;
use super::write_composed;
use super::{
    BitsFrom, BytePattern, Check, CheckForm, Clean, Coding, Count, Cut, Direction, Example, ExampleFrame, Expected,
    Field, FieldType, Format, Frame, Gives, Ignore, Integer, Length, LengthField, LineEnd, Literal, PartBefore, Place,
    Presence, Read, Record, Repeated, Sign, Silence, Spanned, When, Width,
};
use crate::checksum::Algorithm;

/// The file of a format.
pub(super) fn format(format: &Format) -> String {
    let mut top = Keys::default();
    top.text("format", Some(&format.name));
    top.text("title", format.title.as_deref());
    top.text("version", format.version.as_deref());
    top.text("serial", format.serial.map(|serial| serial.to_string()).as_deref());
    top.list("clean", clean(&format.clean));
    let mut file = top.lines();
    file += &section("[limits]", limits(format));
    for line in &format.lines {
        let mut keys = Keys::default();
        keys.text("serial", line.serial.map(|serial| serial.to_string()).as_deref());
        match line.clean.as_deref() {
            Some([]) => keys.put("clean", "[]".to_string()),
            all => keys.list("clean", clean(all.unwrap_or_default())),
        }
        file += &format!("\n[line.{}]\n{}", quoted_key(&line.role.value), keys.lines());
    }
    for declared in &format.frames {
        file += &format!("\n[[frame]]\n{}", frame(declared).lines());
    }
    for declared in &format.records {
        file += &format!("\n[record.{}]\n{}", quoted_key(&declared.kind.value), record(declared).lines());
        for variant in &declared.variants {
            file += &format!("\n[[record.{}.variant]]\n{}", quoted_key(&declared.kind.value), record(variant).lines());
        }
        for part in declared.block.iter().flat_map(|block| &block.parts) {
            let heading = format!("[[record.{}.part]]", quoted_key(&declared.kind.value));
            file += &format!("\n{heading}\n{}", write_composed::part(part).lines());
        }
    }
    file += &write_composed::all(format);
    for declared in &format.ignores {
        file += &format!("\n[[ignore]]\n{}", ignore(declared).lines());
    }
    for declared in &format.examples {
        file += &format!("\n[[example]]\n{}", example(declared).lines());
    }
    file
}

fn clean(clean: &[Clean]) -> Vec<String> {
    clean.iter().map(|what| quoted(what.word())).collect()
}

/// A section, unless nothing stands in it.
fn section(heading: &str, keys: Keys) -> String {
    if keys.0.is_empty() { String::new() } else { format!("\n{heading}\n{}", keys.lines()) }
}

fn limits(format: &Format) -> Keys {
    let (limits, usual) = (format.limits, super::Limits::default());
    let other = |limit: usize, usual: usize| (limit != usual).then_some(limit);
    let mut keys = Keys::default();
    keys.shown("frame", limits.frame);
    keys.shown("line", other(limits.line, usual.line));
    keys.shown("series", other(limits.series, usual.series));
    keys.shown("names", other(limits.names, usual.names));
    keys.shown("parts", other(limits.parts, usual.parts));
    keys.shown("held", other(limits.held, usual.held));
    keys.shown("open", other(limits.open, usual.open));
    keys
}

fn frame(frame: &Frame) -> Keys {
    let mut keys = Keys::default();
    let word = match frame.cut {
        _ if frame.modbus.is_some() => "modbus-ascii",
        Cut::Text { .. } => "text",
        Cut::Sentence { .. } => "nmea-0183",
        Cut::Packet { .. } => "packet",
        Cut::Slip => "slip",
        Cut::Cobs => "cobs",
        Cut::Hdlc => "hdlc",
        Cut::Dle { .. } => "dle",
        Cut::ModbusRtu { .. } => "modbus-rtu",
        Cut::Idle { .. } => "idle",
        Cut::Break { .. } => "break",
        Cut::Fixed { .. } => "fixed",
    };
    keys.text("name", Some(&frame.name));
    keys.text("on", written(&frame.on));
    keys.text("inside", written(&frame.inside));
    keys.text("cut", Some(word));
    let direction = |direction: &Option<Direction>| {
        direction.map(|direction| match direction {
            Direction::Requests => "requests",
            Direction::Answers => "answers",
        })
    };
    match &frame.cut {
        _ if frame.modbus.is_some() => keys.text("direction", frame.modbus.and_then(|of| direction(&of.direction))),
        Cut::Text { start, end, idle } => {
            keys.pattern("start", start.as_ref());
            let word = match end {
                LineEnd::Any => None,
                LineEnd::Lf => Some("LF"),
                LineEnd::Cr => Some("CR"),
                LineEnd::CrLf => Some("CR LF"),
            };
            keys.text("end", word);
            keys.text("idle", idle.map(silence).as_deref());
        }
        Cut::Sentence { checksum, anywhere } => {
            keys.presence((*checksum != Presence::Required).then_some(*checksum));
            keys.flag("anywhere", *anywhere);
        }
        Cut::Packet { start, length, end } => {
            keys.pattern("start", Some(start));
            keys.pattern("end", end.as_ref());
            self::length(&mut keys, length);
        }
        Cut::Slip | Cut::Cobs | Cut::Hdlc => {}
        Cut::Dle { start, end } => {
            keys.text("start", Some(&pattern_of(start)));
            keys.text("end", Some(&pattern_of(end)));
        }
        Cut::ModbusRtu { direction: of } => keys.text("direction", direction(of)),
        Cut::Idle { idle, length } => {
            keys.text("idle", Some(&silence(*idle)));
            keys.shown("length", length.as_ref().map(|length| length.value));
        }
        Cut::Break { length } => keys.shown("length", length.as_ref().map(|length| length.value)),
        Cut::Fixed { length } => keys.shown("length", Some(length.value)),
    }
    let is_modbus = frame.of_modbus().is_some();
    if !frame.coding.is_empty() && !is_modbus {
        let steps = frame.coding.iter().map(|step| coding(step).inline()).collect::<Vec<_>>();
        keys.put("coding", format!("[{}]", steps.join(", ")));
    }
    keys.text("read", if frame.modbus.is_some() { None } else { read_word(frame.read.as_ref()) });
    let own = if is_modbus { &[][..] } else { &frame.checksums };
    keys.list("checksum", own.iter().map(|declared| check(declared).inline()).collect());
    keys.list("separator", frame.separators.iter().map(|separator| quoted(&separator.value)).collect());
    keys.flag("joined", frame.joined);
    keys.text("assign", written(&frame.assign));
    let repeated = match frame.repeated {
        Repeated::Reject => None,
        Repeated::First => Some("first"),
        Repeated::Last => Some("last"),
    };
    keys.text("repeated", repeated);
    keys.text("bits_from", frame.bits_from.map(bits_from));
    keys.list("charset", frame.charsets.iter().map(|charset| quoted(charset.word())).collect());
    keys.text("quote", frame.quote.map(|quote| char::from(quote).to_string()).as_deref());
    keys.fields("header", &frame.header);
    keys
}

fn length(keys: &mut Keys, length: &Length) {
    match length {
        Length::ToEnd => {}
        Length::Fixed(length) => keys.shown("length", Some(length.value)),
        Length::Record => keys.text("length", Some("record")),
        Length::Fields(fields) => {
            keys.list("length", fields.iter().map(|field| length_field(field).inline()).collect());
        }
    }
}

fn bits_from(from: BitsFrom) -> &'static str {
    match from {
        BitsFrom::High => "high",
        BitsFrom::Low => "low",
    }
}

fn read_word(read: Option<&Spanned<Read>>) -> Option<&'static str> {
    read.map(|read| match read.value {
        Read::Bytes => "bytes",
        Read::Columns => "columns",
        Read::Pairs => "pairs",
    })
}

fn length_field(field: &LengthField) -> Keys {
    let mut keys = Keys::default();
    keys.shown("byte", Some(field.byte));
    keys.text("type", Some(&field.kind.to_string()));
    keys.text("digits", digits_of(field.kind));
    keys.shown("width", field.width);
    keys.text("bits", field.bits.map(|bits| bits.to_string()).as_deref());
    keys.shown("scale", (field.scale != 1).then_some(field.scale));
    keys.shown("add", (field.add != 0).then_some(field.add));
    if let Some(before) = &field.past {
        let part = match &**before {
            PartBefore::Told(field) => length_field(field),
            PartBefore::Until { byte, until } => {
                let mut part = Keys::default();
                part.shown("byte", Some(*byte));
                part.pattern("until", Some(until));
                part
            }
        };
        keys.put("past", part.inline());
    }
    keys
}

/// How the digits of a type are sent, if it is of digits.
fn digits_of(kind: FieldType) -> Option<&'static str> {
    match kind {
        FieldType::Hex | FieldType::HexInteger(_) | FieldType::HexBytes => Some("hex"),
        FieldType::Bcd(_) => Some("bcd"),
        _ => None,
    }
}

fn coding(coding: &Coding) -> Keys {
    let mut keys = Keys::default();
    keys.text("step", Some("hex"));
    keys.shown("from", (coding.from != 0).then_some(coding.from));
    keys.shown("to", coding.to);
    keys
}

/// A silence, a time in the largest unit in which it is a whole number.
pub(super) fn silence(silence: Silence) -> String {
    let span = match silence {
        Silence::Time(span) => span,
        Silence::Characters(thousandths) => {
            return format!("{}.{:03} characters", thousandths / 1_000, thousandths % 1_000);
        }
    };
    span.to_string()
}

/// A checksum as `checksum` has it.
pub(crate) fn checksum_text(of: &Check) -> String {
    check(of).inline()
}

/// A length as `length` has it.
pub(crate) fn length_text(of: &Length) -> String {
    let mut keys = Keys::default();
    length(&mut keys, of);
    keys.0.pop().map(|(_, text)| text).unwrap_or_default()
}

fn check(check: &Check) -> Keys {
    let mut keys = Keys::default();
    match &check.algorithm {
        Algorithm::Named(name) => keys.text("algorithm", Some(name)),
        parameters => keys.shown("algorithm", Some(parameters)),
    }
    match check.form {
        CheckForm::Binary(integer) => keys.text("type", Some(&integer.to_string())),
        CheckForm::Hex(integer) => {
            keys.text("type", Some(&integer.to_string()));
            keys.text("digits", Some("hex"));
        }
        CheckForm::Characters(of) => {
            let integer = Integer { signed: false, bytes: if of.width > 1 { 8 } else { 1 }, order: of.order };
            keys.text("type", Some(&integer.to_string()));
            keys.text("zero", Some(&pattern_of(&[of.zero])));
            let is_usual = of.width == 1 && of.bits == 8;
            keys.shown("digit_bits", (!is_usual).then_some(of.bits));
            keys.shown("width", (!is_usual).then_some(of.width));
        }
        CheckForm::Decimal(width) => {
            keys.text("type", Some("number"));
            keys.shown("width", width);
        }
    }
    keys.shown("byte", check.byte);
    keys.shown("from", (check.from != 0).then_some(check.from));
    keys.shown("to", check.to);
    keys.text("mark", check.mark.as_deref().map(pattern_of).as_deref());
    keys.text("presence", (check.presence == Presence::Optional).then_some("optional"));
    keys.flag("behind", check.behind);
    keys.flag("through_end", check.through_end);
    keys.text("over", check.over_sent.then_some("sent"));
    keys
}

pub(super) fn record(record: &Record) -> Keys {
    let mut keys = Keys::default();
    keys.text("title", record.title.as_deref());
    keys.text("frame", written(&record.frame));
    keys.condition(record.when.as_ref());
    keys.list("printed", record.printed.iter().map(|form| quoted(&form.value)).collect());
    keys.text("pattern", written(&record.pattern));
    keys.text("heading", written(&record.heading));
    keys.text("read", read_word(record.read.as_ref()));
    keys.list("series", record.series.iter().map(|name| quoted(&name.value)).collect());
    keys.presence(record.checksum);
    keys.text("more", record.more.then_some("ignore"));
    keys.fields("fields", &record.fields);
    write_composed::beside_layout(&mut keys, record);
    keys
}

fn ignore(ignore: &Ignore) -> Keys {
    let mut keys = Keys::default();
    keys.text("frame", written(&ignore.frame));
    keys.condition(ignore.when.as_ref());
    keys.list("printed", ignore.printed.iter().map(|form| quoted(&form.value)).collect());
    keys.text("pattern", written(&ignore.pattern));
    keys.text("count_by", written(&ignore.count_by));
    keys
}

pub(super) fn field(field: &Field) -> Keys {
    let mut keys = Keys::default();
    let pair = |(first, last): (usize, usize)| quoted(&format!("{first}-{last}"));
    keys.text("name", written(&field.name));
    keys.text("title", field.title.as_deref());
    keys.text("tag", field.tag.as_deref());
    keys.flag("internal", field.internal);
    match &field.place {
        Place::Next => {}
        Place::Byte(byte) => keys.shown("byte", Some(byte.value)),
        Place::Columns(columns) => keys.put("column", pair(columns.value)),
        Place::Characters(characters) => keys.put("chars", pair(characters.value)),
    }
    keys.text("label", written(&field.label));
    let kind = field.kind.as_ref().map(|kind| kind.value);
    keys.text("type", kind.map(|kind| kind.to_string()).as_deref());
    keys.text("digits", kind.and_then(digits_of));
    keys.width("width", field.width.as_ref());
    keys.pattern("until", field.until.as_ref().map(|until| &until.value));
    keys.text("bits", field.bits.as_ref().map(|bits| bits.value.to_string()).as_deref());
    keys.text("bits_from", field.bits_from.as_ref().map(|from| bits_from(from.value)));
    let sign = field.sign.as_ref().and_then(|sign| match sign.value {
        Sign::Complement => None,
        Sign::Magnitude => Some("magnitude"),
        Sign::Offset => Some("offset"),
    });
    keys.text("sign", sign);
    keys.table("flags", field.flags.iter().map(|(bit, name)| (bit.to_string(), quoted(&name.value))));
    let is_bool = kind == Some(FieldType::Bool);
    let name_of = |name: &String| if is_bool { name.clone() } else { quoted(name) };
    keys.table("codes", field.codes.iter().map(|(value, name)| (code(&value.value), name_of(name))));
    keys.flag("closed", field.closed);
    keys.put_some("equals", field.equals.as_ref().map(|equals| literal(&equals.value)));
    keys.flag("reserved", field.reserved);
    keys.shown("scale", field.scale.as_ref().map(|scale| scale.value));
    keys.text("scale", field.ratio.as_ref().map(|ratio| ratio.value.to_string()).as_deref());
    keys.shown("add", field.add.as_ref().map(|add| add.value));
    keys.shown("places", field.places.as_ref().map(|places| places.value));
    keys.text("unit", written(&field.unit));
    keys.text("unit_sent", written(&field.unit_sent));
    match &*field.suffixes {
        [(suffix, None)] => keys.text("suffix", Some(&suffix.value)),
        suffixes => {
            let unit = |unit: &Option<Spanned<String>>| quoted(written(unit).unwrap_or_default());
            keys.table("suffix", suffixes.iter().map(|(suffix, of)| (suffix.value.clone(), unit(of))));
        }
    }
    keys.text("decimal", written(&field.decimal));
    keys.text("thousands", written(&field.thousands));
    let marks = field.limit_marks.iter().flat_map(|marks| &marks.value);
    keys.list("limit_marks", marks.map(|mark| quoted(mark)).collect());
    keys.text("sign_from", written(&field.sign_from));
    keys.text("scale_from", written(&field.scale_from));
    keys.text("unit_from", written(&field.unit_from));
    keys.list("no_data", field.no_data.iter().map(|mark| literal(&mark.value)).collect());
    keys.put_some("range", field.range.as_ref().map(|range| format!("[{}, {}]", range.value[0], range.value[1])));
    keys.flag("counter", field.counter);
    keys.shown("rollover", field.rollover.as_ref().map(|rollover| rollover.value));
    keys.text("layout", written(&field.layout));
    keys.text("since", written(&field.since));
    keys.shown("first_year", field.first_year.as_ref().map(|year| year.value));
    keys.text("zone", written(&field.zone));
    keys.condition(field.when.as_ref());
    keys.flag("optional", field.optional);
    keys.text("invalid", field.strict.then_some("reject"));
    keys.list("charset", field.charsets.iter().map(|charset| quoted(charset.word())).collect());
    keys.shown("fill", field.fill);
    keys.shown("address", field.address.as_ref().map(|address| address.value));
    if let Some(run) = &field.run {
        keys.text("address_from", Some(&run.from.value));
        keys.shown("step", (run.step != 1).then_some(run.step));
        keys.fields("fields", &run.fields);
    }
    if let Some(group) = &field.group {
        match &group.count {
            Count::Fixed(count) => keys.shown("count", Some(count.value)),
            Count::Field(name) => keys.text("count", Some(&name.value)),
            Count::ToEnd => keys.text("up_to", Some("end")),
            Count::Until(until) => keys.pattern("until", Some(&until.value)),
        }
        keys.width("size", group.size.as_ref());
        keys.fields("fields", &group.fields);
    }
    keys
}

fn example(example: &Example) -> Keys {
    let mut keys = Keys::default();
    match &*example.frames {
        [frame] if frame.after.is_none() => keys.append(example_frame(frame)),
        frames => keys.lines_of("frames", frames.iter().map(example_frame)),
    }
    match &*example.gives {
        [given] => keys.put("gives", gives(given).inline()),
        given => keys.lines_of("gives", given.iter().map(gives)),
    }
    keys
}

fn example_frame(frame: &ExampleFrame) -> Keys {
    let mut keys = Keys::default();
    let text = core::str::from_utf8(&frame.bytes).ok().filter(|_| frame.is_text);
    keys.text("text", text);
    if text.is_none() {
        keys.text("bytes", Some(&super::hex_digits(&frame.bytes)));
    }
    // A text that is none can stand in no file.
    keys.text("text", (frame.is_text && text.is_none()).then_some(""));
    keys.text("on", written(&frame.on));
    keys.text("after", frame.after.map(|after| silence(Silence::Time(after))).as_deref());
    keys
}

fn gives(given: &Gives) -> Keys {
    let mut keys = Keys::default();
    keys.text("record", Some(&given.kind.value));
    keys.expected(&given.fields);
    keys
}

pub(super) fn written(text: &Option<Spanned<String>>) -> Option<&str> {
    text.as_ref().map(|text| text.value.as_str())
}

/// A text in the quotes that need no escapes, if there are such; always in one line.
pub(super) fn quoted(text: &str) -> String {
    let builder = TomlStringBuilder::new(text);
    let quoted = builder.as_basic_pretty().or_else(|| builder.as_literal()).unwrap_or_else(|| builder.as_basic());
    quoted.to_toml_value()
}

pub(super) fn quoted_key(key: &str) -> String {
    TomlKeyBuilder::new(key).as_default().to_toml_key()
}

fn literal(literal: &Literal) -> String {
    match literal {
        Literal::Number(number) => number.to_string(),
        Literal::Bits(bits) => format!("0x{bits:X}"),
        Literal::Text(text) => quoted(text),
        Literal::Bool(flag) => flag.to_string(),
    }
}

/// A value as a key of `codes`.
fn code(value: &Literal) -> String {
    match value {
        Literal::Text(text) => text.clone(),
        other => literal(other),
    }
}

/// Keys with their values, both as they stand in the file.
#[derive(Default)]
pub(super) struct Keys(Vec<(String, String)>);

impl Keys {
    /// Puts others behind these.
    pub(super) fn append(&mut self, others: Keys) {
        self.0.extend(others.0);
    }

    pub(super) fn put(&mut self, key: &str, value: String) {
        self.0.push((key.to_string(), value));
    }

    fn put_some(&mut self, key: &str, value: Option<String>) {
        if let Some(value) = value {
            self.put(key, value);
        }
    }

    pub(super) fn text(&mut self, key: &str, text: Option<&str>) {
        self.put_some(key, text.map(quoted));
    }

    fn width(&mut self, key: &str, width: Option<&Spanned<Width>>) {
        match width.map(|width| &width.value) {
            None => {}
            Some(Width::Bytes(bytes)) => self.shown(key, Some(bytes)),
            Some(Width::Field(name)) => self.text(key, Some(name)),
        }
    }

    fn pattern(&mut self, key: &str, pattern: Option<&BytePattern>) {
        self.list(key, pattern.iter().flat_map(|pattern| pattern.words()).map(|word| quoted(&word)).collect());
    }

    /// A number.
    pub(super) fn shown(&mut self, key: &str, number: Option<impl Display>) {
        self.put_some(key, number.map(|number| number.to_string()));
    }

    pub(super) fn flag(&mut self, key: &str, flag: bool) {
        self.put_some(key, flag.then(|| "true".to_string()));
    }

    /// Values, unless there are none; one stands by itself.
    pub(super) fn list(&mut self, key: &str, values: Vec<String>) {
        match &*values {
            [] => {}
            [value] => self.put(key, value.clone()),
            values => self.put(key, format!("[{}]", values.join(", "))),
        }
    }

    /// A table, unless it is empty.
    fn table(&mut self, key: &str, entries: impl Iterator<Item = (String, String)>) {
        let entries = Keys(entries.map(|(key, value)| (quoted_key(&key), value)).collect());
        self.put_some(key, (!entries.0.is_empty()).then(|| entries.inline()));
    }

    fn condition(&mut self, when: Option<&When>) {
        self.text("when", when.map(|when| when.text.as_str()));
    }

    fn presence(&mut self, presence: Option<Presence>) {
        let word = presence.map(|presence| match presence {
            Presence::Required => "required",
            Presence::Optional => "optional",
            Presence::Absent => "absent",
        });
        self.put_some("checksum", word.map(|word| format!("{{ presence = \"{word}\" }}")));
    }

    /// A list of tables, a line each.
    fn lines_of(&mut self, key: &str, tables: impl Iterator<Item = Keys>) {
        let tables: String = tables.map(|table| format!("  {},\n", table.inline())).collect();
        self.put(key, format!("[\n{tables}]"));
    }

    /// A list of fields, a line each.
    fn fields(&mut self, key: &str, fields: &[Field]) {
        if fields.is_empty() {
            return;
        }
        self.rows(key, fields.iter().map(field));
    }

    /// A list of tables, each on a line of its own.
    pub(super) fn rows(&mut self, key: &str, rows: impl Iterator<Item = Keys>) {
        let mut list = "[\n".to_string();
        for row in rows {
            // What stands in groups stands deeper.
            list += &format!("  {},\n", row.inline().replace('\n', "\n  "));
        }
        list.push(']');
        self.put(key, list);
    }

    fn expected(&mut self, fields: &[(Spanned<String>, Expected)]) {
        for (name, expected) in fields {
            let value = match expected {
                Expected::Value(value) => literal(&value.value),
                Expected::Items(_, items) => {
                    let item = |fields: &Vec<(Spanned<String>, Expected)>| {
                        if let [(value, Expected::Value(literally))] = &**fields
                            && value.value == name.value
                        {
                            return literal(&literally.value);
                        }
                        let mut keys = Keys::default();
                        keys.expected(fields);
                        keys.inline()
                    };
                    format!("[{}]", items.iter().map(item).collect::<Vec<_>>().join(", "))
                }
            };
            self.put(&quoted_key(&name.value), value);
        }
    }

    /// As a table in one line.
    pub(super) fn inline(self) -> String {
        let pairs: Vec<String> = self.0.into_iter().map(|(key, value)| format!("{key} = {value}")).collect();
        if pairs.is_empty() { "{}".to_string() } else { format!("{{ {} }}", pairs.join(", ")) }
    }

    /// As lines of a table, with the values below one another.
    pub(super) fn lines(self) -> String {
        let width = self.0.iter().map(|(key, _)| key.chars().count()).max().unwrap_or(0);
        self.0.into_iter().map(|(key, value)| format!("{key:width$} = {value}\n")).collect()
    }
}
