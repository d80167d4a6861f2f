//! `usus ports`: what is plugged in, under which lasting name, and may I read it.

use serde_json::json;
use usus_io::{CopiedSystem, LinuxSystem, PortInfo, Use, list_ports};

use crate::Ending;
use crate::arguments::Ports;
use crate::safe::Safe;
use crate::voice::Voice;

pub(crate) fn run(arguments: &Ports, voice: &Voice) -> Ending {
    let ports = match &arguments.under {
        Some(root) => list_ports(&CopiedSystem::under(root)),
        None => list_ports(&LinuxSystem::new()),
    };
    let text = match arguments.json {
        true => ports.iter().map(|port| json_row(port) + "\n").collect(),
        false => ports.iter().map(paragraph).collect::<Vec<_>>().join("\n"),
    };
    if ports.is_empty() && !arguments.json {
        voice.say("no serial ports; an adapter that is plugged in but not here has no driver (see the kernel's messages: dmesg)");
    }
    let printed = if arguments.json { voice.print(&text) } else { voice.print_words(&text) };
    match printed {
        Ok(()) => Ending::Done,
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ending::Done,
        Err(error) => {
            voice.fail(&format!("cannot write to standard output: {error}"));
            Ending::Failed
        }
    }
}

/// A port in a few lines, harmless for a terminal.
fn paragraph(port: &PortInfo) -> String {
    let mut text = format!("{}   {}\n", Safe(&port.path.display().to_string()), Safe(&described(port)));
    let mut row = |label: &str, value: &str| text += &format!("  {label:<11} {}\n", Safe(value));
    match &port.lasting {
        Some(lasting) => row("lasting", &lasting.display().to_string()),
        None if port.adapter.is_some() => row("lasting", "none: the number may change when it is plugged in again"),
        None => {}
    }
    row("readable", &readable(port));
    for usage in &port.uses {
        row("in use", &use_text(usage));
    }
    if let Some(latency) = port.latency {
        row("latency", &format!("{latency} ms: the adapter holds bytes back for so long (see --lateness)"));
    }
    text
}

fn described(port: &PortInfo) -> String {
    let Some(adapter) = &port.adapter else {
        return match &port.driver {
            Some(driver) => format!("built in ({driver})"),
            None => "built in".to_owned(),
        };
    };
    let mut words: Vec<String> = [&adapter.maker, &adapter.product].into_iter().flatten().cloned().collect();
    if words.is_empty() {
        words.push(format!("adapter {}", adapter.id.as_deref().unwrap_or("of unknown make")));
    }
    words.push(match &adapter.serial {
        Some(serial) => format!("serial number {serial}"),
        None => "without a serial number".to_owned(),
    });
    if let Some(interface) = adapter.interface {
        words.push(format!("its port {interface}"));
    }
    words.join(", ")
}

fn readable(port: &PortInfo) -> String {
    match (port.permission.granted, &port.permission.group) {
        (true, _) => "yes".to_owned(),
        (false, Some(group)) => {
            format!("no; members of the group {group} may (usermod -a -G {group} YOU, then log in anew)")
        }
        (false, None) => "no; only the superuser may".to_owned(),
    }
}

fn use_text(usage: &Use) -> String {
    match usage {
        Use::Held(holder) => format!("by {holder}"),
        Use::Login(holder) => format!("as a login console, by {holder}; it writes to the line"),
        Use::Console => "by the kernel, which prints its messages there".to_owned(),
        Use::Probed(holder) => {
            format!("{holder} tries adapters for being modems, by writing to them; stop it, or exempt this one")
        }
        _ => "by something else".to_owned(),
    }
}

/// A port for programs.
fn json_row(port: &PortInfo) -> String {
    let usage = |usage: &Use| {
        let (kind, holder) = match usage {
            Use::Held(holder) => ("held", Some(holder)),
            Use::Login(holder) => ("login", Some(holder)),
            Use::Console => ("console", None),
            Use::Probed(holder) => ("probed", Some(holder)),
            _ => ("other", None),
        };
        json!({"use": kind, "process": holder.map(|holder| holder.process), "name": holder.and_then(|holder| holder.name.clone())})
    };
    let adapter = port.adapter.as_ref().map(|adapter| {
        json!({
            "maker": adapter.maker, "product": adapter.product, "serial": adapter.serial, "id": adapter.id,
            "interface": adapter.interface,
        })
    });
    let row = json!({
        "port": port.path.display().to_string(),
        "lasting": port.lasting.as_ref().map(|lasting| lasting.display().to_string()),
        "adapter": adapter,
        "driver": port.driver,
        "readable": port.permission.granted,
        "group": port.permission.group,
        "uses": port.uses.iter().map(usage).collect::<Vec<_>>(),
        "latency_ms": port.latency,
    });
    // Bidirectional and zero-width characters stay raw in JSON texts: they are escaped like all else that a terminal would obey.
    let mut text = String::new();
    for character in row.to_string().chars() {
        match Safe::is_harmful(character) {
            true => character.encode_utf16(&mut [0; 2]).iter().for_each(|unit| text += &format!("\\u{unit:04x}")),
            false => text.push(character),
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::path::Path;
    use usus_io::{Owner, System};

    struct Made(tempfile::TempDir);

    impl System for Made {
        fn root(&self) -> &Path {
            self.0.path()
        }

        fn owner(&self, _: &Path) -> Option<Owner> {
            Some(Owner { group: 20, mode: 0o660 })
        }

        fn may_read(&self, _: &Path) -> bool {
            false
        }
    }

    /// An adapter whose maker wants to rule the terminal, and what is said about it.
    #[test]
    fn descriptors_of_adapters_are_shown_harmless() {
        let made = Made(tempfile::tempdir().unwrap());
        for (file, text) in [
            ("sys/class/tty/ttyUSB0/device/x", ""),
            ("sys/class/tty/ttyUSB0/device/idVendor", "1a2b"),
            ("sys/class/tty/ttyUSB0/device/manufacturer", "Quar\u{1B}[31mvel\u{202E}"),
            ("sys/class/tty/ttyUSB0/device/serial", "SW\u{200B}4711"),
            ("sys/class/tty/ttyUSB0/latency_timer", "16"),
            ("etc/group", "dialout:x:20:"),
            ("proc/7/comm", "ModemManager"),
        ] {
            let path = made.0.path().join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let ports = list_ports(&made);
        assert_eq!(ports.len(), 1);
        let expected = [
            "/dev/ttyUSB0   Quar\\u{1b}[31mvel\\u{202e}, serial number SW\\u{200b}4711",
            "  lasting     none: the number may change when it is plugged in again",
            "  readable    no; members of the group dialout may (usermod -a -G dialout YOU, then log in anew)",
            "  in use      ModemManager (process 7) tries adapters for being modems, by writing to them; stop it, or exempt this one",
            "  latency     16 ms: the adapter holds bytes back for so long (see --lateness)\n",
        ];
        assert_eq!(paragraph(&ports[0]), expected.join("\n"));
        let json = json_row(&ports[0]);
        assert!(json.is_ascii(), "{json}");
        let read: serde_json::Value = serde_json::from_str(&json).unwrap();
        assert_eq!(read["adapter"]["maker"], "Quar\u{1B}[31mvel\u{202E}");
    }
}
