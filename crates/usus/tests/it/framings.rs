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

/// Frames that were sent, some of them damaged: the bytes, and what undamaged ones say, and what any says.
fn stream(rng: &mut Rng, device: &Device, damage: u32) -> (Vec<u8>, Vec<String>, Vec<String>) {
    let (mut bytes, mut whole, mut all) = (Vec::new(), Vec::new(), Vec::new());
    let mut last_is_whole = !device.leans_on_the_last;
    for number in 0..200 {
        let length = rng.usize(0..40);
        let data: Vec<u8> = (0..length).map(|_| one_of(rng, [0xC0, 0xDB, 0xDC, 2, 3, b'W'])).collect();
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
                whole.push(shown);
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
    for (index, device) in DEVICES.iter().enumerate() {
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
            let missing: Vec<&String> = whole.iter().filter(|shown| !records.contains(&shown.as_str())).collect();
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
