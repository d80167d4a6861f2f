//! Listening to a port in a thread of its own, and stopping it from another: `listen_to_port PORT "4800 8N1"`. Without a port, a simulated
//! wind mast on a pseudo-terminal is listened to.

#![allow(clippy::print_stdout)]

use std::ops::ControlFlow;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use usus::format::Serial;
use usus_io::{Clock, LineEvent, PortName, PortOptions, PortSource, Stop, Terminal, listen};
use usus_sim::{Device, LiveFaults, LiveLine};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let folder = tempfile::tempdir()?;
    let (path, mut simulated) = match arguments.next() {
        Some(path) => (PathBuf::from(path), None),
        None => {
            let terminal = Terminal::open(&folder.path().join("wind-mast"))?;
            (terminal.link().to_owned(), Some(terminal))
        }
    };
    let settings = arguments.next().unwrap_or_else(|| "4800 8N1".to_owned());
    let serial = Serial::parse(&settings).ok_or("settings are written as in `9600 8N1`")?;

    let mut source = PortSource::open(vec![PortName::Path(path)], PortOptions::new(serial), Clock::system())?;
    let stop = Stop::new();
    let asked = stop.clone();
    let listener = std::thread::spawn(move || {
        let mut bytes = 0;
        let result = listen(&mut source, &asked, &mut |event| {
            match event {
                LineEvent::Opened { info, .. } => {
                    println!("opened with {:?}", info.serial.map(|serial| serial.to_string()))
                }
                LineEvent::Data { time, bytes: data, .. } => {
                    bytes += data.len();
                    println!("{} {}", time.map_or(String::new(), |time| time.to_string()), data.escape_ascii());
                }
                other => println!("{other:?}"),
            }
            ControlFlow::Continue(())
        });
        result.map(|()| bytes)
    });

    // Two seconds of the device, if it is simulated.
    let mut line = LiveLine::new(Device::WindMast, 1, LiveFaults::none());
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(2) {
        let mut bytes = Vec::new();
        line.advance(begun.elapsed().as_nanos() as i64, &mut |received| bytes.push(received.byte));
        if let Some(terminal) = &mut simulated {
            terminal.deliver(&bytes);
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    stop.stop();
    let bytes = listener.join().map_err(|_| "the listener has panicked")??;
    println!("{bytes} bytes");
    if let Some(terminal) = &mut simulated {
        println!("{} bytes were sent to the device", terminal.received());
    }
    Ok(())
}
