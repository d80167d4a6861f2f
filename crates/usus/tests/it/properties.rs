//! Properties that hold for every format and every input, tried on the shipped and the demo formats with damaged and random streams.

use fastrand::Rng;
use proptest::prelude::*;
use usus::{Format, Plan};
use usus_sim::{Device, Faults, record};

use crate::drive::{Drive, Input, run};

/// The shipped and the demo formats, each with the device that speaks it. Nothing is made of several frames: what is held does not follow from a place alone.
pub fn formats() -> Vec<(Format, Plan, Device)> {
    let texts = [
        (usus::SHIPPED[0].1, Device::WindMast),
        (Device::RopeTension.format().unwrap(), Device::RopeTension),
        (Device::ValleyStation.format().unwrap(), Device::ValleyStation),
    ];
    texts
        .into_iter()
        .map(|(text, device)| {
            let mut format = Format::parse(text).unwrap();
            format.multiparts.clear();
            let plan = format.compile().unwrap();
            (format, plan, device)
        })
        .collect()
}

/// About so many bytes of a device, badly treated: faults, pieces left out, doubled or swapped in, random bytes, start patterns.
pub fn stream(device: Device, rng: &mut Rng, length: usize) -> Vec<u8> {
    let faults = Faults { cut_start: rng.usize(0..30), flipped: 0.004, lost: 0.003, noise: 0.1 };
    let source = record(device, rng.u64(..), 30, &faults).bytes();
    let mut bytes = Vec::new();
    while bytes.len() < length {
        match rng.u32(0..12) {
            0 => bytes.extend((0..rng.usize(0..20)).map(|_| rng.u8(..))),
            1 => bytes.extend_from_slice(
                rng.choice([&b"\xA5\x5A"[..], b"\xA5", b"\x7E\x81", b"$", b"!", b"*", b"\r", b"\r\n", b"boot "])
                    .unwrap(),
            ),
            _ => {
                let from = rng.usize(0..source.len());
                bytes.extend_from_slice(&source[from..(from + rng.usize(1..250)).min(source.len())]);
            }
        }
    }
    bytes
}

/// A format, and a stream made for it.
fn any_stream() -> impl Strategy<Value = (usize, Vec<u8>)> {
    let made = (0..3usize, any::<u64>(), 0..3_000usize)
        .prop_map(|(index, seed, length)| (index, stream(Device::ALL[index], &mut Rng::with_seed(seed), length)));
    let random = (0..3usize, proptest::collection::vec(any::<u8>(), 0..600));
    let starts = (
        0..3usize,
        proptest::collection::vec(prop::sample::select(b"$!*\r\nA5Z\xA5\x5A\x08\x01\x7E\x81:#".to_vec()), 0..600),
    );
    prop_oneof![4 => made, 1 => random, 1 => starts]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    /// The ledger is looked at after each chunk by the driver, pending bytes against the plan's bound too.
    #[test]
    fn chunking_changes_nothing_and_the_ledger_balances((index, bytes) in any_stream(), seed: u64) {
        let (_, plan, _) = &formats()[index];
        let whole = run(plan, &Input::raw(&bytes), &mut || usize::MAX);
        let mut rng = Rng::with_seed(seed);
        prop_assert_eq!(&run(plan, &Input::raw(&bytes), &mut || rng.usize(1..60)), &whole);
        prop_assert_eq!(&run(plan, &Input::raw(&bytes), &mut || 1), &whole);
    }

    #[test]
    fn decoders_that_agree_at_a_place_go_on_alike((index, bytes) in any_stream(), cut in 0.0..1.0f64) {
        let (_, plan, _) = &formats()[index];
        let start = (bytes.len() as f64 * cut) as usize;
        let mut first = Drive::new(plan);
        let mut second = Drive::starting_at(plan, start as u64);
        first.feed("", None, &bytes[..start], &[]);
        second.line("");
        let mut joined = None;
        for piece in bytes[start..].chunks(5) {
            first.feed("", None, piece, &[]);
            second.feed("", None, piece, &[]);
            if joined.is_none() && first.join() == second.join() {
                joined = Some((first.events.len(), second.events.len()));
            }
        }
        first.finish();
        second.finish();
        let told = |events: &[String]| events.iter().filter(|event| !event.contains("should be")).cloned().collect::<Vec<_>>();
        if let Some((of_first, of_second)) = joined {
            prop_assert_eq!(told(&first.events[of_first..]), told(&second.events[of_second..]));
        }
    }

    /// An undamaged frame is found, whatever stands around it, or lies under another frame whose own checksum holds.
    #[test]
    fn damage_is_local(index in 0..3usize, seed: u64, before in any_stream(), after in any_stream()) {
        let (_, plan, device) = &formats()[index];
        let recording = record(*device, seed, 6, &Faults::none());
        let sound = recording.bytes();
        let pick = recording.truth.iter().filter(|truth| truth.protected).nth(seed as usize % 4).unwrap();
        let from = pick.offset.unwrap() as usize;
        let frame = &sound[from..from + pick.length as usize];
        let bytes = [&before.1, frame, &after.1].concat();
        let (events, _) = run(plan, &Input::raw(&bytes), &mut || usize::MAX);
        let (start, end) = (before.1.len(), before.1.len() + frame.len());
        // Frames that the format ignores are no events, so look at what is not lost: a byte that neither a reject nor a text took
        // belongs to the frame itself, or to another one with a checksum that covers its beginning or end.
        let taken = |place: usize| {
            events.iter().filter(|event| [" reject,", " clipped:", " boot "].iter().any(|class| event.contains(class))).any(|event| {
                let (offset, rest) = event.split_once('+').unwrap();
                let length: usize = rest.split(' ').next().unwrap().parse().unwrap();
                let offset: usize = offset.parse().unwrap();
                (offset..offset + length).contains(&place)
            })
        };
        prop_assert!(!(start..end).all(taken), "{} at {start} is lost: {events:#?}", frame.escape_ascii());
    }

    /// Whatever stands in a format file, reading and compiling it ends with a plan or with problems; a plan decodes anything.
    #[test]
    fn any_format_text_is_survived(edits in proptest::collection::vec((any::<prop::sample::Index>(), "[a-z0-9\\[\\]{}=\", \n.'-]{0,6}"), 1..6), index in 0..3usize, bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        let texts = [
            usus::SHIPPED[0].1,
            Device::RopeTension.format().unwrap(),
            Device::ValleyStation.format().unwrap(),
        ];
        let mut text = texts[index].to_owned();
        for (at, edit) in edits {
            let mut at = at.index(text.len());
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            let mut end = (at + edit.len()).min(text.len());
            while !text.is_char_boundary(end) {
                end += 1;
            }
            text.replace_range(at..end, &edit);
        }
        if let Ok(format) = Format::parse(&text) && let Ok(plan) = format.compile() && !format.frames.is_empty() {
            plan.run_examples(&format);
            format.doubts();
            let explained = format.explain(None, &bytes, bytes.len() % 2 == 0).unwrap_or_default();
            prop_assert!(explained.iter().all(|piece| piece.record.is_some() || !piece.reason.is_empty()));
            if plan.roles().next().is_none() {
                run(&plan, &Input::raw(&bytes), &mut || 7);
            }
        }
    }
}
