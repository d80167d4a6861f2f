//! Text from devices and files, made harmless for a terminal.

use std::fmt;
use std::fmt::Write;

/// Shows a text with control, bidirectional and zero-width characters escaped.
pub(crate) struct Safe<'a>(pub(crate) &'a str);

impl fmt::Display for Safe<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for character in self.0.chars() {
            if is_harmful(character) {
                write!(f, "{}", character.escape_unicode())?;
            } else {
                f.write_char(character)?;
            }
        }
        Ok(())
    }
}

/// Whether a character changes how others are shown, or is not seen at all.
pub(crate) fn is_harmful(character: char) -> bool {
    character.is_control()
        || matches!(character,
            '\u{00AD}' | '\u{061C}' | '\u{180E}' | '\u{200B}'..='\u{200F}' | '\u{2028}'..='\u{202E}' | '\u{2060}'..='\u{206F}'
            | '\u{FEFF}' | '\u{FFF9}'..='\u{FFFB}' | '\u{E0000}'..='\u{E007F}')
}

/// A source text of the same length in bytes, in which harmful characters are replaced by visible ones. Line ends and tabs stay.
pub(crate) fn same_length(text: &str) -> String {
    let visible = |character: char| match (is_harmful(character), character.len_utf8()) {
        (false, _) => character,
        _ if matches!(character, '\n' | '\r' | '\t') => character,
        (true, 1) => '?',
        (true, 2) => '¿',
        (true, 3) => '\u{FFFD}',
        (true, _) => '\u{1F7E5}',
    };
    text.chars().map(visible).collect()
}

/// Bytes as text: printable ASCII as it is, all else as a point.
pub(crate) fn printable(bytes: &[u8]) -> String {
    bytes.iter().map(|&byte| if (b' '..=b'~').contains(&byte) { char::from(byte) } else { '.' }).collect()
}

/// Bytes as text with escapes for what is not printable ASCII.
pub(crate) fn escaped(bytes: &[u8]) -> String {
    bytes.escape_ascii().to_string()
}

/// A text of several lines, each made harmless.
pub(crate) fn lines(text: &str) -> String {
    text.split('\n').map(|line| Safe(line).to_string()).collect::<Vec<_>>().join("\n")
}

/// Bytes in hex, in pairs.
pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_changes_a_terminal_is_escaped() {
        let text = "a\u{1B}[31mb\u{202E}c\u{200B}d\u{7}é°";
        assert_eq!(Safe(text).to_string(), "a\\u{1b}[31mb\\u{202e}c\\u{200b}d\\u{7}é°");
        assert_eq!(same_length(text).len(), text.len());
        assert_eq!(same_length("a\u{1B}\u{AD}\u{202E}\n"), "a?¿\u{FFFD}\n");
    }
}
