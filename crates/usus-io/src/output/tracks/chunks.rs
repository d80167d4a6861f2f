//! Several texts that grow at the same time, in one file without a name.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Path;

/// So much of a text is gathered before it is written.
const CHUNK: usize = 1 << 14;

pub(super) struct Chunks {
    file: File,
    /// Where the next chunk goes.
    end: u64,
    texts: Vec<Text>,
}

#[derive(Default)]
struct Text {
    /// Where its chunks stand, and how long they are.
    written: Vec<(u64, usize)>,
    last: Vec<u8>,
}

impl Chunks {
    /// In the directory of a file. What was written is gone with the program.
    pub(super) fn beside(path: &Path) -> io::Result<Chunks> {
        let directory = path.parent().filter(|directory| !directory.as_os_str().is_empty()).unwrap_or(Path::new("."));
        Ok(Chunks { file: tempfile::tempfile_in(directory)?, end: 0, texts: Vec::new() })
    }

    /// A new text; returns its number.
    pub(super) fn add(&mut self) -> usize {
        self.texts.push(Text::default());
        self.texts.len() - 1
    }

    pub(super) fn put(&mut self, number: usize, bytes: &[u8]) -> io::Result<()> {
        let Some(text) = self.texts.get_mut(number) else { return Ok(()) };
        text.last.extend_from_slice(bytes);
        if text.last.len() >= CHUNK {
            self.file.seek(SeekFrom::Start(self.end))?;
            self.file.write_all(&text.last)?;
            text.written.push((self.end, text.last.len()));
            self.end += text.last.len() as u64;
            text.last.clear();
        }
        Ok(())
    }

    /// Writes a text to a file.
    pub(super) fn copy(&mut self, number: usize, target: &mut impl Write) -> io::Result<()> {
        let Some(text) = self.texts.get(number) else { return Ok(()) };
        let mut chunk = Vec::new();
        for (at, length) in &text.written {
            self.file.seek(SeekFrom::Start(*at))?;
            chunk.resize(*length, 0);
            self.file.read_exact(&mut chunk)?;
            target.write_all(&chunk)?;
        }
        target.write_all(&text.last)
    }
}
