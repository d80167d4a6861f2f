//! What becomes of a frame: a record, nothing by declaration, or a reject.

use alloc::vec::Vec;

use crate::check::{self, Whole};
use crate::claim::{Choices, Extent};
use crate::contents::{Headings, cells, fit, lay_out, spread, walk};
use crate::event::NoticeKind;
use crate::framing::{Behind, CheckState, Columns, Contents, Ended, Framed, Scan, sent_before};
use crate::limits;
use crate::plan::{Burst, Check, CheckPlace, Choice, Frame, Framing, Inner, Kind};
use crate::reason::Reason;
use crate::record::Otherwise;

/// What becomes of a frame.
pub(super) enum Decision {
    Record {
        kind: u16,
        extent: Extent,
        notice: Option<NoticeKind>,
        check: CheckState,
    },
    Ignored {
        ignore: u16,
    },
    Reject {
        reason: Reason,
        clipped: bool,
    },
    /// Stages look at it first, and it goes on as that kind.
    Open {
        kind: u16,
        check: CheckState,
        otherwise: Otherwise,
    },
}

/// Decides about a frame.
#[inline(always)]
pub(super) fn decide(
    plan: &Inner,
    framed: &mut Framed,
    frame_on: &[u8],
    length: usize,
    behind: Behind,
    scan: &mut Scan,
    headings: &mut Headings,
) -> Decision {
    let frame = &plan.frames[usize::from(framed.frame)];
    // Nothing but a checksum tells that all of a text is there.
    let tells_its_start = !matches!(frame.framing, Framing::Text(_) | Framing::Burst(_));
    let (contents, _) = framed.contents.of(frame_on, &scan.decoded);
    let is_undecoded = !frame.coding.is_empty() && matches!(framed.contents, Contents::Lie(..));
    let tested = match frame.begins_line(contents) {
        true if is_undecoded => Err(Reason::Coding { frame: framed.frame }),
        true => test(frame, framed, whole(frame, contents, &frame_on[..length])),
        // No frame's lines begin so.
        false => Err(Reason::NoStart),
    };
    let (fits, is_burst) = match &frame.framing {
        Framing::Burst(burst) => (burst.length == Some(length), true),
        _ => (false, false),
    };
    let tested = match (&frame.framing, tested) {
        (Framing::Burst(Burst { length: Some(_), .. }), Ok(_)) if !fits => {
            Err(Reason::Length { frame: framed.frame, found: length as u64 })
        }
        (_, tested) => tested,
    };
    let vouched = tells_its_start || tested == Ok(CheckState::Holds) || (fits && tested.is_ok());
    if !vouched {
        if framed.ended == Ended::Closed {
            return Decision::Reject { reason: Reason::CutShort { frame: framed.frame }, clipped: true };
        }
        // The first burst of a recording may have begun before it.
        if behind == Behind::Loss || (is_burst && behind == Behind::Start) {
            return Decision::Reject { reason: Reason::BegunBefore, clipped: true };
        }
    }
    let checked = tested.ok();
    let decision = match tested {
        Ok(check) => {
            let Scan { columns, choices, decoded, .. } = scan;
            claim(plan, framed, frame, frame_on, check, (columns, decoded, headings), choices)
        }
        Err(reason) => Decision::Reject { reason, clipped: false },
    };
    match decision {
        Decision::Record { kind, extent, check, .. } => {
            let begun_before = !vouched && behind == Behind::Start;
            let notice = begun_before.then_some(NoticeKind::MaybeBegunBefore).or(long_sentence(frame, length));
            Decision::Record { kind, extent, notice, check }
        }
        Decision::Ignored { ignore } => match (&frame.open, checked) {
            (Some(open), Some(check)) => {
                Decision::Open { kind: open.kind, check, otherwise: Otherwise::Ignored(ignore) }
            }
            _ => Decision::Ignored { ignore },
        },
        Decision::Reject { reason, .. } => {
            let is_clipped = !tells_its_start && behind == Behind::Start;
            if let (Some(open), Some(check)) = (&frame.open, checked) {
                let reason = if is_clipped { Reason::BegunBefore } else { reason };
                let otherwise = Otherwise::Rejected { reason, clipped: is_clipped };
                return Decision::Open { kind: open.kind, check, otherwise };
            }
            if is_clipped {
                return Decision::Reject { reason: Reason::BegunBefore, clipped: true };
            }
            // What a search found wrong in a text says more than that no record claims it.
            let reason = match (reason, scan.tried.filter(|_| !tells_its_start)) {
                (Reason::Unclaimed { .. }, Some(tried)) => tried,
                _ => reason,
            };
            Decision::Reject { reason, clipped: false }
        }
        open @ Decision::Open { .. } => open,
    }
}

/// A text or a burst as its checksum is tested on it.
fn whole<'f>(frame: &Frame, contents: &'f [u8], sent: &'f [u8]) -> Whole<'f> {
    let before = match &frame.check {
        Some(Check { over_sent: true, place: CheckPlace::In(edge), .. }) => {
            sent_before(&frame.coding, edge.in_frame(contents.len()).unwrap_or(0), sent)
        }
        _ => sent,
    };
    Whole { contents, frame: sent, sent: before }
}

/// Tests the checksum of a text; searches have done so before they called it a frame.
#[inline(always)]
fn test(frame: &Frame, framed: &Framed, sent: Whole<'_>) -> Result<CheckState, Reason> {
    match (framed.check, &frame.check) {
        (CheckState::Untested, Some(check)) if check.mark.is_some() && check.marked(sent.contents).is_none() => {
            if check.optional { Ok(CheckState::Absent) } else { Err(Reason::ChecksumAbsent { frame: framed.frame }) }
        }
        (CheckState::Untested, Some(check)) => {
            check::test(check, sent).map(|()| CheckState::Holds).map_err(|wrong| wrong.reason(framed.frame))
        }
        (CheckState::Untested, None) => Ok(CheckState::Undeclared),
        (check, _) => Ok(check),
    }
}

#[inline(always)]
fn claim(
    plan: &Inner,
    framed: &mut Framed,
    frame: &Frame,
    frame_on: &[u8],
    check: CheckState,
    (columns, decoded, headings): (&mut Columns, &mut Vec<u8>, &mut Headings),
    choices: &mut Choices,
) -> Decision {
    let reject = |reason| Decision::Reject { reason, clipped: false };
    if frame.splits {
        match lay_out(framed.frame, frame, &frame.separation, framed.contents, frame_on, decoded, columns) {
            Ok(contents) => framed.contents = contents,
            Err(reason) => return reject(reason),
        }
    } else {
        columns.clear();
    }
    let (contents, wide) = framed.contents.of(frame_on, decoded);
    let choice = match framed.choice {
        Choice::Undecided => {
            let header = cells(frame, contents, wide, columns);
            choices.choose(plan, framed.frame, frame, &header, contents.len())
        }
        decided => decided,
    };
    if frame.has_forms
        && let Choice::Kind(kind) = choice
        && plan.kinds[usize::from(kind)].form.is_some()
    {
        if !frame.header_splits {
            columns.clear();
        }
        columns.add_found(&choices.forms.found);
    }
    if let Choice::Kind(kind) = choice
        && let Some(separation) = &plan.kinds[usize::from(kind)].separation
    {
        match lay_out(framed.frame, frame, separation, framed.contents, frame_on, decoded, columns) {
            Ok(contents) => framed.contents = contents,
            Err(reason) => return reject(reason),
        }
    }
    let (contents, wide) = framed.contents.of(frame_on, decoded);
    if let Choice::Kind(kind) = choice
        && let Some(gaps) = &plan.kinds[usize::from(kind)].gaps
    {
        spread(gaps, cells(frame, contents, wide, &[]).bytes, contents.len(), columns);
    }
    if let Choice::Kind(kind) = choice
        && let Kind { heading: Some(heading), shape, .. } = &plan.kinds[usize::from(kind)]
        && let Err(reason) = headings.spread(kind, heading, shape.more, columns)
    {
        return reject(reason);
    }
    if let Choice::Kind(kind) = choice
        && let Kind { parts: Some(parts), shape, .. } = &plan.kinds[usize::from(kind)]
        && let Err(reason) = walk(kind, parts, contents, shape.back, columns)
    {
        return reject(reason);
    }
    let cells = cells(frame, contents, wide, columns);
    match choice {
        Choice::Kind(kind) => match fit(plan, framed.frame, frame, kind, check, &cells) {
            Ok(extent) => {
                let Kind { names_columns, record, .. } = plan.kinds[usize::from(kind)];
                if names_columns {
                    headings.learn(plan, record, &cells, frame.separation.places());
                }
                Decision::Record { kind, extent, notice: None, check }
            }
            Err(reason) => reject(reason),
        },
        Choice::Ignore(ignore) => Decision::Ignored { ignore },
        Choice::Unclaimed | Choice::Undecided => reject(Reason::Unclaimed { frame: framed.frame }),
    }
}

#[inline(always)]
fn long_sentence(frame: &Frame, length: usize) -> Option<NoticeKind> {
    // Its line end counts, too.
    let length = length + 2;
    let long = matches!(frame.framing, Framing::Sentence(_)) && length > limits::STANDARD_SENTENCE;
    long.then_some(NoticeKind::LongSentence { length: length as u32 })
}
