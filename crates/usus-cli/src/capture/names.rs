//! Names of lines, streams and files of a recording.

use std::path::{Path, PathBuf};

use usus::Time;
use usus::format::Serial;
use usus_io::{Adapter, LinuxSystem, RecordedLine, list_ports, received_text};

use crate::source::Opened;

/// `NAME=SOURCE`; a name is short and plain, so that paths with `=` in them are not taken for one.
pub(super) fn named(text: &str) -> (Option<&str>, &str) {
    match text.split_once('=') {
        Some((name, source)) if is_plain(name) && !source.is_empty() => (Some(name), source),
        _ => (None, text),
    }
}

fn is_plain(name: &str) -> bool {
    let plain = |character: char| character.is_ascii_lowercase() || character.is_ascii_digit() || character == '_';
    name.starts_with(|first: char| first.is_ascii_lowercase()) && name.len() < 64 && name.chars().all(plain)
}

/// The lines of a recording. A single one needs no name; of several, those without one are named after their source.
pub(super) fn lines(opened: &[(Option<String>, Opened)], serial: Option<Serial>) -> Result<Vec<RecordedLine>, String> {
    let mut lines: Vec<RecordedLine> = Vec::new();
    for (name, line) in opened {
        let unnamed = if opened.len() > 1 { line.name.clone() } else { String::new() };
        let mut recorded = self::line(Some(name.clone().unwrap_or(unnamed)), line);
        recorded.serial = recorded.serial.or(serial);
        if lines.iter().any(|before| before.name == recorded.name) {
            return Err(format!("two lines are called {}; give them names, as in request=/dev/ttyUSB0", recorded.name));
        }
        lines.push(recorded);
    }
    Ok(lines)
}

/// A line as it is recorded: its settings, and what is known of its adapter.
pub(crate) fn line(name: Option<String>, opened: &Opened) -> RecordedLine {
    let mut recorded = RecordedLine::new(name.unwrap_or_default());
    recorded.serial = opened.serial;
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
pub(crate) fn in_directory(directory: &Path, lines: &[RecordedLine], now: Time) -> PathBuf {
    let names: Vec<String> = lines.iter().map(|line| allowed(&line.name)).filter(|name| !name.is_empty()).collect();
    let time = received_text(now, 0).replace(':', "");
    let stem = if names.is_empty() { time } else { format!("{}-{time}", names.join("+")) };
    let first = directory.join(format!("{stem}.pcapng"));
    let others = (2..).map(|number| directory.join(format!("{stem}-{number}.pcapng")));
    std::iter::once(first.clone()).chain(others).find(|path| !path.exists()).unwrap_or(first)
}

/// A name with nothing in it that a file system or a shell could take amiss.
fn allowed(name: &str) -> String {
    let safe = |character: char| match character.is_ascii_alphanumeric() || "._-".contains(character) {
        true => character,
        false => '_',
    };
    name.chars().map(safe).collect::<String>().trim_matches(['.', '_']).to_owned()
}

/// The file of a later part: `tower.pcapng` goes on in `tower.2.pcapng`.
pub(super) fn part(first: &Path, number: u32) -> PathBuf {
    let stem = first.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let ending = first.extension().map_or(String::new(), |ending| format!(".{}", ending.to_string_lossy()));
    first.with_file_name(format!("{stem}.{number}{ending}"))
}
