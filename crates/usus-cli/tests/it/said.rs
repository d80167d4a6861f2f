//! What the command says, in full: read these snapshots as a user would.

use std::fs;
use std::path::Path;

use crate::run::{command, ran, usus};

fn snapshot(name: &str, arguments: &[&str], folder: &Path) {
    insta::assert_snapshot!(name, usus(arguments).shown(folder));
}

#[test]
fn helps() {
    let nowhere = Path::new("/nowhere");
    snapshot("help", &["--help"], nowhere);
    snapshot("help_convert", &["convert", "--help"], nowhere);
    snapshot("help_check", &["check", "--help"], nowhere);
    snapshot("help_demo", &["demo", "--help"], nowhere);
}

#[test]
fn check() {
    let nowhere = Path::new("/nowhere");
    snapshot("check_rope_tension", &["check", "demo/formats/rope-tension.toml"], nowhere);
    snapshot("check_valley_station", &["check", "demo/formats/valley-station.toml"], nowhere);
    snapshot("check_nmea", &["check", "nmea-0183"], nowhere);
    snapshot("formats", &["formats"], nowhere);
}

#[test]
fn check_with_differences() {
    let folder = tempfile::tempdir().unwrap();
    let text = fs::read_to_string(crate::run::root().join("demo/formats/rope-tension.toml")).unwrap();
    let path = folder.path().join("rope.toml");
    fs::write(&path, text.replace("scale = 0.01, unit = \"kN\", range", "scale = 0.1, unit = \"kN\", range")).unwrap();
    snapshot("check_with_differences", &["check", path.to_str().unwrap()], folder.path());
}

#[test]
fn format_problems() {
    let folder = tempfile::tempdir().unwrap();
    let text = fs::read_to_string(crate::run::root().join("demo/formats/rope-tension.toml")).unwrap();
    let path = folder.path().join("rope.toml");
    let text = text
        .replace("start    =", "strat    =")
        .replace("CRC-16/MODBUS", "CRC-16/MODBUSS")
        .replace("\"i24be\", scale = 0.01", "\"i24\", scale = 0")
        .replace("when   = \"type == 2\"", "when   = \"typ == 2\"")
        .replace("# The haul-rope", "# \u{202E}The \u{1F6A1} haul-rope");
    fs::write(&path, text).unwrap();
    let path = path.to_str().unwrap();
    snapshot("format_problems", &["check", path], folder.path());
    snapshot("format_problems_json", &["--messages", "json", "check", path], folder.path());
}

#[test]
fn conversions() {
    let folder = tempfile::tempdir().unwrap();
    let out = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let rope = ["convert", "demo/samples/rope-tension.bin", "--format", "demo/formats/rope-tension.toml", "--out"];
    snapshot("convert_raw", &[&rope[..], &[&out("rope")]].concat(), folder.path());
    snapshot("convert_again", &[&rope[..], &[&out("rope")]].concat(), folder.path());
    snapshot("convert_two_kinds_to_one_table", &[&rope[..], &[&out("rope.csv")]].concat(), folder.path());
    snapshot("convert_unknown_field", &[&rope[..], &[&out("x"), "--fields", "sample.tensoin"]].concat(), folder.path());
    let mast =
        ["convert", "demo/samples/wind-mast.pcapng", "demo/samples/wind-mast.bin", "--format", "nmea-0183", "--out"];
    snapshot("convert_two_sources", &[&mast[..], &[&out("mast"), "--origin"]].concat(), folder.path());
    let rows = fs::read_to_string(folder.path().join("mast/zda.csv")).unwrap();
    insta::assert_snapshot!("convert_two_sources_zda", rows.replace("\r\n", "\n"));
    let valley = ["convert", "demo/samples/valley-station.pcapng", "--format", "demo/formats/valley-station.toml"];
    snapshot("convert_boot_to_json", &[&valley[..], &["--records", "boot"]].concat(), folder.path());
    snapshot(
        "convert_json_messages",
        &[&valley[..], &["--records", "boot", "--messages", "json"]].concat(),
        folder.path(),
    );
}

#[test]
fn demo_twice() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("demo");
    let arguments = ["demo", "--seconds", "60", "--seed", "7", "--out", out.to_str().unwrap()];
    snapshot("demo", &arguments, folder.path());
    snapshot("demo", &arguments, folder.path());
    // A directory that somebody else filled is left alone.
    fs::remove_file(out.join("made-by-usus-demo")).unwrap();
    snapshot("demo_elsewhere", &arguments, folder.path());
    // The samples in the repository are this very demo's.
    for entry in fs::read_dir(crate::run::root().join("demo/samples")).unwrap() {
        let sample = entry.unwrap().path();
        let made = out.join("lines").join(sample.file_name().unwrap());
        assert!(fs::read(&sample).unwrap() == fs::read(&made).unwrap(), "{sample:?} is not what the demo makes");
    }
}

/// A device, a format and a file name that try to take over the terminal.
#[test]
fn nothing_reaches_the_terminal_raw() {
    let folder = tempfile::tempdir().unwrap();
    let format = folder.path().join("f.toml");
    fs::write(
        &format,
        "format = \"evil\"\ntitle = \"a\\u001B[31mb\\u202Ec\"\n[[frame]]\ncut = \"text\"\nheader = [{ name = \"a\", column = 1 }]\n[[ignore]]\nwhen = \"a starts 'i'\"\ncount_by = \"a\"\n[[example]]\ntext = \"\\u001B]0;x\\u0007\"\ngives = { record = \"r\" }\n[record.r]\nwhen = \"a starts 'r'\"\ntitle = \"\\u200B\\u001B[2J\"\nfields = []\n",
    )
    .unwrap();
    let source = folder.path().join("evil\u{1B}[31m\u{202E}.bin");
    fs::write(&source, b"first\ni\x1B[31m\xE2\x80\xAE\n\x1B]0;owned\x07\nr\n").unwrap();
    let (format, source) = (format.to_str().unwrap(), source.to_str().unwrap());
    let mut said = usus(&["check", format]);
    said.said += &usus(&["convert", source, "--format", format]).said;
    said.said += &usus(&["convert", source, source, "--format", format, "--out", "/proc/x\u{1B}[31m"]).said;
    said.said += &usus(&["convert", "no\u{1B}[31mfile", "--format", format]).said;
    said.said += &usus(&["check", "no\u{1B}[31mformat"]).said;
    for text in [&said.out, &said.said] {
        assert!(!text.contains(['\u{1B}', '\u{7}', '\u{202E}', '\u{200B}']), "{text:?}");
    }
    assert!(said.said.contains("evil\\u{1b}[31m\\u{202e}.bin"));
}

#[test]
fn json_messages_are_json_line_by_line() {
    for arguments in [
        &[
            "--messages",
            "json",
            "convert",
            "demo/samples/valley-station.bin",
            "--format",
            "demo/formats/valley-station.toml",
        ][..],
        &["--messages", "json", "convert", "nothing", "--format", "nmea-0183"],
        &["--messages", "json", "check", "nothing"],
    ] {
        let ran = ran(command(arguments).output().unwrap());
        assert!(!ran.said.is_empty());
        for line in ran.said.lines() {
            let message: serde_json::Value =
                serde_json::from_str(line).unwrap_or_else(|error| panic!("{error}: {line}"));
            assert!(message["level"].is_string(), "{line}");
        }
    }
}
