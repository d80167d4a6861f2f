//! Two registers as one number: which order of their bytes makes sense, seen from how the numbers move.

/// The order of the bytes of two registers that are one number, as letters: `a` is its highest byte.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum WideOrder {
    /// `abcd`: the higher half first.
    Abcd,
    /// `cdab`: the lower half first.
    Cdab,
    /// `badc`: the higher half first, and in each the lower byte.
    Badc,
    /// `dcba`: the lowest byte first.
    Dcba,
}

impl WideOrder {
    /// All of them, those first that are met more often.
    pub const ALL: [WideOrder; 4] = [WideOrder::Abcd, WideOrder::Cdab, WideOrder::Badc, WideOrder::Dcba];

    /// What the two registers are in that order.
    pub fn number(self, first: u16, second: u16) -> u32 {
        let ([a, b], [c, d]) = (first.to_be_bytes(), second.to_be_bytes());
        u32::from_be_bytes(match self {
            WideOrder::Abcd => [a, b, c, d],
            WideOrder::Cdab => [c, d, a, b],
            WideOrder::Badc => [b, a, d, c],
            WideOrder::Dcba => [d, c, b, a],
        })
    }

    /// Whether the first of the two registers is the higher half.
    const fn has_high_half_first(self) -> bool {
        matches!(self, WideOrder::Abcd | WideOrder::Badc)
    }

    /// How a type has it: `f32be`, `u32cdab`.
    pub const fn letters(self) -> &'static str {
        match self {
            WideOrder::Abcd => "be",
            WideOrder::Cdab => "cdab",
            WideOrder::Badc => "badc",
            WideOrder::Dcba => "le",
        }
    }
}

/// Two registers as one number of 32 bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub struct Wide {
    /// Whether it is a floating-point number; else an integer.
    pub is_float: bool,
    /// The order of its bytes.
    pub order: WideOrder,
}

impl Wide {
    /// All that two registers can be.
    pub fn all() -> impl Iterator<Item = Wide> {
        let of = |is_float| WideOrder::ALL.into_iter().map(move |order| Wide { is_float, order });
        of(true).chain(of(false))
    }

    /// The type that a point of it has.
    pub fn type_word(self) -> alloc::string::String {
        alloc::format!("{}{}", if self.is_float { "f32" } else { "u32" }, self.order.letters())
    }
}

/// What is known of two registers side by side.
#[derive(Clone, Debug, Default)]
pub(super) struct Pairs {
    count: u64,
    last: Option<(u16, u16)>,
    /// How often anything changed.
    changes: u64,
    /// For each order, how often they were a floating-point number that anybody measures, and how far those went from one to the next, as powers of two.
    sound: [u64; 4],
    steps: [f32; 4],
    /// For each order, how far the register with the lower half went, as a number by itself.
    lower: [u64; 4],
    /// For each order, how often the lower half went over its end and the higher half by one with it; and against that, how often both moved otherwise.
    carries: [u32; 4],
    jumps: [u32; 4],
    /// Whether anything but 0 was among them.
    is_zero_only: [bool; 4],
}

/// Numbers that something measured: not 0 but for 0 itself, and not beyond what there is in a plant.
const SOUND: core::ops::RangeInclusive<f32> = 1e-5..=1e9;

impl Pairs {
    pub(super) fn add(&mut self, first: u16, second: u16) {
        let now = (first, second);
        let before = self.last.replace(now);
        self.changes += u64::from(before.is_some_and(|before| before != (first, second)));
        for (place, order) in WideOrder::ALL.into_iter().enumerate() {
            let number = order.number(first, second);
            let float = f32::from_bits(number);
            self.is_zero_only[place] = (self.count == 0 || self.is_zero_only[place]) && number == 0;
            self.sound[place] += u64::from(number == 0 || SOUND.contains(&float.abs()));
            let Some((first, second)) = before else { continue };
            let old = order.number(first, second);
            if old == number {
                continue;
            }
            // As a number by itself, which may begin again at its end, the lower half has its own high byte first.
            let lower =
                if order.has_high_half_first() { now.1.wrapping_sub(second) } else { now.0.wrapping_sub(first) };
            self.lower[place] += u64::from((lower as i16).unsigned_abs());
            self.steps[place] += step(f32::from_bits(old), float);
            let (high, low) = ((number >> 16) as i32 - (old >> 16) as i32, (number as u16).abs_diff(old as u16));
            if high != 0 {
                let is_carry = high.abs() == 1 && low > 0x8000;
                *if is_carry { &mut self.carries[place] } else { &mut self.jumps[place] } += 1;
            }
        }
        self.count += 1;
    }

    pub(super) fn last(&self, order: WideOrder) -> Option<u32> {
        self.last.map(|(first, second)| order.number(first, second))
    }

    pub(super) fn likely(&self) -> Option<Wide> {
        let floats = WideOrder::ALL.into_iter().enumerate().filter(|(place, _)| {
            !self.is_zero_only[*place] && self.sound[*place] == self.count && self.moves_like_float(*place)
        });
        let steadiest = floats.min_by(|one, other| self.steps[one.0].total_cmp(&self.steps[other.0]));
        // Two small integers side by side make no number that anybody measures; a few that do are soon told by how they move.
        if let Some((place, order)) = steadiest
            && (self.changes == 0 || self.steps[place] / (self.changes as f32) < FLOAT_STEP)
        {
            return Some(Wide { is_float: true, order });
        }
        let counts = |place: usize| self.carries[place] > 0 && self.carries[place] >= 8 * self.jumps[place];
        let (_, order) = WideOrder::ALL.into_iter().enumerate().find(|(place, _)| counts(*place))?;
        Some(Wide { is_float: false, order })
    }
}

impl Pairs {
    /// Whether the lower half can be the digits behind those of a measured number: they move by far, or are none.
    fn moves_like_float(&self, place: usize) -> bool {
        let Some(number) = WideOrder::ALL.get(place).and_then(|order| self.last(*order)) else { return false };
        let thousandths = f64::from(f32::from_bits(number)) * 1_000.0;
        let nearest = (thousandths + if thousandths < 0.0 { -0.5 } else { 0.5 }) as i64 as f64;
        match (self.changes, self.lower[place]) {
            // What never changes was put in by somebody, with few digits.
            (0, _) => (thousandths - nearest).abs() <= thousandths.abs() * f64::from(f32::EPSILON),
            (_, 0) => number as u16 == 0,
            (changes, lower) => lower > LOWER_STEP * changes,
        }
    }
}

/// Numbers that move further than this from one look to the next, on the average, are random: powers of two.
const FLOAT_STEP: f32 = 4.0;

/// A half that moves no further than this, on the average, is a number by itself.
const LOWER_STEP: u64 = 256;

/// How far it is from one number to another, as a power of two.
fn step(old: f32, new: f32) -> f32 {
    let exponent = |number: f32| (number.to_bits() >> 23 & 0xFF) as f32;
    let signs = if old.is_sign_negative() == new.is_sign_negative() { 0.0 } else { 1.0 };
    match old == 0.0 || new == 0.0 {
        true => 1.0,
        // Within one power of two, what follows the exponent counts.
        false => (exponent(old) - exponent(new)).abs() + signs + ((old - new) / new).abs().min(1.0),
    }
}
