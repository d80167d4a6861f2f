//! `usus capture`: keep raw bytes with their times, and say all the while that it is recording.

mod info;
pub(crate) mod names;
mod status;

use std::io::{self, BufRead, IsTerminal};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use usus::{Fault, Loss, Time};
use usus_io::{RecordError, RecordedLine, Recorder, Source, SourceEvent};

use crate::Ending;
use crate::arguments::Capture;
use crate::source::{Opened, open_source};
use crate::stop::stop_flag;
use crate::summary::{grouped, plural};
use crate::voice::Voice;
use status::Status;

/// How often what is due is written and said.
const TICK: Duration = Duration::from_millis(100);
/// Chunks that may wait for the disk.
const WAITING: usize = 4_096;

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

/// What a line has to say to the one who writes.
enum Said {
    Chunk { time: Time, bytes: Vec<u8>, faults: Vec<Fault> },
    Loss { time: Time, why: Loss },
    Gone,
    End,
    Failed(String),
}

fn record(arguments: &Capture, voice: &Voice) -> Result<Ending, String> {
    let stop = stop_flag(voice);
    let mut opened = Vec::new();
    for text in &arguments.sources {
        let (name, source) = names::named(text);
        let line = open_source(source, &arguments.opening, None)?;
        if line.source.has_lines() {
            return Err(format!(
                "{source} has lines of its own; a capture of it is made with usus convert or by copying it"
            ));
        }
        opened.push((name.map(str::to_owned), line));
    }
    let lines = names::lines(&opened, arguments.opening.serial)?;
    let wall = wall_clock();
    let directory = arguments.out.as_deref().filter(|out| out.is_dir());
    let path = match (directory, &arguments.out) {
        (Some(directory), _) => names::in_directory(directory, &lines, wall),
        (None, Some(file)) => file.clone(),
        (None, None) => return Err("where to record is not said".to_owned()),
    };
    let mut recorder = open_recorder(&path, &lines, arguments.append, wall).map_err(|error| error.to_string())?;
    for note in &arguments.note {
        recorder.note(0, wall, note);
    }
    let (sender, receiver) = sync_channel(WAITING);
    let sources = opened.into_iter().map(|(_, opened)| opened);
    for (line, Opened { source, .. }) in sources.enumerate() {
        let (sender, stop) = (sender.clone(), Arc::clone(&stop));
        std::thread::spawn(move || listen(line, source, &sender, &stop));
    }
    drop(sender);
    let notes = typed_notes();
    let rotation =
        Rotation { size: arguments.rotate_size, every: arguments.rotate_every, first: path.clone(), parts: 1 };
    let mut recording = Recording {
        status: Status::new(&lines, voice),
        began: Instant::now(),
        last: Instant::now(),
        part_began: Instant::now(),
        open: lines.len(),
        files: vec![path],
        failed: None,
        rotation,
        notes,
        lines,
    };
    recorder = recording.run(recorder, arguments, &receiver, &stop, voice)?;
    recording.end(recorder, voice)
}

fn open_recorder(path: &Path, lines: &[RecordedLine], append: bool, now: Time) -> Result<Recorder, RecordError> {
    match append && path.exists() {
        true => Recorder::append(path, lines, now),
        false => Recorder::create(path, &names::stream(lines, now), lines),
    }
}

/// The wall clock.
pub(crate) fn wall_clock() -> Time {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Time::from_nanoseconds(since.as_nanos() as i64)
}

/// Reads one line until it ends or it is to stop.
fn listen(line: usize, mut source: Box<dyn Source + Send>, sender: &SyncSender<(usize, Said)>, stop: &AtomicBool) {
    let timeless = !source.has_times();
    loop {
        if stop.load(Ordering::Relaxed) {
            let _ = sender.send((line, Said::End));
            return;
        }
        let said = match source.next() {
            Ok(Some(SourceEvent::Chunk { time, bytes, faults, .. })) => {
                // What has no times of its own arrives now.
                let time = if timeless { wall_clock() } else { time.unwrap_or_else(wall_clock) };
                Said::Chunk { time, bytes: bytes.to_vec(), faults: faults.to_vec() }
            }
            Ok(Some(SourceEvent::Loss { why, time, .. })) => Said::Loss { time: time.unwrap_or_else(wall_clock), why },
            Ok(Some(SourceEvent::Gone { .. })) => Said::Gone,
            Ok(Some(_)) => continue,
            Ok(None) => Said::End,
            Err(error) => Said::Failed(error.to_string()),
        };
        let over = matches!(said, Said::End | Said::Failed(_));
        if sender.send((line, said)).is_err() || over {
            return;
        }
    }
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

/// When another file is begun.
struct Rotation {
    size: Option<u64>,
    every: Option<usus::Span>,
    first: PathBuf,
    parts: u32,
}

struct Recording {
    lines: Vec<RecordedLine>,
    status: Status,
    began: Instant,
    /// When anything last came.
    last: Instant,
    part_began: Instant,
    /// Lines that have not ended.
    open: usize,
    files: Vec<PathBuf>,
    failed: Option<String>,
    rotation: Rotation,
    notes: Receiver<String>,
}

impl Recording {
    fn run(
        &mut self,
        mut recorder: Recorder,
        arguments: &Capture,
        receiver: &Receiver<(usize, Said)>,
        stop: &AtomicBool,
        voice: &Voice,
    ) -> Result<Recorder, String> {
        self.status.begin(recorder.path(), voice);
        while self.open > 0 {
            match receiver.recv_timeout(TICK) {
                Ok((line, said)) => self.take(line, said, &mut recorder, voice),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => break,
            }
            recorder.tick();
            while let Ok(note) = self.notes.try_recv() {
                let note = note.trim();
                if !note.is_empty() {
                    recorder.note(0, wall_clock(), note);
                    self.status.noted(note, voice);
                }
            }
            self.status.tell(recorder.standing(), recorder.path(), self.last.elapsed(), voice);
            if self.is_time_to_rotate(&mut recorder) {
                recorder = self.rotate(recorder)?;
            }
            let passed = |span: Option<usus::Span>, since: Instant| {
                span.is_some_and(|span| since.elapsed().as_nanos() as i64 >= span.nanoseconds())
            };
            let enough = arguments.stop_at.is_some_and(|bytes| recorder.standing().bytes >= bytes);
            if enough || passed(arguments.stop_after, self.began) || passed(arguments.stop_idle, self.last) {
                stop.store(true, Ordering::Relaxed);
            }
        }
        Ok(recorder)
    }

    fn take(&mut self, line: usize, said: Said, recorder: &mut Recorder, voice: &Voice) {
        match said {
            Said::Chunk { time, bytes, faults } => {
                self.last = Instant::now();
                self.status.take(line, &bytes, &faults);
                recorder.chunk(line, time, &bytes, &faults);
            }
            Said::Loss { time, why } => {
                recorder.loss(line, time, why);
                self.status.lost(line, why, voice);
            }
            Said::Gone => self.status.gone(line, voice),
            Said::End => self.open -= 1,
            Said::Failed(error) => {
                self.open -= 1;
                voice.warn(&format!("{}: {error}", names::shown(&self.lines[line])));
                self.failed = Some(error);
            }
        }
    }

    fn is_time_to_rotate(&self, recorder: &mut Recorder) -> bool {
        let large = self.rotation.size.is_some_and(|size| recorder.size() >= size);
        let old =
            self.rotation.every.is_some_and(|every| self.part_began.elapsed().as_nanos() as i64 >= every.nanoseconds());
        large || old
    }

    fn rotate(&mut self, recorder: Recorder) -> Result<Recorder, String> {
        let next = loop {
            self.rotation.parts += 1;
            let next = names::part(&self.rotation.first, self.rotation.parts);
            // Parts of an earlier recording are not touched.
            if !next.exists() {
                break next;
            }
        };
        self.part_began = Instant::now();
        self.files.push(next.clone());
        recorder.go_on_in(&next).map_err(|error| error.to_string())
    }

    fn end(self, recorder: Recorder, voice: &Voice) -> Result<Ending, String> {
        self.status.end();
        let standing = recorder.finish().map_err(|error| error.to_string())?;
        let seconds = self.began.elapsed().as_secs_f64();
        let files: Vec<String> = self.files.iter().map(|path| path.display().to_string()).collect();
        let into = match &files[..] {
            [first, .., last] => format!("{} files, {first} to {last}", files.len()),
            one => one.concat(),
        };
        let mut text = format!("recorded {} in {seconds:.1} s into {into}\n", plural(standing.bytes, "byte"));
        text += &self.status.summary();
        if standing.lost > 0 {
            text += &format!("  {} could not be kept: the disk was full\n", plural(standing.lost, "byte"));
        }
        let data = serde_json::json!({
            "recorded": standing.bytes, "lost": standing.lost, "seconds": seconds, "files": files,
        });
        voice.tell("summary", crate::safe::lines(&text).trim_end(), data);
        if let Some(error) = self.failed {
            return Err(error);
        }
        match (standing.bytes, standing.lost) {
            (_, 1..) => Err(format!("{} bytes were lost", grouped(standing.lost))),
            (0, _) => {
                voice.fail("no bytes came");
                Ok(Ending::NoBytes)
            }
            _ => Ok(Ending::Done),
        }
    }
}
