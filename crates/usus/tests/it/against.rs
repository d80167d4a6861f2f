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
        let kind = self.lead() - 1;
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
            contents.push((self.lead() + body.len() + behind) as u8 - self.add as u8);
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
        findings.proposals,
        findings.kinds[0].fields
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
    for seed in 0..devices(120) {
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
    for seed in 0..devices(60) {
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
