//! Points: each becomes a field of a packet that holds the registers of all points of its unit, one point behind the other.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::ToString;
use alloc::vec::Vec;
use core::ops::Range;

use super::{Composer, Fields};
use crate::compile::field::byte_size;
use crate::format::{self as declared, Count, Field, FieldType, Integer, Order, Place, Record, Spanned};
use crate::plan::{Envelope, KeptAs, Point, Points, Stage, Standing, UnitPoints, What};
use crate::problem::ProblemKind;

/// Bytes before the registers: the unit's address and the function.
const FRONT: usize = 2;

/// A register that is a number.
const REGISTER: FieldType = FieldType::Integer(Integer { signed: false, bytes: 2, order: Order::Big });

impl Composer<'_> {
    /// Adds the records of all units, and the stage that makes them. Those of the first have that number.
    pub(super) fn points(&mut self, number: usize) {
        let format = self.format;
        let Some(first) = format.units.first() else { return };
        let exchanges = self.stages.iter().filter_map(|stage| match stage {
            Stage::Exchange(exchanges) => Some(exchanges),
            _ => None,
        });
        let of: Box<[(u16, Envelope)]> =
            exchanges.flatten().filter_map(|exchange| Some((exchange.kind, exchange.modbus?))).collect();
        let Some((kind, envelope)) = of.first() else {
            let why = "units are on a Modbus line: let a frame be cut as \"modbus-rtu\" or \"modbus-ascii\"";
            return self.problems.add(first.name.span.clone(), ProblemKind::Senseless(why));
        };
        let frame = usize::from(self.kinds[usize::from(*kind)].frame);
        let taken: Vec<KeptAs> = of.iter().map(|(kind, _)| KeptAs { from: *kind, layout: *kind }).collect();
        let units = format
            .units
            .iter()
            .enumerate()
            .filter_map(|(place, unit)| self.unit(number + place, frame, *envelope, unit));
        let units = units.collect();
        self.hide(&taken);
        self.stages.push(Stage::Points(Points { of, units, routes: Box::default() }));
    }

    fn unit(&mut self, number: usize, frame: usize, envelope: Envelope, unit: &declared::Unit) -> Option<UnitPoints> {
        if unit.points.is_empty() {
            let kind = ProblemKind::MissingKey { key: "points", table: "`[unit.NAME]`" };
            self.problems.add(unit.name.span.clone(), kind);
            return None;
        }
        let (mut points, mut fields, mut at): (Vec<Point>, Vec<Field>, usize) = Default::default();
        for point in &unit.points {
            let field = self.field(point)?;
            let kind = field.kind.as_ref().map_or(REGISTER, |kind| kind.value);
            let count = match &field.group {
                Some(group) => match &group.count {
                    Count::Fixed(count) => count.value,
                    _ => 0,
                },
                None => 1,
            };
            let bytes = byte_size(&field, kind).unwrap_or(0).saturating_mul(count);
            if bytes == 0 || bytes % 2 > 0 || bytes > 2 * MOST {
                let why = "a point is of whole registers, of 16 bits each: `bits` tells which of them it is of a part, `width` how many bytes a text has";
                self.problems.add(field.span.clone(), ProblemKind::Senseless(why));
                return None;
            }
            let registers = at..at + bytes / 2;
            if usize::from(point.address) + registers.len() > MOST {
                let why = "the last register that there can be is the one at 65535";
                self.problems.add(field.span.clone(), ProblemKind::Senseless(why));
            }
            at = registers.end;
            let place =
                Spanned { span: field.span.clone(), value: (envelope.before + FRONT + 2 * registers.start) as i64 };
            fields.push(Field { place: Place::Byte(place), ..field });
            let needs = Box::default();
            let (table, address, within) = (point.table, point.address, point.within);
            points.push(Point { table, address, registers, within, needs });
        }
        let names: Vec<Vec<&str>> = fields.iter().map(names_of).collect();
        let named = |name: &str| names.iter().position(|own| own.contains(&name));
        for (field, point) in fields.iter().zip(&mut points) {
            let from = [&field.scale_from, &field.unit_from, &field.sign_from].into_iter().flatten();
            point.needs = from.filter_map(|name| Some(named(&name.value)? as u16)).collect();
        }
        let record = Record { kind: unit.name.clone(), fields: fields.clone(), ..Record::new("") };
        let of = Spanned { span: unit.name.span.clone(), value: self.format.frames[frame].name.clone() };
        let (lengths, rows) = (self.drafts[frame].lengths.len(), self.shared.layout.len());
        let layout = self.own(number, unit.name.value.clone(), &record, Some(&of), &[])?;
        // No frame is so long.
        self.drafts[frame].lengths.truncate(lengths);
        self.say_where(rows, &points);
        let mut shown = Fields::default();
        for (place, output) in self.kinds[usize::from(layout)].outputs.iter().enumerate() {
            let (mut schema, output) = ((*output.schema).clone(), place as u16);
            let what = match named(&schema.name) {
                Some(point) => {
                    schema.has_quality |= points[point].within.is_some() || !points[point].needs.is_empty();
                    What::Point { output, point: point as u16 }
                }
                None => What::Of([Standing { slot: 0, output }].into()),
            };
            // One that is there twice has been told.
            shown.0.push((schema, what));
        }
        self.give(number, shown, layout);
        if unit.ids.len() > 1 {
            let known = &self.known[usize::from(layout)];
            let series = known.iter().find(|(name, _)| name == "unit").map(|(_, field)| field.clone());
            self.kinds[number].series = series.into_iter().collect();
        }
        let front = envelope.before..envelope.before + FRONT;
        let (ids, bytes) = (unit.ids.iter().map(|id| id.value).collect(), front.end + 2 * at + envelope.behind);
        Some(UnitPoints { kind: number as u16, layout, ids, front, bytes, registers: at, points: points.into() })
    }

    /// Lets the rows behind one say where points are on the bus, as the protocol counts and as sheets print it.
    fn say_where(&mut self, rows: usize, points: &[Point]) {
        let own = self.shared.layout.iter_mut().skip(rows).filter(|row| row.group.is_none());
        for (row, point) in own.zip(points) {
            let (word, first) = (point.table.word(), point.address);
            let last = usize::from(first) + point.registers.len() - 1;
            row.place = match point.registers.len() {
                1 => format!("{word} {first}"),
                _ => format!("{word} {first}-{last}"),
            };
            let also = if row.notes.is_empty() { "" } else { "; " };
            row.notes = format!("{}{also}{}", row.notes, point.table.reference(first));
            if point.table.is_bits() {
                row.kind = "bit".to_string();
            }
        }
    }

    /// The field of a packet that a point is.
    fn field(&mut self, point: &declared::Point) -> Option<Field> {
        let mut field = point.field.clone();
        if let Some((span, key)) = senseless(&field) {
            let with = "a point, which is where its registers are".to_string();
            self.problems.add(span, ProblemKind::Conflict { key, with });
            return None;
        }
        if point.table.is_bits() {
            if field.kind.as_ref().is_some_and(|kind| kind.value != FieldType::Bool) || field.group.is_some() {
                let with = "a coil or a discrete input, which is one bit".to_string();
                self.problems.add(field.span.clone(), ProblemKind::Conflict { key: "type", with });
                return None;
            }
            if field.codes.is_empty() && field.flags.is_empty() {
                field.flags = field.name.take().map(|name| (0, name)).into_iter().collect();
            }
            field.kind = None;
        }
        if field.name.is_none() && field.flags.is_empty() {
            self.problems.add(field.span.clone(), ProblemKind::MissingKey { key: "name", table: "a point" });
            return None;
        }
        let span = field.span.clone();
        field.kind.get_or_insert(Spanned { span, value: REGISTER });
        Some(field)
    }
}

/// The most registers of a table.
const MOST: usize = 0x1_0000;

/// A key that no point can have.
fn senseless(field: &Field) -> Option<(Range<usize>, &'static str)> {
    let whole = field.span.clone();
    match field {
        Field { place: Place::Byte(_), .. } => Some((whole, "byte")),
        Field { place: Place::Columns(_), .. } => Some((whole, "column")),
        Field { place: Place::Characters(_), .. } => Some((whole, "chars")),
        Field { label: Some(label), .. } => Some((label.span.clone(), "label")),
        Field { when: Some(when), .. } => Some((when.span.clone(), "when")),
        Field { until: Some(until), .. } => Some((until.span.clone(), "until")),
        Field { equals: Some(equals), .. } => Some((equals.span.clone(), "equals")),
        Field { optional: true, .. } => Some((whole, "optional")),
        Field { counter: true, .. } => Some((whole, "counter")),
        Field { run: Some(_), .. } => Some((whole, "address_from")),
        Field { group: Some(group), .. } if !group.fields.is_empty() => Some((whole, "fields")),
        _ => None,
    }
}

/// What the outputs of a field are called.
fn names_of(field: &Field) -> Vec<&str> {
    let flags = field.flags.iter().map(|(_, name)| name.value.as_str());
    field.name.iter().map(|name| name.value.as_str()).chain(flags).collect()
}
