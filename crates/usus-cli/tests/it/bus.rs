//! `usus bus`: the survey of the demo's drive cabinet, on one wire and on two, held against what its devices said.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use serde_json::Value;
use usus::Time;
use usus_io::{CaptureLine, CaptureWriter};
use usus_sim::{Device, Faults, record};

use crate::run::usus;

const SAMPLE: &str = "demo/samples/drive-cabinet.pcapng";
const FORMAT: &str = "demo/formats/drive-cabinet.toml";

fn capture(path: &Path, lines: &[(&str, Device)], faults: &Faults) {
    let mut capture = CaptureWriter::new(fs::File::create(path).unwrap(), "cabinet").unwrap();
    let mut chunks = Vec::new();
    for (name, device) in lines {
        let serial = Some(device.serial().to_owned());
        let line = CaptureLine { name: (*name).to_owned(), serial, base: 0, ..CaptureLine::default() };
        let line = capture.line(&line).unwrap();
        let recording = record(*device, 5, 120, faults);
        chunks.extend(recording.chunks.into_iter().map(|chunk| (chunk.time, line, chunk.bytes)));
    }
    chunks.sort();
    for (time, line, bytes) in chunks {
        capture.chunk(line, Time::from_nanoseconds(time), &bytes, &[]).unwrap();
    }
    capture.finish().unwrap();
}

fn survey(arguments: &[&str]) -> Value {
    let ran = usus(&[&["bus", "--json"], arguments].concat());
    assert_eq!(ran.status, 0, "{}", ran.said);
    serde_json::from_str(&ran.out).unwrap()
}

#[test]
fn the_sample_is_surveyed() {
    let folder = tempfile::tempdir().unwrap();
    insta::assert_snapshot!("bus", usus(&["bus", SAMPLE, "--format", FORMAT]).shown(folder.path()));
    insta::assert_snapshot!("bus_nothing", usus(&["bus", "demo/samples/wind-mast.bin"]).shown(folder.path()));
}

/// What a perfect line carried is counted to the last one, on one wire and on two.
#[test]
fn all_is_counted_on_one_wire_and_on_two() {
    let folder = tempfile::tempdir().unwrap();
    let (one, two) = (folder.path().join("one.pcapng"), folder.path().join("two.pcapng"));
    capture(&one, &[("bus", Device::DriveCabinet)], &Faults::none());
    capture(&two, &[("asked", Device::DriveRequests), ("told", Device::DriveAnswers)], &Faults::none());
    let on_one = survey(&[one.to_str().unwrap()]);
    let on_two = survey(&[two.to_str().unwrap(), "--requests", "asked", "--answers", "told"]);
    for (survey, wires) in [(&on_one, 1), (&on_two, 2)] {
        let units = survey["units"].as_array().unwrap();
        // Two polls a second of the drive, and four kinds of other requests, each in ten seconds once.
        assert_eq!(units[0]["requests"], 240 + 36, "{wires}");
        assert_eq!(units[0]["answered"], 240 + 36, "{wires}");
        assert_eq!(units[1]["no_answer"], 2 * 2 * 2 * 6, "{wires}");
        assert_eq!(units[1]["repeated"], 2 * 2 * 6, "{wires}");
        assert_eq!(units[1]["refused"]["illegal_address"], 12, "{wires}");
        let poll = &units[1]["polls"].as_array().unwrap()[0];
        assert_eq!(
            (poll["function"].as_str(), poll["period_us"]["median"].as_i64()),
            (Some("read_input_registers"), Some(500_000)),
            "{poll:#}"
        );
    }
    assert_eq!(on_one["other_bytes"], 0);
    // Named the wrong way round, the wires have no transaction that was answered.
    let swapped = survey(&[two.to_str().unwrap(), "--requests", "told", "--answers", "asked"]);
    let answered =
        |unit: &Value| unit["answered"].as_u64().unwrap() + unit["registers"].as_array().unwrap().len() as u64;
    assert_eq!(swapped["units"].as_array().unwrap().iter().map(answered).sum::<u64>(), 0, "{swapped:#}");
    let told = usus(&["bus", two.to_str().unwrap(), "--line", "told"]);
    assert!(told.out.contains("answers to requests that were not heard\nnothing is answered"), "{}", told.out);
    let several = usus(&["bus", two.to_str().unwrap()]);
    assert!(several.status == 1 && several.said.contains("--line says which"), "{}", several.said);
    let unknown = usus(&["bus", two.to_str().unwrap(), "--line", "wire"]);
    assert!(unknown.status == 1 && unknown.said.contains("there is no line wire"), "{}", unknown.said);
}

/// What a survey writes, a format reads: the registers come out under the names that they were given.
#[test]
fn what_was_seen_is_written_to_be_filled_in() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (points, format, own) = (path("points.csv"), path("seen.toml"), path("own.toml"));
    let ran = usus(&["bus", SAMPLE, "--to-points", &points, "--to-format", &format]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    let text = fs::read_to_string(&points).unwrap();
    let types: BTreeMap<&str, &str> = text
        .lines()
        .skip(1)
        .map(|line| line.split(',').collect::<Vec<_>>())
        .map(|cells| (cells[3], cells[4]))
        .collect();
    assert_eq!(
        (types["input_0"], types["input_2"], types["holding_17"], types["coil_3"]),
        ("f32be", "f32be", "u16be", ""),
        "{text}"
    );
    fs::write(&own, "format = \"own\"\npoints = { file = \"points.csv\" }\n[[frame]]\ncut = \"modbus-rtu\"\n").unwrap();
    for format in [&format, &own] {
        let ran = usus(&["check", format]);
        assert_eq!(ran.status, 0, "{}", ran.said);
        let ran = usus(&["convert", SAMPLE, "--format", format, "--values", "changed"]);
        assert!(ran.out.contains(r#""record":"unit_2","series":null,"name":"input_0""#), "{}", ran.out);
    }
    let again = usus(&["bus", SAMPLE, "--to-points", &points]);
    assert!(again.status == 1 && again.said.contains("--overwrite"), "{}", again.said);
    // What is read is never written.
    for read in [&own, &path("link.pcapng")] {
        let _ = std::os::unix::fs::symlink(crate::run::root().join(SAMPLE), path("link.pcapng"));
        let before = fs::read(read).unwrap();
        let ran = usus(&["bus", SAMPLE, "--format", &own, "--to-points", read, "--overwrite"]);
        assert!(ran.status == 1 && fs::read(read).unwrap() == before, "{}", ran.said);
    }
    // A map that is not right says so.
    fs::write(&points, "unit_id,table,address,name\n1,holding_register,16,speed\n1,holding_register,77,ghost\n")
        .unwrap();
    let survey = survey(&[SAMPLE, "--format", &own]);
    assert_eq!(survey["never_seen"][0]["points"][0], "unit_1.ghost");
    assert_eq!(
        survey["units"][0]["registers"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|register| register["points"][0] == "unit_1.speed")
            .count(),
        1
    );
}

/// A line in ASCII is a bus as well. Answers whose checksum fails, and those that come twice, are told as that.
#[test]
fn a_line_in_ascii_is_surveyed() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let (source, format) = (path("line.bin"), path("seen.toml"));
    let message = |bytes: &[u8]| {
        let sum = bytes.iter().fold(0, |sum: u8, byte| sum.wrapping_sub(*byte));
        let digits: String = bytes.iter().chain([&sum]).map(|byte| format!("{byte:02X}")).collect();
        format!(":{digits}\r\n").into_bytes()
    };
    let mut sent = Vec::new();
    for turn in 0..60 {
        sent.extend(message(&[9, 3, 0, 16, 0, 2]));
        let mut answer = message(&[9, 3, 4, 0, turn, 1, 2]);
        match turn % 6 {
            1 => answer[9] ^= 1,
            2 => answer.clear(),
            3 => answer.extend(answer.clone()),
            _ => {}
        }
        sent.extend(answer);
    }
    fs::write(&source, &sent).unwrap();
    let survey = survey(&[&source, "--to-format", &format]);
    let unit = &survey["units"][0];
    let counts = ["requests", "answered", "no_answer", "checksum_errors", "unclear", "stray_answers"];
    assert_eq!(counts.map(|name| unit[name].as_u64().unwrap()), [60, 40, 10, 10, 0, 10], "{unit:#}");
    assert_eq!(survey["bytes"], sent.len());
    let ran = usus(&["convert", &source, "--format", &format]);
    assert!(ran.out.contains(r#""holding_16":58,"holding_17":258"#), "{}", ran.out);
}
