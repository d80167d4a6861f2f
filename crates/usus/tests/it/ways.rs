//! Visiting a record, which takes short ways to what instruments send most, shows what its fields say.

use proptest::prelude::*;
use usus::fast::{Name, ShortText, Together, Visit, Written};
use usus::{
    Absent, Cell, Chunk, Decimal, Decoder, FieldSchema, Format, Items, Plan, Quality, Reading, Record, Value, limits,
};

/// What a visitor sees, as text. Numbers as they are written are asked for or not.
#[derive(Default)]
struct Seen<const WRITTEN: bool, const TOGETHER: bool>(Vec<String>);

impl<const WRITTEN: bool, const TOGETHER: bool> Visit for Seen<WRITTEN, TOGETHER> {
    const WRITTEN: bool = WRITTEN;
    const SEPARATED_BY: Option<u8> = if TOGETHER { Some(b',') } else { None };

    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        self.0.push(shown(schema, reading));
    }

    fn number(&mut self, schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        let mut block = [0; 48];
        let length = usus::fast::number(&mut block, coefficient, places);
        let number = Decimal::parse(&block[..length]).unwrap();
        self.reading(schema, Reading { value: Value::Decimal(number), quality });
    }

    fn written(&mut self, schema: &FieldSchema, number: Written<'_>) {
        assert_eq!(number.eight().to_le_bytes()[..number.length()], *number.text());
        let value = Value::Decimal(Decimal::parse(number.text()).unwrap());
        assert_eq!(value.to_string().as_bytes(), number.text(), "a number in its own form");
        self.reading(schema, Reading { value, quality: Quality::Good });
    }

    fn together<'s>(&mut self, schemas: impl Iterator<Item = &'s FieldSchema>, columns: Together<'_>) {
        let texts: Vec<&[u8]> = columns.text().split(|byte| *byte == b',').collect();
        let schemas: Vec<&FieldSchema> = schemas.collect();
        assert_eq!(texts.len(), schemas.len());
        for (schema, text) in schemas.into_iter().zip(texts) {
            let value = Decimal::parse(text).map_or(Value::Absent(Absent::Empty), Value::Decimal);
            assert_eq!(value.to_string().as_bytes(), text, "a number in its own form");
            self.reading(schema, Reading { value, quality: Quality::Good });
        }
    }

    fn text(&mut self, schema: &FieldSchema, text: ShortText<'_>) {
        assert_eq!(text.eight().to_le_bytes()[..text.length()], *text.text());
        assert!((1..=8).contains(&text.text().len()) && is_shown_as_it_is(text.text()), "{text:?}");
        self.0.push(format!("{} Text(\"{}\") Good", schema.name, text.text().escape_ascii()));
    }

    fn name(&mut self, schema: &FieldSchema, value: Value<'_>, name: &Name) {
        assert_eq!(value.to_string(), name.text());
        assert_eq!(name.block()[..name.text().len()], *value.to_string().as_bytes());
        assert!(is_shown_as_it_is(name.text().as_bytes()), "{name:?}");
        self.reading(schema, Reading { value, quality: Quality::Good });
    }

    fn begin_item(&mut self, index: usize) {
        self.0.push(format!("item {index}"));
    }

    fn end_item(&mut self) {
        self.0.push("end of the item".to_owned());
    }

    fn group(&mut self, schema: &FieldSchema, items: Items<'_>) {
        self.0.push(schema.name.clone());
        items.visit(self);
    }
}

/// Whether nothing in a text is quoted or escaped anywhere.
fn is_shown_as_it_is(text: &[u8]) -> bool {
    text.iter().all(|byte| matches!(byte, b' '..=b'~') && !b",\"\\".contains(byte))
}

fn shown(schema: &FieldSchema, reading: Reading<'_>) -> String {
    format!("{} {:?} {:?}", schema.name, reading.value, reading.quality)
}

/// What the fields of a record say.
fn said(record: &Record<'_>) -> Vec<String> {
    let mut said = Vec::new();
    record.fields().for_each(|(schema, cell)| say(schema, cell, &mut said));
    said
}

fn say(schema: &FieldSchema, cell: Cell<'_>, said: &mut Vec<String>) {
    match cell {
        Cell::Reading(reading) => said.push(shown(schema, reading)),
        Cell::Group(items) => {
            said.push(schema.name.clone());
            for (index, item) in items.enumerate() {
                said.push(format!("item {index}"));
                item.fields().for_each(|(field, cell)| say(field, cell, said));
                said.push("end of the item".to_owned());
            }
        }
        _ => unreachable!("there are no other cells"),
    }
}

fn plan(text: &str) -> Plan {
    Format::parse(text).unwrap().compile().unwrap()
}

fn texts() -> Plan {
    plan(
        r#"
        format = "ways"
        [[frame]]
        cut    = "text"
        end    = "LF"
        header = [{ name = "begin", chars = "1-3", type = "text" }]
        [record.r]
        more   = "ignore"
        fields = [
          { name = "number",  column = 1, type = "number", optional = true },
          { name = "text",    type = "text", optional = true },
          { name = "range",   type = "number", range = [-5, 60], optional = true },
          { name = "unit",    type = "number", unit = "m", unit_from = "of", optional = true },
          { name = "of",      type = "text", codes = { M = "m", F = "ft" }, optional = true },
          { name = "code",    type = "number", codes = { 0 = "off", 1 = "on", 12 = "both" }, optional = true },
          { name = "letter",  type = "text", codes = { A = "valid", V = "not, \"valid\"" }, optional = true },
          { name = "marked",  type = "number", no_data = [99, "-"], optional = true },
          { name = "latitude", type = "lat", optional = true },
          { name = "longitude", type = "lon", optional = true },
          { name = "clock",   type = "clock", layout = "hhmmss", optional = true },
          { name = "clock2",  type = "clock", optional = true },
          { name = "date",    type = "date", layout = "DDMMYY", optional = true },
          { name = "date2",   type = "date", layout = "YY/MM/DD", optional = true },
          { name = "scaled",  type = "number", scale = 0.5, optional = true },
          { name = "hex",     type = "number", digits = "hex", optional = true },
        ]"#,
    )
}

fn packets() -> Plan {
    plan(
        r#"
        format = "ways"
        [[frame]]
        cut    = "packet"
        start  = "AA"
        length = 24
        [record.r]
        fields = [
          { name = "a", type = "u16be" },
          { name = "b", type = "i24le", scale = 0.01 },
          { name = "c", type = "i16be", no_data = -1, range = [-300, 300] },
          { name = "d", type = "u8", codes = { 0 = "zero", 7 = "seven" } },
          { type = "u8", flags = { 0 = "low", 7 = "high" } },
          { name = "e", byte = 10, type = "u16le", bits = "3-11", add = -5 },
          { name = "f", byte = 12, type = "f32be" },
          { name = "g", type = "i64be" },
          { name = "h", byte = 1, type = "i16be", no_data = -1 },
          { name = "i", byte = 3, type = "i24le" },
          { name = "j", byte = 8, type = "i8" },
        ]"#,
    )
}

/// A column: what fields may send, and a little off.
fn column() -> impl Strategy<Value = String> {
    let number = (any::<bool>(), 0u32..1_000_000, 0usize..5).prop_map(|(negative, number, places)| {
        let text = format!("{number:0width$}", width = places + 1);
        let (whole, fraction) = text.split_at(text.len() - places);
        format!("{}{whole}{}{fraction}", if negative { "-" } else { "" }, if places > 0 { "." } else { "" })
    });
    let degrees = (0u32..200, 0u32..70, 0u32..100_000, 1usize..6).prop_map(|(degrees, minutes, fraction, places)| {
        format!("{degrees:02}{minutes:02}.{:.places$}", format!("{fraction:05}"))
    });
    let pairs = (0u32..32, 0u32..62, 0u32..62, 0usize..3).prop_map(|(a, b, c, between)| {
        [format!("{a:02}{b:02}{c:02}"), format!("{a:02}:{b:02}:{c:02}"), format!("{a:02}/{b:02}/{c:02}")][between]
            .clone()
    });
    let fraction = (pairs.clone(), 0u32..1_000).prop_map(|(pairs, fraction)| format!("{pairs}.{fraction}"));
    let word = prop::sample::select(vec![
        "",
        " ",
        "A",
        "V",
        "M",
        "F",
        "N",
        "S",
        "E",
        "W",
        "0",
        "1",
        "12",
        "01",
        "-0",
        "-",
        "99",
        "+5",
        ".5",
        "5.",
        "1e3",
        "0.0",
        "-0.00",
        "12345678",
        "123456789012",
        "a b",
        " 7 ",
        "abcdefghi",
        "abcdefgh\u{e4}",
        "1.2.3",
        "0x1F",
        "fe",
        "60.0",
        "-5.0001",
        "1860.0000",
    ])
    .prop_map(str::to_owned);
    prop_oneof![3 => number, 2 => degrees, 2 => pairs, 1 => fraction, 4 => word, 1 => "[0-9.:/-]{0,9}"]
}

pub fn compare(plan: &Plan, bytes: &[u8], chunk: usize) -> usize {
    let mut decoder = Decoder::new(plan);
    let line = decoder.line("", 0).unwrap();
    let mut records = 0;
    let mut take = |record: &Record<'_>| {
        records += 1;
        let said = said(record);
        let mut numbers = Seen::<false, false>::default();
        record.visit(&mut numbers);
        assert_eq!(numbers.0, said);
        let mut written = Seen::<true, false>::default();
        record.visit(&mut written);
        assert_eq!(written.0, said);
        let mut together = Seen::<true, true>::default();
        record.visit(&mut together);
        assert_eq!(together.0, said);
    };
    for chunk in bytes.chunks(chunk) {
        let Ok(()) = decoder.feed(Chunk::new(line, chunk)).drain(&mut take);
    }
    let Ok(()) = decoder.finish().drain(&mut take);
    records
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(500) })]

    #[test]
    fn columns_are_shown_as_they_say(lines in prop::collection::vec(prop::collection::vec(column(), 1..20), 1..4), chunk in 1usize..400) {
        let text: String = lines.iter().map(|columns| columns.join(",") + "\n").collect();
        // The first line may have begun before.
        compare(&texts(), format!("\n{text}").as_bytes(), chunk);
    }

    /// Numbers in columns side by side, nearly all in the form in which they are shown: that they are is told for all of them together.
    #[test]
    fn neighbours_are_shown_as_they_say(
        columns in prop::collection::vec(prop_oneof![
            "-?(0|[1-9][0-9]{0,3})(\\.[0-9]{1,3})?", "-?(0|[1-9][0-9]{0,3})(\\.[0-9]{1,3})?", "-?[0-9]{0,20}(\\.[0-9]{0,20})?", "[-+.0-9]{0,4}",
        ], 6..12),
        behind in 0..90usize, chunk in 1usize..300,
    ) {
        let fields = "{ name = 'a', type = 'number', column = 1 }, { name = 'b', type = 'number' }, { name = 'c', type = 'number' }, { name = 'd', type = 'number' }, { name = 'e', type = 'number' }, { name = 'f', type = 'number' }";
        let plan = plan(&format!("format = 'ways'\n[[frame]]\ncut = 'text'\n[record.r]\nmore = 'ignore'\nfields = [{fields}]"));
        let line = columns.join(",");
        let text = format!("\n{line}\n1,2.5,,-0.25,5,6\n{line}\n{}\n", "x".repeat(behind));
        prop_assert!(compare(&plan, text.as_bytes(), chunk) >= 3);
    }

    #[test]
    fn packets_are_shown_as_they_say(mut bytes in prop::collection::vec(prop_oneof![any::<u8>(), Just(0), Just(0xFF), Just(7)], 23), chunk in 1usize..60) {
        bytes.insert(0, 0xAA);
        // Many bytes follow the first packets, and few the last ones.
        let bytes = bytes.repeat(6);
        prop_assert!(compare(&packets(), &bytes, chunk) >= 1);
    }
}

/// Whoever wants columns together, and what was seen so.
#[derive(Default)]
struct Neighbours(Vec<String>);

impl Visit for Neighbours {
    const SEPARATED_BY: Option<u8> = Some(b',');

    fn reading(&mut self, _schema: &FieldSchema, _reading: Reading<'_>) {}

    fn together<'s>(&mut self, _schemas: impl Iterator<Item = &'s FieldSchema>, columns: Together<'_>) {
        self.0.push(String::from_utf8(columns.text().to_vec()).unwrap());
    }

    fn group(&mut self, _schema: &FieldSchema, _items: Items<'_>) {}
}

#[test]
fn only_numbers_as_they_are_shown_are_seen_together() {
    let numbers = "{ name = 'a', column = 2, type = 'number' }, { name = 'b', type = 'number' }, { name = 'c', type = 'number' }, { name = 'd', type = 'number' }, { name = 'e', type = 'number' }, { name = 'f', column = 1 }";
    let seen = |separator: &str, columns: &str| {
        let plan = plan(&format!(
            "format = 'ways'\n[[frame]]\ncut = 'text'\nseparator = '{separator}'\n[record.r]\nfields = [{numbers}]"
        ));
        let text = format!("\nx{separator}{columns}\n{}\n", "y".repeat(80)).replace(',', separator);
        let mut decoder = Decoder::new(&plan);
        let line = decoder.line("", 0).unwrap();
        let mut visitor = Neighbours::default();
        let mut records = 0;
        let mut take = |record: &Record<'_>| {
            records += 1;
            record.visit(&mut visitor);
        };
        let Ok(()) = decoder.feed(Chunk::new(line, text.as_bytes())).drain(&mut take);
        assert_eq!(records, 1, "{columns}");
        visitor.0
    };
    for columns in
        ["1,2.5,,-0.25,-7", ",,,,", "0,0.0,-0,999999999999999,123456789012345.123456789012345", "-1.5,-1.5,-1.5,-1.5,0"]
    {
        assert_eq!(seen(",", columns), [columns]);
        assert_eq!(seen(";", columns), [""; 0]);
    }
    for wrong in [
        "01",
        "-01",
        "1.",
        ".5",
        "-",
        "--1",
        "1-",
        "1.2.3",
        "+1",
        "1e3",
        "00",
        " 1",
        "1 ",
        "1..2",
        "-.5",
        "1234567890123456",
        "a",
    ] {
        for place in 0..5 {
            let mut columns = ["1", "2.5", "", "-0.25", "7"];
            columns[place] = wrong;
            assert_eq!(seen(",", &columns.join(",")), [""; 0], "{wrong} at {place}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(512) })]

    /// Whatever separates columns, also if it may be part of a number.
    #[test]
    fn numbers_are_told_whatever_separates_them(
        separator in prop::sample::select(b";, 0159.-+eE_".to_vec()),
        columns in prop::collection::vec("-?(0|[1-9][0-9]{0,3}|[0-9.-]{0,3}|[0-9]{1,9})([.][0-9]{1,5})?", 7..9),
    ) {
        let separator = char::from(separator).to_string();
        let numbers: Vec<String> = (1..8).map(|column| format!("{{ name = 'c{column}', column = {column}, type = 'number', optional = true }}")).collect();
        let plan = plan(&format!(
            "format = 'ways'\n[[frame]]\ncut = 'text'\nseparator = '{separator}'\n[record.r]\nmore = 'ignore'\nfields = [{}]",
            numbers.join(", ")
        ));
        let line = columns.join(&separator);
        let bytes = format!("x\n{line}\n{line}\n{}\n", "y".repeat(80));
        compare(&plan, bytes.as_bytes(), 1_000);
    }
}

/// Every byte as a column, where some characters have names.
#[test]
fn single_characters_are_shown_as_they_say() {
    let codes: Vec<String> =
        ('a'..='t').chain("AZ09!~".chars()).map(|code| format!("'{code}' = 'is {code}'")).collect();
    let plan = plan(&format!(
        "format = 'ways'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{{ name = 'a', column = 1, codes = {{ {} }} }}, {{ name = 'b' }}]",
        codes.join(", ")
    ));
    let bytes = (0..=u8::MAX).filter(|byte| !b",\r\n".contains(byte));
    let text: Vec<u8> = bytes.flat_map(|byte| [byte, b',', byte, b'\n']).collect();
    assert_eq!(compare(&plan, &[b"\n", &text[..]].concat(), 1_000), 253);
}

/// Columns wherever they begin and end in the blocks of bytes that are looked at together, up to the longest line.
#[test]
fn columns_are_told_wherever_they_lie() {
    let count = 40;
    let fields: Vec<String> = (1..=count).map(|column| format!("{{ name = 'c{column}', type = 'number' }}")).collect();
    let format = |limit: usize| {
        plan(&format!(
            "format = 'ways'\nlimits = {{ line = {limit} }}\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{{ name = 'first', column = 1 }}, {}, {{ name = 'last' }}]",
            fields.join(", ")
        ))
    };
    let line = |before: usize, width: usize, length: usize| {
        let numbers: Vec<String> = (1..=count).map(|number| format!("{number:0width$}")).collect();
        let line = format!("{},{},", "x".repeat(before), numbers.join(","));
        format!("{line:y<length$}")
    };
    let told = |plan: &Plan, line: &str| {
        let mut decoder = Decoder::new(plan);
        let id = decoder.line("", 0).unwrap();
        let mut told = Vec::new();
        let mut take = |record: &Record<'_>| {
            let mut seen = Seen::<false, false>::default();
            record.visit(&mut seen);
            assert_eq!(seen.0, said(record));
            told = record
                .fields()
                .map(|(_, cell)| match cell {
                    Cell::Reading(reading) => reading.value.to_string(),
                    _ => unreachable!("there are no groups"),
                })
                .collect();
        };
        // Nothing is open where the line begins.
        let Ok(()) = decoder.decode(Chunk::new(id, b"\n"), &mut take);
        let Ok(()) = decoder.decode(Chunk::new(id, format!("{line}\n").as_bytes()), &mut take);
        told
    };
    let small = format(limits::LINE / 2);
    for before in (0..140).chain([500, 4_000]) {
        for width in [0, 1, 2, 7, 8] {
            let line = line(before, width, 0);
            let said = told(&small, &line);
            let wanted = line.split(',').map(|column| column.trim_start_matches('0').to_owned());
            assert_eq!(said, wanted.collect::<Vec<_>>(), "{line}");
        }
    }
    let largest = format(limits::LINE);
    let longest = line(limits::LINE - 130, 0, limits::LINE);
    let said = told(&largest, &longest);
    assert_eq!(said, longest.split(',').collect::<Vec<_>>());
    // Longer ones are none, whatever their places are in sixteen bits.
    for more in [1, 2, 3, 65, 65_535, 65_536, 65_537] {
        assert_eq!(told(&largest, &format!("{longest}{}", "y".repeat(more))), [""; 0], "{more}");
    }
}

#[test]
fn groups_are_shown_as_they_say() {
    let plan = plan(
        "format = 'ways'
        [[frame]]
        cut = 'text'
        [record.r]
        fields = [
          { name = 'pairs', column = 1, count = 2, fields = [{ name = 'a', type = 'number' }, { name = 'b' }] },
          { name = 'rest', up_to = 'end', fields = [{ name = 'c', type = 'number', unit = 'm', unit_from = 'u' }, { name = 'u', codes = { M = 'm' } }] },
        ]",
    );
    assert_eq!(compare(&plan, b"x\n1,a,2.50,,3,M,,M,4,F\n7,b,8,c\n", 1_000), 2);
}
