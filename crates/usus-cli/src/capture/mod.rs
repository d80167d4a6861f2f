//! `usus capture`: keep raw bytes with their times, and say all the while that it is recording.

mod conversion;
mod copy;
mod info;
pub(crate) mod names;
mod status;

use std::io::{self, BufRead, IsTerminal};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, sync_channel};
use std::time::{Duration, Instant};

use usus::format::Serial;
use usus::{Span, Time};
use usus_io::{
    Clock, RecordError, RecordedLine, RecordedSource, Recorder, Rotation, ServePlace, Server, Source, SourceError,
    SourceEvent, Stop, Together,
};

use crate::Ending;
use crate::arguments::Capture;
use crate::convert::Target;
use crate::formats;
use crate::safe::Safe;
use crate::serving::warn_of_readers;
use crate::source::{Opened, named, open_sources};
use crate::stop::stop_flag;
use crate::summary::{grouped, plural};
use crate::voice::Voice;
use conversion::Conversion;
use status::Status;

/// How often it is looked at what is due.
const TICK: Duration = Duration::from_millis(50);

pub(crate) fn run(arguments: &Capture, voice: &Voice) -> Ending {
    if let Some(path) = &arguments.info {
        return info::run(path, voice);
    }
    match record(arguments, voice) {
        Ok(ending) => ending,
        Err(text) => {
            voice.fail(&text);
            Ending::Failed
        }
    }
}

fn record(arguments: &Capture, voice: &Voice) -> Result<Ending, String> {
    let Some(out) = &arguments.out else { return Err("where to record is not said".to_owned()) };
    if let Some(refused) = not_a_capture(out) {
        voice.fail(&refused);
        return Ok(Ending::WrongUsage);
    }
    let (mut target, usual) = match formats_of(arguments, voice) {
        Ok(found) => found,
        Err(ending) => return Ok(ending),
    };
    let (stop, clock) = (stop_flag(voice), Clock::system());
    let opened = open_sources(&arguments.sources, &arguments.opening, usual, &clock)?;
    let captures = opened.iter().filter(|opened| opened.is_capture()).count();
    if captures == opened.len() {
        return copy::run(opened, arguments, out, voice);
    }
    if captures > 0 {
        return Err("captures are copied and lines are recorded; not both into one file".to_owned());
    }
    let names = names::line_names(&opened)?;
    let known = opened.iter().zip(&names).filter(|(opened, _)| !opened.peek().has_lines());
    let lines: Vec<RecordedLine> = known.map(|(opened, name)| names::line(name.clone(), opened)).collect();
    let now = clock.now();
    let path = file_for(out, &opened, &names, now);
    let servers = open_servers(&arguments.serve, &names, voice)?;
    let fresh = !path.exists();
    let recorder = open_recorder(&path, &lines, arguments.append, now).map_err(|error| error.to_string())?;
    if let Some(target) = &mut target {
        opened.iter().filter_map(Opened::file).for_each(|path| target.protect(&path));
        target.protect(&path);
    }
    let name = opened.iter().map(|opened| opened.name.as_str()).collect::<Vec<_>>().join(" and ");
    let members = opened.into_iter().zip(names).map(|(opened, name)| opened.into_member(name)).collect();
    let together = Together::listen(members, clock.clone(), &Stop::from(Arc::clone(&stop)));
    let conversion = target
        .map(|target| {
            let kept = (path.as_path(), (!fresh).then_some(now));
            Conversion::begin(target, &name, &together, recorder.stream(), kept, voice)
        })
        .transpose();
    let conversion = match conversion {
        Ok(conversion) => conversion,
        Err(ending) => {
            if fresh {
                // Nothing was recorded into it.
                let _ = std::fs::remove_file(&path);
            }
            return Ok(ending);
        }
    };
    let mut kept = RecordedSource::new(Box::new(together), recorder, clock);
    let mut rotation = Rotation::default();
    (rotation.size, rotation.every) = (arguments.rotate_size, arguments.rotate_every);
    rotation.compress = arguments.compress;
    kept.rotate(rotation);
    if conversion.is_some() {
        kept.write_at_once();
    }
    servers.into_iter().for_each(|(line, server)| kept.serve(line, server));
    arguments.note.iter().for_each(|note| kept.note(0, note));
    let status = Status::new(&lines, voice);
    status.begin(kept.path(), voice);
    let mut recording = Recording {
        status,
        began: Instant::now(),
        last: Instant::now(),
        looked: Instant::now(),
        failed: None,
        notes: typed_notes(),
        conversion,
    };
    recording.run(&mut kept, arguments, &stop, voice);
    Ok(recording.end(&mut kept, voice))
}

/// What is converted at the same time, and the line settings of the format that is named.
fn formats_of(arguments: &Capture, voice: &Voice) -> Result<(Option<Target>, Option<Serial>), Ending> {
    match (&arguments.convert, &arguments.format) {
        (Some(out), Some(format)) => {
            let target = Target::load(format, out, &arguments.tables, arguments.append, voice)?;
            let serial = target.serial;
            Ok((Some(target), serial))
        }
        (None, Some(format)) => {
            let loaded = formats::load(format, voice).ok_or(Ending::Failed)?;
            Ok((None, loaded.format.serial))
        }
        (Some(_), None) => {
            voice.fail("--convert needs --format: what is to be made of the bytes");
            Err(Ending::WrongUsage)
        }
        (None, None) => Ok((None, None)),
    }
}

/// Why a file cannot be meant to be recorded into, by its name.
fn not_a_capture(out: &Path) -> Option<String> {
    let ending = out.extension()?.to_str()?.to_lowercase();
    let named = |what: &str, way: &str| {
        let stem = out.with_extension("pcapng");
        Some(format!(
            "{} is named like {what}, and a recording is a capture: write --out {}{way}",
            out.display(),
            stem.display()
        ))
    };
    match ending.as_str() {
        "csv" | "jsonl" | "json" | "xlsx" | "sqlite" | "db" | "parquet" => {
            named("a table", &format!(" --convert {} --format FORMAT, or convert the capture later", out.display()))
        }
        "bin" | "raw" | "dat" | "txt" | "log" | "nmea" => {
            named("raw bytes", "; usus replay takes the raw bytes out of a capture")
        }
        "toml" => named("a format file", ""),
        _ => None,
    }
}

/// The file that is recorded into: the one that is named, or one in the directory that is.
fn file_for(out: &Path, opened: &[Opened], names: &[String], now: Time) -> PathBuf {
    if !out.is_dir() {
        return out.to_owned();
    }
    // A single line without a name is named after its source.
    let called = opened.iter().zip(names).map(|(opened, name)| match name.is_empty() {
        true => opened.name.as_str(),
        false => name.as_str(),
    });
    names::in_directory(out, called, now)
}

fn open_recorder(path: &Path, lines: &[RecordedLine], append: bool, now: Time) -> Result<Recorder, RecordError> {
    match append && path.exists() {
        true => Recorder::append(path, lines, now),
        false => Recorder::create(path, &names::stream(lines, now), lines),
    }
}

/// Opens the places at which lines are served, each with the number of its line.
fn open_servers(places: &[String], names: &[String], voice: &Voice) -> Result<Vec<(usize, Server)>, String> {
    let open = |text: &String| {
        let (name, place) = named(text);
        let line = match name {
            Some(name) => names.iter().position(|known| known == name).ok_or(format!("there is no line {name}"))?,
            None if names.len() == 1 => 0,
            None => {
                return Err(format!("which line is served at {place} is not said; it is, as in {}={place}", names[0]));
            }
        };
        let place = ServePlace::parse(place).and_then(Result::ok);
        let place = place.ok_or(format!("`{text}` is no place to serve at; pty, pty:LINK and tcp://:PORT are"))?;
        let server = Server::open(&place).map_err(|error| error.to_string())?;
        let what = if names[line].is_empty() { "what arrives" } else { &names[line] };
        warn_of_readers(&place, what, voice);
        let text = format!("serving {what} at {server}");
        voice.tell("info", &Safe(&text).to_string(), serde_json::json!({"serving": what, "at": server.to_string()}));
        Ok((line, server))
    };
    places.iter().map(open).collect()
}

/// Lines that are typed while it runs. Where nobody types, there are none.
fn typed_notes() -> Receiver<String> {
    let (sender, receiver) = sync_channel(16);
    if io::stdin().is_terminal() {
        std::thread::spawn(move || {
            for line in io::stdin().lock().lines().map_while(Result::ok) {
                if sender.send(line).is_err() {
                    return;
                }
            }
        });
    }
    receiver
}

struct Recording {
    status: Status,
    began: Instant,
    /// When anything last came.
    last: Instant,
    /// When it was last looked at what is due.
    looked: Instant,
    failed: Option<String>,
    notes: Receiver<String>,
    conversion: Option<Conversion>,
}

impl Recording {
    /// Records until all lines have ended.
    fn run(&mut self, kept: &mut RecordedSource, arguments: &Capture, stop: &AtomicBool, voice: &Voice) {
        loop {
            match kept.next() {
                Ok(Some(event)) => self.take(event, voice),
                Ok(None) => return,
                // What was recorded until then, and what was lost, is told in any case.
                Err(error @ SourceError::NotKept(_)) => {
                    self.failed = Some(error.to_string());
                    return;
                }
                // The other lines go on.
                Err(error) => {
                    self.status.warn_of(&error.to_string(), voice);
                    self.failed = Some(error.to_string());
                }
            }
            if arguments.stop_at.is_some_and(|bytes| kept.standing().bytes >= bytes) {
                stop.store(true, Ordering::Relaxed);
            }
            if self.looked.elapsed() < TICK {
                continue;
            }
            self.looked = Instant::now();
            while let Ok(note) = self.notes.try_recv() {
                let note = note.trim();
                if !note.is_empty() {
                    kept.note(0, note);
                    self.status.noted(note, voice);
                }
            }
            let converted = self.conversion.as_ref().map(Conversion::counts);
            self.status.tell(kept.standing(), kept.path(), converted, voice);
            let passed = |span: Option<Span>, since: Instant| {
                span.is_some_and(|span| since.elapsed().as_nanos() as i64 >= span.nanoseconds())
            };
            if passed(arguments.stop_after, self.began) || passed(arguments.stop_idle, self.last) {
                stop.store(true, Ordering::Relaxed);
            }
        }
    }

    fn take(&mut self, event: SourceEvent<'_>, voice: &Voice) {
        match &event {
            SourceEvent::Line(info) => self.status.line(&info.name),
            SourceEvent::Chunk { line, bytes, faults, .. } => {
                self.last = Instant::now();
                self.status.take(*line, bytes, faults);
            }
            SourceEvent::Loss { line, why, .. } => self.status.lost(*line, *why, voice),
            SourceEvent::Note { text, .. } => self.status.warn_of(text, voice),
            SourceEvent::Gone { line, .. } => {
                self.status.gone(*line, voice);
                return;
            }
            _ => {}
        }
        if let Some(conversion) = &mut self.conversion
            && !conversion.take(event)
        {
            self.status.warn_of("the conversion has ended early; the recording goes on", voice);
        }
    }

    fn end(self, kept: &mut RecordedSource, voice: &Voice) -> Ending {
        voice.clear_status();
        for remark in kept.remarks() {
            voice.warn(&remark.to_string());
        }
        let standing = kept.standing();
        let seconds = self.began.elapsed().as_secs_f64();
        let files: Vec<String> = kept.files().iter().map(|path: &PathBuf| path.display().to_string()).collect();
        let into = match &files[..] {
            [first, .., last] => format!("{} files, {first} to {last}", files.len()),
            one => one.concat(),
        };
        let mut text = format!("recorded {} in {seconds:.1} s into {into}\n", plural(standing.bytes, "byte"));
        text += &self.status.summary();
        if standing.losses > 0 {
            text += &format!("  bytes are missing at {}\n", plural(standing.losses, "place"));
        }
        if standing.lost > 0 {
            text += &format!("  {} could not be kept: the disk was full\n", plural(standing.lost, "byte"));
        }
        let (mut returned, mut untaken) = (0, 0);
        for server in kept.servers_mut() {
            returned += server.received();
            untaken += server.dropped();
        }
        if untaken > 0 {
            text += &format!("  {} were not taken by those to whom they were served\n", plural(untaken, "byte"));
        }
        if returned > 0 {
            text += &format!("  {} came from those who were served, and went nowhere\n", plural(returned, "byte"));
        }
        let data = serde_json::json!({
            "recorded": standing.bytes, "lost": standing.lost, "losses": standing.losses, "seconds": seconds,
            "files": files, "served_untaken": untaken, "served_received": returned,
        });
        voice.tell("summary", crate::safe::lines(&text).trim_end(), data);
        let converted = self.conversion.map_or(Ending::Done, |conversion| conversion.end(voice));
        if let Some(error) = self.failed {
            voice.fail(&error);
            return Ending::Failed;
        }
        if standing.bytes == 0 {
            voice.fail("no bytes came");
            return Ending::NoBytes;
        }
        if standing.losses > 0 {
            let lost = if standing.lost > 0 { format!("{} bytes, ", grouped(standing.lost)) } else { String::new() };
            voice.fail(&format!("bytes were lost: {lost}{}", plural(standing.losses, "place")));
            return if converted == Ending::Failed { converted } else { Ending::BytesLost };
        }
        converted
    }
}
