//! `usus replay`: what was recorded, played to another program as if the device were there.

use std::fs::File;
use std::io::BufWriter;
use std::time::Instant;

use serde_json::json;
use usus_io::{ReplayError, ReplayOptions, Replayed, ServePlace, Server, Stop, extract, replay};

use crate::Ending;
use crate::arguments::Replay;
use crate::safe::Safe;
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
    let opened = open_source(&arguments.capture, &arguments.opening, None)?;
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
            say_where(to, "", voice);
            let bytes = extract(&mut *source, arguments.line.as_deref(), &mut BufWriter::new(file)).map_err(why);
            let mut replayed = Replayed::default();
            replayed.bytes = bytes.inspect_err(|_| {
                let _ = std::fs::remove_file(to);
            })?;
            replayed
        }
        Some(place) => {
            let place = place.map_err(|_| format!("`{}` is no address and port to listen at", arguments.to))?;
            if !arguments.speed.is_infinite() && !source.has_times() {
                return Err(why(ReplayError::NoTimes));
            }
            let mut server = Server::open(&place).map_err(|error| error.to_string())?;
            say_where(&server.to_string(), "; waiting for somebody to listen", voice);
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
    if replayed.bytes == 0 && !stop.is_asked_for() {
        voice.fail(&format!("{}: no bytes came", Safe(&name)));
        return Ok(Ending::NoBytes);
    }
    Ok(Ending::Done)
}

fn say_where(place: &str, waits: &str, voice: &Voice) {
    voice.tell("info", &format!("playing to {}{waits}", Safe(place)), json!({"playing_to": place}));
}
