//! Times as text: RFC 3339 for machines, time of day for people, durations with a fitting unit.

use jiff::Timestamp;

const SECOND: u64 = 1_000_000_000;
const MINUTE: u64 = 60 * SECOND;
const HOUR: u64 = 60 * MINUTE;

/// RFC 3339 in UTC with nanoseconds: `2031-03-09T02:10:00.200000000Z`.
pub fn rfc3339(nanoseconds: u64) -> String {
    match Timestamp::from_nanosecond(i128::from(nanoseconds)) {
        Ok(time) => format!("{time:.9}"),
        Err(_) => format!("{nanoseconds} ns"),
    }
}

/// The day, in UTC: `2031-03-09`.
pub fn day(nanoseconds: u64) -> String {
    rfc3339(nanoseconds).chars().take(10).collect()
}

/// The time of day, in UTC, with microseconds: `02:10:00.200000`.
pub fn time_of_day(nanoseconds: u64) -> String {
    let seconds = nanoseconds / SECOND % 86_400;
    let micros = nanoseconds % SECOND / 1000;
    format!("{:02}:{:02}:{:02}.{micros:06}", seconds / 3600, seconds / 60 % 60, seconds % 60)
}

/// A duration: `50 ms`, `2.5 s`.
pub fn duration(nanoseconds: u64) -> String {
    let (unit, name) = match nanoseconds {
        0 => return "0 s".into(),
        n if n >= 2 * HOUR && n % HOUR == 0 => (HOUR, "h"),
        n if n >= 2 * MINUTE && n % MINUTE == 0 => (MINUTE, "min"),
        n if n >= SECOND => (SECOND, "s"),
        n if n >= 1_000_000 => (1_000_000, "ms"),
        n if n >= 1000 => (1000, "us"),
        _ => (1, "ns"),
    };
    let mut text = format!("{}.{:03}", nanoseconds / unit, u128::from(nanoseconds % unit) * 1000 / u128::from(unit));
    while text.ends_with('0') {
        text.pop();
    }
    format!("{} {name}", text.trim_end_matches('.'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_have_fitting_units() {
        assert_eq!(duration(50_000_000), "50 ms");
        assert_eq!(duration(2_500_000_000), "2.5 s");
        assert_eq!(duration(86_806), "86.806 us");
        assert_eq!(duration(7), "7 ns");
        assert_eq!((duration(600 * SECOND), duration(86_400 * SECOND)), ("10 min".into(), "24 h".into()));
    }

    #[test]
    fn times_are_utc() {
        assert_eq!(rfc3339(1_930_788_600_200_000_000), "2031-03-09T02:10:00.200000000Z");
        assert_eq!(time_of_day(1_930_788_600_200_000_000), "02:10:00.200000");
    }
}
