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

mod brake_tester;
mod doors;
mod drive_cabinet;
mod fault;
mod groomer;
mod hall_sensor;
mod live;
mod rope_tension;
mod truth;
mod valley_station;
mod winch;
mod wind_mast;
mod wire;

use fastrand::Rng;

pub use doors::{Conversation, converse};
pub use fault::Faults;
pub use live::{LiveFaults, LiveLine};
pub use truth::{Fact, Truth};
pub use wire::{Edge, Parity, Received, Receiver, Settings, Transmitter, WireFault};

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
    /// The bus in the drive cabinet: a controller, the drive and the energy meter over Modbus RTU, on one wire.
    DriveCabinet,
    /// The same conversation as on two wires: what the controller asks, on the wire to its units.
    DriveRequests,
    /// The other of those: what the two units answer.
    DriveAnswers,
    /// The controller of the cabin doors: what it asks them, on the wire to them.
    DoorQuestions,
    /// The same conversation's other wire: what the doors answer.
    DoorAnswers,
    /// The brake tester: report text for humans and single readings, in seven bits with even parity.
    BrakeTester,
    /// The sensor in the station hall: keys with their values.
    HallSensor,
    /// The snow groomer's receiver: sentences, packets and text with nothing between.
    Groomer,
    /// The winch's telemetry: SLIP frames of tagged items.
    Winch,
}

impl Device {
    /// Those that tell the truth beside what they send, each by itself.
    pub const WITH_TRUTH: [Device; 8] = [
        Device::WindMast,
        Device::RopeTension,
        Device::ValleyStation,
        Device::BrakeTester,
        Device::HallSensor,
        Device::Groomer,
        Device::Winch,
        // Its seed is counted on from those before: what is new comes last.
        Device::DriveCabinet,
    ];

    /// All of them.
    pub const ALL: [Device; 12] = [
        Device::WindMast,
        Device::RopeTension,
        Device::ValleyStation,
        Device::DriveCabinet,
        Device::DriveRequests,
        Device::DriveAnswers,
        Device::DoorQuestions,
        Device::DoorAnswers,
        Device::BrakeTester,
        Device::HallSensor,
        Device::Groomer,
        Device::Winch,
    ];

    /// Its name, as in file names.
    pub const fn name(self) -> &'static str {
        match self {
            Device::WindMast => "wind-mast",
            Device::RopeTension => "rope-tension",
            Device::ValleyStation => "valley-station",
            Device::DriveCabinet => "drive-cabinet",
            Device::DriveRequests => "drive-requests",
            Device::DriveAnswers => "drive-answers",
            Device::DoorQuestions => "door-questions",
            Device::DoorAnswers => "door-answers",
            Device::BrakeTester => "brake-tester",
            Device::HallSensor => "hall-sensor",
            Device::Groomer => "groomer",
            Device::Winch => "winch",
        }
    }

    /// The device of that name.
    pub fn named(name: &str) -> Option<Device> {
        Device::ALL.into_iter().find(|device| device.name() == name)
    }

    /// The text of the format file that declares what it sends; nothing of what nobody has declared yet.
    pub const fn format(self) -> Option<&'static str> {
        match self {
            Device::RopeTension => Some(include_str!("../formats/rope-tension.toml")),
            Device::ValleyStation => Some(include_str!("../formats/valley-station.toml")),
            Device::BrakeTester => Some(include_str!("../formats/brake-tester.toml")),
            Device::HallSensor => Some(include_str!("../formats/hall-sensor.toml")),
            Device::Groomer => Some(include_str!("../formats/groomer.toml")),
            Device::Winch => Some(include_str!("../formats/winch.toml")),
            Device::WindMast => Some(include_str!("../formats/wind-mast.toml")),
            Device::DoorQuestions | Device::DoorAnswers => Some(include_str!("../formats/doors.toml")),
            Device::DriveCabinet => Some(include_str!("../formats/drive-cabinet.toml")),
            Device::DriveRequests | Device::DriveAnswers => None,
        }
    }

    /// Settings of its line.
    pub const fn serial(self) -> &'static str {
        match self {
            Device::WindMast => "4800 8N1",
            Device::RopeTension => "115200 8N1",
            Device::ValleyStation => "38400 8N1",
            Device::DriveCabinet | Device::DriveRequests | Device::DriveAnswers => "19200 8E1",
            Device::DoorQuestions | Device::DoorAnswers => "9600 8N1",
            Device::BrakeTester => "2400 7E1",
            Device::HallSensor => "9600 8N1",
            Device::Groomer => "57600 8N1",
            Device::Winch => "19200 8N1",
        }
    }

    /// The same, read.
    pub fn settings(self) -> Settings {
        Settings::parse(self.serial()).unwrap_or(Settings::plain(9_600))
    }

    /// How long one character takes on its line, in nanoseconds.
    fn character(self) -> i64 {
        self.settings().character()
    }

    /// The device as it is when it is switched on.
    fn model(self, rng: &mut Rng) -> Box<dyn Model + Send> {
        match self {
            Device::WindMast => Box::new(wind_mast::Mast::new(rng)),
            Device::RopeTension => Box::new(rope_tension::Cell::new(rng)),
            Device::ValleyStation => Box::new(valley_station::Station::new(rng)),
            Device::DriveCabinet => Box::new(drive_cabinet::Cabinet::new(rng, drive_cabinet::Wire::Both)),
            Device::DriveRequests => Box::new(drive_cabinet::Cabinet::new(rng, drive_cabinet::Wire::Requests)),
            Device::DriveAnswers => Box::new(drive_cabinet::Cabinet::new(rng, drive_cabinet::Wire::Answers)),
            Device::DoorQuestions => Box::new(doors::Doors::new(rng, doors::Wire::Questions)),
            Device::DoorAnswers => Box::new(doors::Doors::new(rng, doors::Wire::Answers)),
            Device::BrakeTester => Box::new(brake_tester::Tester::new(rng)),
            Device::HallSensor => Box::new(hall_sensor::Sensor::new(rng)),
            Device::Groomer => Box::new(groomer::Receiver::new(rng)),
            Device::Winch => Box::new(winch::Winch::new(rng)),
        }
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
    /// The byte that it begins with, if that closes what comes before it where nothing else has.
    opening: Option<u8>,
    /// What it says together with others.
    together: Option<Together>,
    /// For how long its device thinks behind the end of what came before it, in nanoseconds.
    waits: i64,
}

/// What several messages say together.
#[derive(Clone)]
struct Together {
    /// The same for all of them, and for no others.
    id: u64,
    /// What all of them say, if this is the last.
    says: Option<(&'static str, Vec<(&'static str, Fact)>)>,
    /// Whether a checksum vouches for them, though they are fragile.
    has_sum: bool,
}

impl Message {
    /// A frame that its checksum vouches for.
    fn new(time: i64, bytes: Vec<u8>, says: Option<(&'static str, Vec<(&'static str, Fact)>)>) -> Message {
        Message { time, bytes, says, line_end: 0, fragile: false, opening: None, together: None, waits: 0 }
    }

    /// A line of text that CR and LF end, and nothing vouches for.
    fn line(time: i64, text: &str, says: Option<(&'static str, Vec<(&'static str, Fact)>)>) -> Message {
        let bytes = format!("{text}\r\n").into_bytes();
        Message { time, bytes, says, line_end: 2, fragile: true, opening: None, together: None, waits: 0 }
    }

    /// A sentence of that text, with its checksum.
    fn sentence(time: i64, text: &str, says: Option<(&'static str, Vec<(&'static str, Fact)>)>) -> Message {
        let sum = text.bytes().fold(0, |sum, byte| sum ^ byte);
        let bytes = format!("${text}*{sum:02X}\r\n").into_bytes();
        Message { time, bytes, says, line_end: 2, fragile: false, opening: None, together: None, waits: 0 }
    }

    /// It says something together with others.
    fn together(self, id: u64, says: Option<(&'static str, Vec<(&'static str, Fact)>)>) -> Message {
        Message { together: Some(Together { id, says, has_sum: !self.fragile }), ..self }
    }
}

/// Simulates so many seconds of a device, received with those faults.
pub fn record(device: Device, seed: u64, seconds: u32, faults: &Faults) -> Recording {
    let mut rng = Rng::with_seed(seed);
    let mut model = device.model(&mut rng);
    let messages = (0..seconds).flat_map(|second| model.second(&mut rng, second)).collect();
    fault::receive(device, messages, faults, &mut rng)
}

/// What a device says, second by second.
trait Model {
    /// The messages of one second, in the order of their times.
    fn second(&mut self, rng: &mut Rng, second: u32) -> Vec<Message>;
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
