//! Opening what a SOURCE on the command line names.

use std::path::PathBuf;

use usus::format::Serial;
use usus_io::{Address, ControlLine, PortName, PortOptions, Source, SourceOptions, open_address};
use usus_sim::Device;

use crate::arguments::{Lead, Opening};
use crate::site::SiteLine;

/// An opened source, and what it is called.
pub(crate) struct Opened {
    pub(crate) name: String,
    pub(crate) source: Box<dyn Source + Send>,
    /// The line settings that it was opened with, if it has any.
    pub(crate) serial: Option<Serial>,
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
}

/// Opens a source; `usual` are the line settings if none are asked for.
pub(crate) fn open_source(text: &str, opening: &Opening, usual: Option<Serial>) -> Result<Opened, String> {
    let serial = opening.serial.or(usual);
    if let Some(device) = text.strip_prefix("demo:") {
        let known = || Device::ALL.map(Device::name).join(", ");
        let device = Device::named(device)
            .ok_or_else(|| format!("the demo site has no device `{device}`; it has {}", known()))?;
        let source = SiteLine::new(device, serial).ok_or("the simulator does not know these line settings")?;
        let serial = serial.or_else(|| Serial::parse(device.serial()));
        return Ok(Opened { name: text.to_owned(), source: Box::new(source), serial, address: None });
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
    (options.shift, options.lateness) = (opening.shift, opening.lateness);
    let source = open_address(&address, &options).map_err(|error| match (&error, &address) {
        (usus_io::SourceError::NoSettings { port }, _) => {
            format!("{port}: a serial port needs line settings: --serial \"9600 8N1\", or find them with usus inspect {port} --search")
        }
        _ => error.to_string(),
    })?;
    let serial = serial.filter(|_| matches!(address, Address::Port(_)));
    Ok(Opened { name: name(&address), source, serial, address: Some(address) })
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
