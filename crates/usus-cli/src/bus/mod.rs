//! `usus bus`: what is on this Modbus line?

mod draft;
mod json;
mod live;
mod report;

use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use usus::bus::Survey;
use usus::format::Serial;
use usus::{Chunk, Decoder, Format, LineId};
use usus_io::{Protected, Source, SourceEvent};

use crate::Ending;
use crate::arguments::Bus;
use crate::formats::{self, Loaded};
use crate::safe::Safe;
use crate::source::open_source;
use crate::stop::stop_flag;
use crate::voice::Voice;
use crate::whole;

pub(crate) fn run(arguments: &Bus, voice: &Voice) -> Ending {
    let Some(loaded) = load(arguments, voice) else { return Ending::Failed };
    let opened = match open_source(&arguments.source, &arguments.opening, loaded.format.serial) {
        Ok(opened) => opened,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    if let Err(text) = may_write(arguments, opened.file().as_deref()) {
        voice.fail(&Safe(&text).to_string());
        return Ending::Failed;
    }
    let is_seen = io::stdout().is_terminal() && io::stdin().is_terminal() && !arguments.json && !arguments.plain;
    let live = opened.peek().is_live() && is_seen;
    let name = opened.name.clone();
    let serial = arguments.opening.serial.first().map(|asked| asked.value).or(opened.serial);
    let mut listening = match Listening::new(arguments.line.clone(), loaded.format, serial, opened.into_source()) {
        Ok(listening) => listening,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    let stop = stop_flag(voice);
    let heard = if live { live::show(&mut listening, &name, &stop) } else { listening.hear_all(&stop) };
    let Listening { survey, serial, .. } = listening;
    if let Err(text) = heard {
        voice.fail(&Safe(&text).to_string());
        return Ending::Failed;
    }
    let (messages, others) = survey.bytes();
    if messages + others == 0 {
        voice.fail(&format!("{}: no bytes came", Safe(&name)));
        return Ending::NoBytes;
    }
    let points = arguments.to_points.as_ref().map(|path| (path, draft::points(&survey)));
    let format = arguments.to_format.as_ref().map(|path| (path, draft::format(&survey, &name, serial)));
    for (path, text) in points.into_iter().chain(format) {
        if let Err(error) = whole::write(path, &text) {
            voice.fail(&format!("cannot write {}: {error}", Safe(&path.display().to_string())));
            return Ending::Failed;
        }
    }
    let text = match arguments.json {
        true => format!("{:#}\n", json::of(&survey, &name)),
        false => report::of(&survey, &name, serial),
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
fn may_write(arguments: &Bus, source: Option<&Path>) -> Result<(), String> {
    let files: Vec<PathBuf> = [&arguments.to_points, &arguments.to_format].into_iter().flatten().cloned().collect();
    let mut protected = Protected::default();
    source.into_iter().chain(arguments.format.as_deref().map(Path::new)).for_each(|path| protected.add(path));
    protected.check(&files).map_err(|error| error.to_string())?;
    match files.iter().find(|path| path.exists() && !arguments.overwrite) {
        Some(path) => Err(format!("{} exists; --overwrite replaces it", path.display())),
        None => Ok(()),
    }
}

/// The format that says how messages are found, and what registers mean if that was given.
fn load(arguments: &Bus, voice: &Voice) -> Option<Loaded> {
    if let Some(format) = &arguments.format {
        return formats::load(format, voice);
    }
    let lines = match (&arguments.requests, &arguments.answers) {
        (Some(requests), Some(answers)) => [(requests, "requests"), (answers, "answers")].to_vec(),
        _ => Vec::new(),
    };
    let mut text = "format = \"bus\"\n".to_owned();
    if lines.is_empty() {
        text += "[[frame]]\ncut = \"modbus-rtu\"\n";
    }
    for (line, direction) in &lines {
        let line = toml_text(line);
        text += &format!("[line.{line}]\n");
        text += &format!(
            "[[frame]]\nname = \"{direction}\"\non = {line}\ncut = \"modbus-rtu\"\ndirection = \"{direction}\"\n"
        );
    }
    let parsed = Format::parse(&text).and_then(|format| format.compile().map(|plan| (format, plan)));
    match parsed {
        Ok((format, plan)) => Some(Loaded { format, plan, text }),
        Err(problems) => {
            voice.fail(&Safe(&problems.to_string()).to_string());
            None
        }
    }
}

/// A text as TOML has it.
fn toml_text(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// What hears a line of that format and those settings, which the format's own go before.
fn begin(format: &Format, serial: Option<Serial>) -> Result<(Decoder, Survey, Option<Serial>), String> {
    let mut format = format.clone();
    format.serial = format.serial.or(serial);
    let plan = Survey::plan_of(&format.compile().map_err(|problems| problems.to_string())?);
    let survey = Survey::new(&plan);
    match survey.is_of_bus() {
        true => Ok((Decoder::new(&plan), survey, format.serial)),
        false => Err("the format has no transactions of a Modbus line".to_owned()),
    }
}

/// A line that is listened to.
struct Listening {
    source: Box<dyn Source + Send>,
    format: Format,
    /// The settings of the line, if they are known.
    serial: Option<Serial>,
    decoder: Decoder,
    survey: Survey,
    /// The only line of the source that is meant.
    only: Option<String>,
    /// The lines of the source, and what they are to the decoder.
    lines: Vec<(String, Option<LineId>)>,
}

impl Listening {
    fn new(
        only: Option<String>,
        format: Format,
        serial: Option<Serial>,
        source: Box<dyn Source + Send>,
    ) -> Result<Listening, String> {
        let (decoder, survey, serial) = begin(&format, serial)?;
        Ok(Listening { source, format, serial, decoder, survey, only, lines: Vec::new() })
    }

    /// Hears all until the source ends.
    fn hear_all(&mut self, stop: &AtomicBool) -> Result<(), String> {
        while !stop.load(Ordering::Relaxed) && self.step()? {}
        let Ok(()) = self.decoder.finish().drain(&mut self.survey);
        let heard = self.lines.iter().any(|(_, line)| line.is_some());
        match heard || self.lines.is_empty() {
            true => Ok(()),
            false => Err(format!("there is no line {}: {}", self.only.as_deref().unwrap_or_default(), self.names())),
        }
    }

    fn names(&self) -> String {
        let names: Vec<&str> = self.lines.iter().map(|(name, _)| name.as_str()).collect();
        format!("the source has the lines {}", names.join(", "))
    }

    /// Takes the next event of the source. Whether there may be more.
    fn step(&mut self) -> Result<bool, String> {
        let Listening { source, format, serial, decoder, survey, only, lines } = self;
        match source.next().map_err(|error| error.to_string())? {
            None => return Ok(false),
            Some(SourceEvent::Line(info)) => {
                let is_meant = only.as_ref().is_none_or(|only| *only == info.name);
                let is_first = lines.iter().all(|(_, line)| line.is_none());
                if is_meant && is_first && serial.is_none() {
                    (*decoder, *survey, *serial) = begin(format, info.serial)?;
                }
                let several = decoder.plan().roles().next().is_some();
                let role = if several { info.name.as_str() } else { "" };
                let is_another = !several && !is_first;
                let line = if is_meant { decoder.line(role, info.start) } else { None };
                lines.push((info.name.clone(), line));
                if is_meant && is_another {
                    return Err(format!(
                        "{}; --line says which one is the bus, or --requests and --answers which two are",
                        self.names()
                    ));
                }
            }
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                if let Some((_, Some(line))) = lines.get(line) {
                    let Ok(()) = decoder.decode(Chunk { line: *line, time, bytes, faults }, survey);
                }
            }
            Some(SourceEvent::Loss { line, why, time }) => {
                if let Some((_, Some(line))) = lines.get(line) {
                    let Ok(()) = decoder.loss(*line, why, time).drain(survey);
                }
            }
            Some(SourceEvent::Idle { time: Some(now) }) => {
                let Ok(()) = decoder.tick(now).drain(survey);
            }
            Some(_) => {}
        }
        Ok(true)
    }
}
