//! What one frame gives, in full: every field with its place, what was sent, and its value; and its checksum, computed and sent. For whoever
//! holds a declaration against a datasheet's own frame.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::check;
use crate::checksum;
use crate::compile;
use crate::event::Event;
use crate::example::{self, Sending};
use crate::expression::{self, Expression, Node};
use crate::format::{CheckForm, Field, Format, Record as Declared, Spanned, When};
use crate::framing::{Contents, whole_of};
use crate::plan::{Check, Framing, Plan, What};
use crate::problem::Problems;
use crate::quality::shown;
use crate::read::Sent;
use crate::reason::Reason;
use crate::record::{Cell, Items, Record};
use crate::schema::FieldSchema;
use crate::time::Span;
use crate::value::{Absent, Quality, Reading, Value};

/// What a piece of the bytes is.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Explained {
    /// The field that carries it, as `record.field`, if it lies inside of another record.
    pub inside: Option<String>,
    /// Its first byte, counted from the first that was sent, or that the field carries.
    pub offset: u64,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// The kind of record that it is; nothing if it is none.
    pub record: Option<String>,
    /// Why it is none, or what is to be noted.
    pub reason: String,
    /// Its fields, those that are internal and reserved bytes, too.
    pub fields: Vec<ExplainedField>,
    /// Its checksums, as they are declared; of a frame that fails the first of those that do not hold.
    pub checksums: Vec<ExplainedChecksum>,
}

/// One field of a frame.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ExplainedField {
    /// Its name, such as `tension` or `peaks[2].force`.
    pub name: String,
    /// Its place, such as `byte 4-6`, `column 3`.
    pub place: String,
    /// What was sent: text in quotes, anything else in hex.
    pub sent: String,
    /// Its value with its unit, as outputs show it; or why there is none.
    pub value: String,
    /// Its quality; empty if there is nothing to be said.
    pub quality: &'static str,
}

/// The checksum of a frame.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ExplainedChecksum {
    /// Its algorithm.
    pub algorithm: String,
    /// What the bytes give.
    pub computed: u64,
    /// What was sent; nothing if there is none, or it is no number.
    pub sent: Option<u64>,
    /// Digits that show it.
    pub digits: usize,
    /// Whether they are decimal, as it is sent; else they are hex.
    pub is_decimal: bool,
}

impl ExplainedChecksum {
    /// Whether it holds.
    pub fn holds(&self) -> bool {
        self.sent == Some(self.computed)
    }

    /// A value of it in digits.
    pub fn shown(&self, value: u64) -> String {
        let digits = self.digits;
        if self.is_decimal { format!("{value:0digits$}") } else { format!("{value:0digits$X}") }
    }

    fn new(check: Option<&Check>, computed: u64, sent: Option<u64>) -> ExplainedChecksum {
        let (algorithm, width) = check.map_or(("XOR-8", 8), |check| (check.checksum.name(), check.checksum.width()));
        let decimal = match check.map(|check| check.form) {
            Some(CheckForm::Decimal(width)) => Some(width.unwrap_or(1)),
            _ => None,
        };
        let digits = decimal.unwrap_or(usize::from(width).div_ceil(4));
        ExplainedChecksum { algorithm: algorithm.to_string(), computed, sent, digits, is_decimal: decimal.is_some() }
    }
}

impl Format {
    /// Takes bytes apart that were sent alone, such as a datasheet's example frame: what records they give, with every field. A text gets the end that
    /// its line's texts have. `role` is the line's, in a format that speaks of several; or the field, as `record.field`, that carries the bytes.
    ///
    /// A frame whose checksum does not hold is explained as if it did, with the reason in front.
    ///
    /// # Errors
    ///
    /// The format's own problems, if it cannot be compiled.
    ///
    /// ```
    /// let format = usus::Format::parse(r#"
    ///     format = "scale"
    ///     [[frame]]
    ///     cut = "text"
    ///     [record.weight]
    ///     fields = [{ name = "weight", type = "number", unit = "kg" }]
    /// "#)?;
    /// let explained = format.explain(None, b"12.5", true)?;
    /// assert_eq!(explained[0].fields[0].value, "12.5 kg");
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn explain(&self, role: Option<&str>, bytes: &[u8], is_text: bool) -> Result<Vec<Explained>, Problems> {
        let mut open = self.as_read()?.with_all_shown();
        let mut explained = open.explain_once(role, bytes, is_text)?;
        // What else it would be, had something else been asked.
        let mut is_asking = explained.clone();
        while let Some(kind) = is_asking.iter().find_map(|piece| piece.record.clone().filter(|kind| asks(kind))) {
            open.records.retain(|record| record.kind.value != kind);
            // Without it there may be no format.
            is_asking = open.explain_once(role, bytes, is_text).unwrap_or_default();
            is_asking.retain(|piece| piece.record.as_deref().is_some_and(asks) && piece.inside.is_none());
            explained.append(&mut is_asking.clone());
        }
        Ok(explained)
    }

    /// The same, of a format that shows all, for what a frame is first of all.
    fn explain_once(&self, role: Option<&str>, bytes: &[u8], is_text: bool) -> Result<Vec<Explained>, Problems> {
        let plan = compile::plan(self)?;
        let explain = |bytes: &[u8]| {
            let mut explained = Vec::new();
            let take = &mut |event: Event<'_>, inside: Option<&str>| {
                let piece = piece(&plan, event);
                explained.extend(piece.map(|piece| Explained { inside: inside.map(ToString::to_string), ..piece }));
            };
            let (role, after) = (role.map(ToString::to_string), Span::from_nanoseconds(0));
            let ledger = example::run(&plan, self, &[Sending { role, bytes: bytes.to_vec(), is_text, after }], take);
            if let Some(ledger) = ledger.ok().filter(|ledger| ledger.ignored_frames > 0) {
                let reason = format!("{} bytes belong to frames that the format ignores", ledger.ignored);
                explained.push(Explained::without_record(
                    0,
                    &bytes[..bytes.len().min(ledger.ignored as usize)],
                    reason,
                ));
            }
            explained
        };
        let mut explained = explain(bytes);
        // What it would say if its checksum held.
        let is_failed =
            |piece: &&Explained| piece.record.is_none() && !piece.checksums.is_empty() && piece.inside.is_none();
        let failed = explained.iter().find(is_failed);
        let mended = failed.and_then(|piece| Some((piece.clone(), mended(&plan, piece)?)));
        if let Some((failed, mended)) = mended {
            let mut would_be = explain(&mended);
            let place = would_be.iter().position(|piece| piece.record.is_some()).unwrap_or(0);
            if let Some(piece) = would_be.get_mut(place) {
                let also = if piece.reason.is_empty() { "" } else { "; with the right one: " };
                piece.reason = failed.reason + also + &piece.reason;
                piece.checksums = failed.checksums;
                piece.bytes = failed.bytes;
                explained = would_be;
            }
        }
        Ok(explained)
    }

    /// The same format with nothing internal, and a name for everything.
    pub(crate) fn with_all_shown(&self) -> Format {
        let mut format = self.with_parts_alone();
        format.examples.clear();
        for frame in &mut format.frames {
            show_all("", &mut frame.header);
        }
        for record in &mut format.records {
            show_all("", &mut record.fields);
            for (number, variant) in record.variants.iter_mut().enumerate() {
                // What stands at one place of two variants is two things.
                show_all(&format!(" of variant {}", number + 1), &mut variant.fields);
            }
        }
        format
    }
}

impl Format {
    /// The same format, in which what is part of a record of several frames is a record by itself.
    fn with_parts_alone(&self) -> Format {
        let mut format = self.clone();
        format.records.clear();
        for record in &self.records {
            let Some(block) = &record.block else {
                format.records.push(Declared { latest: Vec::new(), ..record.clone() });
                continue;
            };
            for (number, part) in block.parts.iter().enumerate() {
                let name = part.name.as_ref().map_or(format!("part {}", number + 1), |name| name.value.clone());
                let frame = part.layout.frame.clone().or(record.frame.clone());
                let called = format!("{}, {name}", record.kind.value);
                format.records.push(Declared { frame, ..alone(&part.layout, called) });
            }
        }
        for exchange in &self.exchanges {
            for (number, (word, side)) in exchange.own().enumerate() {
                let asking = side.when.as_ref().filter(|when| when.text.contains(ASK));
                let asking = asking.map_or_else(String::new, |when| format!("{IF}{}", when.text));
                let called = format!("{}, {word} ({}){asking}", exchange.name.value, number + 1);
                format.records.push(alone(side, called));
            }
        }
        (format.exchanges, format.merges, format.multiparts) = (Vec::new(), Vec::new(), Vec::new());
        format
    }
}

/// How a condition names the question.
const ASK: &str = "ask.";

/// What stands before the condition of what depends on a question, behind the name of its kind.
const IF: &str = ", if ";

/// Whether what is of that kind by itself depends on a question.
fn asks(kind: &str) -> bool {
    kind.contains(IF)
}

/// A part as a record by itself, whatever question was asked.
fn alone(part: &Declared, called: String) -> Declared {
    let kind = Spanned { span: part.kind.span.clone(), value: called };
    let when = part.when.as_ref().and_then(|when| {
        let tree = expression::parse(&when.text).ok()?;
        let text = without_question(&tree, &when.text).filter(|text| expression::parse(text).is_ok())?;
        Some(When { text, start: None, span: when.span.clone() })
    });
    Declared { kind, when, ..part.clone() }
}

/// What of a condition does not ask for a question.
fn without_question(condition: &Expression<String>, text: &str) -> Option<String> {
    let mut asks = false;
    condition.names(&mut |name| asks |= name.starts_with(ASK));
    match &condition.node {
        _ if !asks => Some(text.get(condition.span.clone())?.to_string()),
        Node::And(sides) => {
            let [one, other] = &**sides;
            match (without_question(one, text), without_question(other, text)) {
                (Some(one), Some(other)) => Some(format!("({one}) and ({other})")),
                (one, other) => one.or(other),
            }
        }
        _ => None,
    }
}

fn show_all(of: &str, fields: &mut [Field]) {
    for (index, field) in fields.iter_mut().enumerate() {
        field.internal = false;
        let word = if field.reserved { "reserved" } else { "constant" };
        if field.name.is_none() && field.flags.is_empty() {
            field.name = Some(Spanned { span: field.span.clone(), value: format!("({word} {}{of})", index + 1) });
        }
        field.reserved = false;
        if let Some(run) = &mut field.run {
            show_all(of, &mut run.fields);
        }
        if let Some(group) = &mut field.group {
            show_all(of, &mut group.fields);
        }
    }
}

impl Explained {
    fn without_record(offset: u64, bytes: &[u8], reason: String) -> Explained {
        let (bytes, fields) = (bytes.to_vec(), Vec::new());
        Explained { inside: None, offset, bytes, record: None, reason, fields, checksums: Vec::new() }
    }
}

fn piece(plan: &Plan, event: Event<'_>) -> Option<Explained> {
    match event {
        Event::Record(record) => Some(of_record(plan, &record)),
        Event::Reject(reject) | Event::Clipped(reject) => {
            let reason = reject.reason.describe(plan).to_string();
            let checksum = match reject.reason {
                Reason::Checksum { frame, number, computed, sent } => {
                    Some(ExplainedChecksum::new(plan.check(frame, number), computed, sent))
                }
                _ => None,
            };
            Some(Explained {
                checksums: checksum.into_iter().collect(),
                ..Explained::without_record(reject.offset, reject.bytes, reason)
            })
        }
        Event::Notice(_) => None,
    }
}

fn of_record(plan: &Plan, record: &Record<'_>) -> Explained {
    let mut fields = Vec::new();
    for (place, ((schema, cell), output)) in record.fields().zip(&record.compiled.outputs).enumerate() {
        match cell {
            // Another variant of the record has it.
            _ if matches!(output.what, What::NotThere) => {}
            Cell::Reading(reading) => {
                fields.push(field(schema.name.clone(), schema.unit.as_deref(), record.sent(place), reading));
            }
            Cell::Group(items) => add_items("", schema, items, &mut fields),
        }
    }
    Explained {
        inside: None,
        offset: record.offset(),
        bytes: record.frame().to_vec(),
        record: Some(record.kind().to_string()),
        reason: String::new(),
        fields,
        checksums: checksums_of(plan, record).unwrap_or_default(),
    }
}

/// What the items of a group say. `path` is that of the item that the group is in.
fn add_items(path: &str, group: &FieldSchema, items: Items<'_>, fields: &mut Vec<ExplainedField>) {
    for (index, item) in items.enumerate() {
        for (place, (inner, cell)) in item.fields().enumerate() {
            let name = format!("{path}{}", group.item_path(index, &inner.name));
            match cell {
                Cell::Reading(reading) => {
                    fields.push(field(name, inner.unit.as_deref(), item.sent(place), reading));
                }
                Cell::Group(items) => {
                    let path = format!("{path}{}[{}].", group.name, index + 1);
                    add_items(&path, inner, items, fields);
                }
            }
        }
    }
}

fn field(name: String, unit: Option<&str>, sent: Option<Sent<'_>>, reading: Reading<'_>) -> ExplainedField {
    let value = match reading.value {
        Value::Absent(why) => match why {
            Absent::Empty => "none: empty",
            Absent::Marked => "none: marked as no data",
            Absent::NotSent => "none: not sent",
            Absent::Invalid => "none: not a value of its type",
            Absent::Operand => "none: what it is made from is absent",
        }
        .to_string(),
        Value::Code { number, name } => format!("{name} ({number})"),
        value => match unit {
            Some(unit) => format!("{value} {unit}"),
            None => value.to_string(),
        },
    };
    let quality = if reading.quality == Quality::Good { "" } else { reading.quality.word() };
    ExplainedField {
        name,
        place: sent.map(place_text).unwrap_or_default(),
        sent: sent.map(|sent| shown(sent.bytes, sent.is_text)).unwrap_or_default(),
        value,
        quality,
    }
}

fn place_text(sent: Sent<'_>) -> String {
    let length = sent.bytes.len().max(1);
    let range = |first: usize| if length == 1 { first.to_string() } else { format!("{first}-{}", first + length - 1) };
    let place = match (sent.column, sent.character) {
        (Some(column), _) => format!("column {column}"),
        (None, Some(character)) => format!("char {}", range(character)),
        (None, None) => format!("byte {}", range(sent.byte)),
    };
    match sent.bits {
        Some((first, last)) if first == last => format!("{place} bit {first}"),
        Some((first, last)) => format!("{place} bits {first}-{last}"),
        None => place,
    }
}

fn checksums_of(plan: &Plan, record: &Record<'_>) -> Option<Vec<ExplainedChecksum>> {
    let (frame, bytes) = (plan.0.frames.iter().find(|frame| frame.kinds.contains(&record.kind))?, record.frame());
    let mut decoded = Vec::new();
    let (computed, sent) = match (&frame.check, &frame.framing) {
        (Some(check), _) => {
            let of = whole_of(frame, bytes, &mut decoded)?;
            let explained = check.all().map(|check| {
                let (computed, sent) = (check::computed(check, of), check::sent(check, of));
                ExplainedChecksum::new(Some(check), computed as u64, sent.map(|sent| sent as u64))
            });
            return Some(explained.collect());
        }
        (None, Framing::Sentence(_)) => {
            let star = bytes.iter().position(|byte| *byte == b'*')?;
            let digits = bytes.get(star + 1..star + 3)?;
            let sent = core::str::from_utf8(digits).ok().and_then(|digits| u64::from_str_radix(digits, 16).ok());
            (checksum::xor(bytes.get(1..star)?).into(), sent)
        }
        (None, _) => return None,
    };
    Some([ExplainedChecksum::new(None, computed, sent)].into())
}

/// The bytes of a frame with the checksums that it ought to have.
fn mended(plan: &Plan, piece: &Explained) -> Option<Vec<u8>> {
    let computed = piece.checksums.first()?.computed;
    let (mut bytes, mut decoded) = (piece.bytes.clone(), Vec::new());
    for frame in &plan.0.frames {
        match (&frame.check, &frame.framing) {
            (Some(check), framing) => {
                // One may cover another, whichever stands first.
                for check in check.all().flat_map(|_| check.all()) {
                    let Some(Contents::Lie(0, end)) = framing.contents(&bytes, &mut Vec::new()) else { break };
                    let Some(of) = whole_of(frame, &bytes, &mut decoded) else { break };
                    let computed = check::computed(check, of);
                    check::put(check, &mut bytes, end as usize, computed as u64);
                }
            }
            (None, Framing::Sentence(_)) => {
                let star = bytes.iter().position(|byte| *byte == b'*')?;
                bytes.get_mut(star + 1..star + 3)?.copy_from_slice(format!("{:02X}", computed as u8).as_bytes());
            }
            (None, _) => {}
        }
    }
    Some(bytes)
}
