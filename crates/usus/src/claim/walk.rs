//! Whether a line looks as it is printed, told by walking along the form: what the automaton would say, sooner. What cannot be told so is left to it.

use alloc::boxed::Box;

use crate::plan::{Step, Walk};

/// What walking along a form tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Told {
    Fits,
    DoesNotFit,
    /// The automaton has to tell.
    Unknown,
}

/// Where each field of the form is: its first byte, and the one behind it.
type Found = [Option<[u16; 2]>];

/// Walks along a form. Of a line that fits, `found` tells where its fields are: for each slot of the record, or nothing.
pub(super) fn walk(walk: &Walk, text: &[u8], lead: usize, found: &mut Found) -> Told {
    let mut walker = Walker { text, lead, found, left: 64 + 4 * text.len(), is_sure: true };
    let begin = walker.blanks(0);
    // A text may begin with a blank.
    walker.is_sure = begin == 0 || !matches!(walk.steps.first(), Some(Step::Text(_)));
    match walker.fits(&walk.steps, begin) {
        _ if walker.left == 0 || !walker.is_sure => Told::Unknown,
        true => Told::Fits,
        false => Told::DoesNotFit,
    }
}

struct Walker<'w> {
    text: &'w [u8],
    lead: usize,
    found: &'w mut Found,
    /// Steps that may still be made: a line that leads astray is left to the automaton.
    left: usize,
    /// Whether all ways that the automaton would try were tried.
    is_sure: bool,
}

impl Walker<'_> {
    /// Where the blanks from a place on end.
    fn blanks(&self, at: usize) -> usize {
        let rest = self.text.get(at..).unwrap_or_default();
        at + rest.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count()
    }

    fn begins(&self, at: usize, literal: &[u8]) -> bool {
        self.text.get(at..).is_some_and(|rest| starts(rest, literal))
    }

    /// Whether the steps fit what stands from a place on, in the order in which the automaton would try.
    fn fits(&mut self, steps: &[Step], at: usize) -> bool {
        self.left = self.left.saturating_sub(1);
        if self.left == 0 {
            return false;
        }
        let Some((step, rest)) = steps.split_first() else { return self.blanks(at) == self.text.len() };
        match step {
            Step::Literal(literal) => self.begins(at, literal) && self.fits(rest, at + literal.len()),
            Step::Blanks => {
                let behind = self.blanks(at);
                // Fewer blanks could only fit where what follows may begin with one.
                let fits = behind > at && self.fits(rest, behind);
                let begins_with_one = matches!(rest.first(), Some(Step::Text(_) | Step::Blanks | Step::Open { .. }));
                self.is_sure &= fits || behind < at + 2 || !begins_with_one;
                fits
            }
            Step::Open { behind } => self.fits(rest, at) || self.fits(steps.get(*behind..).unwrap_or_default(), at),
            Step::Text(slot) => {
                let mut end = at + 1;
                while end <= self.text.len() {
                    // Most texts end before a character that is told.
                    if let Some(Step::Literal(literal)) = rest.first()
                        && let Some(first) = literal.first()
                    {
                        let Some(place) = memchr::memchr(*first, self.text.get(end..).unwrap_or_default()) else {
                            return false;
                        };
                        end += place;
                    }
                    if self.field(*slot, at, end, rest) {
                        return true;
                    }
                    if self.left == 0 {
                        return false;
                    }
                    end += 1;
                }
                false
            }
            Step::Number { slot, suffixes, marks } => {
                let number = number(self.text.get(at..).unwrap_or_default());
                self.is_sure &= number != Number::Unsure;
                let length = if let Number::Ends(length) = number { Some(length) } else { None };
                let as_number = length.is_some_and(|length| match &**suffixes {
                    [] => self.field(*slot, at, at + length, rest),
                    suffixes => {
                        let suffix = self.blanks(at + length);
                        suffixes
                            .iter()
                            .any(|text| self.begins(suffix, text) && self.field(*slot, at, suffix + text.len(), rest))
                    }
                });
                as_number || self.one_of(*slot, marks, at, rest)
            }
            Step::OneOf { slot, words } => self.one_of(*slot, words, at, rest),
        }
    }

    fn one_of(&mut self, slot: u16, words: &[Box<[u8]>], at: usize, rest: &[Step]) -> bool {
        words.iter().any(|word| self.begins(at, word) && self.field(slot, at, at + word.len(), rest))
    }

    /// Whether the rest fits behind a field, which is noted then.
    fn field(&mut self, slot: u16, from: usize, to: usize, rest: &[Step]) -> bool {
        let fits = self.fits(rest, to);
        if fits && let Some(found) = self.found.get_mut(usize::from(slot)) {
            *found = Some([(self.lead + from) as u16, (self.lead + to) as u16]);
        }
        fits
    }
}

/// Whether bytes begin with a few others.
#[inline]
fn starts(bytes: &[u8], others: &[u8]) -> bool {
    bytes.len() >= others.len() && bytes.iter().zip(others).all(|(one, other)| one == other)
}

/// A number that stands somewhere.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Number {
    /// There is none.
    None,
    /// It has so many characters, and what follows goes on like no number.
    Ends(usize),
    /// There may be one, of one length or another.
    Unsure,
}

/// The number with which a text begins.
fn number(text: &[u8]) -> Number {
    let digits = |at: usize| text.get(at..).unwrap_or_default().iter().take_while(|byte| byte.is_ascii_digit()).count();
    let mut at = usize::from(matches!(text.first(), Some(b'+' | b'-')));
    let whole = digits(at);
    at += whole;
    let places = if text.get(at) == Some(&b'.') { digits(at + 1) } else { 0 };
    if whole == 0 && places == 0 {
        return Number::None;
    }
    at += if text.get(at) == Some(&b'.') { 1 + places } else { 0 };
    match text.get(at) {
        Some(b'e' | b'E' | b'+' | b'-' | b'.') => Number::Unsure,
        _ => Number::Ends(at),
    }
}
