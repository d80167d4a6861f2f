//! Whether numbers are read as they are sent: with the bytes in another order, with a sign, or a power of ten off, they may lie within their range, or go
//! smoothly from frame to frame.

use alloc::collections::BTreeSet;
use alloc::string::{String, ToString};
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

/// Bits of what is a good guess and no more.
const GUESS: f64 = 14.0;

/// The bytes of a kind's fields, frame by frame.
#[derive(Clone, Debug, Default)]
pub(super) struct Series {
    pub(super) records: usize,
    fields: Vec<(usize, usize, Vec<Vec<u8>>)>,
}

impl Sink for Series {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let kind = record.kind_index();
        self.records += 1;
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
            let number = Number::of(declared)?;
            let (now, other) = judge(declared, number, series)?;
            Some(Proposal {
                wrong: other.wrong,
                place: alloc::format!("{}.{}", schema.name, field.name),
                declared: number.said(declared),
                proposed: other.said,
                holds: other.inside as u64,
                now: now as u64,
                of: series.len() as u64,
                bits: other.bits,
                open: None,
                also: Vec::new(),
            })
        };
        self.fields.iter().filter_map(of).collect()
    }
}

/// The declaration of a field that stands by itself, without bits, names and such.
fn declared<'f>(format: &'f Format, kind: &str, name: &str) -> Option<&'f Field> {
    let field = format.field(kind, name)?;
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
    fn word(self) -> String {
        match self {
            Number::Integer(integer) => integer.to_string(),
            Number::F32(order) => alloc::format!("f32{order}"),
            Number::F64(order) => alloc::format!("f64{order}"),
        }
    }

    /// What is declared of it.
    fn said(self, declared: &Field) -> String {
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
    /// How far they go from one to the next, where they change: the logarithms.
    steps: Vec<f64>,
    /// The mean of that.
    roughness: f64,
    /// The longest way from one to the next.
    longest: i128,
    /// How often they leap over nearly all there is and stay there for a while.
    leaps: usize,
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
    let far: Vec<f64> = steps().map(|step| log2(step as f64 + 1.0)).collect();
    let reach = 1i128 << (8 * size);
    Looks {
        inside,
        roughness: mean(&far),
        steps: far,
        longest: steps().max().unwrap_or(0),
        leaps: {
            let leaps = steps().filter(|step| *step > reach / 8 * 7).count();
            let beyond = places.iter().filter(|place| **place > reach / 4 * 3 || **place < -reach / 4).count();
            // One that is damaged leaps there and back.
            leaps.min(beyond.saturating_sub(leaps / 2))
        },
    }
}

fn mean(of: &[f64]) -> f64 {
    if of.is_empty() { 0.0 } else { of.iter().sum::<f64>() / of.len() as f64 }
}

/// How unlikely it is, in bits, that one way to read numbers is smoother than another by chance: what it gains from step to step, by how much that varies.
fn by_smoothness(now: &Looks, other: &Looks) -> f64 {
    let gains: Vec<f64> = now.steps.iter().zip(&other.steps).map(|(now, other)| now - other).collect();
    let gain = mean(&gains);
    let spread = gains.iter().map(|one| (one - gain) * (one - gain)).sum::<f64>() / gains.len().max(1) as f64;
    // What has nothing to do with each other differs by about two; a step there and back is one thing.
    let deviations = gain * root(gains.len() as f64 / 2.0) / root(spread).max(2.1);
    // No step says more than that it became shorter.
    if gain > 0.0 { (deviations * deviations * 0.72 - 3.0).min(gains.len() as f64) } else { 0.0 }
}

/// Another way to read a field.
struct Other {
    wrong: Wrong,
    /// What a format says of it.
    said: String,
    /// How many values lie in the range then.
    inside: usize,
    /// How unlikely that is by chance.
    bits: f64,
    /// What it is chosen by, if there are several.
    goodness: f64,
}

/// How many values lie in the range, and the way to read them that seems to be meant instead.
fn judge(declared: &Field, number: Number, series: &[Vec<u8>]) -> Option<(usize, Other)> {
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
    let mut best: Option<Other> = None;
    let mut add_way = |goodness: f64, wrong, said, inside, bits| {
        if best.as_ref().is_none_or(|known| goodness > known.goodness) {
            best = Some(Other { wrong, said, inside, bits, goodness });
        }
    };
    let outside = all - now.inside.min(all);
    // It brings nearly all of those back into the range that are outside.
    let fits = |inside: usize| inside * 20 >= all * 19;
    let mends = |inside: usize| {
        let gained = inside.saturating_sub(now.inside);
        let is_enough = fits(inside) || (gained * 2 > all && inside * 5 >= all * 4);
        outside >= 3 && is_enough && gained * 5 >= outside * 4
    };
    for other in orders(number) {
        let looks = looks(other, &series, range);
        let smoother = now.roughness - looks.roughness;
        let by_smoothness = by_smoothness(&now, &looks);
        let mends = mends(looks.inside);
        let by_range = match range {
            Some(range) if mends => chance(other, range) * (distinct.min(8) as f64) - 3.0,
            _ => 0.0,
        };
        let is_it = (mends && smoother > -0.3)
            || (looks.inside >= now.inside && smoother > 1.5 && changes >= ENOUGH && by_smoothness > 0.0);
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
        let leaps_less = looks.inside >= now.inside && leaps && changes >= ENOUGH;
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
                by_range.max(if leaps { 4.0 * now.leaps as f64 } else { 0.0 }),
            );
        }
    }
    if let Some([low, high]) = range {
        for power in [-1, 1, -2, 2, -3, 3] {
            let factor = power_of_ten(power);
            let scaled = [low / factor, high / factor];
            let looks = looks(number, &series, Some(scaled));
            // A few that are outside may well be so.
            if !mends(looks.inside) || now.inside * 2 > all {
                continue;
            }
            let written = declared.scale.as_ref().map_or(Decimal::from_integer(1), |scale| scale.value);
            let Some(text) = shifted(written, power) else { continue };
            // What is outside of a range for another reason comes into it by any large factor: this is never more than a guess.
            let bits = (chance(number, scaled) * (distinct.min(8) as f64) - 3.0).min(GUESS);
            let goodness = 5.0 + 100.0 * looks.inside as f64 / all as f64 - f64::from(power.abs());
            add_way(goodness, Wrong::Scale, alloc::format!("scale = {text}"), looks.inside, bits);
        }
    }
    best.map(|best| (now.inside, best))
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
