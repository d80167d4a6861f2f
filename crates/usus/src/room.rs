//! Room for text that is put together piece by piece: rows of tables, objects of JSON.
//!
//! What is put is shorter than what is written, nearly always: a block of fixed size is stored, and only the part that belongs there counts.
//! Nothing is stored in parts and then loaded as a whole, which processors wait for, and nothing depends on how many digits a number has.

use crate::value::{Clock, Date, Decimal, Name, ShortText, Value, Written};

/// Room for text, filled from the front. That something did not fit is noticed at the end ([`Room::filled`]); then all of it is to be put
/// again, where there is more room.
///
/// ```
/// use usus::Room;
///
/// let mut bytes = [0; 256];
/// let mut room = Room::new(&mut bytes);
/// room.text(b"tension=");
/// room.number(-23150, 2, b',');
/// room.number(7, 0, b';');
/// let length = room.filled().unwrap();
/// assert_eq!(&bytes[..length], b"tension=-231.50,7;");
/// ```
#[derive(Debug)]
pub struct Room<'r> {
    bytes: &'r mut [u8],
    /// A place that no sum runs over from: that need not be asked for each piece.
    at: u32,
    full: bool,
}

/// Room for a word at each of 32 places: more than numbers of sixteen digits need.
const NUMBER: usize = 40;
/// Longer texts are copied by the system's own way.
const SHORT: usize = 32;

impl<'r> Room<'r> {
    /// Fills `bytes`, at most the first 4 GiB. It takes some tens of bytes more than the text has.
    pub fn new(bytes: &'r mut [u8]) -> Room<'r> {
        let most = bytes.len().min(u32::MAX as usize);
        Room { bytes: &mut bytes[..most], at: 0, full: false }
    }

    /// Where the next byte goes.
    #[inline(always)]
    fn place(&self) -> usize {
        self.at as usize
    }

    /// Counts bytes that were filled.
    #[inline(always)]
    fn advance(&mut self, length: usize) {
        self.at += length as u32;
    }

    /// How many bytes are filled; nothing if something did not fit.
    pub fn filled(&self) -> Option<usize> {
        (!self.full).then_some(self.place())
    }

    /// The next bytes, if there are as many.
    #[inline(always)]
    fn next<const N: usize>(&mut self) -> Option<&mut [u8; N]> {
        let Some(next) = self.bytes.get_mut(self.place()..self.place() + N) else {
            self.full = true;
            return None;
        };
        next.first_chunk_mut::<N>()
    }

    /// Puts one byte.
    #[inline(always)]
    pub fn byte(&mut self, byte: u8) {
        if let Some(next) = self.next::<1>() {
            next[0] = byte;
            self.advance(1);
        }
    }

    /// Puts the first bytes of a block.
    #[inline(always)]
    pub fn block<const N: usize>(&mut self, block: &[u8; N], length: usize) {
        if let Some(next) = self.next::<N>() {
            *next = *block;
            self.advance(length.min(N));
        }
    }

    /// Puts a text.
    #[inline(always)]
    pub fn text(&mut self, text: &[u8]) {
        let next = self.bytes.get_mut(self.place()..self.place() + SHORT);
        let next = next.and_then(|bytes| bytes.first_chunk_mut::<SHORT>());
        match next {
            Some(next) if text.len() <= SHORT => {
                copy_short(text, next);
                self.advance(text.len());
            }
            _ => self.long_text(text),
        }
    }

    #[cold]
    #[inline(never)]
    fn long_text(&mut self, text: &[u8]) {
        match self.bytes.get_mut(self.place()..).and_then(|bytes| bytes.get_mut(..text.len())) {
            Some(next) => {
                next.copy_from_slice(text);
                self.advance(text.len());
            }
            None => self.full = true,
        }
    }

    /// Puts a number as it was written, and `end` behind it.
    #[inline(always)]
    pub fn written(&mut self, number: &Written<'_>, end: u8) {
        self.eight(number.eight(), number.length(), end);
    }

    /// Puts a short text, and `end` behind it.
    #[inline(always)]
    pub fn short_text(&mut self, text: &ShortText<'_>, end: u8) {
        self.eight(text.eight(), text.length(), end);
    }

    /// Puts at most eight characters, the first one lowest, and `end` behind them.
    #[inline(always)]
    fn eight(&mut self, characters: u64, length: usize, end: u8) {
        let Some(next) = self.next::<16>() else { return };
        next[..8].copy_from_slice(&characters.to_le_bytes());
        next[length & 15] = end;
        self.advance(length + 1);
    }

    /// The same in quotes.
    #[inline(always)]
    pub fn quoted_text(&mut self, text: &ShortText<'_>, end: u8) {
        let Some(next) = self.next::<18>() else { return };
        let length = text.length();
        next[0] = b'"';
        next[1..9].copy_from_slice(&text.eight().to_le_bytes());
        next[1 + (length & 15)] = b'"';
        next[2 + (length & 15)] = end;
        self.advance(length + 3);
    }

    /// Puts the name of a code as [`Visit::name`](crate::Visit::name) shows it, and `end` behind it.
    #[inline(always)]
    pub fn name(&mut self, name: &Name, end: u8) {
        let Some(next) = self.next::<32>() else { return };
        let (block, length) = (name.block(), name.text().len());
        next[..block.len()].copy_from_slice(block);
        next[length & 31] = end;
        self.advance(length + 1);
    }

    /// The same in quotes.
    #[inline(always)]
    pub fn quoted_name(&mut self, name: &Name, end: u8) {
        let Some(next) = self.next::<34>() else { return };
        let (block, length) = (name.block(), name.text().len());
        next[0] = b'"';
        next[1..=block.len()].copy_from_slice(block);
        next[1 + (length & 31)] = b'"';
        next[2 + (length & 31)] = end;
        self.advance(length + 3);
    }

    /// Puts `coefficient` divided by ten to the power of `places`, and `end` behind it.
    #[inline(always)]
    pub fn number(&mut self, coefficient: i64, places: u8, end: u8) {
        self.signed(coefficient < 0, coefficient.unsigned_abs(), places, end);
    }

    /// Puts a whole number, and `end` behind it.
    #[inline(always)]
    pub fn whole(&mut self, number: u64, end: u8) {
        match number {
            0..10 => self.block(&[b'0' + number as u8, end], 2),
            _ => self.signed(false, number, 0, end),
        }
    }

    #[inline(always)]
    fn signed(&mut self, negative: bool, magnitude: u64, places: u8, end: u8) {
        if places == 0 && magnitude < SMALL.len() as u64 {
            return self.small(negative, SMALL[magnitude as usize], end);
        }
        if magnitude >= EIGHT_DIGITS || places > 7 {
            return self.long_number(negative, magnitude, places, end);
        }
        let Some(next) = self.next::<NUMBER>() else { return };
        let (sign, places) = (usize::from(negative), usize::from(places));
        next[0] = b'-';
        let digits = digits_of(magnitude as u32);
        // At least one digit stands before the point.
        let skipped = (digits.trailing_zeros() as usize / 8).min(7 - places);
        let shown = (digits | ZEROS) >> (8 * skipped);
        let length = sign + fraction(next, sign, shown, 8 - skipped, places);
        next[length & 31] = end;
        self.advance(length + 1);
    }

    /// A whole number of at most three digits: states, counts and levels are.
    #[inline(never)]
    fn small(&mut self, negative: bool, [first, second, third, digits]: [u8; 4], end: u8) {
        let Some(next) = self.next::<8>() else { return };
        let sign = usize::from(negative);
        next[0] = b'-';
        next[sign..sign + 4].copy_from_slice(&[first, second, third, digits]);
        let length = sign + usize::from(digits & 3);
        next[length] = end;
        self.advance(length + 1);
    }

    /// A number of more than eight digits, or with many places.
    #[inline(never)]
    fn long_number(&mut self, negative: bool, magnitude: u64, places: u8, end: u8) {
        if !(EIGHT_DIGITS..EIGHT_DIGITS * EIGHT_DIGITS).contains(&magnitude) || places > 7 {
            let number = Decimal::small(negative, magnitude, places);
            self.text(number.text(&mut [0; Decimal::LONGEST]));
            return self.byte(end);
        }
        let Some(next) = self.next::<NUMBER>() else { return };
        let (sign, places) = (usize::from(negative), usize::from(places));
        next[0] = b'-';
        let (high, low) = ((magnitude / EIGHT_DIGITS) as u32, (magnitude % EIGHT_DIGITS) as u32);
        let digits = digits_of(high);
        let skipped = digits.trailing_zeros() as usize / 8;
        store(next, sign, (digits | ZEROS) >> (8 * skipped));
        let before = sign + 8 - skipped;
        let length = before + fraction(next, before, digits_of(low) | ZEROS, 8, places);
        next[length & 31] = end;
        self.advance(length + 1);
    }

    /// Puts a decimal number.
    pub fn decimal(&mut self, number: Decimal) {
        self.text(number.text(&mut [0; Decimal::LONGEST]));
    }

    /// Puts a time of day as ISO 8601, with the digits of a second that were sent.
    #[inline]
    pub fn clock(&mut self, clock: Clock) {
        let Some(next) = self.next::<NUMBER>() else { return };
        let [hour, minute, second] = [clock.hour(), clock.minute(), clock.second()].map(u64::from);
        let numbers = hour | minute << 24 | second << 48;
        // All three are taken apart at once, as pairs of digits are.
        let tens = (numbers * 103) >> 10 & 0x000F_0000_0F00_000F;
        store(next, 0, parts(numbers, tens, 10, 8) | CLOCK);
        let digits = usize::from(clock.digits());
        if digits == 0 {
            self.advance(8);
            return;
        }
        // Nine digits: the first, and eight.
        let first = clock.nanosecond() / EIGHT_DIGITS as u32;
        next[8] = b'.';
        next[9] = b'0' + first as u8;
        store(next, 10, digits_of(clock.nanosecond() - first * EIGHT_DIGITS as u32) | ZEROS);
        self.advance(9 + digits);
    }

    /// Puts a date as ISO 8601.
    #[inline]
    pub fn date(&mut self, date: Date) {
        let Some(next) = self.next::<NUMBER>() else { return };
        let [century, year] = [(date.year() / 100) as u8, (date.year() % 100) as u8].map(two_digits);
        store(next, 0, century | year << 16 | DASH << 32 | two_digits(date.month()) << 40 | DASH << 56);
        store(next, 8, two_digits(date.day()));
        self.advance(10);
    }

    /// Puts the text that a value's `Display` shows. Nothing is quoted or escaped.
    pub fn value(&mut self, value: Value<'_>) {
        match value {
            Value::Absent(_) => {}
            Value::Decimal(number) => self.decimal(number),
            Value::F32(number) => self.text(zmij::Buffer::new().format(number).as_bytes()),
            Value::F64(number) => self.text(zmij::Buffer::new().format(number).as_bytes()),
            Value::Text(text) => text.pieces().for_each(|piece| self.text(piece.as_bytes())),
            Value::Bytes(bytes) => {
                let digit = |nibble: u8| b"0123456789ABCDEF"[usize::from(nibble)];
                bytes.iter().for_each(|byte| self.block(&[digit(byte >> 4), digit(byte & 15)], 2));
            }
            Value::Bool(true) => self.text(b"true"),
            Value::Bool(false) => self.text(b"false"),
            Value::Code { name, .. } => self.text(name.as_bytes()),
            Value::Date(date) => self.date(date),
            Value::Clock(clock) => self.clock(clock),
        }
    }

    /// Takes back the last byte if it is this one: the comma behind the last of a list.
    #[inline]
    pub fn take_back(&mut self, last: u8) {
        let is_last = |at: usize| self.bytes.get(at) == Some(&last);
        self.at -= u32::from(self.place().checked_sub(1).is_some_and(is_last));
    }
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
fn fraction(next: &mut [u8; NUMBER], at: usize, shown: u64, digits: usize, places: usize) -> usize {
    let before = digits - places;
    store(next, at, shown);
    // Without places, what is stored here is stored upon again.
    let behind = shown >> ((8 * (before - 1)) & 63) >> 8;
    store(next, at + before, behind << 8 | u64::from(b'.'));
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
fn store(next: &mut [u8; NUMBER], at: usize, word: u64) {
    if let Some(place) = next.get_mut(at & 31..).and_then(|place| place.first_chunk_mut::<8>()) {
        *place = word.to_le_bytes();
    }
}

/// Copies at most [`SHORT`] bytes, in two parts that overlap.
#[inline(always)]
fn copy_short(text: &[u8], next: &mut [u8; SHORT]) {
    let length = text.len();
    if let (Some(first), Some(last)) = (text.first_chunk::<16>(), text.last_chunk::<16>()) {
        next[..16].copy_from_slice(first);
        next[length - 16..length].copy_from_slice(last);
    } else if let (Some(first), Some(last)) = (text.first_chunk::<8>(), text.last_chunk::<8>()) {
        next[..8].copy_from_slice(first);
        next[length - 8..length].copy_from_slice(last);
    } else if let (Some(first), Some(last)) = (text.first_chunk::<4>(), text.last_chunk::<4>()) {
        next[..4].copy_from_slice(first);
        next[length - 4..length].copy_from_slice(last);
    } else if let (Some(first), Some(last)) = (text.first(), text.last()) {
        (next[0], next[length / 2], next[length - 1]) = (*first, text[length / 2], *last);
    }
}
