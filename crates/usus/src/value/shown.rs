//! Numbers and times as text, put into blocks of fixed size: what is put is shorter than what is written, nearly always. A block is stored, and only the
//! part that belongs there counts. Nothing is stored in parts and then loaded as a whole, which processors wait for, and nothing depends on how many
//! digits a number has.

use super::{Clock, Date, Decimal};

/// What one of these is put into: more than any has.
pub type Block = [u8; 48];

/// Puts `coefficient` divided by ten to the power of `places`. Returns how many characters that are; what stands behind them is of no use.
///
/// ```
/// let mut block = [0; 48];
/// let length = usus::fast::number(&mut block, -23150, 2);
/// assert_eq!(&block[..length], b"-231.50");
/// ```
#[inline(always)]
pub fn number(block: &mut Block, coefficient: i64, places: u8) -> usize {
    signed(block, coefficient < 0, coefficient.unsigned_abs(), places)
}

/// Puts a whole number. Returns how many characters that are.
#[inline(always)]
pub fn whole(block: &mut Block, number: u64) -> usize {
    match number {
        0..10 => {
            block[0] = b'0' + number as u8;
            1
        }
        _ => signed(block, false, number, 0),
    }
}

#[inline(always)]
fn signed(block: &mut Block, negative: bool, magnitude: u64, places: u8) -> usize {
    if places == 0 && magnitude < SMALL.len() as u64 {
        return small(block, negative, SMALL[magnitude as usize]);
    }
    if magnitude >= EIGHT_DIGITS || places > 7 {
        return long_number(block, negative, magnitude, places);
    }
    let (sign, places) = (usize::from(negative), usize::from(places));
    block[0] = b'-';
    let digits = digits_of(magnitude as u32);
    // At least one digit stands before the point.
    let skipped = (digits.trailing_zeros() as usize / 8).min(7 - places);
    let shown = (digits | ZEROS) >> (8 * skipped);
    sign + fraction(block, sign, shown, 8 - skipped, places)
}

/// A whole number of at most three digits: states, counts and levels are.
#[inline(never)]
fn small(block: &mut Block, negative: bool, [first, second, third, digits]: [u8; 4]) -> usize {
    let sign = usize::from(negative);
    block[0] = b'-';
    block[sign..sign + 4].copy_from_slice(&[first, second, third, digits]);
    sign + usize::from(digits & 3)
}

/// A number of more than eight digits, or with many places.
#[inline(never)]
fn long_number(block: &mut Block, negative: bool, magnitude: u64, places: u8) -> usize {
    if !(EIGHT_DIGITS..EIGHT_DIGITS * EIGHT_DIGITS).contains(&magnitude) || places > 7 {
        let mut room = [0; Decimal::LONGEST];
        let text = Decimal::small(negative, magnitude, places).text(&mut room);
        block[..text.len()].copy_from_slice(text);
        return text.len();
    }
    let (sign, places) = (usize::from(negative), usize::from(places));
    block[0] = b'-';
    let (high, low) = ((magnitude / EIGHT_DIGITS) as u32, (magnitude % EIGHT_DIGITS) as u32);
    let digits = digits_of(high);
    let skipped = digits.trailing_zeros() as usize / 8;
    store(block, sign, (digits | ZEROS) >> (8 * skipped));
    let before = sign + 8 - skipped;
    before + fraction(block, before, digits_of(low) | ZEROS, 8, places)
}

/// Puts a time of day as ISO 8601, with the digits of a second that were sent. Returns how many characters that are.
#[inline]
pub fn clock(block: &mut Block, clock: Clock) -> usize {
    let [hour, minute, second] = [clock.hour(), clock.minute(), clock.second()].map(u64::from);
    let numbers = hour | minute << 24 | second << 48;
    // All three are taken apart at once, as pairs of digits are.
    let tens = (numbers * 103) >> 10 & 0x000F_0000_0F00_000F;
    store(block, 0, parts(numbers, tens, 10, 8) | CLOCK);
    let digits = usize::from(clock.digits());
    if digits == 0 {
        return 8;
    }
    // Nine digits: the first, and eight.
    let first = clock.nanosecond() / EIGHT_DIGITS as u32;
    block[8] = b'.';
    block[9] = b'0' + first as u8;
    store(block, 10, digits_of(clock.nanosecond() - first * EIGHT_DIGITS as u32) | ZEROS);
    9 + digits
}

/// Puts a date as ISO 8601. Returns how many characters that are.
#[inline]
pub fn date(block: &mut Block, date: Date) -> usize {
    let [century, year] = [(date.year() / 100) as u8, (date.year() % 100) as u8].map(two_digits);
    store(block, 0, century | year << 16 | DASH << 32 | two_digits(date.month()) << 40 | DASH << 56);
    store(block, 8, two_digits(date.day()));
    10
}

const EIGHT_DIGITS: u64 = 100_000_000;
const ZEROS: u64 = u64::from_ne_bytes([b'0'; 8]);
/// A time of day without its digits.
const CLOCK: u64 = u64::from_le_bytes(*b"00:00:00");
const DASH: u64 = b'-' as u64;

/// A number below a hundred as two characters, the first in the lowest byte.
#[inline(always)]
fn two_digits(number: u8) -> u64 {
    let number = u64::from(number);
    (number / 10) | ((number % 10) << 8) | 0x3030
}

/// The digits of a number of at most eight, the first one in the lowest byte: halves are taken apart into pairs, and those into digits.
#[inline(always)]
fn digits_of(number: u32) -> u64 {
    let number = u64::from(number);
    let high = number / 10_000;
    let halves = parts(number, high, 10_000, 32);
    // Exact for all numbers below ten thousand, and for all below a hundred.
    let pairs = parts(halves, (halves * 10_486) >> 20 & 0x0000_007F_0000_007F, 100, 16);
    parts(pairs, (pairs * 103) >> 10 & 0x000F_000F_000F_000F, 10, 8)
}

/// Numbers taken apart: each quotient goes where its number is, and what remains of the number, which is the number less that many quotients,
/// so many bits up.
#[inline(always)]
fn parts(numbers: u64, quotients: u64, divisor: u64, up: u32) -> u64 {
    (numbers << up).wrapping_sub(quotients.wrapping_mul((divisor << up) - 1))
}

/// Stores digits of which `places` stand behind a point. Returns how many characters these are. `digits` is 1 to 8, `places` less.
#[inline(always)]
fn fraction(block: &mut Block, at: usize, shown: u64, digits: usize, places: usize) -> usize {
    let before = digits - places;
    store(block, at, shown);
    // Without places, what is stored here is stored upon again.
    let behind = shown >> ((8 * (before - 1)) & 63) >> 8;
    store(block, at + before, behind << 8 | u64::from(b'.'));
    digits + usize::from(places > 0)
}

/// The digits of all numbers below a thousand, and how many these are.
static SMALL: [[u8; 4]; 1_000] = {
    let mut all = [[0; 4]; 1_000];
    let mut number = 0;
    while number < all.len() {
        let [hundreds, tens, ones] = [number / 100, number / 10 % 10, number % 10];
        let digits = [b'0' + hundreds as u8, b'0' + tens as u8, b'0' + ones as u8];
        all[number] = match (hundreds, tens) {
            (0, 0) => [digits[2], 0, 0, 1],
            (0, _) => [digits[1], digits[2], 0, 2],
            _ => [digits[0], digits[1], digits[2], 3],
        };
        number += 1;
    }
    all
};

/// Stores eight bytes, the lowest first, at a place of at most 31.
#[inline(always)]
fn store(block: &mut Block, at: usize, word: u64) {
    if let Some(place) = block.get_mut(at & 31..).and_then(|place| place.first_chunk_mut::<8>()) {
        *place = word.to_le_bytes();
    }
}
