//! A listener on a simulated line, in simulated time.

use usus::format::Serial;
use usus::survey::Character;
use usus::{FaultKind, Span};
use usus_io::{Listened, Receiver, ReceiverError};
use usus_sim::{LiveLine, Settings, WireFault};

/// A listener on a simulated line, whose time passes as fast as it can.
pub struct SimulatedReceiver {
    line: LiveLine,
    now: i64,
    /// Whether its receiver tells faults; a pseudo-terminal does not, and keeps the character format of the device.
    faults: bool,
    device: Settings,
}

impl SimulatedReceiver {
    /// A listener who comes a while after the device was switched on.
    pub fn new(line: LiveLine, settings: Settings, seed: u64, faults: bool) -> SimulatedReceiver {
        SimulatedReceiver { line, now: 3_370_000_000 + seed as i64 * 17_000_000, faults, device: settings }
    }
}

impl Receiver for SimulatedReceiver {
    type Error = std::convert::Infallible;

    fn listen(
        &mut self,
        serial: Serial,
        wanted: usize,
        within: Span,
        patience: Span,
    ) -> Result<Listened, ReceiverError<Self::Error>> {
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
