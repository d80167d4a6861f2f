//! Reading what declares records of several frames.

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::de::{DeTable, DeValue};

use super::keys::{Keys, in_file_order};
use super::read::{read_condition, read_layout};
use super::{Block, Exchange, Latest, Merge, Multipart, Part, Record, Repeat, Side, Spanned};
use crate::limits;
use crate::problem::ProblemKind;
use crate::time::Span;
use crate::unit;
use crate::value::Decimal;

/// What makes a block of a record, if it has parts.
pub(super) fn read_block(keys: &mut Keys<'_, '_>, kind: &Spanned<String>) -> Option<Block> {
    let tables = keys.tables("part");
    let any_order = keys.word("order", "order", &[("any", true), ("declared", false)]);
    let within = read_span(keys, "within");
    let require = read_condition(keys, "require");
    if tables.is_empty() {
        for key in ["order", "within", "require"] {
            if let Some(value) = keys.value(key) {
                let with = "a record without `part`".to_string();
                keys.problem(value.span(), ProblemKind::Conflict { key, with });
            }
        }
        return None;
    }
    let read = |(table, span): (&DeTable<'_>, Range<usize>)| {
        let mut inner = Keys::new(table, span.clone(), "`[[record.KIND.part]]`", keys.problems);
        let name = inner.name("name");
        let repeat = inner.word("repeat", "way to come", &Repeat::WORDS).unwrap_or_default();
        let until = inner.texts("until");
        let layout = read_layout(&mut inner, Spanned { span, value: kind.value.clone() });
        inner.done();
        Part { name, repeat, until, layout }
    };
    let parts = tables.into_iter().take(limits::KINDS).map(read).collect();
    Some(Block { parts, any_order: any_order.unwrap_or(false), within, require })
}

/// The tables of a table by their names.
pub(super) fn named<'t>(
    keys: &mut Keys<'t, '_>,
    key: &'static str,
    what: &'static str,
) -> Vec<(Spanned<String>, &'t DeTable<'t>)> {
    let Some((table, _)) = keys.table(key) else { return Vec::new() };
    let entries = in_file_order(table);
    if let Some((name, _)) = entries.get(limits::KINDS) {
        let kind = ProblemKind::TooMany { what, found: entries.len(), limit: limits::KINDS };
        keys.problem(name.span.clone(), kind);
    }
    let mut named = Vec::new();
    for (name, value) in entries.into_iter().take(limits::KINDS) {
        let Some(name) = keys.checked_name(name) else { continue };
        match value.get_ref() {
            DeValue::Table(table) => named.push((name, table)),
            _ => keys.wrong(&name.value, "a table", value),
        }
    }
    named
}

pub(super) fn read_exchanges(keys: &mut Keys<'_, '_>) -> Vec<Exchange> {
    let mut exchanges = Vec::new();
    for (name, table) in named(keys, "exchange", "exchanges") {
        let mut inner = Keys::new(table, name.span.clone(), "`[exchange.NAME]`", keys.problems);
        let exchange = Exchange {
            title: inner.text("title").map(|title| title.value),
            asks: read_sides(&mut inner, "ask", &name),
            answers: read_sides(&mut inner, "answers", &name),
            errors: read_sides(&mut inner, "errors", &name),
            key: inner.texts("key"),
            within: read_span(&mut inner, "within"),
            unique: read_unique(&mut inner),
            open: read_open(&mut inner),
            echo: inner.flag("echo"),
            latest: read_latest(&mut inner),
            name,
        };
        if exchange.asks.is_empty() {
            inner.missing("ask");
        }
        if exchange.answers.is_empty() {
            inner.missing("answers");
        }
        inner.done();
        exchanges.push(exchange);
    }
    exchanges
}

/// Names of kinds, or records that are declared in place; one stands by itself.
fn read_sides(keys: &mut Keys<'_, '_>, key: &'static str, name: &Spanned<String>) -> Vec<Side> {
    let Some(value) = keys.value(key) else { return Vec::new() };
    let items = match value.get_ref() {
        DeValue::Array(items) => items.iter().collect(),
        _ => [value].to_vec(),
    };
    let mut sides = Vec::new();
    for item in items.into_iter().take(limits::KINDS) {
        match item.get_ref() {
            DeValue::String(text) => {
                sides.push(Side::Kind(Spanned { span: item.span(), value: text.clone().into_owned() }));
            }
            DeValue::Table(table) => {
                let span = item.span();
                let mut inner = Keys::new(table, span.clone(), "a question or an answer", keys.problems);
                let record = read_layout(&mut inner, Spanned { span, value: name.value.clone() });
                inner.done();
                sides.push(Side::Own(Box::new(record)));
            }
            _ => keys.wrong(key, "the name of a record, or what one is declared by", item),
        }
    }
    sides
}

pub(super) fn read_merges(keys: &mut Keys<'_, '_>) -> Vec<Merge> {
    let mut merges = Vec::new();
    for (name, table) in named(keys, "merge", "merges") {
        let mut inner = Keys::new(table, name.span.clone(), "`[merge.NAME]`", keys.problems);
        let merge = Merge {
            title: inner.text("title").map(|title| title.value),
            of: inner.texts("of"),
            key: inner.texts("key"),
            complete: read_condition(&mut inner, "complete"),
            within: read_span(&mut inner, "within"),
            open: read_open(&mut inner),
            latest: read_latest(&mut inner),
            name,
        };
        if merge.of.is_empty() {
            inner.missing("of");
        }
        if merge.key.is_empty() {
            inner.missing("key");
        }
        inner.done();
        merges.push(merge);
    }
    merges
}

pub(super) fn read_multiparts(keys: &mut Keys<'_, '_>) -> Vec<Multipart> {
    let mut multiparts = Vec::new();
    for (name, table) in named(keys, "multipart", "multiparts") {
        let mut inner = Keys::new(table, name.span.clone(), "`[multipart.NAME]`", keys.problems);
        let [of, part, parts] = ["of", "part", "parts"].map(|key| inner.required_text(key));
        let title = inner.text("title").map(|title| title.value);
        let (key, join) = (inner.texts("key"), inner.texts("join"));
        let unique = read_unique(&mut inner);
        let (within, latest) = (read_span(&mut inner, "within"), read_latest(&mut inner));
        inner.done();
        if let (Some(of), Some(part), Some(parts)) = (of, part, parts) {
            multiparts.push(Multipart { name, title, of, part, parts, key, unique, join, within, latest });
        }
    }
    multiparts
}

pub(super) fn read_latest(keys: &mut Keys<'_, '_>) -> Vec<Latest> {
    let mut latest = Vec::new();
    for (table, span) in keys.tables("latest") {
        let mut inner = Keys::new(table, span.clone(), "`latest`", keys.problems);
        let (of, name) = (inner.required_text("of"), inner.name("name"));
        let title = inner.text("title").map(|title| title.value);
        let tag = inner.text("tag").map(|tag| tag.value);
        let within = read_span(&mut inner, "within");
        inner.done();
        let Some(of) = of else { continue };
        match name {
            Some(name) => latest.push(Latest { span, name, title, tag, of, within }),
            None => keys.problem(span, ProblemKind::MissingKey { key: "name", table: "`latest`" }),
        }
    }
    latest
}

/// `unique`, which says something of a key.
fn read_unique(keys: &mut Keys<'_, '_>) -> bool {
    let unique = keys.flag("unique");
    let has_key = keys.value("key").is_some();
    if let Some(value) = keys.value("unique").filter(|_| unique && !has_key) {
        let with = "what has no `key`".to_string();
        keys.problem(value.span(), ProblemKind::Conflict { key: "unique", with });
    }
    unique
}

fn read_open(keys: &mut Keys<'_, '_>) -> Option<usize> {
    keys.within("open", 1, limits::OPEN as i64).map(|open| open.value as usize)
}

/// A time such as `10 s`.
pub(super) fn read_span(keys: &mut Keys<'_, '_>, key: &'static str) -> Option<Span> {
    let text = keys.text(key)?;
    let span = span(&text.value);
    if span.is_none() {
        let found = alloc::format!("the text \"{}\"", text.value.escape_debug());
        let kind = ProblemKind::WrongValue { key: key.to_string(), expected: "a time such as \"10 s\"", found };
        keys.problem(text.span, kind);
    }
    span
}

fn span(text: &str) -> Option<Span> {
    let (number, unit) = text.split_once(' ')?;
    let conversion = unit::conversion(unit.trim(), "s")?;
    let number = Decimal::parse(number.as_bytes())?;
    let seconds = number.convert(conversion.numerator, conversion.denominator, conversion.addend, 9)?;
    let nanoseconds = i64::try_from(seconds.coefficient()).ok().filter(|&nanoseconds| nanoseconds > 0)?;
    Some(Span::from_nanoseconds(nanoseconds))
}

/// A record with what is declared beside its layout: parts and copied fields.
pub(super) fn read_beside_layout(keys: &mut Keys<'_, '_>, record: &mut Record) {
    record.block = read_block(keys, &record.kind);
    record.latest = read_latest(keys);
}
