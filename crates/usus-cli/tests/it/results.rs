//! What records are turned into, and what is said of it: text to read, times of a zone, tags, a data dictionary, and what has changed.

use std::fs;
use std::path::Path;

use serde_json::Value;

use crate::run::{root, usus};

const SAMPLE: &str = "demo/samples/rope-tension.pcapng";
const ROPE: &str = "demo/formats/rope-tension.toml";

fn convert(arguments: &[&str]) -> String {
    let ran = usus(&[&["convert", SAMPLE, "--format", ROPE, "--quiet"], arguments].concat());
    assert_eq!(ran.status, 0, "{}", ran.said);
    ran.out
}

#[test]
fn text_to_read() {
    insta::assert_snapshot!(convert(&[
        "--out",
        "table:-",
        "--begin",
        "2026-11-25T06:00:04.9Z",
        "--end",
        "2026-11-25T06:00:05.1Z"
    ]));
    // What a device sends never reaches a terminal as it is.
    let folder = tempfile::tempdir().unwrap();
    let (format, bytes) = (folder.path().join("f.toml"), folder.path().join("b.bin"));
    fs::write(
        &format,
        "format = 'f'\n[[frame]]\ncut = 'text'\n[record.line]\nfields = [{ name = 'text', tag = \"a\\u202Eb\" }]",
    )
    .unwrap();
    fs::write(&bytes, format!("plain\n\u{1B}[31mred\u{202E}\n{}\n", "long ".repeat(30))).unwrap();
    let ran = usus(&[
        "convert",
        bytes.to_str().unwrap(),
        "--format",
        format.to_str().unwrap(),
        "--out",
        "table:-",
        "--tags",
        "--quiet",
    ]);
    insta::assert_snapshot!("harmless", ran.out);
}

#[test]
fn times_as_people_need_them() {
    let first = |arguments: &[&str]| {
        let fields =
            ["--out", "csv:-", "--records", "sample", "--fields", "sample.mode", "--end", "2026-11-25T06:00:00.1Z"];
        convert(&[&fields[..], arguments].concat()).lines().nth(1).unwrap().split(',').nth(1).unwrap().to_owned()
    };
    for (arguments, expected) in [
        (&[][..], "2026-11-25T06:00:00.051Z"),
        (&["--time-digits", "9"], "2026-11-25T06:00:00.051128465Z"),
        (&["--time-digits", "0"], "2026-11-25T06:00:00Z"),
        (&["--zone", "CET"], "2026-11-25T07:00:00.051+01:00"),
        (&["--zone", "UTC"], "2026-11-25T06:00:00.051Z"),
        (&["--zone", "Etc/GMT+3", "--time-digits", "1"], "2026-11-25T03:00:00.0-03:00"),
        (&["--zone", "CET", "--sheet-times"], "2026-11-25 07:00:00.051"),
    ] {
        assert_eq!(first(arguments), expected, "{arguments:?}");
    }
    let json = convert(&["--records", "status", "--zone", "CET", "--end", "2026-11-25T06:00:05Z"]);
    assert!(json.contains("\"received\":\"2026-11-25T07:00:04.982777760+01:00\""), "{json}");
    // A new day begins when the clocks of the zone say so.
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("days.jsonl");
    convert(&["--daily", "--zone", "Etc/GMT+7", "--out", out.to_str().unwrap()]);
    assert!(folder.path().join("days.2026-11-24.jsonl").exists());
    let refused = usus(&["convert", SAMPLE, "--format", ROPE, "--zone", "Nowhere"]);
    assert!(refused.status == 2 && refused.said.contains("IANA time zone database"), "{}", refused.said);
}

#[test]
fn tags_instead_of_names_and_a_dictionary_of_both() {
    let json: Value =
        serde_json::from_str(convert(&["--tags", "--records", "sample"]).lines().next().unwrap()).unwrap();
    assert_eq!(json["fields"]["WT-301"].to_string(), "84.47");
    assert!(json["fields"]["tension"].is_null());
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    convert(&["--tags", "--out", &path("t"), "--dictionary", &path("t.md")]);
    let table = fs::read_to_string(folder.path().join("t/sample.csv")).unwrap();
    assert!(table.starts_with("line,received,sequence,WT-301,core,"), "{}", &table[..100]);
    assert!(table.contains("WT-301=out_of_range"));
    insta::assert_snapshot!(fs::read_to_string(folder.path().join("t.md")).unwrap());
    convert(&["--out", &path("t.sqlite"), "--dictionary", &path("t.json")]);
    let told: Value = serde_json::from_str(&fs::read_to_string(folder.path().join("t.json")).unwrap()).unwrap();
    assert_eq!(told["records"][0]["fields"][1]["tag"], "WT-301");
    assert_eq!(told["records"][1]["records"], 12);
    assert_eq!(told["sources"][0]["bytes"]["total"], 15_993);
    // A tag may be any text, also what a spreadsheet would take for a formula.
    let (format, bytes) = (path("f.toml"), path("b.bin"));
    let text = "format = 'f'\n[[frame]]\ncut = 'text'\n[record.line]\nfields = [{ name = 'text', tag = '=1+1' }, ]";
    fs::write(&format, text).unwrap();
    fs::write(&bytes, "x\n").unwrap();
    let ran =
        usus(&["convert", &bytes, "--format", &format, "--out", "csv:-", "--tags", "--guard-formulas", "--quiet"]);
    assert_eq!(ran.out, "'=1+1,quality\r\nx,\r\n", "{}", ran.said);
    // It is not written over, and not under any name.
    let refused =
        usus(&["convert", SAMPLE, "--format", ROPE, "--out", &path("u.jsonl"), "--dictionary", &path("t.json")]);
    assert!(refused.status == 1 && refused.said.contains("exists already"), "{}", refused.said);
    assert!(!folder.path().join("u.jsonl").exists());
    let refused = usus(&["convert", SAMPLE, "--format", ROPE, "--dictionary", &path("t.doc")]);
    assert!(refused.status == 2 && refused.said.contains(".json or .md"), "{}", refused.said);
}

/// Converts by the format as it is, and by one in which something was corrected.
fn before_and_after(folder: &Path, changes: &[(&str, &str)], form: &str) -> [String; 2] {
    let mut format = fs::read_to_string(root().join(ROPE)).unwrap();
    for (old, new) in changes {
        assert!(format.contains(old));
        format = format.replace(old, new);
    }
    // Its examples are of the format as it was.
    format.truncate(format.find("[[example]]").unwrap());
    let corrected = folder.join("corrected.toml");
    fs::write(&corrected, format).unwrap();
    [(ROPE, "before"), (corrected.to_str().unwrap(), "after")].map(|(format, name)| {
        let out = folder.join(format!("{name}{form}")).to_str().unwrap().to_owned();
        let ran = usus(&["convert", SAMPLE, "--format", format, "--out", &out, "--origin", "--overwrite", "--quiet"]);
        assert_eq!(ran.status, 0, "{}", ran.said);
        out
    })
}

#[test]
fn what_has_changed_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let changes = [
        ("name = \"tension\",  type = \"i24be\", scale = 0.01", "name = \"tension\",  type = \"i24be\", scale = 0.02"),
        ("name = \"core\"", "name = \"heart\""),
        ("{ name = \"force\", type = \"i24be\", scale = 0.01", "{ name = \"force\", type = \"i24be\", scale = 0.001"),
    ];
    for form in [".jsonl", ".sqlite", ""] {
        let [before, after] = before_and_after(folder.path(), &changes, form);
        let ran = usus(&["compare", &before, &after]);
        assert_eq!(ran.status, 0, "{}", ran.said);
        insta::assert_snapshot!(format!("changed{form}"), ran.shown(folder.path()));
        let ran = usus(&["compare", &before, &after, "--json"]);
        let told: Value = serde_json::from_str(&ran.out).unwrap();
        let tension = &told["kinds"]["sample"]["fields"]["tension"];
        assert_eq!((&tension["changed"], &tension["first"]["before"]), (&1_194.into(), &"84.47".into()), "{form}");
        let ran = usus(&["compare", &before, &before]);
        assert!(ran.out.contains("rows are the same"), "{}", ran.out);
    }
    // Other frames are cut: what is gone, and what is new.
    let [before, after] =
        before_and_after(folder.path(), &[("when   = \"type == 2\"", "when   = \"type == 9\"")], ".jsonl");
    insta::assert_snapshot!("gone", usus(&["compare", &before, &after]).shown(folder.path()));
    insta::assert_snapshot!("new", usus(&["compare", &after, &before]).shown(folder.path()));
}

#[test]
fn what_cannot_be_compared_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    convert(&["--out", &path("without")]);
    convert(&["--out", &path("with"), "--origin"]);
    convert(&["--out", &path("t.jsonl")]);
    convert(&["--out", &path("t.xlsx")]);
    fs::write(folder.path().join("other.jsonl"), "{\"a\":1}\n").unwrap();
    for (old, new, why) in [
        ("without", "without", "convert with --origin"),
        ("t.jsonl", "with", "both are JSON Lines, or both tables"),
        ("t.xlsx", "t.xlsx", "no conversion that can be read back"),
        ("t.jsonl", "other.jsonl", "other.jsonl:1: it is no record"),
        ("t.jsonl", "nowhere.jsonl", "cannot read"),
    ] {
        let ran = usus(&["compare", &path(old), &path(new)]);
        assert!(ran.status == 1 && ran.said.contains(why), "{}", ran.said);
    }
}
