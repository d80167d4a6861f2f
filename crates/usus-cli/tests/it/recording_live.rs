//! What goes on beside a recording: converting, serving; several lines; copies of captures.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpStream, UdpSocket};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStderr, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::recording::info;
use crate::run::{Ran, command, ran, usus};
use crate::screen::Screen;
use crate::site::Site;

const CELL: &str = "demo/formats/rope-tension.toml";

/// A command that is running; what it says is JSON.
struct Running {
    child: Child,
    said: BufReader<ChildStderr>,
    all: String,
}

impl Running {
    fn begin(arguments: &[&str]) -> Running {
        let mut command = command(&[&["--messages", "json"], arguments].concat());
        let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let said = BufReader::new(child.stderr.take().unwrap());
        Running { child, said, all: String::new() }
    }

    /// Reads on until it says something with that key.
    fn says(&mut self, key: &str) -> Value {
        loop {
            let mut line = String::new();
            assert!(self.said.read_line(&mut line).unwrap() > 0, "{}", self.all);
            self.all += &line;
            let said: Value = serde_json::from_str(&line).unwrap();
            if !said[key].is_null() {
                return said[key].clone();
            }
        }
    }

    fn end(mut self) -> (i32, String) {
        let _ = kill_process(Pid::from_raw(self.child.id() as i32).unwrap(), Signal::INT);
        self.said.read_to_string(&mut self.all).unwrap();
        (self.child.wait().unwrap().code().unwrap(), self.all)
    }
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let mut files: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    files
}

/// What is converted beside the recording is what the recording gives afterwards; by the day, if asked.
#[test]
fn what_is_recorded_is_converted_at_once() {
    let site = Site::of(&["rope-tension"], &[]);
    let folder = tempfile::tempdir().unwrap();
    let (file, tables) = (folder.path().join("cell.pcapng"), folder.path().join("tables"));
    let (file, tables) = (file.to_str().unwrap(), tables.to_str().unwrap());
    let arguments =
        ["capture", &site.port("rope-tension"), "--out", file, "--format", CELL, "--convert", tables, "--daily"];
    let ran = usus(&[&arguments[..], &["--stop-at", "500"]].concat());
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.said.contains("recorded") && ran.said.contains("records: sample"), "{}", ran.said);
    let day = files(Path::new(tables)).pop().unwrap();
    let date = info(Path::new(file))["lines"][0]["received"][1].as_str().unwrap()[..10].to_owned();
    assert_eq!(day.file_name().unwrap().to_str().unwrap(), date);
    let later = folder.path().join("later");
    let again = usus(&["convert", file, "--format", CELL, "--out", later.to_str().unwrap(), "--daily"]);
    assert_eq!(again.status, 0, "{}", again.said);
    let sample = |directory: &Path| fs::read_to_string(directory.join("sample.csv")).unwrap();
    let without_line =
        |table: String| table.lines().map(|row| row.trim_start_matches(',').replace("line,", "")).collect::<Vec<_>>();
    assert_eq!(without_line(sample(&later.join(&date))), without_line(sample(&day)));
    // Tables that are there are not touched, and nothing is recorded then.
    let other = folder.path().join("other.pcapng");
    let refused = usus(&[
        "capture",
        "demo:rope-tension",
        "--out",
        other.to_str().unwrap(),
        "--format",
        CELL,
        "--convert",
        day.to_str().unwrap(),
    ]);
    assert!(refused.status == 1 && refused.said.contains("exists already"), "{}", refused.said);
    assert!(!other.exists());
    assert_eq!(site.end(), (0, 0));
}

/// A record is out as soon as its last byte is in; a reader that goes away or hangs ends the conversion, not the recording.
#[test]
fn records_come_at_once_and_their_reader_holds_nothing_up() {
    let site = Site::of(&["rope-tension"], &[]);
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let port = site.port("rope-tension");
    let (gone, hanging) = (path("gone.pcapng"), path("hanging.pcapng"));
    let arguments = |file: &Path| -> Vec<String> {
        ["capture", &port, "--out", file.to_str().unwrap(), "--format", CELL, "--convert", "-"]
            .map(str::to_owned)
            .to_vec()
    };
    let begin = |file: &Path| Running::begin(&arguments(file).iter().map(String::as_str).collect::<Vec<_>>());
    let mut running = begin(&gone);
    let mut records = BufReader::new(running.child.stdout.take().unwrap());
    for _ in 0..5 {
        let mut line = String::new();
        records.read_line(&mut line).unwrap();
        let record: Value = serde_json::from_str(&line).unwrap();
        assert_eq!(record["kind"], "sample");
    }
    drop(records);
    std::thread::sleep(Duration::from_millis(1_500));
    let (status, said) = running.end();
    assert_eq!(status, 0, "{said}");
    assert!(said.contains("the conversion has ended early; the recording goes on"), "{said}");
    assert!(info(&gone)["lines"][0]["bytes"].as_u64().unwrap() > 300);
    // Nobody reads; the pipe holds what fits.
    let mut running = begin(&hanging);
    let pipe = running.child.stdout.take().unwrap();
    rustix::pipe::fcntl_setpipe_size(&pipe, 4_096).unwrap();
    std::thread::sleep(Duration::from_millis(2_500));
    let interrupt = |running: &Running| {
        kill_process(Pid::from_raw(running.child.id() as i32).unwrap(), Signal::INT).unwrap();
    };
    interrupt(&running);
    let recorded = running.says("recorded").as_u64().unwrap();
    while !running.says("text").as_str().unwrap().contains("interrupt again to give up") {}
    assert!(recorded > 500 && info(&hanging)["lines"][0]["bytes"] == recorded);
    interrupt(&running);
    assert_eq!(running.child.wait().unwrap().code(), Some(130));
    drop(pipe);
    assert_eq!(site.end(), (0, 0));
}

/// The same for a live conversion alone: its raw bytes are kept whatever becomes of its output.
#[test]
fn a_live_conversion_says_each_record_at_once() {
    let folder = tempfile::tempdir().unwrap();
    let mut child = command(&["convert", "demo:rope-tension", "--format", CELL, "--no-capture"])
        .current_dir(crate::run::root())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut records = BufReader::new(child.stdout.take().unwrap());
    let begun = Instant::now();
    let mut line = String::new();
    records.read_line(&mut line).unwrap();
    assert!(begun.elapsed() < Duration::from_secs(3) && line.starts_with("{\"kind\":\"sample\""), "{line}");
    kill_process(Pid::from_raw(child.id() as i32).unwrap(), Signal::INT).unwrap();
    let ran = ran(child.wait_with_output().unwrap());
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(files(folder.path()).is_empty());
}

/// Two wires of one link: two lines, each with settings and a lateness of its own, in one capture and in one table.
#[test]
fn two_wires_are_two_lines() {
    let site = Site::of(&["drive-requests", "drive-answers"], &[]);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("drive.pcapng");
    let (requests, answers) =
        (format!("request={}", site.port("drive-requests")), format!("answer={}", site.port("drive-answers")));
    let ran = usus(&[
        "capture",
        &requests,
        &answers,
        "--serial",
        "19200 8E1",
        "--serial",
        "answer=19200 8N1",
        "--lateness",
        "answer=16ms",
        "--out",
        file.to_str().unwrap(),
        "--stop-after",
        "3s",
    ]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    let held = info(&file);
    let names = |held: &Value| -> Vec<String> {
        held["lines"].as_array().unwrap().iter().map(|line| line["name"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(names(&held), ["request", "answer"]);
    assert_eq!((&held["lines"][0]["serial"], &held["lines"][1]["serial"]), (&"19200 8E1".into(), &"19200 8N1".into()));
    assert_eq!(held["lines"][1]["lateness"], "0.016 s");
    let mut source = usus_io::open(&file).unwrap();
    let (mut times, mut turns) = (Vec::new(), Vec::new());
    while let Some(event) = source.next().unwrap() {
        if let usus_io::SourceEvent::Chunk { line, time, .. } = event {
            times.push(time.unwrap());
            turns.push(line);
        }
    }
    assert!(times.is_sorted(), "times go forward over both lines");
    turns.dedup();
    assert!(turns.len() > 10, "they take turns: {turns:?}");
    // The two alone, and together again.
    for line in ["request", "answer"] {
        let raw = folder.path().join(format!("{line}.bin"));
        let taken = usus(&["replay", file.to_str().unwrap(), "--line", line, "--to", raw.to_str().unwrap()]);
        assert_eq!(taken.status, 0, "{}", taken.said);
        let index = usize::from(line == "answer");
        assert_eq!(fs::metadata(raw).unwrap().len(), held["lines"][index]["bytes"].as_u64().unwrap());
    }
    assert_eq!(site.end(), (0, 0));
}

/// In a terminal, a line that is drawn anew shows all the while that it is recording; what is typed is a note.
#[test]
fn a_person_sees_that_it_is_recording_and_types_notes() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("seen.pcapng");
    let mut screen = Screen::new();
    let mut child =
        command(&["capture", "cell=demo:rope-tension", "mast=demo:wind-mast", "--out", file.to_str().unwrap()])
            .stdin(screen.stdio())
            .stdout(Stdio::null())
            .stderr(screen.stdio())
            .spawn()
            .unwrap();
    std::thread::sleep(Duration::from_millis(2_500));
    screen.press("bridge \u{1B}[31m open\r");
    std::thread::sleep(Duration::from_millis(700));
    screen.press("\r");
    std::thread::sleep(Duration::from_millis(300));
    kill_process(Pid::from_raw(child.id() as i32).unwrap(), Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0));
    let shown = screen.shown();
    let drawn: Vec<&str> = shown.split("\r\u{1B}[2K").filter(|line| line.starts_with("● recording")).collect();
    assert!(drawn.len() > 8, "{} times in three seconds", drawn.len());
    let last = drawn.last().unwrap();
    for part in [" bytes (cell ", "; mast ", " bytes a second", "1 note", " GB free", "\\x"] {
        assert!(last.contains(part), "{part} in {last}");
    }
    assert!(shown.contains("noted: bridge \\u{1b}[31m open"), "{shown}");
    assert!(shown.contains("recorded "), "the summary comes behind: {shown}");
    let held = info(&file);
    assert_eq!(held["remarks"].as_array().unwrap().len(), 1, "an empty line is no note: {held}");
    assert_eq!(held["remarks"][0]["text"], "bridge \u{1B}[31m open");
}

/// One of two wires that is dead is told, though the other speaks.
#[test]
fn a_dead_wire_is_told() {
    let site = Site::of(&["rope-tension", "brake-tester"], &[]);
    let folder = tempfile::tempdir().unwrap();
    let silent = usus_io::Terminal::open(&folder.path().join("dead")).unwrap();
    let (cell, dead) = (format!("cell={}", site.port("rope-tension")), format!("dead={}", silent.link().display()));
    let file = folder.path().join("two.pcapng");
    let arguments = ["capture", &cell, &dead, "--serial", "115200 8N1", "--out", file.to_str().unwrap()];
    let mut running = Running::begin(&[&arguments[..], &["--stop-after", "17s"]].concat());
    let lines = running.says("lines");
    assert!(lines[0]["bytes"].as_u64().unwrap() > 100 && lines[0]["silent_seconds"].as_f64().unwrap() < 5.0, "{lines}");
    assert!(lines[1]["bytes"] == 0 && lines[1]["silent_seconds"].as_f64().unwrap() > 5.0, "{lines}");
    let text = running.says("text").as_str().unwrap().to_owned();
    assert!(text.contains("dead: nothing has come for 15 s"), "{text}");
    assert_eq!(
        running.says("recorded").as_u64().unwrap(),
        fs::metadata(&file).map(|_| info(&file)["lines"][0]["bytes"].as_u64().unwrap()).unwrap()
    );
    assert_eq!(site.end(), (0, 0));
}

/// Senders of datagrams become lines as they come.
#[test]
fn datagrams_are_recorded_line_by_line() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("senders.pcapng");
    let port = UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let source = format!("udp://127.0.0.1:{port}");
    let mut running =
        Running::begin(&["capture", &source, "--out", file.to_str().unwrap(), "--note", "before anybody"]);
    running.says("recording");
    let senders = [UdpSocket::bind("127.0.0.1:0").unwrap(), UdpSocket::bind("127.0.0.1:0").unwrap()];
    for round in 0..10 {
        for sender in &senders {
            sender.send_to(format!("{round}").as_bytes(), ("127.0.0.1", port)).unwrap();
        }
    }
    std::thread::sleep(Duration::from_millis(300));
    let (status, said) = running.end();
    assert_eq!(status, 0, "{said}");
    let held = info(&file);
    let lines = held["lines"].as_array().unwrap();
    assert_eq!(lines.len(), 2, "{held}");
    assert!(lines.iter().all(|line| line["bytes"] == 10 && line["chunks"] == 10), "{held}");
    assert_eq!(held["remarks"][0]["text"], "before anybody");
}

/// What arrives is given on at the same time; readers that hang, reset or write change nothing.
#[test]
fn what_arrives_is_served() {
    let site = Site::of(&["rope-tension"], &[]);
    let folder = tempfile::tempdir().unwrap();
    let (file, link) = (folder.path().join("cell.pcapng"), folder.path().join("copy"));
    let place = format!("pty:{}", link.display());
    let mut running = Running::begin(&[
        "capture",
        &site.port("rope-tension"),
        "--serial",
        "115200 8N1",
        "--out",
        file.to_str().unwrap(),
        "--serve",
        &place,
        "--serve",
        "tcp://127.0.0.1:0",
    ]);
    assert_eq!(running.says("at"), link.to_str().unwrap());
    let address = running.says("at").as_str().unwrap().replace("tcp://", "");
    running.says("recording");
    let (mut reader, hanging, mut writer) = (
        TcpStream::connect(&address).unwrap(),
        TcpStream::connect(&address).unwrap(),
        TcpStream::connect(&address).unwrap(),
    );
    writer.write_all(b"PUMP OFF\r\n").unwrap();
    // A connection that is closed with something unread in it is reset.
    rustix::net::sockopt::set_socket_linger(&writer, Some(Duration::ZERO)).unwrap();
    std::thread::sleep(Duration::from_millis(300));
    drop(writer);
    let mut served = vec![0; 400];
    reader.read_exact(&mut served).unwrap();
    let heard = usus(&[
        "convert",
        link.to_str().unwrap(),
        "--format",
        CELL,
        "--no-capture",
        "--serial",
        "115200 8N1",
        "--end",
        &soon(),
    ]);
    assert!(heard.out.lines().count() > 5, "{}{}", heard.out, heard.said);
    drop(hanging);
    let (status, said) = running.end();
    assert_eq!(status, 0, "{said}");
    assert!(said.contains("\"served_received\":10"), "{said}");
    let raw = folder.path().join("raw.bin");
    usus(&["replay", file.to_str().unwrap(), "--to", raw.to_str().unwrap()]);
    let raw = fs::read(raw).unwrap();
    assert!(raw.windows(served.len()).any(|window| window == served), "what was served is what was recorded");
    assert_eq!(site.end(), (0, 0), "nothing of what readers said reached the device");
}

/// A second from now.
fn soon() -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    let time = usus::Time::from_nanoseconds((now + Duration::from_secs(1)).as_nanos() as i64);
    time.to_string()
}

/// Two cannot record into one file; the second says who is first.
#[test]
fn the_other_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("one.pcapng");
    let mut first = Running::begin(&["capture", "demo:rope-tension", "--out", file.to_str().unwrap()]);
    first.says("recording");
    let second = usus(&["capture", "demo:rope-tension", "--out", file.to_str().unwrap(), "--append"]);
    let expected = format!("is being recorded into by usus (process {})", first.child.id());
    assert!(second.status == 1 && second.said.contains(&expected), "{}", second.said);
    assert_eq!(first.end().0, 0);
}

/// Captures are cut and joined by recording them again; nothing changes but what is left out.
#[test]
fn captures_are_cut_and_joined() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let sample = "demo/samples/rope-tension.pcapng";
    let copy = |arguments: &[&str], out: &str| -> Ran { usus(&[&["capture"], arguments, &["--out", out]].concat()) };
    let (begin, half) = ("2026-11-25T06:00:00Z", "2026-11-25T06:00:30Z");
    let first = copy(&[sample, "--begin", begin, "--end", half], &path("first.pcapng"));
    let second = copy(&[sample, "--begin", half], &path("second.pcapng"));
    assert_eq!((first.status, second.status), (0, 0), "{}{}", first.said, second.said);
    assert!(first.said.contains("of 1 line into"), "{}", first.said);
    let joined = copy(&[&path("second.pcapng"), &path("first.pcapng")], &path("joined.pcapng"));
    assert_eq!(joined.status, 0, "{}", joined.said);
    let (whole, joined) = (info(Path::new(sample)), info(Path::new(&path("joined.pcapng"))));
    assert_eq!((&joined["lines"], &joined["stream"]), (&whole["lines"], &whole["stream"]));
    let records = |file: &str| {
        usus(&["convert", file, "--format", CELL, "--origin"]).out.replace("joined.pcapng", "rope-tension.pcapng")
    };
    assert_eq!(records(&path("joined.pcapng")), records(sample));
    // A span can be converted, too, without a copy; records keep their places.
    let cut = usus(&["convert", sample, "--format", CELL, "--begin", half]);
    assert!(
        cut.status == 0
            && records(sample).contains(cut.out.lines().last().unwrap().split("\"ranges\"").last().unwrap())
    );
    let nothing = copy(&[sample, "--begin", "2030-01-01"], &path("nothing.pcapng"));
    assert!(nothing.status == 3 && !Path::new(&path("nothing.pcapng")).exists(), "{}", nothing.said);
    let both = copy(&[sample, "demo/samples/wind-mast.pcapng"], &path("both.pcapng"));
    assert_eq!((both.status, info(Path::new(&path("both.pcapng")))["lines"].as_array().unwrap().len()), (0, 2));
}
