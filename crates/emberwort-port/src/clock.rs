//! The clock: moments of the day that never go back.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use emberwort_wire::Time;

/// Tells the time. Whatever becomes of the system's clock later, moments of one `Clock` follow each other as they pass.
#[derive(Clone, Copy, Debug)]
pub struct Clock {
    began: Instant,
    time: Time,
}

impl Default for Clock {
    fn default() -> Self {
        Self::new()
    }
}

impl Clock {
    /// A clock that starts with the system's time.
    pub fn new() -> Self {
        let since_1970 = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        Self { began: Instant::now(), time: Time::from_nanoseconds(nanoseconds(since_1970)) }
    }

    /// Now.
    pub fn now(&self) -> Time {
        self.time.after(nanoseconds(self.began.elapsed()))
    }

    /// How long it is until a moment; nothing, if that has passed.
    pub fn until(&self, moment: Time) -> Duration {
        Duration::from_nanos(moment.since(self.now()))
    }
}

/// A duration in nanoseconds; the longest that 64 bits can say, if it is longer.
fn nanoseconds(duration: Duration) -> u64 {
    u64::try_from(duration.as_nanos()).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_follow_each_other() {
        let clock = Clock::new();
        let first = clock.now();
        std::thread::sleep(Duration::from_millis(2));
        let second = clock.now();
        assert!(second.since(first) >= 2_000_000);
        assert_eq!(clock.until(first), Duration::ZERO);
        let left = clock.until(clock.now().after(50_000_000));
        assert!(left > Duration::from_millis(20) && left <= Duration::from_millis(50), "{left:?}");
    }
}
