//! What a Modbus line carries: the units on it, what they are asked and how they answer, and every register that was seen.
//!
//! A `Survey` is a sink of the transactions that a decoder tells. How those are found is in `framing/modbus.rs` and `stage/exchange/`; what is printed of a
//! survey is for others to say.

mod register;
mod wide;

use alloc::collections::BTreeMap;
use alloc::string::String;
use alloc::vec::Vec;
use core::convert::Infallible;

pub use register::Register;
pub use wide::{Wide, WideOrder};

use crate::event::Reject;
use crate::format::Table;
use crate::modbus::{self, Carried};
use crate::plan::{Envelope, Plan, Point, Stage, What};
use crate::reason::Reason;
use crate::record::{Made, Record, Row};
use crate::sink::Sink;
use crate::stage::{ANSWERED, BROADCAST, CHECKSUM_ERROR, ERROR, NO_ANSWER};
use crate::survey::{Kept, Spread};
use crate::time::{Span, Time};

/// The most polls that are followed, and the most registers, of all units together. Those beyond are counted with their units.
pub const POLLS: usize = 4_096;
/// See [`POLLS`].
pub const REGISTERS: usize = 65_536;

/// What was seen on a Modbus line.
///
/// ```
/// use usus::bus::Survey;
/// use usus::format::Table;
///
/// let plan = usus::Format::parse("format = 'bus'\n[[frame]]\ncut = 'modbus-rtu'")?.compile()?;
/// let mut survey = Survey::new(&plan);
/// // Two registers from 40 on are asked of unit 17, which answers.
/// let mut decoder = usus::Decoder::new(&plan);
/// let line = decoder.line("", 0).unwrap();
/// let bytes = b"\x11\x03\x00\x28\x00\x02\x46\x93\x11\x03\x04\x01\x2C\xFF\x38\x6B\xE5";
/// let Ok(()) = decoder.decode(usus::Chunk::new(line, bytes), &mut survey);
/// let Ok(()) = decoder.finish().drain(&mut survey);
/// let unit = &survey.units()[&17];
/// assert_eq!((unit.requests, unit.answered), (1, 1));
/// assert_eq!(unit.registers[&(Table::HoldingRegister, 41)].last as i16, -200);
/// # Ok::<(), usus::Problems>(())
/// ```
#[derive(Clone, Debug)]
pub struct Survey {
    plan: Plan,
    /// The kinds of transactions, and where messages lie in the contents of their frames.
    transactions: Vec<(u16, Envelope)>,
    units: BTreeMap<u8, Unit>,
    polls: usize,
    registers: usize,
    times: Option<(Time, Time)>,
    bytes: u64,
    rejected: u64,
    strays: u64,
}

/// A unit, as it was seen.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Unit {
    /// Requests to it.
    pub requests: u64,
    /// Those it did what it was asked.
    pub answered: u64,
    /// Those it did not, by the number of the exception.
    pub refused: BTreeMap<u8, u64>,
    /// Those that nothing came of.
    pub unanswered: u64,
    /// Those whose answer came with a checksum that fails.
    pub damaged: u64,
    /// Those of which that is not known: where bytes got lost, or a message can go either way.
    pub unclear: u64,
    /// Answers that belong to none of its requests: they came late, twice, or the request was not seen.
    pub strays: u64,
    /// Requests that were asked before without an answer.
    pub retries: u64,
    /// Requests of polls that are too many to be followed.
    pub others: u64,
    /// What it is asked, by function and range.
    pub polls: BTreeMap<Asked, Poll>,
    /// Its registers, and its coils and discrete inputs, by their addresses as the protocol counts.
    pub registers: BTreeMap<(Table, u16), Register>,
    latencies: Kept,
}

/// What is asked: the function, and the range if there is one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub struct Asked {
    /// The function code.
    pub function: u8,
    /// The first address.
    pub address: Option<u16>,
    /// How many there are from that on.
    pub count: u16,
}

/// A request that comes again and again.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Poll {
    /// How often it was asked.
    pub requests: u64,
    /// How often the unit did it.
    pub answered: u64,
    /// How often it refused.
    pub refused: u64,
    /// Bytes of requests and answers.
    pub bytes: u64,
    /// Whether it writes.
    pub writes: bool,
    last: Option<Time>,
    periods: Kept,
}

impl Survey {
    /// A survey of what a decoder of this plan tells. The plan has transactions of a Modbus line; without those, nothing is seen.
    pub fn new(plan: &Plan) -> Survey {
        let exchanges = plan.0.stages.iter().filter_map(|stage| match stage {
            Stage::Exchange(exchanges) => Some(exchanges),
            _ => None,
        });
        let transactions = exchanges.flatten().filter_map(|exchange| Some((exchange.kind, exchange.modbus?))).collect();
        let plan = plan.clone();
        Survey {
            plan,
            transactions,
            units: BTreeMap::new(),
            polls: 0,
            registers: 0,
            times: None,
            bytes: 0,
            rejected: 0,
            strays: 0,
        }
    }

    /// A plan whose transactions are handed out, as a survey needs it.
    pub fn plan_of(plan: &Plan) -> Plan {
        let survey = Survey::new(plan);
        let names = survey.transactions.iter().filter_map(|(kind, _)| {
            let record = plan.0.kinds.get(usize::from(*kind))?.record;
            Some(plan.schema().kinds.get(usize::from(record))?.name.as_str())
        });
        plan.with_wanted(&names.collect::<Vec<_>>())
    }

    /// Whether the plan has transactions of a Modbus line.
    pub fn is_of_bus(&self) -> bool {
        !self.transactions.is_empty()
    }

    /// The units, by their addresses; 0 is what was written to all of them.
    pub fn units(&self) -> &BTreeMap<u8, Unit> {
        &self.units
    }

    /// When the first message came, and the last one.
    pub fn times(&self) -> Option<(Time, Time)> {
        self.times
    }

    /// How long it was from the first message to the last.
    pub fn duration(&self) -> Option<Span> {
        self.times.map(|(first, last)| last.since(first)).filter(|span| span.nanoseconds() > 0)
    }

    /// Bytes of messages, and of what was none.
    pub fn bytes(&self) -> (u64, u64) {
        (self.bytes, self.rejected)
    }

    /// Answers that belong to no request, of whatever unit.
    pub fn strays(&self) -> u64 {
        self.strays
    }

    /// The share of the time, from 0 to 1, in which so many bytes were on the line; nothing where times or the line's speed are not known.
    pub fn share(&self, bytes: u64) -> Option<f64> {
        let (character, duration) = (self.plan.0.character?, self.duration()?);
        Some(bytes as f64 * character.nanoseconds() as f64 / duration.nanoseconds() as f64)
    }

    /// What a format calls registers, by unit, table and address: the points that lie in each, with their records.
    pub fn names(&self) -> Names<'_> {
        let mut names = BTreeMap::<_, Vec<_>>::new();
        self.points(&mut |id, point, fields| {
            let addresses = (0..point.registers.len()).map_while(|next| point.address.checked_add(next as u16));
            for address in addresses {
                names.entry((id, point.table, address)).or_default().extend_from_slice(fields);
            }
        });
        names
    }

    /// Points of a format whose registers were never seen.
    pub fn never_seen(&self) -> Vec<NeverSeen<'_>> {
        let mut missing = Vec::new();
        self.points(&mut |id, point, names| {
            let seen = |address: u16| {
                self.units.get(&id).is_some_and(|unit| unit.registers.contains_key(&(point.table, address)))
            };
            let (table, address, registers) = (point.table, point.address, point.registers.len());
            if !(0..registers).map(|next| address.saturating_add(next as u16)).any(seen) {
                missing.push(NeverSeen { unit: id, table, address, registers, names: names.to_vec() });
            }
        });
        missing
    }

    /// Whether the format says what registers mean.
    pub fn has_points(&self) -> bool {
        self.plan.0.stages.iter().any(|stage| matches!(stage, Stage::Points(_)))
    }

    /// All points of the format: the unit, the point, and the fields that it gives, with their records.
    fn points<'s>(&'s self, take: &mut dyn FnMut(u8, &'s Point, &[Named<'s>])) {
        for stage in &self.plan.0.stages {
            let Stage::Points(points) = stage else { continue };
            for unit in &points.units {
                let names = self.names_of(unit.kind, unit.points.len());
                for id in &unit.ids {
                    unit.points.iter().zip(&names).for_each(|(point, names)| take(*id, point, names));
                }
            }
        }
    }

    /// The fields that each of the points of a record gives.
    fn names_of(&self, kind: u16, points: usize) -> Vec<Vec<Named<'_>>> {
        let mut names = alloc::vec![Vec::new(); points];
        let Some(kind) = self.plan.0.kinds.get(usize::from(kind)) else { return names };
        let Some(schema) = self.plan.schema().kinds.get(usize::from(kind.record)) else { return names };
        for output in &kind.outputs {
            if let What::Point { point, .. } = output.what
                && let Some(names) = names.get_mut(usize::from(point))
            {
                names.push((schema.name.as_str(), output.schema.name.as_str()));
            }
        }
        names
    }

    /// Counts an answer that belongs to no request.
    fn stray(&mut self, reject: &Reject<'_>) {
        let (Reason::NoQuestion { kind } | Reason::LateAnswer { kind } | Reason::SecondAnswer { kind }) = reject.reason
        else {
            return;
        };
        let envelope = self.transactions.iter().find(|(of, _)| *of == kind).map(|(_, envelope)| *envelope);
        let Some([unit, ..]) = envelope.and_then(|envelope| envelope.begin(reject.bytes)) else { return };
        self.strays += 1;
        // What nobody asks may be a unit that chance made.
        if let Some(unit) = self.units.get_mut(&unit) {
            unit.strays += 1;
        }
    }

    fn take(&mut self, row: &Row, envelope: Envelope) {
        let message = |place: usize| envelope.message(row.rows().get(place)?.first()?.contents());
        let (Some(request), answer) = (message(0), message(1)) else { return };
        let [id, function, ..] = *request else { return };
        let Some(Made::Word(outcome)) = row.made.first() else { return };
        let outcome = *outcome;
        let mut bytes = 0;
        row.copies(&mut |kept| bytes += kept.frame.len() as u64);
        let (received, completed) = (row.received(), row.completed());
        if let (Some(first), Some(last)) = (received, completed) {
            let (begin, end) = self.times.unwrap_or((first, last));
            self.times = Some((begin.min(first), end.max(last)));
        }
        self.bytes += bytes;
        let unit = self.units.entry(id).or_default();
        unit.requests += 1;
        let exception = answer.filter(|_| outcome == ERROR).and_then(|answer| answer.get(2));
        match outcome {
            ANSWERED | BROADCAST => unit.answered += 1,
            ERROR => *unit.refused.entry(exception.copied().unwrap_or_default()).or_default() += 1,
            NO_ANSWER => unit.unanswered += 1,
            CHECKSUM_ERROR => unit.damaged += 1,
            _ => unit.unclear += 1,
        }
        // What came as one piece with its request, or before it by the clock of another wire, does not say how long it took.
        if let Some(Made::Number(latency)) = row.made.get(1)
            && latency.coefficient() > 0
        {
            unit.latencies.add(i64::try_from(latency.coefficient()).unwrap_or(i64::MAX));
        }
        unit.retries += u64::from(matches!(row.made.get(2), Some(Made::Number(_))));
        unit.ask(request, function, outcome, bytes, received, &mut self.polls);
        let carried = match outcome {
            ANSWERED => modbus::carried(request, answer),
            BROADCAST => modbus::carried(request, None),
            _ => return,
        };
        for carried in carried.into_iter().flatten() {
            unit.see(&carried, &mut self.registers);
        }
    }
}

/// What a format calls something: the record, and its field.
pub type Named<'s> = (&'s str, &'s str);

/// What a format calls registers, by unit, table and address.
pub type Names<'s> = BTreeMap<(u8, Table, u16), Vec<Named<'s>>>;

/// A point of a format whose registers were never seen.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct NeverSeen<'s> {
    /// The unit's address.
    pub unit: u8,
    /// Where it is.
    pub table: Table,
    /// Its first register.
    pub address: u16,
    /// How many registers it has.
    pub registers: usize,
    /// What it is called: its record, and its fields.
    pub names: Vec<Named<'s>>,
}

impl Unit {
    /// How long it took to answer, in microseconds.
    pub fn latency(&self) -> Option<Spread> {
        self.latencies.spread()
    }

    /// Counts a request.
    fn ask(&mut self, request: &[u8], function: u8, outcome: &str, bytes: u64, at: Option<Time>, polls: &mut usize) {
        let asked = Asked::of(request, function);
        if !self.polls.contains_key(&asked) {
            if *polls >= POLLS {
                self.others += 1;
                return;
            }
            *polls += 1;
        }
        let poll = self.polls.entry(asked).or_default();
        poll.requests += 1;
        poll.answered += u64::from(outcome == ANSWERED || outcome == BROADCAST);
        poll.refused += u64::from(outcome == ERROR);
        poll.bytes += bytes;
        poll.writes = modbus::perhaps_written(request).is_some();
        if let Some((now, before)) = at.zip(poll.last) {
            poll.periods.add(now.since(before).nanoseconds() / 1_000);
        }
        poll.last = at;
    }

    /// Notes what is told of registers.
    fn see(&mut self, carried: &Carried<'_>, registers: &mut usize) {
        let mut before = None;
        for place in 0..carried.count {
            let address = carried.address + place;
            let Ok(at) = u16::try_from(address) else { break };
            let key = (carried.table, at);
            // What a mask makes of a register depends on what nobody may have seen.
            let Some(value) = carried.at(address, None) else { break };
            match self.registers.get_mut(&key) {
                Some(register) => register.add(value, carried.is_written),
                None if *registers >= REGISTERS => break,
                None => {
                    *registers += 1;
                    self.registers.insert(key, Register::new(value, carried.is_written));
                }
            }
            if let (Some((first, high)), false) = (before, carried.table.is_bits())
                && let Some(register) = self.registers.get_mut(&(carried.table, first))
            {
                register.add_wide(high, value);
            }
            before = Some((at, value));
        }
    }
}

impl Asked {
    fn of(request: &[u8], function: u8) -> Asked {
        let word = |at: usize| {
            request.get(at..at + 2).and_then(|bytes| bytes.first_chunk()).map(|two| u16::from_be_bytes(*two))
        };
        let (address, count) = match function {
            1..=4 | 15 | 16 | 23 => (word(2), word(4).unwrap_or_default()),
            5 | 6 | 22 => (word(2), 1),
            24 => (word(2), 0),
            _ => (None, 0),
        };
        Asked { function, address, count }
    }

    /// What the function is called.
    pub fn name(&self) -> String {
        modbus::name(self.function).map_or_else(|| alloc::format!("function_{}", self.function), Into::into)
    }
}

/// What the exception of a number is called: `illegal_address`.
pub fn exception(number: u8) -> Option<&'static str> {
    modbus::exception(number)
}

impl Poll {
    /// How long it is from one such request to the next, in microseconds.
    pub fn period(&self) -> Option<Spread> {
        self.periods.spread()
    }
}

impl Sink for Survey {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let envelope = self.transactions.iter().find(|(kind, _)| *kind == record.kind).map(|(_, envelope)| *envelope);
        if let (Some(row), Some(envelope)) = (record.row, envelope) {
            self.take(row, envelope);
        }
        Ok(())
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        self.rejected += reject.bytes.len() as u64;
        self.stray(reject);
        Ok(())
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), Infallible> {
        self.rejected += clipped.bytes.len() as u64;
        Ok(())
    }
}
