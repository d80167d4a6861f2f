//! Converting one source, and what is to be said of that.

use std::sync::atomic::{AtomicBool, Ordering};

use std::sync::Arc;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use usus::quality::{Class, Qualities};
use usus::survey::Survey;
use usus::{Decoder, Plan, Span};
use usus_io::{OutputError, Outputs, PieceOptions, PumpError, Remark, Source, pump_pieces};

use super::live::LiveStatus;
use crate::Ending;
use crate::arguments::Account;
use crate::ledgers::Ledgers;
use crate::safe::Safe;
use crate::summary::{Summary, grouped, plural};
use crate::tally::{Counts, Tally};
use crate::voice::Voice;

/// Sources smaller than this are done before a progress bar could be read.
const SHOW_PROGRESS: u64 = 32 << 20;

/// What became of a source.
pub(crate) struct Converted {
    pub(crate) ledgers: Ledgers,
    /// Whether bytes of it were lost while they came.
    pub(crate) lossy: bool,
    /// The field with the largest share of values that are invalid or out of range, and that share.
    pub(crate) worst: Option<(String, f64)>,
    /// What the bytes that gave nothing look like.
    pub(crate) looks: Option<String>,
    /// The account of each source.
    pub(crate) summaries: Vec<serde_json::Value>,
    pub(crate) result: Result<(), PumpError<OutputError>>,
}

impl Converted {
    /// Adds what became of another source.
    pub(crate) fn add(&mut self, other: Converted) {
        self.ledgers.add(&other.ledgers);
        self.lossy |= other.lossy;
        let worse = |(_, share): &&(String, f64)| self.worst.as_ref().is_none_or(|(_, worst)| share > worst);
        if let Some(worst) = other.worst.as_ref().filter(worse) {
            self.worst = Some(worst.clone());
        }
        self.looks = self.looks.take().or(other.looks);
        self.summaries.extend(other.summaries);
        self.result = other.result;
    }

    /// Whether whoever reads our output has seen enough.
    pub(crate) fn is_closed_pipe(&self) -> bool {
        matches!(&self.result, Err(PumpError::Sink(error)) if error.is_closed_pipe())
    }
}

/// How a source is converted.
pub(crate) struct Conversion<'c> {
    pub(crate) plan: &'c Plan,
    /// What the source is called.
    pub(crate) name: &'c str,
    /// The id of its stream.
    pub(crate) stream: &'c str,
    pub(crate) jobs: usize,
    pub(crate) voice: &'c Voice,
    /// Asks it to stop; one that ends itself when it is to stop needs none.
    pub(crate) stop: Option<&'c AtomicBool>,
    /// Where what comes from a live source is counted.
    pub(crate) counts: Option<Arc<Counts>>,
    /// Whether it says how it stands while it runs.
    pub(crate) tells: bool,
}

/// Converts one source and says what became of its bytes, also if it fails on the way.
pub(crate) fn convert_source(how: &Conversion<'_>, source: &mut dyn Source, tally: &mut Tally) -> Converted {
    let Conversion { plan, name, voice, stop, .. } = *how;
    let begun = tally.begin_source(name, how.stream, how.counts.clone()).map_err(PumpError::Sink);
    let bar = progress_bar(name, source, voice);
    let mut status = how.counts.clone().filter(|_| how.tells).map(|counts| LiveStatus::new(name, counts, voice));
    let mut decoder = Decoder::new(plan);
    // What is of no known size may be live, and is to be written as it comes.
    let options = PieceOptions::jobs(if source.size().is_some() { how.jobs } else { 1 });
    let mut gone = false;
    let pump = |()| {
        pump_pieces(source, &mut decoder, tally, options, &mut |progress| {
            bar.set_position(progress.bytes);
            if let Some(status) = &mut status {
                status.tell(progress.bytes, voice);
            }
            if progress.gone != gone {
                gone = progress.gone;
                let what = if gone { "has gone away; waiting for it to come back" } else { "is back" };
                voice.warn(&format!("{name} {what}"));
            }
            !stop.is_some_and(|stop| stop.load(Ordering::Relaxed))
        })
    };
    let pumped = begun.and_then(pump).and_then(|pumped| {
        tally.outputs.end_source(&decoder).map_err(PumpError::Sink)?;
        Ok(pumped)
    });
    bar.finish_and_clear();
    let remarks = source.remarks();
    for remark in &remarks {
        voice.warn(&format!("{name}: {remark}"));
    }
    let ledgers = Ledgers::of(&decoder);
    let lossy = source.is_live() && (ledgers.lines.losses > 0 || remarks.iter().any(is_loss));
    let pumped_well = pumped.as_ref().ok();
    if pumped_well.is_some_and(|pumped| pumped.unjoined) {
        let text = format!(
            "{}: a frame can be found at any place in it, so it could not be decoded in pieces; one core has done it",
            Safe(name)
        );
        voice.tell("info", &text, serde_json::json!({"unjoined": name}));
    }
    let seen = tally.seen();
    let summary = Summary {
        source: name,
        plan,
        ledgers: &ledgers,
        seen: &seen,
        times: pumped_well.and_then(|pumped| pumped.times),
        has_times: source.has_times(),
        torn: source.torn(),
        stopped: pumped_well.is_some_and(|pumped| pumped.stopped),
    };
    let (text, data) = (summary.said(voice), summary.json());
    let (worst, looks) = (worst(&seen.qualities), looks(&seen.unknown, plan));
    let summaries = vec![data.clone()];
    let converted = Converted { lossy, worst, looks, summaries, result: pumped.map(|_| ()), ledgers };
    if !converted.is_closed_pipe() {
        voice.tell("summary", &text, data);
        warn_of_unusable(&seen.qualities, voice);
    }
    converted
}

/// The field with the largest share of values that are invalid or out of range.
fn worst(qualities: &Qualities) -> Option<(String, f64)> {
    let shares = qualities.iter().map(|field| (format!("{}.{}", field.record, field.field), field.unusable()));
    shares.filter(|(_, share)| *share > 0.0).max_by(|(_, one), (_, other)| one.total_cmp(other))
}

/// Fewer values than this may well be wrong all of them.
const ENOUGH: u64 = 10;

/// Where most values of a field cannot be meant, its declaration is wrong.
fn warn_of_unusable(qualities: &Qualities, voice: &Voice) {
    for field in qualities.iter().filter(|field| field.readings >= ENOUGH && field.unusable() > 0.5) {
        let Some((class, seen)) =
            field.seen.iter().filter(|(class, _)| *class != Class::Marked).max_by_key(|(_, seen)| seen.count)
        else {
            continue;
        };
        let (what, ask) = match class {
            Class::OutOfRange => ("out of range", "are its place, byte order, sign and scale right?"),
            Class::Invalid => {
                ("not values of its type", "are its type and place right, and is the number all there is?")
            }
            Class::InvalidText => ("not text", "are its place and its type right?"),
            _ => ("not finite numbers", "are its place and byte order right?"),
        };
        let (count, all) = (grouped(seen.count), grouped(field.readings));
        voice.warn(&format!("{}.{}: {count} of {all} values are {what}; {ask}", field.record, field.field));
    }
}

/// What bytes that gave nothing look like, if that is not what the format reads.
fn looks(unknown: &[u8], plan: &Plan) -> Option<String> {
    if unknown.len() < 16 {
        return None;
    }
    let text = unknown.iter().filter(|byte| matches!(byte, b' '..=b'~' | b'\t' | b'\r' | b'\n')).count();
    let share = text as f64 * 100.0 / unknown.len() as f64;
    let mut survey = Survey::new(Span::default(), None);
    survey.chunk(None, unknown, &[]);
    let period = survey.period();
    let repeated = period.map(|period| format!(", much the same every {} bytes", period.bytes)).unwrap_or_default();
    if plan.reads_text_only() && share < 75.0 {
        return Some(format!(
            "the format reads text, and only {share:.0} % of these bytes are text: it looks like binary packets{repeated}, or like a wrong speed"
        ));
    }
    if plan.reads_packets_only() && share > 95.0 {
        let lines = unknown.split(|byte| matches!(byte, b'\r' | b'\n')).map(<[u8]>::trim_ascii);
        let line = lines.filter(|line| !line.is_empty()).nth(1).unwrap_or_default();
        let line = &line[..line.len().min(60)];
        return Some(format!(
            "the format reads packets, and these bytes are text, with lines such as `{}`",
            line.escape_ascii()
        ));
    }
    None
}

/// Whether it says that bytes are missing.
fn is_loss(remark: &Remark) -> bool {
    matches!(remark, Remark::NotRecorded { .. } | Remark::NotConverted { .. } | Remark::LostDatagrams { .. })
}

fn progress_bar(name: &str, source: &dyn Source, voice: &Voice) -> ProgressBar {
    let size = source.size().unwrap_or(0);
    let target = match voice.to_a_person() && size >= SHOW_PROGRESS {
        true => ProgressDrawTarget::stderr(),
        false => ProgressDrawTarget::hidden(),
    };
    let bar = ProgressBar::with_draw_target(Some(size), target).with_message(Safe(name).to_string());
    let style = ProgressStyle::with_template("{msg} {wide_bar} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left");
    style.map_or(bar.clone(), |style| bar.with_style(style))
}

/// Says which files were written.
pub(crate) fn report_files(outputs: &Outputs, voice: &Voice) {
    if voice.account() == Account::Brief {
        return;
    }
    for (path, rows) in outputs.files() {
        let text = format!("wrote {} ({})", path.display(), plural(rows, "row"));
        let data = serde_json::json!({"wrote": path.display().to_string(), "rows": rows});
        voice.tell("info", &Safe(&text).to_string(), data);
    }
}

/// Says what the outputs could not hold as it is.
pub(crate) fn report_remarks(outputs: &Outputs, voice: &Voice) {
    outputs.remarks().iter().for_each(|remark| voice.warn(&Safe(remark).to_string()));
}

/// What the account may be at worst.
#[derive(Clone, Copy)]
pub(crate) struct Allowed {
    /// The share of rejected bytes.
    pub(crate) rejects: Option<f64>,
    /// The share of a field's values that are invalid or out of range.
    pub(crate) quality: Option<f64>,
}

/// The exit status that the account asks for, and the words for it. `converted` holds what all sources came to together.
pub(crate) fn ending(converted: &Converted, allowed: Allowed, voice: &Voice) -> Ending {
    let total = &converted.ledgers.lines;
    if total.total == 0 {
        voice.fail("no bytes came");
        return Ending::NoBytes;
    }
    if total.recorded + total.ignored == 0 {
        let hint = converted.looks.as_deref().unwrap_or("is it the right format, with the right line settings?");
        voice.fail(&format!("bytes came, but nothing in them was recognised: {hint} (usus inspect shows them)"));
        return Ending::NothingRecognised;
    }
    for (ledger, inside) in converted.ledgers.named() {
        let share = ledger.rejected as f64 / ledger.total.max(1) as f64;
        if let Some(limit) = allowed.rejects.filter(|limit| share > *limit) {
            let (bytes, share, limit) = (grouped(ledger.rejected), share * 100.0, limit * 100.0);
            let all = inside.map_or("all".to_owned(), |field| format!("what {field} carries"));
            voice.fail(&format!("{bytes} bytes were rejected, {share:.3} % of {all}; the limit is {limit:.3} %"));
            return Ending::TooManyRejects;
        }
    }
    if let (Some(limit), Some((field, share))) = (allowed.quality, &converted.worst)
        && *share > limit
    {
        let (share, limit) = (share * 100.0, limit * 100.0);
        voice.fail(&format!(
            "{share:.3} % of the values of {field} are invalid or out of range; the limit is {limit:.3} %"
        ));
        return Ending::TooManyRejects;
    }
    if converted.lossy { Ending::BytesLost } else { Ending::Done }
}
