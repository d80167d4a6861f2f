//! The search for line settings, and the signs of wrong ones, on simulated lines in simulated time.

use usus::Span;
use usus::format::{Parity, Serial};
use usus::survey::{Clue, Heard, Ratio, Speeds, clues};
use usus_io::{Found, Receiver, SearchOptions, search};
use usus_sim::{Device, LiveFaults, LiveLine, Settings};

use crate::simulated_receiver::SimulatedReceiver;

fn receiver(device: Device, settings: Settings, faults: bool) -> SimulatedReceiver {
    let line = LiveLine::with_settings(device, settings, 1, LiveFaults::none());
    SimulatedReceiver::new(line, settings, 1, faults)
}

fn seek(device: Device, settings: &str, faults: bool) -> Found {
    let mut receiver = receiver(device, Settings::parse(settings).unwrap(), faults);
    let Ok(found) = search(&mut receiver, &SearchOptions::default(), &mut |_| {});
    found
}

/// Nearly all settings are found; at 9600 within 20 seconds of listening.
#[test]
fn settings_are_found() {
    let (mut all, mut right) = (0, 0);
    for device in Device::ALL {
        for baud in [4_800, 9_600, 57_600] {
            for format in ["8N1", "8E1", "8O1", "7E1", "7O1"] {
                if format.starts_with('7') && !matches!(device, Device::WindMast | Device::BrakeTester) {
                    continue;
                }
                let settings = format!("{baud} {format}");
                let found = seek(device, &settings, true);
                all += 1;
                right += usize::from(found.settings == Serial::parse(&settings));
                assert!(
                    baud != 9_600 || found.took < Span::from_nanoseconds(20_000_000_000),
                    "{settings}: {:?}",
                    found.took
                );
                assert!(!found.tried.is_empty() && found.speeds.len() > 10);
            }
        }
    }
    assert!(right * 100 >= all * 95, "{right} of {all}");
}

/// Without faults told, as on a pseudo-terminal, speeds are found from the contents alone.
#[test]
fn speeds_are_found_without_faults() {
    for device in Device::ALL {
        for baud in [2_400, 19_200, 115_200] {
            let settings = format!("{baud} 8N1");
            assert_eq!(
                seek(device, &settings, false).settings,
                Serial::parse(&settings),
                "{} {settings}",
                device.name()
            );
        }
    }
}

#[test]
fn a_silent_line_and_an_inverted_one_are_told() {
    let settings = Settings::plain(9_600);
    let silent = LiveLine::saying(settings, |_| Vec::new());
    let Ok(found) =
        search(&mut SimulatedReceiver::new(silent, settings, 1, true), &SearchOptions::default(), &mut |_| {});
    assert_eq!((found.settings, found.tried.len()), (None, 1));
    let inverted = Settings { inverted: true, ..settings };
    let Ok(found) = search(&mut receiver(Device::WindMast, inverted, true), &SearchOptions::default(), &mut |_| {});
    assert!(found.inverted && found.settings.is_none(), "{:?}", found.settings);
}

/// What is told of a thousand characters that were heard at 28800 8N1.
fn told(device: Device, settings: Settings, faults: bool) -> Vec<Clue> {
    let serial = Serial::parse("28800 8N1").unwrap();
    let long = Span::from_nanoseconds(30_000_000_000);
    let Ok(listened) = receiver(device, settings, faults).listen(serial, 1_000, long, long) else {
        panic!("it cannot fail")
    };
    clues(&Heard { serial, characters: listened.characters, faults }, &mut Speeds::new())
}

#[test]
fn a_recording_with_the_wrong_settings_looks_like_it() {
    let plain = |baud| Settings::plain(baud);
    for device in Device::ALL {
        for faults in [true, false] {
            assert_eq!(told(device, plain(28_800), faults), [], "{} at the right speed", device.name());
        }
        // A line that is slower than the receiver by a whole number is told with and without faults.
        for parts in [2, 3, 4, 8] {
            for faults in [true, false] {
                let expected = Clue::Speed { ratio: Ratio::new(1, parts), sure: true };
                let told = told(device, plain(28_800 / parts), faults);
                assert!(told.contains(&expected), "{} 1/{parts}: {told:?}", device.name());
            }
        }
        // At any wrong speed at least something is said where faults are told.
        for (sender, receiver) in [(3, 4), (4, 3), (3, 2), (2, 1), (4, 1)] {
            assert!(
                !told(device, plain(28_800 * sender / receiver), true).is_empty(),
                "{} {sender}/{receiver}",
                device.name()
            );
        }
    }
    let seven = Settings::parse("28800 7E1").unwrap();
    let clues = told(Device::BrakeTester, seven, true);
    assert!(matches!(clues[..], [Clue::SevenBits { parity: Parity::Even, .. }]), "{clues:?}");
    let odd = Settings::parse("28800 8O1").unwrap();
    let clues = told(Device::RopeTension, odd, true);
    assert!(matches!(clues[..], [Clue::EightBitsAndParity { parity: Parity::Odd, .. }]), "{clues:?}");
    let inverted = Settings { inverted: true, ..plain(28_800) };
    assert!(told(Device::WindMast, inverted, true).contains(&Clue::Inverted));
    assert!(told(Device::WindMast, inverted, false).contains(&Clue::Inverted));
}

/// Binary data of many sorts, recorded with the right settings but without faults: it must not look like the wrong speed.
#[test]
fn sound_binary_data_raises_no_alarm() {
    let numbers = |count: u32, each: &dyn Fn(u32) -> Vec<u8>| (0..count).flat_map(each).collect::<Vec<u8>>();
    let wave = |index: u32| (index as f32 * 0.05).sin() * 20.0 + 231.0;
    let mut speeds = Speeds::new();
    let mut rng = fastrand::Rng::with_seed(3);
    let random: Vec<i16> = (0..500).map(|_| rng.i16(-300..300)).collect();
    for (name, bytes) in [
        ("16-bit samples", random.iter().flat_map(|sample| sample.to_be_bytes()).collect()),
        ("floats, big end first", numbers(250, &|index| wave(index).to_be_bytes().to_vec())),
        ("floats, little end first", numbers(250, &|index| wave(index).to_le_bytes().to_vec())),
        ("counters", numbers(250, &|index| (index * 37 + 100_000).to_be_bytes().to_vec())),
        ("decimal digits in pairs", numbers(900, &|index| vec![(index * 7 % 10) as u8 * 16 + (index * 3 % 10) as u8])),
        (
            "packets",
            numbers(80, &|index| vec![0xAA, 0x55, 11, index as u8, 0, 1, 9, index as u8 % 7, 0x1F, 0x40, !index as u8]),
        ),
        (
            "a start byte marked by its top bit",
            numbers(300, &|index| vec![0x80 | (index >> 7) as u8, index as u8 & 0x7F, 0x20]),
        ),
        ("nothing but zeros", vec![0; 1_000]),
        ("mostly ones", numbers(1_000, &|index| vec![if index % 7 == 0 { index as u8 } else { 0xFF }])),
        ("a picture", std::fs::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/screenshots/check.png")).unwrap()),
    ] {
        let characters = bytes.into_iter().take(2_000).map(usus::survey::Character::sound).collect();
        let heard = Heard { serial: Serial::parse("9600 8N1").unwrap(), characters, faults: false };
        assert_eq!(clues(&heard, &mut speeds), [], "{name}");
    }
}
