//! What claims a frame: the first record in the file whose condition holds, else the first ignore; and whether the frame has the
//! shape that the record needs.

mod forms;
mod walk;

use crate::expression::Operand;
use crate::plan::{
    Choice, ChoiceKey, Count, Field, Frame, Gate, Ignore, Inner, ItemGates, Kind, Meaning, Named, Pairs, ShapeUnit,
};
use crate::read::Cells;
use crate::reason::Reason;
use crate::value::{Decimal, Value};

pub(crate) use forms::Forms;

/// Choices made before, by the bytes that decide them: two for each of some places. A cache: it changes speed only.
#[derive(Clone, Debug)]
pub(crate) struct Choices {
    made: [[(Key, Choice); 2]; 32],
    /// What tells how lines look.
    pub(crate) forms: Forms,
}

/// The deciding bytes, and how many they are with the frame's number.
type Key = (u64, u32);

impl Default for Choices {
    fn default() -> Choices {
        // No frame has this number.
        Choices { made: [[((0, u32::MAX), Choice::Undecided); 2]; 32], forms: Forms::default() }
    }
}

impl Choices {
    /// The record or ignore that claims frame number `number`, by its header and the length of its contents.
    #[inline(always)]
    pub(crate) fn choose(
        &mut self,
        plan: &Inner,
        number: u16,
        frame: &Frame,
        header: &Cells<'_>,
        length: usize,
    ) -> Choice {
        match &frame.key {
            ChoiceKey::Nothing(choice) => return *choice,
            ChoiceKey::Byte { at, choices } if let Some(byte) = header.bytes.get(*at) => {
                return choices[usize::from(*byte)];
            }
            _ => {}
        }
        let Some(key) = key(number, frame, header) else {
            return choose(&plan.kinds, &plan.ignores, frame, header, length, &mut self.forms);
        };
        let pair = &mut self.made[(key.0.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 59) as usize];
        for slot in &*pair {
            if slot.0 == key {
                return slot.1;
            }
        }
        let choice = choose(&plan.kinds, &plan.ignores, frame, header, length, &mut self.forms);
        *pair = [(key, choice), pair[0]];
        choice
    }
}

/// The bytes that decide what claims a frame, if they are there and few.
#[inline(always)]
fn key(number: u16, frame: &Frame, header: &Cells<'_>) -> Option<Key> {
    let (from, to) = match frame.key {
        ChoiceKey::Unknown | ChoiceKey::Nothing(_) | ChoiceKey::Byte { .. } => return None,
        ChoiceKey::Bytes { from, to } => (from, to),
        ChoiceKey::Text { characters, column } => {
            // A column is decided by its end, too: the separator behind it belongs to the key.
            let column = if column { *header.columns.get(1)? as usize } else { 0 };
            (0, characters.max(column))
        }
    };
    let length = to - from;
    if length > 8 || to > header.bytes.len() {
        return None;
    }
    let value = match header.wide.get(from..).and_then(|wide| wide.first_chunk::<8>()) {
        // All eight, less those too many.
        Some(eight) if length > 0 => u64::from_be_bytes(*eight) >> (64 - 8 * length),
        _ => header.bytes[from..to].iter().fold(0, |value, byte| value << 8 | u64::from(*byte)),
    };
    Some((value, (length as u32) << 16 | u32::from(number)))
}

/// The record or ignore that claims a frame, by its header. Apart, since nearly always that was found before.
#[inline(never)]
pub(crate) fn choose(
    kinds: &[Kind],
    ignores: &[Ignore],
    frame: &Frame,
    header: &Cells<'_>,
    length: usize,
    forms: &mut Forms,
) -> Choice {
    let look = |name: &Named| looked_at(name, frame, header, length);
    for &number in &frame.kinds {
        let kind = &kinds[usize::from(number)];
        if kind.when.as_ref().is_none_or(|when| when.test(&look))
            && kind.form.as_ref().is_none_or(|form| forms.fit(form, header.bytes, frame.lead))
        {
            return Choice::Kind(number);
        }
    }
    for &number in &frame.ignores {
        let ignore = &ignores[usize::from(number)];
        if ignore.when.as_ref().is_none_or(|when| when.test(&look))
            && ignore.form.as_ref().is_none_or(|form| forms.fit(form, header.bytes, frame.lead))
        {
            return Choice::Ignore(number);
        }
    }
    Choice::Unclaimed
}

/// What a frame's condition sees behind a name.
pub(crate) fn looked_at<'a>(name: &Named, frame: &'a Frame, header: &Cells<'a>, length: usize) -> Operand<'a> {
    match name {
        Named::Field(field) => match frame.header.get(usize::from(*field)) {
            Some(named) => operand(&named.field, header, 0),
            None => Operand::Absent,
        },
        Named::Length => Operand::Number(Decimal::from_unsigned(length as u64)),
        Named::Columns => Operand::Number(Decimal::from_unsigned(frame.separation.columns_of(header) as u64)),
        // There is no question beside a frame by itself.
        Named::Ask(_) => Operand::Absent,
    }
}

/// What a condition sees of a field of a record or an item: the text as sent, or the number.
pub(crate) fn operand<'a>(field: &'a Field, cells: &Cells<'a>, base: usize) -> Operand<'a> {
    if let Meaning::Text { fill, .. } = field.meaning {
        let text = cells.text(field, base).unwrap_or_default();
        let end = text.iter().rposition(|&byte| Some(byte) != fill).map_or(0, |last| last + 1);
        return if end == 0 { Operand::Absent } else { Operand::Text(&text[..end]) };
    }
    match cells.reading(field, base).value {
        Value::Decimal(number) | Value::Code { number, .. } => Operand::Number(number),
        Value::F32(number) => Operand::Float(number.into()),
        Value::F64(number) => Operand::Float(number),
        _ => Operand::Absent,
    }
}

/// How the varying part of a frame is laid out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Extent {
    /// Items of the group of varying length.
    pub(crate) count: u32,
    /// The byte or column behind the varying part.
    pub(crate) tail: usize,
}

/// Fits a frame to the shape of its record, or says why it does not fit.
#[inline(always)]
pub(crate) fn fit(number: u16, kind: &Kind, cells: &Cells<'_>) -> Result<Extent, Reason> {
    let shape = &kind.shape;
    match shape.unit {
        ShapeUnit::Characters | ShapeUnit::Parts => Ok(Extent { count: 0, tail: 0 }),
        ShapeUnit::Bytes => {
            let tail = cells.bytes.len().saturating_sub(shape.tail + shape.back);
            if shape.item == 0 {
                return Ok(Extent { count: 0, tail });
            }
            // The cut has seen to it that the items fill the frame.
            let room = tail.saturating_sub(shape.front) / shape.item;
            let count = counted(number, kind, cells, room)?;
            if count != room {
                return Err(Reason::Count { kind: number, sent: i64::try_from(count).ok() });
            }
            Ok(Extent { count: count as u32, tail })
        }
        ShapeUnit::Columns => {
            let found = cells.column_count();
            let least = shape.front_required + shape.tail_required;
            // Nearly always that is all there is to it.
            if shape.item == 0 && !shape.no_gaps && (least..=shape.front + shape.tail).contains(&found) {
                return Ok(Extent { count: 0, tail: shape.front });
            }
            fit_columns(number, kind, cells, found, 1)
        }
        ShapeUnit::Apart => fit_columns(number, kind, cells, cells.apart_count(), 2),
        ShapeUnit::Pairs => fit_pairs(number, kind, cells),
        // Its fields stand behind the columns of the header.
        ShapeUnit::Printed => Ok(Extent { count: 0, tail: cells.columns.len().saturating_sub(2 * shape.front) }),
    }
}

#[inline(never)]
fn fit_columns(number: u16, kind: &Kind, cells: &Cells<'_>, found: usize, step: usize) -> Result<Extent, Reason> {
    let shape = &kind.shape;
    let needed = shape.front_required + shape.tail_required;
    // Columns that are marked as absent are no columns of the text.
    let (places, _) = if kind.gaps.is_some() { cells.columns.as_chunks::<2>() } else { (&[][..], &[][..]) };
    let absent = places.iter().filter(|[begin, behind]| begin == behind).count() as u32;
    let counted_out = |columns: usize| u32::try_from(columns).unwrap_or(u32::MAX).saturating_sub(absent);
    let too_few =
        |needed: usize| Reason::Columns { kind: number, needed: counted_out(needed), found: counted_out(found) };
    if found < needed {
        return Err(too_few(needed));
    }
    let (count, tail) = match shape.item {
        0 => (0, shape.front),
        item => {
            let room = found.saturating_sub(shape.front + shape.tail_required) / item;
            let count = counted(number, kind, cells, room)?;
            if count > room {
                let fixed = shape.front + shape.tail_required;
                return Err(too_few(count.saturating_mul(item).saturating_add(fixed)));
            }
            (count, shape.front + count * item)
        }
    };
    let declared = tail + shape.tail;
    if found > declared && !shape.more {
        return Err(Reason::MoreColumns { kind: number, declared: counted_out(declared), found: counted_out(found) });
    }
    if shape.no_gaps
        && let Some(column) =
            (0..found.min(declared)).find(|column| cells.column(*column * step).is_some_and(|text| text.length == 0))
    {
        return Err(Reason::EmptyColumn { kind: number, column: column as u32 + 1 });
    }
    Ok(Extent { count: count as u32, tail: tail * step })
}

/// Whether all that have to be there are, and nothing else is.
#[inline(never)]
fn fit_pairs(number: u16, kind: &Kind, cells: &Cells<'_>) -> Result<Extent, Reason> {
    let Some(labels) = &kind.shape.labels else { return Ok(Extent { count: 0, tail: 0 }) };
    for (index, (column, _)) in labels.required.iter().enumerate() {
        if cells.column(2 * column).is_none() {
            return Err(Reason::NotThere { kind: number, label: index as u16 });
        }
    }
    if !kind.shape.more {
        let (places, _) = cells.columns.as_chunks::<2>();
        let unkeyed = Pairs::FIRST + labels.known.len();
        // Between two separators without anything, or behind the last one, there is nothing to be known.
        let is_fine = |(column, [begin, behind]): (usize, &[u16; 2])| match column {
            _ if begin == behind => true,
            Pairs::UNKNOWN => false,
            column if column < unkeyed => labels.known[column - Pairs::FIRST],
            column => column < unkeyed + kind.shape.front || *behind == begin + 1,
        };
        let other = places.iter().enumerate().find(|place| !is_fine(*place));
        if let Some((_, [begin, _])) = other {
            return Err(Reason::MoreKeys { kind: number, at: (*begin).into() });
        }
    }
    Ok(Extent { count: 0, tail: 0 })
}

/// Items of the varying part: what a field says, or all there is room for.
fn counted(number: u16, kind: &Kind, cells: &Cells<'_>, room: usize) -> Result<usize, Reason> {
    let Count::Field(field) = &kind.shape.count else { return Ok(room) };
    let sent = cells.integer(field, 0);
    let no_count = Reason::Count { kind: number, sent: sent.and_then(|sent| i64::try_from(sent).ok()) };
    sent.and_then(|sent| usize::try_from(sent).ok()).ok_or(no_count)
}

/// Whether the fields that decide hold; if not, which does not.
#[inline(always)]
pub(crate) fn pass(number: u16, kind: &Kind, cells: &Cells<'_>, count: usize) -> Result<(), Reason> {
    for (index, gate) in kind.gates.iter().enumerate() {
        let field = index as u16;
        match &gate.equals {
            Some(constant) if !cells.equals(&gate.field, 0, constant) => {
                return Err(Reason::Equals { kind: number, field });
            }
            Some(_) => {}
            None if cells.reading(&gate.field, 0).quality == crate::value::Quality::Invalid => {
                return Err(Reason::Invalid { kind: number, field });
            }
            None => {}
        }
    }
    if kind.item_gates.is_empty() { Ok(()) } else { pass_items(number, kind, cells, count) }
}

/// The same of those in the items of groups.
#[inline(never)]
fn pass_items(number: u16, kind: &Kind, cells: &Cells<'_>, count: usize) -> Result<(), Reason> {
    for (index, ItemGates { group, gates, .. }) in kind.item_gates.iter().enumerate() {
        let (mut item, count) = cells.items(group, 0, count);
        for _ in 0..count {
            let holds = |gate: &Gate| match &gate.equals {
                Some(constant) => cells.equals(&gate.field, item, constant),
                None => cells.reading(&gate.field, item).quality != crate::value::Quality::Invalid,
            };
            if !gates.iter().all(holds) {
                return Err(Reason::Item { kind: number, group: index as u16 });
            }
            item = cells.next_item(group.step, item);
        }
    }
    Ok(())
}
