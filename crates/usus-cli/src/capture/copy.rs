//! Captures as sources of a capture: a part of one, or several as one.

use std::path::Path;

use usus_io::{Original, copy_captures};

use crate::Ending;
use crate::arguments::Capture;
use crate::safe::Safe;
use crate::source::Opened;
use crate::summary::{grouped, plural};
use crate::voice::Voice;

pub(super) fn run(opened: Vec<Opened>, arguments: &Capture, out: &Path, voice: &Voice) -> Result<Ending, String> {
    let live = [
        ("--append", arguments.append),
        ("--note", !arguments.note.is_empty()),
        ("--serve", !arguments.serve.is_empty()),
        ("--convert", arguments.convert.is_some()),
        ("--compress", arguments.compress),
    ];
    if let Some((option, _)) = live.into_iter().find(|(_, given)| *given) {
        return Err(format!("{option} is for lines that are recorded; captures are only copied"));
    }
    if out.is_dir() {
        return Err(format!("{} is a directory; name the file that they are copied into", out.display()));
    }
    let originals = opened
        .into_iter()
        .map(|opened| Original { name: opened.line.clone().unwrap_or_default(), source: opened.into_source() });
    let copied = copy_captures(originals.collect(), out).map_err(|error| error.to_string())?;
    if copied.bytes == 0 {
        // What holds nothing is no use to anybody.
        let _ = std::fs::remove_file(out);
        voice.fail("no bytes came: nothing was received in that time");
        return Ok(Ending::NoBytes);
    }
    if copied.torn > 0 {
        voice.warn(&format!("a torn end of {} could not be read", plural(copied.torn, "byte")));
    }
    let text = format!(
        "copied {} bytes of {} into {}",
        grouped(copied.bytes),
        plural(copied.lines as u64, "line"),
        out.display()
    );
    let data = serde_json::json!({
        "copied": copied.bytes, "lines": copied.lines, "torn": copied.torn, "file": out.display().to_string(),
    });
    voice.tell("summary", &Safe(&text).to_string(), data);
    Ok(Ending::Done)
}
