//! Points in time, as they are typed.

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::failure::Failure;

/// A moment, or a duration from now.
pub(crate) fn moment_of(text: &str) -> Result<Timestamp, Failure> {
    let wrong = || {
        Failure::here(
            format!("'{text}' is neither a moment nor a duration."),
            "Give for example 2026-11-24T06:00, or 2h, or 30m.",
        )
    };
    if let Ok(span) = text.parse::<jiff::SignedDuration>() {
        return Timestamp::now().checked_add(span).map_err(|_| wrong());
    }
    let civil: jiff::civil::DateTime = text.parse().map_err(|_| wrong())?;
    civil.to_zoned(TimeZone::system()).map(|zoned| zoned.timestamp()).map_err(|_| wrong())
}
