//! What the files look like.

use std::fmt::Write;

use super::position::Position;

/// A form of a file of positions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum TrackForm {
    /// Points with all that the records say: RFC 7946.
    GeoJson,
    /// Tracks with times: GPX 1.1.
    Gpx,
    /// Tracks: KML 2.2 (OGC 07-147r2).
    Kml,
}

pub(super) const GEO_BEGIN: &str = "{\"type\":\"FeatureCollection\",\"features\":[";
pub(super) const GEO_END: &str = "\n]}\n";

impl TrackForm {
    pub(super) fn begin(self) -> &'static str {
        match self {
            TrackForm::GeoJson => GEO_BEGIN,
            TrackForm::Gpx => {
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<gpx version=\"1.1\" creator=\"usus\" xmlns=\"http://www.topografix.com/GPX/1/1\">\n"
            }
            TrackForm::Kml => {
                "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<kml xmlns=\"http://www.opengis.net/kml/2.2\">\n<Document>\n"
            }
        }
    }

    pub(super) fn end(self) -> &'static str {
        match self {
            TrackForm::GeoJson => GEO_END,
            TrackForm::Gpx => "</gpx>\n",
            TrackForm::Kml => "</Document>\n</kml>\n",
        }
    }

    /// `times` are those of the first and the last point.
    pub(super) fn begin_track(self, name: &str, times: Option<(&str, &str)>) -> String {
        let name = escaped(name);
        match (self, times) {
            (TrackForm::Kml, Some((first, last))) => format!(
                "<Placemark>\n<name>{name}</name>\n<TimeSpan><begin>{first}</begin><end>{last}</end></TimeSpan>\n<MultiGeometry>\n"
            ),
            (TrackForm::Kml, None) => format!("<Placemark>\n<name>{name}</name>\n<MultiGeometry>\n"),
            _ => format!("<trk>\n<name>{name}</name>\n"),
        }
    }

    pub(super) fn end_track(self) -> &'static str {
        match self {
            TrackForm::Kml => "</MultiGeometry>\n</Placemark>\n",
            _ => "</trk>\n",
        }
    }

    /// What stands around the points of a segment of so many: a line needs two of them (KML), a segment of a track does not.
    pub(super) fn around_segment(self, points: u64) -> (&'static str, &'static str) {
        match (self, points) {
            (TrackForm::Kml, 1) => ("<Point><coordinates>\n", "</coordinates></Point>\n"),
            (TrackForm::Kml, _) => ("<LineString><coordinates>\n", "</coordinates></LineString>\n"),
            _ => ("<trkseg>\n", "</trkseg>\n"),
        }
    }

    pub(super) fn put_point(self, at: &Position, text: &mut String) {
        // Writing to a text does not fail.
        let _ = match self {
            TrackForm::Kml => {
                let height = at.height.as_ref().map(|height| format!(",{height}")).unwrap_or_default();
                writeln!(text, "{},{}{height}", at.longitude, at.latitude)
            }
            _ => {
                let height = at.height.as_ref().map(|height| format!("<ele>{height}</ele>")).unwrap_or_default();
                let time = at.time.as_ref().map(|time| format!("<time>{time}</time>")).unwrap_or_default();
                writeln!(text, "<trkpt lat=\"{}\" lon=\"{}\">{height}{time}</trkpt>", at.latitude, at.longitude)
            }
        };
    }
}

/// Text as XML 1.0 takes it, which has no control characters.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for character in text.chars() {
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '\u{0}'..='\u{1F}' | '\u{FFFE}' | '\u{FFFF}' => out.push('\u{FFFD}'),
            other => out.push(other),
        }
    }
    out
}
