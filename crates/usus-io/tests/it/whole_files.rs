//! Outputs that are whole at the end only: names while they are written, what is left after an error, and what their formats cannot hold.
#![cfg(all(feature = "parquet", feature = "sqlite", feature = "xlsx"))]

use std::fs;
use std::path::{Path, PathBuf};

use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use usus::quality::Notes;
use usus::{Chunk, Decoder, Format, Plan, Record, Sink, Time};
use usus_io::{
    Destination, Existing, Output, OutputError, OutputOptions, Outputs, ParquetFiles, RawReader, TrackForm, Workbook,
    Zone, pump,
};

const PLACES: &str = "format = 'beacon'\n[[frame]]\ncut = 'text'\nseparator = ';'\n[record.place]\nfields = [{ name = 'lat', type = 'number' }, { name = 'lon', type = 'number' }, { name = 'note', optional = true }]";

fn plan(text: &str) -> Plan {
    Format::parse(text).unwrap().compile().unwrap()
}

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

fn pump_into(plan: &Plan, bytes: &[u8], outputs: &mut Outputs) -> Result<(), OutputError> {
    let pumped = pump(&mut RawReader::new(bytes, None), &mut Decoder::new(plan), outputs, &mut |_| true);
    pumped.map(|_| ()).map_err(|error| match error {
        usus_io::PumpError::Sink(error) => error,
        other => panic!("{other}"),
    })
}

/// Every output that is a file, by its ending.
const FILES: [&str; 8] = [
    "place.csv",
    "place.jsonl",
    "place.xlsx",
    "place.parquet",
    "place.geojson",
    "place.gpx",
    "place.kml",
    "place.sqlite",
];

#[test]
fn a_file_has_its_name_once_it_is_whole() {
    let plan = plan(PLACES);
    for name in FILES {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(name);
        let destination = Destination::named(&path).unwrap();
        let mut outputs = Outputs::open(&plan, &destination, &OutputOptions::default()).unwrap();
        pump_into(&plan, b"46.5;-9.1\n46.6;-9.2;x\n", &mut outputs).unwrap();
        assert!(!path.exists(), "{name}");
        outputs.finish().unwrap();
        assert_eq!(names(folder.path()), [name]);
        assert_eq!(outputs.files(), [(path.clone(), 2)]);
        // Nothing is touched that is there, and an error leaves it as it is.
        let before = fs::read(&path).unwrap();
        let refused = Outputs::open(&plan, &destination, &OutputOptions::default());
        assert!(matches!(refused, Err(OutputError::Exists { .. })), "{name}");
        let options = OutputOptions { existing: Existing::Replace, ..OutputOptions::default() };
        let mut outputs = Outputs::open(&plan, &destination, &options).unwrap();
        pump_into(&plan, b"1;2\n", &mut outputs).unwrap();
        outputs.fail();
        outputs.finish().unwrap();
        drop(outputs);
        assert_eq!(fs::read(&path).unwrap(), before, "{name}");
        // What is replaced is replaced at the end.
        let mut outputs = Outputs::open(&plan, &destination, &options).unwrap();
        pump_into(&plan, b"1;2\n", &mut outputs).unwrap();
        assert_eq!(fs::read(&path).unwrap(), before, "{name}");
        outputs.finish().unwrap();
        assert_ne!(fs::read(&path).unwrap(), before, "{name}");
    }
}

/// A link stays one; what it leads to is replaced.
#[test]
fn a_link_is_followed() {
    let (folder, plan) = (tempfile::tempdir().unwrap(), plan(PLACES));
    for name in ["place.csv", "place.xlsx"] {
        let (real, link) = (folder.path().join(format!("real.{name}")), folder.path().join(name));
        fs::write(&real, "before").unwrap();
        std::os::unix::fs::symlink(&real, &link).unwrap();
        let options = OutputOptions { existing: Existing::Replace, ..OutputOptions::default() };
        let mut outputs = Outputs::open(&plan, &Destination::named(&link).unwrap(), &options).unwrap();
        pump_into(&plan, b"1;2\n", &mut outputs).unwrap();
        outputs.finish().unwrap();
        assert!(fs::symlink_metadata(&link).unwrap().is_symlink(), "{name}");
        assert_ne!(fs::read(&real).unwrap(), b"before", "{name}");
    }
}

/// Kinds that do not come any more leave no file of an earlier run behind.
#[test]
fn a_directory_is_replaced_as_a_whole() {
    let two = plan(
        "format = 'two'\n[[frame]]\ncut = 'text'\n[record.a]\nwhen = \"line starts 'a'\"\nfields = [{ name = 'text', chars = \"1-\" }]\n[record.b]\nfields = [{ name = 'text', chars = \"1-\" }]"
            .replace("when = \"line starts 'a'\"", "printed = 'a{text}'")
            .replace("[record.b]", "[record.b]\nprinted = 'b{text}'")
            .replace(", chars = \"1-\"", "")
            .as_str(),
    );
    let folder = tempfile::tempdir().unwrap();
    for (prefix, ending) in [("", "csv"), ("parquet:", "parquet")] {
        let place = folder.path().join(ending);
        let destination = Destination::named(Path::new(&format!("{prefix}{}", place.display()))).unwrap();
        for (bytes, wanted) in [(&b"a1\nb2\n"[..], &["a", "b"][..]), (b"b3\n", &["b"])] {
            let options = OutputOptions { existing: Existing::Replace, ..OutputOptions::default() };
            let mut outputs = Outputs::open(&two, &destination, &options).unwrap();
            pump_into(&two, bytes, &mut outputs).unwrap();
            outputs.finish().unwrap();
            let found: Vec<String> = names(&place).into_iter().filter(|name| name != "fields.csv").collect();
            assert_eq!(found, wanted.iter().map(|name| format!("{name}.{ending}")).collect::<Vec<_>>());
        }
    }
}

#[test]
fn what_is_written_whole_cannot_be_gone_on_in() {
    let (folder, plan) = (tempfile::tempdir().unwrap(), plan(PLACES));
    let options = OutputOptions { existing: Existing::Continue, ..OutputOptions::default() };
    for name in ["place.xlsx", "place.parquet", "place.geojson", "place.gpx", "place.kml"] {
        let destination = Destination::named(&folder.path().join(name)).unwrap();
        // Where nothing is yet, there is nothing that could not be gone on in.
        Outputs::open(&plan, &destination, &options).unwrap().finish().unwrap();
        let refused = Outputs::open(&plan, &destination, &options).err().unwrap().to_string();
        assert!(refused.contains("cannot be gone on in"), "{refused}");
    }
}

/// The directory vanishes while it is written: an error that says which file.
#[test]
fn a_directory_that_vanishes_is_told() {
    let plan = plan(PLACES);
    for name in FILES {
        let folder = tempfile::tempdir().unwrap();
        let inside = folder.path().join("inside");
        fs::create_dir(&inside).unwrap();
        let path = inside.join(name);
        let mut outputs = Outputs::open(&plan, &Destination::named(&path).unwrap(), &OutputOptions::default()).unwrap();
        pump_into(&plan, b"46.5;-9.1\n", &mut outputs).unwrap();
        fs::remove_dir_all(&inside).unwrap();
        let result = pump_into(&plan, &b"46.5;-9.1\n".repeat(1_000), &mut outputs).and_then(|()| outputs.finish());
        let error = result.unwrap_err().to_string();
        assert!(error.contains(&path.display().to_string()), "{name}: {error}");
        assert!(!inside.exists(), "{name}");
    }
}

/// A sheet that is full goes on in another one; what a cell cannot hold is held otherwise; both are said.
#[test]
fn the_limits_of_sheets_are_kept_and_told() {
    let plan = plan(
        "format = 'long'\nlimits = { line = 65534 }\n[[frame]]\ncut = 'text'\nseparator = ';'\n[record.kind_with_a_name_that_no_sheet_can_have]\nfields = [{ name = 'number', type = 'number' }, { name = 'text' }]",
    );
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("long.xlsx");
    let workbook = Workbook::create(&plan, &path, &OutputOptions::default()).unwrap().with_rows_in_a_sheet(11);
    let mut outputs = Outputs::of(&plan, Box::new(workbook));
    let mut bytes = Vec::new();
    for number in 0..25 {
        bytes.extend_from_slice(format!("{number};x\n").as_bytes());
    }
    bytes.extend_from_slice(b"12345678901234567890;y\n");
    bytes.extend_from_slice(&[b"1;".as_slice(), &b"z".repeat(40_000), b"\n"].concat());
    pump_into(&plan, &bytes, &mut outputs).unwrap();
    outputs.finish().unwrap();
    let remarks = outputs.remarks().join("\n");
    for told in
        ["2 times a sheet was full", "1 numbers have more than the 15 digits", "1 texts have more than the 32,767"]
    {
        assert!(remarks.contains(told), "{remarks}");
    }
    assert_eq!(outputs.files(), [(path, 27)]);
}

/// Row groups are bounded, whatever comes.
#[test]
fn row_groups_are_bounded() {
    let plan = plan(
        "format = 'count'\n[[frame]]\ncut = 'text'\n[record.count]\nfields = [{ name = 'count', type = 'number' }]",
    );
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("count.parquet");
    let files = ParquetFiles::file(&plan, &path, &OutputOptions::default()).unwrap();
    let mut outputs = Outputs::of(&plan, Box::new(files));
    let bytes: Vec<u8> = (0..300_000).flat_map(|number| format!("{number}\n").into_bytes()).collect();
    pump_into(&plan, &bytes, &mut outputs).unwrap();
    outputs.finish().unwrap();
    let reader = ParquetRecordBatchReaderBuilder::try_new(fs::File::open(&path).unwrap()).unwrap();
    let about = reader.metadata();
    assert_eq!(about.file_metadata().num_rows(), 300_000);
    assert!(about.row_groups().iter().all(|group| group.num_rows() <= 131_072));
    assert_eq!(about.num_row_groups(), 3);
}

/// A thousand kinds: each has its table, in every output.
#[test]
fn a_thousand_kinds() {
    let mut text = "format = 'many'\n[[frame]]\ncut = 'text'\nseparator = ';'\nheader = [{ name = 'kind', column = 1, internal = true }]\n".to_owned();
    for kind in 0..1_000 {
        text += &format!(
            "[record.kind_{kind}]\nwhen = \"kind == '{kind}'\"\nfields = [{{ name = 'value', type = 'number' }}]\n"
        );
    }
    let plan = plan(&text);
    let bytes: Vec<u8> = (0..3_000).flat_map(|number| format!("{};{number}\n", number % 1_000).into_bytes()).collect();
    let folder = tempfile::tempdir().unwrap();
    let _ = rustix::process::setrlimit(
        rustix::process::Resource::Nofile,
        rustix::process::Rlimit {
            current: Some(4_096),
            maximum: rustix::process::getrlimit(rustix::process::Resource::Nofile).maximum,
        },
    );
    for name in ["tables", "parquet:columns", "many.sqlite", "many.xlsx"] {
        let place = match name.strip_prefix("parquet:") {
            Some(name) => PathBuf::from(format!("parquet:{}", folder.path().join(name).display())),
            None => folder.path().join(name),
        };
        let mut outputs =
            Outputs::open(&plan, &Destination::named(&place).unwrap(), &OutputOptions::default()).unwrap();
        pump_into(&plan, &bytes, &mut outputs).unwrap();
        outputs.finish().unwrap();
        let rows: u64 = outputs.files().iter().map(|(_, rows)| rows).sum();
        assert_eq!(rows, 3_000, "{name}");
    }
    assert_eq!(names(&folder.path().join("columns")).len(), 1_000);
}

/// Times that jump by years and run backwards: each day has its files, whatever the order.
#[test]
fn days_in_any_order() {
    let plan = plan(
        "format = 'count'\n[[frame]]\ncut = 'text'\n[record.count]\nfields = [{ name = 'count', type = 'number' }]",
    );
    let days = [20_000i64, 30_000, 19_999, 20_000, -5, 20_000, 30_000, 106_751];
    for (name, expected) in [
        ("count.sqlite", &["1969-12-27", "2024-10-03", "2024-10-04", "2052-02-20", "2262-04-11"][..]),
        ("count.jsonl", &["1969-12-27", "2024-10-03", "2024-10-04", "2052-02-20", "2262-04-11"]),
        (
            "count.xlsx",
            &["1969-12-27", "2024-10-03", "2024-10-04.2", "2024-10-04", "2052-02-20.2", "2052-02-20", "2262-04-11"],
        ),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let options = OutputOptions { daily: true, ..OutputOptions::default() };
        let mut outputs =
            Outputs::open(&plan, &Destination::named(&folder.path().join(name)).unwrap(), &options).unwrap();
        outputs.begin_source("s", "s").unwrap();
        let mut decoder = Decoder::new(&plan);
        let line = decoder.line("", 0).unwrap();
        outputs.line(line, "tap");
        for (number, day) in days.iter().enumerate() {
            let time = Some(Time::from_nanoseconds(day * 86_400_000_000_000 + 1));
            let bytes = format!("{number}\n");
            decoder.decode(Chunk { line, time, bytes: bytes.as_bytes(), faults: &[] }, &mut outputs).unwrap();
            // What belongs to each line is out before the clock jumps on.
            decoder.ready(line).drain(&mut outputs).unwrap();
        }
        decoder.finish().drain(&mut outputs).unwrap();
        outputs.finish().unwrap();
        let (stem, ending) = name.split_once('.').unwrap();
        let expected: Vec<String> = expected.iter().map(|date| format!("{stem}.{date}.{ending}")).collect();
        assert_eq!(names(folder.path()), expected, "{name}");
        assert_eq!(outputs.files().iter().map(|(_, rows)| rows).sum::<u64>(), days.len() as u64, "{name}");
    }
}

/// A track is broken where a record has no position; what is nowhere is left out, and both are said.
#[test]
fn tracks_have_segments() {
    let (folder, plan) = (tempfile::tempdir().unwrap(), plan(PLACES));
    let bytes =
        b"46.1;-9.1\n46.2;-9.2\n;\n46.3;-9.3\n;\n46.4;-9.4\n46.5;-9.5\n91;0\n0;-180.5\n46.6;1e2\n46.7;-179.99999999\n";
    for (form, name) in [(TrackForm::Gpx, "t.gpx"), (TrackForm::Kml, "t.kml"), (TrackForm::GeoJson, "t.geojson")] {
        let path = folder.path().join(name);
        let destination = Destination::Tracks(form, path.clone());
        let mut outputs = Outputs::open(&plan, &destination, &OutputOptions::default()).unwrap();
        pump_into(&plan, bytes, &mut outputs).unwrap();
        outputs.finish().unwrap();
        insta::assert_snapshot!(name, fs::read_to_string(&path).unwrap());
        let remarks = outputs.remarks().join("\n");
        assert!(
            remarks.contains("2 records had no position") && remarks.contains("2 records had a position beyond"),
            "{remarks}"
        );
    }
    let weights = Format::parse(
        "format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]",
    );
    let destination = Destination::Tracks(TrackForm::Gpx, folder.path().join("none.gpx"));
    let refused = Outputs::open(&weights.unwrap().compile().unwrap(), &destination, &OutputOptions::default());
    assert!(matches!(refused, Err(OutputError::NoPosition { .. })));
}

/// An output of one's own, and a closure that fails, stand beside ours.
#[test]
fn outputs_of_ones_own() {
    #[derive(Default)]
    struct Counted {
        records: u64,
        sources: Vec<String>,
        finished: bool,
    }
    struct Shared(std::sync::Arc<std::sync::Mutex<Counted>>);
    impl Output for Shared {
        fn begin_source(&mut self, name: &str, stream: &str) -> Result<(), OutputError> {
            self.0.lock().unwrap().sources.push(format!("{name} {stream}"));
            Ok(())
        }
        fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
            notes.extend_record(record);
            self.0.lock().unwrap().records += 1;
            Ok(())
        }
        fn finish(&mut self) -> Result<(), OutputError> {
            self.0.lock().unwrap().finished = true;
            Ok(())
        }
    }
    let plan = plan(PLACES);
    let counted = std::sync::Arc::default();
    let mut outputs = Outputs::of(&plan, Box::new(Shared(std::sync::Arc::clone(&counted))));
    outputs.begin_source("beacon", "7").unwrap();
    pump_into(&plan, b"1;2\nx;3\n", &mut outputs).unwrap();
    outputs.finish().unwrap();
    let counted = counted.lock().unwrap();
    assert_eq!((counted.records, counted.sources.clone(), counted.finished), (2, vec!["beacon 7".to_owned()], true));
    let qualities = outputs.take_qualities();
    let field = qualities.iter().next().unwrap();
    assert_eq!((field.field.as_str(), field.readings, field.seen.len()), ("lat", 2, 1));

    let mut seen = 0;
    let fails = move |_: &Record<'_>| {
        seen += 1;
        if seen > 1 { Err(format!("record {seen} is one too many")) } else { Ok(()) }
    };
    let mut outputs = Outputs::of(&plan, Box::new(fails));
    let error = pump_into(&plan, b"1;2\n3;4\n", &mut outputs).unwrap_err();
    assert_eq!(error.to_string(), "record 2 is one too many");
}

#[test]
fn zones_have_names() {
    assert_eq!(Zone::named("CET").unwrap().name(), "CET");
    assert_eq!(Zone::named("UTC"), Some(Zone::UTC));
    assert_eq!(Zone::named("Nowhere/Atall"), None);
}
