//! The time at which something arrives.

use std::time::{Instant, SystemTime, UNIX_EPOCH};

use usus::Time;

/// The system's wall clock, but it never runs backwards: where the wall clock is put back, this one goes on at its own pace.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Clock {
    begun: Instant,
    /// What the wall clock showed when it began, in nanoseconds; more, once the wall clock was put forward.
    offset: i64,
}

impl Clock {
    pub(crate) fn new() -> Clock {
        Clock { begun: Instant::now(), offset: i64::MIN }
    }

    pub(crate) fn now(&mut self) -> Time {
        let passed = self.begun.elapsed().as_nanos() as i64;
        let wall = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_nanos() as i64);
        self.offset = self.offset.max(wall - passed);
        Time::from_nanoseconds(self.offset + passed)
    }
}
