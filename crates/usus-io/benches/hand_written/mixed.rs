//! A line of sentences between packets.

use std::path::Path;
use std::sync::LazyLock;

use memchr::{memchr2, memmem};

use crate::sentences::{Row, Summed};
use crate::sum::Sum;
use crate::tables::Table;
use crate::{Contest, Side, input, packets, quick, sentences};

pub fn contest() -> Contest {
    Contest {
        name: "mixed",
        format: &FORMAT,
        make: |size, damage| {
            let mut sequence = 0;
            input::frames(size, damage, |rng, out| match rng.u8(0..5) {
                0 => sentences::wind(rng, out),
                _ => packets::packet(rng, &mut sequence, out),
            })
        },
        plain: Side { decode: decode::<false>, csv: csv::<false> },
        tuned: Side { decode: decode::<true>, csv: csv::<true> },
        ceiling: |input| {
            let (mut packets, mut columns) = (0, 0);
            walk::<true>(input, |kind, _| packets += u64::from(kind), |found| columns += found.len() as u64);
            packets + columns
        },
    }
}

static FORMAT: LazyLock<String> = LazyLock::new(|| {
    let packets = packets::FORMAT.replace("when   = \"type", "frame  = \"packet\"\nwhen   = \"type");
    packets
        + r#"
[[frame]]
name   = "sentence"
cut    = "nmea-0183"
header = [
  { name = "talker",   chars = "1-2", type = "text" },
  { name = "sentence", chars = "3-5", type = "text", internal = true },
]
[record.mwv]
frame  = "sentence"
when   = "sentence == 'MWV'"
fields = [
  { name = "angle",      column = 2, type = "number", unit = "°", range = [0, 360] },
  { name = "reference",  type = "text", codes = { R = "relative", T = "theoretical" } },
  { name = "speed",      type = "number", unit = "m/s", unit_from = "speed_unit" },
  { name = "speed_unit", type = "text", codes = { K = "km/h", M = "m/s" }, internal = true },
  { name = "status",     type = "text", codes = { A = "valid", V = "invalid" } },
]
"#
});

/// Goes from one sound packet or sentence to the next.
fn walk<const QUICK: bool>(
    input: &[u8],
    mut packet: impl FnMut(u8, &[u8]),
    mut sentence: impl FnMut(&[sentences::Column]),
) {
    let (crc, quick_crc) = (packets::Crc::new(), quick::Crc::new());
    let pattern = memmem::Finder::new(&[0xA5, 0x5A]);
    let mut at = 0;
    loop {
        let rest = &input[at..];
        let length = match rest {
            [0xA5, 0x5A, ..] if QUICK => packets::tuned_packet(&quick_crc, rest, &mut packet),
            [0xA5, 0x5A, ..] => crc.packet(rest, &mut packet),
            [b'$' | b'!', ..] => sentences::one::<QUICK>(rest, &mut sentence),
            [b'\r', b'\n', ..] => Some(2),
            _ => None,
        };
        match length {
            Some(length) => at += length,
            None => match next(&pattern, input, at + 1) {
                Some(next) => at = next,
                None => return,
            },
        }
    }
}

/// Where the next packet or sentence may begin.
fn next(pattern: &memmem::Finder<'_>, input: &[u8], from: usize) -> Option<usize> {
    let rest = input.get(from..)?;
    let sentence = memchr2(b'$', b'!', rest);
    let packet = pattern.find(&rest[..sentence.unwrap_or(rest.len())]);
    Some(from + packet.or(sentence)?)
}

fn decode<const QUICK: bool>(input: &[u8]) -> (u64, Sum) {
    // The sum is of values in their order, so both kinds go into one.
    let state = std::cell::RefCell::new((0, Summed::<QUICK>(Sum::default())));
    walk::<QUICK>(
        input,
        |kind, data| {
            let (records, sum) = &mut *state.borrow_mut();
            *records += 1;
            packets::sum_of(kind, data, &mut sum.0);
        },
        |columns| {
            let (records, sum) = &mut *state.borrow_mut();
            *records += u64::from(sentences::sum_of(columns, sum));
        },
    );
    let (records, sum) = state.into_inner();
    (records, sum.0)
}

fn csv<const QUICK: bool>(input: &[u8], folder: &Path) {
    let mut tables = packets::Tables::new(folder);
    let mut wind = Table::new(folder, "mwv.csv", "talker,angle,reference,speed,status,quality");
    walk::<QUICK>(
        input,
        |kind, data| tables.row(kind, data),
        |columns| {
            if sentences::is_one(columns) {
                sentences::fields(columns, &mut Row::<QUICK>(wind.row()));
                wind.end_row();
            }
        },
    );
    tables.flush();
    wind.flush();
}
