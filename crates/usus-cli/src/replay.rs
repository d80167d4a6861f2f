//! `usus replay`: what was recorded, played to another program as if the device were there.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::net::SocketAddr;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use serde_json::json;
use usus::Time;
use usus_io::{Source, SourceEvent};
use usus_sim::Terminal;

use crate::Ending;
use crate::arguments::Replay;
use crate::callers::Callers;
use crate::safe::Safe;
use crate::source::{Opened, open_source};
use crate::stop::stop_flag;
use crate::summary::{grouped, plural};
use crate::voice::Voice;

/// How often it is looked whether somebody is there, or takes more.
const TICK: Duration = Duration::from_millis(2);
/// A program that has just opened a terminal gets a moment to set it up.
const SETTLING: Duration = Duration::from_millis(50);
/// A caller may be so far behind before it is waited for.
const BEHIND: usize = 1 << 16;

pub(crate) fn run(arguments: &Replay, voice: &Voice) -> Ending {
    match replay(arguments, voice) {
        Ok(ending) => ending,
        Err(text) => {
            voice.fail(&text);
            Ending::Failed
        }
    }
}

/// Who is played to.
enum Listener {
    Terminal(Terminal),
    Callers(Callers),
    File(BufWriter<File>),
}

impl Listener {
    fn open(to: &str, voice: &Voice) -> Result<Listener, String> {
        let listener = if to == "pty" {
            let terminal = Terminal::nameless().map_err(|error| format!("cannot make a pseudo-terminal: {error}"))?;
            Listener::Terminal(terminal)
        } else if let Some(link) = to.strip_prefix("pty:") {
            let terminal = Terminal::open(Path::new(link)).map_err(|error| format!("cannot make {link}: {error}"))?;
            Listener::Terminal(terminal)
        } else if let Some(address) = to.strip_prefix("tcp://") {
            let address = if address.starts_with(':') { format!("0.0.0.0{address}") } else { address.to_owned() };
            let address: SocketAddr =
                address.parse().map_err(|_| format!("`{to}` is no address and port to listen at"))?;
            Listener::Callers(Callers::at(address)?)
        } else {
            let file = File::create_new(to).map_err(|error| format!("cannot make {to}: {error}"))?;
            Listener::File(BufWriter::new(file))
        };
        let place = match &listener {
            Listener::Terminal(terminal) => terminal.link().display().to_string(),
            Listener::Callers(callers) => format!("tcp://{}", callers.address()),
            Listener::File(_) => to.to_owned(),
        };
        let waits = if matches!(listener, Listener::File(_)) { "" } else { "; waiting for somebody to listen" };
        voice.tell("info", &format!("playing to {}{waits}", Safe(&place)), json!({"playing_to": place}));
        Ok(listener)
    }

    /// Whether anybody listens.
    fn is_there(&mut self) -> bool {
        match self {
            Listener::Terminal(terminal) => terminal.is_listened_to(),
            Listener::Callers(callers) => {
                callers.serve(&[]);
                callers.are_there()
            }
            Listener::File(_) => true,
        }
    }

    /// Gives bytes, and waits until they are taken or it is to stop. Returns how many bytes came back.
    fn give(&mut self, bytes: &[u8], stop: &AtomicBool) -> Result<u64, String> {
        match self {
            Listener::File(file) => file.write_all(bytes).map(|()| 0).map_err(|error| format!("cannot write: {error}")),
            Listener::Terminal(terminal) => {
                let mut rest = bytes;
                while !rest.is_empty() && !stop.load(Ordering::Relaxed) {
                    rest = &rest[terminal.offer(rest)..];
                    if !rest.is_empty() {
                        std::thread::sleep(TICK);
                    }
                }
                Ok(0)
            }
            Listener::Callers(callers) => {
                let mut received = callers.serve(bytes);
                while callers.behind() > BEHIND && !stop.load(Ordering::Relaxed) {
                    std::thread::sleep(TICK);
                    received += callers.serve(&[]);
                }
                Ok(received)
            }
        }
    }

    /// Waits until all is taken. Returns how many bytes came back that were not told yet.
    fn end(&mut self, stop: &AtomicBool) -> Result<u64, String> {
        match self {
            Listener::File(file) => file.flush().map(|()| 0).map_err(|error| format!("cannot write: {error}")),
            Listener::Terminal(terminal) => {
                // What was not read yet would go with the terminal.
                let begun = Instant::now();
                while terminal.is_listened_to()
                    && begun.elapsed() < Duration::from_secs(1)
                    && !stop.load(Ordering::Relaxed)
                {
                    std::thread::sleep(TICK);
                }
                Ok(terminal.received())
            }
            Listener::Callers(callers) => {
                let mut received = 0;
                while callers.behind() > 0 && !stop.load(Ordering::Relaxed) {
                    received += callers.serve(&[]);
                    std::thread::sleep(TICK);
                }
                Ok(received)
            }
        }
    }
}

fn replay(arguments: &Replay, voice: &Voice) -> Result<Ending, String> {
    let stop = stop_flag(voice);
    let Opened { name, source, .. } = open_source(&arguments.capture, &arguments.opening, None)?;
    let has_times = source.has_times();
    let mut recorded = Recorded { source, names: Vec::new(), wanted: arguments.line.clone() };
    // What cannot be played is known before anybody is waited for.
    let mut next = recorded.next(&name)?;
    let mut listener = Listener::open(&arguments.to, voice)?;
    let at_once = matches!(listener, Listener::File(_)) || arguments.speed.is_infinite();
    if !at_once && !has_times {
        return Err(format!("{name} holds no times; play it with --speed max"));
    }
    while !listener.is_there() && !stop.load(Ordering::Relaxed) {
        std::thread::sleep(TICK);
    }
    if !matches!(listener, Listener::File(_)) {
        std::thread::sleep(SETTLING);
    }
    let begun = Instant::now();
    let (mut first, mut played, mut received) = (None::<Time>, 0u64, 0u64);
    while let Some((time, bytes)) = next.take().filter(|_| !stop.load(Ordering::Relaxed)) {
        if let Some(time) = time.filter(|_| !at_once) {
            let since = time.since(*first.get_or_insert(time)).nanoseconds().max(0) as f64;
            wait(begun, Duration::from_nanos((since / arguments.speed) as u64), &stop);
        }
        received += listener.give(&bytes, &stop)?;
        played += bytes.len() as u64;
        next = recorded.next(&name)?;
    }
    received += listener.end(&stop)?;
    let seconds = begun.elapsed().as_secs_f64();
    let back = if received > 0 {
        format!("; {} came back, and went nowhere", plural(received, "byte"))
    } else {
        String::new()
    };
    let text = format!("played {} bytes in {seconds:.1} s{back}", grouped(played));
    voice.tell("summary", &text, json!({"played": played, "seconds": seconds, "received": received}));
    if played == 0 && !stop.load(Ordering::Relaxed) {
        voice.fail(&format!("{}: no bytes came", Safe(&name)));
        return Ok(Ending::NoBytes);
    }
    Ok(Ending::Done)
}

/// Bytes that came together, and when.
type Chunk = (Option<Time>, Vec<u8>);

/// What was recorded of one line.
struct Recorded {
    source: Box<dyn Source + Send>,
    names: Vec<String>,
    wanted: Option<String>,
}

impl Recorded {
    /// The next chunk of the line that is to be played.
    fn next(&mut self, name: &str) -> Result<Option<Chunk>, String> {
        loop {
            match self.source.next().map_err(|error| error.to_string())? {
                None => break,
                Some(SourceEvent::Line(info)) => self.names.push(info.name),
                Some(SourceEvent::Chunk { line, time, bytes, .. }) => {
                    let wanted = match &self.wanted {
                        Some(wanted) => self.names.get(line) == Some(wanted),
                        // Several must not be mixed.
                        None if self.names.len() > 1 => {
                            let names = self.names.join(", ");
                            return Err(format!(
                                "{name} holds several lines: {names}; say with --line which is to be played"
                            ));
                        }
                        None => true,
                    };
                    if wanted {
                        return Ok(Some((time, bytes.to_vec())));
                    }
                }
                Some(_) => {}
            }
        }
        match &self.wanted {
            Some(wanted) if !self.names.contains(wanted) => {
                Err(format!("{name} holds no line {wanted}; it holds {}", self.names.join(", ")))
            }
            _ => Ok(None),
        }
    }
}

/// Waits until so long after the begin, or until it is to stop.
fn wait(begun: Instant, until: Duration, stop: &AtomicBool) {
    while !stop.load(Ordering::Relaxed) {
        let left = until.saturating_sub(begun.elapsed());
        if left.is_zero() {
            return;
        }
        std::thread::sleep(left.min(Duration::from_millis(50)));
    }
}
