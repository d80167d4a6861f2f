//! Showing that it is recording, and what: a line that is drawn anew in a terminal, a plain line now and then elsewhere.

use std::path::Path;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use serde_json::json;
use usus::survey::{Heard, Speeds, Survey, clues};
use usus::{Fault, Loss};
use usus_io::{RecordedLine, Standing};

use super::names;
use crate::convert::{REDRAWN, SAID, SILENT};
use crate::inspect::{clue_text, loss_text};
use crate::safe::{Safe, escaped};
use crate::summary::{grouped, plural};
use crate::tally::Counts;
use crate::voice::Voice;

/// A line of which nothing came for so long is shown as silent.
const QUIET: Duration = Duration::from_secs(3);
/// Less room than for so long a recording, or than so many bytes, is worth a warning.
const SHORT: u64 = 100_000_000;
/// When enough has come to tell wrong settings.
const JUDGED_AT: u64 = 600;

pub(super) struct Status {
    lines: Vec<Line>,
    in_terminal: bool,
    drawn: Instant,
    rate: (Instant, u64),
    bytes_a_second: f64,
    last_bytes: Vec<u8>,
    losses: u64,
    announced: usize,
    notes: u64,
    warned_full: bool,
    warned_short: bool,
    free: (Instant, u64),
}

/// The width that the last bytes may take.
const WIDTH: usize = 48;

/// The last bytes as escaped text, as many as fit, none of them cut.
fn last_that_fit(bytes: &[u8]) -> String {
    let mut width = 0;
    let fits = |byte: &&u8| {
        width += escaped(&[**byte]).len();
        width <= WIDTH
    };
    let count = bytes.iter().rev().take_while(fits).count();
    escaped(&bytes[bytes.len() - count..])
}

struct Line {
    line: RecordedLine,
    survey: Survey,
    judged: bool,
    /// When anything last came on it.
    last: Instant,
    warned_silent: bool,
}

impl Line {
    fn new(line: &RecordedLine) -> Line {
        let character = line.serial.map_or(usus::Span::default(), |serial| serial.character());
        Line {
            line: line.clone(),
            survey: Survey::new(character, None),
            judged: false,
            last: Instant::now(),
            warned_silent: false,
        }
    }
}

impl Status {
    pub(super) fn new(lines: &[RecordedLine], voice: &Voice) -> Status {
        Status {
            lines: lines.iter().map(Line::new).collect(),
            in_terminal: voice.to_a_person(),
            drawn: Instant::now(),
            rate: (Instant::now(), 0),
            bytes_a_second: 0.0,
            last_bytes: Vec::new(),
            losses: 0,
            announced: 0,
            notes: 0,
            warned_full: false,
            warned_short: false,
            free: (Instant::now() - SAID, u64::MAX),
        }
    }

    pub(super) fn begin(&self, path: &Path, voice: &Voice) {
        let line = |line: &Line| {
            let serial = line.line.serial.map_or(String::new(), |serial| format!(" ({serial})"));
            format!("{}{serial}", names::shown(&line.line))
        };
        let lines: Vec<String> = self.lines.iter().map(line).collect();
        let text = format!("recording {} into {}; interrupt to end", lines.join(", "), path.display());
        voice.tell("info", &Safe(&text).to_string(), json!({"recording": lines, "file": path.display().to_string()}));
    }

    /// A line is announced; those that were not known before are added.
    pub(super) fn line(&mut self, name: &str) {
        self.announced += 1;
        if self.announced > self.lines.len() {
            self.lines.push(Line::new(&RecordedLine::new(name)));
        }
    }

    pub(super) fn take(&mut self, line: usize, bytes: &[u8], faults: &[Fault]) {
        let Some(line) = self.lines.get_mut(line) else { return };
        line.survey.chunk(None, bytes, faults);
        (line.last, line.warned_silent) = (Instant::now(), false);
        self.last_bytes.extend_from_slice(&bytes[bytes.len().saturating_sub(24)..]);
        let old = self.last_bytes.len().saturating_sub(24);
        self.last_bytes.drain(..old);
    }

    pub(super) fn lost(&mut self, line: usize, why: Loss, voice: &Voice) {
        self.losses += 1;
        self.between(
            voice,
            &format!("{}: bytes are missing: {}", names::shown(&self.lines[line].line), loss_text(why)),
        );
    }

    pub(super) fn gone(&mut self, line: usize, voice: &Voice) {
        self.between(
            voice,
            &format!("{} has gone away; waiting for it to come back", names::shown(&self.lines[line].line)),
        );
    }

    pub(super) fn noted(&mut self, text: &str, voice: &Voice) {
        self.notes += 1;
        voice.say(&format!("noted: {text}"));
    }

    /// Warns of something.
    pub(super) fn warn_of(&self, text: &str, voice: &Voice) {
        self.between(voice, text);
    }

    /// A warning between the drawn lines.
    fn between(&self, voice: &Voice, text: &str) {
        voice.warn(text);
    }

    /// Says how it stands, if it is time for that.
    pub(super) fn tell(&mut self, standing: Standing, path: &Path, converted: Option<&Counts>, voice: &Voice) {
        let due = if self.in_terminal { REDRAWN } else { SAID };
        self.warn(standing, path, voice);
        let silent = self.lines.iter().map(|line| line.last.elapsed()).min().unwrap_or_default();
        if self.drawn.elapsed() < due {
            return;
        }
        self.drawn = Instant::now();
        let (since, before) = self.rate;
        if since.elapsed() >= Duration::from_secs(2) {
            self.bytes_a_second = (standing.bytes - before) as f64 / since.elapsed().as_secs_f64();
            self.rate = (Instant::now(), standing.bytes);
        }
        let converted =
            converted.map(|counts| [&counts.records, &counts.rejects].map(|count| count.load(Ordering::Relaxed)));
        let text = self.text(standing, silent, converted);
        if self.in_terminal {
            voice.draw_status(&text);
        } else {
            let data = json!({
                "recorded": standing.bytes, "lost": standing.lost, "disk_full": standing.full,
                "silent_seconds": silent.as_secs_f64(), "free": self.free.1,
                "records": converted.map(|[records, _]| records), "rejects": converted.map(|[_, rejects]| rejects),
                "lines": self.lines.iter().map(|line| json!({
                    "name": line.line.name, "bytes": line.survey.bytes(), "silent_seconds": line.last.elapsed().as_secs_f64(),
                })).collect::<Vec<_>>(),
            });
            voice.tell("info", &text, data);
        }
    }

    fn text(&self, standing: Standing, silent: Duration, converted: Option<[u64; 2]>) -> String {
        let activity = match silent.as_secs() {
            0..=1 => format!("{} bytes a second", grouped(self.bytes_a_second.round() as u64)),
            seconds => format!("silent for {} s", grouped(seconds)),
        };
        let losses = if self.losses > 0 { format!("  {}", plural(self.losses, "loss")) } else { String::new() };
        let notes = if self.notes > 0 { format!("  {}", plural(self.notes, "note")) } else { String::new() };
        let disk = if standing.full { "  DISK FULL: waiting for room".to_owned() } else { self.room() };
        let gave = converted
            .map(|[records, rejects]| format!("  {}, {}", plural(records, "record"), plural(rejects, "reject")));
        let gave = gave.unwrap_or_default();
        let last = last_that_fit(&self.last_bytes);
        let bytes = plural(standing.bytes, "byte");
        format!("● recording  {bytes}{}  {activity}{gave}{losses}{notes}{disk}  {last}", self.line_by_line())
    }

    /// Each of a few lines; of many, how many there are, and how many of them say nothing.
    fn line_by_line(&self) -> String {
        let silent = |line: &Line| line.last.elapsed() >= QUIET;
        match &self.lines[..] {
            [] | [_] => String::new(),
            few if few.len() <= 4 => {
                let line = |line: &Line| {
                    let silent = if silent(line) { ", silent" } else { "" };
                    format!("{} {}{silent}", names::shown(&line.line), grouped(line.survey.bytes()))
                };
                format!(" ({})", few.iter().map(line).collect::<Vec<_>>().join("; "))
            }
            many => {
                let silent = many.iter().filter(|line| silent(line)).count();
                format!(" on {} lines, {silent} of them silent", many.len())
            }
        }
    }

    /// How much room there is, and for how long.
    fn room(&self) -> String {
        if self.free.1 == u64::MAX {
            return String::new();
        }
        // A chunk takes some forty bytes more than it holds.
        let a_second = self.bytes_a_second * 2.0;
        let seconds = if a_second > 0.0 { self.free.1 as f64 / a_second } else { f64::INFINITY };
        let lasts = match seconds {
            seconds if seconds > 86_400.0 * 365.0 => String::new(),
            seconds if seconds > 86_400.0 => format!(", for {:.0} days", seconds / 86_400.0),
            seconds => format!(", for {:.1} h", seconds / 3_600.0),
        };
        format!("  {:.1} GB free{lasts}", self.free.1 as f64 / 1e9)
    }

    fn warn(&mut self, standing: Standing, path: &Path, voice: &Voice) {
        if self.free.0.elapsed() >= Duration::from_secs(5) {
            let directory = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
            let free =
                rustix::fs::statvfs(directory).map_or(u64::MAX, |about| about.f_bavail.saturating_mul(about.f_frsize));
            self.free = (Instant::now(), free);
        }
        for index in 0..self.lines.len() {
            let line = &mut self.lines[index];
            let silent = line.last.elapsed();
            if silent >= SILENT && !std::mem::replace(&mut line.warned_silent, true) {
                let name = names::shown(&line.line);
                self.between(voice, &format!("{name}: nothing has come for {} s", silent.as_secs()));
            }
        }
        if self.free.1 < SHORT && !std::mem::replace(&mut self.warned_short, true) {
            self.between(voice, &format!("the disk runs short: {:.0} MB are free", self.free.1 as f64 / 1e6));
        }
        if standing.full != self.warned_full {
            self.warned_full = standing.full;
            let text = if standing.full {
                "the disk takes nothing more; what comes is kept in memory for a while"
            } else {
                "the disk takes what comes again"
            };
            self.between(voice, text);
        }
        for index in 0..self.lines.len() {
            let line = &mut self.lines[index];
            if line.survey.bytes() < JUDGED_AT || std::mem::replace(&mut line.judged, true) {
                continue;
            }
            let (Some(serial), characters) = (line.line.serial, line.survey.sample().to_vec()) else { continue };
            let faults = characters.iter().any(|character| character.fault.is_some());
            let found = clues(&Heard { serial, characters, faults }, &mut Speeds::new());
            let name = names::shown(&line.line);
            for clue in found {
                self.between(voice, &format!("{name}: {}", clue_text(&clue, Some(serial))));
            }
        }
    }

    /// What each line was.
    pub(super) fn summary(&self) -> String {
        let line = |line: &Line| {
            let (parity, framing, breaks) = line.survey.faults();
            let faults = if parity + framing + breaks > 0 {
                format!(", {}", plural(parity + framing + breaks, "faulty character"))
            } else {
                String::new()
            };
            format!("  {}: {}{faults}\n", names::shown(&line.line), plural(line.survey.bytes(), "byte"))
        };
        self.lines.iter().map(line).collect()
    }
}
