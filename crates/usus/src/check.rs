//! Testing the checksum of a frame: which bytes it covers, where it stands, how it is written.

use crate::format::{CheckForm, Integer};
use crate::plan::Check;
use crate::read::word_of;

/// Whether the checksum of a frame holds; if not, what the bytes give and what was sent.
pub(crate) fn test(check: &Check, frame: &[u8]) -> Result<(), (u128, Option<u128>)> {
    let length = frame.len();
    let covered = match (check.from.in_frame(length), check.to.in_frame(length)) {
        (Some(from), Some(to)) if from <= to => &frame[from..=to],
        _ => &[],
    };
    let computed = check.checksum.of(covered);
    let sent = check.at.in_frame(length).and_then(|at| frame.get(at..at + check.form.size())).and_then(|bytes| {
        match check.form {
            CheckForm::Binary(integer) => Some(binary(bytes, integer)),
            CheckForm::Hex(_) => hex(bytes),
        }
    });
    if sent == Some(computed) { Ok(()) } else { Err((computed, sent)) }
}

fn binary(bytes: &[u8], integer: Integer) -> u128 {
    word_of(bytes, integer.order).into()
}

fn hex(digits: &[u8]) -> Option<u128> {
    digits.iter().try_fold(0u128, |value, &digit| Some(value << 4 | u128::from(char::from(digit).to_digit(16)?)))
}
