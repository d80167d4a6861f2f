//! Showing the fields of a record to a visitor, by the shortest way that leads to each value.

use super::Items;
use crate::plan::{NEAR, Output, Plain, Shortcut, What, Word};
use crate::read::{Cells, Told, code, number_reading};
use crate::schema::FieldSchema;
use crate::value::{
    Absent, Column, Decimal, Name, Quality, Reading, ShortText, Text, Together, Value, Written, digits, is_plain,
};

/// Sees the fields of a record one by one: see [`Record::visit`](crate::Record::visit).
pub trait Visit {
    /// Sees a reading.
    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>);

    /// Sees a decimal number: `coefficient` divided by ten to the power of `places`. What is not told so comes as a reading.
    fn number(&mut self, schema: &FieldSchema, coefficient: i64, places: u8, quality: Quality) {
        let number = Decimal::small(coefficient < 0, coefficient.unsigned_abs(), places);
        self.reading(schema, Reading { value: Value::Decimal(number), quality });
    }

    /// Whether [`Visit::number`] is so little that it is best had several times in a row, without a loop.
    const BRIEF: bool = true;

    /// Whether what was sent as text is to be seen as it was written, where that is its own form: [`Visit::written`] instead of
    /// [`Visit::number`], and [`Visit::text`] instead of a reading.
    const WRITTEN: bool = false;

    /// Sees a decimal number as it was written. Only where [`Visit::WRITTEN`] asks for it.
    fn written(&mut self, schema: &FieldSchema, number: Written<'_>) {
        self.reading(schema, number_reading(number.text()));
    }

    /// Whether columns of numbers that are separated by this byte, and stand side by side in the text as in the schema, are to be seen together:
    /// [`Visit::together`] instead of [`Visit::written`] or a reading that is absent for each.
    const SEPARATED_BY: Option<u8> = None;

    /// Sees columns of numbers together, one for each of the fields. Only where [`Visit::SEPARATED_BY`] asks for it.
    fn together<'s>(&mut self, schemas: impl Iterator<Item = &'s FieldSchema>, columns: Together<'_>) {
        let separator = Self::SEPARATED_BY.unwrap_or_default();
        for (schema, text) in schemas.zip(columns.text().split(|byte| *byte == separator)) {
            self.reading(schema, number_reading(text));
        }
    }

    /// Sees a short text as it was written. Only where [`Visit::WRITTEN`] asks for it.
    fn text(&mut self, schema: &FieldSchema, text: ShortText<'_>) {
        self.reading(schema, Reading::good(Value::Text(Text::new(text.text()))));
    }

    /// Sees a value that is the name of a code, if that is short and printable, with nothing in it that is quoted or escaped anywhere. What is not
    /// told so comes as a reading.
    fn name(&mut self, schema: &FieldSchema, value: Value<'_>, _name: &Name) {
        self.reading(schema, Reading::good(value));
    }

    /// Sees a flag. What is not told so comes as a reading.
    fn flag(&mut self, schema: &FieldSchema, flag: bool) {
        self.reading(schema, Reading::good(Value::Bool(flag)));
    }

    /// Sees a group. [`Items::visit`] shows what is in it.
    fn group(&mut self, schema: &FieldSchema, items: Items<'_>);

    /// Sees that an item of a group begins, the first being 0.
    fn begin_item(&mut self, _index: usize) {}

    /// Sees that an item of a group is over.
    fn end_item(&mut self) {}
}

/// The front of a packet, with room for a word at each of its first [`NEAR`] bytes.
pub(crate) type Front = [u8; NEAR + 8];

/// The front of a packet that is no longer than that, and behind which nothing follows yet.
#[inline(never)]
pub(crate) fn padded(packet: &[u8]) -> Front {
    let mut front = [0; NEAR + 8];
    front[..packet.len()].copy_from_slice(packet);
    front
}

/// Shows the fields of a packet up to the first that is more than a word; returns what is left from that one on. `take` takes the bytes of
/// a word.
///
/// Nothing in this loop can panic or calls what may: so what a visitor gathers stays in registers.
#[inline(always)]
fn plain<'o, V: Visit>(
    outputs: &'o [Output],
    take: impl Fn(&Word) -> Option<[u8; 8]>,
    visitor: &mut V,
) -> &'o [Output] {
    let mut rest = outputs.iter();
    loop {
        let left = rest.as_slice();
        let Some(output) = rest.next() else { return left };
        let (schema, word) = (&*output.schema, &output.word);
        let Some(eight) = take(word) else { return left };
        match output.plain {
            Plain::TwoHighFirst if V::BRIEF => match high_first::<2, V>(left, &take, visitor) {
                Some(others) => rest = others.iter(),
                None => return left,
            },
            Plain::ThreeHighFirst if V::BRIEF => match high_first::<3, V>(left, &take, visitor) {
                Some(others) => rest = others.iter(),
                None => return left,
            },
            Plain::FourHighFirst if V::BRIEF => match high_first::<4, V>(left, &take, visitor) {
                Some(others) => rest = others.iter(),
                None => return left,
            },
            Plain::HighFirst | Plain::TwoHighFirst | Plain::ThreeHighFirst | Plain::FourHighFirst => {
                let raw = word.within(u64::from_be_bytes(eight));
                visitor.number(schema, raw, word.places, Quality::Good);
            }
            Plain::LowFirst => {
                let raw = word.within(u64::from_le_bytes(eight));
                visitor.number(schema, raw, word.places, Quality::Good);
            }
            Plain::Marked => {
                let raw = word.within(u64::from_be_bytes(eight));
                if raw == output.mark {
                    visitor.reading(schema, Reading::absent(Absent::Marked));
                } else {
                    visitor.number(schema, raw, word.places, Quality::Good);
                }
            }
            Plain::Integer => visitor.number(schema, word.scaled(word.of(eight)), word.places, Quality::Good),
            Plain::Bit => visitor.flag(schema, word.of(eight) != 0),
            Plain::No | Plain::Number | Plain::Column => return left,
        }
    }
}

/// Shows as many integers, one after the other; none if one is not there. Returns what is left.
#[inline(always)]
fn high_first<'o, const N: usize, V: Visit>(
    outputs: &'o [Output],
    take: &impl Fn(&Word) -> Option<[u8; 8]>,
    visitor: &mut V,
) -> Option<&'o [Output]> {
    let (these, others) = outputs.split_first_chunk::<N>()?;
    let mut raw = [0; N];
    for (raw, output) in raw.iter_mut().zip(these) {
        *raw = output.word.within(u64::from_be_bytes(take(&output.word)?));
    }
    for (raw, output) in raw.into_iter().zip(these) {
        visitor.number(&output.schema, raw, output.word.places, Quality::Good);
    }
    Some(others)
}

/// [`plain`] for a packet or an item that may be anywhere.
#[inline(always)]
pub(crate) fn plain_anywhere<'o, V: Visit>(
    outputs: &'o [Output],
    cells: &Cells<'_>,
    base: usize,
    visitor: &mut V,
) -> &'o [Output] {
    let eight = |word: &Word| {
        let wide = cells.wide.get(base.wrapping_add(word.first as usize)..)?;
        wide.first_chunk::<8>().copied()
    };
    plain(outputs, eight, visitor)
}

/// [`plain`] for a packet of which all plain fields are in its front.
#[inline(always)]
pub(crate) fn plain_in_front<'o, V: Visit>(outputs: &'o [Output], front: &Front, visitor: &mut V) -> &'o [Output] {
    let eight = |word: &Word| front[word.first as usize % NEAR..].first_chunk::<8>().copied();
    plain(outputs, eight, visitor)
}

/// Shows the fields of an item of a packet.
#[inline(always)]
pub(crate) fn item_of_packet<V: Visit>(mut outputs: &[Output], cells: &Cells<'_>, base: usize, visitor: &mut V) {
    while let [output, others @ ..] = plain_anywhere(outputs, cells, base, visitor) {
        bytes(output, cells, base, visitor);
        outputs = others;
    }
}

/// Shows the fields of an item of a text.
#[inline(always)]
pub(crate) fn item_of_text<V: Visit>(mut outputs: &[Output], cells: &Cells<'_>, base: usize, visitor: &mut V) {
    while let [output, others @ ..] = columns(outputs, cells, base, visitor) {
        match &output.what {
            What::Group(group) => visitor.group(&output.schema, Items::of(group, *cells, base, 0, false)),
            _ => visitor.reading(&output.schema, cells.output(output, base)),
        }
        outputs = others;
    }
}

/// Shows a field of a packet, whatever it is.
#[inline(always)]
pub(crate) fn bytes<'a, V: Visit>(output: &'a Output, cells: &Cells<'a>, base: usize, visitor: &mut V) {
    let (schema, word) = (&*output.schema, &output.word);
    match &output.what {
        What::Integer => match cells.word(word, base) {
            Some(raw) => visitor.number(schema, word.scaled(raw), word.places, Quality::Good),
            None => visitor.reading(schema, Reading::absent(Absent::NotSent)),
        },
        What::Bit => visitor.reading(schema, cells.bit(word, base)),
        What::Tested(tested) => match cells.tested_word(word, tested, base) {
            Told::Number(coefficient, quality) => visitor.number(schema, coefficient, word.places, quality),
            Told::Code(number, name) => show_name(schema, code(number, name), name, visitor),
            Told::Absent(why) => visitor.reading(schema, Reading::absent(why)),
        },
        What::Group(group) => visitor.group(schema, Items::of(group, *cells, base, 0, true)),
        _ => visitor.reading(schema, cells.output(output, base)),
    }
}

/// Shows the fields of a text by their short ways, up to the first that has none to its value; returns what is left from that one on.
#[inline(always)]
pub(crate) fn columns<'o, V: Visit>(
    mut outputs: &'o [Output],
    cells: &Cells<'_>,
    base: usize,
    visitor: &mut V,
) -> &'o [Output] {
    while let [output, others @ ..] = outputs {
        let schema = &*output.schema;
        let shown = match (output.plain, &output.what) {
            (Plain::Number, _) => {
                if V::SEPARATED_BY.is_some()
                    && let Some(others) = numbers_together(outputs, cells, base, visitor)
                {
                    outputs = others;
                    continue;
                }
                number_column(schema, base + output.word.first as usize, cells, visitor)
            }
            (Plain::Column, What::Column { first, way, .. }) => {
                try_short(schema, base + *first as usize, way, cells, base, visitor)
            }
            _ => None,
        };
        if shown.is_none() {
            break;
        }
        outputs = others;
    }
    outputs
}

/// Shows a column that is nothing but a number, if that is written shortly.
#[inline(always)]
fn number_column<V: Visit>(schema: &FieldSchema, place: usize, cells: &Cells<'_>, visitor: &mut V) -> Option<()> {
    let column = cells.column(place)?;
    if column.length == 0 {
        show(schema, Value::Absent(Absent::Empty), visitor)
    } else {
        number(schema, column, visitor)
    }
}

/// Shows columns of numbers together, if several stand side by side; returns what is left.
#[inline(always)]
fn numbers_together<'o, V: Visit>(
    outputs: &'o [Output],
    cells: &Cells<'_>,
    base: usize,
    visitor: &mut V,
) -> Option<&'o [Output]> {
    let first = outputs.first()?;
    let count = usize::from(first.together);
    if count < LEAST_TOGETHER {
        return None;
    }
    let columns = cells.columns.get(base + first.word.first as usize..)?;
    let (start, next, end) = (*columns.first()? as usize, *columns.get(1)? as usize, *columns.get(count)? as usize);
    let separator = V::SEPARATED_BY?;
    if cells.wide.get(next - 1) != Some(&separator) {
        return None;
    }
    let columns = Together::of(cells.wide.get(start..)?, end.checked_sub(start + 1)?, separator)?;
    let (these, others) = outputs.split_at_checked(count)?;
    visitor.together(these.iter().map(|output| &*output.schema), columns);
    Some(others)
}

/// Fewer columns are as fast one by one.
const LEAST_TOGETHER: usize = 5;

/// Shows a column by its short way, if that leads to its value.
#[inline(always)]
fn try_short<'a, V: Visit>(
    schema: &FieldSchema,
    place: usize,
    way: &'a Shortcut,
    cells: &Cells<'a>,
    base: usize,
    visitor: &mut V,
) -> Option<()> {
    if let Shortcut::Characters(first, end) = *way {
        return characters(schema, cells, first.into(), end.into(), visitor);
    }
    let Some(column) = cells.column(place) else {
        return show(schema, Value::Absent(Absent::NotSent), visitor);
    };
    if column.length == 0 {
        // Degrees are empty only if their hemisphere is, too.
        if matches!(way, Shortcut::Degrees { .. }) && cells.column(place + 1)?.length > 0 {
            return None;
        }
        return show(schema, Value::Absent(Absent::Empty), visitor);
    }
    match way {
        Shortcut::Number => number(schema, column, visitor),
        Shortcut::Range(low, high) => {
            let (coefficient, places) = digits::short(short(column)?)?;
            let inside = digits::is_between(coefficient, places, (*low).into(), (*high).into())?;
            if inside {
                visitor.number(schema, coefficient, places, Quality::Good);
            }
            inside.then_some(())
        }
        Shortcut::Unit { column: beside, letter } => {
            let unit = cells.column(base + *beside as usize)?;
            let fits = unit.length == 1 && unit.wide.first() == Some(letter);
            if fits { number(schema, column, visitor) } else { None }
        }
        Shortcut::Degrees { most, letters } => {
            let beside = cells.column(place + 1)?;
            let (coefficient, places) = digits::degrees(column, beside, *most, *letters)?;
            visitor.number(schema, coefficient, places, Quality::Good);
            Some(())
        }
        Shortcut::Codes(names) => {
            let (number, 0) = digits::short(short(column)?)? else { return None };
            let name = names.get(number as usize)?.as_ref()?;
            show_name(schema, code(number, name), name, visitor);
            Some(())
        }
        Shortcut::Text => text(schema, column, visitor),
        Shortcut::Letters(letters) => {
            let letter = column.wide.first().filter(|_| column.length == 1)?;
            let name = letters.name(*letter)?;
            show_name(schema, Value::Text(Text::new(name.text().as_bytes())), name, visitor);
            Some(())
        }
        Shortcut::Clock(pattern) => show(schema, Value::Clock(pattern.clock(column)?), visitor),
        Shortcut::Date(pattern) => show(schema, Value::Date(pattern.date(column)?), visitor),
        Shortcut::Long | Shortcut::Characters(..) => None,
    }
}

/// Shows characters of a text, as many as there are.
#[inline(always)]
fn characters<V: Visit>(
    schema: &FieldSchema,
    cells: &Cells<'_>,
    first: usize,
    end: usize,
    visitor: &mut V,
) -> Option<()> {
    let length = end.min(cells.bytes.len()).checked_sub(first).filter(|length| *length > 0)?;
    text(schema, Column { wide: cells.wide.get(first..)?, length }, visitor)
}

/// A column, if it has no more than eight characters, and one at least.
#[inline(always)]
fn short(column: Column<'_>) -> Option<Column<'_>> {
    (1..=8).contains(&column.length).then_some(column)
}

#[inline(always)]
fn show<V: Visit>(schema: &FieldSchema, value: Value<'_>, visitor: &mut V) -> Option<()> {
    visitor.reading(schema, Reading::good(value));
    Some(())
}

#[inline(always)]
fn show_name<V: Visit>(schema: &FieldSchema, value: Value<'_>, name: &Name, visitor: &mut V) {
    if V::WRITTEN && name.is_plain() {
        visitor.name(schema, value, name);
    } else {
        visitor.reading(schema, Reading::good(value));
    }
}

/// Shows a text, if it is printable ASCII.
#[inline(always)]
fn text<V: Visit>(schema: &FieldSchema, column: Column<'_>, visitor: &mut V) -> Option<()> {
    if V::WRITTEN
        && let Some(text) = ShortText::of(column)
    {
        visitor.text(schema, text);
        return Some(());
    }
    if is_plain(column) { show(schema, Value::Text(Text::new(column.text())), visitor) } else { None }
}

/// Shows a number that is written shortly.
#[inline(always)]
fn number<V: Visit>(schema: &FieldSchema, column: Column<'_>, visitor: &mut V) -> Option<()> {
    let column = short(column)?;
    if V::WRITTEN {
        visitor.written(schema, Written::of(column)?);
    } else {
        let (coefficient, places) = digits::short(column)?;
        visitor.number(schema, coefficient, places, Quality::Good);
    }
    Some(())
}
