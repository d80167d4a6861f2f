//! A pseudo-terminal with a lasting name, on which bytes are given to whatever program opens it, as if a device were there.

use std::fs;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{Mode, OFlags};
use rustix::pty::OpenptFlags;
use rustix::termios::{OptionalActions, QueueSelector, tcflush, tcgetattr, tcsetattr};

/// The device's end of a pseudo-terminal. A link with the lasting name leads to the listener's end.
pub struct Terminal {
    device: OwnedFd,
    listener: PathBuf,
    link: Option<PathBuf>,
    received: u64,
    dropped: u64,
}

impl Terminal {
    /// Makes a pseudo-terminal, and the link to it. A link that is there already is replaced, anything else is not.
    ///
    /// # Errors
    ///
    /// What the system says.
    pub fn open(link: &Path) -> io::Result<Terminal> {
        let mut terminal = Terminal::nameless()?;
        terminal.show_as(link)?;
        Ok(terminal)
    }

    /// Makes a pseudo-terminal that has no lasting name yet.
    ///
    /// # Errors
    ///
    /// What the system says.
    pub fn nameless() -> io::Result<Terminal> {
        let device = rustix::pty::openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
        rustix::pty::grantpt(&device)?;
        rustix::pty::unlockpt(&device)?;
        let name = rustix::pty::ptsname(&device, Vec::new())?;
        let listener = PathBuf::from(String::from_utf8_lossy(name.as_bytes()).into_owned());
        // Only once it was opened and closed does the system tell whether anybody listens.
        drop(rustix::fs::open(&listener, OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC, Mode::empty())?);
        rustix::io::ioctl_fionbio(&device, true)?;
        Ok(Terminal { device, listener, link: None, received: 0, dropped: 0 })
    }

    /// Sets the listener's end so that bytes pass unchanged and nothing is echoed, until a program sets it otherwise.
    ///
    /// # Errors
    ///
    /// What the system says.
    pub fn set_raw(&mut self) -> io::Result<()> {
        let mut settings = tcgetattr(&self.device)?;
        settings.make_raw();
        Ok(tcsetattr(&self.device, OptionalActions::Now, &settings)?)
    }

    /// Gives it a lasting name.
    ///
    /// # Errors
    ///
    /// What the system says.
    pub fn show_as(&mut self, link: &Path) -> io::Result<()> {
        if link.symlink_metadata().is_ok_and(|about| about.is_symlink()) {
            fs::remove_file(link)?;
        }
        std::os::unix::fs::symlink(&self.listener, link)?;
        self.link = Some(link.to_owned());
        Ok(())
    }

    /// The name under which the system knows the listener's end today.
    pub fn listener(&self) -> &Path {
        &self.listener
    }

    /// The lasting name; without one, today's.
    pub fn link(&self) -> &Path {
        self.link.as_deref().unwrap_or(&self.listener)
    }

    /// Whether any program has it open.
    pub fn is_listened_to(&self) -> bool {
        let mut wait = [PollFd::new(&self.device, PollFlags::IN)];
        let now = Timespec { tv_sec: 0, tv_nsec: 0 };
        poll(&mut wait, Some(&now)).is_ok() && !wait[0].revents().contains(PollFlags::HUP)
    }

    /// The speed that the listener has set, in bits per second. The system keeps only eight bits without parity on these.
    pub fn speed(&self) -> Option<u32> {
        tcgetattr(&self.device).ok().map(|settings| settings.input_speed())
    }

    /// Delivers bytes to the listener. What it does not read in time is dropped, as on a real line.
    pub fn deliver(&mut self, bytes: &[u8]) {
        self.dropped += (bytes.len() - self.offer(bytes)) as u64;
    }

    /// Offers bytes to the listener. Returns how many of them it has room for.
    pub fn offer(&mut self, bytes: &[u8]) -> usize {
        let mut rest = bytes;
        while !rest.is_empty() {
            match rustix::io::write(&self.device, rest) {
                Ok(written) => rest = &rest[written..],
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => break,
            }
        }
        bytes.len() - rest.len()
    }

    /// Reads what came from the listener, which should be nothing, and returns how many bytes that were in all.
    pub fn received(&mut self) -> u64 {
        let mut buffer = [0; 256];
        while let Ok(got @ 1..) = rustix::io::read(&self.device, &mut buffer) {
            self.received += got as u64;
        }
        self.received
    }

    /// Bytes that were dropped because the listener did not read them.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Throws away what nobody has read: an unopened port keeps nothing.
    pub fn forget(&mut self) {
        let _ = tcflush(&self.device, QueueSelector::OFlush);
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        // Another terminal may have taken the name over.
        if let Some(link) = &self.link
            && fs::read_link(link).is_ok_and(|leads_to| leads_to == self.listener)
        {
            let _ = fs::remove_file(link);
        }
    }
}
