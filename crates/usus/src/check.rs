//! Testing the checksum of a frame: which bytes it covers, where it stands, how it is written.

use crate::format::CheckForm;
use crate::plan::Check;
use crate::read::word_of;

/// Whether the checksum of a frame holds; if not, what the bytes give and what was sent (of one wider than 64 bits, the low bits).
#[inline(always)]
pub(crate) fn test(check: &Check, frame: &[u8]) -> Result<(), (u64, Option<u64>)> {
    let length = frame.len();
    let covered = match (check.from.in_frame(length), check.to.in_frame(length)) {
        (Some(from), Some(to)) if from <= to => &frame[from..=to],
        _ => &[],
    };
    if let CheckForm::Binary(integer) = check.form
        && let Some(computed) = check.checksum.narrow(covered)
    {
        let sent = check.at.in_frame(length).and_then(|at| frame.get(at..at + usize::from(integer.bytes)));
        let sent = sent.map(|bytes| word_of(bytes, integer.order));
        return if sent == Some(computed) { Ok(()) } else { Err((computed, sent)) };
    }
    let sent = check.at.in_frame(length).and_then(|at| frame.get(at..at + check.form.size()));
    let sent = sent.and_then(|bytes| match check.form {
        CheckForm::Binary(integer) => Some(word_of(bytes, integer.order).into()),
        CheckForm::Hex(_) => hex(bytes),
    });
    let computed = check.checksum.of(covered);
    if sent == Some(computed) { Ok(()) } else { Err((computed as u64, sent.map(|sent| sent as u64))) }
}

fn hex(digits: &[u8]) -> Option<u128> {
    digits.iter().try_fold(0u128, |value, &digit| Some(value << 4 | u128::from(char::from(digit).to_digit(16)?)))
}
