//! A device that is switched on and talks on, and a receiver on its line with settings of its own.

use std::collections::VecDeque;

use fastrand::Rng;

use crate::fault::damage;
use crate::wire::{Edge, Received, Receiver, Settings, Transmitter};
use crate::{BEGIN, Device, Faults, Message, Model};

/// What goes wrong on a live line.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LiveFaults {
    /// What happens to bytes and messages. The first message that is listened to is cut by `cut_start`.
    pub bytes: Faults,
    /// Share of messages after which the line is held down for 40 ms.
    pub breaks: f64,
    /// How many seconds of each minute, from its tenth second on, the device says nothing.
    pub silence: u32,
}

impl LiveFaults {
    /// A perfect line.
    pub const fn none() -> LiveFaults {
        LiveFaults { bytes: Faults::none(), breaks: 0.0, silence: 0 }
    }
}

/// A device that somebody else has made up.
struct Saying<F>(F);

impl<F: FnMut(u32) -> Vec<(i64, Vec<u8>)>> Model for Saying<F> {
    fn second(&mut self, _rng: &mut Rng, second: u32) -> Vec<Message> {
        let begin = BEGIN + i64::from(second) * 1_000_000_000;
        let message = |(time, bytes)| Message {
            time: begin + time,
            bytes,
            says: None,
            line_end: 0,
            fragile: false,
            opening: None,
            together: None,
            waits: 0,
        };
        (self.0)(second).into_iter().map(message).collect()
    }
}

/// How long a break is, in nanoseconds.
const BREAK: i64 = 40_000_000;

/// Simulates a device's line in nanoseconds since it was switched on. It has no clock: its user says how late it is.
///
/// ```
/// use usus_sim::{Device, LiveFaults, LiveLine, Settings};
///
/// let mut line = LiveLine::new(Device::BrakeTester, 7, LiveFaults::none());
/// let mut text = Vec::new();
/// line.listen(0, Settings::parse("2400 7E1").unwrap());
/// line.advance(1_000_000_000, &mut |received| text.push(received.byte));
/// assert!(text.starts_with(b"Brake test "));
/// ```
pub struct LiveLine {
    model: Box<dyn Model + Send>,
    rng: Rng,
    faults: LiveFaults,
    fault_rng: Rng,
    second: u32,
    messages: VecDeque<Message>,
    cut: usize,
    transmitter: Transmitter,
    receiver: Receiver,
    edges: VecDeque<Edge>,
    now: i64,
    sent: u64,
}

impl LiveLine {
    /// Switches a device on. The receiver is set as the device is, until it is set otherwise.
    pub fn new(device: Device, seed: u64, faults: LiveFaults) -> LiveLine {
        LiveLine::with_settings(device, device.settings(), seed, faults)
    }

    /// The same for a device that was set to other line settings than it usually has.
    pub fn with_settings(device: Device, settings: Settings, seed: u64, faults: LiveFaults) -> LiveLine {
        let mut rng = Rng::with_seed(seed);
        let transmitter = Transmitter::new(settings);
        LiveLine {
            model: device.model(&mut rng),
            rng,
            faults,
            fault_rng: Rng::with_seed(seed ^ 0x5EED),
            second: 0,
            messages: VecDeque::new(),
            cut: faults.bytes.cut_start,
            receiver: Receiver::new(settings, 0, transmitter.idle_level()),
            transmitter,
            edges: VecDeque::new(),
            now: 0,
            sent: 0,
        }
    }

    /// The line of another device than those of the demo site: `say` gives the messages of each second, with the nanoseconds from the
    /// second's begin on at which they are sent, in order.
    pub fn saying(settings: Settings, say: impl FnMut(u32) -> Vec<(i64, Vec<u8>)> + Send + 'static) -> LiveLine {
        let mut line = LiveLine::with_settings(Device::WindMast, settings, 0, LiveFaults::none());
        line.model = Box::new(Saying(say));
        line
    }

    /// Bytes sent so far.
    pub fn sent(&self) -> u64 {
        self.sent
    }

    /// Sets the receiver anew, at that time. What it was in the middle of is lost, as with a real one.
    pub fn listen(&mut self, time: i64, settings: Settings) {
        self.advance(time, &mut |_| {});
        let level = self.edges.iter().take_while(|edge| edge.time <= time).last();
        let high = level.map_or(self.receiver.level(), |edge| edge.high);
        while self.edges.front().is_some_and(|edge| edge.time <= time) {
            self.edges.pop_front();
        }
        self.receiver = Receiver::new(settings, time, high);
    }

    /// Goes on until that time. `take` gets what the receiver makes of the line.
    pub fn advance(&mut self, until: i64, take: &mut dyn FnMut(Received)) {
        while let Some(message) = self.next_message(until) {
            self.send(&message);
        }
        self.now = self.now.max(until);
        self.receiver.receive(&mut self.edges, until, take);
    }

    /// The next message that begins before `until`.
    fn next_message(&mut self, until: i64) -> Option<Message> {
        loop {
            while self.messages.is_empty() && i64::from(self.second) * 1_000_000_000 < until {
                self.messages.extend(self.model.second(&mut self.rng, self.second));
                self.second = self.second.wrapping_add(1);
            }
            let next = self.messages.pop_front_if(|next| next.time - BEGIN < until)?;
            let time = next.time - BEGIN;
            // A line that is too slow for its device falls behind; the device then leaves messages out, as real ones do.
            let behind = self.transmitter.free() > time + 1_500_000_000;
            let silent = (10..10 + i64::from(self.faults.silence)).contains(&(time / 1_000_000_000 % 60));
            if !behind && !silent {
                return Some(next);
            }
        }
    }

    fn send(&mut self, message: &Message) {
        let cut = std::mem::take(&mut self.cut).min(message.bytes.len());
        let arrival = damage(message, cut, &self.faults.bytes, &mut self.fault_rng);
        let time = message.time - BEGIN;
        for byte in arrival.bytes {
            self.transmitter.send(time, byte, &mut self.edges);
            self.sent += 1;
        }
        if self.faults.breaks > 0.0 && self.fault_rng.f64() < self.faults.breaks {
            self.transmitter.hold_down(time, BREAK, &mut self.edges);
        }
    }
}
