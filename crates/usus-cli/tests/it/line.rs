//! The line itself: simulated ports and sockets, looked at, searched and converted by the built command. Each test asserts that the device's
//! side has received nothing.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::run::{Ran, command, ran, usus};
use crate::screen::Screen;
use crate::site::{Site, is_link};

fn begin(arguments: &[&str]) -> Child {
    command(arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn interrupt(child: Child) -> Ran {
    kill_process(Pid::from_raw(child.id() as i32).unwrap(), Signal::INT).unwrap();
    ran(child.wait_with_output().unwrap())
}

/// Interrupts a command after a while.
fn run_for(milliseconds: u64, arguments: &[&str]) -> Ran {
    let child = begin(arguments);
    std::thread::sleep(Duration::from_millis(milliseconds));
    interrupt(child)
}

#[test]
fn inspect_reads_a_port_until_it_has_what_was_asked_for() {
    let site = Site::of(&["wind-mast"], &[]);
    let ran = usus(&[
        "inspect",
        &site.port("wind-mast"),
        "--serial",
        "4800 8N1",
        "--as",
        "text",
        "--length",
        "400",
        "--plain",
    ]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.out.contains("‹CR›‹LF›") && ran.out.contains("$GNRMC,"), "{}", ran.out);
    assert!(ran.said.contains("(4800 8N1)") && ran.said.contains("bytes a second"), "{}", ran.said);
    assert_eq!(site.end(), (0, 0));
}

#[test]
fn a_port_needs_settings_and_says_how_to_find_them() {
    let site = Site::of(&["rope-tension"], &[]);
    let ran = usus(&["inspect", &site.port("rope-tension")]);
    assert_eq!((ran.status, &ran.out[..]), (1, ""));
    assert!(ran.said.contains("--serial \"9600 8N1\"") && ran.said.contains("--search"), "{}", ran.said);
    assert_eq!(site.end(), (0, 0));
}

#[test]
fn the_search_finds_the_speed_of_a_port() {
    let site = Site::of(&["wind-mast"], &["--serial", "19200 8N1"]);
    let ran = usus(&["inspect", &site.port("wind-mast"), "--search"]);
    assert_eq!((ran.status, &ran.out[..]), (0, "19200 8N1\n"), "{}", ran.said);
    assert!(
        ran.said.contains("tells no faults") && ran.said.contains("sentences whose checksum holds"),
        "{}",
        ran.said
    );
    let json = usus(&["--messages", "json", "inspect", &site.port("wind-mast"), "--search"]);
    let last: Value = serde_json::from_str(json.said.lines().last().unwrap()).unwrap();
    assert_eq!(last["found"], "19200 8N1");
    assert_eq!(site.end(), (0, 0));
}

/// In process, the simulator knows the character format and tells faults, as real receivers do.
#[test]
fn the_search_finds_parity_on_a_line_of_the_site() {
    let ran = usus(&["inspect", "demo:drive-answers", "--search"]);
    assert_eq!((ran.status, &ran.out[..]), (0, "19200 8E1\n"), "{}", ran.said);
    let wrong = usus(&["inspect", "demo:rope-tension", "--serial", "57600 8N1", "--plain", "--length", "300"]);
    assert!(wrong.said.contains("without a stop bit") && wrong.said.contains("settings "), "{}", wrong.said);
    let file = usus(&["inspect", "demo/samples/wind-mast.bin", "--search"]);
    assert_eq!(file.status, 1);
    assert!(file.said.contains("only a serial port has line settings"), "{}", file.said);
}

/// The settings come from the format where none are given.
#[test]
fn convert_reads_a_port_as_its_format_says() {
    let site = Site::of(&["rope-tension"], &[]);
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("cell.jsonl");
    let mut ran = run_for(
        2_500,
        &[
            "convert",
            &site.port("rope-tension"),
            "--format",
            "demo/formats/rope-tension.toml",
            "--out",
            out.to_str().unwrap(),
        ],
    );
    ran.out = fs::read_to_string(&out).unwrap();
    assert_eq!(ran.status, 0, "{}", ran.said);
    let records: Vec<Value> = ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(records.len() > 20, "{} records", records.len());
    assert!(records.iter().all(|record| record["received"].is_string() && record["fields"]["tension"].is_number()));
    assert!(!ran.said.contains("rejected"), "{}", ran.said);
    // The raw bytes are kept beside the output, and converting them gives the same again.
    let kept = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().path());
    let kept: Vec<_> = kept.filter(|path| path.extension().is_some_and(|ending| ending == "pcapng")).collect();
    assert_eq!(kept.len(), 1);
    assert!(ran.said.contains(&format!("are kept in {}", kept[0].display())), "{}", ran.said);
    let again = usus(&["convert", kept[0].to_str().unwrap(), "--format", "demo/formats/rope-tension.toml"]);
    let fields = |text: &str| -> Vec<Value> {
        text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()["fields"].clone()).collect()
    };
    assert_eq!(fields(&again.out), fields(&ran.out));
    assert_eq!(site.end(), (0, 0));
}

#[test]
fn a_port_that_is_held_says_by_whom() {
    let site = Site::of(&["rope-tension"], &[]);
    let arguments = ["inspect", &site.port("rope-tension"), "--serial", "115200 8N1", "--plain"];
    let mut first = begin(&arguments);
    // It has the port once it shows something.
    let mut shown = BufReader::new(first.stdout.take().unwrap());
    shown.read_line(&mut String::new()).unwrap();
    let second = usus(&arguments);
    assert_eq!(second.status, 1);
    assert!(second.said.contains(&format!("is held by usus (process {})", first.id())), "{}", second.said);
    drop(shown);
    assert_eq!(interrupt(first).status, 0);
    assert_eq!(site.end(), (0, 0));
}

#[test]
fn a_port_without_permission_says_so() {
    if !rustix::process::geteuid().is_root() {
        // Only the superuser can become somebody who may not.
        return;
    }
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;
    let site = Site::of(&["wind-mast"], &[]);
    // A command and a folder that everybody can reach.
    let folder = tempfile::Builder::new().permissions(fs::Permissions::from_mode(0o755)).tempdir().unwrap();
    let program = folder.path().join("usus");
    fs::copy(assert_cmd::cargo::cargo_bin!("usus"), &program).unwrap();
    let port = fs::canonicalize(site.port("wind-mast")).unwrap();
    fs::set_permissions(&port, fs::Permissions::from_mode(0o600)).unwrap();
    let mut somebody = std::process::Command::new(program);
    somebody.current_dir("/").uid(65_534).gid(65_534);
    let ran = ran(somebody.args(["inspect", port.to_str().unwrap(), "--serial", "4800 8N1"]).output().unwrap());
    assert_eq!(ran.status, 1);
    assert!(
        ran.said.contains("you may not read") && ran.said.contains("only its owner and the superuser may"),
        "{}",
        ran.said
    );
    assert_eq!(site.end(), (0, 0));
}

#[test]
fn a_port_that_vanishes_comes_back() {
    let mut site = Site::of(&["rope-tension"], &["--fault", "vanish"]);
    assert!(site.said()["text"].is_string());
    let child = begin(&["inspect", &site.port("rope-tension"), "--serial", "115200 8N1", "--plain"]);
    let gone = site.said();
    assert!(gone["text"].as_str().unwrap().contains("vanishes"), "{gone}");
    let was = gone["text"].as_str().unwrap().rsplit(' ').next().unwrap().to_owned();
    assert!(!is_link(&site.dir().join("rope-tension")));
    let back = site.said();
    assert!(back["text"].as_str().unwrap().contains("is back"), "{back}");
    assert!(!back["text"].as_str().unwrap().ends_with(&was), "it has another number now: {back}");
    std::thread::sleep(Duration::from_millis(700));
    let ran = interrupt(child);
    let gone = ran.out.find("it has gone away").expect("it is told");
    let back = ran.out.find("the port was opened anew").expect("it is told");
    assert!(gone < back && ran.out[back..].lines().count() > 2, "{}", &ran.out[gone..]);
    assert!(ran.said.contains("bytes are missing at 1 place"), "{}", ran.said);
    assert_eq!(site.end(), (0, 0));
}

#[test]
fn a_device_is_heard_over_tcp() {
    let site = Site::of(&["brake-tester"], &["--tcp", "127.0.0.1:0"]);
    let ran = usus(&["inspect", &site.socket(), "--as", "text", "--length", "60", "--plain", "--keep-alive"]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.out.contains("Brake"), "{}", ran.out);
    // A connection that the other side closes is the end.
    let child = begin(&["inspect", &site.socket(), "--plain"]);
    std::thread::sleep(Duration::from_millis(300));
    assert_eq!(site.end(), (0, 0));
    let begun = Instant::now();
    let closed = ran_to_end(child);
    assert!(closed.status == 0 || closed.status == 3, "{}", closed.said);
    assert!(begun.elapsed() < Duration::from_secs(5));
}

fn ran_to_end(child: Child) -> Ran {
    ran(child.wait_with_output().unwrap())
}

/// The other way round: a listener that writes is found out, so that the assertion of all these tests can fail.
#[test]
fn a_listener_that_writes_is_found_out() {
    let site = Site::of(&["wind-mast"], &[]);
    let mut port = fs::File::options().write(true).open(site.port("wind-mast")).unwrap();
    port.write_all(b"hello").unwrap();
    std::thread::sleep(Duration::from_millis(100));
    let (status, received) = site.end();
    assert_eq!(status, 1);
    assert!(received >= 5, "{received}");
}

#[test]
fn what_cannot_be_opened_says_why() {
    for (arguments, status, said) in [
        (
            &["inspect", "/dev/ttyUSB97", "--serial", "9600 8N1"][..],
            1,
            "there is no port /dev/ttyUSB97; usus ports lists",
        ),
        (&["inspect", "adapter:NOSUCH", "--serial", "9600 8N1"], 1, "no adapter with the serial number NOSUCH"),
        (&["inspect", "tcp://127.0.0.1:1"], 1, "cannot reach 127.0.0.1:1"),
        (&["inspect", "tcp://nowhere"], 1, "has no port"),
        (&["inspect", "demo:funicular"], 1, "the demo site has no device `funicular`"),
        (&["inspect", "no-such-file"], 1, "cannot open no-such-file"),
        (&["inspect", "x", "--serial", "9600 9N1"], 2, "line settings are written as in"),
        (&["inspect", "x", "--split-idle", "5"], 2, "of what? write 5s for seconds"),
        (&["inspect", "x", "--dump", "time hax"], 2, "`hax` is no column of a dump"),
        (&["inspect", "/dev/null"], 3, "no bytes came"),
        (&["simulate", "funicular"], 2, "the demo site has no such device"),
    ] {
        let ran = usus(arguments);
        assert_eq!(ran.status, status, "{arguments:?}: {}", ran.said);
        assert!(ran.said.contains(said), "{arguments:?}: {}", ran.said);
    }
}

/// A dump that a colleague has mailed, with the errors that such have.
#[test]
fn dumps_are_inspected_and_converted() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("mail.txt");
    let rows = [
        "# what tower 4 said",
        "[2026-11-25 06:00:00.100] A  A5 5A 08 01 2A 00 30 39 00 D7 11 F4 5A   .Z..*.09",
        "[2026-11-25 06:00:00.090] B  01 03",
        "[2026-11-25 06:00:00.150] A  A5 5A 08 01 2B 00 30 39",
    ];
    fs::write(&path, rows.join("\n")).unwrap();
    let path = path.to_str().unwrap();
    let layout = "time direction hex note";
    insta::assert_snapshot!("inspect_dump", usus(&["inspect", path, "--dump", layout]).shown(folder.path()));
    let one = "skip skip skip hex note";
    let converted =
        usus(&["convert", path, "--dump", one, "--format", "demo/formats/rope-tension.toml", "--shift", "-1h"]);
    assert!(converted.out.contains("\"tension\":123.45"), "{}{}", converted.out, converted.said);
    fs::write(path, "00: 41 4G\n").unwrap();
    let broken = usus(&["inspect", path, "--dump", "offset hex"]);
    assert_eq!(broken.status, 1);
    assert!(broken.said.contains("line 1, column 8: these are no pairs of hex digits: `4G`"), "{}", broken.said);
}

#[test]
fn views() {
    let mast = ["inspect", "demo/samples/wind-mast.pcapng", "--length"];
    let nowhere = std::path::Path::new("/nowhere");
    let snapshot = |name: &str, arguments: &[&str]| {
        insta::assert_snapshot!(name, usus(arguments).shown(nowhere));
    };
    snapshot("inspect_capture", &[&mast[..], &["120"]].concat());
    snapshot("inspect_text", &[&mast[..], &["300", "--as", "text", "--from", "100", "--split-idle", "50ms"]].concat());
    snapshot(
        "inspect_all_views",
        &[
            "inspect",
            "demo/samples/rope-tension.bin",
            "--length",
            "13",
            "--width",
            "4",
            "--as",
            "hex,decimal,binary,bits,text",
            "--serial",
            "9600 7O2",
        ],
    );
    snapshot("inspect_summary", &["inspect", "demo/samples/rope-tension.pcapng", "--length", "0"]);
    snapshot("inspect_json", &["--messages", "json", "inspect", "demo/samples/valley-station.bin", "--length", "0"]);
}

/// Two wires of one link: who spoke when, side by side.
#[test]
fn two_lines_stand_side_by_side() {
    use usus::Time;
    use usus_io::{CaptureLine, CaptureWriter};
    use usus_sim::{Device, Faults, record};
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("cabinet.pcapng");
    let mut capture = CaptureWriter::new(fs::File::create(&path).unwrap(), "cabinet").unwrap();
    let mut chunks = Vec::new();
    for (name, device) in [("request", Device::DriveRequests), ("answer", Device::DriveAnswers)] {
        let line = CaptureLine {
            name: name.to_owned(),
            serial: Some(device.serial().to_owned()),
            base: 0,
            ..CaptureLine::default()
        };
        let line = capture.line(&line).unwrap();
        let recording = record(device, 3, 2, &Faults::none());
        chunks.extend(recording.chunks.into_iter().map(|chunk| (chunk.time, line, chunk.bytes)));
    }
    chunks.sort();
    for (time, line, bytes) in chunks {
        capture.chunk(line, Time::from_nanoseconds(time), &bytes, &[]).unwrap();
    }
    capture.finish().unwrap();
    let ran = usus(&["inspect", path.to_str().unwrap(), "--as", "hex", "--length", "40", "--split-idle", "20ms"]);
    insta::assert_snapshot!("inspect_two_lines", ran.shown(folder.path()));
}

#[test]
fn ports_are_listed_as_a_table_and_as_json() {
    assert_eq!(usus(&["ports"]).status, 0);
    let json = usus(&["ports", "--json"]);
    assert_eq!(json.status, 0);
    for line in json.out.lines() {
        let port: Value = serde_json::from_str(line).unwrap();
        assert!(port["port"].is_string() && port["readable"].is_boolean() && port["uses"].is_array(), "{line}");
    }
}

/// Control sequences, bidirectional and zero-width characters from a device, in data and in direction marks.
#[test]
fn nothing_of_a_device_reaches_the_terminal_raw() {
    let folder = tempfile::tempdir().unwrap();
    let raw = folder.path().join("evil.bin");
    fs::write(&raw, b"\x1B[31m\xE2\x80\xAE\x9B2J\x07\x7F\xC2\x9B\xE2\x80\x8B").unwrap();
    let dump = folder.path().join("evil.txt");
    fs::write(&dump, "\u{1B}[2J\u{202E} 41\n\u{200B}x 42\n").unwrap();
    let text = usus(&["inspect", raw.to_str().unwrap(), "--as", "text"]);
    let marks = usus(&["inspect", dump.to_str().unwrap(), "--dump", "direction hex"]);
    for shown in [&text.out, &text.said, &marks.out, &marks.said] {
        let harmful = |character: char| character.is_control() && character != '\n';
        assert!(!shown.contains(|character| harmful(character) || "\u{202E}\u{200B}".contains(character)), "{shown:?}");
    }
    assert!(text.out.contains("‹ESC›[31m‹E2›‹80›‹AE›‹9B›2J‹BEL›‹DEL›"));
}

/// Rows appear as they come, not when a buffer is full.
#[test]
fn rows_of_a_live_source_come_at_once() {
    let mut child = command(&["inspect", "demo:rope-tension", "--plain"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let begun = Instant::now();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    assert!(lines.next().unwrap().unwrap().contains("offset"));
    lines.next().unwrap().unwrap();
    assert!(begun.elapsed() < Duration::from_secs(2));
    // Whoever reads has seen enough.
    drop(lines);
    assert!(child.wait().unwrap().code() == Some(0));
}

/// Standard input is a source as well, also where it stays open.
#[test]
fn standard_input_is_inspected() {
    let mut child =
        command(&["inspect", "-"]).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"$WIMWV").unwrap();
    let mut out = String::new();
    child.stdout.take().unwrap().read_to_string(&mut out).unwrap();
    assert!(out.contains("24 57 49 4D 57 56"), "{out}");
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

/// The view in a terminal: it is drawn, pauses, finds, and leaves the terminal as it was.
#[test]
fn a_live_view_follows_its_keys() {
    let site = Site::of(&["rope-tension"], &[]);
    let mut screen = Screen::new();
    let before = screen.modes();
    let child = command(&["inspect", &site.port("rope-tension"), "--serial", "115200 8N1"])
        .env("TERM", "xterm")
        .stdin(screen.stdio())
        .stdout(screen.stdio())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    for pressed in ["", " ", "/", "A5 5A\r", "n", "q"] {
        std::thread::sleep(Duration::from_millis(600));
        screen.press(pressed);
    }
    let ran = ran(child.wait_with_output().unwrap());
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert_eq!(screen.modes(), before, "the terminal is as it was");
    let shown = screen.shown();
    let last = last_screen(&shown);
    assert!(last[0].contains("115200 8N1") && last[0].contains("PAUSED"), "{last:#?}");
    assert!(last[1].contains("silence") && last[2].contains("A5 5A"), "{last:#?}");
    assert!(last[23].contains("found `A5 5A`; n: the one before"), "{last:#?}");
    assert!(ran.said.contains("bytes a second"), "the summary comes behind: {}", ran.said);
    assert_eq!(site.end(), (0, 0));
}

/// A view whose terminal goes away ends, with and without a signal that says so.
#[test]
fn a_live_view_ends_with_its_terminal() {
    for view in [["inspect", "demo:rope-tension"], ["bus", "demo:drive-cabinet"]] {
        let screen = Screen::new();
        let mut child = command(&view)
            .env("TERM", "xterm")
            .stdin(screen.stdio())
            .stdout(screen.stdio())
            .stderr(screen.stdio())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(600));
        screen.close();
        let begun = Instant::now();
        while child.try_wait().unwrap().is_none() && begun.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(20));
        }
        if child.try_wait().unwrap().is_none() {
            child.kill().unwrap();
        }
        let status = child.wait().unwrap();
        assert!(status.success(), "{view:?}: {status}");
    }
}

/// What a terminal of 24 rows shows when a program leaves its own screen: places of the cursor, and text.
fn last_screen(sent: &str) -> Vec<String> {
    let sent = sent.split("\u{1B}[?1049l").next().unwrap();
    let mut cells = vec![vec![' '; 200]; 24];
    let (mut row, mut column) = (0, 0);
    let mut characters = sent.chars();
    while let Some(character) = characters.next() {
        if character != '\u{1B}' {
            cells[row][column] = character;
            column += 1;
            continue;
        }
        let sequence: String = characters.by_ref().skip(1).take_while(|one| !one.is_ascii_alphabetic()).collect();
        if let Some((to_row, to_column)) = sequence.split_once(';')
            && let (Ok(to_row), Ok(to_column)) = (to_row.parse::<usize>(), to_column.parse::<usize>())
        {
            (row, column) = (to_row - 1, to_column - 1);
        }
    }
    cells.into_iter().map(|row| row.into_iter().collect::<String>().trim_end().to_owned()).collect()
}
