//! The `nmea-0183` framing: sentences between `$` or `!` and the checksum or line end, found anywhere between other bytes.
//!
//! NMEA 0183 (IEC 61162-1): printable ASCII from the start character on, `*` and two hex digits with the xor of all characters
//! between the two, CR LF. At most 82 characters in all; a longer sentence is taken if its checksum holds.

use memchr::{memchr, memchr2};
use wide::i8x16;

use super::columns::BLOCK;
use super::pass::Pass;
use super::scan::Start;
use super::{
    Behind, Candidate, CheckState, Columns, Contents, Filler, Place, Recognise, Recognised, Tools, Verdict, View,
};
use crate::format::Presence;
use crate::limits::{self, STANDARD_SENTENCE};
use crate::plan::{Choice, Sentence};
use crate::reason::Reason;

/// Sentences, and what separates their columns.
#[derive(Clone, Copy)]
pub(crate) struct SomeSentence {
    pub(crate) sentence: Sentence,
    pub(crate) separator: u8,
}

/// Where the next start character is.
pub(super) fn find(view: &View<'_>, from: u64) -> Start {
    match memchr2(b'$', b'!', view.from(from)) {
        Some(offset) => Start::At(from + offset as u64),
        None => Start::NotBefore(view.end()),
    }
}

impl SomeSentence {
    pub(super) fn of(candidate: &Candidate<'_>, sentence: &Sentence) -> SomeSentence {
        let separator = candidate.plan.frames[usize::from(candidate.frame)].separation.byte();
        SomeSentence { sentence: *sentence, separator }
    }

    /// What the bytes from a start character on are.
    pub(super) fn judge(&self, candidate: &Candidate<'_>, tools: &mut Tools<'_>) -> Verdict {
        let (bytes, frame, presence) = (candidate.bytes, candidate.frame, self.sentence.checksum);
        let text = &bytes[1..bytes.len().min(limits::SENTENCE + 1)];
        let Some((stop, computed)) = self.pass(bytes[0], text, tools.columns) else {
            return match text.len() {
                limits::SENTENCE => Verdict::Fail(Reason::SentenceTooLong { frame }),
                _ => Verdict::Need(bytes.len() + 1),
            };
        };
        let sentence = |length: usize, check: CheckState| {
            let contents = Contents::Lie(1, stop as u32 + 1);
            Verdict::Frame { length, contents, check, choice: Choice::Undecided }
        };
        match text[stop] {
            b'*' => match bytes.get(stop + 2..).and_then(|digits| digits.first_chunk::<2>()) {
                None => Verdict::Need(stop + 4),
                Some(digits) => match hex_byte(digits) {
                    Some(sent) if sent == computed => sentence(stop + 4, CheckState::Holds),
                    sent => {
                        let sent = sent.map(u64::from);
                        Verdict::Fail(Reason::Checksum { frame, number: 0, computed: computed.into(), sent })
                    }
                },
            },
            b'\r' | b'\n' if presence == Presence::Required => Verdict::Fail(Reason::ChecksumAbsent { frame }),
            // Without a checksum to vouch for it, a `!` means that this one was cut, too.
            b'\r' | b'\n' if memchr(b'!', &text[..stop]).is_some() => {
                Verdict::Fail(Reason::SentenceByte { frame, byte: b'!' })
            }
            // Nor is it known then that what seems to begin amid a line is one.
            b'\r' | b'\n' if !(candidate.begins_line || self.sentence.anywhere) => {
                Verdict::Fail(Reason::SentenceAmidLine { frame })
            }
            b'\r' | b'\n' => sentence(stop + 1, CheckState::Absent),
            byte => Verdict::Fail(Reason::SentenceByte { frame, byte }),
        }
    }

    /// The place that ends the text of a sentence, or that cannot be in it, and the xor of what stands before it. `columns` receives its
    /// columns.
    #[inline(always)]
    fn pass(&self, start: u8, text: &[u8], columns: &mut Columns) -> Option<(usize, u8)> {
        // All that stops a sentence stands below `+`, or is DEL; signed, bytes above ASCII are below. A few that do not stop it do so, too.
        let mut pass = Pass::new(text, self.separator, columns, |bytes| {
            i8x16::splat(b'+' as i8).simd_gt(bytes) | bytes.simd_eq(i8x16::splat(0x7F))
        });
        loop {
            let stop = pass.next_stop()?;
            if stops(text[stop], start, self.sentence.checksum) {
                return Some((stop, pass.end(stop)));
            }
        }
    }
}

/// A sentence whose checksum holds and which is followed by CR LF, or nothing yet. One that is longer than the standard allows is none of these.
impl Recognise for SomeSentence {
    const DECIDES: bool = false;
    const SPLITS: bool = true;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], tools: &mut Tools<'_>) -> Option<Recognised> {
        bytes.first().filter(|byte| matches!(byte, b'$' | b'!'))?;
        let text = bytes.get(1..)?;
        // Whole blocks, where there are as many bytes: the last one of a sentence is looked at where it lies.
        let text = &text[..text.len().min(STANDARD_SENTENCE.next_multiple_of(BLOCK))];
        let (stop, computed) = self.pass(bytes[0], text, tools.columns)?;
        let (digits, filler, behind) = match bytes[stop + 1..] {
            [b'*', high, low, b'\r', b'\n', ..] => ([high, low], 2, Behind::Frame),
            [b'*', high, low] => ([high, low], 0, Behind::Sentence),
            _ => return None,
        };
        let sound = hex_byte(&digits) == Some(computed) && stop + 6 <= STANDARD_SENTENCE;
        let (contents, check) = (Contents::Lie(1, stop as u32 + 1), CheckState::Holds);
        sound.then_some(Recognised { length: stop + 4, contents, check, choice: Choice::Undecided, filler, behind })
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

/// The line end behind a sentence: CR, LF, or CR LF.
pub(super) fn line_end(place: &Place<'_>) -> Filler {
    let may_be_cr = match place.behind {
        Behind::Sentence => true,
        Behind::SentenceCr => false,
        _ => return Filler::None,
    };
    match place.view.from(place.at) {
        [] if place.view.closed => Filler::None,
        [] => Filler::Need(place.at + 1),
        [b'\r', b'\n', ..] if may_be_cr => Filler::To(place.at + 2, Behind::Frame),
        [b'\r'] if may_be_cr => Filler::To(place.at + 1, Behind::SentenceCr),
        [b'\r', ..] if may_be_cr => Filler::To(place.at + 1, Behind::Frame),
        [b'\n', ..] => Filler::To(place.at + 1, Behind::Frame),
        _ => Filler::None,
    }
}
