//! Finding the settings of a port: `find_settings PORT`. Without one, those of a simulated line are found, in simulated time.

#![allow(clippy::print_stdout)]

use std::convert::Infallible;
use std::path::PathBuf;

use usus::Span;
use usus::format::Serial;
use usus::survey::Character;
use usus_io::{
    Clock, Found, Listened, PortName, PortOptions, PortSource, Receiver, ReceiverError, SearchOptions, SourceReceiver,
    Stop, search,
};
use usus_sim::{Device, LiveFaults, LiveLine, Settings};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut told =
        |tried: &usus_io::Tried| println!("{:<12} {:>5.0} points", tried.serial.to_string(), tried.score.points);
    let options = SearchOptions::default();
    let found: Found = match std::env::args().nth(1) {
        Some(path) => {
            let first = Serial::parse("9600 8N1").ok_or("no settings")?;
            let mut source =
                PortSource::open(vec![PortName::Path(PathBuf::from(path))], PortOptions::new(first), Clock::system())?;
            search(&mut SourceReceiver::new(&mut source, Stop::new()), &options, &mut told)?
        }
        None => {
            let settings = Settings::parse("19200 8E1").ok_or("no settings")?;
            let line = LiveLine::with_settings(Device::DriveAnswers, settings, 1, LiveFaults::none());
            let Ok(found) = search(&mut Simulated { line, now: 3_000_000_000 }, &options, &mut told);
            found
        }
    };
    match found.settings {
        Some(settings) => println!("{settings}{}", if found.unsure { ", but not for sure" } else { "" }),
        None => println!("nothing found"),
    }
    Ok(())
}

/// Any receiver that can be set can be a receiver.
struct Simulated {
    line: LiveLine,
    now: i64,
}

impl Receiver for Simulated {
    type Error = Infallible;

    fn listen(
        &mut self,
        serial: Serial,
        wanted: usize,
        within: Span,
        _: Span,
    ) -> Result<Listened, ReceiverError<Infallible>> {
        let settings = Settings::parse(&serial.to_string()).ok_or(ReceiverError::Refused)?;
        let begun = self.now;
        self.line.listen(begun, settings);
        let mut characters = Vec::new();
        while characters.len() < wanted && self.now - begun < within.nanoseconds() {
            self.now += 10_000_000;
            self.line.advance(self.now, &mut |received| {
                let fault = received.fault.map(|fault| match fault {
                    usus_sim::WireFault::Parity => usus::FaultKind::Parity,
                    usus_sim::WireFault::Framing => usus::FaultKind::Framing,
                    usus_sim::WireFault::Break => usus::FaultKind::Break,
                });
                characters.push(Character { byte: received.byte, fault });
            });
        }
        Ok(Listened { characters, faults: true, took: Span::from_nanoseconds(self.now - begun) })
    }
}
