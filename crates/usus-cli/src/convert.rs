//! `usus convert`: sources through a format into outputs.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use usus::{Decoder, Ledger, Plan, Wants};
use usus_io::{
    Destination, Kept, OutputError, Outputs, PieceOptions, PumpError, RecordedLine, Recorder, Source, TableOptions,
    pump_pieces,
};

use crate::Ending;
use crate::arguments::Convert;
use crate::capture::{names, wall_clock};
use crate::formats;
use crate::source::{Opened, open_source};
use crate::stop::stop_flag;
use crate::summary::{Summary, grouped, plural};
use crate::tally::{Seen, Tally};
use crate::voice::Voice;

/// Sources smaller than this are done before a progress bar could be read.
const SHOW_PROGRESS: u64 = 32 << 20;

/// Everything that is needed, checked, before anything is written.
struct Job {
    plan: Plan,
    sources: Vec<Opened>,
    /// Whether the raw bytes of live ones are kept.
    keep: bool,
    destination: Destination,
    options: TableOptions,
    rejects: Option<PathBuf>,
    reject_limit: Option<f64>,
    overwrite: bool,
    jobs: usize,
}

pub(crate) fn run(arguments: &Convert, voice: &Voice) -> Ending {
    let job = match prepare(arguments, voice) {
        Ok(job) => job,
        Err(ending) => return ending,
    };
    let stop = stop_flag(voice);
    match execute(job, voice, &stop) {
        Ok(ending) | Err(ending) => ending,
    }
}

fn prepare(arguments: &Convert, voice: &Voice) -> Result<Job, Ending> {
    let loaded = formats::load(&arguments.format, voice).ok_or(Ending::Failed)?;
    let wants = Wants { records: arguments.records.clone(), fields: arguments.fields.clone() };
    let plan = loaded.plan.select(&wants).map_err(|unknown| {
        voice.fail(&unknown.to_string());
        Ending::WrongUsage
    })?;
    let destination = Destination::named(&arguments.out).map_err(|error| {
        voice.fail(&error.to_string());
        Ending::WrongUsage
    })?;
    let mut sources = Vec::new();
    for text in &arguments.sources {
        let opened = open_source(text, &arguments.opening, loaded.format.serial).map_err(|text| {
            voice.fail(&text);
            Ending::Failed
        })?;
        let source = &opened.source;
        if plan.needs_times() && !source.has_times() {
            voice.fail(&format!(
                "{text}: the format ends texts by silence, and raw bytes have no times; record the line as a capture"
            ));
            return Err(Ending::Failed);
        }
        if plan.roles().next().is_some() && !source.has_lines() {
            let roles = plan.roles().collect::<Vec<_>>().join(", ");
            voice.fail(&format!(
                "{text}: the format speaks of the lines {roles}, and raw bytes are one line without a name"
            ));
            return Err(Ending::Failed);
        }
        sources.push(opened);
    }
    let options = TableOptions {
        source: sources.len() > 1,
        line: sources.iter().any(|opened| opened.source.has_lines()),
        origin: arguments.origin,
        received: sources.iter().any(|opened| opened.source.has_times()),
    };
    Ok(Job {
        plan,
        sources,
        keep: !arguments.no_capture,
        destination,
        options,
        rejects: arguments.rejects.clone(),
        reject_limit: arguments.reject_limit,
        overwrite: arguments.overwrite,
        jobs: arguments.jobs.map_or_else(usual_jobs, usize::from),
    })
}

/// Keeps what comes from a live source in a capture beside the output.
fn keep_beside(destination: &Destination, opened: Opened, voice: &Voice) -> Result<Box<dyn Source + Send>, Ending> {
    let beside = match destination {
        Destination::Directory(directory) => Some(directory.as_path()),
        Destination::JsonLines(file) | Destination::Table(file) => file.parent(),
        _ => None,
    };
    let directory = beside.filter(|path| !path.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let fail = |text: String| {
        voice.fail(&format!("{text} (--no-capture does without)"));
        Ending::Failed
    };
    std::fs::create_dir_all(directory)
        .map_err(|error| fail(format!("cannot make {}: {error}", directory.display())))?;
    let lines = vec![names::line(None, &opened)];
    let now = wall_clock();
    let called = RecordedLine::new(opened.name.clone());
    let path = names::in_directory(directory, &[called], now);
    let recorder =
        Recorder::create(&path, &names::stream(&lines, now), &lines).map_err(|error| fail(error.to_string()))?;
    voice.say(&format!("the raw bytes of {} are kept in {}", opened.name, path.display()));
    Ok(Box::new(Kept::new(opened.source, recorder)))
}

/// More cores than this only wait for the one that writes, and each takes some 15 MiB.
const USUAL_JOBS: usize = 8;

fn usual_jobs() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from).min(USUAL_JOBS)
}

fn execute(job: Job, voice: &Voice, stop: &AtomicBool) -> Result<Ending, Ending> {
    let outputs = Outputs::open(&job.plan, &job.destination, job.options, job.rejects.as_deref(), job.overwrite);
    let outputs = outputs.map_err(|error| {
        voice.fail(&error.to_string());
        match error {
            OutputError::SeveralKinds { .. } | OutputError::Group { .. } => Ending::WrongUsage,
            _ => Ending::Failed,
        }
    })?;
    let mut tally = Tally::new(outputs);
    let mut total = Ledger::default();
    let mut result = Ok(());
    for opened in job.sources {
        let name = opened.name.clone();
        if stop.load(Ordering::Relaxed) {
            voice.warn(&format!("stopped before {name}"));
            break;
        }
        let live = opened.source.is_live() && !opened.source.has_lines();
        let mut source = match job.keep && live {
            true => keep_beside(&job.destination, opened, voice)?,
            false => opened.source,
        };
        let (ledger, converted) = convert_source(&job.plan, &name, &mut *source, job.jobs, &mut tally, voice, stop);
        total.add(&ledger);
        result = converted;
        if result.is_err() {
            break;
        }
    }
    let finished = tally.outputs.finish();
    let result = result.and_then(|()| finished.map_err(PumpError::Sink));
    match result {
        // Whoever reads our output has seen enough.
        Err(PumpError::Sink(error)) if error.is_closed_pipe() => return Ok(Ending::Done),
        Err(error) => {
            voice.fail(&error.to_string());
            report_files(&tally.outputs, voice);
            return Err(Ending::Failed);
        }
        Ok(()) => report_files(&tally.outputs, voice),
    }
    Ok(ending(&total, job.reject_limit, voice))
}

/// Converts one source and says what became of its bytes, also if it fails on the way.
fn convert_source(
    plan: &Plan,
    name: &str,
    source: &mut dyn Source,
    jobs: usize,
    tally: &mut Tally,
    voice: &Voice,
    stop: &AtomicBool,
) -> (Ledger, Result<(), PumpError<OutputError>>) {
    tally.outputs.begin_source(name);
    tally.seen = Seen::default();
    let bar = progress_bar(name, source, voice);
    let mut decoder = Decoder::new(plan);
    // What is of no known size may be live, and is to be written as it comes.
    let options = PieceOptions::jobs(if source.size().is_some() { jobs } else { 1 });
    let mut gone = false;
    let pumped = pump_pieces(source, &mut decoder, tally, options, &mut |progress| {
        bar.set_position(progress.bytes);
        if progress.gone != gone {
            gone = progress.gone;
            let what = if gone { "has gone away; waiting for it to come back" } else { "is back" };
            voice.warn(&format!("{name} {what}"));
        }
        !stop.load(Ordering::Relaxed)
    });
    bar.finish_and_clear();
    for remark in source.remarks() {
        voice.warn(&format!("{name}: {remark}"));
    }
    let mut ledger = Ledger::default();
    for line in decoder.lines() {
        ledger.add(&decoder.ledger(line));
    }
    let closed = matches!(&pumped, Err(PumpError::Sink(error)) if error.is_closed_pipe());
    if pumped.as_ref().is_ok_and(|pumped| pumped.unjoined) {
        voice.tell(
            "info",
            &format!(
                "{}: a frame can be found at any place in it, so it could not be decoded in pieces; one core has done it",
                crate::safe::Safe(name)
            ),
            serde_json::json!({"unjoined": name}),
        );
    }
    if !closed {
        let summary = Summary {
            source: name,
            plan,
            ledger: &ledger,
            seen: &tally.seen,
            times: pumped.as_ref().ok().and_then(|pumped| pumped.times),
            has_times: source.has_times(),
            torn: source.torn(),
            stopped: pumped.as_ref().is_ok_and(|pumped| pumped.stopped),
        };
        voice.tell("summary", &summary.text(), summary.json());
    }
    (ledger, pumped.map(|_| ()))
}

fn progress_bar(name: &str, source: &dyn Source, voice: &Voice) -> ProgressBar {
    let size = source.size().unwrap_or(0);
    let target = match voice.to_a_person() && size >= SHOW_PROGRESS {
        true => ProgressDrawTarget::stderr(),
        false => ProgressDrawTarget::hidden(),
    };
    let bar = ProgressBar::with_draw_target(Some(size), target).with_message(crate::safe::Safe(name).to_string());
    let style = ProgressStyle::with_template("{msg} {wide_bar} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left");
    style.map_or(bar.clone(), |style| bar.with_style(style))
}

/// Says which files were written.
fn report_files(outputs: &Outputs, voice: &Voice) {
    for (path, rows) in outputs.files() {
        let text = format!("wrote {} ({})", path.display(), plural(rows, "row"));
        let data = serde_json::json!({"wrote": path.display().to_string(), "rows": rows});
        voice.tell("info", &crate::safe::Safe(&text).to_string(), data);
    }
}

/// The exit status that the account asks for, and the words for it.
fn ending(total: &Ledger, reject_limit: Option<f64>, voice: &Voice) -> Ending {
    if total.total == 0 {
        voice.fail("no bytes came");
        return Ending::NoBytes;
    }
    if total.recorded + total.ignored == 0 {
        voice.fail(
            "bytes came, but nothing in them was recognised: is it the right format, with the right line settings?",
        );
        return Ending::NothingRecognised;
    }
    let share = total.rejected as f64 / total.total as f64;
    match reject_limit {
        Some(limit) if share > limit => {
            let bytes = grouped(total.rejected);
            voice.fail(&format!(
                "{bytes} bytes were rejected, {:.3} % of all; the limit is {:.3} %",
                share * 100.0,
                limit * 100.0
            ));
            Ending::TooManyRejects
        }
        _ => Ending::Done,
    }
}
