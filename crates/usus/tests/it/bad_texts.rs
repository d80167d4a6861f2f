//! Texts that mean harm, or are broken: each is a reject or an invalid value with its reason, and costs no more than its length.

use usus::{Decoder, Event, Format, Plan};

fn plan(text: &str) -> Plan {
    let text = format!("format = 'bad'\n{text}");
    Format::parse(&text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}\n{text}"))
}

/// What comes of bytes, in pieces of a size: of records their fields, of all else the reason.
fn said(plan: &Plan, bytes: &[u8], size: usize) -> Vec<String> {
    let mut decoder = Decoder::of_one_line(plan);
    let mut said = Vec::new();
    let mut take = |event: Event<'_>| match event {
        Event::Record(record) => said.push(format!(
            "record {}",
            record.fields().map(|(schema, cell)| format!("{}={cell:?}", schema.name)).collect::<Vec<_>>().join(" ")
        )),
        Event::Reject(reject) => said.push(format!("reject {}", reject.reason.describe(reject.plan))),
        Event::Clipped(clipped) => said.push(format!("clipped {}", clipped.reason.describe(clipped.plan))),
        _ => {}
    };
    for chunk in bytes.chunks(size) {
        let mut events = decoder.feed(chunk.into());
        while let Some(event) = events.next() {
            take(event);
        }
    }
    let mut events = decoder.finish();
    while let Some(event) = events.next() {
        take(event);
    }
    said
}

const PAIRS: &str =
    "[[frame]]\ncut = 'text'\nread = 'pairs'\nseparator = ' '\nquote = '\"'\n[record.r]\nfields = [{ name = 'a' }]";

/// Each with the begin of what is said of it first, and in how many pieces.
#[test]
fn each_is_told_and_bounded() {
    let long = |text: &str, count: usize| text.repeat(count).into_bytes();
    let columns = "[[frame]]\ncut = 'text'\nseparator = ';'\nquote = '\"'\n[record.r]\nfields = [{ name = 'a', type = 'number' }, { name = 'b', optional = true }]";
    let pairs = PAIRS;
    let wide_pairs = &format!("limits = {{ line = 65534 }}\n{PAIRS}");
    let printed = "[[frame]]\ncut = 'text'\n[record.r]\nprinted = 'a {a}, b {b}'\nfields = [{ name = 'a' }, { name = 'b', type = 'number' }]";
    let pattern = "limits = { line = 65534 }\n[[frame]]\ncut = 'text'\n[record.r]\npattern = '(?:(?:x*)*)*y(?<a>)'\nfields = [{ name = 'a' }]";
    let empty = "[[frame]]\ncut = 'text'\n[record.r]\npattern = '(?:a(?<a>))?'\nfields = [{ name = 'a' }]";
    let dates = "[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'd', type = 'date', layout = 'DD.MM.YYYY' }, { name = 't', type = 'clock' }]";
    let cleaned = "clean = ['nul', 'escapes']\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]";
    let ascii = "[[frame]]\ncut = 'text'\ncharset = 'ascii'\n[record.r]\nfields = [{ name = 'a' }]";
    let cases: [(&str, &str, Vec<u8>, &str); 18] = [
        ("a line of a megabyte", columns, long("7", 1 << 20), "reject a frame (text) does not end within 4096 bytes"),
        ("separators by the million", columns, long(";", 1 << 20), "reject a frame (text) does not end"),
        (
            "a quote that never closes",
            columns,
            b"1;\"abc\n2\n".to_vec(),
            "reject a frame (text) has a column that begins with a quote which nothing closes",
        ),
        (
            "quotes by the thousand",
            columns,
            [long("\"", 4_001), b"\n".to_vec()].concat(),
            "reject a frame (text) has a column",
        ),
        (
            "a number of 400 digits",
            columns,
            [long("7", 400), b"\n".to_vec()].concat(),
            "record a=Reading(Reading { value: Absent(Invalid), quality: Invalid })",
        ),
        (
            "a number of 400 places",
            columns,
            [b"0.".to_vec(), long("7", 400), b"\n".to_vec()].concat(),
            "record a=Reading(Reading { value: Absent(Invalid)",
        ),
        (
            "an exponent of 20 digits",
            columns,
            b"1e99999999999999999999\n".to_vec(),
            "record a=Reading(Reading { value: Absent(Invalid)",
        ),
        ("keys by the million", pairs, long("k=1 ", 1 << 20), "reject a frame (text) does not end"),
        (
            "keys by the thousand",
            wide_pairs,
            [long("a=1 ", 16_000), b"\n".to_vec()].concat(),
            "reject a frame (text) has a key twice, the second time at character 5",
        ),
        (
            "a quote in pairs that never closes",
            pairs,
            b"a=\"b c\n".to_vec(),
            "reject a frame (text) has a column that begins with a quote",
        ),
        (
            "a line that is nearly printed",
            printed,
            [b"a ".to_vec(), long(", b ", 1_000), b"x\n".to_vec()].concat(),
            "reject no record claims",
        ),
        (
            "a pattern that could go astray",
            pattern,
            [long("x", 65_000), b"\n".to_vec()].concat(),
            "reject no record claims",
        ),
        (
            "a pattern that fits nothing at all",
            empty,
            b"\n\n\na7\n".to_vec(),
            "record a=Reading(Reading { value: Text(\"7\")",
        ),
        (
            "days and times that there are not",
            dates,
            b"31.02.2026,24:00:00\n".to_vec(),
            "record d=Reading(Reading { value: Absent(Invalid), quality: Invalid }) t=Reading(Reading { value: Absent(Invalid)",
        ),
        ("NULs", columns, b"\0\x001;\0\n".to_vec(), "record a=Reading(Reading { value: Absent(Invalid)"),
        (
            "an escape that never ends",
            cleaned,
            [b"\x1B]".to_vec(), long("0", 5_000), b"\nb\n".to_vec()].concat(),
            "reject a frame (text) does not end within 4096 bytes",
        ),
        (
            "a megabyte of NULs",
            cleaned,
            [vec![0; 1 << 20], b"b\n".to_vec()].concat(),
            "record a=Reading(Reading { value: Text(\"b\")",
        ),
        (
            "bytes of another character set",
            ascii,
            b"caf\xE9\n".to_vec(),
            "record a=Reading(Reading { value: Text(\"caf\\xe9\"), quality: InvalidText })",
        ),
    ];
    for (what, format, bytes, first) in cases {
        let plan = plan(format);
        // Begins where a line begins.
        let bytes = [b"\n".to_vec(), bytes].concat();
        let whole = said(&plan, &bytes, usize::MAX);
        assert!(whole.first().is_some_and(|said| said.starts_with(first)), "{what}: {:.300?}", whole.first());
        assert_eq!(whole, said(&plan, &bytes, 997), "{what}");
        // A run is told in pieces of 64 KiB at most, and nothing else is made of it.
        assert!(whole.len() <= 2 + bytes.len() / 65_536 + 1, "{what}: {}", whole.len());
        assert!(plan.largest_window() <= 2 * 65_536, "{what}");
    }
}

#[test]
fn automata_are_bounded() {
    for pattern in
        ["(?:a{1000}){1000}", "(?<a>[a-z]{0,500}){500}", &"(".repeat(100), &format!("{}x", "(?:a|b)*".repeat(20_000))]
    {
        let text = format!(
            "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\npattern = '{pattern}'\nfields = [{{ name = 'a' }}]"
        );
        let problems = Format::parse(&text).and_then(|format| format.compile().map(drop)).unwrap_err();
        assert!(!problems.is_empty());
    }
}
