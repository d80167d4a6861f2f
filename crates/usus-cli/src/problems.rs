//! Showing what is wrong, or doubtful, with a format file: each with its line and column, the text with the place marked, and what would be
//! right.

use std::ops::Range;

use serde_json::json;
use usus::{Problem, Problems};

use crate::safe::{Safe, same_length};
use crate::summary::plural;
use crate::voice::{BOLD, RED, RESET, Voice, YELLOW};

/// A line of a file is shown with at most so many characters around the place.
const WIDTH: usize = 96;

/// Shows all problems of the format file `path` with this text.
pub(crate) fn show(path: &str, text: &str, problems: &Problems, voice: &Voice) {
    let source = same_length(text);
    problems.iter().for_each(|problem| show_one("problem", path, &source, problem, voice));
    let count = (problems.iter().count() + problems.unlisted()) as u64;
    let more = match problems.unlisted() {
        0 => String::new(),
        unlisted => format!(" ({unlisted} of them not shown)"),
    };
    voice.fail(&format!("{path}: {}{more}", plural(count, "problem")));
}

/// Shows what is legal and can hardly be meant.
pub(crate) fn show_doubts(path: &str, text: &str, doubts: &[Problem], voice: &Voice) {
    let source = same_length(text);
    doubts.iter().for_each(|doubt| show_one("doubt", path, &source, doubt, voice));
}

fn show_one(what: &str, path: &str, source: &str, problem: &Problem, voice: &Voice) {
    let title = problem.kind.to_string();
    let shown = Shown {
        what,
        path,
        line: problem.line,
        column: problem.column,
        title: &title,
        help: problem.help(),
        source,
        span: problem.span.clone(),
    };
    let data = json!({
        what: title, "file": path, "line": problem.line, "column": problem.column,
        "bytes": [problem.span.start, problem.span.end], "help": problem.help(),
    });
    voice.tell(if what == "problem" { "error" } else { "warning" }, &shown.text(), data);
}

/// Something at a place of a file, as people see it.
pub(crate) struct Shown<'s> {
    /// `problem`, `doubt`.
    pub(crate) what: &'s str,
    pub(crate) path: &'s str,
    pub(crate) line: usize,
    pub(crate) column: usize,
    pub(crate) title: &'s str,
    pub(crate) help: Option<String>,
    /// The file, made harmless, and the place in it.
    pub(crate) source: &'s str,
    pub(crate) span: Range<usize>,
}

impl Shown<'_> {
    pub(crate) fn text(&self) -> String {
        let color = if self.what == "doubt" { YELLOW } else { RED };
        let (path, line, column) = (Safe(self.path), self.line, self.column);
        let mut text = format!("{color}{}{RESET} in {path}, line {line}, column {column}:\n", self.what);
        text += &format!("  {BOLD}{}{RESET}\n", Safe(self.title));
        if let Some((line, from, length)) = marked(self.source, &self.span) {
            text += &format!("      {line}\n      {}{color}{}{RESET}\n", " ".repeat(from), "~".repeat(length));
        }
        if let Some(help) = &self.help {
            text += &format!("  {}\n", Safe(help));
        }
        text
    }
}

/// The line of a place, or the part of it around the place, and which of its characters are meant.
fn marked(source: &str, span: &Range<usize>) -> Option<(String, usize, usize)> {
    let start = (0..=span.start.min(source.len())).rev().find(|&at| source.is_char_boundary(at))?;
    let line_start = source[..start].rfind('\n').map_or(0, |end| end + 1);
    let line = source[line_start..].lines().next().unwrap_or_default();
    // Tabs are as wide as what they are replaced by.
    let shown = |text: &str| text.replace('\t', "    ");
    let before = shown(source.get(line_start..start)?).chars().count();
    let place: String =
        source[start..].chars().take_while(|character| *character != '\n' && *character != '\r').collect();
    let bytes = span.len().min(place.len());
    let end = (bytes..=place.len()).find(|&at| place.is_char_boundary(at))?;
    let length = shown(&place[..end]).chars().count().max(1);
    let line: Vec<char> = shown(line).chars().collect();
    // What it is indented by says nothing here.
    let indent = line.iter().take(before).take_while(|character| **character == ' ').count();
    let (line, before) = (&line[indent..], before - indent);
    if line.len() <= WIDTH {
        return Some((line.iter().collect(), before, length));
    }
    // The place, with some of what stands before it.
    let from = before.saturating_sub(WIDTH / 3).min(line.len() - WIDTH);
    let to = (from + WIDTH).min(line.len());
    let front = if from > 0 { "… " } else { "" };
    let back = if to < line.len() { " …" } else { "" };
    let part: String = line[from..to].iter().collect();
    let length = length.min(to.saturating_sub(before)).max(1);
    Some((format!("{front}{part}{back}"), before - from + front.chars().count(), length))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_marked() {
        let long = format!("{}here{}", "x".repeat(300), "y".repeat(300));
        for (source, span, wanted) in [
            ("a = 1\nbb = 2\n", 6..8, ("bb = 2", 0, 2)),
            ("a = 1\nbb = 2\n", 11..12, ("bb = 2", 5, 1)),
            ("\ta\t= 1", 3..4, ("a    = 1", 5, 1)),
            ("é = 'ü'\n", 5..9, ("é = 'ü'", 4, 3)),
            ("a\nb", 0..3, ("a", 0, 1)),
            ("", 0..0, ("", 0, 1)),
            ("a = 1\r\n", 0..40, ("a = 1", 0, 5)),
        ] {
            let (line, from, length) = marked(source, &span).unwrap();
            assert_eq!((line.as_str(), from, length), wanted, "{source:?} {span:?}");
        }
        let (line, from, length) = marked(&long, &(300..304)).unwrap();
        assert_eq!(line.chars().skip(from).take(length).collect::<String>(), "here");
        assert!(line.chars().count() <= WIDTH + 4);
    }
}
