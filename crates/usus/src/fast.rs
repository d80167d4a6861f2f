//! What fast outputs need, and only they: a [`Visit`]or sees the fields of a record by the shortest way that leads to each value, often as they were
//! written; and numbers and times are put as text into blocks of fixed size.

pub use crate::record::Visit;
pub use crate::value::shown::{Block, clock, date, number, whole};
pub use crate::value::{Name, ShortText, Together, Written};
