//! What a stream looks like before anything of it is understood: counts, bursts, silences, periods; whether the settings of its line seem
//! right; and how well a line that was listened to with certain settings goes with them.
//!
//! Nothing here knows a format. What a stream *is* (framings, checksums, fields) is not asked here.

mod clue;
mod levels;
mod period;
mod score;
mod speed;
mod spread;
mod tally;

pub use clue::{Clue, clues};
pub use period::Period;
pub use score::{Heard, Score, other_formats, score};
pub use speed::{Ratio, Speeds};
pub(crate) use spread::Kept;
pub use spread::Spread;
pub use tally::Survey;

use crate::input::{Fault, FaultKind};

/// A character as a receiver got it. A break is a byte 0 with its fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Character {
    /// Its data bits.
    pub byte: u8,
    /// What is wrong with it.
    pub fault: Option<FaultKind>,
}

impl Character {
    /// A sound one.
    pub const fn sound(byte: u8) -> Character {
        Character { byte, fault: None }
    }
}

/// The characters of a chunk, with its faults: these are sorted by their place.
pub fn characters<'c>(bytes: &'c [u8], faults: &'c [Fault]) -> impl Iterator<Item = Character> + 'c {
    let mut faults = faults.iter().peekable();
    let mut at = 0;
    core::iter::from_fn(move || {
        if faults.next_if(|fault| fault.at <= at && fault.kind == FaultKind::Break).is_some() {
            return Some(Character { byte: 0, fault: Some(FaultKind::Break) });
        }
        let byte = *bytes.get(at)?;
        let fault = faults.next_if(|fault| fault.at <= at).map(|fault| fault.kind);
        at += 1;
        Some(Character { byte, fault })
    })
}

/// Whether text is made of it: printable ASCII, tab, line feed, carriage return.
fn is_text(byte: u8) -> bool {
    matches!(byte, b' '..=b'~' | b'\t' | b'\n' | b'\r')
}

/// A share from 0 to 1; of nothing, 0.
fn share(part: usize, whole: usize) -> f64 {
    if whole == 0 { 0.0 } else { part as f64 / whole as f64 }
}
