//! What becomes of a frame: a record, nothing by declaration, or a reject.

use crate::check;
use crate::claim::{self, Choice, Choices, Extent};
use crate::cut::{self, CheckState, Columns, Ended, Framed, LineEdge};
use crate::event::{NoticeKind, Reason};
use crate::plan::{Cut, Edge, Field, Frame, Inner};
use crate::read::Cells;

/// What becomes of a frame.
pub(super) enum Decision<'p> {
    Record { kind: u16, content: (u32, u32), extent: Extent, notice: Option<NoticeKind> },
    Ignored { content: (u32, u32), count_by: Option<&'p Field> },
    Reject { reason: Reason, clipped: bool },
}

pub(super) const NO_EXTENT: Extent = Extent { count: 0, tail: 0 };

/// A frame laid out for reading.
#[inline(always)]
pub(super) fn cells<'a>(frame: &'a [u8], content: (u32, u32), columns: &'a [u16], extent: Extent) -> Cells<'a> {
    let bytes = &frame[content.0 as usize..content.1 as usize];
    Cells { bytes, wide: bytes, columns, tail: extent.tail }
}

/// Decides about a frame. `columns` receives where its columns begin, if it has any.
#[inline(always)]
pub(super) fn decide<'p>(
    plan: &'p Inner,
    framed: &Framed,
    bytes: &[u8],
    edge: LineEdge,
    columns: &mut Columns,
    choices: &mut Choices,
    tried: Option<Reason>,
) -> Decision<'p> {
    let frame = &plan.frames[usize::from(framed.frame)];
    let is_text = matches!(frame.cut, Cut::Text { .. });
    let tested = test(frame, framed, bytes);
    let vouched = tested == Ok(CheckState::Holds);
    if is_text && !vouched {
        // Nothing vouches for the whole of a text whose beginning or end is missing.
        if framed.ended == Ended::Closed {
            return Decision::Reject { reason: Reason::CutShort { frame: framed.frame }, clipped: true };
        }
        if edge == LineEdge::Loss {
            return Decision::Reject { reason: Reason::BegunBefore, clipped: true };
        }
    }
    let decision = match tested {
        Ok(check) => claim(plan, framed, frame, bytes, check, columns, choices),
        Err(reason) => Decision::Reject { reason, clipped: false },
    };
    match decision {
        Decision::Record { kind, content, extent, .. } => {
            let begun_before = is_text && !vouched && edge == LineEdge::Start;
            let notice = begun_before.then_some(NoticeKind::MaybeBegunBefore).or(long_sentence(frame, bytes));
            Decision::Record { kind, content, extent, notice }
        }
        Decision::Reject { reason, .. } => {
            if is_text && edge == LineEdge::Start {
                return Decision::Reject { reason: Reason::BegunBefore, clipped: true };
            }
            // What a searching cut found wrong in a text says more than that no record claims it.
            let reason = match (reason, tried.filter(|_| is_text)) {
                (Reason::Unclaimed { .. }, Some(tried)) => tried,
                _ => reason,
            };
            Decision::Reject { reason, clipped: false }
        }
        ignored => ignored,
    }
}

/// Tests the checksum of a text; the other cuts have done so before they called it a frame.
#[inline(always)]
fn test(frame: &Frame, framed: &Framed, bytes: &[u8]) -> Result<CheckState, Reason> {
    match (framed.check, &frame.check) {
        (CheckState::Untested, Some(check)) => check::test(check, bytes)
            .map(|()| CheckState::Holds)
            .map_err(|(computed, sent)| Reason::Checksum { frame: framed.frame, computed, sent }),
        (CheckState::Untested, None) => Ok(CheckState::Undeclared),
        (check, _) => Ok(check),
    }
}

#[inline(always)]
fn claim<'p>(
    plan: &'p Inner,
    framed: &Framed,
    frame: &'p Frame,
    bytes: &[u8],
    check: CheckState,
    columns: &mut Columns,
    choices: &mut Choices,
) -> Decision<'p> {
    let content = content(frame, framed, bytes.len());
    let text = &bytes[content.0 as usize..content.1 as usize];
    if !frame.has_columns {
        columns.clear();
    } else if !framed.split {
        cut::split(text, frame.separator, columns);
    }
    let header = Cells { bytes: text, wide: text, columns, tail: 0 };
    let choice = match framed.choice {
        Choice::Undecided => choices.choose(plan, framed.frame, frame, &header),
        decided => decided,
    };
    let reject = |reason| Decision::Reject { reason, clipped: false };
    let number = match choice {
        Choice::Kind(number) => number,
        Choice::Ignore(ignore) => {
            return Decision::Ignored { content, count_by: plan.ignores[usize::from(ignore)].count_by.as_ref() };
        }
        Choice::Unclaimed | Choice::Undecided => return reject(Reason::Unclaimed { frame: framed.frame }),
    };
    let kind = &plan.kinds[usize::from(number)];
    if check == CheckState::Absent && kind.checksum_required {
        return reject(Reason::ChecksumAbsent { frame: framed.frame });
    }
    for &index in &frame.constants {
        let field = &frame.header[usize::from(index)];
        if field.equals.as_ref().is_some_and(|constant| !header.equals(&field.field, 0, constant)) {
            return reject(Reason::Constant { frame: framed.frame, field: index });
        }
    }
    let extent = match claim::fit(number, kind, &header) {
        Ok(extent) => extent,
        Err(reason) => return reject(reason),
    };
    match claim::pass(number, kind, &Cells { tail: extent.tail, ..header }) {
        Ok(()) => Decision::Record { kind: number, content, extent, notice: None },
        Err(reason) => reject(reason),
    }
}

/// What is read of a frame. Of a text with a checksum at its end, that is what stands before it: up to the last byte covered.
#[inline(always)]
fn content(frame: &Frame, framed: &Framed, length: usize) -> (u32, u32) {
    match (&frame.cut, &frame.check) {
        (Cut::Text { .. }, Some(check)) if matches!(check.at, Edge::Back(_)) => {
            let end = check.to.in_frame(length).map_or(0, |last| last + 1);
            (0, end as u32)
        }
        _ => framed.content,
    }
}

#[inline(always)]
fn long_sentence(frame: &Frame, bytes: &[u8]) -> Option<NoticeKind> {
    let long = matches!(frame.cut, Cut::Sentence { .. }) && bytes.len() + 2 > cut::STANDARD_LENGTH;
    long.then_some(NoticeKind::LongSentence { length: bytes.len() as u32 })
}
