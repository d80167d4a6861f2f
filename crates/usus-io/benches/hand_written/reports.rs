//! Comma-separated report lines of a wind mast, without a checksum. Damaged ones have lost their tail.

use std::path::Path;

use fastrand::Rng;
use memchr::memchr;

use crate::sentences::{Column, number};
use crate::sum::Sum;
use crate::tables::{Table, scaled};
use crate::{Contest, Side, quick};

pub const CONTEST: Contest = Contest {
    name: "reports",
    format: FORMAT,
    make,
    plain: Side { decode: decode::<false>, csv: csv::<false> },
    tuned: Side { decode: decode::<true>, csv: csv::<true> },
    ceiling: |input| {
        let mut sum = 0;
        lines::<true>(input, |columns| sum += columns.len() as u64);
        sum
    },
};

const FORMAT: &str = r#"
format = "mast"
[[frame]]
cut = "text"
[record.report]
fields = [
  { name = "time",        column = 1, type = "clock" },
  { name = "station",     type = "text" },
  { name = "speed",       type = "number", unit = "m/s" },
  { name = "gust",        type = "number", unit = "m/s" },
  { name = "direction",   type = "number", unit = "°" },
  { name = "temperature", type = "number", unit = "°C" },
  { name = "pressure",    type = "number", unit = "hPa" },
  { name = "humidity",    type = "number", unit = "%" },
  { name = "state",       type = "text", codes = { K = "calm", B = "breeze", S = "storm" } },
  { name = "battery",     type = "number", unit = "V" },
]
"#;

const COLUMNS: usize = 10;

fn make(size: usize, damage: u32) -> Vec<u8> {
    let mut rng = Rng::with_seed(1);
    // A line that nothing precedes might have begun before.
    let mut input = b"\r\n".to_vec();
    input.reserve(size + 1_024);
    while input.len() < size {
        let begin = input.len();
        line(&mut rng, &mut input);
        if rng.u32(0..damage) == 0 {
            let place = rng.usize(begin..input.len());
            if let Some(comma) = memchr(b',', &input[place..]) {
                input.truncate(place + comma);
            }
        }
        input.extend_from_slice(b"\r\n");
    }
    input
}

fn line(rng: &mut Rng, out: &mut Vec<u8>) {
    let (hour, minute, second) = (rng.u8(0..24), rng.u8(0..60), rng.u8(0..60));
    out.extend_from_slice(format!("{hour:02}:{minute:02}:{second:02},").as_bytes());
    out.extend_from_slice(rng.choice(["pylon 7", "valley", "summit-2"]).unwrap().as_bytes());
    let numbers = [(0i64, 600, 1), (0, 900, 1), (0, 360, 0), (-300, 400, 1), (8_500, 10_500, 1), (0, 1_000, 1)];
    for (low, high, places) in numbers {
        out.push(b',');
        if rng.u32(0..50) > 0 {
            scaled(rng.i64(low..high), places, out);
        }
    }
    out.push(b',');
    out.push(*rng.choice(b"KBS").unwrap());
    out.push(b',');
    scaled(rng.i64(1_050..1_450), 2, out);
}

/// Calls `take` with the columns of each whole line.
fn lines<const QUICK: bool>(input: &[u8], mut take: impl FnMut(&[Column])) {
    let mut at = 0;
    while at < input.len() {
        let rest = &input[at..];
        let mut columns = [(&b""[..], &b""[..]); COLUMNS + 1];
        let (length, count) = if QUICK {
            let Some(text) = quick::Text::until(b'\r', rest) else { return };
            (text.length, text.columns(rest, &mut columns))
        } else {
            let Some(length) = memchr(b'\r', rest) else { return };
            let mut count = 0;
            for column in rest[..length].split(|byte| *byte == b',').take(columns.len()) {
                columns[count] = (column, column);
                count += 1;
            }
            (length, count)
        };
        if count == COLUMNS {
            take(&columns[..COLUMNS]);
        }
        at += length + 2;
    }
}

fn state((text, _): Column) -> &'static str {
    match text {
        b"K" => "calm",
        b"B" => "breeze",
        _ => "storm",
    }
}

fn decode<const QUICK: bool>(input: &[u8]) -> (u64, Sum) {
    let (mut records, mut sum) = (0, Sum::default());
    lines::<QUICK>(input, |columns| {
        records += 1;
        let two = |at: usize| (columns[0].0[at] - b'0') * 10 + columns[0].0[at + 1] - b'0';
        sum.clock(two(0), two(3), two(6), 0);
        sum.text(columns[1].0);
        let mut add = |column: Column| match number::<QUICK>(column) {
            Some((value, _)) => sum.number(value),
            None => sum.absent(),
        };
        columns[2..8].iter().for_each(|column| add(*column));
        sum.text(state(columns[8]).as_bytes());
        match number::<QUICK>(columns[9]) {
            Some((value, _)) => sum.number(value),
            None => sum.absent(),
        }
    });
    (records, sum)
}

fn csv<const QUICK: bool>(input: &[u8], folder: &Path) {
    let header = "time,station,speed,gust,direction,temperature,pressure,humidity,state,battery,quality";
    let mut table = Table::new(folder, "report.csv", header);
    lines::<QUICK>(input, |columns| {
        let out = table.row();
        let add = |column: Column, out: &mut Vec<u8>| {
            if QUICK {
                quick::copy(column.0, column.1, out);
            } else if let Some((value, places)) = number::<false>(column) {
                scaled(value, places, out);
            }
            out.push(b',');
        };
        out.extend_from_slice(columns[0].0);
        out.push(b',');
        out.extend_from_slice(columns[1].0);
        out.push(b',');
        columns[2..8].iter().for_each(|column| add(*column, out));
        out.extend_from_slice(state(columns[8]).as_bytes());
        out.push(b',');
        add(columns[9], out);
        table.end_row();
    });
    table.flush();
}
