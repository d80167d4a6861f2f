//! Formats and streams from a seed: however their bytes are split, and whichever way they take through the decoder, the same is said.

use fastrand::Rng;
use proptest::prelude::*;
use usus::checksum::Checksum;
use usus::{Absent, Cell, Decoder, Format, Plan, Record, Value};

use crate::drive::{Input, run};
use crate::inside::packed_says_the_same;
use crate::ways::compare;

/// What a device of the format sends.
#[derive(Clone)]
enum Sends {
    Line {
        separator: &'static str,
        /// Whether columns may stand in quotes.
        quotes: bool,
        end: &'static str,
    },
    Pairs {
        separator: &'static str,
    },
    Printed,
    /// Lines that are told from others by what they begin with.
    Started,
    Sentence,
    Packet {
        start: Vec<u8>,
        size: usize,
        algorithm: &'static str,
    },
    Slip {
        size: usize,
    },
    /// Other frames of bytes: the cut, and how contents are sent with a checksum behind them.
    Bytes {
        cut: &'static str,
        size: usize,
        encode: Encode,
    },
    /// A packet of text that its end tells, with a check behind.
    Ended {
        start: &'static str,
        end: &'static str,
    },
}

/// A sound format.
pub fn text(seed: u64) -> String {
    format(&mut Rng::with_seed(seed)).0
}

/// A sound format, and what goes with it.
fn format(rng: &mut Rng) -> (String, Vec<Sends>) {
    let lines = rng.bool();
    let mut sends: Vec<Sends> = (0..rng.usize(usize::from(!lines)..3)).map(|_| searched_for(rng)).collect();
    if lines {
        let separator = rng.choice([",", ",", ";", "|", " ", ", ", " - "]).unwrap();
        let pairs = Sends::Pairs { separator: rng.choice([" ", ";", ", "]).unwrap() };
        let line =
            Sends::Line { separator, quotes: rng.u32(0..3) == 0, end: rng.choice(["\n", "\r", "\r\n"]).unwrap() };
        if rng.u32(0..4) == 0 {
            sends.push(Sends::Started);
        }
        sends.push(match rng.u32(0..4) {
            0 => pairs,
            1 => Sends::Printed,
            _ => line,
        });
    }
    let mut text = format!("format = 'any'\nlimits = {{ line = {} }}\n", rng.choice([20, 63, 64, 65, 4_096]).unwrap());
    let is_in_bytes = |sent: &Sends| matches!(sent, Sends::Packet { .. } | Sends::Slip { .. } | Sends::Bytes { .. });
    let in_bytes = sends.iter().any(is_in_bytes);
    if !in_bytes && rng.u32(0..4) == 0 {
        text += rng.choice(["clean = 'parity'\n", "clean = ['escapes', 'nul']\n", "clean = 'flow'\n"]).unwrap();
    }
    let mut records = String::new();
    for (number, sent) in sends.iter().enumerate() {
        text += &format!("[[frame]]\nname = 'f{number}'\n");
        match sent {
            Sends::Packet { start, size, algorithm } => {
                let hex: String = start.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ");
                let (kind, length) = if *algorithm == "SUM-8" { ("u8", 1) } else { ("u16le", 2) };
                let length = start.len() + size + length;
                text += &format!("cut = 'packet'\nstart = '{hex}'\nlength = {length}\n");
                text += &format!("checksum = {{ algorithm = '{algorithm}', type = '{kind}' }}\n");
                let fields: Vec<String> = (0..size / 2).map(|field| word(rng, field)).collect();
                records += &format!("[record.r{number}]\nframe = 'f{number}'\nfields = [{}]\n", fields.join(", "));
            }
            Sends::Slip { size } => {
                text += "cut = 'slip'\nchecksum = { algorithm = 'CRC-16/MODBUS', type = 'u16le' }\n";
                let fields: Vec<String> = (0..size / 2).map(|field| word(rng, field)).collect();
                records += &format!("[record.r{number}]\nframe = 'f{number}'\nfields = [{}]\n", fields.join(", "))
                    .replacen("{ ", "{ byte = 0, ", 1);
            }
            Sends::Bytes { cut, size, .. } => {
                text += &format!("{cut}\nchecksum = {{ algorithm = 'CRC-16/MODBUS', type = 'u16le' }}\n");
                let fields: Vec<String> = (0..size / 2).map(|field| word(rng, field)).collect();
                // The record tells how long a packet is, whose first byte is its start.
                let is_packet = cut.contains("'packet'");
                let more =
                    if !is_packet && rng.bool() { "{ name = 'rest', type = 'bytes', optional = true }" } else { "" };
                let first = match cut {
                    &PAST => "{ name = 'front', type = 'text', until = '00' }, { type = 'u8', reserved = true }, { ",
                    _ if is_packet => "{ byte = 1, ",
                    _ => "{ byte = 0, ",
                };
                records +=
                    &format!("[record.r{number}]\nframe = 'f{number}'\nfields = [{}, {more}]\n", fields.join(", "))
                        .replacen("{ ", first, 1);
            }
            Sends::Ended { start, end } => {
                text += &format!("cut = 'packet'\nstart = \"{start}\"\nend = \"{end}\"\nread = 'columns'\n");
                text +=
                    "checksum = { algorithm = 'XOR-8', type = 'u8', behind = true, from = 1, through_end = true }\n";
                text += &format!("header = [{}]\n", header("3-5"));
                records += &texts(rng, number, 2);
            }
            Sends::Line { separator, quotes, .. } => {
                let others = if rng.bool() { "" } else { ", '\t', '--'" };
                let quote = if *quotes { "quote = '\"'\n" } else { "" };
                let joined = rng.u32(0..4) == 0;
                text += &format!("cut = 'text'\nseparator = ['{separator}'{others}]\njoined = {joined}\n{quote}");
                text += rng.choice(["", "charset = ['utf-8', 'windows-1252']\n", "charset = 'latin-1'\n"]).unwrap();
                text += &format!("header = [{}]\n", header("1-3"));
                if rng.u32(0..6) == 0 {
                    // Lines that name columns as columns of others are sent.
                    records += &format!(
                        "[record.r{number}n]\nframe = 'f{number}'\nwhen = \"address == 'AAA'\"\nmore = 'ignore'\n"
                    );
                    records +=
                        &format!("[record.r{number}h]\nframe = 'f{number}'\nheading = 'r{number}n'\nmore = 'ignore'\n");
                    records += "fields = [{ name = 'a', label = 'A', optional = true }, { name = 'n', label = '99', type = 'number', optional = true }, { name = 'address2', label = 'AAA' }]\n";
                } else {
                    records += &texts(rng, number, 1);
                }
            }
            Sends::Pairs { separator } => {
                let (joined, repeated) = (rng.bool(), rng.choice(["reject", "first", "last"]).unwrap());
                text += &format!("cut = 'text'\nread = 'pairs'\nseparator = '{separator}'\njoined = {joined}\n");
                text += &format!("repeated = '{repeated}'\nquote = '\"'\n");
                text +=
                    "header = [{ name = 'address', column = 1, codes = { AAA = '+', BBB = '-' }, internal = true }]\n";
                records += &texts(rng, number, 0);
            }
            Sends::Started => {
                text += &format!("cut = 'text'\nstart = \"'#'\"\nheader = [{}]\n", header("2-4"));
                match rng.u32(0..4) {
                    0 | 1 => {
                        text += "checksum = { algorithm = 'SUM-8', type = 'u8', digits = 'hex', from = 1, to = -3 }\n"
                    }
                    2 => {
                        text += "checksum = { algorithm = 'SUM-8', type = 'u8', digits = 'hex', from = 1, mark = \"'*'\", presence = 'optional' }\n";
                    }
                    _ => {}
                }
                records += &texts(rng, number, 1);
            }
            Sends::Printed => {
                text += &format!("cut = 'text'\nheader = [{}]\n", header("1-3"));
                for kind in 0..rng.usize(1..4) {
                    let fields = rng.usize(1..7);
                    let form = |rng: &mut Rng| {
                        let pieces = (0..fields).map(|field| match rng.u32(0..4) {
                            0 => format!("[,{{c{field}}}]"),
                            _ => format!(",{{c{field}}}"),
                        });
                        format!("'{{name}}{}'", pieces.collect::<String>())
                    };
                    let forms = [form(rng), form(rng)];
                    let mut declared: Vec<String> =
                        (0..fields).map(|field| column(rng, &format!("c{field}"))).collect();
                    declared.iter_mut().for_each(|field| {
                        *field = field.replace("'lat'", "'text'").replace("'lon'", "'number'");
                    });
                    let when = if kind == 0 { "when = \"address == 'AAA'\"\n" } else { "" };
                    records += &format!("[record.r{number}k{kind}]\nframe = 'f{number}'\n{when}");
                    match rng.u32(0..3) {
                        0 => records += &format!("printed = [{}]\n", forms.join(", ")),
                        1 => records += &format!("printed = {}\n", forms[0]),
                        _ => {
                            let groups: Vec<String> = (0..fields).map(|field| format!("(?<c{field}>)?")).collect();
                            records += &format!("pattern = '(?<name>)(?:,|;){}'\n", groups.join(",+"));
                        }
                    }
                    records += &format!("fields = [{{ name = 'name' }}, {}]\n", declared.join(", "));
                }
            }
            Sends::Sentence => {
                text += &format!("cut = 'nmea-0183'\nheader = [{}]\n", header("3-5"));
                records += &texts(rng, number, 2);
            }
        }
    }
    (text + &records, sends)
}

fn searched_for(rng: &mut Rng) -> Sends {
    match rng.u32(0..7) {
        0 | 1 => return Sends::Sentence,
        2 => return Sends::Slip { size: 2 * rng.usize(1..8) },
        4 => {
            let (cut, encode) = rng.choice(CUTS_OF_BYTES).unwrap();
            return Sends::Bytes { cut, size: 2 * rng.usize(1..8), encode };
        }
        3 => {
            let start = rng.choice(["STX", "'$'", "'<' 'A'"]).unwrap();
            return Sends::Ended { start, end: rng.choice(["ETX", "CR LF", "'>'"]).unwrap() };
        }
        _ => {}
    }
    // Some begin as sentences or each other do.
    let start = rng.choice([&b"\xA5\x5A"[..], b"\xA5\x5B\x01", b"\xA5", b"$B", b"$", b"\r\n"]).unwrap().to_vec();
    Sends::Packet { start, size: 2 * rng.usize(1..8), algorithm: rng.choice(["SUM-8", "CRC-16/MODBUS"]).unwrap() }
}

/// A length behind a name that varies.
const PAST: &str =
    "cut = 'packet'\nstart = '94'\nlength = { past = { byte = 1, until = '00' }, byte = 1, type = 'u8', add = 4 }";

/// How contents are sent.
type Encode = fn(&[u8]) -> Vec<u8>;

/// Cuts of bytes, and what each makes of contents.
const CUTS_OF_BYTES: [(&str, Encode); 6] = [
    // What the packet's own bytes make of it decides what varies before its length.
    (PAST, |contents| {
        let front = &b"abcdef"[..contents.len() % 7];
        [&[0x94], front, &[0, contents.len() as u8], contents].concat()
    }),
    ("cut = 'cobs'", |contents| {
        let blocks = contents.split(|byte| *byte == 0).flat_map(|block| [&[block.len() as u8 + 1], block].concat());
        blocks.chain([0]).collect()
    }),
    ("cut = 'hdlc'", |contents| {
        let escaped = |byte: &u8| match byte {
            0x7E | 0x7D => vec![0x7D, byte ^ 0x20],
            byte => vec![*byte],
        };
        [&[0x7E], &*contents.iter().flat_map(escaped).collect::<Vec<u8>>(), &[0x7E]].concat()
    }),
    ("cut = 'dle'", |contents| {
        let doubled = |byte: &u8| vec![*byte; if *byte == 0x10 { 2 } else { 1 }];
        [&[0x10, 2], &*contents.iter().flat_map(doubled).collect::<Vec<u8>>(), &[0x10, 3]].concat()
    }),
    ("cut = 'dle'\nstart = 'DLE'\nend = 'DLE EOT'", |contents| {
        let doubled = |byte: &u8| vec![*byte; if *byte == 0x10 { 2 } else { 1 }];
        [&[0x10], &*contents.iter().flat_map(doubled).collect::<Vec<u8>>(), &[0x10, 4]].concat()
    }),
    ("cut = 'packet'\nstart = ['90/F0', 'A0/F0']\nend = '0F'\nlength = 'record'", |contents| {
        [&[0x93], contents, &[0x0F]].concat()
    }),
];

fn header(characters: &str) -> String {
    format!(
        "{{ name = 'address', chars = '{characters}', type = 'text', codes = {{ AAA = '+', BBB = '-' }}, internal = true }}"
    )
}

/// A field of two bytes.
fn word(rng: &mut Rng, number: usize) -> String {
    let kind = rng.choice([
        "type = 'u16be'",
        "type = 'i16le', scale = 0.01",
        "type = 'i16be', no_data = -1",
        "type = 'u16be', counter = true",
        "type = 'i16be', sign = 'magnitude', scale = 0.5",
        "type = 'i16le', sign = 'offset'",
        "type = 'u16be', bits = '12-15,0-3'",
        "type = 'u16le', digits = 'bcd'",
        "type = 'number', digits = 'bcd', width = 2, bits_from = 'low'",
        "type = 'number', width = 2",
        "type = 'b5' }, { type = 'b2', flags = { 1 = 'flag' } }, { type = 'ib9', name = 'last",
        "type = 'u16be', codes = { 0 = 'zero', 7 = 'seven' }",
        "type = 'i16be', scale = '-7/9', add = 0.5, places = 2",
        "type = 'bytes', digits = 'hex', width = 2",
    ]);
    let field = format!("{{ name = 'w{number}', {} }}", kind.unwrap());
    field.replace("'flag'", &format!("'flag{number}'")).replace("'last", &format!("'last{number}'"))
}

/// Records of a frame of text, whose fields begin with that column, or stand behind their names if that is 0.
fn texts(rng: &mut Rng, frame: usize, first: usize) -> String {
    let addresses = ["AAA", "BBB"];
    let kinds = rng.usize(1..=3);
    let mut records = String::new();
    for kind in 0..kinds {
        let mut fields: Vec<String> = (0..rng.usize(1..16)).map(|number| column(rng, &format!("c{number}"))).collect();
        if first == 0 {
            fields.retain(|field| !field.contains("'lat'") && !field.contains("'lon'"));
            for field in fields.iter_mut().filter(|_| rng.bool()) {
                *field = field.replacen('{', "{ optional = true,", 1);
            }
        } else {
            fields[0] = fields[0].replacen('{', &format!("{{ column = {first},"), 1);
        }
        let may_have_gaps = first > 0 && rng.u32(0..4) == 0;
        if may_have_gaps {
            for (number, field) in fields.iter_mut().enumerate().skip(1) {
                let condition = match rng.u32(0..5) {
                    0 => "when = \"address == 'AAA'\",".to_owned(),
                    1 => format!("when = 'columns > {number} or length < 30',"),
                    _ => continue,
                };
                *field = field.replacen('{', &format!("{{ {condition}"), 1);
            }
            let from = rng.usize(1..=fields.len());
            let run = (fields.len() - from).min(2);
            if fields[from..].iter().all(|field| !field.contains("when")) {
                for field in &mut fields[from..from + run] {
                    *field = field.replacen('{', "{ optional = true,", 1);
                }
            }
        }
        if first > 0 && !may_have_gaps && rng.u32(0..3) == 0 {
            let items = [column(rng, "a"), column(rng, "b")].join(", ").replace("sign_from = 'address', ", "");
            fields.push(format!("{{ name = 'group', up_to = 'end', fields = [{items}] }}"));
        }
        // The last one takes what the others leave.
        let when = match addresses.get(kind) {
            Some(address) if kind + 1 < kinds => format!("when = \"address == '{address}'\"\n"),
            _ => String::new(),
        };
        let mut more = if rng.bool() { "more = 'ignore'\n" } else { "" }.to_owned();
        if first > 0 && rng.u32(0..6) == 0 {
            // Another way to be read, of the same separators.
            more += "read = 'pairs'\n";
            fields = vec!["{ name = 'p0', label = 'A', optional = true }".to_owned(), column(rng, "p1")];
            fields[1] =
                fields[1].replace("'lat'", "'text'").replace("'lon'", "'text'").replacen('{', "{ column = 1,", 1);
        }
        // Some are variants of the first.
        let head = match kind > 0
            && !fields.iter().any(|field| field.contains("up_to"))
            && (!when.is_empty() || kind == 1)
            && rng.u32(0..3) == 0
        {
            true => {
                for field in &mut fields {
                    *field = field.replace("name = 'c", &format!("name = 'k{kind}c"));
                    *field = field.replace("name = 'p", &format!("name = 'k{kind}p"));
                    *field = field.replace("name = 'group'", &format!("name = 'group{kind}'"));
                }
                if first > 0 && !fields.iter().any(|field| field.contains("optional")) {
                    fields.push("{ name = 'of_all', when = 'length > 40' }".to_owned());
                }
                format!("[[record.r{frame}k0.variant]]")
            }
            false => format!("[record.r{frame}k{kind}]"),
        };
        records += &format!("{head}\nframe = 'f{frame}'\n{when}{more}fields = [{}]\n", fields.join(", "));
    }
    records
}

fn column(rng: &mut Rng, name: &str) -> String {
    let kind = rng.choice([
        "type = 'number'",
        "type = 'number'",
        "type = 'number'",
        "type = 'text'",
        "codes = { A = 'alpha', V = 'no \"way\"', k = 'x' }",
        "type = 'number', range = [-50, 500]",
        "type = 'number', scale = 0.1",
        "type = 'number', no_data = [99]",
        "type = 'number', decimal = ',', thousands = '.'",
        "type = 'number', suffix = { k = 'kg', A = 't' }, unit = 'kg'",
        "type = 'number', limit_marks = ['-', '+'], unit = 'm', unit_sent = 'mm'",
        "type = 'number', sign_from = 'address', scale = 0.5",
        "type = 'lat'",
        "type = 'lon'",
        "type = 'clock', layout = 'hhmmss'",
        "type = 'datetime', layout = 'DDMMYYhhmmss', zone = 'Z'",
        "type = 'date', layout = 'DDMMYY', first_year = 2000",
        "type = 'i16le', digits = 'hex', bits = '3-9'",
        "type = 'bool', codes = { A = true, V = false }",
        "type = 'number', since = '1970-01-01', scale = 0.5",
        "type = 'number', scale = '1/3', places = 3",
        "type = 'bytes', digits = 'hex', no_data = '00'",
    ]);
    format!("{{ name = '{name}', {} }}", kind.unwrap())
}

/// What may stand in a column.
fn sent(rng: &mut Rng) -> String {
    let (small, large) = (rng.u8(..), rng.u16(..10_000));
    match rng.u32(0..10) {
        0 => String::new(),
        1 => format!("{small:02}"),
        2 => format!("-{}.{small}", large % 9),
        3 => format!("0.{large}"),
        4 => format!("{}", rng.i64(..)),
        5 => format!("{:02}{:02}.{large:04}", small % 91, small % 61),
        6 => format!("{:02}{:02}{:02}", small % 25, small % 61, small % 62),
        7 => "hello world"[..usize::from(small % 11)].to_owned(),
        8 => rng
            .choice(["A", "V", "k", "0F2a", "N", "S", "E", "W", "99", "$", "*", "-", "+5", "1e3", "5.", "\u{e9}"])
            .unwrap()
            .into(),
        _ => format!("{}.{:02}", large % 500, small % 99),
    }
}

/// A column in quotes, nearly always in sound ones.
fn quoted(rng: &mut Rng, column: String) -> String {
    match rng.u32(0..20) {
        0 => format!("\"{column}"),
        1 => format!("\"{column}\"x"),
        2..8 => format!("\"{column},\"\"; {column}\""),
        8..12 => format!("\"{column}\""),
        _ => column,
    }
}

/// At least so many bytes of frames, some of them damaged.
fn stream(rng: &mut Rng, sends: &[Sends], size: usize) -> Vec<u8> {
    let mut bytes = Vec::new();
    while bytes.len() < size {
        let begun = bytes.len();
        let address = rng.choice(["AAA", "BBB", "CCC"]).unwrap();
        let most = rng.choice([6, 20, 40]).unwrap();
        let columns: Vec<String> = (0..rng.usize(0..most)).map(|_| sent(rng)).collect();
        match rng.choice(sends).unwrap() {
            Sends::Line { separator, quotes, end } => {
                let columns = columns.into_iter().map(|column| if *quotes { quoted(rng, column) } else { column });
                let line = [vec![address.to_owned()], columns.collect()].concat().join(separator);
                bytes.extend_from_slice(format!("{line}{end}").as_bytes());
            }
            Sends::Started => {
                let line = [vec![address.to_owned()], columns].concat().join(",");
                let sum = line.bytes().fold(0, u8::wrapping_add);
                let mark = rng.choice(["", "*"]).unwrap();
                bytes.extend_from_slice(format!("#{line}{mark}{sum:02X}\n").as_bytes());
            }
            Sends::Printed => {
                let line = [vec![address.to_owned()], columns].concat().join(",");
                bytes.extend_from_slice(format!("{line}\n").as_bytes());
            }
            Sends::Pairs { separator } => {
                let mut pairs: Vec<String> = columns
                    .into_iter()
                    .enumerate()
                    .map(|(number, column)| format!("c{number}={}", quoted(rng, column)))
                    .collect();
                rng.shuffle(&mut pairs);
                match rng.u32(0..8) {
                    0 => pairs.push("other=1".to_owned()),
                    1 => pairs.extend(pairs.first().cloned()),
                    2 => pairs.push("alone".to_owned()),
                    3 => pairs.push(String::new()),
                    _ => {}
                }
                let line = [vec![address.to_owned()], pairs].concat().join(separator);
                bytes.extend_from_slice(format!("{line}\r\n").as_bytes());
            }
            Sends::Sentence => {
                let text = format!("GP{address},{}", columns.join(","));
                let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
                let end = rng.choice(["\r\n", "\r\n", "\r\n", "\n", ""]).unwrap();
                bytes.extend_from_slice(format!("${text}*{sum:02X}{end}").as_bytes());
            }
            Sends::Slip { size } => {
                let mut contents: Vec<u8> =
                    (0..*size).map(|_| rng.choice([0, 7, 0xC0, 0xDB, 0xFF, 0x12]).unwrap()).collect();
                let sum = Checksum::named("CRC-16/MODBUS").unwrap().of(&contents) as u16;
                contents.extend(sum.to_le_bytes());
                let ends = if rng.u32(0..30) == 0 { rng.usize(0..400) } else { rng.usize(0..3) };
                bytes.extend((0..ends).map(|_| 0xC0));
                for byte in contents {
                    match byte {
                        0xC0 => bytes.extend([0xDB, 0xDC]),
                        0xDB => bytes.extend([0xDB, 0xDD]),
                        byte => bytes.push(byte),
                    }
                }
                bytes.push(0xC0);
            }
            Sends::Bytes { size, encode, cut } => {
                let bytes_of = |rng: &mut Rng| rng.choice([0, 7, 0x10, 2, 3, 0x7E, 0x7D, 0xFF, 0x93, 0x0F]).unwrap();
                let mut contents: Vec<u8> = (0..*size).map(|_| bytes_of(rng)).collect();
                let modbus = |bytes: &[u8]| (Checksum::named("CRC-16/MODBUS").unwrap().of(bytes) as u16).to_le_bytes();
                if *cut == PAST {
                    // The checksum covers what stands before the contents, too.
                    let sent = encode(&contents);
                    bytes.extend([&*sent, &modbus(&sent)].concat());
                } else {
                    let start: &[u8] = if cut.contains("'packet'") { &[0x93] } else { &[] };
                    let sum = modbus(&[start, &contents].concat());
                    contents.extend(sum);
                    bytes.extend(encode(&contents));
                }
            }
            Sends::Ended { start, end } => {
                let pattern = |text: &str| usus::format::byte_pattern(text).unwrap();
                bytes.extend(pattern(start));
                bytes.extend_from_slice(format!("{address},{}", columns.join(",")).as_bytes());
                bytes.extend(pattern(end));
                let sum = bytes[begun + 1..].iter().fold(0, |sum, byte| sum ^ byte);
                bytes.push(sum);
            }
            Sends::Packet { start, size, algorithm } => {
                bytes.extend_from_slice(start);
                bytes.extend((0..*size).map(|_| if rng.bool() { rng.u8(..) } else { 0 }));
                let sum = Checksum::named(algorithm).unwrap().of(&bytes[begun..]) as u16;
                bytes.extend_from_slice(&sum.to_le_bytes()[..if *algorithm == "SUM-8" { 1 } else { 2 }]);
            }
        }
        match rng.u32(0..40) {
            0 => bytes.truncate(rng.usize(begun..bytes.len())),
            1 => bytes.extend((0..rng.usize(0..30)).map(|_| rng.u8(..))),
            2 => bytes.resize(bytes.len() + rng.usize(0..200), b'z'),
            4 => bytes
                .extend_from_slice(rng.choice(["\x1B[2K", "\0\0", "\x11", "\x1B]0;t\x07", "\x1B"]).unwrap().as_bytes()),
            3 => {
                let place = rng.usize(begun..bytes.len());
                bytes[place] ^= 1 << rng.u32(0..8);
            }
            _ => {}
        }
    }
    bytes
}

/// A field of which it is told that nothing was sent, or something that is not in the frame.
fn unlike_what_was_sent(record: &Record<'_>) -> Option<String> {
    record.fields().enumerate().find_map(|(place, (schema, cell))| {
        let Cell::Reading(reading) = cell else { return None };
        let sent = record.sent(place);
        let agrees = match (reading.value, sent) {
            (Value::Absent(Absent::NotSent), _) => true,
            (_, None) => false,
            (Value::Bytes(bytes), Some(sent)) => bytes == sent.bytes,
            (_, Some(sent)) if sent.bytes.is_empty() => matches!(reading.value, Value::Absent(_)),
            (_, Some(sent)) => record.contents().windows(sent.bytes.len()).any(|window| window == sent.bytes),
        };
        (!agrees).then(|| format!("{}: {reading:?} of {sent:?}", schema.name))
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn all_ways_say_the_same_of_any_format(seed: u64) {
        let mut rng = Rng::with_seed(seed);
        let (text, sends) = format(&mut rng);
        let plan: Plan = Format::parse(&text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}\n{text}"));
        let size = rng.choice([200, 1_500, 5_000]).unwrap();
        let bytes = stream(&mut rng, &sends, size);
        let whole = run(&plan, &Input::raw(&bytes), &mut || usize::MAX);
        let mut small = Rng::with_seed(seed);
        let mut large = Rng::with_seed(seed);
        let pieces: [&mut dyn FnMut() -> usize; 3] = [&mut || 1, &mut || small.usize(1..90), &mut || large.usize(60..2_000)];
        for piece in pieces {
            let split = run(&plan, &Input::raw(&bytes), piece);
            let differ = split.0.iter().zip(&whole.0).position(|(split, whole)| split != whole);
            if let Some(first) = differ {
                let around = |events: &[String]| events[first.saturating_sub(2)..(first + 3).min(events.len())].join("\n");
                prop_assert!(false, "in pieces:\n{}\nas a whole:\n{}\n{text}", around(&split.0), around(&whole.0));
            }
            prop_assert_eq!(&split, &whole, "{}", text);
        }
        compare(&plan, &bytes, 1_000);
        packed_says_the_same(&text, &bytes, &mut rng);
        let mut decoder = Decoder::new(&plan);
        let line = decoder.line("", 0).unwrap();
        let mut wrong = None;
        let mut look = |record: &Record<'_>| wrong = wrong.take().or_else(|| unlike_what_was_sent(record));
        decoder.decode(usus::Chunk::new(line, &bytes), &mut look).unwrap();
        prop_assert!(wrong.is_none(), "{:?}\n{}", wrong, text);
    }
}

/// Whether a value is what the schema says that values of its field are.
fn is_within(schema: &usus::FieldSchema, value: Value<'_>) -> bool {
    match (value, schema.numbers) {
        (Value::Decimal(number), Some(numbers)) => {
            number.places() == numbers.places
                && (numbers.least..=numbers.most).contains(&number.coefficient())
                && number.magnitude().checked_ilog10().unwrap_or(0) < numbers.digits()
        }
        (Value::DateTime(both), _) => both.offset().is_some() == schema.is_instant,
        _ => true,
    }
}

fn check_cell(schema: &usus::FieldSchema, cell: Cell<'_>, text: &str) {
    match cell {
        Cell::Reading(reading) => {
            assert!(
                is_within(schema, reading.value),
                "{}: {:?} {:?}\n{text}",
                schema.name,
                reading.value,
                schema.numbers
            );
        }
        Cell::Group(items) => {
            for item in items {
                item.fields().for_each(|(schema, cell)| check_cell(schema, cell, text));
            }
        }
        _ => {}
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    /// What the schema says of numbers and instants holds for every value that comes; without tags, nothing is called otherwise.
    #[test]
    fn values_are_what_the_schema_says(seed: u64) {
        let mut rng = Rng::with_seed(seed);
        let (text, sends) = format(&mut rng);
        let plan = Format::parse(&text).unwrap().compile().unwrap();
        let bytes = stream(&mut rng, &sends, 3_000);
        let mut check = |record: &Record<'_>| record.fields().for_each(|(schema, cell)| check_cell(schema, cell, &text));
        let Ok(_) = plan.decode(&bytes, &mut check);
        let tagged = plan.with_tags();
        prop_assert_eq!(tagged.schema(), plan.schema());
    }
}
