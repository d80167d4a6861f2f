//! Reading `[[example]]`.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::keys::{Keys, hex_bytes, in_file_order, literal, wrong};
use super::{Example, Expected, Spanned};
use crate::problem::{ProblemKind, Problems};

pub(super) fn read(table: &DeTable<'_>, span: Range<usize>, problems: &mut Problems) -> Option<Example> {
    let mut keys = Keys::new(table, span.clone(), "`[[example]]`", problems);
    let bytes = keys.text("bytes");
    let text = keys.text("text");
    let on = keys.text("on");
    let gives = keys.table("gives");
    if gives.is_none() {
        keys.missing("gives");
    }
    let input = match (bytes, text) {
        (Some(bytes), None) => match hex_bytes(&bytes.value) {
            Some(input) => Some((input, false)),
            None => {
                let kind = ProblemKind::WrongValue {
                    key: "bytes".to_string(),
                    expected: "bytes in hex such as \"A5 5A\"",
                    found: "something else".to_string(),
                };
                keys.problem(bytes.span, kind);
                None
            }
        },
        (None, Some(text)) => Some((text.value.into_bytes(), true)),
        _ => {
            keys.problem(span.clone(), ProblemKind::Senseless("an example needs either `bytes` or `text`"));
            None
        }
    };
    keys.done();
    let (kind, fields) = read_gives(gives?, problems)?;
    let (bytes, is_text) = input?;
    Some(Example { span, bytes, is_text, on, kind, fields })
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
