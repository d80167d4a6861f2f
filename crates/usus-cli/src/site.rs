//! A line of the demo site as a source: what a receiver with given settings makes of it, in real time.

use std::time::{Duration, Instant};

use usus::format::Serial;
use usus::{Fault, FaultKind};
use usus_io::{Clock, LineInfo, PortError, Source, SourceError, SourceEvent};
use usus_sim::{Device, LiveFaults, LiveLine, Settings, WireFault};

/// How long the device has been on when the listener comes: somewhere within a message, as it always is.
const UNHEARD: Duration = Duration::from_millis(3_370);
/// How often what has come is handed on.
const TICK: Duration = Duration::from_millis(10);
/// How often the reader is told that nothing comes.
const PATIENCE: Duration = Duration::from_millis(100);

/// A device of the demo site, heard with some line settings.
pub(crate) struct SiteLine {
    line: LiveLine,
    serial: Serial,
    announced: bool,
    begun: Instant,
    clock: Clock,
    bytes: Vec<u8>,
    faults: Vec<Fault>,
}

impl SiteLine {
    /// The device as it is heard with `serial`, or with its own settings.
    pub(crate) fn new(device: Device, serial: Option<Serial>, clock: Clock) -> Option<SiteLine> {
        let serial = serial.or_else(|| Serial::parse(device.serial()))?;
        let mut line = LiveLine::new(device, 42, LiveFaults::none());
        line.listen(UNHEARD.as_nanos() as i64, settings(serial)?);
        let begun = Instant::now();
        Some(SiteLine { line, serial, announced: false, begun, clock, bytes: Vec::new(), faults: Vec::new() })
    }

    /// Nanoseconds since the device was switched on.
    fn now(&self) -> i64 {
        (UNHEARD + self.begun.elapsed()).as_nanos() as i64
    }
}

/// The same settings in the simulator's words.
pub(crate) fn settings(serial: Serial) -> Option<Settings> {
    Settings::parse(&serial.to_string())
}

impl Source for SiteLine {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if !std::mem::replace(&mut self.announced, true) {
            let mut info = LineInfo::new("");
            info.serial = Some(self.serial);
            return Ok(Some(SourceEvent::Line(info)));
        }
        self.bytes.clear();
        self.faults.clear();
        let begun = Instant::now();
        while self.bytes.is_empty() && self.faults.is_empty() {
            if begun.elapsed() >= PATIENCE {
                return Ok(Some(SourceEvent::Idle { time: Some(self.clock.now()) }));
            }
            std::thread::sleep(TICK);
            let until = self.now();
            let (bytes, faults) = (&mut self.bytes, &mut self.faults);
            self.line.advance(until, &mut |received| {
                let kind = received.fault.map(kind);
                faults.extend(kind.map(|kind| Fault { at: bytes.len(), kind }));
                if kind != Some(FaultKind::Break) {
                    bytes.push(received.byte);
                }
            });
        }
        let time = Some(self.clock.now());
        Ok(Some(SourceEvent::Chunk { line: 0, time, bytes: &self.bytes, faults: &self.faults }))
    }

    fn has_times(&self) -> bool {
        true
    }

    fn is_live(&self) -> bool {
        true
    }

    fn tells_faults(&self) -> bool {
        true
    }

    fn set_serial(&mut self, serial: Serial) -> Option<Result<(), PortError>> {
        self.serial = serial;
        let now = self.now();
        self.line.listen(now, settings(serial)?);
        Some(Ok(()))
    }
}

fn kind(fault: WireFault) -> FaultKind {
    match fault {
        WireFault::Parity => FaultKind::Parity,
        WireFault::Framing => FaultKind::Framing,
        WireFault::Break => FaultKind::Break,
    }
}
