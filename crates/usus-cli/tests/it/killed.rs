//! Live conversions that are killed at any moment: started again, they make good what is missing, and nothing stands twice.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use rusqlite::types::Value;
use rusqlite::{Connection, OpenFlags};
use rustix::process::{Pid, Signal, kill_process};
use usus::{Decoder, Format};
use usus_io::{Destination, Existing, OutputOptions, Outputs, open_parts, pump};
use usus_sim::{Device, Faults, record};

use crate::run::{command, root, usus};

const CELL: &str = "demo/formats/rope-tension.toml";

/// How often each conversion is killed: `KILLS` says it otherwise.
fn kills() -> u32 {
    std::env::var("KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(4)
}

/// A device that goes on where it was, whoever calls.
struct Station {
    address: String,
    stop: Arc<AtomicBool>,
    thread: Option<thread::JoinHandle<()>>,
}

impl Station {
    fn begin(seed: u64) -> Station {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("tcp://{}", listener.local_addr().unwrap());
        listener.set_nonblocking(true).unwrap();
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = Arc::clone(&stop);
        let thread = thread::spawn(move || {
            let bytes = record(Device::RopeTension, seed, 3_600, &Faults::all()).bytes();
            let mut random = fastrand::Rng::with_seed(seed);
            let (mut at, mut caller) = (0, None);
            while !stopped.load(Ordering::Relaxed) {
                if let Ok((stream, _)) = listener.accept() {
                    caller = Some(stream);
                }
                if let Some(stream) = &mut caller {
                    let piece = &bytes[at..bytes.len().min(at + random.usize(1..60))];
                    at = (at + piece.len()) % bytes.len();
                    if stream.write_all(piece).is_err() {
                        caller = None;
                    }
                }
                thread::sleep(Duration::from_millis(2));
            }
        });
        Station { address, stop, thread: Some(thread) }
    }
}

impl Drop for Station {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn begin(device: &Station, out: &Path) -> Child {
    let mut command =
        command(&["convert", &device.address, "--format", CELL, "--out", out.to_str().unwrap(), "--append", "--quiet"]);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
}

/// Kills a conversion at random moments and lets the last one end. Returns its captures in the order in which they were begun.
fn kill_again_and_again(out: &Path, seed: u64) -> Vec<PathBuf> {
    let device = Station::begin(seed);
    let mut random = fastrand::Rng::with_seed(seed);
    for _ in 0..kills() {
        let mut running = begin(&device, out);
        thread::sleep(Duration::from_millis(random.u64(20..2_400)));
        assert!(running.try_wait().unwrap().is_none(), "it has ended: {:?}", running.wait_with_output());
        running.kill().unwrap();
        running.wait().unwrap();
    }
    let running = begin(&device, out);
    thread::sleep(Duration::from_millis(1_500));
    kill_process(Pid::from_raw(running.id() as i32).unwrap(), Signal::INT).unwrap();
    let ended = running.wait_with_output().unwrap();
    assert!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
    captures(out)
}

/// The captures beside an output, the oldest first.
fn captures(out: &Path) -> Vec<PathBuf> {
    let folder = if out.is_dir() { out } else { out.parent().unwrap() };
    let mut captures: Vec<PathBuf> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.extension().is_some_and(|ending| ending == "pcapng"))
        .collect();
    // Names have whole seconds; of several in one, the later ones have a number behind them.
    captures.sort_by_key(|path| {
        let stem = path.file_stem().unwrap().to_string_lossy().into_owned();
        let (time, number) = stem.split_once("Z-").map_or((stem.as_str(), "0"), |(time, number)| (time, number));
        (time.trim_end_matches('Z').to_owned(), number.parse::<u32>().unwrap())
    });
    captures
}

/// What the captures give one after the other, in JSON Lines.
fn in_one_go(captures: &[PathBuf]) -> Vec<String> {
    let lines = captures.iter().map(|capture| {
        // What was killed at once has kept nothing.
        let ran = usus(&["convert", capture.to_str().unwrap(), "--format", CELL, "--quiet"]);
        assert!([0, 3, 4].contains(&ran.status), "{}", ran.said);
        ran.out.lines().map(str::to_owned).collect::<Vec<_>>()
    });
    lines.flatten().collect()
}

#[test]
fn json_lines_survive_kills() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("cell.jsonl");
    let captures = kill_again_and_again(&out, 11);
    let written: Vec<String> = fs::read_to_string(&out).unwrap().lines().map(str::to_owned).collect();
    assert!(written.len() > 100 && written == in_one_go(&captures), "{} lines", written.len());
    assert!(!folder.path().join("cell.jsonl.unfinished").exists());
}

#[test]
fn tables_survive_kills() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("tables");
    let captures = kill_again_and_again(&out, 12);
    let mut expected: BTreeMap<String, String> = BTreeMap::new();
    for (number, capture) in captures.iter().enumerate() {
        let once = folder.path().join(format!("once{number}"));
        let ran =
            usus(&["convert", capture.to_str().unwrap(), "--format", CELL, "--out", once.to_str().unwrap(), "--quiet"]);
        assert!([0, 3, 4].contains(&ran.status), "{}", ran.said);
        for (name, rows) in tables(&once) {
            // A line without a name has an empty column in a capture, and none where it is live.
            let rows: Vec<&str> =
                rows.lines().map(|row| row.strip_prefix("line,").or(row.strip_prefix(',')).unwrap()).collect();
            let all = expected.entry(name).or_insert_with(|| format!("{}\n", rows[0]));
            rows[1..].iter().for_each(|row| all.push_str(&format!("{row}\n")));
        }
    }
    let written: BTreeMap<String, String> =
        tables(&out).into_iter().map(|(name, rows)| (name, rows.replace("\r\n", "\n"))).collect();
    assert!(written["sample.csv"].lines().count() > 100);
    assert!(written == expected);
}

/// The tables of records in a directory.
fn tables(folder: &Path) -> BTreeMap<String, String> {
    let paths = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let named = paths.filter_map(|path| {
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        (name.ends_with(".csv") && name != "fields.csv").then(|| (name, fs::read_to_string(&path).unwrap()))
    });
    named.collect()
}

#[test]
fn databases_survive_kills_and_are_read_meanwhile() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("cell.sqlite");
    let watched = out.clone();
    let stop = Arc::new(AtomicBool::new(false));
    let stopped = Arc::clone(&stop);
    // Somebody else asks all the while, and finds whole records.
    let reader = thread::spawn(move || {
        let (mut asked, until) = (0, Instant::now() + Duration::from_secs(3_600));
        while !stopped.load(Ordering::Relaxed) && Instant::now() < until {
            thread::sleep(Duration::from_millis(20));
            let Ok(database) = Connection::open_with_flags(&watched, OpenFlags::SQLITE_OPEN_READ_ONLY) else {
                continue;
            };
            let _ = database.busy_timeout(Duration::from_secs(2));
            let torn = "SELECT count(*) FROM status_peaks p LEFT JOIN status s USING (stream, line, \"offset\", item) WHERE s.serial IS NULL";
            if let Ok(torn) = database.query_row(torn, [], |row| row.get::<_, i64>(0)) {
                assert_eq!(torn, 0, "items without their record");
                asked += 1;
            }
        }
        asked
    });
    let captures = kill_again_and_again(&out, 13);
    stop.store(true, Ordering::Relaxed);
    assert!(reader.join().unwrap() > 5);
    let once = folder.path().join("once.sqlite");
    for capture in &captures {
        let arguments = ["convert", capture.to_str().unwrap(), "--format", CELL, "--append", "--quiet", "--out"];
        let ran = usus(&[&arguments[..], &[once.to_str().unwrap()]].concat());
        assert!([0, 3, 4].contains(&ran.status), "{}", ran.said);
    }
    let (written, expected) = (rows(&out), rows(&once));
    assert!(written["sample"].len() > 100);
    assert!(written == expected, "{:?} and {:?}", counts(&written), counts(&expected));
    // Once more changes nothing.
    for capture in captures.iter().rev() {
        let arguments = ["convert", capture.to_str().unwrap(), "--format", CELL, "--append", "--quiet", "--out"];
        usus(&[&arguments[..], &[out.to_str().unwrap()]].concat());
    }
    assert!(rows(&out) == expected);
}

fn counts(rows: &BTreeMap<String, Vec<Vec<Value>>>) -> Vec<usize> {
    rows.values().map(Vec::len).collect()
}

/// What a database says of each record, without the numbers that streams and conversions have in it.
fn rows(path: &Path) -> BTreeMap<String, Vec<Vec<Value>>> {
    let database = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).unwrap();
    let table = |name: &str| {
        let sql = format!(
            "SELECT u.stream, t.* FROM {name} t JOIN usus_streams u ON u.id = t.stream ORDER BY 1, t.\"offset\""
        );
        let mut statement = database.prepare(&sql).unwrap();
        let names: Vec<String> = statement.column_names().map(str::to_owned).collect();
        let kept: Vec<usize> = (0..names.len())
            .filter(|at| *at == 0 || !["stream", "conversion"].contains(&names[*at].as_str()))
            .collect();
        let rows = statement.query_map([], |row| kept.iter().map(|at| row.get(*at)).collect::<Result<Vec<Value>, _>>());
        rows.unwrap().map(Result::unwrap).collect::<Vec<_>>()
    };
    ["sample", "status", "status_peaks"].into_iter().map(|name| (name.to_owned(), table(name))).collect()
}

#[test]
fn what_a_run_has_left_is_told_and_two_runs_do_not_mix() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("cell.jsonl");
    let device = Station::begin(14);
    let mut first = begin(&device, &out);
    let left = folder.path().join("cell.jsonl.unfinished");
    let until = Instant::now() + Duration::from_secs(10);
    while !left.exists() && Instant::now() < until {
        thread::sleep(Duration::from_millis(10));
    }
    thread::sleep(Duration::from_millis(100));
    // Another caller, so that the first one is not hung up on.
    let second = begin(&Station::begin(15), &out).wait_with_output().unwrap();
    assert_eq!(second.status.code(), Some(1));
    let said = String::from_utf8_lossy(&second.stderr).into_owned();
    assert!(said.contains("another run is writing this output"), "{said}");
    thread::sleep(Duration::from_millis(1_500));
    first.kill().unwrap();
    first.wait().unwrap();
    let out = out.to_str().unwrap();
    let refused = usus(&["convert", "demo/samples/rope-tension.pcapng", "--format", CELL, "--out", out]);
    assert!(refused.status == 1 && refused.said.contains("--append makes good what is missing"), "{}", refused.said);
    // Without the capture, what was written cannot be made again, and is not taken away.
    let capture = captures(Path::new(out)).remove(0);
    let (away, before) = (capture.with_extension("away"), fs::read(out).unwrap());
    fs::rename(&capture, &away).unwrap();
    let arguments = ["convert", "demo/samples/rope-tension.pcapng", "--format", CELL, "--append", "--out", out];
    let refused = usus(&arguments);
    assert!(refused.status == 1 && refused.said.contains("is gone"), "{}", refused.said);
    assert_eq!(fs::read(out).unwrap(), before);
    fs::rename(&away, &capture).unwrap();
    let ran = usus(&arguments);
    assert_eq!(ran.status, 0, "{}", ran.said);
    assert!(ran.said.contains("its capture is converted anew"), "{}", ran.said);
    let expected = in_one_go(&[capture, PathBuf::from("demo/samples/rope-tension.pcapng")]);
    assert!(fs::read_to_string(out).unwrap().lines().eq(expected.iter().map(String::as_str)));
}

/// What a recording gives that goes on in several files, decoded as one.
fn in_parts(capture: &Path, out: &Path) -> Vec<String> {
    let text = fs::read_to_string(root().join(CELL)).unwrap();
    let plan = Format::parse(&text).unwrap().compile().unwrap();
    let options = OutputOptions { existing: Existing::Replace, ..OutputOptions::default() };
    let mut outputs = Outputs::open(&plan, &Destination::JsonLines(out.to_owned()), &options).unwrap();
    pump(&mut *open_parts(capture).unwrap(), &mut Decoder::new(&plan), &mut outputs, &mut |_| true).unwrap();
    outputs.finish().unwrap();
    fs::read_to_string(out).unwrap().lines().map(str::to_owned).collect()
}

/// A recording that is converted at the same time, continued after each kill, or begun in another file; it goes on in others itself.
#[test]
fn what_is_recorded_and_converted_survives_kills() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (device, mut random) = (Station::begin(16), fastrand::Rng::with_seed(16));
    let begin = |capture: &str, out: &str, rotate: &str| {
        let arguments = ["capture", &device.address, "--format", CELL, "--append", "--quiet", "--rotate-size", rotate];
        let mut command = command(&[&arguments[..], &["--out", capture, "--convert", out]].concat());
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let mut run = |capture: &str, out: &str, rotate: &str, is_last: bool| {
        let mut running = begin(capture, out, rotate);
        thread::sleep(Duration::from_millis(random.u64(100..1_600)));
        if is_last {
            kill_process(Pid::from_raw(running.id() as i32).unwrap(), Signal::INT).unwrap();
            let ended = running.wait_with_output().unwrap();
            // That bytes are missing since the last kill is told.
            assert!([0, 6].contains(&ended.status.code().unwrap()), "{}", String::from_utf8_lossy(&ended.stderr));
        } else {
            running.kill().unwrap();
            running.wait().unwrap();
        }
    };
    let written = |out: &str| fs::read_to_string(out).unwrap().lines().map(str::to_owned).collect::<Vec<_>>();
    // Ended orderly, killed, and continued in the same file.
    let (capture, out) = (path("one.pcapng"), path("one.jsonl"));
    for number in 0..4 {
        run(&capture, &out, "1GB", number != 1 && number != 2);
    }
    let expected = in_parts(Path::new(&capture), &folder.path().join("once.jsonl"));
    assert!(expected.len() > 20 && written(&out) == expected, "{} and {}", written(&out).len(), expected.len());
    // Killed while it is in a later file, and begun anew in others.
    let (first, second, out) = (path("first.pcapng"), path("second.pcapng"), path("two.jsonl"));
    run(&first, &out, "2kB", false);
    run(&second, &out, "2kB", true);
    let expected: Vec<String> = [first, second]
        .iter()
        .flat_map(|capture| in_parts(Path::new(capture), &folder.path().join("once.jsonl")))
        .collect();
    assert!(written(&out) == expected, "{} and {}", written(&out).len(), expected.len());
}

/// What was there before is not taken for a killed run's, though that was told of other records.
#[test]
fn tables_of_other_records_are_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("tables");
    let place = out.to_str().unwrap();
    // A live conversion has no column for a line without a name; neither has this.
    let whole = |more: &[&str]| {
        let arguments = ["convert", "demo/samples/rope-tension.bin", "--format", CELL, "--out", place, "--append"];
        let ran = usus(&[&arguments[..], more].concat());
        assert_eq!(ran.status, 0, "{}", ran.said);
    };
    whole(&["--records", "status"]);
    let before = fs::read(out.join("status.csv")).unwrap();
    // A run of other records that is killed while it adds: what it leaves is as here.
    let left = out.join("unfinished.json");
    let device = Station::begin(17);
    let arguments = ["convert", &device.address, "--format", CELL, "--out", place, "--append", "--records", "sample"];
    fs::remove_file(out.join("fields.csv")).unwrap();
    let mut running = command(&arguments).stdin(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let until = Instant::now() + Duration::from_secs(10);
    while !left.exists() && Instant::now() < until {
        thread::sleep(Duration::from_millis(10));
    }
    thread::sleep(Duration::from_millis(300));
    running.kill().unwrap();
    running.wait().unwrap();
    assert!(left.exists());
    fs::remove_file(out.join("fields.csv")).unwrap();
    // The next run tells of all records: what was there stays, and it adds the same once more, as it is asked to.
    let arguments = ["convert", "demo/samples/rope-tension.bin", "--format", CELL, "--out", place, "--append"];
    let ran = usus(&arguments);
    assert_eq!(ran.status, 0, "{}", ran.said);
    let (rows, after) = (before.split(|byte| *byte == b'\n').count(), fs::read(out.join("status.csv")).unwrap());
    assert!(after.starts_with(&before) && after.split(|byte| *byte == b'\n').count() >= 2 * (rows - 2) + 2);
}
