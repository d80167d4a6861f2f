//! `usus inspect`: what is this stream?

mod live;
mod rows;
mod search;
mod summary;

pub(crate) use summary::clue_text;

use std::io::{self, IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering};

use usus::Loss;
use usus::survey::Survey;
use usus_io::{LineInfo, Source, SourceError, SourceEvent};

use crate::Ending;
use crate::arguments::Inspect;
use crate::formats;
use crate::safe::Safe;
use crate::source::{Opened, open_source};
use crate::stop::stop_flag;
use crate::summary::grouped;
use crate::voice::Voice;
use rows::{Look, Rows};
use summary::Counted;

/// How much of a file is shown where it was not said.
const SHOWN: u64 = 512;

pub(crate) fn run(arguments: &Inspect, voice: &Voice) -> Ending {
    if arguments.search {
        return search::run(arguments, voice);
    }
    let usual = match arguments.format.as_deref().map(|format| formats::load(format, voice)) {
        Some(None) => return Ending::Failed,
        Some(Some(loaded)) => loaded.format.serial,
        None => None,
    };
    let opened = match open_source(&arguments.source, &arguments.opening, usual) {
        Ok(opened) => opened,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    let live = opened.peek().is_live() && !arguments.plain && io::stdout().is_terminal() && io::stdin().is_terminal();
    let stop = stop_flag(voice);
    let mut inspection = Inspection::new(arguments, opened);
    if let Some(period) = inspection.rows.wants_period().then(|| period(arguments)).flatten() {
        inspection.rows.set_period(period);
    }
    let result = match live {
        true => live::show(&mut inspection, &stop),
        false => inspection.print(&stop),
    };
    match result {
        Ok(()) => inspection.sum_up(voice),
        Err(Failure::Output(error)) if error.kind() == io::ErrorKind::BrokenPipe => Ending::Done,
        Err(failure) => {
            inspection.sum_up(voice);
            voice.fail(&failure.to_string());
            Ending::Failed
        }
    }
}

/// How much of a file is looked at to find out in which rows it is best shown.
const PERIOD_SAMPLE: u64 = 1 << 16;

/// The distance at which the bytes of a file repeat, if they do.
fn period(arguments: &Inspect) -> Option<usize> {
    if arguments.source == "-" {
        return None;
    }
    let opened = open_source(&arguments.source, &arguments.opening, None).ok()?;
    opened.file()?;
    let mut source = opened.into_source();
    let mut survey = Survey::new(usus::Span::default(), None);
    let mut lines = 0;
    while survey.bytes() < PERIOD_SAMPLE {
        match source.next().ok()? {
            Some(SourceEvent::Line(_)) => lines += 1,
            Some(SourceEvent::Chunk { time, bytes, faults, .. }) => survey.chunk(time, bytes, faults),
            Some(_) => {}
            None => break,
        }
    }
    // What is a repetition of one line is none of another.
    survey.period().filter(|_| lines <= 1).map(|period| period.bytes)
}

/// Why an inspection ended early.
enum Failure {
    Source(SourceError),
    Output(io::Error),
}

impl std::fmt::Display for Failure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Failure::Source(error) => error.fmt(f),
            Failure::Output(error) => write!(f, "cannot write to standard output: {error}"),
        }
    }
}

/// A source that is being looked at.
struct Inspection {
    name: String,
    source: Box<dyn Source + Send>,
    rows: Rows,
    lines: Vec<Counted>,
    /// Bytes of each line that came before the chunk at hand.
    offsets: Vec<u64>,
    split: Option<usus::Span>,
    from: u64,
    /// Show bytes before this offset; nothing for all.
    until: Option<u64>,
    live: bool,
    head_shown: bool,
    left_out: bool,
    serial: Option<usus::format::Serial>,
}

impl Inspection {
    fn new(arguments: &Inspect, opened: Opened) -> Inspection {
        let live = opened.peek().is_live();
        let look = Look {
            views: arguments.views.clone(),
            width: arguments.width.map(usize::from),
            split: arguments.split_idle,
            times: opened.peek().has_times(),
        };
        let length = arguments.length.or((!live).then_some(SHOWN));
        Inspection {
            name: opened.name.clone(),
            serial: arguments.opening.serial.first().map(|asked| asked.value).or(opened.serial),
            source: opened.into_source(),
            rows: Rows::new(look),
            lines: Vec::new(),
            offsets: Vec::new(),
            split: arguments.split_idle,
            from: arguments.from,
            until: length.map(|length| arguments.from.saturating_add(length)),
            live,
            head_shown: false,
            left_out: false,
        }
    }

    /// Prints rows until the source ends, or, of a live one, until all is shown that was asked for.
    fn print(&mut self, stop: &AtomicBool) -> Result<(), Failure> {
        let mut output = io::BufWriter::with_capacity(1 << 16, io::stdout().lock());
        let mut text = String::new();
        loop {
            let more = !stop.load(Ordering::Relaxed) && self.step(&mut text)?;
            // A live source of which nothing is to be shown is summed up until it is stopped.
            let shown = self.until.is_some_and(|until| until > self.from && self.shown_all(until));
            let done = !more || (self.live && shown);
            if done {
                self.rows.end_row(&mut text);
            }
            output.write_all(text.as_bytes()).map_err(Failure::Output)?;
            text.clear();
            if self.live || done {
                output.flush().map_err(Failure::Output)?;
            }
            if done {
                return Ok(());
            }
        }
    }

    fn shown_all(&self, until: u64) -> bool {
        !self.offsets.is_empty() && self.offsets.iter().all(|offset| *offset >= until)
    }

    /// Takes the next event of the source: counts it, and adds rows to `text`. Whether there may be more.
    fn step(&mut self, text: &mut String) -> Result<bool, Failure> {
        let event = self.source.next().map_err(Failure::Source)?;
        match event {
            None => return Ok(false),
            Some(SourceEvent::Line(info)) => {
                let serial = info.serial.or(self.serial);
                add_line(&mut self.lines, &info, serial, self.split);
                self.offsets.push(info.start);
                self.rows.line(&info.name, serial, info.start, text);
            }
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                let Some(counted) = self.lines.get_mut(line) else { return Ok(true) };
                counted.survey.chunk(time, bytes, faults);
                let begin = self.offsets[line];
                let end = begin + bytes.len() as u64;
                self.offsets[line] = end;
                // What of this chunk is to be shown.
                let from = (self.from.clamp(begin, end) - begin) as usize;
                let until = self.until.map_or(bytes.len(), |until| (until.clamp(begin, end) - begin) as usize);
                self.left_out |= from > 0 || until < bytes.len();
                if from >= until {
                    self.rows.skip(line, bytes.len() as u64);
                    return Ok(true);
                }
                if !std::mem::replace(&mut self.head_shown, true) && self.lines.len() <= 1 {
                    *text += &self.rows.head();
                }
                self.rows.skip(line, from as u64);
                match (from, until) == (0, bytes.len()) {
                    true => self.rows.chunk(line, time, bytes, faults, text),
                    false => {
                        let faults = faults.iter().filter(|fault| (from..until).contains(&fault.at));
                        let faults: Vec<_> =
                            faults.map(|fault| usus::Fault { at: fault.at - from, kind: fault.kind }).collect();
                        self.rows.chunk(line, time, &bytes[from..until], &faults, text);
                        self.rows.skip(line, (bytes.len() - until) as u64);
                    }
                }
            }
            Some(SourceEvent::Loss { line, why, .. }) => {
                if let Some(counted) = self.lines.get_mut(line) {
                    counted.survey.loss(why);
                }
                self.rows.remark(&format!("bytes are missing here: {}", loss_text(why)), text);
            }
            Some(SourceEvent::Note { text: note, .. }) => self.rows.remark(&format!("note: {note}"), text),
            Some(SourceEvent::Gone { .. }) => self.rows.remark("it has gone away; waiting for it to come back", text),
            // What has come so far is to be seen.
            Some(SourceEvent::Idle { .. }) => self.rows.end_row(text),
            Some(_) => {}
        }
        Ok(true)
    }

    /// Says what was counted.
    fn sum_up(&self, voice: &Voice) -> Ending {
        let faults = self.source.tells_faults();
        let several = self.lines.len() > 1;
        for counted in &self.lines {
            let text = counted.title(&self.name, several) + &counted.text(faults);
            voice.tell("summary", text.trim_end(), counted.json(&self.name, faults));
        }
        if self.left_out && self.until != Some(self.from) {
            let shown = self.until.map_or(0, |until| until - self.from);
            voice.say(&format!(
                "shown are {} bytes from offset {} on; --from and --length show others, --length 0 none",
                grouped(shown),
                grouped(self.from)
            ));
        }
        if let Some(torn) = self.source.torn() {
            voice.warn(&format!(
                "the end is torn: {} bytes from byte {} of the file on cannot be read",
                torn.bytes, torn.at
            ));
        }
        for remark in self.source.remarks() {
            voice.warn(&remark.to_string());
        }
        match self.lines.iter().all(|line| line.survey.bytes() == 0) {
            true => {
                voice.fail(&format!("{}: no bytes came", Safe(&self.name)));
                Ending::NoBytes
            }
            false => Ending::Done,
        }
    }
}

fn add_line(
    lines: &mut Vec<Counted>,
    info: &LineInfo,
    serial: Option<usus::format::Serial>,
    split: Option<usus::Span>,
) {
    let character = serial.map_or(usus::Span::default(), |serial| serial.character());
    lines.push(Counted { name: info.name.clone(), serial, survey: Survey::new(character, split) });
}

pub(crate) fn loss_text(why: Loss) -> &'static str {
    match why {
        Loss::Reopened => "the port was opened anew",
        Loss::Overrun => "they came faster than they could be read",
        Loss::Gap => "the recording has a gap",
        _ => "nobody knows why",
    }
}
