//! Serial ports: which there are, and reading one without disturbing its line.
//!
//! A port is opened for reading only, so that nothing can be written. A terminal in its usual mode echoes what it receives whatever it was
//! opened for, so raw mode and the line settings are the first thing that is done to it once it is locked; between the two calls a few microseconds pass in
//! which the system would still echo. Settings stay as they are when the port is closed, so that the echo does not come back.
//!
//! Only Linux was tried, and only with pseudo-terminals: no real adapter was seen. What the system tells about adapters and faults is
//! behind seams ([`System`], [`Counters`]) and tested with made-up ones.

mod driver;
mod list;
mod marks;
mod settings;
mod system;

use std::fs::{self, File};
use std::io::{self, Read};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, OFlags};
use rustix::termios::{OptionalActions, QueueSelector, tcflush, tcgetattr, tcsetattr};
use usus::format::Serial;

pub use driver::Counters;
pub(crate) use list::find_adapter;
pub use list::{Adapter, Holder, Permission, PortInfo, Use, list_ports};
pub(crate) use marks::{Marked, Unmark};
pub use settings::Refused;
pub(crate) use system::holders_of;
pub use system::{CopiedSystem, LinuxSystem, Owner, Process, System};

/// What is to be done with a control line of the port.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum ControlLine {
    /// Nothing. Some drivers raise it when the port is opened; that cannot be prevented from here.
    #[default]
    Leave,
    /// Raise it.
    Raise,
    /// Drop it.
    Drop,
}

/// How a port is to be opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct PortOptions {
    /// Line settings.
    pub serial: Serial,
    /// Data terminal ready.
    pub dtr: ControlLine,
    /// Request to send.
    pub rts: ControlLine,
}

impl PortOptions {
    /// These line settings; the control lines are left alone.
    pub fn new(serial: Serial) -> PortOptions {
        PortOptions { serial, dtr: ControlLine::Leave, rts: ControlLine::Leave }
    }
}

/// Why a port cannot be opened or set.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PortError {
    /// It is not there.
    #[error("there is no port {}", path.display())]
    Absent {
        /// Its path.
        path: PathBuf,
    },
    /// No port has that adapter's serial number.
    #[error("no adapter with the serial number {serial} is plugged in")]
    NoAdapter {
        /// The serial number.
        serial: String,
    },
    /// This user may not read it.
    #[error("you may not read {}{}", path.display(), may_read(group.as_deref()))]
    Permission {
        /// Its path.
        path: PathBuf,
        /// The group whose members may.
        group: Option<String>,
    },
    /// Another process has it for itself.
    #[error("{} is held by {}", path.display(), holder.as_ref().map_or_else(|| "another process".to_owned(), Holder::to_string))]
    Held {
        /// Its path.
        path: PathBuf,
        /// Which, if that can be seen.
        holder: Option<Holder>,
    },
    /// It is no serial port.
    #[error("{} is no serial port", path.display())]
    NoTerminal {
        /// Its path.
        path: PathBuf,
    },
    /// Its driver refuses the line settings.
    #[error("{}: {refused}", path.display())]
    Refused {
        /// Its path.
        path: PathBuf,
        /// What.
        refused: Refused,
    },
    /// Anything else.
    #[error("cannot open the port {}: {error}", path.display())]
    Other {
        /// Its path.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
}

fn may_read(group: Option<&str>) -> String {
    match group {
        Some(group) => format!("; members of the group {group} may (usermod -a -G {group} YOU, then log in anew)"),
        None => "; only its owner and the superuser may".to_owned(),
    }
}

/// An open port.
#[derive(Debug)]
pub struct Port {
    file: File,
    path: PathBuf,
    serial: Serial,
}

impl Port {
    /// Opens a port for reading, for this process alone: locked, then raw and set, before anything is read. A port that another
    /// process has is left as it is.
    ///
    /// # Errors
    ///
    /// Why it cannot be opened; who holds it or which group may read it, if that can be seen.
    pub fn open(path: &Path, options: &PortOptions) -> Result<Port, PortError> {
        // Not every program locks. Pseudo-terminals are often kept open by those who made them.
        let real = fs::canonicalize(path).is_ok_and(|device| !device.starts_with("/dev/pts"));
        if let Some(holder) = real.then(|| list::holder(&LinuxSystem::new(), path)).flatten() {
            return Err(PortError::Held { path: path.to_owned(), holder: Some(holder) });
        }
        let flags = OFlags::NOCTTY | OFlags::NONBLOCK;
        let opened = File::options().read(true).custom_flags(flags.bits() as i32).open(path);
        let file = opened.map_err(|error| cannot_open(path, error))?;
        let other = |error: rustix::io::Errno| PortError::Other { path: path.to_owned(), error: error.into() };
        if !rustix::termios::isatty(&file) {
            return Err(PortError::NoTerminal { path: path.to_owned() });
        }
        // Two readers would take bytes from each other, and settings are the port's, not the reader's: whoever has it already must not
        // notice this. Locks are the custom among programs; the other call keeps other users out.
        if rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
            return Err(PortError::Held { path: path.to_owned(), holder: list::holder(&LinuxSystem::new(), path) });
        }
        let mut port = Port { file, path: path.to_owned(), serial: options.serial };
        port.set(options.serial)?;
        rustix::termios::ioctl_tiocexcl(&port.file).map_err(other)?;
        for (line, wanted) in [(driver::DTR, options.dtr), (driver::RTS, options.rts)] {
            match wanted {
                ControlLine::Leave => {}
                ControlLine::Raise => driver::raise(port.file.as_fd(), line).map_err(other)?,
                ControlLine::Drop => driver::lower(port.file.as_fd(), line).map_err(other)?,
            }
        }
        Ok(port)
    }

    /// Sets the line settings anew. What was received under others and not yet read is thrown away.
    ///
    /// # Errors
    ///
    /// If the driver refuses them.
    pub fn set(&mut self, serial: Serial) -> Result<(), PortError> {
        let other = |error: rustix::io::Errno| PortError::Other { path: self.path.clone(), error: error.into() };
        let refuse = |refused| PortError::Refused { path: self.path.clone(), refused };
        let mut wanted = tcgetattr(&self.file).map_err(other)?;
        settings::prepare(&mut wanted, serial).map_err(refuse)?;
        match tcsetattr(&self.file, OptionalActions::Now, &wanted) {
            Ok(()) => {}
            Err(rustix::io::Errno::INVAL) => return Err(refuse(Refused::All { asked: serial })),
            Err(error) => return Err(other(error)),
        }
        // The call succeeds if any of the settings could be made.
        let made = tcgetattr(&self.file).map_err(other)?;
        let pseudo = system::is_pseudo_terminal(&self.file);
        settings::compare(&made, serial, pseudo).map_err(refuse)?;
        tcflush(&self.file, QueueSelector::IFlush).map_err(other)?;
        self.serial = serial;
        Ok(())
    }

    /// Its settings.
    pub fn serial(&self) -> Serial {
        self.serial
    }

    /// Its path, as it was opened.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The driver's counts of faults since it was loaded, where it has them.
    pub fn counters(&self) -> Option<Counters> {
        driver::counters(self.file.as_fd())
    }
}

impl AsFd for Port {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.file.as_fd()
    }
}

impl Read for Port {
    /// Reads what came, with faults marked as the system marks them: see `marks.rs`.
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.file.read(buffer)
    }
}

fn cannot_open(path: &Path, error: io::Error) -> PortError {
    let path = path.to_owned();
    match error.kind() {
        io::ErrorKind::NotFound => PortError::Absent { path },
        io::ErrorKind::PermissionDenied => {
            let group = list::group_that_may_read(&LinuxSystem::new(), &path);
            PortError::Permission { path, group }
        }
        io::ErrorKind::ResourceBusy => {
            let holder = list::holder(&LinuxSystem::new(), &path);
            PortError::Held { path, holder }
        }
        // No such device: the name is there, the adapter is not.
        _ if error.raw_os_error() == Some(rustix::io::Errno::NXIO.raw_os_error()) => PortError::Absent { path },
        _ => PortError::Other { path, error },
    }
}
