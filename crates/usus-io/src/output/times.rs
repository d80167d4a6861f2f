//! How times of arrival are shown.

use usus::Time;

/// A time zone: UTC, or one with a name.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Zone(Option<jiff::tz::TimeZone>);

impl Zone {
    /// UTC.
    pub const UTC: Zone = Zone(None);

    /// The zone of a name of the IANA time zone database, which is in this program: `Europe/Zurich`. `UTC` is one, too.
    #[cfg(feature = "zones")]
    pub fn named(name: &str) -> Option<Zone> {
        if name == "UTC" {
            return Some(Zone::UTC);
        }
        jiff::tz::TimeZone::get(name).ok().map(|zone| Zone(Some(zone)))
    }

    /// Its name.
    pub fn name(&self) -> &str {
        self.0.as_ref().and_then(|zone| zone.iana_name()).unwrap_or("UTC")
    }

    /// Seconds by which its clocks are ahead of UTC at a time.
    fn offset(&self, time: Time) -> i32 {
        let Some(zone) = &self.0 else { return 0 };
        let seconds = time.nanoseconds().div_euclid(1_000_000_000);
        jiff::Timestamp::from_second(seconds).map_or(0, |time| zone.to_offset(time).seconds())
    }

    /// The time that its clocks show, as if that was UTC.
    pub(super) fn local(&self, time: Time) -> Time {
        Time::from_nanoseconds(time.nanoseconds().saturating_add(i64::from(self.offset(time)) * 1_000_000_000))
    }
}

/// How times of arrival are shown.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct TimeStyle {
    /// Digits of a second, at most nine; nothing for as many as the output usually shows. The rest is cut off.
    pub digits: Option<u8>,
    /// The zone whose clocks show them.
    pub zone: Zone,
    /// As spreadsheets read them: `2026-11-25 06:00:00.123`, without the offset from UTC.
    pub sheet: bool,
}

impl TimeStyle {
    /// A time as text, with so many digits of a second where no others are asked for.
    pub(super) fn text(&self, time: Time, usual: usize) -> String {
        let digits = self.digits.map_or(usual, usize::from);
        let mut text = received_text(self.zone.local(time), digits);
        if self.sheet {
            return text.replace('T', " ").trim_end_matches('Z').to_owned();
        }
        if self.zone != Zone::UTC {
            let offset = self.zone.offset(time);
            let (sign, ahead) = (if offset < 0 { '-' } else { '+' }, offset.abs() / 60);
            text.pop();
            text.push_str(&format!("{sign}{:02}:{:02}", ahead / 60, ahead % 60));
        }
        text
    }
}

/// A time as outputs show it: ISO 8601 in UTC with so many digits of a second, at most nine; the rest is cut off.
pub fn received_text(time: Time, digits: usize) -> String {
    let mut text = time.to_string();
    // "….123456789Z": the point and the unwanted digits stand before the Z.
    text.truncate(text.len() - 1 - (9 - digits.min(9)));
    if digits == 0 {
        text.pop();
    }
    text.push('Z');
    text
}
