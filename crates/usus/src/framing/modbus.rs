//! Modbus RTU: a frame begins anywhere, has the length that its function gives it in one direction or the other, and ends with a CRC.
//!
//! The standard lets silences tell where frames end. Whoever listens through an adapter gets bytes in bursts that were merged and split on their way, so silence
//! decides nothing here. What is found is a frame as a whole; which way it goes, and whether it means anything, is decided by the conversation.

use super::scan::Start;
use super::{Behind, Candidate, CheckState, Contents, Place, Recognise, Recognised, Tools, Verdict, View};
use crate::check::{self, Whole, Wrong};
use crate::modbus::{self, Length};
use crate::plan::{Check, Choice, Modbus};
use crate::time::Span;

/// Bytes of the CRC.
const CHECK: usize = 2;

impl Modbus {
    /// The most bytes of a frame.
    pub(super) const LONGEST: usize = modbus::LONGEST + CHECK;

    /// The next byte behind which a function code stands.
    pub(super) fn find(place: &Place<'_>, from: u64) -> Start {
        let view = place.view;
        let bytes = view.from(from);
        let known = bytes.iter().skip(1).position(|code| modbus::is_known(*code)).map(|offset| from + offset as u64);
        // Behind a silence any function can be.
        let silent = view.marks.pieces(from).map(|(begin, _)| begin).find(|begin| {
            known.is_none_or(|known| *begin < known) && *begin + 1 < view.end() && is_behind_silence(view, *begin)
        });
        if let Some(start) = silent.or(known) {
            return Start::At(start);
        }
        // A last byte may be the first of a frame, and is at the end of the input where one was to begin.
        let hides = !view.closed || (from == place.at && is_begin(place.behind));
        Start::NotBefore(view.end() - u64::from(hides && !bytes.is_empty()))
    }

    /// What the bytes from a place on are.
    pub(super) fn judge(self, candidate: &Candidate<'_>) -> Verdict {
        let Candidate { plan, frame: number, bytes, view, behind, .. } = *candidate;
        let check = plan.frames[usize::from(number)].check.as_ref();
        let (mut needs, mut wrong, mut shorter) = (None, None, None);
        for length in self.lengths(bytes) {
            match length {
                Length::Is(length) if takes_too_long(candidate, length + CHECK) => {}
                Length::Needs(length) if takes_too_long(candidate, length) => {}
                Length::Is(length) => match bytes.get(..length + CHECK) {
                    None => needs = needs.or(Some(length + CHECK)),
                    Some(frame) => match (test(check, frame), shorter) {
                        (Ok(()), None) => shorter = Some(frame.len()),
                        (Ok(()), Some(shorter)) => {
                            return self.of_both(check, bytes, [shorter, frame.len()], view.closed);
                        }
                        (Err(found), _) => wrong = wrong.or(Some(found)),
                    },
                },
                Length::Needs(length) => needs = needs.or(Some(length)),
                Length::None => {}
            }
        }
        if shorter.is_none()
            && let Some(verdict) = enclosed(candidate, check)
        {
            return verdict;
        }
        // Nearly every byte can begin a frame: only where one has ended it is told why there is none.
        let is_begin = behind.is_some_and(is_begin);
        match (shorter, needs, wrong) {
            // Where there are times, each byte that comes may come too late.
            (_, Some(_), _) if !view.closed && view.marks.are_known() => Verdict::Need(bytes.len() + 1),
            (_, Some(length), _) if !view.closed => Verdict::Need(length),
            (Some(length), ..) => found(length),
            (None, Some(length), _) if is_begin => Verdict::Need(length),
            (None, None, Some(wrong)) if is_begin => Verdict::Fail(wrong.reason(number)),
            _ => Verdict::Nothing,
        }
    }

    /// Which of two frames it is, both of whose CRCs hold: the one that another frame follows, as one does nearly always.
    fn of_both(self, check: Option<&Check>, bytes: &[u8], lengths: [usize; 2], closed: bool) -> Verdict {
        for length in lengths {
            let behind = bytes.get(length..).unwrap_or_default();
            let mut needs = None;
            for next in self.lengths(behind) {
                match next {
                    Length::Is(next) => match behind.get(..next + CHECK) {
                        None => needs = needs.or(Some(next + CHECK)),
                        Some(frame) if test(check, frame).is_ok() => return found(length),
                        Some(_) => {}
                    },
                    Length::Needs(next) => needs = needs.or(Some(next)),
                    Length::None => {}
                }
            }
            if let Some(next) = needs.filter(|_| !closed) {
                return Verdict::Need(length + next);
            }
        }
        // The CRC of a message and of the same with one byte more are so alike that chance finds this the most.
        found(lengths[1])
    }

    /// The lengths of a message that begins here, without its CRC, the shorter one first.
    #[inline]
    fn lengths(self, bytes: &[u8]) -> [Length; 2] {
        let request = if self.requests { modbus::of_request(bytes) } else { Length::None };
        let answer = if self.answers { modbus::of_answer(bytes) } else { Length::None };
        match (request, answer) {
            (_, Length::None) => [request, answer],
            (Length::None, _) => [answer, request],
            _ if answer == request => [request, Length::None],
            _ if request.bytes() > answer.bytes() => [answer, request],
            _ => [request, answer],
        }
    }
}

/// What silences enclose, of a function whose length nobody knows. Nothing if it is of another, or begins behind no silence. What ends with any of the next
/// silences is tried: it may have come in several pieces.
fn enclosed(candidate: &Candidate<'_>, check: Option<&Check>) -> Option<Verdict> {
    let Candidate { view, start, bytes, .. } = *candidate;
    if !bytes.get(1).is_some_and(|code| modbus::is_open(*code)) || !is_behind_silence(view, start) {
        return None;
    }
    let silences = view.marks.pieces(start + 1).map(|(begin, _)| begin);
    let silences = silences.filter(|begin| *begin < view.end() && is_behind_silence(view, *begin));
    let mut tried = 0;
    for length in silences.take(PIECES).map(|end| (end - start) as usize).chain(view.closed.then_some(bytes.len())) {
        if length > Modbus::LONGEST {
            return None;
        }
        tried += 1;
        if length >= 2 + CHECK && bytes.get(..length).is_some_and(|frame| test(check, frame).is_ok()) {
            return Some(found(length));
        }
    }
    let may_go_on = !view.closed && tried < PIECES && bytes.len() <= Modbus::LONGEST;
    (may_go_on && !takes_too_long(candidate, bytes.len())).then(|| Verdict::Need(bytes.len() + 1))
}

/// In how many pieces a message may come that only silences tell.
const PIECES: usize = 8;

/// Whether the line may have been silent before a byte for as long as the standard says: three and a half characters. How many characters came in that time
/// is not known as long as more may come with it.
fn is_behind_silence(view: &View<'_>, begin: u64) -> bool {
    let mut pieces = view.marks.pieces(begin);
    let Some((_, Some(time))) = pieces.next().filter(|(first, _)| *first == begin) else { return false };
    let before = begin.checked_sub(1).and_then(|before| view.marks.at(before));
    let character = view.character.unwrap_or(SLOWEST).nanoseconds();
    before.is_none_or(|before| 2 * time.since(before).nanoseconds() >= 7 * character)
}

/// Whether so many bytes took longer than a frame of that length can, be it that an adapter held a part of it back. Else a length that was damaged lets all
/// wait that follows.
fn takes_too_long(candidate: &Candidate<'_>, length: usize) -> bool {
    let Candidate { view: View { marks, character, .. }, start, bytes, .. } = *candidate;
    let last = start + length.min(bytes.len()) as u64 - 1;
    let took = marks.at(start).zip(marks.at(last)).map(|(first, last)| last.since(first).nanoseconds());
    let character = character.unwrap_or(SLOWEST).nanoseconds();
    took.is_some_and(|took| took > HELD_BACK.nanoseconds().saturating_add(character.saturating_mul(length as i64)))
}

/// A character at 1200 bits per second.
const SLOWEST: Span = Span::from_nanoseconds(9_166_667);

/// How long an adapter, or the network behind it, holds bytes back.
const HELD_BACK: Span = Span::from_nanoseconds(200_000_000);

/// Whether a frame is to begin behind that.
fn is_begin(behind: Behind) -> bool {
    matches!(behind, Behind::Frame | Behind::Boundary)
}

/// Whether the CRC of a frame holds.
#[inline(always)]
fn test(check: Option<&Check>, frame: &[u8]) -> Result<(), Wrong> {
    check.map_or(Ok(()), |check| check::test(check, Whole { contents: frame, frame, sent: frame }))
}

fn found(length: usize) -> Verdict {
    let (contents, check) = (Contents::Lie(0, length as u32), CheckState::Holds);
    Verdict::Frame { length, contents, check, choice: Choice::Undecided }
}

/// A frame whose CRC holds.
#[derive(Clone, Copy)]
pub(crate) struct ModbusFrame<'p> {
    pub(crate) modbus: Modbus,
    pub(crate) check: Option<&'p Check>,
}

impl Recognise for ModbusFrame<'_> {
    const DECIDES: bool = false;
    const SPLITS: bool = false;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], _: &mut Tools<'_>) -> Option<Recognised> {
        // Where two lengths can be, the long way weighs them.
        let [Length::Is(length), Length::None] = self.modbus.lengths(bytes) else { return None };
        let frame = bytes.get(..length + CHECK)?;
        test(self.check, frame).ok()?;
        Some(Recognised {
            length: frame.len(),
            contents: Contents::Lie(0, frame.len() as u32),
            check: CheckState::Holds,
            choice: Choice::Undecided,
            filler: 0,
            behind: Behind::Frame,
        })
    }
}
