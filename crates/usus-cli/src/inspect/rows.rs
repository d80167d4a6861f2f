//! Bytes as rows: offset, time, the silence before, and each byte in one or several views; several lines side by side.

use usus::format::Serial;
use usus::{Fault, FaultKind, Span, Time};
use usus_io::received_text;

use crate::arguments::View;
use crate::safe::Safe;

/// How rows are to look.
#[derive(Clone, Debug)]
pub(crate) struct Look {
    pub(crate) views: Vec<View>,
    /// Bytes in a row, at most; nothing for what goes well with the views and lines.
    pub(crate) width: Option<usize>,
    /// A silence of this length begins a new row.
    pub(crate) split: Option<Span>,
    pub(crate) times: bool,
}

/// Puts bytes into rows. Rows are harmless for a terminal.
pub(crate) struct Rows {
    look: Look,
    lines: Vec<Line>,
    /// The line that is in the middle of a row.
    speaking: Option<usize>,
    /// When anything last came, on whichever line.
    last: Option<Time>,
}

struct Line {
    name: String,
    serial: Option<Serial>,
    offset: u64,
    row: Row,
}

#[derive(Default)]
struct Row {
    offset: u64,
    time: Option<Time>,
    silence: Option<Span>,
    bytes: Vec<u8>,
    faults: Vec<FaultKind>,
}

/// Silences shorter than this are not shown: the system's own pauses are as long.
const SHOWN_SILENCE: Span = Span::from_nanoseconds(4_000_000);

/// What characters are taken for where the settings of the line are not known.
const USUAL: Serial = Serial { baud: 9_600, data_bits: 8, parity: usus::format::Parity::None, half_stop_bits: 2 };

impl Rows {
    pub(crate) fn new(look: Look) -> Rows {
        Rows { look, lines: Vec::new(), speaking: None, last: None }
    }

    /// Adds a line; returns the head of the rows from here on.
    pub(crate) fn line(&mut self, name: &str, serial: Option<Serial>, start: u64, out: &mut String) {
        self.end_row(out);
        let name = if name.is_empty() { format!("line {}", self.lines.len()) } else { name.to_owned() };
        self.lines.push(Line { name, serial, offset: start, row: Row::default() });
        if self.lines.len() > 1 {
            *out += &self.head();
        }
    }

    /// What stands above the rows.
    pub(crate) fn head(&self) -> String {
        let mut text = format!("{:>9}  ", "offset");
        if self.look.times {
            text += &format!("{:<15} {:>9}  ", "time", "silence");
        }
        match self.lines.len() {
            0 | 1 => {
                text += &self
                    .look
                    .views
                    .iter()
                    .map(|view| self.padded(view_name(*view), *view))
                    .collect::<Vec<_>>()
                    .join("  ")
            }
            _ => {
                for line in &self.lines {
                    text += &format!("{:<width$}  ", Safe(&line.name).to_string(), width = self.column_width());
                }
            }
        }
        text.truncate(text.trim_end().len());
        text + "\n"
    }

    /// Puts bytes of a line into rows.
    pub(crate) fn chunk(&mut self, line: usize, time: Option<Time>, bytes: &[u8], faults: &[Fault], out: &mut String) {
        if self.speaking.is_some_and(|speaking| speaking != line) {
            self.end_row(out);
        }
        let Some(state) = self.lines.get_mut(line) else { return };
        // Where it is not known how long characters last, they are taken for no time at all.
        let character = state.serial.map_or(0, |serial| serial.character().nanoseconds());
        let own = character.saturating_mul(bytes.len() as i64);
        let last = self.last;
        self.last = time.or(last);
        let silence =
            time.zip(last).map(|(time, last)| Span::from_nanoseconds((time.since(last).nanoseconds() - own).max(0)));
        if self.look.split.zip(silence).is_some_and(|(split, silence)| silence >= split) {
            self.end_row(out);
        }
        self.speaking = Some(line);
        let mut silence = silence.filter(|silence| *silence >= SHOWN_SILENCE);
        let mut faults = faults.iter().peekable();
        let width = self.row_width();
        let lines = self.look.views == [View::Text];
        for (at, byte) in bytes.iter().copied().map(Some).chain(std::iter::once(None)).enumerate() {
            let state = &mut self.lines[line];
            while let Some(fault) = faults.next_if(|fault| fault.at <= at) {
                state.row.faults.push(fault.kind);
            }
            let Some(byte) = byte else { break };
            if state.row.bytes.is_empty() {
                (state.row.offset, state.row.time, state.row.silence) = (state.offset, time, silence.take());
            }
            state.row.bytes.push(byte);
            state.offset += 1;
            if state.row.bytes.len() >= width || (lines && byte == b'\n') {
                self.end_row(out);
                self.speaking = Some(line);
            }
        }
    }

    /// Goes on at a later offset, without showing what lies between.
    pub(crate) fn skip(&mut self, line: usize, bytes: u64) {
        if let Some(line) = self.lines.get_mut(line) {
            line.offset += bytes;
        }
    }

    /// A remark between rows.
    pub(crate) fn remark(&mut self, text: &str, out: &mut String) {
        self.end_row(out);
        *out += &format!("{:>9}  {}\n", "", Safe(text));
    }

    /// Shows the row at hand as it is.
    pub(crate) fn end_row(&mut self, out: &mut String) {
        let Some(index) = self.speaking.take() else { return };
        let row = std::mem::take(&mut self.lines[index].row);
        if row.bytes.is_empty() && row.faults.is_empty() {
            return;
        }
        let mut text = format!("{:>9}  ", row.offset);
        if self.look.times {
            let new_day = row.time.map(|time| received_text(time, 3)).unwrap_or_default();
            let silence = row.silence.map(span_text).unwrap_or_default();
            text += &format!("{:<15} {silence:>9}  ", new_day.get(11..23).unwrap_or_default());
        }
        let column = self.column_width() + 2;
        let before = if self.lines.len() > 1 { index * column } else { 0 };
        text += &" ".repeat(before);
        let serial = self.lines[index].serial.unwrap_or(USUAL);
        let alone = self.look.views == [View::Text];
        let views = self.look.views.iter().map(|view| self.padded(&shown(&row.bytes, *view, alone, serial), *view));
        text += &views.collect::<Vec<_>>().join("  ");
        if !row.faults.is_empty() {
            text += &format!("  {}", faults_text(&row.faults));
        }
        text.truncate(text.trim_end().len());
        *out += &text;
        out.push('\n');
    }

    /// Whether rows could be as wide as what repeats in the stream.
    pub(crate) fn wants_period(&self) -> bool {
        self.look.width.is_none() && self.look.views != [View::Text]
    }

    /// Makes rows as wide as what repeats, or a whole number of times that, as long as they are not much wider than usual.
    pub(crate) fn set_period(&mut self, period: usize) {
        let usual = self.row_width();
        if (3..=2 * usual).contains(&period) {
            self.look.width = Some(period * (usual / period).max(1));
        }
    }

    fn row_width(&self) -> usize {
        let usual = match (self.look.views.as_slice(), self.lines.len()) {
            ([View::Text], 0 | 1) => 80,
            ([View::Text], _) => 32,
            (_, 2..) => 8,
            (views, _) if views.contains(&View::Bits) || views.contains(&View::Binary) => 8,
            _ => 16,
        };
        self.look.width.unwrap_or(usual)
    }

    /// How wide all views of one line are together.
    fn column_width(&self) -> usize {
        let views = self.look.views.iter().map(|view| self.view_width(*view));
        views.sum::<usize>() + 2 * (self.look.views.len() - 1)
    }

    fn view_width(&self, view: View) -> usize {
        let bytes = self.row_width();
        match view {
            View::Text => bytes,
            View::Hex => bytes * 3 - 1,
            View::Decimal => bytes * 4 - 1,
            View::Binary => bytes * 9 - 1,
            View::Bits => bytes * 14 - 2,
        }
    }

    fn padded(&self, text: &str, view: View) -> String {
        let missing = self.view_width(view).saturating_sub(text.chars().count());
        format!("{text}{}", " ".repeat(missing))
    }
}

fn view_name(view: View) -> &'static str {
    match view {
        View::Text => "text",
        View::Hex => "hex",
        View::Decimal => "decimal",
        View::Binary => "binary",
        View::Bits => "bits, as on the wire",
    }
}

/// Bytes in a view.
fn shown(bytes: &[u8], view: View, alone: bool, serial: Serial) -> String {
    // Beside others, names in a row of binary data would drown what can be read in it.
    let is_text = bytes.iter().all(|byte| matches!(byte, b'\t' | b'\n' | b'\r' | b' '..=b'~'));
    let joined = |each: &dyn Fn(&u8) -> String, between: &str| bytes.iter().map(each).collect::<Vec<_>>().join(between);
    match view {
        View::Text if alone || is_text => bytes.iter().map(|byte| character_name(*byte)).collect(),
        View::Text => bytes.iter().map(|byte| character_or_point(*byte)).collect(),
        View::Hex => joined(&|byte| format!("{byte:02X}"), " "),
        View::Decimal => joined(&|byte| format!("{byte:>3}"), " "),
        View::Binary => joined(&|byte| format!("{byte:08b}"), " "),
        View::Bits => joined(&|byte| wire_bits(*byte, serial), "  "),
    }
}

/// Names of the control characters (ISO 646).
const NAMES: [&str; 32] = [
    "NUL", "SOH", "STX", "ETX", "EOT", "ENQ", "ACK", "BEL", "BS", "HT", "LF", "VT", "FF", "CR", "SO", "SI", "DLE",
    "DC1", "DC2", "DC3", "DC4", "NAK", "SYN", "ETB", "CAN", "EM", "SUB", "ESC", "FS", "GS", "RS", "US",
];

/// A byte as text: itself if it is printable ASCII, else its name or number.
pub(crate) fn character_name(byte: u8) -> String {
    match byte {
        0..32 => format!("‹{}›", NAMES[usize::from(byte)]),
        b' '..=b'~' => char::from(byte).to_string(),
        127 => "‹DEL›".to_owned(),
        _ => format!("‹{byte:02X}›"),
    }
}

/// A byte as one character, to stand beside others: itself, or a point.
fn character_or_point(byte: u8) -> char {
    if matches!(byte, b' '..=b'~') { char::from(byte) } else { '·' }
}

/// A character as it goes over the wire: start bit, data bits with the lowest first, parity bit, stop bit.
fn wire_bits(byte: u8, serial: Serial) -> String {
    use usus::format::Parity;
    let bits = serial.data_bits.clamp(5, 8);
    let data: String = (0..bits).map(|bit| if byte >> bit & 1 == 1 { '1' } else { '0' }).collect();
    let odd = (byte & (0xFF_u16 >> (8 - bits)) as u8).count_ones() % 2 == 1;
    let parity = match serial.parity {
        Parity::None => "",
        Parity::Even => [" 0", " 1"][usize::from(odd)],
        Parity::Odd => [" 1", " 0"][usize::from(odd)],
        Parity::Mark => " 1",
        Parity::Space => " 0",
    };
    format!("0 {data}{parity} 1")
}

/// A length of time in a unit that suits it.
pub(crate) fn span_text(span: Span) -> String {
    let seconds = span.nanoseconds() as f64 / 1e9;
    match seconds.abs() {
        size if size >= 600.0 => format!("{:.1} min", seconds / 60.0),
        size if size >= 1.0 => format!("{seconds:.2} s"),
        size if size >= 0.001 => format!("{:.1} ms", seconds * 1e3),
        _ => format!("{:.0} us", seconds * 1e6),
    }
}

fn faults_text(faults: &[FaultKind]) -> String {
    let count = |kind: FaultKind, word: &str| match faults.iter().filter(|fault| **fault == kind).count() {
        0 => None,
        1 => Some(word.to_owned()),
        more => Some(format!("{word} x{more}")),
    };
    let words = [(FaultKind::Parity, "wrong parity"), (FaultKind::Framing, "no stop bit"), (FaultKind::Break, "break")];
    words.into_iter().filter_map(|(kind, word)| count(kind, word)).collect::<Vec<_>>().join(", ")
}
