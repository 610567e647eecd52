//! Retention: which points a rule lets go, and until when it keeps the others.
//!
//! How long a point is kept follows from when it was made, from the points beside it, and from the rule; the present
//! only decides whether that time is over. So nothing that went would have been wanted later, however often and
//! whenever the rule is applied. Points of files and points of disks are judged apart: neither stands in for the other.

pub use jetfrost_types::{PointKind, Rule, StayReason};
use std::collections::BTreeMap;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};

const HOUR_MS: i64 = 3_600_000;

/// What the rule needs to know of a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PointFacts {
    /// Its number, ascending as points were made.
    pub sequence: u64,
    /// What it is a state of.
    pub kind: PointKind,
    /// When the service committed it, by its own clock, in Unix milliseconds. What the workstation says does not count.
    pub committed_ms: i64,
    /// Whether it has no exceptions.
    pub complete: bool,
    /// Whether a hold is on it.
    pub held: bool,
}

/// What becomes of a point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It stays.
    Stays {
        /// For this reason, the one that holds longest.
        reason: StayReason,
        /// Until then (Unix milliseconds), if no other point comes; `None` for no end.
        until_ms: Option<i64>,
    },
    /// It goes.
    Goes,
}

/// What becomes of each point, in the order given. Without a rule all stay.
#[must_use]
pub fn fates(points: &[PointFacts], rule: Option<&Rule>, zone: &TimeZone, now_ms: i64) -> Vec<Fate> {
    let of = |kind| fates_of_kind(&of_kind(points, kind), rule, zone, now_ms).into_iter();
    let (mut files, mut disks) = (of(PointKind::Files), of(PointKind::Disk));
    let fate = |point: &PointFacts| match point.kind {
        PointKind::Files => files.next(),
        PointKind::Disk => disks.next(),
    };
    points.iter().filter_map(fate).collect()
}

fn of_kind(points: &[PointFacts], kind: PointKind) -> Vec<PointFacts> {
    points.iter().filter(|point| point.kind == kind).copied().collect()
}

fn fates_of_kind(points: &[PointFacts], rule: Option<&Rule>, zone: &TimeZone, now_ms: i64) -> Vec<Fate> {
    let latest = Latest::of(points);
    let Some(rule) = rule else {
        let stays = |p: &PointFacts| latest.stays_for(p).unwrap_or(Fate::Stays { reason: StayReason::Recent, until_ms: None });
        return points.iter().map(stays).collect();
    };
    let kept_by_number = newest(points, rule.at_least, now_ms);
    let lasts = Lasts::of(points, zone);
    points
        .iter()
        .map(|point| {
            if let Some(stays) = latest.stays_for(point) {
                return stays;
            }
            if point.committed_ms > now_ms {
                return Fate::Stays { reason: StayReason::FromTheFuture, until_ms: None };
            }
            if kept_by_number.contains(&point.sequence) {
                return Fate::Stays { reason: StayReason::AtLeast, until_ms: None };
            }
            let longest =
                lasts.terms(point, rule, zone).into_iter().filter(|(_, until)| *until > now_ms).max_by_key(|t| (t.1, t.0));
            longest.map_or(Fate::Goes, |(reason, until)| Fate::Stays { reason, until_ms: Some(until) })
        })
        .collect()
}

/// Points that may go when room is needed, oldest first: what neither a hold nor the rule's least number keeps.
#[must_use]
pub fn expendable(points: &[PointFacts], rule: Option<&Rule>, now_ms: i64) -> Vec<u64> {
    // Without a rule nothing was said about how few are enough.
    let Some(rule) = rule else { return Vec::new() };
    let mut found: Vec<PointFacts> = [PointKind::Files, PointKind::Disk]
        .into_iter()
        .flat_map(|kind| expendable_of_kind(&of_kind(points, kind), rule, now_ms))
        .collect();
    found.sort_by_key(|p| (p.committed_ms, p.sequence));
    found.into_iter().map(|p| p.sequence).collect()
}

fn expendable_of_kind(points: &[PointFacts], rule: &Rule, now_ms: i64) -> Vec<PointFacts> {
    let latest = Latest::of(points);
    let kept_by_number = newest(points, rule.at_least.max(1), now_ms);
    let may_go =
        |p: &&PointFacts| latest.stays_for(p).is_none() && !kept_by_number.contains(&p.sequence) && p.committed_ms <= now_ms;
    points.iter().filter(may_go).copied().collect()
}

/// The newest `n` points, by number, of those that were not made later than now.
fn newest(points: &[PointFacts], n: u32, now_ms: i64) -> Vec<u64> {
    let mut past: Vec<&PointFacts> = points.iter().filter(|p| p.committed_ms <= now_ms).collect();
    past.sort_by_key(|p| std::cmp::Reverse((p.committed_ms, p.sequence)));
    past.into_iter().take(n as usize).map(|p| p.sequence).collect()
}

/// The points that no rule may take.
struct Latest {
    latest: Option<u64>,
    latest_complete: Option<u64>,
}

impl Latest {
    fn of(points: &[PointFacts]) -> Self {
        Self {
            latest: points.iter().map(|p| p.sequence).max(),
            latest_complete: points.iter().filter(|p| p.complete).map(|p| p.sequence).max(),
        }
    }

    fn stays_for(&self, point: &PointFacts) -> Option<Fate> {
        let is_latest = [self.latest, self.latest_complete].contains(&Some(point.sequence));
        let reason = if point.held { StayReason::Held } else { StayReason::Latest };
        (point.held || is_latest).then_some(Fate::Stays { reason, until_ms: None })
    }
}

type Moment = (i64, u64);

/// The last point of each day, week, month and year, in the office's time zone.
#[derive(Default)]
struct Lasts {
    days: BTreeMap<Date, Moment>,
    weeks: BTreeMap<(i16, i8), Moment>,
    months: BTreeMap<(i16, i8), Moment>,
    years: BTreeMap<i16, Moment>,
}

impl Lasts {
    fn of(points: &[PointFacts], zone: &TimeZone) -> Self {
        let mut lasts = Self::default();
        for point in points {
            let (date, moment) = (date_of(point.committed_ms, zone), (point.committed_ms, point.sequence));
            keep_last(&mut lasts.days, date, moment);
            keep_last(&mut lasts.weeks, week_of(date), moment);
            keep_last(&mut lasts.months, (date.year(), date.month()), moment);
            keep_last(&mut lasts.years, date.year(), moment);
        }
        lasts
    }

    /// For what reasons a point stays and until when each holds.
    fn terms(&self, point: &PointFacts, rule: &Rule, zone: &TimeZone) -> Vec<(StayReason, i64)> {
        let (date, moment) = (date_of(point.committed_ms, zone), (point.committed_ms, point.sequence));
        let end = |span: Span| start_of_day(date.saturating_add(span), zone);
        let of = |n: u32, most: u32| i64::from(n.min(most));
        let mut terms = vec![(StayReason::Recent, point.committed_ms.saturating_add(i64::from(rule.hours) * HOUR_MS))];
        if self.days.get(&date) == Some(&moment) && rule.days > 0 {
            terms.push((StayReason::Day, end(Span::new().days(of(rule.days, 1_000_000)))));
        }
        if self.weeks.get(&week_of(date)) == Some(&moment) && rule.weeks > 0 {
            terms.push((StayReason::Week, end(Span::new().weeks(of(rule.weeks, 500_000)))));
        }
        if self.months.get(&(date.year(), date.month())) == Some(&moment) && rule.months > 0 {
            terms.push((StayReason::Month, end(Span::new().months(of(rule.months, 100_000)))));
        }
        if self.years.get(&date.year()) == Some(&moment) && rule.years > 0 {
            terms.push((StayReason::Year, end(Span::new().years(of(rule.years, 9_000)))));
        }
        terms
    }
}

fn keep_last<K: Ord>(lasts: &mut BTreeMap<K, Moment>, key: K, moment: Moment) {
    let last = lasts.entry(key).or_insert(moment);
    *last = (*last).max(moment);
}

fn date_of(ms: i64, zone: &TimeZone) -> Date {
    let moment = Timestamp::from_millisecond(ms).unwrap_or(if ms < 0 { Timestamp::MIN } else { Timestamp::MAX });
    moment.to_zoned(zone.clone()).date()
}

/// The week of ISO 8601: its year and number.
fn week_of(date: Date) -> (i16, i8) {
    let week = date.iso_week_date();
    (week.year(), week.week())
}

fn start_of_day(date: Date, zone: &TimeZone) -> i64 {
    date.to_zoned(zone.clone()).map_or(i64::MAX, |start| start.timestamp().as_millisecond())
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    const DAY_MS: i64 = 24 * HOUR_MS;

    fn zone(name: &str) -> TimeZone {
        TimeZone::get(name).expect("a known zone")
    }

    fn at(text: &str, zone: &TimeZone) -> i64 {
        let civil: jiff::civil::DateTime = text.parse().expect("a time");
        civil.to_zoned(zone.clone()).expect("exists").timestamp().as_millisecond()
    }

    fn points(created: &[i64]) -> Vec<PointFacts> {
        (1..)
            .zip(created)
            .map(|(sequence, ms)| PointFacts { sequence, kind: PointKind::Files, committed_ms: *ms, complete: true, held: false })
            .collect()
    }

    fn staying(points: &[PointFacts], rule: &Rule, zone: &TimeZone, now: i64) -> Vec<PointFacts> {
        let fates = fates(points, Some(rule), zone, now);
        points.iter().zip(fates).filter(|(_, fate)| *fate != Fate::Goes).map(|(point, _)| *point).collect()
    }

    fn numbers(points: &[PointFacts]) -> Vec<u64> {
        points.iter().map(|p| p.sequence).collect()
    }

    #[test]
    fn a_month_of_hourly_points_is_thinned_to_days_and_weeks() {
        let berlin = zone("Europe/Berlin");
        let start = at("2026-09-01T00:30", &berlin);
        let hourly = points(&(0..60 * 24).map(|h| start + h * HOUR_MS).collect::<Vec<_>>());
        let now = hourly.last().expect("many").committed_ms;
        let rule = Rule { hours: 24, days: 7, weeks: 4, ..Rule::default() };
        let kept = staying(&hourly, &rule, &berlin, now);
        let ages: Vec<i64> = kept.iter().rev().map(|p| (now - p.committed_ms) / HOUR_MS).collect();
        assert_eq!(ages[..24], (0..24).collect::<Vec<_>>());
        // The ends of the other six of seven days, of which the 25th of October had 25 hours; then Sundays.
        assert_eq!(ages[24..], [47, 71, 95, 119, 144, 288, 456, 624]);
        let days: Vec<String> =
            kept[..3].iter().map(|p| date_of(p.committed_ms, &berlin).strftime("%a %d %b").to_string()).collect();
        assert_eq!(days, ["Sun 04 Oct", "Sun 11 Oct", "Sun 18 Oct"]);
    }

    #[test]
    fn a_day_has_23_or_25_hours_when_clocks_change() {
        let berlin = zone("Europe/Berlin");
        let rule = Rule { days: 3, ..Rule::default() };
        for (change, hours) in [("2026-03-29", 23), ("2026-10-25", 25)] {
            let start = at(&format!("{change}T00:00"), &berlin);
            let of_the_day = points(&(0..hours).map(|h| start + h * HOUR_MS).chain([start + 40 * HOUR_MS]).collect::<Vec<_>>());
            let kept = staying(&of_the_day, &rule, &berlin, start + 41 * HOUR_MS);
            assert_eq!(numbers(&kept), [u64::try_from(hours).expect("few"), u64::try_from(hours).expect("few") + 1], "{change}");
        }
    }

    #[test]
    fn the_last_day_of_a_short_month_ends_a_term_that_began_on_the_31st() {
        let utc = TimeZone::UTC;
        let made = points(&[at("2026-01-31T12:00", &utc), at("2026-03-15T12:00", &utc)]);
        let rule = Rule { months: 1, ..Rule::default() };
        assert_eq!(staying(&made, &rule, &utc, at("2026-02-27T23:59", &utc)).len(), 2);
        assert_eq!(numbers(&staying(&made, &rule, &utc, at("2026-02-28T00:00", &utc))), [2]);
    }

    #[test]
    fn a_point_from_the_future_stays_and_pushes_none_out() {
        let rule = Rule { at_least: 2, ..Rule::default() };
        let made = points(&[DAY_MS, 2 * DAY_MS, 3 * DAY_MS, 9000 * DAY_MS]);
        assert_eq!(numbers(&staying(&made, &rule, &TimeZone::UTC, 100 * DAY_MS)), [2, 3, 4]);
    }

    #[test]
    fn the_latest_complete_point_and_held_ones_stay() {
        let mut made = points(&[DAY_MS, 2 * DAY_MS, 3 * DAY_MS, 4 * DAY_MS]);
        made[0].held = true;
        made[2].complete = false;
        made[3].complete = false;
        let kept = staying(&made, &Rule::default(), &TimeZone::UTC, 100 * DAY_MS);
        assert_eq!(numbers(&kept), [1, 2, 4]);
        assert_eq!(expendable(&made, Some(&Rule::default()), 100 * DAY_MS), [3]);
    }

    #[test]
    fn without_a_rule_nothing_goes() {
        let made = points(&[0, 1, 2]);
        assert!(fates(&made, None, &TimeZone::UTC, i64::MAX).iter().all(|fate| *fate != Fate::Goes));
        assert!(expendable(&made, None, i64::MAX).is_empty());
    }

    #[test]
    fn what_may_go_for_room_is_oldest_first_down_to_the_least_number() {
        let made = points(&[5 * DAY_MS, DAY_MS, 3 * DAY_MS, 4 * DAY_MS, 9 * DAY_MS]);
        let rule = Rule { hours: 1000, at_least: 2, ..Rule::default() };
        assert_eq!(expendable(&made, Some(&rule), 10 * DAY_MS), [2, 3, 4]);
    }

    fn histories() -> impl Strategy<Value = Vec<PointFacts>> {
        let kind = prop::sample::select(vec![PointKind::Files, PointKind::Disk]);
        let point = (kind, 0_i64..800 * DAY_MS, any::<bool>(), prop::bool::weighted(0.05));
        prop::collection::vec(point, 1..60).prop_map(|made| {
            let fact =
                |(sequence, (kind, committed_ms, complete, held))| PointFacts { sequence, kind, committed_ms, complete, held };
            (1..).zip(made).map(fact).collect()
        })
    }

    fn rules() -> impl Strategy<Value = Rule> {
        (0_u32..100, 0_u32..40, 0_u32..20, 0_u32..20, 0_u32..4, 0_u32..5)
            .prop_map(|(hours, days, weeks, months, years, at_least)| Rule { hours, days, weeks, months, years, at_least })
    }

    proptest! {
        #[test]
        fn applying_a_rule_in_between_changes_nothing_later(
            history in histories(), rule in rules(), now in 0_i64..900 * DAY_MS, wait in 0_i64..400 * DAY_MS,
            place in prop::sample::select(vec!["Europe/Berlin", "America/Sao_Paulo", "Pacific/Apia", "UTC"]),
        ) {
            let zone = zone(place);
            let in_between = staying(&history, &rule, &zone, now);
            prop_assert_eq!(
                numbers(&staying(&in_between, &rule, &zone, now + wait)),
                numbers(&staying(&history, &rule, &zone, now + wait))
            );
        }

        #[test]
        fn a_longer_rule_keeps_all_that_a_shorter_one_does(history in histories(), rule in rules(), more in rules(), now in 0_i64..900 * DAY_MS) {
            let longer = Rule {
                hours: rule.hours + more.hours,
                days: rule.days + more.days,
                weeks: rule.weeks + more.weeks,
                months: rule.months + more.months,
                years: rule.years + more.years,
                at_least: rule.at_least + more.at_least,
            };
            let kept: BTreeSet<u64> = numbers(&staying(&history, &rule, &TimeZone::UTC, now)).into_iter().collect();
            let longer: BTreeSet<u64> = numbers(&staying(&history, &longer, &TimeZone::UTC, now)).into_iter().collect();
            prop_assert!(kept.is_subset(&longer));
        }

        #[test]
        fn the_promised_ones_always_stay(history in histories(), rule in rules(), now in 0_i64..900 * DAY_MS) {
            let kept: BTreeSet<u64> = numbers(&staying(&history, &rule, &TimeZone::UTC, now)).into_iter().collect();
            let may_go: BTreeSet<u64> = expendable(&history, Some(&rule), now).into_iter().collect();
            for point in history.iter().filter(|p| p.held || p.committed_ms > now) {
                prop_assert!(kept.contains(&point.sequence) && !may_go.contains(&point.sequence));
            }
            for kind in [PointKind::Files, PointKind::Disk] {
                let history = of_kind(&history, kind);
                let latest = history.last();
                let complete = history.iter().rev().find(|p| p.complete);
                for point in latest.into_iter().chain(complete) {
                    prop_assert!(kept.contains(&point.sequence) && !may_go.contains(&point.sequence));
                }
                let past = history.iter().filter(|p| p.committed_ms <= now).count();
                let stay = history.iter().filter(|p| p.committed_ms <= now && kept.contains(&p.sequence)).count();
                prop_assert!(stay >= past.min(rule.at_least as usize));
            }
        }

        #[test]
        fn points_of_disks_change_nothing_for_points_of_files(history in histories(), rule in rules(), now in 0_i64..900 * DAY_MS) {
            let files = of_kind(&history, PointKind::Files);
            let of_both = staying(&history, &rule, &TimeZone::UTC, now);
            prop_assert_eq!(of_kind(&of_both, PointKind::Files), staying(&files, &rule, &TimeZone::UTC, now));
        }

        #[test]
        fn a_point_goes_when_its_time_is_over_and_not_before(history in histories(), rule in rules(), now in 0_i64..900 * DAY_MS) {
            let fate_of = |sequence: u64, now| {
                let at = history.iter().position(|p| p.sequence == sequence).expect("in it");
                fates(&history, Some(&rule), &TimeZone::UTC, now)[at]
            };
            for (point, fate) in history.iter().zip(fates(&history, Some(&rule), &TimeZone::UTC, now)) {
                if let Fate::Stays { until_ms: Some(until), .. } = fate {
                    prop_assert_ne!(fate_of(point.sequence, until - 1), Fate::Goes);
                    prop_assert_eq!(fate_of(point.sequence, until), Fate::Goes);
                }
            }
        }
    }
}
