//! `usus replay`: what was recorded, played to another program as if the device were there.

use std::fs::File;
use std::io::BufWriter;
use std::time::Instant;

use serde_json::json;
use usus_io::{ReplayError, ReplayOptions, ServePlace, Server, Stop, extract, replay};

use crate::Ending;
use crate::arguments::Replay;
use crate::safe::Safe;
use crate::serving::warn_of_readers;
use crate::source::open_source;
use crate::stop::stop_flag;
use crate::summary::{grouped, plural};
use crate::voice::Voice;

pub(crate) fn run(arguments: &Replay, voice: &Voice) -> Ending {
    match play(arguments, voice) {
        Ok(ending) => ending,
        Err(text) => {
            voice.fail(&text);
            Ending::Failed
        }
    }
}

fn play(arguments: &Replay, voice: &Voice) -> Result<Ending, String> {
    let stop = Stop::from(stop_flag(voice));
    let opened = open_source(&arguments.capture, &arguments.opening(), None)?;
    let name = opened.name.clone();
    let mut source = opened.into_source();
    let why = |error: ReplayError| match error {
        ReplayError::NoTimes => format!("{name} holds no times; play it with --speed max"),
        ReplayError::Several { names } => {
            format!("{name} holds several lines: {}; say with --line which is to be played", names.join(", "))
        }
        ReplayError::Source(error) => error.to_string(),
        other => format!("{name}: {other}"),
    };
    let begun = Instant::now();
    let replayed = match ServePlace::parse(&arguments.to) {
        None => {
            let to = &arguments.to;
            let file = File::create_new(to).map_err(|error| format!("cannot make {to}: {error}"))?;
            let bytes = extract(&mut *source, arguments.line.as_deref(), &mut BufWriter::new(file)).map_err(why);
            let bytes = bytes.inspect_err(|_| {
                let _ = std::fs::remove_file(to);
            })?;
            let text = format!("wrote {} into {}", plural(bytes, "raw byte"), Safe(to));
            voice.tell("summary", &text, json!({"wrote": to, "bytes": bytes}));
            return Ok(ending(bytes, &name, &stop, voice));
        }
        Some(place) => {
            let place = place.map_err(|_| format!("`{}` is no address and port to listen at", arguments.to))?;
            if !arguments.speed.is_infinite() && !source.has_times() {
                return Err(why(ReplayError::NoTimes));
            }
            let mut server = Server::open(&place).map_err(|error| error.to_string())?;
            warn_of_readers(&place, "what is played", voice);
            let place = server.to_string();
            let text = format!("playing to {}; waiting for somebody to listen", Safe(&place));
            voice.tell("info", &text, json!({"playing_to": place}));
            let options = ReplayOptions { line: arguments.line.clone(), speed: arguments.speed };
            replay(&mut *source, &options, &mut server, &stop).map_err(why)?
        }
    };
    let seconds = begun.elapsed().as_secs_f64();
    let back = match replayed.received {
        0 => String::new(),
        received => format!("; {} came back, and went nowhere", plural(received, "byte")),
    };
    let text = format!("played {} bytes in {seconds:.1} s{back}", grouped(replayed.bytes));
    let data = json!({"played": replayed.bytes, "seconds": seconds, "received": replayed.received});
    voice.tell("summary", &text, data);
    Ok(ending(replayed.bytes, &name, &stop, voice))
}

/// The exit status for so many bytes.
fn ending(bytes: u64, name: &str, stop: &Stop, voice: &Voice) -> Ending {
    if bytes == 0 && !stop.is_asked_for() {
        voice.fail(&format!("{}: no bytes came", Safe(name)));
        return Ending::NoBytes;
    }
    Ending::Done
}
