//! A register as it was seen, or a coil or discrete input as 0 or 1.

use super::wide::{Pairs, Wide};

/// What was seen of a register.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Register {
    /// How often it was read.
    pub reads: u64,
    /// How often it was written.
    pub writes: u64,
    /// What stood in it last.
    pub last: u16,
    /// How often it was not what it was before.
    pub changes: u64,
    /// The least that stood in it, without a sign.
    pub least: u16,
    /// The most.
    pub most: u16,
    /// The same with a sign.
    pub least_signed: i16,
    /// The most, with a sign.
    pub most_signed: i16,
    /// Whether it always was two printable characters, or one and a byte 0.
    is_text: bool,
    pairs: Pairs,
}

impl Register {
    pub(super) fn new(value: u16, is_written: bool) -> Register {
        let signed = value as i16;
        let mut register = Register {
            reads: 0,
            writes: 0,
            last: value,
            changes: 0,
            least: value,
            most: value,
            least_signed: signed,
            most_signed: signed,
            is_text: true,
            pairs: Pairs::default(),
        };
        register.add(value, is_written);
        register
    }

    pub(super) fn add(&mut self, value: u16, is_written: bool) {
        let signed = value as i16;
        *if is_written { &mut self.writes } else { &mut self.reads } += 1;
        self.changes += u64::from(value != self.last);
        self.last = value;
        (self.least, self.most) = (self.least.min(value), self.most.max(value));
        self.least_signed = self.least_signed.min(signed);
        self.most_signed = self.most_signed.max(signed);
        self.is_text &= text_of(value).is_some();
    }

    /// Takes what stood in it and in the one behind it at the same time.
    pub(super) fn add_wide(&mut self, first: u16, second: u16) {
        self.pairs.add(first, second);
    }

    /// What stood in it last as text, if it always was that.
    pub fn text(&self) -> Option<[char; 2]> {
        if self.is_text { text_of(self.last) } else { None }
    }

    /// What it and the one behind it were last as a number of 32 bits, in that order.
    pub fn wide(&self, of: Wide) -> Option<u32> {
        self.pairs.last(of.order)
    }

    /// As what number of 32 bits it and the one behind it make sense, if they make more sense as one than by themselves.
    pub fn likely(&self) -> Option<Wide> {
        self.pairs.likely()
    }
}

fn text_of(value: u16) -> Option<[char; 2]> {
    let [first, second] = value.to_be_bytes();
    let is_shown = |byte: u8| (b' '..=b'~').contains(&byte);
    let can_be = is_shown(first) && (is_shown(second) || second == 0);
    can_be.then(|| [first, second].map(char::from))
}
