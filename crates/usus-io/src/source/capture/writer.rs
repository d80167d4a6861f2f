//! Writing captures: always little-endian, with nanoseconds.

use std::io::{self, Write};

use usus::format::Serial;
use usus::{Fault, Loss, Span, Time};

use super::{
    BYTE_ORDER, COMMENT, CUSTOM, CaptureLine, ENTERPRISE, INTERFACE, INTERFACE_DESCRIPTION, INTERFACE_NAME,
    INTERFACE_RESOLUTION, INTERFACE_SPEED, LINK_TYPE, OPTION_CUSTOM, PACKET, PACKET_FLAGS, PREFIX, SECTION,
    SECTION_APPLICATION, fault_word, loss_word,
};

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
