//! What the system tells about ports: its trees of files, permissions, processes. A seam: tests put a made-up system in its place.

use std::fs;
use std::os::fd::AsFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// A system that is asked about its ports. Paths are as the system itself names them (`/sys/class/tty`); a made-up one keeps its files
/// below another root.
pub trait System {
    /// Where its files are: `/` of a real one.
    fn root(&self) -> &Path;

    /// Whom a device belongs to.
    fn owner(&self, path: &Path) -> Option<Owner>;

    /// Whether this process may read it.
    fn may_read(&self, path: &Path) -> bool;
}

/// Whom a device belongs to, and who may do what with it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owner {
    /// Number of its group.
    pub group: u32,
    /// Its permission bits.
    pub mode: u32,
}

/// A process, as far as it can be seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Process {
    /// Its number.
    pub id: u32,
    /// Its name.
    pub name: String,
    /// The files that it has open and that were asked for, where this user may see that.
    pub open: Vec<PathBuf>,
}

/// The system that this program runs on.
#[derive(Clone, Copy, Debug, Default)]
#[non_exhaustive]
pub struct LinuxSystem;

impl LinuxSystem {
    /// It.
    pub fn new() -> LinuxSystem {
        LinuxSystem
    }
}

impl System for LinuxSystem {
    fn root(&self) -> &Path {
        Path::new("/")
    }

    fn owner(&self, path: &Path) -> Option<Owner> {
        fs::metadata(path).ok().map(|about| Owner { group: about.gid(), mode: about.mode() & 0o777 })
    }

    fn may_read(&self, path: &Path) -> bool {
        rustix::fs::access(path, rustix::fs::Access::READ_OK).is_ok()
    }
}

/// Another system, whose files (`sys`, `dev`, `proc`, `etc`) were copied into a directory.
#[derive(Clone, Debug)]
pub struct CopiedSystem {
    root: PathBuf,
}

impl CopiedSystem {
    /// The one whose files are there.
    pub fn under(root: impl Into<PathBuf>) -> CopiedSystem {
        CopiedSystem { root: root.into() }
    }
}

impl System for CopiedSystem {
    fn root(&self) -> &Path {
        &self.root
    }

    fn owner(&self, path: &Path) -> Option<Owner> {
        LinuxSystem.owner(&self.root.join(path.strip_prefix("/").unwrap_or(path)))
    }

    fn may_read(&self, path: &Path) -> bool {
        LinuxSystem.may_read(&self.root.join(path.strip_prefix("/").unwrap_or(path)))
    }
}

/// A path of the system below its root.
pub(super) fn at(system: &dyn System, path: &str) -> PathBuf {
    system.root().join(path.trim_start_matches('/'))
}

/// The names in a directory, sorted so that numbers count (`ttyUSB2` before `ttyUSB10`).
pub(super) fn names_in(directory: &Path) -> Vec<String> {
    let entries = fs::read_dir(directory).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
    names.sort_by_key(|name| {
        let stem = name.trim_end_matches(|character: char| character.is_ascii_digit());
        (stem.to_owned(), name[stem.len()..].parse::<u64>().unwrap_or(0), name.clone())
    });
    names
}

/// The text of a small file, without white space around it.
pub(super) fn text_of(path: &Path) -> Option<String> {
    let bytes = fs::read(path).ok()?;
    let text = String::from_utf8_lossy(&bytes);
    Some(text.trim().to_owned()).filter(|text| !text.is_empty())
}

/// The last name on the way that a link leads.
pub(super) fn link_name(path: &Path) -> Option<String> {
    let target = fs::read_link(path).ok()?;
    target.file_name().map(|name| name.to_string_lossy().into_owned())
}

/// All processes that can be seen, with the devices that they have open.
pub(super) fn processes(system: &dyn System) -> Vec<Process> {
    processes_with(system, &|path| path.starts_with("/dev"))
}

/// Those that have a file open.
pub(crate) fn holders_of(path: &Path) -> Vec<Process> {
    let Ok(path) = fs::canonicalize(path) else { return Vec::new() };
    let mut processes = processes_with(&LinuxSystem, &|open| open == path);
    processes.retain(|process| !process.open.is_empty());
    processes
}

fn processes_with(system: &dyn System, asked: &dyn Fn(&Path) -> bool) -> Vec<Process> {
    let proc = at(system, "/proc");
    let process = |name: String| {
        let id = name.parse().ok()?;
        let directory = proc.join(&name);
        let files = directory.join("fd");
        let links = names_in(&files).into_iter().filter_map(|file| fs::read_link(files.join(file)).ok());
        let open = links.filter(|path| asked(path)).collect();
        Some(Process { id, name: text_of(&directory.join("comm"))?, open })
    };
    names_in(&proc).into_iter().filter_map(process).collect()
}

/// Whether it is a pseudo-terminal: these have the major numbers 136 to 143 on Linux.
pub(super) fn is_pseudo_terminal(file: impl AsFd) -> bool {
    rustix::fs::fstat(file).is_ok_and(|about| (136..=143).contains(&rustix::fs::major(about.st_rdev)))
}
