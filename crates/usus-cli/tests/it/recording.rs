//! `usus capture`: what comes is kept, whatever happens, and nothing is ever sent.

use std::fs;
use std::path::Path;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::run::{Ran, command, ran, usus};
use crate::site::Site;

pub fn info(path: &Path) -> Value {
    let ran = usus(&["--messages", "json", "capture", "--info", path.to_str().unwrap()]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    serde_json::from_str(ran.said.lines().last().unwrap()).unwrap()
}

fn bytes(path: &Path) -> u64 {
    info(path)["lines"][0]["bytes"].as_u64().unwrap()
}

fn begin(arguments: &[&str]) -> Child {
    command(arguments).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn signal(child: &Child, signal: Signal) {
    kill_process(Pid::from_raw(child.id() as i32).unwrap(), signal).unwrap();
}

#[test]
fn a_port_is_recorded_with_notes_and_settings() {
    let site = Site::of(&["rope-tension"], &[]);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("cell.pcapng");
    let port = site.port("rope-tension");
    let arguments = ["capture", &format!("cell={port}"), "--serial", "115200 8N1", "--out", file.to_str().unwrap()];
    let first = usus(&[&arguments[..], &["--stop-at", "300", "--note", "tower\u{202E} 4"]].concat());
    assert_eq!(first.status, 0, "{}", first.said);
    assert!(
        first.said.contains("recording cell (115200 8N1) into") && first.said.contains("recorded 3"),
        "{}",
        first.said
    );
    let held = info(&file);
    assert_eq!(held["lines"][0]["serial"], "115200 8N1");
    assert_eq!((&held["remarks"][0]["kind"], &held["remarks"][0]["text"]), (&"note".into(), &"tower\u{202E} 4".into()));
    let shown = usus(&["capture", "--info", file.to_str().unwrap()]);
    assert!(shown.said.contains("note: tower\\u{202e} 4"), "{}", shown.said);
    // Not overwritten; continued when asked, with the same settings only.
    let again = usus(&arguments);
    assert_eq!((again.status, bytes(&file)), (1, bytes(&file)));
    assert!(again.said.contains("never overwritten") && again.said.contains("--append"), "{}", again.said);
    let more = usus(&[&arguments[..], &["--append", "--stop-after", "1s"]].concat());
    assert_eq!(more.status, 0, "{}", more.said);
    assert!(bytes(&file) > 400);
    let other = usus(&[
        "capture",
        &format!("cell={port}"),
        "--serial",
        "9600 8N1",
        "--append",
        "--out",
        file.to_str().unwrap(),
    ]);
    assert!(other.status == 1 && other.said.contains("it is a capture of cell (115200 8N1)"), "{}", other.said);
    // All of it is records, but for what the edges cut.
    let converted = usus(&["convert", file.to_str().unwrap(), "--format", "demo/formats/rope-tension.toml"]);
    assert!(!converted.said.contains("rejected"), "{}", converted.said);
    assert_eq!(site.end(), (0, 0));
}

#[test]
fn a_directory_names_the_file_itself() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().to_str().unwrap();
    for _ in 0..2 {
        let ran = usus(&["capture", "weird_name=demo:rope-tension", "--out", out, "--stop-at", "30"]);
        assert_eq!(ran.status, 0, "{}", ran.said);
    }
    let two = usus(&[
        "capture",
        "demo:rope-tension",
        "demo:valley-station",
        "--out",
        out,
        "--stop-at",
        "90",
        "--rotate-size",
        "700",
    ]);
    assert_eq!(two.status, 0, "{}", two.said);
    assert!(two.said.contains(" files, "), "{}", two.said);
    let names: Vec<String> =
        fs::read_dir(out).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert_eq!(names.iter().filter(|name| name.starts_with("weird_name-2")).count(), 2, "{names:?}");
    assert!(names.iter().any(|name| name.starts_with("demo_rope-tension+demo_valley-station-2")), "{names:?}");
    assert!(names.iter().all(|name| name.ends_with(".pcapng") && !name.contains([':', ' ', '/'])), "{names:?}");
}

/// It is seen all the while that it records; a stop by a signal ends it with everything on the disk.
#[test]
fn it_says_that_it_is_recording_and_stops_cleanly() {
    let folder = tempfile::tempdir().unwrap();
    for stop in [Signal::INT, Signal::TERM] {
        let file = folder.path().join(format!("{}.pcapng", stop.as_raw()));
        let child = begin(&["--messages", "json", "capture", "demo:rope-tension", "--out", file.to_str().unwrap()]);
        std::thread::sleep(Duration::from_millis(1_500));
        signal(&child, stop);
        let ran: Ran = ran(child.wait_with_output().unwrap());
        assert_eq!(ran.status, 0, "{}", ran.said);
        let said: Vec<Value> = ran.said.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert!(said[0]["recording"].is_array());
        let recorded = said.last().unwrap()["recorded"].as_u64().unwrap();
        assert!(recorded > 200 && recorded == bytes(&file), "{}", ran.said);
    }
}

#[test]
fn what_is_wrong_is_told_while_it_records() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("wrong.pcapng");
    let ran = usus(&[
        "capture",
        "demo:wind-mast",
        "--serial",
        "9600 8N1",
        "--out",
        file.to_str().unwrap(),
        "--stop-at",
        "900",
    ]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(
        ran.said.contains("a line of 4800 bits per second") && ran.said.contains("faulty characters"),
        "{}",
        ran.said
    );
    assert!(info(&file)["lines"][0]["faults"].as_u64().unwrap() > 300);
    let silent = usus(&[
        "capture",
        "tcp://:0",
        "--out",
        folder.path().join("s.pcapng").to_str().unwrap(),
        "--stop-idle",
        "300ms",
    ]);
    assert!(silent.status == 3 && silent.said.contains("no bytes came"), "{}", silent.said);
}

#[test]
fn a_port_that_vanishes_is_a_loss_in_the_capture() {
    let mut site = Site::of(&["rope-tension"], &["--fault", "vanish"]);
    site.said();
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("gone.pcapng");
    let child =
        begin(&["capture", &site.port("rope-tension"), "--serial", "115200 8N1", "--out", file.to_str().unwrap()]);
    while !site.said()["text"].as_str().unwrap().contains("is back") {}
    std::thread::sleep(Duration::from_millis(800));
    signal(&child, Signal::INT);
    let ran = ran(child.wait_with_output().unwrap());
    assert_eq!(ran.status, 6, "what was lost is told: {}", ran.said);
    assert!(ran.said.contains("has gone away") && ran.said.contains("the port was opened anew"), "{}", ran.said);
    let losses = info(&file)["remarks"].as_array().unwrap().iter().filter(|remark| remark["kind"] == "loss").count();
    assert_eq!(losses, 1);
    assert_eq!(site.end(), (0, 0));
}

/// Killed at any moment, a capture opens, holds all that was written before, and can be continued.
#[test]
fn a_killed_recording_is_whole_and_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("killed.pcapng");
    let path = file.to_str().unwrap();
    let mut before = 0;
    // checks/endure kills more.
    let kills = std::env::var("USUS_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(10);
    for round in 0..kills {
        let child = begin(&["capture", "demo:rope-tension", "--out", path, "--append"]);
        std::thread::sleep(Duration::from_millis(650 + round * 83u64 % 400));
        let on_disk = fs::metadata(&file).unwrap().len();
        signal(&child, Signal::KILL);
        child.wait_with_output().unwrap();
        assert!(fs::metadata(&file).unwrap().len() >= on_disk);
        let now = bytes(&file);
        assert!(now >= before, "round {round}: {now} after {before}");
        before = now;
    }
    assert!(before > 500, "{before}");
    let ran = usus(&["convert", path, "--format", "demo/formats/rope-tension.toml"]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(!ran.said.contains("rejected"), "damage is told as loss, not as rejects: {}", ran.said);
}

/// A full disk is waited out: what fitted stays, what comes is kept in memory, and goes onto the disk once there is room.
#[test]
fn a_full_disk_is_waited_out() {
    let folder = tempfile::tempdir().unwrap();
    let mount = |arguments: &[&str]| {
        std::process::Command::new(arguments[0]).args(&arguments[1..]).status().is_ok_and(|status| status.success())
    };
    let disk = folder.path().to_str().unwrap().to_owned();
    if !mount(&["mount", "-t", "tmpfs", "-o", "size=64k", "usus-test", &disk]) {
        // Only the superuser can make a small disk.
        return;
    }
    let filling = folder.path().join("filling");
    fs::write(&filling, vec![0u8; 52 << 10]).unwrap();
    let file = folder.path().join("full.pcapng");
    let child = begin(&["capture", "demo:valley-station", "--serial", "38400 8N1", "--out", file.to_str().unwrap()]);
    let begun = Instant::now();
    let size = || fs::metadata(&file).map_or(0, |about| about.len());
    let mut last = (0, Instant::now());
    while begun.elapsed() < Duration::from_secs(60) && last.1.elapsed() < Duration::from_secs(3) {
        if size() > last.0 {
            last = (size(), Instant::now());
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    let full = last.0;
    fs::remove_file(&filling).unwrap();
    std::thread::sleep(Duration::from_secs(2));
    let later = size();
    signal(&child, Signal::INT);
    let ran = ran(child.wait_with_output().unwrap());
    let held = info(&file);
    mount(&["umount", &disk]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(
        ran.said.contains("the disk takes nothing more") && ran.said.contains("the disk takes what comes again"),
        "{}",
        ran.said
    );
    assert!(later > full, "{later} after {full}");
    assert_eq!(held["remarks"], Value::Array(Vec::new()), "nothing was lost");
    assert!(held["torn"].is_null());
}

/// What is replayed is what was recorded: into a file, over TCP, on a pseudo-terminal, at the speed that was asked for.
#[test]
fn a_capture_is_played_to_other_programs() {
    let folder = tempfile::tempdir().unwrap();
    let capture = "demo/samples/rope-tension.pcapng";
    let recorded = fs::read("demo/samples/rope-tension.bin")
        .or_else(|_| fs::read(crate::run::root().join("demo/samples/rope-tension.bin")))
        .unwrap();
    let raw = folder.path().join("raw.bin");
    let played = usus(&["replay", capture, "--to", raw.to_str().unwrap()]);
    assert_eq!((played.status, fs::read(&raw).unwrap() == recorded), (0, true), "{}", played.said);
    assert_eq!(
        usus(&["replay", capture, "--to", raw.to_str().unwrap()]).status,
        1,
        "a file that is there is not overwritten"
    );

    // A minute in two seconds.
    let link = folder.path().join("cell");
    let begun = Instant::now();
    let child = begin(&["replay", capture, "--to", &format!("pty:{}", link.display()), "--speed", "30"]);
    while !crate::site::is_link(&link) {
        assert!(begun.elapsed() < Duration::from_secs(10));
        std::thread::sleep(Duration::from_millis(5));
    }
    let heard = usus(&["inspect", link.to_str().unwrap(), "--serial", "115200 8N1", "--plain", "--length", "15900"]);
    let replayed = ran(child.wait_with_output().unwrap());
    assert_eq!((heard.status, replayed.status), (0, 0), "{}{}", heard.said, replayed.said);
    let seconds = begun.elapsed().as_secs_f64();
    assert!((1.9..20.0).contains(&seconds), "{seconds} s");
    let hex: Vec<u8> = heard
        .out
        .lines()
        .skip(1)
        .flat_map(|row| {
            row[38..38 + 47].split_whitespace().map(|pair| u8::from_str_radix(pair, 16).unwrap()).collect::<Vec<u8>>()
        })
        .collect();
    assert!(hex.len() >= 15_900 && recorded.starts_with(&hex), "{} bytes", hex.len());

    let child = begin(&["--messages", "json", "replay", capture, "--to", "tcp://127.0.0.1:0", "--speed", "max"]);
    let mut child = child;
    let mut said = std::io::BufReader::new(child.stderr.take().unwrap());
    let mut line = String::new();
    std::io::BufRead::read_line(&mut said, &mut line).unwrap();
    let address: Value = serde_json::from_str(&line).unwrap();
    let copy = usus(&["inspect", address["playing_to"].as_str().unwrap(), "--plain", "--length", "0"]);
    assert!(copy.said.contains("15,993 bytes"), "{}", copy.said);
    assert_eq!(child.wait().unwrap().code(), Some(0));
    for (arguments, said) in [
        (&["replay", capture, "--to", "tcp://nowhere"][..], "no address and port"),
        (&["replay", capture, "--to", "x", "--line", "answer"], "holds no line answer"),
        (&["replay", "demo/samples/rope-tension.bin", "--to", "tcp://127.0.0.1:0"], "holds no times"),
    ] {
        let ran = usus(arguments);
        assert!(ran.status == 1 && ran.said.contains(said), "{arguments:?}: {}", ran.said);
    }
}

#[test]
fn wrong_usage_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().to_str().unwrap();
    for (arguments, status, said) in [
        (&["capture", "demo:wind-mast"][..], 2, "--out"),
        (&["capture", "--out", out], 2, "SOURCE"),
        (&["capture", "demo:wind-mast", "demo:wind-mast", "--out", out], 1, "give them names"),
        (&["capture", "demo:wind-mast", "--out", out, "--stop-at", "9 bananas"], 2, "a size is a number"),
        (&["capture", "demo/samples/wind-mast.pcapng", "--out", out], 1, "is a directory"),
        (&["capture", "demo/samples/wind-mast.pcapng", "demo:wind-mast", "--out", out], 1, "not both"),
        (&["capture", "demo/samples/wind-mast.pcapng", "--out", "x.pcapng", "--append"], 1, "--append is for lines"),
        (&["capture", "demo:wind-mast", "--out", out, "--lateness", "answer=1ms"], 1, "there is no line answer"),
        (&["capture", "demo:wind-mast", "--out", out, "--lateness", "soon"], 2, "a length of time"),
        (&["capture", "demo:wind-mast", "--out", out, "--begin", "soon"], 2, "a time is written as in"),
        (&["capture", "demo:wind-mast", "--out", out, "--convert", "x"], 2, "--format"),
        (&["capture", "demo:wind-mast", "--out", out, "--serve", "x"], 1, "is no place to serve at"),
        (&["capture", "a=demo:wind-mast", "demo:rope-tension", "--out", out, "--serve", "pty"], 1, "which line"),
        (&["capture", "demo:wind-mast", "--out", out, "--append", "--compress"], 2, "cannot be used with"),
        (&["convert", "demo:wind-mast", "demo/samples/wind-mast.bin", "--format", "nmea-0183"], 1, "at once"),
        (&["convert", "demo/samples/wind-mast.bin", "--format", "nmea-0183", "--daily"], 1, "belong to no day"),
        (&["convert", "demo/samples/wind-mast.pcapng", "--format", "nmea-0183", "--daily"], 2, "divided into days"),
        (&["convert", "demo/samples/wind-mast.bin", "--format", "nmea-0183", "--begin", "2026-11-25"], 1, "no times"),
        (&["capture", "--info", "demo/samples/wind-mast.bin"], 1, "is no capture"),
        (&["capture", "--info", "nothing"], 1, "cannot open"),
    ] {
        let ran = usus(arguments);
        assert_eq!(ran.status, status, "{arguments:?}: {}", ran.said);
        assert!(ran.said.contains(said), "{arguments:?}: {}", ran.said);
    }
}
