//! Positions: GeoJSON, GPX and KML.
//!
//! A record has a position if its kind has a latitude and a longitude. In GeoJSON (RFC 7946) it is a point with all that the record says; in GPX 1.1
//! and KML 2.2 it is a point of the track of its kind and line, which is broken where a record has no position. Text of tracks waits in a file
//! without a name, so that memory does not grow. A file gets its name when it is whole.

mod chunks;
mod forms;
mod position;

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use usus::quality::Notes;
use usus::{LineId, Plan, Record, Schema};

use super::json::Members;
use super::options::{OutputOptions, TableOptions};
use super::part::{self, Part};
use super::times::TimeStyle;
use super::{Existing, Origin, Output, OutputError, TextBuffer};
use crate::output::writer::Buffer;
use chunks::Chunks;
pub use forms::TrackForm;
pub(super) use position::Places;
use position::{Position, places};

/// Positions in GeoJSON, GPX or KML.
pub struct Tracks {
    form: TrackForm,
    path: PathBuf,
    existing: Existing,
    schema: Schema,
    places: Vec<Option<Places>>,
    origin: Origin,
    columns: TableOptions,
    times: TimeStyle,
    /// What each record says beside its position.
    members: Members,
    text: Buffer,
    waiting: Waiting,
    points: u64,
    /// Records of kinds with a position that had none, and those whose position cannot be.
    without: u64,
    impossible: u64,
}

/// What is written, or waits to be.
enum Waiting {
    /// Points are written as they come.
    Points {
        part: Part,
        file: BufWriter<File>,
    },
    Tracks(Vec<Track>, Chunks),
}

/// The track of a kind on a line of a source.
struct Track {
    kind: usize,
    line: LineId,
    source: String,
    name: String,
    /// Its number among the chunks.
    number: usize,
    /// The points of its segment so far; of one, it is held back until there is another, or none follows.
    segment: u64,
    first: String,
    times: Option<(String, String)>,
}

impl Tracks {
    /// A file that gets its name when it is whole.
    ///
    /// # Errors
    ///
    /// A format without a position; a file that is there already; what the system says.
    pub fn create(plan: &Plan, form: TrackForm, path: &Path, options: &OutputOptions) -> Result<Tracks, OutputError> {
        let schema = plan.schema();
        let places = places(schema, &options.position)?;
        let waiting = match form {
            TrackForm::GeoJson => {
                let (part, file) = Part::create(path, options.existing)?;
                let mut file = BufWriter::new(file);
                file.write_all(forms::GEO_BEGIN.as_bytes()).map_err(OutputError::write(path))?;
                Waiting::Points { part, file }
            }
            TrackForm::Gpx | TrackForm::Kml => {
                part::check(path, options.existing)?;
                Waiting::Tracks(Vec::new(), Chunks::beside(path).map_err(OutputError::write(path))?)
            }
        };
        Ok(Tracks {
            form,
            path: path.to_owned(),
            existing: options.existing,
            schema: schema.clone(),
            places,
            origin: Origin::default(),
            columns: options.columns.for_plan(plan),
            times: TimeStyle::default(),
            members: Members::new(schema),
            text: Buffer::default(),
            waiting,
            points: 0,
            without: 0,
            impossible: 0,
        })
    }

    /// A record with its position: a feature, or a point of a track.
    fn point(&mut self, record: &Record<'_>, at: &Position, notes: &mut Notes) -> Result<(), OutputError> {
        let is_first = self.points == 0;
        self.points += 1;
        self.text.clear();
        match &mut self.waiting {
            Waiting::Points { file, .. } => {
                let Tracks { members, columns, times, origin, .. } = self;
                self.text.put(|room: &mut TextBuffer<'_>| {
                    room.text(if is_first { b"\n" } else { b",\n" });
                    room.text(b"{\"type\":\"Feature\",\"geometry\":");
                    room.text(at.geo_json().as_bytes());
                    room.text(b",\"properties\":");
                    members.put(record, (*columns, times, origin), notes, room);
                    room.byte(b'}');
                });
                file.write_all(self.text.text()).map_err(OutputError::write(&self.path))
            }
            Waiting::Tracks(tracks, chunks) => {
                notes.extend_record(record);
                let index = Track::of(tracks, record, &self.schema, &self.origin, chunks);
                let track = &mut tracks[index];
                let time = at.time.clone();
                let mut text = String::new();
                self.form.put_point(at, &mut text);
                track.segment += 1;
                if track.segment == 1 {
                    track.first = std::mem::take(&mut text);
                } else if track.segment == 2 {
                    text = [self.form.around_segment(2).0, &track.first, &text].concat();
                }
                if let Some(time) = time {
                    let first = track.times.take().map_or_else(|| time.clone(), |(first, _)| first);
                    track.times = Some((first, time));
                }
                chunks.put(track.number, text.as_bytes()).map_err(OutputError::write(&self.path))
            }
        }
    }
}

impl Track {
    /// The track of a record; a new one if it is the first of it.
    fn of(
        tracks: &mut Vec<Track>,
        record: &Record<'_>,
        schema: &Schema,
        origin: &Origin,
        chunks: &mut Chunks,
    ) -> usize {
        let (kind, line) = (record.kind_index(), record.line());
        let is_it = |track: &Track| track.kind == kind && track.line == line && track.source == origin.source;
        tracks.iter().rposition(is_it).unwrap_or_else(|| {
            let words = [schema.kinds[kind].name.as_str(), origin.line(line.index()), &origin.source];
            let name = words.into_iter().filter(|word| !word.is_empty()).collect::<Vec<_>>().join(", ");
            let source = origin.source.clone();
            let number = chunks.add();
            tracks.push(Track { kind, line, source, name, number, segment: 0, first: String::new(), times: None });
            tracks.len() - 1
        })
    }

    /// Ends the segment at hand, if there is one.
    fn end_segment(&mut self, form: TrackForm, chunks: &mut Chunks) -> io::Result<()> {
        let (begin, end) = form.around_segment(self.segment);
        match std::mem::take(&mut self.segment) {
            0 => Ok(()),
            1 => chunks.put(self.number, [begin, &self.first, end].concat().as_bytes()),
            _ => chunks.put(self.number, end.as_bytes()),
        }
    }
}

impl Output for Tracks {
    fn begin_source(&mut self, name: &str, _stream: &str) -> Result<(), OutputError> {
        self.origin.begin_source(name);
        Ok(())
    }

    fn line(&mut self, line: LineId, name: &str) {
        self.origin.name_line(line.index(), name);
    }

    fn record(&mut self, record: &Record<'_>, notes: &mut Notes) -> Result<(), OutputError> {
        let found = self.places[record.kind_index()].as_ref().map(|places| places.of(record));
        match found {
            None => {
                notes.extend_record(record);
                Ok(())
            }
            Some(Ok(Some(position))) => self.point(record, &position, notes),
            Some(not_there) => {
                notes.extend_record(record);
                match not_there {
                    Err(()) => self.impossible += 1,
                    _ => self.without += 1,
                }
                let Waiting::Tracks(tracks, chunks) = &mut self.waiting else { return Ok(()) };
                let (kind, line, source) = (record.kind_index(), record.line(), &self.origin.source);
                let is_it = |track: &&mut Track| track.kind == kind && track.line == line && track.source == *source;
                let ended = tracks.iter_mut().filter(is_it).try_for_each(|track| track.end_segment(self.form, chunks));
                ended.map_err(OutputError::write(&self.path))
            }
        }
    }

    fn finish(&mut self) -> Result<(), OutputError> {
        let failed = |error| OutputError::write(&self.path)(error);
        match &mut self.waiting {
            Waiting::Points { part, file } => {
                file.write_all(forms::GEO_END.as_bytes()).and_then(|()| file.flush()).map_err(failed)?;
                part.finish()
            }
            Waiting::Tracks(tracks, chunks) => {
                let (mut part, file) = Part::create(&self.path, self.existing)?;
                let mut file = BufWriter::new(file);
                let mut write = || {
                    file.write_all(self.form.begin().as_bytes())?;
                    for track in tracks.iter_mut() {
                        track.end_segment(self.form, chunks)?;
                        let times = track.times.as_ref().map(|(first, last)| (first.as_str(), last.as_str()));
                        file.write_all(self.form.begin_track(&track.name, times).as_bytes())?;
                        chunks.copy(track.number, &mut file)?;
                        file.write_all(self.form.end_track().as_bytes())?;
                    }
                    file.write_all(self.form.end().as_bytes())?;
                    file.flush()
                };
                let written = write().map_err(failed);
                if written.is_err() {
                    part.give_up();
                }
                written?;
                part.finish()
            }
        }
    }

    fn give_up(&mut self) {
        if let Waiting::Points { part, .. } = &mut self.waiting {
            part.give_up();
        }
    }

    fn files(&self) -> Vec<(PathBuf, u64)> {
        vec![(self.path.clone(), self.points)]
    }

    fn remarks(&self) -> Vec<String> {
        let mut remarks = Vec::new();
        let name = self.path.display();
        if self.without > 0 {
            remarks.push(format!("{name}: {} records had no position, and are not in it", self.without));
        }
        if self.impossible > 0 {
            remarks.push(format!(
                "{name}: {} records had a position beyond 90 degrees of latitude or 180 of longitude, and are not in it",
                self.impossible
            ));
        }
        remarks
    }
}
