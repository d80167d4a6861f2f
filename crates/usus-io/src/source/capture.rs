//! Captures: pcapng files with one interface for each line and one enhanced packet block for each chunk.
//!
//! pcapng is described by the IETF draft "PCAP Now Generic Dump File Format". How Usus uses it, block by block and option by option,
//! is written down in `docs/captures.md`. Reading is lenient (any byte order, any time resolution, unknown blocks are skipped);
//! writing is always little-endian with nanoseconds.

use std::collections::VecDeque;
use std::io::{self, Read, Write};
use std::ops::Range;

use usus::format::Serial;
use usus::{Fault, FaultKind, Loss, Span, Time};

use super::{LineInfo, Remark, Source, SourceError, SourceEvent, Torn};

/// LINKTYPE_USER0: the standard has no link type for a bare serial line.
pub const LINK_TYPE: u16 = 147;

const SECTION: u32 = 0x0A0D_0D0A;
const INTERFACE: u32 = 1;
/// The packet block that the standard calls obsolete.
const OLD_PACKET: u32 = 2;
/// A packet without a time, of the first interface.
const SIMPLE_PACKET: u32 = 3;
pub(crate) const PACKET: u32 = 6;
/// Blocks that hold no packets: names, statistics, journal entries, secrets.
const WITHOUT_PACKETS: [u32; 4] = [4, 5, 9, 10];
const CUSTOM: u32 = 0x0000_0BAD;
const BYTE_ORDER: u32 = 0x1A2B_3C4D;

const OPTION_END: u16 = 0;
const INTERFACE_NAME: u16 = 2;
const INTERFACE_DESCRIPTION: u16 = 3;
const COMMENT: u16 = 1;
const PACKET_FLAGS: u16 = 2;
const INTERFACE_SPEED: u16 = 8;
const INTERFACE_RESOLUTION: u16 = 9;
const INTERFACE_OFFSET: u16 = 14;
const SECTION_APPLICATION: u16 = 4;
/// A custom option that holds a text and may be copied.
const OPTION_CUSTOM: u16 = 2988;

/// Custom blocks and options carry the number of an enterprise. 32473 is the one that RFC 5612 sets aside for examples; the texts
/// begin with `usus:`, so that nothing else is taken for ours.
const ENTERPRISE: u32 = 32_473;
const PREFIX: &str = "usus:";

/// Larger blocks are taken for damage. A chunk is a few thousand bytes.
const LARGEST_BLOCK: u32 = 1 << 24;
/// How much is read at once.
const WINDOW: usize = 1 << 17;
/// A capture of more lines than this is taken for damage, as are more interfaces in a section.
const LINES: usize = 1_024;
/// The longest name of a line, and the longest id of a stream, in bytes.
const LONGEST_NAME: usize = 1_024;
/// So many notes of one packet are told.
const NOTES: usize = 64;
/// Of so many unknown kinds of blocks it is told how many there were.
const UNKNOWN_KINDS: usize = 16;
/// A line cannot begin behind this stream offset.
const LARGEST_BASE: u64 = i64::MAX as u64;

/// Whether a file that begins so is a capture.
pub(super) fn begins_like_one(head: &[u8]) -> bool {
    let magic = head.get(8..12).and_then(|bytes| bytes.try_into().ok()).map(u32::from_le_bytes);
    head.get(..4) == Some(&SECTION.to_le_bytes())
        && magic.is_some_and(|magic| magic == BYTE_ORDER || magic.swap_bytes() == BYTE_ORDER)
}

/// A line as it is written into a capture.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CaptureLine {
    /// Its name or role.
    pub name: String,
    /// Its settings, as in `9600 8N1`.
    pub serial: Option<String>,
    /// Stream offset of its first byte in this file.
    pub base: u64,
    /// What it is received with, in words: the adapter.
    pub about: Option<String>,
    /// The adapter's latency timer in milliseconds.
    pub latency: Option<u32>,
    /// By how much the times of its chunks are earlier than when they arrived.
    pub lateness: Span,
}

impl CaptureLine {
    /// A line as another capture has it.
    pub(crate) fn of(info: &LineInfo) -> CaptureLine {
        CaptureLine {
            name: info.name.clone(),
            serial: info.serial.map(|serial| serial.to_string()),
            base: info.start,
            about: info.about.clone(),
            latency: info.latency,
            lateness: info.lateness,
        }
    }
}

/// Writes a capture.
pub struct CaptureWriter<W> {
    writer: W,
    lines: u32,
    block: Vec<u8>,
}

impl<W: Write> CaptureWriter<W> {
    /// Begins a capture. `stream` is the id of the stream: the same when the capture is continued.
    ///
    /// # Errors
    ///
    /// What the writer says.
    pub fn new(writer: W, stream: &str) -> io::Result<CaptureWriter<W>> {
        let mut capture = CaptureWriter { writer, lines: 0, block: Vec::new() };
        capture.begin(SECTION);
        capture.block.extend_from_slice(&BYTE_ORDER.to_le_bytes());
        capture.block.extend_from_slice(&[1, 0, 0, 0]);
        capture.block.extend_from_slice(&u64::MAX.to_le_bytes());
        capture.option(SECTION_APPLICATION, b"usus");
        capture.custom_option(&format!("stream={stream}"));
        capture.end()?;
        Ok(capture)
    }

    /// Adds a line. Lines count from 0.
    ///
    /// # Errors
    ///
    /// What the writer says.
    pub fn line(&mut self, line: &CaptureLine) -> io::Result<u32> {
        self.begin(INTERFACE);
        self.block.extend_from_slice(&LINK_TYPE.to_le_bytes());
        self.block.extend_from_slice(&[0, 0]);
        self.block.extend_from_slice(&0u32.to_le_bytes());
        self.option(INTERFACE_NAME, line.name.as_bytes());
        if let Some(about) = &line.about {
            self.option(INTERFACE_DESCRIPTION, about.as_bytes());
        }
        self.option(INTERFACE_RESOLUTION, &[9]);
        if let Some(serial) = line.serial.as_deref() {
            if let Some(serial) = Serial::parse(serial) {
                self.option(INTERFACE_SPEED, &u64::from(serial.baud).to_le_bytes());
            }
            self.custom_option(&format!("serial={serial}"));
        }
        if let Some(latency) = line.latency {
            self.custom_option(&format!("latency_ms={latency}"));
        }
        if line.lateness != Span::default() {
            self.custom_option(&format!("lateness_ns={}", line.lateness.nanoseconds()));
        }
        self.custom_option(&format!("base={}", line.base));
        self.end()?;
        self.lines += 1;
        Ok(self.lines - 1)
    }

    /// Writes a chunk.
    ///
    /// # Errors
    ///
    /// What the writer says.
    pub fn chunk(&mut self, line: u32, time: Time, bytes: &[u8], faults: &[Fault]) -> io::Result<()> {
        self.any_chunk(line, Some(time), bytes, faults)
    }

    /// Writes a chunk, the time of which may be unknown.
    ///
    /// # Errors
    ///
    /// What the writer says.
    pub fn any_chunk(&mut self, line: u32, time: Option<Time>, bytes: &[u8], faults: &[Fault]) -> io::Result<()> {
        // Times before 1970 cannot be written.
        let time = time.filter(|time| time.nanoseconds() >= 0);
        self.begin_packet(line, time.unwrap_or(Time::from_nanoseconds(0)), bytes);
        // Inbound: a capture holds what was received.
        self.option(PACKET_FLAGS, &1u32.to_le_bytes());
        if time.is_none() {
            self.custom_option("time=absent");
        }
        if !faults.is_empty() {
            let list: Vec<String> =
                faults.iter().map(|fault| format!("{}@{}", fault_word(fault.kind), fault.at)).collect();
            self.custom_option(&format!("faults={}", list.join(";")));
        }
        self.end()
    }

    fn begin_packet(&mut self, line: u32, time: Time, bytes: &[u8]) {
        self.begin(PACKET);
        self.block.extend_from_slice(&line.to_le_bytes());
        let stamp = time.nanoseconds() as u64;
        self.block.extend_from_slice(&((stamp >> 32) as u32).to_le_bytes());
        self.block.extend_from_slice(&(stamp as u32).to_le_bytes());
        let length = (bytes.len() as u32).to_le_bytes();
        self.block.extend_from_slice(&length);
        self.block.extend_from_slice(&length);
        self.block.extend_from_slice(bytes);
        self.pad();
    }

    /// Writes a note: a packet without bytes that has a comment.
    ///
    /// # Errors
    ///
    /// What the writer says.
    pub fn note(&mut self, line: u32, time: Time, text: &str) -> io::Result<()> {
        self.begin_packet(line, time, &[]);
        self.option(COMMENT, text.as_bytes());
        self.end()
    }

    /// What is written to.
    pub fn writer_mut(&mut self) -> &mut W {
        &mut self.writer
    }

    /// Writes that bytes are missing on a line.
    ///
    /// # Errors
    ///
    /// What the writer says.
    pub fn loss(&mut self, line: u32, time: Time, why: Loss) -> io::Result<()> {
        self.begin(CUSTOM);
        self.block.extend_from_slice(&ENTERPRISE.to_le_bytes());
        let text = format!("{PREFIX}loss;line={line};why={};time={}", loss_word(why), time.nanoseconds());
        self.block.extend_from_slice(text.as_bytes());
        self.pad();
        self.end()
    }

    /// Writes what is buffered, and gives the writer back.
    ///
    /// # Errors
    ///
    /// What the writer says.
    pub fn finish(mut self) -> io::Result<W> {
        self.writer.flush()?;
        Ok(self.writer)
    }

    fn begin(&mut self, kind: u32) {
        self.block.clear();
        self.block.extend_from_slice(&kind.to_le_bytes());
        // The length, once it is known.
        self.block.extend_from_slice(&[0; 4]);
    }

    fn pad(&mut self) {
        self.block.resize(self.block.len().next_multiple_of(4), 0);
    }

    fn option(&mut self, code: u16, value: &[u8]) {
        // An option holds at most 65,535 bytes: a longer text is cut.
        let value = &value[..value.len().min(usize::from(u16::MAX))];
        self.block.extend_from_slice(&code.to_le_bytes());
        self.block.extend_from_slice(&(value.len() as u16).to_le_bytes());
        self.block.extend_from_slice(value);
        self.pad();
    }

    fn custom_option(&mut self, text: &str) {
        let mut value = ENTERPRISE.to_le_bytes().to_vec();
        value.extend_from_slice(PREFIX.as_bytes());
        value.extend_from_slice(text.as_bytes());
        self.option(OPTION_CUSTOM, &value);
    }

    fn end(&mut self) -> io::Result<()> {
        let kind = u32::from_le_bytes([self.block[0], self.block[1], self.block[2], self.block[3]]);
        if kind != CUSTOM {
            self.block.extend_from_slice(&[0; 4]);
        }
        let length = (self.block.len() as u32 + 4).to_le_bytes();
        self.block[4..8].copy_from_slice(&length);
        self.block.extend_from_slice(&length);
        self.writer.write_all(&self.block)
    }
}

const FAULTS: [(&str, FaultKind); 3] =
    [("parity", FaultKind::Parity), ("framing", FaultKind::Framing), ("break", FaultKind::Break)];

const LOSSES: [(&str, Loss); 3] = [("reopened", Loss::Reopened), ("overrun", Loss::Overrun), ("gap", Loss::Gap)];

fn fault_word(kind: FaultKind) -> &'static str {
    FAULTS.iter().find(|(_, known)| *known == kind).map_or("framing", |(word, _)| word)
}

fn loss_word(why: Loss) -> &'static str {
    LOSSES.iter().find(|(_, known)| *known == why).map_or("gap", |(word, _)| word)
}

/// An interface of the section at hand.
struct Interface {
    /// Its number among all lines of the source.
    line: usize,
    /// Ticks of its time stamps in a second.
    ticks: u64,
    /// What is to be added to its time stamps, in seconds.
    offset: i64,
    /// At most so many bytes of a packet are kept; 0 if all are.
    most: u32,
}

/// A line of the sections so far.
struct KnownLine {
    name: String,
    /// Stream offset of its next byte.
    next: u64,
}

impl Interface {
    fn time(&self, stamp: u64) -> Option<Time> {
        if self.ticks == 1_000_000_000 && self.offset == 0 {
            return i64::try_from(stamp).ok().map(Time::from_nanoseconds);
        }
        let nanoseconds = i128::from(stamp) * 1_000_000_000 / i128::from(self.ticks);
        let nanoseconds = nanoseconds + i128::from(self.offset) * 1_000_000_000;
        i64::try_from(nanoseconds).ok().map(Time::from_nanoseconds)
    }
}

/// Reads a capture.
pub struct CaptureReader<R> {
    reader: R,
    size: Option<u64>,
    /// Offset in the file behind the last whole block.
    at: u64,
    big_endian: bool,
    stream: Option<String>,
    interfaces: Vec<Interface>,
    lines: Vec<KnownLine>,
    /// Whether the section at hand continues the stream of the one before.
    continues: bool,
    /// What was read and is not done with: the last whole block, and what came behind it.
    window: Vec<u8>,
    /// Where in the window the next block begins…
    next: usize,
    /// …and where what was read ends.
    filled: usize,
    /// The body of the last whole block.
    block: Range<usize>,
    faults: Vec<Fault>,
    /// Whether there was one so far: then those who recorded it were told of them.
    seen_faults: bool,
    waiting: VecDeque<Waiting>,
    torn: Option<Torn>,
    done: bool,
    /// Blocks that were passed over: their kinds, and how many of each.
    unknown: Vec<(u32, u64)>,
    impossible_times: u64,
    /// Notes that were passed over.
    notes: u64,
}

/// What came of reading a block.
enum Block {
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

/// What is still to be said of the block at hand.
enum Waiting {
    Line(LineInfo),
    Chunk { line: usize, time: Option<Time>, bytes: Range<usize> },
    Loss { line: usize, why: Loss, time: Option<Time> },
    Note { line: usize, time: Option<Time>, text: String },
}

impl<R: Read> CaptureReader<R> {
    /// Offset in the file behind the last whole block that was read.
    pub fn whole(&self) -> u64 {
        self.at
    }

    /// A source of the capture that `reader` gives; `size` is the size of its file.
    pub fn new(reader: R, size: Option<u64>) -> CaptureReader<R> {
        CaptureReader {
            reader,
            size,
            at: 0,
            big_endian: false,
            stream: None,
            interfaces: Vec::new(),
            lines: Vec::new(),
            continues: false,
            window: vec![0; WINDOW],
            next: 0,
            filled: 0,
            block: 0..0,
            faults: Vec::new(),
            seen_faults: false,
            waiting: VecDeque::new(),
            torn: None,
            done: false,
            unknown: Vec::new(),
            impossible_times: 0,
            notes: 0,
        }
    }

    /// What was read of the next block and what follows it.
    fn pending(&self) -> &[u8] {
        &self.window[self.next..self.filled]
    }

    /// The body of the last whole block: without its frame of type and lengths.
    fn block(&self) -> &[u8] {
        &self.window[self.block.clone()]
    }

    /// Reads the next whole block. A pause in the middle of it loses nothing: the next call goes on.
    fn read_block(&mut self) -> Result<Block, SourceError> {
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
        self.block = self.next + 8..self.next + size - 4;
        self.next += size;
        self.at += u64::from(length);
        if section {
            self.interfaces.clear();
        }
        Ok(Block::Of(kind))
    }

    fn broken(&self, what: &'static str) -> SourceError {
        SourceError::Capture { at: self.at, what }
    }

    fn end_torn(&mut self, bytes: u64) -> Block {
        self.done = true;
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
                Err(error) if super::is_pause(&error) => {}
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

    fn u32(&self, bytes: &[u8], at: usize) -> u32 {
        let bytes = bytes.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()).unwrap_or_default();
        if self.big_endian { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) }
    }

    fn u16(&self, bytes: &[u8], at: usize) -> u16 {
        let bytes = bytes.get(at..at + 2).and_then(|bytes| bytes.try_into().ok()).unwrap_or_default();
        if self.big_endian { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) }
    }

    /// Calls `take` with the code and value of each option from `at` on. Options end at their end mark or with the block.
    #[inline]
    fn options(&self, mut at: usize, mut take: impl FnMut(u16, &[u8])) {
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
    fn own<'o>(&self, code: u16, value: &'o [u8]) -> Option<(&'o str, &'o str)> {
        if code != OPTION_CUSTOM || self.u32(value, 0) != ENTERPRISE {
            return None;
        }
        std::str::from_utf8(value.get(4..)?).ok()?.strip_prefix(PREFIX)?.split_once('=')
    }

    fn section(&mut self) {
        let mut stream = None;
        // Byte order, version and section length stand before the options.
        self.options(16, |code, value| {
            if let Some(("stream", value)) = self.own(code, value) {
                stream = Some(value.to_owned());
            }
        });
        let stream = stream.map(|stream: String| stream.chars().take(LONGEST_NAME).collect::<String>());
        self.continues = stream.is_some() && self.stream == stream;
        self.stream = self.stream.take().or(stream);
    }

    fn interface(&mut self) -> Result<(), SourceError> {
        let found = self.u16(self.block(), 0);
        if found != LINK_TYPE {
            return Err(SourceError::LinkType { interface: self.interfaces.len(), found });
        }
        if self.interfaces.len() >= LINES {
            return Err(self.broken("a section has more than 1,024 interfaces"));
        }
        let mut info = LineInfo::new("");
        let (mut ticks, mut offset, mut base) = (Some(1_000_000), 0, Some(0));
        let most = self.u32(self.block(), 4);
        self.options(8, |code, value| match (code, value) {
            (INTERFACE_NAME, name) => info.name = String::from_utf8_lossy(name).into_owned(),
            (INTERFACE_DESCRIPTION, about) => info.about = Some(String::from_utf8_lossy(about).into_owned()),
            (INTERFACE_RESOLUTION, [resolution]) => {
                let power = u32::from(resolution & 0x7F);
                let base: u64 = if resolution & 0x80 == 0 { 10 } else { 2 };
                ticks = base.checked_pow(power);
            }
            (INTERFACE_OFFSET, seconds) => offset = self.i64(seconds).unwrap_or(0),
            _ => match self.own(code, value) {
                Some(("serial", value)) => info.serial = Serial::parse(value),
                Some(("latency_ms", value)) => info.latency = value.parse().ok(),
                Some(("lateness_ns", value)) => {
                    info.lateness = Span::from_nanoseconds(value.parse().unwrap_or(0));
                }
                Some(("base", value)) => base = value.parse().ok().filter(|base| *base <= LARGEST_BASE),
                _ => {}
            },
        });
        let ticks = ticks.ok_or_else(|| self.broken("the time resolution of an interface is impossible"))?;
        info.start = base.ok_or_else(|| self.broken("the stream offset at which a line begins is impossible"))?;
        if info.name.len() > LONGEST_NAME {
            return Err(self.broken("the name of a line is longer than 1,024 bytes"));
        }
        // A capture that was continued goes on with its lines where they ended.
        let goes_on = |known: &KnownLine| self.continues && known.name == info.name && known.next == info.start;
        if let Some(line) = self.lines.iter().position(goes_on) {
            self.interfaces.push(Interface { line, ticks, offset, most });
            return Ok(());
        }
        if self.lines.len() >= LINES {
            return Err(self.broken("there are more than 1,024 lines"));
        }
        self.interfaces.push(Interface { line: self.lines.len(), ticks, offset, most });
        self.lines.push(KnownLine { name: info.name.clone(), next: info.start });
        self.waiting.push_back(Waiting::Line(info));
        Ok(())
    }

    /// The number of eight bytes; nothing of other ones.
    fn i64(&self, bytes: &[u8]) -> Option<i64> {
        let bytes: [u8; 8] = bytes.try_into().ok()?;
        Some(if self.big_endian { i64::from_be_bytes(bytes) } else { i64::from_le_bytes(bytes) })
    }

    /// A packet without a time, of the first interface: as many of its bytes as the interface keeps.
    fn simple_packet(&mut self) -> Result<(), SourceError> {
        let original = self.u32(self.block(), 0) as usize;
        let Some(Interface { line, most, .. }) = self.interfaces.first() else {
            return Err(self.broken("a packet belongs to an interface that is not there"));
        };
        let (line, most) = (*line, if *most == 0 { usize::MAX } else { *most as usize });
        let captured = original.min(most);
        if self.block().len() < 4 + captured {
            return Err(self.broken("a packet is longer than its block"));
        }
        let from = self.block.start + 4;
        self.faults.clear();
        self.take(line, None, from..from + captured, original)
    }

    /// The obsolete packet block: like the later one, but with the number of packets that were dropped before it.
    fn old_packet(&mut self) -> Result<(), SourceError> {
        let block = self.block();
        let (number, drops) = (usize::from(self.u16(block, 0)), self.u16(block, 2));
        let Some(interface) = self.interfaces.get(number) else {
            return Err(self.broken("a packet belongs to an interface that is not there"));
        };
        // All bits set: it is not known whether any were.
        if !matches!(drops, 0 | u16::MAX) {
            self.waiting.push_back(Waiting::Loss { line: interface.line, why: Loss::Overrun, time: None });
        }
        self.packet_of(number)
    }

    /// Takes the bytes of a packet of which so many were sent.
    fn take(
        &mut self,
        line: usize,
        time: Option<Time>,
        bytes: Range<usize>,
        original: usize,
    ) -> Result<(), SourceError> {
        let captured = bytes.len();
        let next = self.lines.get(line).and_then(|known| known.next.checked_add(captured as u64));
        let Some(next) = next.filter(|next| *next <= LARGEST_BASE) else {
            return Err(self.broken("the stream offset of a packet is impossible"));
        };
        self.lines[line].next = next;
        self.waiting.push_back(Waiting::Chunk { line, time, bytes });
        if original > captured {
            self.waiting.push_back(Waiting::Loss { line, why: Loss::Gap, time });
        }
        Ok(())
    }

    fn packet(&mut self) -> Result<(), SourceError> {
        self.packet_of(self.u32(self.block(), 0) as usize)
    }

    /// A packet of the interface of that number, whose times and lengths stand where both packet blocks have them.
    fn packet_of(&mut self, number: usize) -> Result<(), SourceError> {
        let block = self.block();
        let (captured, original) = (self.u32(block, 12) as usize, self.u32(block, 16) as usize);
        let Some(interface) = self.interfaces.get(number) else {
            return Err(self.broken("a packet belongs to an interface that is not there"));
        };
        if block.len() < 20 + captured {
            return Err(self.broken("a packet is longer than its block"));
        }
        let stamp = u64::from(self.u32(block, 4)) << 32 | u64::from(self.u32(block, 8));
        let (line, mut time) = (interface.line, interface.time(stamp));
        let mut faults = std::mem::take(&mut self.faults);
        faults.clear();
        let (mut notes, mut too_many, mut timeless) = (Vec::new(), 0, false);
        self.options(20 + captured.next_multiple_of(4), |code, value| match code {
            COMMENT if notes.len() < NOTES => notes.push(String::from_utf8_lossy(value).into_owned()),
            COMMENT => too_many += 1,
            OPTION_CUSTOM => match self.own(code, value) {
                Some(("faults", list)) => faults.extend(list.split(';').filter_map(fault)),
                Some(("time", "absent")) => timeless = true,
                _ => {}
            },
            _ => {}
        });
        self.notes += too_many;
        self.seen_faults |= !faults.is_empty();
        self.faults = faults;
        if timeless {
            time = None;
        } else if time.is_none() {
            self.impossible_times += 1;
        }
        // A packet without bytes is there for its note.
        if captured > 0 || !self.faults.is_empty() || notes.is_empty() {
            let from = self.block.start + 20;
            self.take(line, time, from..from + captured, original)?;
        }
        self.waiting.extend(notes.into_iter().map(|text| Waiting::Note { line, time, text }));
        Ok(())
    }

    /// Counts a block that is passed over.
    fn pass_over(&mut self, kind: u32) {
        match self.unknown.iter().position(|(known, _)| *known == kind) {
            Some(known) => self.unknown[known].1 += 1,
            None if self.unknown.len() < UNKNOWN_KINDS => self.unknown.push((kind, 1)),
            None => {}
        }
    }

    fn custom(&mut self) -> Result<(), SourceError> {
        let block = self.block();
        if self.u32(block, 0) != ENTERPRISE {
            self.pass_over(CUSTOM);
            return Ok(());
        }
        let text = block.get(4..).and_then(|text| std::str::from_utf8(text).ok()).unwrap_or_default();
        let Some(text) = text.trim_end_matches('\0').strip_prefix(PREFIX).and_then(|text| text.strip_prefix("loss;"))
        else {
            self.pass_over(CUSTOM);
            return Ok(());
        };
        let value = |wanted: &str| text.split(';').find_map(|pair| pair.strip_prefix(wanted)?.strip_prefix('='));
        let interface = value("line").and_then(|line| line.parse::<usize>().ok());
        let Some(interface) = interface.and_then(|number| self.interfaces.get(number)) else {
            return Err(self.broken("a loss belongs to an interface that is not there"));
        };
        let word = value("why").unwrap_or_default();
        let why = LOSSES.iter().find(|(known, _)| *known == word).map_or(Loss::Gap, |(_, why)| *why);
        let time = value("time").and_then(|time| time.parse().ok()).map(Time::from_nanoseconds);
        self.waiting.push_back(Waiting::Loss { line: interface.line, why, time });
        Ok(())
    }
}

fn fault(text: &str) -> Option<Fault> {
    let (word, at) = text.split_once('@')?;
    let kind = FAULTS.iter().find(|(known, _)| *known == word).map(|(_, kind)| *kind)?;
    Some(Fault { at: at.parse().ok()?, kind })
}

impl<R: Read> Source for CaptureReader<R> {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        while self.waiting.is_empty() {
            if self.done {
                return Ok(None);
            }
            match self.read_block()? {
                Block::End => self.done = true,
                Block::Pause => return Ok(Some(SourceEvent::Idle { time: None })),
                Block::Of(SECTION) => self.section(),
                Block::Of(INTERFACE) => self.interface()?,
                Block::Of(PACKET) => self.packet()?,
                Block::Of(SIMPLE_PACKET) => self.simple_packet()?,
                Block::Of(OLD_PACKET) => self.old_packet()?,
                Block::Of(CUSTOM) => self.custom()?,
                Block::Of(kind) if WITHOUT_PACKETS.contains(&kind) => {}
                Block::Of(kind) => self.pass_over(kind),
            }
        }
        Ok(self.waiting.pop_front().map(|waiting| match waiting {
            Waiting::Line(info) => SourceEvent::Line(info),
            Waiting::Chunk { line, time, bytes } => {
                SourceEvent::Chunk { line, time, bytes: &self.window[bytes], faults: &self.faults }
            }
            Waiting::Loss { line, why, time } => SourceEvent::Loss { line, why, time },
            Waiting::Note { line, time, text } => SourceEvent::Note { line, time, text },
        }))
    }

    fn stream(&self) -> Option<&str> {
        self.stream.as_deref()
    }

    fn has_times(&self) -> bool {
        true
    }

    fn has_lines(&self) -> bool {
        true
    }

    fn tells_faults(&self) -> bool {
        self.seen_faults
    }

    fn size(&self) -> Option<u64> {
        self.size
    }

    fn torn(&self) -> Option<Torn> {
        self.torn
    }

    fn remarks(&self) -> Vec<Remark> {
        let unknown = self.unknown.iter().map(|(kind, count)| Remark::UnknownBlocks { kind: *kind, count: *count });
        let mut remarks: Vec<Remark> = unknown.collect();
        if self.impossible_times > 0 {
            remarks.push(Remark::ImpossibleTimes { count: self.impossible_times });
        }
        if self.notes > 0 {
            remarks.push(Remark::TooManyNotes { count: self.notes });
        }
        remarks
    }
}
