//! Frames inside of frames, from the command: outputs, account, rejects, and several cores.

use std::fs;
use std::path::Path;

use crate::run::{Ran, usus};

const RADIO: &str = r#"
format = "cabin-radio"
[[frame]]
name     = "parcel"
cut      = "packet"
start    = "7E"
length   = { byte = 1, type = "u8", add = 2 }
checksum = { algorithm = "SUM-8", type = "u8" }
[[frame]]
name   = "message"
inside = "parcel.load"
cut    = "text"
end    = "LF"
[record.parcel]
frame  = "parcel"
series = "cabin"
fields = [
  { name = "cabin",  type = "u8" },
  { name = "number", type = "u8", counter = true },
  { name = "load",   type = "bytes", internal = true },
]
[record.speed]
frame  = "message"
fields = [ { name = "speed", type = "number", unit = "m/s", invalid = "reject" } ]
[[example]]
text  = "4.2"
gives = { record = "speed", speed = 4.2 }
"#;

fn parcel(cabin: u8, number: u8, load: &str) -> Vec<u8> {
    let mut bytes = vec![0x7E, load.len() as u8 + 3, cabin, number];
    bytes.extend(load.bytes());
    bytes.push(bytes.iter().fold(0, |sum: u8, byte| sum.wrapping_add(*byte)));
    bytes
}

/// What two cabins say, of which a parcel is lost, one comes twice, and one line is no number.
fn said() -> Vec<u8> {
    let parcels = [
        parcel(1, 0, "4.2\n4."),
        parcel(2, 9, "0.3\n"),
        parcel(1, 1, "3\n4."),
        parcel(1, 1, "3\n4."),
        parcel(1, 3, "1\n5.0\n"),
        parcel(2, 10, "fast\n0.4\n"),
    ];
    parcels.concat()
}

struct Folder(tempfile::TempDir);

impl Folder {
    fn new(bytes: &[u8]) -> Folder {
        let folder = Folder(tempfile::tempdir().unwrap());
        fs::write(folder.path("radio.toml"), RADIO).unwrap();
        fs::write(folder.path("radio.bin"), bytes).unwrap();
        folder
    }

    fn path(&self, name: &str) -> String {
        self.0.path().join(name).to_str().unwrap().to_owned()
    }

    fn convert(&self, more: &[&str]) -> Ran {
        usus(&[&["convert", &self.path("radio.bin"), "--format", &self.path("radio.toml")], more].concat())
    }
}

fn read(path: impl AsRef<Path>) -> String {
    fs::read_to_string(path).unwrap()
}

#[test]
fn what_is_carried_has_tables_an_account_and_rejects() {
    let folder = Folder::new(&said());
    let ran = folder.convert(&["--out", &folder.path("out"), "--rejects", &folder.path("rejects.jsonl")]);
    assert_eq!(ran.status, 0);
    let lines = folder.convert(&["-q"]);
    let all =
        [ran.shown(folder.0.path()), read(folder.path("out/speed.csv")), read(folder.path("rejects.jsonl")), lines.out];
    insta::assert_snapshot!(all.join("\n").replace('\r', ""));
    let limited = folder.convert(&["--out", &folder.path("limited"), "--reject-limit", "5%"]);
    assert_eq!(limited.status, 5);
    assert!(limited.said.contains("% of what parcel.load carries; the limit is 5.000 %"), "{}", limited.said);
}

#[test]
fn one_core_does_it_whatever_is_asked() {
    let folder = Folder::new(&said().repeat(100_000));
    let convert = |jobs: &str| {
        let out = folder.path(jobs);
        let ran = folder.convert(&["--jobs", jobs, "--brief", "--out", &out]);
        assert_eq!(ran.status, 0, "{}", ran.said);
        (ran.said, fs::read(Path::new(&out).join("speed.csv")).unwrap())
    };
    assert!(convert("1") == convert("3"));
}

#[test]
fn check_tells_what_lies_where() {
    let folder = Folder::new(&[]);
    let format = folder.path("radio.toml");
    let ran = usus(&["check", &format]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.out.contains("record speed (frame message, inside parcel.load)"), "{}", ran.out);
    let hex: Vec<String> = parcel(1, 0, "4.2\n").iter().map(|byte| format!("{byte:02X}")).collect();
    let around = usus(&["check", &format, "--bytes", &hex.join(" ")]).out;
    assert!(around.contains("record parcel\n") && around.contains("inside parcel.load: record speed\n"), "{around}");
    let carried = usus(&["check", &format, "--line", "parcel.load", "--text", "4.2"]).out;
    assert!(carried.starts_with("record speed\n"), "{carried}");
}
