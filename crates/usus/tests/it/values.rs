//! Values: exact numbers, integers of packets in every form, and the ways to read a record, which all say the same.

use std::collections::BTreeMap;

use proptest::prelude::*;
use serde::Deserialize;
use usus::fast::Visit;
use usus::{
    Absent, Cell, Chunk, Decimal, Decoder, Event, FieldSchema, Format, Items, Loss, OwnedValue, Plan, Quality, Reading,
    Record, Span, Time, Try, Value, Wants,
};
use usus_sim::{Device, Faults, record};

/// Calls `take` with each record of some bytes.
fn records(plan: &Plan, bytes: &[u8], mut take: impl FnMut(&Record<'_>)) {
    let mut decoder = Decoder::new(plan);
    let line = decoder.line("", 0).unwrap();
    let mut sink = |record: &Record<'_>| take(record);
    decoder.feed(Chunk::new(line, bytes)).drain(&mut sink).unwrap();
    decoder.finish().drain(&mut sink).unwrap();
}

fn plan(text: &str) -> Plan {
    Format::parse(text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems} in\n{text}"))
}

/// Coefficients of all sizes.
fn coefficient() -> impl Strategy<Value = i128> {
    (any::<i128>(), 0..127u32).prop_map(|(value, shift)| (value >> shift) % 10i128.pow(38))
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn decimals_print_and_read_alike(coefficient in coefficient(), places in 0..=38u8) {
        let number = Decimal::new(coefficient, places).unwrap();
        let text = number.to_string();
        let digits: String = text.chars().filter(char::is_ascii_digit).collect();
        prop_assert_eq!(digits.parse::<u128>().unwrap(), coefficient.unsigned_abs());
        prop_assert_eq!(text.split_once('.').map_or(0, |(_, fraction)| fraction.len()), usize::from(places));
        prop_assert_eq!(Decimal::parse(text.as_bytes()), Some(number));
        if let Some(small) = number.small_coefficient() {
            let mut block = [0; 48];
            let length = usus::fast::number(&mut block, small, places);
            prop_assert_eq!(&block[..length], text.as_bytes());
        }
        prop_assert_eq!(number.to_f64(), text.parse::<f64>().unwrap());
        prop_assert_eq!(number.to_integer(), (coefficient % 10i128.pow(places.into()) == 0).then(|| coefficient / 10i128.pow(places.into())));
    }

    #[test]
    fn decimals_compare_as_numbers(a in -1_000_000i64..1_000_000, b in -1_000_000i64..1_000_000, places in 0..6u8, more in 0..6u8) {
        let (left, right) = (Decimal::new(a.into(), places).unwrap(), Decimal::new(b.into(), more).unwrap());
        let exact = (i128::from(a) * 10i128.pow(more.into())).cmp(&(i128::from(b) * 10i128.pow(places.into())));
        prop_assert_eq!(left.compare(right), exact);
        prop_assert_eq!(right.compare(left), exact.reverse());
        let (wide, sum) = (10i128.pow(u32::from(places.max(more))), left.plus(right).unwrap());
        let part = |value: i64, places: u8| i128::from(value) * wide / 10i128.pow(places.into());
        prop_assert_eq!(sum.coefficient(), part(a, places) + part(b, more));
        prop_assert_eq!(left.times(right).unwrap().coefficient(), i128::from(a) * i128::from(b));
    }

    #[test]
    fn texts_that_are_no_numbers_are_refused(text in "[-+0-9.eE ]{0,8}") {
        // Rust's own reading of floating-point numbers accepts the same but for words and an empty mantissa.
        let sound = text.parse::<f64>().is_ok_and(|value| value.is_finite()) && text.bytes().any(|byte| byte.is_ascii_digit());
        let read = Decimal::parse(text.as_bytes());
        if let Some(number) = read {
            prop_assert!(sound);
            prop_assert_eq!(number.to_f64(), text.parse::<f64>().unwrap());
        } else if sound {
            // What is refused has an exponent that takes it past 38 digits or places.
            prop_assert!(text.contains(['e', 'E']), "{}", text);
        }
    }

    /// Every width, order, sign, bit range, scale, offset, mark and range, against whole numbers of 128 bits.
    #[test]
    fn integers_of_packets_are_exact(
        bytes in 1..=8usize, little: bool, signed: bool, bits in proptest::option::of((0..64u8, 0..64u8)),
        scale in proptest::option::of((1..5_000i64, 0..5u32)), add in proptest::option::of((-90_000..90_000i64, 0..4u32)),
        range in proptest::option::of((-50_000..0i64, 0..50_000i64)), marked: bool, raw in proptest::collection::vec(any::<u8>(), 8), small: bool,
    ) {
        let mut raw = raw[..bytes].to_vec();
        if small {
            // Values near zero are where signs and marks are.
            let (keep, fill) = (if little { 0 } else { bytes - 1 }, if signed && raw[0] & 1 == 1 { 0xFF } else { 0 });
            raw.iter_mut().enumerate().filter(|(index, _)| *index != keep).for_each(|(_, byte)| *byte = fill);
        }
        let width = bytes as u8 * 8;
        let (first, last) = bits.map_or((0, width - 1), |(a, b)| (a.min(b) % width, (a.max(b) % width).max(a.min(b) % width)));
        let order = match (bytes, little) { (1, _) => "", (_, true) => "le", _ => "be" };
        let literal = |(value, places): (i64, u32)| Decimal::new(value.into(), places as u8).unwrap().to_string();
        // The value by whole numbers.
        let mut digits = raw.clone();
        if little {
            digits.reverse();
        }
        let word = digits.iter().fold(0u128, |value, byte| value << 8 | u128::from(*byte));
        let count = last - first + 1;
        let field = (word >> first) & ((1 << count) - 1);
        let value = if signed && field >> (count - 1) & 1 == 1 { field as i128 - (1 << count) } else { field as i128 };
        let ((factor, down), (addend, below)) = (scale.unwrap_or((1, 0)), add.unwrap_or((0, 0)));
        let places = down.max(below);
        let scaled = value * i128::from(factor) * 10i128.pow(places - down) + i128::from(addend) * 10i128.pow(places - below);
        // The declaration.
        let mut keys = format!("name = 'v', type = '{}{}{order}', bits = '{first}-{last}'", if signed { 'i' } else { 'u' }, bytes * 8);
        keys += &scale.map(|scale| format!(", scale = {}", literal(scale))).unwrap_or_default();
        keys += &add.map(|add| format!(", add = {}", literal(add))).unwrap_or_default();
        keys += &range.map(|(low, high)| format!(", range = [{low}, {high}]")).unwrap_or_default();
        if marked {
            keys += &format!(", no_data = {value}");
        }
        let whole = bytes + 1;
        let plan = plan(&format!("format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = {whole}\n[record.r]\nfields = [{{ {keys} }}]"));
        let mut seen = 0;
        records(&plan, &[vec![0xAA], raw].concat(), |record| {
            seen += 1;
            let reading = record.get("v").unwrap();
            let mut visited = Vec::new();
            record.visit(&mut Collect(&mut visited));
            assert_eq!(visited, [("v".to_owned(), format!("{reading:?}"))], "{keys}");
            if marked {
                assert_eq!(reading.value, Value::Absent(Absent::Marked), "{keys}");
                return;
            }
            // A product of a negative scale is not made here, so that zero has no sign.
            let Value::Decimal(number) = reading.value else { panic!("{reading:?}") };
            assert_eq!((number.coefficient(), u32::from(number.places())), (scaled, places), "{keys}");
            let unit = 10i128.pow(places);
            let outside = range.is_some_and(|(low, high)| scaled < i128::from(low) * unit || scaled > i128::from(high) * unit);
            assert_eq!(reading.quality, if outside { Quality::OutOfRange } else { Quality::Good }, "{keys}");
        });
        prop_assert_eq!(seen, 1);
    }
}

/// Gathers what a visitor sees.
struct Collect<'c>(&'c mut Vec<(String, String)>);

impl Visit for Collect<'_> {
    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        self.0.push((schema.name.clone(), format!("{reading:?}")));
    }

    fn group(&mut self, schema: &FieldSchema, items: Items<'_>) {
        self.0.push((schema.name.clone(), items.len().to_string()));
        items.for_each(|item| item.visit(self));
    }
}

#[test]
fn a_visitor_sees_what_the_fields_say() {
    for (_, plan, device) in crate::properties::formats() {
        let bytes = record(device, 3, 60, &Faults::all()).bytes();
        let mut count = 0;
        records(&plan, &bytes, |record| {
            let (mut visited, mut said) = (Vec::new(), Vec::new());
            record.visit(&mut Collect(&mut visited));
            for (schema, cell) in record.fields() {
                match cell {
                    Cell::Reading(reading) => said.push((schema.name.clone(), format!("{reading:?}"))),
                    Cell::Group(items) => {
                        said.push((schema.name.clone(), items.len().to_string()));
                        let fields = items.flat_map(|item| item.fields().collect::<Vec<_>>());
                        said.extend(fields.map(|(schema, cell)| match cell {
                            Cell::Reading(reading) => (schema.name.clone(), format!("{reading:?}")),
                            other => panic!("{other:?}"),
                        }));
                    }
                    other => panic!("{other:?}"),
                }
            }
            assert_eq!(visited, said);
            count += 1;
        });
        assert!(count > 200);
    }
}

#[test]
fn records_fill_structs() {
    #[derive(Debug, Deserialize, PartialEq)]
    #[serde(rename_all = "snake_case")]
    enum Mode {
        Idle,
        Creep,
        Run,
    }

    #[derive(Debug, Deserialize)]
    struct Sample {
        sequence: u8,
        tension: f64,
        core: Option<f32>,
        mode: Mode,
        overload: bool,
    }

    #[derive(Debug, Deserialize)]
    struct Status {
        serial: String,
        uptime: u32,
        supply: f32,
        peaks: Vec<BTreeMap<String, f64>>,
    }

    let (_, plan, device) = crate::properties::formats().remove(1);
    let bytes = record(device, 11, 10, &Faults::none()).bytes();
    let (mut samples, mut statuses) = (Vec::new(), Vec::new());
    records(&plan, &bytes, |record| match record.kind() {
        "sample" => samples.push(record.to::<Sample>().unwrap()),
        _ => {
            statuses.push(record.to::<Status>().unwrap());
            let lacks = "the record has no field `sequence`, which has to be there";
            assert_eq!(record.to::<Sample>().unwrap_err().to_string(), lacks);
            // As texts, all of it but what is a list.
            let wrong = record.to::<BTreeMap<String, String>>().unwrap_err();
            assert_eq!((&*wrong.field, &*wrong.expected), ("peaks", "a string"));
        }
    });
    assert_eq!((samples.len(), statuses.len()), (200, 2));
    assert_eq!((samples[0].mode == Mode::Idle, samples[0].core), (true, None));
    assert!(samples[199].core.is_some() && samples[199].tension > 0.0 && !samples[199].overload);
    assert_eq!(samples[1].sequence, samples[0].sequence.wrapping_add(1));
    assert_eq!((statuses[1].serial.as_str(), statuses[1].uptime), ("HRT0042", 3_609));
    assert!(
        statuses[1].supply > 20.0 && statuses.iter().flat_map(|status| &status.peaks).all(|peak| peak["force"] > 80.0)
    );
}

#[test]
fn owned_records_keep_their_values_and_become_json() {
    let plan = plan(
        "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a', type = 'number' }, { name = 'd', type = 'date', layout = 'YYYY-MM-DD' }, { name = 'g', up_to = 'end', fields = [{ name = 'h', type = 'number', digits = 'hex' }] }]",
    );
    let mut owned = Vec::new();
    records(&plan, b"x\n1.50,2026-11-25,FF,,10\n,,\n", |record| owned.push(record.to_owned()));
    assert_eq!(owned.len(), 2);
    assert_eq!(owned[0].get("a").unwrap().value, OwnedValue::Decimal(Decimal::new(150, 2).unwrap()));
    assert_eq!(owned[1].get("a").unwrap().value, OwnedValue::Absent(Absent::Empty));
    assert_eq!((owned[0].offset(), &*owned[0].ranges, owned[0].line.index()), (2, &[(2, 22)][..], 0));
    let json = serde_json::to_value(&owned[0]).unwrap();
    let wanted = serde_json::json!({
        "kind": "r", "ranges": [[2, 22]],
        "fields": {"a": 1.5, "d": "2026-11-25", "g": [{"h": 255}, {"h": null}, {"h": 16}]},
    });
    assert_eq!(json, wanted);
}

#[test]
fn what_does_not_fit_a_struct_is_told_with_its_field_and_its_value() {
    #[derive(Debug, Deserialize)]
    #[allow(dead_code)]
    struct Load {
        load: f64,
        side: Option<u8>,
        rows: Vec<Row>,
    }
    #[derive(Debug, Deserialize)]
    #[allow(dead_code)]
    struct Row {
        force: i32,
    }
    let plan = plan(
        "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'load', type = 'number' }, { name = 'side' }, { name = 'rows', up_to = 'end', fields = [{ name = 'force', type = 'number' }] }]",
    );
    let cases = [
        ("12.5,7", "`side` is the text \"7\", not u8"),
        (",", "`load` is without a value (empty), not f64"),
        ("x,", "`load` is without a value (invalid), not f64"),
        ("1.5,,4,5.5", "`rows[2].force` is 5.5, not i32"),
        ("1.5,,4,5", ""),
    ];
    for (line, told) in cases {
        let mut errors = Vec::new();
        let mut take = |record: &Record<'_>| {
            errors.push(record.to::<Load>().err().map_or(String::new(), |error| error.to_string()));
        };
        let Ok(_) = plan.decode(format!("0,\n{line}\n").as_bytes(), &mut take);
        assert_eq!(errors[1], told, "{line}");
    }
}

/// The shortest ways to records: all of a slice, closures that fail, fields that are found once.
#[test]
fn a_slice_is_decoded_in_one_call() {
    let plan = plan("format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a', type = 'number' }]");
    let kept = plan.records(b"1\n2\n3\n");
    assert_eq!(kept.iter().map(|record| record.offset()).collect::<Vec<_>>(), [0, 2, 4]);
    let place = plan.schema().place("r", "a").unwrap();
    assert!(plan.schema().place("r", "b").is_none() && plan.schema().place("s", "a").is_none());
    let mut seen = Vec::new();
    let mut until_two = Try(|record: &Record<'_>| {
        let value = record.at(place).ok_or("no value")?.value.to_string();
        seen.push(value.clone());
        if value == "2" { Err("enough") } else { Ok(()) }
    });
    assert_eq!(plan.decode(b"1\n2\n3\n", &mut until_two), Err("enough"));
    assert_eq!(seen, ["1", "2"]);
}

/// A record has the times of the chunks that brought its first and its last byte.
#[test]
fn records_have_the_times_of_their_bytes() {
    let plan = plan("format = 'x'\n[[frame]]\ncut = 'text'\nend = 'LF'\n[record.r]\nfields = [{ name = 'a' }]");
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).unwrap();
    let mut seen = Vec::new();
    for (time, bytes) in [(10, &b"ab"[..]), (20, b"c\nd"), (30, b"e"), (40, b"f\ngh\n")] {
        let chunk = Chunk { time: Some(Time::from_nanoseconds(time)), ..Chunk::new(line, bytes) };
        let mut events = decoder.feed(chunk);
        while let Some(event) = events.next() {
            if let Event::Record(record) = event {
                let times = (record.received().unwrap().nanoseconds(), record.completed().unwrap().nanoseconds());
                seen.push((record.get("a").unwrap().value.to_string(), times));
            }
        }
    }
    assert_eq!(seen, [("abc".to_owned(), (10, 20)), ("def".to_owned(), (20, 40)), ("gh".to_owned(), (40, 40))]);
}

/// A silence is told when it is certain: after its length and the adapter's lateness. A loss ends what was open.
#[test]
fn deadlines_come_from_silence_and_lateness() {
    let plan = plan(
        "format = 'x'\nserial = '9600 8N1'\n[[frame]]\ncut = 'text'\nidle = '50 ms'\n[record.r]\nfields = [{ name = 'a' }]",
    );
    assert!(plan.needs_times());
    let milliseconds = |value: i64| Time::from_nanoseconds(value * 1_000_000);
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).unwrap();
    decoder.set_lateness(line, Span::from_nanoseconds(5_000_000));
    assert_eq!(decoder.next_deadline(), None);
    assert!(decoder.feed(Chunk { time: Some(milliseconds(100)), ..Chunk::new(line, b"12") }).next().is_none());
    assert_eq!(decoder.next_deadline(), Some(milliseconds(155)));
    assert!(decoder.tick(milliseconds(154)).next().is_none());
    let mut kinds = Vec::new();
    let mut events = decoder.tick(milliseconds(155));
    while let Some(event) = events.next() {
        kinds.push(matches!(event, Event::Record(_)));
    }
    assert_eq!(kinds, [false, true], "the notice on the first line, and the record");
    assert_eq!(decoder.next_deadline(), None);
    assert!(decoder.feed(Chunk { time: Some(milliseconds(160)), ..Chunk::new(line, b"3") }).next().is_none());
    let mut events = decoder.loss(line, Loss::Reopened, Some(milliseconds(170)));
    assert!(matches!(events.next(), Some(Event::Clipped(_))));
    assert!(matches!(events.next(), Some(Event::Notice(_))));
    assert!(events.next().is_none());
    assert_eq!(decoder.ledger(line).losses, 1);
}

#[test]
fn a_narrowed_plan_books_all_and_hands_out_what_is_wanted() {
    let (_, whole, device) = crate::properties::formats().remove(1);
    assert_eq!(device, Device::RopeTension);
    let bytes = record(device, 1, 20, &Faults::none()).bytes();
    let wants =
        Wants { records: vec!["status".to_owned()], fields: vec!["status.peaks".to_owned(), "sample.core".to_owned()] };
    let plan = whole.select(&wants).unwrap();
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).unwrap();
    let mut kinds = Vec::new();
    let mut sink = |record: &Record<'_>| {
        assert_eq!(record.fields().map(|(schema, _)| schema.name.as_str()).collect::<Vec<_>>(), ["peaks"]);
        kinds.push(record.kind_index());
    };
    decoder.feed(Chunk::new(line, &bytes)).drain(&mut sink).unwrap();
    assert_eq!(kinds, [1; 4]);
    let ledger = decoder.ledger(line);
    assert_eq!((ledger.records, ledger.recorded), (vec![400, 4], bytes.len() as u64));
    let unknown = Wants { records: vec!["stauts".to_owned()], ..Wants::default() };
    assert_eq!(
        whole.select(&unknown).unwrap_err().to_string(),
        "the format `rope-tension` has no record `stauts`; did you mean `status`?"
    );
}

/// Days of a month, by the calendar's rule.
fn days(year: u32, month: u32) -> u32 {
    match month {
        2 if year.is_multiple_of(4) && (!year.is_multiple_of(100) || year.is_multiple_of(400)) => 29,
        2 => 28,
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Dates and times of day that exist are read, in whatever layout; others are invalid.
    #[test]
    fn calendars_know_what_exists(year in 0..10_000u32, month in 0..15u32, day in 0..35u32, hour in 0..30u32, minute in 0..70u32, second in 0..70u32, fraction in "[0-9]{0,9}") {
        let plan = plan("format = 'x'\n[[frame]]\ncut = 'text'\nseparator = ';'\n[record.r]\nfields = [{ name = 'a', type = 'date', layout = 'YYYY-MM-DD' }, { name = 'b', type = 'date', layout = 'DD.MM.YYYY' }, { name = 'c', type = 'date', layout = 'YYMMDD' }, { name = 'd', type = 'clock', layout = 'hhmmss' }, { name = 'e', type = 'clock' }]");
        let point = if fraction.is_empty() { "" } else { "." };
        let line = format!(
            "\n{year:04}-{month:02}-{day:02};{day:02}.{month:02}.{year:04};{:02}{month:02}{day:02};{hour:02}{minute:02}{second:02}{point}{fraction};{hour:02}:{minute:02}:{second:02}{point}{fraction}\n",
            year % 100
        );
        let exists = |year: u32| (1..=12).contains(&month) && (1..=days(year, month)).contains(&day);
        let short = if year % 100 >= 80 { 1900 + year % 100 } else { 2000 + year % 100 };
        let date = |year: u32| if exists(year) { format!("{year:04}-{month:02}-{day:02}") } else { "invalid".to_owned() };
        let clock = match hour < 24 && minute < 60 && second < 61 {
            true => format!("{hour:02}:{minute:02}:{second:02}{point}{fraction}"),
            false => "invalid".to_owned(),
        };
        let wanted = [date(year), date(year), date(short), clock.clone(), clock];
        let mut seen = Vec::new();
        records(&plan, line.as_bytes(), |record| {
            for (_, cell) in record.fields() {
                let Cell::Reading(reading) = cell else { panic!() };
                let quality = reading.quality.word();
                seen.push(if quality.is_empty() { reading.value.to_string() } else { quality.to_owned() });
            }
        });
        prop_assert_eq!(seen, wanted);
    }

    /// Conditions against a plain evaluation of the same tree: comparisons of a number, joined in any way.
    #[test]
    fn conditions_hold_as_written(tree in condition(), values in proptest::collection::vec(-3..4i64, 1..8)) {
        let text = tree.text();
        let format = format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 2\nheader = [{{ name = 'n', type = 'i8' }}]\n[record.yes]\nwhen = \"{text}\"\nfields = []\n[record.no]\nfields = []"
        );
        let plan = plan(&format);
        let bytes: Vec<u8> = values.iter().flat_map(|value| [0xAA, *value as i8 as u8]).collect();
        let mut kinds = Vec::new();
        records(&plan, &bytes, |record| kinds.push(record.kind() == "yes"));
        let wanted: Vec<bool> = values.iter().map(|value| tree.holds(*value)).collect();
        prop_assert_eq!(kinds, wanted, "{}", text);
    }
}

/// A condition over one number.
#[derive(Clone, Debug)]
enum Condition {
    Compare(&'static str, i64, bool),
    Not(Box<Condition>),
    And(Box<Condition>, Box<Condition>),
    Or(Box<Condition>, Box<Condition>),
}

fn condition() -> impl Strategy<Value = Condition> {
    let operator = prop::sample::select(vec!["==", "!=", "<", "<=", ">", ">="]);
    let leaf = (operator, -3..4i64, any::<bool>())
        .prop_map(|(operator, value, swapped)| Condition::Compare(operator, value, swapped));
    leaf.prop_recursive(5, 24, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|inner| Condition::Not(Box::new(inner))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Condition::And(Box::new(a), Box::new(b))),
            (inner.clone(), inner).prop_map(|(a, b)| Condition::Or(Box::new(a), Box::new(b))),
        ]
    })
}

impl Condition {
    fn text(&self) -> String {
        match self {
            Condition::Compare(operator, value, false) => format!("n {operator} {value}"),
            Condition::Compare(operator, value, true) => format!("{value}.0 {operator} n"),
            Condition::Not(inner) => format!("not ({})", inner.text()),
            // `and` binds closer than `or`: only an `or` inside of it needs parentheses.
            Condition::And(a, b) => format!("{} and {}", a.inside_and(), b.inside_and()),
            Condition::Or(a, b) => format!("{} or {}", a.text(), b.text()),
        }
    }

    fn inside_and(&self) -> String {
        match self {
            Condition::Or(..) => format!("({})", self.text()),
            _ => self.text(),
        }
    }

    fn holds(&self, n: i64) -> bool {
        match self {
            Condition::Compare(operator, value, swapped) => {
                let (a, b) = if *swapped { (*value, n) } else { (n, *value) };
                match *operator {
                    "==" => a == b,
                    "!=" => a != b,
                    "<" => a < b,
                    "<=" => a <= b,
                    ">" => a > b,
                    _ => a >= b,
                }
            }
            Condition::Not(inner) => !inner.holds(n),
            Condition::And(a, b) => a.holds(n) && b.holds(n),
            Condition::Or(a, b) => a.holds(n) || b.holds(n),
        }
    }
}

/// Who drains late gets the same: nothing that was fed meanwhile is forgotten, on either side of a loss.
#[test]
fn events_wait_for_whoever_drains_late() {
    let plan = plan("format = 'x'\n[[frame]]\ncut = 'text'\nidle = '50 ms'\n[record.r]\nfields = [{ name = 'a' }]");
    let collect = |late: bool| {
        let mut decoder = Decoder::new(&plan);
        let line = decoder.line("", 0).unwrap();
        let mut seen = Vec::new();
        let mut take = |mut events: usus::Events<'_>, now: bool| {
            while now && let Some(event) = events.next() {
                seen.push(crate::drive::render(&event));
            }
        };
        for (time, bytes) in [
            (0, &b"one"[..]),
            (100, b"two"),
            (200, b"thr"),
            (900, b""),
            (1_000, b"ee"),
            (1_100, b"four"),
            (1_200, b"five\n"),
        ] {
            if bytes.is_empty() {
                take(decoder.loss(line, Loss::Gap, None), !late);
                continue;
            }
            let time = Some(Time::from_nanoseconds(time * 1_000_000));
            take(decoder.feed(Chunk { time, ..Chunk::new(line, bytes) }), !late);
        }
        take(decoder.finish(), true);
        seen
    };
    let seen = collect(false);
    assert_eq!(seen, collect(true));
    assert_eq!(seen.iter().filter(|event| event.contains(" r a=")).count(), 4, "{seen:#?}");
}

/// A sink that refuses one record gets all others, whether they were in the same chunk or not.
#[test]
fn what_follows_a_refusal_comes_next() {
    struct Refusing(usize, Vec<String>);
    impl usus::Sink for Refusing {
        type Error = &'static str;

        fn record(&mut self, record: &Record<'_>) -> Result<(), &'static str> {
            self.1.push(record.get("a").unwrap().value.to_string());
            if self.1.len() == self.0 { Err("full") } else { Ok(()) }
        }
    }
    let plan = plan("format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]");
    let texts: Vec<String> = (0..40).map(|number| format!("{}", 1_000 + number)).collect();
    let bytes: Vec<u8> = texts.iter().flat_map(|text| format!("{text}\r\n").into_bytes()).collect();
    for size in [1, 7, 64, 100, bytes.len()] {
        for refused in 1..=texts.len() {
            let (mut sink, mut decoder) = (Refusing(refused, Vec::new()), Decoder::new(&plan));
            let line = decoder.line("", 0).unwrap();
            let refusals =
                bytes.chunks(size).filter(|chunk| decoder.decode(Chunk::new(line, chunk), &mut sink).is_err());
            assert_eq!(refusals.count(), 1);
            decoder.ready(line).drain(&mut sink).unwrap();
            decoder.finish().drain(&mut sink).unwrap();
            assert_eq!(sink.1, texts, "{size} {refused}");
            assert_eq!(decoder.ledger(line).total, bytes.len() as u64);
        }
    }
}

/// Bytes that come one by one are mostly appended and nothing else; what they end is told with the last of them all the same.
#[test]
fn records_leave_with_their_last_byte() {
    const PACKETS: &str = "
        [[frame]]
        cut = 'packet'
        start = '02'
        length = 11
        checksum = { algorithm = 'SUM-8', type = 'u8' }
        header = [{ name = 'kind', byte = 1, type = 'u8', internal = true }]
        [record.p]
        frame = 'packet'
        when = 'kind == 1'
        fields = [{ name = 'v', type = 'u64be' }]";
    const LINES: &str = "
        [[frame]]
        cut = 'text'
        end = 'LF'
        [record.t]
        frame = 'text'
        fields = [{ name = 'a' }]";
    const SENTENCES: &str = "
        [[frame]]
        name = 'sentence'
        cut = 'nmea-0183'
        [record.s]
        frame = 'sentence'
        fields = [{ name = 'a' }, { name = 'b', type = 'number' }]";
    let packet = |value: u8| {
        let mut packet = [&[2, 1][..], &[value; 8]].concat();
        packet.push(packet.iter().sum());
        packet
    };
    let (packet, line, sentence) = (&packet(3)[..], &b"ab\n"[..], &b"$A,5*58\r\n"[..]);
    let table = [
        ("packets", PACKETS.to_owned(), vec![packet, packet, packet], vec![11, 22, 33]),
        ("lines", LINES.replace("frame = 'text'", ""), vec![b"x\n", line, b"cd\n"], vec![2, 5, 8]),
        ("packets and lines", PACKETS.to_owned() + LINES, vec![packet, line, packet, line], vec![11, 14, 25, 28]),
        // The line end behind a sentence says nothing about it.
        (
            "packets and sentences",
            PACKETS.to_owned() + SENTENCES,
            vec![packet, sentence, packet, sentence],
            vec![11, 18, 31, 38],
        ),
    ];
    for (name, format, frames, wanted) in table {
        let plan = plan(&format!("format = 'x'{format}"));
        let bytes = frames.concat();
        for (time, drains) in [(None, true), (None, false), (Some(Time::from_nanoseconds(5)), false)] {
            let mut decoder = Decoder::new(&plan);
            let line = decoder.line("", 0).unwrap();
            let mut told = Vec::new();
            for (index, byte) in bytes.iter().enumerate() {
                let chunk = Chunk { time, ..Chunk::new(line, std::slice::from_ref(byte)) };
                let mut take = |_: &Record<'_>| told.push(index + 1);
                let Ok(()) = match drains {
                    true => decoder.feed(chunk).drain(&mut take),
                    false => decoder.decode(chunk, &mut take),
                };
                assert_eq!(decoder.ledger(line).total, index as u64 + 1);
            }
            assert_eq!(told, wanted, "{name}");
        }
    }
}
