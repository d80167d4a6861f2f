//! Points in time and spans of it. The core has no clock: every time comes from the caller.

use core::fmt;

/// A point in time: nanoseconds since 1970-01-01 00:00:00 UTC, without leap seconds. It reaches from 1677 to 2262.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Time(i64);

impl Time {
    /// The time so many nanoseconds after the epoch.
    pub const fn from_nanoseconds(nanoseconds: i64) -> Time {
        Time(nanoseconds)
    }

    /// Reads a point in time in ISO 8601 with its offset from UTC, such as what `Display` shows.
    pub fn parse(text: &str) -> Option<Time> {
        let written = text.parse::<jiff::Timestamp>().ok()?;
        i64::try_from(written.as_nanosecond()).ok().map(Time)
    }

    /// Nanoseconds since the epoch.
    pub const fn nanoseconds(self) -> i64 {
        self.0
    }

    /// The time `span` later; it stays at the end of the range rather than wrap.
    #[must_use]
    pub const fn after(self, span: Span) -> Time {
        Time(self.0.saturating_add(span.0))
    }

    /// How long after `earlier` this is; negative if it is before.
    pub const fn since(self, earlier: Time) -> Span {
        Span(self.0.saturating_sub(earlier.0))
    }
}

impl fmt::Display for Time {
    /// ISO 8601 in UTC with nine digits of a second: `2026-11-25T06:00:00.000000000Z`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let seconds = self.0.div_euclid(1_000_000_000);
        let nanoseconds = self.0.rem_euclid(1_000_000_000);
        let days = seconds.div_euclid(86_400);
        let of_day = seconds.rem_euclid(86_400);
        let (year, month, day) = civil_from_days(days);
        write!(
            f,
            "{year:04}-{month:02}-{day:02}T{:02}:{:02}:{:02}.{nanoseconds:09}Z",
            of_day / 3_600,
            of_day / 60 % 60,
            of_day % 60
        )
    }
}

/// The civil date (proleptic Gregorian) of a day counted from 1970-01-01.
///
/// Counts in eras of 400 years that begin in March, so that the leap day is the last day of its year.
fn civil_from_days(days: i64) -> (i64, i64, i64) {
    let shifted = days + 719_468;
    let era = shifted.div_euclid(146_097);
    let of_era = shifted.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let from_march = (5 * of_year + 2) / 153;
    let day = of_year - (153 * from_march + 2) / 5 + 1;
    let month = if from_march < 10 { from_march + 3 } else { from_march - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    (year, month, day)
}

/// A length of time in nanoseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span(i64);

impl Span {
    /// A span of so many nanoseconds.
    pub const fn from_nanoseconds(nanoseconds: i64) -> Span {
        Span(nanoseconds)
    }

    /// Its nanoseconds.
    pub const fn nanoseconds(self) -> i64 {
        self.0
    }
}

impl core::fmt::Display for Span {
    /// As in format files, in the largest unit in which it is a whole number: `10 s`, `250 ms`, `0.500 us`.
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        match self.0 {
            whole if whole % 1_000_000_000 == 0 => write!(f, "{} s", whole / 1_000_000_000),
            whole if whole % 1_000_000 == 0 => write!(f, "{} ms", whole / 1_000_000),
            whole => write!(f, "{}.{:03} us", whole / 1_000, (whole % 1_000).unsigned_abs()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::string::ToString;

    #[test]
    fn times_print_as_iso_8601() {
        for (nanoseconds, text) in [
            (0, "1970-01-01T00:00:00.000000000Z"),
            (-1, "1969-12-31T23:59:59.999999999Z"),
            (951_782_400_000_000_000, "2000-02-29T00:00:00.000000000Z"),
            (1_795_651_199_123_456_789, "2026-11-25T23:59:59.123456789Z"),
            (i64::MAX, "2262-04-11T23:47:16.854775807Z"),
            (i64::MIN, "1677-09-21T00:12:43.145224192Z"),
        ] {
            assert_eq!(Time::from_nanoseconds(nanoseconds).to_string(), text);
        }
    }
}
