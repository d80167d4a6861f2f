//! What is legal in a format and can hardly be meant: values that a type cannot hold, records that are never chosen, and what is missing.
//! Fields that overlap are found where fields are placed (`packet.rs`, `columns.rs`).

use alloc::format;
use alloc::string::ToString;
use alloc::vec::Vec;

use super::field::{bits_of, code_number, expression_type, taken};
use super::sheet::word_of;
use crate::expression::{Expression, Node, Operand, Type};
use crate::format::{self, Field as Declared, FieldType, Format, Literal};
use crate::limits;
use crate::plan::{Constant, Frame, Framing, HeaderField, Kind, Meaning, Named, Raw};
use crate::problem::{ProblemKind, Problems};
use crate::value::Decimal;

/// No more work than this is done, in combinations of values times parts of conditions: beyond it, nothing is said.
const WORK: usize = 4_000_000;

/// Looks at one field: values that can never come, and ranges that are never reached.
pub(super) fn field(declared: &Declared, kind: FieldType, problems: &mut Problems) {
    let FieldType::Integer(integer) = kind else { return };
    let taken = taken(declared, integer);
    let (low, high) = taken.reach();
    let mut raw = |key: &'static str, literal: &format::Spanned<Literal>| {
        let number = match (&literal.value, key) {
            (literal, "codes") => code_number(literal, taken),
            (Literal::Number(number), _) => Some(*number),
            (Literal::Bits(pattern), _) => Some(bits_of(*pattern, taken)),
            _ => None,
        };
        let Some(number) = number.filter(|number| number.compare(low).is_lt() || number.compare(high).is_gt()) else {
            return;
        };
        let found = match literal.value {
            Literal::Bits(pattern) => format!("{pattern:#X}"),
            _ => number.to_string(),
        };
        let (low, high) = (low.to_string(), high.to_string());
        let kind = ProblemKind::NeverSent { key, found, kind: word_of(declared, kind), low, high };
        problems.doubt(literal.span.clone(), kind);
    };
    declared.equals.iter().for_each(|literal| raw("equals", literal));
    declared.no_data.iter().for_each(|literal| raw("no_data", literal));
    declared.codes.iter().for_each(|(literal, _)| raw("codes", literal));
    let told_elsewhere = declared.unit_from.is_some()
        || declared.scale_from.is_some()
        || declared.unit_sent.is_some()
        || declared.ratio.is_some()
        || declared.sign_from.is_some();
    let Some(range) = declared.range.as_ref().filter(|_| !told_elsewhere) else { return };
    let Some(mut ends) = ends(declared, [low, high]) else { return };
    if ends[0].compare(ends[1]).is_gt() {
        ends.reverse();
    }
    let beyond = |end: &&Decimal| end.compare(ends[0]).is_lt() || end.compare(ends[1]).is_gt();
    if let Some(end) = range.value.iter().find(beyond) {
        let [low, high] = ends.map(|end| end.to_string());
        problems.doubt(range.span.clone(), ProblemKind::NeverReached { found: end.to_string(), low, high });
    }
}

/// The values of the smallest and the largest raw value.
fn ends(declared: &Declared, raw: [Decimal; 2]) -> Option<[Decimal; 2]> {
    let scaled = |end: Decimal| {
        let scaled = declared.scale.as_ref().map_or(Some(end), |scale| end.times(scale.value))?;
        declared.add.as_ref().map_or(Some(scaled), |add| scaled.plus(add.value))
    };
    Some([scaled(raw[0])?, scaled(raw[1])?])
}

/// Looks at the whole: what is missing, and records to which nothing is left.
pub(super) fn whole(format: &Format, frames: &[Frame], kinds: &[Kind], problems: &mut Problems) {
    let first_line = 0..format.source.text.lines().next().map_or(0, str::len);
    if format.examples.is_empty() {
        problems.doubt(first_line.clone(), ProblemKind::NoExample);
    }
    if format.records.is_empty() && format.exchanges.is_empty() {
        problems.doubt(first_line, ProblemKind::NoRecord);
    }
    for (declared, frame) in format.frames.iter().zip(frames) {
        if !matches!(frame.framing, Framing::Text(_) | Framing::Sentence(_)) && declared.checksums.is_empty() {
            problems.doubt(declared.span.clone(), ProblemKind::NoChecksum);
        }
        // A record that could not be compiled has no place among the kinds.
        let variants: usize = format.records.iter().map(|record| record.variants.len()).sum();
        if kinds.len() >= records(format) + variants {
            choices(format, frame, kinds, problems);
        }
    }
}

/// How many records there are, with those that are made of others.
fn records(format: &Format) -> usize {
    format.records.len() + super::composed::named_beside(format).count()
}

/// Tries the conditions of a frame's records on all combinations of values that tell them apart.
fn choices(format: &Format, frame: &Frame, kinds: &[Kind], problems: &mut Problems) {
    if frame.has_forms {
        return;
    }
    let conditions: Vec<(u16, &Expression<Named>)> =
        frame.kinds.iter().map_while(|kind| Some((*kind, kinds[usize::from(*kind)].when.as_ref()?))).collect();
    let (mut names, mut literals) = (Vec::new(), Vec::new());
    for (_, when) in &conditions {
        when.names(&mut |name| names.push(*name));
        gather(when, &mut literals);
    }
    names.sort_unstable();
    names.dedup();
    let values: Vec<Vec<Value>> = names
        .iter()
        .map(|name| match name {
            Named::Field(field) => values(&frame.header[usize::from(*field)], &literals),
            Named::Length | Named::Columns | Named::Ask(_) => sizes(&literals),
        })
        .collect();
    let combinations = values.iter().try_fold(1usize, |product, values| product.checked_mul(values.len()));
    let parts: usize = conditions.iter().map(|(_, when)| parts(when)).sum();
    let affordable = |combinations: &usize| combinations.checked_mul(parts).is_some_and(|work| work <= WORK);
    let Some(combinations) = combinations.filter(affordable) else { return };
    let (mut holds, mut chosen) = (alloc::vec![false; conditions.len()], alloc::vec![false; conditions.len()]);
    for mut combination in 0..combinations {
        let mut choice = Vec::with_capacity(values.len());
        for values in &values {
            choice.push(&values[combination % values.len()]);
            combination /= values.len();
        }
        let look = |name: &Named| match names.binary_search(name).ok().map(|place| choice[place]) {
            Some(Value::Number(number)) => Operand::Number(*number),
            Some(Value::Text(text)) => Operand::Text(text),
            Some(Value::Absent) | None => Operand::Absent,
        };
        let mut taken = false;
        for (index, (_, when)) in conditions.iter().enumerate() {
            if when.test(&look) {
                holds[index] = true;
                chosen[index] |= !taken;
                taken = true;
            }
        }
    }
    for (index, (kind, _)) in conditions.iter().enumerate() {
        // First come the records themselves, then what is made of them, then all variants.
        let mut variants = format.records.iter().flat_map(|record| &record.variants);
        let record = match usize::from(*kind).checked_sub(records(format)) {
            Some(variant) => variants.nth(variant),
            None => format.records.get(usize::from(*kind)),
        };
        let Some(record) = record else { continue };
        let Some(when) = &record.when else { continue };
        if !holds[index] {
            problems.doubt(when.span.clone(), ProblemKind::NeverHolds);
        } else if !chosen[index] {
            let kind = ProblemKind::Overtaken { record: record.kind.value.clone() };
            problems.doubt(record.kind.span.clone(), kind);
        }
    }
}

/// How many parts a condition has.
fn parts(expression: &Expression<Named>) -> usize {
    1 + match &expression.node {
        Node::Not(inner) => parts(inner),
        Node::And(sides) | Node::Or(sides) | Node::Compare(_, sides) | Node::Starts(sides) => {
            sides.iter().map(parts).sum()
        }
        Node::Among(among) => among.iter().map(parts).sum(),
        Node::Number(_) | Node::Text(_) | Node::Name(_) => 0,
    }
}

enum Value {
    Number(Decimal),
    Text(Vec<u8>),
    Absent,
}

/// What conditions compare with.
fn gather<'e>(expression: &'e Expression<Named>, literals: &mut Vec<&'e Node<Named>>) {
    match &expression.node {
        Node::Number(_) | Node::Text(_) => literals.push(&expression.node),
        Node::Not(inner) => gather(inner, literals),
        Node::And(sides) | Node::Or(sides) | Node::Compare(_, sides) | Node::Starts(sides) => {
            sides.iter().for_each(|side| gather(side, literals));
        }
        Node::Among(among) => among.iter().for_each(|part| gather(part, literals)),
        Node::Name(_) => {}
    }
}

/// Numbers of bytes or columns, such that the conditions see no difference between any other and one of them.
fn sizes(literals: &[&Node<Named>]) -> Vec<Value> {
    let mut sizes = alloc::vec![0, limits::FRAME as i64];
    for literal in literals {
        let Node::Number(number) = literal else { continue };
        let Some(number) = number.to_f64().is_finite().then(|| number.to_f64() as i64) else { continue };
        sizes.extend(
            (number.saturating_sub(1)..=number.saturating_add(1))
                .filter(|size| (0..=limits::FRAME as i64).contains(size)),
        );
    }
    sizes.sort_unstable();
    sizes.dedup();
    sizes.into_iter().map(|size| Value::Number(Decimal::from_integer(size))).collect()
}

/// Values of a header field, such that whatever else it may be, the conditions see no difference to one of them.
fn values(field: &HeaderField, literals: &[&Node<Named>]) -> Vec<Value> {
    let integer = match (&field.field.raw, &field.field.meaning) {
        (Raw::Integer(taken), Meaning::Number { convert, .. }) if convert.is_nothing() => Some(taken.reach()),
        _ => None,
    };
    if let (Some(_), Some(Constant::Number(only))) = (integer, &field.equals) {
        return [Value::Number(*only)].into();
    }
    let mut values = Vec::new();
    if integer.is_none() || !field.field.no_data.is_empty() {
        values.push(Value::Absent);
    }
    if expression_type(&field.field) == Some(Type::Text) {
        values.push(Value::Text([0xFE].into()));
        for literal in literals {
            let Node::Text(text) = literal else { continue };
            values.push(Value::Text(text.to_vec()));
            values.push(Value::Text([text, &[1][..]].concat()));
            if let [front @ .., last] = &**text
                && *last > 0
            {
                values.push(Value::Text([front, &[last - 1][..]].concat()));
            }
        }
        return values;
    }
    let mut numbers: Vec<Decimal> = integer.iter().flat_map(|(low, high)| [*low, *high]).collect();
    for literal in literals {
        let Node::Number(number) = literal else { continue };
        // The next number on both sides; of what is no integer, one that is nearer than any other literal.
        let step = if integer.is_some() {
            Some(Decimal::from_integer(1))
        } else {
            Decimal::new(1, number.places().saturating_add(3).min(20))
        };
        let around = step.into_iter().flat_map(|step| {
            [number.plus(step), step.times(Decimal::from_integer(-1)).and_then(|step| number.plus(step))]
        });
        numbers.extend(around.flatten().chain([*number]));
    }
    if let Some((low, high)) = integer {
        numbers.retain(|number| number.compare(low).is_ge() && number.compare(high).is_le());
    }
    numbers.sort_by(|a, b| a.compare(*b));
    numbers.dedup_by(|a, b| a.compare(*b).is_eq());
    if numbers.is_empty() {
        numbers.push(Decimal::ZERO);
    }
    values.extend(numbers.into_iter().map(Value::Number));
    values
}
