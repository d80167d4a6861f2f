//! The simulated devices: the same seed gives the same stream, the truth is true of the bytes, and faults do what they say.

use usus_sim::{BEGIN, Device, Fact, Faults, record};

#[test]
fn a_seed_gives_the_same_stream_and_another_gives_another() {
    for device in Device::ALL {
        let first = record(device, 5, 30, &Faults::all());
        assert_eq!(first, record(device, 5, 30, &Faults::all()));
        assert_ne!(first.bytes(), record(device, 6, 30, &Faults::all()).bytes());
    }
}

/// On a perfect line every message is whole, they follow each other without overlapping, and each begins as its device's do.
#[test]
fn the_truth_is_true_of_the_bytes() {
    for device in Device::ALL {
        let recording = record(device, 9, 120, &Faults::none());
        let bytes = recording.bytes();
        let mut end = 0;
        for truth in &recording.truth {
            let begin = truth.offset.expect("whole") as usize;
            assert!(begin >= end, "{truth:?} begins before {end}");
            end = begin + truth.length as usize;
            let frame = &bytes[begin..end];
            match truth.kind {
                "sample" | "status" => {
                    assert_eq!((&frame[..2], usize::from(frame[2]) + 5), (&b"\xA5\x5A"[..], frame.len()))
                }
                "load" => assert_eq!((&frame[..2], frame.len()), (&b"\x7E\x81"[..], 14)),
                "boot" => assert!(frame.starts_with(b"boot ") && bytes[end..].starts_with(b"\r\n")),
                _ => {
                    assert!(frame[0] == b'$' && frame[frame.len() - 3] == b'*' && bytes[end..].starts_with(b"\r\n"));
                    let sum = frame[1..frame.len() - 3].iter().fold(0, |sum, byte| sum ^ byte);
                    assert!(frame.ends_with(format!("{sum:02X}").as_bytes()));
                }
            }
        }
        assert!(end <= bytes.len());
    }
}

/// Bytes come no faster than the line carries them, never before they were sent, and in order.
#[test]
fn times_are_those_of_a_line_of_that_speed() {
    for (device, character) in
        [(Device::WindMast, 2_083_333), (Device::RopeTension, 86_805), (Device::ValleyStation, 260_416)]
    {
        let recording = record(device, 2, 60, &Faults::all());
        let mut last = BEGIN;
        for chunk in &recording.chunks {
            let needed = character * chunk.bytes.len() as i64;
            assert!(chunk.time >= last + needed, "{} at {}", device.name(), chunk.time);
            assert!((1..=32).contains(&chunk.bytes.len()));
            last = chunk.time;
        }
        assert!(last < BEGIN + 61 * 1_000_000_000, "{} falls behind", device.name());
    }
}

#[test]
fn each_fault_does_what_it_says() {
    let none = Faults::none();
    let clean = |device| record(device, 4, 200, &none);
    let damaged =
        |recording: &usus_sim::Recording| recording.truth.iter().filter(|truth| truth.offset.is_none()).count();
    for device in Device::ALL {
        let whole = clean(device);
        assert_eq!(damaged(&whole), 0);
        let cut = record(device, 4, 200, &Faults { cut_start: 5, ..none });
        assert_eq!(cut.bytes()[..], whole.bytes()[5..], "only the start is missing");
        assert!(damaged(&cut) >= 1 && cut.truth[0].offset.is_none());
        let lost = record(device, 4, 200, &Faults { lost: 0.01, ..none });
        let missing = whole.bytes().len() - lost.bytes().len();
        let expected = whole.bytes().len() / 100;
        assert!((expected / 2..expected * 2).contains(&missing), "{missing} bytes lost");
        let flipped = record(device, 4, 200, &Faults { flipped: 0.01, ..none });
        assert_eq!(flipped.bytes().len(), whole.bytes().len());
        let changed = flipped.bytes().iter().zip(whole.bytes()).filter(|(one, other)| **one != *other).count();
        assert!((expected / 2..expected * 2).contains(&changed), "{changed} bytes changed");
        let noisy = record(device, 4, 200, &Faults { noise: 0.1, ..none });
        assert!(noisy.bytes().len() > whole.bytes().len());
        assert!(
            noisy.truth.iter().filter(|truth| truth.protected).all(|truth| truth.offset.is_some()),
            "noise damages nothing"
        );
    }
}

#[test]
fn the_receiver_on_the_mast_begins_without_a_fix() {
    let recording = record(Device::WindMast, 1, 40, &Faults::none());
    let fixes: Vec<&Fact> = recording
        .truth
        .iter()
        .filter(|truth| truth.kind == "gga")
        .filter_map(|truth| truth.fields.iter().find(|(name, _)| *name == "fix").map(|(_, fact)| fact))
        .collect();
    assert_eq!(fixes.len(), 40);
    assert!(fixes[..20].iter().all(|fix| **fix == Fact::from("none")));
    assert!(fixes[20..].iter().all(|fix| **fix == Fact::from("gps")));
}

#[test]
fn truth_is_written_as_json() {
    let recording = record(Device::RopeTension, 3, 5, &Faults::none());
    let status = recording.truth.iter().find(|truth| truth.kind == "status").unwrap();
    let json = status.to_json();
    assert!(json.starts_with(&format!(
        "{{\"kind\":\"status\",\"offset\":{},\"length\":{}",
        status.offset.unwrap(),
        status.length
    )));
    assert!(json.contains("\"serial\":\"HRT0042\"") && json.contains("\"peaks\":["));
    assert_eq!(json.matches('{').count(), json.matches('}').count());
}
