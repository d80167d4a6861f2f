//! A survey as JSON.

use serde_json::{Value, json};
use usus::bus::{Asked, Names, Poll, Register, Survey, Unit, Wide, exception};
use usus::format::Table;
use usus::survey::Spread;

use super::Hearing;
use super::report::spread_of;

pub(super) fn of(heard: &Hearing, name: &str) -> Value {
    let survey = &heard.survey;
    let (messages, others) = survey.bytes();
    let names = survey.names();
    let units: Vec<Value> = survey.units().iter().map(|(id, unit)| of_unit(survey, &names, *id, unit)).collect();
    let missing = survey.never_seen().into_iter().map(|point| {
        let names: Vec<String> = point.names.iter().map(|(record, name)| format!("{record}.{name}")).collect();
        let (table, address) = (point.table.word(), point.address);
        json!({"unit": point.unit, "table": table, "address": address, "registers": point.registers, "points": names})
    });
    json!({
        "source": name,
        "times": survey.times().map(|(first, last)| [first.to_string(), last.to_string()]),
        "bytes": heard.bytes,
        "bytes_of_messages": messages,
        "other_bytes": others,
        "stray_answers": survey.strays(),
        "busy": survey.share(messages),
        "units": units,
        "never_seen": survey.has_points().then(|| missing.collect::<Vec<_>>()),
    })
}

fn of_unit(survey: &Survey, names: &Names<'_>, id: u8, unit: &Unit) -> Value {
    let refused: serde_json::Map<String, Value> = unit
        .refused
        .iter()
        .map(|(code, times)| (exception(*code).map_or_else(|| code.to_string(), str::to_owned), json!(times)))
        .collect();
    let polls: Vec<Value> = unit.polls.iter().map(|(asked, poll)| of_poll(survey, *asked, poll)).collect();
    let registers: Vec<Value> = unit
        .registers
        .iter()
        .map(|((of, address), register)| of_register(names, id, *of, *address, register))
        .collect();
    json!({
        "unit": id,
        "requests": unit.requests,
        "answered": unit.answered,
        "refused": refused,
        "no_answer": unit.unanswered,
        "checksum_errors": unit.damaged,
        "unclear": unit.unclear,
        "repeated": unit.retries,
        "stray_answers": unit.strays,
        "not_followed": unit.others,
        "latency_us": spread(unit.latency()),
        "polls": polls,
        "registers": registers,
    })
}

fn spread(of: Option<Spread>) -> Value {
    match spread_of(of) {
        Some([least, median, most]) => json!({"least": least, "median": median, "most": most}),
        None => Value::Null,
    }
}

fn of_poll(survey: &Survey, asked: Asked, poll: &Poll) -> Value {
    json!({
        "function": asked.name(),
        "address": asked.address,
        "count": asked.count,
        "writes": poll.writes,
        "requests": poll.requests,
        "answered": poll.answered,
        "refused": poll.refused,
        "bytes": poll.bytes,
        "bus_time": survey.share(poll.bytes),
        "period_us": spread(poll.period()),
    })
}

fn of_register(names: &Names<'_>, id: u8, of: Table, address: u16, register: &Register) -> Value {
    let named: Vec<String> =
        names.get(&(id, of, address)).into_iter().flatten().map(|(record, name)| format!("{record}.{name}")).collect();
    let last = |wide: Wide| {
        let number = register.wide(wide)?;
        Some(if wide.is_float { json!(f32::from_bits(number)) } else { json!(number) })
    };
    let wide = register.likely().and_then(|wide| Some(json!({"type": wide.type_word(), "last": last(wide)?})));
    let all: serde_json::Map<String, Value> =
        Wide::all().filter_map(|wide| Some((wide.type_word(), last(wide)?))).collect();
    json!({
        "table": of.word(),
        "address": address,
        "reference": of.reference(address),
        "points": named,
        "reads": register.reads,
        "writes": register.writes,
        "last": register.last,
        "changes": register.changes,
        "least": register.least,
        "most": register.most,
        "least_signed": register.least_signed,
        "most_signed": register.most_signed,
        "text": register.text().map(|text| text.iter().collect::<String>()),
        "with_the_next": wide,
        "with_the_next_as": all,
    })
}
