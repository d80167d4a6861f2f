//! Converting what is being recorded, on a thread of its own.

use std::path::Path;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use usus::Time;
use usus_io::{EventSender, PumpError, Source, SourceEvent, TableOptions, WhenFull, queue};

use crate::Ending;
use crate::convert::{
    self, AHEAD, Allowed, Converted, Target, Unfinished, convert_source, ending, report_files, report_remarks,
};
use crate::tally::{Counts, Tally};
use crate::voice::Voice;

/// When the end of the conversion has been waited for so long, that is said.
const PATIENCE: Duration = Duration::from_secs(2);

/// A conversion that goes on beside the recording and never holds it up.
pub(super) struct Conversion {
    sender: Option<EventSender>,
    thread: JoinHandle<(Converted, Tally, Target)>,
    allowed: Allowed,
    /// What it has given by now.
    counts: Arc<Counts>,
    /// What a next run is told, should this one be killed.
    unfinished: Option<Unfinished>,
}

fn is_same(one: &Path, other: &Path) -> bool {
    let real = |path: &Path| std::fs::canonicalize(path).ok();
    real(one).is_some_and(|path| real(other) == Some(path))
}

impl Conversion {
    /// Begins to convert what `source` will say.
    /// `kept` is the capture that it is recorded into, and from when on if that is continued.
    pub(super) fn begin(
        target: Target,
        name: &str,
        source: &dyn Source,
        stream: &str,
        (kept, from): (&Path, Option<Time>),
        voice: &Voice,
    ) -> Result<Conversion, Ending> {
        target.check(name, source).map_err(|text| {
            voice.fail(&text);
            Ending::Failed
        })?;
        let options = TableOptions { line: source.has_lines(), received: true, ..TableOptions::default() };
        let (mut tally, left) = target.open(options, true, voice)?;
        if let Some(left) = &left {
            convert::catch_up(left, &target, 1, &mut tally, voice)?;
        }
        // What is added to the same capture is made again together with what it held before.
        let goes_on = left.filter(|left| left.capture.as_ref().is_some_and(|capture| is_same(capture, kept)));
        let unfinished = match goes_on {
            Some(left) => Some(left),
            None => target.begin(Some(kept), from).map_err(|text| {
                voice.fail(&text);
                Ending::Failed
            })?,
        };
        let (sender, mut queue) = queue(source, AHEAD, WhenFull::Lose);
        let stream = stream.to_owned();
        let (name, voice, allowed) = (name.to_owned(), *voice, target.allowed());
        let counts = Arc::<Counts>::default();
        let counted = Arc::clone(&counts);
        let thread = std::thread::spawn(move || {
            // The recording says how both stand.
            let how = convert::Conversion {
                plan: &target.plan,
                name: &name,
                stream: &stream,
                jobs: 1,
                voice: &voice,
                stop: None,
                counts: Some(counted),
                tells: false,
            };
            let converted = convert_source(&how, &mut queue, &mut tally);
            (converted, tally, target)
        });
        Ok(Conversion { sender: Some(sender), thread, allowed, counts, unfinished })
    }

    /// What it has given by now.
    pub(super) fn counts(&self) -> &Counts {
        &self.counts
    }

    /// Takes what happened. Returns false once, if it has ended by itself.
    pub(super) fn take(&mut self, event: SourceEvent<'_>) -> bool {
        let goes_on = self.sender.as_ref().is_none_or(|sender| sender.send(event));
        if !goes_on {
            self.sender = None;
        }
        goes_on
    }

    /// Ends it, with everything written, and says what became of it.
    pub(super) fn end(mut self, voice: &Voice) -> Ending {
        self.sender = None;
        let begun = Instant::now();
        let mut told = false;
        while !self.thread.is_finished() {
            if begun.elapsed() > PATIENCE && !std::mem::replace(&mut told, true) {
                voice
                    .say("all is recorded; waiting for the converted records to be taken (interrupt again to give up)");
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        let Ok((converted, mut tally, mut target)) = self.thread.join() else { return Ending::Failed };
        let closed = converted.is_closed_pipe();
        if converted.result.is_err() {
            tally.outputs.fail();
        }
        let finished = tally.outputs.finish();
        let mut converted = converted;
        let result = std::mem::replace(&mut converted.result, Ok(())).and_then(|()| finished.map_err(PumpError::Sink));
        report_files(&tally.outputs, voice);
        report_remarks(&tally.outputs, voice);
        match result {
            Err(_) if closed => Ending::Done,
            Err(error) => {
                voice.fail(&error.to_string());
                Ending::Failed
            }
            Ok(()) => {
                if let Some(unfinished) = self.unfinished {
                    unfinished.done();
                }
                match target.describe(&converted, voice) {
                    Ok(()) => ending(&converted, self.allowed, voice),
                    Err(failed) => failed,
                }
            }
        }
    }
}
