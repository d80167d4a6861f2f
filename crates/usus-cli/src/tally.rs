//! What happened in a conversion, gathered on the way to the outputs, for the summary.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use usus::quality::Qualities;
use usus::{LineId, LineInside, Notice, Record, Reject, Sink};
use usus_io::{OutputError, Outputs, Pieces};

/// How many rejects of each reason are kept to be shown.
const SAMPLES: usize = 3;
/// How many bytes of each are kept.
const SAMPLE_BYTES: usize = 24;
/// How many of the bytes that gave nothing are kept to be looked at.
const UNKNOWN_BYTES: usize = 4_096;

/// Gathers what the summary tells, and passes everything on.
pub(crate) struct Tally {
    pub(crate) outputs: Outputs,
    seen: Seen,
    counts: Option<Arc<Counts>>,
}

/// What was seen.
#[derive(Default)]
pub(crate) struct Seen {
    /// The lines that lie inside of others, by the fields that carry them.
    insides: BTreeMap<LineId, Arc<str>>,
    pub(crate) rejects: Vec<Group>,
    pub(crate) clipped: Vec<Group>,
    pub(crate) notices: Vec<Group>,
    /// Readings that were no plain values.
    pub(crate) qualities: Qualities,
    /// The first bytes that gave nothing, for a look at what they may be instead.
    pub(crate) unknown: Vec<u8>,
}

/// What is told while a live source is converted: counted where another thread, or a closure, can look.
#[derive(Default)]
pub(crate) struct Counts {
    pub(crate) records: AtomicU64,
    pub(crate) rejects: AtomicU64,
}

/// Events of one sort.
pub(crate) struct Group {
    pub(crate) word: &'static str,
    /// The field that carries them, where they lie inside of other records.
    pub(crate) inside: Option<Arc<str>>,
    pub(crate) count: u64,
    pub(crate) bytes: u64,
    pub(crate) samples: Vec<Sample>,
}

impl Group {
    /// What they are, for people.
    pub(crate) fn name(&self) -> String {
        match &self.inside {
            Some(field) => format!("{} inside {field}", self.word),
            None => self.word.to_owned(),
        }
    }
}

/// One of them.
pub(crate) struct Sample {
    pub(crate) offset: u64,
    pub(crate) length: u64,
    pub(crate) candidates: u32,
    pub(crate) detail: String,
    pub(crate) bytes: Vec<u8>,
}

impl Tally {
    pub(crate) fn new(outputs: Outputs) -> Tally {
        Tally { outputs, seen: Seen::default(), counts: None }
    }

    /// Begins with a source. What is live is counted while it comes.
    pub(crate) fn begin_source(
        &mut self,
        name: &str,
        stream: &str,
        counts: Option<Arc<Counts>>,
    ) -> Result<(), OutputError> {
        self.outputs.take_qualities();
        (self.seen, self.counts) = (Seen::default(), counts);
        self.outputs.begin_source(name, stream)
    }

    /// What was seen since the source began.
    pub(crate) fn seen(&mut self) -> Seen {
        self.seen.qualities = self.outputs.take_qualities();
        std::mem::take(&mut self.seen)
    }
}

impl Seen {
    /// Adds what was seen later.
    fn join(&mut self, later: Seen) {
        let groups = [
            (&mut self.rejects, later.rejects),
            (&mut self.clipped, later.clipped),
            (&mut self.notices, later.notices),
        ];
        for (groups, later) in groups {
            for more in later {
                let group = group(groups, more.word, more.inside);
                group.count += more.count;
                group.bytes += more.bytes;
                let room = SAMPLES - group.samples.len();
                group.samples.extend(more.samples.into_iter().take(room));
            }
        }
        let room = UNKNOWN_BYTES - self.unknown.len().min(UNKNOWN_BYTES);
        self.unknown.extend(later.unknown.into_iter().take(room));
    }

    pub(crate) fn reject(&mut self, reject: &Reject<'_>) {
        let room = UNKNOWN_BYTES - self.unknown.len().min(UNKNOWN_BYTES);
        self.unknown.extend_from_slice(&reject.bytes[..reject.bytes.len().min(room)]);
        let inside = self.inside(reject.line);
        count_bytes(&mut self.rejects, reject, inside);
    }

    pub(crate) fn clip(&mut self, clipped: &Reject<'_>) {
        let inside = self.inside(clipped.line);
        count_bytes(&mut self.clipped, clipped, inside);
    }

    /// The field that carries a line, if it lies inside of another.
    fn inside(&self, line: LineId) -> Option<Arc<str>> {
        self.insides.get(&line).map(Arc::clone)
    }

    pub(crate) fn notice(&mut self, notice: &Notice<'_>) {
        let inside = self.inside(notice.line);
        let group = group(&mut self.notices, notice.kind.word(), inside);
        group.count += 1;
        if group.samples.len() < SAMPLES {
            let detail = notice.to_string();
            group.samples.push(Sample { offset: notice.offset, length: 0, candidates: 0, detail, bytes: Vec::new() });
        }
    }
}

fn count_bytes(groups: &mut Vec<Group>, reject: &Reject<'_>, inside: Option<Arc<str>>) {
    let group = group(groups, reject.reason.word(), inside);
    group.count += 1;
    group.bytes += reject.bytes.len() as u64;
    if group.samples.len() < SAMPLES {
        group.samples.push(Sample {
            offset: reject.offset,
            length: reject.bytes.len() as u64,
            candidates: reject.candidates,
            detail: reject.reason.describe(reject.plan).to_string(),
            bytes: reject.bytes[..reject.bytes.len().min(SAMPLE_BYTES)].to_vec(),
        });
    }
}

fn group<'g>(groups: &'g mut Vec<Group>, word: &'static str, inside: Option<Arc<str>>) -> &'g mut Group {
    let is_it = |group: &Group| group.word == word && group.inside == inside;
    let index = groups.iter().position(is_it).unwrap_or_else(|| {
        groups.push(Group { word, inside, count: 0, bytes: 0, samples: Vec::new() });
        groups.len() - 1
    });
    &mut groups[index]
}

impl Sink for Tally {
    type Error = OutputError;

    fn line(&mut self, line: LineId, name: &str) {
        self.outputs.line(line, name);
    }

    fn line_inside(&mut self, inside: &LineInside<'_>) {
        self.seen.insides.insert(inside.line, inside.field.into());
        self.outputs.line_inside(inside);
    }

    fn record(&mut self, record: &Record<'_>) -> Result<(), OutputError> {
        if let Some(counts) = &self.counts {
            counts.records.fetch_add(1, Ordering::Relaxed);
        }
        self.outputs.record(record)
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), OutputError> {
        if let Some(counts) = &self.counts {
            counts.rejects.fetch_add(1, Ordering::Relaxed);
        }
        self.seen.reject(reject);
        self.outputs.reject(reject)
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), OutputError> {
        self.seen.clip(clipped);
        self.outputs.clipped(clipped)
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), OutputError> {
        self.seen.notice(notice);
        self.outputs.notice(notice)
    }

    fn flush(&mut self) -> Result<(), OutputError> {
        self.outputs.flush()
    }
}

impl Pieces for Tally {
    type Piece = Tally;

    fn is_divisible(&self) -> bool {
        self.outputs.is_divisible()
    }

    fn piece(&self) -> Tally {
        Tally::new(self.outputs.piece())
    }

    fn join(&mut self, piece: &mut Tally) -> Result<(), OutputError> {
        self.seen.join(std::mem::take(&mut piece.seen));
        self.outputs.join(&mut piece.outputs)
    }
}
