//! A recording that goes on in one file after the other.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use usus::Span;

use super::compress::{Compressor, compressed};
use super::{RecordError, Recorder};
use crate::source::Remark;

/// If another file cannot be begun, it is tried again after so long.
const TRIED_AGAIN: Duration = Duration::from_secs(10);

/// When another file is begun.
#[derive(Clone, Copy, Debug, Default)]
#[non_exhaustive]
pub struct Rotation {
    /// Once this one has so many bytes.
    pub size: Option<u64>,
    /// After so long.
    pub every: Option<Span>,
    /// Whether files that are finished are compressed with gzip.
    pub compress: bool,
}

/// The file that is recorded into, and those before it.
pub(super) struct Parts {
    pub(super) recorder: Recorder,
    rotation: Rotation,
    compressor: Option<Compressor>,
    number: u32,
    began: Instant,
    tried: Option<Instant>,
    paths: Vec<PathBuf>,
    remarks: Vec<Remark>,
    finished: bool,
}

impl Parts {
    pub(super) fn new(recorder: Recorder) -> Parts {
        Parts {
            paths: vec![recorder.path().to_owned()],
            recorder,
            rotation: Rotation::default(),
            compressor: None,
            number: 1,
            began: Instant::now(),
            tried: None,
            remarks: Vec::new(),
            finished: false,
        }
    }

    pub(super) fn rotate(&mut self, rotation: Rotation) {
        self.rotation = rotation;
        self.compressor = rotation.compress.then(Compressor::new);
    }

    /// Writes what is due, and begins another file if it is time for that.
    pub(super) fn tick(&mut self) {
        self.recorder.tick();
        let large = self.rotation.size.is_some_and(|size| self.recorder.size() >= size);
        let passed = self.began.elapsed().as_nanos() as i64;
        let old = self.rotation.every.is_some_and(|every| passed >= every.nanoseconds());
        if (large || old) && self.tried.is_none_or(|tried| tried.elapsed() >= TRIED_AGAIN) {
            self.begin_next();
        }
    }

    fn begin_next(&mut self) {
        let mut number = self.number;
        // Parts of an earlier recording are not touched.
        let next = loop {
            number += 1;
            let next = part(&self.paths[0], number);
            if !next.exists() && !compressed(&next).exists() {
                break next;
            }
        };
        let done = self.recorder.path().to_owned();
        match self.recorder.go_on_in(&next) {
            Ok(()) => {
                (self.number, self.began, self.tried) = (number, Instant::now(), None);
                self.paths.push(next);
                if let Some(compressor) = &self.compressor {
                    compressor.compress(done);
                }
            }
            Err(error) => {
                if self.tried.replace(Instant::now()).is_none() {
                    let what = format!("another file cannot be begun, and recording goes on in this one: {error}");
                    self.remarks.push(Remark::Capture { path: done, what });
                }
            }
        }
    }

    /// Ends the last file, with everything on the disk, and waits until all are compressed that are to be.
    pub(super) fn finish(&mut self) -> Result<(), RecordError> {
        if std::mem::replace(&mut self.finished, true) {
            return Ok(());
        }
        self.recorder.finish()?;
        if let Some(compressor) = &mut self.compressor {
            compressor.compress(self.recorder.path().to_owned());
            self.remarks.extend(compressor.finish());
        }
        Ok(())
    }

    /// All files so far, under the names that they have by now.
    pub(super) fn paths(&self) -> Vec<PathBuf> {
        let name = |path: &PathBuf| {
            let compressed = compressed(path);
            if !path.exists() && compressed.exists() { compressed } else { path.clone() }
        };
        self.paths.iter().map(name).collect()
    }

    pub(super) fn remarks(&self) -> Vec<Remark> {
        let mut remarks = self.remarks.clone();
        let lost = self.recorder.standing().lost;
        if lost > 0 {
            remarks.push(Remark::NotRecorded { bytes: lost });
        }
        remarks
    }
}

/// The file of a later part: `tower.pcapng` goes on in `tower.2.pcapng`.
pub(crate) fn part(first: &Path, number: u32) -> PathBuf {
    let stem = first.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let ending = first.extension().map_or(String::new(), |ending| format!(".{}", ending.to_string_lossy()));
    first.with_file_name(format!("{stem}.{number}{ending}"))
}
