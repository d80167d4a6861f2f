//! Why a source cannot be opened or read.

use std::io;
use std::path::PathBuf;

use super::capture;
use crate::port::PortError;

/// Why a source cannot be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SourceError {
    /// It cannot be opened.
    #[error("cannot open {}: {error}", path.display())]
    Open {
        /// Its path.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
    /// It cannot be read any further.
    #[error("cannot read on at byte {at}: {error}")]
    Read {
        /// Offset in the file.
        at: u64,
        /// What the system says.
        error: io::Error,
    },
    /// A port cannot be opened.
    #[error(transparent)]
    Port(#[from] PortError),
    /// A port needs line settings.
    #[error("{port}: a serial port needs line settings, such as `9600 8N1`")]
    NoSettings {
        /// The port.
        port: String,
    },
    /// Nobody answers a call.
    #[error("cannot reach {peer}: {error}")]
    Connect {
        /// Whom.
        peer: String,
        /// What the system says.
        error: io::Error,
    },
    /// A socket cannot be listened at.
    #[error("cannot listen at {at}: {error}")]
    Listen {
        /// Where.
        at: String,
        /// What the system says.
        error: io::Error,
    },
    /// A connection has broken.
    #[error("the connection to {peer} broke after {at} bytes: {error}")]
    Lost {
        /// With whom.
        peer: String,
        /// Bytes that came before.
        at: u64,
        /// What the system says.
        error: io::Error,
    },
    /// A text is not laid out as declared.
    #[error("line {line}, column {column}: {what}: `{found}`")]
    Dump {
        /// The line, from 1.
        line: u64,
        /// The column, from 1, in bytes.
        column: usize,
        /// What is wrong.
        what: &'static str,
        /// The word there.
        found: String,
    },
    /// It is a capture, but broken.
    #[error("not a sound capture at byte {at}: {what}")]
    Capture {
        /// Offset in the file.
        at: u64,
        /// What is wrong.
        what: &'static str,
    },
    /// One of several sources cannot be read.
    #[error("{name}{}{error}", if name.is_empty() { "" } else { ": " })]
    OfLine {
        /// What it is called.
        name: String,
        /// Why.
        error: Box<SourceError>,
    },
    /// What comes cannot be kept on its way.
    #[error(transparent)]
    NotKept(Box<dyn std::error::Error + Send + Sync>),
    /// It is a capture of something that is no serial line.
    #[error("interface {interface} has link type {found}; a serial line is captured with {}", capture::LINK_TYPE)]
    LinkType {
        /// Number of the interface.
        interface: usize,
        /// Its link type.
        found: u16,
    },
}
