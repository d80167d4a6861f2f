//! Frames inside of frames: what a device sends, packed into parcels by encoders of this file, comes out as if it had been captured itself.

use fastrand::Rng;
use usus::format::{Check, CheckForm, Cut, Field, FieldType, Frame, Integer, Length, LengthField, Order, Record, Side};
use usus::{Format, Ledger, Plan};

use crate::drive::{Input, run};

/// CRC-16/XMODEM, bit by bit.
fn crc(bytes: &[u8]) -> [u8; 2] {
    let mut crc = 0u16;
    for byte in bytes {
        crc ^= u16::from(*byte) << 8;
        for _ in 0..8 {
            crc = if crc & 0x8000 == 0 { crc << 1 } else { crc << 1 ^ 0x1021 };
        }
    }
    crc.to_be_bytes()
}

/// A parcel: who sends it, its number, and what it carries.
fn parcel(sender: u8, number: u8, load: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0x7E, load.len() as u8 + 4, sender, number];
    bytes.extend(load);
    bytes.extend(crc(&bytes));
    bytes
}

/// The same format, of which all frames lie inside of parcels; nothing where it speaks of lines, or of silences and breaks.
fn packed(format: &Format) -> Option<Plan> {
    let mut format = format.clone();
    let timed = |frame: &Frame| {
        matches!(frame.cut, Cut::Idle { .. } | Cut::Break { .. } | Cut::Text { idle: Some(_), .. })
            || frame.on.is_some()
    };
    let cleaned = !format.clean.is_empty();
    let too_many = format.frames.len() >= usus::limits::FRAMES || format.limits.frame.is_some_and(|limit| limit < 300);
    if cleaned || too_many || !format.lines.is_empty() || format.frames.iter().any(timed) {
        return None;
    }
    let first = format.frames.first()?.name.clone();
    for frame in format.records.iter_mut().flat_map(|record| {
        let variants = record.variants.iter_mut().map(|variant| &mut variant.frame);
        std::iter::once(&mut record.frame).chain(variants)
    }) {
        frame.get_or_insert(first.as_str().into());
    }
    for exchange in &mut format.exchanges {
        let sides = exchange.asks.iter_mut().chain(&mut exchange.answers).chain(&mut exchange.errors);
        for side in sides {
            if let Side::Own(record) = side {
                record.frame.get_or_insert(first.as_str().into());
            }
        }
    }
    for ignore in &mut format.ignores {
        ignore.frame.get_or_insert(first.as_str().into());
    }
    for frame in &mut format.frames {
        frame.inside.get_or_insert("around.load".into());
    }
    let byte = Integer { signed: false, bytes: 1, order: Order::Big };
    let length = Length::Fields([LengthField::new(1, byte, 2)].into());
    let mut frame = Frame::new("parcel_around", Cut::Packet { start: [0x7E].into(), length, end: None });
    let word = Integer { signed: false, bytes: 2, order: Order::Big };
    frame.checksums.push(Check::new("CRC-16/XMODEM", CheckForm::Binary(word)));
    format.frames.push(frame);
    let mut record = Record::new("around");
    record.frame = Some("parcel_around".into());
    for name in ["sender", "number", "load"] {
        let mut field = Field::new(name);
        field.kind = Some(if name == "load" { FieldType::Bytes } else { FieldType::Integer(byte) }.into());
        field.counter = name == "number";
        record.fields.push(field);
    }
    format.records.push(record);
    format.examples.clear();
    Some(format.compile().unwrap_or_else(|problems| panic!("{problems}")))
}

/// An event as it would be told of the line around.
fn one_line_further_out(event: String) -> String {
    match event.split_once(" line=") {
        Some((before, rest)) => {
            let (line, behind) = rest.split_once(' ').unwrap_or((rest, ""));
            match line.parse::<usize>().unwrap() - 1 {
                0 => format!("{before} {behind}").trim_end().to_owned(),
                line => format!("{before} line={line} {behind}").trim_end().to_owned(),
            }
        }
        None => event,
    }
}

/// Whether what a format gives is the same where its frames lie inside of parcels.
pub fn packed_says_the_same(format: &str, bytes: &[u8], rng: &mut Rng) {
    let format = Format::parse(format).unwrap();
    let Some(plan) = packed(&format) else { return };
    let (mut parcels, mut from, mut number) = (Vec::new(), 0, rng.u8(..));
    while from < bytes.len() {
        let most = rng.choice([3, 20, 200]).unwrap();
        let to = (from + rng.usize(0..most)).min(bytes.len());
        parcels.extend(parcel(9, number, &bytes[from..to]));
        (from, number) = (to, number.wrapping_add(1));
    }
    let plain = run(&format.compile().unwrap(), &Input::raw(bytes), &mut || usize::MAX);
    let mut piece = || rng.usize(1..300);
    let (events, ledgers) = run(&plan, &Input::raw(&parcels), &mut piece);
    let inside: Vec<String> =
        events.into_iter().filter(|event| !event.contains(" around sender=")).map(one_line_further_out).collect();
    assert_eq!(inside, plain.0, "{}", format.to_toml());
    assert_eq!(ledgers[0].recorded, parcels.len() as u64);
    let without_around = |ledger: &Ledger| {
        let mut ledger = ledger.clone();
        ledger.records.remove(format.records.len());
        ledger
    };
    if !bytes.is_empty() {
        assert_eq!(ledgers[1..].iter().map(without_around).collect::<Vec<_>>(), plain.1);
    }
}

#[test]
fn all_cases_say_the_same_inside_of_parcels() {
    let mut rng = Rng::with_seed(7);
    let mut packed_ones = 0;
    for (format, bytes) in crate::cases::formats_and_streams() {
        let can_be = packed(&Format::parse(&format).unwrap()).is_some();
        packed_ones += usize::from(can_be);
        if can_be && bytes.len() < 20_000 {
            packed_says_the_same(&format, &bytes, &mut rng);
        }
    }
    assert!(packed_ones > 50, "only {packed_ones}");
}

/// Cabins that send lines, sentences and packets through one radio, whose parcels count or do not.
fn radio(counts: bool) -> Plan {
    let counter = if counts { ", counter = true" } else { "" };
    let text = format!(
        r#"
        format = "radio"
        [[frame]]
        name     = "parcel"
        cut      = "packet"
        start    = "7E"
        length   = {{ byte = 1, type = "u8", add = 2 }}
        checksum = {{ algorithm = "CRC-16/XMODEM", type = "u16be" }}
        [[frame]]
        name     = "measured"
        inside   = "parcel.load"
        cut      = "packet"
        start    = "A5"
        length   = 8
        checksum = {{ algorithm = "CRC-16/XMODEM", type = "u16be" }}
        [[frame]]
        name     = "wind"
        inside   = "parcel.load"
        cut      = "nmea-0183"
        [[frame]]
        name     = "words"
        inside   = "parcel.load"
        cut      = "text"
        end      = "LF"
        [record.parcel]
        frame  = "parcel"
        series = "cabin"
        fields = [
          {{ name = "cabin", type = "u8" }},
          {{ name = "number", type = "u8"{counter} }},
          {{ name = "load", type = "bytes", internal = true }},
        ]
        [record.measured]
        frame  = "measured"
        fields = [ {{ name = "cabin", type = "u8" }}, {{ name = "run", type = "u32be" }} ]
        [record.wind]
        frame  = "wind"
        fields = [ {{ name = "cabin", column = 2 }}, {{ name = "run", type = "number" }} ]
        [record.words]
        frame  = "words"
        fields = [ {{ name = "cabin" }}, {{ name = "run", type = "number" }} ]
        "#
    );
    Format::parse(&text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}"))
}

/// What a cabin says, number by number: its bytes, and how it is to be read. Lines tell where they begin by the line before them only.
fn said(rng: &mut Rng, cabin: u8, run: u32) -> (Vec<u8>, String, bool) {
    let mut packet = vec![0xA5, cabin];
    packet.extend(run.to_be_bytes());
    packet.extend(crc(&packet));
    match rng.u32(0..3) {
        // What is left of a packet behind a gap would end a line there.
        0 if !packet.contains(&b'\n') => (packet, format!("measured cabin={cabin} run={run}"), false),
        1 => {
            let text = format!("GCWND,{cabin},{run}");
            let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
            (
                format!("${text}*{sum:02X}\r\n").into_bytes(),
                format!("wind cabin={cabin:?} run={run}", cabin = cabin.to_string()),
                false,
            )
        }
        _ => (
            format!("{cabin},{run}\n").into_bytes(),
            format!("words cabin={cabin:?} run={run}", cabin = cabin.to_string()),
            true,
        ),
    }
}

/// What a cabin has to send, and from where on what it sent was heard.
#[derive(Default)]
struct Cabin {
    number: u8,
    /// Bytes that wait to be sent, and all that were.
    waits: Vec<u8>,
    sent: usize,
    /// What was said: from byte to byte, as it is read, and whether it is a line.
    said: Vec<(usize, usize, String, bool)>,
    /// Places before which something is missing.
    gaps: Vec<usize>,
    heard: Vec<std::ops::Range<usize>>,
}

#[test]
fn what_lies_in_undamaged_parcels_is_found_and_nothing_is_invented() {
    for seed in 0..150 {
        let counts = seed % 2 == 0;
        let mut rng = Rng::with_seed(seed);
        let damage = [0, 20, 100][seed as usize % 3];
        let mut cabins: Vec<Cabin> = (0..3).map(|_| Cabin::default()).collect();
        let (mut bytes, mut carried) = (Vec::new(), 0);
        for run in 0..153 {
            let index = if run < 150 { rng.usize(0..cabins.len()) } else { run as usize - 150 };
            let cabin = &mut cabins[index];
            let (frame, read, is_line) = said(&mut rng, index as u8, run);
            let from = cabin.sent + cabin.waits.len();
            cabin.said.push((from, from + frame.len(), read, is_line));
            cabin.waits.extend(frame);
            // What waits at the end goes out, too.
            while cabins[index].waits.len() > if run < 150 { 40 } else { 0 } {
                let cabin = &mut cabins[index];
                let load: Vec<u8> = cabin.waits.drain(..rng.usize(1..=cabin.waits.len().min(40))).collect();
                let range = cabin.sent..cabin.sent + load.len();
                cabin.sent = range.end;
                let mut one = parcel(index as u8, cabin.number, &load);
                cabin.number = cabin.number.wrapping_add(1);
                // Where a line begins in the recording, only its first byte can tell.
                if cabin.number == 1 || rng.u32(0..1_000) >= damage {
                    // Now and then nobody answers, and it is sent again.
                    let times = if counts && rng.u32(0..20) == 0 { 2 } else { 1 };
                    bytes.extend(one.repeat(times));
                    carried += load.len() * times;
                    cabin.heard.push(range);
                    continue;
                }
                match rng.u32(0..if counts { 3 } else { 2 }) {
                    // Not the last byte, which the next parcel's first may stand in for.
                    0 => drop(one.remove(rng.usize(0..one.len() - 1))),
                    1 => one[rng.usize(0..load.len() + 6)] ^= 1 << rng.u32(0..8),
                    _ => one.clear(),
                }
                bytes.extend(&one);
                match counts {
                    true => cabin.gaps.push(range.end),
                    // Nobody can say whose it was.
                    false => cabins.iter_mut().for_each(|cabin| cabin.gaps.push(cabin.sent)),
                }
            }
        }
        check(&radio(counts), &bytes, &cabins, carried, counts, seed, damage);
    }
}

fn check(plan: &Plan, bytes: &[u8], cabins: &[Cabin], carried: usize, counts: bool, seed: u64, damage: u32) {
    let mut rng = Rng::with_seed(seed);
    let (events, ledgers) = run(plan, &Input::raw(bytes), &mut || rng.usize(1..500));
    let mut found = std::collections::BTreeSet::new();
    for event in events.iter().filter(|event| event.contains(" cabin=") && event.contains(" run=")) {
        let (_, event) = event.split_once(' ').unwrap();
        let event = match event.split_once(" line=") {
            Some((before, behind)) => format!("{before} {}", behind.split_once(' ').unwrap().1),
            None => event.to_owned(),
        };
        assert!(found.insert(event.clone()), "seed {seed}: {event} came twice");
    }
    let mut missing = 0;
    for cabin in cabins {
        for (from, to, read, is_line) in &cabin.said {
            let is_heard = (*from..*to).all(|at| cabin.heard.iter().any(|range| range.contains(&at)));
            let gap_within = cabin.gaps.iter().any(|gap| (from + 1..*to).contains(gap));
            // The line behind a gap may have begun in it, until a line has ended or another frame has come.
            let shields = |gap: usize| {
                let mut between = cabin.said.iter().filter(|(_, end, ..)| (gap + 1..=*from).contains(end));
                between.any(|(begin, _, read, _)| *begin >= gap || !read.starts_with("measured"))
            };
            let begins_behind_gap = *is_line && cabin.gaps.iter().any(|gap| gap <= from && !shields(*gap));
            let is_there = found.remove(read);
            match (is_heard && !gap_within && !begins_behind_gap, is_there) {
                (true, false) => {
                    panic!("seed {seed}, damage {damage}, counts {counts}: {read} is missing\n{}", events.join("\n"))
                }
                (false, false) => missing += 1,
                _ => {}
            }
        }
    }
    assert!(found.is_empty(), "seed {seed}: invented {found:?}");
    assert!(damage > 0 || missing == 0, "seed {seed}: {missing} missing");
    let inside: u64 = ledgers[1..].iter().map(|ledger| ledger.total).sum();
    assert_eq!(inside, carried as u64, "seed {seed}: what lies inside is what the parcels carried");
}
