//! Exact decimal numbers: what a scaled integer or a number in a text is.

use core::cmp::Ordering;
use core::fmt;

use super::wide::Wide;
use crate::limits;

/// A decimal number: sign, integer magnitude and places after the point. 231.50 is 23150 with two places.
///
/// It is exact to 38 digits. Places are kept: 231.5 and 231.50 compare equal as numbers ([`Decimal::compare`]) and print as
/// they were made. The sign is kept apart from the magnitude, so "-0.0" keeps its sign too.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Decimal {
    /// The magnitude in two halves: nearly every one fits the low half, which is all that the fast paths look at.
    low: u64,
    high: u64,
    places: u8,
    negative: bool,
}

/// The largest magnitude: 38 nines.
const MOST: u128 = 10u128.pow(limits::DIGITS as u32) - 1;

impl Decimal {
    /// Zero without places.
    pub const ZERO: Decimal = Decimal::small(false, 0, 0);

    /// `coefficient` divided by ten to the power of `places`; nothing past 38 digits or 38 places.
    pub const fn new(coefficient: i128, places: u8) -> Option<Decimal> {
        Decimal::from_parts(coefficient < 0, coefficient.unsigned_abs(), places)
    }

    /// A number from its sign, magnitude and places; nothing past 38 digits or 38 places.
    pub const fn from_parts(negative: bool, magnitude: u128, places: u8) -> Option<Decimal> {
        if magnitude > MOST || places > limits::PLACES {
            return None;
        }
        Some(Decimal { low: magnitude as u64, high: (magnitude >> 64) as u64, places, negative })
    }

    /// The integer `value`.
    pub const fn from_integer(value: i64) -> Decimal {
        Decimal::small(value < 0, value.unsigned_abs(), 0)
    }

    /// The unsigned integer `value`.
    pub const fn from_unsigned(value: u64) -> Decimal {
        Decimal::small(false, value, 0)
    }

    /// A number whose magnitude fits 64 bits. `places` is at most [`limits::PLACES`].
    pub(crate) const fn small(negative: bool, magnitude: u64, places: u8) -> Decimal {
        Decimal { low: magnitude, high: 0, places, negative }
    }

    /// Reads `[+-] digits [. digits] [e [+-] digits]`; a point needs a digit on one side at least. Nothing else is
    /// allowed around it, and nothing is rounded.
    ///
    /// ```
    /// use usus::Decimal;
    /// assert_eq!(Decimal::parse(b"-0.50").unwrap().to_string(), "-0.50");
    /// assert_eq!(Decimal::parse(b"1.5e-3").unwrap().to_string(), "0.0015");
    /// assert!(Decimal::parse(b"1 2").is_none());
    /// ```
    pub fn parse(text: &[u8]) -> Option<Decimal> {
        Decimal::parse_short(text).or_else(|| Decimal::parse_any(text))
    }

    /// The same for what is nearly always sent: at most 18 digits, no exponent.
    #[inline]
    pub(crate) fn parse_short(text: &[u8]) -> Option<Decimal> {
        let (negative, digits) = match text {
            [b'-', digits @ ..] => (true, digits),
            digits => (false, digits),
        };
        if digits.len() > 18 {
            return None;
        }
        let (mut magnitude, mut point) = (0u64, None);
        for (index, &byte) in digits.iter().enumerate() {
            let digit = byte.wrapping_sub(b'0');
            if digit < 10 {
                magnitude = magnitude * 10 + u64::from(digit);
            } else if byte == b'.' && point.is_none() {
                point = Some(index);
            } else {
                return None;
            }
        }
        let places = point.map_or(0, |point| digits.len() - point - 1);
        let any = digits.len() > usize::from(point.is_some());
        any.then_some(Decimal::small(negative, magnitude, places as u8))
    }

    fn parse_any(text: &[u8]) -> Option<Decimal> {
        let (negative, digits) = match text.first()? {
            b'-' => (true, &text[1..]),
            b'+' => (false, &text[1..]),
            _ => (false, text),
        };
        let mut magnitude: u128 = 0;
        let mut places: i32 = 0;
        let mut any = false;
        let mut point = false;
        for (index, &byte) in digits.iter().enumerate() {
            match byte {
                b'0'..=b'9' => {
                    any = true;
                    magnitude = magnitude.checked_mul(10)?.checked_add(u128::from(byte - b'0'))?;
                    places += i32::from(point);
                    if magnitude > MOST || places > i32::from(limits::PLACES) {
                        return None;
                    }
                }
                b'.' if !point => point = true,
                b'e' | b'E' if any => {
                    places -= exponent(&digits[index + 1..])?;
                    break;
                }
                _ => return None,
            }
        }
        if !any {
            return None;
        }
        while places < 0 {
            magnitude = magnitude.checked_mul(10)?;
            places += 1;
            if magnitude > MOST {
                return None;
            }
        }
        Decimal::from_parts(negative, magnitude, u8::try_from(places).ok()?)
    }

    /// Digits of the number without its point and sign.
    #[inline]
    pub const fn magnitude(self) -> u128 {
        (self.high as u128) << 64 | self.low as u128
    }

    /// Places after the point.
    pub const fn places(self) -> u8 {
        self.places
    }

    /// Whether it has a minus sign (also of a zero).
    pub const fn is_negative(self) -> bool {
        self.negative
    }

    /// Whether it is zero, with whatever sign.
    pub const fn is_zero(self) -> bool {
        self.low == 0 && self.high == 0
    }

    /// The signed magnitude.
    pub const fn coefficient(self) -> i128 {
        // 38 nines fit into an i128.
        if self.negative { -(self.magnitude() as i128) } else { self.magnitude() as i128 }
    }

    /// The signed magnitude, if it fits 64 bits.
    #[inline]
    pub const fn small_coefficient(self) -> Option<i64> {
        if self.high != 0 || self.low > i64::MAX as u64 {
            return None;
        }
        Some(if self.negative { -(self.low as i64) } else { self.low as i64 })
    }

    /// The number as an integer, if it is one.
    pub fn to_integer(self) -> Option<i128> {
        if let (0, Some(small)) = (self.places, self.small_coefficient()) {
            return Some(small.into());
        }
        let unit = 10u128.pow(u32::from(self.places));
        self.magnitude().is_multiple_of(unit).then(|| self.coefficient() / unit as i128)
    }

    /// The nearest binary floating-point number.
    pub fn to_f64(self) -> f64 {
        // Both factors are exact below these bounds, so the one division rounds correctly.
        if self.high == 0 && self.low < 1 << 53 && self.places <= 22 {
            let value = self.low as f64 / POWERS[usize::from(self.places)];
            return if self.negative { -value } else { value };
        }
        let mut text = [0; Decimal::LONGEST];
        core::str::from_utf8(self.text(&mut text)).ok().and_then(|text| text.parse().ok()).unwrap_or(f64::NAN)
    }

    /// The nearest binary floating-point number of 32 bits, rounded once.
    pub fn to_f32(self) -> f32 {
        let mut text = [0; Decimal::LONGEST];
        core::str::from_utf8(self.text(&mut text)).ok().and_then(|text| text.parse().ok()).unwrap_or(f32::NAN)
    }

    /// The product, exact; nothing past 38 digits.
    pub fn times(self, other: Decimal) -> Option<Decimal> {
        let magnitude = self.magnitude().checked_mul(other.magnitude())?;
        Decimal::from_parts(self.negative != other.negative, magnitude, self.places.checked_add(other.places)?)
    }

    /// The sum, exact, with the places of the operand that has more; nothing past 38 digits.
    pub fn plus(self, other: Decimal) -> Option<Decimal> {
        let places = self.places.max(other.places);
        let (a, b) = (self.at_places(places)?, other.at_places(places)?);
        if a.is_zero() && b.is_zero() {
            return Decimal::from_parts(a.negative && b.negative, 0, places);
        }
        Decimal::new(a.coefficient() + b.coefficient(), places)
    }

    /// The same number with more places; nothing past 38 digits.
    fn at_places(self, places: u8) -> Option<Decimal> {
        let factor = 10u128.checked_pow(u32::from(places - self.places))?;
        Decimal::from_parts(self.negative, self.magnitude().checked_mul(factor)?, places)
    }

    /// The same number without zeros behind its last place: equal numbers are written alike.
    pub(crate) fn shortest(self) -> Decimal {
        if self.places == 0 && !self.is_zero() {
            return self;
        }
        let (mut magnitude, mut places) = (self.magnitude(), self.places);
        while places > 0 && magnitude.is_multiple_of(10) {
            (magnitude, places) = (magnitude / 10, places - 1);
        }
        Decimal::from_parts(self.negative && magnitude > 0, magnitude, places).unwrap_or(self)
    }

    /// `self * numerator / denominator + addend`, rounded once, half to even, to `places`. Nothing if the result has more than 38 digits.
    pub fn convert(self, numerator: i128, denominator: i128, addend: (i128, i128), places: u8) -> Option<Decimal> {
        let (negative, quotient, half) = match self.convert_small(numerator, denominator, addend, places) {
            Some(found) => found,
            None => self.convert_wide(numerator, denominator, addend, places)?,
        };
        let up = match half {
            Ordering::Less => 0,
            Ordering::Greater => 1,
            Ordering::Equal => quotient & 1,
        };
        let rounded = quotient.checked_add(up)?;
        Decimal::from_parts(if rounded == 0 { self.negative } else { negative }, rounded, places)
    }

    /// Sign and magnitude of the result without its fraction, and how that compares with a half; nothing if a product is too large.
    fn convert_small(
        self,
        numerator: i128,
        denominator: i128,
        addend: (i128, i128),
        places: u8,
    ) -> Option<(bool, u128, Ordering)> {
        // value = magnitude * numerator / (denominator * 10^own) + addend.0 / addend.1, times 10^places
        let own = 10i128.checked_pow(u32::from(self.places))?;
        let wanted = 10i128.checked_pow(u32::from(places))?;
        let bottom = denominator.checked_mul(own)?.checked_mul(addend.1)?.unsigned_abs();
        let top = self
            .coefficient()
            .checked_mul(numerator)?
            .checked_mul(addend.1)?
            .checked_add(addend.0.checked_mul(denominator)?.checked_mul(own)?)?
            .checked_mul(wanted)?;
        let (quotient, remainder) = (top.unsigned_abs() / bottom, top.unsigned_abs() % bottom);
        Some((top < 0, quotient, remainder.checked_mul(2)?.cmp(&bottom)))
    }

    /// The same where products have more than 128 bits.
    #[cold]
    fn convert_wide(
        self,
        numerator: i128,
        denominator: i128,
        addend: (i128, i128),
        places: u8,
    ) -> Option<(bool, u128, Ordering)> {
        let own = 10u128.checked_pow(u32::from(self.places))?;
        let wanted = 10u128.checked_pow(u32::from(places))?;
        let [below, beside] = [denominator, addend.1].map(i128::unsigned_abs);
        let bottom = Wide::of(below).times(own)?.times(beside)?;
        let product = Wide::of(self.magnitude()).times(numerator.unsigned_abs())?.times(beside)?;
        let added = Wide::of(addend.0.unsigned_abs()).times(below)?.times(own)?;
        let (negative, adds_negative) = (self.negative != (numerator < 0), addend.0 < 0);
        let (negative, top) = match product.compare(&added) {
            _ if negative == adds_negative => (negative, product.plus(added)?),
            Ordering::Less => (adds_negative, added.minus(product)),
            _ => (negative, product.minus(added)),
        };
        let (quotient, remainder) = top.times(wanted)?.divide(bottom)?;
        Some((negative, quotient, remainder.plus(remainder)?.compare(&bottom)))
    }

    /// Compares as numbers: 1.5 equals 1.50, and -0 equals 0.
    #[inline]
    pub fn compare(self, other: Decimal) -> Ordering {
        if self.places == other.places && !self.negative && !other.negative {
            return (self.high, self.low).cmp(&(other.high, other.low));
        }
        match (self.negative && !self.is_zero(), other.negative && !other.is_zero()) {
            (true, false) => Ordering::Less,
            (false, true) => Ordering::Greater,
            (true, true) => other.compare_magnitude(self),
            (false, false) => self.compare_magnitude(other),
        }
    }

    fn compare_magnitude(self, other: Decimal) -> Ordering {
        if self.places == other.places {
            return self.magnitude().cmp(&other.magnitude());
        }
        if self.places > other.places {
            return other.compare_magnitude(self).reverse();
        }
        // The scaled side can only overflow when it is the larger one: the other has at most 38 digits.
        let factor = 10u128.pow(u32::from(other.places - self.places));
        match self.magnitude().checked_mul(factor) {
            Some(scaled) => scaled.cmp(&other.magnitude()),
            None => Ordering::Greater,
        }
    }

    /// The longest text of a number.
    pub const LONGEST: usize = limits::DIGITS + 4;

    /// The number as text.
    pub fn text(self, room: &mut [u8; Decimal::LONGEST]) -> &[u8] {
        let length = self.write_into(room);
        &room[..length]
    }

    /// Writes the number as text at the start of `out` (42 bytes are always enough) and returns its length.
    fn write_into(self, out: &mut [u8; Decimal::LONGEST]) -> usize {
        let mut digits = itoa::Buffer::new();
        // The 64-bit path is several times faster and nearly always enough.
        let digits = if self.high == 0 { digits.format(self.low) } else { digits.format(self.magnitude()) }.as_bytes();
        let places = usize::from(self.places);
        let mut length = 0;
        if self.negative {
            out[0] = b'-';
            length = 1;
        }
        if places == 0 {
            out[length..length + digits.len()].copy_from_slice(digits);
            return length + digits.len();
        }
        let whole = digits.len().saturating_sub(places);
        if whole == 0 {
            out[length] = b'0';
            length += 1;
        } else {
            out[length..length + whole].copy_from_slice(&digits[..whole]);
            length += whole;
        }
        out[length] = b'.';
        length += 1;
        let zeros = places.saturating_sub(digits.len());
        out[length..length + zeros].fill(b'0');
        length += zeros;
        out[length..length + digits.len() - whole].copy_from_slice(&digits[whole..]);
        length + digits.len() - whole
    }
}

/// Powers of ten that a binary floating-point number holds exactly.
const POWERS: [f64; 23] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20,
    1e21, 1e22,
];

/// The exponent behind the `e`: at most three digits, so that no sum overflows.
fn exponent(text: &[u8]) -> Option<i32> {
    let (negative, digits) = match text.first()? {
        b'-' => (true, &text[1..]),
        b'+' => (false, &text[1..]),
        _ => (false, text),
    };
    if digits.is_empty() || digits.len() > 3 {
        return None;
    }
    let mut value = 0;
    for &byte in digits {
        if !byte.is_ascii_digit() {
            return None;
        }
        value = value * 10 + i32::from(byte - b'0');
    }
    Some(if negative { -value } else { value })
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(core::str::from_utf8(self.text(&mut [0; Decimal::LONGEST])).unwrap_or_default())
    }
}
