//! Opening what a SOURCE on the command line names.

use std::path::{Path, PathBuf};

use usus::format::Serial;
use usus::{Span, Time};
use usus_io::{
    Address, Between, Clock, ControlLine, Member, PortName, PortOptions, Shifted, Source, SourceOptions, open_address,
};
use usus_sim::Device;

use crate::arguments::{ForLine, Lead, Opening};
use crate::site::SiteLine;

/// An opened source, and what it is called.
pub(crate) struct Opened {
    /// What it is called in tables.
    pub(crate) name: String,
    /// The name that its line was given: NAME=SOURCE.
    pub(crate) line: Option<String>,
    /// It, with times as they are.
    source: Box<dyn Source + Send>,
    /// The line settings that it was opened with, if it has any.
    pub(crate) serial: Option<Serial>,
    pub(crate) lateness: Span,
    shift: Span,
    begin: Option<Time>,
    end: Option<Time>,
    address: Option<Address>,
}

impl Opened {
    /// The path of its port, if it is one that is named by its path.
    pub(crate) fn port(&self) -> Option<PathBuf> {
        match &self.address {
            Some(Address::Port(names)) => names.iter().find_map(|name| match name {
                PortName::Path(path) if path.exists() => Some(path.clone()),
                _ => None,
            }),
            _ => None,
        }
    }

    /// The file that it is read from, if it is one.
    pub(crate) fn file(&self) -> Option<PathBuf> {
        match &self.address {
            Some(Address::StandardInput) => Some(PathBuf::from("/proc/self/fd/0")),
            Some(Address::File(path)) => Some(path.clone()),
            _ => None,
        }
    }

    /// What makes its stream out among others: its own id; else the file that it is read from; else when it was begun.
    pub(crate) fn stream(&self, now: Time) -> String {
        let file = || std::fs::canonicalize(self.file()?).ok().filter(|path| path.is_file());
        let own = self.source.stream().map(str::to_owned);
        own.or_else(|| Some(file()?.to_string_lossy().into_owned())).unwrap_or_else(|| format!("{}@{now}", self.name))
    }

    /// It, as it will be read.
    pub(crate) fn peek(&self) -> &dyn Source {
        &*self.source
    }

    /// Whether it is a capture that is read from a file.
    pub(crate) fn is_capture(&self) -> bool {
        self.source.has_lines() && !self.source.is_live()
    }

    /// It, with its times put right, and cut to the time that was asked for.
    pub(crate) fn into_source(self) -> Box<dyn Source + Send> {
        let shift = Span::from_nanoseconds(self.shift.nanoseconds() - self.lateness.nanoseconds());
        let mut source = self.source;
        if shift != Span::default() {
            source = Box::new(Shifted::new(source, shift));
        }
        cut(source, self.begin, self.end)
    }

    /// It, to be listened to with others under that name.
    pub(crate) fn into_member(self, name: String) -> Member {
        Member { name, source: cut(self.source, self.begin, self.end), lateness: self.lateness, shift: self.shift }
    }
}

fn cut(source: Box<dyn Source + Send>, begin: Option<Time>, end: Option<Time>) -> Box<dyn Source + Send> {
    if begin.is_some() || end.is_some() { Box::new(Between::new(source, begin, end)) } else { source }
}

/// `NAME=SOURCE`; a name is short and plain, so that paths with `=` in them are not taken for one.
pub(crate) fn named(text: &str) -> (Option<&str>, &str) {
    match text.split_once('=') {
        Some((name, source)) if is_plain(name) && !source.is_empty() && !Path::new(text).exists() => {
            (Some(name), source)
        }
        _ => (None, text),
    }
}

fn is_plain(name: &str) -> bool {
    let plain = |character: char| character.is_ascii_lowercase() || character.is_ascii_digit() || character == '_';
    name.starts_with(|first: char| first.is_ascii_lowercase()) && name.len() < 64 && name.chars().all(plain)
}

/// Opens all sources; `usual` are the line settings if none are asked for. Whatever is said of a line is said of one that there is.
pub(crate) fn open_sources(
    texts: &[String],
    opening: &Opening,
    usual: Option<Serial>,
    clock: &Clock,
) -> Result<Vec<Opened>, String> {
    let names: Vec<&str> = texts.iter().filter_map(|text| named(text).0).collect();
    let said = opening.serial.iter().map(|said| &said.line);
    let said = said.chain(opening.shift.iter().chain(&opening.lateness).map(|said| &said.line));
    if let Some(unknown) = said.flatten().find(|line| !names.contains(&line.as_str())) {
        return Err(format!("there is no line {unknown}; a line is given a name as in {unknown}=/dev/ttyUSB0"));
    }
    texts.iter().map(|text| open(text, opening, usual, clock)).collect()
}

/// Opens a single source.
pub(crate) fn open_source(text: &str, opening: &Opening, usual: Option<Serial>) -> Result<Opened, String> {
    open_sources(&[text.to_owned()], opening, usual, &Clock::system())?.pop().ok_or_else(String::new)
}

/// What is said of a line: by its name, or else of all.
fn for_line<T: Copy>(said: &[ForLine<T>], line: Option<&str>) -> Option<T> {
    let of_it = said.iter().rfind(|said| said.line.is_some() && said.line.as_deref() == line);
    of_it.or_else(|| said.iter().rfind(|said| said.line.is_none())).map(|said| said.value)
}

fn open(text: &str, opening: &Opening, usual: Option<Serial>, clock: &Clock) -> Result<Opened, String> {
    let (line, text) = named(text);
    let serial = for_line(&opening.serial, line).or(usual);
    let lateness = for_line(&opening.lateness, line).unwrap_or_default();
    let shift = for_line(&opening.shift, line).unwrap_or_default();
    let (begin, end) = (opening.begin, opening.end);
    let line = line.map(str::to_owned);
    if let Some(device) = text.strip_prefix("demo:") {
        let known = || Device::ALL.map(Device::name).join(", ");
        let device = Device::named(device)
            .ok_or_else(|| format!("the demo site has no device `{device}`; it has {}", known()))?;
        let source =
            SiteLine::new(device, serial, clock.clone()).ok_or("the simulator does not know these line settings")?;
        let serial = serial.or_else(|| Serial::parse(device.serial()));
        let (name, source) = (text.to_owned(), Box::new(source));
        return Ok(Opened { name, line, source, serial, lateness, shift, begin, end, address: None });
    }
    let address = Address::parse(text).map_err(|error| error.to_string())?;
    let mut options = SourceOptions::default();
    options.port = serial.map(|serial| {
        let mut port = PortOptions::new(serial);
        (port.dtr, port.rts) = (control(opening.dtr), control(opening.rts));
        port
    });
    options.telnet = opening.telnet;
    options.keep_alive = opening.keep_alive;
    options.dump = opening.dump.clone();
    options.clock = clock.clone();
    let source = open_address(&address, &options).map_err(|error| match (&error, &address) {
        (usus_io::SourceError::NoSettings { port }, _) => {
            format!("{port}: a serial port needs line settings: --serial \"9600 8N1\", or find them with usus inspect {port} --search")
        }
        (usus_io::SourceError::Port(_), _) => format!("{error}; usus ports lists the ports there are, and who may read them"),
        (usus_io::SourceError::Open { error: why, .. }, _)
            if why.kind() == std::io::ErrorKind::NotFound && looks_like_a_port(text) =>
        {
            format!("{error}; usus ports lists the ports there are")
        }
        _ => error.to_string(),
    })?;
    if (begin.is_some() || end.is_some()) && !source.has_times() {
        return Err(format!("{text} holds no times, by which it could be cut"));
    }
    let serial = serial.filter(|_| matches!(address, Address::Port(_)));
    let (name, address) = (name(&address), Some(address));
    Ok(Opened { name, line, source, serial, lateness, shift, begin, end, address })
}

/// Whether whoever wrote it meant a port.
fn looks_like_a_port(text: &str) -> bool {
    text.starts_with("/dev/") || text.to_lowercase().starts_with("tty") || text.to_uppercase().starts_with("COM")
}

fn control(lead: Lead) -> ControlLine {
    match lead {
        Lead::Leave => ControlLine::Leave,
        Lead::Raise => ControlLine::Raise,
        Lead::Drop => ControlLine::Drop,
    }
}

/// What a source is called in tables: of a file, its name without its folder.
fn name(address: &Address) -> String {
    match address {
        Address::File(path) => path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned(),
        other => other.to_string(),
    }
}
