//! Converting one source, and what is to be said of that.

use std::sync::atomic::{AtomicBool, Ordering};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use usus::{Decoder, Ledger, Plan};
use usus_io::{OutputError, Outputs, PieceOptions, PumpError, Remark, Source, pump_pieces};

use crate::Ending;
use crate::safe::Safe;
use crate::summary::{Summary, grouped, plural};
use crate::tally::{Seen, Tally};
use crate::voice::Voice;

/// Sources smaller than this are done before a progress bar could be read.
const SHOW_PROGRESS: u64 = 32 << 20;

/// What became of a source.
pub(crate) struct Converted {
    pub(crate) ledger: Ledger,
    /// Whether bytes of it were lost while they came.
    pub(crate) lossy: bool,
    pub(crate) result: Result<(), PumpError<OutputError>>,
}

impl Converted {
    /// Whether whoever reads our output has seen enough.
    pub(crate) fn is_closed_pipe(&self) -> bool {
        matches!(&self.result, Err(PumpError::Sink(error)) if error.is_closed_pipe())
    }
}

/// Converts one source and says what became of its bytes, also if it fails on the way. One that ends itself when it is to stop needs no
/// `stop`.
pub(crate) fn convert_source(
    plan: &Plan,
    name: &str,
    source: &mut dyn Source,
    jobs: usize,
    tally: &mut Tally,
    voice: &Voice,
    stop: Option<&AtomicBool>,
) -> Converted {
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
        !stop.is_some_and(|stop| stop.load(Ordering::Relaxed))
    });
    bar.finish_and_clear();
    let remarks = source.remarks();
    for remark in &remarks {
        voice.warn(&format!("{name}: {remark}"));
    }
    let mut ledger = Ledger::default();
    for line in decoder.lines() {
        ledger.add(&decoder.ledger(line));
    }
    let lossy = source.is_live() && (ledger.losses > 0 || remarks.iter().any(is_loss));
    let pumped_well = pumped.as_ref().ok();
    if pumped_well.is_some_and(|pumped| pumped.unjoined) {
        let text = format!(
            "{}: a frame can be found at any place in it, so it could not be decoded in pieces; one core has done it",
            Safe(name)
        );
        voice.tell("info", &text, serde_json::json!({"unjoined": name}));
    }
    let summary = Summary {
        source: name,
        plan,
        ledger: &ledger,
        seen: &tally.seen,
        times: pumped_well.and_then(|pumped| pumped.times),
        has_times: source.has_times(),
        torn: source.torn(),
        stopped: pumped_well.is_some_and(|pumped| pumped.stopped),
    };
    let (text, data) = (summary.text(), summary.json());
    let converted = Converted { lossy, result: pumped.map(|_| ()), ledger };
    if !converted.is_closed_pipe() {
        voice.tell("summary", &text, data);
    }
    converted
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
    for (path, rows) in outputs.files() {
        let text = format!("wrote {} ({})", path.display(), plural(rows, "row"));
        let data = serde_json::json!({"wrote": path.display().to_string(), "rows": rows});
        voice.tell("info", &Safe(&text).to_string(), data);
    }
}

/// The exit status that the account asks for, and the words for it.
pub(crate) fn ending(total: &Ledger, lossy: bool, reject_limit: Option<f64>, voice: &Voice) -> Ending {
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
        _ if lossy => Ending::BytesLost,
        _ => Ending::Done,
    }
}
