//! A survey as JSON.

use serde_json::{Value, json};
use usus::bus::{Asked, Poll, Register, Survey, Unit, exception};
use usus::format::Table;
use usus::survey::Spread;

use super::report::spread_of;

pub(super) fn of(survey: &Survey, name: &str) -> Value {
    let (messages, others) = survey.bytes();
    let units: Vec<Value> = survey.units().iter().map(|(id, unit)| of_unit(survey, *id, unit)).collect();
    let missing = survey.never_seen().into_iter().map(|point| {
        let names: Vec<String> = point.names.iter().map(|(record, name)| format!("{record}.{name}")).collect();
        let (table, address) = (point.table.word(), point.address);
        json!({"unit": point.unit, "table": table, "address": address, "registers": point.registers, "points": names})
    });
    json!({
        "source": name,
        "times": survey.times().map(|(first, last)| [first.to_string(), last.to_string()]),
        "bytes_of_messages": messages,
        "other_bytes": others,
        "busy": survey.share(messages),
        "units": units,
        "never_seen": survey.has_points().then(|| missing.collect::<Vec<_>>()),
    })
}

fn of_unit(survey: &Survey, id: u8, unit: &Unit) -> Value {
    let refused: serde_json::Map<String, Value> = unit
        .refused
        .iter()
        .map(|(code, times)| (exception(*code).map_or_else(|| code.to_string(), str::to_owned), json!(times)))
        .collect();
    let polls: Vec<Value> = unit.polls.iter().map(|(asked, poll)| of_poll(survey, *asked, poll)).collect();
    let registers: Vec<Value> = unit
        .registers
        .iter()
        .map(|((of, address), register)| of_register(survey, id, *of, *address, register))
        .collect();
    json!({
        "unit": id,
        "requests": unit.requests,
        "answered": unit.answered,
        "refused": refused,
        "no_answer": unit.unanswered,
        "unclear": unit.unclear,
        "repeated": unit.retries,
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

fn of_register(survey: &Survey, id: u8, of: Table, address: u16, register: &Register) -> Value {
    let named: Vec<String> =
        survey.named(id, of, address).iter().map(|(record, name)| format!("{record}.{name}")).collect();
    let wide = register.likely().and_then(|wide| {
        let number = register.wide(wide)?;
        let value = if wide.is_float { json!(f32::from_bits(number)) } else { json!(number) };
        Some(json!({"type": wide.type_word(), "last": value}))
    });
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
    })
}
