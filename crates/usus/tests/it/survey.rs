//! Looking at a stream that nobody has declared: counts, bursts, periods, scores.

use proptest::prelude::*;
use usus::format::{Parity, Serial};
use usus::survey::{Character, Heard, Ratio, Speeds, Survey, characters, other_formats, score};
use usus::{Fault, FaultKind, Loss, Span, Time};

const CHARACTER: Span = Span::from_nanoseconds(1_000_000);

fn at(milliseconds: i64) -> Option<Time> {
    Some(Time::from_nanoseconds(milliseconds * 1_000_000))
}

#[test]
fn bursts_and_silences_are_those_of_the_line() {
    let mut survey = Survey::new(CHARACTER, None);
    // Bursts of three and five characters, each in two chunks; a character lasts a millisecond, ten of them end a burst.
    for (time, bytes) in [(3, 2), (4, 1), (103, 4), (108, 1), (203, 2), (204, 1)] {
        survey.chunk(at(time), &[0x55; 8][..bytes], &[]);
    }
    assert_eq!(survey.split(), Span::from_nanoseconds(10_000_000));
    let bursts = survey.bursts().unwrap();
    assert_eq!((bursts.count, bursts.least, bursts.most, bursts.commonest), (3, 3, 5, (3, 66)));
    let silences = survey.silences().unwrap();
    // From 4 to 103 less four characters, from 108 to 203 less two.
    assert_eq!((silences.least, silences.most), (93_000_000, 95_000_000));
    let distances = survey.distances().unwrap();
    assert_eq!((distances.count, distances.least, distances.most), (2, 98_000_000, 102_000_000));
    // A loss ends a burst, and what was silent across it is not known.
    survey.loss(Loss::Reopened);
    survey.chunk(at(900), &[1], &[]);
    assert_eq!((survey.losses(), survey.silences().unwrap().count, survey.bursts().unwrap().count), (1, 2, 4));
    assert_eq!(survey.times(), Some((at(3).unwrap(), at(900).unwrap())));
}

#[test]
fn a_line_without_times_has_no_bursts() {
    let mut survey = Survey::new(Span::default(), None);
    survey.chunk(None, b"abc", &[]);
    assert_eq!((survey.silences(), survey.distances(), survey.times()), (None, None, None));
}

/// The commonest and the median do not drift however long it goes on, and the memory does not grow.
#[test]
fn spreads_stay_true_over_many_values() {
    let mut survey = Survey::new(CHARACTER, None);
    for index in 0..100_000 {
        let length = if index % 3 == 0 { 7 } else { 12 };
        survey.chunk(at(index * 100), &[0; 12][..length], &[]);
    }
    let bursts = survey.bursts().unwrap();
    assert_eq!((bursts.count, bursts.least, bursts.most, bursts.median), (100_000, 7, 12, 12));
    assert!(bursts.commonest.0 == 12 && (60..72).contains(&bursts.commonest.1), "{bursts:?}");
    assert!(survey.sample().len() <= 8_192);
}

#[test]
fn repetition_is_found_at_its_shortest_distance() {
    let mut rng = fastrand::Rng::with_seed(5);
    let mut packets = |length: usize| -> Vec<u8> {
        (0..4_000).map(|index| *[0xA5, 0x5A, 8].get(index % length).unwrap_or(&rng.u8(..))).collect()
    };
    for length in [5, 13, 31] {
        let mut survey = Survey::new(CHARACTER, None);
        survey.chunk(None, &packets(length), &[]);
        let period = survey.period().unwrap_or_else(|| panic!("nothing repeats at {length}"));
        assert_eq!(period.bytes, length, "{period:?}");
    }
    let mut survey = Survey::new(CHARACTER, None);
    let mut rng = fastrand::Rng::with_seed(6);
    survey.chunk(None, &(0..8_000).map(|_| rng.u8(..)).collect::<Vec<u8>>(), &[]);
    assert_eq!(survey.period(), None, "chance does not repeat");
    survey = Survey::new(CHARACTER, None);
    survey.chunk(None, b"ab", &[]);
    assert_eq!(survey.period(), None);
}

#[test]
fn characters_carry_their_faults() {
    let faults = [(0, FaultKind::Break), (0, FaultKind::Parity), (2, FaultKind::Framing), (3, FaultKind::Break)];
    let faults = faults.map(|(at, kind)| Fault { at, kind });
    let got: Vec<(u8, Option<FaultKind>)> = characters(b"abc", &faults).map(|one| (one.byte, one.fault)).collect();
    let expected = [
        (0, Some(FaultKind::Break)),
        (b'a', Some(FaultKind::Parity)),
        (b'b', None),
        (b'c', Some(FaultKind::Framing)),
        (0, Some(FaultKind::Break)),
    ];
    assert_eq!(got, expected);
    let mut survey = Survey::new(CHARACTER, None);
    survey.chunk(None, b"abc", &faults);
    assert_eq!((survey.faults(), survey.sample().len()), ((1, 1, 2), 5));
}

fn heard(serial: &str, bytes: &[u8]) -> Heard {
    let characters = bytes.iter().copied().map(Character::sound).collect();
    Heard { serial: Serial::parse(serial).unwrap(), characters, faults: true }
}

#[test]
fn scores_order_what_was_heard() {
    let sentences = b"$WIMWV,275.7,R,3.9,M,A*2D\r\n$WIMWV,271.9,R,4.8,M,V*36\r\n".repeat(2);
    let lines = b"Brake 1 force: 41.7 kN\r\nBrake 2 force: 40.2 kN\r\n".repeat(2);
    let binary: Vec<u8> = (0..100u8).map(|index| index.wrapping_mul(73)).collect();
    let points = |bytes: &[u8]| score(&heard("9600 8N1", bytes));
    assert!(points(&sentences).sentences > 0.9 && points(&sentences).points > 95.0);
    assert!(points(&lines).points > 95.0 && points(&lines).line_ends > 3.0);
    assert!(points(&binary).points < 60.0);
    assert_eq!(points(b"").points, 0.0);
    // Few characters are worth less, faults weigh most.
    assert!(points(&lines[..8]).points < points(&lines).points / 2.0);
    let mut faulty = heard("9600 8N1", &lines);
    faulty.characters.iter_mut().step_by(2).for_each(|character| character.fault = Some(FaultKind::Framing));
    assert!(score(&faulty).points < 30.0);
}

#[test]
fn the_eighth_bit_tells_the_parity_of_seven() {
    let text = b"Brake 1 force: 41.7 kN\r\nDelay: 175 ms\r\nResult: PASS\r\n";
    let with =
        |odd: u32| -> Vec<u8> { text.iter().map(|byte| byte | u8::from(byte.count_ones() % 2 != odd) << 7).collect() };
    for (bytes, expected) in [
        (with(0), (7, Parity::Even)),
        (with(1), (7, Parity::Odd)),
        (text.iter().map(|byte| byte | 0x80).collect(), (7, Parity::Mark)),
        (text.to_vec(), (8, Parity::None)),
    ] {
        let (serial, share) = other_formats(&heard("9600 8N1", &bytes))[0];
        assert_eq!((serial.data_bits, serial.parity), expected);
        assert!(share > 0.99);
    }
}

#[test]
fn speeds_need_something_to_go_by() {
    let mut speeds = Speeds::new();
    let few: Vec<Character> = b"few".iter().copied().map(Character::sound).collect();
    assert_eq!(speeds.distance(&few, Ratio::new(1, 2), false, true), None);
    let text: Vec<Character> =
        b"$WIMWV,275.7,R,3.9,M,A*2D\r\n".repeat(4).iter().copied().map(Character::sound).collect();
    let mut to = |sender, receiver| speeds.distance(&text, Ratio::new(sender, receiver), false, true).unwrap();
    assert!(to(1, 1) < 1.5 && to(1, 2) > 3.0 && to(2, 1) > 1.5);
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// However the bytes are split, they count the same.
    #[test]
    fn splitting_changes_no_count(
        bytes in prop::collection::vec(prop_oneof![Just(b'\r'), Just(b'\n'), any::<u8>()], 0..200),
        cuts in prop::collection::vec(0usize..200, 0..8),
    ) {
        let mut whole = Survey::new(CHARACTER, None);
        whole.chunk(None, &bytes, &[]);
        let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(bytes.len())).chain([0, bytes.len()]).collect();
        cuts.sort_unstable();
        let mut parts = Survey::new(CHARACTER, None);
        cuts.windows(2).for_each(|cut| parts.chunk(None, &bytes[cut[0]..cut[1]], &[]));
        prop_assert_eq!(whole.bytes(), parts.bytes());
        prop_assert_eq!(whole.counts(), parts.counts());
        prop_assert_eq!(whole.line_ends(), parts.line_ends());
        prop_assert_eq!(whole.sample(), parts.sample());
        let (crlf, lf, cr) = whole.line_ends();
        prop_assert_eq!(crlf * 2 + lf + cr, bytes.iter().filter(|byte| matches!(byte, b'\r' | b'\n')).count() as u64);
    }

    /// Nothing that was heard can do harm, and shares are shares.
    #[test]
    fn anything_can_be_scored(bytes in prop::collection::vec(any::<u8>(), 0..300), data_bits in 5u8..9, faults: bool) {
        let characters: Vec<Character> = bytes
            .iter()
            .map(|byte| Character { byte: *byte, fault: (byte % 5 == 0).then_some(FaultKind::Framing) })
            .collect();
        let serial = Serial { baud: 9_600, data_bits, parity: Parity::None, half_stop_bits: 2 };
        let heard = Heard { serial, characters, faults };
        let score = score(&heard);
        for share in [score.sound, score.text, score.sentences, score.repeated, score.points / 100.0] {
            prop_assert!((0.0..=1.0).contains(&share), "{:?}", score);
        }
        prop_assert!(other_formats(&heard).iter().all(|(_, share)| (0.0..=1.0).contains(share)));
    }
}
