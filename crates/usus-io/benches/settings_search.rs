//! How often the search finds the settings of a line, and how long it listens for that: on all devices of the demo site at ten speeds in
//! six character formats, and on a dozen others that were made up once the search was finished.
//!
//! Everything is simulated, also the time: it tells how long one would have listened.

#![allow(clippy::print_stdout)]

#[path = "../tests/it/simulated_receiver.rs"]
mod simulated_receiver;

use fastrand::Rng;
use usus::format::Serial;
use usus_io::{SearchOptions, search};
use usus_sim::{Device, LiveFaults, LiveLine, Settings};

use simulated_receiver::SimulatedReceiver;

const SPEEDS: [u32; 10] = [1_200, 2_400, 4_800, 9_600, 14_400, 19_200, 38_400, 57_600, 115_200, 230_400];
const FORMATS: [&str; 6] = ["8N1", "8N2", "8E1", "8O1", "7E1", "7O1"];

/// Of all devices, speeds and formats, so many are found, at least, and half of them within so many seconds.
const FLOOR: (f64, f64) = (0.95, 6.0);

fn main() {
    // As a test, a part of it has to be right.
    let is_test = std::env::args().all(|argument| argument != "--bench");
    let demo = |device: Device, settings, seed| LiveLine::with_settings(device, settings, seed, LiveFaults::none());
    let text = [Device::WindMast, Device::BrakeTester];
    for faults in [true, false] {
        let mut tally = Tally::default();
        for device in Device::ALL {
            for settings in some(all_settings(text.contains(&device), faults), is_test) {
                tally.seek(device.name(), demo(device, settings.1, 1), &settings, 1, faults);
            }
        }
        tally.report("devices of the demo site", faults);
        let mut tally = Tally::default();
        for (index, other) in OTHERS.iter().enumerate() {
            for settings in some(all_settings(other.text, faults), is_test) {
                for seed in [11, 12] {
                    let mut rng = Rng::with_seed(seed + 100 * index as u64);
                    let say = other.say;
                    let line = LiveLine::saying(settings.1, move |second| say(second, &mut rng));
                    tally.seek(other.name, line, &settings, seed, faults);
                }
            }
        }
        tally.report("a dozen others, two seeds each", faults);
    }
}

/// Some of them, for a test.
fn some(all: Vec<(String, Settings)>, is_test: bool) -> Vec<(String, Settings)> {
    all.into_iter().step_by(if is_test { 9 } else { 1 }).collect()
}

/// All speeds and formats; what is not text needs eight bits, and without faults there is one format.
fn all_settings(text: bool, faults: bool) -> Vec<(String, Settings)> {
    let formats = FORMATS.into_iter().filter(|format| text || format.starts_with('8'));
    let formats: Vec<&str> = formats.filter(|format| faults || *format == "8N1").collect();
    let texts = SPEEDS.into_iter().flat_map(|baud| formats.iter().map(move |format| format!("{baud} {format}")));
    texts.filter_map(|text| Some((text.clone(), Settings::parse(&text)?))).collect()
}

#[derive(Default)]
struct Tally {
    all: usize,
    right: usize,
    seconds: Vec<f64>,
    at_9600: Vec<f64>,
    wrong: Vec<String>,
}

impl Tally {
    fn seek(&mut self, name: &str, line: LiveLine, (text, settings): &(String, Settings), seed: u64, faults: bool) {
        let mut receiver = SimulatedReceiver::new(line, *settings, seed, faults);
        let Ok(found) = search(&mut receiver, &SearchOptions::default(), &mut |_| {});
        // Two stop bits are heard as one is.
        let wanted = Serial::parse(&text.replace("8N2", "8N1"));
        self.all += 1;
        let seconds = found.took.nanoseconds() as f64 / 1e9;
        self.seconds.push(seconds);
        if settings.baud == 9_600 {
            self.at_9600.push(seconds);
        }
        if found.settings == wanted {
            self.right += 1;
        } else {
            let found = found.settings.map_or("nothing".to_owned(), |found| found.to_string());
            self.wrong.push(format!("{name} {text}: {found}"));
        }
    }

    fn report(mut self, what: &str, faults: bool) {
        let told = if faults { "faults told" } else { "no faults told" };
        let spread = |seconds: &mut Vec<f64>| {
            seconds.sort_by(f64::total_cmp);
            if seconds.is_empty() {
                return "none".to_owned();
            }
            let at = |share: usize| seconds[(seconds.len() - 1) * share / 100];
            format!("median {:.1} s, 95 % within {:.1} s, longest {:.1} s", at(50), at(95), at(100))
        };
        let share = self.right as f64 * 100.0 / self.all as f64;
        assert!(share >= FLOOR.0 * 100.0, "{what}, {told}: {share} % right, {:?}", self.wrong);
        println!("{what}, {told}: {} of {} right ({share:.1} %)", self.right, self.all);
        println!("  all speeds: {}", spread(&mut self.seconds));
        assert!(self.seconds[(self.seconds.len() - 1) / 2] <= FLOOR.1, "{what}, {told}: {:?}", self.seconds);
        println!("  9600:       {}", spread(&mut self.at_9600));
        for wrong in &self.wrong {
            println!("    {wrong}");
        }
    }
}

/// What a device says in a second.
type Say = fn(u32, &mut Rng) -> Vec<(i64, Vec<u8>)>;

struct Other {
    name: &'static str,
    text: bool,
    say: Say,
}

const MS: i64 = 1_000_000;

const OTHERS: [Other; 12] = [
    Other {
        name: "cabin scale",
        text: true,
        say: |_, rng| every(200, |_| format!("CABIN {:02} LOAD {:>5} KG\r", rng.u8(1..60), rng.u16(0..900))),
    },
    Other {
        name: "tank level",
        text: true,
        say: |_, rng| {
            every(1_000, |_| {
                let text = format!("{:06.1}M", f64::from(rng.u16(..)) / 10.0);
                let sum = text.bytes().fold(3, |sum, byte| sum ^ byte) | 0x20;
                format!("\u{2}{text}\u{3}{}", char::from(sum & 0x7F))
            })
        },
    },
    Other {
        name: "inclinometer",
        text: false,
        say: |_, rng| {
            binary_every(20, |_| {
                let mut packet = vec![0xAA, 0x06];
                packet.extend((rng.u16(0..400) as i16 - 200).to_be_bytes());
                packet.extend((rng.u16(0..400) as i16 - 200).to_be_bytes());
                let sum = packet.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte));
                packet.push(sum);
                packet
            })
        },
    },
    Other {
        name: "station clock",
        text: true,
        say: |second, _| every(1_000, |_| format!("<25.11.26 06:{:02}:{:02}>\r\n", second / 60 % 60, second % 60)),
    },
    Other {
        name: "hex counter",
        text: true,
        say: |second, rng| every(500, |half| format!(":{:08X}{:04X}\r\n", second * 2 + half, rng.u16(..))),
    },
    Other {
        name: "vibration sampler",
        text: false,
        say: |_, rng| {
            binary_every(100, |_| {
                let mut packet = vec![0xEB, 0x90, 40];
                (0..40).for_each(|_| packet.extend((rng.u16(0..3_000) as i16 - 1_500).to_le_bytes()));
                packet
            })
        },
    },
    Other {
        name: "fire panel",
        text: true,
        say: |second, rng| match second % 5 {
            0 => vec![(
                0,
                format!(
                    "ZONE REPORT {second}\r\n{}END\r\n",
                    (1..12)
                        .map(|zone| format!("  ZONE {zone:>2}  {}\r\n", ["NORMAL", "FAULT", "TEST"][rng.usize(0..3)]))
                        .collect::<String>()
                )
                .into_bytes(),
            )],
            _ => Vec::new(),
        },
    },
    Other {
        name: "power meter",
        text: true,
        say: |second, rng| match second % 2 {
            0 => every(1_000, |_| {
                format!(
                    "U={}.{};I={}.{:02};P={}\n",
                    rng.u8(225..235),
                    rng.u8(0..10),
                    rng.u8(0..30),
                    rng.u8(0..100),
                    rng.u16(0..7_000)
                )
            }),
            _ => Vec::new(),
        },
    },
    Other {
        name: "rail thermometer",
        text: true,
        say: |_, rng| {
            every(333, |_| {
                format!(
                    "\n{}.{} {}.{} -0.{}\r",
                    rng.u8(0..40),
                    rng.u8(0..10),
                    rng.u8(0..40),
                    rng.u8(0..10),
                    rng.u8(0..10)
                )
            })
        },
    },
    Other {
        name: "ticket gate",
        text: true,
        say: |_, rng| every(700, |_| format!("\u{2}{:010X}\r\n\u{3}", rng.u64(0..1 << 40))),
    },
    Other {
        name: "bull wheel encoder",
        text: false,
        say: |second, _| {
            binary_every(10, |tick| {
                let count = (second * 100 + tick) * 37;
                vec![0x80 | (count >> 14 & 0x7F) as u8, (count >> 7 & 0x7F) as u8, (count & 0x7F) as u8]
            })
        },
    },
    Other {
        name: "rope monitor",
        text: false,
        say: |_, rng| {
            binary_every(100, |_| {
                let data = (0..24).map(|_| rng.u8(..)).filter(|byte| *byte != 0xC0 && *byte != 0xDB);
                std::iter::once(0xC0).chain(data.collect::<Vec<u8>>()).chain(std::iter::once(0xC0)).collect()
            })
        },
    },
];

fn every(milliseconds: i64, mut text: impl FnMut(u32) -> String) -> Vec<(i64, Vec<u8>)> {
    binary_every(milliseconds, |index| text(index).into_bytes())
}

fn binary_every(milliseconds: i64, mut bytes: impl FnMut(u32) -> Vec<u8>) -> Vec<(i64, Vec<u8>)> {
    (0..1_000 / milliseconds).map(|index| (index * milliseconds * MS, bytes(index as u32))).collect()
}
