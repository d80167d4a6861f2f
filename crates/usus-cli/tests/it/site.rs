//! The demo site, simulated live by the built command, for as long as a test needs it.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStderr, Stdio};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::run::command;

/// A running `usus simulate`.
pub struct Site {
    folder: tempfile::TempDir,
    child: Child,
    said: BufReader<ChildStderr>,
    announced: Vec<Value>,
}

impl Site {
    /// Simulates these devices; what else is to be said to the command goes behind them.
    pub fn of(devices: &[&str], more: &[&str]) -> Site {
        let folder = tempfile::tempdir().unwrap();
        let dir = folder.path().join("ropeway");
        let mut arguments = vec!["--messages", "json", "simulate", "--dir", dir.to_str().unwrap()];
        arguments.extend(devices);
        arguments.extend(more);
        let mut child = command(&arguments).stderr(Stdio::piped()).spawn().unwrap();
        let said = BufReader::new(child.stderr.take().unwrap());
        let mut site = Site { folder, child, said, announced: Vec::new() };
        site.announced = devices.iter().map(|_| site.said()).collect();
        site
    }

    /// What it says next.
    pub fn said(&mut self) -> Value {
        let mut line = String::new();
        self.said.read_line(&mut line).unwrap();
        serde_json::from_str(&line).unwrap_or_else(|error| panic!("{error}: {line}"))
    }

    /// The lasting name of a device's port.
    pub fn port(&self, device: &str) -> String {
        self.dir().join(device).to_str().unwrap().to_owned()
    }

    /// Its folder.
    pub fn dir(&self) -> PathBuf {
        self.folder.path().join("ropeway")
    }

    /// The socket of the first device.
    pub fn socket(&self) -> String {
        self.announced[0]["socket"].as_str().unwrap().to_owned()
    }

    /// Ends it. Returns its exit status, and how many bytes the devices have received.
    pub fn end(mut self) -> (i32, u64) {
        let pid = Pid::from_raw(self.child.id() as i32).unwrap();
        kill_process(pid, Signal::INT).unwrap();
        let status = self.child.wait().unwrap().code().unwrap();
        let mut received = None;
        let mut line = String::new();
        while self.said.read_line(&mut line).unwrap() > 0 {
            let message: Value = serde_json::from_str(&line).unwrap();
            if let Some(count) = message["received"].as_u64() {
                received = Some(received.unwrap_or(0) + count);
            }
            line.clear();
        }
        (status, received.expect("it says how much was received"))
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Whether a link is there.
pub fn is_link(path: &Path) -> bool {
    path.symlink_metadata().is_ok()
}
