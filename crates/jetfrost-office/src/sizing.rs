//! Advice on limits, while they are typed. The formulas and worked examples are in `docs/calculations.md`.

const DAY_MS: f64 = 86_400_000.0;
/// Limits in proportion to a workstation's disk.
const FACTORS: Factors<f64> = Factors { minimum: 2.0, usual: 2.5, generous: 3.0 };
/// Growth is stated once there are this many days of history.
const LEAST_DAYS: f64 = 7.0;
/// How many standard errors each way a forecast spans: about 95 of a hundred times it holds, if growth goes on as it did.
const SPAN: f64 = 2.0;

/// Three ways to choose.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Factors<T> {
    /// Enough for one full state and what changes while the next is made.
    pub minimum: T,
    /// Enough for some months.
    pub usual: T,
    /// Enough for a longer memory.
    pub generous: T,
}

/// What limits in proportion to a disk of `disk` bytes would be, in bytes.
#[must_use]
pub fn suggested(disk: u64) -> Factors<u64> {
    let times = |factor: f64| (disk as f64 * factor) as u64;
    Factors { minimum: times(FACTORS.minimum), usual: times(FACTORS.usual), generous: times(FACTORS.generous) }
}

/// How many times a disk fits into a limit.
#[must_use]
pub fn factor(limit: u64, disk: u64) -> Option<f64> {
    (disk > 0).then(|| limit as f64 / disk as f64)
}

/// How a store grows: bytes a day, and how far that may be off.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Growth {
    /// Bytes a day.
    pub per_day: f64,
    /// Standard error of it, in bytes a day.
    pub error: f64,
}

/// Growth from what was added when, as `(milliseconds since 1970, bytes)`, by least squares through the running sum. `None`
/// when there is less than a week of it, or fewer than three days on which something was added.
#[must_use]
pub fn growth(added: &[(i64, u64)]) -> Option<Growth> {
    let mut added = added.to_vec();
    added.sort_unstable();
    // The first is all that there was: no growth, but what growth starts from.
    let (first, rest) = added.split_first()?;
    let mut sum = 0.0;
    let mut series = vec![(0.0, 0.0)];
    for (at, bytes) in rest {
        sum += *bytes as f64;
        series.push(((at - first.0) as f64 / DAY_MS, sum));
    }
    let days = series.last().map_or(0.0, |(day, _)| *day);
    if days < LEAST_DAYS || series.len() < 4 {
        return None;
    }
    let n = series.len() as f64;
    let (mean_x, mean_y) = (series.iter().map(|p| p.0).sum::<f64>() / n, series.iter().map(|p| p.1).sum::<f64>() / n);
    let spread: f64 = series.iter().map(|p| (p.0 - mean_x).powi(2)).sum();
    let slope = series.iter().map(|p| (p.0 - mean_x) * (p.1 - mean_y)).sum::<f64>() / spread;
    let residual: f64 = series.iter().map(|p| (p.1 - mean_y - slope * (p.0 - mean_x)).powi(2)).sum();
    let error = (residual / (n - 2.0) / spread).sqrt();
    Some(Growth { per_day: slope.max(0.0), error })
}

/// A span of days. `None` for one that has no end.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Days {
    /// If growth is as strong as it may be.
    pub soonest: f64,
    /// If it goes on as it did.
    pub likely: Option<f64>,
    /// If it is as weak as it may be.
    pub latest: Option<f64>,
}

/// In how many days `room` bytes are filled. `None` when nothing grows.
#[must_use]
pub fn days_to_fill(room: u64, growth: &Growth) -> Option<Days> {
    let days = |per_day: f64| (per_day > 0.0).then(|| room as f64 / per_day);
    let soonest = days(growth.per_day + SPAN * growth.error)?;
    Some(Days { soonest, likely: days(growth.per_day), latest: days(growth.per_day - SPAN * growth.error) })
}

/// How many days of history a limit holds: what is left of it beside one full state, at this growth. `None` when nothing grows.
#[must_use]
pub fn days_of_history(limit: u64, full_state: u64, growth: &Growth) -> Option<f64> {
    (growth.per_day > 0.0).then(|| limit.saturating_sub(full_state) as f64 / growth.per_day)
}

/// What a destination offers: its capacity, and no more than its volume leaves after the reserve.
#[must_use]
pub fn offered(volume: u64, reserve: u64, capacity: Option<u64>) -> u64 {
    let left = volume.saturating_sub(reserve);
    capacity.map_or(left, |capacity| capacity.min(left))
}

/// How much was promised in proportion to what there is. A limit that is none counts as infinite.
#[must_use]
pub fn over_commitment(limits: &[Option<u64>], offered: u64) -> f64 {
    if limits.is_empty() {
        return 0.0;
    }
    let sum: f64 = limits.iter().map(|limit| limit.map_or(f64::INFINITY, |bytes| bytes as f64)).sum();
    sum / (offered as f64).max(1.0)
}

/// How many more stores with this limit fit beside those that are promised already.
#[must_use]
pub fn stores_that_fit(offered: u64, promised: &[Option<u64>], limit: u64) -> u64 {
    if limit == 0 || promised.iter().any(Option::is_none) {
        return 0;
    }
    offered.saturating_sub(promised.iter().flatten().sum()) / limit
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const GB: u64 = 1_000_000_000;
    const DAY: i64 = 86_400_000;

    /// Example 1 of `docs/calculations.md`.
    #[test]
    fn a_limit_is_two_to_three_times_the_disk() {
        assert_eq!(suggested(200 * GB), Factors { minimum: 400 * GB, usual: 500 * GB, generous: 600 * GB });
        assert_eq!(factor(500 * GB, 200 * GB), Some(2.5));
        assert_eq!(factor(500 * GB, 0), None);
    }

    /// Example 5.
    #[test]
    fn a_capacity_offers_no_more_than_the_volume_leaves() {
        assert_eq!(offered(4000 * GB, 200 * GB, Some(2000 * GB)), 2000 * GB);
        assert_eq!(offered(4000 * GB, 200 * GB, Some(3900 * GB)), 3800 * GB);
        assert_eq!(offered(4000 * GB, 200 * GB, None), 3800 * GB);
        assert_eq!(offered(100 * GB, 200 * GB, None), 0);
    }

    /// Example 2.
    #[test]
    fn steady_growth_is_told_without_doubt() {
        let added: Vec<(i64, u64)> = (0..=10).map(|day| (day * DAY, if day == 0 { 80 * GB } else { 2 * GB })).collect();
        let growth = growth(&added).expect("ten days");
        assert!((growth.per_day - 2e9).abs() < 1.0 && growth.error < 1.0, "{growth:?}");
        assert_eq!(days_of_history(400 * GB, 80 * GB, &growth).map(f64::round), Some(160.0));
        let days = days_to_fill(300 * GB, &growth).expect("it grows");
        assert_eq!(
            (days.soonest.round(), days.likely.map(f64::round), days.latest.map(f64::round)),
            (150.0, Some(150.0), Some(150.0))
        );
    }

    /// Example 3.
    #[test]
    fn growth_by_fits_and_starts_has_an_uncertain_end() {
        let added: Vec<(i64, u64)> = (0..=20).map(|day| (day * DAY, if day % 5 == 4 { 10 * GB } else { 0 })).collect();
        let growth = growth(&added).expect("twenty days");
        let days = days_to_fill(100 * GB, &growth).expect("it grows");
        let likely = days.likely.expect("an end");
        assert!(days.soonest < likely && days.latest.is_none_or(|latest| latest > likely), "{days:?}");
        assert!((40.0..60.0).contains(&likely), "{likely}");
    }

    #[test]
    fn little_is_said_of_little() {
        assert_eq!(growth(&[]), None);
        assert_eq!(growth(&[(0, 5), (DAY, 5), (2 * DAY, 5), (3 * DAY, 5)]), None, "less than a week");
        let still: Vec<(i64, u64)> = (0..=10).map(|day| (day * DAY, 0)).collect();
        let growth = growth(&still).expect("ten days");
        assert_eq!((days_to_fill(GB, &growth), days_of_history(GB, 0, &growth)), (None, None));
    }

    /// Example 4.
    #[test]
    fn what_is_promised_is_compared_with_what_there_is() {
        let limits = [Some(400 * GB), Some(600 * GB), Some(500 * GB)];
        assert_eq!(over_commitment(&limits, 1000 * GB), 1.5);
        assert_eq!(over_commitment(&[Some(GB), None], 1000 * GB), f64::INFINITY);
        assert_eq!(over_commitment(&[], GB), 0.0);
        assert_eq!(stores_that_fit(4000 * GB, &limits, 500 * GB), 5);
        assert_eq!(stores_that_fit(1000 * GB, &limits, 500 * GB), 0);
        assert_eq!(stores_that_fit(4000 * GB, &[None], 500 * GB), 0);
    }

    proptest! {
        #[test]
        fn a_larger_limit_never_holds_less_history(a in 0..u64::MAX / 2, more in 0..u64::MAX / 2, full: u64, per_day in 1.0..1e12_f64) {
            let growth = Growth { per_day, error: 0.0 };
            prop_assert!(days_of_history(a + more, full, &growth) >= days_of_history(a, full, &growth));
        }

        #[test]
        fn growth_is_finite_and_never_negative(added in prop::collection::vec((0..i64::from(i32::MAX) * 1000, 0..1_u64 << 50), 0..40)) {
            if let Some(growth) = growth(&added) {
                prop_assert!(growth.per_day.is_finite() && growth.per_day >= 0.0 && growth.error.is_finite());
            }
        }
    }
}
