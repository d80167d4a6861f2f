//! The wire itself: characters as levels, and what a receiver makes of levels.
//!
//! A transmitter turns bytes into the times at which the level changes; a receiver with settings of its own samples these levels as a
//! UART does: it waits for a falling edge, looks again half a bit later, then at the middle of each bit. So wrong settings give the
//! wrong bytes and the faults that real ones would. High is the idle level.

use std::collections::VecDeque;

/// Parity of a character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Parity {
    None,
    Even,
    Odd,
    Mark,
    Space,
}

/// Settings of one end of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Settings {
    /// Bits per second.
    pub baud: u32,
    /// Data bits of a character, 5 to 8.
    pub data_bits: u8,
    /// Parity.
    pub parity: Parity,
    /// Half stop bits: 2, 3 or 4.
    pub half_stop_bits: u8,
    /// Whether high and low are exchanged.
    pub inverted: bool,
}

impl Settings {
    /// Eight bits, no parity, one stop bit.
    pub const fn plain(baud: u32) -> Settings {
        Settings { baud, data_bits: 8, parity: Parity::None, half_stop_bits: 2, inverted: false }
    }

    /// Reads `9600 8N1`.
    pub fn parse(text: &str) -> Option<Settings> {
        let (baud, character) = text.split_once(' ')?;
        let mut signs = character.chars();
        let data_bits = signs.next()?.to_digit(10).filter(|bits| (5..=8).contains(bits))? as u8;
        let parity = match signs.next()? {
            'N' => Parity::None,
            'E' => Parity::Even,
            'O' => Parity::Odd,
            'M' => Parity::Mark,
            'S' => Parity::Space,
            _ => return None,
        };
        let half_stop_bits = match signs.as_str() {
            "1" => 2,
            "1.5" => 3,
            "2" => 4,
            _ => return None,
        };
        let baud = baud.parse().ok().filter(|baud| *baud > 0)?;
        Some(Settings { baud, data_bits, parity, half_stop_bits, inverted: false })
    }

    /// When the middle or the begin of something so many half bits after a character's begin is, in nanoseconds.
    fn half_bits(self, count: i64) -> i64 {
        count * 500_000_000 / i64::from(self.baud)
    }

    /// How long a character takes, in nanoseconds.
    pub fn character(self) -> i64 {
        let parity = i64::from(self.parity != Parity::None);
        self.half_bits(2 + 2 * (i64::from(self.data_bits) + parity) + i64::from(self.half_stop_bits))
    }

    /// The parity bit that goes with these data bits.
    fn parity_bit(self, byte: u8) -> Option<bool> {
        let odd = (byte & data_mask(self.data_bits)).count_ones() % 2 == 1;
        match self.parity {
            Parity::None => None,
            Parity::Even => Some(odd),
            Parity::Odd => Some(!odd),
            Parity::Mark => Some(true),
            Parity::Space => Some(false),
        }
    }
}

impl std::fmt::Display for Settings {
    /// As in `9600 8N1`.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let parity = match self.parity {
            Parity::None => 'N',
            Parity::Even => 'E',
            Parity::Odd => 'O',
            Parity::Mark => 'M',
            Parity::Space => 'S',
        };
        let stop = match self.half_stop_bits {
            2 => "1",
            3 => "1.5",
            _ => "2",
        };
        write!(f, "{} {}{parity}{stop}", self.baud, self.data_bits)
    }
}

fn data_mask(bits: u8) -> u8 {
    (0xFF_u16 >> (8 - bits)) as u8
}

/// The level changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Edge {
    /// When, in nanoseconds.
    pub time: i64,
    /// Whether it is high from then on.
    pub high: bool,
}

/// Turns bytes into levels.
#[derive(Clone, Debug)]
pub struct Transmitter {
    settings: Settings,
    high: bool,
    free: i64,
}

impl Transmitter {
    /// A transmitter that is idle.
    pub fn new(settings: Settings) -> Transmitter {
        Transmitter { settings, high: !settings.inverted, free: i64::MIN }
    }

    /// The level while nothing is sent.
    pub fn idle_level(&self) -> bool {
        !self.settings.inverted
    }

    /// When the line is free again.
    pub fn free(&self) -> i64 {
        self.free
    }

    /// Sends a byte at that time, or as soon as the line is free.
    pub fn send(&mut self, time: i64, byte: u8, edges: &mut VecDeque<Edge>) {
        let begin = time.max(self.free);
        let settings = self.settings;
        let data = (0..settings.data_bits).map(|bit| byte >> bit & 1 == 1);
        let bits = std::iter::once(false).chain(data).chain(settings.parity_bit(byte)).chain(std::iter::once(true));
        for (index, high) in bits.enumerate() {
            self.level(begin + settings.half_bits(2 * index as i64), high, edges);
        }
        self.free = begin + settings.character();
    }

    /// Holds the line down for so long: a break.
    pub fn hold_down(&mut self, time: i64, span: i64, edges: &mut VecDeque<Edge>) {
        let begin = time.max(self.free);
        self.level(begin, false, edges);
        self.level(begin + span, true, edges);
        // Devices leave the line alone for a character before they go on.
        self.free = begin + span + self.settings.character();
    }

    fn level(&mut self, time: i64, high: bool, edges: &mut VecDeque<Edge>) {
        let high = high != self.settings.inverted;
        if high != self.high {
            edges.push_back(Edge { time, high });
            self.high = high;
        }
    }
}

/// What is wrong with a received character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum WireFault {
    Parity,
    Framing,
    Break,
}

/// A received character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Received {
    /// When the middle of its stop bit had come, in nanoseconds.
    pub time: i64,
    /// Its data bits.
    pub byte: u8,
    /// What is wrong with it.
    pub fault: Option<WireFault>,
}

/// Samples levels as a UART does.
#[derive(Clone, Debug)]
pub struct Receiver {
    settings: Settings,
    /// The level before the first edge that is kept.
    high: bool,
    /// Where it looks for the next falling edge from.
    ready: i64,
    /// Whether the line has to come up first, after a stop bit that was low.
    wait_for_high: bool,
}

impl Receiver {
    /// A receiver that is switched on at `time`, on a line of that level.
    pub fn new(settings: Settings, time: i64, high: bool) -> Receiver {
        // An edge at that very time is seen.
        Receiver { settings, high, ready: time - 1, wait_for_high: !high }
    }

    /// The level before the first edge that is still kept.
    pub fn level(&self) -> bool {
        self.high
    }

    /// Takes all characters whose last sample lies before `until`, by which time all edges are known. Edges that are of no use any more
    /// are taken out.
    pub fn receive(&mut self, edges: &mut VecDeque<Edge>, until: i64, take: &mut dyn FnMut(Received)) {
        loop {
            self.forget(edges, self.ready);
            if self.wait_for_high && !self.high {
                let Some(up) = edges.iter().find(|edge| edge.high) else { return };
                self.ready = self.ready.max(up.time);
                self.forget(edges, self.ready);
            }
            self.wait_for_high = false;
            // A level that is low already has no edge: the next one is waited for.
            let Some(start) = edges.iter().find(|edge| !edge.high).map(|edge| edge.time) else { return };
            let settings = self.settings;
            let sample = |half_bits: i64, edges: &VecDeque<Edge>, high: bool| {
                let at = start + settings.half_bits(half_bits);
                edges.iter().take_while(|edge| edge.time <= at).last().map_or(high, |edge| edge.high)
            };
            let parity = i64::from(settings.parity != Parity::None);
            let stop = 1 + 2 * (1 + i64::from(settings.data_bits) + parity);
            let end = start + settings.half_bits(stop);
            if end >= until {
                return;
            }
            if sample(1, edges, self.high) {
                // Too short for a start bit.
                self.ready = start + settings.half_bits(1);
                continue;
            }
            let data = |bit: u8| u8::from(sample(3 + 2 * i64::from(bit), edges, self.high)) << bit;
            let byte = (0..settings.data_bits).map(data).sum();
            let sent = (parity == 1).then(|| sample(stop - 2, edges, self.high));
            let stopped = sample(stop, edges, self.high);
            let fault = match (stopped, sent) {
                (false, None | Some(false)) if byte == 0 => Some(WireFault::Break),
                (false, _) => Some(WireFault::Framing),
                (true, sent) if sent != settings.parity_bit(byte) => Some(WireFault::Parity),
                _ => None,
            };
            self.ready = end;
            self.wait_for_high = !stopped;
            take(Received { time: end, byte, fault });
        }
    }

    /// Takes out edges up to `time`, and remembers the level.
    fn forget(&mut self, edges: &mut VecDeque<Edge>, time: i64) {
        while let Some(edge) = edges.front().filter(|edge| edge.time <= time) {
            self.high = edge.high;
            edges.pop_front();
        }
    }
}
