//! How a table shows moments: as a time of day in UTC or another zone, or as seconds since the row before or since a moment.

use emberwort_model::diagnostics::escaped;
use emberwort_wire::Time;
use jiff::Timestamp;
use jiff::tz::{Offset, TimeZone};
use thiserror::Error;

/// How moments are shown.
#[derive(Clone, Debug, Default)]
pub enum ShownTimes {
    /// The time of day in UTC.
    #[default]
    Utc,
    /// The time of day in a zone.
    Zone(Zone),
    /// Seconds since the row before.
    Before,
    /// Seconds since a moment.
    Since(Time),
    /// Seconds since the beginning of a waveform: when the first bit began, and when the last one ended.
    Wave,
}

/// Width of a moment of a waveform.
const WAVE_TIME: usize = 12;

/// A time zone, with its name.
#[derive(Clone, Debug)]
pub struct Zone {
    zone: TimeZone,
    name: String,
}

impl Zone {
    /// A zone by its name in the time zone database, or by an offset: `+02:00`.
    ///
    /// # Errors
    /// If there is no such zone.
    pub fn new(name: &str) -> Result<Self, UnknownZone> {
        let zone = match offset(name) {
            Some(offset) => TimeZone::fixed(offset),
            None => TimeZone::get(name).map_err(|_| UnknownZone { name: name.to_owned() })?,
        };
        Ok(Self { zone, name: name.to_owned() })
    }
}

/// There is no such time zone.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("there is no time zone `{}`; write it as in the time zone database, or as an offset: +02:00", escaped(.name))]
pub struct UnknownZone {
    /// What was asked for.
    pub name: String,
}

fn offset(text: &str) -> Option<Offset> {
    let (sign, digits) = match text.split_at_checked(1)? {
        ("+", digits) => (1, digits),
        ("-", digits) => (-1, digits),
        _ => return None,
    };
    let (hours, minutes) = digits.split_once(':').unwrap_or((digits, "0"));
    let (hours, minutes): (i32, i32) = (hours.parse().ok()?, minutes.parse().ok()?);
    (hours <= 14 && minutes < 60).then(|| Offset::from_seconds(sign * (hours * 3600 + minutes * 60)).ok())?
}

impl ShownTimes {
    /// The title of the column.
    pub fn title(&self) -> String {
        match self {
            Self::Utc => "TIME (UTC)".to_owned(),
            Self::Zone(Zone { name, .. }) => {
                let short: String = name.rsplit('/').next().unwrap_or(name).chars().take(9).collect();
                format!("TIME ({short})")
            }
            Self::Before => "AFTER THE LAST".to_owned(),
            Self::Since(_) => "SECONDS".to_owned(),
            Self::Wave => format!("{:<WAVE_TIME$} ENDS", "BEGINS"),
        }
    }

    /// The moment whose time of day in UTC is the one in the zone that is shown; `None` where seconds are shown.
    pub fn of_day(&self, time: Time) -> Option<Time> {
        match self {
            Self::Utc => Some(time),
            Self::Zone(Zone { zone, .. }) => {
                let at = Timestamp::from_nanosecond(i128::from(time.nanoseconds())).ok()?;
                let shift = i64::from(zone.to_offset(at).seconds()) * 1_000_000_000;
                Some(Time::from_nanoseconds(time.nanoseconds().saturating_add_signed(shift)))
            }
            Self::Before | Self::Since(_) | Self::Wave => None,
        }
    }

    /// The width of the column.
    pub fn width(&self) -> usize {
        if matches!(self, Self::Wave) { 2 * WAVE_TIME + 1 } else { 16 }
    }

    /// What stands in the column where it holds seconds: of something that began and ended, given the moment of the row before.
    pub fn text(&self, began: Option<Time>, ended: Time, before: Option<Time>) -> String {
        let end = self.seconds(ended, before);
        match self {
            Self::Wave => {
                let start = began.map_or_else(String::new, |began| self.seconds(began, None));
                format!("{start:<WAVE_TIME$} {end:<WAVE_TIME$}")
            }
            _ => end,
        }
    }

    /// The seconds that are shown, given the moment of the row before.
    fn seconds(&self, time: Time, before: Option<Time>) -> String {
        let since = match self {
            Self::Since(since) => *since,
            Self::Wave => Time::default(),
            _ => before.unwrap_or(time),
        };
        let (sign, nanoseconds) = match time.nanoseconds().checked_sub(since.nanoseconds()) {
            Some(nanoseconds) => ("+", nanoseconds),
            None => ("-", since.nanoseconds() - time.nanoseconds()),
        };
        format!("{sign}{}.{:06}", nanoseconds / 1_000_000_000, nanoseconds / 1000 % 1_000_000)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn offsets_and_seconds_are_written_as_people_do() {
        assert_eq!(offset("+02:30").map(Offset::seconds), Some(9000));
        assert_eq!(offset("-5").map(Offset::seconds), Some(-18_000));
        assert_eq!(offset("UTC"), None);
        let at = |nanoseconds| Time::from_nanoseconds(nanoseconds);
        assert_eq!(ShownTimes::Before.seconds(at(1_250_000_000), Some(at(1_000_000_000))), "+0.250000");
        assert_eq!(ShownTimes::Since(at(3_000_000_000)).seconds(at(1_999_999_000), None), "-1.000001");
    }
}
