//! Points of units: random register maps and the memory of made-up units behind them. What an answer or a write tells of a point is what stood in the
//! unit's registers then, and nothing is told of those of which a part is not known.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::fmt::Write;

use fastrand::Rng;
use usus::{Chunk, Decoder, Format, Plan, Record, Sink, Time, Value, Which};

use crate::modbus::{CHARACTER, MILLISECOND, framed};

fn tries() -> u64 {
    std::env::var("CONVERSATIONS").ok().and_then(|tries| tries.parse().ok()).unwrap_or(500)
}

/// Types of registers, and in which order their bytes make a number that has its high byte first.
const TYPES: [(&str, &[usize]); 9] = [
    ("u16be", &[0, 1]),
    ("i16le", &[1, 0]),
    ("u32be", &[0, 1, 2, 3]),
    ("i32cdab", &[2, 3, 0, 1]),
    ("u32badc", &[1, 0, 3, 2]),
    ("i32le", &[3, 2, 1, 0]),
    ("f32be", &[0, 1, 2, 3]),
    ("f32cdab", &[2, 3, 0, 1]),
    ("u64be", &[0, 1, 2, 3, 4, 5, 6, 7]),
];

#[derive(Clone, Debug)]
struct Place {
    name: String,
    bits: bool,
    input: bool,
    address: u16,
    of: usize,
    /// The name of the point that scales it.
    scale: Option<String>,
    is_scale: bool,
    within: bool,
}

impl Place {
    fn size(&self) -> usize {
        if self.bits || self.is_scale { 1 } else { TYPES[self.of].1.len() / 2 }
    }
}

#[derive(Clone, Debug)]
struct Map {
    id: u8,
    places: Vec<Place>,
}

impl Map {
    fn any(rng: &mut Rng, id: u8) -> Map {
        let mut places: Vec<Place> = Vec::new();
        for number in 0..rng.usize(1..12) {
            let bits = rng.u8(..4) == 0;
            let place = Place {
                name: format!("p{number}"),
                bits,
                input: rng.bool(),
                address: rng.u16(..24),
                of: rng.usize(..TYPES.len()),
                scale: None,
                is_scale: false,
                within: rng.u8(..4) == 0,
            };
            places.push(place);
        }
        if rng.bool() {
            let scale = Place {
                name: "scale".to_owned(),
                bits: false,
                input: false,
                address: rng.u16(..24),
                of: 0,
                scale: None,
                is_scale: true,
                within: false,
            };
            let scaled = |place: &&mut Place| !place.bits && place.of < 6;
            places.iter_mut().filter(scaled).for_each(|place| place.scale = Some("scale".to_owned()));
            places.push(scale);
        }
        Map { id, places }
    }

    /// It as a format has it.
    fn write(&self, text: &mut String) {
        let _ = write!(text, "[unit.u{}]\nid = {}\npoints = [\n", self.id, self.id);
        for place in &self.places {
            let table = match (place.bits, place.input) {
                (true, true) => "discrete_input",
                (true, false) => "coil",
                (false, true) => "input_register",
                (false, false) => "holding_register",
            };
            let (name, address) = (&place.name, place.address);
            let _ = write!(text, "  {{ name = '{name}', table = '{table}', address = {address}");
            if place.is_scale {
                text.push_str(", type = 'u16be', codes = { 0 = '1', 1 = '0.1', 2 = '0.01' }");
            } else if !place.bits {
                let _ = write!(text, ", type = '{}'", TYPES[place.of].0);
            }
            if let Some(scale) = &place.scale {
                let _ = write!(text, ", scale_from = '{scale}'");
            }
            if place.within {
                text.push_str(", within = '1 h'");
            }
            text.push_str(" },\n");
        }
        text.push_str("]\n");
    }
}

fn plan(maps: &[Map]) -> Plan {
    let mut text = "format = 'bus'\nserial = '19200 8E1'\n[[frame]]\ncut = 'modbus-rtu'\n".to_owned();
    maps.iter().for_each(|map| map.write(&mut text));
    let format = Format::parse(&text).unwrap_or_else(|problems| panic!("{problems}\n{text}"));
    // What is written as a file says the same.
    assert_eq!(
        Format::parse(&format.to_toml()).unwrap().compile().unwrap().schema(),
        format.compile().unwrap().schema()
    );
    format.compile().unwrap()
}

/// Which register or bit of which unit: whether it is a bit, and whether it can only be read.
type At = (u8, bool, bool, u16);

/// What a listener can know of a value, and what it is.
#[derive(Clone, Debug, PartialEq)]
struct Said {
    text: String,
    pieced: bool,
}

/// Of each point of a unit, what is said of it.
type Says = BTreeMap<(u8, String), Said>;

/// What came out of a transaction: of each unit, what it says of its points. Where its request begins.
#[derive(Debug)]
struct Truth {
    offset: u64,
    says: Says,
}

/// A bus with its units, and what a listener has seen.
struct Bus {
    maps: Vec<Map>,
    memory: BTreeMap<At, u16>,
    seen: BTreeMap<At, u16>,
    bytes: Vec<u8>,
    times: Vec<i64>,
    now: i64,
    truth: Vec<Truth>,
}

impl Bus {
    fn send(&mut self, message: Vec<u8>) {
        for byte in framed(message) {
            self.now += CHARACTER;
            self.bytes.push(byte);
            self.times.push(self.now);
        }
    }

    fn memory(&mut self, rng: &mut Rng, at: At) -> u16 {
        let value = if at.1 { rng.u16(..2) } else { *rng.choice(&[0, 1, 2, 7, 0x4120, 0xC2F0, 0xFFFF]).unwrap() };
        *self.memory.entry(at).or_insert(value)
    }

    /// Asks something of a unit, which answers.
    fn ask(&mut self, rng: &mut Rng) {
        let id = rng.choice(&self.maps).unwrap().id;
        let (address, count) = (rng.u16(..24), rng.u16(1..16));
        let [high, low] = address.to_be_bytes();
        let range = |from: u16, count: u16| from..from + count;
        // What the unit does by itself.
        self.memory.retain(|_, _| rng.u8(..6) > 0);
        let code = *rng.choice(&[1, 2, 3, 3, 4, 4, 5, 6, 15, 16, 22, 23]).unwrap();
        let offset = self.bytes.len() as u64;
        let mut told: Vec<(At, u16)> = Vec::new();
        let (mut asked, mut reads) = (vec![id, code, high, low], 0);
        let mut answer = asked.clone();
        match code {
            1 | 2 => {
                let bits: Vec<u16> = range(address, count)
                    .map(|address| {
                        let value = self.memory(rng, (id, true, code == 2, address));
                        told.push(((id, true, code == 2, address), value));
                        value
                    })
                    .collect();
                let packed: Vec<u8> = bits
                    .chunks(8)
                    .map(|bits| bits.iter().enumerate().map(|(place, bit)| (*bit as u8) << place).sum())
                    .collect();
                asked.extend([0, count as u8]);
                answer = [&[id, code, packed.len() as u8][..], &packed].concat();
            }
            3 | 4 => {
                asked.extend([0, count as u8]);
                answer = vec![id, code, 2 * count as u8];
                for address in range(address, count) {
                    let value = self.memory(rng, (id, false, code == 4, address));
                    told.push(((id, false, code == 4, address), value));
                    answer.extend(value.to_be_bytes());
                }
            }
            5 | 6 | 22 => {
                let at = (id, code == 5, false, address);
                let value = match code {
                    5 => rng.u16(..2),
                    6 => rng.u16(..4),
                    _ => {
                        let [and, or] = [rng.u16(..), rng.u16(..)];
                        asked.extend([and.to_be_bytes(), or.to_be_bytes()].concat());
                        (self.memory(rng, at) & and) | (or & !and)
                    }
                };
                match code {
                    5 => asked.extend([if value == 1 { 0xFF } else { 0 }, 0]),
                    6 => asked.extend(value.to_be_bytes()),
                    _ => {}
                }
                answer.clone_from(&asked);
                self.memory.insert(at, value);
                // Units change by themselves here: a mask says what is there only right behind a look at it.
                told.push((at, value));
            }
            15 => {
                let bits: Vec<u16> = (0..count).map(|_| rng.u16(..2)).collect();
                let packed: Vec<u8> = bits
                    .chunks(8)
                    .map(|bits| bits.iter().enumerate().map(|(place, bit)| (*bit as u8) << place).sum())
                    .collect();
                asked.extend([0, count as u8]);
                answer.clone_from(&asked);
                asked.push(packed.len() as u8);
                asked.extend(packed);
                told.extend(range(address, count).zip(bits).map(|(address, bit)| ((id, true, false, address), bit)));
            }
            16 => {
                asked.extend([0, count as u8]);
                answer.clone_from(&asked);
                asked.push(2 * count as u8);
                for address in range(address, count) {
                    let value = rng.u16(..5);
                    asked.extend(value.to_be_bytes());
                    told.push(((id, false, false, address), value));
                }
            }
            _ => {
                let (first, written) = (rng.u16(..24), rng.u16(1..5));
                asked.extend([0, count as u8, 0, first as u8, 0, written as u8, 2 * written as u8]);
                for address in range(first, written) {
                    let value = rng.u16(..5);
                    asked.extend(value.to_be_bytes());
                    told.push(((id, false, false, address), value));
                    self.memory.insert((id, false, false, address), value);
                }
                answer = vec![id, code, 2 * count as u8];
                reads = usize::from(count);
                for address in range(address, count) {
                    let value = self.memory(rng, (id, false, false, address));
                    told.push(((id, false, false, address), value));
                    answer.extend(value.to_be_bytes());
                }
            }
        }
        if code == 22 {
            // By what the listener knows.
            let (at, _) = told[0];
            told.clear();
            if let Some(old) = self.seen.get(&at) {
                let [and, or] = [4, 6].map(|place| u16::from_be_bytes([asked[place], asked[place + 1]]));
                told.push((at, (old & and) | (or & !and)));
            }
        }
        self.memory.extend(told.iter().copied());
        self.send(asked);
        let is_refused = rng.u8(..16) == 0;
        let is_silent = rng.u8(..16) == 0;
        match (is_refused, is_silent) {
            (false, false) => {
                self.now += rng.i64(2..10) * MILLISECOND;
                self.send(answer);
                self.tell(offset, &told);
            }
            (_, true) => {
                // Whether it was written, nobody knows.
                self.seen.retain(|at, _| {
                    matches!(code, 1..=4) || !told[..told.len() - reads].iter().any(|(written, _)| written == at)
                });
                if code == 22 {
                    self.seen.remove(&(id, false, false, address));
                }
                self.now += 1_100 * MILLISECOND;
            }
            (true, false) => {
                self.now += rng.i64(2..10) * MILLISECOND;
                self.send(vec![id, code | 0x80, 4]);
            }
        }
        self.now += rng.i64(20..40) * MILLISECOND;
    }

    /// Notes what a listener is to be told.
    fn tell(&mut self, offset: u64, told: &[(At, u16)]) {
        let new: BTreeMap<At, u16> = told.iter().copied().collect();
        self.seen.extend(new.clone());
        let mut says = BTreeMap::new();
        for map in &self.maps {
            for place in &map.places {
                let size = place.size();
                let its: Vec<At> =
                    (0..size).map(|next| (map.id, place.bits, place.input, place.address + next as u16)).collect();
                let own = its.iter().filter(|at| new.contains_key(at)).count();
                let known: Vec<u16> = its.iter().filter_map(|at| self.seen.get(at).copied()).collect();
                if own == 0 || known.len() < size || (own < size && !place.within) {
                    continue;
                }
                let mut said = Said { text: place.text(&known), pieced: own < size };
                if place.scale.is_some() {
                    let of = map.places.iter().find(|place| place.is_scale).unwrap();
                    let at = (map.id, false, false, of.address);
                    let Some(scale) = self.seen.get(&at) else { continue };
                    said.pieced |= !new.contains_key(&at);
                    said.text = match scale {
                        0 => said.text,
                        1 => scaled(&said.text, 1),
                        2 => scaled(&said.text, 2),
                        // No code of it: no value, which is put together of nothing.
                        _ => String::new(),
                    };
                    said.pieced &= !said.text.is_empty();
                }
                // What else is to be said of a number comes first.
                said.pieced &= !matches!(said.text.as_str(), "NaN" | "inf" | "-inf");
                says.insert((map.id, place.name.clone()), said);
            }
        }
        if !says.is_empty() {
            self.truth.push(Truth { offset, says });
        }
    }
}

/// A whole number with a point so many digits from its end.
fn scaled(text: &str, places: usize) -> String {
    let (sign, digits) = text.strip_prefix('-').map_or(("", text), |digits| ("-", digits));
    let digits = format!("{digits:0>width$}", width = places + 1);
    let (whole, rest) = digits.split_at(digits.len() - places);
    format!("{sign}{whole}.{rest}")
}

impl Place {
    fn text(&self, registers: &[u16]) -> String {
        if self.bits {
            return (registers[0] == 1).to_string();
        }
        if self.is_scale {
            return match registers[0] {
                code @ 0..=2 => ["1", "0.1", "0.01"][usize::from(code)].to_owned(),
                code => code.to_string(),
            };
        }
        let sent: Vec<u8> = registers.iter().flat_map(|register| register.to_be_bytes()).collect();
        let (word, order) = TYPES[self.of];
        let number = order.iter().fold(0u64, |number, place| number << 8 | u64::from(sent[*place]));
        match (word.as_bytes()[0], order.len()) {
            (b'f', _) => format!("{:?}", f32::from_bits(number as u32)),
            (b'i', 2) => (number as i16).to_string(),
            (b'i', _) => (number as i32).to_string(),
            _ => number.to_string(),
        }
    }
}

#[derive(Debug, Default, PartialEq)]
struct Told(Vec<(u64, Says)>);

impl Sink for Told {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let id = record.get("unit").unwrap().value.to_string().parse().unwrap();
        let mut says = BTreeMap::new();
        for (schema, cell) in record.fields().skip(2) {
            let usus::Cell::Reading(reading) = cell else { continue };
            let is_absent = matches!(reading.value, Value::Absent(usus::Absent::NotSent));
            let text = match reading.value {
                Value::F32(number) => format!("{number:?}"),
                Value::Absent(_) => String::new(),
                value => value.to_string(),
            };
            if !is_absent {
                let pieced = reading.quality.word() == "pieced";
                says.insert((id, schema.name.clone()), Said { text, pieced });
            }
        }
        self.0.push((record.offset(), says));
        Ok(())
    }
}

fn run(plan: &Plan, bytes: &[(u8, i64)]) -> Told {
    let mut told = Told::default();
    feed(plan, bytes, &mut told);
    told
}

fn feed(plan: &Plan, bytes: &[(u8, i64)], told: &mut impl Sink<Error = Infallible>) {
    let mut decoder = Decoder::new(plan);
    let line = decoder.line("", 0).unwrap();
    for (byte, time) in bytes {
        let chunk =
            Chunk { time: Some(Time::from_nanoseconds(*time)), ..Chunk::new(line, core::slice::from_ref(byte)) };
        let Ok(()) = decoder.decode(chunk, told);
    }
    let Ok(()) = decoder.finish().drain(told);
    assert!(decoder.ledger(line).balances());
}

#[test]
fn points_are_what_stood_in_the_registers() {
    let (mut found, mut undetermined) = ([0u64; 3], 0);
    for seed in 0..tries() {
        let mut rng = Rng::with_seed(seed);
        let maps: Vec<Map> = (0..rng.u8(1..4)).map(|unit| Map::any(&mut rng, 5 * unit + 1)).collect();
        let plan = plan(&maps);
        let mut bus = Bus {
            maps,
            memory: BTreeMap::new(),
            seen: BTreeMap::new(),
            bytes: Vec::new(),
            times: Vec::new(),
            now: 1_000 * MILLISECOND,
            truth: Vec::new(),
        };
        (0..rng.usize(1..30)).for_each(|_| bus.ask(&mut rng));
        let bytes: Vec<(u8, i64)> = bus.bytes.iter().copied().zip(bus.times.iter().copied()).collect();
        let told = run(&plan, &bytes);
        let mut wanted: BTreeMap<u64, &Truth> = bus.truth.iter().map(|truth| (truth.offset, truth)).collect();
        for (offset, says) in &told.0 {
            let truth = wanted.remove(offset).unwrap_or_else(|| {
                panic!(
                    "seed {seed}: nothing was to be told at {offset}: {says:?}; {:02X?}",
                    &bus.bytes[*offset as usize..]
                )
            });
            assert_eq!(*says, truth.says, "seed {seed} at {offset}");
            found[0] += says.len() as u64;
            found[1] += says.values().filter(|said| said.pieced).count() as u64;
        }
        // A recording may begin with what nobody can tell the direction of: such a transaction is undetermined, and says nothing of points.
        for offset in wanted.keys() {
            let code = bus.bytes[*offset as usize + 1];
            assert!(matches!(code, 1 | 2 | 5 | 6 | 22), "seed {seed}: nothing was told of what was said at {offset}");
            undetermined += 1;
        }
        // A value by itself is what it is in its record; only changes are some of them.
        let each = count(&plan.by_value(Which::Each), &bytes);
        assert_eq!(each, told.0.iter().map(|(_, says)| says.len()).sum::<usize>(), "seed {seed}");
        assert!(count(&plan.by_value(Which::Changed), &bytes) <= each);
        // Of bytes that got lost nothing is claimed.
        let offsets: Vec<usize> = (0..bytes.len()).filter(|_| rng.u8(..60) > 0).collect();
        let left: Vec<(u8, i64)> = offsets.iter().map(|offset| bytes[*offset]).collect();
        for (offset, says) in run(&plan, &left).0 {
            let began = offsets[offset as usize] as u64;
            let truth = bus.truth.iter().find(|truth| truth.offset == began);
            for (place, said) in says.iter().filter(|(_, said)| !said.pieced && !said.text.is_empty()) {
                let is_known = truth.and_then(|truth| truth.says.get(place));
                assert_eq!(is_known.map(|known| &known.text), Some(&said.text), "seed {seed} at {began}, {place:?}");
                found[2] += 1;
            }
        }
    }
    assert!(found[0] > tries() && found[1] > tries() / 20 && found[2] > tries(), "{found:?}");
    assert!(undetermined <= tries() / 10, "{undetermined}");
}

fn count(plan: &Plan, bytes: &[(u8, i64)]) -> usize {
    struct Count(usize);
    impl Sink for Count {
        type Error = Infallible;

        fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
            assert!(record.kind() == "value" && record.get("name").is_some());
            self.0 += 1;
            Ok(())
        }
    }
    let mut told = Count(0);
    feed(plan, bytes, &mut told);
    told.0
}
