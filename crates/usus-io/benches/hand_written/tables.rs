//! Writing CSV by hand: buffers of bytes, digits by division.

use std::fs::File;
use std::io::Write;
use std::path::Path;

/// A CSV file that begins with its first row.
pub struct Table {
    file: Option<File>,
    pub buffer: Vec<u8>,
    path: std::path::PathBuf,
    header: &'static str,
}

impl Table {
    pub fn new(folder: &Path, name: &str, header: &'static str) -> Table {
        Table { file: None, buffer: Vec::with_capacity(1 << 17), path: folder.join(name), header }
    }

    pub fn row(&mut self) -> &mut Vec<u8> {
        if self.file.is_none() {
            self.file = Some(File::create(&self.path).unwrap());
            self.buffer.extend_from_slice(self.header.as_bytes());
            self.buffer.extend_from_slice(b"\r\n");
        }
        &mut self.buffer
    }

    pub fn end_row(&mut self) {
        self.buffer.extend_from_slice(b"\r\n");
        if self.buffer.len() > 1 << 16 {
            self.flush();
        }
    }

    pub fn flush(&mut self) {
        if let Some(file) = &mut self.file {
            file.write_all(&self.buffer).unwrap();
            self.buffer.clear();
        }
    }
}

/// A whole number.
pub fn whole(value: i64, out: &mut Vec<u8>) {
    scaled(value, 0, out);
}

/// A number of so many places.
pub fn scaled(value: i64, places: usize, out: &mut Vec<u8>) {
    let mut digits = [0u8; 24];
    let mut at = digits.len();
    let mut rest = value.unsigned_abs();
    let mut count = 0;
    loop {
        at -= 1;
        digits[at] = b'0' + (rest % 10) as u8;
        rest /= 10;
        count += 1;
        if count == places {
            at -= 1;
            digits[at] = b'.';
            if rest == 0 {
                at -= 1;
                digits[at] = b'0';
            }
        }
        if rest == 0 && count >= places {
            break;
        }
    }
    if value < 0 {
        at -= 1;
        digits[at] = b'-';
    }
    out.extend_from_slice(&digits[at..]);
}

pub fn flag(value: bool, out: &mut Vec<u8>) {
    out.extend_from_slice(if value { b"true" } else { b"false" });
}
