//! Going on in a file that an earlier run has left: what its first row is, and where its last whole row ends.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

/// How rows are told in a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Form {
    /// CSV: a line end in quotes belongs to a cell.
    Csv,
    /// A row a line.
    Lines,
}

/// Finds the ends of rows in text that comes piece by piece.
struct RowEnds {
    form: Form,
    in_quotes: bool,
}

impl RowEnds {
    fn new(form: Form) -> RowEnds {
        RowEnds { form, in_quotes: false }
    }

    /// Calls `take` with the place behind each row that ends in this piece.
    fn find(&mut self, piece: &[u8], mut take: impl FnMut(usize)) {
        for (index, byte) in piece.iter().enumerate() {
            match byte {
                b'"' if self.form == Form::Csv => self.in_quotes = !self.in_quotes,
                b'\n' if !self.in_quotes => take(index + 1),
                _ => {}
            }
        }
    }
}

/// How many rows end in a text, and where the last of them does.
pub(super) fn whole_rows(text: &[u8], form: Form) -> (u64, usize) {
    let (mut count, mut end) = (0, 0);
    RowEnds::new(form).find(text, |at| (count, end) = (count + 1, at));
    (count, end)
}

/// What an earlier run has left.
pub(super) struct Left {
    /// Its first row, with its line end; empty if there is none.
    pub(super) first: Vec<u8>,
    /// Where its last whole row ends.
    pub(super) end: u64,
    /// How long it is.
    pub(super) length: u64,
}

/// No first row is longer: columns of at most 2,048 fields with names of 63 characters and units.
const LONGEST_FIRST_ROW: usize = 1 << 20;

/// Looks at what is there, without changing it. Zeros at the end are what a power failure leaves of rows.
pub(super) fn look(path: &Path, form: Form) -> io::Result<Left> {
    let mut file = File::open(path)?;
    let (mut first, mut end, mut length, mut text_end) = (Vec::new(), 0u64, 0u64, 0u64);
    let mut rows = RowEnds::new(form);
    let mut ends: Option<u64> = None;
    let mut buffer = vec![0; 1 << 16];
    loop {
        let count = file.read(&mut buffer)?;
        let piece = &buffer[..count];
        if piece.is_empty() {
            break;
        }
        let mut first_end = None;
        rows.find(piece, |at| {
            first_end = first_end.or(Some(at));
            // A row with zeros in it has not been written whole.
            end = length + at as u64;
        });
        if ends.is_none() {
            let part = first_end.unwrap_or(count);
            if first.len() + part <= LONGEST_FIRST_ROW {
                first.extend_from_slice(&piece[..part]);
            }
            ends = first_end.map(|at| length + at as u64);
        }
        if let Some(last) = piece.iter().rposition(|byte| *byte != 0) {
            text_end = length + last as u64 + 1;
        }
        length += count as u64;
    }
    let end = end.min(text_end);
    if ends.is_none() {
        first.clear();
    }
    Ok(Left { first, end, length })
}

/// Opens a file behind its last whole row. What was torn is gone then.
pub(super) fn open_behind(path: &Path, end: u64) -> io::Result<File> {
    let mut file = OpenOptions::new().write(true).open(path)?;
    file.set_len(end)?;
    file.seek(SeekFrom::End(0))?;
    Ok(file)
}
