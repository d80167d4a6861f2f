//! Testing the checksum of a frame: which bytes it covers, where it stands, how it is written.

use crate::format::{CheckForm, Order};
use crate::plan::Check;
use crate::read::word_of;

/// Whether the checksum of a frame holds; if not, what the bytes give and what was sent (of one wider than 64 bits, the low bits).
#[inline(always)]
pub(crate) fn test(check: &Check, frame: &[u8]) -> Result<(), (u64, Option<u64>)> {
    if let CheckForm::Binary(integer) = check.form
        && let Some(computed) = check.checksum.narrow(covered(check, frame))
    {
        let sent = check.at.in_frame(frame.len()).and_then(|at| frame.get(at..at + usize::from(integer.bytes)));
        let sent = sent.map(|bytes| word_of(bytes, integer.order));
        return if sent == Some(computed) { Ok(()) } else { Err((computed, sent)) };
    }
    let (computed, sent) = (computed(check, frame), sent(check, frame));
    if sent == Some(computed) { Ok(()) } else { Err((computed as u64, sent.map(|sent| sent as u64))) }
}

/// The bytes of a frame that its checksum covers.
#[inline(always)]
fn covered<'f>(check: &Check, frame: &'f [u8]) -> &'f [u8] {
    match (check.from.in_frame(frame.len()), check.to.in_frame(frame.len())) {
        (Some(from), Some(to)) if from <= to => &frame[from..=to],
        _ => &[],
    }
}

/// The checksum that a frame ought to have.
pub(crate) fn computed(check: &Check, frame: &[u8]) -> u128 {
    check.checksum.of(covered(check, frame))
}

/// The checksum that it has; nothing if there is no room for one, or what stands there is no number.
pub(crate) fn sent(check: &Check, frame: &[u8]) -> Option<u128> {
    let at = check.at.in_frame(frame.len())?;
    let bytes = frame.get(at..at + check.form.size())?;
    match check.form {
        CheckForm::Binary(integer) => Some(word_of(bytes, integer.order).into()),
        CheckForm::Hex(integer) => hex(bytes, integer.order),
    }
}

/// Puts a checksum into a frame, where there is room for it.
pub(crate) fn put(check: &Check, frame: &mut [u8], checksum: u64) {
    let size = check.form.size();
    let Some(place) = check.at.in_frame(frame.len()).and_then(|at| frame.get_mut(at..at + size)) else { return };
    for (index, byte) in place.iter_mut().enumerate() {
        let behind = size - 1 - index;
        let shifted = |bits: usize| checksum.checked_shr(bits as u32).unwrap_or(0);
        *byte = match check.form {
            CheckForm::Binary(integer) if integer.order == Order::Big => shifted(8 * behind) as u8,
            CheckForm::Binary(_) => shifted(8 * index) as u8,
            CheckForm::Hex(integer) if integer.order == Order::Big => hex_digit(shifted(4 * behind)),
            // The lower byte's two digits come first, the higher of them in front.
            CheckForm::Hex(_) => hex_digit(shifted(4 * (index ^ 1))),
        };
    }
}

/// The number that hex digits are, two for each of its bytes.
fn hex(digits: &[u8], order: Order) -> Option<u128> {
    let digit = |digit: u8| char::from(digit).to_digit(16).map(u128::from);
    let byte = |pair: &[u8]| Some(digit(pair[0])? << 4 | digit(pair[1])?);
    let shift_in = |value: u128, pair: &[u8]| Some(value << 8 | byte(pair)?);
    match order {
        Order::Big => digits.chunks_exact(2).try_fold(0, shift_in),
        Order::Little => digits.rchunks_exact(2).try_fold(0, shift_in),
    }
}

fn hex_digit(value: u64) -> u8 {
    b"0123456789ABCDEF"[value as usize & 15]
}
