//! The account of a line: every byte is booked exactly once.

use alloc::string::String;
use alloc::vec::Vec;

/// What became of the bytes of one line.
///
/// At every moment `recorded + ignored + filler + clipped + rejected + pending == total`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Ledger {
    /// Bytes taken in.
    pub total: u64,
    /// Bytes of frames that gave records.
    pub recorded: u64,
    /// Bytes of frames that the format declares to carry nothing of interest.
    pub ignored: u64,
    /// Bytes between frames that carry nothing by the rules of the framing.
    pub filler: u64,
    /// Bytes of frames that the edge of the recording cut.
    pub clipped: u64,
    /// Bytes that gave no record, with a reason.
    pub rejected: u64,
    /// Bytes that are not decided yet.
    pub pending: u64,
    /// Records of each kind, in the order of the schema.
    pub records: Vec<u64>,
    /// Frames ignored.
    pub ignored_frames: u64,
    /// Rejects, each a run of bytes or a frame.
    pub rejects: u64,
    /// Pieces clipped.
    pub clips: u64,
    /// Losses that the source reported.
    pub losses: u64,
    /// Faults that the source marked on characters.
    pub faults: u64,
    /// Ignored frames by the name that `count_by` asks for, in the order of appearance.
    pub ignored_by: Vec<(String, u64)>,
    /// Ignored frames whose names came after the limit on names was reached.
    pub ignored_by_others: u64,
}

impl Ledger {
    pub(crate) fn for_kinds(kinds: usize) -> Ledger {
        Ledger { records: alloc::vec![0; kinds], ..Ledger::default() }
    }

    /// Whether every byte is booked.
    pub fn balances(&self) -> bool {
        let booked = self.recorded + self.ignored + self.filler + self.clipped + self.rejected + self.pending;
        booked == self.total
    }

    /// The account of this line and another together.
    pub fn add(&mut self, other: &Ledger) {
        self.total += other.total;
        self.recorded += other.recorded;
        self.ignored += other.ignored;
        self.filler += other.filler;
        self.clipped += other.clipped;
        self.rejected += other.rejected;
        self.pending += other.pending;
        self.ignored_frames += other.ignored_frames;
        self.rejects += other.rejects;
        self.clips += other.clips;
        self.losses += other.losses;
        self.faults += other.faults;
        self.ignored_by_others += other.ignored_by_others;
        if self.records.len() < other.records.len() {
            self.records.resize(other.records.len(), 0);
        }
        for (mine, others) in self.records.iter_mut().zip(&other.records) {
            *mine += others;
        }
        for (name, count) in &other.ignored_by {
            match self.ignored_by.iter_mut().find(|(known, _)| known == name) {
                Some((_, mine)) => *mine += count,
                None => self.ignored_by.push((name.clone(), *count)),
            }
        }
    }

    /// Adds the account of what came behind, in which every name was counted for itself.
    pub(crate) fn append(&mut self, behind: &Ledger, limit: usize) {
        self.add(behind);
        // Those that came last are the ones that are too many.
        while self.ignored_by.len() > limit {
            let (_, count) = self.ignored_by.pop().unwrap_or_default();
            self.ignored_by_others += count;
        }
    }

    pub(crate) fn ignore(&mut self, bytes: u64, name: Option<&[u8]>, limit: usize) {
        self.ignored += bytes;
        self.ignored_frames += 1;
        let Some(name) = name else { return };
        // Borrowed, and so without allocation, unless the device sent something that is not UTF-8.
        let name = String::from_utf8_lossy(name);
        if let Some((_, count)) = self.ignored_by.iter_mut().find(|(known, _)| *known == name) {
            *count += 1;
        } else if self.ignored_by.len() < limit {
            self.ignored_by.push((name.into_owned(), 1));
        } else {
            self.ignored_by_others += 1;
        }
    }
}
