//! A serial port as a source: it is waited for when it vanishes, and reopened under its lasting name.

use std::io::{self, Read};
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, poll};
use usus::format::Parity;
use usus::{Fault, Loss, Time};

use super::clock::Clock;
use super::{LineInfo, PATIENCE, PortName, Source, SourceError, SourceEvent};
use crate::port::{Counters, LinuxSystem, Marked, Port, PortError, PortOptions, Unmark, find_adapter};

/// How often a port that has vanished is looked for.
const LOOK_AGAIN: Duration = Duration::from_millis(100);

/// Reads a port as one line.
pub struct PortSource {
    names: Vec<PortName>,
    options: PortOptions,
    port: Option<Port>,
    announced: bool,
    clock: Clock,
    unmark: Unmark,
    counters: Option<Counters>,
    read: Vec<u8>,
    bytes: Vec<u8>,
    faults: Vec<Fault>,
    waiting: Option<Loss>,
}

impl PortSource {
    /// Opens the first of these ports that is there. `clock` says when something arrives.
    ///
    /// # Errors
    ///
    /// If none of them can be opened: why the first that is there cannot.
    pub fn open(names: Vec<PortName>, options: PortOptions, clock: Clock) -> Result<PortSource, PortError> {
        let port = open_first(&names, &options)?;
        Ok(PortSource {
            counters: port.counters(),
            names,
            options,
            port: Some(port),
            announced: false,
            clock,
            unmark: Unmark::default(),
            read: vec![0; 4_096],
            bytes: Vec::new(),
            faults: Vec::new(),
            waiting: None,
        })
    }

    /// Sets the line settings anew; bytes that were received under others and not yet read are thrown away.
    ///
    /// # Errors
    ///
    /// If the driver refuses them.
    pub fn set(&mut self, serial: usus::format::Serial) -> Result<(), PortError> {
        self.options.serial = serial;
        self.unmark = Unmark::default();
        if let Some(port) = &mut self.port {
            port.set(serial)?;
            self.counters = port.counters();
        }
        Ok(())
    }

    /// Reads what there is. Whether the port is still there.
    fn receive(&mut self) -> io::Result<bool> {
        let Some(port) = &mut self.port else { return Ok(false) };
        let got = match port.read(&mut self.read) {
            Ok(0) => return Ok(false),
            Ok(got) => got,
            Err(error) if super::is_pause(&error) => return Ok(true),
            Err(error) => return Err(error),
        };
        let now = port.counters();
        let counted = now.zip(self.counters).map(|(now, before)| grown(now, before));
        self.counters = now;
        let marked = Marked { counted, parity: self.options.serial.parity != Parity::None };
        self.unmark.take(&self.read[..got], marked, &mut self.bytes, &mut self.faults);
        if counted.is_some_and(|counted| counted.overrun + counted.buffer_overrun > 0) {
            self.waiting = Some(Loss::Overrun);
        }
        Ok(true)
    }

    fn idle(&self) -> SourceEvent<'_> {
        SourceEvent::Idle { time: Some(self.clock.now()) }
    }

    fn vanish(&mut self) -> SourceEvent<'_> {
        self.port = None;
        SourceEvent::Gone { line: 0, time: Some(self.clock.now()) }
    }
}

/// How the driver's counts, which wrap, have grown.
fn grown(now: Counters, before: Counters) -> Counters {
    Counters {
        framing: now.framing.wrapping_sub(before.framing),
        parity: now.parity.wrapping_sub(before.parity),
        breaks: now.breaks.wrapping_sub(before.breaks),
        overrun: now.overrun.wrapping_sub(before.overrun),
        buffer_overrun: now.buffer_overrun.wrapping_sub(before.buffer_overrun),
    }
}

impl Source for PortSource {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if !std::mem::replace(&mut self.announced, true) {
            let mut line = LineInfo::new("");
            line.serial = Some(self.options.serial);
            return Ok(Some(SourceEvent::Line(line)));
        }
        if let Some(why) = self.waiting.take() {
            let time: Option<Time> = Some(self.clock.now());
            return Ok(Some(SourceEvent::Loss { line: 0, why, time }));
        }
        let Some(port) = &self.port else {
            std::thread::sleep(LOOK_AGAIN);
            if let Ok(port) = open_first(&self.names, &self.options) {
                self.counters = port.counters();
                self.port = Some(port);
                self.unmark = Unmark::default();
                self.waiting = Some(Loss::Reopened);
            }
            return Ok(Some(self.idle()));
        };
        let mut wait = [PollFd::new(port, PollFlags::IN)];
        match poll(&mut wait, Some(&PATIENCE)) {
            Ok(0) | Err(rustix::io::Errno::INTR) => return Ok(Some(self.idle())),
            Ok(_) => {}
            Err(_) => return Ok(Some(self.vanish())),
        }
        self.bytes.clear();
        self.faults.clear();
        match self.receive() {
            // A terminal whose other end is gone gives an error or an end.
            Ok(false) | Err(_) => Ok(Some(self.vanish())),
            Ok(true) if self.bytes.is_empty() && self.faults.is_empty() => Ok(Some(self.idle())),
            Ok(true) => {
                let time = Some(self.clock.now());
                Ok(Some(SourceEvent::Chunk { line: 0, time, bytes: &self.bytes, faults: &self.faults }))
            }
        }
    }

    fn has_times(&self) -> bool {
        true
    }

    fn is_live(&self) -> bool {
        true
    }

    /// A driver that counts faults marks them as well.
    fn tells_faults(&self) -> bool {
        self.counters.is_some()
    }

    fn set_serial(&mut self, serial: usus::format::Serial) -> Option<Result<(), PortError>> {
        Some(self.set(serial))
    }
}

/// Opens the first port that is there.
fn open_first(names: &[PortName], options: &PortOptions) -> Result<Port, PortError> {
    let mut first = None;
    for name in names {
        let opened = match name {
            PortName::Path(path) => Port::open(path, options),
            PortName::Adapter(serial) => match find_adapter(&LinuxSystem::new(), serial) {
                Some(path) => Port::open(&path, options),
                None => Err(PortError::NoAdapter { serial: serial.clone() }),
            },
        };
        match opened {
            Ok(port) => return Ok(port),
            // One that is there but cannot be opened says more than one that is not there.
            Err(error) => match &first {
                None | Some(PortError::Absent { .. } | PortError::NoAdapter { .. }) => first = Some(error),
                Some(_) => {}
            },
        }
    }
    Err(first.unwrap_or(PortError::NoAdapter { serial: String::new() }))
}
