//! What is out of the ordinary: much damage, single bytes, several cores, JSON Lines, tiny and huge frames.

use std::convert::Infallible;
use std::fs;

use fastrand::Rng;
use usus::{Decoder, Record, Sink};
use usus_io::{Destination, Existing, OutputOptions, Outputs, PieceOptions, Pieces, RawBytes, pump_pieces};

use crate::sum::Sum;
use crate::{Contest, Extent, Summing, compiled, declared_csv, declared_decode, fastest, folder, in_turn, ratio};

/// Sums all values, and does not care for their order.
#[derive(Default)]
struct Adding(u64);

impl Sink for Adding {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let mut summing = Summing(Sum::default());
        record.visit(&mut summing);
        self.0 = self.0.wrapping_add(summing.0.value());
        Ok(())
    }
}

impl Pieces for Adding {
    type Piece = Adding;

    fn piece(&self) -> Adding {
        Adding::default()
    }

    fn join(&mut self, piece: &mut Adding) -> Result<(), Infallible> {
        self.0 = self.0.wrapping_add(std::mem::take(&mut piece.0));
        Ok(())
    }
}

pub fn run(contest: &Contest, extent: Extent) {
    let plan = compiled(contest.format);
    let input = (contest.make)(extent.size, 1_000);
    println!("{}", contest.name);

    let damaged = (contest.make)(extent.size, 20);
    let (times, results) = in_turn(
        extent.rounds,
        &mut [&mut || (contest.plain.decode)(&damaged), &mut || declared_decode(&plan, &damaged, 1 << 16)],
    );
    assert_eq!(results[0], results[1]);
    say("5 % of the frames damaged, plain over declared", &times[0], &times[1], damaged.len());

    let little = &input[..input.len() / 4];
    let (times, results) = in_turn(
        extent.rounds,
        &mut [&mut || declared_decode(&plan, little, 1), &mut || declared_decode(&plan, little, 4_096)],
    );
    assert_eq!(results[0], results[1]);
    say("byte by byte over chunks of 4 KiB", &times[0], &times[1], little.len());

    let decode = |jobs: usize| {
        let (mut source, mut decoder) = (RawBytes::new(&input[..], input.len() as u64), Decoder::new(&plan));
        let mut sum = Adding::default();
        let Ok(_) = pump_pieces(&mut source, &mut decoder, &mut sum, PieceOptions::jobs(jobs), &mut |_| true) else {
            unreachable!("reading a slice does not fail")
        };
        sum.0
    };
    let (times, results) = in_turn(extent.rounds, &mut [&mut || decode(1), &mut || decode(2)]);
    assert_eq!(results[0], results[1]);
    say("decode, one core over two", &times[0], &times[1], input.len());

    let (tables, lines) = (folder("tables"), folder("lines.jsonl"));
    let (times, _) = in_turn(
        extent.rounds,
        &mut [
            &mut || declared_csv(&plan, &input, &tables, 1),
            &mut || declared_csv(&plan, &input, &tables, 2),
            &mut || {
                let options = OutputOptions { existing: Existing::Replace, ..OutputOptions::default() };
                let destination = Destination::JsonLines(lines.clone());
                let mut outputs = Outputs::open(&plan, &destination, &options).unwrap();
                let (mut source, mut decoder) = (RawBytes::new(&input[..], input.len() as u64), Decoder::new(&plan));
                pump_pieces(&mut source, &mut decoder, &mut outputs, PieceOptions::jobs(1), &mut |_| true).unwrap();
                outputs.finish().unwrap();
            },
        ],
    );
    say("CSV, one core over two", &times[0], &times[1], input.len());
    say("CSV over JSON Lines", &times[0], &times[2], input.len());
    fs::remove_dir_all(tables).unwrap();
    fs::remove_file(lines).unwrap();
}

fn say(what: &str, over: &[f64], under: &[f64], bytes: usize) {
    let rate = |times: &[f64]| bytes as f64 / 1e6 / fastest(times);
    println!("  {what:<48}{:>6.0} and {:>4.0} MB/s: {}", rate(over), rate(under), ratio(over, under));
}

/// Frames of four bytes and of four thousand.
pub fn sizes(extent: Extent) {
    println!("sizes");
    let tiny = compiled(
        "format = 'tiny'
        [[frame]]
        cut = 'packet'
        start = 'AA'
        length = 4
        checksum = { algorithm = 'SUM-8', type = 'u8' }
        [record.tiny]
        fields = [{ name = 'value', type = 'u16be' }]",
    );
    let mut rng = Rng::with_seed(1);
    let mut input = Vec::with_capacity(extent.size + 4);
    while input.len() < extent.size {
        let [high, low] = rng.u16(..).to_be_bytes();
        input.extend([0xAA, high, low, 0xAA_u8.wrapping_add(high).wrapping_add(low)]);
    }
    let plain = |input: &[u8]| {
        let (mut records, mut sum, mut at) = (0, Sum::default(), 0);
        while let Some([start, high, low, sent]) = input[at..].first_chunk::<4>() {
            if *start == 0xAA && 0xAA_u8.wrapping_add(*high).wrapping_add(*low) == *sent {
                records += 1;
                sum.number(u16::from_be_bytes([*high, *low]).into());
                at += 4;
            } else {
                at += 1;
            }
        }
        (records, sum)
    };
    let (times, results) =
        in_turn(extent.rounds, &mut [&mut || plain(&input), &mut || declared_decode(&tiny, &input, 1 << 16)]);
    assert_eq!(results[0], results[1]);
    say("frames of 4 bytes, plain over declared", &times[0], &times[1], input.len());

    const VALUES: usize = 2_000;
    let huge = compiled(&format!(
        "format = 'huge'
        [[frame]]
        cut = 'packet'
        start = 'AA 55'
        length = {}
        checksum = {{ algorithm = 'SUM-16', type = 'u16be' }}
        [record.huge]
        fields = [{{ name = 'samples', count = {VALUES}, fields = [{{ name = 'value', type = 'i16be' }}] }}]",
        4 + 2 * VALUES
    ));
    let mut input = Vec::with_capacity(extent.size + 8_192);
    while input.len() < extent.size {
        let begin = input.len();
        input.extend([0xAA, 0x55]);
        input.extend((0..VALUES).flat_map(|_| rng.i16(..).to_be_bytes()));
        let sum = input[begin..].iter().fold(0u16, |sum, byte| sum.wrapping_add((*byte).into()));
        input.extend(sum.to_be_bytes());
    }
    let plain = |input: &[u8]| {
        let (mut records, mut sum) = (0, Sum::default());
        for frame in input.chunks_exact(4 + 2 * VALUES) {
            let (covered, sent) = frame.split_at(frame.len() - 2);
            let found = covered.iter().fold(0u16, |sum, byte| sum.wrapping_add((*byte).into()));
            if found.to_be_bytes() == sent {
                records += 1;
                covered[2..]
                    .chunks_exact(2)
                    .for_each(|value| sum.number(i16::from_be_bytes([value[0], value[1]]).into()));
            }
        }
        (records, sum)
    };
    let (times, results) =
        in_turn(extent.rounds, &mut [&mut || plain(&input), &mut || declared_decode(&huge, &input, 1 << 16)]);
    assert_eq!(results[0], results[1]);
    say("frames of 4,004 bytes, plain over declared", &times[0], &times[1], input.len());
}
