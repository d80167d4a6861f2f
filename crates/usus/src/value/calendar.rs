//! Dates and times of day as devices send them, and the layouts that read them.

use alloc::vec::Vec;
use core::fmt;

use super::Pattern;

/// A calendar date that exists (proleptic Gregorian).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Date {
    year: i16,
    month: u8,
    day: u8,
}

impl Date {
    /// The date, if there is such a day.
    pub fn new(year: i16, month: u8, day: u8) -> Option<Date> {
        if !(0..=9999).contains(&year) {
            return None;
        }
        // Every month has 28 days.
        if (1..=12).contains(&month) && (1..=28).contains(&day) {
            return Some(Date { year, month, day });
        }
        jiff::civil::Date::new(year, i8::try_from(month).ok()?, i8::try_from(day).ok()?).ok()?;
        Some(Date { year, month, day })
    }

    /// Reads a date as `Display` shows it: `2026-11-25`.
    pub fn parse(text: &str) -> Option<Date> {
        let mut parts = text.splitn(3, '-');
        let mut part = || parts.next();
        Date::new(part()?.parse().ok()?, part()?.parse().ok()?, part()?.parse().ok()?)
    }

    /// The year, 0 to 9999.
    pub const fn year(self) -> i16 {
        self.year
    }

    /// The month, 1 to 12.
    pub const fn month(self) -> u8 {
        self.month
    }

    /// The day, 1 to 31.
    pub const fn day(self) -> u8 {
        self.day
    }
}

impl fmt::Display for Date {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:04}-{:02}-{:02}", self.year, self.month, self.day)
    }
}

/// A time of day with the digits of a second that were sent. Second 60 is a leap second.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Clock {
    hour: u8,
    minute: u8,
    second: u8,
    nanosecond: u32,
    /// Digits of the second's fraction that were sent, for printing.
    digits: u8,
}

impl Clock {
    /// A time of day, if it is one. `digits` (at most 9) is how many digits of the fraction are shown.
    pub const fn new(hour: u8, minute: u8, second: u8, nanosecond: u32, digits: u8) -> Option<Clock> {
        if hour > 23 || minute > 59 || second > 60 || nanosecond > 999_999_999 || digits > 9 {
            return None;
        }
        Some(Clock { hour, minute, second, nanosecond, digits })
    }

    /// Reads a time of day as `Display` shows it: `06:17:42.5`.
    pub fn parse(text: &str) -> Option<Clock> {
        let (time, fraction) = text.split_once('.').unwrap_or((text, ""));
        let mut parts = time.splitn(3, ':');
        let mut part = || parts.next()?.parse().ok();
        let (hour, minute, second) = (part()?, part()?, part()?);
        let digits = u8::try_from(fraction.len()).ok().filter(|digits| *digits <= 9)?;
        let fraction: u32 = if digits == 0 { 0 } else { fraction.parse().ok()? };
        Clock::new(hour, minute, second, fraction.checked_mul(10u32.pow(9 - u32::from(digits)))?, digits)
    }

    /// The hour, 0 to 23.
    pub const fn hour(self) -> u8 {
        self.hour
    }

    /// The minute, 0 to 59.
    pub const fn minute(self) -> u8 {
        self.minute
    }

    /// The second, 0 to 60.
    pub const fn second(self) -> u8 {
        self.second
    }

    /// The nanoseconds of the second.
    pub const fn nanosecond(self) -> u32 {
        self.nanosecond
    }

    /// How many digits of the second's fraction were sent.
    pub const fn digits(self) -> u8 {
        self.digits
    }
}

impl fmt::Display for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:02}:{:02}:{:02}", self.hour, self.minute, self.second)?;
        if self.digits > 0 {
            let shown = self.nanosecond / 10u32.pow(9 - u32::from(self.digits));
            write!(f, ".{shown:0width$}", width = usize::from(self.digits))?;
        }
        Ok(())
    }
}

/// How a date or a time of day is written, compiled from a layout text such as `DDMMYY` or `hh:mm:ss`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Layout(Vec<Step>);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    /// So many digits of this part.
    Digits(Part, u8),
    /// This very character.
    Literal(u8),
}

/// A part of a date or time of day, by the letter that stands for it in a layout.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Part {
    /// `Y`: a year of four digits, or two (80 to 99 are 1980 to 1999, 00 to 79 are 2000 to 2079).
    Year,
    /// `M`.
    Month,
    /// `D`.
    Day,
    /// `h`.
    Hour,
    /// `m`.
    Minute,
    /// `s`; a fraction may follow.
    Second,
}

impl Part {
    /// Its place among the three of its kind.
    fn index(self) -> usize {
        match self {
            Part::Year | Part::Hour => 0,
            Part::Month | Part::Minute => 1,
            Part::Day | Part::Second => 2,
        }
    }
}

/// The year that two digits mean.
pub(crate) fn full_year(two_digits: i16) -> i16 {
    two_digits + if two_digits >= 80 { 1900 } else { 2000 }
}

/// What a layout is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LayoutOf {
    Date,
    Clock,
}

impl Layout {
    /// Compiles a layout; nothing if a part is missing, doubled or of a wrong width.
    pub(crate) fn parse(text: &str, of: LayoutOf) -> Option<Layout> {
        let bytes = text.as_bytes();
        let mut steps = Vec::new();
        let mut seen: Vec<Part> = Vec::new();
        let mut index = 0;
        while index < bytes.len() {
            let part = match (bytes[index], of) {
                (b'Y', LayoutOf::Date) => Some(Part::Year),
                (b'M', LayoutOf::Date) => Some(Part::Month),
                (b'D', LayoutOf::Date) => Some(Part::Day),
                (b'h', LayoutOf::Clock) => Some(Part::Hour),
                (b'm', LayoutOf::Clock) => Some(Part::Minute),
                (b's', LayoutOf::Clock) => Some(Part::Second),
                _ => None,
            };
            let Some(part) = part else {
                if bytes[index].is_ascii_alphanumeric() || !bytes[index].is_ascii() {
                    return None;
                }
                steps.push(Step::Literal(bytes[index]));
                index += 1;
                continue;
            };
            let width = bytes[index..].iter().take_while(|&&byte| byte == bytes[index]).count();
            if seen.contains(&part) || !(width == 2 || (part == Part::Year && width == 4)) {
                return None;
            }
            seen.push(part);
            steps.push(Step::Digits(part, width as u8));
            index += width;
        }
        (seen.len() == 3).then_some(Layout(steps))
    }

    /// The layout as a pattern of at most eight characters, if its parts have two digits each.
    pub(crate) fn pattern(&self) -> Option<Pattern> {
        let mut characters = Vec::new();
        let mut places = [0; 3];
        for step in &self.0 {
            match *step {
                Step::Literal(byte) => characters.push(Some(byte)),
                Step::Digits(part, 2) => {
                    places[part.index()] = characters.len() as u8;
                    characters.extend([None, None]);
                }
                Step::Digits(..) => return None,
            }
        }
        Pattern::new(&characters, places)
    }

    /// What fits it, as a regular expression.
    pub(crate) fn expression(&self) -> alloc::string::String {
        let step = |step: &Step| match step {
            Step::Literal(byte) => alloc::format!(r"\x{byte:02X}"),
            Step::Digits(_, width) => alloc::format!("[0-9]{{{width}}}"),
        };
        self.0.iter().map(step).collect()
    }

    /// What stands between its parts, with a NUL for each of them.
    pub(crate) fn between(&self) -> Vec<u8> {
        self.0.iter().map(|step| if let Step::Literal(byte) = step { *byte } else { 0 }).collect()
    }

    /// The parts of `text` by this layout, and what follows the last of them.
    fn read<'a>(&self, mut text: &'a [u8]) -> Option<([i16; 3], &'a [u8])> {
        let mut parts = [0; 3];
        for step in &self.0 {
            match *step {
                Step::Literal(byte) => text = text.strip_prefix(&[byte])?,
                Step::Digits(part, width) => {
                    let (digits, rest) = text.split_at_checked(usize::from(width))?;
                    let mut value = 0i16;
                    for &byte in digits {
                        if !byte.is_ascii_digit() {
                            return None;
                        }
                        value = value * 10 + i16::from(byte - b'0');
                    }
                    if part == Part::Year && width == 2 {
                        value = full_year(value);
                    }
                    parts[part.index()] = value;
                    text = rest;
                }
            }
        }
        Some((parts, text))
    }

    /// Reads a date that fills `text`.
    pub(crate) fn date(&self, text: &[u8]) -> Option<Date> {
        let ([year, month, day], rest) = self.read(text)?;
        if !rest.is_empty() {
            return None;
        }
        Date::new(year, month as u8, day as u8)
    }

    /// Reads a time of day that fills `text`; `.` and up to nine digits of a second's fraction may follow the layout.
    pub(crate) fn clock(&self, text: &[u8]) -> Option<Clock> {
        let ([hour, minute, second], rest) = self.read(text)?;
        let (mut nanosecond, mut digits) = (0u32, 0u8);
        if let Some((&b'.', fraction)) = rest.split_first() {
            if fraction.len() > 9 {
                return None;
            }
            for &byte in fraction {
                if !byte.is_ascii_digit() {
                    return None;
                }
                nanosecond = nanosecond * 10 + u32::from(byte - b'0');
            }
            digits = fraction.len() as u8;
            nanosecond *= 10u32.pow(9 - u32::from(digits));
        } else if !rest.is_empty() {
            return None;
        }
        Clock::new(hour as u8, minute as u8, second as u8, nanosecond, digits)
    }
}
