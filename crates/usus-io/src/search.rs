//! Finding the settings of a line by listening only.
//!
//! A listener hears something at every speed. What it hears at one tells which other speeds are likely (see `usus::survey::Speeds`), so the
//! likeliest is listened to next, until the likeliest of all has been listened to and sounds right. Then the character format: from what
//! was heard as eight bits without parity follows which formats would explain it; the likeliest is listened with and has to be sound.

use std::time::{Duration, Instant};

use usus::Span;
use usus::format::{Parity, Serial};
use usus::survey::{Character, Heard, Ratio, Score, Speeds, characters, other_formats, score};

use crate::listen::Stop;
use crate::port::PortError;
use crate::source::{Source, SourceError, SourceEvent};

/// Somebody who can listen to a line with any settings.
pub trait Receiver {
    /// What goes wrong with it.
    type Error;

    /// Listens with those settings until `wanted` characters have come, or `within` has passed since the first, or nothing came for
    /// `patience`.
    ///
    /// # Errors
    ///
    /// If the line cannot be listened to.
    fn listen(
        &mut self,
        serial: Serial,
        wanted: usize,
        within: Span,
        patience: Span,
    ) -> Result<Listened, ReceiverError<Self::Error>>;
}

/// A source that can be set, as a receiver.
pub struct SourceReceiver<'s> {
    source: &'s mut dyn Source,
    stop: Stop,
}

impl SourceReceiver<'_> {
    /// Listens to `source` until `stop` is asked for.
    pub fn new(source: &mut dyn Source, stop: Stop) -> SourceReceiver<'_> {
        SourceReceiver { source, stop }
    }
}

/// Why a source cannot be listened to.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SearchError {
    /// It has no line settings.
    #[error("only a serial port has line settings that can be searched for")]
    NoSettings,
    /// It cannot be set.
    #[error(transparent)]
    Port(#[from] PortError),
    /// It cannot be read.
    #[error(transparent)]
    Source(#[from] SourceError),
}

impl Receiver for SourceReceiver<'_> {
    type Error = SearchError;

    fn listen(
        &mut self,
        serial: Serial,
        wanted: usize,
        within: Span,
        patience: Span,
    ) -> Result<Listened, ReceiverError<SearchError>> {
        match self.source.set_serial(serial) {
            None => return Err(ReceiverError::Failed(SearchError::NoSettings)),
            Some(Ok(())) => {}
            Some(Err(PortError::Refused { .. })) => return Err(ReceiverError::Refused),
            Some(Err(error)) => return Err(ReceiverError::Failed(error.into())),
        }
        let begun = Instant::now();
        let longest = |span: Span| Duration::from_nanos(span.nanoseconds().max(0) as u64);
        let mut first: Option<Instant> = None;
        let mut listened = Listened { faults: self.source.tells_faults(), ..Listened::default() };
        while listened.characters.len() < wanted {
            if self.stop.is_asked_for() {
                return Err(ReceiverError::Stopped);
            }
            let over = match first {
                Some(first) => first.elapsed() >= longest(within),
                None => begun.elapsed() >= longest(patience),
            };
            if over {
                break;
            }
            match self.source.next().map_err(|error| ReceiverError::Failed(error.into()))? {
                None => break,
                Some(SourceEvent::Chunk { bytes, faults, .. }) => {
                    listened.characters.extend(characters(bytes, faults));
                    listened.faults |= !faults.is_empty();
                    first = first.or(Some(Instant::now()));
                }
                Some(_) => {}
            }
        }
        listened.took = Span::from_nanoseconds(begun.elapsed().as_nanos() as i64);
        Ok(listened)
    }
}

/// What came of listening.
#[derive(Clone, Debug, Default)]
pub struct Listened {
    /// The characters.
    pub characters: Vec<Character>,
    /// Whether faults are told.
    pub faults: bool,
    /// How long it took.
    pub took: Span,
}

/// Why a receiver hears nothing.
#[derive(Debug)]
pub enum ReceiverError<E> {
    /// The driver does not take these settings: others may do.
    Refused,
    /// It was asked to stop.
    Stopped,
    /// The line cannot be listened to.
    Failed(E),
}

/// How to search.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct SearchOptions {
    /// The speeds to try, the usual ones first.
    pub speeds: Vec<u32>,
    /// How many characters are enough at one speed.
    pub wanted: usize,
    /// How long to wait for the first character.
    pub patience: Span,
    /// How long to search in all; what is known then is told.
    pub at_most: Span,
}

impl Default for SearchOptions {
    fn default() -> SearchOptions {
        SearchOptions {
            speeds: vec![
                9_600, 115_200, 19_200, 38_400, 4_800, 57_600, 2_400, 1_200, 230_400, 460_800, 921_600, 14_400, 28_800,
                76_800, 600, 300,
            ],
            wanted: 160,
            patience: Span::from_nanoseconds(6_000_000_000),
            at_most: Span::from_nanoseconds(60_000_000_000),
        }
    }
}

/// Settings that were listened with, and the evidence.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Tried {
    /// The settings.
    pub serial: Serial,
    /// The evidence, read with the character format that explains it best.
    pub score: Score,
    /// Share of characters that lacked their stop bit or had the wrong parity, with the settings as they were.
    pub faulty: f64,
    /// Whether faults are told.
    pub faults: bool,
    /// The character format that explains best what was heard.
    pub explained: (Serial, f64),
}

/// A speed and how far all that was heard is from what it would sound like: see [`Speeds::distance`].
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Likely {
    /// Bits per second.
    pub baud: u32,
    /// In nats a character.
    pub distance: f64,
}

/// What a search found.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Found {
    /// The settings, if any sounded right.
    pub settings: Option<Serial>,
    /// Settings that were listened with, in their order.
    pub tried: Vec<Tried>,
    /// All speeds, the likeliest first.
    pub speeds: Vec<Likely>,
    /// Whether it sounds like a line on which high and low are exchanged.
    pub inverted: bool,
    /// How long it took.
    pub took: Span,
    /// Whether it ended before it was sure.
    pub unsure: bool,
}

/// Within a speed's listening, after the first character.
const WITHIN: Span = Span::from_nanoseconds(1_300_000_000);
/// Points from which on settings sound right.
const GOOD: f64 = 45.0;
/// Points that only text in sentences or lines gets.
const CERTAIN: f64 = 82.0;
/// Fewer characters than this are not relied on.
const ENOUGH: usize = 40;

/// Searches for the settings of a line. `told` gets each try as it comes.
///
/// # Errors
///
/// If the line cannot be listened to.
pub fn search<E: Receiver>(
    receiver: &mut E,
    options: &SearchOptions,
    told: &mut dyn FnMut(&Tried),
) -> Result<Found, E::Error> {
    let mut search =
        Search { options, speeds: Speeds::new(), refused: Vec::new(), heard: Vec::new(), found: Found::default() };
    let best = match search.find_speed(receiver, told) {
        Ok(best) => best,
        Err(ReceiverError::Failed(error)) => return Err(error),
        Err(_) => None,
    };
    if let Some(best) = best {
        match search.find_format(receiver, best, told) {
            Ok(()) => {}
            Err(ReceiverError::Failed(error)) => return Err(error),
            Err(_) => search.found.unsure = true,
        }
    }
    search.found.speeds = search.likely();
    Ok(search.found)
}

struct Search<'o> {
    options: &'o SearchOptions,
    speeds: Speeds,
    refused: Vec<u32>,
    /// What was heard as eight bits without parity.
    heard: Vec<Heard>,
    found: Found,
}

fn plain(baud: u32) -> Serial {
    Serial { baud, data_bits: 8, parity: Parity::None, half_stop_bits: 2 }
}

impl Search<'_> {
    /// Listens to one speed after the other. Returns the place in `heard` of the one that sounds right.
    fn find_speed<E: Receiver>(
        &mut self,
        receiver: &mut E,
        told: &mut dyn FnMut(&Tried),
    ) -> Result<Option<usize>, ReceiverError<E::Error>> {
        while let Some(baud) = self.next_speed() {
            if self.found.took >= self.options.at_most {
                self.found.unsure = true;
                break;
            }
            match self.listen(receiver, plain(baud), told) {
                Ok(heard) if heard.characters.is_empty() && self.heard.is_empty() => {
                    // A silent line is silent at every speed.
                    return Ok(None);
                }
                Ok(heard) => self.remember(heard),
                Err(ReceiverError::Refused) => self.refused.push(baud),
                Err(error) => return Err(error),
            }
        }
        Ok(self.best())
    }

    /// The speed to listen to next; nothing once the likeliest was listened to and sounds right, or nothing likely is left.
    fn next_speed(&mut self) -> Option<u32> {
        if self.heard.is_empty() {
            return self.options.speeds.iter().copied().find(|baud| !self.refused.contains(baud));
        }
        let likely = self.likely();
        let first = *likely.first()?;
        let unheard = |likely: &&Likely| self.heard.iter().all(|heard| heard.serial.baud != likely.baud);
        let mut reach = 2.5;
        if let Some(index) = self.heard.iter().position(|heard| heard.serial.baud == first.baud) {
            let times = self.found.tried.iter().filter(|tried| tried.serial == plain(first.baud)).count();
            // It is worth waiting for more if this sounds like text, and something else than the order of the speeds speaks for this one: of
            // a line that is much faster, little is ever heard.
            let few = self.heard[index].characters.len() < ENOUGH && times < 3;
            let judged = self.heard.iter().any(|heard| heard.characters.len() >= 16);
            if few && judged && sounds_like_text(&self.heard[index]) {
                return Some(first.baud);
            }
            let points = self.points(index, &likely);
            if points >= CERTAIN {
                return None;
            }
            if points >= GOOD {
                // Binary data sounds like binary data at other speeds, too: those that are about as likely are listened to.
                reach = 0.8;
            }
        }
        likely.iter().filter(|likely| likely.distance < first.distance + reach).find(unheard).map(|likely| likely.baud)
    }

    /// Adds to what was heard at a speed.
    fn remember(&mut self, heard: Heard) {
        match self.heard.iter_mut().find(|before| before.serial == heard.serial) {
            Some(before) => before.characters.extend(heard.characters),
            None => self.heard.push(heard),
        }
    }

    /// Where in `heard` what sounds best is.
    fn best(&mut self) -> Option<usize> {
        let likely = self.likely();
        let points: Vec<f64> = (0..self.heard.len()).map(|index| self.points(index, &likely)).collect();
        (0..points.len())
            .max_by(|&one, &other| points[one].total_cmp(&points[other]))
            .filter(|&best| points[best] > 0.0)
    }

    /// How good it sounds: its own evidence, and how likely its speed is by all that was heard.
    fn points(&self, index: usize, likely: &[Likely]) -> f64 {
        let heard = &self.heard[index];
        let least = likely.first().map_or(0.0, |likely| likely.distance);
        let own = likely.iter().find(|likely| likely.baud == heard.serial.baud).map_or(9.0, |likely| likely.distance);
        reread(heard).1.points * (least - own).exp()
    }

    /// All speeds, the likeliest by all that was heard first. Speeds that say the same keep their order.
    fn likely(&mut self) -> Vec<Likely> {
        let mut likely = Vec::new();
        for &baud in self.options.speeds.iter().filter(|baud| !self.refused.contains(baud)) {
            let (mut sum, mut weights) = (0.0, 0.0);
            for heard in &self.heard {
                let ratio = Ratio::new(baud, heard.serial.baud);
                if let Some(distance) = self.speeds.distance(&heard.characters, ratio, false, heard.faults) {
                    let weight = (heard.characters.len() as f64).min(200.0);
                    sum += distance * weight;
                    weights += weight;
                }
            }
            likely.push(Likely { baud, distance: if weights > 0.0 { sum / weights } else { 0.0 } });
        }
        likely.sort_by(|one, other| one.distance.total_cmp(&other.distance));
        likely
    }

    /// The character format at the speed that was found.
    fn find_format<E: Receiver>(
        &mut self,
        receiver: &mut E,
        best: usize,
        told: &mut dyn FnMut(&Tried),
    ) -> Result<(), ReceiverError<E::Error>> {
        let heard = self.heard[best].clone();
        let likely = self.likely();
        // An inverted line cannot be set right, only be wired right.
        let mut distance =
            |inverted| self.speeds.distance(&heard.characters, Ratio::new(1, 1), inverted, heard.faults).unwrap_or(9.0);
        let (right, inverted) = (distance(false), distance(true));
        self.found.inverted = inverted < 1.6 && right > inverted + 0.7;
        if self.found.inverted || self.points(best, &likely) < GOOD / 2.0 {
            self.found.unsure = true;
            return Ok(());
        }
        self.found.unsure |= self.points(best, &likely) < GOOD;
        let explained = other_formats(&heard);
        for (serial, _) in explained.into_iter().take(3).filter(|(_, share)| *share > 0.5) {
            if serial == heard.serial {
                self.found.settings = Some(serial);
                break;
            }
            let mut listened = self.listen(receiver, serial, told)?;
            if listened.characters.len() < ENOUGH {
                listened.characters.extend(self.listen(receiver, serial, told)?.characters);
            }
            // Who joins a line in the middle of its text hears some nonsense first; the wrong parity is wrong half of the time.
            let sound = score(&listened).sound;
            if sound > 0.8 && listened.characters.len() >= 12 {
                self.found.settings = Some(serial);
                break;
            }
        }
        let settled = self.found.settings.is_some();
        self.found.settings = self.found.settings.or(Some(heard.serial));
        self.found.unsure |= !settled;
        Ok(())
    }

    fn listen<E: Receiver>(
        &mut self,
        receiver: &mut E,
        serial: Serial,
        told: &mut dyn FnMut(&Tried),
    ) -> Result<Heard, ReceiverError<E::Error>> {
        let listened = receiver.listen(serial, self.options.wanted, WITHIN, self.options.patience)?;
        self.found.took = Span::from_nanoseconds(self.found.took.nanoseconds() + listened.took.nanoseconds());
        let heard = Heard { serial, characters: listened.characters, faults: listened.faults };
        let (explained, score) = reread(&heard);
        let faulty = 1.0 - usus::survey::score(&heard).sound;
        let faulty = if heard.characters.is_empty() { 0.0 } else { faulty };
        let tried = Tried { serial, score, faulty, faults: heard.faults, explained };
        told(&tried);
        self.found.tried.push(tried);
        Ok(heard)
    }
}

/// Whether most of it is text, whatever the eighth bit is.
fn sounds_like_text(heard: &Heard) -> bool {
    let seven = Heard { serial: Serial { data_bits: 7, ..heard.serial }, ..heard.clone() };
    score(&seven).text > 0.6
}

/// The evidence in what was heard, read with the character format that explains it best.
fn reread(heard: &Heard) -> ((Serial, f64), Score) {
    let own = (heard.serial, 1.0);
    if heard.serial.data_bits != 8 || heard.serial.parity != Parity::None {
        return (own, score(heard));
    }
    let (format, share) = other_formats(heard)[0];
    let odd = |byte: u8| byte.count_ones() % 2 == 1;
    let reread = |character: &Character| {
        let expected = match (format.data_bits, format.parity) {
            (8, Parity::Even) => odd(character.byte) == character.fault.is_none(),
            (8, Parity::Odd) => odd(character.byte) != character.fault.is_none(),
            (7, Parity::Even) => !odd(character.byte) && character.fault.is_none(),
            (7, Parity::Odd) => odd(character.byte) && character.fault.is_none(),
            _ => return *character,
        };
        Character { byte: character.byte, fault: (!expected).then_some(usus::FaultKind::Framing) }
    };
    let characters = heard.characters.iter().map(reread).collect();
    let read = Heard { serial: format, characters, faults: heard.faults };
    ((format, share), score(&read))
}
