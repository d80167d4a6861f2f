//! `--jobs` changes how long it takes, and nothing else.

use std::fs;
use std::path::Path;

use crate::run::{root, usus};

/// The files of a folder, by name.
fn files(folder: &Path) -> Vec<(String, Vec<u8>)> {
    let mut files: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| (path.file_name().unwrap().to_string_lossy().into_owned(), fs::read(&path).unwrap()))
        .collect();
    files.sort();
    files
}

#[test]
fn outputs_and_account_are_the_same_on_any_number_of_cores() {
    let folder = tempfile::tempdir().unwrap();
    let sample = fs::read(root().join("demo/samples/wind-mast.bin")).unwrap();
    // A few pieces, whose bounds lie anywhere in the sample.
    let input = folder.path().join("mast.bin");
    fs::write(&input, sample.repeat((13 << 20) / sample.len())).unwrap();
    let run = |jobs: &str, to: &str| {
        let (out, rejects) = (folder.path().join(to), folder.path().join(format!("{to}.rejects.jsonl")));
        let arguments =
            ["convert", input.to_str().unwrap(), "--format", "nmea-0183", "--origin", "--jobs", jobs, "--out"];
        let more = [out.to_str().unwrap(), "--rejects", rejects.to_str().unwrap()];
        let ran = usus(&[&arguments[..], &more[..]].concat());
        assert_eq!(ran.status, 0, "{}", ran.said);
        (files(&out), fs::read(rejects).unwrap(), ran.said.replace(to, "OUT"))
    };
    let alone = run("1", "alone");
    assert!(alone.0.len() > 4 && !alone.1.is_empty(), "there is something to compare");
    for (jobs, to) in [("2", "two"), ("3", "three")] {
        assert!(alone == run(jobs, to), "{jobs} cores give what one gives");
    }
}
