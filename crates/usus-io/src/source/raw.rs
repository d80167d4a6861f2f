//! Raw bytes without times: a file, or what comes one after the other, as on standard input.

use std::io::{self, Read};

use super::{Anywhere, LineInfo, ReadAt, Source, SourceError, SourceEvent};

/// How much is read at once: enough that calls cost nothing, little enough to stay in the processor's cache.
const BUFFER: usize = 1 << 16;

/// Raw bytes that can be read at any place, as one line.
pub struct RawBytes<B> {
    bytes: B,
    size: u64,
    buffer: Vec<u8>,
    at: u64,
    announced: bool,
}

impl<B: ReadAt> RawBytes<B> {
    /// A source of these bytes. `size` is how many there are, as far as that is known: all there are by then are read.
    pub fn new(bytes: B, size: u64) -> RawBytes<B> {
        RawBytes { bytes, size, buffer: Vec::new(), at: 0, announced: false }
    }
}

impl<B: ReadAt> Source for RawBytes<B> {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if !std::mem::replace(&mut self.announced, true) {
            return Ok(Some(SourceEvent::Line(LineInfo::new(""))));
        }
        self.buffer.resize(BUFFER, 0);
        next_chunk(&mut self.buffer, &mut self.at, |buffer, at| self.bytes.read_at(buffer, at))
    }

    fn anywhere(&mut self) -> Option<Anywhere<'_>> {
        let untouched = !std::mem::replace(&mut self.announced, true);
        untouched.then_some(Anywhere { bytes: &self.bytes, size: self.size, at: &mut self.at })
    }

    fn size(&self) -> Option<u64> {
        Some(self.size)
    }
}

/// Reads the next bytes, those at an offset.
fn next_chunk<'b>(
    buffer: &'b mut [u8],
    at: &mut u64,
    mut read: impl FnMut(&mut [u8], u64) -> io::Result<usize>,
) -> Result<Option<SourceEvent<'b>>, SourceError> {
    loop {
        match read(buffer, *at) {
            Ok(0) => return Ok(None),
            Ok(got) => {
                *at += got as u64;
                return Ok(Some(SourceEvent::Chunk { line: 0, time: None, bytes: &buffer[..got], faults: &[] }));
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                return Ok(Some(SourceEvent::Idle { time: None }));
            }
            Err(error) => return Err(SourceError::Read { at: *at, error }),
        }
    }
}

/// Reads raw bytes as they come, as one line.
pub struct RawReader<R> {
    reader: R,
    buffer: Vec<u8>,
    at: u64,
    size: Option<u64>,
    announced: bool,
}

impl<R: Read> RawReader<R> {
    /// A source of what `reader` gives. `size` is how many bytes that will be, if it is known.
    pub fn new(reader: R, size: Option<u64>) -> RawReader<R> {
        RawReader { reader, buffer: vec![0; BUFFER], at: 0, size, announced: false }
    }
}

impl<R: Read> Source for RawReader<R> {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if !std::mem::replace(&mut self.announced, true) {
            return Ok(Some(SourceEvent::Line(LineInfo::new(""))));
        }
        next_chunk(&mut self.buffer, &mut self.at, |buffer, _| self.reader.read(buffer))
    }

    fn size(&self) -> Option<u64> {
        self.size
    }
}
