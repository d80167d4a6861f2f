//! How runs end: statuses, interrupts, closed pipes, full disks, things in the way.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::symlink;
use std::process::Stdio;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

use crate::run::{command, usus};

const ROPE: &str = "demo/formats/rope-tension.toml";

#[test]
fn every_status_means_one_thing() {
    let folder = tempfile::tempdir().unwrap();
    let file = |name: &str, bytes: &[u8]| {
        let path = folder.path().join(name);
        fs::write(&path, bytes).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let empty = file("empty.bin", b"");
    let strange = file("strange.bin", b"\x00\x01\x02nothing of ours");
    let sample = "demo/samples/rope-tension.bin";
    for (arguments, status) in [
        (&["convert", sample, "--format", ROPE][..], 0),
        (&["convert", sample, "--format", ROPE, "--reject-limit", "50%"], 0),
        (&["convert", sample, "--format", "nmea-183"], 1),
        (&["convert", "not/there.bin", "--format", ROPE], 1),
        (&["convert", "demo", "--format", ROPE], 1),
        (&["convert", sample, "--format", ROPE, "--out", "/proc/none/out"], 1),
        (&["convert", sample], 2),
        (&["convert", sample, "--format", ROPE, "--out", "x.docx"], 2),
        (&["convert", sample, "--format", ROPE, "--records", "sampel"], 2),
        (&["convert", sample, "--format", ROPE, "--reject-limit", "2"], 2),
        (&["convert", sample, "--format", ROPE, "--out", "csv:-"], 2),
        (&["convert", &empty, "--format", ROPE], 3),
        (&["convert", &strange, "--format", ROPE], 4),
        (&["convert", sample, "--format", ROPE, "--reject-limit", "0.0001"], 5),
        (&["convert", &strange, sample, "--format", ROPE], 0),
        (&["check", ROPE], 0),
        (&["check", &strange], 1),
        (&["formats", "--show", "nmea-0183"], 0),
        (&["formats", "--show", "nmea"], 1),
        (&["frobnicate"], 2),
    ] {
        let ran = usus(arguments);
        assert_eq!(ran.status, status, "{arguments:?}: {}", ran.said);
        assert_eq!(ran.said.is_empty(), status == 0 && arguments[0] != "convert", "{arguments:?}: {}", ran.said);
    }
}

/// An interrupt ends a run on a pipe that stays open: all is written, and the summary says that it was stopped.
#[test]
fn an_interrupt_ends_with_everything_written() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("r.jsonl");
    let mut child = command(&["convert", "-", "--format", ROPE, "--out", out.to_str().unwrap()])
        .stdin(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let sample = fs::read(crate::run::root().join("demo/samples/rope-tension.bin")).unwrap();
    let mut input = child.stdin.take().unwrap();
    input.write_all(&sample).unwrap();
    input.flush().unwrap();
    // Let it take all of that in: the last write comes back when the pipe has room, not when it is read.
    std::thread::sleep(Duration::from_millis(500));
    let begun = Instant::now();
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0), "{said}");
    assert!(begun.elapsed() < Duration::from_secs(5));
    assert!(said.contains("stopped before the end"), "{said}");
    let whole = usus(&["convert", "demo/samples/rope-tension.bin", "--format", ROPE]);
    assert_eq!(fs::read_to_string(out).unwrap(), whole.out);
    drop(input);
}

/// `| head` is no failure, and nothing is said about it.
#[test]
fn a_closed_pipe_ends_quietly() {
    let folder = tempfile::tempdir().unwrap();
    let large = folder.path().join("large.bin");
    let sample = fs::read(crate::run::root().join("demo/samples/rope-tension.bin")).unwrap();
    fs::write(&large, sample.repeat(100)).unwrap();
    for out in ["-", "csv:-"] {
        let arguments = ["convert", large.to_str().unwrap(), "--format", ROPE, "--records", "sample", "--out", out];
        let mut child = command(&arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut first = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut first).unwrap();
        assert!(first.contains("sequence"), "{first}");
        let mut said = String::new();
        child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
        assert_eq!((child.wait().unwrap().code(), said.as_str()), (Some(0), ""));
    }
}

/// `/dev/full` takes nothing: the run fails, says where, and still gives its account.
#[test]
fn a_full_disk_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("full.jsonl");
    symlink("/dev/full", &out).unwrap();
    let out = out.to_str().unwrap();
    let ran = usus(&["convert", "demo/samples/rope-tension.bin", "--format", ROPE, "--out", out, "--overwrite"]);
    assert_eq!(ran.status, 1);
    assert!(ran.said.contains(&format!("error: cannot write {out}: No space left on device")), "{}", ran.said);
    assert!(ran.said.contains("recorded"), "{}", ran.said);
}

#[test]
fn what_is_in_the_way_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let convert = |out: &str, more: &[&str]| {
        let arguments =
            [&["convert", "demo/samples/rope-tension.bin", "--format", ROPE, "--out", out][..], more].concat();
        usus(&arguments)
    };
    assert_eq!(convert(&path("r.jsonl"), &[]).status, 0);
    let refused = convert(&path("r.jsonl"), &[]);
    assert_eq!(refused.status, 1);
    assert!(refused.said.contains("exists already; --overwrite replaces it"), "{}", refused.said);
    assert_eq!(convert(&path("r.jsonl"), &["--overwrite"]).status, 0);
    let rejects = path("rejects.jsonl");
    assert_eq!(convert(&path("s.jsonl"), &["--rejects", &rejects]).status, 0);
    assert!(fs::read_to_string(&rejects).unwrap().contains("\"class\":\"reject\""));
    assert_eq!(convert(&path("t.jsonl"), &["--rejects", &rejects]).status, 1);
}

/// What can be kept of a torn capture is kept, and the tear is told.
#[test]
fn a_torn_capture_is_converted_to_its_last_block() {
    let folder = tempfile::tempdir().unwrap();
    let torn = folder.path().join("torn.pcapng");
    let whole = fs::read(crate::run::root().join("demo/samples/rope-tension.pcapng")).unwrap();
    fs::write(&torn, &whole[..whole.len() - 5]).unwrap();
    let ran = usus(&["convert", torn.to_str().unwrap(), "--format", ROPE]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.said.contains("the capture's end is torn"), "{}", ran.said);
    assert!(ran.out.lines().count() > 1_000);
}

/// The same on a capture that comes through a pipe, in the middle of a block.
#[test]
fn an_interrupt_ends_a_capture_on_a_pipe() {
    let mut child = command(&["convert", "-", "--format", ROPE])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let sample = fs::read(crate::run::root().join("demo/samples/rope-tension.pcapng")).unwrap();
    let mut input = child.stdin.take().unwrap();
    input.write_all(&sample[..20_001]).unwrap();
    input.flush().unwrap();
    std::thread::sleep(Duration::from_millis(500));
    kill_process(Pid::from_child(&child), Signal::INT).unwrap();
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(0), "{said}");
    assert!(said.contains("stopped before the end"), "{said}");
    assert!(String::from_utf8(output.stdout).unwrap().lines().count() > 200);
    drop(input);
}
