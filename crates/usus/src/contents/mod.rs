//! The contents of a frame, laid out for reading, and fitted to a record: its checksum, its constants, its shape, and the fields that decide.

mod again;
mod apart;
mod gaps;
mod heading;
mod pairs;
mod parts;

use alloc::vec::Vec;

use crate::claim::{self, Extent};
use crate::framing::{self, CheckState, Columns, Contents};
use crate::plan::{CheckPlace, Edge, Frame, Inner, Reading, Separation, ShapeUnit};
use crate::read::Cells;
use crate::reason::Reason;
pub(crate) use again::{Ask, Before, Laying, Sent, lay_out_as};
pub(crate) use gaps::spread;
pub(crate) use heading::Headings;
pub(crate) use parts::walk;

/// Finds the columns of a frame's contents, which may be decoded for it. Says where they are then.
///
/// # Errors
///
/// Quotes that do not close where they have to.
#[inline(always)]
pub(crate) fn lay_out(
    number: u16,
    frame: &Frame,
    separation: &Separation,
    contents: Contents,
    frame_on: &[u8],
    decoded: &mut Vec<u8>,
    columns: &mut Columns,
) -> Result<Contents, Reason> {
    match separation {
        Separation::Byte(byte) => {
            let (all, _) = contents.of(frame_on, decoded);
            framing::split(frame.text(all), *byte, frame.lead, columns);
            Ok(contents)
        }
        Separation::Apart(rules) => apart::lay_out(number, frame, rules, contents, frame_on, decoded, columns),
    }
}

/// A frame laid out for reading.
#[inline(always)]
pub(crate) fn cells<'a>(frame: &Frame, contents: &'a [u8], wide: &'a [u8], columns: &'a [u16]) -> Cells<'a> {
    Cells { bytes: frame.read(contents), wide, columns, tail: 0 }
}

/// The same, from where the contents are.
#[inline(always)]
pub(crate) fn cells_of<'a>(
    frame: &Frame,
    contents: Contents,
    frame_on: &'a [u8],
    decoded: &'a [u8],
    columns: &'a [u16],
) -> Cells<'a> {
    let (contents, wide) = contents.of(frame_on, decoded);
    cells(frame, contents, wide, if frame.has_columns { columns } else { &[] })
}

/// Fits a frame to the record that claims it: its checksum, its constants, its shape, and the fields that decide.
#[inline(always)]
pub(crate) fn fit(
    plan: &Inner,
    number: u16,
    frame: &Frame,
    kind_number: u16,
    check: CheckState,
    cells: &Cells<'_>,
) -> Result<Extent, Reason> {
    let kind = &plan.kinds[usize::from(kind_number)];
    if check == CheckState::Absent && kind.checksum_required {
        return Err(Reason::ChecksumAbsent { frame: number });
    }
    for &index in &frame.constants {
        let field = &frame.header[usize::from(index)];
        if field.equals.as_ref().is_some_and(|constant| !cells.equals(&field.field, 0, constant)) {
            return Err(Reason::Constant { frame: number, field: index });
        }
    }
    let length = cells.bytes.len();
    if matches!(kind.shape.unit, ShapeUnit::Bytes | ShapeUnit::Parts) && !kind.shape.admits(length) {
        return Err(Reason::Length { frame: number, found: length as u64 });
    }
    let extent = claim::fit(kind_number, kind, cells)?;
    claim::pass(kind_number, kind, &Cells { tail: extent.tail, ..*cells }, extent.count as usize)?;
    Ok(extent)
}

impl Frame {
    /// Whether its columns are those that a framing notes on its way: side by side, from the begin of the contents on.
    #[inline(always)]
    pub(crate) fn has_simple_columns(&self) -> bool {
        matches!(self.separation, Separation::Byte(_)) && self.lead == 0
    }

    /// What is read of the contents: all bytes, or the text before a checksum.
    #[inline(always)]
    fn read<'c>(&self, contents: &'c [u8]) -> &'c [u8] {
        match (&self.check, self.reading) {
            (Some(check), Reading::Text) if check.place == CheckPlace::Marked => {
                contents.get(..check.marked(contents).unwrap_or(contents.len())).unwrap_or_default()
            }
            (Some(check), Reading::Text) if matches!(check.place, CheckPlace::In(Edge::Back(_))) => {
                let end = check.to.in_frame(contents.len()).map_or(0, |last| last + 1);
                contents.get(..end).unwrap_or_default()
            }
            _ => contents,
        }
    }

    /// The text whose columns are told apart.
    fn text<'c>(&self, contents: &'c [u8]) -> &'c [u8] {
        self.read(contents).get(self.lead..).unwrap_or_default()
    }
}
