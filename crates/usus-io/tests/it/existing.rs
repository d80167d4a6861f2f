//! What is there already: gone on with, or never touched.

use std::fs;
use std::path::PathBuf;

use proptest::prelude::*;
use usus::{Decoder, Plan};
use usus_io::{Destination, Existing, OutputError, OutputOptions, Outputs, Protected, RawReader, TableStyle, pump};

use crate::outputs::{AWKWARD, plan, rows};

fn write(
    plan: &Plan,
    bytes: &[u8],
    destination: &Destination,
    options: &OutputOptions,
) -> Result<Outputs, OutputError> {
    let mut outputs = Outputs::open(plan, destination, options)?;
    pump(&mut RawReader::new(bytes, None), &mut Decoder::new(plan), &mut outputs, &mut |_| true).unwrap();
    outputs.finish()?;
    Ok(outputs)
}

fn going_on() -> OutputOptions {
    OutputOptions { existing: Existing::Continue, ..OutputOptions::default() }
}

/// Rows with whatever may stand in a cell.
const FIRST: &[u8] = b"a;1;F;x\r\n\"quoted\"\x0B, and more;2;0;y;1;z\r\nc;;\r\n";
const SECOND: &[u8] = b"later;9;A;w\r\n";

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 96, ..ProptestConfig::default() })]

    /// A run that was killed at any byte of what it wrote is gone on with behind its last whole row, in tables and in JSON Lines.
    #[test]
    fn a_torn_end_is_taken_away(cut in 0usize..400, zeros in 0usize..3, json in any::<bool>()) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(if json { "rows.jsonl" } else { "rows" });
        let destination = Destination::named(&path).unwrap();
        let plan = plan(AWKWARD);
        write(&plan, FIRST, &destination, &OutputOptions::default()).unwrap();
        let file = if json { path.clone() } else { path.join("row.csv") };
        let whole = fs::read(&file).unwrap();
        let cut = cut % (whole.len() + 1);
        let torn = [&whole[..cut], &vec![0; zeros * 100]].concat();
        fs::write(&file, &torn).unwrap();
        let ends: Vec<usize> = whole.iter().enumerate().filter(|(_, byte)| **byte == b'\n').map(|(at, _)| at + 1).collect();
        let end = ends.iter().copied().filter(|end| *end <= cut).max().unwrap_or(0);

        let outputs = write(&plan, SECOND, &destination, &going_on()).unwrap();
        let mended = outputs.mended();
        prop_assert_eq!(mended.len(), usize::from(end < torn.len()));
        prop_assert!(mended.iter().all(|(path, bytes)| *path == file && *bytes as usize == torn.len() - end));
        let found = fs::read(&file).unwrap();
        let first = if json { 0 } else { ends[0] };
        // Without its first row, a table gets it anew.
        let kept = if end < first { &whole[..first] } else { &whole[..end] };
        prop_assert!(found.starts_with(kept), "{:?}", String::from_utf8_lossy(&found));
        let added = String::from_utf8(found[kept.len()..].to_vec()).unwrap();
        prop_assert!(added.contains("later") && added.matches('\n').count() == 1, "{}", added);
        let counted = outputs.files().into_iter().find(|(path, _)| *path == file).unwrap();
        prop_assert_eq!(counted.1, 1);
    }
}

#[test]
fn only_tables_of_the_same_columns_are_gone_on_with() {
    let folder = tempfile::tempdir().unwrap();
    let directory = folder.path().join("out");
    let destination = Destination::Directory(directory.clone());
    let awkward = plan(AWKWARD);
    write(&awkward, FIRST, &destination, &going_on()).unwrap();
    let before = fs::read(directory.join("row.csv")).unwrap();
    // One more field; another style; and, with nothing but a title changed, the table of fields would tell something else.
    let other = plan(&AWKWARD.replace("{ name = \"text\" },", "{ name = \"text\" }, { name = \"more\" },"));
    let titled = plan(&AWKWARD.replace("{ name = \"text\" },", "{ name = \"text\", title = \"A text\" },"));
    let mut units = going_on();
    units.style = TableStyle::default();
    units.style.separator = b';';
    for (plan, options) in [(&other, going_on()), (&titled, going_on()), (&awkward, units)] {
        let refused = write(plan, SECOND, &destination, &options);
        assert!(matches!(refused, Err(OutputError::OtherColumns { .. })));
        assert_eq!(fs::read(directory.join("row.csv")).unwrap(), before);
    }
    write(&awkward, SECOND, &destination, &going_on()).unwrap();
    let rows = rows(&directory.join("row.csv"));
    assert_eq!(rows.iter().filter(|row| row[1] == "text" || row[0] == "offset").count(), 1);
    assert_eq!(rows.last().unwrap()[1], "later");
    // JSON Lines are not put behind something else.
    let path = folder.path().join("x.jsonl");
    fs::write(&path, "no,objects\n").unwrap();
    let refused = write(&awkward, SECOND, &Destination::JsonLines(path.clone()), &going_on());
    assert!(matches!(refused, Err(OutputError::OtherColumns { .. })));
    assert_eq!(fs::read(&path).unwrap(), b"no,objects\n");
}

#[test]
fn days_are_gone_on_with() {
    let folder = tempfile::tempdir().unwrap();
    let destination = Destination::Directory(folder.path().join("out"));
    let options = OutputOptions { daily: true, ..going_on() };
    let plan = plan(AWKWARD);
    for _ in 0..3 {
        let mut outputs = Outputs::open(&plan, &destination, &options).unwrap();
        let mut decoder = Decoder::new(&plan);
        let line = decoder.line("", 0).unwrap();
        let time = Some(usus::Time::from_nanoseconds(1));
        decoder.decode(usus::Chunk { time, ..usus::Chunk::new(line, b"x;1\r\na;1;F;x\r\n") }, &mut outputs).unwrap();
        outputs.finish().unwrap();
    }
    assert_eq!(rows(&folder.path().join("out/1970-01-01/row.csv")).len(), 1 + 3 * 2);
}

/// An output that is also an input is refused before anything is opened for writing, by whatever name it goes.
#[test]
fn what_is_read_is_never_written() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let input = path("line.bin");
    fs::write(&input, b"precious").unwrap();
    fs::create_dir(path("tables")).unwrap();
    fs::create_dir(path("hard")).unwrap();
    std::os::unix::fs::symlink(&input, path("link.jsonl")).unwrap();
    std::os::unix::fs::symlink(path("tables"), path("elsewhere")).unwrap();
    std::os::unix::fs::symlink(&input, path("tables/row.list.csv")).unwrap();
    fs::hard_link(&input, path("hard/fields.csv")).unwrap();
    let mut protected = Protected::default();
    protected.add(&input);
    protected.add(&path("not-there"));
    let plan = plan(AWKWARD);
    let refused = |destination: Destination, rejects: Option<PathBuf>| {
        for existing in [Existing::Replace, Existing::Continue] {
            let options = OutputOptions {
                existing,
                rejects: rejects.clone(),
                protected: protected.clone(),
                ..OutputOptions::default()
            };
            match Outputs::open(&plan, &destination, &options).map(|_| ()) {
                Err(OutputError::IsInput { other, .. }) => assert_eq!(other, input),
                other => panic!("{destination:?} {existing:?}: {other:?}"),
            }
            assert_eq!(fs::read(&input).unwrap(), b"precious");
        }
    };
    refused(Destination::JsonLines(path("link.jsonl")), None);
    refused(Destination::JsonLines(input.clone()), None);
    refused(Destination::Table(input.clone()), None);
    refused(Destination::Directory(path("tables")), None);
    refused(Destination::Directory(path("elsewhere")), None);
    refused(Destination::Directory(path("hard")), None);
    refused(Destination::JsonLines(path("new.jsonl")), Some(path("link.jsonl")));
    assert!(!path("new.jsonl").exists());
    // Nor are two outputs one.
    for (destination, rejects) in [
        (Destination::JsonLines(path("same.jsonl")), path("same.jsonl")),
        (Destination::JsonLines(path("same.jsonl")), path("tables/../same.jsonl")),
        (Destination::Directory(path("fresh")), path("tables/../fresh/row.csv")),
    ] {
        fs::create_dir_all(path("fresh")).unwrap();
        let options = OutputOptions { rejects: Some(rejects), existing: Existing::Replace, ..OutputOptions::default() };
        assert!(matches!(Outputs::open(&plan, &destination, &options), Err(OutputError::Twice { .. })));
        assert!(!path("same.jsonl").exists());
    }
}
