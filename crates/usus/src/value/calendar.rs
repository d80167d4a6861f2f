//! Dates and times of day as devices send them.

use core::fmt;

use super::Decimal;

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

    /// Days since 1970-01-01 in the proleptic Gregorian calendar, as ISO 8601 has it. Years are counted from 1 March, so that a leap day is a
    /// year's last; 400 of them have 146,097 days.
    pub const fn days(self) -> i64 {
        let (month, day) = (self.month as i64, self.day as i64);
        let year = self.year as i64 - (month <= 2) as i64;
        let (era, of_era) = (year.div_euclid(400), year.rem_euclid(400));
        let of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
        era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
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

    /// Nanoseconds since midnight; nothing in a leap second, which has no place in a day of 86,400.
    pub const fn nanoseconds(self) -> Option<i64> {
        let seconds = (self.hour as i64 * 60 + self.minute as i64) * 60 + self.second as i64;
        if self.second == 60 { None } else { Some(seconds * 1_000_000_000 + self.nanosecond as i64) }
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

/// A date with a time of day, and how far the clock that tells them is ahead of UTC, if that is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct DateTime {
    date: Date,
    clock: Clock,
    offset: Option<i16>,
}

impl DateTime {
    /// A date with a time of day. `offset` is in minutes, less than a day.
    pub const fn new(date: Date, clock: Clock, offset: Option<i16>) -> Option<DateTime> {
        match offset {
            Some(minutes) if minutes <= -1_440 || minutes >= 1_440 => None,
            _ => Some(DateTime { date, clock, offset }),
        }
    }

    /// Reads what `Display` shows: `2026-05-07T06:41:00.5+02:00`.
    pub fn parse(text: &str) -> Option<DateTime> {
        let (date, clock) = text.split_once('T')?;
        let (clock, offset) = match clock.find(['Z', '+', '-']) {
            Some(place) => {
                let (offset, rest) = parse_offset(clock.as_bytes().get(place..)?)?;
                (&clock[..place], rest.is_empty().then_some(Some(offset))?)
            }
            None => (clock, None),
        };
        DateTime::new(Date::parse(date)?, Clock::parse(clock)?, offset)
    }

    /// So many seconds later, all of which are of one length: there are no leap seconds in between. Nothing if that is not between the years 0 and 9999,
    /// or the seconds have more than nine places.
    pub fn later(self, seconds: Decimal) -> Option<DateTime> {
        let Date { year, month, day } = self.date;
        let Clock { hour, minute, second, nanosecond, .. } = self.clock;
        let (date, time) =
            ((year, i8::try_from(month).ok()?, i8::try_from(day).ok()?), [hour, minute, second].map(|part| part as i8));
        let begun =
            jiff::civil::DateTime::new(date.0, date.1, date.2, time[0], time[1], time[2], nanosecond as i32).ok()?;
        let nanoseconds = seconds.times(Decimal::from_unsigned(1_000_000_000))?;
        let nanoseconds = nanoseconds.to_integer()?;
        let (whole, part) = (nanoseconds.div_euclid(1_000_000_000), nanoseconds.rem_euclid(1_000_000_000));
        let passed = jiff::SignedDuration::new(i64::try_from(whole).ok()?, part as i32);
        let then = begun.checked_add(passed).ok()?;
        let date = Date::new(then.year(), then.month() as u8, then.day() as u8)?;
        let digits = seconds.places().min(9).max(self.clock.digits);
        let clock = Clock::new(
            then.hour() as u8,
            then.minute() as u8,
            then.second() as u8,
            then.subsec_nanosecond() as u32,
            digits,
        )?;
        DateTime::new(date, clock, self.offset)
    }

    /// The date.
    pub const fn date(self) -> Date {
        self.date
    }

    /// The time of day.
    pub const fn clock(self) -> Clock {
        self.clock
    }

    /// Nanoseconds since 1970-01-01T00:00:00, in UTC if its offset from that is known; nothing in a leap second, or if that is no `i64`.
    pub fn nanoseconds(self) -> Option<i64> {
        let ahead = i64::from(self.offset.unwrap_or(0)) * 60;
        let midnight = i128::from(self.date.days() * 86_400 - ahead) * 1_000_000_000;
        i64::try_from(midnight + i128::from(self.clock.nanoseconds()?)).ok()
    }

    /// Minutes by which the clock is ahead of UTC; nothing if that is not known.
    pub const fn offset(self) -> Option<i16> {
        self.offset
    }
}

impl fmt::Display for DateTime {
    /// As in ISO 8601: `2026-05-07T06:41:00.5`, with `Z` or `+02:00` behind it if the offset is known.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}T{}", self.date, self.clock)?;
        match self.offset {
            None => Ok(()),
            Some(0) => f.write_str("Z"),
            Some(offset) => {
                let (sign, minutes) = (if offset < 0 { '-' } else { '+' }, offset.unsigned_abs());
                write!(f, "{sign}{:02}:{:02}", minutes / 60, minutes % 60)
            }
        }
    }
}

/// An offset from UTC at the start of a text, in minutes, and what follows it: `Z`, `+02`, `+0200` or `+02:00`.
pub(crate) fn parse_offset(text: &[u8]) -> Option<(i16, &[u8])> {
    let (&sign, rest) = text.split_first()?;
    let sign = match sign {
        b'Z' => return Some((0, rest)),
        b'+' => 1,
        b'-' => -1,
        _ => return None,
    };
    let two = |text: &[u8]| match text {
        [tens @ b'0'..=b'9', ones @ b'0'..=b'9', ..] => Some(i16::from((tens - b'0') * 10 + ones - b'0')),
        _ => None,
    };
    let (hours, rest) = (two(rest).filter(|hours| *hours < 24)?, &rest[2..]);
    let behind_colon = rest.strip_prefix(b":").unwrap_or(rest);
    match two(behind_colon).filter(|minutes| *minutes < 60) {
        Some(minutes) => Some((sign * (hours * 60 + minutes), &behind_colon[2..])),
        None => Some((sign * hours * 60, rest)),
    }
}

/// An instant as it is declared: a day, or a date and a time; in UTC if nothing else is said.
pub(crate) fn instant(text: &str) -> Option<DateTime> {
    let midnight = Clock::new(0, 0, 0, 0, 0)?;
    let instant = match Date::parse(text) {
        Some(date) => DateTime::new(date, midnight, None)?,
        None => DateTime::parse(text)?,
    };
    Some(DateTime { offset: instant.offset.or(Some(0)), ..instant })
}

#[cfg(test)]
mod tests {
    use alloc::string::ToString;

    use super::*;

    #[test]
    fn seconds_since_an_instant() {
        for (since, seconds, wanted) in [
            ("1970-01-01", "0", "1970-01-01T00:00:00Z"),
            ("1970-01-01", "1778136060.25", "2026-05-07T06:41:00.25Z"),
            ("1970-01-01", "-0.5", "1969-12-31T23:59:59.5Z"),
            ("2000-01-01T12:00:00+02:00", "86400", "2000-01-02T12:00:00+02:00"),
            ("1970-01-01", "1e12", ""),
            ("1970-01-01", "0.0000000001", ""),
        ] {
            let found = instant(since).unwrap().later(Decimal::parse(seconds.as_bytes()).unwrap());
            assert_eq!(found.map(|found| found.to_string()).unwrap_or_default(), wanted, "{seconds} since {since}");
        }
    }
}
