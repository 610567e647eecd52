//! How a workstation stands.

use jetfrost_types::{DelayReason, DrillDays, Rhythm};

/// A point is overdue when it is older than this many times the rhythm.
const TOLERANCE: i64 = 3;
/// No workstation is overdue before this age, however tight its rhythm: machines are off at night and at weekends.
const AT_LEAST_MS: i64 = 72 * 3600 * 1000;
const DAY_MS: i64 = 24 * 3600 * 1000;
/// A run of which nothing was heard for this long is lost.
const SILENCE_MS: i64 = 10 * 60 * 1000;

/// So many failures in a row raise an alert: a single one is no reason for it.
const FAILURES: u64 = 2;
/// What ends by itself, such as running on battery, may keep a backup waiting for this long.
const PATIENCE_MS: i64 = 3 * 24 * 3600 * 1000;

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

/// How a workstation stands whose last complete point was made at `last_point_ms` and that is to be backed up by `rhythm`.
#[must_use]
pub fn freshness(last_point_ms: Option<i64>, rhythm: Rhythm, now_ms: i64) -> Freshness {
    let Some(last) = last_point_ms else { return Freshness::FirstPointAwaited };
    if now_ms.saturating_sub(last) > tolerance_ms(rhythm) { Freshness::Overdue } else { Freshness::Current }
}

/// From when on a workstation is overdue whose last complete point was made at `last_point_ms`.
#[must_use]
pub fn overdue_at(last_point_ms: i64, rhythm: Rhythm) -> i64 {
    last_point_ms.saturating_add(tolerance_ms(rhythm))
}

/// How old the last complete point may be.
fn tolerance_ms(rhythm: Rhythm) -> i64 {
    rhythm_ms(rhythm).saturating_mul(TOLERANCE).max(AT_LEAST_MS)
}

fn rhythm_ms(rhythm: Rhythm) -> i64 {
    i64::from(rhythm.seconds()) * 1000
}

/// Whether a workstation needs attention of which so many runs failed since the last complete one.
#[must_use]
pub fn is_failing(failures: u64) -> bool {
    failures >= FAILURES
}

/// Whether a workstation has been without a first point for too long.
#[must_use]
pub fn lacks_first_point(last_point_ms: Option<i64>, rhythm: Rhythm, enrolled_ms: i64, now_ms: i64) -> bool {
    last_point_ms.is_none() && now_ms.saturating_sub(enrolled_ms) > tolerance_ms(rhythm)
}

/// Whether what has been in the way of a backup since `since_ms` needs attention. What somebody has to end does when the second
/// backup in a row does not happen because of it; what ends by itself, or was wanted, does after three days.
#[must_use]
pub fn is_kept_waiting(reason: DelayReason, rhythm: Rhythm, since_ms: i64, now_ms: i64) -> bool {
    let patience = match reason {
        DelayReason::ClockImplausible
        | DelayReason::LimitReached
        | DelayReason::DestinationUnavailable
        | DelayReason::PassphraseNeeded
        | DelayReason::SourceMissing => rhythm_ms(rhythm),
        DelayReason::Paused
        | DelayReason::PausedByOffice
        | DelayReason::AnotherRun
        | DelayReason::OutsideHours
        | DelayReason::OnBattery
        | DelayReason::MeteredConnection
        | DelayReason::MachineBusy
        | DelayReason::OfficeUnreachable
        | DelayReason::BackupsPaused
        | DelayReason::Queued => PATIENCE_MS.max(rhythm_ms(rhythm)),
    };
    now_ms.saturating_sub(since_ms) > patience
}

/// Whether it was too long ago that a drill restored something: since `proved_ms`, or since the workstation joined where none ever did. One
/// drill that does not come may be a machine that was off.
#[must_use]
pub fn is_drill_overdue(proved_ms: i64, every: DrillDays, now_ms: i64) -> bool {
    now_ms.saturating_sub(proved_ms) > (2 * i64::from(every.days()) + 1) * DAY_MS
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

    const HOURLY: Rhythm = Rhythm::HOURLY;

    #[test]
    fn a_weekend_off_is_not_overdue_but_a_week_is() {
        assert_eq!(freshness(None, HOURLY, 0), Freshness::FirstPointAwaited);
        assert_eq!(freshness(Some(0), HOURLY, 72 * HOUR), Freshness::Current);
        assert_eq!(freshness(Some(0), HOURLY, 72 * HOUR + 1), Freshness::Overdue);
        let weekly = Rhythm::new(7 * 86_400).expect("within");
        assert_eq!(freshness(Some(0), weekly, 20 * 24 * HOUR), Freshness::Current);
    }

    #[test]
    fn a_second_drill_that_does_not_come_is_overdue() {
        let weekly = DrillDays::WEEKLY;
        assert!(!is_drill_overdue(0, weekly, 15 * DAY_MS) && is_drill_overdue(0, weekly, 15 * DAY_MS + 1));
    }

    #[test]
    fn a_point_from_the_future_is_current() {
        assert_eq!(freshness(Some(100 * HOUR), HOURLY, 0), Freshness::Current);
    }

    #[test]
    fn the_second_failure_in_a_row_and_a_first_point_that_does_not_come_need_attention() {
        assert!(!is_failing(1) && is_failing(2));
        assert!(!lacks_first_point(None, HOURLY, 0, 72 * HOUR) && lacks_first_point(None, HOURLY, 0, 72 * HOUR + 1));
        assert!(!lacks_first_point(Some(0), HOURLY, 0, 1000 * HOUR));
    }

    #[test]
    fn what_somebody_must_end_needs_attention_sooner_than_what_ends_by_itself() {
        let waits = |reason, for_ms| is_kept_waiting(reason, HOURLY, 0, for_ms);
        assert!(!waits(DelayReason::LimitReached, HOUR) && waits(DelayReason::LimitReached, HOUR + 1));
        assert!(!waits(DelayReason::OnBattery, 72 * HOUR) && waits(DelayReason::OnBattery, 72 * HOUR + 1));
        let monthly = Rhythm::new(30 * 86_400).expect("within");
        assert!(!is_kept_waiting(DelayReason::OutsideHours, monthly, 0, 20 * 24 * HOUR));
    }

    #[test]
    fn silence_loses_a_run() {
        assert!(!is_lost(0, SILENCE_MS));
        assert!(is_lost(0, SILENCE_MS + 1));
    }
}
