//! What the records of a frame mean for it: the lengths there can be, and which bytes decide what claims it.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::Draft;
use super::frame::raw_size;
use crate::claim::{self, Forms};
use crate::format::{self, Format};
use crate::integer::Integer;
use crate::limits;
use crate::plan::{
    At, Choice, ChoiceKey, Count, Frame, Framing, Ignore, Kind, Length, Named, Raw, Reading, ShapeUnit, Stuffing,
    fixed_packets,
};
use crate::problem::{ProblemKind, Problems};
use crate::read::Cells;

/// Works out what a frame's records mean for its cut: the lengths there can be.
pub(super) fn finish_frame(
    format: &Format,
    declared: &format::Frame,
    mut draft: Draft,
    kinds: &[Kind],
    ignores: &[Ignore],
    problems: &mut Problems,
) -> Frame {
    draft.frame.key = choice_key(&draft.frame, kinds, ignores);
    let constants = draft.frame.header.iter().enumerate().filter(|(_, field)| field.equals.is_some());
    let has_series = draft.frame.kinds.iter().any(|kind| !kinds[usize::from(*kind)].series.is_empty());
    let is_read = !draft.frame.kinds.is_empty() || draft.frame.open.is_some();
    if !has_series && is_read {
        draft.frame.counters.clone_from(&draft.sheet.counters);
    }
    draft.frame.constants = constants.map(|(index, _)| index as u16).collect();
    let cap = format.limits.frame.unwrap_or(limits::FRAME);
    let check = draft.frame.check.as_ref();
    let least_contents = draft.lengths.iter().map(|(least, _)| *least);
    // Frames that no record claims may be as long as the longest that one does, unless the format says more.
    let varying = draft.lengths.iter().any(|(_, varying)| *varying);
    let longest = if varying { None } else { least_contents.clone().max().filter(|_| format.limits.frame.is_none()) };
    let read_as_text = draft.frame.reading == Reading::Text;
    let is_coded = !draft.frame.coding.is_empty();
    if matches!(&draft.frame.framing, Framing::Packet(packet) if matches!(packet.length, Length::Record)) {
        draft.frame.needs_known_lengths(kinds, declared, problems);
    }
    match &mut draft.frame.framing {
        Framing::Packet(packet) => {
            let behind = packet.end.as_ref().map_or(0, |end| end.length() + packet.behind);
            let check_in = check.map_or(0, |check| check.form.size()).saturating_sub(packet.behind);
            packet.longest = match (&packet.length, longest) {
                (Length::Fixed(length), _) => *length,
                (Length::ToEnd, _) if read_as_text => (format.limits.line + behind).min(limits::FRAME),
                (Length::Field { integer, add, .. }, None) => {
                    largest_value(*integer).saturating_add_signed(*add as isize).min(cap)
                }
                (Length::Field { integer, add, .. }, Some(_)) if read_as_text => {
                    largest_value(*integer).saturating_add_signed(*add as isize).min(cap)
                }
                (Length::ToEnd, _) if is_coded => (format.limits.line + behind).min(limits::FRAME),
                (_, Some(longest)) => (longest + behind).min(cap),
                (Length::ToEnd | Length::Fields(_) | Length::Past(_) | Length::Record, None) => cap,
            };
            if is_coded {
                // What is told by the header is known once it is decoded.
                packet.header = packet.start.length();
            }
            packet.shortest = packet.header.max(packet.start.length() + check_in) + behind;
            if let (Length::ToEnd, Some(least), false) = (&packet.length, least_contents.min(), is_coded) {
                packet.shortest = packet.shortest.max((least + behind).min(packet.longest));
            }
        }
        Framing::Stuffed(stuffed) => {
            let longest = longest.filter(|_| !read_as_text).unwrap_or(cap).min(cap);
            stuffed.longest = match stuffed.stuffing {
                // Each byte may be sent as two, between two delimiters.
                Stuffing::Slip | Stuffing::Hdlc => 2 * longest + 2,
                // One byte more for each block, and one that ends the last.
                Stuffing::Cobs => longest + longest / 254 + 4,
            };
        }
        Framing::Dle(dle) => {
            let longest = longest.filter(|_| !read_as_text).unwrap_or(cap).min(cap);
            dle.longest = 2 * longest + 4 + dle.behind;
        }
        Framing::Burst(burst) => {
            burst.limit = burst.length.or(longest.filter(|_| !read_as_text)).unwrap_or(cap).min(cap);
        }
        Framing::Text(_) | Framing::Sentence(_) | Framing::Modbus(_) => {}
    }
    let fixed = match &draft.frame.framing {
        Framing::Packet(packet) => fixed_packets(packet, &draft.frame, kinds),
        _ => None,
    };
    if let Framing::Packet(packet) = &mut draft.frame.framing {
        packet.fixed = fixed;
    }
    draft.frame
}

impl Frame {
    /// Reports records whose lengths are not known from the begin of a frame.
    fn needs_known_lengths(&self, kinds: &[Kind], declared: &format::Frame, problems: &mut Problems) {
        let is_known = |kind: &u16| {
            let shape = &kinds[usize::from(*kind)].shape;
            shape.unit == ShapeUnit::Bytes && (shape.item == 0 || matches!(shape.count, Count::Field(_)))
        };
        let own = self.open.iter().flat_map(|open| &open.layouts);
        if self.reading == Reading::Text || !self.kinds.iter().chain(own).all(is_known) {
            let why = "`length = \"record\"` is for records whose lengths are fixed, or told by the count of a group whose items are alike";
            problems.add(declared.span.clone(), ProblemKind::Senseless(why));
        }
    }
}

/// Which bytes decide what claims a frame: those of the header fields that its conditions name.
fn choice_key(frame: &Frame, kinds: &[Kind], ignores: &[Ignore]) -> ChoiceKey {
    if frame.has_forms {
        return ChoiceKey::Unknown;
    }
    let mut named = Vec::new();
    let of_kinds = frame.kinds.iter().filter_map(|kind| kinds[usize::from(*kind)].when.as_ref());
    let of_ignores = frame.ignores.iter().filter_map(|ignore| ignores[usize::from(*ignore)].when.as_ref());
    for when in of_kinds.chain(of_ignores) {
        when.names(&mut |name| named.push(*name));
    }
    let fields = named.iter().map(|name| match name {
        Named::Field(field) => frame.header.get(usize::from(*field)).map(|field| &field.field),
        Named::Length | Named::Columns | Named::Ask(_) => None,
    });
    let Some(named) = fields.collect::<Option<Vec<_>>>() else { return ChoiceKey::Unknown };
    if frame.reading == Reading::Bytes {
        let places = named.iter().map(|field| match (field.at, raw_size(&field.raw)) {
            (At::Front(from), Some(size)) => Some((from, from + size)),
            _ => None,
        });
        let Some(places) = places.collect::<Option<Vec<_>>>() else { return ChoiceKey::Unknown };
        let from = places.iter().map(|(from, _)| *from).min().unwrap_or(0);
        let to = places.iter().map(|(_, to)| *to).max().unwrap_or(0);
        return match to - from {
            0 | 1 => ChoiceKey::Byte { at: from, choices: choices_by(from, frame, kinds, ignores) },
            2..=8 => ChoiceKey::Bytes { from, to },
            _ => ChoiceKey::Unknown,
        };
    }
    if named.is_empty() {
        let cells = Cells { bytes: &[], wide: &[], columns: &[], tail: 0 };
        return ChoiceKey::Nothing(claim::choose(kinds, ignores, frame, &cells, 0, &mut Forms::default()));
    }
    let (mut characters, mut column) = (0, false);
    for field in named {
        match (field.at, &field.raw) {
            (_, Raw::Characters(_, end)) if *end <= 8 => characters = characters.max(*end),
            (At::Front(0), Raw::Columns(1) | Raw::Apart(1)) => column = true,
            _ => return ChoiceKey::Unknown,
        }
    }
    ChoiceKey::Text { characters, column }
}

/// What claims a packet by the values of the one byte that decides.
fn choices_by(at: usize, frame: &Frame, kinds: &[Kind], ignores: &[Ignore]) -> Box<[Choice; 256]> {
    let mut header = alloc::vec![0; at + 1];
    let choices = core::array::from_fn(|byte| {
        header[at] = byte as u8;
        let cells = Cells { bytes: &header, wide: &header, columns: &[], tail: 0 };
        claim::choose(kinds, ignores, frame, &cells, 0, &mut Forms::default())
    });
    Box::new(choices)
}

fn largest_value(integer: Integer) -> usize {
    let bits = u32::from(integer.bytes) * 8 - u32::from(integer.signed);
    if bits >= usize::BITS { usize::MAX } else { (1 << bits) - 1 }
}
