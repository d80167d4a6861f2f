//! The one place that prints: words for people on standard error (or the same as JSON), data on standard output.

use std::borrow::Cow;
use std::io::{self, IsTerminal, Write};
use std::os::fd::AsFd;
use std::sync::atomic::{AtomicBool, Ordering};

use serde_json::{Value, json};

use crate::arguments::{Account, Messages};
use crate::safe::lines;

/// Says things.
#[derive(Clone, Copy)]
pub(crate) struct Voice {
    messages: Messages,
    account: Account,
}

/// Whether a status line stands in the terminal, which there is only one of. Whatever else is said takes its place.
static STATUS_STANDS: AtomicBool = AtomicBool::new(false);

impl Voice {
    pub(crate) fn new(messages: Messages, account: Account) -> Voice {
        Voice { messages, account }
    }

    /// Whether standard error is a terminal on which a person reads, and in which a line can be drawn anew.
    pub(crate) fn to_a_person(self) -> bool {
        let can_draw = std::env::var_os("TERM").is_none_or(|term| term != "dumb");
        self.messages == Messages::Text && self.account != Account::None && io::stderr().is_terminal() && can_draw
    }

    /// How much is said of what was done.
    pub(crate) fn account(self) -> Account {
        self.account
    }

    /// Says something about what is going on.
    pub(crate) fn say(&self, text: &str) {
        if self.account != Account::None {
            self.message("info", text, None);
        }
    }

    /// Says something that deserves attention.
    pub(crate) fn warn(&self, text: &str) {
        match self.messages {
            Messages::Text => self.line(&format!("{YELLOW}warning:{RESET} {}", lines(text))),
            Messages::Json => self.message("warning", text, None),
        }
    }

    /// Says what went wrong.
    pub(crate) fn fail(&self, text: &str) {
        match self.messages {
            Messages::Text => self.line(&format!("{RED}error:{RESET} {}", lines(text))),
            Messages::Json => self.message("error", text, None),
        }
    }

    /// Says something that has a form of its own for people, made harmless already, and data for programs.
    pub(crate) fn tell(&self, level: &str, for_people: &str, data: Value) {
        if self.account == Account::None && matches!(level, "info" | "summary") {
            return;
        }
        match self.messages {
            Messages::Text => self.line(for_people),
            Messages::Json => self.message(level, "", Some(data)),
        }
    }

    fn message(&self, level: &str, text: &str, data: Option<Value>) {
        match (self.messages, data) {
            (Messages::Text, _) => self.line(&lines(text)),
            (Messages::Json, None) => self.line(&json!({"level": level, "text": text}).to_string()),
            (Messages::Json, Some(mut data)) => {
                if let Value::Object(entries) = &mut data {
                    entries.shift_insert(0, "level".to_owned(), level.into());
                }
                self.line(&data.to_string());
            }
        }
    }

    /// Nobody may be listening any more: that is no reason to stop.
    fn line(&self, text: &str) {
        self.clear_status();
        let text = match self.messages {
            Messages::Text => wrapped(text, width_of(&io::stderr())),
            Messages::Json => Cow::Borrowed(text),
        };
        let _ = writeln!(anstream::stderr().lock(), "{text}");
    }

    /// Draws the status line, in place of the one that stands there. Only where a person reads.
    pub(crate) fn draw_status(self, text: &str) {
        STATUS_STANDS.store(true, Ordering::Relaxed);
        let mut error = io::stderr().lock();
        let _ = write!(error, "\r\x1B[2K{text}").and_then(|()| error.flush());
    }

    /// Takes the status line away.
    pub(crate) fn clear_status(self) {
        if STATUS_STANDS.swap(false, Ordering::Relaxed) {
            let _ = write!(io::stderr().lock(), "\r\x1B[2K");
        }
    }

    /// Prints words on standard output, wrapped to the terminal that it may be.
    pub(crate) fn print_words(&self, text: &str) -> io::Result<()> {
        self.print(&wrapped(text, width_of(&io::stdout())))
    }

    /// Prints a result on standard output. Whether anybody still reads it is told.
    pub(crate) fn print(&self, text: &str) -> io::Result<()> {
        self.clear_status();
        let mut output = anstream::stdout().lock();
        output.write_all(text.as_bytes())?;
        output.flush()
    }
}

/// Colours; whether they reach anybody is decided where things are printed.
pub(crate) const RED: &str = "\x1B[1;31m";
pub(crate) const YELLOW: &str = "\x1B[1;33m";
pub(crate) const BOLD: &str = "\x1B[1m";
pub(crate) const RESET: &str = "\x1B[0m";

/// How many characters fit in a line of a terminal; nothing of what is none.
fn width_of(output: &(impl IsTerminal + AsFd)) -> Option<usize> {
    let size = output.is_terminal().then(|| rustix::termios::tcgetwinsize(output).ok()).flatten()?;
    Some(usize::from(size.ws_col)).filter(|columns| *columns >= 40)
}

/// A text whose lines end between words before they would end in the middle of one; what follows is indented a little more.
fn wrapped(text: &str, width: Option<usize>) -> Cow<'_, str> {
    let Some(width) = width.filter(|width| text.split('\n').any(|line| shown_width(line) > *width)) else {
        return Cow::Borrowed(text);
    };
    Cow::Owned(text.split('\n').map(|line| wrapped_line(line, width)).collect::<Vec<_>>().join("\n"))
}

fn wrapped_line(line: &str, width: usize) -> String {
    if shown_width(line) <= width {
        return line.to_owned();
    }
    let indent = line.len() - line.trim_start_matches(' ').len();
    let (mut out, mut column) = (String::new(), 0);
    for (index, word) in line.split(' ').enumerate() {
        let wide = shown_width(word);
        // Words that are too long for any line are left as they are.
        if column > indent + 2 && column + 1 + wide > width {
            out.push('\n');
            out.extend(std::iter::repeat_n(' ', indent + 2));
            column = indent + 2;
        } else if index > 0 {
            out.push(' ');
            column += 1;
        }
        out += word;
        column += wide;
    }
    out
}

/// How many characters are seen of a text: colours are none.
fn shown_width(text: &str) -> usize {
    let mut rest = text;
    let mut width = 0;
    while let Some((before, escape)) = rest.split_once('\x1B') {
        width += before.chars().count();
        rest = escape.split_once('m').map_or("", |(_, behind)| behind);
    }
    width + rest.chars().count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_end_between_words() {
        for (text, width, wanted) in [
            ("short", Some(40), "short"),
            ("a b c d", None, "a b c d"),
            ("one two three", Some(8), "one two\n  three"),
            ("  one two three", Some(9), "  one two\n    three"),
            ("\x1B[1;31merror:\x1B[0m one two", Some(10), "\x1B[1;31merror:\x1B[0m one\n  two"),
            ("unbreakablelongword x", Some(8), "unbreakablelongword\n  x"),
        ] {
            assert_eq!(wrapped(text, width), wanted);
        }
    }
}
