//! When the service's own records are copied, and when a copy is too old to rely on.

const MINUTE_MS: i64 = 60 * 1000;
/// A copy is made at least this often.
const DAILY_MS: i64 = 24 * 60 * MINUTE_MS;
/// After an important change a copy is made, but not more often than this.
const AT_MOST_EVERY_MS: i64 = 5 * MINUTE_MS;
/// A copy older than this protects no more: two in a row failed.
const YOUNG_MS: i64 = 2 * DAILY_MS + 60 * MINUTE_MS;

/// What is known of a destination's copies. Times are milliseconds since 1970.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct CopyFacts {
    /// When the youngest copy was made.
    pub copied: Option<i64>,
    /// When something important was last changed.
    pub changed: Option<i64>,
}

/// Whether a copy is due.
#[must_use]
pub fn is_due(facts: &CopyFacts, now_ms: i64) -> bool {
    let Some(copied) = facts.copied else { return true };
    let age = now_ms.saturating_sub(copied);
    // A copy from the future says that the clock was set back.
    let changed_since = facts.changed.is_some_and(|changed| changed >= copied);
    !(0..DAILY_MS).contains(&age) || (changed_since && age >= AT_MOST_EVERY_MS)
}

/// Whether a copy that was made at `copied_ms` can be relied on.
#[must_use]
pub fn is_young(copied_ms: i64, now_ms: i64) -> bool {
    now_ms.saturating_sub(copied_ms) <= YOUNG_MS
}

#[cfg(test)]
mod tests {
    use super::*;

    fn due(copied: Option<i64>, changed: Option<i64>, now: i64) -> bool {
        is_due(&CopyFacts { copied, changed }, now)
    }

    #[test]
    fn a_copy_is_made_daily_and_soon_after_a_change() {
        assert!(due(None, None, 0));
        assert!(!due(Some(0), None, DAILY_MS - 1) && due(Some(0), None, DAILY_MS));
        assert!(!due(Some(10), Some(5), DAILY_MS - 1), "the change is in the copy");
        assert!(!due(Some(10), Some(11), 10 + AT_MOST_EVERY_MS - 1));
        assert!(due(Some(10), Some(11), 10 + AT_MOST_EVERY_MS));
    }

    #[test]
    fn a_clock_that_was_set_back_stops_no_copies() {
        assert!(due(Some(1000), None, 999));
    }

    #[test]
    fn one_failed_copy_is_no_alarm_but_two_are() {
        assert!(is_young(0, 2 * DAILY_MS) && !is_young(0, 3 * DAILY_MS));
    }
}
