//! A packet stream: three kinds, ten fields each, bit ranges, CRC-16.

use std::path::Path;

use fastrand::Rng;
use memchr::memmem;

use crate::sum::Sum;
use crate::tables::{Table, flag, scaled, whole};
use crate::{Contest, Side, input, quick};

pub const CONTEST: Contest = Contest {
    name: "packets",
    format: FORMAT,
    make: |size, damage| {
        let mut sequence = 0u16;
        input::frames(size, damage, |rng, out| packet(rng, &mut sequence, out))
    },
    plain: Side { decode: |input| decode(false, input), csv: |input, folder| csv(false, input, folder) },
    tuned: Side { decode: |input| decode(true, input), csv: |input, folder| csv(true, input, folder) },
    ceiling: |input| {
        let mut sum = 0;
        tuned(input, |kind, _| sum += u64::from(kind));
        sum
    },
};

/// The format; what reads more beside packets adds to it.
pub const FORMAT: &str = r#"
format = "drive"
[[frame]]
cut      = "packet"
start    = "A5 5A"
length   = { byte = 2, type = "u8", add = 5 }
checksum = { algorithm = "CRC-16/MODBUS", type = "u16le", from = 2 }
header   = [ { name = "type", byte = 3, type = "u8", internal = true } ]
[record.sample]
when   = "type == 1"
fields = [
  { name = "sequence", type = "u16be", counter = true },
  { name = "clock",    type = "u32be", unit = "ms" },
  { name = "tension",  type = "i24be", scale = 0.01, unit = "kN" },
  { name = "core",     type = "i16be", scale = 0.1, unit = "°C", no_data = -32768 },
  { name = "mode",     type = "u8", bits = "4-7" },
  { name = "gain",     byte = 15, type = "u8", bits = "0-3" },
  { type = "u8", flags = { 0 = "overload", 1 = "bridge_open", 7 = "service" } },
  { name = "speed",    type = "u16le", scale = 0.001, unit = "m/s" },
]
[record.motor]
when   = "type == 2"
fields = [
  { name = "current", type = "i16be", scale = 0.1, unit = "A" },
  { name = "voltage", type = "u16be", scale = 0.1, unit = "V" },
  { name = "power",   type = "i32be", unit = "W" },
  { name = "torque",  type = "i16le", scale = 0.01, unit = "%" },
  { name = "turns",   type = "u16be", unit = "rpm" },
  { name = "winding", type = "i8", unit = "°C" },
  { name = "bearing", type = "i8", unit = "°C" },
  { name = "state",   type = "u8", bits = "0-2" },
  { name = "fault",   byte = 18, type = "u8", bits = "3-7" },
  { name = "hours",   type = "u32be", scale = 0.01, unit = "h" },
]
[record.load]
when   = "type == 3"
fields = [
  { name = "station", type = "u16be" },
  { name = "l1", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "l2", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "l3", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "l4", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "l5", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "l6", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "l7", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "l8", type = "i16be", scale = 0.01, unit = "kN" },
  { name = "total", type = "i32be", scale = 0.01, unit = "kN" },
]
"#;

pub fn packet(rng: &mut Rng, sequence: &mut u16, out: &mut Vec<u8>) {
    let (kind, size) = *rng.choice([(1u8, 15), (1, 15), (1, 15), (2, 19), (3, 22)].as_slice()).unwrap();
    let begin = out.len();
    out.extend_from_slice(&[0xA5, 0x5A, size + 1, kind]);
    // Small numbers are as common as large ones, so that digits vary.
    for _ in 0..size {
        let byte = if rng.bool() { rng.u8(..) } else { 0 };
        out.push(byte);
    }
    if kind == 1 {
        *sequence = sequence.wrapping_add(1);
        out[begin + 4..begin + 6].copy_from_slice(&sequence.to_be_bytes());
    }
    let crc = Crc::new().of(&out[begin + 2..]);
    out.extend_from_slice(&crc.to_le_bytes());
}

pub struct Crc([u16; 256]);

impl Crc {
    pub fn new() -> Crc {
        let mut table = [0; 256];
        for (byte, entry) in table.iter_mut().enumerate() {
            let step = |crc: u16, _| if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 };
            *entry = (0..8).fold(byte as u16, step);
        }
        Crc(table)
    }

    pub fn of(&self, bytes: &[u8]) -> u16 {
        bytes.iter().fold(0xFFFF, |crc, byte| crc >> 8 ^ self.0[usize::from(crc as u8 ^ byte)])
    }
}

/// Calls `take` with the kind and the data of each sound packet.
fn plain(input: &[u8], mut take: impl FnMut(u8, &[u8])) {
    let crc = Crc::new();
    let finder = memmem::Finder::new(&[0xA5, 0x5A]);
    let mut at = 0;
    while let Some(offset) = finder.find(&input[at..]) {
        let start = at + offset;
        at = start + crc.packet(&input[start..], &mut take).unwrap_or(1);
    }
}

impl Crc {
    /// Calls `take` with the packet at the start of `input`, if it is sound. Returns its length.
    pub fn packet(&self, input: &[u8], take: &mut impl FnMut(u8, &[u8])) -> Option<usize> {
        let [_, _, length, kind] = *input.first_chunk::<4>()?;
        let size = match kind {
            1 => 15,
            2 => 19,
            3 => 22,
            _ => return None,
        };
        if usize::from(length) != size + 1 {
            return None;
        }
        let frame = input.get(..size + 6)?;
        let sent = u16::from_le_bytes([frame[size + 4], frame[size + 5]]);
        if self.of(&frame[2..size + 4]) != sent {
            return None;
        }
        take(kind, &frame[4..size + 4]);
        Some(frame.len())
    }
}

/// The same, as fast as it can be made.
fn tuned(input: &[u8], mut take: impl FnMut(u8, &[u8])) {
    let crc = quick::Crc::new();
    let finder = memmem::Finder::new(&[0xA5, 0x5A]);
    let mut at = 0;
    loop {
        while let Some(length) = tuned_packet(&crc, &input[at..], &mut take) {
            at += length;
        }
        match finder.find(&input[input.len().min(at + 1)..]) {
            Some(offset) => at += 1 + offset,
            None => return,
        }
    }
}

/// The same as [`Crc::packet`], which looks at the start pattern too.
#[inline(always)]
pub fn tuned_packet(crc: &quick::Crc, input: &[u8], take: &mut impl FnMut(u8, &[u8])) -> Option<usize> {
    // Lengths that are known when this is compiled need no tests.
    macro_rules! sound {
        ($kind:literal, $size:literal) => {{
            let frame = input.first_chunk::<{ $size + 6 }>()?;
            let [.., low, high] = *frame;
            let covered = frame[2..].first_chunk::<{ $size + 2 }>()?;
            if crc.of(covered) != u16::from_le_bytes([low, high]) {
                return None;
            }
            take($kind, &frame[4..$size + 4]);
            Some($size + 6)
        }};
    }
    match *input.first_chunk::<4>()? {
        [0xA5, 0x5A, 16, 1] => sound!(1, 15),
        [0xA5, 0x5A, 20, 2] => sound!(2, 19),
        [0xA5, 0x5A, 23, 3] => sound!(3, 22),
        _ => None,
    }
}

fn u16be(data: &[u8], at: usize) -> u16 {
    u16::from_be_bytes([data[at], data[at + 1]])
}

fn i16be(data: &[u8], at: usize) -> i16 {
    u16be(data, at) as i16
}

fn u32be(data: &[u8], at: usize) -> u32 {
    u32::from_be_bytes([data[at], data[at + 1], data[at + 2], data[at + 3]])
}

fn i24be(data: &[u8], at: usize) -> i32 {
    i32::from_be_bytes([data[at], data[at + 1], data[at + 2], 0]) >> 8
}

/// Sums the fields of a packet.
#[inline(always)]
pub fn sum_of(kind: u8, data: &[u8], sum: &mut Sum) {
    match kind {
        1 => {
            sum.number(u16be(data, 0).into());
            sum.number(u32be(data, 2).into());
            sum.number(i24be(data, 6).into());
            match i16be(data, 9) {
                i16::MIN => sum.absent(),
                core => sum.number(core.into()),
            }
            sum.number((data[11] >> 4).into());
            sum.number((data[11] & 15).into());
            for bit in [0, 1, 7] {
                sum.number((data[12] >> bit & 1).into());
            }
            sum.number(u16::from_le_bytes([data[13], data[14]]).into());
        }
        2 => {
            sum.number(i16be(data, 0).into());
            sum.number(u16be(data, 2).into());
            sum.number((u32be(data, 4) as i32).into());
            sum.number(i16::from_le_bytes([data[8], data[9]]).into());
            sum.number(u16be(data, 10).into());
            sum.number((data[12] as i8).into());
            sum.number((data[13] as i8).into());
            sum.number((data[14] & 7).into());
            sum.number((data[14] >> 3).into());
            sum.number(u32be(data, 15).into());
        }
        _ => {
            sum.number(u16be(data, 0).into());
            for index in 0..8 {
                sum.number(i16be(data, 2 + 2 * index).into());
            }
            sum.number((u32be(data, 18) as i32).into());
        }
    }
}

fn decode(quick: bool, input: &[u8]) -> (u64, Sum) {
    let (mut records, mut sum) = (0, Sum::default());
    let take = |kind: u8, data: &[u8]| {
        records += 1;
        sum_of(kind, data, &mut sum);
    };
    if quick {
        tuned(input, take)
    } else {
        plain(input, take)
    }
    (records, sum)
}

/// The tables of the three kinds.
pub struct Tables {
    sample: Table,
    motor: Table,
    load: Table,
}

impl Tables {
    pub fn new(folder: &Path) -> Tables {
        let header = "sequence,clock,tension,core,mode,gain,overload,bridge_open,service,speed";
        let sample = Table::new(folder, "sample.csv", header);
        let header = "current,voltage,power,torque,turns,winding,bearing,state,fault,hours";
        let motor = Table::new(folder, "motor.csv", header);
        let load = Table::new(folder, "load.csv", "station,l1,l2,l3,l4,l5,l6,l7,l8,total");
        Tables { sample, motor, load }
    }

    pub fn row(&mut self, kind: u8, data: &[u8]) {
        match kind {
            1 => {
                let out = self.sample.row();
                whole(u16be(data, 0).into(), out);
                out.push(b',');
                whole(u32be(data, 2).into(), out);
                out.push(b',');
                scaled(i24be(data, 6).into(), 2, out);
                out.push(b',');
                match i16be(data, 9) {
                    i16::MIN => {}
                    core => scaled(core.into(), 1, out),
                }
                out.push(b',');
                whole((data[11] >> 4).into(), out);
                out.push(b',');
                whole((data[11] & 15).into(), out);
                for bit in [0, 1, 7] {
                    out.push(b',');
                    flag(data[12] >> bit & 1 == 1, out);
                }
                out.push(b',');
                scaled(u16::from_le_bytes([data[13], data[14]]).into(), 3, out);
                self.sample.end_row();
            }
            2 => {
                let out = self.motor.row();
                scaled(i16be(data, 0).into(), 1, out);
                out.push(b',');
                scaled(u16be(data, 2).into(), 1, out);
                out.push(b',');
                whole((u32be(data, 4) as i32).into(), out);
                out.push(b',');
                scaled(i16::from_le_bytes([data[8], data[9]]).into(), 2, out);
                out.push(b',');
                whole(u16be(data, 10).into(), out);
                out.push(b',');
                whole((data[12] as i8).into(), out);
                out.push(b',');
                whole((data[13] as i8).into(), out);
                out.push(b',');
                whole((data[14] & 7).into(), out);
                out.push(b',');
                whole((data[14] >> 3).into(), out);
                out.push(b',');
                scaled(u32be(data, 15).into(), 2, out);
                self.motor.end_row();
            }
            _ => {
                let out = self.load.row();
                whole(u16be(data, 0).into(), out);
                for index in 0..8 {
                    out.push(b',');
                    scaled(i16be(data, 2 + 2 * index).into(), 2, out);
                }
                out.push(b',');
                scaled((u32be(data, 18) as i32).into(), 2, out);
                self.load.end_row();
            }
        }
    }

    pub fn flush(&mut self) {
        for table in [&mut self.sample, &mut self.motor, &mut self.load] {
            table.flush();
        }
    }
}

fn csv(quick: bool, input: &[u8], folder: &Path) {
    let mut tables = Tables::new(folder);
    let take = |kind: u8, data: &[u8]| tables.row(kind, data);
    if quick {
        tuned(input, take)
    } else {
        plain(input, take)
    }
    tables.flush();
}
