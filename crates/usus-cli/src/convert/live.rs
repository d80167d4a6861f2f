//! What a live conversion says while it runs: a line that is drawn anew in a terminal, a plain line now and then elsewhere, and that nothing
//! comes.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use serde_json::json;

use crate::safe::Safe;
use crate::summary::{grouped, plural};
use crate::tally::Counts;
use crate::voice::Voice;

/// How often the line in a terminal is drawn.
pub(crate) const REDRAWN: Duration = Duration::from_millis(250);
/// How often something is said where there is no terminal.
pub(crate) const SAID: Duration = Duration::from_secs(10);
/// When nothing has come for so long, that is worth a warning.
pub(crate) const SILENT: Duration = Duration::from_secs(15);

pub(super) struct LiveStatus {
    name: String,
    counts: Arc<Counts>,
    in_terminal: bool,
    drawn: Instant,
    /// The bytes when it was last looked, and when they last were more.
    bytes: u64,
    last: Instant,
    warned: bool,
    rate: (Instant, u64),
    bytes_a_second: f64,
}

impl LiveStatus {
    pub(super) fn new(name: &str, counts: Arc<Counts>, voice: &Voice) -> LiveStatus {
        let now = Instant::now();
        LiveStatus {
            name: name.to_owned(),
            counts,
            in_terminal: voice.to_a_person(),
            drawn: now,
            bytes: 0,
            last: now,
            warned: false,
            rate: (now, 0),
            bytes_a_second: 0.0,
        }
    }

    /// Says how it stands, if it is time for that.
    pub(super) fn tell(&mut self, bytes: u64, voice: &Voice) {
        if bytes > self.bytes {
            (self.bytes, self.last, self.warned) = (bytes, Instant::now(), false);
        }
        let silent = self.last.elapsed();
        if silent >= SILENT && !std::mem::replace(&mut self.warned, true) {
            voice.warn(&format!("{}: nothing has come for {} s", self.name, silent.as_secs()));
        }
        if self.drawn.elapsed() < if self.in_terminal { REDRAWN } else { SAID } {
            return;
        }
        self.drawn = Instant::now();
        let (since, before) = self.rate;
        if since.elapsed() >= Duration::from_secs(2) {
            self.bytes_a_second = (bytes - before) as f64 / since.elapsed().as_secs_f64();
            self.rate = (Instant::now(), bytes);
        }
        let [records, rejects] =
            [&self.counts.records, &self.counts.rejects].map(|count| count.load(Ordering::Relaxed));
        let activity = match silent.as_secs() {
            0..=1 => format!("{} bytes a second", grouped(self.bytes_a_second.round() as u64)),
            seconds => format!("silent for {} s", grouped(seconds)),
        };
        let (came, gave) = (plural(bytes, "byte"), plural(records, "record"));
        let text =
            format!("converting {}: {came}, {activity}, {gave}, {}", Safe(&self.name), plural(rejects, "reject"));
        if self.in_terminal {
            voice.draw_status(&text);
        } else {
            let data = json!({
                "converting": self.name, "bytes": bytes, "records": records, "rejects": rejects,
                "silent_seconds": silent.as_secs_f64(),
            });
            voice.tell("info", &text, data);
        }
    }
}
