//! The records of a format that are made of several frames: what of, and what they say.

use usus::format::{Exchange, Format, Latest, Merge, Multipart, Record, Repeat, Side, Spanned};
use usus::{Plan, Span};

use super::table;
use crate::safe::Safe;

/// How long something takes where nothing is said.
const USUAL: &str = "10 s";

/// A table for each of them.
pub(super) fn all(format: &Format, plan: &Plan) -> String {
    let mut text = String::new();
    for record in &format.records {
        if let Some(block) = &record.block {
            let parts = block.parts.iter().enumerate().map(|(number, part)| {
                let name = part.name.as_ref().map_or(format!("part {}", number + 1), |name| name.value.clone());
                match part.repeat {
                    Repeat::Once => name,
                    Repeat::Optional => format!("{name} (optional)"),
                    Repeat::Any => format!("{name} (any number)"),
                }
            });
            let order = if block.any_order { "in any order" } else { "in this order" };
            let mut notes = vec![format!("{order}: {}", parts.collect::<Vec<_>>().join(", "))];
            notes.push(within(block.within));
            notes.extend(block.require.as_ref().map(|require| format!("requires {}", Safe(&require.text))));
            text += &one(plan, &record.kind.value, "a block", &notes);
        }
    }
    let multiparts = format.multiparts.iter().map(|of| (&of.name.value, "parts that number themselves", multipart(of)));
    let exchanges = format.exchanges.iter().map(|of| (&of.name.value, "an exchange", exchange(of)));
    let merges = format.merges.iter().map(|of| (&of.name.value, "a merge", merge(of)));
    for (name, what, notes) in multiparts.chain(exchanges).chain(merges) {
        text += &one(plan, name, what, &notes);
    }
    for record in format.records.iter().filter(|record| record.block.is_none() && !record.latest.is_empty()) {
        text += &copied(record);
    }
    let hidden: Vec<&str> =
        plan.schema().kinds.iter().filter(|kind| !kind.wanted).map(|kind| kind.name.as_str()).collect();
    if !hidden.is_empty() {
        text += &format!("\nonly part of others, and given if asked for with --records: {}\n", hidden.join(", "));
    }
    text
}

fn one(plan: &Plan, name: &str, what: &str, notes: &[String]) -> String {
    let Some(kind) = plan.schema().kind(name) else { return String::new() };
    let title = kind.title.as_deref().map(|title| format!(": {}", Safe(title))).unwrap_or_default();
    let mut text = format!("\nrecord {name} ({what}){title}\n");
    for note in notes {
        text += &format!("  {note}\n");
    }
    let rows = kind.fields.iter().flat_map(|field| {
        let row = |indent: &str, field: &usus::FieldSchema| {
            let (unit, title) = (field.unit.as_deref().unwrap_or(""), field.title.as_deref().unwrap_or(""));
            [
                format!("{indent}{}", field.name),
                field.value_type.word().to_owned(),
                Safe(unit).to_string(),
                Safe(title).to_string(),
            ]
        };
        let items = field.items.iter().filter(|_| !field.is_list()).map(move |item| row("  ", item));
        std::iter::once(row("", field)).chain(items)
    });
    text + &table(["name", "type", "unit", "title"], rows)
}

fn multipart(of: &Multipart) -> Vec<String> {
    let mut notes = vec![
        format!("of {}, by {} of {}{}", of.of.value, of.part.value, of.parts.value, same(&of.key)),
        within(of.within),
    ];
    notes.extend(latest(&of.latest));
    notes
}

fn exchange(of: &Exchange) -> Vec<String> {
    let sides = |what: &str, sides: &[Side]| {
        let own = sides.iter().filter(|side| matches!(side, Side::Own(_))).count();
        let names = sides.iter().filter_map(|side| match side {
            Side::Kind(name) => Some(name.value.clone()),
            _ => None,
        });
        let own = (own > 0).then(|| if own == 1 { "one of its own".to_owned() } else { format!("{own} of its own") });
        let all: Vec<String> = names.chain(own).collect();
        (!all.is_empty()).then(|| format!("{what}: {}", all.join(", ")))
    };
    let mut notes = Vec::new();
    notes.extend(sides("questions", &of.asks));
    notes.extend(sides("answers", &of.answers));
    notes.extend(sides("errors", &of.errors));
    let key = match &*of.key {
        [] => "an answer is that to the question before it".to_owned(),
        key if of.unique => format!("question and answer have{}, of which each question has its own", same(key)),
        key => format!("question and answer have{}", same(key)),
    };
    notes.push(key);
    notes.push(within(of.within));
    notes.extend(of.open.filter(|open| *open > 1).map(|open| format!("up to {open} questions wait at the same time")));
    notes.extend(of.echo.then(|| "a question may be heard twice: its echo is left alone".to_owned()));
    notes.extend(latest(&of.latest));
    notes
}

fn merge(of: &Merge) -> Vec<String> {
    let mut notes = vec![format!("of {}:{}", names(&of.of), same(&of.key))];
    notes.extend(of.complete.as_ref().map(|complete| format!("complete with {}", Safe(&complete.text))));
    notes.push(within(of.within));
    notes.extend(latest(&of.latest));
    notes
}

/// What a record that is one frame has of others.
fn copied(record: &Record) -> String {
    let mut text = format!("\nrecord {}, beside its frame\n", record.kind.value);
    for note in latest(&record.latest) {
        text += &format!("  {note}\n");
    }
    text
}

fn latest(latest: &[Latest]) -> impl Iterator<Item = String> {
    latest.iter().map(|of| {
        let age = of.within.map_or(USUAL.to_owned(), |within| within.to_string());
        format!("{}: the latest {}, at most {age} old", of.name.value, of.of.value)
    })
}

fn within(within: Option<Span>) -> String {
    format!("within {}", within.map_or(USUAL.to_owned(), |within| within.to_string()))
}

/// What is the same in all of them.
fn same(key: &[Spanned<String>]) -> String {
    if key.is_empty() { String::new() } else { format!(" the same {}", names(key)) }
}

fn names(names: &[Spanned<String>]) -> String {
    names.iter().map(|name| name.value.as_str()).collect::<Vec<_>>().join(", ")
}
