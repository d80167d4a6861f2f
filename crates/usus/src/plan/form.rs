//! Lines as they are printed: what tells whether a line is one, and where its fields are.

use alloc::boxed::Box;

use regex_automata::meta::Regex;

/// The forms that the lines of one record may have, as one automaton: the first that fits.
#[derive(Clone)]
pub(crate) struct Form {
    pub(crate) regex: Regex,
    /// For each form, the group of each field; nothing if the form does not have it.
    pub(crate) groups: Box<[Box<[Option<usize>]>]>,
    /// The forms, where all of them are simple enough: most lines are told sooner by them.
    pub(crate) walks: Option<Box<[Walk]>>,
    /// How many fields the record has in them.
    pub(crate) slots: usize,
    /// Its place among all of the format.
    pub(crate) number: usize,
}

/// A form as the steps that a line is held against, one behind the other.
#[derive(Clone)]
pub(crate) struct Walk {
    pub(crate) steps: Box<[Step]>,
}

/// One of them. What follows a number in a form never goes on like one.
#[derive(Clone)]
pub(crate) enum Step {
    Literal(Box<[u8]>),
    /// One or more.
    Blanks,
    /// What follows may be missing: so many steps on, it goes on without it.
    Open {
        behind: usize,
    },
    /// A text of any length, in this slot.
    Text(u16),
    /// A decimal number with one of the suffixes, if there are any; or one of the marks.
    Number {
        slot: u16,
        suffixes: Box<[Box<[u8]>]>,
        marks: Box<[Box<[u8]>]>,
    },
    OneOf {
        slot: u16,
        words: Box<[Box<[u8]>]>,
    },
}
