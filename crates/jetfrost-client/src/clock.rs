//! This machine's clock.

use std::time::{SystemTime, UNIX_EPOCH};

/// Seconds since 1970; 0 on a machine whose clock stands before that.
pub(crate) fn unix_now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs().cast_signed())
}
