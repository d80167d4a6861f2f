//! Where records go, and by which format.

use std::path::{Path, PathBuf};

use usus::format::Serial;
use usus::{Plan, Wants};
use usus_io::{Destination, OutputError, Outputs, Source, TableOptions};

use crate::Ending;
use crate::arguments::TableArguments;
use crate::formats;
use crate::tally::Tally;
use crate::voice::Voice;

/// A format, and where its records go: known and checked, but nothing is written yet.
pub(crate) struct Target {
    pub(crate) plan: Plan,
    /// The line settings that the format names.
    pub(crate) serial: Option<Serial>,
    destination: Destination,
    tables: TableArguments,
}

impl Target {
    pub(crate) fn load(format: &str, out: &Path, tables: &TableArguments, voice: &Voice) -> Result<Target, Ending> {
        let loaded = formats::load(format, voice).ok_or(Ending::Failed)?;
        let wants = Wants { records: tables.records.clone(), fields: tables.fields.clone() };
        let wrong = |text: String| {
            voice.fail(&text);
            Ending::WrongUsage
        };
        let plan = loaded.plan.select(&wants).map_err(|unknown| wrong(unknown.to_string()))?;
        let destination = Destination::named(out).map_err(|error| wrong(error.to_string()))?;
        Ok(Target { plan, serial: loaded.format.serial, destination, tables: tables.clone() })
    }

    /// Whether what the source says is enough for the format.
    pub(crate) fn check(&self, name: &str, source: &dyn Source) -> Result<(), String> {
        if self.plan.needs_times() && !source.has_times() {
            return Err(format!(
                "{name}: the format ends texts by silence, and raw bytes have no times; record the line as a capture"
            ));
        }
        if self.tables.daily && !source.has_times() {
            return Err(format!("{name}: raw bytes have no times, and so belong to no day; do without --daily"));
        }
        if self.plan.roles().next().is_some() && !source.has_lines() {
            let roles = self.plan.roles().collect::<Vec<_>>().join(", ");
            return Err(format!("{name}: the format speaks of the lines {roles}, and this is one line without a name"));
        }
        Ok(())
    }

    /// Opens the outputs; `options` are what the sources need.
    pub(crate) fn open(&self, options: TableOptions, voice: &Voice) -> Result<Tally, Ending> {
        let options = TableOptions { origin: self.tables.origin, ..options };
        let open = if self.tables.daily { Outputs::daily } else { Outputs::open };
        let rejects = self.tables.rejects.as_deref();
        let outputs = open(&self.plan, &self.destination, options, rejects, self.tables.overwrite);
        outputs.map(Tally::new).map_err(|error| {
            voice.fail(&error.to_string());
            match error {
                OutputError::SeveralKinds { .. } | OutputError::Group { .. } | OutputError::NotDaily => {
                    Ending::WrongUsage
                }
                _ => Ending::Failed,
            }
        })
    }

    /// The directory beside which raw bytes are kept.
    pub(crate) fn directory(&self) -> PathBuf {
        let beside = match &self.destination {
            Destination::Directory(directory) => Some(directory.as_path()),
            Destination::JsonLines(file) | Destination::Table(file) => file.parent(),
            _ => None,
        };
        beside.filter(|path| !path.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned()
    }

    pub(crate) fn reject_limit(&self) -> Option<f64> {
        self.tables.reject_limit
    }
}
