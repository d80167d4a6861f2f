//! Checksums of every kind: by name and by random parameters, against computing them bit by bit and step by step; written in every way.

use fastrand::Rng;
use usus::checksum::{Checksum, CyclicParameters};
use usus::{Format, Plan};

use crate::drive::{Input, run};

/// What computes a checksum.
type Slow = Box<dyn Fn(&[u8]) -> u128>;

/// What writes it.
pub type Send = Box<dyn Fn(u128) -> Vec<u8>>;

/// A checksum as a format declares it, and as it is computed in the slowest way.
pub struct Sum {
    /// What `algorithm` says: a name in quotes, or a table.
    pub declared: String,
    pub width: u32,
    slow: Slow,
}

impl Sum {
    pub fn of(&self, bytes: &[u8]) -> u128 {
        (self.slow)(bytes)
    }

    /// Any of the catalogue's CRCs of whole bytes up to 32 bits.
    pub fn named_crc(rng: &mut Rng) -> Sum {
        let all = Checksum::catalogue();
        let fits = |width: u8| matches!(width, 8 | 16 | 24 | 32);
        let entries: Vec<_> = all.iter().filter(|entry| entry.cyclic.is_some() && fits(entry.width)).collect();
        let entry = rng.choice(&entries).unwrap();
        let parameters = entry.cyclic.unwrap();
        Sum {
            declared: format!("\"{}\"", entry.name),
            width: entry.width.into(),
            slow: Box::new(move |bytes| slow_crc(parameters, bytes)),
        }
    }

    /// A CRC of random parameters.
    pub fn crc(rng: &mut Rng, width: u8, usual: bool) -> Sum {
        let mask = u64::MAX >> (64 - width);
        let mut number = || match rng.u8(..4) {
            0 => 0,
            1 => mask,
            _ => rng.u64(..) & mask,
        };
        let (initial, last) = (number(), number());
        let polynomial = (rng.u64(..) & mask) | 1;
        let (both, only) = (rng.bool(), rng.u8(..8));
        let reflected = match only {
            0 if !usual => "\"input\"",
            1 if !usual => "\"output\"",
            _ if both => "true",
            _ => "false",
        };
        let mut parameters = CyclicParameters::new(width, polynomial.into());
        (parameters.initial, parameters.final_xor) = (initial.into(), last.into());
        parameters.reflect_input = matches!(reflected, "true" | "\"input\"");
        parameters.reflect_output = matches!(reflected, "true" | "\"output\"");
        Sum {
            declared: format!(
                "{{ width = {width}, polynomial = {polynomial:#X}, initial = {initial:#X}, reflected = {reflected}, final = {last} }}"
            ),
            width: width.into(),
            slow: Box::new(move |bytes| slow_crc(parameters, bytes)),
        }
    }

    /// One sum or two, or an xor, of random parameters.
    pub fn added(rng: &mut Rng) -> Sum {
        let size = rng.choice([1, 1, 1, 2, 2, 4]).unwrap();
        let big = rng.bool();
        let of = match (size, big) {
            (1, _) => "u8".to_owned(),
            (size, true) => format!("u{}be", 8 * size),
            (size, false) => format!("u{}le", 8 * size),
        };
        let is_xor = rng.u8(..4) == 0;
        let sums = if is_xor || rng.bool() { 1 } else { 2 };
        let bits = if is_xor { 8 * size as u32 } else { rng.choice([4, 7, 8, 8, 8, 16, 16, 32]).unwrap() };
        let mask = u64::MAX >> (64 - bits);
        let around = rng.u8(..5) == 0 && !is_xor;
        let modulus = match rng.u8(..4) {
            _ if around || is_xor => None,
            0 => Some(mask),
            1 => Some(rng.u64(2..=mask)),
            _ => None,
        };
        let mut first = || if rng.bool() { 0 } else { rng.u64(..) & mask };
        let initial = [first(), if sums == 2 { first() } else { 0 }];
        let complement = rng.u8(..3);
        let mut declared = format!("{{ of = \"{of}\", bits = {bits}");
        if is_xor {
            declared += ", xor = true";
        }
        declared += &format!(", sums = {sums}");
        if let Some(modulus) = modulus {
            declared += &format!(", modulus = {modulus}");
        }
        if around {
            declared += ", modulus = \"end-around\"";
        }
        if initial != [0, 0] {
            declared += &match sums {
                1 => format!(", initial = {}", initial[0]),
                _ => format!(", initial = [{}, {:#X}]", initial[0], initial[1]),
            };
        }
        declared += ["", ", complement = \"one\"", ", complement = \"two\""][usize::from(complement)];
        let slow = move |bytes: &[u8]| {
            let values = modulus.map_or(u128::from(mask) + 1, u128::from);
            let (mut one, mut two) = (u128::from(initial[0]), u128::from(initial[1]));
            let add = |to: &mut u128, number: u128| {
                *to += number;
                if around {
                    while *to > u128::from(mask) {
                        *to = (*to & u128::from(mask)) + (*to >> bits);
                    }
                } else {
                    *to %= values;
                }
            };
            for unit in bytes.chunks(size) {
                let mut unit = unit.to_vec();
                unit.resize(size, 0);
                if !big {
                    unit.reverse();
                }
                let number = unit.iter().fold(0u128, |number, byte| number << 8 | u128::from(*byte));
                if is_xor {
                    one ^= number;
                } else {
                    add(&mut one, number);
                    let sum = one;
                    add(&mut two, sum);
                }
            }
            let zero = if around { u128::from(mask) } else { values };
            let end = |mut sum: u128| {
                if !around {
                    sum %= values;
                }
                match complement {
                    0 => sum,
                    1 => sum ^ u128::from(mask),
                    _ => (zero - sum) % zero,
                }
            };
            if sums == 1 { end(one) } else { end(two) << bits | end(one) }
        };
        Sum { declared: declared + " }", width: bits * sums, slow: Box::new(slow) }
    }

    /// A sum or xor as datasheets call it.
    pub fn plain(rng: &mut Rng) -> Sum {
        let declared = rng.choice(["SUM-8", "SUM-16", "XOR-8", "FLETCHER-16", "ADLER-32"]).unwrap();
        let checksum = Checksum::named(declared).unwrap();
        let (width, slow) = (checksum.width().into(), Box::new(move |bytes: &[u8]| checksum.of(bytes)));
        Sum { declared: format!("\"{declared}\""), width, slow }
    }

    /// A sum or xor with what devices do to them: complements, first values, moduli, words.
    pub fn usual(rng: &mut Rng) -> Sum {
        loop {
            let sum = Sum::added(rng);
            let usual = |bits: &str| sum.declared.contains(bits);
            let modulus =
                usual("modulus") && !usual("modulus = 255") && !usual("modulus = 65535") && !usual("end-around");
            let negated_xor = usual("xor") && usual("two");
            let one = usual("u8") || usual("u16") && !usual("bits = 8") || usual("u32") && usual("bits = 32");
            if !modulus && !negated_xor && one && matches!(sum.width, 8 | 16 | 32) && !usual("bits = 4,") {
                return sum;
            }
        }
    }

    pub fn any(rng: &mut Rng) -> Sum {
        match rng.u8(..5) {
            0 => Sum::named_crc(rng),
            1 => {
                let width = rng.u8(1..=64);
                Sum::crc(rng, width, false)
            }
            _ => Sum::added(rng),
        }
    }
}

fn slow_crc(of: CyclicParameters, bytes: &[u8]) -> u128 {
    let mask = u128::MAX >> (128 - of.width);
    let mut register = of.initial;
    for byte in bytes {
        for place in 0..8 {
            let bit = if of.reflect_input { byte >> place & 1 } else { byte >> (7 - place) & 1 };
            let top = register >> (of.width - 1) & 1 == 1;
            register = register << 1 & mask;
            if top != (bit == 1) {
                register ^= of.polynomial;
            }
        }
    }
    if of.reflect_output {
        register = register.reverse_bits() >> (128 - of.width);
    }
    register ^ of.final_xor
}

fn plan(text: &str) -> Plan {
    match Format::parse(text).and_then(|format| format.compile()) {
        Ok(plan) => plan,
        Err(problems) => panic!("{problems}\n{text}"),
    }
}

/// Ways to write a checksum: what a format says, and what is sent.
pub fn written(rng: &mut Rng, width: u32, printable: bool) -> (String, Send) {
    let size = width.div_ceil(8).max(1) as usize;
    let big = rng.bool();
    let kind = match (size, big) {
        (1, _) => "u8".to_owned(),
        (size, true) => format!("u{}be", 8 * size),
        (size, false) => format!("u{}le", 8 * size),
    };
    let bytes = move |value: u128| {
        let mut bytes = value.to_be_bytes()[16 - size..].to_vec();
        if !big {
            bytes.reverse();
        }
        bytes
    };
    match if printable { rng.u8(..3) } else { 3 } {
        0 => {
            let hex = move |value| bytes(value).iter().flat_map(|byte| format!("{byte:02X}").into_bytes()).collect();
            (format!("type = '{kind}', digits = 'hex'"), Box::new(hex))
        }
        1 => {
            let digits = 1 + (f64::from(width) * std::f64::consts::LOG10_2) as usize;
            let decimal = move |value: u128| format!("{value:0digits$}").into_bytes();
            (format!("type = 'number', width = {digits}"), Box::new(decimal))
        }
        2 => {
            let (bits, zero) = rng.choice([(4, b'0'), (4, b'@'), (6, b' '), (3, b'0')]).unwrap();
            let characters = (width as usize).div_ceil(bits);
            let order = if big { "u64be" } else { "u64le" };
            let counted = move |value: u128| {
                let digit = |place: usize| zero + (value >> (bits * place) & ((1 << bits) - 1)) as u8;
                let mut sent: Vec<u8> = (0..characters).map(digit).collect();
                if big {
                    sent.reverse();
                }
                sent
            };
            let declared = format!("type = '{order}', zero = '{zero:02X}', digit_bits = {bits}, width = {characters}");
            (declared, Box::new(counted))
        }
        _ => (format!("type = '{kind}'"), Box::new(bytes)),
    }
}

/// Packets with a random checksum: their format, and what makes them.
struct Packets {
    text: String,
    sum: Sum,
    form: String,
    send: Send,
}

fn packets(rng: &mut Rng) -> Packets {
    let sum = Sum::any(rng);
    let printable = rng.u8(..5) < 3;
    let (form, send) = written(rng, sum.width, printable);
    let text = format!(
        "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = {{ byte = 1, type = 'u8' }}\n\
         checksum = {{ algorithm = {}, {form}, from = 1 }}\n[record.r]\n\
         fields = [{{ name = 'data', byte = 2, type = 'bytes' }}]\n",
        sum.declared
    );
    Packets { text, sum, form, send }
}

/// A format with a random checksum.
pub fn text(seed: u64) -> String {
    packets(&mut Rng::with_seed(seed)).text
}

#[test]
fn any_parameters_give_what_is_computed_step_by_step() {
    for seed in 0..600 {
        let mut rng = Rng::with_seed(seed);
        let sum = Sum::any(&mut rng);
        let text = format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 20\nchecksum = {{ algorithm = {}, type = 'u64be' }}\n",
            sum.declared
        );
        let format = Format::parse(&text).unwrap_or_else(|problems| panic!("{problems}\n{text}"));
        let algorithm = &format.frames[0].checksums[0].algorithm;
        let checksum = Checksum::new(algorithm).unwrap();
        assert_eq!(u32::from(checksum.width()), sum.width, "{}", sum.declared);
        for length in (0..40).chain([300, 9_000]) {
            let bytes: Vec<u8> = match rng.u8(..4) {
                0 => vec![0; length],
                1 => vec![0xFF; length],
                _ => (0..length).map(|_| rng.u8(..)).collect(),
            };
            assert_eq!(checksum.of(&bytes), sum.of(&bytes), "{}, {length} bytes, seed {seed}", sum.declared);
        }
        // What it says of itself is what declares it.
        let again = text.replace(
            &sum.declared,
            &match checksum.name().starts_with('{') {
                true => checksum.name().to_owned(),
                false => format!("'{}'", checksum.name()),
            },
        );
        assert_eq!(&Format::parse(&again).unwrap().frames[0].checksums[0].algorithm, algorithm);
    }
}

/// Sound packets amid noise that looks like their begin, some damaged, whose candidates overlap.
#[test]
fn packets_with_any_checksum_are_found_and_damaged_ones_are_not() {
    let mut found = 0;
    for seed in 0..400 {
        let mut rng = Rng::with_seed(seed);
        let Packets { text, sum, form, send } = packets(&mut rng);
        let size = send(0).len();
        let plan = plan(&text);
        let (mut bytes, mut sent) = (Vec::new(), Vec::new());
        for _ in 0..12 {
            let noise = rng.usize(0..60);
            bytes.extend((0..noise).map(|_| rng.choice([0xAA, 0xFE, 0xF0, 0x55]).unwrap()));
            let length = size + 2 + rng.usize(0..=250 - size);
            let mut packet = vec![0xAA, length as u8];
            packet.extend((0..length - 2 - size).map(|_| rng.u8(..)));
            let value = sum.of(&packet[1..]);
            packet.extend(send(value));
            let is_sound = rng.u8(..5) > 0;
            if !is_sound {
                let place = rng.usize(2..packet.len());
                packet[place] ^= 1 << rng.u8(..8);
            }
            sent.push((bytes.len(), length, is_sound));
            bytes.extend(packet);
        }
        bytes.extend([0; 300]);
        let (events, _) = run(&plan, &Input::raw(&bytes), &mut || rng.usize(1..400));
        let records: Vec<(usize, usize)> = events.iter().filter_map(|event| record_place(event)).collect();
        for (offset, length, is_sound) in sent {
            let is_found = records.contains(&(offset, length));
            let is_covered = records.iter().any(|(from, long)| *from < offset && from + long > offset);
            assert!(is_found || is_covered || !is_sound, "seed {seed}: {offset}+{length}\n{text}\n{events:#?}");
            found += usize::from(is_found && is_sound);
        }
        for (offset, length) in records {
            let packet = &bytes[offset..offset + length];
            let covered = &packet[1..length - size];
            let matches = packet[length - size..].eq_ignore_ascii_case(&send(sum.of(covered)));
            // Decimal digits may have blanks before them.
            assert!(matches || form.contains("number"), "seed {seed}: {offset}+{length} is none\n{text}");
        }
    }
    assert!(found > 3_000, "{found}");
}

fn record_place(event: &str) -> Option<(usize, usize)> {
    let (place, said) = event.split_once(' ')?;
    let (offset, length) = place.split_once('+').filter(|_| said.starts_with("r "))?;
    Some((offset.parse().ok()?, length.parse().ok()?))
}

/// A header with a sum of its own, and a CRC over everything: both have to hold, and a reject says which does not.
#[test]
fn several_checksums_all_have_to_hold() {
    for (cut, lead) in
        [("cut = 'packet'\nstart = 'AA'\nlength = { byte = 1, type = 'u8' }", &[0xAA][..]), ("cut = 'cobs'", &[])]
    {
        let text = format!(
            "format = 'x'\n[[frame]]\nname = 'f'\n{cut}\n\
             checksum = [{{ algorithm = 'CRC-16/XMODEM', type = 'u16be' }}, {{ algorithm = 'XOR-8', type = 'u8', byte = {at}, to = {to} }}]\n\
             header = [{{ name = 'size', byte = {size}, type = 'u8', internal = true }}]\n\
             [record.r]\nfields = [{{ name = 'data', byte = {}, type = 'bytes' }}]\n",
            lead.len() + 2,
            at = lead.len() + 1,
            to = lead.len(),
            size = lead.len(),
        );
        let plan = plan(&text);
        let crc = Checksum::named("CRC-16/XMODEM").unwrap();
        let sent = |wrong_header: u8, wrong_end: u16| {
            let mut packet = [lead, &[10]].concat();
            packet.push(packet.iter().fold(wrong_header, |sum, byte| sum ^ byte));
            packet.extend([7u8; 5 + 1].iter().take(10 - lead.len() - 4));
            let sum = crc.of(&packet) as u16 ^ wrong_end;
            packet.extend(sum.to_be_bytes());
            match lead {
                [] => {
                    let mut stuffed = vec![packet.len() as u8 + 1];
                    assert!(!packet.contains(&0));
                    stuffed.extend(packet);
                    stuffed.push(0);
                    stuffed
                }
                _ => packet,
            }
        };
        let said = |bytes: Vec<u8>| {
            let bytes = [sent(0, 0), bytes, sent(0, 0)].concat();
            let (events, _) = run(&plan, &Input::raw(&bytes), &mut || 3);
            events.join("\n")
        };
        assert_eq!(said(sent(0, 0)).matches(" r ").count(), 3, "{text}\n{}", said(sent(0, 0)));
        for (bytes, words) in [
            (sent(0, 1), "checksum 1 of a frame (f) does not hold"),
            (sent(1, 0), "checksum 2 of a frame (f) does not hold"),
        ] {
            let said = said(bytes);
            assert!(said.matches(" r ").count() == 2 && said.contains(words), "{said}");
        }
    }
}

/// The checksum of RFC 1071 on the bytes of its own example, and Fletcher's and Adler's on what everybody computes them of.
#[test]
fn sums_are_those_of_their_specifications() {
    let of = |declared: &str, bytes: &[u8]| {
        let text = format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 20\nchecksum = {{ algorithm = {declared}, type = 'u64be' }}\n"
        );
        let format = Format::parse(&text).unwrap();
        Checksum::new(&format.frames[0].checksums[0].algorithm).unwrap().of(bytes)
    };
    let internet = "{ of = 'u16be', bits = 16, modulus = 'end-around', complement = 'one' }";
    assert_eq!(of(internet, &[0x00, 0x01, 0xF2, 0x03, 0xF4, 0xF5, 0xF6, 0xF7]), !0xDDF2 & 0xFFFF);
    assert_eq!(of(internet, &[0; 6]), 0xFFFF);
    assert_eq!(of(internet, &[0xFF; 6]), 0);
    // RFC 1950: sums that begin with 1 and 0, modulo 65521.
    assert_eq!(of("'ADLER-32'", b""), 1);
    assert_eq!(of("'ADLER-32'", &[0xFF; 3]), (1 + 256 + 511 + 766 - 1) << 16 | 766);
    assert_eq!(of("'FLETCHER-16'", &[1, 2]), 0x0403);
    assert_eq!(of("'FLETCHER-16'", &[0xFF; 4]), 0);
    assert_eq!(of("'FLETCHER-32'", &[1, 2, 3]), 0x0405_0204);
    assert_eq!(of("{ bits = 8, complement = 'two' }", &[0x10, 0x20]), 0xD0);
}
