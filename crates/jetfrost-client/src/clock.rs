//! This machine's clock.

use std::time::{SystemTime, UNIX_EPOCH};

use jiff::Zoned;

/// Seconds since 1970; 0 on a machine whose clock stands before that.
pub(crate) fn unix_now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs().cast_signed())
}

/// The minute of the day, by the machine's local time.
pub(crate) fn minute_of_day() -> u16 {
    let now = Zoned::now();
    u16::from(now.hour().unsigned_abs()) * 60 + u16::from(now.minute().unsigned_abs())
}
