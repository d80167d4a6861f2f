//! Two wires of a link recorded into one capture, served and decoded at the same time: `record_lines REQUEST ANSWER "19200 8E1" FILE`. Without
//! ports, two simulated wires on pseudo-terminals are recorded for a second.

#![allow(clippy::print_stdout)]

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use usus::format::Serial;
use usus::{Decoder, Format, Record, Span, Time};
use usus_io::{
    Between, Clock, Member, Original, PortName, PortOptions, PortSource, RecordedLine, RecordedSource, Recorder,
    ServePlace, Server, SourceEvent, Stop, Terminal, Together, WhenFull, copy_captures, extract, open, pump,
    read_ahead,
};
use usus_sim::{Device, LiveFaults, LiveLine};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let folder = tempfile::tempdir()?;
    let stop = Stop::new();
    let (ports, serial, file) = match &arguments[..] {
        [request, answer, serial, file] => ([request, answer].map(PathBuf::from), serial.as_str(), PathBuf::from(file)),
        _ => (simulate(folder.path(), stop.clone())?, "19200 8E1", folder.path().join("drive.pcapng")),
    };
    let serial = Serial::parse(serial).ok_or("no such settings")?;

    // One clock for all, so that their times can be compared. The answers' adapter hands on what came 16 ms late.
    let clock = Clock::system();
    let mut members = Vec::new();
    let mut lines = Vec::new();
    for (name, port, lateness) in [("request", &ports[0], 0), ("answer", &ports[1], 16_000_000)] {
        let source = PortSource::open(vec![PortName::Path(port.clone())], PortOptions::new(serial), clock.clone())?;
        let mut line = RecordedLine::new(name);
        (line.serial, line.lateness) = (Some(serial), Span::from_nanoseconds(lateness));
        members.push(Member { name: name.to_owned(), lateness: line.lateness, ..Member::new(Box::new(source)) });
        lines.push(line);
    }
    let together = Together::listen(members, clock.clone(), &stop);

    // Everything goes into the capture first; then to who listens, and into the decoder.
    let mut kept = RecordedSource::new(Box::new(together), Recorder::create(&file, "drive", &lines)?, clock);
    kept.note(0, "the first try");
    let place = ServePlace::parse("tcp://127.0.0.1:0").ok_or("no place")??;
    let server = Server::open(&place)?;
    println!("requests are served at {server}");
    kept.serve(0, server);
    // A decoder that is too slow does not hold the recording up: what it misses is booked as a loss, and stays in the capture.
    let mut source = read_ahead(Box::new(kept), 8 << 20, WhenFull::Lose);

    let plan = Format::parse(POLLS)?.compile()?;
    let mut decoder = Decoder::new(&plan);
    let mut polls = 0;
    let mut sink = |_: &Record<'_>| polls += 1;
    pump(&mut source, &mut decoder, &mut sink, &mut |_| true)?;
    println!("{polls} requests while it was recorded");

    // Later: the raw bytes of one line, and a part of the capture as a capture of its own.
    let mut answers = Vec::new();
    extract(&mut *open(&file)?, Some("answer"), &mut answers)?;
    let half = clock_of(&file)?.after(Span::from_nanoseconds(500_000_000));
    let source = Box::new(Between::new(open(&file)?, None, Some(half)));
    let copied = copy_captures(vec![Original { name: String::new(), source }], &file.with_extension("half.pcapng"))?;
    println!("{} bytes of answers; {} bytes on both wires in the first half of a second", answers.len(), copied.bytes);
    Ok(())
}

/// When a capture begins.
fn clock_of(file: &Path) -> Result<Time, Box<dyn std::error::Error>> {
    let mut source = open(file)?;
    while let Some(event) = source.next()? {
        if let SourceEvent::Chunk { time: Some(time), .. } = event {
            return Ok(time);
        }
    }
    Err("nothing was recorded".into())
}

/// What the controller asks its first unit with, whichever wire it is on.
const POLLS: &str = r#"
format = "polls"
[[frame]]
cut = "packet"
start = "01"
length = 8
checksum = { algorithm = "CRC-16/MODBUS", type = "u16le" }
[record.poll]
fields = [
  { name = "function", byte = 1, type = "u8" },
  { name = "register", byte = 2, type = "u16be" },
  { name = "count", byte = 4, type = "u16be" },
]
"#;

/// The two wires of the demo's drive cabinet, for a second.
fn simulate(folder: &Path, stop: Stop) -> std::io::Result<[PathBuf; 2]> {
    let wires = [("request", Device::DriveRequests), ("answer", Device::DriveAnswers)];
    let mut playing = Vec::new();
    for (name, device) in wires {
        let terminal = Terminal::open(&folder.join(name))?;
        playing.push((terminal, LiveLine::new(device, 1, LiveFaults::none())));
    }
    std::thread::spawn(move || {
        while !playing.iter().all(|(terminal, _)| terminal.is_listened_to()) {
            std::thread::sleep(Duration::from_millis(1));
        }
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(1) {
            for (terminal, line) in &mut playing {
                let mut bytes = Vec::new();
                line.advance(begun.elapsed().as_nanos() as i64, &mut |received| bytes.push(received.byte));
                terminal.deliver(&bytes);
            }
            std::thread::sleep(Duration::from_millis(4));
        }
        stop.stop();
    });
    Ok(wires.map(|(name, _)| folder.join(name)))
}
