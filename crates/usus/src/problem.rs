//! What can be wrong with a format file: every problem with its place and its facts. Rendering them for people is the caller's
//! business; the texts here are one line each.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;
use core::ops::Range;

use crate::expression::ExpressionProblemKind;
use crate::limits;

/// One problem of a format file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// Where it is, as bytes of the file.
    pub span: Range<usize>,
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
        /// The words allowed, if they are few.
        allowed: Vec<String>,
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
    /// Something in an expression.
    #[error("{0}")]
    Expression(ExpressionProblemKind),
    /// Bytes of the frame that nothing names.
    #[error("nothing names {} of the frame", ByteRange(*first, *last))]
    Unnamed {
        /// The first such byte, from 0.
        first: usize,
        /// The last one.
        last: usize,
    },
    /// A field that lies outside of its frame.
    #[error("this needs {}, the frame has {frame} bytes", ByteRange(*first, *last))]
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
    /// A value that makes no sense, with why.
    #[error("{0}")]
    Senseless(&'static str),
    /// A record that can never be, because an earlier one takes all its frames.
    #[error("no frame is left for `{record}`: `{earlier}` takes all of them")]
    Unreachable {
        /// The record that is never chosen.
        record: String,
        /// The one that takes its frames.
        earlier: String,
    },
}

impl Problem {
    /// What would be right, where that can be told.
    pub fn help(&self) -> Option<String> {
        let list = |words: &mut dyn Iterator<Item = &str>| {
            words.map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", ")
        };
        match &self.kind {
            ProblemKind::UnknownKey { nearest: Some(nearest), .. }
            | ProblemKind::UnknownWord { nearest: Some(nearest), .. }
            | ProblemKind::UnknownName { nearest: Some(nearest), .. }
            | ProblemKind::Expression(ExpressionProblemKind::UnknownName { nearest: Some(nearest), .. }) => {
                Some(format!("did you mean `{nearest}`?"))
            }
            ProblemKind::UnknownKey { known, .. } => {
                Some(format!("the keys here are {}", list(&mut known.iter().copied())))
            }
            ProblemKind::UnknownWord { allowed, .. } if !allowed.is_empty() => {
                Some(format!("allowed: {}", list(&mut allowed.iter().map(String::as_str))))
            }
            ProblemKind::BadName { .. } => Some(format!(
                "a name begins with a letter a-z and goes on with a-z, 0-9 and _, at most {} long; and, or, not, starts and the \
                 columns of outputs (received, source, line, offset, length, item, quality) are taken",
                limits::NAME
            )),
            ProblemKind::Unnamed { .. } => Some(
                "name them as fields, or declare what is known to carry nothing with `reserved = true`".to_string(),
            ),
            ProblemKind::CoversItself => Some("set `from` and `to` so that they leave its own bytes out".to_string()),
            ProblemKind::Unreachable { .. } => Some("give the earlier record a `when`, or put it last".to_string()),
            _ => None,
        }
    }
}

/// "byte 4" or "bytes 4 to 7".
struct ByteRange(usize, usize);

impl fmt::Display for ByteRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ByteRange(first, last) if first == last => write!(f, "byte {first}"),
            ByteRange(first, last) => write!(f, "bytes {first} to {last}"),
        }
    }
}

/// All problems of a format file, by their place. Past [`limits::PROBLEMS`] they are only counted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Problems {
    list: Vec<Problem>,
    more: usize,
}

impl Problems {
    pub(crate) fn add(&mut self, span: Range<usize>, kind: ProblemKind) {
        let problem = Problem { span, kind };
        if self.list.contains(&problem) {
            return;
        }
        if self.list.len() >= limits::PROBLEMS {
            self.more += 1;
            return;
        }
        self.list.push(problem);
    }

    /// Takes over the problems of a later stage, but those that may only follow from one of these.
    pub(crate) fn add_independent(&mut self, later: Problems) {
        for problem in later.list {
            let may_follow = matches!(
                problem.kind,
                ProblemKind::Unnamed { .. }
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

    pub(crate) fn none_or<T>(mut self, value: Option<T>) -> Result<T, Problems> {
        self.list.sort_by_key(|problem| (problem.span.start, problem.span.end));
        match value {
            Some(value) if self.list.is_empty() => Ok(value),
            _ => Err(self),
        }
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

impl fmt::Display for Problems {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, problem) in self.list.iter().enumerate() {
            let separator = if index == 0 { "" } else { "; " };
            write!(f, "{separator}byte {}: {}", problem.span.start, problem.kind)?;
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
