//! `usus bus`: what is on this Modbus line?

mod draft;
mod json;
mod listening;
mod live;
mod report;

use std::io::{self, IsTerminal};
use std::path::PathBuf;

use listening::{Hearing, Listening};
use usus::{Format, Problems};
use usus_io::Protected;

use crate::Ending;
use crate::arguments::Bus;
use crate::formats;
use crate::safe::Safe;
use crate::screen::is_gone;
use crate::source::open_source;
use crate::stop::stop_flag;
use crate::voice::Voice;
use crate::whole;

pub(crate) fn run(arguments: &Bus, voice: &Voice) -> Ending {
    let Some((formats, read)) = load(arguments, voice) else { return Ending::Failed };
    let declared = formats.first().and_then(|format| format.serial);
    let opened = match open_source(&arguments.source, &arguments.opening, declared) {
        Ok(opened) => opened,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    if let Err(text) = may_write(arguments, read.into_iter().chain(opened.file())) {
        voice.fail(&Safe(&text).to_string());
        return Ending::Failed;
    }
    let is_seen = io::stdout().is_terminal() && io::stdin().is_terminal() && !arguments.json && !arguments.plain;
    let live = opened.peek().is_live() && is_seen;
    let name = opened.name.clone();
    let serial = arguments.opening.serial.first().map(|asked| asked.value).or(opened.serial);
    let mut listening = match Listening::new(arguments.line.clone(), formats, serial, opened.into_source()) {
        Ok(listening) => listening,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    let stop = stop_flag(voice);
    let ended =
        if live { live::show(&mut listening, &name, arguments.pairs, &stop) } else { listening.hear_all(&stop) };
    if let Err(text) = ended {
        voice.fail(&Safe(&text).to_string());
        return Ending::Failed;
    }
    let heard = listening.best();
    let survey = &heard.survey;
    if heard.bytes == 0 {
        voice.fail(&format!("{}: no bytes came", Safe(&name)));
        return Ending::NoBytes;
    }
    let points = arguments.to_points.as_ref().map(|path| (path, draft::points(survey)));
    let format = arguments.to_format.as_ref().map(|path| (path, draft::format(survey, &name, heard)));
    for (path, text) in points.into_iter().chain(format) {
        if let Err(error) = whole::write(path, &text) {
            voice.fail(&format!("cannot write {}: {error}", Safe(&path.display().to_string())));
            return Ending::Failed;
        }
    }
    // Nobody is there who could be told.
    if live && is_gone() {
        return Ending::Done;
    }
    let text = match arguments.json {
        true => format!("{:#}\n", json::of(heard, &name)),
        false => report::of(heard, &name, arguments.pairs),
    };
    match crate::check::print(&text, voice) {
        Ending::Done if survey.units().is_empty() => {
            voice.fail(&format!("{}: nothing on it is Modbus, as far as is seen", Safe(&name)));
            Ending::NothingRecognised
        }
        ending => ending,
    }
}

/// Whether the files that are to be written may be: what is read is never written, and what exists only if that was said.
fn may_write(arguments: &Bus, read: impl Iterator<Item = PathBuf>) -> Result<(), String> {
    let files: Vec<PathBuf> = [&arguments.to_points, &arguments.to_format].into_iter().flatten().cloned().collect();
    let mut protected = Protected::default();
    read.for_each(|path| protected.add(&path));
    protected.check(&files).map_err(|error| error.to_string())?;
    match files.iter().find(|path| path.exists() && !arguments.overwrite) {
        Some(path) => Err(format!("{} exists; --overwrite replaces it", path.display())),
        None => Ok(()),
    }
}

/// The formats that say how messages are found, and what registers mean if that was given; and the files they were read from. The line may carry either of
/// both modes of transmission.
fn load(arguments: &Bus, voice: &Voice) -> Option<(Vec<Format>, Vec<PathBuf>)> {
    if let Some(format) = &arguments.format {
        let loaded = formats::load(format, voice)?;
        return Some(([loaded.format].into(), loaded.files));
    }
    let wires = arguments.requests.as_deref().zip(arguments.answers.as_deref());
    match ["modbus-rtu", "modbus-ascii"].into_iter().map(|cut| format_of(cut, wires)).collect() {
        Ok(formats) => Some((formats, Vec::new())),
        Err(problems) => {
            voice.fail(&Safe(&problems.to_string()).to_string());
            None
        }
    }
}

/// A format that says no more than how messages are found, on one wire, or on one with the requests and one with the answers.
fn format_of(cut: &str, wires: Option<(&str, &str)>) -> Result<Format, Problems> {
    let mut text = "format = \"bus\"\n".to_owned();
    match wires {
        None => text += &format!("[[frame]]\ncut = \"{cut}\"\n"),
        Some((requests, answers)) => {
            for (line, direction) in [(requests, "requests"), (answers, "answers")] {
                let line = toml_text(line);
                text += &format!("[line.{line}]\n[[frame]]\nname = \"{direction}\"\non = {line}\n");
                text += &format!("cut = \"{cut}\"\ndirection = \"{direction}\"\n");
            }
        }
    }
    Format::parse(&text)
}

/// A text as TOML has it.
fn toml_text(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
