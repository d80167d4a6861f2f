//! The layout of a format as a table: what stands where. For people who compare it with a datasheet.

use alloc::string::String;

/// One row: a field, a constant, a checksum, or reserved bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LayoutRow {
    /// The frame.
    pub frame: String,
    /// The record; nothing for what all records of the frame share.
    pub record: Option<String>,
    /// The group that it is an item's field of.
    pub group: Option<String>,
    /// Its place, such as `byte 4-6`, `column 3` or `last 2 bytes`.
    pub place: String,
    /// Its name.
    pub name: String,
    /// Its type as declared.
    pub kind: String,
    /// Unit of its values.
    pub unit: String,
    /// What else is declared: scale, range, codes.
    pub notes: String,
}
