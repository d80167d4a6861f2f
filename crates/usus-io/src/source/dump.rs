//! Bytes that somebody wrote down as text: hex digits or plain text in lines, with or without times, offsets and direction marks. How the
//! columns stand is declared, not guessed.

use std::io::{BufRead, BufReader, Read};

use jiff::civil::{Date, DateTime, Time as Clock};
use jiff::{Timestamp, tz::Offset};
use usus::{Loss, Time};

use super::{LineInfo, Remark, Source, SourceError, SourceEvent};

/// A line longer than this is no line of a dump.
const LONGEST_LINE: u64 = 1 << 20;
/// Direction marks beyond this many are taken for a wrong layout.
const MARKS: usize = 64;

/// The columns of a dump, as in `time direction hex note`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DumpLayout {
    columns: Vec<Column>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Column {
    Time,
    Offset,
    Direction,
    /// Hex digits; at most so many bytes.
    Hex(usize),
    /// The rest of the line is the data, with this end put back.
    Text(&'static [u8]),
    /// A column that says nothing.
    Skip,
    /// The rest of the line says nothing.
    Note,
}

/// Why a layout is none.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum LayoutError {
    /// A column that is not known.
    #[error(
        "`{column}` is no column of a dump; columns are time, offset, direction, hex (hex*16: at most 16 bytes), text (text+CR, text+LF, \
         text+CRLF: with that line end), skip, note (the rest of the line)"
    )]
    Column {
        /// The column.
        column: String,
    },
    /// Nothing in it holds bytes.
    #[error("a dump needs a column `hex` or `text` that holds its bytes")]
    NoData,
    /// Something stands behind a column that takes the rest of the line.
    #[error("nothing can stand behind a column `text` or `note`, which take the rest of the line")]
    Behind,
    /// A column twice.
    #[error("a column stands there twice")]
    Twice,
}

impl DumpLayout {
    /// Reads the names of the columns, in their order.
    ///
    /// # Errors
    ///
    /// If one is not known, or none of them holds bytes.
    pub fn parse(text: &str) -> Result<DumpLayout, LayoutError> {
        let columns: Vec<Column> = text.split_whitespace().map(column).collect::<Result<_, _>>()?;
        let takes_rest = |column: &Column| matches!(column, Column::Text(_) | Column::Note);
        let data = |column: &&Column| matches!(column, Column::Hex(_) | Column::Text(_));
        match columns.iter().filter(data).count() {
            0 => return Err(LayoutError::NoData),
            1 => {}
            _ => return Err(LayoutError::Twice),
        }
        if columns.iter().rev().skip(1).any(takes_rest) {
            return Err(LayoutError::Behind);
        }
        for once in [Column::Time, Column::Offset, Column::Direction] {
            if columns.iter().filter(|column| **column == once).count() > 1 {
                return Err(LayoutError::Twice);
            }
        }
        Ok(DumpLayout { columns })
    }

    fn has(&self, column: Column) -> bool {
        self.columns.contains(&column)
    }
}

fn column(name: &str) -> Result<Column, LayoutError> {
    Ok(match name {
        "time" => Column::Time,
        "offset" => Column::Offset,
        "direction" => Column::Direction,
        "hex" => Column::Hex(usize::MAX),
        "text" => Column::Text(b""),
        "text+CR" => Column::Text(b"\r"),
        "text+LF" => Column::Text(b"\n"),
        "text+CRLF" => Column::Text(b"\r\n"),
        "skip" => Column::Skip,
        "note" => Column::Note,
        other => {
            let most = other.strip_prefix("hex*").and_then(|count| count.parse().ok()).filter(|count| *count > 0);
            Column::Hex(most.ok_or_else(|| LayoutError::Column { column: other.to_owned() })?)
        }
    })
}

/// Reads a dump. Lines that are empty or begin with `#` are passed over.
pub struct DumpReader<R> {
    reader: BufReader<R>,
    layout: DumpLayout,
    text: Vec<u8>,
    number: u64,
    /// The direction marks seen, each a line of its own.
    marks: Vec<String>,
    /// Where the next bytes should be, by the offsets.
    offset: Option<u64>,
    gap: bool,
    clock: Stamps,
    bytes: Vec<u8>,
    waiting: Option<(usize, Option<Time>)>,
}

/// Offsets of streams that are larger than this are none.
const LARGEST_OFFSET: u64 = i64::MAX as u64;

/// What is remembered from time stamp to time stamp.
#[derive(Default)]
struct Stamps {
    last: Option<Time>,
    /// Days that have passed, where stamps show the time of day only.
    days: i64,
    last_of_day: Option<i64>,
    backwards: u64,
    first_backwards: u64,
}

/// One line's content.
struct Row {
    mark: Option<String>,
    time: Option<Time>,
}

impl<R: Read> DumpReader<R> {
    /// A source of what `reader` gives.
    pub fn new(reader: R, layout: DumpLayout) -> DumpReader<R> {
        DumpReader {
            reader: BufReader::new(reader),
            layout,
            text: Vec::new(),
            number: 0,
            marks: Vec::new(),
            offset: None,
            gap: false,
            clock: Stamps::default(),
            bytes: Vec::new(),
            waiting: None,
        }
    }

    fn wrong(&self, at: usize, what: &'static str) -> SourceError {
        let rest = self.text.get(at..).unwrap_or_default();
        let found = rest.split(u8::is_ascii_whitespace).next().unwrap_or_default();
        let found = String::from_utf8_lossy(&found[..found.len().min(40)]).into_owned();
        SourceError::Dump { line: self.number, column: at + 1, what, found }
    }

    /// Reads a line of text. Whether there was one.
    fn next_text(&mut self) -> Result<bool, SourceError> {
        self.text.clear();
        self.number += 1;
        let number = self.number;
        let mut limited = self.reader.by_ref().take(LONGEST_LINE);
        let got = limited.read_until(b'\n', &mut self.text).map_err(|error| SourceError::Read { at: number, error })?;
        if got as u64 == LONGEST_LINE {
            return Err(self.wrong(0, "a line that does not end"));
        }
        while self.text.last().is_some_and(|byte| matches!(byte, b'\n' | b'\r')) {
            self.text.pop();
        }
        Ok(got > 0)
    }

    /// Reads the columns of the line at hand into `bytes`.
    fn row(&mut self) -> Result<Row, SourceError> {
        let mut row = Row { mark: None, time: None };
        self.bytes.clear();
        self.gap = false;
        let mut at = 0;
        let columns = self.layout.columns.clone();
        for (index, column) in columns.iter().enumerate() {
            if let Column::Text(end) = column {
                // One space separates; more are part of the text.
                let from = if index > 0 && self.text.get(at) == Some(&b' ') { at + 1 } else { at };
                self.bytes.extend_from_slice(self.text.get(from..).unwrap_or_default());
                self.bytes.extend_from_slice(end);
                continue;
            }
            let (begin, end) = word(&self.text, at);
            match column {
                Column::Hex(most) => at = self.hex(at, *most, columns.len() > index + 1)?,
                Column::Note => break,
                _ if begin == end => return Err(self.wrong(begin, "a column is missing")),
                Column::Skip => at = end,
                Column::Direction => {
                    row.mark = Some(String::from_utf8_lossy(&self.text[begin..end]).into_owned());
                    at = end;
                }
                Column::Offset => {
                    self.offset(begin, end)?;
                    at = end;
                }
                _ => {
                    let (time, behind) = self.time(begin, end)?;
                    row.time = Some(time);
                    at = behind;
                }
            }
        }
        if let Some(offset) = self.offset {
            let next = offset.checked_add(self.bytes.len() as u64).filter(|next| *next <= LARGEST_OFFSET);
            self.offset = Some(
                next.ok_or_else(|| self.wrong(0, "the bytes of this line have no place: their offset is too large"))?,
            );
        }
        Ok(row)
    }

    /// Takes the pairs of hex digits from `at` on. Returns where they end.
    fn hex(&mut self, at: usize, most: usize, more: bool) -> Result<usize, SourceError> {
        let mut at = at;
        while self.bytes.len() < most {
            let (begin, end) = word(&self.text, at);
            let digits = &self.text[begin..end];
            // What stands beside the bytes is set off by a wide gap or a bar. A gap of two also parts the halves of a row.
            let gap = begin - at;
            let halves = most == usize::MAX || self.bytes.len() * 2 == most;
            let set_off = more && !self.bytes.is_empty() && (gap > 2 || (gap == 2 && !halves));
            if digits.is_empty() || set_off || (more && digits[0] == b'|') {
                break;
            }
            let digits = digits.strip_prefix(b"0x").unwrap_or(digits);
            let pairs = digits.chunks(2).map(|pair| match pair {
                [high, low] => Some(nibble(*high)? << 4 | nibble(*low)?),
                _ => None,
            });
            match pairs.collect::<Option<Vec<u8>>>() {
                Some(bytes) => self.bytes.extend_from_slice(&bytes),
                None if more && !self.bytes.is_empty() => break,
                None => return Err(self.wrong(begin, "these are no pairs of hex digits")),
            }
            at = end;
        }
        Ok(at)
    }

    /// An offset must be where the bytes before it end; if it is further on, bytes are missing.
    fn offset(&mut self, begin: usize, end: usize) -> Result<(), SourceError> {
        let text = String::from_utf8_lossy(&self.text[begin..end]).into_owned();
        let digits = text.trim_end_matches([':', 'h']).trim_start_matches("0x");
        let Ok(found) = u64::from_str_radix(digits, 16) else {
            return Err(self.wrong(begin, "this is no offset in hex"));
        };
        // With two directions, offsets may count each of them or both: they are not held against anything.
        if self.layout.has(Column::Direction) {
            return Ok(());
        }
        match self.offset {
            Some(expected) if found < expected => {
                return Err(self.wrong(begin, "this offset is smaller than the bytes before it say"));
            }
            Some(expected) => self.gap = found > expected,
            None => {}
        }
        self.offset = Some(found);
        Ok(())
    }

    /// The time that begins there, and where it ends: a date and a time of day may be two words.
    fn time(&mut self, begin: usize, end: usize) -> Result<(Time, usize), SourceError> {
        let clean = |bytes: &[u8]| {
            let text = String::from_utf8_lossy(bytes).into_owned();
            text.trim_matches(['[', ']', '(', ')', ',', ';', '"']).replace(',', ".")
        };
        let one = clean(&self.text[begin..end]);
        let (next_begin, next_end) = word(&self.text, end);
        let next = clean(&self.text[next_begin..next_end]);
        let (stamp, end) = match instant(&one) {
            Some(stamp) => (stamp, end),
            None => match instant(&format!("{one}T{next}")) {
                Some(stamp) => (stamp, next_end),
                None => return Err(self.wrong(begin, "this is no time")),
            },
        };
        let time = self.clock.take(stamp, self.number);
        // The last column may be closed by a bracket or colon of its own.
        let end = if self.text.get(end) == Some(&b':') { end + 1 } else { end };
        Ok((time, end))
    }
}

/// A time stamp, as it stands there.
#[derive(Clone, Copy)]
enum Stamp {
    /// Nanoseconds since 1970.
    Instant(i64),
    /// Nanoseconds since midnight.
    OfDay(i64),
}

impl Stamps {
    /// The time of a stamp. It never runs backwards: a stamp that does is counted, and the time stays.
    fn take(&mut self, stamp: Stamp, line: u64) -> Time {
        const DAY: i64 = 86_400_000_000_000;
        let time = match stamp {
            Stamp::Instant(time) => time,
            Stamp::OfDay(time) => {
                // More than half a day back is midnight.
                self.days += i64::from(self.last_of_day.is_some_and(|last| last - time > DAY / 2));
                self.last_of_day = Some(time);
                self.days * DAY + time
            }
        };
        let time = Time::from_nanoseconds(time);
        match self.last.filter(|last| *last > time) {
            Some(last) => {
                self.backwards += 1;
                if self.backwards == 1 {
                    self.first_backwards = line;
                }
                last
            }
            None => {
                self.last = Some(time);
                time
            }
        }
    }
}

/// Reads an instant (`2026-11-25T06:00:00.1Z`, without a zone in UTC), a time of day, or seconds.
fn instant(text: &str) -> Option<Stamp> {
    let nanoseconds = |time: Timestamp| i64::try_from(time.as_nanosecond()).ok().map(Stamp::Instant);
    if let Ok(time) = text.parse::<Timestamp>() {
        return nanoseconds(time);
    }
    if text.len() > 10
        && text.is_char_boundary(10)
        && let (Ok(date), Ok(time)) = (text[..10].parse::<Date>(), text.get(11..)?.parse::<Clock>())
    {
        return nanoseconds(Offset::UTC.to_timestamp(DateTime::from_parts(date, time)).ok()?);
    }
    if text.contains(':') {
        let time: Clock = text.trim_end_matches(':').parse().ok()?;
        let seconds = i64::from(time.hour()) * 3_600 + i64::from(time.minute()) * 60 + i64::from(time.second());
        return Some(Stamp::OfDay(seconds * 1_000_000_000 + i64::from(time.subsec_nanosecond())));
    }
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    let digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if whole.is_empty() || !digits(whole) || !digits(fraction) {
        return None;
    }
    let fraction = format!("{:0<9}", &fraction[..fraction.len().min(9)]).parse::<i64>().ok()?;
    Some(Stamp::Instant(whole.parse::<i64>().ok()?.checked_mul(1_000_000_000)?.checked_add(fraction)?))
}

fn nibble(digit: u8) -> Option<u8> {
    char::from(digit).to_digit(16).map(|digit| digit as u8)
}

/// The next word from `at` on: where it begins and ends.
fn word(text: &[u8], at: usize) -> (usize, usize) {
    let rest = text.get(at..).unwrap_or_default();
    let begin = at + rest.iter().take_while(|byte| byte.is_ascii_whitespace()).count();
    let length = text.get(begin..).unwrap_or_default().iter().take_while(|byte| !byte.is_ascii_whitespace()).count();
    (begin.min(text.len()), begin.min(text.len()) + length)
}

impl<R: Read> Source for DumpReader<R> {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        loop {
            if let Some((line, time)) = self.waiting.take() {
                if std::mem::take(&mut self.gap) {
                    self.waiting = Some((line, time));
                    return Ok(Some(SourceEvent::Loss { line, why: Loss::Gap, time }));
                }
                return Ok(Some(SourceEvent::Chunk { line, time, bytes: &self.bytes, faults: &[] }));
            }
            if !self.next_text()? {
                return Ok(None);
            }
            let content = self.text.iter().find(|byte| !byte.is_ascii_whitespace());
            if content.is_none_or(|byte| *byte == b'#') {
                continue;
            }
            let row = self.row()?;
            let mark = row.mark.unwrap_or_default();
            let known = self.marks.iter().position(|known| *known == mark);
            let line = known.unwrap_or(self.marks.len());
            self.waiting = Some((line, row.time));
            if known.is_none() {
                if line == MARKS {
                    return Err(self.wrong(0, "this has another direction mark than the 64 before it"));
                }
                self.marks.push(mark.clone());
                return Ok(Some(SourceEvent::Line(LineInfo::new(mark))));
            }
        }
    }

    fn has_times(&self) -> bool {
        self.layout.has(Column::Time)
    }

    fn has_lines(&self) -> bool {
        self.layout.has(Column::Direction)
    }

    fn remarks(&self) -> Vec<Remark> {
        let (count, first) = (self.clock.backwards, self.clock.first_backwards);
        if count > 0 { vec![Remark::TimesBackwards { count, first }] } else { Vec::new() }
    }
}
