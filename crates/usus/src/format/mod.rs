//! A format as it was written: the declaration, before it is compiled into a plan.
//!
//! Here live the types of the declaration and its reading from TOML, with every problem reported at its place. What a
//! declaration *means* for bytes (places, lengths, kinds) is worked out in `plan`.

mod beside;
mod checksum;
mod composed;
mod example;
mod field;
mod frame;
mod keys;
mod pattern;
mod point;
mod read;
mod read_composed;
mod source;
mod types;
mod write;
mod write_composed;

pub use crate::integer::{Bits, Integer, Letters, Order, Sign};
pub use checksum::{Characters, Check, CheckForm};
pub use composed::{Block, Exchange, Latest, Merge, Multipart, Part, Repeat, Side};
pub use keys::hex_bytes;
use keys::hex_digits;
pub use pattern::{BytePattern, MaskedByte, byte_pattern};
pub use point::{Point, Table, Unit};
pub(crate) use read::format as read;
pub(crate) use source::Source;
pub(crate) use write::{checksum_text, length_text};

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use crate::limits;
use crate::problem::ProblemKind;
use crate::time::Span;
pub use crate::value::Charset;
use crate::value::Decimal;

/// A declared format: serial settings, framing, records and examples, as read from a format file.
///
/// It is read by [`Format::parse`], or put together in code from [`Format::new`]; everything in it can be looked at and altered.
/// Whatever was done to it, [`Format::compile`] checks it as it checks a file.
///
/// ```
/// use usus::Format;
/// use usus::format::{Check, CheckForm, Cut, Field, FieldType, Frame, Integer, Length, Order, Record};
///
/// let byte = Integer { signed: false, bytes: 1, order: Order::Big };
/// let mut frame = Frame::new("packet", Cut::Packet { start: [0xA5, 0x5A].into(), length: Length::Fixed(4.into()), end: None });
/// frame.checksums.push(Check::new("SUM-8", CheckForm::Binary(byte)));
///
/// let mut brake = Field::new("brake");
/// brake.kind = Some(FieldType::Integer(byte).into());
/// let mut record = Record::new("state");
/// record.fields.push(brake);
///
/// let mut format = Format::new("brake-box");
/// format.frames.push(frame);
/// format.records.push(record);
/// assert!(format.compile()?.schema().kind("state").is_some());
///
/// // One byte more, and nothing says what it is.
/// let Cut::Packet { length, .. } = &mut format.frames[0].cut else { unreachable!() };
/// *length = Length::Fixed(5.into());
/// let problems = format.compile().unwrap_err();
/// assert!(problems.to_string().contains("nothing names byte 3"));
/// assert!(format.to_toml().contains("length   = 5"));
/// # Ok::<(), usus::Problems>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Format {
    /// `format`: its name.
    pub name: String,
    /// `title`: what the device is, for people.
    pub title: Option<String>,
    /// `version`: of the declaration, for people.
    pub version: Option<String>,
    /// `serial`: settings of the line.
    pub serial: Option<Serial>,
    /// `clean`: what is taken out of its lines before anything is cut.
    pub clean: Vec<Clean>,
    /// `limits`: bounds that this format lowers.
    pub limits: Limits,
    /// `[line.ROLE]`: the lines that the format speaks of, if it speaks of several.
    pub lines: Vec<LineRole>,
    /// `[[frame]]`, in the order of the file.
    pub frames: Vec<Frame>,
    /// `[record.KIND]`, in the order of the file.
    pub records: Vec<Record>,
    /// `[multipart.NAME]`, in the order of the file.
    pub multiparts: Vec<Multipart>,
    /// `[exchange.NAME]`, in the order of the file.
    pub exchanges: Vec<Exchange>,
    /// `[unit.NAME]`, in the order of the file, and behind them those that only `[[point]]` name.
    pub units: Vec<Unit>,
    /// `[merge.NAME]`, in the order of the file.
    pub merges: Vec<Merge>,
    /// `[[ignore]]`, in the order of the file.
    pub ignores: Vec<Ignore>,
    /// `[[example]]`, in the order of the file.
    pub examples: Vec<Example>,
    /// What it was read from; empty for one made in code.
    pub(crate) source: Source,
}

impl Format {
    /// A format without frames and records, to be put together in code.
    pub fn new(name: impl Into<String>) -> Format {
        Format {
            name: name.into(),
            title: None,
            version: None,
            serial: None,
            clean: Vec::new(),
            limits: Limits::default(),
            lines: Vec::new(),
            frames: Vec::new(),
            records: Vec::new(),
            multiparts: Vec::new(),
            exchanges: Vec::new(),
            units: Vec::new(),
            merges: Vec::new(),
            ignores: Vec::new(),
            examples: Vec::new(),
            source: Source::default(),
        }
    }

    /// Whether frames are cut from what a field carries, which is named as `record.field`.
    pub fn carries(&self, field: &str) -> bool {
        self.frames.iter().any(|frame| frame.inside.as_ref().is_some_and(|inside| inside.value == field))
    }

    /// The declaration of a field of a kind of record: its own, of one of its variants, or of a frame's header. Fields of groups are named behind
    /// them: `peaks.force`. Flags are declared with the byte that they are in, and have no declaration of their own.
    pub fn field(&self, kind: &str, path: &str) -> Option<&Field> {
        let records = self.records.iter().filter(|record| record.kind.value == kind).flat_map(Record::layouts);
        let own = records.flat_map(|record| &record.fields);
        let fields = own.chain(self.frames.iter().flat_map(|frame| &frame.header));
        Format::field_of(fields, path)
    }

    fn field_of<'f>(fields: impl Iterator<Item = &'f Field>, path: &str) -> Option<&'f Field> {
        let (name, rest) = path.split_once('.').map_or((path, None), |(name, rest)| (name, Some(rest)));
        for field in fields {
            let is_it = field.name.as_ref().is_some_and(|own| own.value == name);
            let found = match (rest, &field.group, &field.run) {
                (None, _, _) if is_it => Some(field),
                (Some(rest), Some(group), _) if is_it => Format::field_of(group.fields.iter(), rest),
                (_, _, Some(run)) => Format::field_of(run.fields.iter(), path),
                _ => None,
            };
            if found.is_some() {
                return found;
            }
        }
        None
    }

    /// The field that carries the frames of a kind of record, if one does.
    pub(crate) fn inside_of(&self, kind: &str) -> Option<&str> {
        let record = self.records.iter().find(|record| record.kind.value == kind)?;
        let frame = match &record.frame {
            Some(name) => self.frames.iter().find(|frame| frame.name == name.value),
            None => self.frames.first(),
        };
        Some(frame?.inside.as_ref()?.value.as_str())
    }

    /// The format as a file that says the same. Comments and the order of keys of a file that it was read from are not kept.
    ///
    /// What no file can say (an integer of nine bytes, a name with a blank) comes out as something that [`Format::parse`] refuses.
    ///
    /// ```
    /// let mut format = usus::Format::parse(r#"
    ///     format = "scale"
    ///     [[frame]]
    ///     cut = "text"
    ///     [record.weight]
    ///     fields = [{ name = "weight", type = "number", unit = "kg" }]
    /// "#)?;
    /// format.version = Some("2".to_string());
    /// assert_eq!(usus::Format::parse(&format.to_toml())?.version.as_deref(), Some("2"));
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn to_toml(&self) -> String {
        write::format(self)
    }
}

/// A value and where it stands in the format file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spanned<T> {
    /// Its place, as bytes of the file; empty for one made in code.
    pub span: Range<usize>,
    /// The value.
    pub value: T,
}

impl<T> From<T> for Spanned<T> {
    /// A value that stands in no file.
    fn from(value: T) -> Spanned<T> {
        Spanned { span: 0..0, value }
    }
}

impl From<&str> for Spanned<String> {
    /// A text that stands in no file.
    fn from(text: &str) -> Spanned<String> {
        text.to_string().into()
    }
}

/// A number or a text as written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Literal {
    /// A number, exact.
    Number(Decimal),
    /// A whole number written as `0x…`, `0o…` or `0b…`: a pattern of bits. What number that is, the field's type says.
    Bits(u64),
    /// A text.
    Text(String),
    /// `true` or `false`.
    Bool(bool),
}

/// Settings of a serial line, as in `9600 8N1`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Serial {
    /// Bits per second.
    pub baud: u32,
    /// Data bits of a character, 5 to 8.
    pub data_bits: u8,
    /// Parity.
    pub parity: Parity,
    /// Half stop bits: 2, 3 or 4 for one, one and a half, or two stop bits.
    pub half_stop_bits: u8,
}

impl Serial {
    /// Reads settings such as `9600 8N1` or `1200 7E1.5`.
    pub fn parse(text: &str) -> Option<Serial> {
        let (baud, character) = text.trim().split_once(' ')?;
        let character = character.trim();
        let data_bits = character.get(..1)?.parse().ok().filter(|bits| (5..=8).contains(bits))?;
        let parity = match character.get(1..2)? {
            "N" => Parity::None,
            "E" => Parity::Even,
            "O" => Parity::Odd,
            "M" => Parity::Mark,
            "S" => Parity::Space,
            _ => return None,
        };
        let half_stop_bits = match character.get(2..)? {
            "1" => 2,
            "1.5" => 3,
            "2" => 4,
            _ => return None,
        };
        let baud = baud.parse().ok().filter(|&baud| baud > 0)?;
        Some(Serial { baud, data_bits, parity, half_stop_bits })
    }

    /// How long one character takes on the line: start bit, data bits, parity bit, stop bits.
    pub fn character(self) -> Span {
        let half_bits = 2
            + 2 * i64::from(self.data_bits)
            + 2 * i64::from(self.parity != Parity::None)
            + i64::from(self.half_stop_bits);
        Span::from_nanoseconds(half_bits * 500_000_000 / i64::from(self.baud))
    }
}

impl core::fmt::Display for Serial {
    /// As in `9600 8N1`.
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        let stop = match self.half_stop_bits {
            2 => "1",
            3 => "1.5",
            4 => "2",
            // No line has such; and none is read from it.
            _ => "?",
        };
        write!(f, "{} {}{}{stop}", self.baud, self.data_bits, self.parity.letter())
    }
}

/// Parity of a character.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[allow(missing_docs)]
pub enum Parity {
    None,
    Even,
    Odd,
    Mark,
    Space,
}

impl Parity {
    /// Its letter in line settings.
    pub const fn letter(self) -> char {
        match self {
            Parity::None => 'N',
            Parity::Even => 'E',
            Parity::Odd => 'O',
            Parity::Mark => 'M',
            Parity::Space => 'S',
        }
    }
}

/// `limits`: bounds that a format lowers for itself. See [`crate::limits`] for what each is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Limits {
    /// Largest frame of a `packet` cut, in bytes; nothing if the records' own lengths say it.
    pub frame: Option<usize>,
    /// Longest line of a `text` cut, in bytes without its end.
    pub line: usize,
    /// Series that are remembered.
    pub series: usize,
    /// Names that `count_by` counts one by one.
    pub names: usize,
    /// Frames that one record is made of.
    pub parts: usize,
    /// Bytes of the frames that one record is made of.
    pub held: usize,
    /// Keys of which frames wait for others at the same time, for each record that is made of several.
    pub open: usize,
}

impl Default for Limits {
    fn default() -> Limits {
        Limits { frame: None, line: 4_096, series: 1_024, names: 64, parts: 4_096, held: 1 << 20, open: 64 }
    }
}

/// `[line.ROLE]`: one of several lines.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LineRole {
    /// Its role.
    pub role: Spanned<String>,
    /// Its settings, where they are not those of the format.
    pub serial: Option<Serial>,
    /// `clean`: what is taken out of it, where that is not what the format says.
    pub clean: Option<Vec<Clean>>,
}

impl LineRole {
    /// A line with the settings of the format.
    pub fn new(role: impl Into<String>) -> LineRole {
        LineRole { role: role.into().into(), serial: None, clean: None }
    }
}

/// Something that is taken out of a line, since it does not belong to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Clean {
    /// The highest bit of each byte: what a line of seven data bits and parity looks like with eight.
    Parity,
    /// NULs, as devices send them to fill time.
    Nul,
    /// XON and XOFF.
    Flow,
    /// What moves a terminal's cursor and colours its text (ECMA-48).
    Escapes,
}

impl Clean {
    pub(crate) const WORDS: [(&'static str, Clean); 4] =
        [("parity", Clean::Parity), ("nul", Clean::Nul), ("flow", Clean::Flow), ("escapes", Clean::Escapes)];

    /// Its word in format files.
    pub const fn word(self) -> &'static str {
        match self {
            Clean::Parity => "parity",
            Clean::Nul => "nul",
            Clean::Flow => "flow",
            Clean::Escapes => "escapes",
        }
    }
}

/// `[[frame]]`: how frames are cut from a line.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Frame {
    /// Where it stands.
    pub span: Range<usize>,
    /// `name`, or the name of the cut.
    pub name: String,
    /// `on`: the role of the line that it is for; every line if there is none.
    pub on: Option<Spanned<String>>,
    /// `inside`: the field, as `record.field`, from whose bytes it is cut, where that is not a line.
    pub inside: Option<Spanned<String>>,
    /// `cut` and the keys that belong to it.
    pub cut: Cut,
    /// Whether the lines are messages of Modbus ASCII (`cut = "modbus-ascii"`): a colon, and hex digits with a checksum. All of that is said by its other
    /// parts, too, as [`Frame::modbus_ascii`] makes them.
    pub modbus: Option<Ascii>,
    /// `read`: how its contents are read; nothing if that is as usual for its cut.
    pub read: Option<Spanned<Read>>,
    /// `coding`: what is made of what was sent before anything is read of it.
    pub coding: Vec<Coding>,
    /// `checksum`: what its frames have; where there are several, the first is the one that may stand behind an end or a mark.
    pub checksums: Vec<Check>,
    /// `header`: fields read before a record is chosen.
    pub header: Vec<Field>,
    /// `separator`: what stands between the columns of a text, each of them; a comma if there is none.
    pub separators: Vec<Spanned<String>>,
    /// `joined`: several separators in a row are one.
    pub joined: bool,
    /// `assign`: what stands between the key and the value of a pair; an `=` if there is none.
    pub assign: Option<Spanned<String>>,
    /// `repeated`: what is made of a key that comes twice.
    pub repeated: Repeated,
    /// `bits_from`: from which end of a byte on bits lie one behind the other; from the high one if nothing is said.
    pub bits_from: Option<BitsFrom>,
    /// `charset`: the character sets of its texts, of which the first that fits is it; UTF-8 if there is none.
    pub charsets: Vec<Charset>,
    /// `quote`: the character between which a column may hold separators; doubled, it stands for itself.
    pub quote: Option<u8>,
}

impl Frame {
    /// Frames without checksum and header, read as usual for their cut.
    pub fn new(name: impl Into<String>, cut: Cut) -> Frame {
        Frame {
            span: 0..0,
            name: name.into(),
            on: None,
            inside: None,
            cut,
            modbus: None,
            read: None,
            coding: Vec::new(),
            checksums: Vec::new(),
            header: Vec::new(),
            separators: Vec::new(),
            joined: false,
            assign: None,
            repeated: Repeated::Reject,
            bits_from: None,
            charsets: Vec::new(),
            quote: None,
        }
    }

    /// Messages of Modbus ASCII (Modbus over Serial Line V1.02, chapter 2.5.2).
    pub fn modbus_ascii(name: impl Into<String>, direction: Option<Direction>) -> Frame {
        let cut = Cut::Text { start: Some(BytePattern::from(*b":")), end: LineEnd::Any, idle: None };
        Frame {
            modbus: Some(Ascii { direction }),
            read: Some(Read::Bytes.into()),
            coding: [Coding::hex(1)].into(),
            checksums: [Check::of_modbus_ascii()].into(),
            ..Frame::new(name, cut)
        }
    }

    /// Whether its frames are messages of Modbus, and which way they go if that is known.
    pub(crate) fn of_modbus(&self) -> Option<Option<Direction>> {
        match (&self.cut, self.modbus) {
            (Cut::ModbusRtu { direction }, _) => Some(*direction),
            (_, ascii) => ascii.map(|ascii| ascii.direction),
        }
    }

    /// How many bytes its contents have, if those are always as many.
    pub(crate) fn fixed_contents(&self) -> Option<usize> {
        if !self.coding.is_empty() {
            return None;
        }
        match &self.cut {
            Cut::Packet { length: Length::Fixed(length), end, .. } => {
                let behind = end.as_ref().map_or(0, BytePattern::length) + self.checksum_behind();
                Some(length.value.saturating_sub(behind))
            }
            Cut::Fixed { length } | Cut::Idle { length: Some(length), .. } | Cut::Break { length: Some(length) } => {
                Some(length.value)
            }
            _ => None,
        }
    }

    /// Bytes of a checksum that follows the end.
    pub(crate) fn checksum_behind(&self) -> usize {
        self.checksums.first().map_or(0, Check::size_behind)
    }

    /// How its contents are read.
    pub fn reads(&self) -> Read {
        self.read.as_ref().map_or(self.cut.usual_read(), |read| read.value)
    }
}

/// How the contents of a frame are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Read {
    /// As bytes: usual for packets.
    Bytes,
    /// As text, by columns or characters: usual for lines and sentences.
    Columns,
    /// As text in which each value stands behind its key: `temp=21.5 hum=40`.
    Pairs,
}

/// What is made of a key that comes twice.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Repeated {
    /// A reject.
    #[default]
    Reject,
    /// The first one counts.
    First,
    /// The last one counts.
    Last,
}

/// How a frame is found.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Cut {
    /// Lines of text.
    Text {
        /// `start`: what its lines begin with, where several kinds of lines are told apart by that.
        start: Option<BytePattern>,
        /// `end`: what ends a line.
        end: LineEnd,
        /// `idle`: a silence of this length ends a line too.
        idle: Option<Silence>,
    },
    /// Sentences by NMEA 0183, found anywhere between other bytes.
    Sentence {
        /// `presence` of its `checksum`.
        checksum: Presence,
        /// `anywhere`: those without a checksum are taken amid a line, too.
        anywhere: bool,
    },
    /// Packets that begin with a pattern.
    Packet {
        /// `start`: the pattern.
        start: BytePattern,
        /// `length`.
        length: Length,
        /// `end`: what ends it, if anything does.
        end: Option<BytePattern>,
    },
    /// SLIP (RFC 1055).
    Slip,
    /// COBS: consistent overhead byte stuffing, with a zero between frames.
    Cobs,
    /// Octet stuffing as in HDLC-like framing (RFC 1662), with flags (7E) between frames.
    Hdlc,
    /// An escape and another byte begin a frame and end it, an escape in it is sent twice.
    Dle {
        /// `start`: the escape and what follows it, or the escape alone if that is part of the contents.
        start: Vec<u8>,
        /// `end`: the escape and what follows it.
        end: [u8; 2],
    },
    /// Modbus RTU (Modbus over Serial Line V1.02): messages of an address, a function and a CRC.
    ModbusRtu {
        /// `direction`: which way the messages of this line go, where it is not shared.
        direction: Option<Direction>,
    },
    /// What is sent between two silences.
    Idle {
        /// `idle`: how long the silence is at least.
        idle: Silence,
        /// `length`: how many bytes each has.
        length: Option<Spanned<usize>>,
    },
    /// What is sent between two breaks.
    Break {
        /// `length`: how many bytes each has.
        length: Option<Spanned<usize>>,
    },
    /// So many bytes, which only a checksum or constants tell from others.
    Fixed {
        /// `length`.
        length: Spanned<usize>,
    },
}

impl Cut {
    /// How the contents of its frames are read, where nothing else is said.
    pub fn usual_read(&self) -> Read {
        match self {
            Cut::Text { .. } | Cut::Sentence { .. } => Read::Columns,
            _ => Read::Bytes,
        }
    }
}

/// What is said of messages of Modbus ASCII.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ascii {
    /// `direction`: which way they go, where they do not share a line.
    pub direction: Option<Direction>,
}

/// Which way the messages of a line go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Direction {
    /// From the master.
    Requests,
    /// From the units.
    Answers,
}

/// How long a silence is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Silence {
    /// A time.
    Time(Span),
    /// So many thousandths of the time that a character takes, by the settings of the format.
    Characters(u32),
}

/// `coding`: a step from what is sent to the contents.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Coding {
    /// Where it stands.
    pub span: Range<usize>,
    /// `from`: the first byte of the hex digits.
    pub from: i64,
    /// `to`: the last of them; of all that is left if there is none.
    pub to: Option<i64>,
}

impl Coding {
    /// Hex digits from a byte of what is sent on.
    pub fn hex(from: i64) -> Coding {
        Coding { span: 0..0, from, to: None }
    }
}

/// What ends a line of text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LineEnd {
    /// CR, LF, or both.
    Any,
    /// LF; a CR is text.
    Lf,
    /// CR; an LF is text.
    Cr,
    /// CR directly followed by LF; one alone is text.
    CrLf,
}

/// Whether a sentence or a line has to carry a checksum.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Presence {
    /// It has to.
    Required,
    /// It may.
    Optional,
    /// It never does; a `*` is text. Of sentences.
    Absent,
}

/// How long a packet is, from its start pattern to its last byte.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Length {
    /// As its `end` tells.
    ToEnd,
    /// Always the same number of bytes.
    Fixed(Spanned<usize>),
    /// Fields in the frame tell it, all of them the same.
    Fields(Vec<LengthField>),
    /// That of the record which the header chooses.
    Record,
}

/// A field that tells how long its packet is.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LengthField {
    /// Where the table stands in the file.
    pub span: Range<usize>,
    /// `byte`: its first byte.
    pub byte: usize,
    /// `type`, with `digits`.
    pub kind: FieldType,
    /// `width`, of digits and decimal numbers.
    pub width: Option<usize>,
    /// `bits` of it that are meant.
    pub bits: Option<Bits>,
    /// `scale`: bytes for each that it counts.
    pub scale: usize,
    /// `add`: what has to be added to get the length of the whole frame.
    pub add: i64,
    /// `past`: a part that varies, and stands before it. `byte` and the length are told as if there was none.
    pub past: Option<Box<PartBefore>>,
}

/// A part of a packet that varies, and stands before what tells the length.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PartBefore {
    /// A field tells how many bytes it has.
    Told(LengthField),
    /// It begins at this byte, and goes through the first of these bytes.
    Until {
        /// `byte`: its first byte.
        byte: usize,
        /// `until`: what ends it, and is its end.
        until: BytePattern,
    },
}

impl LengthField {
    /// An integer that says how long the whole packet is, less `add`.
    pub fn new(byte: usize, integer: Integer, add: i64) -> LengthField {
        let kind = FieldType::Integer(integer);
        LengthField { span: 0..0, byte, kind, width: None, bits: None, scale: 1, add, past: None }
    }
}

/// A scale that no number in decimal is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ratio {
    /// What the raw value is multiplied by.
    pub numerator: i64,
    /// What it is divided by: more than 0.
    pub denominator: i64,
}

impl core::fmt::Display for Ratio {
    /// As in `180/2147483648`.
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        write!(f, "{}/{}", self.numerator, self.denominator)
    }
}

/// `[record.KIND]`: what frames of one kind say.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Record {
    /// Its kind.
    pub kind: Spanned<String>,
    /// `title`, for people.
    pub title: Option<String>,
    /// `frame`: the frame that it is read from; any if there is none.
    pub frame: Option<Spanned<String>>,
    /// `when`: what holds for its frames.
    pub when: Option<When>,
    /// `printed`: its lines as the device prints them, with fields in braces; the first that fits.
    pub printed: Vec<Spanned<String>>,
    /// `pattern`: its lines as a regular expression whose named groups are fields.
    pub pattern: Option<Spanned<String>>,
    /// `heading`: the record whose lines name the columns of this one; its fields are found by their labels then.
    pub heading: Option<Spanned<String>>,
    /// `read`: how it is read, where that is not how its frame is.
    pub read: Option<Spanned<Read>>,
    /// `series`: the fields that tell apart what belongs together over time.
    pub series: Vec<Spanned<String>>,
    /// `checksum`: whether a sentence or line of this kind has to carry one; nothing if the frame says it.
    pub checksum: Option<Presence>,
    /// `more = "ignore"`: columns behind the declared ones are allowed.
    pub more: bool,
    /// `fields`, behind those of the frame's header.
    pub fields: Vec<Field>,
    /// `[[record.KIND.variant]]`: other frames that give the same record. A variant is a record of this kind without title, series and variants
    /// of its own.
    pub variants: Vec<Record>,
    /// `[[record.KIND.part]]` and what goes with it: a record of several frames, which has nothing else of the above but title, frame and series.
    pub block: Option<Block>,
    /// `latest`: fields copied from other records.
    pub latest: Vec<Latest>,
}

impl Record {
    /// The record itself, and its variants: what reads a frame and gives the record.
    pub(crate) fn layouts(&self) -> impl Iterator<Item = &Record> {
        let own = self.block.is_none().then_some(self);
        own.into_iter().chain(&self.variants)
    }

    /// A record of any frame, without fields.
    pub fn new(kind: impl Into<String>) -> Record {
        Record {
            kind: kind.into().into(),
            title: None,
            frame: None,
            when: None,
            printed: Vec::new(),
            pattern: None,
            heading: None,
            read: None,
            series: Vec::new(),
            checksum: None,
            more: false,
            fields: Vec::new(),
            variants: Vec::new(),
            block: None,
            latest: Vec::new(),
        }
    }
}

/// A condition, and where its text begins in the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct When {
    /// Where the text stands.
    pub span: Range<usize>,
    /// The text.
    pub text: String,
    /// Byte of the file where byte 0 of the text stands, if the text is written without escapes.
    pub(crate) start: Option<usize>,
}

impl When {
    /// A condition such as `type == 1`. Whether it is one is found when the format is compiled.
    pub fn new(text: impl Into<String>) -> When {
        When { span: 0..0, text: text.into(), start: None }
    }
}

/// `[[ignore]]`: frames that are declared to carry nothing of interest; by default all that no record claims.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Ignore {
    /// Where it stands.
    pub span: Range<usize>,
    /// `frame`: the frame it is about; any if there is none.
    pub frame: Option<Spanned<String>>,
    /// `when`: what holds for its frames.
    pub when: Option<When>,
    /// `printed`: its lines as the device prints them, with a name in braces for any text.
    pub printed: Vec<Spanned<String>>,
    /// `pattern`: its lines as a regular expression.
    pub pattern: Option<Spanned<String>>,
    /// `count_by`: the header field by which they are counted.
    pub count_by: Option<Spanned<String>>,
}

/// A field, a group of fields, or reserved bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Field {
    /// Where it stands.
    pub span: Range<usize>,
    /// `name`.
    pub name: Option<Spanned<String>>,
    /// `title`, for people.
    pub title: Option<String>,
    /// `tag`: what the plant calls it.
    pub tag: Option<String>,
    /// `internal`: read, but not output.
    pub internal: bool,
    /// `byte`, `column` or `chars`.
    pub place: Place,
    /// `label`: the key by which it is found in pairs, where that is not its name.
    pub label: Option<Spanned<String>>,
    /// `type`.
    pub kind: Option<Spanned<FieldType>>,
    /// `width`: how many bytes it has.
    pub width: Option<Spanned<Width>>,
    /// `until`: the bytes that end it, which are none of it.
    pub until: Option<Spanned<BytePattern>>,
    /// `bits`: those that are meant of an integer, the lowest of which is 0.
    pub bits: Option<Spanned<Bits>>,
    /// `bits_from`: which half of a byte has the first of its two digits, where the frame does not say it.
    pub bits_from: Option<Spanned<BitsFrom>>,
    /// `sign`: how the sign of an integer is sent, where that is not in two's complement.
    pub sign: Option<Spanned<Sign>>,
    /// `flags`: names of single bits.
    pub flags: Vec<(u8, Spanned<String>)>,
    /// `codes`: names of values; of a `bool`, `true` and `false`.
    pub codes: Vec<(Spanned<Literal>, String)>,
    /// `equals`: the only value allowed.
    pub equals: Option<Spanned<Literal>>,
    /// `reserved`: bytes known to carry nothing.
    pub reserved: bool,
    /// `scale`: what the raw value is multiplied by.
    pub scale: Option<Spanned<Decimal>>,
    /// `scale` as a ratio, such as `"180/2147483648"`.
    pub ratio: Option<Spanned<Ratio>>,
    /// `add`: what is then added.
    pub add: Option<Spanned<Decimal>>,
    /// `places`: places after the point of a converted value.
    pub places: Option<Spanned<u8>>,
    /// `unit`.
    pub unit: Option<Spanned<String>>,
    /// `unit_sent`: the unit in which the value is sent, where that is another one.
    pub unit_sent: Option<Spanned<String>>,
    /// `suffix`: texts of which one stands behind the number, each with the unit that it means, if it means one.
    pub suffixes: Vec<(Spanned<String>, Option<Spanned<String>>)>,
    /// `decimal`: what stands before the places of a number, if that is no point.
    pub decimal: Option<Spanned<String>>,
    /// `thousands`: what may stand between the thousands of a number.
    pub thousands: Option<Spanned<String>>,
    /// `limit_marks`: what stands before a number below or above which the value lies.
    pub limit_marks: Option<Spanned<[String; 2]>>,
    /// `sign_from`: the field that tells the sign, by its codes `+` and `-`.
    pub sign_from: Option<Spanned<String>>,
    /// `scale_from`: the field that tells what the value is multiplied by: its `codes`, or its own value.
    pub scale_from: Option<Spanned<String>>,
    /// `unit_from`: the field that tells the unit in which the value is sent.
    pub unit_from: Option<Spanned<String>>,
    /// `no_data`: raw values that stand for "no data".
    pub no_data: Vec<Spanned<Literal>>,
    /// `range`: the smallest and the largest value that make sense.
    pub range: Option<Spanned<[Decimal; 2]>>,
    /// `counter`: it goes up by one with each record of its kind and series.
    pub counter: bool,
    /// `rollover`: the value after which a counter begins again at 0.
    pub rollover: Option<Spanned<i64>>,
    /// `layout` of a date or a time of day.
    pub layout: Option<Spanned<String>>,
    /// `since`: the instant from which seconds are counted, where a number is such.
    pub since: Option<Spanned<String>>,
    /// `first_year`: the first year that two digits may mean; 1980 if nothing is said.
    pub first_year: Option<Spanned<i64>>,
    /// `zone`: how far the clock is ahead of UTC, such as `+02:00`, of a date and time that do not say it.
    pub zone: Option<Spanned<String>>,
    /// `when`: what holds where it is there; where that does not hold, it takes no column.
    pub when: Option<When>,
    /// `optional`: its column may be missing.
    pub optional: bool,
    /// `invalid = "reject"`: a text that is no value of the type rejects the whole frame.
    pub strict: bool,
    /// `closed`: a value that `codes` does not name is invalid.
    pub closed: bool,
    /// `charset`: the character sets of the text, where they are not those of the frame.
    pub charsets: Vec<Charset>,
    /// `fill`: the byte that fills a text up to its width.
    pub fill: Option<u8>,
    /// `address`: of a value in a run, its address.
    pub address: Option<Spanned<u64>>,
    /// `address_from`, `step` and `fields`: a run of values.
    pub run: Option<Run>,
    /// `count`, `up_to` or `until` and `fields`: a group. Without `fields`, it is a list of such values.
    pub group: Option<Group>,
}

impl Field {
    /// A field behind the one before it. One without a name is [`Field::default`].
    pub fn new(name: impl Into<String>) -> Field {
        Field { name: Some(name.into().into()), ..Field::default() }
    }
}

/// A list of sub-records.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Group {
    /// How many items it has.
    pub count: Count,
    /// `size` of one item, where its fields do not say it.
    pub size: Option<Spanned<Width>>,
    /// Fields of one item; none in a list of values.
    pub fields: Vec<Field>,
}

impl Group {
    /// So many items of these fields.
    pub fn new(count: Count, fields: Vec<Field>) -> Group {
        Group { count, size: None, fields }
    }
}

/// A run of values that begins with the one of some address. Its fields are fields of the record: those whose addresses are in the run are there.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Run {
    /// `address_from`: the field that tells the address of the first value.
    pub from: Spanned<String>,
    /// `step`: bytes for each address.
    pub step: usize,
    /// Fields with their addresses.
    pub fields: Vec<Field>,
}

impl Run {
    /// A run whose first value has the address that a field tells, with so many bytes for each address.
    pub fn new(from: impl Into<String>, step: usize, fields: Vec<Field>) -> Run {
        Run { from: from.into().into(), step, fields }
    }
}

/// How many items a group has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Count {
    /// Always so many.
    Fixed(Spanned<usize>),
    /// As many as an earlier field says.
    Field(Spanned<String>),
    /// As many as there is room for (`up_to = "end"`).
    ToEnd,
    /// Up to such bytes where an item would begin (`until`).
    Until(Spanned<BytePattern>),
}

/// How many bytes something has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Width {
    /// Always so many.
    Bytes(usize),
    /// As many as an earlier field says.
    Field(String),
}

impl Width {
    /// Its bytes, if they are always as many.
    pub(crate) fn bytes(&self) -> Option<usize> {
        if let Width::Bytes(bytes) = self { Some(*bytes) } else { None }
    }
}

/// Where a field is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Place {
    /// Behind the field before it.
    #[default]
    Next,
    /// At this byte of the frame, from 0; negative places count from the frame's end. In a group, from the item's start.
    Byte(Spanned<i64>),
    /// In these columns of the text, from 1, inclusive.
    Columns(Spanned<(usize, usize)>),
    /// In these characters of the text, from 1, inclusive.
    Characters(Spanned<(usize, usize)>),
}

/// From which end of a byte on bits, or digits, are counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum BitsFrom {
    /// From the most significant bit.
    #[default]
    High,
    /// From the least significant bit.
    Low,
}

/// `type` of a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FieldType {
    /// `u8`, `i16le`, … `u64be`.
    Integer(Integer),
    /// `f32le`, `f32be`.
    F32(Order),
    /// `f64le`, `f64be`.
    F64(Order),
    /// `text`.
    Text,
    /// `bytes`.
    Bytes,
    /// `bytes` with `digits = "hex"`: bytes as hex digits, two for each.
    HexBytes,
    /// `number`: a decimal number in a text.
    Number,
    /// `number` with `digits = "hex"`: hex digits in a text that stand for an unsigned integer.
    Hex,
    /// An integer with `digits = "hex"`: two hex digits for each of its bytes.
    HexInteger(Integer),
    /// Something with `digits = "bcd"`: decimal digits, two in a byte.
    Bcd(BcdType),
    /// `b1` to `b64`, `ib2` to `ib64`: so many bits behind those before them, wherever bytes begin.
    Bits {
        /// How many, 1 to 64.
        width: u8,
        /// Whether they have a sign.
        signed: bool,
    },
    /// `lat`: degrees and minutes (`ddmm.mmmm`) in one column, N or S in the next.
    Latitude,
    /// `lon`: degrees and minutes (`dddmm.mmmm`) in one column, E or W in the next.
    Longitude,
    /// `clock`: a time of day.
    Clock,
    /// `date`.
    Date,
    /// `datetime`: a date with a time of day.
    DateTime,
    /// `bool`: one of the words that `codes` has for `true` and `false`.
    Bool,
}

/// What decimal digits of which two lie in a byte stand for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum BcdType {
    /// `number`: as many digits as fit its `width`.
    Number,
    /// An integer: as many digits as fit its bytes, in their order.
    Integer(Integer),
    /// `clock`.
    Clock,
    /// `date`.
    Date,
    /// `datetime`.
    DateTime,
}

/// `[[example]]`: frames, and the records that they give.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Example {
    /// Where it stands.
    pub span: Range<usize>,
    /// `frames`, or the one that `bytes` or `text` and `on` say.
    pub frames: Vec<ExampleFrame>,
    /// `gives`: the records, in their order.
    pub gives: Vec<Gives>,
}

/// A frame of an example.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ExampleFrame {
    /// `on`: the role of the line.
    pub on: Option<Spanned<String>>,
    /// `bytes` or `text`.
    pub bytes: Vec<u8>,
    /// Whether it was given as `text`.
    pub is_text: bool,
    /// `after`: how long after the one before it; 1 ms if nothing is said.
    pub after: Option<Span>,
}

/// A record that an example gives.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Gives {
    /// `gives.record`: the kind.
    pub kind: Spanned<String>,
    /// The other keys of `gives`.
    pub fields: Vec<(Spanned<String>, Expected)>,
}

impl Example {
    /// Bytes that give a record of this kind.
    pub fn of_bytes(bytes: impl Into<Vec<u8>>, kind: impl Into<String>) -> Example {
        let frame = ExampleFrame { on: None, bytes: bytes.into(), is_text: false, after: None };
        Example { span: 0..0, frames: [frame].into(), gives: [Gives::new(kind)].into() }
    }

    /// A text, without its line end, that gives a record of this kind.
    pub fn of_text(text: &str, kind: impl Into<String>) -> Example {
        let mut example = Example::of_bytes(text, kind);
        example.frames.iter_mut().for_each(|frame| frame.is_text = true);
        example
    }
}

impl Gives {
    /// A record of this kind, of which no field is told.
    pub fn new(kind: impl Into<String>) -> Gives {
        Gives { kind: kind.into().into(), fields: Vec::new() }
    }
}

/// What an example expects of a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Expected {
    /// This value; the empty text means that there is none.
    Value(Spanned<Literal>),
    /// These items of a group.
    Items(Range<usize>, Vec<Vec<(Spanned<String>, Expected)>>),
}

/// How much there is in lists of fields: those of groups included, and the codes of all of them.
#[derive(Clone, Copy, Default)]
pub(crate) struct Weight {
    pub(crate) fields: usize,
    codes: usize,
}

impl Weight {
    pub(crate) fn add(&mut self, other: Weight) {
        self.fields += other.fields;
        self.codes += other.codes;
    }

    /// What there is too much of in the records of a format together.
    pub(crate) fn too_many(self) -> Option<ProblemKind> {
        let too_many = |what, found, limit| (found > limit).then_some(ProblemKind::TooMany { what, found, limit });
        let fields = "fields in all records together, those of the header counted for each";
        let codes = "codes in all records together, those of the header counted for each";
        too_many(fields, self.fields, limits::ALL_FIELDS).or(too_many(codes, self.codes, limits::ALL_CODES))
    }
}

/// How much there is in a list of fields.
pub(crate) fn weigh(fields: &[Field]) -> Weight {
    let mut weight = Weight::default();
    for field in fields {
        weight.add(Weight { fields: 1 + field.flags.len(), codes: field.codes.len() });
        weight.add(field.group.as_ref().map(|group| weigh(&group.fields)).unwrap_or_default());
        weight.add(field.run.as_ref().map(|run| weigh(&run.fields)).unwrap_or_default());
    }
    weight
}

/// Whether a text can be a name.
pub(crate) fn is_name(text: &str) -> bool {
    let mut bytes = text.bytes();
    bytes.next().is_some_and(|byte| byte.is_ascii_lowercase())
        && bytes.all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_')
        && text.len() <= limits::NAME
        && !crate::expression::RESERVED.contains(&text)
}
