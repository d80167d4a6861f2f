//! The one place that prints: words for people on standard error (or the same as JSON), data on standard output.

use std::io::{self, IsTerminal, Write};

use serde_json::{Value, json};

use crate::arguments::Messages;
use crate::safe::lines;

/// Says things.
#[derive(Clone, Copy)]
pub(crate) struct Voice {
    messages: Messages,
}

impl Voice {
    pub(crate) fn new(messages: Messages) -> Voice {
        Voice { messages }
    }

    /// Whether standard error is a terminal on which a person reads.
    pub(crate) fn to_a_person(self) -> bool {
        self.messages == Messages::Text && io::stderr().is_terminal()
    }

    /// Says something about what is going on.
    pub(crate) fn say(&self, text: &str) {
        self.message("info", text, None);
    }

    /// Says something that deserves attention.
    pub(crate) fn warn(&self, text: &str) {
        match self.messages {
            Messages::Text => self.line(&format!("warning: {}", lines(text))),
            Messages::Json => self.message("warning", text, None),
        }
    }

    /// Says what went wrong.
    pub(crate) fn fail(&self, text: &str) {
        match self.messages {
            Messages::Text => self.line(&format!("error: {}", lines(text))),
            Messages::Json => self.message("error", text, None),
        }
    }

    /// Says something that has a form of its own for people, made harmless already, and data for programs.
    pub(crate) fn tell(&self, level: &str, for_people: &str, data: Value) {
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
        let _ = writeln!(io::stderr().lock(), "{text}");
    }

    /// Prints a result on standard output. Whether anybody still reads it is told.
    pub(crate) fn print(&self, text: &str) -> io::Result<()> {
        let mut output = io::stdout().lock();
        output.write_all(text.as_bytes())?;
        output.flush()
    }
}
