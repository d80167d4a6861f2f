//! Counting a line: bytes, faults, bursts and the silences between them, in memory that does not grow.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::period::{Period, period};
use super::{Character, Kept, Spread, characters};
use crate::input::{Fault, FaultKind, Loss};
use crate::time::{Span, Time};

/// How many characters are kept to be looked at.
const SAMPLE: usize = 8_192;
/// A pause shorter than this is the system's own, not the line's.
const SHORTEST_SILENCE: Span = Span::from_nanoseconds(4_000_000);

/// Counts what comes over one line.
pub struct Survey {
    bytes: u64,
    chunks: u64,
    counts: Box<[[u64; 256]; 4]>,
    parity_faults: u64,
    framing_faults: u64,
    breaks: u64,
    losses: u64,
    crlf: u64,
    last_byte: Option<u8>,
    sample: Vec<Character>,
    character: Span,
    split: Span,
    times: Option<(Time, Time)>,
    burst: Option<(Time, u64)>,
    bursts: u64,
    lengths: Kept,
    silences: Kept,
    distances: Kept,
}

impl Survey {
    /// Counts a line whose characters last so long (0 if that is not known). A silence of `split` ends a burst; without it, one of
    /// ten characters, and of four milliseconds at least.
    pub fn new(character: Span, split: Option<Span>) -> Survey {
        let usual = SHORTEST_SILENCE.nanoseconds().max(character.nanoseconds() * 10);
        Survey {
            bytes: 0,
            chunks: 0,
            counts: Box::new([[0; 256]; 4]),
            parity_faults: 0,
            framing_faults: 0,
            breaks: 0,
            losses: 0,
            crlf: 0,
            last_byte: None,
            sample: Vec::new(),
            character,
            split: split.unwrap_or(Span::from_nanoseconds(usual)),
            times: None,
            burst: None,
            bursts: 0,
            lengths: Kept::default(),
            silences: Kept::default(),
            distances: Kept::default(),
        }
    }

    /// Counts a chunk.
    pub fn chunk(&mut self, time: Option<Time>, bytes: &[u8], faults: &[Fault]) {
        self.count(bytes);
        for fault in faults {
            match fault.kind {
                FaultKind::Parity => self.parity_faults += 1,
                FaultKind::Framing => self.framing_faults += 1,
                FaultKind::Break => self.breaks += 1,
            }
        }
        self.keep(bytes, faults);
        self.chunks += 1;
        if let Some(time) = time {
            self.arrive(time, bytes.len() as u64);
        }
    }

    /// Counts a loss. A burst does not go on across it.
    pub fn loss(&mut self, _why: Loss) {
        self.losses += 1;
        self.end_burst();
        self.burst = None;
    }

    fn count(&mut self, bytes: &[u8]) {
        self.bytes += bytes.len() as u64;
        // Four tables: a byte that comes twice in a row does not wait for its own count.
        let mut four = bytes.chunks_exact(4);
        for group in &mut four {
            for (table, &byte) in self.counts.iter_mut().zip(group) {
                table[usize::from(byte)] += 1;
            }
        }
        four.remainder().iter().for_each(|&byte| self.counts[0][usize::from(byte)] += 1);
        for at in memchr::memchr_iter(b'\n', bytes) {
            let before = if at == 0 { self.last_byte } else { Some(bytes[at - 1]) };
            self.crlf += u64::from(before == Some(b'\r'));
        }
        self.last_byte = bytes.last().copied().or(self.last_byte);
    }

    fn keep(&mut self, bytes: &[u8], faults: &[Fault]) {
        let room = SAMPLE - self.sample.len();
        if room > 0 {
            self.sample.extend(characters(bytes, faults).take(room));
        }
    }

    fn arrive(&mut self, time: Time, length: u64) {
        let last = self.times.map(|(_, last)| last);
        self.times = Some(self.times.map_or((time, time), |(first, _)| (first, time)));
        // The first of these characters began to come so long ago.
        let own = self.character.nanoseconds().saturating_mul(length as i64);
        let silence = last.map(|last| time.since(last).nanoseconds() - own);
        match (&mut self.burst, silence) {
            (Some((_, bytes)), Some(silence)) if silence < self.split.nanoseconds() => *bytes += length,
            (_, silence) => {
                if let Some(silence) = silence.filter(|_| self.burst.is_some()) {
                    self.silences.add(silence);
                }
                let begin = time.after(Span::from_nanoseconds(-own));
                if let Some((before, _)) = self.burst {
                    self.distances.add(begin.since(before).nanoseconds());
                }
                self.end_burst();
                self.burst = Some((begin, length));
                self.bursts += 1;
            }
        }
    }

    fn end_burst(&mut self) {
        if let Some((_, bytes)) = self.burst {
            self.lengths.add(bytes as i64);
        }
    }

    /// Bytes in all.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// How often each byte came.
    pub fn counts(&self) -> [u64; 256] {
        core::array::from_fn(|byte| self.counts.iter().map(|table| table[byte]).sum())
    }

    /// Faults: wrong parity, wrong stop bit, breaks.
    pub fn faults(&self) -> (u64, u64, u64) {
        (self.parity_faults, self.framing_faults, self.breaks)
    }

    /// Places where bytes are missing.
    pub fn losses(&self) -> u64 {
        self.losses
    }

    /// Line ends: CR LF, LF without CR, CR without LF.
    pub fn line_ends(&self) -> (u64, u64, u64) {
        let counts = self.counts();
        let count = |byte: u8| counts[usize::from(byte)];
        (self.crlf, count(b'\n') - self.crlf, count(b'\r').saturating_sub(self.crlf))
    }

    /// When the first and the last bytes came.
    pub fn times(&self) -> Option<(Time, Time)> {
        self.times
    }

    /// How long bursts are, in bytes. The last may go on.
    pub fn bursts(&self) -> Option<Spread> {
        let mut lengths = self.lengths.clone();
        if let Some((_, bytes)) = self.burst {
            lengths.add(bytes as i64);
        }
        lengths.spread()
    }

    /// How long silences between bursts are, in nanoseconds.
    pub fn silences(&self) -> Option<Spread> {
        self.silences.spread()
    }

    /// How far apart bursts begin, in nanoseconds.
    pub fn distances(&self) -> Option<Spread> {
        self.distances.spread()
    }

    /// A silence of this length ends a burst.
    pub fn split(&self) -> Span {
        self.split
    }

    /// A distance at which bytes repeat, of those that came first.
    pub fn period(&self) -> Option<Period> {
        let bytes: Vec<u8> = self.sample.iter().map(|character| character.byte).collect();
        period(&bytes)
    }

    /// The first characters.
    pub fn sample(&self) -> &[Character] {
        &self.sample
    }
}
