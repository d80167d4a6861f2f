//! The layouts by which dates and times of day are read: `DDMMYY`, `hh:mm:ss`, `DD MMM YYYY, hh:mm:ss AM`.

use alloc::string::String;
use alloc::vec::Vec;

use super::calendar::parse_offset;
use super::{Clock, Date, DateTime, Pattern};

/// How a date, a time of day, or both are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Layout {
    steps: Vec<Step>,
    /// The first year that two digits may mean.
    first_year: i16,
    /// Minutes ahead of UTC, of what says nothing about it.
    offset: Option<i16>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    /// So many digits of this part; one stands for one or two.
    Digits(Part, u8),
    /// `MMM`: the name of a month in English, or its first three letters.
    MonthName,
    /// `f`: any digits of a second's fraction.
    Fraction,
    /// `AM`: that, or `PM`.
    Half,
    /// `z`: the offset from UTC.
    Offset,
    /// This very character.
    Literal(u8),
}

/// A part of a date or time of day, by the letter that stands for it in a layout.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Part {
    /// `Y`: a year of four digits, or two.
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

/// The words that stand for steps, the longest first where one begins as another does.
const WORDS: [(&str, Step); 14] = [
    ("YYYY", Step::Digits(Part::Year, 4)),
    ("YY", Step::Digits(Part::Year, 2)),
    ("MMM", Step::MonthName),
    ("MM", Step::Digits(Part::Month, 2)),
    ("M", Step::Digits(Part::Month, 1)),
    ("DD", Step::Digits(Part::Day, 2)),
    ("D", Step::Digits(Part::Day, 1)),
    ("hh", Step::Digits(Part::Hour, 2)),
    ("h", Step::Digits(Part::Hour, 1)),
    ("mm", Step::Digits(Part::Minute, 2)),
    ("ss", Step::Digits(Part::Second, 2)),
    ("AM", Step::Half),
    ("f", Step::Fraction),
    ("z", Step::Offset),
];

const MONTHS: [&str; 12] = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
];

/// The year that two digits mean: from that one on.
pub(crate) fn full_year(two_digits: i16, first_year: i16) -> i16 {
    first_year + (two_digits - first_year).rem_euclid(100)
}

/// The first year that two digits mean, if nothing else is said.
pub(crate) const FIRST_YEAR: i16 = 1980;

/// What a layout is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LayoutOf {
    Date,
    Clock,
    DateTime,
}

impl LayoutOf {
    fn has(self, step: Step) -> bool {
        match step {
            Step::Digits(Part::Year | Part::Month | Part::Day, _) | Step::MonthName => self != LayoutOf::Clock,
            Step::Digits(..) | Step::Fraction | Step::Half => self != LayoutOf::Date,
            Step::Offset => self == LayoutOf::DateTime,
            Step::Literal(_) => true,
        }
    }
}

/// What was read by a layout.
#[derive(Default)]
struct Found {
    date: [i16; 3],
    clock: [i16; 3],
    nanosecond: u32,
    digits: u8,
    afternoon: Option<bool>,
    offset: Option<i16>,
}

impl Layout {
    /// Whether everything that is read by it has an offset from UTC.
    pub(crate) fn tells_offset(&self) -> bool {
        self.offset.is_some() || self.steps.contains(&Step::Offset)
    }

    /// Compiles a layout; nothing if a part is missing, doubled or of a wrong width.
    pub(crate) fn parse(text: &str, of: LayoutOf, first_year: i16, offset: Option<i16>) -> Option<Layout> {
        let mut steps = Vec::new();
        let mut rest = text;
        while let Some(character) = rest.chars().next() {
            let word = WORDS.iter().find(|(word, step)| of.has(*step) && rest.starts_with(word));
            let (step, length) = match word {
                Some((word, step)) => (*step, word.len()),
                // The letter between a date and a time of day in ISO 8601.
                None if character == 'T' && of == LayoutOf::DateTime => (Step::Literal(b'T'), 1),
                None if character.is_ascii() && !character.is_ascii_alphanumeric() => {
                    (Step::Literal(character as u8), 1)
                }
                None => return None,
            };
            steps.push(step);
            rest = &rest[length..];
        }
        let layout = Layout { steps, first_year, offset };
        let counted = |wanted: &dyn Fn(&Step) -> bool| layout.steps.iter().filter(|step| wanted(step)).count();
        let is = |part: Part| move |step: &Step| matches!(step, Step::Digits(found, _) if *found == part);
        let months = counted(&|step| matches!(step, Step::MonthName) || is(Part::Month)(step));
        let dates = usize::from(of != LayoutOf::Clock);
        let clocks = usize::from(of != LayoutOf::Date);
        let sound = [counted(&is(Part::Year)), months, counted(&is(Part::Day))] == [dates; 3]
            && [counted(&is(Part::Hour)), counted(&is(Part::Minute))] == [clocks; 2]
            // Some do not tell seconds.
            && counted(&is(Part::Second)) <= clocks
            && [Step::Fraction, Step::Half, Step::Offset].iter().all(|once| counted(&|step| step == once) <= 1);
        sound.then_some(layout)
    }

    /// The layout as a pattern of at most eight characters, if its parts have two digits each.
    pub(crate) fn pattern(&self) -> Option<Pattern> {
        let mut characters = Vec::new();
        let mut places = [0; 3];
        for step in &self.steps {
            match *step {
                Step::Literal(byte) => characters.push(Some(byte)),
                Step::Digits(part, 2) => {
                    places[part.index()] = characters.len() as u8;
                    characters.extend([None, None]);
                }
                _ => return None,
            }
        }
        Pattern::new(&characters, places).filter(|_| self.first_year == FIRST_YEAR)
    }

    /// What fits it, as a regular expression.
    pub(crate) fn expression(&self) -> String {
        let step = |step: &Step| match step {
            Step::Literal(byte) => alloc::format!(r"\x{byte:02X}"),
            Step::Digits(_, 1) => "[0-9]{1,2}".into(),
            Step::Digits(_, width) => alloc::format!("[0-9]{{{width}}}"),
            Step::MonthName => "[A-Za-z]+?".into(),
            Step::Fraction => "[0-9]+?".into(),
            Step::Half => "[AaPp][Mm]".into(),
            Step::Offset => "(?:Z|[+-][0-9]{2}(?::?[0-9]{2})??)".into(),
        };
        let fraction = if self.takes_fraction() { r"(?:\.[0-9]*?)??" } else { "" };
        self.steps.iter().map(step).collect::<String>() + fraction
    }

    /// What stands between its parts, with a NUL for each of them.
    pub(crate) fn between(&self) -> Vec<u8> {
        self.steps.iter().map(|step| if let Step::Literal(byte) = step { *byte } else { 0 }).collect()
    }

    /// Whether a fraction may follow that the layout does not name: behind the seconds, or behind all of a time of day.
    fn takes_fraction(&self) -> bool {
        let dated = self.steps.iter().any(|step| matches!(step, Step::Digits(Part::Year, _)));
        let clocked = self.steps.iter().any(|step| matches!(step, Step::Digits(Part::Hour, _)));
        let has_seconds = self.steps.iter().any(|step| matches!(step, Step::Digits(Part::Second, _)));
        match self.steps.last() {
            Some(Step::Digits(Part::Second, _)) => true,
            Some(Step::Digits(..)) => clocked && has_seconds && !dated,
            _ => false,
        }
    }

    /// What a text that the layout fills says.
    fn read(&self, mut text: &[u8]) -> Option<Found> {
        let mut found = Found::default();
        for step in &self.steps {
            match *step {
                Step::Literal(byte) => text = text.strip_prefix(&[byte])?,
                Step::Digits(part, width) => {
                    let has_two = text.get(1).is_some_and(u8::is_ascii_digit);
                    let width = if width == 1 && has_two { 2 } else { width };
                    let (digits, rest) = text.split_at_checked(usize::from(width))?;
                    let mut value = 0i16;
                    for &byte in digits {
                        if !byte.is_ascii_digit() {
                            return None;
                        }
                        value = value * 10 + i16::from(byte - b'0');
                    }
                    match part {
                        Part::Year if width == 2 => found.date[0] = full_year(value, self.first_year),
                        Part::Year | Part::Month | Part::Day => found.date[part.index()] = value,
                        Part::Hour | Part::Minute | Part::Second => found.clock[part.index()] = value,
                    }
                    text = rest;
                }
                Step::MonthName => {
                    let length = text.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
                    let (name, rest) = text.split_at_checked(length)?;
                    let is_it = |month: &&str| {
                        name.eq_ignore_ascii_case(month.as_bytes()) || name.eq_ignore_ascii_case(&month.as_bytes()[..3])
                    };
                    found.date[1] = MONTHS.iter().position(is_it)? as i16 + 1;
                    text = rest;
                }
                Step::Fraction => text = found.fraction(text, 1)?,
                Step::Half => {
                    let (half, rest) = text.split_at_checked(2)?;
                    found.afternoon = Some(half.eq_ignore_ascii_case(b"PM"));
                    if !half.eq_ignore_ascii_case(b"AM") && found.afternoon == Some(false) {
                        return None;
                    }
                    text = rest;
                }
                Step::Offset => {
                    let (offset, rest) = parse_offset(text)?;
                    (found.offset, text) = (Some(offset), rest);
                }
            }
        }
        if self.takes_fraction()
            && let Some(fraction) = text.strip_prefix(b".")
        {
            text = found.fraction(fraction, 0)?;
        }
        text.is_empty().then_some(found)
    }

    /// Reads a date that fills `text`.
    pub(crate) fn date(&self, text: &[u8]) -> Option<Date> {
        self.read(text)?.date()
    }

    /// Reads a time of day that fills `text`; `.` and up to nine digits of a second's fraction may follow the layout.
    pub(crate) fn clock(&self, text: &[u8]) -> Option<Clock> {
        self.read(text)?.clock()
    }

    /// Reads a date with a time of day that fill `text`.
    pub(crate) fn date_time(&self, text: &[u8]) -> Option<DateTime> {
        let found = self.read(text)?;
        DateTime::new(found.date()?, found.clock()?, found.offset.or(self.offset))
    }
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

impl Found {
    /// Takes the digits of a second's fraction, at least so many; returns what follows them.
    fn fraction<'t>(&mut self, text: &'t [u8], least: usize) -> Option<&'t [u8]> {
        let length = text.iter().take_while(|byte| byte.is_ascii_digit()).count();
        if !(least..=9).contains(&length) {
            return None;
        }
        let value = text[..length].iter().fold(0, |value, byte| value * 10 + u32::from(byte - b'0'));
        self.digits = length as u8;
        self.nanosecond = value * 10u32.pow(9 - length as u32);
        text.get(length..)
    }

    fn date(&self) -> Option<Date> {
        let [year, month, day] = self.date;
        Date::new(year, u8::try_from(month).ok()?, u8::try_from(day).ok()?)
    }

    fn clock(&self) -> Option<Clock> {
        let [hour, minute, second] = self.clock;
        let hour = match self.afternoon {
            None => hour,
            Some(_) if !(1..=12).contains(&hour) => return None,
            Some(afternoon) => hour % 12 + if afternoon { 12 } else { 0 },
        };
        Clock::new(hour as u8, minute as u8, second as u8, self.nanosecond, self.digits)
    }
}

#[cfg(test)]
mod tests {
    use alloc::string::ToString;

    use super::*;

    #[test]
    fn dates_with_times_in_the_layouts_of_devices() {
        for (layout, text, wanted) in [
            ("YYYY-MM-DD hh:mm:ss", "2026-05-07 06:41:00", "2026-05-07T06:41:00"),
            ("YYYY-MM-DDThh:mm:ss.fz", "2026-05-07T06:41:00.25+02:00", "2026-05-07T06:41:00.25+02:00"),
            ("YYYY-MM-DDThh:mm:ssz", "2026-05-07T06:41:00Z", "2026-05-07T06:41:00Z"),
            ("YYYY-MM-DDThh:mm:ssz", "2026-05-07T06:41:00-0330", "2026-05-07T06:41:00-03:30"),
            ("DD MMM YY hh:mm:ss AM", "07 May 26 12:05:09 am", "2026-05-07T00:05:09"),
            ("MMM DD, YYYY hh:mm:ss AM", "December 31, 2026 11:05:09 PM", "2026-12-31T23:05:09"),
            ("YYYY-MM-DD hh:mm", "2026-05-07 06:41", "2026-05-07T06:41:00"),
            ("YYYY-MM-DD hh:mm", "2026-05-07 06:41:30", ""),
            ("YYYY-MM-DD hh:mm", "2026-05-07 06:41.5", ""),
            ("D.M.YYYY h:mm", "7.5.2026 6:41", "2026-05-07T06:41:00"),
            ("D.M.YYYY h:mm", "17.12.2026 16:41", "2026-12-17T16:41:00"),
            ("D.M.YYYY h:mm", "017.12.2026 16:41", ""),
            ("M/D/YY h:mm:ss AM", "5/7/26 6:41:00 PM", "2026-05-07T18:41:00"),
            ("DDMMYYhhmmss", "070526064100.5", "2026-05-07T06:41:00.5"),
            ("hh:mm:ss DD/MM/YY", "06:41:00 07/05/79", "2079-05-07T06:41:00"),
            ("hh:mm:ss DD/MM/YY", "06:41:00 07/05/80", "1980-05-07T06:41:00"),
            ("YYYY-MM-DD hh:mm:ss", "2026-02-31 06:41:00", ""),
            ("YYYY-MM-DD hh:mm:ss", "2026-05-07 24:00:00", ""),
            ("YYYY-MM-DD hh:mm:ss", "2026-05-07 06:41:00 ", ""),
            ("DD MMM YY hh:mm:ss AM", "07 Mai 26 12:05:09 am", ""),
            ("DD MMM YY hh:mm:ss AM", "07 May 26 13:05:09 pm", ""),
            ("DD MMM YY hh:mm:ss AM", "07 May 26 12:05:09 xm", ""),
        ] {
            let layout = Layout::parse(layout, LayoutOf::DateTime, FIRST_YEAR, None).unwrap();
            let found = layout.date_time(text.as_bytes());
            assert_eq!(found.map(|found| found.to_string()).unwrap_or_default(), wanted, "{text}");
            if let Some(found) = found {
                assert_eq!(DateTime::parse(wanted), Some(found));
            }
        }
    }

    #[test]
    fn layouts_that_are_none() {
        for (text, of) in [
            ("YYYY-MM", LayoutOf::Date),
            ("YYYY-MM-DD-DD", LayoutOf::Date),
            ("YYYY-MM-MMM", LayoutOf::Date),
            ("YYY-MM-DD", LayoutOf::Date),
            ("hh", LayoutOf::Clock),
            ("mm:ss", LayoutOf::Clock),
            ("hh:mm", LayoutOf::Date),
            ("YYYY-MM-DD hh:mm:ss", LayoutOf::Clock),
            ("hh:mm:ssz", LayoutOf::Clock),
            ("hh:mm:ss f f", LayoutOf::Clock),
            ("YYYYxMMxDD", LayoutOf::Date),
            ("YYYY-MM-DD", LayoutOf::DateTime),
        ] {
            assert_eq!(Layout::parse(text, of, FIRST_YEAR, None), None, "{text}");
        }
    }
}
