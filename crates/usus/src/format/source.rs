//! What a format was read from: its file, and the files beside it, whose rows stand behind it as if they had been written there.

use alloc::boxed::Box;
use alloc::string::String;
use alloc::sync::Arc;
use core::ops::Range;

use crate::problem::{Problem, ProblemKind, place};

/// Where a format comes from; empty for one that was made in code.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Source {
    pub(crate) text: Arc<str>,
    pub(crate) files: Arc<[FileBeside]>,
    /// The rows of those files, in the order of their places, which lie behind the text.
    pub(super) rows: Arc<[Row]>,
}

/// A file that was loaded beside a format.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FileBeside {
    pub(crate) name: String,
    pub(crate) text: Arc<str>,
}

/// A row of such a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Row {
    /// Where it begins, as if it stood behind the text.
    pub(super) begin: usize,
    pub(super) file: Arc<str>,
    /// The line on which it begins, from 1.
    pub(super) line: usize,
    /// Where the text names the file.
    pub(super) named: Range<usize>,
}

impl Source {
    /// What was loaded under a name.
    pub(crate) fn file(&self, name: &str) -> Option<&str> {
        self.files.iter().find(|file| file.name == name).map(|file| &*file.text)
    }

    /// Tells problems where they are: line and column in the text; of what stands in a file beside it, where that is named, and the line of the file.
    pub(crate) fn place_all(&self, list: &mut [Problem]) {
        list.sort_by_key(|problem| (problem.span.start, problem.span.end));
        for problem in list.iter_mut() {
            let row = self.rows.partition_point(|row| row.begin <= problem.span.start);
            if let Some(row) = row.checked_sub(1).and_then(|row| self.rows.get(row)) {
                let kind = core::mem::replace(&mut problem.kind, ProblemKind::Senseless(""));
                let (file, line) = (String::from(&*row.file), row.line);
                problem.kind = ProblemKind::InFile { file, line, kind: Box::new(kind) };
                problem.span = row.named.clone();
            }
            (problem.line, problem.column) = place(&self.text, problem.span.start);
        }
        list.sort_by_key(|problem| (problem.span.start, problem.span.end));
    }
}

/// Gives the texts of files beside a format, by their names.
pub(crate) type Load<'l> = dyn FnMut(&str) -> Result<String, String> + 'l;

/// Places behind a text, for rows that are not in it.
pub(super) fn behind(text: &str) -> usize {
    text.len() + 1
}

/// A text with blanks before it, so that it has its places behind another.
pub(super) fn moved_behind(text: &str, rows: &str) -> String {
    [" ".repeat(behind(text)), String::from(rows)].concat()
}
