//! The one place that prints: words for people on standard error (or the same as JSON), data on standard output.

use std::io::{self, IsTerminal, Write};
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
