//! `usus compare`: what has changed between two conversions of the same bytes.

mod difference;
mod rows;

use serde_json::{Map, Value, json};

use crate::Ending;
use crate::arguments::Compare;
use crate::safe::Safe;
use crate::summary::grouped;
use crate::voice::Voice;
use difference::{Count, Difference, Field, Kind};
use rows::{Converted, open};

pub(crate) fn run(arguments: &Compare, voice: &Voice) -> Ending {
    let compared = compare(arguments);
    match compared {
        Ok(difference) => {
            let text =
                if arguments.json { format!("{:#}\n", in_json(&difference)) } else { in_words(arguments, &difference) };
            crate::check::print(&text, voice)
        }
        Err(text) => {
            voice.fail(&Safe(&text).to_string());
            Ending::Failed
        }
    }
}

fn compare(arguments: &Compare) -> Result<Difference, String> {
    let mut difference = Difference::default();
    match (open(&arguments.old)?, open(&arguments.new)?) {
        (Converted::Mixed(old), Converted::Mixed(new)) => difference.read(Some(old), Some(new))?,
        (Converted::Tables(mut old), Converted::Tables(mut new)) => {
            let names: Vec<String> =
                old.keys().chain(new.keys().filter(|name| !old.contains_key(*name))).cloned().collect();
            for name in names {
                difference.read(old.remove(&name), new.remove(&name))?;
            }
        }
        _ => return Err("two conversions are compared of which both are JSON Lines, or both tables".to_owned()),
    }
    Ok(difference)
}

fn share(count: u64, all: u64) -> String {
    match all {
        0 => String::new(),
        all => format!("{:.1} %", count as f64 * 100.0 / all as f64),
    }
}

fn place(stream: &(String, String), offset: u64) -> String {
    let words = [stream.0.as_str(), stream.1.as_str()].into_iter().filter(|word| !word.is_empty());
    let words = words.map(|word| Safe(word).to_string()).collect::<Vec<_>>().join(", ");
    let of = if words.is_empty() { String::new() } else { format!(" ({words})") };
    format!("at {}{of}", grouped(offset))
}

fn value(value: &Option<String>) -> String {
    match value {
        None => "nothing".to_owned(),
        Some(text) if text.chars().count() > 40 => format!("{}…", Safe(&text.chars().take(39).collect::<String>())),
        Some(text) => Safe(text).to_string(),
    }
}

fn in_words(arguments: &Compare, difference: &Difference) -> String {
    let (old, new) = (arguments.old.display().to_string(), arguments.new.display().to_string());
    let mut text = format!("{} before, {} after\n", Safe(&old), Safe(&new));
    let same = difference.kinds.values().all(|kind| kind.is_same());
    if same {
        let rows: u64 = difference.kinds.values().map(|kind| kind.rows[0]).sum();
        return text + &format!("all {} rows are the same\n", grouped(rows));
    }
    for (name, kind) in &difference.kinds {
        let both = kind.rows[0] - kind.alone[0].count;
        text += &format!("\n{}: {} rows before, {} after", Safe(name), grouped(kind.rows[0]), grouped(kind.rows[1]));
        if kind.is_same() {
            text += ": the same\n";
            continue;
        }
        text.push('\n');
        for (side, what) in [(0, "are gone"), (1, "are new")] {
            let Count { count, first } = &kind.alone[side];
            if let Some((stream, offset)) = first {
                let of = share(*count, kind.rows[side]);
                text += &format!("  {} {what} ({of}), the first {}\n", grouped(*count), place(stream, *offset));
            }
        }
        if kind.changed > 0 {
            text +=
                &format!("  {} of {} changed ({})\n", grouped(kind.changed), grouped(both), share(kind.changed, both));
        }
        text += &fields_in_words(kind, both);
    }
    text
}

/// `both` are the rows that both sides have.
fn fields_in_words(kind: &Kind, both: u64) -> String {
    let changed: Vec<(&String, &Field)> = kind.fields.iter().filter(|(_, field)| !field.is_same()).collect();
    let width = changed.iter().map(|(name, _)| Safe(name).to_string().chars().count()).max().unwrap_or(0);
    let mut text = String::new();
    for (name, field) in changed {
        let name = Safe(name).to_string();
        let mut told = Vec::new();
        if let Some((stream, offset, [before, after])) = &field.first {
            told.push(format!(
                "{} ({}), the first {}: {} → {}",
                grouped(field.changed),
                share(field.changed, if name.starts_with("quality of ") { both } else { field.rows }),
                place(stream, *offset),
                value(before),
                value(after)
            ));
        }
        told.extend((field.alone[0] > 0).then(|| "it is gone".to_owned()));
        told.extend((field.alone[1] > 0).then(|| "it is new".to_owned()));
        text += &format!("    {name:<width$}  {}\n", told.join("; "));
    }
    text
}

fn in_json(difference: &Difference) -> Value {
    let alone = |count: &Count| json!({"count": count.count, "first": count.first.as_ref().map(|(stream, offset)| at(stream, *offset))});
    let kinds: Map<String, Value> = difference
        .kinds
        .iter()
        .map(|(name, kind)| {
            let fields: Map<String, Value> = kind
                .fields
                .iter()
                .filter(|(_, field)| !field.is_same())
                .map(|(name, field)| {
                    let first = field.first.as_ref().map(|(stream, offset, [before, after])| {
                        let mut first = at(stream, *offset);
                        (first["before"], first["after"]) = (before.clone().into(), after.clone().into());
                        first
                    });
                    let told = json!({
                        "rows": field.rows, "changed": field.changed, "first": first,
                        "gone": field.alone[0] > 0, "new": field.alone[1] > 0,
                    });
                    (name.clone(), told)
                })
                .collect();
            let told = json!({
                "before": kind.rows[0], "after": kind.rows[1], "changed": kind.changed,
                "gone": alone(&kind.alone[0]), "new": alone(&kind.alone[1]), "fields": fields,
            });
            (name.clone(), told)
        })
        .collect();
    json!({"same": difference.kinds.values().all(Kind::is_same), "kinds": kinds})
}

fn at(stream: &(String, String), offset: u64) -> Value {
    json!({"source": stream.0, "line": stream.1, "offset": offset})
}

impl Kind {
    fn is_same(&self) -> bool {
        self.changed == 0 && self.alone.iter().all(|alone| alone.count == 0) && self.fields.values().all(Field::is_same)
    }
}

impl Field {
    fn is_same(&self) -> bool {
        self.changed == 0 && self.alone == [0, 0]
    }
}
