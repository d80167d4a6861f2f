//! Columns that may not be there amid others: which of those found are which.

use crate::claim::operand;
use crate::expression::Operand;
use crate::framing::Columns;
use crate::plan::{Gaps, Named, There};
use crate::read::Cells;
use crate::value::Decimal;

/// Lays the columns found of a text out as if all that a record declares were there. Those that are not are marked as absent; behind one that is missing
/// where it has to be, nothing is laid out.
pub(crate) fn spread(gaps: &Gaps, bytes: &[u8], length: usize, columns: &mut Columns) {
    let found = columns.set_aside();
    let (mut next, mut run_ended) = (0, false);
    for part in &gaps.parts {
        let left = found - next;
        let there = match &part.there {
            There::Always => true,
            There::If(condition) => condition.test(&|name| match name {
                Named::Field(field) => {
                    let cells = Cells { bytes, wide: bytes, columns, tail: 0 };
                    gaps.fields.get(usize::from(*field)).map_or(Operand::Absent, |field| operand(field, &cells, 0))
                }
                Named::Length => Operand::Number(Decimal::from_unsigned(length as u64)),
                Named::Columns => Operand::Number(Decimal::from_unsigned(found as u64)),
                Named::Ask(_) => Operand::Absent,
            }),
            There::Counted { behind } => {
                // The first ones of several are there as long as there are enough.
                run_ended |= left < part.columns + behind;
                !run_ended
            }
        };
        if there && left < part.columns {
            break;
        }
        for _ in 0..part.columns {
            if there {
                columns.bring_back(next);
                next += 1;
            } else {
                columns.add_absent();
            }
        }
    }
    (next..found).for_each(|column| columns.bring_back(column));
}
