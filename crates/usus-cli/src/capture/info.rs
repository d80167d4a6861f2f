//! `usus capture --info`: what a capture holds.

use std::path::Path;

use serde_json::{Value, json};
use usus::Time;
use usus_io::{LineInfo, Source, SourceError, SourceEvent, Torn, open, received_text};

use crate::Ending;
use crate::inspect::loss_text;
use crate::safe::Safe;
use crate::summary::{grouped, plural};
use crate::voice::Voice;

/// So many notes and losses are shown to people.
const SHOWN: usize = 40;
/// So many are kept to be told.
const KEPT: usize = 10_000;

pub(super) fn run(path: &Path, voice: &Voice) -> Ending {
    match tell(path, voice) {
        Ok(()) => Ending::Done,
        Err(text) => {
            voice.fail(&text);
            Ending::Failed
        }
    }
}

/// Says what a capture holds; of a broken one, what came before the break, too.
fn tell(path: &Path, voice: &Voice) -> Result<(), String> {
    let mut source = open(path).map_err(|error| error.to_string())?;
    if !source.has_times() {
        return Err(format!("{} is no capture", path.display()));
    }
    let mut held = Held::default();
    let read = held.read(&mut *source);
    held.stream = source.stream().map(str::to_owned);
    held.torn = source.torn();
    let text = held.text(&path.display().to_string());
    for remark in source.remarks() {
        voice.warn(&format!("{}: {remark}", path.display()));
    }
    let harmless: Vec<String> = text.trim_end().split('\n').map(|line| Safe(line).to_string()).collect();
    voice.tell("summary", &harmless.join("\n"), held.json(&path.display().to_string()));
    read.map_err(|error| error.to_string())
}

/// What a capture holds.
#[derive(Default)]
struct Held {
    stream: Option<String>,
    lines: Vec<Line>,
    remarks: Vec<Remark>,
    /// Notes and losses beyond those.
    more: u64,
    torn: Option<Torn>,
}

/// What is gathered of one line.
struct Line {
    info: LineInfo,
    bytes: u64,
    chunks: u64,
    faults: u64,
    times: Option<(Time, Time)>,
}

/// A note or a loss.
struct Remark {
    line: usize,
    time: Option<Time>,
    kind: &'static str,
    text: String,
}

impl Held {
    fn read(&mut self, source: &mut dyn Source) -> Result<(), SourceError> {
        while let Some(event) = source.next()? {
            match event {
                SourceEvent::Line(info) => {
                    self.lines.push(Line { info, bytes: 0, chunks: 0, faults: 0, times: None });
                }
                SourceEvent::Chunk { line, time, bytes, faults } => {
                    let Some(line) = self.lines.get_mut(line) else { continue };
                    line.bytes += bytes.len() as u64;
                    line.chunks += 1;
                    line.faults += faults.len() as u64;
                    if let Some(time) = time {
                        let (first, last) = line.times.unwrap_or((time, time));
                        line.times = Some((first.min(time), last.max(time)));
                    }
                }
                SourceEvent::Loss { line, why, time } => {
                    self.remark(Remark { line, time, kind: "loss", text: loss_text(why).to_owned() });
                }
                SourceEvent::Note { line, time, text } => self.remark(Remark { line, time, kind: "note", text }),
                _ => {}
            }
        }
        Ok(())
    }

    fn remark(&mut self, remark: Remark) {
        if self.remarks.len() < KEPT {
            self.remarks.push(remark);
        } else {
            self.more += 1;
        }
    }

    /// The name of a line.
    fn name(&self, line: usize) -> &str {
        self.lines.get(line).map_or("", |line| line.info.name.as_str())
    }

    fn text(&self, path: &str) -> String {
        let mut text = format!("{path}: stream {}\n", self.stream.as_deref().unwrap_or("without an id"));
        text.extend(self.lines.iter().map(Line::text));
        for remark in self.remarks.iter().take(SHOWN) {
            let time = remark.time.map_or(String::new(), |time| received_text(time, 3));
            let several = self.lines.len() > 1;
            let on = if several { format!(" ({})", self.name(remark.line)) } else { String::new() };
            text += &format!("  {time} {}{on}: {}\n", remark.kind, remark.text);
        }
        if let Some(more) = self.remarks.len().checked_sub(SHOWN).filter(|more| *more > 0) {
            let others = if self.more > 0 { "some of them" } else { "all" };
            text += &format!("  and {} more (--messages json has {others})\n", grouped(more as u64 + self.more));
        }
        if let Some(torn) = self.torn {
            text += &format!(
                "  its end is torn: {} from byte {} on; --append cuts it off and goes on\n",
                plural(torn.bytes, "byte"),
                grouped(torn.at)
            );
        }
        text
    }

    fn json(&self, path: &str) -> Value {
        json!({
            "capture": path,
            "stream": self.stream,
            "lines": self.lines.iter().map(Line::json).collect::<Vec<_>>(),
            "remarks": self.remarks.iter().map(|remark| json!({
                "line": self.name(remark.line), "time": remark.time.map(|time| received_text(time, 9)),
                "kind": remark.kind, "text": remark.text,
            })).collect::<Vec<_>>(),
            "remarks_not_listed": self.more,
            "torn": self.torn.map(|torn| json!({"at": torn.at, "bytes": torn.bytes})),
        })
    }
}

impl Line {
    fn text(&self) -> String {
        let info = &self.info;
        let called = if info.name.is_empty() { "line" } else { &info.name };
        let about = info.about.as_ref().map_or(String::new(), |about| format!(", {about}"));
        let serial = info.serial.map_or("unknown settings".to_owned(), |serial| serial.to_string());
        let lateness = self.lateness().map_or(String::new(), |lateness| format!(", times put {lateness} earlier"));
        let (bytes, chunks) = (plural(self.bytes, "byte"), plural(self.chunks, "chunk"));
        let from = grouped(info.start);
        let mut text = format!("  {called}: {serial}{about}{lateness}; {bytes} in {chunks} from offset {from}");
        if self.faults > 0 {
            text += &format!(", {}", plural(self.faults, "faulty character"));
        }
        if let Some((first, last)) = self.times {
            let seconds = last.since(first).nanoseconds() as f64 / 1e9;
            text += &format!("\n    {} to {}, {seconds:.1} s", received_text(first, 3), received_text(last, 3));
        }
        text + "\n"
    }

    fn json(&self) -> Value {
        let info = &self.info;
        json!({
            "name": info.name, "serial": info.serial.map(|serial| serial.to_string()), "about": info.about,
            "latency_ms": info.latency, "lateness": self.lateness(),
            "from": info.start, "bytes": self.bytes, "chunks": self.chunks, "faults": self.faults,
            "received": self.times.map(|(first, last)| [received_text(first, 9), received_text(last, 9)]),
        })
    }

    /// By how much its times are earlier than when its bytes arrived, if they are.
    fn lateness(&self) -> Option<String> {
        let nanoseconds = self.info.lateness.nanoseconds();
        (nanoseconds != 0).then(|| format!("{} s", nanoseconds as f64 / 1e9))
    }
}
