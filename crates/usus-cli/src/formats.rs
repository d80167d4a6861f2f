//! `usus formats`, and finding a format by file or name.

use std::path::Path;

use usus::{Format, Plan};

use crate::arguments::Formats;
use crate::voice::Voice;
use crate::{Ending, problems};

/// The formats that ship with usus: name and text.
const SHIPPED: [(&str, &str); 1] = [("nmea-0183", include_str!("../../../formats/nmea-0183.toml"))];

/// Those of the demo site.
pub(crate) const DEMO: [(&str, &str); 2] = [
    ("rope-tension", include_str!("../../../demo/formats/rope-tension.toml")),
    ("valley-station", include_str!("../../../demo/formats/valley-station.toml")),
];

pub(crate) fn run(arguments: &Formats, voice: &Voice) -> Ending {
    let text = match &arguments.show {
        Some(name) => match shipped(name) {
            Some(text) => text.to_owned(),
            None => {
                voice.fail(&format!("no format `{name}` ships with usus; {}", known()));
                return Ending::Failed;
            }
        },
        None => SHIPPED.iter().map(|(name, text)| list_row(name, text)).collect(),
    };
    match voice.print(&text) {
        Ok(()) => Ending::Done,
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ending::Done,
        Err(error) => {
            voice.fail(&format!("cannot write to standard output: {error}"));
            Ending::Failed
        }
    }
}

fn list_row(name: &str, text: &str) -> String {
    let Ok(format) = Format::parse(text) else { return format!("{name}\n") };
    let title = format.title.clone().unwrap_or_default();
    let kinds: Vec<&str> = format.records.iter().map(|record| record.kind.value.as_str()).collect();
    format!("{name:<12} {title}\n{:<12} records: {}\n", "", kinds.join(", "))
}

pub(crate) fn shipped(name: &str) -> Option<&'static str> {
    SHIPPED.iter().find(|(known, _)| *known == name).map(|(_, text)| *text)
}

fn known() -> String {
    let names: Vec<&str> = SHIPPED.iter().map(|(name, _)| *name).collect();
    format!("these do: {}", names.join(", "))
}

/// A format and its plan.
pub(crate) struct Loaded {
    pub(crate) format: Format,
    pub(crate) plan: Plan,
}

/// Loads a format by its file's path or the name under which it ships, and says what is wrong with it.
pub(crate) fn load(name: &str, voice: &Voice) -> Option<Loaded> {
    let path = Path::new(name);
    let text = match (path.exists(), shipped(name)) {
        (true, _) => match std::fs::read(path) {
            Ok(bytes) => match String::from_utf8(bytes) {
                Ok(text) => text,
                Err(error) => {
                    let at = error.utf8_error().valid_up_to();
                    voice.fail(&format!("the format file {name} is not UTF-8 at byte {at}"));
                    return None;
                }
            },
            Err(error) => {
                voice.fail(&format!("cannot read the format file {name}: {error}"));
                return None;
            }
        },
        (false, Some(text)) => text.to_owned(),
        (false, None) => {
            let nearest =
                SHIPPED.iter().map(|(known, _)| *known).find(|known| strsim::damerau_levenshtein(known, name) <= 3);
            let hint = nearest.map_or_else(known, |nearest| format!("did you mean `{nearest}`?"));
            voice.fail(&format!("there is no format file {name}, and no format of that name ships with usus; {hint}"));
            return None;
        }
    };
    let compiled = Format::parse(&text).and_then(|format| format.compile().map(|plan| Loaded { format, plan }));
    match compiled {
        Ok(loaded) => Some(loaded),
        Err(found) => {
            problems::show(name, &text, &found, voice);
            None
        }
    }
}
