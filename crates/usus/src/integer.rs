//! Integers as they lie in bytes.

/// An integer in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Integer {
    /// Whether it has a sign (two's complement).
    pub signed: bool,
    /// Bytes, 1 to 8.
    pub bytes: u8,
    /// Order of its bytes.
    pub order: Order,
}

/// Order of bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// The most significant byte first.
    Big,
    /// The least significant byte first.
    Little,
}
