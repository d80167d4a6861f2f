//! The search for line settings, on simulated lines in simulated time.

use usus::format::Serial;
use usus::survey::Character;
use usus::{FaultKind, Span};
use usus_io::{Ear, EarError, Found, Listened, SearchOptions, search};
use usus_sim::{Device, LiveFaults, LiveLine, Settings, WireFault};

/// A listener on a simulated line, whose time passes as fast as it can.
struct SimulatedEar {
    line: LiveLine,
    now: i64,
    /// Whether its receiver tells faults; a pseudo-terminal does not, and keeps the character format of the device.
    faults: bool,
    device: Settings,
}

impl SimulatedEar {
    fn new(device: Device, settings: Settings, seed: u64, faults: bool) -> SimulatedEar {
        let line = LiveLine::with_settings(device, settings, seed, LiveFaults::none());
        SimulatedEar { line, now: 3_370_000_000 + seed as i64 * 17_000_000, faults, device: settings }
    }
}

impl Ear for SimulatedEar {
    type Error = std::convert::Infallible;

    fn listen(
        &mut self,
        serial: Serial,
        wanted: usize,
        within: Span,
        patience: Span,
    ) -> Result<Listened, EarError<Self::Error>> {
        let mut settings = Settings::parse(&serial.to_string()).unwrap();
        settings.inverted = false;
        if !self.faults {
            settings = Settings { baud: serial.baud, ..self.device };
        }
        let begun = self.now;
        // Setting a port takes a moment.
        self.now += 5_000_000;
        self.line.listen(self.now, settings);
        let (mut characters, mut first) = (Vec::new(), None);
        let faults = self.faults;
        while characters.len() < wanted
            && first.map_or(self.now - begun < patience.nanoseconds(), |first| self.now - first < within.nanoseconds())
        {
            self.now += 4_000_000;
            self.line.advance(self.now, &mut |received| {
                let fault = received.fault.filter(|_| faults).map(|fault| match fault {
                    WireFault::Parity => FaultKind::Parity,
                    WireFault::Framing => FaultKind::Framing,
                    WireFault::Break => FaultKind::Break,
                });
                characters.push(Character { byte: received.byte, fault });
            });
            if !characters.is_empty() && first.is_none() {
                first = Some(self.now);
            }
        }
        let took = Span::from_nanoseconds(self.now - begun);
        Ok(Listened { characters, faults, took })
    }
}

const SPEEDS: [u32; 10] = [1_200, 2_400, 4_800, 9_600, 14_400, 19_200, 38_400, 57_600, 115_200, 230_400];
const FORMATS: [&str; 6] = ["8N1", "8N2", "8E1", "8O1", "7E1", "7O1"];

fn seek(device: Device, settings: &str, seed: u64, faults: bool) -> Found {
    let mut ear = SimulatedEar::new(device, Settings::parse(settings).unwrap(), seed, faults);
    let Ok(found) = search(&mut ear, &SearchOptions::default(), &mut |_| {});
    found
}

/// Whether bytes are read right with what was found. Two stop bits are heard as one is.
fn is_right(found: &Found, settings: &str) -> bool {
    let wanted = Serial::parse(&settings.replace("8N2", "8N1")).unwrap();
    found.settings == Some(wanted)
}

#[test]
fn measure() {
    for faults in [true, false] {
        let (mut all, mut right, mut longest) = (0, 0, 0.0f64);
        for device in Device::ALL {
            for baud in SPEEDS {
                for format in FORMATS {
                    if (format.starts_with('7') && !matches!(device, Device::WindMast | Device::BrakeTester))
                        || (!faults && format != "8N1")
                    {
                        continue;
                    }
                    let settings = format!("{baud} {format}");
                    let found = seek(device, &settings, 1, faults);
                    all += 1;
                    let took = found.took.nanoseconds() as f64 / 1e9;
                    longest = longest.max(took);
                    if is_right(&found, &settings) {
                        right += 1;
                    }
                    if !is_right(&found, &settings) || took > 15.0 {
                        let tried: Vec<String> = found
                            .tried
                            .iter()
                            .map(|tried| {
                                format!(
                                    "{}:{}:{:.0}/{:.2}",
                                    tried.serial, tried.score.characters, tried.score.points, tried.score.sound
                                )
                            })
                            .collect();
                        println!(
                            "{} {settings} faults {faults}: {:?} {took:.1} s; {}; {:?}",
                            device.name(),
                            found.settings.map(|found| found.to_string()),
                            tried.join(", "),
                            &found.speeds[..3.min(found.speeds.len())]
                                .iter()
                                .map(|l| (l.baud, (l.distance * 100.0) as i32))
                                .collect::<Vec<_>>()
                        );
                    }
                }
            }
        }
        println!("faults {faults}: {right} of {all}, longest {longest:.1} s");
    }
}
