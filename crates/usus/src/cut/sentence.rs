//! The `nmea-0183` cut: sentences between `$` or `!` and the checksum or line end, found anywhere between other bytes.
//!
//! NMEA 0183 (IEC 61162-1): printable ASCII from the start character on, `*` and two hex digits with the xor of all characters
//! between the two, CR LF. At most 82 characters in all; a longer sentence is taken if its checksum holds.

use memchr::{memchr, memchr2};
use wide::i8x16;

use super::columns::{BLOCK, Columns};
use super::pass::Pass;
use super::{CheckState, Expect, Known, Rest, Start, Step, Verdict, View};
use crate::claim::Choice;
use crate::event::Reason;
use crate::format::Presence;
use crate::limits;

/// Where the next start character is.
pub(super) fn find(view: &View<'_>, from: u64) -> Start {
    match memchr2(b'$', b'!', view.from(from)) {
        Some(offset) => Start::At(from + offset as u64),
        None => Start::NotBefore(view.end()),
    }
}

/// What the bytes from a start character on are.
pub(super) fn verdict(frame: u16, presence: Presence, separator: u8, bytes: &[u8], columns: &mut Columns) -> Verdict {
    let text = &bytes[1..bytes.len().min(limits::SENTENCE + 1)];
    let Some((stop, computed)) = pass(bytes[0], presence, separator, text, columns) else {
        return match text.len() {
            limits::SENTENCE => Verdict::Fail(Reason::SentenceTooLong { frame }),
            _ => Verdict::Open { starred: presence != Presence::Absent },
        };
    };
    let content = (1, stop as u32 + 1);
    match text[stop] {
        b'*' => match bytes.get(stop + 2..).and_then(|digits| digits.first_chunk::<2>()) {
            None => Verdict::Need(stop + 4),
            Some(digits) => match hex_byte(digits) {
                Some(sent) if sent == computed => {
                    Verdict::Frame { length: stop + 4, content, check: CheckState::Holds, choice: Choice::Undecided }
                }
                sent => {
                    let sent = sent.map(u64::from);
                    Verdict::Fail(Reason::Checksum { frame, computed: computed.into(), sent })
                }
            },
        },
        b'\r' | b'\n' if presence == Presence::Required => Verdict::Fail(Reason::ChecksumAbsent { frame }),
        // Without a checksum to vouch for it, a `!` means that this one was cut, too.
        b'\r' | b'\n' if memchr(b'!', &text[..stop]).is_some() => {
            Verdict::Fail(Reason::SentenceByte { frame, byte: b'!' })
        }
        b'\r' | b'\n' => {
            Verdict::Frame { length: stop + 1, content, check: CheckState::Absent, choice: Choice::Undecided }
        }
        byte => Verdict::Fail(Reason::SentenceByte { frame, byte }),
    }
}

/// A sentence whose checksum holds and which is followed by CR LF or nothing yet, at the start of `bytes`. Says nothing else than [`verdict`]
/// would, only sooner. A sentence that is longer than the standard allows is none of these.
#[inline(always)]
pub(crate) fn known(presence: Presence, separator: u8, bytes: &[u8], columns: &mut Columns) -> Option<Known> {
    bytes.first().filter(|byte| matches!(byte, b'$' | b'!'))?;
    let text = bytes.get(1..)?;
    // Whole blocks, where there are as many bytes: the last one of a sentence is looked at where it lies.
    let text = &text[..text.len().min(STANDARD_LENGTH.next_multiple_of(BLOCK))];
    let (stop, computed) = pass(bytes[0], presence, separator, text, columns)?;
    let (digits, filler, expect) = match bytes[stop + 1..] {
        [b'*', high, low, b'\r', b'\n', ..] => ([high, low], 2, Expect::Nothing),
        [b'*', high, low] => ([high, low], 0, Expect::CrOrLf),
        _ => return None,
    };
    let sound = hex_byte(&digits) == Some(computed) && stop + 6 <= STANDARD_LENGTH;
    sound.then_some(Known { first: 1, text: stop, length: stop + 4, filler, expect })
}

/// The characters of a sentence that the standard allows, with `$`, CR and LF.
pub(crate) const STANDARD_LENGTH: usize = 82;

/// The place that ends the text of a sentence, or that cannot be in it, and the xor of what stands before it. `columns` receives its
/// columns.
#[inline(always)]
fn pass(start: u8, presence: Presence, separator: u8, text: &[u8], columns: &mut Columns) -> Option<(usize, u8)> {
    // All that stops a sentence stands below `+`, or is DEL; signed, bytes above ASCII are below. A few that do not stop it do so, too.
    let mut pass = Pass::new(text, separator, columns, |bytes| {
        i8x16::splat(b'+' as i8).simd_gt(bytes) | bytes.simd_eq(i8x16::splat(0x7F))
    });
    loop {
        let stop = pass.next_stop()?;
        if stops(text[stop], start, presence) {
            return Some((stop, pass.end(stop)));
        }
    }
}

/// Whether a byte ends a sentence, or cannot be in one. The start characters are reserved: a second `$` begins another sentence, and so
/// does a second `!` behind a first one.
#[inline]
fn stops(byte: u8, start: u8, presence: Presence) -> bool {
    match byte {
        b'*' => presence != Presence::Absent,
        b'$' => true,
        b'!' => start == b'!',
        b' '..=b'~' => false,
        _ => true,
    }
}

#[inline]
fn hex_byte(digits: &[u8; 2]) -> Option<u8> {
    let [high, low] = digits.map(|byte| HEX[usize::from(byte)]);
    (high | low < 16).then_some(high << 4 | low)
}

/// The value of each hex digit; 16 or more for what is none.
const HEX: [u8; 256] = {
    let mut values = [0xFF; 256];
    let mut value = 0;
    while value < 16 {
        values[b"0123456789ABCDEF"[value] as usize] = value as u8;
        values[b"0123456789abcdef"[value] as usize] = value as u8;
        value += 1;
    }
    values
};

/// What stands behind a sentence.
pub(super) enum LineEnd {
    /// Its line end.
    Filler(Step),
    NeedMore,
    /// Something else.
    Other,
}

/// The line end behind a sentence: CR, LF, or CR LF.
pub(super) fn line_end(view: &View<'_>, at: u64, rest: Rest) -> LineEnd {
    let filler = |length: u64, line_end: Expect| {
        LineEnd::Filler(Step::Filler { to: at + length, rest: Rest { line_end, ..Rest::CLEAN } })
    };
    match (view.from(at), rest.line_end) {
        ([], _) if view.closed => LineEnd::Other,
        ([], _) => LineEnd::NeedMore,
        ([b'\r', b'\n', ..], Expect::CrOrLf) => filler(2, Expect::Nothing),
        ([b'\r'], Expect::CrOrLf) => filler(1, Expect::Lf),
        ([b'\r', ..], Expect::CrOrLf) | ([b'\n', ..], _) => filler(1, Expect::Nothing),
        _ => LineEnd::Other,
    }
}
