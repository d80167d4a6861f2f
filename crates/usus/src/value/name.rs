//! Names of codes: known before the first byte, and made ready then to be put into rows and objects.

use alloc::boxed::Box;

/// The longest name that is put as a block of fixed size.
const LONGEST: usize = 24;

/// The name that a format gives to a code.
#[derive(Clone, Debug)]
pub struct Name {
    text: Box<str>,
    /// Its characters.
    block: [u8; LONGEST],
    is_plain: bool,
}

impl Name {
    pub(crate) fn new(text: &str) -> Name {
        let bytes = text.as_bytes();
        let special = |byte: &u8| matches!(byte, b',' | b'"' | b'\\') || !matches!(byte, b' '..=b'~');
        Name {
            text: text.into(),
            block: core::array::from_fn(|index| bytes.get(index).copied().unwrap_or(0)),
            is_plain: (1..=LONGEST).contains(&bytes.len()) && !bytes.iter().any(special),
        }
    }

    /// Its text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether it is short and printable ASCII, and has no comma, quote or backslash: it is shown as it is.
    #[inline(always)]
    pub(crate) fn is_plain(&self) -> bool {
        self.is_plain
    }

    /// The characters of one that is shown by [`Visit::name`](crate::fast::Visit::name), and more behind them.
    #[inline(always)]
    pub fn block(&self) -> &[u8; LONGEST] {
        &self.block
    }
}
