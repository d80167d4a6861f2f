//! What is common to the fields of headers, records and groups while a plan is made: names, outputs, conditions, and the rows
//! of the layout.

use alloc::borrow::ToOwned;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::field;
use crate::expression::{self, Expression, ExpressionProblemKind, Type};
use crate::format::{Field as Declared, FieldType, Place, When};
use crate::integer::Integer;
use crate::plan::{
    At, Constant, Counter, Field, Gate, Group, HeaderField, ItemGates, LayoutRow, Named, Output, Reading, Separation,
};
use crate::problem::{ProblemKind, Problems, nearest};
use crate::schema::FieldSchema;
use crate::value::{Charset, ValueType, charset_words, sent};

/// The parts of a record (or header, or group) gathered so far.
#[derive(Clone)]
pub(super) struct Sheet {
    pub(super) medium: Reading,
    pub(super) separation: Separation,
    pub(super) frame: String,
    pub(super) record: Option<String>,
    pub(super) group: Option<String>,
    /// Fields by name, for `count`, `unit_from`, `series` and conditions.
    pub(super) known: Vec<(Declared, Field)>,
    /// All fields of this record or item, those that follow included: a unit often stands behind its value.
    pub(super) siblings: Vec<(Declared, Field)>,
    pub(super) outputs: Vec<Output>,
    pub(super) gates: Vec<Gate>,
    pub(super) item_gates: Vec<ItemGates>,
    pub(super) counters: Vec<Counter>,
    pub(super) rows: Vec<LayoutRow>,
    /// The integer that was added last, where it is, and how that is said: fields with `bits` or `flags` alone are of it.
    integer: Option<(FieldType, At, String, Place)>,
}

impl Sheet {
    pub(super) fn new(medium: Reading, separation: Separation, frame: &str) -> Sheet {
        Sheet {
            medium,
            separation,
            frame: frame.to_string(),
            record: None,
            group: None,
            known: Vec::new(),
            siblings: Vec::new(),
            outputs: Vec::new(),
            gates: Vec::new(),
            item_gates: Vec::new(),
            counters: Vec::new(),
            rows: Vec::new(),
            integer: None,
        }
    }

    /// Adds a field that has `bits` or `flags` of the integer before it, and neither type nor place. Says whether it is one.
    pub(super) fn add_part(&mut self, declared: &Declared, problems: &mut Problems) -> bool {
        let is_part = declared.kind.is_none()
            && declared.place == Place::Next
            && declared.label.is_none()
            && (declared.bits.is_some() || !declared.flags.is_empty());
        let Some((kind, at, place, stands)) = self.integer.clone().filter(|_| is_part) else { return false };
        let part = Declared { place: stands, ..declared.clone() };
        self.add_at(&part, kind, at, place, problems);
        true
    }

    /// An empty sheet for the items of a group, which may refer to the fields before it.
    pub(super) fn for_group(&self, name: &str) -> Sheet {
        let mut sheet = Sheet::new(self.medium, self.separation.clone(), &self.frame);
        sheet.record.clone_from(&self.record);
        sheet.group = Some(name.to_string());
        sheet
    }

    /// What the schema says of its outputs.
    pub(super) fn fields(&self) -> Vec<FieldSchema> {
        self.outputs.iter().map(|output| (*output.schema).clone()).collect()
    }

    /// Adds a field whose place is known: its reading, its outputs, what it decides, and its row.
    pub(super) fn add(&mut self, declared: &Declared, kind: FieldType, at: At, place: String, problems: &mut Problems) {
        let is_integer = matches!(kind, FieldType::Integer(_) | FieldType::HexInteger(_));
        self.integer = is_integer.then(|| (kind, at, place.clone(), declared.place.clone()));
        self.add_at(declared, kind, at, place, problems);
    }

    /// Adds bits that lie one behind the other, which are bits of an integer that is made up of the bytes in which they lie.
    pub(super) fn add_bits(
        &mut self,
        word: String,
        within: &Declared,
        integer: Integer,
        at: At,
        place: String,
        problems: &mut Problems,
    ) {
        self.integer = None;
        self.rows.push(self.row(within, place, word));
        self.add_reading(within, FieldType::Integer(integer), at, problems);
    }

    fn add_at(&mut self, declared: &Declared, kind: FieldType, at: At, place: String, problems: &mut Problems) {
        self.rows.push(self.row(declared, place, word_of(declared, kind)));
        self.add_reading(declared, kind, at, problems);
    }

    fn add_reading(&mut self, declared: &Declared, kind: FieldType, at: At, problems: &mut Problems) {
        if declared.reserved {
            return;
        }
        let siblings = &self.siblings;
        let lookup = |name: &str| find(siblings, name).cloned().ok_or_else(|| nearest_of(siblings, name));
        let Some(field) = field::compile(declared, kind, at, self.medium, &self.separation, &lookup, problems) else {
            return;
        };
        for (bit, name) in &declared.flags {
            self.check_name(&name.value, name.span.clone(), problems);
            if !declared.internal {
                let in_text = matches!(kind, FieldType::HexInteger(_));
                self.outputs.push(Output::of_bit(flag_schema(&name.value, in_text), &field, *bit));
            }
        }
        let Some(name) = &declared.name else {
            // A constant needs no name, nor do flags, which have names of their own.
            if declared.flags.is_empty() && declared.equals.is_none() {
                problems.add(declared.span.clone(), ProblemKind::MissingKey { key: "name", table: "a field" });
            }
            self.add_gates(declared, kind, "", &field, problems);
            return;
        };
        self.check_name(&name.value, name.span.clone(), problems);
        self.add_gates(declared, kind, &name.value, &field, problems);
        if declared.counter {
            self.add_counter(declared, kind, &name.value, &field, problems);
        }
        if !declared.internal && declared.flags.is_empty() {
            let schema =
                FieldSchema { is_instant: field::is_instant(&field), ..field::schema(declared, kind, &name.value) };
            self.outputs.push(Output::of(schema, &field));
        }
        self.known.push((declared.clone(), field));
    }

    /// Learns all names beforehand: `add_fields` is run once for nothing but them.
    pub(super) fn learn(&mut self, add_fields: impl FnOnce(&mut Sheet, &mut Problems)) {
        let mut dry = self.clone();
        add_fields(&mut dry, &mut Problems::default());
        self.siblings = dry.known;
    }

    /// Adds the header to a record that is still empty.
    pub(super) fn begin_record(&self, record: &str) -> Sheet {
        let mut sheet = self.clone();
        sheet.record = Some(record.to_string());
        sheet.rows.clear();
        // A header's constants are tested when the frame is cut.
        sheet.gates.clear();
        sheet
    }

    fn check_name(&self, name: &str, span: core::ops::Range<usize>, problems: &mut Problems) {
        let known =
            self.known.iter().any(|(declared, _)| declared.name.as_ref().is_some_and(|known| known.value == name));
        let output = self.outputs.iter().any(|output| output.schema.name == name);
        if known || output {
            problems.add(span, ProblemKind::Twice { what: "field", name: name.to_owned() });
        }
    }

    fn add_gates(&mut self, declared: &Declared, kind: FieldType, name: &str, field: &Field, problems: &mut Problems) {
        let equals =
            declared.equals.as_ref().and_then(|literal| field::constant(literal, kind, declared, "equals", problems));
        if equals.is_some() || declared.strict {
            self.gates.push(Gate { name: name.to_owned(), field: field.clone(), equals });
        }
    }

    fn add_counter(
        &mut self,
        declared: &Declared,
        kind: FieldType,
        name: &str,
        field: &Field,
        problems: &mut Problems,
    ) {
        let bits = match (kind, &declared.bits) {
            (FieldType::Integer(_) | FieldType::HexInteger(_), Some(bits)) => Some(bits.value.width()),
            (FieldType::Integer(integer) | FieldType::HexInteger(integer), None) => Some(integer.bytes * 8),
            _ => None,
        };
        let last = match (&declared.rollover, bits) {
            (Some(rollover), _) => u64::try_from(rollover.value).ok(),
            (None, Some(bits)) => Some(u64::MAX >> (64 - bits)),
            (None, None) => None,
        };
        match last {
            Some(last) if last > 0 && self.group.is_none() => {
                self.counters.push(Counter::new(name, field, last));
            }
            _ if self.group.is_some() => {
                let kind = ProblemKind::Senseless("a counter inside of a group is not supported");
                problems.add(declared.span.clone(), kind);
            }
            _ => {
                let kind = ProblemKind::Senseless(
                    "a counter in a text needs `rollover`, the last value before it begins again",
                );
                problems.add(declared.span.clone(), kind);
            }
        }
    }

    /// Adds what decides in the items of a group.
    pub(super) fn add_item_gates(&mut self, name: &str, group: &Group, gates: Vec<Gate>) {
        if !gates.is_empty() {
            self.item_gates.push(ItemGates { name: name.to_owned(), group: group.clone(), gates });
        }
    }

    /// The earlier field of that name.
    pub(super) fn find(&self, name: &str) -> Result<&Field, Option<String>> {
        match find(&self.known, name) {
            Some((_, field)) => Ok(field),
            None => Err(nearest_of(&self.known, name)),
        }
    }

    /// A row of the layout.
    pub(super) fn row(&self, declared: &Declared, place: String, kind: String) -> LayoutRow {
        let name = match &declared.name {
            Some(name) => name.value.clone(),
            None if declared.reserved => "(reserved)".to_string(),
            None if !declared.flags.is_empty() => "(flags)".to_string(),
            None => "(constant)".to_string(),
        };
        LayoutRow {
            frame: self.frame.clone(),
            record: self.record.clone(),
            group: self.group.clone(),
            place,
            name,
            kind,
            unit: declared.unit.as_ref().map(|unit| unit.value.clone()).unwrap_or_default(),
            notes: notes(declared),
        }
    }
}

fn find<'k>(known: &'k [(Declared, Field)], name: &str) -> Option<&'k (Declared, Field)> {
    known.iter().find(|(declared, _)| declared.name.as_ref().is_some_and(|known| known.value == name))
}

fn nearest_of(known: &[(Declared, Field)], name: &str) -> Option<String> {
    nearest(name, known.iter().filter_map(|(declared, _)| Some(declared.name.as_ref()?.value.as_str())))
}

/// `has_quality` says whether the digits may be none.
fn flag_schema(name: &str, has_quality: bool) -> FieldSchema {
    FieldSchema {
        name: name.to_string(),
        title: None,
        tag: None,
        unit: None,
        value_type: ValueType::Bool,
        declared: None,
        numbers: None,
        is_instant: false,
        has_quality,
        items: Vec::new(),
        place: 0,
    }
}

/// The header's fields as they are needed while cutting.
pub(super) fn header_fields(sheet: &Sheet) -> Vec<HeaderField> {
    let named = sheet.known.iter().map(|(declared, field)| {
        let name = declared.name.as_ref().map(|name| name.value.clone()).unwrap_or_default();
        HeaderField { equals: equals_of(sheet, &name), name, field: field.clone() }
    });
    let unnamed = sheet.gates.iter().filter(|gate| gate.name.is_empty()).map(|gate| HeaderField {
        name: String::new(),
        field: gate.field.clone(),
        equals: gate.equals.clone(),
    });
    named.chain(unnamed).collect()
}

fn equals_of(sheet: &Sheet, name: &str) -> Option<Constant> {
    sheet.gates.iter().find(|gate| gate.name == name).and_then(|gate| gate.equals.clone())
}

/// Reports the condition of a field that cannot have one.
pub(super) fn refuse_condition(declared: &Declared, with: &str, problems: &mut Problems) {
    if let Some(when) = &declared.when {
        problems.add(when.span.clone(), ProblemKind::Conflict { key: "when", with: with.to_string() });
    }
}

/// Binds a frame's condition to the header's fields, and to those of a question in `ask`. `has_columns` says whether texts are told apart by how many columns they have.
pub(super) fn condition(
    when: &When,
    header: &[HeaderField],
    has_columns: bool,
    charsets: &[Charset],
    ask: &[(String, Type)],
    problems: &mut Problems,
) -> Option<Expression<Named>> {
    let fields = header.iter().map(|field| (field.name.as_str(), &field.field)).collect::<Vec<_>>();
    bound(when, "header field", &fields, has_columns, charsets, ask, problems)
}

/// Binds a condition to some fields, by their places among them. `what` says what they are.
pub(super) fn bound(
    when: &When,
    what: &'static str,
    fields: &[(&str, &Field)],
    has_columns: bool,
    charsets: &[Charset],
    ask: &[(String, Type)],
    problems: &mut Problems,
) -> Option<Expression<Named>> {
    let asked = |name: &str| {
        let name = name.strip_prefix("ask.")?;
        let place = ask.iter().position(|(known, _)| known == name)?;
        Some((Named::Ask(place as u16), ask[place].1))
    };
    let mut resolve = |name: &str| -> Result<(Named, Type), Option<String>> {
        let of_type = |field: &Field| field::expression_type(field);
        let place = fields.iter().position(|(known, field)| *known == name && of_type(field).is_some());
        match (place.and_then(|place| Some((place, of_type(fields[place].1)?))), name) {
            (Some((place, found)), _) => Ok((Named::Field(place as u16), found)),
            (None, name) if asked(name).is_some() => asked(name).ok_or(None),
            (None, "length") => Ok((Named::Length, Type::Number)),
            (None, "columns") if has_columns => Ok((Named::Columns, Type::Number)),
            (None, _) => {
                let known = fields.iter().filter(|(_, field)| of_type(field).is_some()).map(|(known, _)| *known);
                let counts = ["length"].into_iter().chain(has_columns.then_some("columns"));
                let of_question: Vec<String> = ask.iter().map(|(known, _)| format!("ask.{known}")).collect();
                let of_question = of_question.iter().map(String::as_str);
                Err(nearest(name, known.filter(|known| !known.is_empty()).chain(counts).chain(of_question)))
            }
        }
    };
    let mut report = |problem: crate::expression::ExpressionProblem| {
        let kind = match problem.kind {
            ExpressionProblemKind::UnknownName { name, nearest } => ProblemKind::UnknownName { what, name, nearest },
            kind => ProblemKind::Expression(kind),
        };
        problems.add(when.place(problem.span), kind);
    };
    match expression::parse(&when.text) {
        Ok(tree) => {
            let mut checked = tree.check(&mut resolve, &mut report);
            if let (Some(checked), false) = (&mut checked, charsets.is_empty()) {
                checked.texts(&mut |text| {
                    *text = sent(core::str::from_utf8(text).unwrap_or_default(), charsets);
                });
            }
            checked
        }
        Err(problem) => {
            report(problem);
            None
        }
    }
}

/// The type as it was declared, with its bits.
pub(super) fn word_of(declared: &Declared, kind: FieldType) -> String {
    let word = match kind {
        FieldType::Hex | FieldType::HexInteger(_) => format!("{kind} in hex"),
        FieldType::Bcd(_) => format!("{kind} in BCD"),
        kind => kind.to_string(),
    };
    match &declared.bits {
        Some(bits) if bits.value.width() == 1 => format!("{word} bit {}", bits.value),
        Some(bits) => format!("{word} bits {}", bits.value),
        None => word,
    }
}

/// What else is declared of a field, in the words of the format file.
fn notes(declared: &Declared) -> String {
    let literal = |literal: &crate::format::Literal| match literal {
        crate::format::Literal::Number(number) => number.to_string(),
        crate::format::Literal::Bits(bits) => format!("{bits:#X}").replace("0X", "0x"),
        crate::format::Literal::Text(text) => format!("\"{}\"", text.escape_debug()),
        crate::format::Literal::Bool(flag) => flag.to_string(),
    };
    let list = |items: &[String]| match items.len() {
        0..=6 => items.join(", "),
        more => format!("{}, … ({more})", items[..5].join(", ")),
    };
    let mut notes = Vec::new();
    notes.extend(declared.equals.as_ref().map(|equals| format!("always {}", literal(&equals.value))));
    notes.extend(declared.sign.as_ref().and_then(|sign| match sign.value {
        crate::format::Sign::Complement => None,
        crate::format::Sign::Magnitude => Some("sign and magnitude".to_string()),
        crate::format::Sign::Offset => Some("offset binary".to_string()),
    }));
    notes.extend(declared.scale.as_ref().map(|scale| format!("x {}", scale.value)));
    notes.extend(declared.ratio.as_ref().map(|ratio| format!("x {}", ratio.value)));
    notes.extend(declared.add.as_ref().map(|add| format!("+ {}", add.value)));
    notes.extend(declared.unit_sent.as_ref().map(|unit| format!("sent in {}", unit.value)));
    if !declared.suffixes.is_empty() {
        let suffixes: Vec<String> =
            declared.suffixes.iter().map(|(suffix, _)| format!("\"{}\"", suffix.value.escape_debug())).collect();
        notes.push(format!("behind it {}", list(&suffixes)));
    }
    notes.extend(declared.decimal.as_ref().map(|mark| format!("\"{}\" before its places", mark.value)));
    notes.extend(declared.thousands.as_ref().map(|mark| format!("\"{}\" between thousands", mark.value)));
    notes.extend(declared.limit_marks.as_ref().map(|marks| format!("limits: {}", list(&marks.value))));
    notes.extend(declared.sign_from.as_ref().map(|from| format!("sign from {}", from.value)));
    notes.extend(declared.scale_from.as_ref().map(|from| format!("scale from {}", from.value)));
    notes.extend(declared.unit_from.as_ref().map(|from| format!("unit from {}", from.value)));
    notes.extend(declared.range.as_ref().map(|range| format!("{} to {}", range.value[0], range.value[1])));
    if !declared.no_data.is_empty() {
        let marks: Vec<String> = declared.no_data.iter().map(|mark| literal(&mark.value)).collect();
        notes.push(format!("no data: {}", list(&marks)));
    }
    if !declared.codes.is_empty() {
        let codes: Vec<String> = declared
            .codes
            .iter()
            .map(|(key, name)| match &key.value {
                crate::format::Literal::Text(key) => format!("{key} {name}"),
                other => format!("{} {name}", literal(other)),
            })
            .collect();
        notes.push(list(&codes));
    }
    if !declared.flags.is_empty() {
        let flags: Vec<String> = declared.flags.iter().map(|(bit, name)| format!("{bit} {}", name.value)).collect();
        notes.push(list(&flags));
    }
    let words = [
        (declared.counter, "counter"),
        (declared.optional, "may be missing"),
        (declared.strict, "must be valid"),
        (declared.internal, "internal"),
    ];
    notes.extend(words.iter().filter(|(said, _)| *said).map(|(_, word)| (*word).to_string()));
    notes.extend(declared.since.as_ref().map(|since| format!("seconds since {}", since.value)));
    notes.extend((!declared.charsets.is_empty()).then(|| charset_words(&declared.charsets)));
    notes.extend(declared.layout.as_ref().map(|layout| layout.value.clone()));
    notes.extend(declared.zone.as_ref().map(|zone| format!("of {}", zone.value)));
    notes.join("; ")
}
