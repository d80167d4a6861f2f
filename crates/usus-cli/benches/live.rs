//! What live lines cost: how long a record takes from its last byte to its reader, and many lines into one capture with a conversion beside it.
//!
//! `cargo bench -p usus-cli --bench live -- SECONDS`; ten a round without a number. Figures only, but that no byte is lost is checked.

#![allow(clippy::print_stdout)]

use std::error::Error;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use usus::format::Serial;
use usus::{Decoder, Format, Record};
use usus_io::{Clock, PortName, PortOptions, PortSource, SourceEvent, Terminal, open, pump};
use usus_sim::{Device, Faults, record};

type Failure = Box<dyn Error>;

const FORMAT: &str = usus::SHIPPED[0].1;
/// A sender that was not called for longer has missed the time.
const HELD_UP: Duration = Duration::from_millis(20);
/// Records of which the delay is measured.
const RECORDS: usize = 1_000;

fn main() -> Result<(), Failure> {
    if std::env::args().all(|argument| argument != "--bench") {
        // As a test: no byte of some lines is lost.
        return many_lines(16, 115_200, Duration::from_secs(1));
    }
    let seconds = std::env::args().filter_map(|argument| argument.parse::<u64>().ok()).next().unwrap_or(10);
    let folder = tempfile::tempdir()?;
    println!("from the last byte of a sentence into a pseudo-terminal to its record, {RECORDS} of them:");
    delay_of_the_system(folder.path())?;
    delay_of_the_library(folder.path())?;
    let port = folder.path().join("mast").display().to_string();
    let capture = folder.path().join("mast.pcapng").display().to_string();
    let convert = ["convert", &port, "--serial", "115200 8N1", "--format", "nmea-0183", "--no-capture"];
    delay_of_the_command("usus convert, its standard output", &convert, folder.path())?;
    let recording =
        ["capture", &port, "--serial", "115200 8N1", "--format", "nmea-0183", "--out", &capture, "--convert", "-"];
    delay_of_the_command("usus capture --convert, the same", &recording, folder.path())?;
    for (lines, baud) in [(64, 921_600), (256, 115_200)] {
        many_lines(lines, baud, Duration::from_secs(seconds))?;
    }
    Ok(())
}

/// A sentence that is a record by itself.
fn sentence() -> Result<Vec<u8>, Failure> {
    let bytes = record(Device::WindMast, 1, 60, &Faults::none()).bytes();
    let found = bytes.split_inclusive(|byte| *byte == b'\n').find(|sentence| sentence.starts_with(b"$WIMWV"));
    Ok(found.ok_or("the mast sends no MWV")?.to_vec())
}

/// What the system takes by itself: a thread that waits for the bytes and does nothing with them.
fn delay_of_the_system(folder: &Path) -> Result<(), Failure> {
    let link = folder.join("system");
    let mut terminal = Terminal::open(&link)?;
    let mut port = std::fs::File::open(&link)?;
    let settings = &mut rustix::termios::tcgetattr(&port)?;
    settings.make_raw();
    rustix::termios::tcsetattr(&port, rustix::termios::OptionalActions::Now, settings)?;
    let (sender, records) = channel();
    let reading = std::thread::spawn(move || {
        let mut buffer = [0; 4_096];
        while let Ok(got @ 1..) = port.read(&mut buffer) {
            if buffer[..got].ends_with(b"\n") {
                let _ = sender.send(Instant::now());
            }
        }
    });
    let result = delays(&mut terminal, &records);
    drop(terminal);
    let _ = reading.join();
    tell("the system alone, nothing decoded", result?);
    Ok(())
}

fn delay_of_the_library(folder: &Path) -> Result<(), Failure> {
    let plan = Format::parse(FORMAT)?.compile()?;
    let link = folder.join("library");
    let mut terminal = Terminal::open(&link)?;
    let serial = Serial::parse("115200 8N1").ok_or("no settings")?;
    let mut source = PortSource::open(vec![PortName::Path(link)], PortOptions::new(serial), Clock::system())?;
    let (sender, records) = channel();
    let stop = Arc::new(AtomicBool::new(false));
    let stopped = Arc::clone(&stop);
    let decoding = std::thread::spawn(move || {
        let mut sink = |_: &Record<'_>| {
            let _ = sender.send(Instant::now());
        };
        let go_on = &mut |_| !stopped.load(Ordering::Relaxed);
        pump(&mut source, &mut Decoder::new(&plan), &mut sink, go_on).is_ok()
    });
    let result = delays(&mut terminal, &records);
    stop.store(true, Ordering::Relaxed);
    let _ = decoding.join();
    tell("the library's callback", result?);
    Ok(())
}

fn delay_of_the_command(what: &str, arguments: &[&str], folder: &Path) -> Result<(), Failure> {
    let mut terminal = Terminal::open(&folder.join("mast"))?;
    let mut child = usus(arguments, Stdio::piped())?;
    let output = child.stdout.take().ok_or("no output")?;
    let (sender, records) = channel();
    let reading = std::thread::spawn(move || {
        let mut reader = BufReader::new(output);
        let mut line = String::new();
        while reader.read_line(&mut line).is_ok_and(|got| got > 0) {
            let _ = sender.send(Instant::now());
            line.clear();
        }
    });
    while !terminal.is_listened_to() {
        std::thread::sleep(Duration::from_millis(1));
    }
    std::thread::sleep(Duration::from_millis(200));
    let result = delays(&mut terminal, &records);
    stop(&mut child)?;
    let _ = reading.join();
    tell(what, result?);
    Ok(())
}

/// Sends sentences and waits for the record of each.
fn delays(terminal: &mut Terminal, records: &Receiver<Instant>) -> Result<Vec<Duration>, Failure> {
    let sentence = sentence()?;
    let mut delays = Vec::new();
    for number in 0..RECORDS {
        let sent = Instant::now();
        terminal.deliver(&sentence);
        let out = records.recv_timeout(Duration::from_secs(5))?;
        delays.push(out - sent);
        std::thread::sleep(Duration::from_micros(700 + number as u64 * 37 % 900));
    }
    Ok(delays)
}

fn tell(what: &str, mut delays: Vec<Duration>) {
    delays.sort();
    let at = |percent: usize| delays[(delays.len() * percent / 100).min(delays.len() - 1)].as_secs_f64() * 1e6;
    println!("  {what:<36} p50 {:>4.0} us, p99 {:>4.0} us, longest {:>5.0} us", at(50), at(99), at(100));
}

fn usus(arguments: &[&str], output: Stdio) -> Result<Child, Failure> {
    let mut command = Command::new(env!("CARGO_BIN_EXE_usus"));
    command.args(["--messages", "json"]).args(arguments);
    Ok(command.stdin(Stdio::null()).stdout(output).stderr(Stdio::piped()).spawn()?)
}

fn stop(child: &mut Child) -> Result<String, Failure> {
    kill_process(Pid::from_raw(child.id() as i32).ok_or("no process")?, Signal::INT)?;
    let said = std::io::read_to_string(child.stderr.take().ok_or("no messages")?)?;
    child.wait()?;
    Ok(said)
}

/// A line at full speed.
struct Sender {
    terminal: Terminal,
    bytes: Arc<[u8]>,
    /// Where in the bytes it begins, and how many it has sent.
    begin: usize,
    sent: u64,
    dropped: u64,
}

impl Sender {
    /// Sends what is due after so long.
    fn send(&mut self, due: u64) {
        while self.sent + self.dropped < due {
            let at = (self.begin + (self.sent + self.dropped) as usize) % self.bytes.len();
            let count = (self.bytes.len() - at).min((due - self.sent - self.dropped) as usize);
            let taken = self.terminal.offer(&self.bytes[at..at + count]);
            self.sent += taken as u64;
            self.dropped += (count - taken) as u64;
        }
    }
}

/// Records many lines and converts them; checks that what was sent is what was recorded.
fn many_lines(lines: usize, baud: u32, lasts: Duration) -> Result<(), Failure> {
    let folder = tempfile::tempdir_in(memory())?;
    let bytes: Arc<[u8]> = record(Device::WindMast, 1, 600, &Faults::none()).bytes().into();
    let mut senders = Vec::new();
    let mut arguments: Vec<String> = vec!["capture".to_owned()];
    for line in 0..lines {
        let link: PathBuf = folder.path().join(format!("line{line}"));
        arguments.push(format!("line{line}={}", link.display()));
        let begin = line * 977 % bytes.len();
        let terminal = Terminal::open(&link)?;
        senders.push(Sender { terminal, bytes: Arc::clone(&bytes), begin, sent: 0, dropped: 0 });
    }
    let (capture, tables) = (folder.path().join("all.pcapng"), folder.path().join("tables"));
    let rest = ["--serial", &format!("{baud} 8N1"), "--out", &capture.display().to_string()].map(str::to_owned);
    arguments.extend(rest);
    arguments.extend(["--format", "nmea-0183", "--convert"].map(str::to_owned));
    arguments.push(tables.display().to_string());
    let mut child = usus(&arguments.iter().map(String::as_str).collect::<Vec<_>>(), Stdio::null())?;
    while !senders.iter().all(|sender| sender.terminal.is_listened_to()) {
        std::thread::sleep(Duration::from_millis(5));
    }
    std::thread::sleep(Duration::from_millis(300));
    let (begun, used) = (Instant::now(), processor_seconds(child.id())?);
    let (mut last, mut on_wire) = (begun, Duration::ZERO);
    while begun.elapsed() < lasts {
        // If this thread was held up, the line was: a wire does not catch up.
        on_wire += last.elapsed().min(HELD_UP);
        last = Instant::now();
        let due = (on_wire.as_secs_f64() * f64::from(baud) / 10.0) as u64;
        senders.iter_mut().for_each(|sender| sender.send(due));
        std::thread::sleep(Duration::from_millis(2));
    }
    let seconds = begun.elapsed().as_secs_f64();
    let used = processor_seconds(child.id())? - used;
    let memory = memory_of(child.id())?;
    std::thread::sleep(Duration::from_millis(500));
    let said = stop(&mut child)?;
    let (sent, dropped) =
        senders.iter().fold((0, 0), |(sent, dropped), sender| (sent + sender.sent, dropped + sender.dropped));
    let recorded = compare(&capture, &senders)?;
    let behind = if said.contains("were left out of the conversion") { "; the conversion was behind" } else { "" };
    println!(
        "{lines} lines at {baud} baud for {seconds:.0} s: sent {:.1} MB, dropped {dropped} bytes before they were read, recorded {:.1} MB{}; \
         {:.0} % of a core, {memory:.0} MiB{behind}",
        sent as f64 / 1e6,
        recorded as f64 / 1e6,
        if recorded == sent { ", every byte as it was sent" } else { "" },
        used / seconds * 100.0,
    );
    if recorded != sent {
        return Err("bytes were lost".into());
    }
    Ok(())
}

/// Bytes of a capture, each the one that its line sent.
fn compare(capture: &Path, senders: &[Sender]) -> Result<u64, Failure> {
    let mut source = open(capture)?;
    let mut at = vec![0u64; senders.len()];
    while let Some(event) = source.next()? {
        if let SourceEvent::Chunk { line, bytes, .. } = event {
            let sender = &senders[line];
            for byte in bytes {
                let place = (sender.begin + at[line] as usize) % sender.bytes.len();
                if sender.dropped == 0 && sender.bytes[place] != *byte {
                    return Err(format!("line {line} differs at byte {}", at[line]).into());
                }
                at[line] += 1;
            }
        }
    }
    Ok(at.iter().sum())
}

/// Seconds of a processor that a process has used.
fn processor_seconds(process: u32) -> Result<f64, Failure> {
    let text = std::fs::read_to_string(format!("/proc/{process}/stat"))?;
    // Behind the name in parentheses; user and system time are in hundredths of a second.
    let fields: Vec<&str> = text.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    let ticks = |index: usize| fields.get(index).and_then(|ticks| ticks.parse::<f64>().ok()).unwrap_or(0.0);
    Ok((ticks(11) + ticks(12)) / 100.0)
}

/// MiB of memory that a process has.
fn memory_of(process: u32) -> Result<f64, Failure> {
    let text = std::fs::read_to_string(format!("/proc/{process}/status"))?;
    let line = text.lines().find_map(|line| line.strip_prefix("VmRSS:")).ok_or("no memory is told")?;
    Ok(line.split_whitespace().next().and_then(|kibibytes| kibibytes.parse::<f64>().ok()).unwrap_or(0.0) / 1024.0)
}

/// A file system in memory, where there is one.
fn memory() -> &'static Path {
    let shared = Path::new("/dev/shm");
    if shared.is_dir() { shared } else { Path::new("/tmp") }
}
