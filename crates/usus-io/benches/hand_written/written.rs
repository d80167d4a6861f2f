//! One reading of a brake, written in the ways in which texts can be declared: columns between blanks, pairs, a line for people, and that line as a
//! pattern. Beside each a plain decoder by hand; only decoding is timed.

use fastrand::Rng;
use memchr::memchr;
use usus::Format;

use crate::sentences::number;
use crate::sum::Sum;
use crate::tables::scaled;
use crate::{Extent, declared_decode, in_turn, say_decode};

/// Writes brake, force and delay.
type Write = fn(&[u8], &[u8], &[u8], &mut Vec<u8>);

/// A way to write a reading.
struct Way {
    name: &'static str,
    format: &'static str,
    write: Write,
    /// Brake, force and delay of a line, by hand.
    read: fn(&[u8]) -> Option<[&[u8]; 3]>,
}

const FIELDS: &str =
    r#"fields = [ { name = "brake" }, { name = "force", type = "number" }, { name = "delay", type = "number" } ]"#;

const WAYS: [Way; 4] = [
    Way {
        name: "columns",
        format: "[[frame]]\ncut = 'text'\nseparator = ' '\njoined = true\n[record.reading]\n",
        write: |brake, force, delay, out| put(&[b"  ", brake, b"   ", force, b"  ", delay], out),
        read: |line| {
            let mut columns = line.split(|byte| *byte == b' ').filter(|column| !column.is_empty());
            let found = [columns.next()?, columns.next()?, columns.next()?];
            columns.next().is_none().then_some(found)
        },
    },
    Way {
        name: "pairs",
        format: "[[frame]]\ncut = 'text'\nread = 'pairs'\nseparator = ' '\n[record.reading]\n",
        write: |brake, force, delay, out| put(&[b"force=", force, b" brake=", brake, b" delay=", delay], out),
        read: |line| {
            let mut found = [None; 3];
            for pair in line.split(|byte| *byte == b' ') {
                let assign = memchr(b'=', pair)?;
                let place = match &pair[..assign] {
                    b"brake" => 0,
                    b"force" => 1,
                    b"delay" => 2,
                    _ => return None,
                };
                if found[place].replace(&pair[assign + 1..]).is_some() {
                    return None;
                }
            }
            Some([found[0]?, found[1]?, found[2]?])
        },
    },
    Way {
        name: "printed",
        format: "[[frame]]\ncut = 'text'\n[record.reading]\nprinted = 'Brake {brake}: {force} kN after {delay} ms'\n",
        write: people,
        read: of_people,
    },
    Way {
        name: "pattern",
        format: "[[frame]]\ncut = 'text'\n[record.reading]\npattern = 'Brake (?<brake>[a-z]+): (?<force>) kN after (?<delay>) ms'\n",
        write: people,
        read: of_people,
    },
];

fn put(parts: &[&[u8]], out: &mut Vec<u8>) {
    parts.iter().for_each(|part| out.extend_from_slice(part));
}

fn people(brake: &[u8], force: &[u8], delay: &[u8], out: &mut Vec<u8>) {
    put(&[b"Brake ", brake, b": ", force, b" kN after ", delay, b" ms"], out);
}

fn of_people(line: &[u8]) -> Option<[&[u8]; 3]> {
    let rest = line.strip_prefix(b"Brake ")?;
    let colon = memchr(b':', rest)?;
    let (brake, rest) = (&rest[..colon], rest[colon + 1..].strip_prefix(b" ")?);
    let blank = memchr(b' ', rest)?;
    let (force, rest) = (&rest[..blank], rest[blank..].strip_prefix(b" kN after ")?);
    Some([brake, force, rest.strip_suffix(b" ms")?])
}

fn make(size: usize, way: &Way) -> Vec<u8> {
    let mut rng = Rng::with_seed(3);
    let mut input = b"\n".to_vec();
    let (mut force, mut delay) = (Vec::new(), Vec::new());
    while input.len() < size {
        force.clear();
        delay.clear();
        scaled(rng.i64(-200..6_000), 1, &mut force);
        scaled(rng.i64(80..1_200), 0, &mut delay);
        let brake: &[u8] = rng.choice([&b"north"[..], b"south", b"drive"]).unwrap();
        let begin = input.len();
        (way.write)(brake, &force, &delay, &mut input);
        if rng.u32(0..1_000) == 0 {
            let place = rng.usize(begin..input.len());
            input[place] = b'#';
        }
        input.push(b'\n');
    }
    input
}

fn by_hand(way: &Way, input: &[u8]) -> (u64, Sum) {
    let (mut records, mut sum, mut at) = (0, Sum::default(), 0);
    while let Some(length) = memchr(b'\n', &input[at..]) {
        if let Some([brake, force, delay]) = (way.read)(&input[at..at + length]) {
            records += 1;
            sum.text(brake);
            for column in [force, delay] {
                match number::<false>((column, column)) {
                    Some((value, _)) => sum.number(value),
                    None => sum.absent(),
                }
            }
        }
        at += length + 1;
    }
    (records, sum)
}

/// Prints what each way costs. What is damaged may be read otherwise by hand, so sums are compared on sound input only.
pub fn run(extent: Extent) {
    for way in &WAYS {
        let text = format!("format = 'brakes'\n{}{FIELDS}", way.format);
        let plan = Format::parse(&text).and_then(|format| format.compile()).expect("a sound format");
        let input = make(extent.size, way);
        let sound: Vec<u8> = input
            .split_inclusive(|byte| *byte == b'\n')
            .filter(|line| !line.contains(&b'#'))
            .flatten()
            .copied()
            .collect();
        assert_eq!(by_hand(way, &sound), declared_decode(&plan, &sound, 1 << 16), "{}", way.name);
        let (times, _) = in_turn(
            extent.rounds,
            &mut [&mut || by_hand(way, &input).0, &mut || declared_decode(&plan, &input, 1 << 16).0],
        );
        say_decode(way.name, input.len(), &times);
    }
}
