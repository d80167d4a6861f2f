//! An NMEA mix: RMC, GGA, GSV, GSA, VTG, MWV of the shipped format.

use std::path::Path;

use fastrand::Rng;
use memchr::{memchr, memchr2};

use crate::sum::Sum;
use crate::tables::{Table, scaled};
use crate::{Contest, input};

pub const CONTEST: Contest = Contest {
    name: "nmea",
    format: include_str!("../../../../formats/nmea-0183.toml"),
    make: |size| input::frames(size, sentence),
    decode,
    csv,
};

fn sentence(rng: &mut Rng, out: &mut Vec<u8>) {
    let number = |rng: &mut Rng, low: i64, high: i64, places: usize| {
        let value = rng.i64(low..high) / *rng.choice([1, 10, 100].as_slice()).unwrap();
        let mut text = Vec::new();
        scaled(value, places, &mut text);
        String::from_utf8(text).unwrap()
    };
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
            let (speed, course) = (number(rng, 0, 9_999, 2), number(rng, 0, 35_999, 2));
            let date = format!("{:02}{:02}{:02}", rng.u8(1..29), rng.u8(1..13), rng.u8(0..80));
            format!("GNRMC,{time},A,{place},{speed},{course},{date},,,A")
        }
        2 | 3 => {
            let place = position(rng);
            let (satellites, hdop, altitude) = (rng.u8(3..30), number(rng, 50, 9_900, 2), number(rng, -400, 88_000, 1));
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
            let (pdop, hdop, vdop) = (number(rng, 80, 9_900, 2), number(rng, 80, 9_900, 2), number(rng, 80, 9_900, 2));
            format!("GNGSA,A,3,{},{pdop},{hdop},{vdop}", ids.join(","))
        }
        6 => {
            let (course, speed, kmh) = (number(rng, 0, 35_999, 2), number(rng, 0, 9_999, 2), number(rng, 0, 18_519, 2));
            format!("GNVTG,{course},T,,M,{speed},N,{kmh},K,A")
        }
        _ => {
            let (angle, speed) = (number(rng, 0, 3_599, 1), number(rng, 0, 399, 1));
            format!("WIMWV,{angle},R,{speed},M,A")
        }
    };
    let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
    out.extend_from_slice(format!("${text}*{sum:02X}\r\n").as_bytes());
}

/// Calls `take` with the text of each sound sentence.
fn sentences(input: &[u8], mut take: impl FnMut(&[u8])) {
    let mut at = 0;
    while let Some(offset) = memchr2(b'$', b'!', &input[at..]) {
        let start = at + offset;
        at = start + 1;
        let rest = &input[start + 1..];
        let Some(star) = memchr(b'*', &rest[..rest.len().min(1_024)]) else { continue };
        let text = &rest[..star];
        let Some(digits) = rest.get(star + 1..star + 3) else { continue };
        let (Some(high), Some(low)) = (char::from(digits[0]).to_digit(16), char::from(digits[1]).to_digit(16)) else {
            continue;
        };
        let sum = text.iter().fold(0, |sum, byte| sum ^ byte);
        if u32::from(sum) == high * 16 + low && text.iter().all(|byte| (b' '..=b'~').contains(byte)) {
            take(text);
            at = start + star + 4;
        }
    }
}

/// A number: its digits without the point, and its places.
fn number(text: &[u8]) -> Option<(i64, usize)> {
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
fn degrees(text: &[u8], letter: &[u8]) -> Option<i64> {
    let point = memchr(b'.', text).unwrap_or(text.len());
    let (degrees, minutes) = text.split_at(point.checked_sub(2)?);
    let (degrees, _) = number(degrees)?;
    let (minutes, places) = number(minutes)?;
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

/// Splits a text at its commas.
fn split<'a>(text: &'a [u8], columns: &mut [&'a [u8]; 32]) -> usize {
    let mut count = 0;
    for column in text.split(|byte| *byte == b',') {
        if count == columns.len() {
            break;
        }
        columns[count] = column;
        count += 1;
    }
    count
}

/// Where values go: into a checksum, or into a row.
trait Into {
    fn number(&mut self, text: &[u8]);
    fn degrees(&mut self, text: &[u8], letter: &[u8]);
    fn clock(&mut self, text: &[u8]);
    fn date(&mut self, text: &[u8]);
    fn text(&mut self, text: &[u8]);
    fn code(&mut self, text: &[u8], name: &str);
    /// A number in metres a second from one in another unit.
    fn speed(&mut self, text: &[u8], unit: &[u8]);
    fn absent(&mut self);
}

impl Into for Sum {
    fn number(&mut self, text: &[u8]) {
        match number(text) {
            Some((value, _)) => Sum::number(self, value),
            None => Sum::absent(self),
        }
    }

    fn degrees(&mut self, text: &[u8], letter: &[u8]) {
        match degrees(text, letter) {
            Some(value) => Sum::number(self, value),
            None => Sum::absent(self),
        }
    }

    fn clock(&mut self, text: &[u8]) {
        Sum::clock(self, two(text, 0), two(text, 2), two(text, 4), nanoseconds(text).0);
    }

    fn date(&mut self, text: &[u8]) {
        Sum::date(self, 2_000 + i16::from(two(text, 4)), two(text, 2), two(text, 0));
    }

    fn text(&mut self, text: &[u8]) {
        if text.is_empty() { Sum::absent(self) } else { Sum::text(self, text) }
    }

    fn code(&mut self, text: &[u8], name: &str) {
        match number(text) {
            // Codes of numbers are summed as numbers, those of texts by their names.
            Some((value, _)) => Sum::number(self, value),
            None => Sum::text(self, name.as_bytes()),
        }
    }

    fn speed(&mut self, text: &[u8], _unit: &[u8]) {
        Into::number(self, text);
    }

    fn absent(&mut self) {
        Sum::absent(self);
    }
}

struct Row<'a>(&'a mut Vec<u8>);

impl Into for Row<'_> {
    fn number(&mut self, text: &[u8]) {
        if let Some((value, places)) = number(text) {
            scaled(value, places, self.0);
        }
        self.0.push(b',');
    }

    fn degrees(&mut self, text: &[u8], letter: &[u8]) {
        if let Some(value) = degrees(text, letter) {
            scaled(value, 7, self.0);
        }
        self.0.push(b',');
    }

    fn clock(&mut self, text: &[u8]) {
        self.0.extend_from_slice(&[text[0], text[1], b':', text[2], text[3], b':', text[4], text[5]]);
        self.0.extend_from_slice(&text[6..]);
        self.0.push(b',');
    }

    fn date(&mut self, text: &[u8]) {
        self.0.extend_from_slice(&[b'2', b'0', text[4], text[5], b'-', text[2], text[3], b'-', text[0], text[1]]);
        self.0.push(b',');
    }

    fn text(&mut self, text: &[u8]) {
        self.0.extend_from_slice(text);
        self.0.push(b',');
    }

    fn code(&mut self, _text: &[u8], name: &str) {
        self.0.extend_from_slice(name.as_bytes());
        self.0.push(b',');
    }

    fn speed(&mut self, text: &[u8], _unit: &[u8]) {
        Into::number(self, text);
    }

    fn absent(&mut self) {
        self.0.push(b',');
    }
}

fn optional(out: &mut impl Into, columns: &[&[u8]], at: usize) {
    match columns.get(at) {
        Some(text) => out.number(text),
        None => out.absent(),
    }
}

fn status(text: &[u8]) -> &'static str {
    if text == b"A" { "valid" } else { "warning" }
}

/// The fields of a sentence, in the order of the format.
fn fields(columns: &[&[u8]], out: &mut impl Into) {
    let position = |out: &mut _, at: usize| {
        Into::degrees(out, columns[at], columns[at + 1]);
        Into::degrees(out, columns[at + 2], columns[at + 3]);
    };
    out.text(&columns[0][..2]);
    match &columns[0][2..] {
        b"RMC" => {
            out.clock(columns[1]);
            out.code(columns[2], status(columns[2]));
            position(out, 3);
            out.number(columns[7]);
            out.number(columns[8]);
            out.date(columns[9]);
            out.number(columns[10]);
            out.text(columns[11]);
            out.code(columns[12], "autonomous");
            out.absent();
        }
        b"GGA" => {
            out.clock(columns[1]);
            position(out, 2);
            out.code(columns[6], FIX[usize::from(columns[6][0] - b'0')]);
            out.number(columns[7]);
            out.number(columns[8]);
            out.number(columns[9]);
            out.number(columns[11]);
            optional(out, columns, 13);
            match columns.get(14) {
                Some(text) => out.text(text),
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
            out.speed(columns[3], columns[4]);
            out.code(columns[5], "valid");
        }
        _ => {}
    }
}

fn decode(input: &[u8]) -> (u64, Sum) {
    let (mut records, mut sum) = (0, Sum::default());
    sentences(input, |text| {
        let mut columns = [&b""[..]; 32];
        let count = split(text, &mut columns);
        let columns = &columns[..count];
        if columns[0].len() != 5 {
            return;
        }
        records += 1;
        match &columns[0][2..] {
            b"GSV" => {
                Into::text(&mut sum, &columns[0][..2]);
                for column in &columns[1..] {
                    Into::number(&mut sum, column);
                }
                sum.absent();
            }
            b"GSA" => {
                Into::text(&mut sum, &columns[0][..2]);
                Into::code(&mut sum, columns[1], "automatic");
                for column in &columns[2..18] {
                    Into::number(&mut sum, column);
                }
                for column in &columns[18..] {
                    Into::number(&mut sum, column);
                }
                sum.absent();
            }
            _ => fields(columns, &mut sum),
        }
    });
    (records, sum)
}

fn csv(input: &[u8], folder: &Path) {
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
    let begin = input.as_ptr() as usize;
    sentences(input, |text| {
        let mut columns = [&b""[..]; 32];
        let count = split(text, &mut columns);
        let columns = &columns[..count];
        if columns[0].len() != 5 {
            return;
        }
        let offset = (text.as_ptr() as usize - begin - 1) as i64;
        match &columns[0][2..] {
            b"GSV" => {
                let out = gsv.row();
                scaled(offset, 0, out);
                out.push(b',');
                let mut row = Row(out);
                Into::text(&mut row, &columns[0][..2]);
                for column in &columns[1..4] {
                    row.number(column);
                }
                row.absent();
                gsv.end_row();
                for (index, satellite) in columns[4..].chunks(4).enumerate() {
                    let out = sky.row();
                    scaled(offset, 0, out);
                    out.push(b',');
                    scaled(index as i64 + 1, 0, out);
                    out.push(b',');
                    let mut row = Row(out);
                    for column in satellite {
                        row.number(column);
                    }
                    sky.end_row();
                }
            }
            b"GSA" => {
                let out = gsa.row();
                scaled(offset, 0, out);
                out.push(b',');
                let mut row = Row(out);
                Into::text(&mut row, &columns[0][..2]);
                row.code(columns[1], "automatic");
                row.code(columns[2], FIX_OF_GSA[usize::from(columns[2][0] - b'0')]);
                for column in &columns[15..18] {
                    row.number(column);
                }
                row.absent();
                gsa.end_row();
                for (index, id) in columns[3..15].iter().enumerate() {
                    let out = ids.row();
                    scaled(offset, 0, out);
                    out.push(b',');
                    scaled(index as i64 + 1, 0, out);
                    out.push(b',');
                    Row(out).number(id);
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
                fields(columns, &mut Row(table.row()));
                table.end_row();
            }
        }
    });
    for table in [&mut rmc, &mut gga, &mut gsv, &mut sky, &mut gsa, &mut ids, &mut vtg, &mut mwv] {
        table.flush();
    }
}
