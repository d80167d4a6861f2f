//! Showing the problems of a format file: each with its line and column, the text underlined, and what would be right.

use std::io::IsTerminal;
use std::ops::Range;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use serde_json::json;
use usus::Problems;

use crate::safe::{Safe, same_length};
use crate::voice::Voice;

/// Shows all problems of the format file `path` with this text.
pub(crate) fn show(path: &str, text: &str, problems: &Problems, voice: &Voice) {
    let renderer = if std::io::stderr().is_terminal() { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.decor_style(DecorStyle::Ascii);
    let source = same_length(text);
    for problem in problems.iter() {
        let span = visible(&source, &problem.span);
        let (line, column) = place(text, problem.span.start);
        let title = Safe(&problem.kind.to_string()).to_string();
        let help = problem.help().map(|help| Safe(&help).to_string());
        let data = json!({
            "problem": problem.kind.to_string(), "file": path, "line": line, "column": column,
            "bytes": [problem.span.start, problem.span.end], "help": problem.help(),
        });
        voice.tell("error", &render(&renderer, path, &source, span, title, help), data);
    }
    let count = problems.iter().count() + problems.unlisted();
    let more = match problems.unlisted() {
        0 => String::new(),
        unlisted => format!(" ({unlisted} of them not shown)"),
    };
    let noun = if count == 1 { "problem" } else { "problems" };
    voice.fail(&format!("{path}: {count} {noun}{more}"));
}

fn render(
    renderer: &Renderer,
    path: &str,
    source: &str,
    span: Range<usize>,
    title: String,
    help: Option<String>,
) -> String {
    let path = Safe(path).to_string();
    let snippet = Snippet::source(source).path(path).annotation(AnnotationKind::Primary.span(span));
    let mut group = Level::ERROR.primary_title(title).element(snippet);
    if let Some(help) = help {
        group = group.element(Level::HELP.message(help));
    }
    renderer.render(&[group]) + "\n"
}

/// A place that can be underlined: whole characters, one at least, on one line.
fn visible(source: &str, span: &Range<usize>) -> Range<usize> {
    let start = (0..=span.start.min(source.len())).rev().find(|&at| source.is_char_boundary(at)).unwrap_or(0);
    let line_end = source[start..].find('\n').map_or(source.len(), |length| start + length);
    let end = (span.end.min(line_end)..=source.len()).find(|&at| source.is_char_boundary(at)).unwrap_or(source.len());
    start..end.max(start)
}

/// Line and column, from 1; columns count characters.
fn place(text: &str, at: usize) -> (usize, usize) {
    let before = text.get(..at).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |end| end + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}
