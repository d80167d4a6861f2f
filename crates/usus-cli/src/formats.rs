//! `usus formats`, and finding a format by file or name.

use std::io::Read;
use std::path::{Path, PathBuf};

use usus::checksum::Checksum;
use usus::{Format, Plan};
use usus_io::files_beside;

use crate::arguments::{Blank, Formats};
use crate::check::table;
use crate::voice::Voice;
use crate::{Ending, problems};

pub(crate) fn run(arguments: &Formats, voice: &Voice) -> Ending {
    let text = match &arguments.show {
        _ if arguments.checksums => checksums(),
        _ if arguments.blank.is_some() => arguments.blank.map_or("", blank).to_owned(),
        Some(name) => match shipped(name) {
            Some(text) => text.to_owned(),
            None => {
                voice.fail(&format!("no format `{name}` ships with usus; {}", known()));
                return Ending::Failed;
            }
        },
        None => usus::SHIPPED.iter().map(|(name, text)| list_row(name, text)).collect(),
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

/// A format file to begin with.
fn blank(of: Blank) -> &'static str {
    match of {
        Blank::Sentences => include_str!("../blanks/sentences.toml"),
        Blank::Columns => include_str!("../blanks/columns.toml"),
        Blank::Pairs => include_str!("../blanks/pairs.toml"),
        Blank::Printed => include_str!("../blanks/printed.toml"),
        Blank::Packet => include_str!("../blanks/packet.toml"),
    }
}

/// All checksums as a table.
fn checksums() -> String {
    let rows = Checksum::catalogue().into_iter().map(|entry| {
        let digits = usize::from(entry.width).div_ceil(4);
        let hex = |number: u128| format!("{number:0digits$X}");
        let yes = |flag: bool| if flag { "yes" } else { "no" }.to_owned();
        let cyclic = entry.cyclic.map(|of| {
            [hex(of.polynomial), hex(of.initial), yes(of.reflect_input), yes(of.reflect_output), hex(of.final_xor)]
        });
        let [polynomial, initial, reflected_in, reflected_out, last] = cyclic.unwrap_or_default();
        let (name, width) = (entry.name.to_owned(), entry.width.to_string());
        [name, width, hex(entry.check), polynomial, initial, reflected_in, reflected_out, last]
    });
    let head = ["name", "bits", "check", "polynomial", "initial", "reflected in", "out", "final xor"];
    table(head, rows) + "\ncheck: the checksum of the nine digits 123456789\n"
}

fn list_row(name: &str, text: &str) -> String {
    let Ok(plan) = Format::parse(text).and_then(|format| format.compile()) else { return format!("{name}\n") };
    let title = plan.schema().title.as_deref().unwrap_or_default();
    let kinds: Vec<&str> = plan.schema().kinds.iter().map(|kind| kind.name.as_str()).collect();
    format!("{name:<12} {title}\n{:<12} records: {}\n", "", kinds.join(", "))
}

pub(crate) fn shipped(name: &str) -> Option<&'static str> {
    usus::SHIPPED.iter().find(|(known, _)| *known == name).map(|(_, text)| *text)
}

fn known() -> String {
    let names: Vec<&str> = usus::SHIPPED.iter().map(|(name, _)| *name).collect();
    format!("these do: {}", names.join(", "))
}

/// A format and its plan.
pub(crate) struct Loaded {
    pub(crate) format: Format,
    pub(crate) plan: Plan,
    /// The file.
    pub(crate) text: String,
    /// Where that was read, and what it names.
    pub(crate) files: Vec<PathBuf>,
}

/// Loads a format by its file's path or the name under which it ships, and says what is wrong with it.
pub(crate) fn load(name: &str, voice: &Voice) -> Option<Loaded> {
    let path = Path::new(name);
    let read = if name == "-" { read_standard_input() } else { std::fs::read(path) };
    let text = match (name == "-" || path.exists(), shipped(name)) {
        (true, _) => match read {
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
            let nearest = usus::SHIPPED
                .iter()
                .map(|(known, _)| *known)
                .find(|known| strsim::damerau_levenshtein(known, name) <= 3);
            let hint = nearest.map_or_else(known, |nearest| format!("did you mean `{nearest}`?"));
            voice.fail(&format!("there is no format file {name}, and no format of that name ships with usus; {hint}"));
            return None;
        }
    };
    // What ships with usus, or comes over a pipe, has no folder.
    let mut beside = (name != "-" && path.exists()).then(|| files_beside(path));
    let mut files: Vec<PathBuf> = beside.iter().map(|_| path.to_owned()).collect();
    let load = |file: &str| match &mut beside {
        Some(load) => {
            files.push(path.with_file_name(file));
            load(file)
        }
        None => Err("this format does not lie in a folder".to_owned()),
    };
    let compiled = Format::parse_with(&text, load).and_then(|format| format.compile().map(|plan| (format, plan)));
    match compiled {
        Ok((format, plan)) => Some(Loaded { format, plan, text, files }),
        Err(found) => {
            problems::show(name, &text, &found, voice);
            None
        }
    }
}

/// The largest format file there can be, and one byte more: that it is too large is then said as of any other.
fn read_standard_input() -> std::io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    std::io::stdin().lock().take(usus::limits::FORMAT_BYTES as u64 + 1).read_to_end(&mut bytes)?;
    Ok(bytes)
}
