//! `usus capture --info`: what a capture holds.

use std::path::Path;

use serde_json::json;
use usus::Time;
use usus_io::{LineInfo, SourceEvent, open, received_text};

use crate::Ending;
use crate::inspect::loss_text;
use crate::safe::Safe;
use crate::summary::{grouped, plural};
use crate::voice::Voice;

/// So many notes and losses are shown to people.
const SHOWN: usize = 40;

/// What is gathered of one line.
struct Line {
    info: LineInfo,
    bytes: u64,
    chunks: u64,
    faults: u64,
    times: Option<(Time, Time)>,
}

pub(super) fn run(path: &Path, voice: &Voice) -> Ending {
    match tell(path, voice) {
        Ok(()) => Ending::Done,
        Err(text) => {
            voice.fail(&text);
            Ending::Failed
        }
    }
}

/// By how much a line's times are earlier than when its bytes arrived, if they are.
fn lateness(info: &LineInfo) -> Option<String> {
    let nanoseconds = info.lateness.nanoseconds();
    (nanoseconds != 0).then(|| format!("{} s", nanoseconds as f64 / 1e9))
}

fn tell(path: &Path, voice: &Voice) -> Result<(), String> {
    let mut source = open(path).map_err(|error| error.to_string())?;
    if !source.has_times() {
        return Err(format!("{} is no capture", path.display()));
    }
    let mut lines: Vec<Line> = Vec::new();
    let mut remarks = Vec::new();
    let mut error = None;
    loop {
        let event = match source.next() {
            Ok(Some(event)) => event,
            Ok(None) => break,
            Err(found) => {
                error = Some(found.to_string());
                break;
            }
        };
        let mut remark = |line: usize, time: Option<Time>, kind: &'static str, text: String| {
            remarks.push((line, time, kind, text));
        };
        match event {
            SourceEvent::Line(info) => lines.push(Line { info, bytes: 0, chunks: 0, faults: 0, times: None }),
            SourceEvent::Chunk { line, time, bytes, faults } => {
                let Some(line) = lines.get_mut(line) else { continue };
                line.bytes += bytes.len() as u64;
                line.chunks += 1;
                line.faults += faults.len() as u64;
                if let Some(time) = time {
                    line.times =
                        Some(line.times.map_or((time, time), |(first, last)| (first.min(time), last.max(time))));
                }
            }
            SourceEvent::Loss { line, why, time } => remark(line, time, "loss", loss_text(why).to_owned()),
            SourceEvent::Note { line, time, text } => remark(line, time, "note", text),
            _ => {}
        }
    }
    let several = lines.len() > 1;
    let name = |line: usize| lines.get(line).map_or("", |line| line.info.name.as_str());
    let mut text = format!("{}: stream {}\n", path.display(), source.stream().unwrap_or("without an id"));
    for line in &lines {
        let about = line.info.about.as_ref().map_or(String::new(), |about| format!(", {about}"));
        let serial = line.info.serial.map_or("unknown settings".to_owned(), |serial| serial.to_string());
        let lateness = lateness(&line.info).map_or(String::new(), |lateness| format!(", times put {lateness} earlier"));
        let called = if line.info.name.is_empty() { "line".to_owned() } else { line.info.name.clone() };
        text += &format!(
            "  {called}: {serial}{about}{lateness}; {} in {} from offset {}",
            plural(line.bytes, "byte"),
            plural(line.chunks, "chunk"),
            grouped(line.info.start)
        );
        if line.faults > 0 {
            text += &format!(", {}", plural(line.faults, "faulty character"));
        }
        if let Some((first, last)) = line.times {
            let seconds = last.since(first).nanoseconds() as f64 / 1e9;
            text += &format!("\n    {} to {}, {seconds:.1} s", received_text(first, 3), received_text(last, 3));
        }
        text.push('\n');
    }
    for (line, time, kind, what) in remarks.iter().take(SHOWN) {
        let time = time.map_or(String::new(), |time| received_text(time, 3));
        let on = if several { format!(" ({})", name(*line)) } else { String::new() };
        text += &format!("  {time} {kind}{on}: {what}\n");
    }
    if let Some(more) = remarks.len().checked_sub(SHOWN).filter(|more| *more > 0) {
        text += &format!("  and {} more (--messages json has all)\n", grouped(more as u64));
    }
    if let Some(torn) = source.torn() {
        text += &format!(
            "  its end is torn: {} from byte {} on; --append cuts it off and goes on\n",
            plural(torn.bytes, "byte"),
            grouped(torn.at)
        );
    }
    let data = json!({
        "capture": path.display().to_string(),
        "stream": source.stream(),
        "lines": lines.iter().map(|line| json!({
            "name": line.info.name, "serial": line.info.serial.map(|serial| serial.to_string()), "about": line.info.about,
            "latency_ms": line.info.latency, "lateness": lateness(&line.info),
            "from": line.info.start, "bytes": line.bytes, "chunks": line.chunks, "faults": line.faults,
            "received": line.times.map(|(first, last)| [received_text(first, 9), received_text(last, 9)]),
        })).collect::<Vec<_>>(),
        "remarks": remarks.iter().map(|(line, time, kind, what)| json!({
            "line": name(*line), "time": time.map(|time| received_text(time, 9)), "kind": kind, "text": what,
        })).collect::<Vec<_>>(),
        "torn": source.torn().map(|torn| json!({"at": torn.at, "bytes": torn.bytes})),
    });
    let harmless: Vec<String> = text.trim_end().split('\n').map(|line| Safe(line).to_string()).collect();
    voice.tell("summary", &harmless.join("\n"), data);
    error.map_or(Ok(()), Err)
}
