//! Text from devices and files, made harmless for a terminal.

pub(crate) use usus_io::Safe;

/// A source text of the same length in bytes, in which harmful characters are replaced by visible ones. Line ends and tabs stay.
pub(crate) fn same_length(text: &str) -> String {
    let visible = |character: char| match (Safe::is_harmful(character), character.len_utf8()) {
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
