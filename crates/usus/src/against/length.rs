//! Whether packets are longer or shorter than declared: with which length one begins where another ends, or more checksums hold.

use alloc::vec::Vec;
use core::convert::Infallible;

use super::recording::Recording;
use super::{Proposal, Wrong, lenient};
use crate::compile;
use crate::format::{Cut, Field, FieldType, Format, Length, LengthField, Place, Record};
use crate::integer::{Integer, Order};
use crate::record;
use crate::sink::Sink;

/// Bytes that each length is tried on.
const TRIED: usize = 1 << 16;

/// Lengths that are tried of all frames.
const TRIES: usize = 160;

/// How far off a length may be.
const MOST: i64 = 24;

/// What packets of a length come to.
#[derive(Clone, Copy, Default)]
struct Tally {
    frames: u64,
    /// Those that begin where another ended.
    joined: u64,
    ended: Option<u64>,
}

impl Sink for Tally {
    type Error = Infallible;

    fn record(&mut self, record: &record::Record<'_>) -> Result<(), Infallible> {
        self.frames += 1;
        self.joined += u64::from(self.ended == Some(record.offset()));
        self.ended = Some(record.offset() + record.frame().len() as u64);
        Ok(())
    }
}

/// The length that a frame's packets seem to have, if that is another than declared; and the format with it.
pub(super) fn search(format: &Format, frame: usize, recording: &Recording) -> Option<(Proposal, Format)> {
    let Cut::Packet { start, length: declared, .. } = &format.frames[frame].cut else { return None };
    let start = start.length();
    let mut lengths = others(declared);
    // Each is compiled and tried: where there are many frames, only what is nearest.
    lengths.truncate(TRIES / format.frames.len().max(1));
    let has_check = !format.frames[frame].checksums.is_empty();
    let bare = bare(format, frame);
    let (now, now_loose) = (tried(&bare, declared, recording, false), tried(&bare, declared, recording, true));
    if now_loose.joined * 2 > now_loose.frames {
        // Each begins where another ends: that is no accident.
        return None;
    }
    let width = bare.frames[0].checksums.first().map_or(0, |check| 8 * check.form.size());
    let mut best: Option<(f64, u64, u64, &Length)> = None;
    for other in &lengths {
        let strict = if has_check { tried(&bare, other, recording, false).frames } else { 0 };
        let (bits, holds, instead) = if strict >= 3 && strict > 2 * now.frames && strict * 3 > now_loose.frames {
            (strict as f64 * width as f64 - 8.0, strict, now.frames)
        } else {
            let loose = tried(&bare, other, recording, true);
            let is_better =
                loose.joined >= 3 && loose.joined > 2 * now_loose.joined + 2 && loose.joined * 2 > loose.frames;
            if !is_better {
                continue;
            }
            // Each begins where it has to.
            (loose.joined as f64 * 8.0 * start as f64 - 8.0, loose.joined, now_loose.joined)
        };
        if best.as_ref().is_none_or(|(known, ..)| bits > *known) {
            best = Some((bits, holds, instead, other));
        }
    }
    let (bits, holds, now, length) = best?;
    let mut changed = format.clone();
    if let Cut::Packet { length: changed, .. } = &mut changed.frames[frame].cut {
        *changed = length.clone();
    }
    let proposal = Proposal {
        wrong: Wrong::Length,
        place: alloc::format!("frame {}", format.frames[frame].name),
        declared: alloc::format!("length = {}", crate::format::length_text(declared)),
        proposed: alloc::format!("length = {}", crate::format::length_text(length)),
        holds,
        now,
        of: holds.max(now),
        bits,
        open: None,
        also: Vec::new(),
    };
    Some((proposal, changed))
}

/// Lengths that differ a little from the declared one.
fn others(length: &Length) -> Vec<Length> {
    let off = (1..=MOST).flat_map(|off| [off, -off]);
    match length {
        Length::Fixed(length) => {
            let other = |off: i64| usize::try_from(length.value as i64 + off).ok().filter(|length| *length > 0);
            off.filter_map(other).map(|other| Length::Fixed(other.into())).collect()
        }
        Length::Fields(fields) => {
            let [field @ LengthField { past: None, .. }] = &**fields else { return Vec::new() };
            let swapped = match field.kind {
                FieldType::Integer(integer @ Integer { bytes: 2.., order: Order::Big, .. }) => {
                    Some(Integer { order: Order::Little, ..integer })
                }
                FieldType::Integer(integer @ Integer { bytes: 2.., order: Order::Little, .. }) => {
                    Some(Integer { order: Order::Big, ..integer })
                }
                _ => None,
            };
            let with = |kind: FieldType, add: i64| {
                Length::Fields([LengthField { kind, add: field.add + add, ..field.clone() }].into())
            };
            let kinds = [Some(field.kind), swapped.map(FieldType::Integer)];
            let mut all: Vec<Length> = off.clone().map(|off| with(field.kind, off)).collect();
            if let Some(kind) = kinds[1] {
                all.insert(0, with(kind, 0));
                all.extend(off.map(|off| with(kind, off)));
            }
            all
        }
        Length::Record | Length::ToEnd => Vec::new(),
    }
}

/// A format of one frame, whatever its records are.
pub(super) fn bare(format: &Format, frame: usize) -> Format {
    let mut bare = format.clone();
    let mut frame = bare.frames[frame].clone();
    frame.header.clear();
    frame.inside = None;
    frame.read = Some(crate::format::Read::Bytes.into());
    frame.separators.clear();
    (frame.assign, frame.quote, frame.joined) = (None, None, false);
    frame.charsets.clear();
    // What stands behind the start and the length, whatever it is.
    let from = match &frame.cut {
        Cut::Packet { start, length: Length::Fields(fields), .. } => {
            let ends = fields.iter().map(|field| field.byte + compile::length_size(field));
            ends.fold(start.length(), usize::max)
        }
        Cut::Packet { start, .. } | Cut::Text { start: Some(start), .. } => start.length(),
        _ => 0,
    };
    let field =
        Field { kind: Some(FieldType::Bytes.into()), place: Place::Byte((from as i64).into()), ..Field::new("data") };
    let mut record = Record::new("any");
    record.fields.push(field);
    bare.frames = [frame].into();
    bare.records = [record].into();
    bare.ignores.clear();
    bare.examples.clear();
    (bare.multiparts, bare.exchanges, bare.merges) = (Vec::new(), Vec::new(), Vec::new());
    bare
}

/// What packets of a length come to.
fn tried(bare: &Format, length: &Length, recording: &Recording, loose: bool) -> Tally {
    let mut format = bare.clone();
    if let Cut::Packet { length: declared, .. } = &mut format.frames[0].cut {
        *declared = length.clone();
    }
    let plan = match loose {
        true => lenient(&format),
        false => compile::plan(&format).ok(),
    };
    let mut cut = Tally::default();
    if let Some(plan) = plan {
        recording.play(&plan, TRIED, &mut cut);
    }
    cut
}
