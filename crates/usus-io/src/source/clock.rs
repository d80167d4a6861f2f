//! The time at which something arrives.

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use usus::{Span, Time};

/// The wall clock is set by small amounts all the time; only more than this is told as a step.
const STEP: i64 = 100_000_000;

/// The system's wall clock, but it never runs backwards: where the wall clock is put back, this one goes on at its own pace; where it is
/// put forward, it follows. All clones are the same clock, so that what is received on several lines can be compared.
#[derive(Clone)]
pub struct Clock(Arc<Hands>);

struct Hands {
    read: Box<dyn Fn() -> Hand + Send + Sync>,
    /// Most that the wall clock was ever ahead of the steady one, in nanoseconds.
    ahead: AtomicI64,
    /// How much it was when steps were last asked for.
    told: AtomicI64,
}

/// The two clocks of a system at one moment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Hand {
    /// Nanoseconds of a clock that is never set.
    pub steady: i64,
    /// Nanoseconds since 1970 of the one that may be.
    pub wall: i64,
}

impl Default for Clock {
    fn default() -> Clock {
        Clock::system()
    }
}

impl fmt::Debug for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Clock({})", self.now())
    }
}

impl Clock {
    /// The system's.
    pub fn system() -> Clock {
        let begun = Instant::now();
        Clock::reading(move || Hand {
            steady: begun.elapsed().as_nanos() as i64,
            wall: SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_nanos() as i64),
        })
    }

    /// One of which `read` reads the hands.
    pub fn reading(read: impl Fn() -> Hand + Send + Sync + 'static) -> Clock {
        let hand = read();
        let ahead = hand.wall - hand.steady;
        Clock(Arc::new(Hands { read: Box::new(read), ahead: AtomicI64::new(ahead), told: AtomicI64::new(ahead) }))
    }

    /// What time it is.
    pub fn now(&self) -> Time {
        let hand = (self.0.read)();
        let ahead = hand.wall - hand.steady;
        let before = self.0.ahead.fetch_max(ahead, Ordering::Relaxed);
        Time::from_nanoseconds(before.max(ahead) + hand.steady)
    }

    /// By how much the wall clock was put forward (or, negative, back) since this was last asked, if that is worth telling.
    pub fn step(&self) -> Option<Span> {
        let hand = (self.0.read)();
        let ahead = hand.wall - hand.steady;
        let step = ahead - self.0.told.load(Ordering::Relaxed);
        (step.abs() >= STEP).then(|| {
            self.0.told.store(ahead, Ordering::Relaxed);
            Span::from_nanoseconds(step)
        })
    }
}

/// A step in words, as it is noted in a recording.
pub(crate) fn step_text(step: Span) -> String {
    let seconds = Duration::from_nanos(step.nanoseconds().unsigned_abs()).as_secs_f64();
    match step.nanoseconds() < 0 {
        true => format!("the wall clock was put back by {seconds:.3} s; times here go on as if it had not been"),
        false => format!("the wall clock was put forward by {seconds:.3} s, and times here with it"),
    }
}
