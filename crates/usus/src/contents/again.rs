//! A frame that was kept, laid out anew as another record's layout has it.

use alloc::vec::Vec;

use super::{cells, fit, lay_out, spread, walk};
use crate::claim::{Extent, Forms, looked_at};
use crate::expression::Operand;
use crate::framing::{CheckState, Columns, Contents};
use crate::plan::{Inner, Named};
use crate::reason::Reason;

/// Room to lay frames out in.
#[derive(Clone, Debug, Default)]
pub(crate) struct Laying {
    pub(crate) columns: Columns,
    pub(crate) decoded: Vec<u8>,
    pub(crate) forms: Forms,
    /// How the frame that was laid out last was laid out before.
    pub(crate) before: Before,
    pub(crate) columns_before: Vec<u16>,
    pub(crate) decoded_before: Vec<u8>,
}

/// How a frame was read.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Before {
    pub(crate) kind: u16,
    pub(crate) contents: Contents,
    pub(crate) tail: usize,
    pub(crate) count: u32,
}

impl Default for Before {
    fn default() -> Before {
        Before { kind: 0, contents: Contents::Lie(0, 0), tail: 0, count: 0 }
    }
}

/// What is known of the question to which a frame may be the answer.
#[derive(Clone, Copy)]
pub(crate) enum Ask<'q, 'a> {
    /// There is none.
    Nothing,
    /// It may be any.
    Any,
    /// What this says of its fields.
    Of(&'q dyn Fn(u16) -> Operand<'a>),
}

/// A frame that was kept.
#[derive(Clone, Copy)]
pub(crate) struct Sent<'s> {
    /// Its number.
    pub(crate) frame: u16,
    pub(crate) contents: Contents,
    pub(crate) frame_on: &'s [u8],
    pub(crate) decoded: &'s [u8],
}

/// Lays a frame out by a layout and fits it to that. Where its columns are stands in `room` then. `ask` is the question that conditions may ask.
///
/// # Errors
///
/// It does not fit: with the reason where all but its fields goes with the layout.
pub(crate) fn lay_out_as<'a>(
    plan: &Inner,
    layout: u16,
    sent: &Sent<'_>,
    check: CheckState,
    ask: Ask<'_, 'a>,
    room: &mut Laying,
) -> Result<(Contents, Extent), Option<Reason>> {
    let Some(kind) = plan.kinds.get(usize::from(layout)).filter(|kind| kind.frame == sent.frame) else {
        return Err(None);
    };
    let frame = &plan.frames[usize::from(sent.frame)];
    let Laying { columns, decoded, forms, .. } = room;
    let mut contents = sent.contents;
    columns.clear();
    decoded.clear();
    decoded.extend_from_slice(sent.decoded);
    if frame.splits {
        contents = lay_out(sent.frame, frame, &frame.separation, contents, sent.frame_on, decoded, columns)?;
    }
    let (bytes, wide) = contents.of(sent.frame_on, decoded);
    let header = cells(frame, bytes, wide, columns);
    let holds = kind.when.as_ref().is_none_or(|when| {
        let look = |name: &Named| match (name, ask) {
            (Named::Ask(field), Ask::Of(of)) => of(*field),
            (name, _) => looked_at(name, frame, &header, bytes.len()),
        };
        if matches!(ask, Ask::Any) { when.may_hold(&look) } else { when.test(&look) }
    });
    if !holds || kind.form.as_ref().is_some_and(|form| !forms.fit(form, header.bytes, frame.lead)) {
        return Err(None);
    }
    if kind.form.is_some() {
        if !frame.header_splits {
            columns.clear();
        }
        columns.add_found(&forms.found);
    }
    if let Some(separation) = &kind.separation {
        contents = lay_out(sent.frame, frame, separation, contents, sent.frame_on, decoded, columns)?;
    }
    let (bytes, wide) = contents.of(sent.frame_on, decoded);
    if let Some(gaps) = &kind.gaps {
        spread(gaps, cells(frame, bytes, wide, &[]).bytes, bytes.len(), columns);
    }
    if let Some(parts) = &kind.parts {
        walk(layout, parts, bytes, kind.shape.back, columns)?;
    }
    let laid = cells(frame, bytes, wide, if frame.has_columns { columns } else { &[] });
    let extent = fit(plan, sent.frame, frame, layout, check, &laid)?;
    Ok((contents, extent))
}
