//! Names of lines, streams and files of a recording.

use std::path::{Path, PathBuf};

use usus::Time;
use usus_io::{Adapter, LinuxSystem, RecordedLine, list_ports, received_text};

use crate::source::Opened;

/// What the line of each source is called. A single one needs no name; of several, those without one are named after their source.
pub(crate) fn line_names(opened: &[Opened]) -> Result<Vec<String>, String> {
    let mut names: Vec<String> = Vec::new();
    for source in opened {
        let unnamed = if opened.len() > 1 && !source.peek().has_lines() { source.name.clone() } else { String::new() };
        let name = source.line.clone().unwrap_or(unnamed);
        if !name.is_empty() && names.contains(&name) {
            return Err(format!("two lines are called {name}; give them names, as in request=/dev/ttyUSB0"));
        }
        names.push(name);
    }
    Ok(names)
}

/// A line as it is recorded: its settings, and what is known of its adapter.
pub(crate) fn line(name: String, opened: &Opened) -> RecordedLine {
    let mut recorded = RecordedLine::new(name);
    (recorded.serial, recorded.lateness) = (opened.serial, opened.lateness);
    if let Some(port) = opened.port() {
        let port = std::fs::canonicalize(&port).unwrap_or(port);
        let listed = list_ports(&LinuxSystem::new()).into_iter().find(|listed| listed.path == port);
        recorded.about = listed.as_ref().and_then(|listed| listed.adapter.as_ref()).map(adapter_text);
        recorded.latency = listed.and_then(|listed| listed.latency);
    }
    recorded
}

fn adapter_text(adapter: &Adapter) -> String {
    let words = [&adapter.maker, &adapter.product, &adapter.serial].into_iter().flatten().cloned();
    words.collect::<Vec<_>>().join(", ")
}

/// What a line is called where people read it.
pub(super) fn shown(line: &RecordedLine) -> String {
    if line.name.is_empty() { "the line".to_owned() } else { line.name.clone() }
}

/// The id of a new stream: its lines and when it began.
pub(crate) fn stream(lines: &[RecordedLine], now: Time) -> String {
    let names: Vec<&str> = lines.iter().map(|line| line.name.as_str()).filter(|name| !name.is_empty()).collect();
    format!("{}{}{now}", names.join("+"), if names.is_empty() { "" } else { "@" })
}

/// A file in a directory, named after the lines and the time in UTC; one that is there already is never chosen.
pub(crate) fn in_directory<'n>(directory: &Path, names: impl Iterator<Item = &'n str>, now: Time) -> PathBuf {
    let names: Vec<String> = names.map(allowed).filter(|name| !name.is_empty()).collect();
    let time = received_text(now, 0).replace(':', "");
    let stem = if names.is_empty() { time } else { format!("{}-{time}", names.join("+")) };
    let stem = stem.chars().rev().take(LONGEST_NAME).collect::<String>().chars().rev().collect::<String>();
    let first = directory.join(format!("{stem}.pcapng"));
    let others = (2..).map(|number| directory.join(format!("{stem}-{number}.pcapng")));
    let taken = |path: &PathBuf| path.exists() || path.with_extension("pcapng.gz").exists();
    std::iter::once(first.clone()).chain(others).find(|path| !taken(path)).unwrap_or(first)
}

/// File systems take 255 bytes; of many lines, the names of the last stay.
const LONGEST_NAME: usize = 200;

/// A name with nothing in it that a file system or a shell could take amiss.
fn allowed(name: &str) -> String {
    let safe = |character: char| match character.is_ascii_alphanumeric() || "._-".contains(character) {
        true => character,
        false => '_',
    };
    name.chars().map(safe).collect::<String>().trim_matches(['.', '_']).to_owned()
}
