//! Raw bytes without times: a file, or standard input.

use std::io::{self, Read};

use super::{LineInfo, Source, SourceError, SourceEvent};

/// How much is read at once: enough that calls cost nothing, little enough to stay in the processor's cache.
const BUFFER: usize = 1 << 16;

/// Reads raw bytes as one line.
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
        loop {
            match self.reader.read(&mut self.buffer) {
                Ok(0) => return Ok(None),
                Ok(got) => {
                    self.at += got as u64;
                    let bytes = &self.buffer[..got];
                    return Ok(Some(SourceEvent::Chunk { line: 0, time: None, bytes, faults: &[] }));
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                    return Ok(Some(SourceEvent::Idle { time: None }));
                }
                Err(error) => return Err(SourceError::Read { at: self.at, error }),
            }
        }
    }

    fn size(&self) -> Option<u64> {
        self.size
    }
}
