//! Lines as they are printed, as steps that a line is held against. Whatever is not simple is left to the automaton.

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::format::{Field as Declared, FieldType, Literal};
use crate::plan::{Step, Walk};
use crate::value::{Charset, sent_as};

/// A form with more steps is not walked along: each may lead to another.
const MOST: usize = 64;

/// The steps of a form so far.
#[derive(Default)]
pub(super) struct Steps {
    steps: Vec<Step>,
    /// The fields, by their names, where a slot stands in a step.
    names: Vec<String>,
    /// Where brackets were opened.
    open: Vec<usize>,
    /// Something was not simple.
    failed: bool,
    /// Literals do not go on over the end of a bracket.
    begins_anew: bool,
}

impl Steps {
    pub(super) fn blanks(&mut self) {
        self.steps.push(Step::Blanks);
    }

    pub(super) fn character(&mut self, character: char, charsets: &[Charset]) {
        let mut room = [0; 4];
        let [sent] = &*sent_as(character.encode_utf8(&mut room), charsets) else {
            self.failed = true;
            return;
        };
        match self.steps.last_mut() {
            Some(Step::Literal(literal)) if !self.begins_anew => {
                let mut longer = core::mem::take(literal).into_vec();
                longer.extend_from_slice(sent);
                *literal = longer.into();
            }
            _ => self.steps.push(Step::Literal(sent.clone())),
        }
        self.begins_anew = false;
    }

    pub(super) fn open(&mut self) {
        self.open.push(self.steps.len());
        self.steps.push(Step::Open { behind: 0 });
        self.begins_anew = true;
    }

    pub(super) fn close(&mut self) {
        let end = self.steps.len();
        if let Some(begin) = self.open.pop()
            && let Some(Step::Open { behind }) = self.steps.get_mut(begin)
        {
            *behind = end - begin;
        }
        self.begins_anew = true;
    }

    /// Adds a field; nothing is known of one that only stands for any text.
    pub(super) fn field(&mut self, name: &str, declared: Option<&Declared>) {
        let slot = self.names.len() as u16;
        self.names.push(name.to_string());
        match declared.map_or(Some(Step::Text(slot)), |declared| step_of(slot, declared)) {
            Some(step) => self.steps.push(step),
            None => self.failed = true,
        }
    }

    /// All of them, with the slots that the names have; nothing if they are not simple.
    pub(super) fn walk(mut self, names: &[String]) -> Option<Walk> {
        if self.failed || self.steps.len() > MOST {
            return None;
        }
        for at in 0..self.steps.len() {
            let behind = self.steps.get(at + 1..).unwrap_or_default();
            if matches!(self.steps[at], Step::Number { .. }) && !cannot_go_on(behind) {
                return None;
            }
        }
        for step in &mut self.steps {
            if let Step::Text(slot) | Step::Number { slot, .. } | Step::OneOf { slot, .. } = step {
                let name = self.names.get(usize::from(*slot))?;
                *slot = names.iter().position(|known| known == name)? as u16;
            }
        }
        Some(Walk { steps: self.steps.into() })
    }
}

/// Whether what these steps fit never begins with what a number may have.
fn cannot_go_on(steps: &[Step]) -> bool {
    match steps.first() {
        None | Some(Step::Blanks) => true,
        Some(Step::Literal(literal)) => !literal.first().is_none_or(|byte| is_of_number(*byte)),
        Some(Step::Open { behind }) => {
            cannot_go_on(steps.get(1..).unwrap_or_default()) && cannot_go_on(steps.get(*behind..).unwrap_or_default())
        }
        Some(Step::Text(_) | Step::Number { .. } | Step::OneOf { .. }) => false,
    }
}

fn is_of_number(byte: u8) -> bool {
    byte.is_ascii_digit() || matches!(byte, b'+' | b'-' | b'.' | b'e' | b'E')
}

/// What fits a field, if that is simple.
fn step_of(slot: u16, declared: &Declared) -> Option<Step> {
    let kind = declared.kind.as_ref().map_or(FieldType::Text, |kind| kind.value);
    let words = |literals: &mut dyn Iterator<Item = &Literal>| -> Option<Box<[Box<[u8]>]>> {
        let one = |literal: &Literal| {
            let text = match literal {
                Literal::Text(text) => text.clone(),
                Literal::Number(number) => number.to_string(),
                Literal::Bits(bits) => bits.to_string(),
                Literal::Bool(flag) => flag.to_string(),
            };
            // Several ways to be sent are several words, whose order is the automaton's.
            let [sent] = <[Box<[u8]>; 1]>::try_from(sent_as(&text, &declared.charsets)).ok()?;
            // A word of nothing fits anywhere, and one that begins with a blank has fewer of them before it.
            sent.first().is_some_and(|byte| !matches!(byte, b' ' | b'\t')).then_some(sent)
        };
        literals.map(one).collect()
    };
    let marks = || declared.no_data.iter().map(|mark| &mark.value);
    if let Some(only) = &declared.equals {
        return Some(Step::OneOf { slot, words: words(&mut [&only.value].into_iter().chain(marks()))? });
    }
    if declared.closed || kind == FieldType::Bool {
        let codes = declared.codes.iter().map(|(code, _)| &code.value);
        return Some(Step::OneOf { slot, words: words(&mut codes.chain(marks()))? });
    }
    let is_plain = declared.decimal.as_ref().is_none_or(|mark| mark.value == ".")
        && declared.thousands.is_none()
        && declared.limit_marks.is_none();
    match kind {
        FieldType::Text => Some(Step::Text(slot)),
        FieldType::Number if is_plain => {
            let mut suffixes: Vec<Box<[u8]>> = Vec::new();
            for (suffix, _) in &declared.suffixes {
                let [sent] = <[Box<[u8]>; 1]>::try_from(sent_as(&suffix.value, &declared.charsets)).ok()?;
                if sent.first().is_none_or(|byte| is_of_number(*byte) || matches!(byte, b' ' | b'\t')) {
                    return None;
                }
                suffixes.push(sent);
            }
            suffixes.sort_by_key(|suffix| core::cmp::Reverse(suffix.len()));
            Some(Step::Number { slot, suffixes: suffixes.into(), marks: words(&mut marks())? })
        }
        _ => None,
    }
}
