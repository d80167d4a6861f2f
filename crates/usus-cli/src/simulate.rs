//! `usus simulate`: the demo site's devices live, on pseudo-terminals and sockets, so that all else can be tried without hardware.

use std::fs;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use serde_json::json;
use usus_io::{Callers, Terminal};
use usus_sim::{Device, Faults, LiveFaults, LiveLine, Settings};

use crate::Ending;
use crate::arguments::{LineFault, Simulate};
use crate::stop::stop_flag;
use crate::summary::{grouped, plural};
use crate::voice::Voice;

/// How often what was sent is handed on.
const TICK: Duration = Duration::from_millis(4);
/// A program that has just opened a terminal gets a moment to set it up, as after plugging a cable in.
const SETTLING: Duration = Duration::from_millis(30);
/// A port vanishes after so long, and again; it stays away for `AWAY`.
const STAYS: Duration = Duration::from_secs(10);
const AWAY: Duration = Duration::from_secs(3);

pub(crate) fn run(arguments: &Simulate, voice: &Voice) -> Ending {
    match simulate(arguments, voice) {
        Ok(ending) => ending,
        Err(text) => {
            voice.fail(&text);
            Ending::Failed
        }
    }
}

fn simulate(arguments: &Simulate, voice: &Voice) -> Result<Ending, String> {
    let stop = stop_flag(voice);
    let devices = if arguments.devices.is_empty() { Device::ALL.to_vec() } else { arguments.devices.clone() };
    fs::create_dir_all(&arguments.dir)
        .map_err(|error| format!("cannot make the directory {}: {error}", arguments.dir.display()))?;
    let mut lines = Vec::new();
    for (index, device) in devices.into_iter().enumerate() {
        let line = Simulated::begin(device, index as u16, arguments)?;
        line.announce(voice);
        lines.push(line);
    }
    let begun = Instant::now();
    if arguments.seconds.is_none() {
        voice.say("until you interrupt it");
    }
    let over = |now: Duration| arguments.seconds.is_some_and(|seconds| now >= Duration::from_secs(seconds.into()));
    while !stop.load(Ordering::Relaxed) && !over(begun.elapsed()) {
        for line in &mut lines {
            line.tick(begun.elapsed(), voice)?;
        }
        std::thread::sleep(TICK);
    }
    let received: u64 = lines.iter_mut().map(|line| line.sum_up(voice)).sum();
    match received {
        0 => Ok(Ending::Done),
        some => Err(format!("a listener wrote to a line: {} came back, and none should have", plural(some, "byte"))),
    }
}

/// A device on its terminal and its socket.
struct Simulated {
    device: Device,
    line: LiveLine,
    settings: Settings,
    /// Speed of the listener on the terminal.
    speed: u32,
    terminal: Option<Terminal>,
    /// Where it will come back.
    next: Option<Terminal>,
    link: std::path::PathBuf,
    listened_since: Option<Duration>,
    vanishes: Option<Duration>,
    /// The same device as sockets hear it: set as the device is.
    socket_line: LiveLine,
    callers: Option<Callers>,
    received: u64,
    dropped: u64,
}

impl Simulated {
    fn begin(device: Device, index: u16, arguments: &Simulate) -> Result<Simulated, String> {
        let settings = arguments.serial.unwrap_or(device.settings());
        let faults = faults(&arguments.fault);
        let line = || LiveLine::with_settings(device, settings, arguments.seed, faults);
        let link = arguments.dir.join(device.name());
        let terminal = open_terminal(&link)?;
        let callers = arguments.tcp.map(|address| listen(address, index)).transpose()?;
        let vanishes = arguments.fault.contains(&LineFault::Vanish).then_some(STAYS);
        Ok(Simulated {
            device,
            line: line(),
            settings,
            speed: settings.baud,
            terminal: Some(terminal),
            next: None,
            link,
            listened_since: None,
            vanishes,
            socket_line: line(),
            callers,
            received: 0,
            dropped: 0,
        })
    }

    fn announce(&self, voice: &Voice) {
        let name = self.device.name();
        let settings = self.settings.to_string();
        let listener = self.terminal.as_ref().map(|terminal| terminal.listener().display().to_string());
        let listener = listener.unwrap_or_default();
        if let Some(callers) = &self.callers {
            crate::serving::warn_if_open(callers.address(), "whoever reaches this machine can listen", voice);
        }
        let socket = self.callers.as_ref().map(|callers| format!("tcp://{}", callers.address()));
        let at = socket.as_ref().map_or(String::new(), |socket| format!("   {socket}"));
        let text = format!("{name:<15} {settings:<11} {} -> {listener}{at}", self.link.display());
        let data = json!({
            "simulating": name, "serial": settings, "port": self.link.display().to_string(),
            "listener": listener, "socket": socket,
        });
        voice.tell("info", &crate::safe::Safe(&text).to_string(), data);
    }

    /// Goes on to `now` after the begin.
    fn tick(&mut self, now: Duration, voice: &Voice) -> Result<(), String> {
        self.come_and_go(now, voice)?;
        let until = now.as_nanos() as i64;
        let listened = self.terminal.as_ref().is_some_and(Terminal::is_listened_to);
        if !listened {
            self.listened_since = None;
        }
        let since = if listened { Some(*self.listened_since.get_or_insert(now)) } else { None };
        let speed = self.terminal.as_ref().and_then(Terminal::speed).filter(|speed| *speed > 0);
        if let Some(speed) = speed.filter(|speed| *speed != self.speed) {
            self.speed = speed;
            self.line.listen(until, Settings { baud: speed, ..self.settings });
        }
        let mut bytes = Vec::new();
        self.line.advance(until, &mut |received| bytes.push(received.byte));
        if let Some(terminal) = &mut self.terminal {
            if since.is_some_and(|since| now >= since + SETTLING) {
                terminal.deliver(&bytes);
            } else {
                terminal.forget();
            }
            terminal.received();
        }
        self.serve(until);
        Ok(())
    }

    /// A port that is to vanish does so, and comes back under another number but with its lasting name.
    fn come_and_go(&mut self, now: Duration, voice: &Voice) -> Result<(), String> {
        let Some(when) = self.vanishes.filter(|when| now >= *when) else { return Ok(()) };
        let name = self.device.name();
        match self.terminal.take() {
            Some(mut terminal) => {
                self.received += terminal.received();
                self.dropped += terminal.dropped();
                let listener = terminal.listener().to_owned();
                // The next is made while this one holds its number, so that it gets another.
                self.next =
                    Some(Terminal::nameless().map_err(|error| format!("cannot make a pseudo-terminal: {error}"))?);
                drop(terminal);
                voice.say(&format!("{name} vanishes from {}", listener.display()));
                self.vanishes = Some(when + AWAY);
            }
            None => {
                let terminal = match self.next.take() {
                    Some(mut next) => next.show_as(&self.link).map(|()| next),
                    None => Terminal::open(&self.link),
                };
                let terminal =
                    terminal.map_err(|error| format!("cannot make {} anew: {error}", self.link.display()))?;
                voice.say(&format!("{name} is back: {} -> {}", self.link.display(), terminal.listener().display()));
                self.terminal = Some(terminal);
                self.vanishes = Some(when + STAYS);
            }
        }
        Ok(())
    }

    fn serve(&mut self, until: i64) {
        let Some(callers) = &mut self.callers else { return };
        let mut bytes = Vec::new();
        self.socket_line.advance(until, &mut |received| bytes.push(received.byte));
        self.received += callers.serve(&bytes);
    }

    /// Says how it was, and returns how many bytes came back.
    fn sum_up(&mut self, voice: &Voice) -> u64 {
        let (mut received, mut dropped) = (self.received, self.dropped);
        if let Some(terminal) = &mut self.terminal {
            received += terminal.received();
            dropped += terminal.dropped();
        }
        let name = self.device.name();
        let sent = self.line.sent();
        let unread = if dropped > 0 { format!(", {} not read in time", grouped(dropped)) } else { String::new() };
        let text = format!("{name}: {} sent, {} received{unread}", plural(sent, "byte"), grouped(received));
        voice.tell("info", &text, json!({"simulated": name, "sent": sent, "received": received, "dropped": dropped}));
        received
    }
}

fn open_terminal(link: &Path) -> Result<Terminal, String> {
    Terminal::open(link).map_err(|error| format!("cannot make the pseudo-terminal {}: {error}", link.display()))
}

/// Each device has a socket of its own; from a given port on, they count up.
fn listen(address: SocketAddr, index: u16) -> Result<Callers, String> {
    let mut address = address;
    if address.port() != 0 {
        address.set_port(address.port().saturating_add(index));
    }
    Callers::at(address).map_err(|error| format!("cannot listen at {address}: {error}"))
}

fn faults(chosen: &[LineFault]) -> LiveFaults {
    let has = |fault| chosen.contains(&fault);
    let mut faults = LiveFaults::none();
    if has(LineFault::Noise) {
        faults.bytes = Faults { cut_start: 0, noise: 0.05, flipped: 0.000_5, lost: 0.000_2 };
    }
    if has(LineFault::CutStart) {
        faults.bytes.cut_start = 7;
    }
    if has(LineFault::Breaks) {
        faults.breaks = 0.05;
    }
    if has(LineFault::Silence) {
        faults.silence = 15;
    }
    faults
}
