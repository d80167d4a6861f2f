//! A buffer for text that is put together piece by piece: rows of tables, objects of JSON, with what separates their parts.
//!
//! What is put is shorter than what is written, nearly always: a block of fixed size is stored, and only the part that belongs there counts.

use usus::fast::{self, Block, Name, ShortText, Written};
use usus::{Clock, Date, Decimal, Value};

/// Text, filled from the front. That something did not fit is noticed at the end ([`TextBuffer::filled`]); then all of it is to be put
/// again, where there is more room.
///
/// ```
/// use usus_io::TextBuffer;
///
/// let mut bytes = [0; 256];
/// let mut text = TextBuffer::new(&mut bytes);
/// text.text(b"tension=");
/// text.number(-23150, 2, b',');
/// text.number(7, 0, b';');
/// let length = text.filled().unwrap();
/// assert_eq!(&bytes[..length], b"tension=-231.50,7;");
/// ```
#[derive(Debug)]
pub struct TextBuffer<'r> {
    bytes: &'r mut [u8],
    /// A place that no sum runs over from: that need not be asked for each piece.
    at: u32,
    full: bool,
}

/// What a block of the core's takes.
const BLOCK: usize = size_of::<Block>();
/// Longer texts are copied by the system's own way.
const SHORT: usize = 32;

impl<'r> TextBuffer<'r> {
    /// Fills `bytes`, at most the first 4 GiB. It takes some tens of bytes more than the text has.
    pub fn new(bytes: &'r mut [u8]) -> TextBuffer<'r> {
        let most = bytes.len().min(u32::MAX as usize);
        TextBuffer { bytes: &mut bytes[..most], at: 0, full: false }
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

    /// Puts the name of a code as [`Visit::name`](usus::fast::Visit::name) shows it, and `end` behind it.
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
        let Some(next) = self.next::<BLOCK>() else { return };
        let length = fast::number(next, coefficient, places);
        next[length.min(BLOCK - 1)] = end;
        self.advance(length + 1);
    }

    /// Puts a whole number, and `end` behind it.
    #[inline(always)]
    pub fn whole(&mut self, number: u64, end: u8) {
        let Some(next) = self.next::<BLOCK>() else { return };
        let length = fast::whole(next, number);
        next[length.min(BLOCK - 1)] = end;
        self.advance(length + 1);
    }

    /// Puts a decimal number.
    pub fn decimal(&mut self, number: Decimal) {
        self.text(number.text(&mut [0; Decimal::LONGEST]));
    }

    /// Puts a time of day as ISO 8601, with the digits of a second that were sent.
    #[inline]
    pub fn clock(&mut self, clock: Clock) {
        let Some(next) = self.next::<BLOCK>() else { return };
        let length = fast::clock(next, clock);
        self.advance(length);
    }

    /// Puts a date as ISO 8601.
    #[inline]
    pub fn date(&mut self, date: Date) {
        let Some(next) = self.next::<BLOCK>() else { return };
        let length = fast::date(next, date);
        self.advance(length);
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
            Value::HexBytes(digits) => digits.iter().for_each(|digit| self.byte(digit.to_ascii_uppercase())),
            Value::Bool(true) => self.text(b"true"),
            Value::Bool(false) => self.text(b"false"),
            Value::Code { name, .. } => self.text(name.as_bytes()),
            Value::Date(date) => self.date(date),
            Value::Clock(clock) => self.clock(clock),
            other => self.text(other.to_string().as_bytes()),
        }
    }

    /// Takes back the last byte if it is this one: the comma behind the last of a list.
    #[inline]
    pub fn take_back(&mut self, last: u8) {
        let is_last = |at: usize| self.bytes.get(at) == Some(&last);
        self.at -= u32::from(self.place().checked_sub(1).is_some_and(is_last));
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
