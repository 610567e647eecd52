//! How a workstation stands.

/// A point is overdue when it is older than this many times the rhythm.
const TOLERANCE: i64 = 3;
/// No workstation is overdue before this age, however tight its rhythm: machines are off at night and at weekends.
const AT_LEAST_MS: i64 = 72 * 3600 * 1000;
/// A run of which nothing was heard for this long is lost.
const SILENCE_MS: i64 = 10 * 60 * 1000;

/// Failing runs raise an alert once the last complete point is older than this: a single failure is no reason for one.
const FAILING_MS: i64 = 24 * 3600 * 1000;
/// A machine that joined this long ago and has no point yet needs somebody to look.
const FIRST_POINT_MS: i64 = 7 * 24 * 3600 * 1000;

/// How a workstation stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Freshness {
    /// No complete point yet.
    FirstPointAwaited,
    /// The last complete point is young enough.
    Current,
    /// The last complete point is too old.
    Overdue,
}

/// How a workstation stands whose last complete point was made at `last_point_ms` and that is to be backed up
/// every `rhythm_seconds`.
#[must_use]
pub fn freshness(last_point_ms: Option<i64>, rhythm_seconds: u64, now_ms: i64) -> Freshness {
    let Some(last) = last_point_ms else { return Freshness::FirstPointAwaited };
    let rhythm_ms = i64::try_from(rhythm_seconds).unwrap_or(i64::MAX).saturating_mul(1000);
    let allowed = rhythm_ms.saturating_mul(TOLERANCE).max(AT_LEAST_MS);
    if now_ms.saturating_sub(last) > allowed { Freshness::Overdue } else { Freshness::Current }
}

/// Whether a workstation whose latest run failed needs attention. Times are Unix milliseconds.
#[must_use]
pub fn is_failing(last_point_ms: Option<i64>, latest_run_failed: bool, now_ms: i64) -> bool {
    latest_run_failed && last_point_ms.is_none_or(|last| now_ms.saturating_sub(last) > FAILING_MS)
}

/// Whether a workstation has been without a first point for too long.
#[must_use]
pub fn lacks_first_point(last_point_ms: Option<i64>, enrolled_ms: i64, now_ms: i64) -> bool {
    last_point_ms.is_none() && now_ms.saturating_sub(enrolled_ms) > FIRST_POINT_MS
}

/// Whether a run or restore that last reported at `last_heard_ms` is lost.
#[must_use]
pub fn is_lost(last_heard_ms: i64, now_ms: i64) -> bool {
    now_ms.saturating_sub(last_heard_ms) > SILENCE_MS
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 3600 * 1000;

    #[test]
    fn a_weekend_off_is_not_overdue_but_a_week_is() {
        assert_eq!(freshness(None, 3600, 0), Freshness::FirstPointAwaited);
        assert_eq!(freshness(Some(0), 3600, 72 * HOUR), Freshness::Current);
        assert_eq!(freshness(Some(0), 3600, 72 * HOUR + 1), Freshness::Overdue);
        assert_eq!(freshness(Some(0), 7 * 86_400, 20 * 24 * HOUR), Freshness::Current);
    }

    #[test]
    fn a_point_from_the_future_is_current() {
        assert_eq!(freshness(Some(100 * HOUR), 3600, 0), Freshness::Current);
    }

    #[test]
    fn runs_that_fail_for_a_day_and_a_first_point_that_does_not_come_need_attention() {
        assert!(!is_failing(Some(0), true, 24 * HOUR) && is_failing(Some(0), true, 24 * HOUR + 1));
        assert!(!is_failing(Some(0), false, 1000 * HOUR) && is_failing(None, true, 0));
        assert!(!lacks_first_point(None, 0, 168 * HOUR) && lacks_first_point(None, 0, 168 * HOUR + 1));
        assert!(!lacks_first_point(Some(0), 0, 1000 * HOUR));
    }

    #[test]
    fn silence_loses_a_run() {
        assert!(!is_lost(0, SILENCE_MS));
        assert!(is_lost(0, SILENCE_MS + 1));
    }
}
