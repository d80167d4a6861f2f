//! Contents that were coded before they were sent: hex digits that are bytes.

use alloc::vec::Vec;

use super::Contents;
use super::unstuff::padded;
use crate::plan::Coding;

/// What the steps make of a frame's contents; nothing if one does not fit.
pub(crate) fn decoded(coding: &[Coding], contents: &[u8], decoded: &mut Vec<u8>) -> Option<Contents> {
    let [step] = coding else { return None };
    let (from, to) = places(step, contents)?;
    decoded.clear();
    decoded.extend_from_slice(&contents[..from]);
    let mut high = None;
    for byte in &contents[from..to] {
        match (char::from(*byte).to_digit(16), high) {
            (Some(digit), None) => high = Some(digit as u8),
            (Some(digit), Some(first)) => {
                decoded.push(first << 4 | digit as u8);
                high = None;
            }
            // Between bytes there may be blanks.
            (None, None) if matches!(byte, b' ' | b'\t') => {}
            (None, _) => return None,
        }
    }
    if high.is_some() {
        return None;
    }
    decoded.extend_from_slice(&contents[to..]);
    Some(padded(decoded))
}

/// The bytes of coded contents from which so many came out at first.
pub(crate) fn sent_before<'c>(coding: &[Coding], count: usize, contents: &'c [u8]) -> &'c [u8] {
    let places = coding.first().and_then(|step| places(step, contents));
    let (from, to) = places.unwrap_or((contents.len(), contents.len()));
    let blanks = |place: usize| {
        let rest = contents.get(place..to).unwrap_or_default();
        rest.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count()
    };
    let (mut place, mut left) = (0, count);
    while left > 0 && place < contents.len() {
        if place == from {
            place += blanks(place);
        }
        // A byte is two digits, and the blanks behind them.
        place += if (from..to).contains(&place) { 2 + blanks(place + 2) } else { 1 };
        left -= 1;
    }
    contents.get(..place.min(contents.len())).unwrap_or_default()
}

/// The first digit, and what is behind the last.
fn places(step: &Coding, contents: &[u8]) -> Option<(usize, usize)> {
    let from = step.from.in_frame(contents.len()).or((contents.is_empty()).then_some(0))?;
    let to = step.to.in_frame(contents.len()).map_or(from, |last| last + 1);
    (from <= to).then_some((from, to))
}
