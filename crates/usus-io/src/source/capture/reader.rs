//! Reading captures: blocks become lines, chunks, notes and losses.

use std::collections::VecDeque;
use std::io::Read;
use std::ops::Range;

use usus::format::Serial;
use usus::{Fault, Loss, Span, Time};

use super::blocks::{Block, Blocks};
use super::{
    COMMENT, CUSTOM, ENTERPRISE, FAULTS, INTERFACE, INTERFACE_DESCRIPTION, INTERFACE_NAME, INTERFACE_OFFSET,
    INTERFACE_RESOLUTION, LINK_TYPE, LOSSES, OLD_PACKET, OPTION_CUSTOM, PACKET, PREFIX, SECTION, SIMPLE_PACKET,
    WITHOUT_PACKETS,
};
use crate::source::{LineInfo, Remark, Source, SourceError, SourceEvent, Torn};

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
    blocks: Blocks<R>,
    size: Option<u64>,
    stream: Option<String>,
    interfaces: Vec<Interface>,
    lines: Vec<KnownLine>,
    /// Whether the section at hand continues the stream of the one before.
    continues: bool,
    faults: Vec<Fault>,
    /// Whether there was one so far: then those who recorded it were told of them.
    seen_faults: bool,
    waiting: VecDeque<Waiting>,
    done: bool,
    /// Blocks that were passed over: their kinds, and how many of each.
    unknown: Vec<(u32, u64)>,
    impossible_times: u64,
    /// Notes that were passed over.
    notes: u64,
    /// Why the first block could not be read.
    failed: Option<SourceError>,
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
        self.blocks.at
    }

    /// A source of the capture that `reader` gives; `size` is the size of its file.
    pub fn new(reader: R, size: Option<u64>) -> CaptureReader<R> {
        CaptureReader {
            blocks: Blocks::new(reader),
            size,
            stream: None,
            interfaces: Vec::new(),
            lines: Vec::new(),
            continues: false,
            faults: Vec::new(),
            seen_faults: false,
            waiting: VecDeque::new(),
            done: false,
            unknown: Vec::new(),
            impossible_times: 0,
            notes: 0,
            failed: None,
        }
    }

    /// Reads what a capture begins with, so that the id of its stream is known before anything else.
    pub(crate) fn begun(mut self) -> CaptureReader<R> {
        match self.blocks.read_block() {
            Ok(Block::Of(SECTION)) => self.section(),
            // It is torn before its first block ends.
            Ok(_) => self.done = true,
            Err(error) => self.failed = Some(error),
        }
        self
    }

    fn section(&mut self) {
        self.interfaces.clear();
        let mut stream = None;
        // Byte order, version and section length stand before the options.
        self.blocks.options(16, |code, value| {
            if let Some(("stream", value)) = self.blocks.own(code, value) {
                stream = Some(value.to_owned());
            }
        });
        let stream = stream.map(|stream: String| stream.chars().take(LONGEST_NAME).collect::<String>());
        self.continues = stream.is_some() && self.stream == stream;
        self.stream = self.stream.take().or(stream);
    }

    fn interface(&mut self) -> Result<(), SourceError> {
        let found = self.blocks.u16(self.blocks.block(), 0);
        if found != LINK_TYPE {
            return Err(SourceError::LinkType { interface: self.interfaces.len(), found });
        }
        if self.interfaces.len() >= LINES {
            return Err(self.blocks.broken("a section has more than 1,024 interfaces"));
        }
        let mut info = LineInfo::new("");
        let (mut ticks, mut offset, mut base) = (Some(1_000_000), 0, Some(0));
        let most = self.blocks.u32(self.blocks.block(), 4);
        self.blocks.options(8, |code, value| match (code, value) {
            (INTERFACE_NAME, name) => info.name = String::from_utf8_lossy(name).into_owned(),
            (INTERFACE_DESCRIPTION, about) => info.about = Some(String::from_utf8_lossy(about).into_owned()),
            (INTERFACE_RESOLUTION, [resolution]) => {
                let power = u32::from(resolution & 0x7F);
                let base: u64 = if resolution & 0x80 == 0 { 10 } else { 2 };
                ticks = base.checked_pow(power);
            }
            (INTERFACE_OFFSET, seconds) => offset = self.blocks.i64(seconds).unwrap_or(0),
            _ => match self.blocks.own(code, value) {
                Some(("serial", value)) => info.serial = Serial::parse(value),
                Some(("latency_ms", value)) => info.latency = value.parse().ok(),
                Some(("lateness_ns", value)) => {
                    info.lateness = Span::from_nanoseconds(value.parse().unwrap_or(0));
                }
                Some(("base", value)) => base = value.parse().ok().filter(|base| *base <= LARGEST_BASE),
                _ => {}
            },
        });
        let ticks = ticks.ok_or_else(|| self.blocks.broken("the time resolution of an interface is impossible"))?;
        info.start =
            base.ok_or_else(|| self.blocks.broken("the stream offset at which a line begins is impossible"))?;
        if info.name.len() > LONGEST_NAME {
            return Err(self.blocks.broken("the name of a line is longer than 1,024 bytes"));
        }
        // A capture that was continued goes on with its lines where they ended.
        let goes_on = |known: &KnownLine| self.continues && known.name == info.name && known.next == info.start;
        if let Some(line) = self.lines.iter().position(goes_on) {
            self.interfaces.push(Interface { line, ticks, offset, most });
            return Ok(());
        }
        if self.lines.len() >= LINES {
            return Err(self.blocks.broken("there are more than 1,024 lines"));
        }
        self.interfaces.push(Interface { line: self.lines.len(), ticks, offset, most });
        self.lines.push(KnownLine { name: info.name.clone(), next: info.start });
        self.waiting.push_back(Waiting::Line(info));
        Ok(())
    }

    /// A packet without a time, of the first interface: as many of its bytes as the interface keeps.
    fn simple_packet(&mut self) -> Result<(), SourceError> {
        let original = self.blocks.u32(self.blocks.block(), 0) as usize;
        let Some(Interface { line, most, .. }) = self.interfaces.first() else {
            return Err(self.blocks.broken("a packet belongs to an interface that is not there"));
        };
        let (line, most) = (*line, if *most == 0 { usize::MAX } else { *most as usize });
        let captured = original.min(most);
        if self.blocks.block().len() < 4 + captured {
            return Err(self.blocks.broken("a packet is longer than its block"));
        }
        let from = self.blocks.body.start + 4;
        self.faults.clear();
        self.take(line, None, from..from + captured, original)
    }

    /// The obsolete packet block: like the later one, but with the number of packets that were dropped before it.
    fn old_packet(&mut self) -> Result<(), SourceError> {
        let block = self.blocks.block();
        let (number, drops) = (usize::from(self.blocks.u16(block, 0)), self.blocks.u16(block, 2));
        let Some(interface) = self.interfaces.get(number) else {
            return Err(self.blocks.broken("a packet belongs to an interface that is not there"));
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
            return Err(self.blocks.broken("the stream offset of a packet is impossible"));
        };
        self.lines[line].next = next;
        self.waiting.push_back(Waiting::Chunk { line, time, bytes });
        if original > captured {
            self.waiting.push_back(Waiting::Loss { line, why: Loss::Gap, time });
        }
        Ok(())
    }

    fn packet(&mut self) -> Result<(), SourceError> {
        self.packet_of(self.blocks.u32(self.blocks.block(), 0) as usize)
    }

    /// A packet of the interface of that number, whose times and lengths stand where both packet blocks have them.
    fn packet_of(&mut self, number: usize) -> Result<(), SourceError> {
        let block = self.blocks.block();
        let (captured, original) = (self.blocks.u32(block, 12) as usize, self.blocks.u32(block, 16) as usize);
        let Some(interface) = self.interfaces.get(number) else {
            return Err(self.blocks.broken("a packet belongs to an interface that is not there"));
        };
        if block.len() < 20 + captured {
            return Err(self.blocks.broken("a packet is longer than its block"));
        }
        let stamp = u64::from(self.blocks.u32(block, 4)) << 32 | u64::from(self.blocks.u32(block, 8));
        let (line, mut time) = (interface.line, interface.time(stamp));
        let mut faults = std::mem::take(&mut self.faults);
        faults.clear();
        let (mut notes, mut too_many, mut timeless) = (Vec::new(), 0, false);
        self.blocks.options(20 + captured.next_multiple_of(4), |code, value| match code {
            COMMENT if notes.len() < NOTES => notes.push(String::from_utf8_lossy(value).into_owned()),
            COMMENT => too_many += 1,
            OPTION_CUSTOM => match self.blocks.own(code, value) {
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
            let from = self.blocks.body.start + 20;
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
        let block = self.blocks.block();
        if self.blocks.u32(block, 0) != ENTERPRISE {
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
            return Err(self.blocks.broken("a loss belongs to an interface that is not there"));
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
        if let Some(error) = self.failed.take() {
            return Err(error);
        }
        while self.waiting.is_empty() {
            if self.done {
                return Ok(None);
            }
            match self.blocks.read_block()? {
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
                SourceEvent::Chunk { line, time, bytes: &self.blocks.window[bytes], faults: &self.faults }
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
        self.blocks.torn
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
