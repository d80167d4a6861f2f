//! `usus convert`: sources through a format into outputs.

mod dictionary;
mod live;
mod one;
mod target;
mod unfinished;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use usus::{Sink, Time};
use usus_io::{
    Between, Clock, PumpError, RecordedSource, Recorder, Source, Stop, TableOptions, Together, WhenFull, read_ahead,
};

use crate::Ending;
use crate::arguments::Convert;
use crate::capture::names;
use crate::ledgers::Ledgers;
use crate::source::{Opened, open_sources};
use crate::stop::stop_flag;
use crate::tally::Tally;
use crate::voice::Voice;
pub(crate) use live::{REDRAWN, SAID, SILENT};
pub(crate) use one::{Allowed, Conversion, Converted, convert_source, ending, report_files, report_remarks};
pub(crate) use target::Target;
pub(crate) use unfinished::Unfinished;

/// What may wait to be converted while outputs are slow, in bytes; beyond it, bytes are left out of the conversion, but not of the capture.
pub(crate) const AHEAD: usize = 64 << 20;

/// More cores than this only wait for the one that writes, and each takes some 15 MiB.
const USUAL_JOBS: usize = 8;

pub(crate) fn run(arguments: &Convert, voice: &Voice) -> Ending {
    match convert(arguments, voice) {
        Ok(ending) | Err(ending) => ending,
    }
}

/// What is converted as one, and what it is called.
struct Stream {
    name: String,
    /// Its id.
    id: String,
    source: Box<dyn Source + Send>,
    /// Whether it ends itself when it is to stop.
    ends_itself: bool,
}

fn convert(arguments: &Convert, voice: &Voice) -> Result<Ending, Ending> {
    let failed = |text: String| {
        voice.fail(&text);
        Ending::Failed
    };
    let mut target = Target::load(&arguments.format, &arguments.out, &arguments.tables, arguments.append, voice)?;
    let stop = stop_flag(voice);
    let clock = Clock::system();
    let opened = open_sources(&arguments.sources, &arguments.opening, target.serial, &clock).map_err(failed)?;
    let several = opened.len() > 1;
    opened.iter().filter_map(Opened::file).for_each(|path| target.protect(&path));
    let live = opened.iter().filter(|opened| opened.peek().is_live()).count();
    if live > 0 && live < opened.len() {
        return Err(failed("files and what is live cannot be converted at once".to_owned()));
    }
    for opened in &opened {
        let joined = live > 0 && (several || opened.line.is_some());
        if !joined {
            target.check(&opened.name, opened.peek()).map_err(failed)?;
        }
    }
    let options = TableOptions {
        source: several && live == 0,
        line: opened.iter().any(|opened| opened.peek().has_lines() || (live > 0 && (several || opened.line.is_some()))),
        received: opened.iter().any(|opened| opened.peek().has_times()),
        ..TableOptions::default()
    };
    let (mut tally, left) = target.open(options, live > 0, voice)?;
    let jobs = arguments.jobs.map_or_else(usual_jobs, usize::from);
    let mut all = Converted {
        ledgers: Ledgers::default(),
        lossy: false,
        worst: None,
        looks: None,
        summaries: Vec::new(),
        result: Ok(()),
    };
    if let Some(left) = &left {
        all.summaries.extend(catch_up(left, &target, jobs, &mut tally, voice)?);
    }
    let (streams, unfinished) = match live > 0 && (several || !arguments.no_capture) {
        true => {
            let (stream, unfinished) = listen(opened, arguments, &target, clock.clone(), &stop, voice)?;
            (vec![stream], unfinished)
        }
        false => {
            // What is live and not kept cannot be made again.
            let unfinished = if live > 0 { None } else { target.begin(None, None).map_err(failed)? };
            (opened.into_iter().map(|opened| file(opened, clock.now())).collect(), unfinished)
        }
    };
    let unfinished = unfinished.or(left);
    for Stream { name, id, mut source, ends_itself } in streams {
        if stop.load(Ordering::Relaxed) && !ends_itself {
            voice.warn(&format!("stopped before {name}"));
            break;
        }
        let how = Conversion {
            plan: &target.plan,
            name: &name,
            stream: &id,
            jobs,
            voice,
            stop: (!ends_itself).then_some(&*stop),
            counts: source.is_live().then(Arc::default),
            tells: true,
        };
        all.add(convert_source(&how, &mut *source, &mut tally));
        if all.result.is_err() {
            tally.outputs.fail();
            break;
        }
    }
    let finished = tally.outputs.finish();
    let result = std::mem::replace(&mut all.result, Ok(()));
    match result.and_then(|()| finished.map_err(PumpError::Sink)) {
        // Whoever reads our output has seen enough.
        Err(PumpError::Sink(error)) if error.is_closed_pipe() => return Ok(Ending::Done),
        Err(error) => {
            voice.fail(&error.to_string());
            report_files(&tally.outputs, voice);
            return Err(Ending::Failed);
        }
        Ok(()) => report_files(&tally.outputs, voice),
    }
    if let Some(unfinished) = unfinished {
        unfinished.done();
    }
    report_remarks(&tally.outputs, voice);
    target.describe(&all, voice)?;
    Ok(ending(&all, target.allowed(), voice))
}

fn file(opened: Opened, now: Time) -> Stream {
    let (name, id) = (opened.name.clone(), opened.stream(now));
    Stream { name, id, source: opened.into_source(), ends_itself: false }
}

/// Converts what a run that was killed has kept, before anything else is added.
pub(crate) fn catch_up(
    left: &Unfinished,
    target: &Target,
    jobs: usize,
    tally: &mut Tally,
    voice: &Voice,
) -> Result<Vec<serde_json::Value>, Ending> {
    let Some(capture) = left.capture.as_ref().filter(|capture| unfinished::is_kept(capture)) else {
        return Ok(Vec::new());
    };
    let fail = |text: String| {
        voice.fail(&format!("cannot make good what the last run has kept in {}: {text}", capture.display()));
        Ending::Failed
    };
    let mut source = usus_io::open_parts(capture).map_err(|error| fail(error.to_string()))?;
    if left.from.is_some() {
        source = Box::new(Between::new(source, left.from, None));
    }
    let name = capture.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let stream = source.stream().unwrap_or(&name).to_owned();
    let how = Conversion {
        plan: &target.plan,
        name: &name,
        stream: &stream,
        jobs,
        voice,
        stop: None,
        counts: None,
        tells: true,
    };
    let converted = convert_source(&how, &mut *source, tally);
    converted.result.map_err(|error| fail(error.to_string()))?;
    tally.outputs.flush().map_err(|error| fail(error.to_string()))?;
    Ok(converted.summaries)
}

/// What is live is listened to at once, and its raw bytes are kept in a capture beside the output.
fn listen(
    opened: Vec<Opened>,
    arguments: &Convert,
    target: &Target,
    clock: Clock,
    stop: &Arc<AtomicBool>,
    voice: &Voice,
) -> Result<(Stream, Option<Unfinished>), Ending> {
    let fail = |text: String| {
        voice.fail(&text);
        Ending::Failed
    };
    let names = names::line_names(&opened).map_err(fail)?;
    let called: Vec<String> = opened.iter().map(|opened| opened.name.clone()).collect();
    let known = opened.iter().zip(&names).filter(|(opened, _)| !opened.peek().has_lines());
    let lines: Vec<_> = known.map(|(opened, name)| names::line(name.clone(), opened)).collect();
    let members = opened.into_iter().zip(names).map(|(opened, name)| opened.into_member(name)).collect();
    let together = Together::listen(members, clock.clone(), &Stop::from(Arc::clone(stop)));
    let name = called.join(" and ");
    target.check(&name, &together).map_err(fail)?;
    if arguments.no_capture {
        let id = format!("{name}@{}", clock.now());
        return Ok((Stream { name, id, source: Box::new(together), ends_itself: true }, None));
    }
    let fail = |text: String| fail(format!("{text} (--no-capture does without)"));
    let directory = target.directory();
    std::fs::create_dir_all(&directory)
        .map_err(|error| fail(format!("cannot make {}: {error}", directory.display())))?;
    let now = clock.now();
    let path = names::in_directory(&directory, called.iter().map(String::as_str), now);
    // Before anything is kept there: what is kept is to be found again.
    let unfinished = target.begin(Some(&path), None).map_err(fail)?;
    let id = names::stream(&lines, now);
    let recorder = Recorder::create(&path, &id, &lines).map_err(|error| fail(error.to_string()))?;
    voice.say(&format!("the raw bytes of {name} are kept in {}", path.display()));
    let mut kept = RecordedSource::new(Box::new(together), recorder, clock);
    kept.write_at_once();
    // A slow output must not hold the recording up.
    let source = Box::new(read_ahead(Box::new(kept), AHEAD, WhenFull::Lose));
    Ok((Stream { name, id, source, ends_itself: true }, unfinished))
}

fn usual_jobs() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from).min(USUAL_JOBS)
}
