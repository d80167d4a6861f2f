//! Modbus against an encoder of its own: conversations between a master and its units of which everything is known, as a listener gets them. Whatever is
//! done to the bytes, every transaction that came whole is found, exactly, and none is made of what does not belong together.

use std::collections::BTreeMap;
use std::convert::Infallible;

use fastrand::Rng;
use usus::{Cell, Chunk, Decoder, Format, Plan, Record, Reject, Sink, Time};

/// How many conversations are tried: more where it is asked for.
fn tries() -> u64 {
    std::env::var("CONVERSATIONS").ok().and_then(|tries| tries.parse().ok()).unwrap_or(2_000)
}

fn plan() -> Plan {
    let (_, text) = usus::SHIPPED.iter().find(|(name, _)| *name == "modbus-rtu").unwrap();
    Format::parse(text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}"))
}

/// CRC-16 as the standard draws it: bit by bit, from its appendix.
fn crc(bytes: &[u8]) -> [u8; 2] {
    let mut register = 0xFFFF_u16;
    for byte in bytes {
        register ^= u16::from(*byte);
        for _ in 0..8 {
            let carry = register & 1;
            register >>= 1;
            if carry == 1 {
                register ^= 0xA001;
            }
        }
    }
    [register as u8, (register >> 8) as u8]
}

pub(crate) fn framed(mut message: Vec<u8>) -> Vec<u8> {
    let check = crc(&message);
    message.extend(check);
    message
}

/// A message as Modbus ASCII sends it: in hex, with the sum of its bytes negated, by the standard's appendix.
fn in_ascii(framed: &[u8]) -> Vec<u8> {
    let message = &framed[..framed.len() - 2];
    let sum = message.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte));
    let digits: String = message.iter().chain([&sum.wrapping_neg()]).map(|byte| format!("{byte:02X}")).collect();
    format!(":{digits}\r\n").into_bytes()
}

/// Nanoseconds of a character at 19200 8E1.
pub(crate) const CHARACTER: i64 = 572_917;
pub(crate) const MILLISECOND: i64 = 1_000_000;

/// What a master asked, and what came of it.
#[derive(Clone, Debug, Default)]
struct Transaction {
    request: Vec<u8>,
    answer: Option<Vec<u8>>,
    says: BTreeMap<&'static str, String>,
    /// Whether nobody is to answer.
    broadcast: bool,
}

fn list<T: ToString>(values: impl IntoIterator<Item = T>) -> String {
    values.into_iter().map(|value| value.to_string()).collect::<Vec<_>>().join(" ")
}

fn digits(bits: &[bool]) -> String {
    bits.iter().map(|bit| if *bit { '1' } else { '0' }).collect()
}

fn packed(bits: &[bool]) -> Vec<u8> {
    bits.chunks(8)
        .map(|bits| bits.iter().enumerate().fold(0, |byte, (place, bit)| byte | u8::from(*bit) << place))
        .collect()
}

impl Transaction {
    /// Something that a master may ask, and what is answered to it.
    fn any(rng: &mut Rng, unit: u8) -> Transaction {
        let [high, low] = rng.u16(..60_000).to_be_bytes();
        let address = u16::from_be_bytes([high, low]);
        let mut says = BTreeMap::from([("unit", unit.to_string()), ("address", address.to_string())]);
        let code =
            *rng.choice(&[1, 2, 3, 3, 3, 4, 4, 5, 6, 6, 7, 8, 11, 12, 15, 16, 16, 17, 20, 22, 23, 24, 43]).unwrap();
        let registers = |rng: &mut Rng, most: u8| -> Vec<u16> {
            (0..rng.u8(1..=most)).map(|_| if rng.bool() { rng.u16(..40) } else { rng.u16(..) }).collect()
        };
        let bytes =
            |registers: &[u16]| -> Vec<u8> { registers.iter().flat_map(|register| register.to_be_bytes()).collect() };
        let (asked, answered): (Vec<u8>, Vec<u8>) = match code {
            1 | 2 => {
                let bits: Vec<bool> = (0..rng.usize(1..40)).map(|_| rng.bool()).collect();
                let packed = packed(&bits);
                says.insert("count", bits.len().to_string());
                says.insert("bits", digits(&bits));
                (vec![high, low, 0, bits.len() as u8], [&[packed.len() as u8][..], &packed].concat())
            }
            3 | 4 => {
                let values = registers(rng, 20);
                says.insert("count", values.len().to_string());
                says.insert("values", list(&values));
                (vec![high, low, 0, values.len() as u8], [&[2 * values.len() as u8][..], &bytes(&values)].concat())
            }
            5 => {
                let on = rng.bool();
                says.insert("bits", digits(&[on]));
                let asked = vec![high, low, if on { 0xFF } else { 0 }, 0];
                (asked.clone(), asked)
            }
            6 => {
                let value = rng.u16(..5);
                says.insert("written", value.to_string());
                let asked = vec![high, low, 0, value as u8];
                (asked.clone(), asked)
            }
            15 => {
                let bits: Vec<bool> = (0..rng.usize(1..40)).map(|_| rng.bool()).collect();
                let packed = packed(&bits);
                says.insert("bits", digits(&bits));
                let front = vec![high, low, 0, bits.len() as u8];
                ([&front[..], &[packed.len() as u8], &packed].concat(), front)
            }
            16 => {
                let values = registers(rng, 10);
                says.insert("written", list(&values));
                let front = vec![high, low, 0, values.len() as u8];
                ([&front[..], &[2 * values.len() as u8], &bytes(&values)].concat(), front)
            }
            22 => {
                let asked = vec![high, low, 0x12, 0x34, rng.u8(..), 0xCD];
                (asked.clone(), asked)
            }
            23 => {
                let (values, written) = (registers(rng, 10), registers(rng, 5));
                says.insert("values", list(&values));
                says.insert("written", list(&written));
                says.insert("write_address", "9".to_owned());
                let written = bytes(&written);
                (
                    [
                        &[high, low, 0, values.len() as u8, 0, 9, 0, written.len() as u8 / 2, written.len() as u8][..],
                        &written,
                    ]
                    .concat(),
                    [&[2 * values.len() as u8][..], &bytes(&values)].concat(),
                )
            }
            24 => {
                let values = registers(rng, 20);
                says.insert("values", list(&values));
                (
                    vec![high, low],
                    [&[0, 2 * values.len() as u8 + 2, 0, values.len() as u8][..], &bytes(&values)].concat(),
                )
            }
            _ => {
                says.remove("address");
                match code {
                    7 => (vec![], vec![rng.u8(..)]),
                    8 => (vec![0, 0, 0xA5, low], vec![0, 0, 0xA5, low]),
                    11 => (vec![], vec![0, 0, high, low]),
                    12 => (vec![], vec![8, 0, 0, 1, 8, 1, 0x21, 0x20, 0]),
                    17 => (vec![], vec![3, high, 0xFF, low]),
                    20 => (vec![7, 6, 0, 4, 0, 1, 0, 1], vec![4, 3, 6, high, low]),
                    _ => (vec![14, 1, 0], [&[14, 1, 1, 0, 0, 1, 0, 5][..], b"winch"].concat()),
                }
            }
        };
        let mut answer = framed([&[unit, code][..], &answered].concat());
        if rng.u8(..12) == 0 {
            answer = framed(vec![unit, code | 0x80, rng.choice([1, 2, 3, 4, 6]).unwrap()]);
            says.remove("values");
            if matches!(code, 1 | 2) {
                says.remove("bits");
            }
            says.insert("outcome", "error".to_owned());
        } else {
            says.insert("outcome", "answered".to_owned());
        }
        let request = framed([&[unit, code][..], &asked].concat());
        Transaction { request, answer: Some(answer), says, broadcast: false }
    }
}

/// A byte on the bus: when it came, and of which message it is.
#[derive(Clone, Copy, Debug)]
struct Byte {
    value: u8,
    time: i64,
    /// Its message, and its place in that.
    of: Option<(usize, usize)>,
}

/// What is said on a bus: the transactions, and their messages one after the other, each with its transaction and whether it is the request.
#[derive(Default)]
struct Bus {
    ascii: bool,
    transactions: Vec<Transaction>,
    messages: Vec<(usize, bool, usize)>,
    bytes: Vec<Byte>,
    now: i64,
}

impl Bus {
    fn send(&mut self, transaction: usize, is_request: bool, message: &[u8]) {
        let number = self.messages.len();
        let message = if self.ascii { in_ascii(message) } else { message.to_vec() };
        // The line end is not needed for it.
        self.messages.push((transaction, is_request, message.len() - if self.ascii { 2 } else { 0 }));
        for (place, value) in message.iter().enumerate() {
            self.now += CHARACTER;
            self.bytes.push(Byte { value: *value, time: self.now, of: Some((number, place)) });
        }
    }

    /// Some transactions: polls that come again and again, writes, units that are off, retries.
    fn talk(rng: &mut Rng) -> Bus {
        Bus::talk_in(rng, false)
    }

    fn talk_in(rng: &mut Rng, ascii: bool) -> Bus {
        let mut bus = Bus { now: 1_000 * MILLISECOND, ascii, ..Bus::default() };
        let patience = rng.i64(150..400) * MILLISECOND;
        let pace = rng.i64(5..60) * MILLISECOND;
        let slowest = rng.i64(3..40) * MILLISECOND;
        let units: Vec<u8> = (0..rng.usize(1..4)).map(|_| rng.u8(1..=247)).collect();
        let polls: Vec<Transaction> =
            (0..rng.usize(1..6)).map(|_| Transaction::any(rng, *rng.clone().choice(&units).unwrap())).collect();
        let is_off = |rng: &mut Rng| rng.u8(..10) == 0;
        let mut off = None;
        for _ in 0..rng.usize(1..25) {
            bus.now += pace + rng.i64(0..5) * MILLISECOND;
            let mut one = if rng.u8(..3) > 0 {
                rng.choice(&polls).unwrap().clone()
            } else {
                Transaction::any(rng, *rng.clone().choice(&units).unwrap())
            };
            if matches!(one.request[1], 5 | 6 | 15 | 16) && rng.u8(..8) == 0 {
                // To all units at once.
                let length = one.request.len() - 2;
                one.request[0] = 0;
                one.request = framed(one.request[..length].to_vec());
                (one.answer, one.broadcast) = (None, true);
            }
            if is_off(rng) {
                off = if off.is_some() { None } else { Some(one.request[0]) };
            }
            if off == Some(one.request[0]) {
                one.answer = None;
            }
            let retries = if one.answer.is_none() && !one.broadcast { rng.usize(1..4) } else { 1 };
            for _ in 0..retries {
                let number = bus.transactions.len();
                bus.transactions.push(one.clone());
                bus.send(number, true, &one.request);
                match &one.answer {
                    Some(answer) => {
                        bus.now += rng.i64(MILLISECOND..slowest);
                        bus.send(number, false, answer);
                    }
                    None => bus.now += if one.broadcast { pace } else { patience },
                }
            }
        }
        bus
    }

    /// Takes bytes away, alters them, and puts others in between.
    fn damage(&mut self, rng: &mut Rng) {
        let mut left = Vec::new();
        let (flips, noise, taken) = (rng.u32(..30), rng.u32(..4), *rng.choice(&[0, 0, 0, 10, 30, 100, 500]).unwrap());
        let burst = if rng.bool() { 1 } else { rng.u32(2..40) };
        let mut gone = 0;
        for byte in &self.bytes {
            if rng.u32(..1_000 * burst) < taken {
                gone = burst;
            }
            if gone > 0 {
                gone -= 1;
                continue;
            }
            let mut byte = *byte;
            if rng.u32(..10_000) < flips {
                (byte.value, byte.of) = (byte.value ^ 1 << rng.u8(..8), None);
            }
            left.push(byte);
            if rng.u32(..1_000) < noise {
                for _ in 0..rng.usize(1..8) {
                    left.push(Byte { value: rng.u8(..), of: None, ..byte });
                }
            }
        }
        self.bytes = left;
    }

    /// Begins and ends in the middle.
    fn cut(&mut self, rng: &mut Rng) {
        let (from, behind) = (rng.usize(..40).min(self.bytes.len()), rng.usize(..40));
        self.bytes.drain(..from);
        self.bytes.truncate(self.bytes.len().saturating_sub(behind));
    }

    /// Where messages came whole: the offset, transaction, and whether it is the request.
    fn whole(&self) -> BTreeMap<u64, (usize, bool, usize)> {
        let mut whole = BTreeMap::new();
        for (offset, byte) in self.bytes.iter().enumerate() {
            let Some((number, 0)) = byte.of else { continue };
            let (transaction, is_request, length) = self.messages[number];
            let its = self.bytes[offset..].iter().take(length).enumerate();
            if its.filter(|(place, byte)| byte.of == Some((number, *place))).count() == length {
                whole.insert(offset as u64, (transaction, is_request, length));
            }
        }
        whole
    }
}

/// A record: where its frames are, and what it says.
#[derive(Debug, PartialEq)]
struct Found {
    ranges: Vec<(u64, u64)>,
    says: BTreeMap<String, String>,
}

#[derive(Debug, Default, PartialEq)]
struct Told {
    found: Vec<Found>,
    rejects: Vec<(u64, usize, String)>,
}

impl Sink for Told {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let mut says = BTreeMap::new();
        for (schema, cell) in record.fields() {
            let text = match cell {
                Cell::Reading(reading) => reading.value.to_string(),
                Cell::Group(items) => items
                    .map(|item| {
                        item.fields()
                            .map(|(_, cell)| match cell {
                                Cell::Reading(reading) => reading.value.to_string(),
                                _ => String::new(),
                            })
                            .collect::<String>()
                    })
                    .collect::<Vec<_>>()
                    .join(" "),
                _ => String::new(),
            };
            if !text.is_empty() {
                says.insert(schema.name.clone(), text);
            }
        }
        self.found.push(Found { ranges: record.ranges().collect(), says });
        Ok(())
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        self.rejects.push((reject.offset, reject.bytes.len(), reject.reason.describe(reject.plan).to_string()));
        Ok(())
    }
}

/// What is told of a bus, whose bytes are fed in such pieces.
fn run(plan: &Plan, bus: &Bus, timed: bool, piece: usize, mut rng: Rng) -> Told {
    let mut decoder = Decoder::new(plan);
    let line = decoder.line("", 0).unwrap();
    let mut told = Told::default();
    // What an adapter makes of it: pieces of any size, each with the time of its last byte.
    let most = rng.usize(1..80);
    let slack = rng.i64(1..3 * MILLISECOND);
    let mut from = 0;
    while from < bus.bytes.len() {
        let mut to = from + 1;
        while to < bus.bytes.len()
            && to - from < most
            && bus.bytes[to].time - bus.bytes[to - 1].time < CHARACTER + slack
        {
            to += 1;
        }
        let bytes: Vec<u8> = bus.bytes[from..to].iter().map(|byte| byte.value).collect();
        let time = timed.then(|| Time::from_nanoseconds(bus.bytes[to - 1].time));
        for bytes in bytes.chunks(piece) {
            let Ok(()) = decoder.decode(Chunk { time, ..Chunk::new(line, bytes) }, &mut told);
        }
        from = to;
    }
    let Ok(()) = decoder.finish().drain(&mut told);
    assert!(decoder.ledger(line).balances());
    told
}

/// How often what came of what.
#[derive(Debug, Default)]
struct Tally {
    /// Transactions of which both messages came whole, and how many of those were told as what they were, or as undetermined: with times, and without.
    whole: u32,
    told: u32,
    unsure: u32,
    unsure_without_times: u32,
    missed: Vec<String>,
    /// Requests of which it was told that the checksum of the answer failed.
    damaged: u32,
    /// Those where nothing was answered.
    wrongly_damaged: u32,
    /// Transactions that were told, and were none.
    wrong: Vec<String>,
}

impl Bus {
    /// The message at an offset, if it is whole: as it was sent, or healed by chance, where a byte was lost that is like the one before it.
    fn message_at(
        &self,
        whole: &BTreeMap<u64, (usize, bool, usize)>,
        offset: u64,
        length: u64,
    ) -> Option<(usize, bool)> {
        let bytes = &self.bytes[offset as usize..][..length as usize];
        let healed = || {
            let of = bytes.iter().find_map(|byte| byte.of)?.0;
            let (transaction, is_request, _) = self.messages[of];
            let known = &self.transactions[transaction];
            let message = if is_request { Some(&known.request) } else { known.answer.as_ref() };
            let message = if self.ascii { in_ascii(message?) } else { message?.clone() };
            let message = &message[..message.len() - if self.ascii { 2 } else { 0 }];
            let bytes: Vec<u8> = bytes.iter().map(|byte| byte.value).collect();
            let is_it = if self.ascii { message.eq_ignore_ascii_case(&bytes) } else { message == bytes };
            is_it.then_some((transaction, is_request))
        };
        whole.get(&offset).map(|(transaction, is_request, _)| (*transaction, *is_request)).or_else(healed)
    }

    /// Holds what was told against what was said.
    fn judge(&self, told: &Told, timed: bool, seed: u64, tally: &mut Tally) {
        let whole = self.whole();
        for one in told.found.iter().filter(|one| matches!(&*one.says["outcome"], "answered" | "error")) {
            let its: Vec<_> =
                one.ranges.iter().map(|(offset, length)| self.message_at(&whole, *offset, *length)).collect();
            match its[..] {
                [Some((of, true)), Some((also, false))] if of == also => {
                    for (name, value) in &self.transactions[of].says {
                        assert_eq!(one.says.get(*name), Some(value), "seed {seed}: {name} of {one:?}");
                    }
                }
                _ => tally.wrong.push(format!("seed {seed}, times {timed}: {one:?} is {its:?}")),
            }
        }
        // Where the checksum of an answer fails, there was one.
        for one in told.found.iter().filter(|one| one.says["outcome"] == "checksum_error") {
            tally.damaged += 1;
            let (offset, length) = one.ranges[0];
            let of = self.message_at(&whole, offset, length).map(|(of, _)| &self.transactions[of]);
            tally.wrongly_damaged += u32::from(of.is_none_or(|of| of.answer.is_none()));
        }
        let is_undetermined = |offset: u64| {
            let mut undetermined = told.found.iter().filter(|one| one.says["outcome"] == "undetermined");
            undetermined.any(|one| one.ranges.iter().any(|(at, _)| *at == offset))
        };
        for (offset, (number, ..)) in whole.iter().filter(|(_, (_, is_request, _))| *is_request) {
            let answer = whole.iter().find(|(_, (of, is_request, _))| of == number && !is_request);
            let Some((answered, _)) = answer else { continue };
            tally.whole += 1;
            let ranges = [*offset, *answered];
            let outcome = &self.transactions[*number].says["outcome"];
            let is_told = told
                .found
                .iter()
                .any(|one| one.says["outcome"] == *outcome && one.ranges.iter().map(|(offset, _)| *offset).eq(ranges));
            match (is_told, is_undetermined(*offset)) {
                (true, _) => tally.told += 1,
                (_, true) if timed => tally.unsure += 1,
                (_, true) => tally.unsure_without_times += 1,
                _ => tally
                    .missed
                    .push(format!("seed {seed}, times {timed}: {:?} at {ranges:?}", self.transactions[*number])),
            }
        }
    }
}

/// Half of the conversations are damaged, and half of them are cut. What is told as a transaction is one. That no damage at all goes unnoticed cannot be:
/// where just the end of a transaction is lost, and the begin of one that is like it, nothing shows that there were two.
#[test]
fn conversations_are_told_as_they_were_held() {
    let plan = plan();
    let mut tally = Tally::default();
    for seed in 0..tries() {
        let mut rng = Rng::with_seed(seed);
        let mut bus = Bus::talk(&mut rng);
        let timed = rng.bool();
        if rng.bool() {
            bus.damage(&mut rng);
        }
        if rng.bool() {
            bus.cut(&mut rng);
        }
        let told = run(&plan, &bus, timed, usize::MAX, rng.clone());
        for piece in [1, 5].into_iter().filter(|_| seed.is_multiple_of(5)) {
            assert_eq!(run(&plan, &bus, timed, piece, rng.clone()), told, "seed {seed}, pieces of {piece}");
        }
        bus.judge(&told, timed, seed, &mut tally);
    }
    let Tally { whole, unsure, missed, damaged, wrongly_damaged, wrong, .. } = &tally;
    assert!(damaged * 1_000 >= *whole && wrongly_damaged * 50 <= *damaged, "{wrongly_damaged}, {damaged} of {whole}");
    // Noise behind a message can make a longer one of it whose CRC holds, too.
    assert!(missed.len() * 20_000 <= *whole as usize, "{missed:#?}");
    assert!(wrong.len() * 5_000 <= *whole as usize, "{wrong:#?}");
    assert!(unsure * 100 <= *whole, "{unsure} of {whole} are unsure");
}

/// The same in ASCII, whose frames tell themselves: all that is whole is told, and nothing else.
#[test]
fn conversations_in_ascii_are_told_as_they_were_held() {
    let text = "format = 'bus'\nserial = '19200 8E1'\n[[frame]]\ncut = 'modbus-ascii'\n";
    let format = Format::parse(text).unwrap_or_else(|problems| panic!("{problems}"));
    assert_eq!(Format::parse(&format.to_toml()).unwrap().frames[0].modbus, format.frames[0].modbus);
    let plan = format.compile().unwrap();
    let (mut clean, mut damaged) = (Tally::default(), Tally::default());
    for seed in 0..tries() / 4 {
        let mut rng = Rng::with_seed(seed);
        let mut bus = Bus::talk_in(&mut rng, true);
        let (timed, is_damaged) = (rng.bool(), rng.bool());
        if is_damaged {
            bus.damage(&mut rng);
        }
        let told = run(&plan, &bus, timed, usize::MAX, rng.clone());
        assert_eq!(run(&plan, &bus, timed, 3, rng.clone()), told, "seed {seed}");
        bus.judge(&told, timed, seed, if is_damaged { &mut damaged } else { &mut clean });
    }
    assert!(clean.missed.is_empty() && clean.wrong.is_empty(), "{clean:#?}");
    assert!(damaged.wrong.len() * 5_000 <= damaged.whole as usize, "{:#?}", damaged.wrong);
    assert!(clean.told > 100 && clean.unsure * 100 <= clean.whole, "{clean:#?}");
}

/// What is asked and answered by functions of which nobody knows the length: silences tell where they end.
#[test]
fn functions_of_a_maker_are_told_by_silences() {
    let plan = plan();
    let (mut told, mut all) = (0, 0);
    for seed in 0..tries() / 4 {
        let mut rng = Rng::with_seed(seed);
        let mut bus = Bus { now: 1_000 * MILLISECOND, ..Bus::default() };
        for number in 0..rng.usize(1..12) {
            let code = *rng.choice(&[3, 65, 72, 100, 9, 43]).unwrap();
            let unit = rng.u8(1..9);
            let some = |rng: &mut Rng| -> Vec<u8> {
                let front = if code == 43 { vec![unit, code, 13] } else { vec![unit, code] };
                framed([front, (0..rng.usize(1..40)).map(|_| rng.u8(..)).collect()].concat())
            };
            let (request, answer) = match code {
                3 => (framed(vec![unit, 3, 0, 9, 0, 1]), framed(vec![unit, 3, 2, rng.u8(..), 7])),
                _ => {
                    (some(&mut rng), if rng.u8(..8) == 0 { framed(vec![unit, code | 0x80, 1]) } else { some(&mut rng) })
                }
            };
            bus.now += rng.i64(10..60) * MILLISECOND;
            bus.send(number, true, &request);
            bus.now += rng.i64(4..9) * MILLISECOND;
            bus.send(number, false, &answer);
            bus.transactions.push(Transaction { request, answer: Some(answer), ..Transaction::default() });
        }
        let found = run(&plan, &bus, true, 1, rng.clone());
        assert_eq!(run(&plan, &bus, true, 5, rng.clone()), found, "seed {seed}");
        let whole = bus.whole();
        for one in found.found.iter().filter(|one| matches!(&*one.says["outcome"], "answered" | "error")) {
            let its: Vec<_> = one.ranges.iter().map(|(offset, _)| whole.get(offset)).collect();
            let [Some((of, true, _)), Some((also, false, _))] = its[..] else { panic!("seed {seed}: {one:?}") };
            assert_eq!(of, also, "seed {seed}: {one:?}");
            told += 1;
        }
        all += bus.transactions.len();
        // Without times, nothing is made of them.
        let untimed = run(&plan, &bus, false, usize::MAX, rng.clone());
        assert!(untimed.found.iter().all(|one| one.says["function"].contains("read_")), "seed {seed}: {untimed:?}");
    }
    assert!(told * 100 >= all * 95, "{told} of {all}");
}

impl Bus {
    /// Takes that share of the bytes away, in runs of so many.
    fn thin(&mut self, rng: &mut Rng, percent: u32, run: u32) {
        let mut gone = 0;
        self.bytes.retain(|_| {
            // A run that has ended leaves so many bytes, on the average, that the share is right.
            if gone == 0 && rng.u32(..(100 - percent) * run) < percent {
                gone = run;
                return false;
            }
            gone = u32::saturating_sub(gone, 1);
            gone == 0
        });
    }
}

/// What is asked and what is answered are alike in most of this conversation, and each damage leaves open which of them comes next. How long the line is silent
/// before an answer and before a request, and what came before, tell it.
#[test]
fn writes_are_found_between_damages_by_their_times() {
    let plan = plan();
    for (seed, (percent, run_of)) in [(1, 1), (5, 1), (5, 6), (10, 20)].into_iter().enumerate() {
        let mut rng = Rng::with_seed(seed as u64);
        let mut bus = Bus { now: 1_000 * MILLISECOND, ..Bus::default() };
        for number in 0..600 {
            let (unit, address, value) = (rng.u8(1..4), rng.u8(..5), rng.u8(..3));
            let read = vec![unit, 3, 0, address, 0, 1];
            let (request, answer, function) = match rng.u8(..6) {
                0 => (read, vec![unit, 3, 2, value, rng.u8(..)], "read_holding_registers"),
                1 => (read, vec![unit, 0x83, 2], "read_holding_registers"),
                2 => {
                    let write = vec![unit, 5, 0, address, if value > 0 { 0xFF } else { 0 }, 0];
                    (write.clone(), write, "write_coil")
                }
                _ => {
                    let write = vec![unit, 6, 0, address, 0, value];
                    (write.clone(), write, "write_register")
                }
            };
            let outcome = if answer[1] & 0x80 > 0 { "error" } else { "answered" };
            bus.now += rng.i64(20 * MILLISECOND..45 * MILLISECOND);
            bus.send(number, true, &framed(request.clone()));
            bus.now += rng.i64(2 * MILLISECOND..14 * MILLISECOND);
            bus.send(number, false, &framed(answer.clone()));
            let says = BTreeMap::from([("function", function.into()), ("outcome", outcome.into())]);
            let (request, answer) = (framed(request), Some(framed(answer)));
            bus.transactions.push(Transaction { request, answer, says, broadcast: false });
        }
        bus.thin(&mut rng, percent, run_of);
        let mut tally = Tally::default();
        bus.judge(&run(&plan, &bus, true, usize::MAX, rng.clone()), true, seed as u64, &mut tally);
        let Tally { whole, unsure, missed, wrong, .. } = tally;
        assert!(whole > 100 && unsure * 100 <= whole, "{unsure} of {whole} at {percent} % in runs of {run_of}");
        assert!(missed.is_empty() && wrong.len() <= 1, "{percent} % in runs of {run_of}: {missed:#?} {wrong:#?}");
    }
}

/// Measures how often what is told is none: `cargo test --test it -- --ignored --nocapture false_matches`. `RANDOM` says how many megabytes are tried.
#[test]
#[ignore = "it measures, for docs/modbus.md"]
#[allow(clippy::print_stdout)]
fn false_matches() {
    let plan = plan();
    let megabytes: u64 = std::env::var("RANDOM").ok().and_then(|number| number.parse().ok()).unwrap_or(16);
    let mut rng = Rng::with_seed(1);
    let (mut decoder, mut outcomes) = (Decoder::new(&plan), BTreeMap::<String, u64>::new());
    let line = decoder.line("", 0).unwrap();
    let mut count = |record: &Record<'_>| {
        *outcomes.entry(record.get("outcome").unwrap().value.to_string()).or_default() += 1;
    };
    for _ in 0..megabytes * 16 {
        let bytes: Vec<u8> = std::iter::repeat_with(|| rng.u8(..)).take(65_536).collect();
        let Ok(()) = decoder.decode(Chunk::new(line, &bytes), &mut count);
    }
    let Ok(()) = decoder.finish().drain(&mut count);
    println!("{megabytes} MiB of random bytes: {outcomes:?}");
    println!("taken  in runs of  times  whole  told  undetermined  missed  wrong  damaged answers  which were none");
    for (percent, run_of, timed) in [1, 5, 20, 50]
        .into_iter()
        .flat_map(|share| [(share, 1), (share, 20)])
        .flat_map(|(share, run)| [(share, run, true), (share, run, false)])
    {
        let mut tally = Tally::default();
        for seed in 0..tries() {
            let mut rng = Rng::with_seed(seed);
            let mut bus = Bus::talk(&mut rng);
            bus.thin(&mut rng, percent, run_of);
            let told = run(&plan, &bus, timed, usize::MAX, rng);
            bus.judge(&told, timed, seed, &mut tally);
        }
        let Tally { whole, told, unsure, unsure_without_times, missed, wrong, damaged, wrongly_damaged } = tally;
        let (unsure, missed, wrong) = (unsure + unsure_without_times, missed.len(), wrong.len());
        println!(
            "{percent:>4} %  {run_of:>10}  {timed:>5}  {whole}  {told}  {unsure}  {missed}  {wrong}  {damaged}  {wrongly_damaged}"
        );
    }
}

/// A worked example: what is asked, what is answered, and some of what that says.
type Worked<'w> = (&'w str, &'w str, &'w [(&'w str, &'w str)]);

/// The worked examples of the MODBUS Application Protocol Specification V1.1b3, chapter 6: what is asked, what is answered, and what that says.
#[test]
fn the_examples_of_the_standard_hold() {
    let hex = |text: &str| -> Vec<u8> {
        let digits: String = text.split_whitespace().collect();
        (0..digits.len() / 2).map(|at| u8::from_str_radix(&digits[2 * at..2 * at + 2], 16).unwrap()).collect()
    };
    let table: [Worked<'_>; 17] = [
        (
            "01 0013 0013",
            "01 03 CD 6B 05",
            &[("function", "read_coils"), ("address", "19"), ("bits", "1011001111010110101")],
        ),
        ("02 00C4 0016", "02 03 AC DB 35", &[("function", "read_discrete_inputs"), ("bits", "0011010111011011101011")]),
        ("03 006B 0003", "03 06 022B 0000 0064", &[("function", "read_holding_registers"), ("values", "555 0 100")]),
        ("04 0008 0001", "04 02 000A", &[("function", "read_input_registers"), ("values", "10")]),
        ("05 00AC FF00", "05 00AC FF00", &[("function", "write_coil"), ("address", "172"), ("bits", "1")]),
        ("06 0001 0003", "06 0001 0003", &[("function", "write_register"), ("written", "3")]),
        ("07", "07 6D", &[("function", "read_exception_status"), ("status", "109")]),
        ("08 0000 A537", "08 0000 A537", &[("function", "diagnose"), ("diagnosis", "0"), ("data", "A537")]),
        ("0B", "0B FFFF 0108", &[("function", "count_events"), ("status", "65535"), ("events", "264")]),
        ("0C", "0C 08 0000 0108 0121 20 00", &[("function", "log_events"), ("data", "0000010801212000")]),
        ("0F 0013 000A 02 CD 01", "0F 0013 000A", &[("function", "write_coils"), ("bits", "1011001110")]),
        ("10 0001 0002 04 000A 0102", "10 0001 0002", &[("function", "write_registers"), ("written", "10 258")]),
        (
            "14 0E 06 0004 0001 0002 06 0003 0009 0002",
            "14 0C 05 06 0DFE 0020 05 06 33CD 0040",
            &[("function", "read_file"), ("data", "05060DFE0020050633CD0040")],
        ),
        (
            "15 0D 06 0004 0007 0003 06AF 04BE 100D",
            "15 0D 06 0004 0007 0003 06AF 04BE 100D",
            &[("function", "write_file")],
        ),
        (
            "16 0004 00F2 0025",
            "16 0004 00F2 0025",
            &[("function", "mask_register"), ("and_mask", "242"), ("or_mask", "37")],
        ),
        (
            "17 0003 0006 000E 0003 06 00FF 00FF 00FF",
            "17 0C 00FE 0ACD 0001 0003 000D 00FF",
            &[("function", "read_write_registers"), ("values", "254 2765 1 3 13 255"), ("written", "255 255 255")],
        ),
        (
            "18 04DE",
            "18 0006 0002 01B8 1284",
            &[("function", "read_queue"), ("address", "1246"), ("values", "440 4740")],
        ),
    ];
    let plan = plan();
    let mut bus = Bus { now: 1_000 * MILLISECOND, ..Bus::default() };
    // What can be nothing else comes first, so that it is known how soon a unit answers.
    let order = [2, 3, 0, 1].into_iter().chain(4..table.len());
    for (number, of) in order.clone().enumerate() {
        let (asked, answered, _) = table[of];
        let [request, answer] = [asked, answered].map(|message| framed([vec![17], hex(message)].concat()));
        bus.now += 50 * MILLISECOND;
        bus.send(number, true, &request);
        bus.now += 5 * MILLISECOND;
        bus.send(number, false, &answer);
        bus.transactions.push(Transaction { request, answer: Some(answer), ..Transaction::default() });
    }
    let told = run(&plan, &bus, true, usize::MAX, Rng::with_seed(1));
    assert_eq!((told.found.len(), told.rejects.len()), (table.len(), 0), "{told:#?}");
    for (found, of) in told.found.iter().zip(order) {
        for (name, value) in [("outcome", "answered")].iter().chain(table[of].2) {
            assert_eq!(found.says.get(*name).map(String::as_str), Some(*value), "{name} of {found:?}");
        }
    }
}

/// However many units, ranges and registers there are, a survey follows no more than it says.
#[test]
fn a_survey_is_bounded() {
    use usus::bus::{POLLS, REGISTERS, Survey};
    let plan = plan();
    let mut bus = Bus { now: 1_000 * MILLISECOND, ..Bus::default() };
    for number in 0..POLLS + 200 {
        let [high, low] = ((number * 125 % 65_000) as u16).to_be_bytes();
        let unit = 1 + (number / 500) as u8;
        bus.now += 20 * MILLISECOND;
        bus.send(number, true, &framed(vec![unit, 3, high, low, 0, 125]));
        bus.now += 5 * MILLISECOND;
        bus.send(number, false, &framed([vec![unit, 3, 250], vec![7; 250]].concat()));
    }
    let mut survey = Survey::new(&plan);
    let bytes: Vec<u8> = bus.bytes.iter().map(|byte| byte.value).collect();
    let mut decoder = Decoder::new(&plan);
    let line = decoder.line("", 0).unwrap();
    let Ok(()) = decoder.decode(Chunk::new(line, &bytes), &mut survey);
    let Ok(()) = decoder.finish().drain(&mut survey);
    let units = survey.units();
    let registers: usize = units.values().map(|unit| unit.registers.len()).sum();
    let polls: usize = units.values().map(|unit| unit.polls.len()).sum();
    let others: u64 = units.values().map(|unit| unit.others).sum();
    assert_eq!((polls, others, registers), (POLLS, 200, REGISTERS));
}
