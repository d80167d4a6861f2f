//! Where records go, and by which format.

use std::path::{Path, PathBuf};

use usus::format::Serial;
use usus::{Plan, Time, Wants, Which};
use usus_io::{
    Destination, Existing, OutputError, OutputOptions, Outputs, Protected, Source, TableOptions, TableStyle, TimeStyle,
};

use super::dictionary::Dictionary;
use super::one::{Allowed, Converted};
use super::unfinished::{self, Unfinished};
use crate::Ending;
use crate::arguments::{TableArguments, Values};
use crate::formats;
use crate::safe::Safe;
use crate::summary::plural;
use crate::tally::Tally;
use crate::voice::Voice;

/// A format, and where its records go: known and checked, but nothing is written yet.
pub(crate) struct Target {
    pub(crate) plan: Plan,
    /// The line settings that the format names.
    pub(crate) serial: Option<Serial>,
    destination: Destination,
    tables: TableArguments,
    append: bool,
    /// The format file and whatever else is read.
    protected: Protected,
    dictionary: Option<Dictionary>,
}

impl Target {
    pub(crate) fn load(
        format: &str,
        out: &Path,
        tables: &TableArguments,
        append: bool,
        voice: &Voice,
    ) -> Result<Target, Ending> {
        let loaded = formats::load(format, voice).ok_or(Ending::Failed)?;
        let wants = Wants { records: tables.records.clone(), fields: tables.fields.clone() };
        let wrong = |text: String| {
            voice.fail(&text);
            Ending::WrongUsage
        };
        let plan = loaded.plan.select(&wants).map_err(|unknown| wrong(unknown.to_string()))?;
        let plan = if tables.tags { plan.with_tags() } else { plan };
        let destination = Destination::named(out).map_err(|error| wrong(error.to_string()))?;
        let dictionary = tables.dictionary.as_deref().map(|path| Dictionary::new(path, &loaded.format, &plan));
        let dictionary = dictionary.transpose().map_err(wrong)?;
        let plan = match tables.values {
            None => plan,
            Some(Values::Each) => plan.by_value(Which::Each),
            Some(Values::Changed) => plan.by_value(Which::Changed),
        };
        let mut protected = Protected::default();
        loaded.files.iter().for_each(|path| protected.add(path));
        Ok(Target {
            plan,
            serial: loaded.format.serial,
            destination,
            tables: tables.clone(),
            append,
            protected,
            dictionary,
        })
    }

    /// Protects a file that is read, or written by something else.
    pub(crate) fn protect(&mut self, path: &Path) {
        self.protected.add(path);
    }

    /// What rows of tables look like.
    fn style(&self) -> TableStyle {
        let tables = &self.tables;
        let mut style = TableStyle::default();
        style.separator = tables.separator.unwrap_or(if tables.decimal_comma { b';' } else { b',' });
        style.decimal_comma = tables.decimal_comma;
        style.units = tables.units;
        style.guard_formulas = tables.guard_formulas;
        style
    }

    /// How times of arrival are shown.
    fn times(&self) -> TimeStyle {
        let mut times = TimeStyle::default();
        times.zone = self.tables.zone.clone().unwrap_or_default();
        (times.digits, times.sheet) = (self.tables.time_digits, self.tables.sheet_times);
        times
    }

    /// Whether what the source says is enough for the format.
    pub(crate) fn check(&self, name: &str, source: &dyn Source) -> Result<(), String> {
        if self.plan.needs_times() && !source.has_times() {
            return Err(format!(
                "{name}: the format ends frames by silence, and raw bytes have no times; record the line as a capture"
            ));
        }
        if self.plan.needs_breaks() && !source.has_times() {
            return Err(format!(
                "{name}: the format ends frames by breaks, and raw bytes have none; record the line as a capture"
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

    /// How the outputs are opened; `columns` are what the sources need, and what is live is written in place.
    fn options(&self, columns: TableOptions, live: bool) -> OutputOptions {
        let tables = &self.tables;
        OutputOptions {
            columns: TableOptions { origin: tables.origin, ..columns },
            style: self.style(),
            times: self.times(),
            position: tables.position.clone(),
            rejects: tables.rejects.clone(),
            existing: match (tables.overwrite, self.append) {
                (true, _) => Existing::Replace,
                (false, true) => Existing::Continue,
                (false, false) => Existing::Refuse,
            },
            in_place: live,
            daily: tables.daily,
            protected: self.protected.clone(),
        }
    }

    /// What a run has left that was killed while it added to the outputs: taken away, if this one goes on with them.
    fn unfinished(&self, voice: &Voice) -> Result<Option<Unfinished>, Ending> {
        let failed = |text: String| {
            voice.fail(&text);
            Ending::Failed
        };
        let Some(place) = unfinished::place(&self.destination) else { return Ok(None) };
        let Some(left) = Unfinished::look(&place).map_err(failed)? else { return Ok(None) };
        match (self.append, self.tables.overwrite) {
            (true, _) => {}
            (false, true) => {
                left.done();
                return Ok(None);
            }
            (false, false) => {
                return Err(failed(format!(
                    "the last run that wrote this output was killed (it left {}); --append makes good what is missing and goes on, --overwrite begins anew",
                    place.display()
                )));
            }
        }
        if self.destination.is_text() {
            let files = self.existing(TableOptions::default()).map_err(failed)?;
            let bytes = left.take_back(&files).map_err(failed)?;
            if bytes > 0 {
                let how = if left.capture.is_none() {
                    "they are to be converted again"
                } else {
                    "its capture is converted anew"
                };
                voice.say(&format!(
                    "the last run was killed: the {} that it had added were taken away, and {how}",
                    plural(bytes, "byte")
                ));
            }
        }
        Ok(Some(left))
    }

    /// The files of the outputs that are there.
    fn existing(&self, columns: TableOptions) -> Result<Vec<PathBuf>, String> {
        let options = self.options(columns, true);
        Outputs::existing(&self.plan, &self.destination, &options).map_err(|error| error.to_string())
    }

    /// Notes that rows are going to be added, and where the raw bytes are kept, if they are. Nothing where that is of no use: what is not live is
    /// written whole, or can be given again; a database adds whole transactions.
    pub(crate) fn begin(&self, capture: Option<&Path>, from: Option<Time>) -> Result<Option<Unfinished>, String> {
        let is_text = self.destination.is_text();
        let is_kept = if capture.is_some() { true } else { is_text && self.append };
        match unfinished::place(&self.destination).filter(|_| is_kept) {
            Some(place) => {
                let mut files = if is_text { self.existing(TableOptions::default())? } else { Vec::new() };
                if let Destination::Directory(directory) = &self.destination {
                    // What another choice of records or days has made: the next run may choose otherwise, and would take it for new.
                    files.extend(
                        unfinished::tables_in(directory)
                            .into_iter()
                            .filter(|file| !files.contains(file))
                            .collect::<Vec<_>>(),
                    );
                }
                Unfinished::begin(&place, capture, from, &files).map(Some)
            }
            None => Ok(None),
        }
    }

    /// Opens the outputs; `columns` are what the sources need. With what a run has left that was killed.
    pub(crate) fn open(
        &self,
        columns: TableOptions,
        live: bool,
        voice: &Voice,
    ) -> Result<(Tally, Option<Unfinished>), Ending> {
        let described = self.dictionary.as_ref().map(Dictionary::path);
        if let Some(path) = described.filter(|path| path.exists() && !self.tables.overwrite && !self.append) {
            voice.fail(&OutputError::Exists { path: path.to_owned() }.to_string());
            return Err(Ending::Failed);
        }
        let (unfinished, options) = (self.unfinished(voice)?, self.options(columns, live));
        let outputs = Outputs::open(&self.plan, &self.destination, &options).map_err(|error| {
            voice.fail(&error.to_string());
            match error {
                OutputError::SeveralKinds { .. }
                | OutputError::Group { .. }
                | OutputError::NoPosition { .. }
                | OutputError::NotDaily => Ending::WrongUsage,
                _ => Ending::Failed,
            }
        })?;
        report_mended(&outputs, voice);
        Ok((Tally::new(outputs), unfinished))
    }

    /// The directory beside which raw bytes are kept.
    pub(crate) fn directory(&self) -> PathBuf {
        self.destination.directory().filter(|path| !path.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned()
    }

    /// Writes the data dictionary, if one was asked for.
    pub(crate) fn describe(&mut self, converted: &Converted, voice: &Voice) -> Result<(), Ending> {
        let Some(dictionary) = self.dictionary.take() else { return Ok(()) };
        match dictionary.write(converted) {
            Ok(path) => {
                let data = serde_json::json!({"wrote": path.display().to_string()});
                voice.tell("info", &Safe(&format!("wrote {}", path.display())).to_string(), data);
                Ok(())
            }
            Err(text) => {
                voice.fail(&text);
                Err(Ending::Failed)
            }
        }
    }

    /// What the account may be at worst.
    pub(crate) fn allowed(&self) -> Allowed {
        Allowed { rejects: self.tables.reject_limit, quality: self.tables.quality_limit }
    }
}

/// Says which files of an earlier run had torn ends.
fn report_mended(outputs: &Outputs, voice: &Voice) {
    for (path, bytes) in outputs.mended() {
        let path = path.display();
        voice.warn(&format!(
            "the last row of {path} was torn (the run that wrote it was killed): {bytes} bytes were taken away"
        ));
    }
}
