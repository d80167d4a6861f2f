//! SQLite: what stands there, what is replaced, and what is in the way.
#![cfg(feature = "sqlite")]

use std::fs;
use std::path::Path;

use rusqlite::Connection;
use usus::{Decoder, Format, Plan};
use usus_io::{Destination, Existing, OutputError, OutputOptions, Outputs, RawReader, pump};

const SCALE: &str = "format = 'scale'\n[[frame]]\ncut = 'text'\nseparator = ';'\n";

fn plan(records: &str) -> Plan {
    Format::parse(&format!("{SCALE}{records}")).unwrap().compile().unwrap()
}

fn weights() -> Plan {
    plan(
        "[record.weight]\nfields = [{ name = 'weight', type = 'number', unit = 'kg' }, { name = 'load', optional = true }]",
    )
}

fn options(existing: Existing) -> OutputOptions {
    OutputOptions { existing, ..OutputOptions::default() }
}

/// Converts a stream from one of its offsets on.
fn convert(plan: &Plan, path: &Path, stream: &str, from: u64, bytes: &[u8]) -> Result<Outputs, OutputError> {
    let mut outputs = Outputs::open(plan, &Destination::Database(path.to_owned()), &options(Existing::Continue))?;
    outputs.begin_source(stream, stream)?;
    let mut decoder = Decoder::new(plan);
    let line = decoder.line("", from).unwrap();
    usus::Sink::line(&mut outputs, line, "tap");
    decoder.decode(usus::Chunk { line, time: None, bytes, faults: &[] }, &mut outputs)?;
    decoder.finish().drain(&mut outputs)?;
    outputs.end_source(&decoder)?;
    outputs.finish()?;
    Ok(outputs)
}

/// What stands in the table of weights: stream, offset and weight.
fn rows(path: &Path) -> Vec<(String, i64, String)> {
    let connection = Connection::open(path).unwrap();
    let sql = "SELECT s.stream, w.\"offset\", CAST(w.weight AS TEXT) FROM weight w JOIN usus_streams s ON s.id = w.stream ORDER BY s.id, 2";
    let mut statement = connection.prepare(sql).unwrap();
    statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).unwrap().map(Result::unwrap).collect()
}

#[test]
fn a_stream_that_is_converted_again_replaces_its_rows_and_no_others() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("scale.sqlite");
    let plan = weights();
    let row = |stream: &str, offset: i64, weight: &str| (stream.to_owned(), offset, weight.to_owned());
    convert(&plan, &path, "north", 0, b"1.5;a\n2.5\n3.5\n").unwrap();
    convert(&plan, &path, "south", 0, b"7\n").unwrap();
    let all = [row("north", 0, "1.5"), row("north", 6, "2.5"), row("north", 10, "3.5"), row("south", 0, "7")];
    assert_eq!(rows(&path), all);
    convert(&plan, &path, "north", 0, b"1.5;a\n2.5\n3.5\n").unwrap();
    assert_eq!(rows(&path), all, "again the same");
    // A corrected format makes other records of the same bytes: what it does not make is gone.
    convert(&plan, &path, "north", 0, b"8.25;a\n2.5\n3.5\n").unwrap();
    assert_eq!(rows(&path)[..2], [row("north", 0, "8.25"), row("north", 7, "2.5")]);
    assert_eq!(rows(&path).len(), 4);
    // A later part of the stream leaves the earlier one as it is, and the other way round.
    convert(&plan, &path, "north", 15, b"\n4.5\n5.5\n").unwrap();
    convert(&plan, &path, "north", 15, b"\n44\n").unwrap();
    convert(&plan, &path, "north", 0, b"9\n").unwrap();
    let offsets: Vec<(i64, String)> = rows(&path).into_iter().map(|(_, offset, weight)| (offset, weight)).collect();
    let expected = [(0, "9"), (7, "2.5"), (11, "3.5"), (16, "44"), (20, "5.5"), (0, "7")];
    assert_eq!(offsets, expected.map(|(offset, weight)| (offset, weight.to_owned())));
}

#[test]
fn what_does_not_fit_is_refused_with_the_difference() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("scale.sqlite");
    convert(&weights(), &path, "north", 0, b"1.5;a\n").unwrap();
    let before = rows(&path);
    for (records, difference) in [
        (
            "[record.weight]\nfields = [{ name = 'weight', type = 'number', unit = 't' }, { name = 'load', optional = true }]",
            "weight.weight is in kg instead of t",
        ),
        (
            "[record.weight]\nfields = [{ name = 'weight', type = 'number', unit = 'kg' }, { name = 'cargo', optional = true }]",
            "weight has no column cargo; weight.load is no field any more",
        ),
        (
            "[record.weight]\nfields = [{ name = 'weight' }, { name = 'load', optional = true }]",
            "weight.weight is any number instead of TEXT; weight.weight is in kg instead of no unit",
        ),
    ] {
        let refused = convert(&plan(records), &path, "north", 0, b"1.5;a\n").err().unwrap().to_string();
        assert!(refused.contains(difference), "{refused}");
        assert!(refused.contains("the format scale"), "{refused}");
        assert_eq!(rows(&path), before);
    }
    // A kind that is new is a new table.
    let both = plan(
        "[record.note]\nwhen = \"columns == 3\"\nfields = [{ name = 'a' }, { name = 'b' }, { name = 'c' }]\n[record.weight]\nfields = [{ name = 'weight', type = 'number', unit = 'kg' }, { name = 'load', optional = true }]",
    );
    convert(&both, &path, "south", 0, b"1;2;3\n9\n").unwrap();
    assert_eq!(rows(&path).len(), before.len() + 1);
}

#[test]
fn what_is_in_the_way_is_told_and_left_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let refused = |path: &Path, existing: Existing| {
        let opened = Outputs::open(&weights(), &Destination::Database(path.to_owned()), &options(existing));
        opened.err().unwrap().to_string()
    };
    // No database.
    let text = path("text.sqlite");
    fs::write(&text, "tension;force\n1;2\n".repeat(100)).unwrap();
    assert!(refused(&text, Existing::Continue).contains("it is no SQLite database"));
    assert!(refused(&text, Existing::Refuse).contains("exists already"));
    assert_eq!(fs::read_to_string(&text).unwrap(), "tension;force\n1;2\n".repeat(100));
    // Somebody else's.
    let other = path("other.sqlite");
    Connection::open(&other).unwrap().execute_batch("CREATE TABLE weight (a)").unwrap();
    assert!(refused(&other, Existing::Continue).contains("it is a database of something else"));
    // One of another layout.
    let older = path("older.sqlite");
    convert(&weights(), &older, "north", 0, b"1\n").unwrap();
    Connection::open(&older).unwrap().execute_batch("PRAGMA user_version = 99").unwrap();
    assert!(refused(&older, Existing::Continue).contains("its layout is the 99th"));
    // One that is locked.
    let locked = path("locked.sqlite");
    convert(&weights(), &locked, "north", 0, b"1\n").unwrap();
    let holder = Connection::open(&locked).unwrap();
    holder.execute_batch("BEGIN EXCLUSIVE").unwrap();
    assert!(refused(&locked, Existing::Continue).contains("another program has locked it"));
    drop(holder);
    convert(&weights(), &locked, "north", 5, b"\n2\n").unwrap();
    assert_eq!(rows(&locked).len(), 2);
    // A directory that is not there, one that is none, and one that vanishes.
    assert!(refused(&path("nowhere/x.sqlite"), Existing::Refuse).contains("No such file or directory"));
    assert!(refused(&text.join("x.sqlite"), Existing::Refuse).contains("Not a directory"));
    assert!(refused(folder.path(), Existing::Continue).contains("cannot write"));
}

/// After an error, a new database is gone, and one that was there is as it was.
#[test]
fn nothing_half_written_stays() {
    let folder = tempfile::tempdir().unwrap();
    let plan = weights();
    for is_there in [false, true] {
        let path = folder.path().join(format!("{is_there}.sqlite"));
        if is_there {
            convert(&plan, &path, "north", 0, b"1\n").unwrap();
        }
        let mut outputs =
            Outputs::open(&plan, &Destination::Database(path.clone()), &options(Existing::Continue)).unwrap();
        outputs.begin_source("south", "south").unwrap();
        pump(&mut RawReader::new(&b"5\n6\n"[..], None), &mut Decoder::new(&plan), &mut outputs, &mut |_| true).unwrap();
        outputs.fail();
        outputs.finish().unwrap();
        drop(outputs);
        let left: Vec<String> = fs::read_dir(folder.path())
            .unwrap()
            .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        if is_there {
            assert_eq!(rows(&path).len(), 1);
            assert_eq!(left, ["true.sqlite"], "and nothing beside it");
        } else {
            assert!(left.is_empty(), "{left:?}");
        }
    }
}

/// Lines that are called alike, as where one capture stands behind another in a file, do not overwrite each other.
#[test]
fn lines_of_one_name_are_told_apart() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("scale.sqlite");
    let plan = weights();
    for _ in 0..2 {
        let options = options(Existing::Continue);
        let mut outputs = Outputs::open(&plan, &Destination::Database(path.clone()), &options).unwrap();
        outputs.begin_source("both", "both").unwrap();
        let mut decoder = Decoder::new(&plan);
        for bytes in [b"1\n2\n", b"3\n4\n"] {
            let line = decoder.line("", 0).unwrap();
            usus::Sink::line(&mut outputs, line, "tap");
            decoder.decode(usus::Chunk { line, time: None, bytes, faults: &[] }, &mut outputs).unwrap();
        }
        decoder.finish().drain(&mut outputs).unwrap();
        outputs.end_source(&decoder).unwrap();
        outputs.finish().unwrap();
    }
    assert_eq!(rows(&path).len(), 4);
}
