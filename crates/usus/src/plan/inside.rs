//! Lines that lie inside of others: what a field of their records carries.

use alloc::string::String;

use super::Field;

/// The bytes of one field of one kind of record, joined: lines of their own, one for each series of that kind.
#[derive(Clone, Debug)]
pub(crate) struct Inside {
    /// The field, as `kind.field`.
    pub(crate) name: String,
    /// How such lines are cut.
    pub(crate) route: usize,
}

/// A field whose bytes go on a line of their own.
#[derive(Clone)]
pub(crate) struct Carried {
    /// The number of what they belong to.
    pub(crate) inside: u16,
    pub(crate) field: Field,
}
