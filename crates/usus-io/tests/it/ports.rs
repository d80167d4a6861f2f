//! Listing ports of made-up systems, and reading pseudo-terminals as ports.

use std::collections::HashMap;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use usus::Loss;
use usus::format::Serial;
use usus_io::{
    Address, Holder, LineEvent, LineEvents, Owner, Port, PortError, PortInfo, PortOptions, SourceOptions, Stop, System,
    Terminal, Use, list_ports, listen, open_address,
};

/// A system made of files below a folder.
struct Made {
    root: tempfile::TempDir,
    owners: HashMap<PathBuf, Owner>,
    readable: Vec<PathBuf>,
}

impl System for Made {
    fn root(&self) -> &Path {
        self.root.path()
    }

    fn owner(&self, path: &Path) -> Option<Owner> {
        self.owners.get(path).copied()
    }

    fn may_read(&self, path: &Path) -> bool {
        self.readable.iter().any(|readable| readable == path)
    }
}

impl Made {
    fn new() -> Made {
        let made = Made { root: tempfile::tempdir().unwrap(), owners: HashMap::new(), readable: Vec::new() };
        made.file("/etc/group", "root:x:0:\ndialout:x:20:somebody\n");
        made.file("/sys/class/tty/tty0/dev", "4:0");
        made
    }

    fn file(&self, path: &str, text: &str) {
        let path = self.root.path().join(path.trim_start_matches('/'));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn link(&self, path: &str, target: &str) {
        let path = self.root.path().join(path.trim_start_matches('/'));
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        symlink(target, path).unwrap();
    }

    fn grant(&mut self, name: &str, group: u32, mode: u32, readable: bool) {
        let path = Path::new("/dev").join(name);
        self.owners.insert(path.clone(), Owner { group, mode });
        self.readable.extend(readable.then_some(path));
    }

    /// A USB adapter plugged in at `place`, with its port.
    fn adapter(&self, name: &str, place: &str, serial: Option<&str>) {
        let device = format!("/sys/devices/usb1/{place}");
        for (file, text) in
            [("idVendor", "1a2b"), ("idProduct", "3c4d"), ("manufacturer", "Quarvel"), ("product", "Line Tap")]
        {
            self.file(&format!("{device}/{file}"), text);
        }
        self.file(&format!("{device}/bNumInterfaces"), " 1\n");
        if let Some(serial) = serial {
            self.file(&format!("{device}/serial"), &format!("{serial}\n"));
        }
        self.file(&format!("{device}/{place}:1.0/bInterfaceNumber"), "00");
        self.file(&format!("{device}/{place}:1.0/{name}/latency_timer"), "16");
        self.link(&format!("{device}/{place}:1.0/{name}/driver"), "../../../../../bus/usb-serial/drivers/linetap");
        self.file(&format!("/sys/class/tty/{name}/dev"), "188:0");
        self.link(
            &format!("/sys/class/tty/{name}/device"),
            &format!("../../../devices/usb1/{place}/{place}:1.0/{name}"),
        );
        let by_id = serial.map_or("usb-Quarvel_Line_Tap-if00-port0".to_owned(), |serial| {
            format!("usb-Quarvel_Line_Tap_{serial}-if00-port0")
        });
        let by_id = self.root.path().join("dev/serial/by-id").join(by_id);
        if by_id.symlink_metadata().is_err() {
            self.link(by_id.strip_prefix(self.root.path()).unwrap().to_str().unwrap(), &format!("../../{name}"));
        }
        self.link(&format!("/dev/serial/by-path/pci-0000:00:14.0-usb-0:{place}:1.0-port0"), &format!("../../{name}"));
    }

    fn process(&self, id: u32, name: &str, open: &[&str]) {
        self.file(&format!("/proc/{id}/comm"), name);
        fs::create_dir_all(self.root.path().join(format!("proc/{id}/fd"))).unwrap();
        for (number, device) in open.iter().enumerate() {
            self.link(&format!("/proc/{id}/fd/{number}"), device);
        }
    }

    fn one(&self) -> PortInfo {
        let mut ports = list_ports(self);
        assert_eq!(ports.len(), 1, "{ports:?}");
        ports.remove(0)
    }
}

fn holder(process: u32, name: &str) -> Holder {
    Holder { process, name: Some(name.to_owned()) }
}

#[test]
fn an_adapter_is_named_by_its_serial_number() {
    let mut made = Made::new();
    made.adapter("ttyUSB0", "1-2", Some("SW4711"));
    made.grant("ttyUSB0", 20, 0o660, true);
    let port = made.one();
    assert_eq!(port.path, Path::new("/dev/ttyUSB0"));
    assert_eq!(port.lasting.unwrap(), Path::new("/dev/serial/by-id/usb-Quarvel_Line_Tap_SW4711-if00-port0"));
    let adapter = port.adapter.unwrap();
    assert_eq!((adapter.maker.as_deref(), adapter.product.as_deref()), (Some("Quarvel"), Some("Line Tap")));
    assert_eq!(
        (adapter.serial.as_deref(), adapter.id.as_deref(), adapter.interface),
        (Some("SW4711"), Some("1a2b:3c4d"), None)
    );
    assert_eq!((port.driver.as_deref(), port.latency), (Some("linetap"), Some(16)));
    assert_eq!((port.permission.granted, port.permission.group.as_deref()), (true, Some("dialout")));
    assert_eq!(port.uses, []);
}

#[test]
fn equal_adapters_and_those_without_a_number_are_named_by_their_place() {
    for serial in [None, Some("0001")] {
        let mut made = Made::new();
        made.adapter("ttyUSB0", "1-2", serial);
        made.adapter("ttyUSB10", "1-4", serial);
        made.adapter("ttyUSB2", "1-3", Some("SW1"));
        made.grant("ttyUSB0", 20, 0o660, true);
        let ports = list_ports(&made);
        let names: Vec<_> = ports.iter().map(|port| port.path.file_name().unwrap().to_str().unwrap()).collect();
        assert_eq!(names, ["ttyUSB0", "ttyUSB2", "ttyUSB10"], "in the order of their numbers");
        let lasting = |index: usize| ports[index].lasting.as_ref().unwrap().to_str().unwrap();
        assert!(lasting(0).contains("by-path") && lasting(0).contains("1-2") && lasting(2).contains("1-4"));
        assert!(lasting(1).contains("by-id"));
    }
}

#[test]
fn a_built_in_uart_is_a_port_and_an_empty_place_is_none() {
    let mut made = Made::new();
    made.file("/sys/devices/serial8250/uart0/x", "");
    for (name, kind) in [("ttyS0", "4"), ("ttyS1", "0")] {
        made.file(&format!("/sys/class/tty/{name}/type"), kind);
        made.link(&format!("/sys/class/tty/{name}/device"), "../../../devices/serial8250/uart0");
    }
    made.link("/sys/devices/serial8250/uart0/driver", "../../../bus/serial8250");
    made.grant("ttyS0", 20, 0o660, true);
    let port = made.one();
    assert_eq!((port.path.to_str(), port.adapter, port.lasting), (Some("/dev/ttyS0"), None, None));
    assert_eq!(port.driver.as_deref(), Some("serial8250"));
}

#[test]
fn a_port_without_permission_says_which_group_may() {
    for (group, mode, expected) in [(20, 0o660, Some("dialout")), (77, 0o640, Some("77")), (0, 0o600, None)] {
        let mut made = Made::new();
        made.adapter("ttyUSB0", "1-2", Some("SW4711"));
        made.grant("ttyUSB0", group, mode, false);
        let permission = made.one().permission;
        assert_eq!((permission.granted, permission.group.as_deref()), (false, expected));
    }
}

#[test]
fn what_sits_on_a_port_is_seen() {
    let made = Made::new();
    made.adapter("ttyUSB0", "1-2", Some("SW4711"));
    made.process(100, "logger", &["/dev/null", "/dev/ttyUSB0"]);
    made.process(101, "agetty", &["/dev/ttyUSB0"]);
    made.process(102, "ModemManager", &[]);
    made.process(103, "locker", &[]);
    made.file("/run/lock/LCK..ttyUSB0", "       103\n");
    made.file("/sys/class/tty/console/active", "tty0 ttyUSB0\n");
    let expected = [
        Use::Console,
        Use::Held(holder(100, "logger")),
        Use::Login(holder(101, "agetty")),
        Use::Held(holder(103, "locker")),
        Use::Probed(holder(102, "ModemManager")),
    ];
    assert_eq!(made.one().uses, expected);
    // A lock of a process that is gone, and an adapter that is exempt from probing.
    fs::remove_dir_all(made.root.path().join("proc")).unwrap();
    made.process(102, "ModemManager", &[]);
    made.file("/run/udev/data/c188:0", "S:serial/by-id/x\nE:ID_MM_DEVICE_IGNORE=1\n");
    assert_eq!(made.one().uses, [Use::Console]);
}

#[test]
fn an_adapter_with_two_ports_tells_them_apart() {
    let made = Made::new();
    made.adapter("ttyUSB0", "1-2", Some("SW4711"));
    made.file("/sys/devices/usb1/1-2/bNumInterfaces", " 2");
    made.file("/sys/devices/usb1/1-2/1-2:1.1/bInterfaceNumber", "01");
    made.file("/sys/devices/usb1/1-2/1-2:1.1/ttyUSB1/latency_timer", "1");
    made.link("/sys/class/tty/ttyUSB1/device", "../../../devices/usb1/1-2/1-2:1.1/ttyUSB1");
    made.link("/dev/serial/by-id/usb-Quarvel_Line_Tap_SW4711-if01-port0", "../../ttyUSB1");
    let ports = list_ports(&made);
    let interfaces: Vec<_> = ports.iter().map(|port| port.adapter.as_ref().unwrap().interface).collect();
    assert_eq!(interfaces, [Some(0), Some(1)]);
    assert!(ports[1].lasting.as_ref().unwrap().to_str().unwrap().contains("if01"));
}

/// A system without anything, and one full of nonsense.
#[test]
fn a_strange_system_has_no_ports_but_does_no_harm() {
    assert_eq!(list_ports(&Made { root: tempfile::tempdir().unwrap(), owners: HashMap::new(), readable: vec![] }), []);
    let made = Made::new();
    made.adapter("ttyUSB0", "1-2", Some("\u{1B}[31m\u{202E}"));
    made.file("/run/lock/LCK..ttyUSB0", "no number");
    made.file("/etc/group", ":::\nx\n\n");
    made.file("/proc/12/comm", "");
    made.file("/proc/self/comm", "me");
    let port = made.one();
    assert_eq!(port.adapter.unwrap().serial.unwrap(), "\u{1B}[31m\u{202E}", "it is made harmless where it is shown");
}

fn serial(text: &str) -> Serial {
    Serial::parse(text).unwrap()
}

fn terminal() -> (tempfile::TempDir, Terminal, Address) {
    let folder = tempfile::tempdir().unwrap();
    let link = folder.path().join("tower-4");
    let terminal = Terminal::open(&link).unwrap();
    let address = Address::parse(link.to_str().unwrap()).unwrap();
    assert!(matches!(address, Address::Port(_)));
    (folder, terminal, address)
}

fn options(settings: &str) -> SourceOptions {
    let mut options = SourceOptions::default();
    options.port = Some(PortOptions::new(serial(settings)));
    options
}

/// All 256 bytes come as they are: nothing is translated, nothing echoed, nothing kept from before.
#[test]
fn a_port_is_read_as_it_is_and_nothing_is_written() {
    let (_folder, mut terminal, address) = terminal();
    let source = open_address(&address, &options("19200 8N1")).unwrap();
    assert_eq!(terminal.speed(), Some(19_200));
    let stop = Stop::new();
    let mut events = LineEvents::new(source, stop.clone());
    let Some(Ok(LineEvent::Opened { line: 0, info })) = events.next() else { panic!("a line comes first") };
    assert_eq!(info.serial, Some(serial("19200 8N1")));
    let all: Vec<u8> = (0..=255).chain([0xFF, 0xFF, 0x00, 0x0D, 0x0A, 0x03, 0x11, 0x13]).collect();
    terminal.deliver(&all);
    let mut got = Vec::new();
    while got.len() < all.len() {
        match events.next().unwrap().unwrap() {
            LineEvent::Data { bytes, time, offset, .. } => {
                assert_eq!(offset as usize, got.len());
                assert!(time.is_some());
                got.extend(bytes);
            }
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(got, all);
    assert_eq!(terminal.received(), 0);
    stop.stop();
    assert!(events.next().is_none());
    drop(events);
    assert!(!terminal.is_listened_to());
    // What comes while nobody listens is not echoed either: the settings stay.
    terminal.deliver(b"unheard\n");
    std::thread::sleep(Duration::from_millis(20));
    assert_eq!(terminal.received(), 0);
}

#[test]
fn stopping_from_another_thread_ends_at_once() {
    let (_folder, mut terminal, address) = terminal();
    let mut source = open_address(&address, &options("9600 8N1")).unwrap();
    let stop = Stop::new();
    let asked = stop.clone();
    let begun = Instant::now();
    let thread = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(50));
        asked.stop();
    });
    listen(&mut *source, &stop, &mut |_| std::ops::ControlFlow::Continue(())).unwrap();
    assert!(begun.elapsed() < Duration::from_secs(2));
    thread.join().unwrap();
    assert_eq!(terminal.received(), 0);
}

/// The port goes away and comes back under another number; the lasting name leads to it again.
#[test]
fn a_port_that_vanishes_is_waited_for() {
    let (folder, mut terminal, address) = terminal();
    let mut events = LineEvents::new(open_address(&address, &options("9600 8N1")).unwrap(), Stop::new());
    terminal.deliver(b"before");
    let mut seen = Vec::new();
    let mut more = |seen: &mut Vec<LineEvent>| seen.push(events.next().unwrap().unwrap());
    while !matches!(seen.last(), Some(LineEvent::Data { .. })) {
        more(&mut seen);
    }
    let first = terminal.listener().to_owned();
    assert_eq!(terminal.received(), 0);
    let later = Terminal::open(&folder.path().join("another")).unwrap();
    drop(terminal);
    more(&mut seen);
    assert!(matches!(seen.last(), Some(LineEvent::Closed { line: 0, .. })));
    drop(later);
    let holds_the_number = Terminal::open(&folder.path().join("holds-the-number")).unwrap();
    let mut terminal = Terminal::open(&folder.path().join("tower-4")).unwrap();
    assert_ne!(first, terminal.listener());
    more(&mut seen);
    assert!(matches!(seen.last(), Some(LineEvent::Loss { why: Loss::Reopened, .. })));
    terminal.deliver(b"behind");
    more(&mut seen);
    assert!(matches!(seen.last(), Some(LineEvent::Data { offset: 6, bytes, .. }) if bytes == b"behind"));
    assert_eq!(terminal.received(), 0);
    drop(holds_the_number);
}

#[test]
fn ports_that_cannot_be_opened_say_why() {
    let (folder, mut terminal, _) = terminal();
    let link = terminal.link().to_owned();
    let usual = PortOptions::new(serial("9600 8N1"));
    let held = Port::open(&link, &usual).unwrap();
    // Another process of this user would get `busy`; the same is told by the lock.
    match Port::open(&link, &PortOptions::new(serial("19200 8N1"))) {
        Err(PortError::Held { path, .. }) => assert_eq!(path, link),
        other => panic!("{other:?}"),
    }
    assert_eq!(terminal.speed(), Some(9_600), "whoever has the port does not notice the other");
    drop(held);
    assert!(matches!(Port::open(&folder.path().join("nothing"), &usual), Err(PortError::Absent { .. })));
    let file = folder.path().join("file");
    fs::write(&file, "x").unwrap();
    assert!(matches!(Port::open(&file, &usual), Err(PortError::NoTerminal { .. })));
    // An odd speed is taken; of the others the system says which it makes.
    let odd = Port::open(&link, &PortOptions::new(serial("12345 8N1"))).unwrap();
    assert_eq!(terminal.speed(), Some(12_345));
    assert_eq!(odd.serial(), serial("12345 8N1"));
    assert_eq!(odd.counters(), None);
    assert_eq!(terminal.received(), 0);
}

#[test]
fn fall_backs_are_tried_in_their_order() {
    let (folder, mut terminal, _) = terminal();
    let link = terminal.link().to_owned();
    let missing = "/dev/serial/by-id/usb-Quarvel_not_here";
    let text = format!("{missing},adapter:NOSUCHNUMBER,{}", link.display());
    let address = Address::parse(&text).unwrap();
    assert_eq!(address.to_string(), text);
    let mut events = LineEvents::new(open_address(&address, &options("9600 8N1")).unwrap(), Stop::new());
    terminal.deliver(b"x");
    assert!(events.any(|event| matches!(event, Ok(LineEvent::Data { .. }))));
    let none = Address::parse(&format!("{missing},adapter:NOSUCHNUMBER")).unwrap();
    let error = open_address(&none, &options("9600 8N1")).err().unwrap().to_string();
    assert!(error.contains("NOSUCHNUMBER") || error.contains(missing), "{error}");
    assert!(
        open_address(&address, &SourceOptions::default()).err().unwrap().to_string().contains("needs line settings")
    );
    assert_eq!(terminal.received(), 0);
    drop(folder);
}
