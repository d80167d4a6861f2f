//! The blocks of a capture, one after the other, whole or not at all.

use std::io::{self, Read};
use std::ops::Range;

use super::{BYTE_ORDER, ENTERPRISE, OPTION_CUSTOM, OPTION_END, PREFIX, SECTION};
use crate::source::{SourceError, Torn, is_pause};

/// Larger blocks are taken for damage. A chunk is a few thousand bytes.
const LARGEST_BLOCK: u32 = 1 << 24;
/// How much is read at once.
const WINDOW: usize = 1 << 17;

/// Reads blocks.
pub(super) struct Blocks<R> {
    reader: R,
    /// Offset in the file behind the last whole block.
    pub(super) at: u64,
    big_endian: bool,
    /// What was read and is not done with: the last whole block, and what came behind it.
    pub(super) window: Vec<u8>,
    /// Where in the window the next block begins…
    next: usize,
    /// …and where what was read ends.
    filled: usize,
    /// The body of the last whole block.
    pub(super) body: Range<usize>,
    pub(super) torn: Option<Torn>,
}

/// What came of reading a block.
pub(super) enum Block {
    Of(u32),
    /// Nothing comes for a moment.
    Pause,
    /// There is no whole block any more.
    End,
}

/// Whether enough bytes are there.
enum Filled {
    Enough,
    Pause,
    End,
}

impl<R: Read> Blocks<R> {
    pub(super) fn new(reader: R) -> Blocks<R> {
        Blocks { reader, at: 0, big_endian: false, window: vec![0; WINDOW], next: 0, filled: 0, body: 0..0, torn: None }
    }

    /// What was read of the next block and what follows it.
    fn pending(&self) -> &[u8] {
        &self.window[self.next..self.filled]
    }

    /// The body of the last whole block: without its frame of type and lengths.
    pub(super) fn block(&self) -> &[u8] {
        &self.window[self.body.clone()]
    }

    /// Reads the next whole block. A pause in the middle of it loses nothing: the next call goes on.
    pub(super) fn read_block(&mut self) -> Result<Block, SourceError> {
        match self.fill_to(12)? {
            Filled::Enough => {}
            Filled::Pause => return Ok(Block::Pause),
            Filled::End => return Ok(self.end_torn(self.pending().len() as u64)),
        }
        let section = self.u32(self.pending(), 0) == SECTION;
        if section {
            self.big_endian = match self.u32(self.pending(), 8) {
                BYTE_ORDER => self.big_endian,
                other if other.swap_bytes() == BYTE_ORDER => !self.big_endian,
                _ => return Err(self.broken("a section has no byte order")),
            };
        }
        let (kind, length) = (self.u32(self.pending(), 0), self.u32(self.pending(), 4));
        if kind == 0 && length == 0 {
            // A file that is zeroed behind its last block was not written to its end.
            let bytes = self.rest()?;
            return Ok(self.end_torn(bytes));
        }
        if !(12..=LARGEST_BLOCK).contains(&length) || !length.is_multiple_of(4) || (section && length < 28) {
            return Err(self.broken("the length of a block is impossible"));
        }
        let size = length as usize;
        match self.fill_to(size)? {
            Filled::Enough => {}
            Filled::Pause => return Ok(Block::Pause),
            Filled::End => return Ok(self.end_torn(self.pending().len() as u64)),
        }
        let trailer = self.u32(self.pending(), size - 4);
        if trailer == 0 {
            // The last block of a file that lost its tail may be filled up with zeros.
            let bytes = self.rest()?;
            return Ok(self.end_torn(bytes));
        }
        if trailer != length {
            return Err(self.broken("the two lengths of a block differ"));
        }
        self.body = self.next + 8..self.next + size - 4;
        self.next += size;
        self.at += u64::from(length);
        Ok(Block::Of(kind))
    }

    pub(super) fn broken(&self, what: &'static str) -> SourceError {
        SourceError::Capture { at: self.at, what }
    }

    fn end_torn(&mut self, bytes: u64) -> Block {
        if bytes > 0 {
            self.torn = Some(Torn { at: self.at, bytes });
        }
        Block::End
    }

    /// How many bytes are left in the file from the next block on.
    fn rest(&mut self) -> Result<u64, SourceError> {
        let mut rest = self.pending().len() as u64;
        loop {
            match self.reader.read(&mut self.window) {
                Ok(0) => return Ok(rest),
                Ok(got) => rest += got as u64,
                Err(error) if is_pause(&error) => {}
                Err(error) => return Err(SourceError::Read { at: self.at, error }),
            }
        }
    }

    /// Reads until so many bytes of the next block are there, and as many more as come with them.
    #[inline]
    fn fill_to(&mut self, wanted: usize) -> Result<Filled, SourceError> {
        if self.filled - self.next >= wanted { Ok(Filled::Enough) } else { self.read_to(wanted) }
    }

    #[cold]
    fn read_to(&mut self, wanted: usize) -> Result<Filled, SourceError> {
        if self.window.len() - self.next < wanted {
            self.window.copy_within(self.next..self.filled, 0);
            (self.filled, self.next) = (self.filled - self.next, 0);
            if self.window.len() < wanted {
                self.window.resize(wanted, 0);
            }
        }
        while self.filled - self.next < wanted {
            match self.reader.read(&mut self.window[self.filled..]) {
                Ok(0) => return Ok(Filled::End),
                Ok(got) => self.filled += got,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return Ok(Filled::Pause),
                Err(error) => return Err(SourceError::Read { at: self.at + self.pending().len() as u64, error }),
            }
        }
        Ok(Filled::Enough)
    }

    pub(super) fn u32(&self, bytes: &[u8], at: usize) -> u32 {
        let bytes = bytes.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()).unwrap_or_default();
        if self.big_endian { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) }
    }

    pub(super) fn u16(&self, bytes: &[u8], at: usize) -> u16 {
        let bytes = bytes.get(at..at + 2).and_then(|bytes| bytes.try_into().ok()).unwrap_or_default();
        if self.big_endian { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) }
    }

    /// The number of eight bytes; nothing of other ones.
    pub(super) fn i64(&self, bytes: &[u8]) -> Option<i64> {
        let bytes: [u8; 8] = bytes.try_into().ok()?;
        Some(if self.big_endian { i64::from_be_bytes(bytes) } else { i64::from_le_bytes(bytes) })
    }

    /// Calls `take` with the code and value of each option from `at` on. Options end at their end mark or with the block.
    #[inline]
    pub(super) fn options(&self, mut at: usize, mut take: impl FnMut(u16, &[u8])) {
        let block = self.block();
        while at + 4 <= block.len() {
            let (code, length) = (self.u16(block, at), usize::from(self.u16(block, at + 2)));
            if code == OPTION_END {
                break;
            }
            let Some(value) = block.get(at + 4..at + 4 + length) else { break };
            take(code, value);
            at += 4 + length.next_multiple_of(4);
        }
    }

    /// Key and value of an option, if it is one of ours.
    pub(super) fn own<'o>(&self, code: u16, value: &'o [u8]) -> Option<(&'o str, &'o str)> {
        if code != OPTION_CUSTOM || self.u32(value, 0) != ENTERPRISE {
            return None;
        }
        std::str::from_utf8(value.get(4..)?).ok()?.strip_prefix(PREFIX)?.split_once('=')
    }
}
