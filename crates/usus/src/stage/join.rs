//! Joining: records of two kinds that become one where their keys agree.

use alloc::collections::VecDeque;
use alloc::string::ToString;
use alloc::vec::Vec;

use super::Said;
use crate::event::NoticeKind;
use crate::plan::Join;
use crate::reason::Reason;
use crate::record::{Kept, Row};
use crate::time::Time;

/// The records that wait for their other half, the oldest first: which of the two it is, and its key.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Joining(VecDeque<(usize, Vec<u8>, Row)>);

impl Joining {
    pub(super) fn record(&mut self, join: &Join, row: Row, behind: &mut Vec<Said>) {
        if let Some(now) = row.parts.first().and_then(Kept::completed) {
            self.reject_before(now, join, behind);
        }
        let half = usize::from(row.kind != join.kinds[0]);
        let key = key(join, half, &row);
        let known = self.0.iter().position(|(_, known, _)| *known == key);
        match known.and_then(|known| self.0.remove(known)) {
            Some((other_half, _, other)) if other_half != half => {
                let (first, second) = if half == 0 { (row, other) } else { (other, row) };
                let parts = first.parts.into_iter().chain(second.parts).collect();
                behind.push(Said::Record(Row { kind: join.joined, parts, made: Vec::new() }));
                return;
            }
            // The same half again: the one before stays alone.
            Some((_, _, other)) => {
                if let Some(kept) = row.parts.first() {
                    let notice = NoticeKind::CameAgain { kind: row.kind };
                    behind.push(Said::Notice(kept.origin.line, kept.record().offset(), notice));
                }
                reject(other, behind);
            }
            None => {}
        }
        if self.0.len() >= join.most {
            self.reject_oldest(behind);
        }
        self.0.push_back((half, key, row));
    }

    pub(super) fn finish(&mut self, behind: &mut Vec<Said>) {
        while !self.0.is_empty() {
            self.reject_oldest(behind);
        }
    }

    /// Rejects what has waited for longer than declared.
    fn reject_before(&mut self, now: Time, join: &Join, behind: &mut Vec<Said>) {
        while let Some((_, _, row)) = self.0.front()
            && let Some(completed) = row.parts.first().and_then(Kept::completed)
            && completed.after(join.within) < now
        {
            self.reject_oldest(behind);
        }
    }

    fn reject_oldest(&mut self, behind: &mut Vec<Said>) {
        if let Some((_, _, row)) = self.0.pop_front() {
            reject(row, behind);
        }
    }
}

fn reject(row: Row, behind: &mut Vec<Said>) {
    behind.extend(row.parts.into_iter().map(|kept| {
        let kind = kept.kind;
        Said::Reject(kept, Reason::Unmatched { kind })
    }));
}

/// What has to agree, as text.
fn key(join: &Join, half: usize, row: &Row) -> Vec<u8> {
    let value = row.parts.first().map(|kept| kept.record().cells.output(&join.keys[half], 0).value.to_string());
    value.unwrap_or_default().into_bytes()
}
