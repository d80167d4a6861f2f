//! Byte patterns, ready to be found.

use alloc::boxed::Box;
use alloc::vec::Vec;

use memchr::memmem::Finder;

use crate::format::{BytePattern, MaskedByte};

/// Some bytes to be found: one sequence, or several of which each will do, all of one length.
#[derive(Clone)]
pub(crate) struct Pattern {
    length: usize,
    /// The first eight bytes of the first one as a word, low byte first, and a mask of the bits that matter.
    pub(crate) word: [u64; 2],
    /// Whether the word is all there is to it.
    is_word: bool,
    alternatives: Box<[Vec<MaskedByte>]>,
    /// Which bytes may begin it.
    begins: Box<[bool; 256]>,
    /// What finds it, if all bits of a single one matter.
    finder: Option<Finder<'static>>,
}

impl Pattern {
    pub(crate) fn new(declared: &BytePattern) -> Pattern {
        let length = declared.length();
        let alternatives: Box<[Vec<MaskedByte>]> = declared.alternatives().into();
        let first = alternatives.first().map_or(&[][..], |first| first);
        let word = first.iter().take(8).enumerate().fold([0; 2], |[word, mask], (index, byte)| {
            let shifted = |byte: u8| u64::from(byte) << (8 * index);
            [word | shifted(byte.value), mask | shifted(byte.mask)]
        });
        let mut begins = Box::new([length == 0; 256]);
        for (byte, may_begin) in begins.iter_mut().enumerate() {
            let is_it = |first: &MaskedByte| byte as u8 & first.mask == first.value;
            *may_begin |= alternatives.iter().filter_map(|bytes| bytes.first()).any(is_it);
        }
        let finder = declared.bytes().map(|bytes| Finder::new(&bytes).into_owned());
        Pattern { length, word, is_word: alternatives.len() == 1 && length <= 8, alternatives, begins, finder }
    }

    /// How many bytes it has.
    #[inline(always)]
    pub(crate) fn length(&self) -> usize {
        self.length
    }

    /// The only sequence that it can be as a word of its first eight bytes and a mask, if these are all.
    pub(crate) fn only_word(&self) -> Option<[u64; 2]> {
        self.is_word.then_some(self.word)
    }

    /// Whether bytes begin with it.
    #[inline(always)]
    pub(crate) fn begins(&self, bytes: &[u8]) -> bool {
        match bytes.first_chunk::<8>() {
            Some(eight) if self.is_word => u64::from_le_bytes(*eight) & self.word[1] == self.word[0],
            _ => self.begins_slowly(bytes),
        }
    }

    #[inline(never)]
    fn begins_slowly(&self, bytes: &[u8]) -> bool {
        bytes.len() >= self.length && self.may_begin(bytes)
    }

    /// Whether bytes, which may be fewer than it has, are those with which it begins.
    fn may_begin(&self, bytes: &[u8]) -> bool {
        let fits = |pattern: &Vec<MaskedByte>| {
            pattern.iter().zip(bytes).all(|(pattern, byte)| byte & pattern.mask == pattern.value)
        };
        bytes.first().is_none_or(|first| self.begins[usize::from(*first)]) && self.alternatives.iter().any(fits)
    }

    /// Where it is first.
    pub(crate) fn find(&self, bytes: &[u8]) -> Option<usize> {
        if let Some(finder) = &self.finder {
            return finder.find(bytes);
        }
        let last = bytes.len().checked_sub(self.length)?;
        let mut at = 0;
        while at <= last {
            at += bytes[at..].iter().position(|byte| self.begins[usize::from(*byte)])?;
            if at <= last && self.begins(&bytes[at..]) {
                return Some(at);
            }
            at += 1;
        }
        None
    }

    /// How many bytes at the end of some may be its begin.
    pub(crate) fn hidden(&self, bytes: &[u8]) -> usize {
        let most = bytes.len().min(self.length.saturating_sub(1));
        (1..=most).rev().find(|length| self.may_begin(&bytes[bytes.len() - length..])).unwrap_or(0)
    }
}
