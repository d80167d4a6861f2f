//! What is known of fields before the first byte: their numbers, their declarations, and the plant's names for them.

use usus::{Cell, Clock, Date, DateTime, Format, Plan, Record};

fn format(fields: &str) -> Format {
    Format::parse(&format!(
        "format = 'f'\n[[frame]]\ncut = 'packet'\nstart = '55'\nlength = 40\n[record.r]\nfields = [\n{fields}\n]"
    ))
    .unwrap()
}

fn plan(fields: &str) -> Plan {
    format(fields).compile().unwrap()
}

#[test]
fn numbers_have_bounds_and_places() {
    let numbers = |field: &str| {
        let plan = plan(&format!(
            "{{ name = 'x', byte = 1, {field} }},\n{{ reserved = true, byte = 9, type = 'bytes', width = 31 }},\n{{ reserved = true, byte = 1, type = 'u64be' }}"
        ));
        plan.schema().kinds[0].fields[0]
            .numbers
            .map(|numbers| (numbers.places, numbers.least, numbers.most, numbers.digits()))
    };
    for (field, expected) in [
        ("type = 'u8'", Some((0, 0, 255, 3))),
        ("type = 'i8'", Some((0, -128, 127, 3))),
        ("type = 'u64be'", Some((0, 0, u64::MAX.into(), 20))),
        ("type = 'i16be', scale = 0.01", Some((2, -32_768, 32_767, 5))),
        ("type = 'u16be', scale = 0.1, add = -100", Some((1, -1_000, 64_535, 5))),
        ("type = 'u16be', scale = -2", Some((0, -131_070, 0, 6))),
        ("type = 'u8', scale = 10, add = 0.25", Some((2, 25, 255_025, 6))),
        ("type = 'i16be', sign = 'magnitude'", Some((0, -65_535, 65_535, 5))),
        ("type = 'u16le', digits = 'bcd', scale = 0.1", Some((1, 0, 9_999, 4))),
        ("type = 'f32be'", None),
    ] {
        assert_eq!(numbers(field), expected, "{field}");
    }
    let text = "format = 'f'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'x', type = 'number' }]";
    assert_eq!(Format::parse(text).unwrap().compile().unwrap().schema().kinds[0].fields[0].numbers, None);
}

const TAGGED: &str = "
  { name = 'tension', byte = 1, type = 'u16be', tag = 'WT-301', codes = { 0 = 'none' } },
  { name = 'core', type = 'u8', tag = 'wt-301' },
  { name = 'mode', type = 'u8', tag = 'Core' },
  { name = 'load', type = 'u8', tag = \"=1+1\\n\" },
  { name = 'peaks', tag = 'PK', count = 2, fields = [ { name = 'age', type = 'u8', tag = 'PK-1' }, { name = 'force', type = 'u8', range = [1, 2] } ] },
  { name = 'cells', tag = 'CV', count = 3, type = 'u8' },
  { reserved = true, type = 'bytes', width = 27 },
";

#[test]
fn tags_are_names_that_are_told_apart() {
    let plan = plan(TAGGED);
    let tagged = plan.with_tags();
    let fields = &tagged.schema().kinds[0].fields;
    let names: Vec<&str> = fields.iter().map(|field| field.name.as_str()).collect();
    // A tag that is another field's tag or name, whether or not case counts, is not used.
    assert_eq!(names, ["WT-301", "core", "mode", "=1+1\n", "PK", "CV"]);
    assert_eq!(
        fields.iter().map(|field| field.declared_name()).collect::<Vec<_>>(),
        ["tension", "core", "mode", "load", "peaks", "cells"]
    );
    assert_eq!(fields[4].items.iter().map(|item| item.name.as_str()).collect::<Vec<_>>(), ["PK-1", "force"]);
    assert_eq!(fields[5].items[0].name, "CV");
    let bytes: Vec<u8> = (0..40).map(|byte| if byte == 0 { 0x55 } else { byte }).collect();
    let told = |plan: &Plan| {
        let mut told = Vec::new();
        let mut take = |record: &Record<'_>| {
            for (schema, cell) in record.fields() {
                match cell {
                    Cell::Reading(reading) => told.push((schema.name.clone(), reading.value.to_string())),
                    Cell::Group(items) => {
                        for item in items {
                            told.extend(item.fields().map(|(schema, cell)| match cell {
                                Cell::Reading(reading) => (schema.name.clone(), reading.value.to_string()),
                                _ => unreachable!("there are no groups in groups"),
                            }));
                        }
                    }
                    _ => unreachable!("there is nothing else"),
                }
            }
        };
        let Ok(_) = plan.decode(&bytes, &mut take);
        told
    };
    let (own, other) = (told(&plan), told(&tagged));
    assert_eq!(
        own.iter().map(|(_, value)| value).collect::<Vec<_>>(),
        other.iter().map(|(_, value)| value).collect::<Vec<_>>()
    );
    assert_eq!(other[0].0, "WT-301");
    assert_eq!(other[4].0, "PK-1");
    assert_eq!(other.last().unwrap().0, "CV");
    // Of several layouts of a record, all.
    let variants = Format::parse(
        "format = 'f'\n[[frame]]\ncut = 'text'\nseparator = ';'\n[record.r]\nwhen = 'columns == 1'\nfields = [{ name = 'a', tag = 'A-1' }]\n[[record.r.variant]]\nwhen = 'columns == 2'\nfields = [{ name = 'b', tag = 'B-1' }, { name = 'a' }]",
    );
    let variants = variants.unwrap().compile().unwrap().with_tags();
    let mut seen = Vec::new();
    let mut take = |record: &Record<'_>| seen.push(record.get("A-1").map(|reading| reading.value.to_string()));
    let Ok(_) = variants.decode(b"x\ny;z\n", &mut take);
    assert_eq!(seen, [Some("x".to_owned()), Some("z".to_owned())]);
}

#[test]
fn declarations_are_found_by_name() {
    let format = format(TAGGED);
    let unit = |path: &str| format.field("r", path).map(|field| (field.codes.len(), field.range.is_some()));
    assert_eq!(unit("tension"), Some((1, false)));
    assert_eq!(unit("peaks.force"), Some((0, true)));
    assert_eq!(unit("peaks.nothing"), None);
    assert_eq!(unit("force"), None);
    assert_eq!(format.field("s", "tension"), None);
}

/// Days and nanoseconds, against the calendar of another crate.
#[test]
fn days_are_those_of_the_calendar() {
    let mut day = jiff::civil::date(0, 1, 1);
    let epoch = jiff::civil::date(1970, 1, 1);
    while day < jiff::civil::date(9999, 12, 31) {
        let own = Date::new(day.year(), day.month().unsigned_abs(), day.day().unsigned_abs()).unwrap();
        let since = epoch.until(day).unwrap().get_days();
        assert_eq!(own.days(), i64::from(since), "{day}");
        day = day.saturating_add(jiff::Span::new().days(97));
    }
    for (text, expected) in [
        ("1970-01-01T00:00:00Z", Some(0)),
        ("1970-01-01T00:00:00.5", Some(500_000_000)),
        ("2026-11-25T06:00:00+01:00", Some(1_795_582_800_000_000_000)),
        ("2016-12-31T23:59:60Z", None),
        ("2262-04-11T23:47:16.854775807Z", Some(i64::MAX)),
        ("2262-04-11T23:47:17Z", None),
        ("1677-09-21T00:12:43Z", None),
    ] {
        assert_eq!(DateTime::parse(text).unwrap().nanoseconds(), expected, "{text}");
    }
    assert_eq!(Clock::parse("23:59:59.25").unwrap().nanoseconds(), Some(86_399_250_000_000));
}

/// Halves of bytes that are no digits make no number, also where they would be a power of ten in a text.
#[test]
fn halves_that_are_no_digits() {
    let plan = plan(
        "{ name = 'x', byte = 1, type = 'u16be', digits = 'bcd' }, { name = 'y', type = 'number', digits = 'bcd', width = 2 }, { reserved = true, type = 'bytes', width = 35 }",
    );
    for (bytes, expected) in [
        ([0x12, 0x34, 0x05, 0x67], ["1234", "567"]),
        ([0x7E, 0x10, 0x1E, 0x99], ["", ""]),
        ([0xF0, 0x12, 0x3F, 0xFF], ["12", "3"]),
        ([0x0A, 0x12, 0x0B, 0x00], ["", ""]),
    ] {
        let mut frame = vec![0x55];
        frame.extend(bytes);
        frame.resize(40, 0);
        let mut found = Vec::new();
        let mut take = |record: &Record<'_>| {
            found.extend(["x", "y"].map(|name| record.get(name).unwrap().value.to_string()));
        };
        let Ok(_) = plan.decode(&frame, &mut take);
        assert_eq!(found, expected, "{bytes:02X?}");
    }
}
