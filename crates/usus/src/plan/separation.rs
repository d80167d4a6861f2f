//! What stands between the columns of a text, or between keys and values.

use alloc::boxed::Box;
use alloc::vec::Vec;

use crate::format::Repeated;
use crate::read::Cells;

/// What stands between the columns of a text.
#[derive(Clone)]
pub(crate) enum Separation {
    /// One byte: columns lie side by side.
    Byte(u8),
    /// Anything else: columns lie apart from one another.
    Apart(Box<Apart>),
}

/// Columns with more between them than one byte.
#[derive(Clone)]
pub(crate) struct Apart {
    /// The texts that separate, the longest first.
    pub(crate) separators: Box<[Box<[u8]>]>,
    /// Whether each byte begins one of them.
    pub(crate) begins: Box<[Begins; 256]>,
    /// Whether several in a row are one.
    pub(crate) joined: bool,
    pub(crate) quote: Option<u8>,
    /// What is behind keys, where that is what they are.
    pub(crate) pairs: Option<Box<Pairs>>,
}

/// Values behind keys. The value of each label is a column that lies apart, in the order of the labels; then come columns without a key.
#[derive(Clone)]
pub(crate) struct Pairs {
    pub(crate) assign: Box<[u8]>,
    pub(crate) repeated: Repeated,
    /// The keys that some record of the frame knows.
    pub(crate) labels: Box<[Box<[u8]>]>,
    /// Their places, in the order of their bytes.
    pub(crate) sorted: Box<[u16]>,
}

impl Pairs {
    pub(crate) fn new(assign: Box<[u8]>, repeated: Repeated, labels: Box<[Box<[u8]>]>) -> Pairs {
        let mut sorted: Box<[u16]> = (0..labels.len() as u16).collect();
        sorted.sort_by_key(|place| &labels[usize::from(*place)]);
        Pairs { assign, repeated, labels, sorted }
    }

    /// The place of a label, which is likely to be `next`.
    #[inline]
    pub(crate) fn place(&self, key: &[u8], next: usize) -> Option<usize> {
        if self.labels.get(next).is_some_and(|label| **label == *key) {
            return Some(next);
        }
        let found = self.sorted.binary_search_by(|place| (*self.labels[usize::from(*place)]).cmp(key)).ok()?;
        self.sorted.get(found).map(|place| usize::from(*place))
    }

    /// The column of the first key that no record knows: it stands before those of the labels.
    pub(crate) const UNKNOWN: usize = 0;
    /// The column of the first label.
    pub(crate) const FIRST: usize = 1;
}

impl Separation {
    /// Where nothing separates: each field is told for itself.
    pub(crate) fn nothing() -> Separation {
        let begins = Box::new([Begins::None; 256]);
        Separation::Apart(Box::new(Apart {
            separators: Box::default(),
            begins,
            joined: false,
            quote: None,
            pairs: None,
        }))
    }

    /// `apart` says whether columns have to lie apart, since some may not be there.
    pub(crate) fn new(separators: Vec<Box<[u8]>>, joined: bool, quote: Option<u8>, apart: bool) -> Separation {
        let mut separators = separators;
        if separators.is_empty() {
            separators.push(Box::new(*b","));
        }
        if let ([one], false, None) = (&*separators, joined || apart, quote)
            && let [byte] = **one
        {
            return Separation::Byte(byte);
        }
        let mut begins = Box::new([Begins::None; 256]);
        for separator in &separators {
            let Some(first) = separator.first() else { continue };
            let known = &mut begins[usize::from(*first)];
            *known = if separator.len() == 1 && *known == Begins::None { Begins::Itself } else { Begins::Some };
        }
        separators.sort_by_key(|separator| core::cmp::Reverse(separator.len()));
        let separators = separators.into();
        Separation::Apart(Box::new(Apart { separators, begins, joined, quote, pairs: None }))
    }

    /// The same, between pairs.
    pub(crate) fn of_pairs(separators: Vec<Box<[u8]>>, joined: bool, quote: Option<u8>, pairs: Pairs) -> Separation {
        let mut separation = Separation::new(separators, joined, quote, true);
        if let Separation::Apart(apart) = &mut separation {
            (apart.joined, apart.pairs) = (joined, Some(Box::new(pairs)));
        }
        separation
    }

    /// The byte between columns that lie side by side; of others, one that may be taken for it, as nothing follows from it.
    pub(crate) fn byte(&self) -> u8 {
        match self {
            Separation::Byte(byte) => *byte,
            Separation::Apart(_) => b',',
        }
    }

    /// Places that each column has among those that are written down: where it begins and, if the next one does not tell, where it ends.
    pub(crate) fn places(&self) -> usize {
        match self {
            Separation::Byte(_) => 1,
            Separation::Apart(_) => 2,
        }
    }

    /// How many separators a text has.
    pub(crate) fn count(&self, text: &[u8]) -> usize {
        match self {
            Separation::Byte(byte) => text.iter().filter(|found| *found == byte).count(),
            // A value behind a key is one column, whatever is in it.
            Separation::Apart(apart) if apart.pairs.is_some() => 0,
            Separation::Apart(apart) => {
                let (mut rest, mut count) = (text, 0);
                while let Some((_, others)) = rest.split_first() {
                    let length = apart.separates(rest);
                    count += usize::from(length.is_some());
                    rest = length.and_then(|length| rest.get(length..)).unwrap_or(others);
                }
                count
            }
        }
    }

    /// How many columns a text has.
    pub(crate) fn columns_of(&self, cells: &Cells<'_>) -> usize {
        match self {
            Separation::Byte(_) => cells.column_count(),
            Separation::Apart(_) => cells.apart_count(),
        }
    }

    /// Whether fields are found by their columns, not by their keys or the look of the text.
    pub(crate) fn has_columns(&self) -> bool {
        match self {
            Separation::Byte(_) => true,
            Separation::Apart(apart) => apart.pairs.is_none() && !apart.separators.is_empty(),
        }
    }

    /// Whether values stand behind keys.
    pub(crate) fn is_pairs(&self) -> bool {
        matches!(self, Separation::Apart(apart) if apart.pairs.is_some())
    }

    /// Whether nothing but a blank separates, and each of them.
    pub(crate) fn is_blank(&self) -> bool {
        match self {
            Separation::Byte(byte) => *byte == b' ',
            Separation::Apart(apart) => {
                !apart.joined && apart.separators.iter().any(|separator| separator.iter().all(u8::is_ascii_whitespace))
            }
        }
    }
}

/// What a byte begins.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Begins {
    /// No separator.
    None,
    /// The separator that it is.
    Itself,
    /// A separator, perhaps.
    Some,
}

impl Apart {
    /// The length of the separator that bytes begin with.
    #[inline]
    pub(crate) fn separates(&self, bytes: &[u8]) -> Option<usize> {
        let first = bytes.first()?;
        match self.begins[usize::from(*first)] {
            Begins::None => return None,
            Begins::Itself => return Some(1),
            Begins::Some => {}
        }
        self.separators.iter().find(|separator| bytes.starts_with(separator)).map(|separator| separator.len())
    }
}
