//! Which ports there are: under which lasting names, who may read them, and what sits on them.

use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};

use super::system::{Process, System, at, link_name, names_in, processes, text_of};

/// A port.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct PortInfo {
    /// Its path today, such as `/dev/ttyUSB0`.
    pub path: PathBuf,
    /// A name that stays: by the adapter's serial number, or, where that does not tell it from others, by the place where it is plugged in.
    pub lasting: Option<PathBuf>,
    /// The adapter, if it is one.
    pub adapter: Option<Adapter>,
    /// Name of its driver.
    pub driver: Option<String>,
    /// Who may read it.
    pub permission: Permission,
    /// What sits on it.
    pub uses: Vec<Use>,
    /// How long the adapter waits for more before it hands on what it has, in milliseconds.
    pub latency: Option<u32>,
}

/// An adapter that a port belongs to, as it describes itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Adapter {
    /// Its maker.
    pub maker: Option<String>,
    /// What it is.
    pub product: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Numbers of maker and product, as in `1a2b:3c4d`.
    pub id: Option<String>,
    /// Which of its ports, counted from 0, if it has several.
    pub interface: Option<u8>,
}

/// Who may read a port.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Permission {
    /// Whether this user may.
    pub granted: bool,
    /// The group whose members may.
    pub group: Option<String>,
}

/// Something that sits on a port.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Use {
    /// A process has it open, or has left a lock file for it.
    Held(Holder),
    /// Somebody can log in over it.
    Login(Holder),
    /// The kernel prints its messages on it.
    Console,
    /// A service that tries every adapter for being a modem, by writing to it.
    Probed(Holder),
}

/// A process that has to do with a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// Its number.
    pub process: u32,
    /// Its name, if it can be seen.
    pub name: Option<String>,
}

impl fmt::Display for Holder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.name {
            Some(name) => write!(f, "{name} (process {})", self.process),
            None => write!(f, "process {}", self.process),
        }
    }
}

/// Name of the service that probes for modems.
const MODEM_PROBE: &str = "ModemManager";

/// The serial ports of a system, without pseudo-terminals and without places for a UART in which there is none.
pub fn list_ports(system: &dyn System) -> Vec<PortInfo> {
    let all = processes(system);
    let class = at(system, "/sys/class/tty");
    let mut ports: Vec<(PortInfo, Links)> = names_in(&class)
        .into_iter()
        .filter(|name| is_port(&class.join(name)))
        .map(|name| describe(system, &class.join(&name), &name, &all))
        .collect();
    // The serial number is a lasting name only if no other port has the same.
    let identity = |port: &PortInfo| {
        let adapter = port.adapter.as_ref()?;
        Some((adapter.id.clone(), adapter.serial.clone()?, adapter.interface))
    };
    let identities: Vec<_> = ports.iter().map(|(port, _)| identity(port)).collect();
    for (index, (port, links)) in ports.iter_mut().enumerate() {
        let own = &identities[index];
        let unique = own.is_some() && identities.iter().filter(|other| *other == own).count() == 1;
        port.lasting = if unique { links.by_id.take().or(links.by_path.take()) } else { links.by_path.take() };
    }
    ports.into_iter().map(|(port, _)| port).collect()
}

/// The links that the system keeps for a port.
struct Links {
    by_id: Option<PathBuf>,
    by_path: Option<PathBuf>,
}

/// A terminal with a device behind it; a UART of the kind 0 is not there.
fn is_port(directory: &Path) -> bool {
    directory.join("device").exists() && text_of(&directory.join("type")).as_deref() != Some("0")
}

fn describe(system: &dyn System, directory: &Path, name: &str, all: &[Process]) -> (PortInfo, Links) {
    let path = Path::new("/dev").join(name);
    let adapter = adapter(&directory.join("device"));
    let latency = ["latency_timer", "device/latency_timer"].into_iter();
    let latency = latency.filter_map(|file| text_of(&directory.join(file))?.parse().ok()).next();
    let info = PortInfo {
        permission: Permission { granted: system.may_read(&path), group: group_that_may_read(system, &path) },
        uses: uses(system, directory, name, adapter.is_some(), all),
        driver: link_name(&directory.join("device/driver")),
        path,
        lasting: None,
        adapter,
        latency,
    };
    let link = |kind: &str| {
        let directory = at(system, kind);
        let leads_here = |link: &String| link_name(&directory.join(link)).as_deref() == Some(name);
        names_in(&directory).into_iter().find(leads_here).map(|link| Path::new(kind).join(link))
    };
    let links = Links { by_id: link("/dev/serial/by-id"), by_path: link("/dev/serial/by-path") };
    (info, links)
}

/// The USB device somewhere above a port's own directory.
fn adapter(device: &Path) -> Option<Adapter> {
    let device = fs::canonicalize(device).ok()?;
    let usb = device.ancestors().find(|directory| directory.join("idVendor").exists())?;
    let text = |file: &str| text_of(&usb.join(file));
    let interfaces = text("bNumInterfaces").and_then(|count| count.parse::<u8>().ok()).unwrap_or(1);
    let number = device.ancestors().find_map(|directory| text_of(&directory.join("bInterfaceNumber")));
    let number = number.and_then(|number| u8::from_str_radix(&number, 16).ok());
    Some(Adapter {
        maker: text("manufacturer"),
        product: text("product"),
        serial: text("serial"),
        id: text("idVendor").zip(text("idProduct")).map(|(maker, product)| format!("{maker}:{product}")),
        interface: number.filter(|_| interfaces > 1),
    })
}

fn uses(system: &dyn System, directory: &Path, name: &str, is_adapter: bool, all: &[Process]) -> Vec<Use> {
    let path = Path::new("/dev").join(name);
    let mut uses = Vec::new();
    let consoles = text_of(&at(system, "/sys/class/tty/console/active")).unwrap_or_default();
    if consoles.split_whitespace().any(|console| console == name) {
        uses.push(Use::Console);
    }
    let holders = all.iter().filter(|process| process.open.contains(&path));
    let mut held: Vec<Holder> =
        holders.map(|process| Holder { process: process.id, name: Some(process.name.clone()) }).collect();
    held.extend(locked(system, name, all).filter(|lock| held.iter().all(|holder| holder.process != lock.process)));
    uses.extend(held.into_iter().map(|holder| match &holder.name {
        Some(name) if name.contains("getty") || name == "login" => Use::Login(holder),
        _ => Use::Held(holder),
    }));
    if is_adapter && !probing_forbidden(system, directory) {
        let probe = all.iter().find(|process| process.name == MODEM_PROBE);
        uses.extend(probe.map(|probe| Use::Probed(Holder { process: probe.id, name: Some(probe.name.clone()) })));
    }
    uses
}

/// The process that a lock file names (Filesystem Hierarchy Standard 3.0, 5.9), if it still runs.
fn locked(system: &dyn System, name: &str, all: &[Process]) -> Option<Holder> {
    let text = text_of(&at(system, &format!("/run/lock/LCK..{name}")))
        .or_else(|| text_of(&at(system, &format!("/var/lock/LCK..{name}"))))?;
    let process = text.split_whitespace().next()?.parse().ok()?;
    let running = all.iter().find(|running| running.id == process)?;
    Some(Holder { process, name: Some(running.name.clone()) })
}

/// Whether the system's device rules keep the modem-probing service off this port.
fn probing_forbidden(system: &dyn System, directory: &Path) -> bool {
    let Some(number) = text_of(&directory.join("dev")) else { return false };
    let rules = text_of(&at(system, &format!("/run/udev/data/c{number}"))).unwrap_or_default();
    rules.lines().any(|line| line == "E:ID_MM_DEVICE_IGNORE=1" || line == "E:ID_MM_PORT_IGNORE=1")
}

/// The group whose members may read a device, if there is one.
pub(super) fn group_that_may_read(system: &dyn System, path: &Path) -> Option<String> {
    let owner = system.owner(path).filter(|owner| owner.mode & 0o040 != 0)?;
    let groups = text_of(&at(system, "/etc/group")).unwrap_or_default();
    let named = groups.lines().find_map(|line| {
        let mut parts = line.split(':');
        let name = parts.next()?;
        (parts.nth(1)?.parse() == Ok(owner.group)).then(|| name.to_owned())
    });
    Some(named.unwrap_or_else(|| owner.group.to_string()))
}

/// The process that has a port open, if that can be seen.
pub(super) fn holder(system: &dyn System, path: &Path) -> Option<Holder> {
    let device = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let all = processes(system);
    let own = std::process::id();
    let holds = |process: &&Process| process.id != own && process.open.contains(&device);
    let open = all.iter().find(holds).map(|process| Holder { process: process.id, name: Some(process.name.clone()) });
    open.or_else(|| locked(system, device.file_name()?.to_str()?, &all))
}

/// The port of the adapter with that serial number; `SERIAL/1` is its second port.
pub(crate) fn find_adapter(system: &dyn System, wanted: &str) -> Option<PathBuf> {
    let (serial, interface) = match wanted.rsplit_once('/') {
        Some((serial, number)) => (serial, number.parse::<u8>().ok()),
        None => (wanted, None),
    };
    let fits = |port: &PortInfo| {
        port.adapter.as_ref().is_some_and(|adapter| {
            adapter.serial.as_deref() == Some(serial) && (interface.is_none() || adapter.interface == interface)
        })
    };
    list_ports(system).into_iter().find(fits).map(|port| port.path)
}
