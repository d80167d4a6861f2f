//! All outputs of one conversion: one set of files, or one for each day.

use std::collections::BTreeMap;
use std::path::PathBuf;

use usus::quality::{Notes, Qualities};
use usus::{Decoder, LineId, LineInside, Notice, Plan, Record, Reject, Sink, Time};

use super::files::Files;
use super::options::{Existing, OutputOptions};
use super::{Destination, Output, OutputError, dated, dates_of, received_text};
use crate::pieces::Pieces;

/// Nanoseconds of a day.
const DAY: i64 = 86_400_000_000_000;
/// The files of so many days are open at the same time: at midnight, one line may still be in the day before.
const OPEN: usize = 2;

/// All outputs of one conversion: the records' and the rejects'.
pub struct Outputs {
    /// How the files of a day are opened; nothing if there is one set for all time.
    opening: Option<Opening>,
    /// Days since 1970, and their files, those that were written last behind the others.
    days: Vec<(i64, Files)>,
    /// The account of readings.
    qualities: Qualities,
    /// One of nothing.
    empty: Qualities,
    /// What lines are called.
    lines: BTreeMap<LineId, String>,
    /// What was noted about the record at hand.
    notes: Notes,
    /// Whether something could not be written.
    has_failed: bool,
}

/// What the files of a day are opened with.
#[derive(Clone)]
struct Opening {
    plan: Plan,
    destination: Destination,
    options: OutputOptions,
    /// Whether rows only wait here for other outputs.
    is_piece: bool,
    /// Name and stream.
    source: (String, String),
}

impl Opening {
    fn unopened(&self) -> Result<Files, OutputError> {
        Files::unopened(&self.plan, &self.destination, &self.options)
    }

    /// Opens the files of a day of which some have been ended already: the next ones, or the same if they can be gone on with.
    fn open(&self, day: i64, ended: usize, lines: &BTreeMap<LineId, String>) -> Result<Files, OutputError> {
        let mut files = if self.is_piece {
            self.unopened()?
        } else {
            let date = received_text(Time::from_nanoseconds(day.saturating_mul(DAY)), 0);
            let mut date = date.split('T').next().unwrap_or_default().to_owned();
            let mut options = self.options.clone();
            match (ended, &self.destination) {
                (0, _) => {}
                (_, Destination::Database(_)) => options.existing = Existing::Continue,
                (ended, _) => date = format!("{date}.{}", ended + 1),
            }
            let destination = self.destination.on(&date).ok_or(OutputError::NotDaily)?;
            options.rejects = options.rejects.map(|path| dated(&path, &date));
            Files::open(&self.plan, &destination, &options)?
        };
        files.begin_source(&self.source.0, &self.source.1)?;
        lines.iter().for_each(|(line, name)| files.name_line(*line, name));
        Ok(files)
    }
}

impl Outputs {
    /// Opens the outputs. Nothing that exists is touched unless the options say so.
    ///
    /// Where there are files for each day, they are opened when the first record of the day comes.
    ///
    /// # Errors
    ///
    /// What is in the way; a destination that cannot be divided into days.
    pub fn open(plan: &Plan, destination: &Destination, options: &OutputOptions) -> Result<Outputs, OutputError> {
        if !options.daily {
            return Ok(Outputs::new(plan, None, vec![(0, Files::open(plan, destination, options)?)]));
        }
        let opening = Opening {
            plan: plan.clone(),
            destination: destination.clone(),
            options: options.clone(),
            is_piece: false,
            source: (String::new(), String::new()),
        };
        opening.unopened()?;
        Ok(Outputs::new(plan, Some(opening), Vec::new()))
    }

    /// The files that are there of those that outputs would write; of each day, if they are divided so.
    ///
    /// # Errors
    ///
    /// What the format does not have; a directory that cannot be read.
    pub fn existing(
        plan: &Plan,
        destination: &Destination,
        options: &OutputOptions,
    ) -> Result<Vec<PathBuf>, OutputError> {
        let mut paths = Files::paths(plan, destination, options.rejects.as_deref())?;
        if options.daily {
            let (mut all, rejects) = (Vec::new(), options.rejects.as_deref());
            for date in destination.dates().into_iter().chain(rejects.map(dates_of).unwrap_or_default()) {
                let Some(destination) = destination.on(&date) else { continue };
                all.extend(Files::paths(plan, &destination, rejects.map(|path| dated(path, &date)).as_deref())?);
            }
            paths = all;
        }
        paths.retain(|path| path.is_file());
        paths.sort();
        paths.dedup();
        Ok(paths)
    }

    /// The account of the readings written since it was last taken.
    pub fn take_qualities(&mut self) -> Qualities {
        std::mem::replace(&mut self.qualities, self.empty.clone())
    }

    /// Files of an earlier run whose torn ends were taken away, and how many bytes those had.
    pub fn mended(&self) -> Vec<(PathBuf, u64)> {
        self.days.iter().flat_map(|(_, files)| files.mended().cloned()).collect()
    }

    /// Puts records into an output of one's own, and keeps the account of their readings.
    pub fn of(plan: &Plan, output: Box<dyn Output>) -> Outputs {
        Outputs::new(plan, None, vec![(0, Files::of(output))])
    }

    fn new(plan: &Plan, opening: Option<Opening>, days: Vec<(i64, Files)>) -> Outputs {
        let (qualities, empty) = (Qualities::new(plan), Qualities::new(plan));
        let (lines, has_failed) = (BTreeMap::new(), false);
        Outputs { opening, days, qualities, empty, notes: Notes::default(), lines, has_failed }
    }

    /// Says which source what follows comes from: its name for people, and the id of its stream, by which a database knows it again.
    ///
    /// # Errors
    ///
    /// What the output says.
    pub fn begin_source(&mut self, name: &str, stream: &str) -> Result<(), OutputError> {
        if let Some(opening) = &mut self.opening {
            opening.source = (name.to_owned(), stream.to_owned());
        }
        self.lines.clear();
        self.of_each(|files| files.begin_source(name, stream))
    }

    /// Says that a source has come to its end, with the decoder that has decoded it.
    ///
    /// # Errors
    ///
    /// What the output says.
    pub fn end_source(&mut self, decoder: &Decoder) -> Result<(), OutputError> {
        self.of_each(|files| files.end_source(decoder))
    }

    /// Writes everything out, and gives it its final name; after an error, what is whole of it. To be called once at the end.
    ///
    /// # Errors
    ///
    /// What the system says.
    pub fn finish(&mut self) -> Result<(), OutputError> {
        if self.has_failed {
            return self.of_each(Files::give_up);
        }
        let finished = self.of_each(Files::finish);
        if finished.is_err() {
            // The first error says what is wrong.
            let _ = self.of_each(Files::give_up);
        }
        finished
    }

    /// Something went wrong elsewhere, so that what came is not all: [`Outputs::finish`] will end what is whole without it.
    pub fn fail(&mut self) {
        self.has_failed = true;
    }

    /// What the outputs could not hold as it is, for people.
    pub fn remarks(&self) -> Vec<String> {
        self.days.iter().flat_map(|(_, files)| files.remarks()).collect()
    }

    /// Does something with the files of each day; returns the first error.
    fn of_each(&mut self, mut act: impl FnMut(&mut Files) -> Result<(), OutputError>) -> Result<(), OutputError> {
        let mut result = Ok(());
        for (_, files) in &mut self.days {
            let done = act(files);
            result = result.and(done);
        }
        self.has_failed |= result.is_err();
        result
    }

    /// The files written, with the number of rows in each; nothing for standard output.
    pub fn files(&self) -> Vec<(PathBuf, u64)> {
        let mut days: Vec<&(i64, Files)> = self.days.iter().collect();
        days.sort_by_key(|(day, _)| *day);
        days.into_iter().flat_map(|(_, files)| files.files()).collect()
    }

    fn empty_piece(&self, opening: Option<Opening>, days: Vec<(i64, Files)>) -> Outputs {
        let (qualities, empty) = (self.empty.clone(), self.empty.clone());
        let (notes, lines) = (Notes::default(), self.lines.clone());
        Outputs { opening, days, qualities, empty, notes, lines, has_failed: false }
    }

    /// The files for what was received then; what has no time goes to the day at hand.
    #[inline]
    fn at(&mut self, time: Option<Time>) -> Result<&mut Files, OutputError> {
        if self.opening.is_some() {
            self.turn_to(time)?;
        }
        match self.days.last_mut() {
            Some((_, files)) => Ok(files),
            None => Err(OutputError::NotDaily),
        }
    }

    fn turn_to(&mut self, time: Option<Time>) -> Result<(), OutputError> {
        let zone = self.opening.as_ref().map(|opening| &opening.options.times.zone);
        let local = time.map(|time| zone.map_or(time, |zone| zone.local(time)));
        let day = local.map(|time| time.nanoseconds().div_euclid(DAY));
        let day = day.or(self.days.last().map(|(day, _)| *day)).unwrap_or_default();
        self.turn_to_day(day)
    }

    fn turn_to_day(&mut self, day: i64) -> Result<(), OutputError> {
        if self.days.last().is_some_and(|(last, _)| *last == day) {
            return Ok(());
        }
        let Some(opening) = &self.opening else { return Ok(()) };
        let found = self.days.iter().position(|(known, files)| *known == day && !files.is_ended());
        let files = match found {
            Some(index) => self.days.remove(index).1,
            None => {
                let ended = self.days.iter().filter(|(known, _)| *known == day).count();
                opening.open(day, ended, &self.lines)?
            }
        };
        self.days.push((day, files));
        if opening.is_piece {
            return Ok(());
        }
        let open = self.days.iter().filter(|(_, files)| !files.is_ended()).count();
        match self.days.iter_mut().find(|(_, files)| !files.is_ended()) {
            Some((_, files)) if open > OPEN => files.release(),
            _ => Ok(()),
        }
    }
}

impl Sink for Outputs {
    type Error = OutputError;

    fn line(&mut self, line: LineId, name: &str) {
        self.lines.insert(line, name.to_owned());
        self.days.iter_mut().for_each(|(_, files)| files.name_line(line, name));
    }

    fn line_inside(&mut self, inside: &LineInside<'_>) {
        // As a path: the line, and then what lies inside of it.
        let outer = self.lines.get(&inside.outer).map_or("", String::as_str);
        let name = if outer.is_empty() { inside.to_string() } else { format!("{outer}/{inside}") };
        self.line(inside.line, &name);
    }

    #[inline]
    fn record(&mut self, record: &Record<'_>) -> Result<(), OutputError> {
        let time = if self.opening.is_some() { record.received() } else { None };
        let mut notes = std::mem::take(&mut self.notes);
        notes.truncate(0);
        let result = self.at(time).and_then(|files| files.record(record, &mut notes));
        self.qualities.noted(record, &notes);
        self.notes = notes;
        self.has_failed |= result.is_err();
        result
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), OutputError> {
        self.at(reject.times.map(|(first, _)| first))?.reject(reject, "reject")
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), OutputError> {
        self.at(clipped.times.map(|(first, _)| first))?.reject(clipped, "clipped")
    }

    fn notice(&mut self, _notice: &Notice<'_>) -> Result<(), OutputError> {
        Ok(())
    }

    fn flush(&mut self) -> Result<(), OutputError> {
        self.of_each(Files::flush)
    }
}

impl Pieces for Outputs {
    type Piece = Outputs;

    fn is_divisible(&self) -> bool {
        self.days.iter().all(|(_, files)| files.is_divisible())
            && self.opening.as_ref().is_none_or(|opening| opening.destination.is_text())
    }

    fn piece(&self) -> Outputs {
        match &self.opening {
            None => self.empty_piece(None, self.days.iter().map(|(day, files)| (*day, files.piece())).collect()),
            Some(opening) => self.empty_piece(Some(Opening { is_piece: true, ..opening.clone() }), Vec::new()),
        }
    }

    fn join(&mut self, piece: &mut Outputs) -> Result<(), OutputError> {
        self.qualities.join(piece.take_qualities());
        for (day, files) in &mut piece.days {
            self.turn_to_day(*day)?;
            match self.days.last_mut() {
                Some((_, joined)) => joined.join(files)?,
                None => return Err(OutputError::NotDaily),
            }
        }
        if piece.opening.is_some() {
            // Where the days are divided, a piece begins with none.
            piece.days.clear();
        }
        Ok(())
    }
}
