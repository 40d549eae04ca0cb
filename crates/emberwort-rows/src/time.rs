//! Times as text: RFC 3339 for machines, time of day for people, durations with a fitting unit.

use std::fmt::Write;

use emberwort_wire::Time;
use jiff::Timestamp;

pub use emberwort_model::budget::duration_text as duration;

const SECOND: u64 = 1_000_000_000;
const MINUTE: u64 = 60 * SECOND;
const HOUR: u64 = 60 * MINUTE;

/// RFC 3339 in UTC with nanoseconds: `2031-03-09T02:10:00.200000000Z`.
pub fn rfc3339(time: Time) -> String {
    let mut text = String::new();
    Calendar::default().write_rfc3339(time, &mut text);
    text
}

/// Dates of one moment after the other, worked out only where they change.
#[derive(Clone, Debug, Default)]
pub(crate) struct Calendar {
    /// The date that was asked for last, with its number of days since 1970-01-01.
    last: Option<(u64, String)>,
}

impl Calendar {
    /// The date of a moment, in UTC: `2031-03-09`.
    pub fn date(&mut self, time: Time) -> &str {
        let nanoseconds = time.nanoseconds();
        let day = nanoseconds / (24 * HOUR);
        if self.last.as_ref().is_none_or(|(last, _)| *last != day) {
            // All moments of 64 bits lie before the year 2555.
            let time = Timestamp::from_nanosecond(i128::from(nanoseconds)).unwrap_or_default();
            self.last = Some((day, time.to_string().chars().take(10).collect()));
        }
        self.last.as_ref().map_or("", |(_, date)| date.as_str())
    }

    /// Writes a moment as [`rfc3339`] gives it.
    pub(crate) fn write_rfc3339(&mut self, time: Time, out: &mut impl Write) {
        // Writing to memory cannot fail.
        let _ = out.write_str(self.date(time));
        let _ = out.write_char('T');
        write_time_of_day(time, 9, out);
        let _ = out.write_char('Z');
    }
}

/// Writes the time of day, in UTC, with so many decimals: `02:10:00.200000`.
///
/// # Panics
/// If there are more than nine decimals.
pub fn write_time_of_day(time: Time, decimals: usize, out: &mut impl Write) {
    let nanoseconds = time.nanoseconds();
    let seconds = (nanoseconds / SECOND % 86_400) as u32;
    let mut text = *b"00:00:00.000000000";
    for (at, number) in [(0, seconds / 3600), (3, seconds / 60 % 60), (6, seconds % 60)] {
        digits(number, &mut text[at..at + 2]);
    }
    digits((nanoseconds % SECOND) as u32, &mut text[9..]);
    // Writing to memory cannot fail.
    let _ = out.write_str(std::str::from_utf8(&text[..9 + decimals]).unwrap_or_default());
}

/// The last digits of a number, as many as there is room for.
fn digits(mut number: u32, room: &mut [u8]) {
    for place in room.iter_mut().rev() {
        *place = b'0' + (number % 10) as u8;
        number /= 10;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_utc() {
        let time = Time::from_nanoseconds(1_930_788_600_200_000_000);
        assert_eq!(rfc3339(time), "2031-03-09T02:10:00.200000000Z");
        let mut text = String::new();
        write_time_of_day(time, 6, &mut text);
        assert_eq!(text, "02:10:00.200000");
    }

    /// The library's own words, at the ends of days, years and what 64 bits hold.
    #[test]
    fn moments_are_written_as_the_calendar_has_them() {
        let mut calendar = Calendar::default();
        let days = [0, 1, 58, 59, 365, 789, 11_016, 19_782, 19_783, 22_347, 47_482, 213_502];
        for day in days.into_iter().chain([0]) {
            for into in [0, 1, 999_999_999, 59 * MINUTE, 23 * HOUR + 59 * MINUTE + 59 * SECOND + 7] {
                let moment = day * 24 * HOUR + into;
                let mut text = String::new();
                calendar.write_rfc3339(Time::from_nanoseconds(moment), &mut text);
                assert_eq!(text, format!("{:.9}", Timestamp::from_nanosecond(i128::from(moment)).unwrap()));
            }
        }
    }
}
