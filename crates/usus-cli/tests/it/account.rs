//! What the account tells of values, and what `check` tells of a declaration.

use std::fs;
use std::path::Path;

use serde_json::Value;

use crate::run::{Ran, root, usus};

const ROPE: &str = "demo/formats/rope-tension.toml";
const SAMPLE: &str = "demo/samples/rope-tension.bin";

/// A copy of the tension cell's format with something else in it.
fn rope(folder: &Path, from: &str, to: &str) -> String {
    let text = fs::read_to_string(root().join(ROPE)).unwrap();
    assert!(text.contains(from));
    let path = folder.join("rope.toml");
    fs::write(&path, text.replace(from, to)).unwrap();
    path.to_str().unwrap().to_owned()
}

fn convert(source: &str, format: &str, more: &[&str]) -> Ran {
    usus(&[&["convert", source, "--format", format], more].concat())
}

/// Bytes in the wrong order are recorded all the same; what they are taken for is told, and may end the run with a status.
#[test]
fn a_wrong_byte_order_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let format = rope(
        folder.path(),
        "\"i24be\", scale = 0.01, unit = \"kN\", range",
        "\"i24le\", scale = 0.01, unit = \"kN\", range",
    );
    let ran = convert(SAMPLE, &format, &[]);
    assert_eq!(ran.status, 0);
    assert!(ran.said.contains("recorded         15,913  99.50 %"), "{}", ran.said);
    assert!(ran.said.contains("    sample.tension: 1,193 of 1,194 out of range, at 6: -573.44\n"), "{}", ran.said);
    assert!(
        ran.said.contains("warning: sample.tension: 1,193 of 1,194 values are out of range; are its place, byte order"),
        "{}",
        ran.said
    );
    let json = convert(SAMPLE, &format, &["--messages", "json"]);
    let summary = json.said.lines().find(|line| line.contains("\"summary\"")).unwrap();
    let summary: Value = serde_json::from_str(summary).unwrap();
    let tension = &summary["qualities"][0];
    assert_eq!(
        (&tension["record"], &tension["field"], &tension["readings"]),
        (&"sample".into(), &"tension".into(), &1194.into())
    );
    assert_eq!(tension["seen"]["out_of_range"], serde_json::json!({"count": 1193, "offset": 6, "first": "-573.44"}));
    assert_eq!(summary["qualities"][1]["seen"]["no_data"]["first"], "80 00");
    for (limit, status) in [("100%", 0), ("0.9", 5), ("7%", 5)] {
        let ran = convert(SAMPLE, &format, &["--quality-limit", limit]);
        assert_eq!(ran.status, status, "{}", ran.said);
        assert_eq!(
            ran.said.contains("99.916 % of the values of sample.tension are invalid or out of range"),
            status == 5
        );
    }
    // The right declaration has some values out of range, too: a fifteenth.
    assert_eq!(convert(SAMPLE, ROPE, &["--quality-limit", "10%"]).status, 0);
    assert_eq!(convert(SAMPLE, ROPE, &["--quality-limit", "5%"]).status, 5);
}

#[test]
fn numbers_with_a_unit_behind_them_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    fs::write(path("scale.toml"), "format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number', unit = 'kg' }]").unwrap();
    fs::write(path("scale.txt"), "12.50kg\r\n".repeat(50)).unwrap();
    let ran = convert(&path("scale.txt"), &path("scale.toml"), &["--out", &path("out")]);
    assert_eq!(ran.status, 0);
    assert!(ran.said.contains("weight.weight: 50 of 50 not a value of its type, at 0: \"12.50kg\""), "{}", ran.said);
    assert!(ran.said.contains("50 of 50 values are not values of its type"), "{}", ran.said);
    assert_eq!(convert(&path("scale.txt"), &path("scale.toml"), &["--quality-limit", "0"]).status, 5);
}

/// The same in one line, or not at all.
#[test]
fn accounts_are_as_long_as_they_are_wanted() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("out");
    let out = out.to_str().unwrap();
    let brief = convert(SAMPLE, ROPE, &["--out", out, "--brief"]);
    assert_eq!(
        brief.said,
        "rope-tension.bin: 15,993 bytes, 1,206 records, 6 rejects (74 bytes rejected), 87 values invalid or out of range\n"
    );
    let quiet = convert(SAMPLE, ROPE, &["--out", out, "--quiet", "--overwrite"]);
    assert_eq!((quiet.said.as_str(), quiet.status), ("", 0));
    let failing = convert(SAMPLE, ROPE, &["--out", out, "--quiet"]);
    assert!(failing.said.starts_with("error: ") && failing.status == 1);
}

/// The wrong sort of format is answered by what the bytes are.
#[test]
fn what_bytes_are_instead_is_said() {
    let ran = convert(SAMPLE, "nmea-0183", &[]);
    assert_eq!(ran.status, 4);
    assert!(
        ran.said
            .contains("only 33 % of these bytes are text: it looks like binary packets, much the same every 13 bytes"),
        "{}",
        ran.said
    );
    let ran = convert("demo/samples/wind-mast.bin", ROPE, &[]);
    assert_eq!(ran.status, 4);
    assert!(ran.said.contains("these bytes are text, with lines such as `$"), "{}", ran.said);
}

/// A doubt is told with its place, on standard error and as JSON, and ends nothing; a format that was not tried is not called sound.
#[test]
fn check_doubts_what_cannot_be_meant() {
    let folder = tempfile::tempdir().unwrap();
    let doubtful = rope(folder.path(), "range = [-5, 500]", "range = [-5, 90000]");
    let ran = usus(&["check", &doubtful]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.said.starts_with("doubt in ") && ran.said.contains(", line 19, column "), "{}", ran.said);
    assert!(
        ran.said.contains("the range ends at 90000, and type and scale reach from -83886.08 to 83886.07"),
        "{}",
        ran.said
    );
    assert!(ran.out.contains("works, but some of it can hardly be meant (see above)"), "{}", ran.out);
    let json = usus(&["--messages", "json", "check", &doubtful]);
    let doubt: Value = serde_json::from_str(json.said.lines().next().unwrap()).unwrap();
    assert_eq!((&doubt["level"], doubt["line"].as_u64().is_some()), (&"warning".into(), true));

    let bare = folder.path().join("bare.toml");
    fs::write(&bare, "format = 'bare'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]").unwrap();
    let ran = usus(&["check", bare.to_str().unwrap()]);
    assert_eq!(ran.status, 0);
    assert!(!ran.out.contains("sound") && ran.out.contains("nothing shows that it is right"), "{}", ran.out);
}

#[test]
fn check_takes_several_files_and_standard_input() {
    let several = usus(&["check", ROPE, "nmea-0183", "demo/formats/valley-station.toml"]);
    assert_eq!((several.status, several.said.as_str()), (0, ""));
    assert_eq!(several.out.matches(" is sound: ").count(), 3);
    assert_eq!(usus(&["check", ROPE, "not-there.toml", "nmea-0183"]).status, 1);
    let mut command = crate::run::command(&["check", "-"]);
    command.stdin(fs::File::open(root().join(ROPE)).unwrap());
    let piped = crate::run::ran(command.output().unwrap());
    assert_eq!(piped.out, usus(&["check", ROPE]).out);
}

#[test]
fn one_frame_is_taken_apart() {
    let folder = tempfile::tempdir().unwrap();
    let shown = |name: &str, arguments: &[&str], status: i32| {
        let ran = usus(arguments);
        assert_eq!(ran.status, status, "{}", ran.said);
        insta::assert_snapshot!(name, ran.shown(folder.path()));
    };
    shown("check_bytes", &["check", ROPE, "--bytes", "A5 5A 08 01 2A 00 30 39 00 D7 11 F4 5A"], 0);
    shown("check_bytes_swapped", &["check", ROPE, "--bytes", "A55A08012A00303900D7115AF4"], 4);
    shown("check_text", &["check", "nmea-0183", "--text", "$WIMWV,214.8,R,10.5,K,A*1D"], 0);
    shown("check_part", &["check", "demo/formats/brake-tester.toml", "--text", "Brake 2 force: 40.2 kN"], 0);
    // What an answer says depends on the question, and it comes on the second line.
    shown("check_answer", &["check", "demo/formats/doors.toml", "--text", "=07,12.5*0E"], 0);
    shown("check_answer_damaged", &["check", "demo/formats/doors.toml", "--text", "=07,12.5*0F"], 4);
    let wrong = usus(&["check", ROPE, "--bytes", "A5 5"]);
    assert!(wrong.status == 2 && wrong.said.contains("bytes are written in hex"), "{}", wrong.said);
}

#[test]
fn all_checksums_are_listed() {
    let ran = usus(&["formats", "--checksums"]);
    assert_eq!(ran.out.lines().count(), 1 + 120 + 2);
    assert!(ran.out.contains("  CRC-16/MODBUS             16    4B37                   8005                   FFFF                   yes           yes  0000\n"), "{}", ran.out);
    // The page says the same.
    let page = fs::read_to_string(root().join("docs/checksums.md")).unwrap();
    for line in ran.out.lines().skip(1).take(120) {
        let cells: Vec<&str> = line.split_whitespace().collect();
        let row = format!("| {} |", cells.join(" | "));
        let row = if cells.len() == 3 { format!("| {} | | | | | |", cells.join(" | ")) } else { row };
        assert!(page.contains(&row), "{row}");
    }
}

/// What newcomers write is understood, or answered with what to write.
#[test]
fn the_obvious_is_understood() {
    for serial in ["4800", "4800 8n1", "4800,8,N,1", "4800-8N1"] {
        let ran = usus(&["inspect", "demo:wind-mast", "--serial", serial, "--plain", "--length", "16"]);
        assert_eq!(ran.status, 0, "{serial}: {}", ran.said);
    }
    let folder = tempfile::tempdir().unwrap();
    let csv = folder.path().join("a.csv");
    for (arguments, status, said) in [
        (
            &["capture", "demo:wind-mast", "--out", csv.to_str().unwrap()][..],
            2,
            "a recording is a capture: write --out ",
        ),
        (&["capture", "demo:wind-mast", "--out", "x.pcapng", "--stop-after", "1"], 2, "write 1s for seconds"),
        (&["capture", "demo:wind-mast", "--out", "x.pcapng", "--convert", "y"], 2, "--convert needs --format"),
        (&["inspect", "/dev/ttyUSB97"], 1, "--serial \"9600 8N1\""),
        (&["inspect", "COM3", "--serial", "9600"], 1, "usus ports lists the ports there are"),
        (&["convert", SAMPLE, "--format", ROPE, "--separator", "ab"], 2, "a separator is one ASCII character"),
    ] {
        let ran = usus(arguments);
        assert_eq!(ran.status, status, "{arguments:?}: {}", ran.said);
        assert!(ran.said.contains(said), "{arguments:?}: {}", ran.said);
    }
    assert!(!csv.exists());
}

/// Colours come only where they are wanted.
#[test]
fn colours_come_when_asked_for() {
    let wrong = &["check", "demo/samples/rope-tension.bin"];
    assert!(!usus(wrong).said.contains('\u{1B}'));
    assert!(usus(&[&wrong[..], &["--color", "always"]].concat()).said.contains("\u{1B}[1;31merror:\u{1B}[0m"));
    let mut command = crate::run::command(wrong);
    command.env("CLICOLOR_FORCE", "1").env("NO_COLOR", "1");
    assert!(!crate::run::ran(command.output().unwrap()).said.contains('\u{1B}'));
    let shown = |term: &str| {
        let screen = crate::screen::Screen::new();
        let mut command = crate::run::command(wrong);
        command.env("TERM", term).env_remove("NO_COLOR").env_remove("CI").stderr(screen.stdio());
        command.status().unwrap();
        drop(command);
        screen.shown().contains('\u{1B}')
    };
    assert!(shown("xterm") && !shown("dumb"));
}

#[test]
fn shells_and_man_are_told_about_the_command() {
    for shell in ["bash", "zsh", "fish"] {
        let ran = usus(&["completions", shell]);
        assert!(ran.status == 0 && ran.out.contains("quality-limit"), "{shell}");
    }
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(usus(&["manual", "--out", folder.path().to_str().unwrap()]).status, 0);
    let page = fs::read_to_string(folder.path().join("usus-convert.1")).unwrap();
    assert!(page.contains("quality\\-limit"), "{page}");
    assert!(usus(&["manual"]).out.starts_with(".ie"));
    // A replay takes no settings of ports.
    assert!(
        !usus(&["replay", "--help"]).said.contains("--dtr") && !usus(&["replay", "--help"]).out.contains("--serial")
    );
}

/// Where bytes repeat at a distance, rows are as wide as that, or a few times it.
#[test]
fn rows_are_as_wide_as_what_repeats() {
    let ran = usus(&["inspect", SAMPLE, "--length", "39"]);
    let offsets: Vec<&str> = ran.out.lines().skip(1).map(|row| row.trim_start().split(' ').next().unwrap()).collect();
    assert_eq!(offsets, ["0", "13", "26"], "{}", ran.out);
    assert!(ran.said.contains("are the same as 13 bytes before"), "{}", ran.said);
    let wide = usus(&["inspect", SAMPLE, "--length", "39", "--width", "20"]);
    assert_eq!(wide.out.lines().count(), 1 + 2);
}

/// A search gives its result once, on standard output, and says why it is that one.
#[test]
fn a_search_says_its_result_once() {
    let ran = usus(&["inspect", "demo:drive-answers", "--search"]);
    assert_eq!((ran.status, ran.out.as_str()), (0, "19200 8E1\n"), "{}", ran.said);
    assert!(ran.said.contains("found in ") && ran.said.contains("  speed   19200 bits per second: "), "{}", ran.said);
    assert!(!ran.said.lines().any(|line| line.starts_with("19200 8E1")), "{}", ran.said);
    // Whoever had more points and lost is told why.
    let points = |line: &str| line.split_whitespace().rev().find_map(|word| word.parse::<u32>().ok());
    let rows = ran.said.lines().filter(|line| line.starts_with("  ") && line.contains(" 8N1 "));
    let rows: Vec<(&str, u32)> =
        rows.filter_map(|line| Some((line.split_whitespace().next()?, points(line)?))).collect();
    let own = rows.iter().filter(|(baud, _)| *baud == "19200").map(|(_, points)| *points).max().unwrap_or(100);
    let better = rows.iter().any(|(baud, points)| *baud != "19200" && *points > own + 1);
    assert!(!better || ran.said.contains("weighed by how likely each speed is"), "{}", ran.said);
}

/// The ports of a machine whose files somebody has sent.
#[test]
fn ports_of_another_system_are_listed() {
    let folder = tempfile::tempdir().unwrap();
    for (file, text) in [
        ("sys/class/tty/ttyUSB3/device/idVendor", "1a2b"),
        ("sys/class/tty/ttyUSB3/device/product", "two-wire tap"),
        ("sys/class/tty/ttyUSB3/device/serial", "Q-9"),
        ("dev/ttyUSB3", ""),
    ] {
        let path = folder.path().join(file);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    let ran = usus(&["ports", "--under", folder.path().to_str().unwrap()]);
    assert_eq!(ran.status, 0);
    assert!(ran.out.starts_with("/dev/ttyUSB3   two-wire tap, serial number Q-9\n"), "{}", ran.out);
}

/// Fields that come from a spreadsheet are told like any other, and what is wrong in it with its line.
#[test]
fn fields_come_from_a_file_beside_the_format() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let format = "format = 'drive'\n[[frame]]\ncut = 'packet'\nstart = 'A7'\nlength = 4\n[record.state]\nfields = { file = 'signals.csv' }\n\
                  [[example]]\nbytes = 'A7 FF 38 37'\ngives = { record = 'state', speed = -200, load = 55 }";
    fs::write(path("drive.toml"), format).unwrap();
    fs::write(path("signals.csv"), "name,byte,type\nspeed,1,i16be\nload,3,u8\n").unwrap();
    let ran = usus(&["check", &path("drive.toml")]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.out.contains("byte 1-2  speed  i16be") && ran.out.contains("its example holds"), "{}", ran.out);
    fs::write(path("signals.csv"), "name,byte,type\nspeed,1,i16be\nload,3,u9\n").unwrap();
    let ran = usus(&["check", &path("drive.toml")]);
    assert_eq!(ran.status, 1, "{}", ran.said);
    assert!(ran.said.contains("signals.csv, line 3: `u9` is no type"), "{}", ran.said);
    fs::write(path("escape.toml"), format.replace("signals.csv", "../signals.csv")).unwrap();
    assert!(usus(&["check", &path("escape.toml")]).said.contains("it is not in the folder of the format"));
}
