//! Giving bytes to other programs: at a pseudo-terminal, or to all who call a socket. What they send is counted, and goes nowhere.

mod callers;
mod terminal;

use std::fmt;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;

pub use callers::Callers;
pub use terminal::Terminal;

/// A program that does not take what it is given loses what is beyond this, in bytes.
const BACKLOG: usize = 1 << 20;

/// Where bytes are given to other programs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ServePlace {
    /// At a pseudo-terminal, to which a link may lead.
    Terminal(Option<PathBuf>),
    /// To all who call there.
    Callers(SocketAddr),
}

impl ServePlace {
    /// The place of that name: `pty`, `pty:LINK`, `tcp://:port` or `tcp://address:port`; nothing for what is none of these.
    ///
    /// # Errors
    ///
    /// The address, if it is none.
    pub fn parse(text: &str) -> Option<Result<ServePlace, String>> {
        if text == "pty" {
            return Some(Ok(ServePlace::Terminal(None)));
        }
        if let Some(link) = text.strip_prefix("pty:") {
            return Some(Ok(ServePlace::Terminal(Some(PathBuf::from(link)))));
        }
        let address = text.strip_prefix("tcp://")?;
        let address = if address.starts_with(':') { format!("0.0.0.0{address}") } else { address.to_owned() };
        Some(address.parse().map(ServePlace::Callers).map_err(|_| address))
    }
}

/// Why nothing can be served at a place.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServeError {
    /// No pseudo-terminal can be made.
    #[error("cannot make a pseudo-terminal{}: {error}", link.as_ref().map_or(String::new(), |link| format!(" at {}", link.display())))]
    Terminal {
        /// The link to it.
        link: Option<PathBuf>,
        /// What the system says.
        error: io::Error,
    },
    /// The address cannot be had.
    #[error("cannot listen at {address}: {error}")]
    Address {
        /// It.
        address: SocketAddr,
        /// What the system says.
        error: io::Error,
    },
}

/// Gives bytes to other programs, and never waits for them.
pub struct Server {
    at: At,
    /// What the program at the terminal has not taken yet.
    waiting: Vec<u8>,
    received: u64,
    dropped: u64,
}

enum At {
    Terminal(Terminal),
    Callers(Callers),
}

impl Server {
    /// Begins to serve.
    ///
    /// # Errors
    ///
    /// If the place cannot be had.
    pub fn open(place: &ServePlace) -> Result<Server, ServeError> {
        let at = match place {
            ServePlace::Terminal(link) => {
                let cannot = |error| ServeError::Terminal { link: link.clone(), error };
                let mut terminal = Terminal::nameless().map_err(cannot)?;
                // A program that sets nothing is to get the bytes as they are, and nothing of it is to come back.
                terminal.set_raw().map_err(cannot)?;
                if let Some(link) = link {
                    terminal.show_as(link).map_err(cannot)?;
                }
                At::Terminal(terminal)
            }
            ServePlace::Callers(address) => {
                let cannot = |error| ServeError::Address { address: *address, error };
                At::Callers(Callers::at(*address).map_err(cannot)?)
            }
        };
        Ok(Server { at, waiting: Vec::new(), received: 0, dropped: 0 })
    }

    /// Gives bytes to whoever is there. What is not taken at once is kept for them, up to a mebibyte; a caller that is further behind is
    /// given up, a terminal loses what comes then. To be called now and then, if only with no bytes.
    pub fn give(&mut self, bytes: &[u8]) {
        match &mut self.at {
            At::Callers(callers) => self.received += callers.serve(bytes),
            At::Terminal(terminal) => {
                if !terminal.is_listened_to() {
                    self.waiting.clear();
                    return terminal.forget();
                }
                let room = BACKLOG.saturating_sub(self.waiting.len()).min(bytes.len());
                self.waiting.extend_from_slice(&bytes[..room]);
                self.dropped += (bytes.len() - room) as u64;
                let taken = terminal.offer(&self.waiting);
                self.waiting.drain(..taken);
                self.received = terminal.received();
            }
        }
    }

    /// Whether anybody is there.
    pub fn is_listened_to(&mut self) -> bool {
        self.give(&[]);
        match &self.at {
            At::Terminal(terminal) => terminal.is_listened_to(),
            At::Callers(callers) => callers.are_there(),
        }
    }

    /// Bytes that the slowest of those who are there has not taken yet.
    pub fn behind(&self) -> usize {
        match &self.at {
            At::Terminal(_) => self.waiting.len(),
            At::Callers(callers) => callers.behind(),
        }
    }

    /// Whether it is known that all was taken. Of a terminal, the system does not tell.
    pub(crate) fn is_taken(&self) -> bool {
        matches!(&self.at, At::Callers(callers) if callers.behind() == 0)
    }

    /// Bytes that came from them, and went nowhere.
    pub fn received(&self) -> u64 {
        self.received
    }

    /// Bytes that were not given to somebody who was there but did not take them.
    pub fn dropped(&self) -> u64 {
        match &self.at {
            At::Terminal(_) => self.dropped,
            At::Callers(callers) => callers.dropped(),
        }
    }
}

/// Where it is, as others name it.
impl fmt::Display for Server {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.at {
            At::Terminal(terminal) => write!(f, "{}", terminal.link().display()),
            At::Callers(callers) => write!(f, "tcp://{}", callers.address()),
        }
    }
}
