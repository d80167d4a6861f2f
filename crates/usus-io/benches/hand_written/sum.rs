//! A checksum over values: cheap, and different if one value is.

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sum(u64);

impl Sum {
    pub fn value(self) -> u64 {
        self.0
    }

    /// The product does not wait for the value before.
    #[inline]
    fn mix(&mut self, value: u64) {
        self.0 = self.0.rotate_left(23) ^ value.wrapping_mul(0x9E37_79B9_7F4A_7C15);
    }

    #[inline]
    pub fn number(&mut self, value: i64) {
        self.mix(value as u64);
    }

    #[inline]
    pub fn absent(&mut self) {
        self.mix(0x00AB_5E17);
    }

    /// Length, first and last byte.
    #[inline]
    pub fn text(&mut self, text: &[u8]) {
        match text {
            [] => self.mix(0),
            [first, ..] => {
                self.mix((text.len() as u64) << 16 | u64::from(*first) << 8 | u64::from(text[text.len() - 1]))
            }
        }
    }

    #[inline]
    pub fn date(&mut self, year: i16, month: u8, day: u8) {
        self.mix(year as u64 * 10_000 + u64::from(month) * 100 + u64::from(day));
    }

    #[inline]
    pub fn clock(&mut self, hour: u8, minute: u8, second: u8, nanosecond: u32) {
        let seconds = (u64::from(hour) * 60 + u64::from(minute)) * 60 + u64::from(second);
        self.mix(seconds << 32 | u64::from(nanosecond));
    }
}
