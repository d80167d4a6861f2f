//! What can be wrong with a format file: every problem with its place and its facts. Rendering them for people is the caller's
//! business; the texts here are one line each.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;
use core::ops::Range;

pub use crate::expression::ExpressionProblemKind;
use crate::format::Source;
use crate::limits;

/// One problem of a format file, or something in it that can hardly be meant.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Problem {
    /// Where it is, as bytes of the file.
    pub span: Range<usize>,
    /// The line on which it begins, from 1.
    pub line: usize,
    /// The character of that line at which it begins, from 1.
    pub column: usize,
    /// What it is.
    pub kind: ProblemKind,
}

/// What can be wrong.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ProblemKind {
    /// The file is not TOML here.
    #[error("not TOML: {0}")]
    Syntax(String),
    /// The file is too large.
    #[error("the file has {found} bytes, at most {limit} are allowed")]
    FileSize {
        /// Its size in bytes.
        found: usize,
        /// The largest size allowed.
        limit: usize,
    },
    /// A key that means nothing here.
    #[error("unknown key `{key}` in {table}")]
    UnknownKey {
        /// The key.
        key: String,
        /// What it stands in.
        table: &'static str,
        /// The known key most like it.
        nearest: Option<String>,
        /// All known keys.
        known: Vec<&'static str>,
    },
    /// A key that has to be there is not.
    #[error("{table} needs the key `{key}`")]
    MissingKey {
        /// The key.
        key: &'static str,
        /// What it is missing from.
        table: &'static str,
    },
    /// A value of a wrong sort.
    #[error("`{key}` needs {expected}, this is {found}")]
    WrongValue {
        /// The key.
        key: String,
        /// What it needs.
        expected: &'static str,
        /// What is there.
        found: String,
    },
    /// A word that is none of those allowed.
    #[error("`{found}` is no {what}")]
    UnknownWord {
        /// What the word should be.
        what: &'static str,
        /// The word.
        found: String,
        /// The known word most like it.
        nearest: Option<String>,
        /// The words allowed, or those that may be meant.
        allowed: Vec<String>,
        /// What else is to be said.
        note: Option<&'static str>,
    },
    /// A name that refers to nothing.
    #[error("there is no {what} `{name}`")]
    UnknownName {
        /// What is referred to.
        what: &'static str,
        /// The name.
        name: String,
        /// The known name most like it.
        nearest: Option<String>,
    },
    /// A field in which records have to agree, and that one of them does not have.
    #[error("`{record}` has no field `{name}`, in which all have to agree")]
    NoSuchKey {
        /// The field.
        name: String,
        /// What does not have it.
        record: String,
        /// The field of it most like it.
        nearest: Option<String>,
    },
    /// A field of one name in two parts of a record.
    #[error("`{name}` stands in two parts of this record: call one of them otherwise")]
    Shared {
        /// The field.
        name: String,
    },
    /// Fields of one name that are not of one type and unit.
    #[error("`{name}` is not of the same type and unit in all that this is made of")]
    NotAlike {
        /// The field.
        name: String,
    },
    /// A name of a wrong form.
    #[error("`{name}` cannot be a name")]
    BadName {
        /// The name.
        name: String,
    },
    /// A name or key given twice.
    #[error("{what} `{name}` is there twice")]
    Twice {
        /// What it is.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// More of something than allowed.
    #[error("{found} {what}, at most {limit} are allowed")]
    TooMany {
        /// What there is too much of.
        what: &'static str,
        /// How much there is.
        found: usize,
        /// How much is allowed.
        limit: usize,
    },
    /// A key that does not go with another or with the type.
    #[error("`{key}` does not go with {with}")]
    Conflict {
        /// The key.
        key: &'static str,
        /// What it does not go with.
        with: String,
    },
    /// A `printed` or `pattern` that cannot become an automaton.
    #[error("this is no pattern: {why}")]
    Pattern {
        /// What is wrong with it.
        why: String,
    },
    /// Something in an expression.
    #[error("{0}")]
    Expression(ExpressionProblemKind),
    /// Bytes of the frame that nothing names.
    #[error("nothing names {} of the frame", PlaceRange("byte", *first, *last))]
    Unnamed {
        /// The first such byte, from 0.
        first: usize,
        /// The last one.
        last: usize,
    },
    /// A field that lies outside of its frame.
    #[error("this needs {}, the frame has {frame} bytes", PlaceRange("byte", *first, *last))]
    Overrun {
        /// The first byte of the field, from 0.
        first: usize,
        /// Its last byte.
        last: usize,
        /// Bytes of the frame.
        frame: usize,
    },
    /// A field that lies on the checksum.
    #[error("this lies on the checksum")]
    OnChecksum,
    /// A checksum that covers itself.
    #[error("the checksum covers itself")]
    CoversItself,
    /// A place that cannot be told because something of varying length stands before it.
    #[error("the place of this is not fixed: {0}")]
    Unplaced(&'static str),
    /// A unit that does not convert into another.
    #[error("`{from}` does not convert to `{to}`")]
    Unit {
        /// The unit as sent.
        from: String,
        /// The unit wanted.
        to: String,
    },
    /// A group whose items have no bytes.
    #[error("the items of this group have no bytes")]
    EmptyItem,
    /// A file beside the format that cannot be loaded.
    #[error("`{file}` cannot be loaded: {why}")]
    NotLoaded {
        /// Its name.
        file: String,
        /// Why not.
        why: String,
    },
    /// Something in a file beside the format.
    #[error("{file}, line {line}: {kind}")]
    InFile {
        /// The file.
        file: String,
        /// The line of it, from 1.
        line: usize,
        /// What is wrong there.
        kind: Box<ProblemKind>,
    },
    /// A column of such a file whose heading is no key.
    #[error("the heading `{key}` is none of the keys")]
    UnknownHeading {
        /// What it is, or is said to mean.
        key: String,
        /// The key most like it.
        nearest: Option<String>,
    },
    /// A value that makes no sense, with why.
    #[error("{0}")]
    Senseless(&'static str),
    /// A record that can never be, because an earlier one takes all its frames.
    #[error("no frame is left for {}", Left(record, earlier))]
    Unreachable {
        /// The record that is never chosen.
        record: String,
        /// The one that takes its frames.
        earlier: String,
    },
    /// A number that is larger or smaller than what is allowed here.
    #[error("`{key}` is {found}; it can be from {least} to {most}")]
    OutOfBounds {
        /// The key.
        key: &'static str,
        /// The number.
        found: i64,
        /// The smallest allowed.
        least: i64,
        /// The largest allowed.
        most: i64,
    },
    /// Two things that are read from the same bytes, or the same columns.
    #[error("this shares {} with {other}", PlaceRange(unit, *first, *last))]
    Overlap {
        /// What the places are: `byte` or `column`.
        unit: &'static str,
        /// The first one that both have.
        first: usize,
        /// The last one.
        last: usize,
        /// What stands there already.
        other: String,
    },
    /// A raw value that the type cannot hold.
    #[error("`{key}` says {found}, and {kind} holds {low} to {high}")]
    NeverSent {
        /// The key.
        key: &'static str,
        /// The value.
        found: String,
        /// The type, with its bits.
        kind: String,
        /// The smallest that it holds.
        low: String,
        /// The largest.
        high: String,
    },
    /// The end of a range beyond what type, scale and addend can reach.
    #[error("the range ends at {found}, and type and scale reach from {low} to {high}")]
    NeverReached {
        /// The end of the range.
        found: String,
        /// The smallest value that there can be.
        low: String,
        /// The largest.
        high: String,
    },
    /// A field of a variant that cannot be brought into the unit of the record.
    #[error("{}", VariantUnitText(unit.as_deref()))]
    VariantUnit {
        /// The unit that the field has in an earlier variant.
        unit: Option<String>,
    },
    /// A field that is of one type in one variant and of another in the next.
    #[error("`{name}` is of type {first} in one variant of this record, and of type {found} in another")]
    VariantType {
        /// The field.
        name: String,
        /// Its type where it comes first.
        first: &'static str,
        /// Its other type.
        found: &'static str,
    },
    /// A condition that holds for nothing that earlier ones leave.
    #[error("no frame is left for `{record}`: whatever its `when` holds for, an earlier record takes")]
    Overtaken {
        /// The record that is never chosen.
        record: String,
    },
    /// A condition that holds for nothing.
    #[error("this `when` never holds")]
    NeverHolds,
    /// Packets without a checksum.
    #[error("these packets have no checksum: bytes that only look like one are taken for a packet, damaged ones, too")]
    NoChecksum,
    /// A checksum by parameters that has a name.
    #[error("these are the parameters of `{name}`")]
    ChecksumHasName {
        /// The name.
        name: String,
    },
    /// No example.
    #[error("there is no example, so nothing shows that this is what the device means")]
    NoExample,
    /// No record.
    #[error("there is no record, so nothing comes of what the device sends")]
    NoRecord,
}

struct Left<'a>(&'a str, &'a str);

impl fmt::Display for Left<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Left(record, earlier) if record == earlier => {
                write!(f, "this variant of `{record}`: the record itself, or a variant before it, takes all of them")
            }
            Left(record, earlier) => write!(f, "`{record}`: `{earlier}` takes all of them"),
        }
    }
}

struct VariantUnitText<'a>(Option<&'a str>);

impl fmt::Display for VariantUnitText<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            None => f.write_str("this has no unit in another variant of the record, and one here"),
            Some(unit) => {
                write!(f, "this has the unit {unit} in another variant of the record, and is not converted to it")
            }
        }
    }
}

impl Problem {
    /// What would be right, where that can be told.
    pub fn help(&self) -> Option<String> {
        self.kind.help()
    }
}

impl ProblemKind {
    /// What could be done about it, if that can be said.
    fn help(&self) -> Option<String> {
        let list = |words: &mut dyn Iterator<Item = &str>| {
            words.map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", ")
        };
        match self {
            ProblemKind::InFile { kind, .. } => kind.help(),
            ProblemKind::UnknownHeading { nearest, .. } => {
                let map =
                    "`keys = { \"heading\" = \"key\" }` says which key a heading means; \"\" leaves its column out";
                Some(match nearest {
                    Some(nearest) => format!("did you mean `{nearest}`? {map}"),
                    None => map.to_string(),
                })
            }
            ProblemKind::UnknownWord { nearest, allowed, note, .. } => {
                let words = match (nearest, &allowed[..]) {
                    (Some(nearest), _) => Some(format!("did you mean `{nearest}`?")),
                    (None, []) => None,
                    (None, [only]) => Some(format!("did you mean `{only}`?")),
                    (None, allowed) => Some(format!("one of {}", list(&mut allowed.iter().map(String::as_str)))),
                };
                match (words, note) {
                    (Some(words), Some(note)) => Some(format!("{words}; {note}")),
                    (words, note) => words.or(note.map(ToString::to_string)),
                }
            }
            ProblemKind::UnknownKey { nearest: Some(nearest), .. }
            | ProblemKind::UnknownName { nearest: Some(nearest), .. }
            | ProblemKind::Expression(ExpressionProblemKind::UnknownName { nearest: Some(nearest), .. }) => {
                Some(format!("did you mean `{nearest}`?"))
            }
            ProblemKind::UnknownKey { known, .. } => {
                Some(format!("the keys here are {}", list(&mut known.iter().copied())))
            }
            ProblemKind::BadName { .. } => Some(format!(
                "a name begins with a letter a-z and goes on with a-z, 0-9 and _, at most {} long; and, or, not and starts are words \
                 of conditions",
                limits::NAME
            )),
            ProblemKind::Unnamed { .. } => Some(
                "name them as fields, or declare what is known to carry nothing with `reserved = true`".to_string(),
            ),
            ProblemKind::CoversItself => Some("set `from` and `to` so that they leave its own bytes out".to_string()),
            ProblemKind::Unreachable { record, earlier } => Some(match record == earlier {
                true => {
                    "give the earlier one a `when`; a record without any layout of its own still is one".to_string()
                }
                false => "give the earlier record a `when`, or put it last".to_string(),
            }),
            ProblemKind::Overtaken { .. } => {
                Some("of a frame's records, the first in the file that holds is it".to_string())
            }
            ProblemKind::Overlap { unit: "byte", .. } => {
                Some("set `byte` to where it begins; parts of one integer are read with `bits` or `flags`".to_string())
            }
            ProblemKind::Overlap { .. } => Some("set `column` to the one that it stands in".to_string()),
            ProblemKind::VariantUnit { unit: Some(_) } => Some(
                "give it that unit, with `unit_sent` for the one that is sent, and a `range` of values in that unit"
                    .to_string(),
            ),
            ProblemKind::NeverReached { .. } => Some("is it the right type, sign and scale?".to_string()),
            ProblemKind::NeverSent { .. } => Some(
                "raw values are meant, before scale and addend; one written as 0x… is a pattern of bits".to_string(),
            ),
            ProblemKind::ChecksumHasName { name } => {
                Some(format!("write `algorithm = \"{name}\"`, which everybody knows"))
            }
            ProblemKind::NoChecksum => {
                Some("if the datasheet names one: `checksum = { algorithm = \"…\", type = \"…\" }`".to_string())
            }
            ProblemKind::NoExample => {
                Some("put frames from the datasheet, or from a capture, into `[[example]]`".to_string())
            }
            _ => None,
        }
    }
}

/// "byte 4" or "bytes 4 to 7".
struct PlaceRange<'u>(&'u str, usize, usize);

impl fmt::Display for PlaceRange<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            PlaceRange(unit, first, last) if first == last => write!(f, "{unit} {first}"),
            PlaceRange(unit, first, last) => write!(f, "{unit}s {first} to {last}"),
        }
    }
}

/// All problems of a format file, by their place. Past [`limits::PROBLEMS`] they are only counted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Problems {
    list: Vec<Problem>,
    more: usize,
    /// What is legal, but can hardly be meant, if anybody wants to know. It stops nothing.
    doubts: Option<Vec<Problem>>,
}

impl Problems {
    pub(crate) fn add(&mut self, span: Range<usize>, kind: ProblemKind) {
        if !add_to(&mut self.list, span, kind) {
            self.more += 1;
        }
    }

    /// None yet, and doubts are looked for.
    pub(crate) fn with_doubts() -> Problems {
        Problems { doubts: Some(Vec::new()), ..Problems::default() }
    }

    /// Whether doubts are looked for.
    pub(crate) fn wants_doubts(&self) -> bool {
        self.doubts.is_some()
    }

    /// Notes what is legal, but can hardly be meant.
    pub(crate) fn doubt(&mut self, span: Range<usize>, kind: ProblemKind) {
        if let Some(doubts) = &mut self.doubts {
            add_to(doubts, span, kind);
        }
    }

    /// Takes over other problems.
    pub(crate) fn join(&mut self, others: Problems) {
        others.list.into_iter().for_each(|problem| self.add(problem.span, problem.kind));
        self.more += others.more;
    }

    /// Takes over the problems of a later stage, but those that may only follow from one of these.
    pub(crate) fn add_independent(&mut self, later: Problems) {
        for problem in later.list {
            let may_follow = matches!(
                problem.kind,
                ProblemKind::Unnamed { .. }
                    | ProblemKind::Overlap { .. }
                    | ProblemKind::Overrun { .. }
                    | ProblemKind::UnknownName { .. }
                    | ProblemKind::MissingKey { .. }
                    | ProblemKind::Unreachable { .. }
                    | ProblemKind::Senseless(_)
                    | ProblemKind::Expression(ExpressionProblemKind::UnknownName { .. })
            );
            if !may_follow {
                self.add(problem.span, problem.kind);
            }
        }
    }

    /// The value if there is no problem; else all of them, each with its place in what was read.
    pub(crate) fn none_or<T>(mut self, source: &Source, value: Option<T>) -> Result<T, Problems> {
        match value {
            Some(value) if self.list.is_empty() => Ok(value),
            _ => {
                source.place_all(&mut self.list);
                Err(self)
            }
        }
    }

    /// What is legal, but can hardly be meant, each with its place in what was read.
    pub(crate) fn into_doubts(mut self, source: &Source) -> Vec<Problem> {
        let mut doubts = self.doubts.take().unwrap_or_default();
        source.place_all(&mut doubts);
        doubts
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// The problems, in the order of their places.
    pub fn iter(&self) -> core::slice::Iter<'_, Problem> {
        self.list.iter()
    }

    /// How many there are beyond those listed.
    pub fn unlisted(&self) -> usize {
        self.more
    }
}

/// Adds a problem that is not there yet; false if there are too many.
fn add_to(list: &mut Vec<Problem>, span: Range<usize>, kind: ProblemKind) -> bool {
    let problem = Problem { span, line: 0, column: 0, kind };
    if list.contains(&problem) {
        return true;
    }
    let fits = list.len() < limits::PROBLEMS;
    if fits {
        list.push(problem);
    }
    fits
}

/// Line and column of a byte of the file, from 1; columns count characters.
pub(crate) fn place(text: &str, at: usize) -> (usize, usize) {
    let before = text.get(..at).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |end| end + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}

impl fmt::Display for Problems {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, problem) in self.list.iter().enumerate() {
            let separator = if index == 0 { "" } else { "; " };
            write!(f, "{separator}line {}, column {}: {}", problem.line, problem.column, problem.kind)?;
        }
        Ok(())
    }
}

impl core::error::Error for Problems {}

/// How many insertions, deletions, replacements and swaps of neighbours lead from one word to the other (optimal string alignment).
/// Written out because the usual crate for it needs the standard library.
fn distance(from: &str, to: &str) -> usize {
    let (from, to): (Vec<char>, Vec<char>) = (from.chars().collect(), to.chars().collect());
    let mut rows: [Vec<usize>; 3] = [Vec::new(), Vec::new(), (0..=to.len()).collect()];
    for i in 1..=from.len() {
        rows.rotate_left(1);
        let mut row = [i].to_vec();
        for j in 1..=to.len() {
            let replaced = rows[1][j - 1] + usize::from(from[i - 1] != to[j - 1]);
            let mut least = replaced.min(rows[1][j] + 1).min(row[j - 1] + 1);
            if i > 1 && j > 1 && from[i - 1] == to[j - 2] && from[i - 2] == to[j - 1] {
                least = least.min(rows[0][j - 2] + 1);
            }
            row.push(least);
        }
        rows[2] = row;
    }
    rows[2][to.len()]
}

/// The known word most like `word`, if one is near enough to be meant.
pub(crate) fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<String> {
    let lower = word.to_lowercase();
    known
        .into_iter()
        .map(|candidate| (distance(&lower, &candidate.to_lowercase()), candidate))
        .min_by_key(|(distance, _)| *distance)
        .filter(|(distance, candidate)| *distance <= 1.max(candidate.len() / 3) && *distance < candidate.len())
        .map(|(_, candidate)| candidate.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_as_far_apart_as_they_are() {
        for (from, to, wanted) in [
            ("", "", 0),
            ("", "abc", 3),
            ("length", "length", 0),
            ("lenght", "length", 1),
            ("strat", "start", 1),
            ("lenth", "length", 1),
            ("ca", "abc", 3),
            ("kitten", "sitting", 3),
        ] {
            assert_eq!(distance(from, to), wanted, "{from} {to}");
            assert_eq!(distance(to, from), wanted, "{to} {from}");
        }
    }
}
