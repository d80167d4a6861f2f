//! Testing the checksum of a frame: which bytes it covers, where it stands, how it is written.

use crate::format::{Characters, CheckForm};
use crate::integer::Order;
use crate::plan::{Check, CheckPlace};
use crate::read::word_of;
use crate::reason::Reason;

/// A frame as its checksum is tested on it.
#[derive(Clone, Copy)]
pub(crate) struct Whole<'f> {
    pub(crate) contents: &'f [u8],
    /// The whole frame, as it was sent.
    pub(crate) frame: &'f [u8],
    /// What of it stands before the checksum, if that covers what was sent.
    pub(crate) sent: &'f [u8],
}

/// A checksum that does not hold.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Wrong {
    /// Which of its frame's it is.
    pub(crate) number: u8,
    /// What the bytes give (of one wider than 64 bits, the low bits).
    pub(crate) computed: u64,
    /// What was sent; nothing if there is none, or it is no number.
    pub(crate) sent: Option<u64>,
}

impl Wrong {
    /// As the reason for a reject.
    pub(crate) fn reason(self, frame: u16) -> Reason {
        Reason::Checksum { frame, number: self.number, computed: self.computed, sent: self.sent }
    }
}

/// Tests the checksums of a frame.
#[inline(always)]
pub(crate) fn test(check: &Check, of: Whole<'_>) -> Result<(), Wrong> {
    test_one(check, of).map_err(|(computed, sent)| Wrong { number: 0, computed, sent })?;
    if check.others.is_empty() { Ok(()) } else { test_others(check, of) }
}

/// Tests the checksums of a frame beside its first one.
#[inline(never)]
fn test_others(check: &Check, of: Whole<'_>) -> Result<(), Wrong> {
    for (index, other) in check.others.iter().enumerate() {
        test_one(other, of).map_err(|(computed, sent)| Wrong { number: index as u8 + 1, computed, sent })?;
    }
    Ok(())
}

#[inline(always)]
fn test_one(check: &Check, of: Whole<'_>) -> Result<(), (u64, Option<u64>)> {
    let (from, to) = covered(check, of);
    let bytes = area(check, of).get(from..to).unwrap_or_default();
    if let CheckForm::Binary(integer) = check.form
        && let Some(computed) = check.checksum.narrow(bytes)
    {
        let sent = written(check, of).map(|bytes| word_of(bytes, integer.order));
        return if sent == Some(computed) || check.lenient { Ok(()) } else { Err((computed, sent)) };
    }
    compare_one(check, of, check.checksum.of(bytes))
}

/// Compares a checksum with the one that was sent, and tests the others of its frame.
#[inline(always)]
pub(crate) fn compare(check: &Check, of: Whole<'_>, computed: u128) -> Result<(), Wrong> {
    compare_one(check, of, computed).map_err(|(computed, sent)| Wrong { number: 0, computed, sent })?;
    if check.others.is_empty() { Ok(()) } else { test_others(check, of) }
}

#[inline(always)]
fn compare_one(check: &Check, of: Whole<'_>, computed: u128) -> Result<(), (u64, Option<u64>)> {
    let sent = sent(check, of);
    if sent == Some(computed) || check.lenient { Ok(()) } else { Err((computed as u64, sent.map(|sent| sent as u64))) }
}

/// The bytes among which the covered ones are counted.
#[inline(always)]
pub(crate) fn area<'f>(check: &Check, of: Whole<'f>) -> &'f [u8] {
    match check.place {
        _ if check.over_sent => of.sent,
        CheckPlace::Behind { through_end: true } => &of.frame[..of.frame.len().saturating_sub(check.form.size())],
        _ => of.contents,
    }
}

/// The first byte covered and the one behind the last, counted from the contents' first.
#[inline(always)]
pub(crate) fn covered(check: &Check, of: Whole<'_>) -> (usize, usize) {
    let length = match check.place {
        // A text without the mark is covered up to where it would be.
        CheckPlace::Marked => check.marked(of.contents).unwrap_or(of.contents.len()),
        _ => area(check, of).len(),
    };
    match (check.from.in_frame(length), check.to.in_frame(length)) {
        (Some(from), Some(to)) if from <= to && to < length => (from, to + 1),
        _ => (0, 0),
    }
}

/// The checksum that a frame ought to have.
pub(crate) fn computed(check: &Check, of: Whole<'_>) -> u128 {
    let (from, to) = covered(check, of);
    check.checksum.of(area(check, of).get(from..to).unwrap_or_default())
}

/// The checksum that it has; nothing if there is no room for one, or what stands there is no number.
pub(crate) fn sent(check: &Check, of: Whole<'_>) -> Option<u128> {
    number(check.form, written(check, of)?)
}

/// What bytes are as a checksum; nothing if they are no number.
pub(crate) fn number(form: CheckForm, bytes: &[u8]) -> Option<u128> {
    match form {
        CheckForm::Binary(integer) => Some(word_of(bytes, integer.order).into()),
        CheckForm::Hex(integer) => hex(bytes, integer.order),
        CheckForm::Characters(characters) => counted(bytes, characters),
        CheckForm::Decimal(_) => decimal(bytes),
    }
}

/// The bytes that are the checksum.
#[inline(always)]
pub(crate) fn written<'f>(check: &Check, of: Whole<'f>) -> Option<&'f [u8]> {
    let size = check.form.size();
    match check.place {
        CheckPlace::In(edge) => {
            let at = edge.in_frame(of.contents.len())?;
            of.contents.get(at..at + size)
        }
        CheckPlace::Marked => {
            let behind = check.marked(of.contents)? + check.mark.as_ref().map_or(0, |mark| mark.len());
            of.contents.get(behind..).filter(|bytes| size == 0 || bytes.len() == size)
        }
        CheckPlace::Behind { .. } => of.frame.get(of.frame.len().checked_sub(size)?..),
    }
}

/// Puts a checksum into a frame that begins with so many bytes of contents, where there is room for it.
pub(crate) fn put(check: &Check, frame: &mut [u8], contents: usize, checksum: u64) {
    let size = check.form.size();
    let at = match check.place {
        CheckPlace::In(edge) => edge.in_frame(contents),
        CheckPlace::Marked => contents.checked_sub(size),
        CheckPlace::Behind { .. } => frame.len().checked_sub(size),
    };
    let Some(place) = at.and_then(|at| frame.get_mut(at..at + size)) else { return };
    for (index, byte) in place.iter_mut().enumerate() {
        let shifted = |bits: usize| checksum.checked_shr(bits as u32).unwrap_or(0);
        *byte = match check.form {
            CheckForm::Binary(integer) => shifted(8 * integer.order.rank(index, size)) as u8,
            // Of the two digits of a byte, the higher one stands in front.
            CheckForm::Hex(integer) => {
                hex_digit(shifted(4 * (2 * integer.order.rank(index / 2, size / 2) + 1 - index % 2)))
            }
            CheckForm::Characters(Characters { order, zero, bits, .. }) => {
                let value = shifted(usize::from(bits) * order.rank(index, size)) & ((1 << bits) - 1);
                zero.wrapping_add(value as u8)
            }
            CheckForm::Decimal(_) => {
                let value = 10u64.checked_pow((size - 1 - index) as u32).map_or(0, |power| checksum / power);
                b'0' + (value % 10) as u8
            }
        };
    }
}

/// The number that hex digits are, two for each of its bytes.
fn hex(digits: &[u8], order: Order) -> Option<u128> {
    let digit = |digit: u8| char::from(digit).to_digit(16).map(u128::from);
    let byte = |pair: &[u8]| Some(digit(pair[0])? << 4 | digit(pair[1])?);
    let (pairs, bytes) = (digits.chunks_exact(2), digits.len() / 2);
    pairs.enumerate().try_fold(0, |value, (place, pair)| Some(value | byte(pair)? << (8 * order.rank(place, bytes))))
}

/// The number that characters are which count from one on.
fn counted(sent: &[u8], of: Characters) -> Option<u128> {
    sent.iter().enumerate().try_fold(0, |value: u128, (place, character)| {
        let digit = u128::from(character.checked_sub(of.zero)?);
        let shift = u32::from(of.bits) * of.order.rank(place, sent.len()) as u32;
        (digit >> of.bits == 0).then_some(value | digit.checked_shl(shift)?)
    })
}

/// The number that decimal digits are, with blanks before them where those are shorter than their place.
fn decimal(sent: &[u8]) -> Option<u128> {
    let digits = sent.trim_ascii();
    if digits.is_empty() {
        return None;
    }
    digits.iter().try_fold(0u128, |value, digit| {
        let digit = char::from(*digit).to_digit(10)?;
        value.checked_mul(10)?.checked_add(digit.into())
    })
}

fn hex_digit(value: u64) -> u8 {
    b"0123456789ABCDEF"[value as usize & 15]
}
