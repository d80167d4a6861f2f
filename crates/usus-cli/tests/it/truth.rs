//! What the simulated devices said is what `convert` gives, field by field, raw and as captures.

use std::collections::BTreeMap;
use std::fs;

use serde_json::Value;
use usus_sim::{Device, Fact, Faults, record};

use crate::run::usus;

fn format(device: Device) -> String {
    format!("demo/formats/{}.toml", device.name())
}

/// A JSON value as a table shows it.
fn text(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn fact(value: &Value) -> Fact {
    match value {
        Value::Array(items) => Fact::Items(
            items
                .iter()
                .map(|item| item.as_object().unwrap().iter().map(|(name, value)| (name.clone(), fact(value))).collect())
                .collect(),
        ),
        other => Fact::Text(text(other)),
    }
}

/// What only times tell from the request again.
const NEEDS_TIMES: &str = "write_register";

#[test]
fn on_a_perfect_line_every_message_becomes_its_record() {
    let folder = tempfile::tempdir().unwrap();
    for device in Device::WITH_TRUTH {
        for seed in 0..3 {
            let recording = record(device, seed, 90, &Faults::none());
            let path = folder.path().join(format!("{}-{seed}.bin", device.name()));
            fs::write(&path, recording.bytes()).unwrap();
            let ran = usus(&["convert", path.to_str().unwrap(), "--format", &format(device)]);
            assert_eq!(ran.status, 0, "{}", ran.said);
            let mut records = ran.out.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
            // What is only part of something else comes with that.
            let told =
                recording.truth.iter().filter(|truth| !["gga", "rmc", "gsv", "zda", "txt"].contains(&truth.kind));
            let told = told.filter(|truth| !truth.fields.contains(&("function", NEEDS_TIMES.into())));
            for truth in told {
                let record = records.next().unwrap();
                assert_eq!(record["kind"], truth.kind);
                let ranges: Vec<[u64; 2]> = serde_json::from_value(record["ranges"].clone()).unwrap();
                assert_eq!(ranges[0][0], truth.offset.unwrap());
                let length: u64 = ranges.iter().map(|[_, length]| length).sum();
                match truth.kind {
                    // Its lines' ends, and what was typed between them, are none of it.
                    "report" => assert!(ranges.len() > 5 && length < truth.length),
                    _ => assert_eq!((ranges.len(), length), (truth.messages, truth.length)),
                }
                let fields: Vec<(&str, Fact)> = record["fields"]
                    .as_object()
                    .unwrap()
                    .iter()
                    .map(|(name, value)| (name.as_str(), fact(value)))
                    .collect();
                let said: Vec<(&str, Fact)> = truth.fields.iter().map(|(name, fact)| (*name, fact.clone())).collect();
                assert_eq!(fields, said, "{} at {:?}", truth.kind, truth.offset);
            }
            assert!(records.next().is_none());
            assert!(!ran.said.contains("rejected"), "{}", ran.said);
        }
    }
}

#[test]
fn on_a_poor_line_the_demo_agrees_with_the_truth() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("demo");
    for seed in 0..12u64 {
        let ran = usus(&["demo", "--seconds", "120", "--seed", &seed.to_string(), "--out", out.to_str().unwrap()]);
        assert_eq!(ran.status, 0, "seed {seed}: {}", ran.said);
        assert_eq!(ran.said.matches("agrees with the truth").count(), 9, "seed {seed}: {}", ran.said);
    }
}

/// What the cabin doors were asked and said, on two wires.
#[test]
fn a_conversation_is_told_as_it_was_held() {
    let folder = tempfile::tempdir().unwrap();
    let out = folder.path().join("demo");
    let ran = usus(&["demo", "--faults", "none", "--seconds", "61", "--seed", "3", "--out", out.to_str().unwrap()]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    let capture = out.join("lines/doors.pcapng");
    let ran = usus(&["convert", capture.to_str().unwrap(), "--format", "demo/formats/doors.toml"]);
    assert_eq!(ran.status, 0, "{}", ran.said);
    let talk = usus_sim::converse(3, 61, &Faults::none());
    let records: Vec<Value> = ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(records.len(), talk.truth.len());
    for (record, truth) in records.iter().zip(&talk.truth) {
        let fields: Vec<(&str, Fact)> =
            record["fields"].as_object().unwrap().iter().map(|(name, value)| (name.as_str(), fact(value))).collect();
        assert_eq!(fields, truth.fields);
    }
    let unanswered = records.iter().filter(|record| record["fields"]["outcome"] == "no_answer").count();
    assert_eq!(unanswered, 8, "one door is switched off for eight seconds of a minute");
}

/// The same bytes give the same records from a raw file and from a capture; the capture adds the times of arrival.
#[test]
fn a_capture_says_what_its_raw_bytes_say_and_when() {
    for device in Device::WITH_TRUTH {
        let convert = |ending: &str| {
            let sample = format!("demo/samples/{}.{ending}", device.name());
            let ran = usus(&["convert", &sample, "--format", &format(device)]);
            assert_eq!(ran.status, 0, "{}", ran.said);
            let records = ran.out.lines().map(|line| serde_json::from_str::<BTreeMap<String, Value>>(line).unwrap());
            records.collect::<Vec<_>>()
        };
        let raw = convert("bin");
        let mut timed = convert("pcapng");
        timed.retain(|record| record["fields"]["function"] != NEEDS_TIMES);
        let mut last = String::new();
        for record in &mut timed {
            let received = text(&record.remove("received").unwrap());
            assert!(received >= last, "{received} after {last}");
            assert!(received.starts_with("2026-11-25T06:0"), "{received}");
            last = received;
            assert_eq!(record.remove("line").unwrap(), device.name());
        }
        if device == Device::DriveCabinet {
            // Where there was noise between a request and its answer, times tell that there was no room for others.
            assert!(raw.len() + 3 > timed.len(), "{} of {}", raw.len(), timed.len());
            timed.retain(|record| raw.contains(record));
        }
        assert_eq!(raw, timed);
    }
}
