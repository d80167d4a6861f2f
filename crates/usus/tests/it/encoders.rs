//! Values by encoders: for each type one that writes a value as a device would, and says what has to come out. They share nothing with the decoder.

use fastrand::Rng;
use usus::{Format, Record};

/// A field's declaration, and random values of it: as it is sent, and as it is shown.
type Encoder = (String, Box<dyn Fn(&mut Rng) -> (Vec<u8>, String)>);

/// Digits of a number, shifted by so many places.
fn shifted(number: i128, places: usize) -> String {
    let digits = format!("{:0>width$}", number.unsigned_abs(), width = places + 1);
    let (whole, fraction) = digits.split_at(digits.len() - places);
    let sign = if number < 0 { "-" } else { "" };
    if places == 0 { format!("{sign}{whole}") } else { format!("{sign}{whole}.{fraction}") }
}

/// `number * top / bottom + add`, rounded to so many places, half to even.
fn ratio(number: i128, top: i128, bottom: i128, places: u32, add: (i128, i128)) -> String {
    let (top, bottom) = ((number * top * add.1 + add.0 * bottom) * 10i128.pow(places), bottom * add.1);
    let (whole, rest) = (top.div_euclid(bottom), top.rem_euclid(bottom));
    let up = match (2 * rest).cmp(&bottom) {
        std::cmp::Ordering::Greater => 1,
        std::cmp::Ordering::Equal => whole.rem_euclid(2),
        std::cmp::Ordering::Less => 0,
    };
    shifted(whole + up, places as usize)
}

/// An integer of so many bytes, in two's complement.
fn integer(value: i128, bytes: usize, big: bool) -> Vec<u8> {
    let mut sent = value.to_le_bytes()[..bytes].to_vec();
    if big {
        sent.reverse();
    }
    sent
}

/// A random integer of so many bits, often near an end of its range.
fn any_of(rng: &mut Rng, bits: usize, signed: bool) -> i128 {
    let (low, high) =
        if signed { (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1) } else { (0, (1i128 << bits) - 1) };
    match rng.u32(0..6) {
        0 => low + i128::from(rng.u8(0..2)),
        1 => high - i128::from(rng.u8(0..2)),
        2 => i128::from(rng.u8(0..3)).clamp(low, high),
        _ => rng.i128(low..=high),
    }
}

fn integers() -> Vec<Encoder> {
    let mut all: Vec<Encoder> = Vec::new();
    for bytes in 1..=8 {
        for (signed, letter) in [(false, 'u'), (true, 'i')] {
            for (big, order) in [(true, "be"), (false, "le")] {
                let kind = format!("{letter}{}{}", 8 * bytes, if bytes == 1 { "" } else { order });
                all.push((
                    format!("type = '{kind}'"),
                    Box::new(move |rng| {
                        let value = any_of(rng, 8 * bytes, signed);
                        (integer(value, bytes, big), value.to_string())
                    }),
                ));
                let (first, last) = (bytes - 1, 8 * bytes - 2);
                all.push((
                    format!("type = '{kind}', bits = '{first}-{last}'"),
                    Box::new(move |rng| {
                        let value = any_of(rng, last - first + 1, signed);
                        // What stands around it is noise.
                        let mask = ((1i128 << (last - first + 1)) - 1) << first;
                        let around = any_of(rng, 8 * bytes, false) & !mask;
                        (integer(around | value << first & mask, bytes, big), value.to_string())
                    }),
                ));
                all.push((
                    format!("type = '{kind}', scale = 0.05, add = -2.5"),
                    Box::new(move |rng| {
                        let value = any_of(rng, 8 * bytes, signed);
                        (integer(value, bytes, big), shifted(value * 5 - 250, 2))
                    }),
                ));
            }
        }
    }
    all
}

/// Integers whose bytes, signs or bits are in other orders.
fn orders_and_signs() -> Vec<Encoder> {
    let mut all: Vec<Encoder> = Vec::new();
    for letters in ["cdab", "badc", "dacb", "ghefcdab", "badcfehg", "efghabcd"] {
        let bytes = letters.len();
        let arranged = move |value: i128| -> Vec<u8> {
            let high_first = integer(value, bytes, true);
            letters.bytes().map(|letter| high_first[usize::from(letter - b'a')]).collect()
        };
        for (signed, letter) in [(false, 'u'), (true, 'i')] {
            all.push((
                format!("type = '{letter}{}{letters}'", 8 * bytes),
                Box::new(move |rng| {
                    let value = any_of(rng, 8 * bytes, signed);
                    (arranged(value), value.to_string())
                }),
            ));
        }
        let bits = 8 * bytes;
        all.push((
            format!("type = 'f{bits}{letters}'"),
            Box::new(move |rng| {
                let (value, shown) = match bits {
                    32 => {
                        let value = rng.f32() * 1e9 - 5e8;
                        (value.to_bits().into(), format!("{value:e}"))
                    }
                    _ => {
                        let value = rng.f64() * 1e99 - 5e98;
                        (value.to_bits().into(), format!("{value:e}"))
                    }
                };
                (arranged(value), shown)
            }),
        ));
    }
    for (bytes, order) in [(1, ""), (2, "le"), (3, "be"), (8, "be"), (4, "cdab")] {
        let bits = 8 * bytes;
        let lie = move |value: i128| match order {
            "cdab" => {
                let high_first = integer(value, 4, true);
                [2, 3, 0, 1].map(|place: usize| high_first[place]).to_vec()
            }
            order => integer(value, bytes, order != "le"),
        };
        all.push((
            format!("type = 'i{bits}{order}', sign = 'magnitude'"),
            Box::new(move |rng| {
                let (value, minus) = (any_of(rng, bits - 1, false), rng.bool());
                let sign = if minus { 1 << (bits - 1) } else { 0 };
                let shown = if minus && value > 0 { format!("-{value}") } else { value.to_string() };
                (lie(value | sign), shown)
            }),
        ));
        all.push((
            format!("type = 'i{bits}{order}', sign = 'offset', scale = 0.1"),
            Box::new(move |rng| {
                let value = any_of(rng, bits, true);
                (lie(value + (1 << (bits - 1))), shifted(value, 1))
            }),
        ));
    }
    for (bits, order) in [("12-15,0-3", "be"), ("0-3,12-15", "le"), ("7,0,15,8-9", "be")] {
        all.push((
            format!("type = 'u16{order}', bits = '{bits}'"),
            Box::new(move |rng| {
                let whole = rng.u16(..);
                let places = bits.split(',').flat_map(|range| {
                    let (first, last) = range.split_once('-').unwrap_or((range, range));
                    (first.parse::<u32>().unwrap()..=last.parse().unwrap()).rev()
                });
                let value = places.fold(0, |value, place| value << 1 | (whole >> place & 1));
                (integer(whole.into(), 2, order == "be"), value.to_string())
            }),
        ));
    }
    all
}

/// Decimal digits, two in a byte.
fn decimal_digits() -> Vec<Encoder> {
    let packed = |digits: &str, low_first: bool| -> Vec<u8> {
        let digit = |byte: u8| char::from(byte).to_digit(16).unwrap() as u8;
        let halves = digits.as_bytes().chunks(2).map(|pair| [digit(pair[0]), digit(pair[1])]);
        halves.map(|[first, then]| if low_first { then << 4 | first } else { first << 4 | then }).collect()
    };
    let time = |rng: &mut Rng| [rng.u32(0..24), rng.u32(0..60), rng.u32(0..60)];
    vec![
        (
            "type = 'number', digits = 'bcd', width = 3".into(),
            Box::new(move |rng| {
                let number = rng.u32(0..1_000_000);
                (packed(&format!("{number:06}"), false), number.to_string())
            }),
        ),
        (
            "type = 'number', digits = 'bcd', width = 4, bits_from = 'low', scale = 0.001".into(),
            Box::new(move |rng| {
                let number = rng.u32(0..100_000_000);
                (packed(&format!("{number:08}"), true), shifted(number.into(), 3))
            }),
        ),
        (
            "type = 'u32le', digits = 'bcd'".into(),
            Box::new(move |rng| {
                let number = rng.u32(0..100_000_000);
                let mut sent = packed(&format!("{number:08}"), false);
                sent.reverse();
                (sent, number.to_string())
            }),
        ),
        (
            "type = 'number', digits = 'bcd', width = 3, no_data = '999999'".into(),
            Box::new(move |rng| {
                // What is shorter than its room is filled up with halves that are no digits.
                let number = rng.u32(0..1_000_000) / 10u32.pow(rng.u32(0..6));
                let shown = if number == 999_999 { String::new() } else { number.to_string() };
                let fill = if rng.bool() { format!("{number:F>6}") } else { format!("{number:F<6}") };
                (packed(&fill, false), shown)
            }),
        ),
        (
            "type = 'clock', digits = 'bcd', width = 3".into(),
            Box::new(move |rng| {
                let [hour, minute, second] = time(rng);
                let digits = format!("{hour:02}{minute:02}{second:02}");
                (packed(&digits, false), format!("{hour:02}:{minute:02}:{second:02}"))
            }),
        ),
        (
            "type = 'date', digits = 'bcd', width = 4, layout = 'YYYYMMDD', bits_from = 'low'".into(),
            Box::new(move |rng| {
                let (year, month, day) = (rng.u32(1..10_000), rng.u32(1..13), rng.u32(1..29));
                (packed(&format!("{year:04}{month:02}{day:02}"), true), format!("{year:04}-{month:02}-{day:02}"))
            }),
        ),
        (
            "type = 'datetime', digits = 'bcd', width = 6, layout = 'YYMMDDhhmmss', first_year = 2000".into(),
            Box::new(move |rng| {
                let ([hour, minute, second], (year, month, day)) =
                    (time(rng), (rng.u32(0..100), rng.u32(1..13), rng.u32(1..29)));
                let digits = format!("{year:02}{month:02}{day:02}{hour:02}{minute:02}{second:02}");
                (packed(&digits, false), format!("20{year:02}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}"))
            }),
        ),
    ]
}

fn others_in_bytes() -> Vec<Encoder> {
    let bits32 = |rng: &mut Rng| f32::from_bits(rng.u32(..));
    vec![
        (
            "type = 'f32be'".into(),
            Box::new(move |rng| {
                let value = bits32(rng);
                let value = if value.is_finite() { value } else { 1.5 };
                (value.to_be_bytes().to_vec(), format!("{value:e}"))
            }),
        ),
        (
            "type = 'f64le'".into(),
            Box::new(|rng| {
                let value = f64::from_bits(rng.u64(..));
                let value = if value.is_finite() { value } else { -0.25 };
                (value.to_le_bytes().to_vec(), format!("{value:e}"))
            }),
        ),
        (
            // An angle in parts of half a turn.
            "type = 'i32be', scale = '180/2147483648', places = 7".into(),
            Box::new(|rng| {
                let number = any_of(rng, 32, true);
                (integer(number, 4, true), ratio(number, 180, 2_147_483_648, 7, (0, 1)))
            }),
        ),
        (
            "type = 'u64le', scale = '-7/9', add = 0.5, places = 2".into(),
            Box::new(|rng| {
                let number = any_of(rng, 64, false);
                (integer(number, 8, false), ratio(number, -7, 9, 2, (1, 2)))
            }),
        ),
        (
            "type = 'bytes', digits = 'hex', width = 6".into(),
            Box::new(|rng| {
                let bytes = [rng.u8(..), rng.u8(..), rng.u8(..)];
                let shown: String = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
                let case = |digit: char| if rng.bool() { digit } else { digit.to_ascii_lowercase() };
                (shown.chars().map(case).collect::<String>().into_bytes(), shown)
            }),
        ),
        (
            "type = 'bytes', width = 3".into(),
            Box::new(|rng| {
                let bytes = [rng.u8(..), rng.u8(..), rng.u8(..)];
                (bytes.to_vec(), bytes.iter().map(|byte| format!("{byte:02X}")).collect())
            }),
        ),
        (
            "type = 'text', width = 6, fill = ' '".into(),
            Box::new(|rng| {
                let text: String = (0..rng.usize(1..=6)).map(|_| rng.alphanumeric()).collect();
                (format!("{text:<6}").into_bytes(), text)
            }),
        ),
        (
            "type = 'number', width = 8, scale = 0.1".into(),
            Box::new(|rng| {
                let number = rng.i32(-999_999..=999_999);
                let text = if rng.bool() { format!("{number:>8}") } else { format!("{number:<8}") };
                (text.into_bytes(), shifted(number.into(), 1))
            }),
        ),
        (
            "type = 'number', digits = 'hex', width = 5".into(),
            Box::new(|rng| {
                let number = rng.u32(0..1 << 20);
                (format!("{number:05X}").into_bytes(), number.to_string())
            }),
        ),
        (
            "type = 'clock', layout = 'hh:mm', width = 5".into(),
            Box::new(|rng| {
                let text = format!("{:02}:{:02}", rng.u32(0..24), rng.u32(0..60));
                (text.clone().into_bytes(), format!("{text}:00"))
            }),
        ),
        (
            "type = 'lat', width = 10".into(),
            Box::new(|rng| {
                let (degrees, minutes) = (rng.i64(0..90), 6 * rng.i64(0..100_000));
                let letter = rng.choice(['N', 'S']).unwrap();
                let whole = i128::from(degrees) * 10_000_000 + i128::from(minutes) * 1_000 / 60;
                let sign = if letter == 'S' { -1 } else { 1 };
                let text = format!("{degrees:02}{:02}.{:04}{letter}", minutes / 10_000, minutes % 10_000);
                (text.into_bytes(), shifted(sign * whole, 7))
            }),
        ),
        (
            "type = 'bool', width = 2, codes = { ON = true, OF = false }".into(),
            Box::new(|rng| {
                let on = rng.bool();
                (if on { b"ON" } else { b"OF" }.to_vec(), on.to_string())
            }),
        ),
    ]
}

fn texts() -> Vec<Encoder> {
    let two = |rng: &mut Rng, most: u32| rng.u32(0..most);
    vec![
        (
            "type = 'number'".into(),
            Box::new(|rng| {
                let (number, places) = (rng.i64(..) >> rng.u32(0..63), rng.usize(0..8));
                let text = shifted(number.into(), places);
                (text.clone().into_bytes(), if number == 0 { text.replace('-', "") } else { text })
            }),
        ),
        (
            "type = 'number', scale = 0.01".into(),
            Box::new(|rng| {
                let number = rng.i32(..);
                (number.to_string().into_bytes(), shifted(number.into(), 2))
            }),
        ),
        (
            "type = 'number', digits = 'hex'".into(),
            Box::new(|rng| {
                let number = rng.u64(..) >> rng.u32(0..63);
                (format!("{number:X}").into_bytes(), number.to_string())
            }),
        ),
        (
            "type = 'text'".into(),
            Box::new(|rng| {
                let text: String =
                    (0..rng.usize(1..20)).map(|_| char::from(rng.choice(*b"abc XYZ09.-+").unwrap())).collect();
                let text = format!("t{text}t");
                (text.clone().into_bytes(), text)
            }),
        ),
        (
            "type = 'clock', layout = 'hhmmss'".into(),
            Box::new(move |rng| {
                let [hour, minute, second] = [two(rng, 24), two(rng, 60), two(rng, 60)];
                (format!("{hour:02}{minute:02}{second:02}").into_bytes(), format!("{hour:02}:{minute:02}:{second:02}"))
            }),
        ),
        (
            "type = 'clock', layout = 'hh:mm:ss'".into(),
            Box::new(move |rng| {
                let text = format!("{:02}:{:02}:{:02}", two(rng, 24), two(rng, 60), two(rng, 60));
                (text.clone().into_bytes(), text)
            }),
        ),
        (
            "type = 'date', layout = 'DD.MM.YYYY'".into(),
            Box::new(|rng| {
                let (year, month, day) = (rng.u32(1..10_000), rng.u32(1..13), rng.u32(1..29));
                (format!("{day:02}.{month:02}.{year:04}").into_bytes(), format!("{year:04}-{month:02}-{day:02}"))
            }),
        ),
        (
            "type = 'date', layout = 'DDMMYY'".into(),
            Box::new(|rng| {
                let (year, month, day) = (rng.u32(1980..2080), rng.u32(1..13), rng.u32(1..29));
                (format!("{day:02}{month:02}{:02}", year % 100).into_bytes(), format!("{year:04}-{month:02}-{day:02}"))
            }),
        ),
    ]
}

/// What is shown for the field of each frame.
fn shown(format: &str, bytes: &[u8]) -> Vec<String> {
    let plan = Format::parse(format).and_then(|format| format.compile());
    let plan = plan.unwrap_or_else(|problems| panic!("{problems}\n{format}"));
    let mut shown = Vec::new();
    let mut take = |record: &Record<'_>| {
        let reading = record.get("v").unwrap();
        shown.push(match reading.value {
            usus::Value::F32(value) => format!("{value:e}"),
            usus::Value::F64(value) => format!("{value:e}"),
            value => value.to_string(),
        });
    };
    let Ok(_) = plan.decode(bytes, &mut take);
    shown
}

#[test]
fn values_of_every_type_come_out_as_they_went_in() {
    let mut rng = Rng::with_seed(5);
    let all = integers().into_iter().chain(orders_and_signs()).chain(decimal_digits()).chain(others_in_bytes());
    for (keys, encode) in all {
        let values: Vec<(Vec<u8>, String)> = (0..60).map(|_| encode(&mut rng)).collect();
        let length = 2 + values[0].0.len();
        let format = format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'A5'\nlength = {length}\n[record.r]\n\
             fields = [{{ name = 'v', {keys} }}, {{ type = 'u8', reserved = true }}]"
        );
        let bytes: Vec<u8> = values.iter().flat_map(|(sent, _)| [&[0xA5], &**sent, &[0]].concat()).collect();
        let wanted: Vec<&String> = values.iter().map(|(_, shown)| shown).collect();
        assert_eq!(shown(&format, &bytes).iter().collect::<Vec<_>>(), wanted, "{keys}");
    }
    for (keys, encode) in texts() {
        let values: Vec<(Vec<u8>, String)> = (0..200).map(|_| encode(&mut rng)).collect();
        let format = format!(
            "format = 'x'\n[[frame]]\ncut = 'text'\nseparator = ';'\n[record.r]\nfields = [{{ name = 'v', {keys} }}, {{ name = 'w' }}]"
        );
        let bytes: Vec<u8> = values.iter().flat_map(|(sent, _)| [&**sent, b";x\n"].concat()).collect();
        let wanted: Vec<&String> = values.iter().map(|(_, shown)| shown).collect();
        assert_eq!(shown(&format, &bytes).iter().collect::<Vec<_>>(), wanted, "{keys}");
    }
}

#[test]
fn bits_that_lie_one_behind_the_other_come_out_as_they_went_in() {
    let mut rng = Rng::with_seed(7);
    for _ in 0..400 {
        let low_first = rng.bool();
        // Some of them begin at a byte again, where something else stands between them.
        let fields: Vec<(usize, bool)> = (0..rng.usize(1..12))
            .map(|_| {
                let most = if rng.u32(0..3) == 0 { 64 } else { 13 };
                let width = rng.usize(1..=most);
                (width, width > 1 && rng.bool())
            })
            .collect();
        let between = rng.usize(0..=fields.len());
        let mut declared = Vec::new();
        for (number, (width, signed)) in fields.iter().enumerate() {
            if number == between {
                declared.push("{ type = 'u8', reserved = true }".to_owned());
            }
            let sign = if *signed { "i" } else { "" };
            declared.push(format!("{{ name = 'v{number}', type = '{sign}b{width}' }}"));
        }
        let values: Vec<i128> = fields.iter().map(|(width, signed)| any_of(&mut rng, *width, *signed)).collect();
        let (mut bits, mut bytes) = (Vec::new(), vec![0xA5]);
        let pack = |bits: &mut Vec<bool>, bytes: &mut Vec<u8>| {
            for eight in bits.chunks(8) {
                let bit = |(place, bit): (usize, &bool)| u8::from(*bit) << if low_first { place } else { 7 - place };
                bytes.push(eight.iter().enumerate().map(bit).sum());
            }
            bits.clear();
        };
        for (number, ((width, _), value)) in fields.iter().zip(&values).enumerate() {
            if number == between {
                pack(&mut bits, &mut bytes);
                bytes.push(0x33);
            }
            let ordered = (0..*width).map(|place| value >> if low_first { place } else { width - 1 - place } & 1 == 1);
            bits.extend(ordered);
        }
        pack(&mut bits, &mut bytes);
        let format = format!(
            "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'A5'\nlength = {}\nbits_from = '{}'\n[record.r]\nfields = [{}]",
            bytes.len(),
            if low_first { "low" } else { "high" },
            declared.join(", "),
        );
        let plan = Format::parse(&format).and_then(|format| format.compile());
        let plan = plan.unwrap_or_else(|problems| panic!("{problems}\n{format}"));
        let mut shown = Vec::new();
        let mut take = |record: &Record<'_>| {
            shown = (0..values.len()).map(|place| record.field(place).unwrap().value.to_string()).collect();
        };
        let Ok(_) = plan.decode(&bytes, &mut take);
        let wanted: Vec<String> = values.iter().map(ToString::to_string).collect();
        assert_eq!(shown, wanted, "{format}\n{bytes:02X?}");
    }
}

#[test]
fn degrees_come_out_as_they_went_in() {
    let mut rng = Rng::with_seed(6);
    for (kind, most, width, letters) in [("lat", 90, 2, ['N', 'S']), ("lon", 180, 3, ['E', 'W'])] {
        for _ in 0..500 {
            // Seven places of a degree come out: six of minutes are exact in them where they divide by six.
            let (degrees, minutes) = (rng.i64(0..most), 6 * rng.i64(0..100_000));
            let letter = rng.choice(letters).unwrap();
            let line = format!("{degrees:0width$}{:02}.{:04};{letter};x\n", minutes / 10_000, minutes % 10_000);
            let format = format!(
                "format = 'x'\n[[frame]]\ncut = 'text'\nseparator = ';'\n[record.r]\nfields = [{{ name = 'v', type = '{kind}' }}, {{ name = 'w' }}]"
            );
            let whole = i128::from(degrees) * 10_000_000 + i128::from(minutes) * 1_000 / 60;
            let sign = if letter == letters[1] { -1 } else { 1 };
            assert_eq!(shown(&format, line.as_bytes()), [shifted(sign * whole, 7)], "{line}");
        }
    }
}
