//! A survey in words and tables.

use usus::bus::{Register, Survey, Unit, Wide, exception};
use usus::format::Table;
use usus::survey::Spread;

use super::Hearing;
use crate::check::table;
use crate::safe::Safe;
use crate::summary::{grouped, plural};

pub(super) fn of(heard: &Hearing, name: &str, shows_pairs: bool) -> String {
    let Hearing { survey, serial, bytes, .. } = heard;
    let (messages, others) = survey.bytes();
    let mut text = format!("{}: {}", Safe(name), plural(*bytes, "byte"));
    if let Some(duration) = survey.duration() {
        text += &format!(" in {}", span(duration.nanoseconds() / 1_000));
    }
    text += &serial.map(|serial| format!(", {serial}")).unwrap_or_default();
    text += &survey
        .share(messages)
        .map(|share| format!(", {} of the time something is sent", percent(share)))
        .unwrap_or_default();
    text.push('\n');
    if others > 0 {
        text += &format!(
            "{} are in no transaction: noise, damage, or messages without their other half\n",
            plural(others, "byte")
        );
    }
    if survey.times().is_none() {
        text += "no times: raw bytes carry none, and what only times tell apart is unclear (captures have them)\n";
    }
    let is_answered =
        survey.units().iter().any(|(id, unit)| *id > 0 && (unit.answered > 0 || !unit.refused.is_empty()));
    if !is_answered && survey.strays() > 0 {
        text += &format!("{} to requests that were not heard\n", plural(survey.strays(), "answer"));
    }
    if survey.units().is_empty() {
        return text + "there is no transaction on it\n";
    }
    if !is_answered {
        text += "nothing is answered: where requests and answers have a wire each, --requests and --answers say which is which\n";
    }
    text += "\nunits\n";
    text += &units(survey);
    text += &polls(survey, false);
    text += &polls(survey, true);
    text += &registers(survey);
    if shows_pairs {
        text += &pairs(survey);
    }
    text += &map(survey);
    text
}

/// What a unit is called.
pub(super) fn unit_name(id: u8) -> String {
    if id == 0 { "all".to_owned() } else { id.to_string() }
}

fn units(survey: &Survey) -> String {
    let row = |(id, unit): (&u8, &Unit)| {
        let refused = unit.refused.iter().map(|(code, times)| {
            let name = exception(*code).map_or_else(|| format!("exception {code}"), str::to_owned);
            format!("{} {name}", grouped(*times))
        });
        let latency = unit.latency();
        let [median, least, most] = match latency {
            Some(latency) => [latency.median, latency.least, latency.most].map(milliseconds),
            None => Default::default(),
        };
        [
            unit_name(*id),
            grouped(unit.requests),
            grouped(unit.answered),
            grouped(unit.unanswered),
            grouped(unit.damaged),
            grouped(unit.unclear),
            grouped(unit.retries),
            grouped(unit.strays),
            median,
            least,
            most,
            refused.collect::<Vec<_>>().join(", "),
        ]
    };
    let head = [
        "unit",
        "requests",
        "answered",
        "no answer",
        "damaged",
        "unclear",
        "repeated",
        "stray",
        "latency ms",
        "least",
        "most",
        "refused",
    ];
    table(head, survey.units().iter().map(row))
}

fn polls(survey: &Survey, writes: bool) -> String {
    let rows = survey.units().iter().flat_map(|(id, unit)| {
        unit.polls.iter().filter(|(_, poll)| poll.writes == writes).map(move |(asked, poll)| {
            let range = match (asked.address, asked.count) {
                (None, _) => String::new(),
                (Some(address), 0 | 1) => address.to_string(),
                (Some(address), count) => format!("{address}-{}", u32::from(address) + u32::from(count) - 1),
            };
            let [every, least, most] = match poll.period() {
                Some(period) => [period.median, period.least, period.most].map(span),
                None => Default::default(),
            };
            let share = survey.share(poll.bytes).map(percent).unwrap_or_default();
            let last = match asked.address {
                Some(address) if writes => last(unit, &asked.name(), address, asked.count),
                _ => String::new(),
            };
            [
                unit_name(*id),
                asked.name(),
                range,
                grouped(poll.requests),
                grouped(poll.answered),
                grouped(poll.refused),
                every,
                least,
                most,
                share,
                last,
            ]
        })
    });
    let rows: Vec<[String; 11]> = rows.collect();
    if rows.is_empty() {
        return String::new();
    }
    let (title, last) = if writes { ("writes", "last") } else { ("polls", "") };
    let head =
        ["unit", "function", "range", "requests", "answered", "refused", "every", "least", "most", "bus time", last];
    let others: u64 = survey.units().values().map(|unit| unit.others).sum();
    let more = match others {
        0 => String::new(),
        others => format!("  {} of others, which are too many to be followed\n", plural(others, "request")),
    };
    format!("\n{title}\n{}{}", table(head, rows.into_iter()), if writes { String::new() } else { more })
}

/// What stands in a range that was written.
fn last(unit: &Unit, function: &str, address: u16, count: u16) -> String {
    let of = if function.contains("coil") { Table::Coil } else { Table::HoldingRegister };
    let values = (0..count.min(8)).filter_map(|next| unit.registers.get(&(of, address.checked_add(next)?)));
    let mut text = values.map(|register| register.last.to_string()).collect::<Vec<_>>().join(" ");
    if count > 8 {
        text += " …";
    }
    text
}

fn registers(survey: &Survey) -> String {
    let mut rows: Vec<[String; 11]> = Vec::new();
    let names = survey.names();
    for (id, unit) in survey.units() {
        let mut behind_wide = None;
        for ((of, address), register) in &unit.registers {
            let is_second = behind_wide.take() == Some((*of, *address));
            let wide = register.likely().filter(|_| !is_second);
            behind_wide = wide.and_then(|_| Some((*of, address.checked_add(1)?)));
            let points = names.get(&(*id, *of, *address)).into_iter().flatten();
            let points: Vec<&str> = points.map(|(_, name)| *name).collect();
            let is_part = is_second || wide.is_some();
            let signed = match register.least_signed < 0 && !of.is_bits() && !is_part {
                true => (register.last as i16).to_string(),
                false => String::new(),
            };
            rows.push([
                unit_name(*id),
                of.word().to_owned(),
                address.to_string(),
                of.reference(*address).to_string(),
                register.last.to_string(),
                signed,
                if of.is_bits() { String::new() } else { format!("{:04X}", register.last) },
                register
                    .text()
                    .filter(|_| !is_part)
                    .map(|text| Safe(&text.iter().collect::<String>()).to_string())
                    .unwrap_or_default(),
                if is_second { String::new() } else { changes(register, is_part) },
                wide.map(|wide| wide_text(register, wide)).unwrap_or_default(),
                points.join(", "),
            ]);
        }
    }
    if rows.is_empty() {
        return String::new();
    }
    let head =
        ["unit", "table", "address", "in sheets", "last", "signed", "hex", "text", "changes", "with the next", "point"];
    format!("\nregisters\n{}", table(head, rows.into_iter()))
}

fn changes(register: &Register, is_part: bool) -> String {
    match register.changes {
        0 => "none".to_owned(),
        // Of a half of a number the least and the greatest say nothing.
        changes if is_part => grouped(changes),
        changes if register.least_signed < 0 && register.most_signed > 0 => {
            format!("{}: {} to {}", grouped(changes), register.least_signed, register.most_signed)
        }
        changes => format!("{}: {} to {}", grouped(changes), register.least, register.most),
    }
}

/// Each two registers side by side as one number, as all that it can be. What is likely is marked.
fn pairs(survey: &Survey) -> String {
    let rows = survey.units().iter().flat_map(|(id, unit)| {
        unit.registers.iter().filter_map(move |((of, address), register)| {
            let likely = register.likely();
            let cells = Wide::all().map(|wide| {
                let mark = if likely == Some(wide) { "*" } else { "" };
                Some(format!("{}{mark}", number_text(register.wide(wide)?, wide)))
            });
            let place = [unit_name(*id), of.word().to_owned(), address.to_string()].map(Some);
            let row: Vec<String> = place.into_iter().chain(cells).collect::<Option<_>>()?;
            <[String; 11]>::try_from(row).ok()
        })
    });
    let rows: Vec<[String; 11]> = rows.collect();
    if rows.is_empty() {
        return String::new();
    }
    let types: Vec<String> = Wide::all().map(Wide::type_word).collect();
    let mut head = ["unit", "table", "address"].into_iter().chain(types.iter().map(String::as_str));
    let head: [&str; 11] = std::array::from_fn(|_| head.next().unwrap_or_default());
    format!("\nregisters with the next, as one number (* is likely)\n{}", table(head, rows.into_iter()))
}

fn number_text(number: u32, wide: Wide) -> String {
    let float = f32::from_bits(number);
    match wide.is_float {
        false => number.to_string(),
        true if float == 0.0 || (1e-4..1e9).contains(&float.abs()) => float.to_string(),
        true => format!("{float:.3e}"),
    }
}

/// What two registers are together, and as which type.
fn wide_text(register: &Register, wide: Wide) -> String {
    let Some(number) = register.wide(wide) else { return String::new() };
    format!("{} ({})", number_text(number, wide), wide.type_word())
}

/// What a map says that was not seen, and what was seen that it does not say.
fn map(survey: &Survey) -> String {
    if !survey.has_points() {
        return String::new();
    }
    let (mut text, names) = (String::new(), survey.names());
    for (id, unit) in survey.units().iter().filter(|(id, _)| **id > 0) {
        let unnamed = unit.registers.keys().filter(|(of, address)| !names.contains_key(&(*id, *of, *address)));
        for (of, first, last) in ranges(unnamed) {
            text += &format!("  unit {id}, {} {}\n", of.word(), range(first, last));
        }
    }
    let mut text = match text.is_empty() {
        true => "\nall registers that were seen are in the map\n".to_owned(),
        false => format!("\nseen, and not in the map\n{text}"),
    };
    let missing = survey.never_seen();
    if !missing.is_empty() {
        text += "\nin the map, and never seen\n";
    }
    for point in missing {
        let names: Vec<String> = point.names.iter().map(|(record, name)| format!("{record}.{name}")).collect();
        let last = usize::from(point.address) + point.registers - 1;
        let range = range(point.address, last as u16);
        text += &format!("  unit {}, {} {range}: {}\n", point.unit, point.table.word(), names.join(", "));
    }
    text
}

fn range(first: u16, last: u16) -> String {
    if first == last { first.to_string() } else { format!("{first}-{last}") }
}

/// Addresses that follow one another, as ranges.
fn ranges<'k>(keys: impl Iterator<Item = &'k (Table, u16)>) -> Vec<(Table, u16, u16)> {
    let mut ranges: Vec<(Table, u16, u16)> = Vec::new();
    for (of, address) in keys {
        match ranges.last_mut() {
            Some((last_of, _, last)) if last_of == of && last.checked_add(1) == Some(*address) => *last = *address,
            _ => ranges.push((*of, *address, *address)),
        }
    }
    ranges
}

fn percent(share: f64) -> String {
    format!("{:.1} %", 100.0 * share)
}

/// Microseconds as milliseconds.
fn milliseconds(microseconds: i64) -> String {
    format!("{:.1}", microseconds as f64 / 1_000.0)
}

/// Microseconds as a time that is read easily.
pub(super) fn span(microseconds: i64) -> String {
    let seconds = microseconds as f64 / 1e6;
    match seconds {
        _ if seconds < 1.0 => format!("{} ms", milliseconds(microseconds)),
        _ if seconds < 600.0 => format!("{seconds:.2} s"),
        _ if seconds < 36_000.0 => format!("{:.1} min", seconds / 60.0),
        _ => format!("{:.1} h", seconds / 3_600.0),
    }
}

/// A spread, in microseconds.
pub(super) fn spread_of(spread: Option<Spread>) -> Option<[i64; 3]> {
    spread.map(|spread| [spread.least, spread.median, spread.most])
}
