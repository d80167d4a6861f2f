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
    for (keys, encode) in integers().into_iter().chain(others_in_bytes()) {
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
