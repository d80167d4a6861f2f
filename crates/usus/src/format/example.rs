//! Reading `[[example]]`.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::keys::{Keys, hex_bytes, in_file_order, literal, wrong};
use super::read_composed::read_span;
use super::{Example, ExampleFrame, Expected, Gives, Spanned};
use crate::problem::{ProblemKind, Problems};

pub(super) fn read(table: &DeTable<'_>, span: Range<usize>, problems: &mut Problems) -> Option<Example> {
    let mut keys = Keys::new(table, span.clone(), "`[[example]]`", problems);
    let several = keys.tables("frames");
    let own = read_frame(&mut keys);
    let after = keys.value("after").map(|after| after.span());
    let gives = read_all_gives(&mut keys);
    let mut frames = Vec::new();
    for (table, span) in &several {
        let mut inner = Keys::new(table, span.clone(), "a frame of an example", keys.problems);
        let after = read_span(&mut inner, "after");
        let frame = read_frame(&mut inner);
        inner.done();
        match frame {
            Some(frame) => frames.push(ExampleFrame { after, ..frame }),
            None => keys.problem(span.clone(), ProblemKind::Senseless("a frame needs either `bytes` or `text`")),
        }
    }
    if let Some(after) = after {
        let with = "an example of one frame".to_string();
        keys.problem(after, ProblemKind::Conflict { key: "after", with });
    }
    match (own, several.is_empty()) {
        (Some(own), true) => frames.push(own),
        (None, false) => {}
        _ => {
            let why = "an example needs `bytes`, `text`, or a list of `frames`, and only one of them";
            keys.problem(span.clone(), ProblemKind::Senseless(why));
        }
    }
    keys.done();
    let gives = gives?;
    (!frames.is_empty()).then_some(Example { span, frames, gives })
}

/// `bytes` or `text`, and the line that they are on.
fn read_frame(keys: &mut Keys<'_, '_>) -> Option<ExampleFrame> {
    let (bytes, text, on) = (keys.text("bytes"), keys.text("text"), keys.text("on"));
    let (bytes, is_text) = match (bytes, text) {
        (Some(bytes), None) => match hex_bytes(&bytes.value) {
            Some(input) => (input, false),
            None => {
                let kind = ProblemKind::WrongValue {
                    key: "bytes".to_string(),
                    expected: "bytes in hex such as \"A5 5A\"",
                    found: "something else".to_string(),
                };
                keys.problem(bytes.span, kind);
                (Vec::new(), false)
            }
        },
        (None, Some(text)) => (text.value.into_bytes(), true),
        _ => return None,
    };
    Some(ExampleFrame { on, bytes, is_text, after: None })
}

/// `gives`: a table, or a list of them.
fn read_all_gives(keys: &mut Keys<'_, '_>) -> Option<Vec<Gives>> {
    let Some(value) = keys.value("gives") else {
        keys.missing("gives");
        return None;
    };
    let tables = match value.get_ref() {
        DeValue::Array(_) => keys.tables("gives"),
        _ => keys.table("gives").into_iter().collect(),
    };
    let given = tables.into_iter().filter_map(|table| {
        let (kind, fields) = read_gives(table, keys.problems)?;
        Some(Gives { kind, fields })
    });
    let given: Vec<Gives> = given.collect();
    (!given.is_empty()).then_some(given)
}

type Fields = Vec<(Spanned<String>, Expected)>;

fn read_gives(
    (table, span): (&DeTable<'_>, Range<usize>),
    problems: &mut Problems,
) -> Option<(Spanned<String>, Fields)> {
    let kind = Keys::new(table, span, "`gives`", problems).required_text("record");
    let fields = read_fields(table, problems, Some("record"));
    Some((kind?, fields))
}

fn read_fields(table: &DeTable<'_>, problems: &mut Problems, without: Option<&str>) -> Fields {
    let mut fields = Vec::new();
    for (name, value) in in_file_order(table) {
        if Some(name.value.as_str()) == without {
            continue;
        }
        let expected = match value.get_ref() {
            DeValue::Array(items) => {
                let mut expected = Vec::new();
                for item in items.iter() {
                    match item.get_ref() {
                        DeValue::Table(table) => expected.push(read_fields(table, problems, None)),
                        // Values of a list stand by themselves.
                        _ => match literal(item) {
                            Some(value) => expected.push([(name.clone(), Expected::Value(value))].to_vec()),
                            None => wrong(problems, &name.value, "tables for the items of a group, or values", item),
                        },
                    }
                }
                Some(Expected::Items(value.span(), expected))
            }
            _ => {
                let found = literal(value).map(Expected::Value);
                if found.is_none() {
                    wrong(problems, &name.value, "a value", value);
                }
                found
            }
        };
        if let Some(expected) = expected {
            fields.push((name, expected));
        }
    }
    fields
}
