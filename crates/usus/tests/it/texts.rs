//! Texts printed by a printer of this file's own, in every way in which values can stand in them: what comes out is what was printed.

use fastrand::Rng;
use proptest::prelude::*;
use usus::{Format, OwnedCell, OwnedRecord, OwnedValue};

/// A value as it was printed; nothing if it was left out.
type Printed = Option<String>;

/// A text or a number that may stand in a line.
fn value(rng: &mut Rng, is_number: bool, any_text: bool) -> String {
    if is_number {
        let sign = rng.choice(["", "", "-"]).unwrap();
        return match rng.u32(0..3) {
            0 => format!("{sign}{}", rng.u32(1..100_000)),
            1 => format!("{sign}{}.{:03}", rng.u32(1..1_000), rng.u32(0..1_000)),
            _ => format!("{sign}0.{}", rng.u32(1..10)),
        };
    }
    let letters =
        if any_text { &["a", "Z", "west", "\"", ";", "=", ", ", "7", "é", "'"][..] } else { &["a", "Z", "west"][..] };
    (0..rng.usize(1..6)).map(|_| rng.choice(letters).unwrap().to_owned()).collect::<String>().trim().to_owned()
}

/// In quotes if it has to be, and sometimes if it does not.
fn quoted(rng: &mut Rng, text: &str, apart: &[&str]) -> String {
    let has_to_be = text.is_empty() || apart.iter().any(|apart| text.contains(apart)) || text.starts_with('"');
    if has_to_be || rng.u32(0..4) == 0 { format!("\"{}\"", text.replace('"', "\"\"")) } else { text.to_owned() }
}

/// A format, and lines of it with the values that they say.
struct Device {
    format: String,
    lines: Vec<(String, Vec<Printed>)>,
}

fn field(name: usize, is_number: bool, more: &str) -> String {
    let kind = if is_number { "number" } else { "text" };
    format!("{{ name = 'f{name}', type = '{kind}'{more} }}")
}

fn columns(rng: &mut Rng) -> Device {
    let joined = rng.bool();
    let separator = if joined { rng.choice([" ", "::"]).unwrap() } else { rng.choice([";", ", ", "\t"]).unwrap() };
    let numbers: Vec<bool> = (0..rng.usize(1..8)).map(|_| rng.bool()).collect();
    let fields: Vec<String> = numbers.iter().enumerate().map(|(name, number)| field(name, *number, "")).collect();
    let format = format!(
        "format = 'd'\n[[frame]]\ncut = 'text'\nseparator = \"{}\"\njoined = {joined}\nquote = '\"'\n[record.r]\nfields = [{}]",
        separator.escape_default(),
        fields.join(", ")
    );
    let mut lines = Vec::new();
    for _ in 0..rng.usize(1..20) {
        let values: Vec<String> = numbers.iter().map(|number| value(rng, *number, true)).collect();
        let cells: Vec<String> = values.iter().map(|value| quoted(rng, value, &[separator])).collect();
        let between = |rng: &mut Rng| separator.repeat(if joined { rng.usize(1..4) } else { 1 });
        let mut line = if joined && rng.bool() { between(rng) } else { String::new() };
        for (place, cell) in cells.iter().enumerate() {
            line += &if place > 0 { between(rng) } else { String::new() };
            line += cell;
        }
        lines.push((line, values.into_iter().map(Some).collect()));
    }
    Device { format, lines }
}

/// Columns that are left out: by what an earlier one says, or so that their number tells which.
fn columns_with_gaps(rng: &mut Rng) -> Device {
    let (separator, joined) = rng.choice([(";", false), (" ", true), ("\t", false)]).unwrap();
    let numbers: Vec<bool> = (0..rng.usize(3..9)).map(|_| rng.bool()).collect();
    let run = if rng.bool() { 1..rng.usize(1..numbers.len()) } else { 1..1 };
    let told: Vec<bool> = (0..numbers.len()).map(|place| place > 0 && run.is_empty() && rng.bool()).collect();
    let declared = numbers.iter().enumerate().map(|(name, number)| {
        let more = match (run.contains(&name), told[name]) {
            (true, _) => ", optional = true".to_owned(),
            (_, true) => format!(", when = \"kind in ['a{name}', 'all'] and length > 0\""),
            _ => String::new(),
        };
        field(name, *number, &more)
    });
    let fields: Vec<String> = declared.collect();
    let format = format!(
        "format = 'd'\n[[frame]]\ncut = 'text'\nseparator = \"{}\"\njoined = {joined}\nheader = [{{ name = 'kind', internal = true }}]\n[record.r]\nfields = [{}]",
        separator.escape_default(),
        fields.join(", ")
    );
    let mut lines = Vec::new();
    for _ in 0..rng.usize(1..20) {
        let (sent, only) = (rng.usize(run.start..=run.end), rng.usize(0..=numbers.len()));
        let kind = if only == numbers.len() { "all".to_owned() } else { format!("a{only}") };
        let values: Vec<Printed> = (0..numbers.len())
            .map(|place| {
                let there =
                    if run.contains(&place) { place < sent } else { !told[place] || kind == "all" || only == place };
                there.then(|| value(rng, numbers[place], false))
            })
            .collect();
        let cells: Vec<&str> = [&*kind].into_iter().chain(values.iter().flatten().map(|value| &**value)).collect();
        lines.push((cells.join(separator), values));
    }
    Device { format, lines }
}

fn pairs(rng: &mut Rng) -> Device {
    let (separator, assign) = rng.choice([(" ", "="), ("; ", ": "), (",", "->"), ("|", "=")]).unwrap();
    let fields: Vec<(bool, bool)> = (0..rng.usize(1..8)).map(|_| (rng.bool(), rng.bool())).collect();
    let declared: Vec<String> = fields
        .iter()
        .enumerate()
        .map(|(name, (number, optional))| {
            field(name, *number, &format!(", optional = {optional}, label = 'key{name}'"))
        })
        .collect();
    let format = format!(
        "format = 'd'\n[[frame]]\ncut = 'text'\nread = 'pairs'\nseparator = '{separator}'\nassign = '{assign}'\nquote = '\"'\n[record.r]\nmore = 'ignore'\nfields = [{}]",
        declared.join(", ")
    );
    let mut lines = Vec::new();
    for _ in 0..rng.usize(1..20) {
        let values: Vec<Printed> = fields
            .iter()
            .map(|(number, optional)| (!optional || rng.bool()).then(|| value(rng, *number, true)))
            .collect();
        let mut cells: Vec<String> = values
            .iter()
            .enumerate()
            .filter_map(|(name, value)| {
                Some(format!("key{name}{assign}{}", quoted(rng, value.as_ref()?, &[separator.trim(), separator])))
            })
            .collect();
        if rng.bool() {
            cells.push(format!("other{assign}1"));
        }
        rng.shuffle(&mut cells);
        if !cells.is_empty() {
            lines.push((cells.join(separator), values));
        }
    }
    Device { format, lines }
}

fn printed(rng: &mut Rng) -> Device {
    let count = rng.usize(1..6);
    let numbers: Vec<bool> = (0..count).map(|_| rng.bool()).collect();
    let fields: Vec<String> = numbers.iter().enumerate().map(|(name, number)| field(name, *number, "")).collect();
    // What stands between fields has a character that no value has.
    let literals: Vec<&str> =
        (0..=count).map(|_| rng.choice([" #", ": ", " kN, ", ":[[x ", " (", "{{", " %_ "]).unwrap()).collect();
    let optional: Vec<bool> = (0..count).map(|_| rng.u32(0..3) == 0).collect();
    let mut form = literals[count].to_owned();
    for place in 0..count {
        // What may be missing has to be told from what comes in its stead.
        let (literal, mark) = (literals[place], ["!", "?", "&", "|", "~"][place]);
        form +=
            &if optional[place] { format!("[{literal}{mark}{{f{place}}}!]") } else { format!("{literal}{{f{place}}}") };
    }
    form += ".";
    let format = format!(
        "format = 'd'\n[[frame]]\ncut = 'text'\n[record.r]\nprinted = '{form}'\nfields = [{}]",
        fields.join(", ")
    );
    let plain = |literal: &str| literal.replace("[[", "[").replace("{{", "{");
    let mut lines = Vec::new();
    for _ in 0..rng.usize(1..20) {
        let values: Vec<Printed> = numbers
            .iter()
            .zip(&optional)
            .map(|(number, optional)| (!optional || rng.bool()).then(|| value(rng, *number, false)))
            .collect();
        let mut line = plain(literals[count]);
        for place in 0..count {
            let Some(value) = &values[place] else { continue };
            line += &plain(literals[place]);
            line += if optional[place] { ["!", "?", "&", "|", "~"][place] } else { "" };
            line += value;
            line += if optional[place] { "!" } else { "" };
        }
        let blanks = rng.choice([" ", "  ", " \t "]).unwrap();
        lines.push((format!("{}.", line.replace(' ', blanks)), values));
    }
    Device { format, lines }
}

/// What a record says of each field, as it was printed.
fn said(record: &OwnedRecord) -> Vec<Printed> {
    let text = |cell: &OwnedCell| match cell {
        OwnedCell::Reading(reading) => match &reading.value {
            OwnedValue::Absent(usus::Absent::NotSent) => None,
            OwnedValue::Absent(usus::Absent::Empty) => Some(String::new()),
            OwnedValue::Decimal(number) => Some(number.to_string()),
            OwnedValue::Text(text) => Some(text.clone()),
            other => panic!("{other:?}"),
        },
        other => panic!("{other:?}"),
    };
    record.fields.iter().map(|(_, cell)| text(cell)).collect()
}

/// A number in some notation: what is declared of it, what is printed, and what comes out.
fn notation(rng: &mut Rng) -> (String, String, String) {
    let (comma, mark) = (rng.bool(), rng.choice(["", "'", "_"]).unwrap());
    let (whole, places) = (rng.u32(0..100_000_000), rng.u32(0..1_000));
    let (negative, has_places, suffix) = (rng.bool(), rng.bool(), rng.choice(["", "C", " %", "kN"]).unwrap());
    let sign = if negative { "-" } else { "" };
    let mut digits: String = whole.to_string();
    if !mark.is_empty() {
        let mut place = digits.len();
        while place > 3 {
            place -= 3;
            digits.insert_str(place, mark);
        }
    }
    let point = if comma { "," } else { "." };
    let (places, plain) = match has_places {
        true => (format!("{point}{places:03}"), format!("{sign}{whole}.{places:03}")),
        false => (String::new(), format!("{sign}{whole}")),
    };
    let mut declared = format!("type = 'number', decimal = '{point}'");
    if !mark.is_empty() {
        declared += &format!(", thousands = \"{mark}\"");
    }
    if !suffix.is_empty() {
        declared += &format!(", suffix = '{}'", suffix.trim());
    }
    // Nothing is below zero and is minus nothing.
    let plain =
        if whole == 0 && places.trim_matches([',', '.', '0']).is_empty() { plain.replace('-', "") } else { plain };
    (declared, format!("{sign}{digits}{places}{suffix}"), plain)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn numbers_come_out_of_any_notation(seed: u64) {
        let (declared, printed, plain) = notation(&mut Rng::with_seed(seed));
        let way = ["", "printed = 'value {v};'\n", "pattern = 'value (?<v>);'\n"][(seed % 3) as usize];
        let text = format!("format = 'n'\n[[frame]]\ncut = 'text'\nseparator = ';'\n[record.r]\n{way}fields = [{{ name = 'v', {declared} }}]");
        let plan = Format::parse(&text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}\n{text}"));
        let line = if way.is_empty() { format!("{printed}\n") } else { format!("value {printed};\n") };
        let records = plan.records(line.as_bytes());
        prop_assert_eq!(records.len(), 1, "{}{}", text, line);
        prop_assert_eq!(said(&records[0]), vec![Some(plain)], "{}{}", text, line);
    }

    #[test]
    fn what_was_printed_comes_out(seed: u64) {
        let mut rng = Rng::with_seed(seed);
        let device = match rng.u32(0..4) {
            0 => columns(&mut rng),
            1 => columns_with_gaps(&mut rng),
            2 => pairs(&mut rng),
            _ => printed(&mut rng),
        };
        let plan = Format::parse(&device.format).and_then(|format| format.compile());
        let plan = plan.unwrap_or_else(|problems| panic!("{problems}\n{}", device.format));
        let bytes: Vec<u8> = device.lines.iter().flat_map(|(line, _)| format!("{line}\r\n").into_bytes()).collect();
        let records = plan.records(&bytes);
        let found: Vec<Vec<Printed>> = records.iter().map(said).collect();
        let wanted: Vec<Vec<Printed>> = device.lines.iter().map(|(_, values)| values.clone()).collect();
        prop_assert_eq!(found, wanted, "{}\n{:?}", device.format, device.lines);
    }
}
