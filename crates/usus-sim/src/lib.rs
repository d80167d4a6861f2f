//! The devices of the demo site, an aerial ropeway: streams as their serial lines would carry them, with adjustable faults, and the
//! truth beside them.
//!
//! Everything comes from a seed: the same seed, length and faults give the same bytes. The encoders are written by hand from the
//! devices' (made-up) datasheets and share nothing with the decoder, so that each can find the other's mistakes.
//!
//! ```
//! use usus_sim::{Device, Faults, record};
//!
//! let recording = record(Device::RopeTension, 7, 10, &Faults::none());
//! assert!(recording.chunks.iter().all(|chunk| !chunk.bytes.is_empty()));
//! let samples = recording.truth.iter().filter(|truth| truth.kind == "sample").count();
//! assert_eq!(samples, 200);
//! ```

mod fault;
mod rope_tension;
mod truth;
mod valley_station;
mod wind_mast;

use fastrand::Rng;

pub use fault::Faults;
pub use truth::{Fact, Truth};

/// Nanoseconds since 1970 at which every recording begins: 2026-11-25 06:00:00 UTC, when the ropeway is started up.
pub const BEGIN: i64 = 1_795_586_400_000_000_000;

/// A device of the demo site.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Device {
    /// The wind mast on tower 4, with the groomer's receiver on the same line: NMEA 0183 sentences.
    WindMast,
    /// The haul-rope tension cell: binary packets of two kinds.
    RopeTension,
    /// The valley station's line: sentences and packets mixed, with boot chatter.
    ValleyStation,
}

impl Device {
    /// All of them.
    pub const ALL: [Device; 3] = [Device::WindMast, Device::RopeTension, Device::ValleyStation];

    /// Its name, as in file names.
    pub const fn name(self) -> &'static str {
        match self {
            Device::WindMast => "wind-mast",
            Device::RopeTension => "rope-tension",
            Device::ValleyStation => "valley-station",
        }
    }

    /// Settings of its line.
    pub const fn serial(self) -> &'static str {
        match self {
            Device::WindMast => "4800 8N1",
            Device::RopeTension => "115200 8N1",
            Device::ValleyStation => "38400 8N1",
        }
    }

    /// How long one character takes on its line, in nanoseconds.
    const fn character(self) -> i64 {
        let baud = match self {
            Device::WindMast => 4_800,
            Device::RopeTension => 115_200,
            Device::ValleyStation => 38_400,
        };
        10 * 1_000_000_000 / baud
    }
}

/// Bytes that a receiver would have got in one read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TimedBytes {
    /// When the last of them arrived, in nanoseconds since 1970.
    pub time: i64,
    /// The bytes.
    pub bytes: Vec<u8>,
}

/// What a device sent, as it was received.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recording {
    /// The device.
    pub device: Device,
    /// The bytes in the order of their arrival.
    pub chunks: Vec<TimedBytes>,
    /// What the device said, in the same order.
    pub truth: Vec<Truth>,
}

impl Recording {
    /// All bytes, without their times.
    pub fn bytes(&self) -> Vec<u8> {
        self.chunks.iter().flat_map(|chunk| chunk.bytes.iter().copied()).collect()
    }
}

/// One message of a device, before it goes onto the line.
struct Message {
    /// When its first bit is sent.
    time: i64,
    bytes: Vec<u8>,
    /// The record that it says, if it says one.
    says: Option<(&'static str, Vec<(&'static str, Fact)>)>,
    /// Bytes at its end that a reader does not need: the line end.
    line_end: usize,
    /// Nothing vouches for it: it is lost with whatever is damaged just before it.
    fragile: bool,
}

impl Message {
    /// A sentence of that text, with its checksum.
    fn sentence(time: i64, text: &str, says: Option<(&'static str, Vec<(&'static str, Fact)>)>) -> Message {
        let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
        let bytes = format!("${text}*{sum:02X}\r\n").into_bytes();
        Message { time, bytes, says, line_end: 2, fragile: false }
    }
}

/// Simulates so many seconds of a device, received with those faults.
pub fn record(device: Device, seed: u64, seconds: u32, faults: &Faults) -> Recording {
    let mut rng = Rng::with_seed(seed);
    let messages = match device {
        Device::WindMast => wind_mast::messages(&mut rng, seconds),
        Device::RopeTension => rope_tension::messages(&mut rng, seconds),
        Device::ValleyStation => valley_station::messages(&mut rng, seconds),
    };
    fault::receive(device, messages, faults, &mut rng)
}

/// A value that wanders between bounds, a little at each step.
struct Wander {
    value: i64,
    low: i64,
    high: i64,
    step: i64,
}

impl Wander {
    fn new(value: i64, low: i64, high: i64, step: i64) -> Wander {
        Wander { value, low, high, step }
    }

    fn next(&mut self, rng: &mut Rng) -> i64 {
        self.value = (self.value + rng.i64(-self.step..=self.step)).clamp(self.low, self.high);
        self.value
    }
}

/// An integer of so many places as text: (-5, 2) is -0.05.
fn places(value: i64, places: usize) -> String {
    let unit = 10u64.pow(places as u32);
    let sign = if value < 0 { "-" } else { "" };
    match places {
        0 => value.to_string(),
        _ => format!("{sign}{}.{:0places$}", value.unsigned_abs() / unit, value.unsigned_abs() % unit),
    }
}

/// `numerator / denominator`, rounded half to even. Both are positive.
fn half_even(numerator: i64, denominator: i64) -> i64 {
    let (quotient, twice) = (numerator / denominator, numerator % denominator * 2);
    let up = twice > denominator || (twice == denominator && quotient % 2 == 1);
    quotient + i64::from(up)
}
