//! Writing what declares records of several frames.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::write::{Keys, field, quoted, quoted_key, record, silence, written};
use super::{Exchange, Format, Latest, Merge, Multipart, Part, Point, Record, Repeat, Side, Silence, Spanned, Unit};
use crate::time::Span;

/// What is declared of a record beside its layout; its parts are tables of their own.
pub(super) fn beside_layout(keys: &mut Keys, record: &Record) {
    if let Some(block) = &record.block {
        keys.text("order", block.any_order.then_some("any"));
        within(keys, block.within);
        keys.text("require", block.require.as_ref().map(|require| require.text.as_str()));
    }
    latest(keys, &record.latest);
}

pub(super) fn part(part: &Part) -> Keys {
    let mut keys = Keys::default();
    keys.text("name", written(&part.name));
    let word = Repeat::WORDS.iter().find(|(_, repeat)| *repeat == part.repeat).map(|(word, _)| *word);
    keys.text("repeat", word.filter(|_| part.repeat != Repeat::Once));
    names(&mut keys, "until", &part.until);
    keys.append(record(&part.layout));
    keys
}

/// All tables that stand beside the records.
pub(super) fn all(format: &Format) -> String {
    let mut file = String::new();
    for declared in &format.multiparts {
        file += &table("multipart", &declared.name, multipart(declared));
    }
    for declared in &format.exchanges {
        file += &table("exchange", &declared.name, exchange(declared));
        for (key, sides) in sides(declared) {
            for own in sides.iter().filter_map(Side::own).filter(|_| are_own(sides)) {
                let heading = format!("[[exchange.{}.{key}]]", quoted_key(&declared.name.value));
                file += &format!("\n{heading}\n{}", record(own).lines());
            }
        }
    }
    for declared in &format.units {
        file += &table("unit", &declared.name, unit(declared));
    }
    for declared in &format.merges {
        file += &table("merge", &declared.name, merge(declared));
    }
    file
}

fn table(what: &str, name: &Spanned<String>, keys: Keys) -> String {
    format!("\n[{what}.{}]\n{}", quoted_key(&name.value), keys.lines())
}

fn sides(exchange: &Exchange) -> [(&'static str, &[Side]); 3] {
    [("ask", &exchange.asks), ("answers", &exchange.answers), ("errors", &exchange.errors)]
}

/// Whether all are declared in place, so that each can have a table.
fn are_own(sides: &[Side]) -> bool {
    sides.iter().all(|side| side.own().is_some())
}

fn exchange(exchange: &Exchange) -> Keys {
    let mut keys = Keys::default();
    keys.text("title", exchange.title.as_deref());
    for (key, sides) in sides(exchange).into_iter().filter(|(_, sides)| !are_own(sides)) {
        let one = |side: &Side| match side {
            Side::Kind(name) => quoted(&name.value),
            Side::Own(own) => record(own).inline(),
        };
        keys.list(key, sides.iter().map(one).collect());
    }
    names(&mut keys, "key", &exchange.key);
    within(&mut keys, exchange.within);
    keys.flag("unique", exchange.unique);
    keys.shown("open", exchange.open);
    keys.flag("echo", exchange.echo);
    latest(&mut keys, &exchange.latest);
    keys
}

fn unit(unit: &Unit) -> Keys {
    let mut keys = Keys::default();
    keys.text("title", unit.title.as_deref());
    match &*unit.ids {
        [id] => keys.shown("id", Some(id.value)),
        ids => keys.list("id", ids.iter().map(|id| id.value.to_string()).collect()),
    }
    keys.rows("points", unit.points.iter().map(point));
    latest(&mut keys, &unit.latest);
    keys
}

fn point(point: &Point) -> Keys {
    let mut keys = Keys::default();
    keys.text("table", Some(point.table.word()));
    keys.shown("address", Some(point.address));
    keys.append(field(&point.field));
    within(&mut keys, point.within);
    keys
}

fn merge(merge: &Merge) -> Keys {
    let mut keys = Keys::default();
    keys.text("title", merge.title.as_deref());
    names(&mut keys, "of", &merge.of);
    names(&mut keys, "key", &merge.key);
    keys.text("complete", merge.complete.as_ref().map(|complete| complete.text.as_str()));
    within(&mut keys, merge.within);
    keys.shown("open", merge.open);
    latest(&mut keys, &merge.latest);
    keys
}

fn multipart(multipart: &Multipart) -> Keys {
    let mut keys = Keys::default();
    keys.text("title", multipart.title.as_deref());
    keys.text("of", Some(&multipart.of.value));
    keys.text("part", Some(&multipart.part.value));
    keys.text("parts", Some(&multipart.parts.value));
    names(&mut keys, "key", &multipart.key);
    keys.flag("unique", multipart.unique);
    names(&mut keys, "join", &multipart.join);
    within(&mut keys, multipart.within);
    latest(&mut keys, &multipart.latest);
    keys
}

fn names(keys: &mut Keys, key: &str, names: &[Spanned<String>]) {
    keys.list(key, names.iter().map(|name| quoted(&name.value)).collect());
}

fn within(keys: &mut Keys, within: Option<Span>) {
    keys.text("within", within.map(|within| silence(Silence::Time(within))).as_deref());
}

fn latest(keys: &mut Keys, latest: &[Latest]) {
    if latest.is_empty() {
        return;
    }
    let entry = |latest: &Latest| {
        let mut keys = Keys::default();
        keys.text("name", Some(&latest.name.value));
        keys.text("title", latest.title.as_deref());
        keys.text("tag", latest.tag.as_deref());
        keys.text("of", Some(&latest.of.value));
        within(&mut keys, latest.within);
        keys.inline()
    };
    let entries: Vec<String> = latest.iter().map(entry).collect();
    keys.put("latest", format!("[{}]", entries.join(", ")).to_string());
}
