//! Naming a source: a port, a file, standard input, a socket.

use std::fmt;
use std::os::unix::fs::FileTypeExt;
use std::path::{Path, PathBuf};

/// Where bytes are to come from.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Address {
    /// Standard input: `-`.
    StandardInput,
    /// A file: raw bytes, a capture, or either compressed with gzip.
    File(PathBuf),
    /// A serial port, under the first of several names that leads to one.
    Port(Vec<PortName>),
    /// `tcp://host:port`: calls there.
    Call(String),
    /// `tcp://:port`: waits for a caller.
    Answer(u16),
    /// `udp://:port`, and `udp://group:port` of a multicast group.
    Datagrams(String, u16),
}

/// A name of a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PortName {
    /// Its path: today's, or a lasting one.
    Path(PathBuf),
    /// The serial number of its adapter; `NUMBER/1` for the second port of one that has several.
    Adapter(String),
}

/// Why a text names no source.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AddressError {
    /// A socket without a port.
    #[error("`{text}` has no port: a socket is named as {form}")]
    NoPort {
        /// The text.
        text: String,
        /// What it should look like.
        form: &'static str,
    },
    /// A kind of socket that is not known.
    #[error("`{text}` begins with an unknown kind of source; known are tcp:// and udp://")]
    Scheme {
        /// The text.
        text: String,
    },
    /// An adapter without a serial number.
    #[error("`adapter:` needs the adapter's serial number behind it (usus ports shows it)")]
    NoSerial,
}

impl Address {
    /// Reads a source's name.
    ///
    /// # Errors
    ///
    /// If it begins like a socket or an adapter, but is none.
    pub fn parse(text: &str) -> Result<Address, AddressError> {
        if text == "-" {
            return Ok(Address::StandardInput);
        }
        if let Some((scheme, rest)) = text.split_once("://") {
            return socket(text, scheme, rest);
        }
        let names: Vec<&str> = text.split(',').collect();
        let port_like = |name: &&str| name.starts_with("adapter:") || is_port(Path::new(name));
        if names.iter().any(port_like) && names.iter().all(|name| port_like(name) || name.starts_with('/')) {
            return names.into_iter().map(port_name).collect::<Result<_, _>>().map(Address::Port);
        }
        Ok(Address::File(PathBuf::from(text)))
    }

    /// Whether it goes on as long as somebody sends.
    pub fn is_live(&self) -> bool {
        !matches!(self, Address::StandardInput | Address::File(_))
    }
}

fn socket(text: &str, scheme: &str, rest: &str) -> Result<Address, AddressError> {
    let form = match scheme {
        "tcp" => "tcp://host:port or tcp://:port",
        "udp" => "udp://:port or udp://group:port",
        _ => return Err(AddressError::Scheme { text: text.to_owned() }),
    };
    let no_port = || AddressError::NoPort { text: text.to_owned(), form };
    let (host, port) = rest.rsplit_once(':').ok_or_else(no_port)?;
    let port: u16 = port.parse().map_err(|_| no_port())?;
    Ok(match (scheme, host) {
        ("udp", host) => Address::Datagrams(host.trim_matches(['[', ']']).to_owned(), port),
        (_, "") => Address::Answer(port),
        _ => Address::Call(rest.to_owned()),
    })
}

fn port_name(name: &str) -> Result<PortName, AddressError> {
    match name.strip_prefix("adapter:") {
        Some("") => Err(AddressError::NoSerial),
        Some(serial) => Ok(PortName::Adapter(serial.to_owned())),
        None => Ok(PortName::Path(PathBuf::from(name))),
    }
}

/// Whether a path leads, or would lead if the adapter were plugged in, to a terminal.
fn is_port(path: &Path) -> bool {
    let terminal = |name: &str| name.starts_with("tty") || name.starts_with("rfcomm");
    if let Ok(about) = path.metadata() {
        // Other devices (`/dev/null`) are read as files are.
        let target = path.canonicalize().unwrap_or_else(|_| path.to_owned());
        let name = target.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        return about.file_type().is_char_device() && (terminal(&name) || target.starts_with("/dev/pts"));
    }
    let in_devices = path.parent() == Some(Path::new("/dev"));
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    (in_devices && terminal(&name)) || path.starts_with("/dev/serial")
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Address::StandardInput => f.write_str("standard input"),
            Address::File(path) => write!(f, "{}", path.display()),
            Address::Port(names) => {
                for (index, name) in names.iter().enumerate() {
                    write!(f, "{}{name}", if index > 0 { "," } else { "" })?;
                }
                Ok(())
            }
            Address::Call(to) => write!(f, "tcp://{to}"),
            Address::Answer(port) => write!(f, "tcp://:{port}"),
            Address::Datagrams(group, port) => write!(f, "udp://{group}:{port}"),
        }
    }
}

impl fmt::Display for PortName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            PortName::Path(path) => write!(f, "{}", path.display()),
            PortName::Adapter(serial) => write!(f, "adapter:{serial}"),
        }
    }
}
