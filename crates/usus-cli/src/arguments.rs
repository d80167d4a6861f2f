//! What can be said on the command line.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use usus::format::Serial;
use usus::{Span, Time};
use usus_io::{DumpLayout, Zone};
use usus_sim::Device;

/// Exact records out of the serial bytes of somebody else's device.
///
/// Declare a device's record format once, in one small file that reads like the datasheet's table. Every byte is accounted for: it
/// belongs to a record, or to something the format ignores, or to filler, or to a frame cut by the edge of the recording, or to a
/// reject with its reason.
#[derive(Parser)]
#[command(name = "usus", version, max_term_width = 100, after_help = ENDINGS)]
pub(crate) struct Arguments {
    /// How to say things to you (on standard error): as text, or as JSON, one object a line
    #[arg(long, value_enum, default_value = "text", global = true)]
    pub(crate) messages: Messages,
    /// Say nothing but warnings and errors
    #[arg(long, short, global = true)]
    pub(crate) quiet: bool,
    /// The account of what was done in one line, for logs
    #[arg(long, global = true)]
    pub(crate) brief: bool,
    /// Colours; `auto` has them in a terminal, unless NO_COLOR or TERM=dumb say otherwise
    #[arg(long, value_enum, default_value = "auto", global = true, value_name = "WHEN")]
    pub(crate) color: Color,
    #[command(subcommand)]
    pub(crate) verb: Verb,
}

/// Whether words have colours.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}

impl Color {
    /// From now on, what is printed is printed so.
    pub(crate) fn choose(self) {
        match self {
            Color::Auto => colorchoice::ColorChoice::Auto,
            Color::Always => colorchoice::ColorChoice::Always,
            Color::Never => colorchoice::ColorChoice::Never,
        }
        .write_global();
    }
}

/// How much is said of what was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Account {
    Full,
    Brief,
    None,
}

const ENDINGS: &str = "Exit status: 0 done, 1 failed, 2 wrong usage, 3 no bytes came, 4 bytes came but nothing was recognised, \
                       5 a larger share of rejected bytes, or of a field's values, than allowed, \
                       6 bytes were lost while they were recorded";

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Messages {
    Text,
    Json,
}

#[derive(Subcommand)]
pub(crate) enum Verb {
    /// Which serial ports there are, under which lasting names, who may read them, and what sits on them
    Ports(Ports),
    /// What is this stream? Shows its bytes with their times, sums it up, and finds the settings of a line
    Inspect(Inspect),
    /// Who asks what on a Modbus line, only by listening: units, polls, writes, and every register that was seen
    Bus(Bus),
    /// Keep what comes, raw and with its times; says all the while that it is recording
    Capture(Capture),
    /// Play a capture to another program: on a pseudo-terminal, over TCP, or into a file
    Replay(Replay),
    /// Is a format sound? Shows its layout as a table and runs its examples
    Check(Check),
    /// Turn captured bytes into records: tables, JSON Lines, a database, a workbook, tracks
    Convert(Convert),
    /// What has changed between two conversions of the same bytes, as after a format was corrected
    Compare(Compare),
    /// The formats that ship with usus
    Formats(Formats),
    /// The demo site's devices live, on pseudo-terminals and sockets
    Simulate(Simulate),
    /// The whole story on the demo site: make ten minutes of each line, convert them, hold them against the truth
    Demo(Demo),
    /// Print what a shell needs to complete usus' commands and options
    Completions(Completions),
    /// Write man pages, one for each command
    Manual(Manual),
}

#[derive(Args)]
pub(crate) struct Completions {
    /// The shell; what is printed goes where it looks for completions
    #[arg(value_enum)]
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Args)]
pub(crate) struct Manual {
    /// The directory that they are written into, such as /usr/local/share/man/man1; without it, the page of usus itself is printed
    #[arg(long, value_name = "DIR")]
    pub(crate) out: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = SOURCES)]
pub(crate) struct Check {
    /// Format files, or names of formats that ship with usus; - is standard input
    #[arg(required = true, value_name = "FORMAT")]
    pub(crate) formats: Vec<String>,
    /// Take these bytes apart, such as a datasheet's example frame ("A5 5A 08 …"): every field with its place, what was sent, and its value
    #[arg(long, value_name = "HEX", value_parser = Bytes::parse, conflicts_with = "text")]
    pub(crate) bytes: Option<Bytes>,
    /// The same for a line of text; its line end is added
    #[arg(long, value_name = "TEXT")]
    pub(crate) text: Option<String>,
    /// Hold the format against what was recorded (SOURCE, below): what holds, what was never seen, what cannot be meant, and what would
    /// hold instead of what is declared
    #[arg(long, value_name = "SOURCE", conflicts_with_all = ["text", "bytes"])]
    pub(crate) against: Option<String>,
    /// Of --against: one JSON object instead of words
    #[arg(long, requires = "against")]
    pub(crate) json: bool,
    /// The line of which --bytes, --text or --against are, in a format that speaks of several (without it, one frame is of the first line of which it makes sense)
    #[arg(long, value_name = "NAME")]
    pub(crate) line: Option<String>,
    #[command(flatten)]
    pub(crate) opening: Opening,
}

/// Bytes in hex.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Bytes(pub(crate) Vec<u8>);

impl Bytes {
    fn parse(text: &str) -> Result<Bytes, String> {
        usus::format::hex_bytes(text)
            .filter(|bytes| !bytes.is_empty())
            .map(Bytes)
            .ok_or_else(|| "bytes are written in hex, as in \"A5 5A 08\"; for text there is --text".to_owned())
    }
}

#[derive(Args)]
#[command(after_help = format!("{SOURCES}\n\n{DESTINATIONS}"))]
pub(crate) struct Convert {
    /// Where bytes come from (SOURCE, below); each is a stream of its own. Several that are live are listened to at once, as lines of
    /// one stream; a line may be given a name: NAME=SOURCE
    #[arg(required = true, value_name = "SOURCE")]
    pub(crate) sources: Vec<String>,
    /// The format file, or the name of a format that ships with usus
    #[arg(long)]
    pub(crate) format: String,
    /// Where records go (DEST, below); without it, JSON Lines to standard output
    #[arg(long, value_name = "DEST", default_value = "-")]
    pub(crate) out: PathBuf,
    /// Do not keep the raw bytes of a live source; without this, they are kept in a capture beside the output
    #[arg(long)]
    pub(crate) no_capture: bool,
    #[command(flatten)]
    pub(crate) tables: TableArguments,
    /// Go on in the files that an earlier run has left, if their columns are the same; a torn last row is taken away first
    #[arg(long, conflicts_with = "overwrite")]
    pub(crate) append: bool,
    /// Decode a file on so many cores; without it, on all there are, but at most eight. The outputs are the same
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub(crate) jobs: Option<u16>,
    #[command(flatten)]
    pub(crate) opening: Opening,
}

#[derive(Args)]
pub(crate) struct Compare {
    /// What was converted before: FILE.jsonl, FILE.sqlite, a directory of CSV or FILE.csv (with --origin)
    #[arg(value_name = "OLD")]
    pub(crate) old: PathBuf,
    /// What was converted afterwards, in the same form
    #[arg(value_name = "NEW")]
    pub(crate) new: PathBuf,
    /// One JSON object instead of words
    #[arg(long)]
    pub(crate) json: bool,
}

/// What goes into the tables.
#[derive(Args, Clone)]
#[command(next_help_heading = "Tables")]
pub(crate) struct TableArguments {
    /// Only these kinds of record
    #[arg(long, value_name = "KIND,…", value_delimiter = ',')]
    pub(crate) records: Vec<String>,
    /// Only these fields, as record.field
    #[arg(long, value_name = "KIND.FIELD,…", value_delimiter = ',')]
    pub(crate) fields: Vec<String>,
    /// Put source, line, offset, length and item in front of each row
    #[arg(long)]
    pub(crate) origin: bool,
    /// Write what gave no record to this file, with all bytes (JSON Lines)
    #[arg(long, value_name = "FILE")]
    pub(crate) rejects: Option<PathBuf>,
    /// End with status 5 if a larger share of the bytes is rejected: 0.01 or 1%
    #[arg(long, value_name = "SHARE", value_parser = share)]
    pub(crate) reject_limit: Option<f64>,
    /// End with status 5 if a larger share of any field's values is invalid or out of range: 0.01 or 1%
    #[arg(long, value_name = "SHARE", value_parser = share)]
    pub(crate) quality_limit: Option<f64>,
    /// CSV: units behind the names of columns, as in `tension [kN]`
    #[arg(long)]
    pub(crate) units: bool,
    /// CSV: what stands between columns: one ASCII character, or `tab`. Without it, a comma (with --decimal-comma, a semicolon)
    #[arg(long, value_name = "CHARACTER", value_parser = separator)]
    pub(crate) separator: Option<u8>,
    /// CSV: numbers with a comma instead of a point
    #[arg(long)]
    pub(crate) decimal_comma: bool,
    /// CSV: times of arrival as spreadsheets read them: 2026-11-25 06:00:00.123
    #[arg(long)]
    pub(crate) sheet_times: bool,
    /// Times of arrival as the clocks of a time zone show them, such as CET, with the offset from UTC; days of --daily are of it, too. Databases,
    /// Parquet and tracks have instants in UTC
    #[arg(long, value_name = "NAME", value_parser = zone)]
    pub(crate) zone: Option<Zone>,
    /// Digits of a second in times of arrival, 0 to 9. Without it, 3 in tables and 9 in JSON Lines
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(0..=9))]
    pub(crate) time_digits: Option<u8>,
    /// Tracks: the fields that say where a record is, if they are not called latitude, longitude and altitude
    #[arg(long, value_name = "LATITUDE,LONGITUDE[,HEIGHT]", value_delimiter = ',')]
    pub(crate) position: Vec<String>,
    /// A row for each value in place of one for each record: all of them, or only those that are not what they were before
    #[arg(long, value_name = "WHICH")]
    pub(crate) values: Option<Values>,
    /// The plant's tags instead of the names of fields, where the format has some
    #[arg(long)]
    pub(crate) tags: bool,
    /// CSV: an apostrophe in front of texts that a spreadsheet would take for a formula; numbers are spared
    #[arg(long)]
    pub(crate) guard_formulas: bool,
    /// Write a data dictionary, too: fields with their units, meanings and tags, the format, and the account of the bytes. FILE.json or FILE.md
    #[arg(long, value_name = "FILE")]
    pub(crate) dictionary: Option<PathBuf>,
    /// A set of files for each day (UTC, or of --zone) on which something was received, with the date in their names
    #[arg(long)]
    pub(crate) daily: bool,
    /// Replace what exists
    #[arg(long)]
    pub(crate) overwrite: bool,
}

/// Which values are rows of their own.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub(crate) enum Values {
    /// Each value.
    Each,
    /// Those that changed.
    Changed,
}

/// A time zone.
fn zone(name: &str) -> Result<Zone, String> {
    Zone::named(name).ok_or_else(|| {
        "there is no time zone of that name; they are those of the IANA time zone database, such as UTC, CET or Etc/GMT-1"
            .to_owned()
    })
}

/// A separator of columns.
fn separator(text: &str) -> Result<u8, String> {
    match text.as_bytes() {
        _ if text == "tab" => Ok(b'\t'),
        [byte] if byte.is_ascii() && !byte.is_ascii_alphanumeric() && !b"\"\r\n.-+".contains(byte) => Ok(*byte),
        _ => Err("a separator is one ASCII character that is no part of a number or a word, such as `;`, or `tab`"
            .to_owned()),
    }
}

/// How sources are opened.
#[derive(Args, Clone, Default)]
#[command(next_help_heading = "Sources")]
pub(crate) struct Opening {
    /// Line settings of a port: speed, data bits, parity, stop bits. Without it, the format's. NAME=SETTINGS is for the line of that name
    #[arg(long, value_name = "SETTINGS", value_parser = ForLine::serial)]
    pub(crate) serial: Vec<ForLine<Serial>>,
    /// The port's line `data terminal ready`
    #[arg(long, value_enum, default_value = "leave", hide_possible_values = true, value_name = "leave|raise|drop")]
    pub(crate) dtr: Lead,
    /// The port's line `request to send`
    #[arg(long, value_enum, default_value = "leave", hide_possible_values = true, value_name = "leave|raise|drop")]
    pub(crate) rts: Lead,
    /// Take telnet's escapes out of what comes over TCP (RFC 854)
    #[arg(long)]
    pub(crate) telnet: bool,
    /// Ask a silent TCP peer now and then whether it is still there
    #[arg(long)]
    pub(crate) keep_alive: bool,
    /// The file is text with bytes written in it, in these columns: time, offset, direction, hex (hex*16: at most 16 bytes), text
    /// (text+CR, text+LF, text+CRLF), skip, note (the rest of the line). As in "time direction hex note"
    #[arg(long, value_name = "COLUMNS", value_parser = DumpLayout::parse)]
    pub(crate) dump: Option<DumpLayout>,
    /// Put the source's clock right: move its times by so much, as in 2s, -1.5s, 40ms, 1h. NAME=SPAN is for the line of that name
    #[arg(long, value_name = "SPAN", value_parser = ForLine::span, allow_hyphen_values = true)]
    pub(crate) shift: Vec<ForLine<Span>>,
    /// How late the adapter hands on what came; times are so much earlier. NAME=SPAN is for the line of that name
    #[arg(long, value_name = "SPAN", value_parser = ForLine::span)]
    pub(crate) lateness: Vec<ForLine<Span>>,
    /// Only what was received at this time or later, as in 2026-11-25T06:30:00Z
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) begin: Option<Time>,
    /// Only what was received before this time
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) end: Option<Time>,
}

/// Something that is said of the line of a name, or of all lines.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ForLine<T> {
    pub(crate) line: Option<String>,
    pub(crate) value: T,
}

impl<T> ForLine<T> {
    fn parse(text: &str, parse: impl Fn(&str) -> Result<T, String>) -> Result<ForLine<T>, String> {
        let (line, value) = match text.split_once('=') {
            Some((line, value)) => (Some(line.to_owned()), value),
            None => (None, text),
        };
        Ok(ForLine { line, value: parse(value)? })
    }
}

impl ForLine<Serial> {
    fn serial(text: &str) -> Result<ForLine<Serial>, String> {
        ForLine::parse(text, serial)
    }
}

impl ForLine<Span> {
    fn span(text: &str) -> Result<ForLine<Span>, String> {
        ForLine::parse(text, span)
    }
}

/// A time as it is written in ISO 8601.
fn time(text: &str) -> Result<Time, String> {
    usus_io::parse_time(text)
        .ok_or_else(|| "a time is written as in 2026-11-25T06:30:00Z; without the Z it is UTC, too".to_owned())
}

/// What is to be done with a control line.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Lead {
    #[default]
    Leave,
    Raise,
    Drop,
}

/// What stands below the help of every command that takes a SOURCE.
const SOURCES: &str = "SOURCE is one of
  FILE                    raw bytes or a capture (pcapng), also compressed with gzip; - is standard input
  /dev/…                  a serial port, by its path or a lasting name (usus ports)
  adapter:SERIAL          the port of the adapter with that serial number; adapter:SERIAL/1 is its second
  NAME,NAME,…             the first of several ports that is there
  tcp://host:port         what comes from there; tcp://:port waits for a caller
  udp://:port             datagrams, a line for each sender; udp://group:port joins a multicast group
  demo:DEVICE             a line of the demo site, as it would be heard with the line settings
Nothing is ever written to any of them.";

/// What stands below the help of every command that writes records.
const DESTINATIONS: &str = "DEST is one of
  DIR                     CSV (RFC 4180): a file for each kind of record and each group
  FILE.csv                CSV of one kind; its groups in files beside it
  FILE.jsonl              JSON Lines: an object for each record
  FILE.sqlite             a database (also .db): a table for each kind and group; what is converted again replaces its rows
  FILE.xlsx               a workbook: a sheet for each kind and group
  FILE.geojson            points with all that the records say, of kinds that have a latitude and a longitude
  FILE.gpx, FILE.kml      tracks of the same
  FILE.parquet            columns for analysis, of one kind; parquet:DIR has a file for each kind
  -, csv:-, table:-       to standard output: JSON Lines, CSV of one kind, aligned text for reading";

/// Line settings. A speed alone means eight data bits, no parity, one stop bit, as it does wherever nothing else is said.
fn serial(text: &str) -> Result<Serial, String> {
    let upper = text.to_uppercase();
    let words: Vec<&str> = upper.split([' ', ',', '-', '/', ':']).filter(|word| !word.is_empty()).collect();
    let found = match &words[..] {
        [baud] => Serial::parse(&format!("{baud} 8N1")),
        [baud, character] => Serial::parse(&format!("{baud} {character}")),
        [baud, bits, parity, stop] => Serial::parse(&format!("{baud} {bits}{parity}{stop}")),
        _ => None,
    };
    found.ok_or_else(|| {
        "line settings are written as in `9600 8N1`: speed, data bits, parity (N E O M S), stop bits".to_owned()
    })
}

/// A length of time with its unit.
fn span(text: &str) -> Result<Span, String> {
    let digits = text.trim_end_matches(|character: char| character.is_ascii_alphabetic());
    let factor = match &text[digits.len()..] {
        "us" => 1e3,
        "ms" => 1e6,
        "s" => 1e9,
        "min" => 60e9,
        "h" => 3_600e9,
        "" if digits.parse::<f64>().is_ok() => {
            return Err(format!("of what? write {digits}s for seconds, or us, ms, min or h behind the number"));
        }
        _ => return Err("a length of time is a number with us, ms, s, min or h behind it".to_owned()),
    };
    let number: f64 = digits.parse().map_err(|_| format!("`{digits}` is no number"))?;
    let nanoseconds = (number * factor).round();
    match nanoseconds.is_finite() && nanoseconds.abs() < 9e18 {
        true => Ok(Span::from_nanoseconds(nanoseconds as i64)),
        false => Err("that is too long".to_owned()),
    }
}

#[derive(Args)]
#[command(after_help = SOURCES)]
pub(crate) struct Inspect {
    /// Where bytes come from (SOURCE, below)
    #[arg(value_name = "SOURCE")]
    pub(crate) source: String,
    /// How bytes are shown, side by side
    #[arg(long = "as", value_enum, value_name = "VIEW,…", value_delimiter = ',', default_value = "hex,text")]
    pub(crate) views: Vec<View>,
    /// Show from this stream offset on
    #[arg(long, value_name = "OFFSET", default_value_t = 0)]
    pub(crate) from: u64,
    /// Show so many bytes; without it, the first 512 of a file, and all of what is live. 0: only the summary
    #[arg(long, value_name = "BYTES")]
    pub(crate) length: Option<u64>,
    /// Bytes in a row, at most
    #[arg(long, value_name = "BYTES", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub(crate) width: Option<u16>,
    /// Begin a new row where the line was silent for so long
    #[arg(long, value_name = "SPAN", value_parser = span)]
    pub(crate) split_idle: Option<Span>,
    /// Find the line settings of a port: listen with the usual ones in turn, score what comes, and explain the choice
    #[arg(long, conflicts_with_all = ["serial", "from", "length", "width", "split_idle", "begin", "end"])]
    pub(crate) search: bool,
    /// Print rows even if a terminal could show them live
    #[arg(long)]
    pub(crate) plain: bool,
    /// The format whose line settings a port is opened with, where none are asked for: a file, or the name of one that ships with usus
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<String>,
    #[command(flatten)]
    pub(crate) opening: Opening,
}

#[derive(Args)]
#[command(after_help = SOURCES)]
pub(crate) struct Bus {
    /// Where the bytes of the line come from (SOURCE, below)
    #[arg(value_name = "SOURCE")]
    pub(crate) source: String,
    /// A format that says what registers mean: what it does not say is told, and what of it was never seen
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<String>,
    /// The only line that is meant, of a source with several
    #[arg(long, value_name = "NAME", conflicts_with_all = ["requests", "answers"])]
    pub(crate) line: Option<String>,
    /// Where requests and answers come on two lines: the one with the requests
    #[arg(long, value_name = "NAME", requires = "answers", conflicts_with = "format")]
    pub(crate) requests: Option<String>,
    /// The one with the answers
    #[arg(long, value_name = "NAME", requires = "requests", conflicts_with = "format")]
    pub(crate) answers: Option<String>,
    /// One JSON object instead of tables
    #[arg(long)]
    pub(crate) json: bool,
    /// Show each two registers side by side as one number of 32 bits, too, in every order of their bytes (JSON always has them)
    #[arg(long)]
    pub(crate) pairs: bool,
    /// Write the registers that were seen as a CSV, too: points to be filled in, which a format can name
    #[arg(long, value_name = "FILE")]
    pub(crate) to_points: Option<PathBuf>,
    /// Write a format, too, with the registers that were seen
    #[arg(long, value_name = "FILE")]
    pub(crate) to_format: Option<PathBuf>,
    /// Replace files that exist
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Print at the end, even if a terminal could show it live
    #[arg(long)]
    pub(crate) plain: bool,
    #[command(flatten)]
    pub(crate) opening: Opening,
}

/// A way to show bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum View {
    /// Characters; others are named, as in ‹CR›
    Text,
    /// Two hex digits a byte
    Hex,
    /// Decimal numbers
    Decimal,
    /// Eight binary digits a byte, the highest first
    Binary,
    /// As on the wire: start bit, data bits with the lowest first, parity bit, stop bit
    Bits,
}

#[derive(Args)]
#[command(after_help = SOURCES)]
pub(crate) struct Capture {
    /// What is to be recorded (SOURCE, below); several become lines of one capture. Each may be given a name: NAME=SOURCE. Captures
    /// are copied, with their own times: a part of one (--begin, --end), or several as one
    #[arg(required_unless_present = "info", value_name = "SOURCE")]
    pub(crate) sources: Vec<String>,
    /// The file to record into (pcapng), or a directory in which the file is named after the lines and the time
    #[arg(long, value_name = "FILE|DIR", required_unless_present = "info")]
    pub(crate) out: Option<PathBuf>,
    /// Continue the file, if it is a capture of the same lines with the same settings
    #[arg(long)]
    pub(crate) append: bool,
    /// Something to be kept with the recording; may be given several times. While it runs, lines that are typed are notes, too
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Vec<String>,
    /// Go on in another file once this one has so many bytes, as in 100MB
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) rotate_size: Option<u64>,
    /// Go on in another file after so long, as in 24h
    #[arg(long, value_name = "SPAN", value_parser = span)]
    pub(crate) rotate_every: Option<Span>,
    /// Compress each file with gzip once it is finished
    #[arg(long, conflicts_with = "append")]
    pub(crate) compress: bool,
    /// Give what arrives to other programs at the same time: at a pseudo-terminal (`pty`, `pty:LINK`) or to all who call (`tcp://:PORT`).
    /// Of several lines, say which: NAME=tcp://:PORT
    #[arg(long, value_name = "PLACE")]
    pub(crate) serve: Vec<String>,
    /// Stop after so long
    #[arg(long, value_name = "SPAN", value_parser = span)]
    pub(crate) stop_after: Option<Span>,
    /// Stop after so many bytes, as in 10kB
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) stop_at: Option<u64>,
    /// Stop once nothing has come for so long
    #[arg(long, value_name = "SPAN", value_parser = span)]
    pub(crate) stop_idle: Option<Span>,
    /// Tell what a capture holds, instead of recording
    #[arg(long, value_name = "FILE", conflicts_with_all = ["sources", "out"])]
    pub(crate) info: Option<PathBuf>,
    /// Convert what arrives at the same time: where records go, as with --out of usus convert
    #[arg(long, value_name = "DEST")]
    pub(crate) convert: Option<PathBuf>,
    /// The format to convert by, whose line settings a port is opened with: a file, or the name of one that ships with usus
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<String>,
    #[command(flatten)]
    pub(crate) tables: TableArguments,
    #[command(flatten)]
    pub(crate) opening: Opening,
}

/// A size with its unit.
fn size(text: &str) -> Result<u64, String> {
    let digits = text.trim_end_matches(|character: char| character.is_ascii_alphabetic());
    let factor = match &text[digits.len()..] {
        "" | "B" => 1,
        "kB" => 1_000,
        "MB" => 1_000_000,
        "GB" => 1_000_000_000,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        _ => return Err("a size is a number with B, kB, MB, GB, KiB, MiB or GiB behind it".to_owned()),
    };
    let number: u64 = digits.parse().map_err(|_| format!("`{digits}` is no whole number"))?;
    number.checked_mul(factor).ok_or_else(|| "that is too large".to_owned())
}

#[derive(Args)]
pub(crate) struct Replay {
    /// The capture
    #[arg(value_name = "CAPTURE")]
    pub(crate) capture: String,
    /// Where to: `pty` (a pseudo-terminal; its name is printed), `pty:LINK` (with a link to it), `tcp://:PORT` or `tcp://ADDRESS:PORT` (to
    /// all who call there), or a file that is not there yet (its raw bytes)
    #[arg(long, value_name = "DEST")]
    pub(crate) to: String,
    /// Which line, if the capture holds several
    #[arg(long, value_name = "NAME")]
    pub(crate) line: Option<String>,
    /// How many times as fast as it was recorded, or `max`: as fast as it is taken. Files are always written so
    #[arg(long, value_name = "TIMES|max", default_value = "1", value_parser = pace)]
    pub(crate) speed: f64,
    /// Put its clock right: move its times by so much, as in 2s, -1.5s, 40ms, 1h
    #[arg(long, value_name = "SPAN", value_parser = ForLine::span, allow_hyphen_values = true)]
    pub(crate) shift: Vec<ForLine<Span>>,
    /// Only what was received at this time or later, as in 2026-11-25T06:30:00Z
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) begin: Option<Time>,
    /// Only what was received before this time
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) end: Option<Time>,
}

impl Replay {
    /// How the capture is opened.
    pub(crate) fn opening(&self) -> Opening {
        Opening { shift: self.shift.clone(), begin: self.begin, end: self.end, ..Opening::default() }
    }
}

/// How many times as fast; `max` has no end.
fn pace(text: &str) -> Result<f64, String> {
    match text {
        "max" => Ok(f64::INFINITY),
        _ => text
            .parse()
            .ok()
            .filter(|times: &f64| *times > 0.0)
            .ok_or_else(|| "a speed is a number above 0, or `max`".to_owned()),
    }
}

#[derive(Args)]
pub(crate) struct Ports {
    /// One JSON object a port instead of a table
    #[arg(long)]
    pub(crate) json: bool,
    /// The ports of another system, whose files (sys, dev, proc, etc) were copied into this directory
    #[arg(long, value_name = "DIR")]
    pub(crate) under: Option<PathBuf>,
}

/// What a device sends.
#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum Blank {
    /// Sentences by NMEA 0183
    Sentences,
    /// Lines of columns
    Columns,
    /// Lines of keys with their values
    Pairs,
    /// Lines for people, with values among words
    Printed,
    /// Packets of bytes
    Packet,
}

#[derive(Args)]
pub(crate) struct Formats {
    /// Print this format file
    #[arg(long, value_name = "NAME")]
    pub(crate) show: Option<String>,
    /// List the checksums that a format can name, with their parameters and check values
    #[arg(long, conflicts_with = "show")]
    pub(crate) checksums: bool,
    /// Print a format file to begin with, to be filled in for a device of this kind
    #[arg(long, value_name = "KIND", value_enum, conflicts_with_all = ["show", "checksums"])]
    pub(crate) blank: Option<Blank>,
}

#[derive(Args)]
pub(crate) struct Simulate {
    #[arg(value_name = "DEVICE", value_parser = device, help = format!("Which devices; without it, all: {}", device_names()))]
    pub(crate) devices: Vec<Device>,
    /// The directory in which each device's port gets a link with a lasting name
    #[arg(long, value_name = "DIR", default_value = "ropeway")]
    pub(crate) dir: PathBuf,
    /// Serve them over TCP as well, the first at this address and port, the others at the ports behind it
    #[arg(long, value_name = "ADDRESS:PORT")]
    pub(crate) tcp: Option<SocketAddr>,
    /// Set the devices to these line settings instead of their usual ones
    #[arg(long, value_name = "SETTINGS", value_parser = simulated_settings)]
    pub(crate) serial: Option<usus_sim::Settings>,
    /// What goes wrong
    #[arg(long, value_enum, value_name = "FAULT,…", value_delimiter = ',')]
    pub(crate) fault: Vec<LineFault>,
    /// End after so many seconds
    #[arg(long, value_name = "N")]
    pub(crate) seconds: Option<u32>,
    /// The same number gives the same bytes
    #[arg(long, default_value_t = 42)]
    pub(crate) seed: u64,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum LineFault {
    /// Noise before messages, flipped bits, lost bytes
    Noise,
    /// Fifteen seconds of each minute the device says nothing
    Silence,
    /// The port goes away after ten seconds, and comes back three seconds later under another number
    Vanish,
    /// The first message lacks its start
    CutStart,
    /// The line is held down after some messages
    Breaks,
}

fn device(text: &str) -> Result<Device, String> {
    Device::named(text).ok_or_else(|| format!("the demo site has no such device; it has {}", device_names()))
}

fn device_names() -> String {
    Device::ALL.map(Device::name).join(", ")
}

fn simulated_settings(text: &str) -> Result<usus_sim::Settings, String> {
    usus_sim::Settings::parse(text).ok_or_else(|| "settings are written as in `9600 8N1`".to_owned())
}

#[derive(Args)]
pub(crate) struct Demo {
    /// The directory to work in; it is made, or made anew if an earlier demo made it
    #[arg(long, value_name = "DIR", default_value = "usus-demo")]
    pub(crate) out: PathBuf,
    /// How many seconds each line is simulated for
    #[arg(long, default_value_t = 600, value_parser = clap::value_parser!(u32).range(1..=86_400))]
    pub(crate) seconds: u32,
    /// The same number gives the same bytes
    #[arg(long, default_value_t = 42)]
    pub(crate) seed: u64,
    /// What goes wrong on the lines
    #[arg(long, value_enum, default_value = "all")]
    pub(crate) faults: FaultChoice,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FaultChoice {
    /// A cut start, flipped bits, lost bytes and noise
    All,
    /// Nothing
    None,
}

/// A share as a fraction or in percent.
fn share(text: &str) -> Result<f64, String> {
    let (number, divisor) = text.strip_suffix('%').map_or((text, 1.0), |number| (number, 100.0));
    match number.trim().parse::<f64>() {
        Ok(number) if (0.0..=1.0).contains(&(number / divisor)) => Ok(number / divisor),
        _ => Err("a share is a number from 0 to 1, or from 0% to 100%".to_owned()),
    }
}
