//! A declaration held against what was recorded, on made-up devices: what is wrong with it is named first, and where nothing is wrong, nothing is claimed.

#![expect(clippy::print_stdout, clippy::print_stderr, reason = "a script shows the rates that it prints")]

use std::collections::BTreeMap;

use fastrand::Rng;
use usus::against::{Findings, Wrong};
use usus::{Chunk, Format};

use crate::checksums::{Send, Sum, written};

/// A device of random layout, with what its frames are made of.
struct Device {
    framing: Framing,
    start: Vec<u8>,
    /// What is added to the number that tells the length.
    add: i64,
    fields: Vec<Field>,
    /// Fields of a second kind of frame, if there is one.
    others: Vec<Field>,
    has_type: bool,
    sum: Option<Covered>,
}

/// A scale of so many places.
fn scale(places: u32) -> String {
    if places == 0 { "1".to_owned() } else { format!("0.{}1", "0".repeat(places as usize - 1)) }
}

/// A checksum with what it covers.
struct Covered {
    sum: Sum,
    form: String,
    send: Send,
    from: usize,
}

#[derive(Clone, Copy, PartialEq)]
enum Framing {
    /// With a length.
    Told,
    /// Of one length.
    Fixed,
    Slip,
    /// Hex digits between a start and CR LF.
    Lines,
}

struct Field {
    name: String,
    bytes: usize,
    signed: bool,
    big: bool,
    /// Digits behind the point.
    places: u32,
    range: Option<[i64; 2]>,
    /// How it goes on from frame to frame.
    walk: Walk,
}

#[derive(Clone, Copy)]
enum Walk {
    Counter,
    Constant(i64),
    Random,
    /// From, to, and the longest step.
    Smooth(i64, i64, i64),
}

impl Field {
    fn any(rng: &mut Rng, name: usize) -> Field {
        let bytes = rng.choice([1, 2, 2, 2, 3, 4]).unwrap();
        let signed = rng.bool();
        let reach = 1i64 << (8 * bytes - usize::from(signed));
        let walk = match rng.u8(..10) {
            0 => Walk::Counter,
            1 => Walk::Constant(rng.i64(0..reach)),
            2 => Walk::Random,
            _ => {
                let half = (reach / 2).min(30_000);
                let low = if signed { rng.i64(-half..0) } else { rng.i64(0..half) };
                let high = low + rng.i64(half / 4 + 1..=half);
                Walk::Smooth(low, high, ((high - low) / 40).max(1))
            }
        };
        let range = match walk {
            Walk::Smooth(low, high, _) if rng.bool() => Some([low, high]),
            _ => None,
        };
        Field { name: format!("v{name}"), bytes, signed, big: rng.bool(), places: rng.u32(0..4), range, walk }
    }

    fn kind(&self) -> String {
        let order = if self.bytes == 1 { "" } else { ["le", "be"][usize::from(self.big)] };
        format!("{}{}{order}", ["u", "i"][usize::from(self.signed)], 8 * self.bytes)
    }

    fn declared(&self, wrong: Option<Wrong>) -> String {
        let field = Field {
            name: self.name.clone(),
            big: self.big ^ (wrong == Some(Wrong::Order)),
            signed: self.signed ^ (wrong == Some(Wrong::Sign)),
            ..*self
        };
        // What is declared ten times too large leaves the range.
        let scale = match wrong {
            Some(Wrong::Scale) if self.places == 0 => "10".to_owned(),
            Some(Wrong::Scale) => scale(self.places - 1),
            _ => scale(self.places),
        };
        let mut text = format!("{{ name = '{}', type = '{}', scale = {}", self.name, field.kind(), scale);
        if let Some(range) = self.range {
            let [low, high] = range.map(|end| {
                let unit = 10i64.pow(self.places);
                let sign = if end < 0 { "-" } else { "" };
                let places = self.places as usize;
                match places {
                    0 => end.to_string(),
                    _ => format!("{sign}{}.{:0places$}", end.abs() / unit, end.abs() % unit),
                }
            });
            text += &format!(", range = [{low}, {high}]");
        }
        text + " }"
    }

    fn next(&self, last: &mut i64, rng: &mut Rng) -> Vec<u8> {
        *last = match self.walk {
            Walk::Counter => *last + 1,
            Walk::Constant(value) => value,
            Walk::Random => rng.i64(..),
            Walk::Smooth(low, high, step) => (*last + rng.i64(-step..=step)).clamp(low, high),
        };
        let mut bytes = last.to_be_bytes()[8 - self.bytes..].to_vec();
        if !self.big {
            bytes.reverse();
        }
        bytes
    }
}

impl Device {
    fn any(rng: &mut Rng, with_sum: bool) -> Device {
        let framing =
            rng.choice([Framing::Told, Framing::Told, Framing::Fixed, Framing::Slip, Framing::Lines]).unwrap();
        let start: Vec<u8> = match framing {
            Framing::Slip => Vec::new(),
            Framing::Lines => b"#".to_vec(),
            _ => (0..rng.usize(1..3)).map(|_| rng.u8(0x80..)).collect(),
        };
        let fields = |rng: &mut Rng, first: usize| {
            (0..rng.usize(4..8)).map(|name| Field::any(rng, first + name)).collect::<Vec<_>>()
        };
        let has_type = framing != Framing::Fixed && rng.bool();
        let (mut own, mut others) = (fields(rng, 0), if has_type { fields(rng, 20) } else { Vec::new() });
        for fields in [&mut own, &mut others] {
            // Something moves in every frame.
            if let Some(first) = fields.first_mut() {
                let (range, walk) = (Some([-3_000, 3_000]), Walk::Smooth(-3_000, 3_000, 600));
                *first = Field { name: first.name.clone(), bytes: 2, signed: true, range, walk, ..*first };
            }
        }
        let sum = with_sum.then(|| {
            let sum = loop {
                let sum = match rng.u8(..8) {
                    0 | 1 => Sum::plain(rng),
                    2..=4 => Sum::named_crc(rng),
                    5 => {
                        let width = rng.choice([8, 16, 32]).unwrap();
                        Sum::crc(rng, width, true)
                    }
                    _ => Sum::usual(rng),
                };
                if sum.width <= 32 {
                    break sum;
                }
            };
            let (form, send) = match framing {
                Framing::Told | Framing::Fixed if sum.width.is_multiple_of(8) && rng.u8(..4) == 0 => {
                    written(rng, sum.width, true)
                }
                _ => written(rng, sum.width, false),
            };
            let from = rng.choice([0, 0, start.len(), start.len(), start.len() + 1]).unwrap();
            Covered { sum, form, send, from }
        });
        Device { framing, start, add: rng.i64(0..4), fields: own, others, has_type, sum }
    }

    /// Bytes of the frame's contents before its fields.
    fn lead(&self) -> usize {
        self.start.len() + usize::from(self.framing == Framing::Told) + usize::from(self.has_type)
    }

    fn declared(&self, wrong: Option<Wrong>, checksum: Option<&str>, rng: &mut Rng) -> String {
        let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02X} ")).collect::<String>();
        let size = |fields: &[Field]| fields.iter().map(|field| field.bytes).sum::<usize>();
        let behind = self.sum.as_ref().map_or(0, |sum| (sum.send)(0).len());
        let off = if wrong == Some(Wrong::Length) { rng.choice([-2, -1, 1, 2, 3]).unwrap() } else { 0 };
        let is_told = rng.bool() || self.framing == Framing::Fixed;
        let mut text = "format = 'device'\n[[frame]]\n".to_owned();
        text += &match self.framing {
            Framing::Told => format!(
                "cut = 'packet'\nstart = '{}'\nlength = {{ byte = {}, type = 'u8', add = {} }}\n",
                hex(&self.start),
                self.start.len(),
                self.add + off
            ),
            Framing::Fixed => format!(
                "cut = 'packet'\nstart = '{}'\nlength = {}\n",
                hex(&self.start),
                self.lead() + size(&self.fields) + behind
            ),
            Framing::Slip => "cut = 'slip'\n".to_owned(),
            Framing::Lines => {
                "cut = 'text'\nstart = \"'#'\"\nend = 'CR LF'\ncoding = [{ step = 'hex', from = 1 }]\nread = 'bytes'\n"
                    .to_owned()
            }
        };
        if let Some(checksum) = checksum {
            text += &format!("{checksum}\n");
        }
        let kind = self.lead().saturating_sub(1);
        if self.has_type {
            text += &format!("header = [{{ name = 'kind', byte = {kind}, type = 'u8', internal = true }}]\n");
        }
        for (number, fields) in
            [&self.fields, &self.others].into_iter().enumerate().filter(|(_, fields)| !fields.is_empty())
        {
            text += &format!("[record.r{number}]\n");
            if self.has_type {
                text += &format!("when = 'kind == {}'\n", number + 1);
            }
            // What is wrong is wrong in the first field of the first record.
            let declared: Vec<String> = fields
                .iter()
                .enumerate()
                .map(|(index, field)| {
                    let text = field.declared(wrong.filter(|_| number == 0 && index == 0));
                    if index == 0 { text.replacen("{ ", &format!("{{ byte = {}, ", self.lead()), 1) } else { text }
                })
                .collect();
            let missing = if checksum.is_none() && behind > 0 && is_told {
                // Nobody knows yet what these are, or even that they are there.
                format!(", {{ type = 'bytes', width = {behind}, reserved = true }}")
            } else {
                String::new()
            };
            text += &format!("fields = [{}{missing}]\n", declared.join(", "));
        }
        text
    }

    /// The checksum as it ought to be declared.
    fn checksum(&self) -> Option<String> {
        let sum = self.sum.as_ref()?;
        Some(format!("checksum = {{ algorithm = {}, {}, from = {} }}", sum.sum.declared, sum.form, sum.from))
    }

    fn frame(&self, last: &mut BTreeMap<String, i64>, rng: &mut Rng) -> Vec<u8> {
        let second = self.has_type && rng.bool();
        let fields = if second { &self.others } else { &self.fields };
        let mut body = Vec::new();
        for field in fields {
            let seed = match field.walk {
                Walk::Smooth(low, high, _) => (low + high) / 2,
                _ => 0,
            };
            body.extend(field.next(last.entry(field.name.clone()).or_insert(seed), rng));
        }
        let behind = self.sum.as_ref().map_or(0, |sum| (sum.send)(0).len());
        let mut contents = self.start.clone();
        if self.framing == Framing::Told {
            contents.push((self.lead() + body.len() + behind - self.add as usize) as u8);
        }
        if self.has_type {
            contents.push(1 + u8::from(second));
        }
        contents.extend(body);
        if let Some(sum) = &self.sum {
            let value = sum.sum.of(contents.get(sum.from..).unwrap_or_default());
            contents.extend((sum.send)(value));
        }
        contents
    }

    fn sent(&self, contents: &[u8]) -> Vec<u8> {
        match self.framing {
            Framing::Slip => {
                let mut sent = Vec::new();
                for byte in contents {
                    match byte {
                        0xC0 => sent.extend([0xDB, 0xDC]),
                        0xDB => sent.extend([0xDB, 0xDD]),
                        other => sent.push(*other),
                    }
                }
                sent.push(0xC0);
                sent
            }
            Framing::Lines => {
                let digits: String = contents[1..].iter().map(|byte| format!("{byte:02X}")).collect();
                format!("#{digits}\r\n").into_bytes()
            }
            _ => contents.to_vec(),
        }
    }

    /// A stream of so many frames, of which a share is damaged.
    fn stream(&self, frames: usize, damage: f64, rng: &mut Rng) -> Vec<u8> {
        let mut last = BTreeMap::new();
        let mut stream = if self.framing == Framing::Slip { vec![0xC0] } else { Vec::new() };
        for _ in 0..frames {
            let contents = self.frame(&mut last, rng);
            let mut sent = self.sent(&contents);
            if rng.f64() < damage {
                let place = rng.usize(..sent.len());
                match rng.u8(..3) {
                    0 => sent[place] ^= 1 << rng.u8(..8),
                    1 => drop(sent.remove(place)),
                    _ => sent.insert(place, rng.u8(..)),
                }
            }
            stream.extend(sent);
        }
        stream
    }
}

fn against(text: &str, stream: &[u8]) -> Findings {
    let format = Format::parse(text).unwrap_or_else(|problems| panic!("{problems}\n{text}"));
    let mut against = format.against().unwrap_or_else(|problems| panic!("{problems}\n{text}"));
    let line = against.line("", 0).unwrap();
    for chunk in stream.chunks(4_096) {
        against.feed(Chunk::new(line, chunk));
    }
    against.finish()
}

/// How many records a format gives of a stream.
fn records(text: &str, stream: &[u8]) -> u64 {
    match Format::parse(text).and_then(|format| format.compile()) {
        Ok(plan) => plan.records(stream).len() as u64,
        Err(_) => 0,
    }
}

/// What is wrong with a declaration, and whether it was named first.
struct Outcome {
    wrong: &'static str,
    named: bool,
    told: String,
}

/// A device that is declared wrong in one way.
fn trial(seed: u64) -> Option<Outcome> {
    let mut rng = Rng::with_seed(seed);
    let device = Device::any(&mut rng, true);
    let damage = [0.0, 0.01, 0.1][(seed % 3) as usize];
    let stream = device.stream(300, damage, &mut rng);
    let fresh = device.stream(60, 0.0, &mut rng);
    let right = device.checksum()?;
    assert_eq!(
        records(&device.declared(None, Some(&right), &mut rng), &fresh),
        60,
        "seed {seed}\n{}",
        device.declared(None, Some(&right), &mut rng)
    );
    let sum = device.sum.as_ref()?;
    let size = (sum.send)(0).len();
    let (word, wrong, checksum) = match rng.u8(..10) {
        0 | 1 => ("an algorithm", None, Some(right.replace(&sum.sum.declared, other_algorithm(&sum.sum, &mut rng)))),
        2 => (
            "where it begins",
            None,
            Some(right.replace(
                &format!("from = {}", sum.from),
                &format!("from = {}", if sum.from == 0 { 1 + device.start.len() } else { 0 }),
            )),
        ),
        3 if sum.form.contains("be'") => ("the order of its bytes", None, Some(right.replace("be'", "le'"))),
        3 if sum.form.contains("le'") => ("the order of its bytes", None, Some(right.replace("le'", "be'"))),
        3 | 4 => ("no checksum", None, None),
        5 if device.framing == Framing::Told => ("a length", Some(Wrong::Length), Some(right.clone())),
        6 | 7 => ("a field's order", Some(Wrong::Order), Some(right.clone())),
        8 => ("a field's sign", Some(Wrong::Sign), Some(right.clone())),
        _ => ("a field's scale", Some(Wrong::Scale), Some(right.clone())),
    };
    let text = device.declared(wrong, checksum.as_deref(), &mut rng);
    let checksum_is_wrong = wrong.is_none();
    if checksum_is_wrong && checksum.is_some() && records(&text, &fresh) > 30 {
        // It says the same in other words.
        return None;
    }
    let findings = against(&text, &stream);
    let first = findings.proposals.first();
    let named = first.is_some_and(|first| match (wrong, first.wrong) {
        (None, Wrong::Checksum | Wrong::NoChecksum) => {
            records(&device.declared(None, Some(&first.proposed), &mut rng), &fresh) == 60
        }
        (Some(Wrong::Length), Wrong::Length) => {
            first.proposed.ends_with(&format!("add = {} }}", device.add))
                || device.add == 0 && !first.proposed.contains("add")
        }
        (Some(Wrong::Order | Wrong::Sign), Wrong::Order | Wrong::Sign) => {
            first.proposed == format!("type = \"{}\"", device.fields[0].kind())
                && first.place == format!("r0.{}", device.fields[0].name)
        }
        (Some(Wrong::Scale), Wrong::Scale) => {
            first.proposed == format!("scale = {}", scale(device.fields[0].places))
                && first.place == format!("r0.{}", device.fields[0].name)
        }
        _ => false,
    });
    let told = format!(
        "seed {seed}, {word}, damage {damage}, {size} bytes of checksum\n{right}\n{text}\n{:#?}\n{:?}",
        findings.proposals, findings.kinds[0].fields
    );
    Some(Outcome { wrong: word, named, told })
}

/// Another algorithm of the same width.
fn other_algorithm(sum: &Sum, rng: &mut Rng) -> &'static str {
    let others = match sum.width {
        0..=8 => &["'SUM-8'", "'XOR-8'", "'CRC-8/SMBUS'", "{ bits = 8, complement = 'two' }"][..],
        9..=16 => &["'SUM-16'", "'CRC-16/MODBUS'", "'CRC-16/XMODEM'", "'FLETCHER-16'"],
        17..=24 => &["'CRC-24/BLE'", "'CRC-24/OPENPGP'"],
        _ => &["'SUM-32'", "'CRC-32/ISO-HDLC'", "'CRC-32/BZIP2'", "'ADLER-32'"],
    };
    let other = others[rng.usize(..others.len())];
    if sum.declared == other { others[0] } else { other }
}

/// How many devices are tried: a script asks for more.
fn devices(usual: u64) -> u64 {
    std::env::var("AGAINST_DEVICES").ok().and_then(|devices| devices.parse().ok()).unwrap_or(usual)
}

#[test]
fn what_is_wrong_is_named_first() {
    let mut rates: BTreeMap<&str, (u64, u64)> = BTreeMap::new();
    let (mut named, mut all) = (0, 0);
    for seed in 0..devices(60) {
        let Some(outcome) = trial(seed) else { continue };
        let (right, of) = rates.entry(outcome.wrong).or_default();
        *of += 1;
        all += 1;
        match outcome.named {
            true => (*right, named) = (*right + 1, named + 1),
            false if std::env::var_os("AGAINST_TELL").is_some() => eprintln!("{}\n", outcome.told),
            false => {}
        }
    }
    println!("named first: {named} of {all}");
    for (wrong, (right, of)) in rates {
        println!("  {wrong:24} {right:4} of {of:4}");
    }
    assert!(named * 100 >= all * 95, "{named} of {all}");
}

#[test]
fn nothing_is_claimed_where_nothing_is_wrong() {
    let (mut claimed, mut all) = (0, 0);
    for seed in 0..devices(30) {
        let mut rng = Rng::with_seed(seed + 1_000_000);
        let has_sum = rng.bool();
        let device = Device::any(&mut rng, has_sum);
        let checksum = device.checksum();
        let text = device.declared(None, checksum.as_deref(), &mut rng);
        let damage = [0.0, 0.01, 0.1][(seed % 3) as usize];
        let stream = match rng.u8(..4) {
            0 => (0..9_000).map(|_| rng.u8(..)).collect(),
            _ => device.stream(300, damage, &mut rng),
        };
        let findings = against(&text, &stream);
        all += 1;
        if let Some(proposal) = findings.proposals.iter().find(|proposal| proposal.is_claimed()) {
            claimed += 1;
            if std::env::var_os("AGAINST_TELL").is_some() {
                eprintln!("seed {seed}\n{text}\n{proposal:#?}\n");
            }
        }
    }
    println!("claimed where nothing is wrong: {claimed} of {all}");
    assert_eq!(claimed, 0, "of {all}");
}

/// Frames with something that changes in each: so many of them, of any of these lengths.
fn payloads(seed: u64, count: usize, lengths: &[usize]) -> Vec<Vec<u8>> {
    let mut rng = Rng::with_seed(seed);
    (0..count).map(|_| (0..lengths[rng.usize(..lengths.len())]).map(|_| rng.u8(b'0'..b'z')).collect()).collect()
}

/// What is proposed first for a stream, and what it leaves open.
fn first(text: &str, stream: &[u8]) -> (String, Option<String>) {
    let findings = against(text, stream);
    let first = findings.proposals.first().unwrap_or_else(|| panic!("nothing proposed\n{text}\n{findings:#?}"));
    assert!(first.is_claimed(), "{first:#?}");
    (first.proposed.clone(), first.open.clone())
}

/// Checksums that stand elsewhere than at the end of the contents, of devices that declare none.
#[test]
fn checksums_are_found_where_they_stand() {
    let xor = |bytes: &[u8]| bytes.iter().fold(0, |all, byte| all ^ byte);
    let sum = |bytes: &[u8]| bytes.iter().fold(0u8, |all, byte| all.wrapping_add(*byte));
    let text = |cut: &str, fields: &str| format!("format = 'x'\n[[frame]]\n{cut}\n[record.r]\nfields = [{fields}]\n");
    let stream = |make: &dyn Fn(&[u8]) -> Vec<u8>| {
        payloads(7, 200, &[12, 17, 23]).iter().flat_map(|data| make(data)).collect::<Vec<u8>>()
    };
    let line = |data: &[u8], last: String| [&b"!"[..], data, last.as_bytes(), b"\r\n"].concat();
    let cases: Vec<(&str, String, Vec<u8>, &str)> = vec![
        (
            "behind the end, which it covers",
            text("cut = 'packet'\nstart = 'STX'\nend = 'ETX'\nread = 'columns'", "{ name = 'a' }"),
            stream(&|data| {
                let body = [data, &[3]].concat();
                [&[2], &body[..], &[xor(&body)]].concat()
            }),
            "checksum = { algorithm = \"XOR-8\", type = \"u8\", from = 1, behind = true, through_end = true }",
        ),
        (
            "behind the end, in hex",
            text("cut = 'packet'\nstart = 'STX'\nend = 'ETX'\nread = 'columns'", "{ name = 'a' }"),
            stream(&|data| [&[2], data, &[3], format!("{:02X}", sum(data)).as_bytes()].concat()),
            "checksum = { algorithm = \"SUM-8\", type = \"u8\", digits = \"hex\", from = 1, behind = true }",
        ),
        (
            "hex digits behind a star",
            text("cut = 'text'\nstart = \"'!'\"\nend = 'CR LF'", "{ name = 'a' }"),
            stream(&|data| line(data, format!("*{:02X}", xor(data)))),
            "checksum = { algorithm = \"XOR-8\", type = \"u8\", digits = \"hex\", from = 1, to = -4 }",
        ),
        (
            "decimal digits of a sum modulo 1000",
            text("cut = 'text'\nstart = \"'!'\"\nend = 'CR LF'", "{ name = 'a' }"),
            stream(&|data| line(data, format!("{:03}", data.iter().map(|byte| u32::from(*byte)).sum::<u32>() % 1_000))),
            "checksum = { algorithm = { bits = 10, modulus = 1000 }, type = \"number\", width = 3, from = 1 }",
        ),
        (
            "a character from a blank on, modulo 95",
            text("cut = 'text'\nstart = \"'!'\"\nend = 'CR LF'", "{ name = 'a' }"),
            stream(&|data| {
                let sum = data.iter().map(|byte| u32::from(*byte)).sum::<u32>() % 95;
                line(data, char::from(b' ' + sum as u8).to_string())
            }),
            "checksum = { algorithm = { bits = 7, modulus = 95 }, type = \"u8\", zero = \"SP\", from = 1 }",
        ),
        (
            "before a byte that ends all",
            text(
                "cut = 'packet'\nstart = 'A5'\nlength = { byte = 1, type = 'u8' }",
                "{ name = 'a', byte = 2, type = 'bytes' }",
            ),
            stream(&|data| {
                let body = [&[0xA5, data.len() as u8 + 5][..], data].concat();
                let crc = crc_16_modbus(&body);
                [&body[..], &crc.to_le_bytes(), &[0x16]].concat()
            }),
            "checksum = { algorithm = \"CRC-16/MODBUS\", type = \"u16le\", byte = -3 }",
        ),
        (
            "in front of what it covers",
            text(
                "cut = 'packet'\nstart = 'A5'\nlength = { byte = 1, type = 'u8' }",
                "{ name = 'a', byte = 2, type = 'bytes' }",
            ),
            stream(&|data| {
                let crc = crc_16_modbus(data);
                [&[0xA5, data.len() as u8 + 4][..], &crc.to_le_bytes(), data].concat()
            }),
            "checksum = { algorithm = \"CRC-16/MODBUS\", type = \"u16le\", byte = 2, from = 4, to = -1 }",
        ),
        (
            "over what is sent, stuffing and all",
            text("cut = 'slip'", "{ name = 'a', byte = 0, type = 'bytes' }"),
            {
                let mut rng = Rng::with_seed(5);
                let mut sent = vec![0xC0];
                for _ in 0..200 {
                    let data: Vec<u8> = (0..20).map(|_| rng.choice([0xC0, 0xDB, 1, 7, 200]).unwrap()).collect();
                    let stuff = |bytes: &[u8]| {
                        let one = |byte: &u8| match byte {
                            0xC0 => vec![0xDB, 0xDC],
                            0xDB => vec![0xDB, 0xDD],
                            other => vec![*other],
                        };
                        bytes.iter().flat_map(one).collect::<Vec<u8>>()
                    };
                    let stuffed = stuff(&data);
                    sent.extend(&stuffed);
                    sent.extend(stuff(&crc_16_modbus(&stuffed).to_be_bytes()));
                    sent.push(0xC0);
                }
                sent
            },
            "checksum = { algorithm = \"CRC-16/MODBUS\", type = \"u16be\", over = \"sent\" }",
        ),
    ];
    for (what, text, stream, wanted) in cases {
        assert_eq!(first(&text, &stream).0, wanted, "{what}");
    }
}

fn crc_16_modbus(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0xFFFF, |crc, &byte| {
        (0..8).fold(crc ^ u16::from(byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 })
    })
}

/// CRCs that no catalogue has: their parameters follow from frames of two lengths; of one length, what follows is said to be no more than that.
#[test]
fn unknown_crcs_are_told_with_what_stays_open() {
    let text = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'A5'\nlength = { byte = 1, type = 'u8' }\n[record.r]\nfields = [{ name = 'a', byte = 2, type = 'bytes' }]\n";
    let mut left_open = 0;
    for seed in 0..24u64 {
        let mut rng = Rng::with_seed(seed);
        let width = [8, 16, 32][(seed % 3) as usize];
        let sum = Sum::crc(&mut rng, width, true);
        let size = usize::from(width / 8);
        let stream = |lengths: &[usize]| {
            let frames = payloads(seed, 120, lengths);
            let frame = |data: &Vec<u8>| {
                let mut frame = [&[0xA5, (data.len() + 2 + size) as u8][..], data].concat();
                let crc = sum.of(&frame[1..]);
                frame.extend(&crc.to_be_bytes()[16 - size..]);
                frame
            };
            frames.iter().flat_map(frame).collect::<Vec<u8>>()
        };
        let device = |checksum: &str| text.replace("[record.r]", &format!("{checksum}\n[record.r]"));
        let (proposed, open) = first(text, &stream(&[11, 16, 30]));
        match open {
            // It holds for lengths that were never seen, too.
            None => {
                let others = stream(&[9, 40, 77]);
                assert_eq!(records(&device(&proposed), &others), 120, "{}\n{proposed}", sum.declared);
            }
            Some(open) => {
                assert!(open.contains("starts possible"), "{open}");
                left_open += 1;
            }
        }
        assert_eq!(records(&device(&proposed), &stream(&[11, 16, 30])), 120, "{}\n{proposed}", sum.declared);
        let (proposed, open) = first(text, &stream(&[20]));
        assert!(open.is_some_and(|open| open.contains("one length")), "{}", sum.declared);
        assert_eq!(records(&device(&proposed), &stream(&[20])), 120, "{}\n{proposed}", sum.declared);
    }
    assert!(left_open < 12, "{left_open}");
}

/// Frames that were kept one by one say the same as the stream of them.
#[test]
fn frames_and_streams_say_the_same() {
    let text = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'A5'\nlength = 9\nchecksum = { algorithm = 'SUM-16', type = 'u16le' }\n[record.r]\nfields = [{ name = 'a', type = 'u16be', range = [0, 40000] }, { name = 'b', type = 'i16le' }, { type = 'u16be', reserved = true }]\n";
    let frames: Vec<Vec<u8>> = payloads(3, 150, &[4])
        .iter()
        .map(|data| {
            let body = [&[0xA5][..], data, &[0, 7]].concat();
            [&body[..], &crc_16_modbus(&body).to_le_bytes()].concat()
        })
        .collect();
    let of_stream = against(text, &frames.concat());
    let format = Format::parse(text).unwrap();
    let mut one_by_one = format.against().unwrap();
    let line = one_by_one.line("", 0).unwrap();
    frames.iter().for_each(|frame| one_by_one.frame(line, frame));
    let of_frames = one_by_one.finish();
    assert_eq!(of_stream.proposals[0].proposed, "checksum = { algorithm = \"CRC-16/MODBUS\", type = \"u16le\" }");
    assert_eq!(of_stream.proposals[0].holds, 150);
    assert_eq!(format!("{:?}", of_stream.proposals), format!("{:?}", of_frames.proposals));
    // With the right checksum, what is left to be said is told.
    let right = text.replace("SUM-16", "CRC-16/MODBUS");
    let findings = against(&right, &frames.concat());
    assert!(findings.proposals.is_empty(), "{:?}", findings.proposals);
    let reserved = findings.kinds[0].fields.iter().find(|field| field.is_reserved()).unwrap();
    assert_eq!(reserved.constant.as_deref(), Some("7"));
}

/// Nothing that comes makes it fail or take long: no frames, one, all alike, noise of every sort.
#[test]
fn whatever_comes_is_borne() {
    let formats = [
        "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'A5'\nlength = { byte = 1, type = 'u16le', add = 4 }\nchecksum = { algorithm = 'SUM-8', type = 'u8' }\n[record.r]\nfields = [{ name = 'a', byte = 3, type = 'bytes' }]\n",
        "format = 'x'\n[[frame]]\ncut = 'slip'\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'bytes' }]\n",
        "format = 'x'\n[[frame]]\ncut = 'fixed'\nlength = 6\nchecksum = { algorithm = 'CRC-16/MODBUS', type = 'u16le' }\n[record.r]\nfields = [{ name = 'a', type = 'u32be' }]\n",
        "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nmore = 'ignore'\nfields = [{ name = 'a', type = 'number' }]\n",
        "format = 'x'\n[[frame]]\ncut = 'dle'\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'bytes' }]\n",
        "format = 'x'\n[[frame]]\ncut = 'nmea-0183'\n[record.r]\nfields = [{ name = 'a' }]\nmore = 'ignore'\n",
    ];
    let mut rng = Rng::with_seed(11);
    let mut streams: Vec<Vec<u8>> =
        vec![Vec::new(), vec![0xA5], vec![0; 30_000], vec![0xA5; 30_000], vec![0xC0; 30_000], vec![b'\n'; 20_000]];
    streams.push([0xA5, 9, 0].repeat(9_000));
    streams.push(b"A,1\r\n".repeat(5_000));
    streams.push((0..40_000).map(|_| rng.choice([0xA5, 0, 1, 0xC0, 0x10, 2, 3, b'\n', b'$', b'*']).unwrap()).collect());
    streams.push((0..40_000).map(|_| rng.u8(..)).collect());
    for text in formats {
        for (number, stream) in streams.iter().enumerate() {
            let findings = against(text, stream);
            assert!(findings.ledger.balances());
            assert!(
                findings.proposals.iter().all(|proposal| !proposal.is_claimed() || proposal.wrong == Wrong::Length),
                "{number}\n{text}\n{:?}",
                findings.proposals
            );
        }
    }
}

/// Of several checksums the one that does not hold is told apart from those that do; lines that may come without one say nothing of it.
#[test]
fn only_the_checksum_that_fails_is_doubted() {
    let text = |header: &str| {
        format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'A5'\nlength = {{ byte = 1, type = 'u8' }}\nchecksum = [{{ algorithm = 'CRC-16/MODBUS', type = 'u16le' }}, {{ algorithm = '{header}', type = 'u8', byte = 4, to = 3 }}]\n\
             [record.r]\nfields = [{{ name = 'a', byte = 2, type = 'u16be' }}, {{ name = 'b', byte = 5, type = 'bytes' }}]\n"
        )
    };
    let frame = |data: &Vec<u8>| {
        let mut frame = [&[0xA5, data.len() as u8 + 5 - 2 + 2][..], &data[..2]].concat();
        frame.push(frame.iter().fold(0, |all, byte| all ^ byte));
        frame.extend(&data[2..]);
        frame.extend(crc_16_modbus(&frame).to_le_bytes());
        frame
    };
    let stream: Vec<u8> = payloads(9, 200, &[9, 14, 20]).iter().flat_map(frame).collect();
    assert_eq!(records(&text("XOR-8"), &stream), 200);
    assert!(against(&text("XOR-8"), &stream).proposals.is_empty());
    let findings = against(&text("SUM-8"), &stream);
    // A few sums are xors, too.
    assert!(findings.frames[0].frames == 200 && findings.frames[0].held < 10, "{:?}", findings.frames);
    let [proposal] = &findings.proposals[..] else { panic!("{findings:#?}") };
    assert_eq!(proposal.place, "frame packet, checksum 2");
    assert_eq!(proposal.proposed, "checksum = { algorithm = \"XOR-8\", type = \"u8\", byte = 4, to = 3 }");

    let optional = "format = 'x'\n[[frame]]\ncut = 'text'\nend = 'CR LF'\nchecksum = { algorithm = 'XOR-8', type = 'u8', digits = 'hex', mark = \"'*'\", presence = 'optional' }\n[record.r]\nfields = [{ name = 'a' }]\n";
    let lines = |wrong: u8| {
        let line = |(number, data): (usize, &Vec<u8>)| {
            let sum = data.iter().fold(wrong, |all, byte| all ^ byte);
            let mark = if number % 4 == 0 { format!("*{sum:02X}") } else { String::new() };
            [&data[..], mark.as_bytes(), b"\r\n"].concat()
        };
        payloads(4, 200, &[12]).iter().enumerate().flat_map(line).collect::<Vec<u8>>()
    };
    let findings = against(optional, &lines(0));
    assert_eq!((findings.frames[0].frames, findings.frames[0].held), (50, 50));
    assert!(findings.proposals.is_empty(), "{:?}", findings.proposals);
    let (proposed, _) = first(optional, &lines(0xFF));
    assert!(proposed.contains("{ xor = true, bits = 8, complement = \"one\" }"), "{proposed}");
}
