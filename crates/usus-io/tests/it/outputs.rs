//! Outputs: what is written is what the records say, by readers of CSV and JSON that are not ours.

use std::fs;
use std::path::Path;

use csv_core::ReadRecordResult;
use proptest::prelude::*;
use serde::de::DeserializeSeed;
use usus::{Decoder, Format, Plan, Time, Wants};
use usus_io::{
    Destination, Existing, LineInfo, OutputError, OutputOptions, Outputs, PieceOptions, PumpError, RawReader, Source,
    SourceError, SourceEvent, TableOptions, TableStyle, TrackForm, pump, pump_pieces, received_text,
};
use usus_sim::{Device, Faults, record};

pub fn plan(text: &str) -> Plan {
    Format::parse(text).unwrap().compile().unwrap()
}

/// Converts bytes into `destination`.
fn convert(
    plan: &Plan,
    bytes: &[u8],
    destination: &Destination,
    options: TableOptions,
    rejects: Option<&Path>,
) -> Result<(), OutputError> {
    let mut outputs = Outputs::open(
        plan,
        destination,
        &OutputOptions { columns: options, rejects: rejects.map(Into::into), ..OutputOptions::default() },
    )?;
    outputs.begin_source("cell, \"left\".bin", "").unwrap();
    pump(&mut RawReader::new(bytes, None), &mut Decoder::new(plan), &mut outputs, &mut |_| true).unwrap();
    outputs.finish()
}

/// The rows of a CSV file.
pub fn rows(path: &Path) -> Vec<Vec<String>> {
    let text = fs::read(path).unwrap();
    assert!(text.is_empty() || text.ends_with(b"\r\n"), "{path:?}");
    let mut reader = csv_core::Reader::new();
    let (mut input, mut rows) = (&text[..], Vec::new());
    let (mut output, mut ends) = (vec![0; text.len() + 1], vec![0; 1_000]);
    loop {
        let (result, read, _, fields) = reader.read_record(input, &mut output, &mut ends);
        input = &input[read..];
        match result {
            ReadRecordResult::Record => {
                let starts = std::iter::once(0).chain(ends.iter().copied());
                let field = |(start, end): (usize, &usize)| String::from_utf8(output[start..*end].to_vec()).unwrap();
                rows.push(starts.zip(&ends[..fields]).map(field).collect());
            }
            ReadRecordResult::End => return rows,
            ReadRecordResult::InputEmpty => input = &[],
            other => panic!("{other:?}"),
        }
    }
}

pub const AWKWARD: &str = r#"
    format = "awkward"
    [[frame]]
    cut = "text"
    separator = ";"
    [record.row]
    fields = [
      { name = "text" },
      { name = "number", type = "number", range = [0, 9] },
      { name = "list", up_to = "end", fields = [ { name = "a", type = "number", digits = "hex" }, { name = "b" } ] },
    ]
"#;

pub const INPUT: &[u8] =
    b"plain;1;F;x\r\nwith, comma;\r\nwith \"quotes\";16.150;0A;\"y\";zz;\xB0C\r\n\x1B[31m\t\\;-\r\nnope\r\n";

#[test]
fn tables_hold_what_the_records_say() {
    let folder = tempfile::tempdir().unwrap();
    let directory = folder.path().join("out");
    let options = TableOptions { origin: true, ..TableOptions::default() };
    convert(&plan(AWKWARD), INPUT, &Destination::Directory(directory.clone()), options, None).unwrap();
    let source = "cell, \"left\".bin";
    assert_eq!(
        rows(&directory.join("row.csv")),
        [
            ["source", "line", "offset", "length", "item", "text", "number", "quality"],
            [source, "", "0", "11", "0", "plain", "1", ""],
            [source, "", "13", "12", "0", "with, comma", "", ""],
            [source, "", "27", "33", "0", "with \"quotes\"", "16.150", "number=out_of_range"],
            [source, "", "62", "9", "0", "\u{1B}[31m\t\\", "", "number=invalid"],
        ]
    );
    assert_eq!(
        rows(&directory.join("row.list.csv")),
        [
            ["source", "line", "offset", "index", "a", "b", "quality"],
            [source, "", "0", "1", "15", "x", ""],
            [source, "", "27", "1", "10", "\"y\"", ""],
            [source, "", "27", "2", "", "\u{FFFD}C", "a=invalid;b=invalid_text"],
        ]
    );
    let fields = rows(&directory.join("fields.csv"));
    assert_eq!(fields[0], ["record", "group", "field", "type", "unit", "tag", "title"]);
    assert_eq!(fields.len(), 6);
}

#[test]
fn json_lines_hold_what_the_records_say() {
    let folder = tempfile::tempdir().unwrap();
    let (out, rejects) = (folder.path().join("out.jsonl"), folder.path().join("rejects.jsonl"));
    let destination = Destination::named(&out).unwrap();
    convert(&plan(AWKWARD), INPUT, &destination, TableOptions::default(), Some(&rejects)).unwrap();
    let text = fs::read_to_string(out).unwrap();
    let lines: Vec<serde_json::Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 4);
    let wanted = r#"{"kind":"row","ranges":[[27,33]],"fields":{"text":"with \"quotes\"","number":16.150,"list":[{"a":10,"b":"\"y\""},{"a":null,"b":"\uFFFDC"}]},"quality":{"number":"out_of_range","list[2].a":"invalid","list[2].b":"invalid_text"}}"#;
    let wanted: serde_json::Value = serde_json::from_str(wanted).unwrap();
    assert_eq!(lines[2], wanted);
    assert_eq!(lines[3]["fields"]["text"], "\u{1B}[31m\t\\");
    let rejects: serde_json::Value = serde_json::from_str(fs::read_to_string(rejects).unwrap().trim()).unwrap();
    let wanted = serde_json::json!({
        "class": "reject", "source": "cell, \"left\".bin", "line": "", "offset": 73, "length": 4, "reason": "too few columns",
        "detail": "row needs 2 columns, this has 1", "candidates": 1, "hex": "6E6F7065", "text": "nope",
    });
    assert_eq!(rejects, wanted);
}

#[test]
fn floats_and_wide_integers_keep_their_digits() {
    let folder = tempfile::tempdir().unwrap();
    let plan = plan(
        "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 21\n[record.r]\nfields = [{ name = 'f', type = 'f32be' }, { name = 'd', type = 'f64be' }, { name = 'u', type = 'u64be' }]",
    );
    let mut bytes = Vec::new();
    for (f, d, u) in [(0.1f32, 0.1f64, u64::MAX), (f32::NAN, f64::INFINITY, 0), (1e21, -0.0, 1 << 53), (231.0, 1e-7, 7)]
    {
        bytes.push(0xAA);
        bytes.extend_from_slice(&f.to_be_bytes());
        bytes.extend_from_slice(&d.to_be_bytes());
        bytes.extend_from_slice(&u.to_be_bytes());
    }
    let table = folder.path().join("r.csv");
    convert(&plan, &bytes, &Destination::Table(table.clone()), TableOptions::default(), None).unwrap();
    assert_eq!(
        rows(&table),
        [
            ["f", "d", "u", "quality"],
            ["0.1", "0.1", "18446744073709551615", ""],
            ["NaN", "inf", "0", "f=not_finite;d=not_finite"],
            ["1e+21", "-0.0", "9007199254740992", ""],
            ["231.0", "1e-7", "7", ""],
        ]
    );
    let json = folder.path().join("r.jsonl");
    convert(&plan, &bytes, &Destination::JsonLines(json.clone()), TableOptions::default(), None).unwrap();
    let text = fs::read_to_string(json).unwrap();
    let lines: Vec<serde_json::Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines[0]["fields"]["u"], serde_json::json!(u64::MAX));
    assert_eq!(lines[1]["fields"], serde_json::json!({"f": null, "d": null, "u": 0}));
    assert_eq!(lines[1]["quality"], serde_json::json!({"f": "not_finite", "d": "not_finite"}));
}

#[test]
fn what_exists_stays_unless_asked() {
    let folder = tempfile::tempdir().unwrap();
    let directory = folder.path().join("out");
    let plan = plan(AWKWARD);
    let destination = Destination::Directory(directory.clone());
    convert(&plan, INPUT, &destination, TableOptions::default(), None).unwrap();
    let before = fs::read(directory.join("row.csv")).unwrap();
    let again = convert(&plan, b"", &destination, TableOptions::default(), None);
    assert!(matches!(again, Err(OutputError::Exists { .. })), "{again:?}");
    assert_eq!(fs::read(directory.join("row.csv")).unwrap(), before);
    // Asked, an earlier run's tables are not taken for this one's.
    let mut outputs =
        Outputs::open(&plan, &destination, &OutputOptions { existing: Existing::Replace, ..OutputOptions::default() })
            .unwrap();
    outputs.finish().unwrap();
    assert!(!directory.join("row.csv").exists() && !directory.join("row.list.csv").exists());
}

#[test]
fn destinations_are_told_by_their_names() {
    let named = |name: &str| Destination::named(Path::new(name));
    assert_eq!(named("-").unwrap(), Destination::StandardOutput);
    assert_eq!(named("csv:-").unwrap(), Destination::TableOutput);
    assert_eq!(named("a/b.csv").unwrap(), Destination::Table("a/b.csv".into()));
    assert_eq!(named("b.jsonl").unwrap(), Destination::JsonLines("b.jsonl".into()));
    assert_eq!(named("tables").unwrap(), Destination::Directory("tables".into()));
    assert_eq!(named("table:-").unwrap(), Destination::ListingOutput);
    for ending in ["sqlite", "sqlite3", "db"] {
        let path = format!("x.{ending}");
        assert_eq!(named(&path).unwrap(), Destination::Database(path.into()));
    }
    assert_eq!(named("x.xlsx").unwrap(), Destination::Workbook("x.xlsx".into()));
    assert_eq!(named("x.parquet").unwrap(), Destination::Parquet("x.parquet".into()));
    assert_eq!(named("parquet:x").unwrap(), Destination::ParquetDirectory("x".into()));
    assert_eq!(named("x.gpx").unwrap(), Destination::Tracks(TrackForm::Gpx, "x.gpx".into()));
    assert!(matches!(named("x.ods"), Err(OutputError::UnknownEnding { .. })));
}

#[test]
fn one_table_takes_one_kind() {
    let folder = tempfile::tempdir().unwrap();
    let valley = plan(usus_sim::Device::ValleyStation.format().unwrap());
    let table = Destination::Table(folder.path().join("x.csv"));
    let refused = convert(&valley, b"", &table, TableOptions::default(), None);
    assert_eq!(
        refused.unwrap_err().to_string(),
        "the format has the records load, wind, boot, and one table holds only one; name it with --records, or give a directory (for Parquet, parquet:DIR)"
    );
    let wants = Wants { records: vec!["wind".to_owned()], fields: vec!["wind.speed".to_owned()] };
    let wind = valley.select(&wants).unwrap();
    let bytes = record(Device::ValleyStation, 5, 20, &Faults::none()).bytes();
    convert(&wind, &bytes, &table, TableOptions::default(), None).unwrap();
    let rows = rows(&folder.path().join("x.csv"));
    assert_eq!(rows[0], ["speed", "quality"]);
    assert_eq!(rows.len(), 21);
    let refused = convert(&plan(AWKWARD), b"", &Destination::TableOutput, TableOptions::default(), None);
    assert!(matches!(refused, Err(OutputError::Group { .. })));
}

#[test]
fn times_show_the_digits_asked_for() {
    let time = usus::Time::from_nanoseconds(1_795_586_400_123_456_789);
    for (digits, wanted) in [
        (0, "2026-11-25T06:00:00Z"),
        (3, "2026-11-25T06:00:00.123Z"),
        (9, "2026-11-25T06:00:00.123456789Z"),
        (12, "2026-11-25T06:00:00.123456789Z"),
    ] {
        assert_eq!(received_text(time, digits), wanted);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever a device sends in a text, a reader of CSV and a reader of JSON get it back.
    #[test]
    fn texts_come_back_from_tables_and_json(texts in proptest::collection::vec("[^\r\n;]{1,20}", 1..12)) {
        let folder = tempfile::tempdir().unwrap();
        let plan = plan("format = 'x'\n[[frame]]\ncut = 'text'\nend = 'LF'\nseparator = ';'\n[record.r]\nfields = [{ name = 'a' }]");
        let input: String = texts.iter().map(|text| format!("{text}\n")).collect();
        // A blank column is an absent value.
        let wanted: Vec<&str> = texts.iter().map(|text| if text.bytes().all(|byte| byte.is_ascii_whitespace()) { "" } else { text }).collect();
        let table = folder.path().join("r.csv");
        convert(&plan, input.as_bytes(), &Destination::Table(table.clone()), TableOptions::default(), None).unwrap();
        let read: Vec<String> = rows(&table).into_iter().skip(1).map(|mut row| row.swap_remove(0)).collect();
        prop_assert_eq!(&read, &wanted);
        let json = folder.path().join("r.jsonl");
        convert(&plan, input.as_bytes(), &Destination::JsonLines(json.clone()), TableOptions::default(), None).unwrap();
        let text = fs::read_to_string(json).unwrap();
        let read: Vec<String> = text
            .lines()
            .map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()["fields"]["a"].as_str().unwrap_or("").to_owned())
            .collect();
        prop_assert_eq!(&read, &wanted);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever codes are named, in columns and in packets, a reader of CSV and a reader of JSON get the names back.
    #[test]
    fn names_of_codes_come_back_from_tables_and_json(
        names in proptest::collection::vec(prop_oneof!["[ -~]{1,30}", "[a-z_]{22,27}", "\\PC{1,10}"], 3),
        sent in proptest::collection::vec(0usize..3, 1..20),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let codes = |from: u8| {
            let pairs = names.iter().zip(from..).map(|(name, code)| format!("'{}' = {}", char::from(code), toml(name)));
            pairs.collect::<Vec<_>>().join(", ")
        };
        let (letters, numbers) = (codes(b'a'), codes(b'1'));
        let text = format!("[record.t]\nframe = 't'\nfields = [{{ name = 'a', codes = {{ {letters} }} }}, {{ name = 'b', type = 'number', codes = {{ {numbers} }} }}]");
        let packet = format!("[record.p]\nframe = 'p'\nfields = [{{ name = 'a', type = 'u8', codes = {{ {numbers} }} }}]");
        let plan = plan(&format!(
            "format = 'x'\n[[frame]]\nname = 'p'\ncut = 'packet'\nstart = '01 02'\nlength = 3\n[[frame]]\nname = 't'\ncut = 'text'\nend = 'LF'\n{text}\n{packet}"
        ));
        let mut input = Vec::new();
        for code in &sent {
            let code = *code as u8;
            input.extend([1, 2, 1 + code]);
            input.extend([b'a' + code, b',', b'1' + code, b'\n']);
        }
        let wanted: Vec<&str> = sent.iter().map(|code| &*names[*code]).collect();
        let directory = folder.path().join("tables");
        convert(&plan, &input, &Destination::Directory(directory.clone()), TableOptions::default(), None).unwrap();
        for (table, column) in [("t.csv", 0), ("t.csv", 1), ("p.csv", 0)] {
            let read: Vec<String> = rows(&directory.join(table)).into_iter().skip(1).map(|mut row| row.swap_remove(column)).collect();
            prop_assert_eq!(&read, &wanted, "{}", table);
        }
        let json = folder.path().join("r.jsonl");
        convert(&plan, &input, &Destination::JsonLines(json.clone()), TableOptions::default(), None).unwrap();
        let text = fs::read_to_string(json).unwrap();
        let lines: Vec<serde_json::Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        for (kind, field) in [("t", "a"), ("t", "b"), ("p", "a")] {
            let of_kind = lines.iter().filter(|line| line["kind"] == kind);
            let read: Vec<&str> = of_kind.map(|line| line["fields"][field].as_str().unwrap_or("")).collect();
            prop_assert_eq!(&read, &wanted, "{} {}", kind, field);
        }
    }
}

/// A text as TOML has it.
fn toml(text: &str) -> String {
    let escaped: String = text.chars().map(|character| format!("\\U{:08X}", u32::from(character))).collect();
    format!("\"{escaped}\"")
}

/// A source of rows that were received at these hours, each with a reject behind it.
struct Hours(Vec<i64>, usize, Vec<u8>);

impl Source for Hours {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        let Some(index) = self.1.checked_sub(1) else {
            self.1 = 1;
            return Ok(Some(SourceEvent::Line(LineInfo::new("mast"))));
        };
        self.1 += 1;
        let Some(hour) = self.0.get(index) else { return Ok(None) };
        self.2 = format!("{hour};1;F;x\r\nbad {hour}\r\n").into_bytes();
        let time = Some(Time::from_nanoseconds(hour * 3_600_000_000_000));
        Ok(Some(SourceEvent::Chunk { line: 0, time, bytes: &self.2, faults: &[] }))
    }

    fn has_times(&self) -> bool {
        true
    }

    fn has_lines(&self) -> bool {
        true
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 24, ..ProptestConfig::default() })]

    /// Each row goes to the files of the day on which it was received, in whatever order the days come, on one core and on several.
    #[test]
    fn days_have_files_of_their_own(hours in prop::collection::vec(0i64..(24 * 8), 1..40), jobs in 1usize..4) {
        let folder = tempfile::tempdir().unwrap();
        let destination = Destination::named(&folder.path().join("tables")).unwrap();
        let rejects = folder.path().join("bad.jsonl");
        let options = TableOptions { line: true, received: true, ..TableOptions::default() };
        let plan = plan(AWKWARD);
        let mut outputs = Outputs::open(&plan, &destination, &OutputOptions { columns: options, rejects: Some(rejects.clone()), daily: true, ..OutputOptions::default() }).unwrap();
        outputs.begin_source("hours", "hours").unwrap();
        let pieces = PieceOptions { jobs, size: 64, before: 24 };
        let mut source = Hours(hours.clone(), 0, Vec::new());
        pump_pieces(&mut source, &mut Decoder::new(&plan), &mut outputs, pieces, &mut |_| true).unwrap();
        outputs.finish().unwrap();
        let mut written = 0;
        for day in 0..8 {
            let expected: Vec<String> = hours.iter().filter(|hour| *hour / 24 == day).map(i64::to_string).collect();
            let date = format!("1970-01-{:02}", day + 1);
            let table = folder.path().join("tables").join(&date).join("row.csv");
            let bad = folder.path().join(format!("bad.{date}.jsonl"));
            prop_assert_eq!(table.exists(), !expected.is_empty());
            prop_assert_eq!(bad.exists(), !expected.is_empty());
            if expected.is_empty() {
                continue;
            }
            let rows = rows(&table);
            prop_assert_eq!(&rows[0][..4], ["line", "offset", "received", "text"].map(str::to_owned));
            let found: Vec<String> = rows[1..].iter().map(|row| row[3].clone()).collect();
            prop_assert_eq!(&found, &expected);
            let told: Vec<String> = fs::read_to_string(&bad).unwrap().lines().map(|line| {
                let reject: serde_json::Value = serde_json::from_str(line).unwrap();
                reject["text"].as_str().unwrap().split(['\\', ' ']).nth(1).unwrap().to_owned()
            }).collect();
            prop_assert_eq!(&told, &expected);
            written += expected.len() as u64;
        }
        let counted: u64 = outputs.files().iter().filter(|(path, _)| path.ends_with("row.csv")).map(|(_, rows)| rows).sum();
        prop_assert_eq!(counted, written);
        // What is there is not touched.
        let mut again = Outputs::open(&plan, &destination, &OutputOptions { columns: options, daily: true, ..OutputOptions::default() }).unwrap();
        let mut source = Hours(hours, 0, Vec::new());
        let refused = pump(&mut source, &mut Decoder::new(&plan), &mut again, &mut |_| true);
        prop_assert!(matches!(refused, Err(PumpError::Sink(OutputError::Exists { .. }))), "{:?}", refused);
    }
}

#[test]
fn what_has_no_name_has_no_days() {
    let plan = plan(AWKWARD);
    for destination in [Destination::StandardOutput, Destination::TableOutput] {
        let refused = Outputs::open(&plan, &destination, &OutputOptions { daily: true, ..OutputOptions::default() });
        assert!(matches!(refused, Err(OutputError::NotDaily)));
    }
    let single = Destination::Table("tower.csv".into());
    assert_eq!(single.on("2026-11-25"), Some(Destination::Table("tower.2026-11-25.csv".into())));
}

/// Numbers as numbers, however they are written.
fn plain(value: serde_json::Value) -> serde_json::Value {
    match value {
        serde_json::Value::Number(number) => format!("{}", number.as_f64().unwrap()).into(),
        serde_json::Value::Array(items) => items.into_iter().map(plain).collect(),
        serde_json::Value::Object(members) => members.into_iter().map(|(key, value)| (key, plain(value))).collect(),
        other => other,
    }
}

/// Owned records become the objects that JSON Lines are of.
#[test]
fn owned_records_have_the_shape_of_json_lines() {
    let folder = tempfile::tempdir().unwrap();
    let text = fs::read_to_string("../../demo/formats/rope-tension.toml").unwrap();
    let plan = plan(&text);
    let bytes = fs::read("../../demo/samples/rope-tension.bin").unwrap();
    let path = folder.path().join("records.jsonl");
    let destination = Destination::named(&path).unwrap();
    let mut outputs = Outputs::open(&plan, &destination, &OutputOptions::default()).unwrap();
    let owned = plan.records(&bytes);
    plan.decode(&bytes, &mut outputs).unwrap();
    outputs.finish().unwrap();
    let written = fs::read_to_string(&path).unwrap();
    assert!(owned.len() > 1_000 && written.lines().count() == owned.len());
    for (line, record) in written.lines().zip(&owned) {
        // They are read back with all of their digits.
        let back = plan.schema().reader().deserialize(&mut serde_json::Deserializer::from_str(line)).unwrap();
        for ((name, back), (_, cell)) in back.fields.iter().zip(&record.fields) {
            match (back, cell) {
                (usus::OwnedCell::Reading(back), usus::OwnedCell::Reading(reading)) => {
                    let sent = match &reading.value {
                        usus::OwnedValue::Absent(_) => usus::OwnedValue::Absent(usus::Absent::Empty),
                        usus::OwnedValue::Code { name, .. } => usus::OwnedValue::Text(name.clone()),
                        value => value.clone(),
                    };
                    assert_eq!((&back.value, back.quality), (&sent, reading.quality), "{name}");
                }
                (back, cell) => assert_eq!(back, cell, "{name}"),
            }
        }
        assert_eq!((&back.kind, &back.ranges), (&record.kind, &record.ranges));
        let line = plain(serde_json::from_str(line).unwrap());
        assert_eq!(line, plain(serde_json::to_value(record).unwrap()));
    }
}

/// Groups in items of groups have tables of their own, each row of which says which items it is in; JSON nests them, and lists are lists of values.
#[test]
fn groups_in_groups_and_lists_are_written() {
    let plan = plan(
        r#"
        format = "nested"
        [[frame]]
        cut = "slip"
        [record.log]
        fields = [
          { name = "id", byte = 0, type = "u8" },
          { name = "rows", count = "id", fields = [
            { name = "n", type = "u8" },
            { name = "cells", type = "i8", count = "n", range = [0, 9] },
            { name = "marks", count = "n", fields = [ { name = "label", type = "text", until = "NUL" }, { name = "level", type = "u8", range = [0, 5] } ] },
          ] },
        ]
        "#,
    );
    let bytes = b"\xC0\x02\x02\x01\x0AA\0\x01BC\0\x06\0\xC0\x01\x01\x05\0\x07\xC0";
    let folder = tempfile::tempdir().unwrap();
    let directory = folder.path().join("out");
    convert(&plan, bytes, &Destination::Directory(directory.clone()), TableOptions::default(), None).unwrap();
    let table = |name: &str| rows(&directory.join(name)).iter().map(|row| row.join("|")).collect::<Vec<_>>();
    assert_eq!(table("log.csv"), ["offset|id", "0|2", "14|1"]);
    assert_eq!(table("log.rows.csv"), ["offset|index|n", "0|1|2", "0|2|0", "14|1|1"]);
    let cells = ["offset|rows_index|index|cells|quality", "0|1|1|1|", "0|1|2|10|cells=out_of_range", "14|1|1|5|"];
    assert_eq!(table("log.rows.cells.csv"), cells);
    let marks = ["offset|rows_index|index|label|level|quality", "0|1|1|A|1|", "0|1|2|BC|6|level=out_of_range"];
    assert_eq!(table("log.rows.marks.csv")[..3], marks);
    let fields = rows(&directory.join("fields.csv"));
    assert!(fields.iter().any(|row| row[..4] == ["log", "rows", "cells", "list"]), "{fields:?}");
    assert!(fields.iter().any(|row| row[..4] == ["log", "rows.marks", "level", "integer"]), "{fields:?}");
    let path = folder.path().join("out.jsonl");
    convert(&plan, bytes, &Destination::named(&path).unwrap(), TableOptions::default(), None).unwrap();
    let text = fs::read_to_string(&path).unwrap();
    let wanted = serde_json::json!({
        "kind": "log", "ranges": [[0, 14]],
        "fields": { "id": 2, "rows": [
            { "n": 2, "cells": [1, 10], "marks": [{ "label": "A", "level": 1 }, { "label": "BC", "level": 6 }] },
            { "n": 0, "cells": [], "marks": [] },
        ] },
        "quality": { "rows[1].cells[2]": "out_of_range", "rows[1].marks[2].level": "out_of_range" },
    });
    assert_eq!(serde_json::from_str::<serde_json::Value>(text.lines().next().unwrap()).unwrap(), wanted);
    let owned = plan.records(bytes);
    for (line, record) in text.lines().zip(&owned) {
        let back = plan.schema().reader().deserialize(&mut serde_json::Deserializer::from_str(line)).unwrap();
        assert_eq!(serde_json::to_value(&back).unwrap(), serde_json::to_value(record).unwrap());
    }
    // The same in another style.
    let mut style = TableStyle::default();
    style.separator = b';';
    let directory = folder.path().join("styled");
    let options = OutputOptions { style, ..OutputOptions::default() };
    let mut outputs = Outputs::open(&plan, &Destination::Directory(directory.clone()), &options).unwrap();
    plan.decode(&bytes[..], &mut outputs).unwrap();
    outputs.finish().unwrap();
    let styled = fs::read_to_string(directory.join("log.rows.marks.csv")).unwrap();
    assert_eq!(styled.lines().nth(2), Some("0;1;2;BC;6;level=out_of_range"));
    // And as structs.
    #[derive(serde::Deserialize, Debug, PartialEq)]
    struct Row {
        cells: Vec<i32>,
        marks: Vec<Mark>,
    }
    #[derive(serde::Deserialize, Debug, PartialEq)]
    struct Mark {
        label: Option<String>,
        level: u8,
    }
    #[derive(serde::Deserialize)]
    struct Log {
        rows: Vec<Row>,
    }
    let mut logs = Vec::new();
    let mut take = |record: &usus::Record<'_>| logs.push(record.to::<Log>().unwrap());
    let Ok(_) = plan.decode(bytes, &mut take);
    assert_eq!(logs[1].rows, [Row { cells: vec![5], marks: vec![Mark { label: None, level: 7 }] }]);
    // What is not plain is counted wherever it stands.
    let mut qualities = usus::quality::Qualities::new(&plan);
    let mut take = |record: &usus::Record<'_>| qualities.record(record);
    let Ok(_) = plan.decode(bytes, &mut take);
    let told: Vec<(String, u64, String)> =
        qualities.iter().map(|field| (field.field, field.readings, field.seen[0].1.first.clone())).collect();
    let wanted = [("log.rows.cells", 3, "10"), ("log.rows.marks.level", 3, "6")];
    assert_eq!(told.len(), wanted.len(), "{told:?}");
    for ((field, readings, first), (path, count, value)) in told.iter().zip(wanted) {
        assert_eq!((format!("log.{field}").as_str(), *readings, first.as_str()), (path, count, value));
    }
}

/// A record that is made of several frames is a row like any other, in tables and in JSON Lines.
#[test]
fn rows_of_several_frames_are_written_like_others() {
    let folder = tempfile::tempdir().unwrap();
    let plan = plan(
        "format = 'talk'\n[[frame]]\ncut = 'text'\nheader = [{ name = 'side', chars = '1', internal = true }]\n\
         [record.ask]\nwhen = \"side == 'Q'\"\nfields = [{ name = 'n', column = 2, type = 'number' }]\n\
         [record.tell]\nfields = [{ name = 'n', column = 2, type = 'number' }, { name = 'loads', up_to = 'end', fields = [{ name = 'load', type = 'number', unit = 'kN' }] }]\n\
         [exchange.pair]\nask = 'ask'\nanswers = 'tell'\nkey = 'n'\nopen = 2",
    );
    let bytes = b"Q,7\nQ,8\nA,8,1.5,2.50\nA,7\nQ,9\n";
    let options = TableOptions { origin: true, ..TableOptions::default() };
    convert(&plan, bytes, &Destination::named(&folder.path().join("t")).unwrap(), options, None).unwrap();
    let table = rows(&folder.path().join("t/pair.csv"));
    let items = rows(&folder.path().join("t/pair.loads.csv"));
    let named = |name: &str| table[0].iter().position(|known| known == name).unwrap();
    let said: Vec<[&str; 4]> = table[1..]
        .iter()
        .map(|row| ["offset", "length", "n", "outcome"].map(|name| row[named(name)].as_str()))
        .collect();
    assert_eq!(said, [["4", "15", "8", "answered"], ["0", "6", "7", "answered"]]);
    assert_eq!(items.len(), 3);
    let load = items[0].iter().position(|known| known == "load").unwrap();
    assert_eq!(items[2][load], "2.50");
    let path = folder.path().join("t.jsonl");
    convert(&plan, bytes, &Destination::named(&path).unwrap(), TableOptions::default(), None).unwrap();
    let json = fs::read_to_string(path).unwrap();
    let first = json.lines().next().unwrap();
    assert!(
        first.contains(
            r#""ranges":[[4,3],[8,12]],"fields":{"n":8,"loads":[{"load":1.5},{"load":2.50}],"outcome":"answered","latency":null,"retry":null}"#
        ),
        "{first}"
    );
    // And by serde.
    #[derive(Debug, serde::Deserialize, PartialEq)]
    struct Pair {
        n: u8,
        loads: Vec<std::collections::BTreeMap<String, String>>,
    }
    let mut pairs = Vec::new();
    plan.decode(bytes, &mut |record: &usus::Record<'_>| pairs.push(record.to::<Pair>().unwrap())).unwrap();
    assert_eq!((pairs[0].n, pairs[0].loads[1]["load"].as_str()), (8, "2.50"));
}

#[test]
fn texts_come_out_in_utf_8_whatever_they_were_sent_in() {
    let declared = "format = 'notes'\n[[frame]]\ncut = 'text'\nseparator = ';'\ncharset = ['utf-8', 'windows-1252']\n\
                    [record.row]\nfields = [{ name = 'a' }, { name = 'b', charset = 'latin-1' }]";
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("notes.csv");
    let input = b"caf\xE9;\xFC, \"\xB0\"\ncaf\xC3\xA9 5\x80;plain\n\x81;\xC3\xA9\n";
    convert(&plan(declared), input, &Destination::Table(path.clone()), TableOptions::default(), None).unwrap();
    let found: Vec<[String; 2]> =
        rows(&path)[1..].iter().map(|row| [row[row.len() - 3].clone(), row[row.len() - 2].clone()]).collect();
    let wanted = [["café", "ü, \"°\""], ["cafÃ© 5€", "plain"], ["\u{FFFD}", "Ã©"]];
    assert_eq!(found, wanted, "{:?}", rows(&path));
}
