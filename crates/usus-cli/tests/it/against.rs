//! `usus check --against`: a declaration held against the demo's recordings, in words and as JSON.

use std::fs;
use std::path::Path;

use serde_json::Value;

use crate::run::{Ran, root, usus};

const FORMAT: &str = "demo/formats/rope-tension.toml";
const SAMPLE: &str = "demo/samples/rope-tension.pcapng";

/// The demo's format with something changed, held against its sample.
fn changed(folder: &Path, changes: &[(&str, &str)], more: &[&str]) -> Ran {
    let mut text = fs::read_to_string(root().join(FORMAT)).unwrap();
    for (from, to) in changes {
        assert!(text.contains(from), "{from}");
        text = text.replace(from, to);
    }
    let path = folder.join("changed.toml");
    fs::write(&path, text).unwrap();
    usus(&[&["check", path.to_str().unwrap(), "--against", SAMPLE], more].concat())
}

#[test]
fn a_declaration_is_held_against_a_recording() {
    let folder = tempfile::tempdir().unwrap();
    let right = usus(&["check", FORMAT, "--against", SAMPLE]);
    assert_eq!(right.status, 0, "{}", right.said);
    insta::assert_snapshot!("against_right", right.shown(folder.path()));
    let wrong = changed(folder.path(), &[("CRC-16/MODBUS", "CRC-16/XMODEM"), ("i24be", "i24le")], &[]);
    insta::assert_snapshot!("against_wrong", wrong.shown(folder.path()));
}

/// What is changed, and what is then named: where, what is wrong, what to write.
type Change<'c> = (&'c [(&'c str, &'c str)], &'c str, &'c str, &'c str);

/// Each thing that is declared wrong is named first, with what to write, as the same text in the JSON.
#[test]
fn what_is_declared_wrong_is_named_first() {
    let folder = tempfile::tempdir().unwrap();
    let checksum = "checksum = { algorithm = \"CRC-16/MODBUS\", type = \"u16le\", from = 2 }";
    let table: &[Change] = &[
        (&[("CRC-16/MODBUS", "CRC-16/KERMIT")], "frame packet", "checksum", checksum),
        (&[("u16le\", from = 2", "u16be\", from = 2")], "frame packet", "checksum", checksum),
        (&[("from = 2 }", "from = 0 }")], "frame packet", "checksum", checksum),
        (&[("checksum = ", "# checksum = ")], "frame packet", "no checksum", checksum),
        (&[("add = 5", "add = 3")], "frame packet", "length", "length = { byte = 2, type = \"u8\", add = 5 }"),
        (&[("i24be", "i24le")], "sample.tension", "byte order", "type = \"i24be\""),
        (&[("i24be", "u24be")], "sample.tension", "sign", "type = \"i24be\""),
        (&[("\"i24be\", scale = 0.01", "\"i24be\", scale = 10")], "sample.tension", "scale", "scale = 0.01"),
    ];
    for (changes, place, wrong, proposed) in table {
        let ran = changed(folder.path(), changes, &["--json"]);
        assert_eq!(ran.status, 0, "{}", ran.said);
        let json: Value = serde_json::from_str(&ran.out).unwrap();
        let first = &json["proposals"][0];
        assert_eq!((first["place"].as_str(), first["wrong"].as_str()), (Some(*place), Some(*wrong)), "{json:#}");
        assert_eq!(first["proposed"].as_str(), Some(*proposed), "{first:#}");
        let words = changed(folder.path(), changes, &[]);
        assert!(words.out.contains(proposed), "{}", words.out);
    }
}

#[test]
fn sources_and_lines_are_named_as_everywhere() {
    let folder = tempfile::tempdir().unwrap();
    let raw = usus(&["check", FORMAT, "--against", "demo/samples/rope-tension.bin", "--json"]);
    let json: Value = serde_json::from_str(&raw.out).unwrap();
    assert_eq!(json["records"][0]["seen"], 1_194);
    assert!(json["records"][0]["a_second"].is_null() && json["proposals"].as_array().unwrap().is_empty(), "{json:#}");
    let missing = usus(&["check", FORMAT, "--against", "not-there.bin"]);
    assert!(missing.status == 1 && missing.said.contains("not-there.bin"), "{}", missing.said);
    let empty = folder.path().join("empty.bin");
    fs::write(&empty, "").unwrap();
    let nothing = usus(&["check", FORMAT, "--against", empty.to_str().unwrap()]);
    assert!(nothing.status == 3 && nothing.said.contains("no bytes came"), "{}", nothing.said);
    let roles = folder.path().join("roles.toml");
    let text = "format = 'bus'\n[line.ask]\n[line.say]\n[[frame]]\non = 'ask'\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]\n";
    fs::write(&roles, text).unwrap();
    let lines = folder.path().join("lines.txt");
    fs::write(&lines, "one\r\ntwo\r\n").unwrap();
    let (roles, lines) = (roles.to_str().unwrap(), lines.to_str().unwrap());
    let which = usus(&["check", roles, "--against", lines]);
    assert!(which.status == 1 && which.said.contains("the format speaks of ask, say"), "{}", which.said);
    let said = usus(&["check", roles, "--against", lines, "--line", "ask"]);
    assert!(said.status == 0 && said.out.contains("r       2"), "{}{}", said.out, said.said);
}
