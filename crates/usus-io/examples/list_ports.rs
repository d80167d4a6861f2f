//! Which serial ports are there, and may I read them?

#![allow(clippy::print_stdout)]

use usus_io::{LinuxSystem, list_ports};

fn main() {
    let ports = list_ports(&LinuxSystem::new());
    if ports.is_empty() {
        println!("no serial ports");
    }
    for port in ports {
        let lasting = port.lasting.as_ref().unwrap_or(&port.path);
        let may = if port.permission.granted { "readable" } else { "not readable" };
        println!("{} ({}): {may}, {} on it", port.path.display(), lasting.display(), port.uses.len());
    }
}
