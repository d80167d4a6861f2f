//! What is said about format files that are not sound: each problem at its place, with its words, in full.

use std::fmt::Write;

use usus::{Format, Problems};

/// Problems of a format file: line and column, the text they point at, the message, and the help.
fn problems(text: &str) -> String {
    let found = match Format::parse(text).and_then(|format| format.compile().map(|_| ())) {
        Ok(()) => return "  sound\n".to_owned(),
        Err(found) => found,
    };
    show(text, &found)
}

fn show(text: &str, found: &Problems) -> String {
    let mut out = String::new();
    for problem in found.iter() {
        let before = &text[..problem.span.start];
        let line = before.matches('\n').count() + 1;
        let column = before.chars().rev().take_while(|&c| c != '\n').count() + 1;
        let at = text[problem.span.clone()].lines().next().unwrap_or("");
        let at: String = at.chars().take(60).collect();
        writeln!(out, "  {line}:{column} `{at}`: {}", problem.kind).unwrap();
        if let Some(help) = problem.help() {
            writeln!(out, "      {help}").unwrap();
        }
    }
    out
}

/// A packet format with `frame` behind its cut and `record` as the body of its record.
fn packet(frame: &str, record: &str) -> String {
    format!("format = 'p'\n[[frame]]\ncut = 'packet'\n{frame}\n[record.r]\n{record}\n")
}

/// The same for texts.
fn text(frame: &str, record: &str) -> String {
    format!("format = 't'\n[[frame]]\ncut = 'text'\n{frame}\n[record.r]\n{record}\n")
}

fn cases() -> Vec<(&'static str, String)> {
    let p = "start = 'AA'\nlength = 4";
    let ok = "fields = [{ name = 'v', type = 'u24be' }]";
    let own = |text: &str| text.to_owned();
    let field = |field: &str| packet(p, &format!("fields = [{field}]"));
    let column = |field: &str| text("", &format!("fields = [{field}]"));
    vec![
        ("nothing at all", own("")),
        ("not TOML", own("format = 'x\n[[frame]\ncut =")),
        ("unknown keys", packet(&format!("{p}\nstrat = 1"), "fields = [{ nmae = 'v', type = 'u24be', xyzzy = 1 }]")),
        ("missing keys", packet("", "")),
        ("a frame without a cut", own("format = 'x'\n[[frame]]\nstart = 'AA'")),
        ("an unknown cut", own("format = 'x'\n[[frame]]\ncut = 'packets'")),
        (
            "wrong sorts of values",
            own(
                "format = 1\ntitle = []\nserial = '9600'\nlimits = 5\n[[frame]]\ncut = 'text'\nidle = '5 kg'\nseparator = ', '",
            ),
        ),
        ("a start that is no hex", packet("start = 'A5 5'\nlength = 'x'", ok)),
        ("a length without its place", packet("start = 'AA'\nlength = { type = 'u16' }", ok)),
        (
            "limits above the limits",
            own(
                "format = 'x'\nlimits = { frame = 65537, line = 0, names = 257 }\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]",
            ),
        ),
        (
            "bad names",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.Rec]\n[record.r]\nfields = [{ name = '2nd' }, { name = 'and' }, { name = 'received' }, { name = 'offset', internal = true }]",
            ),
        ),
        ("names twice", column("{ name = 'a' }, { name = 'a' }")),
        (
            "flags named like a field",
            field("{ name = 'v', type = 'u16be' }, { type = 'u8', flags = { 0 = 'v', 9 = 'w', x = 'y' } }"),
        ),
        ("an unknown type", field("{ name = 'v', type = 'u24eb' }")),
        ("a type without byte order", field("{ name = 'v', type = 'u24' }")),
        ("no type in a packet", field("{ name = 'v' }")),
        ("no name", field("{ type = 'u24be' }")),
        (
            "an unknown checksum",
            packet(&format!("{p}\nchecksum = {{ algorithm = 'CRC-16/MODBUSS', type = 'u8' }}"), ok),
        ),
        (
            "a checksum too wide for its type",
            packet(
                &format!("{p}\nchecksum = {{ algorithm = 'CRC-16/MODBUS', type = 'u8' }}"),
                "fields = [{ name = 'v', type = 'u16be' }]",
            ),
        ),
        (
            "a checksum that covers itself",
            packet(
                &format!("{p}\nchecksum = {{ algorithm = 'SUM-8', type = 'u8', to = -1 }}"),
                "fields = [{ name = 'v', type = 'u16be' }]",
            ),
        ),
        (
            "a checksum in front that covers itself",
            packet(
                &format!("{p}\nchecksum = {{ algorithm = 'SUM-8', type = 'u8', byte = 1, from = 1, to = 3 }}"),
                "fields = [{ name = 'v', byte = 2, type = 'u16be' }]",
            ),
        ),
        ("a field on the checksum", packet(&format!("{p}\nchecksum = {{ algorithm = 'SUM-8', type = 'u8' }}"), ok)),
        ("fields that overrun the frame", field("{ name = 'v', type = 'u32be' }")),
        ("bytes that nothing names", field("{ name = 'v', byte = 2, type = 'u8' }")),
        (
            "bytes declared to carry nothing",
            field("{ name = 'v', type = 'u8' }, { type = 'bytes', width = 2, reserved = true }"),
        ),
        ("bits outside of the type", field("{ name = 'v', type = 'u24be', bits = '3-24' }")),
        ("bits the wrong way", field("{ name = 'v', type = 'u24be', bits = '5-3' }")),
        ("a zero scale", field("{ name = 'v', type = 'u24be', scale = 0.00 }")),
        ("a range the wrong way", field("{ name = 'v', type = 'u24be', range = [1, -1] }")),
        (
            "keys that do not go together",
            field(
                "{ name = 'v', type = 'u24be', width = 3, layout = 'ddmmyy', fill = ' ', places = 2, rollover = 9, optional = true, unit_from = 'v' }",
            ),
        ),
        ("types of the other medium", field("{ name = 'a', type = 'number', width = 3 }")),
        ("bytes in a text", column("{ name = 'a', type = 'u8' }, { name = 'b', byte = 3 }")),
        ("columns in a packet", field("{ name = 'v', column = 2, type = 'u24be' }")),
        ("two places", column("{ name = 'a', column = 1, chars = '1-2' }")),
        ("column 0", column("{ name = 'a', column = 0 }, { name = 'b', chars = '4-2' }")),
        ("columns that do not go with the type", column("{ name = 'a', type = 'lat', column = '1-3' }")),
        (
            "a layout with a hole",
            column(
                "{ name = 'a', type = 'date', layout = 'dd.mm' }, { name = 'b', type = 'clock', layout = 'hhmmssdd' }",
            ),
        ),
        ("codes that are no numbers", field("{ name = 'v', type = 'u24be', codes = { 0 = 'a', x = 'b', 2 = 3 } }")),
        ("no_data of another type", field("{ name = 'v', type = 'u24be', no_data = ['x', 1] }")),
        ("equals of another type", column("{ name = 'v', equals = 5 }")),
        (
            "units that do not convert",
            column(
                "{ name = 'v', type = 'number', unit = 'm/s', unit_from = 'u' }, { name = 'u', codes = { K = 'km', M = 'm/s' } }",
            ),
        ),
        (
            "a unit from nowhere",
            column("{ name = 'v', type = 'number', unit = 'm/s', unit_from = 'uni' }, { name = 'unit' }"),
        ),
        (
            "a unit from a field without codes",
            column("{ name = 'v', type = 'number', unit = 'm/s', unit_from = 'u' }, { name = 'u' }"),
        ),
        ("a group without count", column("{ name = 'g', fields = [{ name = 'a' }] }")),
        ("a group without fields", column("{ name = 'g', count = 3 }")),
        ("a group of nothing with a huge count", field("{ name = 'g', count = 4000000000, fields = [] }")),
        (
            "a group of a huge count",
            field("{ name = 'g', count = 4000000000, fields = [{ name = 'a', type = 'u8' }] }"),
        ),
        (
            "a group in a group",
            column("{ name = 'g', count = 2, fields = [{ name = 'h', count = 2, fields = [{ name = 'a' }] }] }"),
        ),
        (
            "a count from nowhere",
            column("{ name = 'n', type = 'number' }, { name = 'g', count = 'm', fields = [{ name = 'a' }] }"),
        ),
        ("a count from a text", column("{ name = 'n' }, { name = 'g', count = 'n', fields = [{ name = 'a' }] }")),
        ("count and up_to", column("{ name = 'g', count = 2, up_to = 'end', fields = [{ name = 'a' }] }")),
        (
            "two groups of varying length",
            column(
                "{ name = 'g', up_to = 'end', fields = [{ name = 'a' }] }, { name = 'h', up_to = 'end', fields = [{ name = 'a' }] }",
            ),
        ),
        (
            "a fixed place behind a varying group",
            packet(
                "start = 'AA'\nlength = { byte = 1, type = 'u8' }",
                "fields = [{ name = 'g', up_to = 'end', fields = [{ name = 'a', type = 'u8' }] }, { name = 'b', byte = 9, type = 'u8' }]",
            ),
        ),
        ("a counter in a text without rollover", column("{ name = 'n', type = 'number', counter = true }")),
        (
            "a condition on an unknown name",
            text(
                "header = [{ name = 'unit', column = 1 }]",
                "when = \"unti == 'x'\"\nfields = [{ name = 'a', column = 2 }]",
            ),
        ),
        (
            "a condition of wrong types",
            text(
                "header = [{ name = 'unit', column = 1 }]",
                "when = \"unit == 5 and (unit starts 'x'\"\nfields = [{ name = 'a', column = 2 }]",
            ),
        ),
        (
            "a condition that compares text and number",
            text(
                "header = [{ name = 'unit', column = 1 }]",
                "when = \"unit == 5 or not unit\"\nfields = [{ name = 'a', column = 2 }]",
            ),
        ),
        (
            "a record that can never be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.all]\nfields = [{ name = 'a' }]\n[record.never]\nfields = [{ name = 'a' }]",
            ),
        ),
        (
            "records without a frame to choose",
            own(
                "format = 'x'\n[[frame]]\nname = 'a'\ncut = 'text'\n[[frame]]\nname = 'b'\ncut = 'nmea-0183'\n[record.r]\nfields = [{ name = 'a' }]\n[record.s]\nframe = 'c'\nfields = [{ name = 'a' }]\n[[ignore]]\nframe = 'b'\ncount_by = 'x'",
            ),
        ),
        ("two texts on one line", own("format = 'x'\n[[frame]]\ncut = 'text'\n[[frame]]\nname = 'b'\ncut = 'text'")),
        ("frames of one name", own("format = 'x'\n[[frame]]\ncut = 'nmea-0183'\n[[frame]]\ncut = 'nmea-0183'")),
        ("a frame on an unknown line", own("format = 'x'\n[line.request]\n[[frame]]\non = 'requst'\ncut = 'text'")),
        ("a series of an unknown field", text("", "series = 'id'\nfields = [{ name = 'ix' }]")),
        ("a checksum asked of a text", text("", "checksum = 'required'\nfields = [{ name = 'a' }]")),
        (
            "a header field at the end",
            packet(
                &format!("{p}\nheader = [{{ name = 'h', byte = -1, type = 'u8' }}]"),
                "fields = [{ name = 'v', type = 'u16be' }]",
            ),
        ),
        (
            "examples that are none",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]\n[[example]]\nbytes = '0'\ngives = { record = 'r' }\n[[example]]\ntext = 'x'\nbytes = '00'\ngives = {}\n[[example]]\ntext = 'x'",
            ),
        ),
    ]
}

#[test]
fn every_problem_has_its_place_and_its_words() {
    let mut out = String::new();
    for (name, text) in cases() {
        writeln!(out, "{name}\n{}", problems(&text)).unwrap();
    }
    insta::assert_snapshot!(out);
}

#[test]
fn examples_that_do_not_hold_say_how() {
    let text = r#"
        format = "e"
        [[frame]]
        cut = "packet"
        start = "AA"
        length = { byte = 1, type = "u8" }
        checksum = { algorithm = "SUM-8", type = "u8", from = 1 }
        [record.a]
        fields = [
          { name = "v", type = "i8", scale = 0.5 },
          { name = "f", type = "f32be" },
          { name = "c", type = "u8", codes = { 1 = "one" } },
          { name = "g", up_to = "end", fields = [ { name = "x", type = "u8" } ] },
        ]
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B0"
        gives = { record = "a", v = -1.0, f = 0.1, c = "one", g = [ { x = 5 } ] }
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B0"
        gives = { record = "a", v = -1, f = 0.2, c = 2, g = [ { x = 6 }, { x = 7 } ], h = 1, v2 = "" }
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B1"
        gives = { record = "a" }
        [[example]]
        bytes = "AA 0A FE"
        gives = { record = "a" }
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B0 00"
        gives = { record = "b" }
    "#;
    let format = Format::parse(text).unwrap();
    let mut out = String::new();
    for outcome in format.compile().unwrap().run_examples(&format) {
        writeln!(out, "example {}", outcome.example + 1).unwrap();
        for difference in &outcome.differences {
            writeln!(out, "  `{}` should be {}, is {}", difference.field, difference.expected, difference.found)
                .unwrap();
        }
    }
    insta::assert_snapshot!(out);
}

#[test]
fn the_shipped_formats_are_sound_and_their_examples_hold() {
    for (format, plan, _) in crate::properties::formats() {
        let outcomes = plan.run_examples(&format);
        assert!(!outcomes.is_empty());
        for outcome in outcomes {
            assert!(outcome.differences.is_empty(), "{}: {outcome:?}", format.name);
        }
    }
}
