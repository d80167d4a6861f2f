//! An NMEA mix: RMC, GGA, GSV, GSA, VTG, MWV of the shipped format.

use std::path::Path;

use fastrand::Rng;
use memchr::{memchr, memchr2};

use crate::sum::Sum;
use crate::tables::{Table, scaled};
use crate::{Contest, Side, input, quick};

pub const CONTEST: Contest = Contest {
    name: "nmea",
    format: usus::SHIPPED[0].1,
    make: |size, damage| input::frames(size, damage, sentence),
    plain: Side { decode: decode::<false>, csv: csv::<false> },
    tuned: Side { decode: decode::<true>, csv: csv::<true> },
    ceiling: |input| {
        let mut sum = 0;
        sentences::<true>(input, |_, columns| sum += columns.len() as u64);
        sum
    },
};

/// A column, and the same with what follows it.
pub type Column<'a> = (&'a [u8], &'a [u8]);

pub fn sentence(rng: &mut Rng, out: &mut Vec<u8>) {
    let time = format!("{:02}{:02}{:02}", rng.u8(0..24), rng.u8(0..60), rng.u8(0..60));
    let position = |rng: &mut Rng| {
        let lat = format!(
            "{:02}{:02}.{:04},{}",
            rng.u8(0..90),
            rng.u8(0..60),
            rng.u32(0..10_000),
            rng.choice(['N', 'S']).unwrap()
        );
        let lon = format!(
            "{:03}{:02}.{:04},{}",
            rng.u8(0..180),
            rng.u8(0..60),
            rng.u32(0..10_000),
            rng.choice(['E', 'W']).unwrap()
        );
        format!("{lat},{lon}")
    };
    let text = match rng.u32(0..8) {
        0 | 1 => {
            let place = if rng.u32(0..20) == 0 { ",,,".to_owned() } else { position(rng) };
            let (speed, course) = (written(rng, 0, 9_999, 2), written(rng, 0, 35_999, 2));
            let date = format!("{:02}{:02}{:02}", rng.u8(1..29), rng.u8(1..13), rng.u8(0..80));
            format!("GNRMC,{time},A,{place},{speed},{course},{date},,,A")
        }
        2 | 3 => {
            let place = position(rng);
            let (satellites, hdop, altitude) =
                (rng.u8(3..30), written(rng, 50, 9_900, 2), written(rng, -400, 88_000, 1));
            format!("GNGGA,{time}.00,{place},1,{satellites:02},{hdop},{altitude},M,47.9,M,,")
        }
        4 => {
            let count = rng.usize(1..=4);
            let satellites: Vec<String> = (0..count)
                .map(|_| {
                    let snr = if rng.u32(0..5) == 0 { String::new() } else { format!("{:02}", rng.u8(10..55)) };
                    format!("{:02},{:02},{:03},{snr}", rng.u8(1..99), rng.u8(0..91), rng.u16(0..360))
                })
                .collect();
            format!("GPGSV,3,{},{:02},{}", rng.u8(1..4), rng.u8(4..13), satellites.join(","))
        }
        5 => {
            let ids: Vec<String> =
                (0..12).map(|index| if index < 8 { format!("{:02}", rng.u8(1..99)) } else { String::new() }).collect();
            let (pdop, hdop, vdop) =
                (written(rng, 80, 9_900, 2), written(rng, 80, 9_900, 2), written(rng, 80, 9_900, 2));
            format!("GNGSA,A,3,{},{pdop},{hdop},{vdop}", ids.join(","))
        }
        6 => {
            let (course, speed, kmh) =
                (written(rng, 0, 35_999, 2), written(rng, 0, 9_999, 2), written(rng, 0, 18_519, 2));
            format!("GNVTG,{course},T,,M,{speed},N,{kmh},K,A")
        }
        _ => return wind(rng, out),
    };
    finish(&text, out);
}

/// A sentence of the wind.
pub fn wind(rng: &mut Rng, out: &mut Vec<u8>) {
    let (angle, speed) = (written(rng, 0, 3_599, 1), written(rng, 0, 399, 1));
    finish(&format!("WIMWV,{angle},R,{speed},M,A"), out);
}

fn finish(text: &str, out: &mut Vec<u8>) {
    let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
    out.extend_from_slice(format!("${text}*{sum:02X}\r\n").as_bytes());
}

/// A number of a varying width.
fn written(rng: &mut Rng, low: i64, high: i64, places: usize) -> String {
    let value = rng.i64(low..high) / *rng.choice([1, 10, 100].as_slice()).unwrap();
    let mut text = Vec::new();
    scaled(value, places, &mut text);
    String::from_utf8(text).unwrap()
}

/// Calls `take` with the place and the columns of each sound sentence.
fn sentences<const QUICK: bool>(input: &[u8], mut take: impl FnMut(usize, &[Column])) {
    let mut at = 0;
    loop {
        // Nearly always the next sentence stands behind the line end.
        let next = input.get(at..at + 3);
        let offset = match next {
            Some(b"\r\n$") if QUICK => Some(2),
            _ => memchr2(b'$', b'!', &input[at.min(input.len())..]),
        };
        let Some(offset) = offset else { return };
        let start = at + offset;
        at = start + one::<QUICK>(&input[start..], |columns| take(start, columns)).unwrap_or(1);
    }
}

/// Calls `take` with the columns of the sentence at the start of `input`, if it is sound. Returns its length.
pub fn one<const QUICK: bool>(input: &[u8], take: impl FnOnce(&[Column])) -> Option<usize> {
    let rest = &input[1..];
    let mut columns = [(&b""[..], &b""[..]); 32];
    if QUICK {
        let text = quick::Text::until(b'*', rest)?;
        let digits = rest.get(text.length + 1..text.length + 3)?;
        if hex(digits)? != text.sum {
            return None;
        }
        let count = text.columns(rest, &mut columns);
        take(&columns[..count]);
        return Some(text.length + 4);
    }
    let star = memchr(b'*', &rest[..rest.len().min(1_024)])?;
    let text = &rest[..star];
    let sent = hex(rest.get(star + 1..star + 3)?)?;
    let sum = text.iter().fold(0, |sum, byte| sum ^ byte);
    if sum != sent || !text.iter().all(|byte| (b' '..=b'~').contains(byte)) {
        return None;
    }
    let mut count = 0;
    for column in text.split(|byte| *byte == b',').take(columns.len()) {
        columns[count] = (column, column);
        count += 1;
    }
    take(&columns[..count]);
    Some(star + 4)
}

fn hex(digits: &[u8]) -> Option<u8> {
    let digit = |byte: u8| char::from(byte).to_digit(16);
    Some((digit(digits[0])? * 16 + digit(digits[1])?) as u8)
}

/// A number: its digits without the point, and its places.
pub fn number<const QUICK: bool>((text, wide): Column) -> Option<(i64, usize)> {
    if QUICK {
        return quick::number(text, wide);
    }
    let (negative, digits) = match text.first()? {
        b'-' => (true, &text[1..]),
        _ => (false, text),
    };
    let (mut value, mut places, mut point) = (0i64, 0, false);
    for &byte in digits {
        match byte {
            b'0'..=b'9' => {
                value = value * 10 + i64::from(byte - b'0');
                places += usize::from(point);
            }
            b'.' if !point => point = true,
            _ => return None,
        }
    }
    Some((if negative { -value } else { value }, places))
}

/// Degrees from degrees and minutes: seven places, rounded half to even.
fn degrees<const QUICK: bool>((text, wide): Column, (letter, _): Column) -> Option<i64> {
    if QUICK {
        let point = if text.get(4) == Some(&b'.') { 4 } else { 5 };
        let (whole, _) = quick::number(text.get(..point)?, wide)?;
        let (fraction, _) = quick::number(&text[point + 1..], &wide[point + 1..])?;
        let sixtieths = (whole / 100 * 60 + whole % 100) * 10_000_000 + fraction * 1_000;
        let (value, rest) = (sixtieths / 60, sixtieths % 60);
        let value = value + i64::from(rest > 30 || (rest == 30 && value % 2 == 1));
        return Some(if matches!(letter, b"S" | b"W") { -value } else { value });
    }
    let point = memchr(b'.', text).unwrap_or(text.len());
    let (degrees, minutes) = text.split_at(point.checked_sub(2)?);
    let (degrees, _) = number::<false>((degrees, degrees))?;
    let (minutes, places) = number::<false>((minutes, minutes))?;
    // The inputs have four places.
    let unit = 10i64.pow(places as u32);
    let total = (degrees * 60 * unit + minutes) * 10_000_000;
    let divisor = 60 * unit;
    let (mut value, twice) = (total / divisor, total % divisor * 2);
    if twice > divisor || (twice == divisor && value % 2 == 1) {
        value += 1;
    }
    Some(if matches!(letter, b"S" | b"W") { -value } else { value })
}

fn two(text: &[u8], at: usize) -> u8 {
    (text[at] - b'0') * 10 + text[at + 1] - b'0'
}

fn nanoseconds(text: &[u8]) -> (u32, usize) {
    match text.get(7..) {
        Some(fraction) if !fraction.is_empty() => {
            let value = fraction.iter().fold(0, |value, byte| value * 10 + u32::from(byte - b'0'));
            (value * 10u32.pow(9 - fraction.len() as u32), fraction.len())
        }
        _ => (0, 0),
    }
}

const FIX: [&str; 9] =
    ["none", "gps", "differential", "pps", "rtk_fixed", "rtk_float", "estimated", "manual", "simulated"];
const FIX_OF_GSA: [&str; 4] = ["", "none", "two_dimensions", "three_dimensions"];

/// Where values go: into a checksum, or into a row.
pub trait Into {
    fn number(&mut self, column: Column);
    fn degrees(&mut self, column: Column, letter: Column);
    fn clock(&mut self, column: Column);
    fn date(&mut self, column: Column);
    fn text(&mut self, text: &[u8]);
    fn code(&mut self, column: Column, name: &str);
    fn absent(&mut self);
}

pub struct Summed<const QUICK: bool>(pub Sum);

impl<const QUICK: bool> Into for Summed<QUICK> {
    #[inline]
    fn number(&mut self, column: Column) {
        match number::<QUICK>(column) {
            Some((value, _)) => self.0.number(value),
            None => self.0.absent(),
        }
    }

    #[inline]
    fn degrees(&mut self, column: Column, letter: Column) {
        match degrees::<QUICK>(column, letter) {
            Some(value) => self.0.number(value),
            None => self.0.absent(),
        }
    }

    fn clock(&mut self, (text, _): Column) {
        self.0.clock(two(text, 0), two(text, 2), two(text, 4), nanoseconds(text).0);
    }

    fn date(&mut self, (text, _): Column) {
        self.0.date(2_000 + i16::from(two(text, 4)), two(text, 2), two(text, 0));
    }

    fn text(&mut self, text: &[u8]) {
        if text.is_empty() { self.0.absent() } else { self.0.text(text) }
    }

    fn code(&mut self, column: Column, name: &str) {
        // Codes of numbers are summed as numbers, those of texts by their names.
        match column.0 {
            [b'0'..=b'9', ..] => self.number(column),
            _ => self.0.text(name.as_bytes()),
        }
    }

    fn absent(&mut self) {
        self.0.absent();
    }
}

pub struct Row<'a, const QUICK: bool>(pub &'a mut Vec<u8>);

impl<const QUICK: bool> Into for Row<'_, QUICK> {
    fn number(&mut self, column: Column) {
        if QUICK {
            let (mut text, mut wide) = column;
            // Only whole numbers have zeros in front.
            while let [b'0', b'0'..=b'9', ..] = text {
                (text, wide) = (&text[1..], &wide[1..]);
            }
            quick::copy(text, wide, self.0);
        } else if let Some((value, places)) = number::<false>(column) {
            scaled(value, places, self.0);
        }
        self.0.push(b',');
    }

    fn degrees(&mut self, column: Column, letter: Column) {
        if let Some(value) = degrees::<QUICK>(column, letter) {
            scaled(value, 7, self.0);
        }
        self.0.push(b',');
    }

    fn clock(&mut self, (text, _): Column) {
        self.0.extend_from_slice(&[text[0], text[1], b':', text[2], text[3], b':', text[4], text[5]]);
        self.0.extend_from_slice(&text[6..]);
        self.0.push(b',');
    }

    fn date(&mut self, (text, _): Column) {
        self.0.extend_from_slice(&[b'2', b'0', text[4], text[5], b'-', text[2], text[3], b'-', text[0], text[1]]);
        self.0.push(b',');
    }

    fn text(&mut self, text: &[u8]) {
        self.0.extend_from_slice(text);
        self.0.push(b',');
    }

    fn code(&mut self, _column: Column, name: &str) {
        self.0.extend_from_slice(name.as_bytes());
        self.0.push(b',');
    }

    fn absent(&mut self) {
        self.0.push(b',');
    }
}

fn optional(out: &mut impl Into, columns: &[Column], at: usize) {
    match columns.get(at) {
        Some(column) => out.number(*column),
        None => out.absent(),
    }
}

fn status((text, _): Column) -> &'static str {
    if text == b"A" { "valid" } else { "warning" }
}

/// The fields of a sentence, in the order of the format.
pub fn fields(columns: &[Column], out: &mut impl Into) {
    let position = |out: &mut _, at: usize| {
        Into::degrees(out, columns[at], columns[at + 1]);
        Into::degrees(out, columns[at + 2], columns[at + 3]);
    };
    out.text(&columns[0].0[..2]);
    match &columns[0].0[2..] {
        b"RMC" => {
            out.clock(columns[1]);
            out.code(columns[2], status(columns[2]));
            position(out, 3);
            out.number(columns[7]);
            out.number(columns[8]);
            out.date(columns[9]);
            out.number(columns[10]);
            out.text(columns[11].0);
            out.code(columns[12], "autonomous");
            out.absent();
        }
        b"GGA" => {
            out.clock(columns[1]);
            position(out, 2);
            out.code(columns[6], FIX[usize::from(columns[6].0[0] - b'0')]);
            out.number(columns[7]);
            out.number(columns[8]);
            out.number(columns[9]);
            out.number(columns[11]);
            optional(out, columns, 13);
            match columns.get(14) {
                Some((text, _)) => out.text(text),
                None => out.absent(),
            }
        }
        b"VTG" => {
            for at in [1, 3, 5, 7] {
                out.number(columns[at]);
            }
            out.code(columns[9], "autonomous");
        }
        b"MWV" => {
            out.number(columns[1]);
            out.code(columns[2], "relative");
            out.number(columns[3]);
            out.code(columns[5], "valid");
        }
        _ => {}
    }
}

/// Whether a sentence is one of the kinds.
pub fn is_one(columns: &[Column]) -> bool {
    matches!(columns[0].0, [_, _, b'R', b'M', b'C'] | [_, _, b'G', b'G', b'A'] | [_, _, b'V', b'T', b'G'])
        || matches!(columns[0].0, [_, _, b'G', b'S', b'V' | b'A'] | [_, _, b'M', b'W', b'V'])
}

/// Sums the fields of a sentence. Says whether it is one of the kinds.
pub fn sum_of<const QUICK: bool>(columns: &[Column], sum: &mut Summed<QUICK>) -> bool {
    if !is_one(columns) {
        return false;
    }
    match &columns[0].0[2..] {
        b"GSV" => {
            sum.text(&columns[0].0[..2]);
            for column in &columns[1..] {
                sum.number(*column);
            }
            sum.absent();
        }
        b"GSA" => {
            sum.text(&columns[0].0[..2]);
            sum.code(columns[1], "automatic");
            for column in &columns[2..] {
                sum.number(*column);
            }
            sum.absent();
        }
        _ => fields(columns, sum),
    }
    true
}

fn decode<const QUICK: bool>(input: &[u8]) -> (u64, Sum) {
    let (mut records, mut sum) = (0, Summed::<QUICK>(Sum::default()));
    sentences::<QUICK>(input, |_, columns| records += u64::from(sum_of(columns, &mut sum)));
    (records, sum.0)
}

fn csv<const QUICK: bool>(input: &[u8], folder: &Path) {
    let table = |name: &str, header| Table::new(folder, name, header);
    let mut rmc = table(
        "rmc.csv",
        "talker,time,status,latitude,longitude,speed,course,date,variation,variation_direction,mode,navigation_status,quality",
    );
    let mut gga = table(
        "gga.csv",
        "talker,time,latitude,longitude,fix,satellites,hdop,altitude,geoid_separation,dgps_age,dgps_station,quality",
    );
    let mut gsv = table("gsv.csv", "offset,talker,sentences,number,in_view,signal,quality");
    let mut sky = table("gsv.satellites.csv", "offset,index,id,elevation,azimuth,snr,quality");
    let mut gsa = table("gsa.csv", "offset,talker,selection,fix,pdop,hdop,vdop,system,quality");
    let mut ids = table("gsa.satellites.csv", "offset,index,id,quality");
    let mut vtg = table("vtg.csv", "talker,course_true,course_magnetic,speed,speed_kmh,mode,quality");
    let mut mwv = table("mwv.csv", "talker,angle,reference,speed,status,quality");
    sentences::<QUICK>(input, |offset, columns| {
        if !is_one(columns) {
            return;
        }
        let offset = offset as i64;
        match &columns[0].0[2..] {
            b"GSV" => {
                let out = gsv.row();
                scaled(offset, 0, out);
                out.push(b',');
                let mut row = Row::<QUICK>(out);
                row.text(&columns[0].0[..2]);
                for column in &columns[1..4] {
                    row.number(*column);
                }
                row.absent();
                gsv.end_row();
                for (index, satellite) in columns[4..].chunks(4).enumerate() {
                    let out = sky.row();
                    scaled(offset, 0, out);
                    out.push(b',');
                    scaled(index as i64 + 1, 0, out);
                    out.push(b',');
                    let mut row = Row::<QUICK>(out);
                    for column in satellite {
                        row.number(*column);
                    }
                    sky.end_row();
                }
            }
            b"GSA" => {
                let out = gsa.row();
                scaled(offset, 0, out);
                out.push(b',');
                let mut row = Row::<QUICK>(out);
                row.text(&columns[0].0[..2]);
                row.code(columns[1], "automatic");
                row.code(columns[2], FIX_OF_GSA[usize::from(columns[2].0[0] - b'0')]);
                for column in &columns[15..18] {
                    row.number(*column);
                }
                row.absent();
                gsa.end_row();
                for (index, id) in columns[3..15].iter().enumerate() {
                    let out = ids.row();
                    scaled(offset, 0, out);
                    out.push(b',');
                    scaled(index as i64 + 1, 0, out);
                    out.push(b',');
                    Row::<QUICK>(out).number(*id);
                    ids.end_row();
                }
            }
            kind => {
                let table = match kind {
                    b"RMC" => &mut rmc,
                    b"GGA" => &mut gga,
                    b"VTG" => &mut vtg,
                    _ => &mut mwv,
                };
                fields(columns, &mut Row::<QUICK>(table.row()));
                table.end_row();
            }
        }
    });
    for table in [&mut rmc, &mut gga, &mut gsv, &mut sky, &mut gsa, &mut ids, &mut vtg, &mut mwv] {
        table.flush();
    }
}
