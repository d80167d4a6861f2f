//! Each bound at its value and one past it, and inputs that are nothing but trouble.

use usus::{Decimal, Format, limits};

use crate::drive::{Input, run};

fn sound(text: &str) -> bool {
    Format::parse(text).and_then(|format| format.compile().map(|_| ())).is_ok()
}

fn text(front: &str, body: &str) -> String {
    format!("format = 'x'\n{front}\n[[frame]]\ncut = 'text'\n{body}")
}

#[test]
fn formats_are_bounded() {
    let record = "[record.r]\nfields = [{ name = 'a' }]\n";
    let padded = |size: usize| {
        let text = text("", record);
        format!("{text}#{}", " ".repeat(size - text.len() - 1))
    };
    let named = |length: usize| text("", &format!("[record.r]\nfields = [{{ name = '{}' }}]\n", "n".repeat(length)));
    let frames = |count: usize| {
        let frames: String =
            (0..count).map(|index| format!("[[frame]]\nname = 'f{index}'\ncut = 'nmea-0183'\n")).collect();
        format!("format = 'x'\n{frames}")
    };
    let kinds = |count: usize| {
        let records: String = (0..count)
            .map(|index| format!("[record.r{index}]\nwhen = \"h == '{index}'\"\nfields = [{{ name = 'a' }}]\n"))
            .collect();
        text("", &format!("header = [{{ name = 'h', column = 1 }}]\n{records}"))
    };
    let fields = |count: usize| {
        let fields: String = (0..count).map(|index| format!("{{ name = 'f{index}' }}, ")).collect();
        text("", &format!("[record.r]\nfields = [{fields}]"))
    };
    let codes = |count: usize| {
        let codes: String = (0..count).map(|index| format!("c{index} = 'x', ")).collect();
        text("", &format!("[record.r]\nfields = [{{ name = 'a', codes = {{ {codes} }} }}]"))
    };
    let start = |size: usize| {
        format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = '{}'\nlength = {size}\n[record.r]\nfields = []",
            "AA".repeat(size)
        )
    };
    let group = |count: usize| {
        format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = {}\n[record.r]\nfields = [{{ name = 'g', count = {count}, fields = [{{ name = 'a', type = 'u8' }}] }}]",
            count + 1
        )
    };
    let line = |limit: usize| text(&format!("limits = {{ line = {limit} }}"), record);
    let series = |limit: usize| text(&format!("limits = {{ series = {limit} }}"), record);
    let names = |limit: usize| text(&format!("limits = {{ names = {limit} }}"), record);
    // A header's fields count for each record.
    let all_fields = |count: usize| {
        let header: String = (0..63).map(|index| format!("{{ name = 'h{index}' }}, ")).collect();
        let records: String = (0..1_023)
            .map(|index| format!("[record.r{index}]\nwhen = \"h0 == '{index}'\"\nfields = [{{ name = 'a' }}]\n"))
            .collect();
        let rest: String = (0..count - 1_023 * 64 - 63).map(|index| format!("{{ name = 'f{index}' }}, ")).collect();
        text("", &format!("header = [{header}]\n{records}[record.rest]\nfields = [{rest}]"))
    };
    let all_codes = |count: usize| {
        let codes: String = (0..4_095).map(|index| format!("c{index} = 'x', ")).collect();
        let records: String =
            (0..64).map(|index| format!("[record.r{index}]\nwhen = \"h == '{index}'\"\nfields = []\n")).collect();
        let rest: String = (0..count - 64 * 4_095).map(|index| format!("c{index} = 'x', ")).collect();
        text(
            "",
            &format!("header = [{{ name = 'h', codes = {{ {codes} }} }}]\n{records}").replacen(
                "fields = []",
                &format!("fields = [{{ name = 'z', codes = {{ {rest} }} }}]"),
                1,
            ),
        )
    };
    type Make<'a> = &'a dyn Fn(usize) -> String;
    let cases: [(&str, Make<'_>, usize); 13] = [
        ("file size", &padded, limits::FORMAT_BYTES),
        ("name", &named, limits::NAME),
        ("frames", &frames, limits::FRAMES),
        ("kinds", &kinds, limits::KINDS),
        ("fields", &fields, limits::FIELDS),
        ("codes", &codes, limits::CODES),
        ("fields of all records", &all_fields, limits::ALL_FIELDS),
        ("codes of all records", &all_codes, limits::ALL_CODES),
        ("start", &start, limits::START),
        ("frame", &group, limits::FRAME - 1),
        ("line", &line, limits::LINE),
        ("series", &series, limits::SERIES),
        ("counted names", &names, limits::NAMES),
    ];
    for (name, make, limit) in cases {
        assert!(sound(&make(limit)), "{name} at {limit}");
        assert!(!sound(&make(limit + 1)), "{name} past {limit}");
    }
}

/// A header's fields count for every record that has them, before anything is made of them.
#[test]
fn header_fields_do_not_multiply_without_end() {
    let more: String = (0..2_000).map(|index| format!("{{ name = 'f{index}' }}, ")).collect();
    let records: String = (0..1_024).map(|index| format!("[record.r{index}]\nwhen = \"h == '{index}'\"\n")).collect();
    let text = text("", &format!("header = [{{ name = 'h', column = 1 }}, {more}]\n{records}"));
    let problems = Format::parse(&text).and_then(|format| format.compile()).unwrap_err();
    let said = problems.iter().next().unwrap().kind.to_string();
    assert_eq!(
        said,
        "66033 fields in all records together, those of the header counted for each, at most 65536 are allowed"
    );
}

#[test]
fn problems_past_the_limit_are_only_counted() {
    let text: String = (0..limits::PROBLEMS + 5).map(|index| format!("key{index} = 1\n")).collect();
    let problems = Format::parse(&text).unwrap_err();
    assert_eq!(problems.iter().count(), limits::PROBLEMS);
    // `format` and `frame` are missing, too.
    assert_eq!(problems.unlisted(), 5 + 2);
}

#[test]
fn numbers_are_exact_to_their_last_digit() {
    let nines = "9".repeat(limits::DIGITS);
    assert_eq!(Decimal::parse(nines.as_bytes()).unwrap().to_string(), nines);
    assert!(Decimal::parse(format!("{nines}9").as_bytes()).is_none());
    let small = format!("0.{}1", "0".repeat(usize::from(limits::PLACES) - 1));
    assert_eq!(Decimal::parse(small.as_bytes()).unwrap().to_string(), small);
    assert!(Decimal::parse(format!("{small}0").as_bytes()).is_none());
}

/// The tests have overflow checks: arithmetic that runs over stops them.
#[test]
fn overflows_are_seen() {
    let byte = std::hint::black_box(255u8);
    assert!(std::panic::catch_unwind(|| byte + std::hint::black_box(1)).is_err());
}

/// Degrees of more digits than are exact are no degrees, whatever they would wrap around to.
#[test]
fn degrees_past_the_last_digit_are_invalid() {
    let format = "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'lat', type = 'lat' }]";
    let plan = Format::parse(format).unwrap().compile().unwrap();
    for digits in 4..60 {
        for first in ["9", "1"] {
            let text = format!("{first}{}07.5,N\n", "8".repeat(digits - 3));
            let (events, _) = run(&plan, &Input::raw(text.as_bytes()), &mut || 100);
            let said = events.last().unwrap();
            assert_eq!(said.contains("!invalid"), text != "1807.5,N\n", "{text} {said}");
        }
    }
}

/// What converts to something of at most 38 digits does, however large the products in between.
#[test]
fn conversions_are_exact_wherever_they_fit() {
    let nines = "9".repeat(37);
    for (from, to, sent, wanted) in [
        ("mm", "m", format!("{nines}9"), Some(format!("{}.999", "9".repeat(35)))),
        ("lbf", "kN", format!("1{}", "0".repeat(34)), Some(format!("44482216152605{}.000", "0".repeat(18)))),
        (
            "psi",
            "bar",
            format!("645160000000{}", "0".repeat(20)),
            Some(format!("44482216152605{}.000", "0".repeat(17))),
        ),
        ("°F", "°C", "-459.67".to_owned(), Some("-273.15000".to_owned())),
        ("°F", "K", format!("5{}", "0".repeat(36)), None),
        ("km", "m", nines.clone(), None),
    ] {
        let text = format!(
            "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{{ name = 'v', type = 'number', unit = '{to}', unit_from = 'u' }}, {{ name = 'u', codes = {{ U = '{from}' }} }}]"
        );
        let plan = Format::parse(&text).unwrap().compile().unwrap();
        let (events, _) = run(&plan, &Input::raw(format!("{sent},U\n").as_bytes()), &mut || 100);
        let said = events.last().unwrap();
        match wanted {
            Some(wanted) => assert!(said.contains(&format!("v={wanted} ")), "{sent} {from}: {said}"),
            // The result has more than 38 digits.
            None => assert!(said.contains("v=<invalid>"), "{sent} {from}: {said}"),
        }
    }
}

#[test]
fn sentences_are_bounded() {
    let format = "format = 'x'\n[[frame]]\ncut = 'nmea-0183'\n[record.r]\nmore = 'ignore'\nfields = [{ name = 'a' }]";
    let plan = Format::parse(format).unwrap().compile().unwrap();
    for (length, taken) in [(limits::SENTENCE - 1, true), (limits::SENTENCE, false)] {
        let content = "A".repeat(length);
        let sum = content.bytes().fold(0, |sum, byte| sum ^ byte);
        let bytes = format!("${content}*{sum:02X}\r\n").into_bytes();
        let (events, ledgers) = run(&plan, &Input::raw(&bytes), &mut || 100);
        assert_eq!(ledgers[0].records[0] == 1, taken, "{length}: {events:?}");
    }
}

#[test]
fn counted_names_past_the_limit_are_others() {
    let format = "format = 'x'\nlimits = { names = 3 }\n[[frame]]\ncut = 'text'\nheader = [{ name = 'a', column = 1 }]\n[[ignore]]\ncount_by = 'a'";
    let plan = Format::parse(format).unwrap().compile().unwrap();
    let (_, ledgers) = run(&plan, &Input::raw(b"a\nb\na\nc\nd\ne\nb\n\xFF\n\xFF\n"), &mut || 5);
    let counted: Vec<(&str, u64)> = ledgers[0].ignored_by.iter().map(|(name, count)| (name.as_str(), *count)).collect();
    assert_eq!((counted, ledgers[0].ignored_by_others), (vec![("a", 2), ("b", 2), ("c", 1)], 4));
}

/// 64 MB of nothing but start patterns, and a gigabyte without a line end, in miniature: the same work for each byte, however many
/// there are. The real sizes are run on the command.
#[test]
fn nothing_but_starts_is_linear() {
    let (_, plan, _) = &crate::properties::formats()[1];
    let count = |repeat: usize| {
        let bytes = b"\xA5\x5A".repeat(repeat);
        let (events, ledgers) = run(plan, &Input::raw(&bytes), &mut || 65_536);
        assert!(ledgers[0].balances());
        events.len()
    };
    // Two million candidates: quadratic work would not end.
    assert!(count(2_000_000) <= 2 * 4_000_000 / limits::RUN as usize + 4);
}

#[test]
fn a_line_without_an_end_is_given_up_in_pieces() {
    let format = "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]";
    let plan = Format::parse(format).unwrap().compile().unwrap();
    let mut bytes = b"x".repeat(10_000_000);
    bytes.extend_from_slice(b"\nok\n");
    let (events, ledgers) = run(&plan, &Input::raw(&bytes), &mut || 65_536);
    assert_eq!(ledgers[0].rejected, 10_000_000);
    assert_eq!(events.len(), 10_000_000 / limits::RUN as usize + 1 + 1);
    assert!(events.last().unwrap().ends_with("r a=\"ok\""));
}

#[test]
fn empty_and_unknown_input_is_nothing() {
    let format = "format = 'x'\n[line.a]\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]";
    let plan = Format::parse(format).unwrap().compile().unwrap();
    let mut decoder = usus::Decoder::new(&plan);
    assert!(decoder.line("b", 0).is_none());
    assert!(decoder.finish().next().is_none());
    let line = decoder.line("a", 0).unwrap();
    let mut other = usus::Decoder::new(&plan);
    assert!(other.feed(usus::Chunk::new(line, b"x\n")).next().is_none());
    assert!(other.loss(line, usus::Loss::Gap, None).next().is_none());
    assert_eq!(other.ledger(line).total, 0);
}

#[test]
fn automata_of_printed_lines_are_bounded() {
    let records = |count: usize, more: &str| -> String {
        let record = |number: usize| {
            format!(
                "[record.r{number}]\nprinted = 'gate {number}: {{a}} m/s, {{b}}[ ({{c}})]{more}'\nfields = [{{ name = 'a', type = 'number' }}, {{ name = 'b' }}, {{ name = 'c' }}]\n"
            )
        };
        format!("format = 'x'\n[[frame]]\ncut = 'text'\n{}", (0..count).map(record).collect::<String>())
    };
    let compiled = |text: &str| Format::parse(text).unwrap().compile();
    let plan = compiled(&records(300, "")).unwrap();
    assert_eq!(plan.records(b"gate 299: 7.5 m/s, west\n")[0].kind, "r299");
    // Each is within its own bound, all of them together are not.
    let problems = compiled(&records(1_000, &" and so on".repeat(60))).unwrap_err().to_string();
    assert!(problems.contains("bytes of the automata of all"), "{problems}");
    assert_eq!(problems.matches("automata").count(), 1, "{problems}");
}
