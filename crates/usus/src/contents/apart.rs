//! Columns with more between them than one byte: several separators, some in a row that are one, quoted columns.

use alloc::vec::Vec;

use super::pairs;
use crate::framing::{Columns, Contents};
use crate::plan::{Apart, Begins, Frame};
use crate::reason::Reason;

/// Finds the columns of a frame's contents. Those with doubled quotes are put right in a copy of them, where everything else stays in its place.
#[inline(never)]
pub(super) fn lay_out(
    number: u16,
    frame: &Frame,
    rules: &Apart,
    contents: Contents,
    frame_on: &[u8],
    decoded: &mut Vec<u8>,
    columns: &mut Columns,
) -> Result<Contents, Reason> {
    let (all, _) = contents.of(frame_on, decoded);
    let text = frame.text(all);
    let doubled = match &rules.pairs {
        None => split(number, rules, text, frame.lead, columns)?,
        Some(pairs) => pairs::split(number, rules, pairs, text, frame.lead, columns)?,
    };
    let (Some(quote), true) = (rules.quote, doubled) else { return Ok(contents) };
    let length = all.len();
    if let Contents::Lie(from, to) = contents {
        decoded.clear();
        decoded.extend_from_slice(frame_on.get(from as usize..to as usize).unwrap_or_default());
    }
    undouble(quote, decoded, columns);
    Ok(Contents::Decoded(length as u32))
}

/// Writes down where columns are. Says whether there are doubled quotes in them.
fn split(number: u16, rules: &Apart, text: &[u8], lead: usize, columns: &mut Columns) -> Result<bool, Reason> {
    columns.clear();
    let (mut at, mut doubled) = (0, false);
    loop {
        if rules.joined {
            while let Some(length) = rules.separates(text.get(at..).unwrap_or_default()) {
                at += length;
            }
            if at == text.len() {
                return Ok(doubled);
            }
        }
        let rest = text.get(at..).unwrap_or_default();
        let begin = at;
        let (from, to) = match rules.quote.filter(|quote| rest.first() == Some(quote)) {
            Some(quote) => {
                let inside = rest.get(1..).unwrap_or_default();
                let (length, has_doubled) = quoted(quote, inside).ok_or(Reason::OpenQuote { frame: number })?;
                doubled |= has_doubled;
                at += length + 2;
                (begin + 1, begin + 1 + length)
            }
            None => {
                at += plain(rules, rest);
                (begin, at)
            }
        };
        columns.add_apart(lead + from, lead + to);
        match text.get(at..) {
            None | Some([]) => return Ok(doubled),
            Some(rest) => match rules.separates(rest) {
                Some(length) => at += length,
                None => return Err(Reason::BehindQuote { frame: number }),
            },
        }
        // A text that ends with a separator has one more column with nothing in it.
    }
}

/// The length of what stands before the next separator.
pub(super) fn plain(rules: &Apart, text: &[u8]) -> usize {
    let mut at = 0;
    while let Some(rest) = text.get(at..) {
        match rest.iter().position(|byte| rules.begins[usize::from(*byte)] != Begins::None) {
            None => break,
            Some(place) => {
                at += place;
                if rules.separates(text.get(at..).unwrap_or_default()).is_some() {
                    return at;
                }
                at += 1;
            }
        }
    }
    text.len()
}

/// The length of what stands before the quote that closes, and whether there are doubled ones in it; nothing if none closes.
pub(super) fn quoted(quote: u8, text: &[u8]) -> Option<(usize, bool)> {
    let (mut at, mut doubled) = (0, false);
    loop {
        at += memchr::memchr(quote, text.get(at..)?)?;
        if text.get(at + 1) != Some(&quote) {
            return Some((at, doubled));
        }
        doubled = true;
        at += 2;
    }
}

/// Leaves one of two quotes in a row in those columns that stand in quotes.
fn undouble(quote: u8, text: &mut [u8], columns: &mut Columns) {
    for [begin, behind] in columns.apart() {
        let (from, to) = (usize::from(*begin), usize::from(*behind).saturating_sub(1));
        if from.checked_sub(1).and_then(|before| text.get(before)) != Some(&quote) {
            continue;
        }
        let (mut read, mut written) = (from, from);
        while read < to {
            text[written] = text[read];
            read += if text[read] == quote { 2 } else { 1 };
            written += 1;
        }
        *behind = written as u16 + 1;
    }
}
