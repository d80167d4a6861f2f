//! The summary of a conversion: the ledger in words, and the same as JSON.

use serde_json::{Value, json};
use usus::quality::{Class, FieldQualities};
use usus::{Ledger, Plan, Time, ValueType};
use usus_io::{Torn, received_text};

use crate::arguments::Account;
use crate::ledgers::Ledgers;
use crate::safe::{Safe, hex, printable};
use crate::tally::{Group, Sample, Seen};
use crate::voice::Voice;

/// What is known of one source when it has been converted.
pub(crate) struct Summary<'s> {
    pub(crate) source: &'s str,
    pub(crate) plan: &'s Plan,
    pub(crate) ledgers: &'s Ledgers,
    pub(crate) seen: &'s Seen,
    pub(crate) times: Option<(Time, Time)>,
    pub(crate) has_times: bool,
    pub(crate) torn: Option<Torn>,
    pub(crate) stopped: bool,
}

impl Summary<'_> {
    /// The summary for people, as long as they want it.
    pub(crate) fn said(&self, voice: &Voice) -> String {
        if voice.account() == Account::Brief { self.brief() } else { self.text() }
    }

    /// The summary for people, harmless for a terminal.
    pub(crate) fn text(&self) -> String {
        let mut text = format!("{}: {} bytes", Safe(self.source), grouped(self.ledgers.lines.total));
        text += if self.stopped { ", stopped before the end\n" } else { "\n" };
        account(&mut text, "", &self.ledgers.lines, &self.records(&self.ledgers.lines.records));
        for (field, ledger) in &self.ledgers.inside {
            text += &format!("  inside {field}: {} bytes\n", grouped(ledger.total));
            account(&mut text, "  ", ledger, &self.records(&ledger.records));
        }
        self.groups(&mut text, "rejects", &self.seen.rejects);
        self.groups(&mut text, "clipped", &self.seen.clipped);
        self.qualities(&mut text);
        self.notices(&mut text);
        self.time(&mut text);
        if let Some(torn) = self.torn {
            text += &format!(
                "  the capture's end is torn: {} bytes from byte {} of the file on could not be read\n",
                grouped(torn.bytes),
                grouped(torn.at)
            );
        }
        text.truncate(text.trim_end().len());
        text
    }

    fn records(&self, records: &[u64]) -> String {
        let total: u64 = records.iter().sum();
        let kinds = self.plan.schema().kinds.iter().zip(records).filter(|(_, count)| **count > 0);
        let kinds: Vec<String> = kinds
            .map(|(kind, count)| {
                let left_out = if kind.wanted { "" } else { " (not wanted)" };
                format!("{} {}{left_out}", kind.name, grouped(*count))
            })
            .collect();
        match kinds.len() {
            0 => "no records".to_owned(),
            _ => format!("{}: {}", plural(total, "record"), kinds.join(", ")),
        }
    }

    fn groups(&self, text: &mut String, what: &str, groups: &[Group]) {
        if groups.is_empty() {
            return;
        }
        *text += &format!("  {what} by reason, the first of each:\n");
        for group in groups {
            *text += &format!("    {}: {}, {}\n", group.name(), times(group.count), plural(group.bytes, "byte"));
            for sample in &group.samples {
                *text += &sample_text(sample);
            }
        }
    }

    /// Values that were none, or make no sense: for each field, with the first of each.
    fn qualities(&self, text: &mut String) {
        let mut head = Some("  values that are not plain, the first of each:\n");
        for field in self.seen.qualities.iter() {
            *text += head.take().unwrap_or_default();
            for (class, seen) in &field.seen {
                let what = match class {
                    Class::OutOfRange => "out of range",
                    Class::Invalid => "not a value of its type",
                    Class::InvalidText => "not text in its encoding",
                    Class::NotFinite => "not a finite number",
                    _ => "marked as no data",
                };
                *text += &format!(
                    "    {}.{}: {} of {} {what}, at {}: {}\n",
                    field.record,
                    field.field,
                    grouped(seen.count),
                    grouped(field.readings),
                    grouped(seen.offset),
                    Safe(&short(&seen.first))
                );
            }
        }
    }

    /// The account in one line.
    pub(crate) fn brief(&self) -> String {
        let ledger = &self.ledgers.lines;
        let records: u64 = self.ledgers.records().iter().sum();
        let mut text = format!(
            "{}: {}, {}, {} ({} rejected)",
            Safe(self.source),
            plural(ledger.total, "byte"),
            plural(records, "record"),
            plural(ledger.rejects, "reject"),
            plural(ledger.rejected, "byte"),
        );
        let (mut unusable, mut losses) = (0, String::new());
        for field in self.seen.qualities.iter() {
            unusable +=
                field.seen.iter().filter(|(class, _)| *class != Class::Marked).map(|(_, seen)| seen.count).sum::<u64>();
        }
        if ledger.losses + ledger.faults > 0 {
            losses = format!(", {}, {}", plural(ledger.losses, "loss"), plural(ledger.faults, "faulty character"));
        }
        text += &losses;
        if unusable > 0 {
            text += &format!(", {} invalid or out of range", plural(unusable, "value"));
        }
        text
    }

    fn qualities_json(&self) -> Value {
        let field = |field: FieldQualities<'_>| {
            let seen = field.seen.iter().map(|(class, seen)| {
                (class.word().to_owned(), json!({"count": seen.count, "offset": seen.offset, "first": seen.first}))
            });
            json!({
                "record": field.record, "field": field.field, "readings": field.readings,
                "seen": seen.collect::<serde_json::Map<String, Value>>(),
            })
        };
        self.seen.qualities.iter().map(field).collect()
    }

    fn notices(&self, text: &mut String) {
        for group in &self.seen.notices {
            let first = group.samples.first();
            let which = if group.count == 1 { "" } else { "the first " };
            let first = first.map(|sample| format!(", {which}at {}: {}", grouped(sample.offset), Safe(&sample.detail)));
            *text += &format!("  noticed: {}, {}{}\n", group.name(), times(group.count), first.unwrap_or_default());
        }
    }

    /// When it was received, or why that is not known.
    fn time(&self, text: &mut String) {
        if let Some((first, last)) = self.times {
            let seconds = last.since(first).nanoseconds() as f64 / 1e9;
            *text += &format!("  received {} to {}", received_text(first, 3), received_text(last, 3));
            let records: u64 = self.ledgers.records().iter().sum();
            if seconds > 0.0 {
                let rate = |count: u64| count as f64 / seconds;
                *text += &format!(
                    ", {seconds:.1} s: {:.1} records and {:.0} bytes a second",
                    rate(records),
                    rate(self.ledgers.lines.total)
                );
            }
            text.push('\n');
        } else if !self.has_times && self.ledgers.lines.total > 0 {
            *text += "  no times of arrival: raw bytes carry none (captures do)";
            let fields = self.own_times();
            if !fields.is_empty() {
                *text += &format!("; the device's own time is in {}", fields.join(", "));
            }
            text.push('\n');
        }
    }

    /// Fields of the records seen that hold a time or a date of the device.
    fn own_times(&self) -> Vec<String> {
        let records = self.ledgers.records();
        let seen = self.plan.schema().kinds.iter().zip(records).filter(|(_, count)| *count > 0);
        seen.flat_map(|(kind, _)| {
            let timed = |value_type| matches!(value_type, ValueType::Clock | ValueType::Date | ValueType::DateTime);
            kind.fields
                .iter()
                .filter(move |field| timed(field.value_type))
                .map(|field| format!("{}.{}", kind.name, field.name))
        })
        .collect()
    }

    /// The summary for programs.
    pub(crate) fn json(&self) -> Value {
        let ledger = &self.ledgers.lines;
        let kinds = self.plan.schema().kinds.iter().zip(self.ledgers.records());
        let records: serde_json::Map<String, Value> =
            kinds.map(|(kind, count)| (kind.name.clone(), count.into())).collect();
        let ignored: serde_json::Map<String, Value> =
            ledger.ignored_by.iter().map(|(name, count)| (name.clone(), (*count).into())).collect();
        let mut data = json!({
            "summary": self.source,
            "stopped": self.stopped,
            "bytes": bytes_json(ledger),
            "records": records,
            "ignored_frames": ledger.ignored_frames,
            "ignored_by": ignored,
            "ignored_by_others": ledger.ignored_by_others,
            "losses": ledger.losses,
            "faults": ledger.faults,
            "rejects": groups_json(&self.seen.rejects),
            "clipped": groups_json(&self.seen.clipped),
            "notices": groups_json(&self.seen.notices),
            "qualities": self.qualities_json(),
            "received": self.times.map(|(first, last)| [received_text(first, 9), received_text(last, 9)]),
            "torn": self.torn.map(|torn| json!({"at": torn.at, "bytes": torn.bytes})),
        });
        if !self.ledgers.inside.is_empty() {
            data["inside"] =
                self.ledgers.inside.iter().map(inside_json).collect::<serde_json::Map<String, Value>>().into();
        }
        data
    }
}

/// The account: a row for each class that has bytes; records always.
fn account(text: &mut String, indent: &str, ledger: &Ledger, records: &str) {
    let rows = [
        ("recorded", ledger.recorded, records.to_owned()),
        ("ignored", ledger.ignored, ignored(ledger)),
        ("filler", ledger.filler, String::new()),
        ("clipped", ledger.clipped, plural(ledger.clips, "piece")),
        ("rejected", ledger.rejected, plural(ledger.rejects, "reject")),
        ("pending", ledger.pending, String::new()),
    ];
    for (class, bytes, detail) in rows {
        if bytes > 0 || class == "recorded" {
            let share = percent(bytes, ledger.total);
            let row = format!("{indent}  {class:<9}{:>14} {share:>8}   {detail}", grouped(bytes));
            *text += &format!("{}\n", row.trim_end());
        }
    }
    let faults = plural(ledger.faults, "faulty character");
    match (ledger.losses, indent) {
        (0, _) if ledger.faults == 0 => {}
        (losses, "") => *text += &format!("  the source reported {} and {faults}\n", plural(losses, "loss")),
        // What is missing around it.
        (losses, _) => *text += &format!("{indent}  {} of what is around it\n", plural(losses, "loss")),
    }
}

fn ignored(ledger: &Ledger) -> String {
    let mut names: Vec<_> = ledger.ignored_by.iter().collect();
    names.sort_by(|(name, count), (other_name, other_count)| other_count.cmp(count).then(name.cmp(other_name)));
    let mut shown: Vec<String> =
        names.iter().take(8).map(|(name, count)| format!("{} {}", Safe(name), grouped(*count))).collect();
    let others: u64 = names.iter().skip(8).map(|(_, count)| count).sum::<u64>() + ledger.ignored_by_others;
    if others > 0 {
        shown.push(format!("others {}", grouped(others)));
    }
    let frames = plural(ledger.ignored_frames, "frame");
    if shown.is_empty() { frames } else { format!("{frames}: {}", shown.join(", ")) }
}

fn bytes_json(ledger: &Ledger) -> Value {
    json!({
        "total": ledger.total, "recorded": ledger.recorded, "ignored": ledger.ignored, "filler": ledger.filler,
        "clipped": ledger.clipped, "rejected": ledger.rejected, "pending": ledger.pending,
    })
}

fn inside_json((field, ledger): &(String, Ledger)) -> (String, Value) {
    (field.clone(), json!({"bytes": bytes_json(ledger), "losses": ledger.losses}))
}

/// A text of which a person wants to see no more than the beginning.
fn short(text: &str) -> String {
    match text.char_indices().nth(40) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}

fn sample_text(sample: &Sample) -> String {
    let bytes = plural(sample.length, "byte");
    let candidates = match sample.candidates {
        0 | 1 => String::new(),
        more => format!(" (the first of {} candidates)", grouped(more.into())),
    };
    let mut text = format!("      at {}, {bytes}: {}{candidates}\n", grouped(sample.offset), Safe(&sample.detail));
    let cut = if sample.length > sample.bytes.len() as u64 { " …" } else { "" };
    text += &format!("        {}{cut}  |{}|\n", hex(&sample.bytes), printable(&sample.bytes));
    text
}

fn groups_json(groups: &[Group]) -> Value {
    let group = |group: &Group| {
        let samples: Vec<Value> = group
            .samples
            .iter()
            .map(|sample| {
                json!({
                    "offset": sample.offset, "length": sample.length, "candidates": sample.candidates,
                    "detail": sample.detail, "hex": hex(&sample.bytes),
                })
            })
            .collect();
        let mut data = json!({"reason": group.word, "count": group.count, "bytes": group.bytes, "first": samples});
        if let Some(field) = &group.inside {
            data["inside"] = (**field).into();
        }
        data
    };
    groups.iter().map(group).collect()
}

/// A number with its digits in groups of three.
pub(crate) fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

pub(crate) fn plural(number: u64, noun: &str) -> String {
    let ending = match (number, noun.ends_with('s')) {
        (1, _) => "",
        (_, true) => "es",
        _ => "s",
    };
    format!("{} {noun}{ending}", grouped(number))
}

fn times(count: u64) -> String {
    match count {
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        more => format!("{} times", grouped(more)),
    }
}

fn percent(part: u64, whole: u64) -> String {
    match whole {
        0 => String::new(),
        _ => format!("{:.2} %", part as f64 * 100.0 / whole as f64),
    }
}
