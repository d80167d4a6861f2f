//! Runs that go on in what others left, that never touch what they read, and that end in ways they did not choose.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use usus_sim::Device;

use crate::recording::info;
use crate::run::{Ran, command, ran, root, usus};
use crate::site::Site;

const ROPE: &str = "demo/formats/rope-tension.toml";
const SAMPLE: &str = "demo/samples/rope-tension.bin";

fn text(path: &Path) -> String {
    fs::read_to_string(path).unwrap()
}

/// A conversion is gone on with: twice the rows under one heading; behind a torn row, that is told.
#[test]
fn a_conversion_goes_on_where_another_ended() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("out");
    let convert =
        |format: &str| usus(&["convert", SAMPLE, "--format", format, "--out", out.to_str().unwrap(), "--append"]);
    assert_eq!(convert(ROPE).status, 0);
    let first = text(&out.join("sample.csv"));
    let fields = text(&out.join("fields.csv"));
    assert_eq!(convert(ROPE).status, 0);
    let heading = first.lines().next().unwrap();
    assert_eq!(text(&out.join("sample.csv")), format!("{first}{}", &first[heading.len() + 2..]));
    assert_eq!(text(&out.join("fields.csv")), fields);

    let mut torn = first.clone();
    torn.truncate(first.len() - 5);
    fs::write(out.join("sample.csv"), &torn).unwrap();
    let mended = convert(ROPE);
    let last = first.trim_end().rsplit('\n').next().unwrap();
    assert!(
        mended.said.contains(&format!(
            "was torn (the run that wrote it was killed): {} bytes were taken away",
            last.len() + 2 - 5
        )),
        "{}",
        mended.said
    );
    let whole = &first[..first.len() - last.len() - 2];
    assert_eq!(text(&out.join("sample.csv")), format!("{whole}{}", &first[heading.len() + 2..]));

    let other = folder.path().join("other.toml");
    fs::write(&other, text(&root().join(ROPE)).replace("\"core\"", "\"warmth\"").replace("core =", "warmth ="))
        .unwrap();
    let before = text(&out.join("sample.csv"));
    let refused = convert(other.to_str().unwrap());
    assert_eq!(refused.status, 1);
    assert!(
        refused.said.contains("has other columns than what would be put behind them: sequence,tension,core"),
        "{}",
        refused.said
    );
    assert_eq!(text(&out.join("sample.csv")), before);
    let both = usus(&["convert", SAMPLE, "--format", ROPE, "--out", "x", "--append", "--overwrite"]);
    assert_eq!(both.status, 2);
}

/// A live conversion, killed and started again and again: no row stands twice or torn, with files for each day, too.
#[test]
fn a_live_conversion_is_started_again() {
    let site = Site::of(&["rope-tension"], &["--seconds", "60"]);
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("out");
    let arguments = [
        "convert",
        &site.port("rope-tension"),
        "--format",
        ROPE,
        "--out",
        out.to_str().unwrap(),
        "--append",
        "--daily",
        "--no-capture",
    ]
    .map(str::to_owned);
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let table = |folder: &Path| {
        let day = fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path()).find(|path| path.is_dir())?;
        fs::read_to_string(day.join("sample.csv")).ok()
    };
    let mut rows = 0;
    for signal in [Signal::KILL, Signal::KILL, Signal::HUP] {
        let mut child = command(&arguments).stderr(Stdio::piped()).spawn().unwrap();
        let begun = Instant::now();
        while table(&out).map_or(0, |text| text.lines().count()) < rows + 5 {
            assert!(begun.elapsed() < Duration::from_secs(30));
            std::thread::sleep(Duration::from_millis(20));
        }
        kill_process(Pid::from_raw(child.id() as i32).unwrap(), signal).unwrap();
        let status = child.wait().unwrap();
        // A terminal that goes away ends a run like any other stop.
        assert_eq!(status.code(), (signal == Signal::HUP).then_some(0));
        rows = table(&out).unwrap().lines().count();
    }
    let text = table(&out).unwrap();
    let sequences: Vec<&str> = text.lines().skip(1).filter_map(|row| row.split(',').nth(1)).collect();
    assert_eq!(text.matches("sequence").count(), 1);
    assert!(
        text.ends_with("\r\n")
            && text.lines().all(|row| row.matches(',').count() == text.lines().next().unwrap().matches(',').count()),
        "{text}"
    );
    assert!(sequences.len() >= 10, "{text}");
    assert_eq!(site.end(), (0, 0));
}

/// An output is never an input: by name, through links, as rejects, as standard output, as the format itself.
#[test]
fn nothing_that_is_read_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let precious = fs::read(root().join(SAMPLE)).unwrap();
    for name in ["in.csv", "in.jsonl"] {
        fs::write(path(name), &precious).unwrap();
    }
    fs::copy(root().join(ROPE), path("rope.jsonl")).unwrap();
    fs::create_dir(path("out")).unwrap();
    std::os::unix::fs::symlink(path("in.csv"), path("out/status.csv")).unwrap();
    std::os::unix::fs::symlink(path("in.jsonl"), path("link.jsonl")).unwrap();
    let one = ["--records", "sample"];
    for (source, format, more) in [
        ("in.csv", ROPE, &["--out", "in.csv", one[0], one[1]][..]),
        ("in.jsonl", ROPE, &["--out", "link.jsonl"]),
        ("link.jsonl", ROPE, &["--out", "in.jsonl"]),
        ("in.csv", ROPE, &["--out", "out"]),
        ("in.csv", ROPE, &["--out", "new.jsonl", "--rejects", "in.csv"]),
        ("in.csv", "rope.jsonl", &["--out", "rope.jsonl"]),
    ] {
        let more: Vec<String> = more
            .iter()
            .map(|word| if word.starts_with("--") || *word == "sample" { (*word).to_owned() } else { path(word) })
            .collect();
        let format = if format == ROPE { ROPE.to_owned() } else { path(format) };
        let mut arguments =
            vec!["convert".to_owned(), path(source), "--format".to_owned(), format, "--overwrite".to_owned()];
        arguments.extend(more);
        let ran = usus(&arguments.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!(ran.status, 1, "{arguments:?}: {}", ran.said);
        assert!(ran.said.contains("is read itself"), "{arguments:?}: {}", ran.said);
    }
    assert!(fs::read(path("in.csv")).unwrap() == precious && fs::read(path("in.jsonl")).unwrap() == precious);
    assert_eq!(fs::read(path("rope.jsonl")).unwrap(), fs::read(root().join(ROPE)).unwrap());
    // `convert a >> a` would never end.
    let mut behind = command(&["convert", &path("in.csv"), "--format", ROPE]);
    behind.stdout(fs::File::options().append(true).open(path("in.csv")).unwrap());
    let refused = ran(behind.output().unwrap());
    assert!(refused.status == 1 && refused.said.contains("standard output is read itself"), "{}", refused.said);
    // A capture is nothing that a conversion beside it may empty.
    let capture = path("c.pcapng");
    let ran = usus(&[
        "capture",
        "demo:rope-tension",
        "--out",
        &capture,
        "--format",
        ROPE,
        "--convert",
        &path("t.jsonl"),
        "--rejects",
        &capture,
        "--overwrite",
        "--stop-after",
        "1s",
    ]);
    assert_eq!(ran.status, 1, "{}", ran.said);
    assert!(ran.said.contains("is read itself"), "{}", ran.said);
}

/// Runs the command where files cannot grow beyond so many kilobytes: a full disk for everybody.
fn on_a_small_disk(kilobytes: u32, arguments: &[&str]) -> Command {
    let mut shell = Command::new("bash");
    let script = format!("trap '' XFSZ; ulimit -f {kilobytes}; exec \"$0\" \"$@\"");
    shell.current_dir(root()).arg("-c").arg(script).arg(assert_cmd::cargo::cargo_bin!("usus")).args(arguments);
    shell
}

/// What is in the files of a conversion that the disk has stopped is what is said to be in them, and no row is torn.
#[test]
fn a_full_disk_tears_no_row() {
    let folder = tempfile::tempdir().unwrap();
    for (out, file) in [("out", "out/sample.csv.part"), ("r.jsonl", "r.jsonl.part")] {
        for kilobytes in [1, 3, 7] {
            let path = folder.path().join(out);
            let arguments = ["convert", SAMPLE, "--format", ROPE, "--overwrite", "--out", path.to_str().unwrap()];
            let ran = ran(on_a_small_disk(kilobytes, &arguments).output().unwrap());
            assert_eq!(ran.status, 1, "{}", ran.said);
            let file = folder.path().join(file);
            let (text, shown) = (text(&file), file.display());
            let rows = text.lines().count() - usize::from(out == "out");
            assert!(text.ends_with('\n') && rows > 5, "{text}");
            let plural = if rows == 1 { "row" } else { "rows" };
            assert!(ran.said.contains(&format!("wrote {shown} ({rows} {plural})")), "{rows} {}", ran.said);
        }
    }
}

/// Of what is whole at the end only, nothing is left.
#[test]
fn a_full_disk_leaves_no_half_file() {
    let folder = tempfile::tempdir().unwrap();
    for (kilobytes, out) in
        [(40, "r.sqlite"), (20, "r.xlsx"), (3, "r.parquet"), (10, "r.geojson"), (1, "r.gpx"), (1, "r.kml")]
    {
        let path = folder.path().join(out);
        let (source, format, kind) = match out.ends_with("json") || out.ends_with("gpx") || out.ends_with("kml") {
            true => ("demo/samples/wind-mast.pcapng", "nmea-0183", "rmc,gga"),
            false => (SAMPLE, ROPE, "sample"),
        };
        let arguments = ["convert", source, "--format", format, "--records", kind, "--out", path.to_str().unwrap()];
        let ran = ran(on_a_small_disk(kilobytes, &arguments).output().unwrap());
        assert_eq!(ran.status, 1, "{out} {}", ran.said);
        assert!(ran.said.contains("cannot write") && ran.said.contains(out), "{}", ran.said);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "{out} {}", ran.said);
    }
}

/// What fits on a full disk is there; what was recorded and what was lost is told, and the file says the same.
#[test]
fn a_full_disk_is_told_at_the_end_of_a_recording() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("full.pcapng");
    let arguments = [
        "--messages",
        "json",
        "capture",
        "demo:rope-tension",
        "--serial",
        "115200 8N1",
        "--out",
        file.to_str().unwrap(),
        "--stop-after",
        "5s",
    ];
    let ran = ran(on_a_small_disk(1, &arguments).output().unwrap());
    assert_eq!(ran.status, 1, "{}", ran.said);
    let summary: Value = ran
        .said
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .find(|said| !said["recorded"].is_null() && !said["files"].is_null())
        .unwrap();
    let held = info(&file);
    assert_eq!(held["lines"][0]["bytes"], summary["recorded"], "{}", ran.said);
    assert!(summary["recorded"].as_u64().unwrap() > 0 && summary["lost"].as_u64().unwrap() > 0, "{summary}");
    assert!(held["torn"].is_null());
}

/// A recording whose file is deleted under it says so, and fails.
#[test]
fn a_recording_without_a_file_fails() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("gone.pcapng");
    let child = command(&["capture", "demo:rope-tension", "--out", file.to_str().unwrap()])
        .stdin(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let begun = Instant::now();
    while !file.exists() {
        assert!(begun.elapsed() < Duration::from_secs(20));
        std::thread::sleep(Duration::from_millis(20));
    }
    fs::remove_file(&file).unwrap();
    let ran = ran(child.wait_with_output().unwrap());
    assert_eq!(ran.status, 1, "{}", ran.said);
    assert!(ran.said.contains("was deleted while it was recorded into"), "{}", ran.said);
}

/// What was converted live is what its capture gives: of packets, and of a bus, its transactions and the points of its units.
#[test]
fn live_and_captured_give_the_same() {
    for (device, format) in
        [("rope-tension", ROPE), ("drive-cabinet", "demo/formats/drive-cabinet.toml"), ("drive-cabinet", "modbus-rtu")]
    {
        let site = Site::of(&[device], &["--seconds", "60"]);
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
        let mut child = command(&["convert", &site.port(device), "--format", format, "--out", &path("live.jsonl")])
            .args(["--serial", Device::named(device).unwrap().serial()])
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let begun = Instant::now();
        while fs::read_to_string(path("live.jsonl")).map_or(0, |text| text.lines().count()) < 20 {
            assert!(begun.elapsed() < Duration::from_secs(30), "{device}");
            std::thread::sleep(Duration::from_millis(20));
        }
        kill_process(Pid::from_raw(child.id() as i32).unwrap(), Signal::INT).unwrap();
        assert!(child.wait().unwrap().success());
        let mut said = String::new();
        child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
        let capture = fs::read_dir(folder.path())
            .unwrap()
            .flatten()
            .map(|entry| entry.path())
            .find(|path| path.extension().is_some_and(|ending| ending == "pcapng"))
            .unwrap();
        let again = path("again.jsonl");
        let ran = usus(&["convert", capture.to_str().unwrap(), "--format", format, "--out", &again]);
        assert_eq!(ran.status, 0, "{device}: {}", ran.said);
        let [live, again] = ["live.jsonl", "again.jsonl"].map(|name| fs::read_to_string(path(name)).unwrap());
        assert_eq!(live, again, "{device} by {format}");
        assert_eq!(site.end(), (0, 0));
    }
}

/// A live conversion says how it stands, and that nothing comes.
#[test]
fn a_live_conversion_says_how_it_stands() {
    let folder = tempfile::tempdir().unwrap();
    let pipe = folder.path().join("pipe");
    assert!(Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let out = folder.path().join("out.jsonl");
    let mut child = command(&[
        "--messages",
        "json",
        "convert",
        "tcp://127.0.0.1:1",
        "--format",
        ROPE,
        "--out",
        out.to_str().unwrap(),
    ])
    .stderr(Stdio::piped())
    .spawn()
    .unwrap();
    assert!(!child.wait().unwrap().success());
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("tcp://{}", listener.local_addr().unwrap());
    let mut child = command(&[
        "--messages",
        "json",
        "convert",
        &address,
        "--format",
        ROPE,
        "--out",
        out.to_str().unwrap(),
        "--no-capture",
    ])
    .stderr(Stdio::piped())
    .spawn()
    .unwrap();
    let (mut peer, _) = listener.accept().unwrap();
    peer.write_all(&fs::read(root().join(SAMPLE)).unwrap()[6..6 + 13 * 4]).unwrap();
    let mut said = BufReader::new(child.stderr.take().unwrap());
    let (mut standing, mut silent) = (false, false);
    while !(standing && silent) {
        let mut line = String::new();
        assert!(said.read_line(&mut line).unwrap() > 0);
        let found: Value = serde_json::from_str(&line).unwrap();
        standing |= found["converting"].is_string() && found["records"] == 4 && found["bytes"] == 52;
        silent |= found["text"].as_str().is_some_and(|text| text.contains("nothing has come for 1"));
    }
    drop(peer);
    kill_process(Pid::from_raw(child.id() as i32).unwrap(), Signal::INT).unwrap();
    child.wait().unwrap();
}

/// Who serves to everybody hears of it.
#[test]
fn open_servers_say_so() {
    let folder = tempfile::tempdir().unwrap();
    let record = |name: &str, place: &str| -> Ran {
        let file = folder.path().join(name);
        usus(&["capture", "demo:rope-tension", "--out", file.to_str().unwrap(), "--serve", place, "--stop-after", "1s"])
    };
    assert!(record("a.pcapng", "tcp://:0").said.contains("whoever reaches this machine can read what arrives"));
    assert!(!record("b.pcapng", "tcp://127.0.0.1:0").said.contains("whoever"));
}

/// A recording takes the line settings of a format without converting by it.
#[test]
fn settings_come_from_a_format() {
    let site = Site::of(&["rope-tension"], &["--seconds", "60"]);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("a.pcapng");
    let ran = usus(&[
        "capture",
        &site.port("rope-tension"),
        "--format",
        ROPE,
        "--out",
        file.to_str().unwrap(),
        "--stop-at",
        "100B",
    ]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert_eq!(info(&file)["lines"][0]["serial"], "115200 8N1");
    let ran = usus(&["inspect", &site.port("rope-tension"), "--format", ROPE, "--plain", "--length", "64"]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert_eq!(site.end(), (0, 0));
}
