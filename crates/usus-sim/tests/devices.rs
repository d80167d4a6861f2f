//! The simulated devices: the same seed gives the same stream, the truth is true of the bytes, and faults do what they say.

use usus_sim::{BEGIN, Device, Fact, Faults, LiveFaults, LiveLine, Received, Settings, WireFault, record};

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
        // What several messages say together, each of them says in part.
        for truth in recording.truth.iter().filter(|truth| truth.messages == 1 && truth.kind != "door") {
            let begin = truth.offset.expect("whole") as usize;
            assert!(begin >= end, "{truth:?} begins before {end}");
            end = begin + truth.length as usize;
            let frame = &bytes[begin..end];
            match truth.kind {
                "sample" | "status" => {
                    assert_eq!((&frame[..2], usize::from(frame[2]) + 5), (&b"\xA5\x5A"[..], frame.len()))
                }
                "sky" => {
                    let length = usize::from(u16::from_le_bytes([frame[2], frame[3]]));
                    assert_eq!(
                        (&frame[..2], length, 11 + 5 * usize::from(frame[8])),
                        (&b"\xC5\x5C"[..], frame.len(), length)
                    );
                }
                "blade" => assert!(frame.starts_with(b"BLADE ") && bytes[end..].starts_with(b"\r\n")),
                "state" => {
                    assert_eq!((frame[0], frame[1], frame[frame.len() - 1]), (0xC0, 1, 0xC0));
                    assert!(!frame[1..frame.len() - 1].contains(&0xC0));
                }
                "load" => assert_eq!((&frame[..2], frame.len()), (&b"\x7E\x81"[..], 14)),
                "boot" => assert!(frame.starts_with(b"boot ") && bytes[end..].starts_with(b"\r\n")),
                "report" => assert!(frame.starts_with(b"Brake test ") && bytes[end..].starts_with(b"\r\n")),
                "reading" => {
                    let is_short = frame.iter().filter(|byte| **byte == b';').count() == 5;
                    assert!(is_short || frame.starts_with(b"Reading "));
                    assert!(bytes[end..].starts_with(b"\r\n"));
                }
                "air" => {
                    assert!(
                        [&b"temp="[..], b"co2=", b"door="]
                            .iter()
                            .all(|key| frame.windows(key.len()).any(|part| part == *key))
                    );
                    assert!(bytes[end..].starts_with(b"\r\n"));
                }
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
    for device in Device::WITH_TRUTH {
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

/// What a receiver with those settings makes of a device with these, in so many milliseconds.
fn heard(device: Device, sends: &str, receives: &str, milliseconds: i64) -> Vec<Received> {
    let settings = |text| Settings::parse(text).unwrap();
    let mut line = LiveLine::with_settings(device, settings(sends), 3, LiveFaults::none());
    line.listen(0, settings(receives));
    let mut heard = Vec::new();
    // In small steps and at once is the same.
    for step in 1..=milliseconds {
        line.advance(step * 1_000_000, &mut |received| heard.push(received));
    }
    let mut whole = LiveLine::with_settings(device, settings(sends), 3, LiveFaults::none());
    let mut at_once = Vec::new();
    whole.listen(0, settings(receives));
    whole.advance(milliseconds * 1_000_000, &mut |received| at_once.push(received));
    assert_eq!(heard, at_once);
    heard
}

fn share(heard: &[Received], fault: WireFault) -> f64 {
    heard.iter().filter(|received| received.fault == Some(fault)).count() as f64 / heard.len() as f64
}

/// The right settings give what the device said, at every speed and in every character format.
#[test]
fn a_receiver_that_is_set_right_gets_every_byte() {
    for device in Device::ALL {
        for character in ["8N1", "8E1", "8O1", "8N2", "8M1", "8S1", "8N1.5"] {
            for baud in [1_200, 9_600, 57_600, 115_200] {
                let settings = format!("{baud} {character}");
                let heard = heard(device, &settings, &settings, 3_000);
                assert!(heard.iter().all(|received| received.fault.is_none()), "{} {settings}", device.name());
                let bytes: Vec<u8> = heard.iter().map(|received| received.byte).collect();
                let said = record(device, 3, 4, &Faults::none()).bytes();
                // A slow line leaves messages out.
                let first = bytes.len().min(60);
                assert!(first > 0 || device == Device::DriveAnswers);
                assert_eq!(bytes[..first], said[..first], "{} {settings}", device.name());
            }
        }
    }
}

/// What real receivers do with the wrong settings.
#[test]
fn a_receiver_that_is_set_wrong_gets_other_bytes_or_faults() {
    let text = |receives: &str| heard(Device::BrakeTester, "2400 7E1", receives, 2_000);
    // Seven bits and parity are read as eight bits: the parity bit is the eighth.
    for received in text("2400 8N1") {
        assert_eq!((received.fault, received.byte.count_ones() % 2), (None, 0));
    }
    assert_eq!(share(&text("2400 7O1"), WireFault::Parity), 1.0, "the other parity");
    assert!(text("2400 7E2").iter().all(|received| received.fault.is_none()), "a receiver looks at one stop bit");
    let cabinet = heard(Device::DriveRequests, "19200 8E1", "19200 8N1", 2_000);
    let faulty = share(&cabinet, WireFault::Framing) + share(&cabinet, WireFault::Break);
    assert!(faulty > 0.3, "the parity bit is taken for the stop bit, and a zero byte for a break");
    let slow = heard(Device::WindMast, "4800 8N1", "2400 8N1", 3_000);
    let fast = heard(Device::WindMast, "4800 8N1", "9600 8N1", 3_000);
    let right = heard(Device::WindMast, "4800 8N1", "4800 8N1", 3_000);
    assert!(slow.len() < right.len() && right.len() < fast.len());
    assert!(share(&slow, WireFault::Framing) > 0.2 && share(&fast, WireFault::Framing) > 0.2);
    // Two per cent beside the speed is well enough, ten is not.
    let beside = |baud: &str| heard(Device::WindMast, "4800 8N1", baud, 3_000);
    assert_eq!(beside("4896 8N1").iter().map(|received| received.byte).collect::<Vec<_>>().len(), right.len());
    assert!(beside("4896 8N1").iter().zip(&right).all(|(one, other)| one.byte == other.byte && one.fault.is_none()));
    assert!(share(&beside("5280 8N1"), WireFault::Framing) > 0.1);
}

#[test]
fn a_break_is_a_break_and_an_inverted_line_gives_nonsense() {
    let faults = LiveFaults { breaks: 1.0, ..LiveFaults::none() };
    let mut line = LiveLine::new(Device::WindMast, 3, faults);
    let mut heard = Vec::new();
    line.advance(5_000_000_000, &mut |received| heard.push(received));
    let breaks = heard.iter().filter(|received| received.fault == Some(WireFault::Break)).count();
    let sentences = heard.iter().filter(|received| received.byte == b'$').count();
    assert!(breaks >= 10 && breaks.abs_diff(sentences) <= 1, "{breaks} breaks, {sentences} sentences");
    assert!(heard.iter().all(|received| matches!(received.fault, None | Some(WireFault::Break))));
    let inverted = Settings { inverted: true, ..Device::WindMast.settings() };
    let mut line = LiveLine::with_settings(Device::WindMast, inverted, 3, LiveFaults::none());
    line.listen(0, Device::WindMast.settings());
    let mut bytes = Vec::new();
    line.advance(5_000_000_000, &mut |received| bytes.push(received.byte));
    assert!(bytes.iter().filter(|byte| byte.is_ascii_graphic()).count() * 2 < bytes.len());
}

#[test]
fn a_silent_device_is_silent_and_a_listener_may_come_late() {
    let faults = LiveFaults { silence: 15, ..LiveFaults::none() };
    let mut line = LiveLine::new(Device::RopeTension, 3, faults);
    let mut times = Vec::new();
    line.advance(60_000_000_000, &mut |received| times.push(received.time / 1_000_000_000));
    assert!(times.iter().all(|second| !(11..25).contains(second)));
    assert!(times.contains(&9) && times.contains(&26));
    // Whoever listens from the fifth second on gets what came from then on.
    let mut late = LiveLine::new(Device::RopeTension, 3, faults);
    let mut first = None;
    late.listen(5_000_000_000, Device::RopeTension.settings());
    late.advance(6_000_000_000, &mut |received| first = first.or(Some(received.time)));
    assert!(first.unwrap() >= 5_000_000_000);
}
