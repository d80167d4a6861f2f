//! A terminal in which a person seems to sit.

use std::fs::File;
use std::io::{Read, Write};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{LocalModes, Winsize, tcgetattr, tcsetwinsize};

/// A terminal of 24 rows and 100 columns.
pub struct Screen {
    keys: File,
    screen: File,
    closed: Arc<AtomicBool>,
    shown: JoinHandle<String>,
}

impl Screen {
    pub fn new() -> Screen {
        let terminal = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
        grantpt(&terminal).unwrap();
        unlockpt(&terminal).unwrap();
        let name = ptsname(&terminal, Vec::new()).unwrap();
        let screen = File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
        tcsetwinsize(&screen, Winsize { ws_row: 24, ws_col: 100, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
        let keys = File::from(terminal);
        let mut reading = keys.try_clone().unwrap();
        let closed = Arc::new(AtomicBool::new(false));
        let seen = Arc::clone(&closed);
        let shown = std::thread::spawn(move || {
            let (mut all, mut buffer) = (Vec::new(), [0; 4_096]);
            while let Ok(got @ 1..) = reading.read(&mut buffer) {
                all.extend_from_slice(&buffer[..got]);
                if seen.load(Ordering::Relaxed) {
                    break;
                }
            }
            String::from_utf8_lossy(&all).into_owned()
        });
        Screen { keys, screen, closed, shown }
    }

    /// The terminal, as an input or output of a command.
    pub fn stdio(&self) -> Stdio {
        self.screen.try_clone().unwrap().into()
    }

    pub fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
    }

    pub fn modes(&self) -> LocalModes {
        tcgetattr(&self.screen).unwrap().local_modes
    }

    /// Goes away with the next that is shown, under the program in it.
    pub fn close(self) {
        self.closed.store(true, Ordering::Relaxed);
        self.shown();
    }

    /// All that was sent to it.
    pub fn shown(self) -> String {
        drop((self.screen, self.keys));
        self.shown.join().unwrap()
    }
}
