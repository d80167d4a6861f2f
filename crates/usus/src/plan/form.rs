//! Lines as they are printed: the automaton that tells whether a line is one, and where its fields are.

use alloc::boxed::Box;

use regex_automata::meta::Regex;

/// The forms that the lines of one record may have, as one automaton: the first that fits.
#[derive(Clone)]
pub(crate) struct Form {
    pub(crate) regex: Regex,
    /// For each form, the group of each field; nothing if the form does not have it.
    pub(crate) groups: Box<[Box<[Option<usize>]>]>,
    /// Its place among all of the format.
    pub(crate) number: usize,
}
