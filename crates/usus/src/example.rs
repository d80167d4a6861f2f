//! Running a format's own examples: each frame must give the record that it says.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::convert::Infallible;
use core::ops::Range;

use crate::decoder::{Decoder, LineInside};
use crate::event::{Event, Notice, Reject};
use crate::format::{Cut, Example, ExampleFrame, Expected, Format, Frame, Gives, LineEnd, Literal};
use crate::framing::Behind;
use crate::input::{Chunk, Fault, FaultKind, LineId};
use crate::ledger::Ledger;
use crate::plan::Plan;
use crate::record::{Cell, Record};
use crate::sink::Sink;
use crate::time::{Span, Time};
use crate::value::{Decimal, Quality, Reading, Value};

/// What an example gave.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ExampleOutcome {
    /// Index of the example in the format.
    pub example: usize,
    /// Where it stands in the format file, as bytes.
    pub span: Range<usize>,
    /// The line on which it begins, from 1.
    pub line: usize,
    /// The character of that line, from 1.
    pub column: usize,
    /// The kind that it should give, the first one if there are several.
    pub kind: String,
    /// Where it differs from what it should give; none if it holds.
    pub differences: Vec<Difference>,
}

/// One difference between what an example should give and what it gave.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Difference {
    /// The field, such as `tension` or `peaks[2].force`; empty for the record as a whole.
    pub field: String,
    /// What it should be.
    pub expected: String,
    /// What it is.
    pub found: String,
}

impl Plan {
    /// Runs the examples of `format`, of which this is the plan.
    pub fn run_examples(&self, format: &Format) -> Vec<ExampleOutcome> {
        let run = |(example, declared): (usize, &Example)| {
            let differences = self.run_example(format, declared);
            let span = declared.span.clone();
            let kind = declared.gives.first().map(|given| given.kind.value.clone()).unwrap_or_default();
            let (line, column) = crate::problem::place(&format.source.text, span.start);
            ExampleOutcome { example, span, line, column, kind, differences }
        };
        format.examples.iter().enumerate().map(run).collect()
    }

    fn run_example(&self, format: &Format, example: &Example) -> Vec<Difference> {
        let mut state = Run { example, found: Vec::new(), others: Vec::new() };
        let kinds: Vec<&str> = example.gives.iter().map(|given| given.kind.value.as_str()).collect();
        let carried = kinds.first().and_then(|kind| format.inside_of(kind));
        // What a frame carries has examples of its own.
        let mut take = |event: Event<'_>, inside: Option<&str>| {
            if inside.is_none() {
                state.take(event);
            }
        };
        let frame = |frame: &ExampleFrame| Sending {
            role: frame.on.as_ref().map(|on| on.value.clone()).or(carried.map(ToString::to_string)),
            bytes: frame.bytes.clone(),
            is_text: frame.is_text,
            after: frame.after.unwrap_or(AFTER),
        };
        let frames: Vec<Sending> = example.frames.iter().map(frame).collect();
        match run(&self.with_wanted(&kinds), format, &frames, &mut take) {
            Ok(ledger) => state.differences(ledger.ignored_frames),
            Err(role) => whole("a line of the format".to_string(), format!("no line `{role}`")),
        }
    }
}

/// How long one frame comes after another where nothing is said.
const AFTER: Span = Span::from_nanoseconds(1_000_000);

/// Bytes that are sent.
pub(crate) struct Sending {
    /// The role of the line, or a field that carries such bytes; the first line if there is none.
    pub(crate) role: Option<String>,
    pub(crate) bytes: Vec<u8>,
    /// Whether they are a text, which gets the end that texts of its line have.
    pub(crate) is_text: bool,
    /// How long after those before them.
    pub(crate) after: Span,
}

/// Decodes bytes that stand for themselves: nothing was before them, and nothing comes behind. With each event comes the field that it lies inside of,
/// if it does. Gives the account of the first line.
///
/// # Errors
///
/// A role that the format does not have.
pub(crate) fn run(
    plan: &Plan,
    format: &Format,
    frames: &[Sending],
    take: &mut dyn FnMut(Event<'_>, Option<&str>),
) -> Result<Ledger, String> {
    let mut decoder = Decoder::new(plan);
    let mut lines: Vec<(String, LineId)> = Vec::new();
    let usual = format.lines.first().map(|line| line.role.value.as_str()).unwrap_or_default();
    let mut now = Time::from_nanoseconds(0);
    let mut taking = Taking { inside: Vec::new(), take };
    for (index, Sending { role, bytes, is_text, after }) in frames.iter().enumerate() {
        if index > 0 {
            now = now.after(*after);
        }
        let role = role.as_deref().unwrap_or(usual);
        let line = match lines.iter().find(|(known, _)| known == role) {
            Some((_, line)) => *line,
            None => {
                let carried = decoder.add_line_inside(role, Behind::Boundary);
                let line = carried.or_else(|| decoder.add_line(role, 0, Behind::Boundary));
                let line = line.ok_or_else(|| role.to_string())?;
                lines.push((role.to_string(), line));
                line
            }
        };
        let mut bytes = bytes.clone();
        let ends = ends_of(format, role);
        if *is_text && !ends.iter().any(|end| bytes.ends_with(end)) {
            bytes.extend_from_slice(ends[0]);
        }
        // Breaks stand around it, if they end frames.
        let a_break = |at| Fault { at, kind: FaultKind::Break };
        let breaks = [a_break(0), a_break(bytes.len())];
        let faults = if plan.needs_breaks() { &breaks[..] } else { &[] };
        let chunk = Chunk { time: Some(now), faults, ..Chunk::new(line, &bytes) };
        let Ok(()) = decoder.decode(chunk, &mut taking);
    }
    // A format that ends its texts by silence hears one.
    let Ok(()) = decoder.tick(Time::from_nanoseconds(i64::MAX)).drain(&mut taking);
    let Ok(()) = decoder.finish().drain(&mut taking);
    Ok(lines.first().map(|(_, line)| decoder.ledger(*line)).unwrap_or_default())
}

/// Gives events to a closure, with what they lie inside of.
struct Taking<'t> {
    inside: Vec<(LineId, String)>,
    take: &'t mut dyn FnMut(Event<'_>, Option<&str>),
}

impl Sink for Taking<'_> {
    type Error = Infallible;

    fn line_inside(&mut self, inside: &LineInside<'_>) {
        self.inside.push((inside.line, inside.field.to_string()));
    }

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        self.event(Event::Record(*record))
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        self.event(Event::Reject(*reject))
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), Infallible> {
        self.event(Event::Clipped(*clipped))
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), Infallible> {
        self.event(Event::Notice(*notice))
    }

    fn event(&mut self, event: Event<'_>) -> Result<(), Infallible> {
        let inside = self.inside.iter().find(|(line, _)| *line == event.line());
        (self.take)(event, inside.map(|(_, field)| field.as_str()));
        Ok(())
    }
}

/// What may end the texts of a line, the usual one first.
fn ends_of(format: &Format, role: &str) -> &'static [&'static [u8]] {
    let carried = format.carries(role);
    let here = |frame: &&Frame| match &frame.inside {
        Some(inside) => inside.value == role,
        None => !carried && frame.on.as_ref().is_none_or(|on| on.value == role),
    };
    let ends = format.frames.iter().filter(here).find_map(|frame| match &frame.cut {
        Cut::Text { end, .. } => Some(end),
        _ => None,
    });
    match ends {
        Some(LineEnd::Lf) => &[b"\n"],
        Some(LineEnd::Cr) => &[b"\r"],
        Some(LineEnd::CrLf) => &[b"\r\n"],
        Some(LineEnd::Any) | None => &[b"\r\n", b"\n", b"\r"],
    }
}

struct Run<'e> {
    example: &'e Example,
    /// For each record that came, how it differs.
    found: Vec<Vec<Difference>>,
    /// What came beside them.
    others: Vec<String>,
}

impl Run<'_> {
    fn take(&mut self, event: Event<'_>) {
        match event {
            Event::Record(record) => match self.example.gives.get(self.found.len()) {
                Some(given) => {
                    let mut differences = compare(given, &record);
                    if self.example.gives.len() > 1 {
                        let place = format!("record {}", self.found.len() + 1);
                        differences.iter_mut().for_each(|difference| {
                            difference.field = match difference.field.as_str() {
                                "" => place.clone(),
                                field => format!("{place}, {field}"),
                            };
                        });
                    }
                    self.found.push(differences);
                }
                None => self.others.push(format!("another record, {}", record.kind())),
            },
            Event::Reject(reject) => {
                let reason = reject.reason.describe(reject.plan);
                self.others.push(format!("{} rejected: {reason}", counted(reject.bytes.len(), "byte")));
            }
            Event::Clipped(clipped) => {
                let reason = clipped.reason.describe(clipped.plan);
                let bytes = counted(clipped.bytes.len(), "byte");
                self.others.push(format!("{bytes} of a frame that is not whole: {reason}"));
            }
            Event::Notice(_) => {}
        }
    }

    fn differences(self, ignored: u64) -> Vec<Difference> {
        let missing = self.example.gives.get(self.found.len());
        let mut differences: Vec<Difference> = self.found.into_iter().flatten().collect();
        let Some(missing) = missing else {
            let nothing_else = |other: String| whole("nothing else".to_string(), other);
            differences.extend(self.others.into_iter().flat_map(nothing_else));
            return differences;
        };
        let found = match self.others.is_empty() {
            true if ignored > 0 => "a frame that the format ignores".to_string(),
            true => "nothing".to_string(),
            false if ignored > 0 && self.example.frames.len() == 1 => "a frame that the format ignores".to_string(),
            false => self.others.join("; "),
        };
        differences.extend(whole(format!("the record {}", missing.kind.value), found));
        differences
    }
}

fn counted(number: usize, noun: &str) -> String {
    format!("{number} {noun}{}", if number == 1 { "" } else { "s" })
}

fn whole(expected: String, found: String) -> Vec<Difference> {
    [Difference { field: String::new(), expected, found }].to_vec()
}

fn compare(example: &Gives, record: &Record<'_>) -> Vec<Difference> {
    if record.kind() != example.kind.value {
        return whole(format!("the record {}", example.kind.value), format!("the record {}", record.kind()));
    }
    let mut differences = Vec::new();
    for (name, expected) in &example.fields {
        let found = record.fields().find(|(schema, _)| schema.name == name.value);
        let list = found.as_ref().is_some_and(|(schema, _)| schema.is_list());
        compare_cell(&name.value, expected, found.map(|(_, cell)| cell), list, &mut differences);
    }
    differences
}

fn compare_cell(
    path: &str,
    expected: &Expected,
    found: Option<Cell<'_>>,
    list: bool,
    differences: &mut Vec<Difference>,
) {
    let mut differ =
        |field: String, expected: String, found: String| differences.push(Difference { field, expected, found });
    match (expected, found) {
        (Expected::Value(literal), Some(Cell::Reading(reading))) => {
            if !matches(&literal.value, reading) {
                differ(path.to_string(), show_literal(&literal.value), show(reading));
            }
        }
        (Expected::Items(_, expected), Some(Cell::Group(items))) => {
            if expected.len() != items.len() {
                differ(path.to_string(), counted(expected.len(), "item"), counted(items.len(), "item"));
            }
            for (index, (expected, item)) in expected.iter().zip(items).enumerate() {
                for (name, expected) in expected {
                    let found = item.fields().find(|(schema, _)| schema.name == name.value);
                    let inner_list = found.as_ref().is_some_and(|(schema, _)| schema.is_list());
                    let cell = found.map(|(_, cell)| cell);
                    let path = match list {
                        true => format!("{path}[{}]", index + 1),
                        false => format!("{path}[{}].{}", index + 1, name.value),
                    };
                    compare_cell(&path, expected, cell, inner_list, differences);
                }
            }
        }
        (_, None) => differ(path.to_string(), "a field of that name".to_string(), "none".to_string()),
        (Expected::Value(_), Some(Cell::Group(_))) => {
            differ(path.to_string(), "a value".to_string(), "a group".to_string())
        }
        (Expected::Items(..), Some(_)) => differ(path.to_string(), "a group".to_string(), "a value".to_string()),
    }
}

/// Whether a reading is what a literal says: numbers as numbers, everything else as the text that outputs show. The empty text
/// stands for no value.
fn matches(literal: &Literal, reading: Reading<'_>) -> bool {
    match (literal, reading.value) {
        (Literal::Bits(expected), _) => matches(&Literal::Number(Decimal::from_unsigned(*expected)), reading),
        (Literal::Number(expected), Value::Decimal(number) | Value::Code { number, .. }) => {
            expected.compare(number).is_eq()
        }
        (Literal::Number(expected), Value::F32(number)) => expected.to_f32() == number,
        (Literal::Number(expected), Value::F64(number)) => expected.to_f64() == number,
        (Literal::Number(expected), Value::Text(text)) => {
            Decimal::parse(text.bytes()).is_some_and(|number| number == *expected)
        }
        (Literal::Bool(expected), Value::Bool(flag)) => *expected == flag,
        (Literal::Text(expected), value) => *expected == value.to_string(),
        _ => false,
    }
}

fn show_literal(literal: &Literal) -> String {
    match literal {
        Literal::Number(number) => number.to_string(),
        Literal::Bits(bits) => bits.to_string(),
        Literal::Text(text) if text.is_empty() => "no value".to_string(),
        Literal::Text(text) => format!("\"{}\"", text.escape_debug()),
        Literal::Bool(flag) => flag.to_string(),
    }
}

fn show(reading: Reading<'_>) -> String {
    match reading.value {
        Value::Absent(_) if reading.quality == Quality::Invalid => "no value (invalid)".to_string(),
        Value::Absent(_) => "no value".to_string(),
        Value::Text(text) => format!("\"{}\"", text.to_string().escape_debug()),
        Value::Code { number, name } => format!("{name} ({number})"),
        value => value.to_string(),
    }
}
