//! Whether numbers are read as they are sent: with the bytes in another order, with a sign, or a power of ten off, they may lie within their range, or go
//! smoothly from frame to frame.

use alloc::collections::BTreeSet;
use alloc::string::ToString;
use alloc::vec::Vec;
use core::convert::Infallible;

use super::{Proposal, Wrong};
use crate::format::{Field, FieldType, Format, Literal};
use crate::integer::{Integer, Order};
use crate::logarithm::log2;
use crate::record::{Cell, Record};
use crate::schema::FieldSchema;
use crate::sink::Sink;
use crate::value::Decimal;

/// Values of a field that are looked at.
const LOOKED_AT: usize = 4_096;

/// Fewer say nothing.
const ENOUGH: usize = 12;

/// The bytes of a kind's fields, frame by frame.
#[derive(Clone, Debug, Default)]
pub(super) struct Series {
    fields: Vec<(usize, usize, Vec<Vec<u8>>)>,
}

impl Sink for Series {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let kind = record.kind_index();
        for (place, (_, cell)) in record.fields().enumerate() {
            let (Cell::Reading(_), Some(sent)) = (cell, record.sent(place)) else { continue };
            if sent.is_text || sent.bits.is_some() || !matches!(sent.bytes.len(), 1..=8) {
                continue;
            }
            let known = self.fields.iter().position(|(of, field, _)| (*of, *field) == (kind, place));
            let index = known.unwrap_or_else(|| {
                self.fields.push((kind, place, Vec::new()));
                self.fields.len() - 1
            });
            let series = &mut self.fields[index].2;
            if series.len() < LOOKED_AT {
                series.push(sent.bytes.to_vec());
            }
        }
        Ok(())
    }
}

impl Series {
    /// What seems to be wrong with fields of a format, of which `kinds` are those of the records.
    pub(super) fn proposals(&self, format: &Format, kinds: &[crate::schema::KindSchema]) -> Vec<Proposal> {
        let of = |(kind, place, series): &(usize, usize, Vec<Vec<u8>>)| {
            let schema = kinds.get(*kind)?;
            let field: &FieldSchema = schema.fields.get(*place)?;
            let declared = declared(format, &schema.name, &field.name)?;
            let of = |number: Number, wrong, instead, score: (usize, usize, f64)| Proposal {
                wrong,
                place: alloc::format!("{}.{}", schema.name, field.name),
                declared: number.said(declared),
                proposed: instead,
                holds: score.0 as u64,
                now: score.1 as u64,
                of: series.len() as u64,
                bits: score.2,
                open: None,
                also: Vec::new(),
            };
            let number = Number::of(declared)?;
            let (wrong, instead, score) = judge(declared, number, series)?;
            Some(of(number, wrong, instead, score))
        };
        self.fields.iter().filter_map(of).collect()
    }
}

/// The declaration of a field that stands by itself, without bits, names and such.
fn declared<'f>(format: &'f Format, kind: &str, name: &str) -> Option<&'f Field> {
    let is_it = |field: &&Field| field.name.as_ref().is_some_and(|own| own.value == name);
    let records = format.records.iter().filter(|record| record.kind.value == kind).flat_map(|record| record.layouts());
    let mut fields =
        records.flat_map(|record| &record.fields).chain(format.frames.iter().flat_map(|frame| &frame.header));
    let field = fields.find(is_it)?;
    let is_plain = field.codes.is_empty()
        && field.flags.is_empty()
        && !field.counter
        && field.bits.is_none()
        && field.equals.is_none();
    is_plain.then_some(field)
}

/// How a number is sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Number {
    Integer(Integer),
    F32(Order),
    F64(Order),
}

impl Number {
    fn of(field: &Field) -> Option<Number> {
        match field.kind.as_ref()?.value {
            FieldType::Integer(integer) => Some(Number::Integer(integer)),
            FieldType::F32(order) => Some(Number::F32(order)),
            FieldType::F64(order) => Some(Number::F64(order)),
            _ => None,
        }
    }

    fn order(self) -> Order {
        match self {
            Number::Integer(Integer { order, .. }) | Number::F32(order) | Number::F64(order) => order,
        }
    }

    fn bytes(self) -> usize {
        match self {
            Number::Integer(integer) => integer.bytes.into(),
            Number::F32(_) => 4,
            Number::F64(_) => 8,
        }
    }

    fn in_order(self, order: Order) -> Number {
        match self {
            Number::Integer(integer) => Number::Integer(Integer { order, ..integer }),
            Number::F32(_) => Number::F32(order),
            Number::F64(_) => Number::F64(order),
        }
    }

    fn with_sign(self, signed: bool) -> Number {
        match self {
            Number::Integer(integer) => Number::Integer(Integer { signed, ..integer }),
            other => other,
        }
    }

    fn is_signed(self) -> bool {
        matches!(self, Number::Integer(Integer { signed: true, .. }))
    }

    /// Its type in words.
    fn word(self) -> alloc::string::String {
        match self {
            Number::Integer(integer) => integer.to_string(),
            Number::F32(order) => alloc::format!("f32{order}"),
            Number::F64(order) => alloc::format!("f64{order}"),
        }
    }

    /// What is declared of it.
    fn said(self, declared: &Field) -> alloc::string::String {
        match &declared.scale {
            Some(scale) => alloc::format!("type = \"{}\", scale = {}", self.word(), scale.value),
            None => alloc::format!("type = \"{}\"", self.word()),
        }
    }

    /// A whole number that goes up with the value: the value itself, or of a floating-point number its place among all of them.
    fn place(self, sent: &[u8]) -> i128 {
        let bits = sent
            .iter()
            .enumerate()
            .fold(0u64, |bits, (place, byte)| bits | u64::from(*byte) << (8 * self.order().rank(place, sent.len())));
        let width = 8 * sent.len() as u32;
        match self {
            Number::Integer(Integer { signed: true, .. }) => i128::from((bits << (64 - width)) as i64 >> (64 - width)),
            Number::Integer(_) => bits.into(),
            Number::F32(_) | Number::F64(_) => {
                let top = 1u64 << (width - 1);
                let place = i128::from(bits & (top - 1));
                if bits & top != 0 { -place } else { place }
            }
        }
    }

    fn value(self, sent: &[u8]) -> f64 {
        match self {
            Number::Integer(_) => self.place(sent) as f64,
            Number::F32(_) => {
                let place = self.place(sent);
                f64::from(f32::from_bits(place.unsigned_abs() as u32)) * if place < 0 { -1.0 } else { 1.0 }
            }
            Number::F64(_) => {
                let place = self.place(sent);
                f64::from_bits(place.unsigned_abs() as u64) * if place < 0 { -1.0 } else { 1.0 }
            }
        }
    }
}

/// What a way to read numbers makes of them.
struct Looks {
    /// How many lie within the range.
    inside: usize,
    /// How far they go from one to the next: the mean of the logarithm, over those that change.
    roughness: f64,
    /// The longest way from one to the next.
    longest: i128,
}

fn looks(number: Number, series: &[Vec<u8>], range: Option<[f64; 2]>) -> Looks {
    let size = number.bytes();
    let of_size = || series.iter().filter(|sent| sent.len() == size);
    let inside = match range {
        Some([low, high]) => of_size().filter(|sent| (low..=high).contains(&number.value(sent))).count(),
        None => series.len(),
    };
    let places: Vec<i128> = of_size().map(|sent| number.place(sent)).collect();
    let steps = || places.windows(2).map(|pair| (pair[1] - pair[0]).abs()).filter(|step| *step > 0);
    let count = steps().count();
    let sum: f64 = steps().map(|step| log2(step as f64 + 1.0)).sum();
    let roughness = if count == 0 { 0.0 } else { sum / count as f64 };
    Looks { inside, roughness, longest: steps().max().unwrap_or(0) }
}

/// What a field seems to be instead: what is wrong, what to write, and how many values lie in the range then and now, and the evidence in bits.
fn judge(
    declared: &Field,
    number: Number,
    series: &[Vec<u8>],
) -> Option<(Wrong, alloc::string::String, (usize, usize, f64))> {
    let marks: Vec<Decimal> = declared
        .no_data
        .iter()
        .filter_map(|mark| match mark.value {
            Literal::Number(number) => Some(number),
            Literal::Bits(bits) => Some(Decimal::from_unsigned(bits)),
            _ => None,
        })
        .collect();
    let is_marked = |sent: &[u8]| {
        marks.iter().any(|mark| {
            let unsigned = number.with_sign(false).place(sent);
            mark.to_integer().is_some_and(|mark| mark == number.place(sent) || mark == unsigned)
        })
    };
    let series: Vec<Vec<u8>> = series.iter().filter(|sent| !is_marked(sent)).cloned().collect();
    let changes = series.windows(2).filter(|pair| pair[0] != pair[1]).count();
    if series.len() < ENOUGH || changes < ENOUGH / 2 {
        return None;
    }
    let told_elsewhere = declared.unit_from.is_some()
        || declared.scale_from.is_some()
        || declared.ratio.is_some()
        || declared.unit_sent.is_some();
    let scale = declared.scale.as_ref().map_or(1.0, |scale| scale.value.to_f64());
    let add = declared.add.as_ref().map_or(0.0, |add| add.value.to_f64());
    // The range as it is before scale and addend.
    let range = declared.range.as_ref().filter(|_| !told_elsewhere && scale != 0.0).map(|range| {
        let mut ends = [0, 1].map(|end| (range.value[end].to_f64() - add) / scale);
        ends.sort_by(f64::total_cmp);
        ends
    });
    let distinct = series.iter().collect::<BTreeSet<_>>().len();
    let now = looks(number, &series, range);
    let all = series.len();
    let mut best: Option<(f64, Wrong, alloc::string::String, (usize, usize, f64))> = None;
    let mut add_way = |goodness: f64, wrong, text, holds, bits: f64| {
        if best.as_ref().is_none_or(|(known, ..)| goodness > *known) {
            best = Some((goodness, wrong, text, (holds, now.inside, bits)));
        }
    };
    let outside = all - now.inside.min(all);
    // It brings nearly all of those back into the range that are outside.
    let fits = |inside: usize| inside * 20 >= all * 19;
    let mends = |inside: usize| outside >= 3 && fits(inside) && inside.saturating_sub(now.inside) * 5 >= outside * 4;
    for other in orders(number) {
        let looks = looks(other, &series, range);
        let smoother = now.roughness - looks.roughness;
        // Differences of logarithms of what has nothing to do with each other spread by about two.
        let deviations = smoother * root(changes as f64) / 2.1;
        let by_smoothness = if smoother > 0.0 { deviations * deviations * 0.72 - 3.0 } else { 0.0 };
        let mends = mends(looks.inside);
        let by_range = match range {
            Some(range) if mends => chance(other, range) * (distinct.min(8) as f64) - 3.0,
            _ => 0.0,
        };
        let is_it = (mends && smoother > -0.3) || (fits(looks.inside) && smoother > 1.5 && changes >= ENOUGH);
        if is_it {
            let text = alloc::format!("type = \"{}\"", other.word());
            // Both at once is rarer than one.
            let both = if other.is_signed() == number.is_signed() { 0.0 } else { 0.5 };
            let inside = 100.0 * looks.inside as f64 / all as f64;
            add_way(10.0 + inside + smoother - both, Wrong::Order, text, looks.inside, by_range.max(by_smoothness));
        }
    }
    if let Number::Integer(integer) = number {
        let other = number.with_sign(!number.is_signed());
        let looks = looks(other, &series, range);
        let reach = 1i128 << (8 * integer.bytes);
        // Where there is no range: from one to the next it leaps over nearly all there is, and otherwise never far.
        let leaps = now.longest > reach / 8 * 7 && looks.longest < reach / 4;
        let leaps_less = fits(looks.inside) && leaps && changes >= ENOUGH;
        let by_range = match range {
            Some(range) if mends(looks.inside) && looks.roughness < now.roughness + 0.3 => {
                chance(other, range) * (distinct.min(8) as f64) - 2.0
            }
            _ => 0.0,
        };
        if by_range > 0.0 || leaps_less {
            let smoother = now.roughness - looks.roughness;
            let text = alloc::format!("type = \"{}\"", other.word());
            let inside = 100.0 * looks.inside as f64 / all as f64;
            add_way(
                11.0 + inside + smoother,
                Wrong::Sign,
                text,
                looks.inside,
                by_range.max(if leaps { 22.0 } else { 0.0 }),
            );
        }
    }
    if let Some([low, high]) = range {
        for power in [-1, 1, -2, 2, -3, 3] {
            let factor = power_of_ten(power);
            let scaled = [low / factor, high / factor];
            let looks = looks(number, &series, Some(scaled));
            if !mends(looks.inside) {
                continue;
            }
            let written = declared.scale.as_ref().map_or(Decimal::from_integer(1), |scale| scale.value);
            let Some(text) = shifted(written, power) else { continue };
            let bits = chance(number, scaled) * (distinct.min(8) as f64) - 3.0;
            let goodness = 5.0 + 100.0 * looks.inside as f64 / all as f64 - f64::from(power.abs());
            add_way(goodness, Wrong::Scale, alloc::format!("scale = {text}"), looks.inside, bits);
        }
    }
    best.map(|(_, wrong, text, score)| (wrong, text, score))
}

/// Other orders in which a number's bytes may be sent.
fn orders(number: Number) -> Vec<Number> {
    let letters = match number.bytes() {
        4 => &["abcd", "dcba", "cdab", "badc"][..],
        8 => &["abcdefgh", "hgfedcba", "ghefcdab", "badcfehg"],
        _ => &[],
    };
    let mut orders: Vec<Order> = letters.iter().filter_map(|letters| Order::of_letters(letters)).collect();
    if number.bytes() > 1 && orders.is_empty() {
        orders.extend([Order::Big, Order::Little]);
    }
    orders.retain(|order| *order != number.order());
    let mut all: Vec<Number> = orders.iter().map(|order| number.in_order(*order)).collect();
    // It may have a sign besides.
    if let Number::Integer(_) = number {
        all.extend(orders.iter().map(|order| number.in_order(*order).with_sign(!number.is_signed())));
    }
    all
}

/// How unlikely it is, in bits, that any value of a type lies within a range.
fn chance(number: Number, [low, high]: [f64; 2]) -> f64 {
    let Number::Integer(integer) = number else { return 2.0 };
    let reach = power_of_two(8 * u32::from(integer.bytes));
    let (least, most) = if integer.signed { (-reach / 2.0, reach / 2.0) } else { (0.0, reach) };
    let inside = (high.min(most) - low.max(least) + 1.0).max(1.0);
    log2((reach / inside).max(1.0))
}

fn power_of_two(power: u32) -> f64 {
    (0..power).fold(1.0, |value, _| value * 2.0)
}

fn power_of_ten(power: i32) -> f64 {
    let value = (0..power.unsigned_abs()).fold(1.0, |value, _| value * 10.0);
    if power < 0 { 1.0 / value } else { value }
}

/// A decimal with its point moved.
fn shifted(scale: Decimal, power: i32) -> Option<Decimal> {
    let (mut coefficient, mut places) = (scale.coefficient(), i32::from(scale.places()) - power);
    // As nobody would write it, zeros stand behind.
    while places > 0 && coefficient != 0 && coefficient % 10 == 0 {
        (coefficient, places) = (coefficient / 10, places - 1);
    }
    match u8::try_from(places) {
        Ok(places) => Decimal::new(coefficient, places),
        Err(_) => Decimal::new(coefficient.checked_mul(10i128.checked_pow(places.unsigned_abs())?)?, 0),
    }
}

/// The square root, by Newton: a core without the standard library has none.
fn root(of: f64) -> f64 {
    if of <= 0.0 {
        return 0.0;
    }
    (0..40).fold(of.max(1.0), |root, _| (root + of / root) / 2.0)
}
