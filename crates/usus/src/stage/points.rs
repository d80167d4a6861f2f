//! Points: the registers of units as what they mean, out of what was asked and answered.
//!
//! For each unit there is an image of the registers that its points lie in, which answers and writes are copied to. A point has a value where one answer, or one
//! write, has all of its registers; where several have, it says so, and has one only if it was declared that it may.

use alloc::vec::Vec;

use super::{ANSWERED, BROADCAST, Bench, ERROR, Told};
use crate::input::LineId;
use crate::modbus::{self, Carried};
use crate::plan::{Point, Points as Declared, UnitPoints};
use crate::record::{Made, Of, Row};
use crate::time::Time;

/// The image of each unit, in the order of the units and of the addresses of each.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Images {
    images: Vec<Image>,
    /// Room for what units say.
    says: Vec<UnitSays>,
}

#[derive(Clone, Debug, PartialEq)]
struct Image {
    id: u8,
    /// The unit's address and the function, the registers, and room for a checksum: what the layout of the points reads.
    bytes: Vec<u8>,
    registers: Vec<Register>,
}

/// What is known of a register.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Register {
    /// Whether it was seen at all, and when.
    seen: bool,
    time: Option<Time>,
    /// Whether nothing can have written it since that was not seen.
    is_sure: bool,
    /// Whether it is in what is looked at.
    is_new: bool,
}

/// How a point stands in a record.
pub(crate) const ABSENT: u8 = 0;
pub(crate) const WHOLE: u8 = 1;
/// It is put together from what was seen at different times.
pub(crate) const PIECED: u8 = 2;

/// That a unit says something: its kind, the layout of its points, the number of its image, and how each point stands.
type UnitSays = (u16, u16, usize, Vec<u8>);

impl Images {
    pub(super) fn new(of: &Declared) -> Images {
        let image = |(unit, id): (&UnitPoints, u8)| Image {
            id,
            bytes: alloc::vec![0; unit.bytes],
            registers: alloc::vec![Register::default(); unit.registers],
        };
        let units = of.units.iter().flat_map(|unit| unit.ids.iter().map(move |id| (unit, *id)));
        Images { images: units.map(image).collect(), says: Vec::new() }
    }

    pub(super) fn tell(&mut self, of: &Declared, told: Told<'_>, bench: &mut Bench<'_>) {
        match told {
            Told::Row(row) => self.take(of, row, bench),
            // What is missing may have written anything.
            Told::Gap(gap) if of.is_on(gap.line, bench) => {
                let registers = self.images.iter_mut().flat_map(|image| &mut image.registers);
                registers.for_each(|register| register.is_sure = false);
            }
            Told::Gap(_) | Told::Time(_) | Told::End => {}
        }
    }

    /// Takes a question with its answer.
    fn take(&mut self, of: &Declared, row: Row, bench: &mut Bench<'_>) {
        let Some((_, envelope)) = of.of.iter().find(|(kind, _)| *kind == row.kind) else { return bench.pass(row) };
        let message = |place: usize| envelope.message(row.rows().get(place)?.first()?.contents());
        let (request, answer) = (message(0).unwrap_or_default(), message(1));
        let outcome = match row.made.first() {
            Some(Made::Word(outcome)) => *outcome,
            _ => return bench.pass(row),
        };
        let (carried, time) = match outcome {
            ANSWERED => (modbus::carried(request, answer), row.completed()),
            BROADCAST => (modbus::carried(request, None), row.completed()),
            // It did not do it.
            ERROR => ([None; 2], None),
            _ => ([modbus::perhaps_written(request), None], None),
        };
        let [asked, function] = [0, 1].map(|at| request.get(at).copied().unwrap_or_default());
        let mut says = core::mem::take(&mut self.says);
        let mut images = self.images.iter_mut().enumerate();
        for unit in &of.units {
            for (number, image) in images.by_ref().take(unit.ids.len()) {
                if image.id != asked && outcome != BROADCAST {
                    continue;
                }
                for carried in carried.into_iter().flatten() {
                    image.take(unit, &carried, time);
                }
                if let Some(front) = image.bytes.get_mut(unit.front.clone()) {
                    // What was written to all units is told of each.
                    front.copy_from_slice(&[image.id, function]);
                }
                let mut stands = bench.text();
                stands.extend(unit.points.iter().map(|point| image.stands(unit, point, time)));
                image.registers.iter_mut().for_each(|register| register.is_new = false);
                match stands.iter().any(|stands| *stands != ABSENT) {
                    true => says.push((unit.kind, unit.layout, number, stands)),
                    false => bench.room.spend_text(stands),
                }
            }
        }
        self.pass(row, &mut says, bench);
        self.says = says;
    }

    /// Passes a question with its answer on, as what units say in it.
    fn pass(&self, row: Row, says: &mut Vec<UnitSays>, bench: &mut Bench<'_>) {
        let goes_on = bench.goes_on(row.kind) || says.is_empty();
        let mut dealt = bench.dealt(row, says.len() + usize::from(goes_on));
        let mut rows = dealt.drain(..);
        if goes_on {
            rows.by_ref().take(1).for_each(|row| bench.pass(row));
        }
        for (row, (kind, layout, image, stands)) in rows.zip(says.drain(..)) {
            let Row { of: Of::Rows(mut rows), made, .. } = row else { continue };
            bench.room.spend_made(made);
            rows.iter_mut().zip(0..).for_each(|(row, slot)| row.slot = slot);
            if let (Some(Row { of: Of::Frame(kept), .. }), Some(image)) = (rows.first_mut(), self.images.get(image)) {
                kept.look_at(layout, &image.bytes);
            }
            let made = bench.made([Made::Text(stands)]);
            bench.pass(Row::of_rows(kind, rows, made));
        }
        bench.room.spend_list(dealt);
    }
}

impl Image {
    /// Copies what is carried to the registers that points lie in.
    fn take(&mut self, unit: &UnitPoints, carried: &Carried<'_>, time: Option<Time>) {
        let end = carried.address + carried.count;
        for point in unit.points.iter().filter(|point| point.table == carried.table) {
            let (first, behind) = (usize::from(point.address), usize::from(point.address) + point.registers.len());
            for address in first.max(carried.address)..behind.min(end) {
                let place = point.registers.start + address - first;
                let bytes = unit.front.end + 2 * place..unit.front.end + 2 * place + 2;
                let (Some(register), Some(bytes)) = (self.registers.get_mut(place), self.bytes.get_mut(bytes)) else {
                    continue;
                };
                let old = bytes.first_chunk().map(|bytes| u16::from_be_bytes(*bytes)).filter(|_| register.is_sure);
                match carried.at(address, old) {
                    Some(value) => {
                        bytes.copy_from_slice(&value.to_be_bytes());
                        *register = Register { seen: true, time, is_sure: true, is_new: true };
                    }
                    // It may be anything now.
                    None => *register = Register::default(),
                }
            }
        }
    }

    /// How a point stands in what was copied last.
    fn stands(&self, unit: &UnitPoints, point: &Point, now: Option<Time>) -> u8 {
        let own = self.registers.get(point.registers.clone()).unwrap_or_default();
        if !own.iter().any(|register| register.is_new) {
            return ABSENT;
        }
        let mut stands = WHOLE;
        if !own.iter().all(|register| register.is_new) {
            let Some(within) = point.within else { return ABSENT };
            let is_near = |register: &Register| {
                let age = now.zip(register.time).map(|(now, then)| now.since(then));
                register.seen && age.is_some_and(|age| age <= within)
            };
            if !own.iter().all(is_near) {
                return ABSENT;
            }
            stands = PIECED;
        }
        for needed in point.needs.iter().filter_map(|needed| unit.points.get(usize::from(*needed))) {
            let needed = self.registers.get(needed.registers.clone()).unwrap_or_default();
            if !needed.iter().all(|register| register.seen) {
                return ABSENT;
            }
            if !needed.iter().all(|register| register.is_new) {
                stands = PIECED;
            }
        }
        stands
    }
}

impl Declared {
    /// Whether what it is made of comes on a line.
    fn is_on(&self, line: LineId, bench: &Bench<'_>) -> bool {
        bench.routes.get(line.index()).is_some_and(|route| self.routes.contains(route))
    }
}
