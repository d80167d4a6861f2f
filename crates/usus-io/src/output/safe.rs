//! Text from devices and files, made harmless for a terminal.

use std::fmt::{self, Write};

/// Shows a text with control, bidirectional and zero-width characters escaped.
///
/// ```
/// assert_eq!(usus_io::Safe("a\u{1B}[31mb").to_string(), "a\\u{1b}[31mb");
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Safe<'a>(pub &'a str);

impl fmt::Display for Safe<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for character in self.0.chars() {
            if Safe::is_harmful(character) {
                write!(f, "{}", character.escape_unicode())?;
            } else {
                f.write_char(character)?;
            }
        }
        Ok(())
    }
}

impl Safe<'_> {
    /// Whether a character changes how others are shown, or is not seen at all.
    pub fn is_harmful(character: char) -> bool {
        character.is_control()
            || matches!(character,
                '\u{00AD}' | '\u{061C}' | '\u{180E}' | '\u{200B}'..='\u{200F}' | '\u{2028}'..='\u{202E}' | '\u{2060}'..='\u{206F}'
                | '\u{FEFF}' | '\u{FFF9}'..='\u{FFFB}' | '\u{E0000}'..='\u{E007F}')
    }
}
