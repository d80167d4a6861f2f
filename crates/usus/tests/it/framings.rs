//! Devices made up for one framing each, with what they sent known: every undamaged frame is found, exact, and none is invented, however the bytes
//! are split. The encoders share nothing with the decoder.

use fastrand::Rng;
use usus::checksum::Checksum;
use usus::{Format, Plan};

use crate::drive::{Input, run};

/// A device: its format, and how it sends a record.
struct Device {
    format: &'static str,
    /// The bytes of a frame, from a number that counts frames and some random ones.
    encode: fn(u32, &[u8]) -> Vec<u8>,
    /// What the decoder says of it.
    shows: fn(u32, &[u8]) -> String,
    /// Whether a frame needs the last byte of the one before it.
    leans_on_the_last: bool,
}

/// The winch's encoder over SLIP: a number and as many bytes as there are.
const WINCH: &str = r#"
    format = "winch"
    [[frame]]
    cut = "slip"
    checksum = { algorithm = "CRC-32/ISO-HDLC", type = "u32le" }
    [record.state]
    fields = [
      { name = "number", byte = 0, type = "u32be" },
      { name = "data", type = "bytes" },
    ]
"#;

/// The door counter's packets of text: a block check behind the end.
const COUNTER: &str = r#"
    format = "counter"
    limits = { line = 200 }
    [[frame]]
    cut       = "packet"
    start     = "STX"
    end       = "ETX"
    read      = "columns"
    separator = ";"
    checksum  = { algorithm = "CRC-16/XMODEM", type = "u16be", behind = true, through_end = true, from = 1 }
    [record.count]
    fields = [
      { name = "number", type = "number" },
      { name = "data", type = "text" },
    ]
"#;

/// Packets of bytes that end twice over: where their length says, and with an end.
const SCALE: &str = r#"
    format = "scale"
    limits = { frame = 200 }
    [[frame]]
    cut      = "packet"
    start    = "'W' 02"
    length   = { byte = 2, type = "u8", add = 3 }
    end      = "CR LF"
    checksum = { algorithm = "CRC-32/ISO-HDLC", type = "u32be" }
    [record.weight]
    fields = [
      { name = "number", byte = 3, type = "u32le" },
      { name = "data", type = "bytes" },
    ]
"#;

/// What is read of most of the others: a number and as many bytes as there are.
const NUMBERED: &str =
    "[record.state]\nfields = [{ name = 'number', byte = 0, type = 'u32be' }, { name = 'data', type = 'bytes' }]\n";

/// The rope counter's COBS frames.
const COBS: &str =
    "format = 'x'\n[[frame]]\ncut = 'cobs'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32le' }\n";

/// Flags and octet stuffing, with the longer check sequence.
const HDLC: &str =
    "format = 'x'\n[[frame]]\ncut = 'hdlc'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32le' }\n";

/// DLE STX ... DLE ETX, with the checksum stuffed like the rest.
const DLE_INSIDE: &str =
    "format = 'x'\n[[frame]]\ncut = 'dle'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be' }\n";

/// The same with the checksum behind, over all that was sent, the end included.
const DLE_BEHIND: &str = "format = 'x'\n[[frame]]\ncut = 'dle'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be', behind = true, through_end = true, over = 'sent' }\n";

/// What follows the first DLE belongs to the contents.
const DLE_ALONE: &str = "format = 'x'\n[[frame]]\ncut = 'dle'\nstart = 'DLE'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be' }\n[record.state]\nfields = [{ byte = 0, type = 'u8', equals = 0x41 }, { name = 'number', type = 'u32be' }, { name = 'data', type = 'bytes' }]\n";

/// SLIP with a checksum over the bytes as they are sent.
const SLIP_SENT: &str = "format = 'x'\n[[frame]]\ncut = 'slip'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be', over = 'sent' }\n";

/// Only the first byte of a packet has its highest bit set; numbers and checks are sent in seven bits and in digits.
const MASKED: &str = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = '80/80'\nlength = 24\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be', digits = 'hex' }\n[record.state]\nfields = [{ name = 'number', byte = 1, type = 'u40be', bits = '32-35,24-30,16-22,8-14,0-6' }, { name = 'data', type = 'bytes', width = 10 }]\n";

/// Several starts, and a length that counts words in some bits of a byte, and again in another place.
const TWICE: &str = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = ['A5 01', 'A5 02']\nlength = [{ byte = 2, type = 'u8', bits = '0-5', scale = 2, add = 12 }, { byte = 3, type = 'u8', bits = '0-5', scale = 2, add = 12 }]\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be' }\n[record.state]\nfields = [{ name = 'number', byte = 4, type = 'u32le' }, { name = 'data', type = 'bytes' }]\n";

/// Nothing but a length and a checksum.
const FIXED: &str = "format = 'x'\n[[frame]]\ncut = 'fixed'\nlength = 16\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be' }\n[record.state]\nfields = [{ name = 'number', byte = 0, type = 'u32be' }, { name = 'data', type = 'bytes', width = 8 }]\n";

/// Hex digits in lines, with blanks or without.
const HEX_LINES: &str = "format = 'x'\n[[frame]]\ncut = 'text'\nstart = \"'#'\"\ncoding = [{ step = 'hex', from = 1 }]\nread = 'bytes'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be', from = 1 }\n[record.state]\nfields = [{ name = 'number', byte = 1, type = 'u32be' }, { name = 'data', type = 'bytes' }]\n";

/// Hex digits between STX and ETX, whose checksum covers the digits.
const HEX_BETWEEN: &str = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'STX'\nend = 'ETX'\ncoding = [{ step = 'hex', from = 1 }]\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be', from = 1, over = 'sent' }\n[record.state]\nfields = [{ name = 'number', byte = 1, type = 'u32be' }, { name = 'data', type = 'bytes' }]\n";

/// A packet whose header tells which record it is, and so how long.
const BY_RECORD: &str = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'A6'\nlength = 'record'\nchecksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be' }\nheader = [{ name = 'type', type = 'u8', internal = true }]\n[record.long]\nwhen = 'type == 1'\nfields = [{ name = 'number', type = 'u32be' }, { name = 'data', type = 'bytes', width = 30 }]\n[record.state]\nwhen = 'type == 2'\nfields = [{ name = 'number', type = 'u32be' }, { name = 'count', type = 'u8', internal = true }, { name = 'data', type = 'u8', count = 'count' }]\n";

/// A number, bytes, and their checksum.
fn numbered(number: u32, data: &[u8]) -> Vec<u8> {
    checked([&number.to_be_bytes(), data].concat())
}

/// Bytes with their checksum behind them, high byte first.
fn checked(mut bytes: Vec<u8>) -> Vec<u8> {
    let sum = Checksum::named("CRC-32/ISO-HDLC").unwrap().of(&bytes) as u32;
    bytes.extend(sum.to_be_bytes());
    bytes
}

/// The same, low byte first.
fn checked_low_first(mut bytes: Vec<u8>) -> Vec<u8> {
    let sum = Checksum::named("CRC-32/ISO-HDLC").unwrap().of(&bytes) as u32;
    bytes.extend(sum.to_le_bytes());
    bytes
}

/// Blocks that begin with how long they are, with a zero behind all.
fn cobs(contents: &[u8]) -> Vec<u8> {
    let mut sent = Vec::new();
    for part in contents.split(|byte| *byte == 0) {
        let blocks = part.chunks(254);
        let mut last = 0;
        for block in blocks {
            sent.push(block.len() as u8 + 1);
            sent.extend(block);
            last = block.len();
        }
        if last == 0 || last == 254 {
            sent.push(1);
        }
    }
    sent.push(0);
    sent
}

fn hdlc(contents: &[u8]) -> Vec<u8> {
    let mut sent = Vec::new();
    for byte in contents {
        // Control characters are sent so, too, as some devices do.
        match byte {
            0x7E | 0x7D | 0..=3 => sent.extend([0x7D, byte ^ 0x20]),
            byte => sent.push(*byte),
        }
    }
    sent.push(0x7E);
    sent
}

fn doubled(contents: &[u8]) -> Vec<u8> {
    contents.iter().flat_map(|byte| if *byte == 0x10 { vec![0x10, 0x10] } else { vec![*byte] }).collect()
}

/// As many bytes of data, filled up.
fn of_length<const N: usize>(data: &[u8]) -> [u8; N] {
    std::array::from_fn(|place| data.get(place).copied().unwrap_or(0x10))
}

/// What is sent where only seven bits are.
fn in_seven_bits(number: u32, data: &[u8]) -> Vec<u8> {
    let mut sent = vec![0x91];
    sent.extend([28, 21, 14, 7, 0].map(|shift| (number >> shift) as u8 & 0x7F));
    sent.extend(of_length::<10>(data).map(|byte| byte & 0x7F));
    let sum = Checksum::named("CRC-32/ISO-HDLC").unwrap().of(&sent) as u32;
    sent.extend(format!("{sum:08X}").bytes());
    sent
}

fn in_words(number: u32, data: &[u8]) -> Vec<u8> {
    let words = data.len() / 2;
    let mut sent = vec![0xA5, 1 + number as u8 % 2, words as u8 | 0x40, words as u8 | 0x80];
    sent.extend(number.to_le_bytes());
    sent.extend(&data[..2 * words]);
    checked(sent)
}

/// Hex digits, of which some have blanks between them, or are small.
fn digits(bytes: &[u8], number: u32) -> String {
    let byte = |byte: &u8| match number % 3 {
        0 => format!("{byte:02X}"),
        1 => format!("{byte:02x}"),
        _ => format!("{byte:02X} "),
    };
    bytes.iter().map(byte).collect()
}

fn between_digits(number: u32, data: &[u8]) -> Vec<u8> {
    let covered = digits(&[&number.to_be_bytes(), data].concat(), number);
    let sum = Checksum::named("CRC-32/ISO-HDLC").unwrap().of(covered.as_bytes()) as u32;
    format!("\x02{covered}{sum:08X}\x03").into_bytes()
}

fn by_record(number: u32, data: &[u8]) -> Vec<u8> {
    let mut sent = vec![0xA6, 1 + number as u8 % 2];
    sent.extend(number.to_be_bytes());
    match number % 2 {
        0 => sent.extend(of_length::<30>(data)),
        _ => {
            sent.push(data.len() as u8);
            sent.extend(data);
        }
    }
    checked(sent)
}

fn state(number: u32, data: &[u8]) -> String {
    format!("state number={number} data={}", hex(data))
}

fn slip(contents: &[u8]) -> Vec<u8> {
    let mut sent = Vec::new();
    for byte in contents {
        match byte {
            0xC0 => sent.extend([0xDB, 0xDC]),
            0xDB => sent.extend([0xDB, 0xDD]),
            byte => sent.push(*byte),
        }
    }
    sent.push(0xC0);
    sent
}

fn winch(number: u32, data: &[u8]) -> Vec<u8> {
    let mut contents = [&number.to_be_bytes(), data].concat();
    let sum = Checksum::named("CRC-32/ISO-HDLC").unwrap().of(&contents) as u32;
    contents.extend(sum.to_le_bytes());
    slip(&contents)
}

fn hex(data: &[u8]) -> String {
    data.iter().map(|byte| format!("{byte:02X}")).collect()
}

fn counter(number: u32, data: &[u8]) -> Vec<u8> {
    let mut sent = format!("\x02{number};{}\x03", hex(data)).into_bytes();
    let sum = Checksum::named("CRC-16/XMODEM").unwrap().of(&sent[1..]) as u16;
    sent.extend(sum.to_be_bytes());
    sent
}

fn scale(number: u32, data: &[u8]) -> Vec<u8> {
    let mut sent = [&b"W\x02"[..], &[data.len() as u8 + 10], &number.to_le_bytes(), data].concat();
    let sum = Checksum::named("CRC-32/ISO-HDLC").unwrap().of(&sent) as u32;
    sent.extend(sum.to_be_bytes());
    sent.extend(b"\r\n");
    sent
}

/// What other devices send, as those in the table: format, encoder, what is shown, and whether the last byte of a frame begins the next.
type Other = (&'static str, fn(u32, &[u8]) -> Vec<u8>, fn(u32, &[u8]) -> String, bool);

/// A length behind a route whose hops are told before it.
const ROUTED: &str = r#"
    format = "routed"
    [[frame]]
    cut      = "packet"
    start    = "C1 C2"
    length   = { past = { byte = 2, type = "u8", bits = "0-3", scale = 2 }, byte = 3, type = "u16le", add = 9 }
    checksum = { algorithm = "CRC-32/ISO-HDLC", type = "u32be" }
    [record.state]
    fields = [
      { name = "hops", type = "u8", bits = "0-3", scale = 2, internal = true },
      { name = "route", type = "bytes", width = "hops", internal = true },
      { name = "size", type = "u16le", internal = true },
      { name = "number", type = "u32be" },
      { name = "data", type = "bytes" },
    ]
"#;

fn routed(number: u32, data: &[u8]) -> Vec<u8> {
    let route: Vec<u8> =
        data.iter().rev().copied().cycle().take(if data.is_empty() { 0 } else { number as usize % 16 * 2 }).collect();
    let mut sent = vec![0xC1, 0xC2, 0xA0 | (route.len() / 2) as u8];
    sent.extend(route);
    sent.extend((data.len() as u16 + 4).to_le_bytes());
    sent.extend(number.to_be_bytes());
    checked([&*sent, data].concat())
}

/// A length in digits, behind a name that a comma or a semicolon ends.
const STATION: &str = r#"
    format = "station"
    [[frame]]
    cut      = "packet"
    start    = "'>'"
    length   = { past = { byte = 1, until = ["','", "';'"] }, byte = 1, type = "number", width = 3, add = 8 }
    checksum = { algorithm = "CRC-32/ISO-HDLC", type = "u32be" }
    [record.state]
    fields = [
      { name = "station", type = "text", until = ["','", "';'"], internal = true },
      { name = "size", type = "number", width = 3, internal = true },
      { name = "number", type = "u32be" },
      { name = "data", type = "bytes" },
    ]
"#;

fn station(number: u32, data: &[u8]) -> Vec<u8> {
    let name = &"north-west-of-the-old-tower"[..number as usize % 28];
    let end = if number.is_multiple_of(3) { ',' } else { ';' };
    let front = format!(">{name}{end}{:03}", data.len() + 4);
    checked([front.as_bytes(), &number.to_be_bytes(), data].concat())
}

const OTHERS: [Other; 19] = [
    (ROUTED, routed, state, false),
    (STATION, station, state, false),
    (COBS, |number, data| cobs(&checked_low_first([&number.to_be_bytes(), data].concat())), state, true),
    (
        COBS,
        |number, data| [vec![0], cobs(&checked_low_first([&number.to_be_bytes(), data].concat()))].concat(),
        state,
        false,
    ),
    (HDLC, |number, data| hdlc(&checked_low_first([&number.to_be_bytes(), data].concat())), state, true),
    (
        HDLC,
        |number, data| [vec![0x7E], hdlc(&checked_low_first([&number.to_be_bytes(), data].concat()))].concat(),
        state,
        false,
    ),
    (DLE_INSIDE, |number, data| [&[0x10, 2], &*doubled(&numbered(number, data)), &[0x10, 3]].concat(), state, false),
    (
        DLE_BEHIND,
        |number, data| {
            let contents = doubled(&[&number.to_be_bytes(), data].concat());
            checked([&[0x10, 2], &*contents, &[0x10, 3]].concat())
        },
        state,
        false,
    ),
    (
        DLE_ALONE,
        |number, data| {
            let contents = checked([&[0x41], &number.to_be_bytes()[..], data].concat());
            [&[0x10], &*doubled(&contents), &[0x10, 3]].concat()
        },
        state,
        false,
    ),
    (
        SLIP_SENT,
        |number, data| {
            let mut sent = vec![0xC0];
            sent.extend(slip(&[&number.to_be_bytes(), data].concat()));
            sent.pop();
            let sum = Checksum::named("CRC-32/ISO-HDLC").unwrap().of(&sent[1..]) as u32;
            sent.extend(slip(&sum.to_be_bytes()));
            sent
        },
        state,
        false,
    ),
    (MASKED, in_seven_bits, |number, data| state(number, &of_length::<10>(data).map(|byte| byte & 0x7F)), false),
    (TWICE, in_words, |number, data| state(number, &data[..data.len() / 2 * 2]), false),
    (
        FIXED,
        |number, data| numbered(number, &of_length::<8>(data)),
        |number, data| state(number, &of_length::<8>(data)),
        false,
    ),
    (HEX_LINES, |number, data| format!("#{}\r\n", digits(&numbered(number, data), number)).into_bytes(), state, true),
    (HEX_BETWEEN, between_digits, state, false),
    (
        BY_RECORD,
        by_record,
        |number, data| match number % 2 {
            0 => format!("long number={number} data={}", hex(&of_length::<30>(data))),
            _ => {
                let items: String = data.iter().map(|byte| format!("[{byte}]")).collect();
                format!("state number={number} data={items}")
            }
        },
        false,
    ),
    // Long frames, so that blocks are full.
    (
        COBS,
        |number, data| cobs(&checked_low_first([&number.to_be_bytes(), &*long(data)].concat())),
        |number, data| state(number, &long(data)),
        true,
    ),
    (
        DLE_INSIDE,
        |number, data| [&[0x10, 2], &*doubled(&numbered(number, &long(data))), &[0x10, 3]].concat(),
        |number, data| state(number, &long(data)),
        false,
    ),
    (
        DLE_INSIDE,
        // Noise between frames that ends like the begin of one.
        |number, data| [&[0x10, 0x10], &[0x10, 2], &*doubled(&numbered(number, data)), &[0x10, 3], &[0x10]].concat(),
        state,
        false,
    ),
];

/// More of the same bytes.
fn long(data: &[u8]) -> Vec<u8> {
    data.iter().copied().cycle().take(15 * data.len()).collect()
}

/// The devices of the table, and the others.
fn devices() -> Vec<Device> {
    let others = OTHERS.iter().map(|(format, encode, shows, leans_on_the_last)| {
        let is_whole = format.contains("[record.");
        let format = if is_whole { (*format).to_owned() } else { format!("{format}{NUMBERED}") };
        Device {
            format: Box::leak(format.into_boxed_str()),
            encode: *encode,
            shows: *shows,
            leans_on_the_last: *leans_on_the_last,
        }
    });
    DEVICES.into_iter().chain(others).collect()
}

const DEVICES: [Device; 4] = [
    Device {
        format: WINCH,
        encode: winch,
        shows: |number, data| format!("state number={number} data={}", hex(data)),
        leans_on_the_last: true,
    },
    // The same with an END before each frame, too.
    Device {
        format: WINCH,
        encode: |number, data| [vec![0xC0], winch(number, data)].concat(),
        shows: |number, data| format!("state number={number} data={}", hex(data)),
        leans_on_the_last: false,
    },
    Device {
        format: COUNTER,
        encode: counter,
        shows: |number, data| match data {
            [] => format!("count number={number} data=<empty>"),
            data => format!("count number={number} data={:?}", hex(data)),
        },
        leans_on_the_last: false,
    },
    Device {
        format: SCALE,
        encode: scale,
        shows: |number, data| format!("weight number={number} data={}", hex(data)),
        leans_on_the_last: false,
    },
];

/// One of some bytes, or any.
fn one_of<const N: usize>(rng: &mut Rng, bytes: [u8; N]) -> u8 {
    let any = rng.u8(..);
    bytes.get(rng.usize(0..=N)).copied().unwrap_or(any)
}

/// Frames that were sent, some of them damaged: the bytes; where undamaged ones are, and what they say; and what any says.
fn stream(rng: &mut Rng, device: &Device, damage: u32) -> (Vec<u8>, Vec<(usize, String)>, Vec<String>) {
    let (mut bytes, mut whole, mut all) = (Vec::new(), Vec::new(), Vec::new());
    let mut last_is_whole = !device.leans_on_the_last;
    for number in 0..200 {
        let length = rng.usize(0..40);
        let data: Vec<u8> =
            (0..length).map(|_| one_of(rng, [0xC0, 0xDB, 0xDC, 2, 3, b'W', 0x10, 0, 0x7E, 0x7D, 0xA5])).collect();
        let mut sent = (device.encode)(number, &data);
        let shown = (device.shows)(number, &data);
        all.push(shown.clone());
        if rng.u32(0..100) < damage {
            let place = rng.usize(0..sent.len());
            match rng.u32(0..3) {
                0 => sent[place] ^= 1 << rng.u32(0..8),
                1 => sent.truncate(place),
                _ => sent.splice(place..place, [rng.u8(..)]).for_each(drop),
            }
            last_is_whole = !device.leans_on_the_last;
        } else {
            // Behind a frame whose end may be missing, the first one is what is left of two.
            if last_is_whole {
                whole.push((bytes.len(), shown));
            }
            last_is_whole = true;
        }
        bytes.extend(sent);
    }
    (bytes, whole, all)
}

fn plan(format: &str) -> Plan {
    Format::parse(format).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}\n{format}"))
}

#[test]
fn every_undamaged_frame_is_found_and_none_is_invented() {
    for (index, device) in devices().iter().enumerate() {
        let plan = plan(device.format);
        for seed in 0..60 {
            let mut rng = Rng::with_seed(seed);
            let (bytes, whole, all) = stream(&mut rng, device, [0, 5, 30][seed as usize % 3]);
            let (events, _) = run(&plan, &Input::raw(&bytes), &mut || usize::MAX);
            let split = run(&plan, &Input::raw(&bytes), &mut || rng.usize(1..60)).0;
            assert_eq!(split, events, "device {index}, seed {seed}");
            let records: Vec<&str> = events
                .iter()
                .filter_map(|event| event.split_once(' ').map(|(_, said)| said))
                .filter(|said| said.contains("number="))
                .collect();
            // A frame that lost its last byte is sound all the same if the first one of the next is its like: that one is covered then.
            let places: Vec<(usize, usize)> = events
                .iter()
                .filter(|event| event.contains("number="))
                .filter_map(|event| {
                    let (from, length) = event.split_once(' ')?.0.split_once('+')?;
                    Some((from.parse().ok()?, length.parse().ok()?))
                })
                .collect();
            let is_covered = |begun: usize| places.iter().any(|(from, length)| *from < begun && begun < from + length);
            let missing: Vec<&(usize, String)> = whole
                .iter()
                .filter(|(begun, shown)| !records.contains(&shown.as_str()) && !is_covered(*begun))
                .collect();
            assert!(missing.is_empty(), "device {index}, seed {seed}: {missing:?}\n{events:#?}");
            let invented: Vec<&&str> =
                records.iter().filter(|record| !all.iter().any(|shown| shown == **record)).collect();
            assert!(invented.is_empty(), "device {index}, seed {seed}: {invented:?}");
        }
    }
}

/// A packet that seems to be long and fails must not cost its length again at the next byte.
#[test]
fn candidates_that_overlap_cost_little() {
    let cut = |kind: &str, start: &str, algorithm: &str, check: &str, name: usize| {
        format!(
            "[[frame]]\nname = 'f{name}'\ncut = 'packet'\nstart = '{start}'\nlength = {{ byte = 1, type = '{kind}' }}\n\
             checksum = {{ algorithm = '{algorithm}', type = '{check}' }}\n[record.r{name}]\nframe = 'f{name}'\n\
             fields = [{{ name = 'data', byte = 3, type = 'bytes' }}]\n"
        )
    };
    let sixteen: String = (0..16).map(|name| cut("u16be", "AA", "CRC-32/ISO-HDLC", "u32be", name)).collect();
    type Input = fn(usize, &mut Rng) -> u8;
    let inputs: [(&str, Input); 3] = [
        ("all alike", |_, _| 0xAA),
        ("random starts", |_, rng| rng.choice([0xAA, 0xAA, 0x10, 0x3F]).unwrap()),
        ("rising lengths", |place, _| if place % 3 == 0 { 0xAA } else { (place / 300) as u8 }),
    ];
    let formats = [
        cut("u16be", "AA", "CRC-32/ISO-HDLC", "u32be", 0),
        cut("u16be", "AA", "SUM-16", "u16be", 0),
        cut("u16be", "AA", "XOR-8", "u8", 0),
        cut("u16be", "AA", "CRC-16/XMODEM", "u16be", 0),
        sixteen,
    ];
    for (index, format) in formats.iter().enumerate() {
        let plan = plan(&format!("format = 'x'\nlimits = {{ frame = 60000 }}\n{format}"));
        let framings = if index == 4 { 16 } else { 1 };
        for (name, byte) in &inputs {
            let mut rng = Rng::with_seed(7);
            let bytes: Vec<u8> = (0..200_000 / framings).map(|place| byte(place, &mut rng)).collect();
            let mut decoder = usus::Decoder::new(&plan);
            let line = decoder.line("", 0).unwrap();
            for chunk in bytes.chunks(10_000) {
                let Ok(()) = decoder.decode(usus::Chunk::new(line, chunk), &mut |_: &usus::Record<'_>| {});
            }
            let Ok(()) = decoder.finish().drain(&mut |_: &usus::Record<'_>| {});
            // Two places for each candidate, at most sixteen bytes from one that is known, and each byte once or twice more.
            let most = (bytes.len() * framings * (2 + 2 * 16)) as u64;
            assert!(
                decoder.bytes_tested(line) <= most,
                "{name}, format {index}: {} of {most}",
                decoder.bytes_tested(line)
            );
        }
    }
}

/// What overlaps decide is what each alone would.
#[test]
fn overlapping_candidates_are_judged_as_each_alone() {
    let algorithms = [
        ("SUM-8", "u8", 1),
        ("SUM-16", "u16be", 2),
        ("XOR-8", "u8", 1),
        ("CRC-8/SMBUS", "u8", 1),
        ("CRC-16/MODBUS", "u16be", 2),
        ("CRC-16/XMODEM", "u16be", 2),
        ("CRC-24/BLE", "u24be", 3),
        ("CRC-32/ISO-HDLC", "u32be", 4),
        ("CRC-64/XZ", "u64be", 8),
        ("CRC-12/UMTS", "u16be", 2),
        ("CRC-5/USB", "u8", 1),
    ];
    for (algorithm, kind, size) in algorithms {
        let plan = plan(&format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = {{ byte = 1, type = 'u8' }}\n\
             checksum = {{ algorithm = '{algorithm}', type = '{kind}' }}\n[record.r]\n\
             fields = [{{ name = 'data', byte = 2, type = 'bytes' }}]\n"
        ));
        let checksum = Checksum::named(algorithm).unwrap();
        for seed in 0..20 {
            let mut rng = Rng::with_seed(seed);
            // False starts with long lengths, and behind them, inside of what they seem to be, a packet.
            let mut bytes: Vec<u8> = (0..rng.usize(0..300)).map(|_| one_of(&mut rng, [0xAA, 0xFE, 0xF0])).collect();
            let begun = bytes.len();
            let length = rng.usize(70..200);
            bytes.extend([0xAA, length as u8]);
            bytes.extend((0..length - 2 - size).map(|_| rng.u8(..)));
            let sum = checksum.of(&bytes[begun..]) as u64;
            bytes.extend(&sum.to_be_bytes()[8 - size..]);
            bytes.extend([0; 300]);
            let (events, _) = run(&plan, &Input::raw(&bytes), &mut || rng.usize(1..500));
            // A false start may be one by chance, where the checksum is small: then the packet may lie in it.
            let found = events.iter().any(|event| event.starts_with(&format!("{begun}+{length} r ")));
            let covered = events.iter().any(|event| {
                let place = event.split_once(' ').and_then(|(place, said)| said.starts_with("r ").then_some(place));
                let place = place.and_then(|place| place.split_once('+'));
                place.is_some_and(|(from, length)| {
                    let from: usize = from.parse().unwrap();
                    from < begun && from + length.parse::<usize>().unwrap() > begun
                })
            });
            assert!(found || covered, "{algorithm}, seed {seed}: {begun}+{length}\n{events:#?}");
        }
    }
}

/// Formats whose lengths leave room for nothing find nothing, and nothing else happens.
#[test]
fn lengths_that_leave_no_room_give_no_frames() {
    let frame = |keys: &str, limits: &str| {
        format!(
            "format = 'x'\nlimits = {{ {limits} }}\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nread = 'columns'\n{keys}\n\
             [record.r]\nfields = [{{ name = 'a' }}]"
        )
    };
    let behind = "checksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be', behind = true }";
    let formats = [
        frame(&format!("end = 'BB'\nlength = 2\n{behind}"), "line = 9"),
        frame(&format!("end = 'BB'\nlength = 6\n{behind}"), "line = 9"),
        frame(&format!("end = 'BB'\n{behind}"), "line = 1"),
        frame(&format!("end = 'BB'\nlength = {{ byte = 1, type = 'i8', add = -3 }}\n{behind}"), "frame = 1"),
        frame("end = 'BB CC'", "line = 1"),
        "format = 'x'\nlimits = { frame = 1 }\n[[frame]]\ncut = 'slip'\nchecksum = { algorithm = 'CRC-16/XMODEM', type = 'u16be' }\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'bytes' }]".to_owned(),
    ];
    for format in formats {
        let plan = plan(&format);
        let mut rng = Rng::with_seed(3);
        let bytes: Vec<u8> = (0..3_000).map(|_| one_of(&mut rng, [0xAA, 0xBB, 0xCC, 0xC0, 0xDB, 2])).collect();
        let whole = run(&plan, &Input::raw(&bytes), &mut || usize::MAX);
        assert_eq!(run(&plan, &Input::raw(&bytes), &mut || rng.usize(1..9)), whole, "{format}");
    }
}

/// A line that idles in ENDs keeps none of them, wherever that begins: each look at the ledger holds what is pending against the bound.
#[test]
fn endless_delimiters_are_not_kept() {
    let plan = plan(WINCH);
    let frame = winch(7, &[1, 2, 3]);
    let idle = vec![0xC0; 3 * (plan.largest_window() + 1)];
    for front in [&b""[..], b"noise", &frame] {
        let bytes = [front, &idle, &frame].concat();
        let (events, ledgers) = run(&plan, &Input::raw(&bytes), &mut || 10_000);
        assert_eq!(run(&plan, &Input::raw(&bytes), &mut || usize::MAX).0, events);
        let records = events.iter().filter(|event| event.contains("state number=7 data=010203")).count();
        assert_eq!(records, if front == frame { 2 } else { 1 }, "{events:?}");
        assert!(ledgers[0].balances());
    }
}

/// Bursts between silences, or between breaks, in pieces as adapters give them.
#[test]
fn bursts_are_found_between_silences_and_breaks() {
    let format = |cut: &str, check: &str| {
        format!("format = 'x'\nserial = '9600 8N1'\nlimits = {{ frame = 80 }}\n[[frame]]\n{cut}\n{check}\n{NUMBERED}")
    };
    let check = "checksum = { algorithm = 'CRC-32/ISO-HDLC', type = 'u32be' }";
    let cuts = [
        ("cut = 'idle'\nidle = '20 ms'", check),
        ("cut = 'idle'\nidle = '3.5 characters'", check),
        ("cut = 'break'", check),
        ("cut = 'break'", ""),
        ("cut = 'idle'\nidle = '20 ms'", ""),
    ];
    for (index, (cut, check)) in cuts.iter().enumerate() {
        let plan = plan(&format(cut, check));
        let by_break = cut.contains("break");
        assert_eq!((plan.needs_times(), plan.needs_breaks()), (!by_break, by_break));
        for seed in 0..60 {
            let mut rng = Rng::with_seed(seed);
            let (mut input, mut wanted, mut time, mut at) = (Vec::new(), Vec::new(), 0i64, 0);
            for number in 0..60u32 {
                let data: Vec<u8> = (0..rng.usize(0..30)).map(|_| rng.u8(..)).collect();
                let mut sent = match check.is_empty() {
                    true => [&number.to_be_bytes(), &*data].concat(),
                    false => numbered(number, &data),
                };
                let shown = format!("{at}+{} {}", sent.len(), state(number, &data));
                let damaged = !check.is_empty() && rng.u32(0..6) == 0;
                if damaged {
                    let place = rng.usize(0..sent.len());
                    sent[place] ^= 1 << rng.u32(0..8);
                }
                // Without a checksum, nothing vouches for the first one and the last; behind a break the first has begun.
                let is_vouched = !check.is_empty() || ((by_break || number > 0) && number < 59);
                if !damaged && is_vouched {
                    wanted.push(shown);
                }
                let mut rest = &sent[..];
                let mut faults =
                    if by_break { vec![usus::Fault { at: 0, kind: usus::FaultKind::Break }] } else { vec![] };
                while !rest.is_empty() {
                    let (piece, behind) = rest.split_at(rng.usize(1..=rest.len().min(15)));
                    time += piece.len() as i64 * 1_041_666;
                    let (bytes, faults) = (piece.to_vec(), std::mem::take(&mut faults));
                    input.push(Input::Bytes { role: String::new(), time: Some(time), bytes, faults });
                    rest = behind;
                }
                time += rng.i64(50_000_000..300_000_000);
                at += sent.len();
            }
            let events = crate::drive::run(&plan, &input, &mut || usize::MAX).0;
            let found: Vec<&String> = events.iter().filter(|event| event.contains(" state ")).collect();
            assert_eq!(found, wanted.iter().collect::<Vec<_>>(), "{index}, seed {seed}\n{events:#?}");
        }
    }
}

/// What looks like starts inside of stuffed contents costs little, however much of it there is.
#[test]
fn starts_inside_of_stuffed_contents_cost_little() {
    let plan =
        plan(&format!("{DLE_INSIDE}{NUMBERED}").replace("format = 'x'", "format = 'x'\nlimits = { frame = 60000 }"));
    let inputs: [Vec<u8>; 3] = [
        [0x10, 0x10, 2].repeat(60_000),
        [&[0x10, 2][..], &[0x10, 0x10, 2].repeat(15_000), &[0x10, 3]].concat().repeat(4),
        [0x10, 2, 7, 7].repeat(40_000),
    ];
    for (index, bytes) in inputs.iter().enumerate() {
        let mut decoder = usus::Decoder::new(&plan);
        let line = decoder.line("", 0).unwrap();
        for chunk in bytes.chunks(10_000) {
            let Ok(()) = decoder.decode(usus::Chunk::new(line, chunk), &mut |_: &usus::Record<'_>| {});
        }
        let Ok(()) = decoder.finish().drain(&mut |_: &usus::Record<'_>| {});
        let most = bytes.len() as u64 * 40;
        assert!(decoder.bytes_tested(line) <= most, "{index}: {} of {most}", decoder.bytes_tested(line));
    }
}
