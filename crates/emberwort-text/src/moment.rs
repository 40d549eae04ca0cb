//! Moments as text: RFC 3339.

use std::fmt::{self, Write};

use jiff::Timestamp;

/// Writes a moment as RFC 3339.
///
/// # Errors
/// Those of the writer.
pub(crate) fn write_time(milliseconds: bool, raw: u64, out: &mut (impl Write + ?Sized)) -> fmt::Result {
    let moment = match i64::try_from(raw) {
        Ok(raw) if milliseconds => Timestamp::from_millisecond(raw).ok(),
        Ok(raw) => Timestamp::from_second(raw).ok(),
        Err(_) => None,
    };
    match moment {
        Some(moment) if milliseconds => write!(out, "{moment:.3}"),
        Some(moment) => write!(out, "{moment}"),
        None => write!(out, "{raw}"),
    }
}
