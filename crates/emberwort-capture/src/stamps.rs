//! Times as people and programs write them into logs.

use jiff::civil::{DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp, Unit};

/// Reads one time after the other: where they have no date, it goes back at midnight alone.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stamps {
    /// The last time of day, and the days that went by since the first.
    last: Option<i64>,
    days: i64,
}

const DAY: i64 = 86_400_000_000_000;

impl Stamps {
    /// Nanoseconds since 1970, of times without a date since the midnight before the first of them; `None` if that is before 1970, or too late.
    pub fn nanoseconds(&mut self, stamp: Stamp) -> Option<u64> {
        match stamp {
            Stamp::At(time) => u64::try_from(time.as_nanosecond()).ok(),
            Stamp::OfDay(time) => {
                let of_day = time.since(Time::midnight()).ok()?.total(Unit::Nanosecond).ok()? as i64;
                // The time of day goes back at midnight alone.
                if self.last.is_some_and(|last| last - of_day > DAY / 2) {
                    self.days += 1;
                }
                self.last = Some(of_day);
                u64::try_from(self.days * DAY + of_day).ok()
            }
            Stamp::Seconds(span) => u64::try_from(span.total(Unit::Nanosecond).ok()? as i64).ok(),
        }
    }
}

/// A time, as far as it was written.
pub(crate) enum Stamp {
    /// With a date; without a zone it is UTC.
    At(Timestamp),
    /// Time of day.
    OfDay(Time),
    /// Seconds since something.
    Seconds(Span),
}

/// The time that a text says: a date with a time of day, that alone, or seconds with a point.
pub fn parsed(text: &str) -> Option<Stamp> {
    let text = &text.replace(',', ".");
    let is_digit = |at: usize| text.as_bytes().get(at).is_some_and(u8::is_ascii_digit);
    let colons = text.matches(':').count();
    if text.contains('-') && colons >= 1 {
        let text = text.replacen(' ', "T", 1);
        let zoned = text.parse::<Timestamp>().ok();
        let plain = || text.parse::<DateTime>().ok()?.to_zoned(TimeZone::UTC).ok().map(|time| time.timestamp());
        return zoned.or_else(plain).map(Stamp::At);
    }
    if colons == 2 && text.find(':') == Some(2) && is_digit(0) {
        return text.parse::<Time>().ok().map(Stamp::OfDay);
    }
    // Seconds with a point: whole numbers are bytes.
    let (whole, part) = text.split_once('.')?;
    let digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    if !digits(whole) || !digits(part) || whole.len() > 10 {
        return None;
    }
    let nanoseconds: i64 = format!("{part:0<9.9}").parse().ok()?;
    Some(Stamp::Seconds(Span::new().try_seconds(whole.parse::<i64>().ok()?).ok()?.try_nanoseconds(nanoseconds).ok()?))
}
