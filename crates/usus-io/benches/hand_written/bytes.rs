//! One state of a winch, framed and packed in the ways in which bytes can be declared: SLIP, COBS, bits one behind the other, a group, hex lines. Beside
//! each a plain decoder by hand; only decoding is timed.

use fastrand::Rng;
use memchr::memchr;
use usus::Format;

use crate::input;
use crate::packets::Crc;
use crate::sum::Sum;
use crate::{Extent, declared_decode, in_turn, say_decode};

/// A way to send a state.
struct Way {
    name: &'static str,
    format: &'static str,
    send: fn(&mut Rng, &Crc, &mut Vec<u8>),
    /// How many records an input has, and their values.
    decode: fn(&[u8], &Crc) -> (u64, Sum),
}

/// Contents of 14 bytes, and how they are read; the frame stands before it.
const STATE: &str = r#"
[record.state]
fields = [
  { name = "number",  byte = 0, type = "u16be" },
  { name = "clock",   type = "u32be", unit = "ms" },
  { name = "rope",    type = "i32be", scale = 0.001, unit = "m" },
  { name = "tension", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "motor",   type = "u8", unit = "°C" },
  { type = "u8", flags = { 0 = "brake", 7 = "fault" } },
]
"#;

const CHECK: &str = "checksum = { algorithm = 'CRC-16/MODBUS', type = 'u16le' }";

const WAYS: [Way; 5] = [
    Way {
        name: "slip",
        format: "[[frame]]\ncut = 'slip'\n",
        send: |rng, crc, out| {
            for byte in state(rng, crc) {
                match byte {
                    0xC0 => out.extend([0xDB, 0xDC]),
                    0xDB => out.extend([0xDB, 0xDD]),
                    byte => out.push(byte),
                }
            }
            out.push(0xC0);
        },
        decode: |input, crc| {
            by_delimiter(input, 0xC0, crc, |frame, contents| {
                let mut escaped = false;
                for &byte in frame {
                    match (escaped, byte) {
                        (false, 0xDB) => escaped = true,
                        (false, byte) => contents.push(byte),
                        (true, 0xDC) => (escaped = false, contents.push(0xC0)).0,
                        (true, 0xDD) => (escaped = false, contents.push(0xDB)).0,
                        (true, _) => return false,
                    }
                }
                !escaped
            })
        },
    },
    Way {
        name: "cobs",
        format: "[[frame]]\ncut = 'cobs'\n",
        send: |rng, crc, out| {
            // No block is longer than 254 bytes.
            for block in state(rng, crc).split(|byte| *byte == 0) {
                out.push(block.len() as u8 + 1);
                out.extend_from_slice(block);
            }
            out.push(0);
        },
        decode: |input, crc| {
            by_delimiter(input, 0, crc, |mut frame, contents| {
                while let Some((&code, rest)) = frame.split_first() {
                    let length = usize::from(code) - 1;
                    let Some((block, rest)) = rest.split_at_checked(length) else { return false };
                    contents.extend_from_slice(block);
                    if !rest.is_empty() && code < 0xFF {
                        contents.push(0);
                    }
                    frame = rest;
                }
                true
            })
        },
    },
    Way {
        name: "bits",
        format: r#"
            [[frame]]
            cut    = "packet"
            start  = "A5 5A"
            length = 12
            [record.state]
            fields = [
              { name = "rope",    type = "ib19", scale = 0.01, unit = "m" },
              { name = "tension", type = "b13", scale = 0.05, unit = "kN" },
              { name = "speed",   type = "ib11", scale = 0.01, unit = "m/s" },
              { name = "motor",   type = "b9" },
              { name = "mode",    type = "b3" },
              { name = "count",   type = "b9" },
            ]
        "#,
        send: |rng, crc, out| {
            let begin = out.len();
            out.extend([0xA5, 0x5A]);
            out.extend(rng.u64(..).to_be_bytes());
            let sum = crc.of(&out[begin..]);
            out.extend(sum.to_le_bytes());
        },
        decode: |input, crc| {
            by_start(
                input,
                crc,
                |_| Some(12),
                |packet, sum| {
                    let word = u64::from_be_bytes(*packet[2..].first_chunk::<8>()?);
                    sum.number(word as i64 >> 45);
                    sum.number((word >> 32 & 0x1FFF) as i64 * 5);
                    sum.number((word << 32) as i64 >> 53);
                    for (shift, bits) in [(12, 9), (9, 3), (0, 9)] {
                        sum.number((word >> shift & ((1 << bits) - 1)) as i64);
                    }
                    Some(())
                },
            )
        },
    },
    Way {
        name: "groups",
        format: r#"
            [[frame]]
            cut    = "packet"
            start  = "A5 5A"
            length = { byte = 2, type = "u8", add = 5 }
            [record.state]
            fields = [
              { name = "rope",  byte = 3, type = "i32be", scale = 0.001, unit = "m" },
              { name = "count", type = "u8", internal = true },
              { name = "drums", count = "count", fields = [
                { name = "turns", type = "u16be" },
                { name = "force", type = "i16be", scale = 0.1, unit = "kN" },
              ] },
            ]
        "#,
        send: |rng, crc, out| {
            let (begin, count) = (out.len(), rng.u8(0..7));
            out.extend([0xA5, 0x5A, 5 + 4 * count]);
            out.extend((0..4).map(|_| rng.u8(..)));
            out.push(count);
            out.extend((0..4 * count).map(|_| if rng.bool() { rng.u8(..) } else { 0 }));
            let sum = crc.of(&out[begin..]);
            out.extend(sum.to_le_bytes());
        },
        decode: |input, crc| {
            let length = |bytes: &[u8]| Some(usize::from(*bytes.get(2)?) + 5);
            by_start(input, crc, length, |packet, sum| {
                let items = packet.get(8..packet.len() - 2)?;
                if items.len() != 4 * usize::from(packet[7]) {
                    return None;
                }
                sum.number(i32::from_be_bytes(*packet[3..].first_chunk()?).into());
                for [a, b, c, d] in items.as_chunks::<4>().0 {
                    sum.number(u16::from_be_bytes([*a, *b]).into());
                    sum.number(i16::from_be_bytes([*c, *d]).into());
                }
                Some(())
            })
        },
    },
    Way {
        name: "hex",
        format: "[[frame]]\ncut = 'text'\nend = 'LF'\ncoding = [{ step = 'hex' }]\nread = 'bytes'\n",
        send: |rng, crc, out| {
            let hex = state(rng, crc).into_iter().flat_map(|byte| [byte >> 4, byte & 15]);
            out.extend(hex.map(|half| b"0123456789ABCDEF"[usize::from(half)]));
            out.push(b'\n');
        },
        decode: |input, crc| {
            by_delimiter(input, b'\n', crc, |line, contents| {
                let digit = |byte: u8| (byte as char).to_digit(16);
                line.len().is_multiple_of(2)
                    && line.as_chunks::<2>().0.iter().all(|[high, low]| match (digit(*high), digit(*low)) {
                        (Some(high), Some(low)) => (contents.push((high << 4 | low) as u8), true).1,
                        _ => false,
                    })
            })
        },
    },
];

/// A state with its checksum.
fn state(rng: &mut Rng, crc: &Crc) -> Vec<u8> {
    let mut contents: Vec<u8> = (0..14).map(|_| if rng.u8(0..3) > 0 { rng.u8(..) } else { 0 }).collect();
    let sum = crc.of(&contents);
    contents.extend(sum.to_le_bytes());
    contents
}

/// Frames between delimiters, from which `unpack` makes contents.
fn by_delimiter(input: &[u8], delimiter: u8, crc: &Crc, unpack: impl Fn(&[u8], &mut Vec<u8>) -> bool) -> (u64, Sum) {
    let (mut records, mut sum, mut at, mut contents) = (0, Sum::default(), 0, Vec::new());
    while let Some(length) = memchr(delimiter, &input[at..]) {
        contents.clear();
        let is_sound = unpack(&input[at..at + length], &mut contents) && contents.len() == 16 && crc.of(&contents) == 0;
        if is_sound && read(&contents, &mut sum).is_some() {
            records += 1;
        }
        at += length + 1;
    }
    (records, sum)
}

/// Reads a state.
fn read(contents: &[u8], sum: &mut Sum) -> Option<()> {
    sum.number(u16::from_be_bytes(*contents.first_chunk()?).into());
    sum.number(u32::from_be_bytes(*contents[2..].first_chunk()?).into());
    sum.number(i32::from_be_bytes(*contents[6..].first_chunk()?).into());
    sum.number(i16::from_be_bytes(*contents[10..].first_chunk()?).into());
    sum.number(contents[12].into());
    sum.number((contents[13] & 1).into());
    sum.number((contents[13] >> 7).into());
    Some(())
}

/// Packets behind a start.
fn by_start(
    input: &[u8],
    crc: &Crc,
    length: impl Fn(&[u8]) -> Option<usize>,
    read: impl Fn(&[u8], &mut Sum) -> Option<()>,
) -> (u64, Sum) {
    let finder = memchr::memmem::Finder::new(&[0xA5, 0x5A]);
    let (mut records, mut sum, mut at) = (0, Sum::default(), 0);
    while let Some(offset) = finder.find(&input[at..]) {
        let bytes = &input[at + offset..];
        let packet = length(bytes).and_then(|length| bytes.get(..length)).filter(|packet| crc.of(packet) == 0);
        at += offset
            + match packet.and_then(|packet| read(packet, &mut sum).map(|()| packet.len())) {
                Some(length) => (records += 1, length).1,
                None => 1,
            };
    }
    (records, sum)
}

/// Prints what each way costs.
pub fn run(extent: Extent) {
    let crc = Crc::new();
    for way in &WAYS {
        let own = if way.format.contains("[record.") { "" } else { STATE };
        let text = format!("format = 'winch'\n{}\n{own}", way.format);
        let text = match way.format.split_once("[record.") {
            Some((frame, record)) => format!("format = 'winch'\n{frame}{CHECK}\n[record.{record}"),
            None => text.replacen("\n[record.", &format!("{CHECK}\n[record."), 1),
        };
        let plan =
            Format::parse(&text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}"));
        let input = input::frames(extent.size, 1_000, |rng, out| (way.send)(rng, &crc, out));
        let (times, results) = in_turn(
            extent.rounds,
            &mut [&mut || (way.decode)(&input, &crc), &mut || declared_decode(&plan, &input, 1 << 16)],
        );
        assert_eq!(results[0], results[1], "{}", way.name);
        say_decode(way.name, input.len(), &times);
    }
}
