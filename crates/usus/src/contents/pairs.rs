//! Values behind keys: `temp=21.5 hum=40 name="west gate"`.

use super::apart::{plain, quoted};
use crate::format::Repeated;
use crate::framing::Columns;
use crate::plan::{Apart, Pairs};
use crate::reason::Reason;

/// Writes down where the value of each label is, and then where columns without a key are. Says whether there are doubled quotes in them.
pub(super) fn split(
    number: u16,
    rules: &Apart,
    pairs: &Pairs,
    text: &[u8],
    lead: usize,
    columns: &mut Columns,
) -> Result<bool, Reason> {
    columns.clear();
    for _ in 0..Pairs::FIRST + pairs.labels.len() {
        columns.add_absent();
    }
    let (mut at, mut doubled, mut next) = (0, false, 0);
    while let Some(rest) = text.get(at..) {
        if rules.joined
            && let Some(length) = rules.separates(rest)
        {
            at += length;
            continue;
        }
        if rest.is_empty() && (rules.joined || at == 0) {
            break;
        }
        let before = rest.get(..plain(rules, rest)).unwrap_or(rest);
        let assigned = memchr::memmem::find(before, &pairs.assign);
        let behind = at + assigned.map_or(0, |place| place + pairs.assign.len());
        let value = text.get(behind..).unwrap_or_default();
        let (from, to, end) = match rules.quote.filter(|quote| value.first() == Some(quote)) {
            Some(quote) => {
                let inside = value.get(1..).unwrap_or_default();
                let (length, has_doubled) = quoted(quote, inside).ok_or(Reason::OpenQuote { frame: number })?;
                doubled |= has_doubled;
                (behind + 1, behind + 1 + length, behind + length + 2)
            }
            None => (behind, at + before.len(), at + before.len()),
        };
        match assigned.and_then(|length| before.get(..length)) {
            None => columns.add_apart(lead + from, lead + to),
            Some(key) => {
                let label = pairs.place(key.trim_ascii(), next);
                let column = match label {
                    Some(place) => Pairs::FIRST + place,
                    None => Pairs::UNKNOWN,
                };
                next = label.map_or(next, |label| label + 1);
                let repeated = !columns.is_absent(column);
                match pairs.repeated {
                    _ if !repeated => columns.set_apart(column, lead + from, lead + to),
                    _ if label.is_none() => {}
                    Repeated::Reject => return Err(Reason::RepeatedKey { frame: number, at: (lead + at) as u32 }),
                    Repeated::First => {}
                    Repeated::Last => columns.set_apart(column, lead + from, lead + to),
                }
            }
        }
        match text.get(end..) {
            None | Some([]) => break,
            Some(rest) => match rules.separates(rest) {
                Some(length) => at = end + length,
                None => return Err(Reason::BehindQuote { frame: number }),
            },
        }
    }
    Ok(doubled)
}
