//! What the protected time guarantees against whoever holds a device credential or an administrator's session, and where it ends.

use std::collections::BTreeSet;
use std::ops::Range;

use proptest::prelude::*;

use super::*;
use crate::retention::PointKind;

const HOUR_MS: i64 = 3_600_000;

fn point(sequence: u64, committed_ms: i64) -> PointFacts {
    PointFacts { sequence, kind: PointKind::Files, committed_ms, complete: true, held: false }
}

fn terms(rule: Option<Rule>, protected_days: u32) -> Terms {
    Terms { rule, protected_days, makes_room: false }
}

fn stays(promise: &Promise, points: &[PointFacts], now_ms: i64) -> BTreeSet<u64> {
    let fates = promise.fates(points, &TimeZone::UTC, now_ms);
    points.iter().zip(fates).filter(|(_, fate)| *fate != Fate::Goes).map(|(point, _)| point.sequence).collect()
}

#[test]
fn a_protected_point_stays_whatever_the_rule_says_and_goes_when_its_time_is_over() {
    let promise = Promise { now: terms(Some(Rule::default()), 30), earlier: Vec::new() };
    let points = [point(1, 0), point(2, DAY_MS)];
    assert_eq!(
        promise.fates(&points, &TimeZone::UTC, 29 * DAY_MS)[0],
        Fate::Stays { reason: StayReason::Protected, until_ms: Some(30 * DAY_MS) }
    );
    assert_eq!(stays(&promise, &points, 30 * DAY_MS), BTreeSet::from([2]));
}

#[test]
fn a_shorter_rule_counts_for_what_is_there_once_the_old_one_has_run_out() {
    let long = Rule { days: 60, ..Rule::default() };
    let changed = 10 * DAY_MS + HOUR_MS;
    let earlier = Earlier { terms: terms(Some(long), 30), ended_ms: changed };
    let promise = Promise { now: terms(Some(Rule { hours: 1, ..Rule::default() }), 0), earlier: vec![earlier] };
    let points: Vec<PointFacts> = (1..=20).map(|n| point(n, n.cast_signed() * DAY_MS)).collect();
    let at = |days: i64| stays(&promise, &points, days * DAY_MS + HOUR_MS);
    assert_eq!(at(21), (1..=10).chain([20]).collect(), "those made under the short rule go by it");
    assert_eq!(at(60), (1..=10).chain([20]).collect());
    assert_eq!(at(61), (2..=10).chain([20]).collect(), "the old rule runs out point by point");
    assert_eq!(at(80), BTreeSet::from([20]));
    assert!(!promise.earlier_still_count(&points, &TimeZone::UTC, 80 * DAY_MS));
    assert!(promise.earlier_still_count(&points, &TimeZone::UTC, 60 * DAY_MS));
}

#[test]
fn a_rule_in_the_place_of_none_counts_for_what_is_there_after_a_protected_time() {
    let earlier = Earlier { terms: terms(None, 5), ended_ms: 100 * DAY_MS };
    let promise = Promise { now: terms(Some(Rule::default()), 0), earlier: vec![earlier] };
    let points = [point(1, 0), point(2, DAY_MS), point(3, 200 * DAY_MS)];
    assert_eq!(stays(&promise, &points, 130 * DAY_MS - 1).len(), 3);
    assert_eq!(stays(&promise, &points, 130 * DAY_MS), BTreeSet::from([3]));
}

#[test]
fn a_shorter_protected_time_counts_for_points_that_come_after_it() {
    let earlier = Earlier { terms: terms(Some(Rule::default()), 30), ended_ms: 10 };
    let promise = Promise { now: terms(Some(Rule::default()), 0), earlier: vec![earlier] };
    let points = [point(1, 0), point(2, 20), point(3, 30)];
    assert_eq!(stays(&promise, &points, 30 * DAY_MS - 1), BTreeSet::from([1, 3]));
}

#[test]
fn room_is_made_only_of_what_no_list_promised() {
    let making_room = Terms { makes_room: true, ..terms(Some(Rule { days: 365, ..Rule::default() }), 7) };
    let promise = Promise { now: making_room, earlier: Vec::new() };
    let points: Vec<PointFacts> = (1..=20).map(|n| point(n, n.cast_signed() * DAY_MS)).collect();
    assert_eq!(promise.expendable(&points, 20 * DAY_MS), (1..=13).collect::<Vec<_>>());
    // It was switched on a moment ago: until then each point was promised for a year.
    let before = Earlier { terms: Terms { makes_room: false, ..making_room }, ended_ms: 20 * DAY_MS };
    let switched = Promise { now: making_room, earlier: vec![before] };
    assert_eq!(switched.expendable(&points, 49 * DAY_MS), Vec::<u64>::new());
    assert_eq!(switched.expendable(&points, 50 * DAY_MS), (1..=19).collect::<Vec<_>>());
}

/// How somebody with a device credential tries to make honest points go.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Attack {
    /// Many points at once, then one now and again to make room once more.
    Burst,
    /// A few points a day for sixty days, below what anybody notices.
    SlowDrip,
    /// Points of both kinds.
    ForgedKinds,
    /// Points that claim all the room there is.
    ForgedSizes,
    /// Points that are never complete, so that honest ones are the latest complete no more.
    Incomplete,
}

const STRATEGIES: [Attack; 5] = [Attack::Burst, Attack::SlowDrip, Attack::ForgedKinds, Attack::ForgedSizes, Attack::Incomplete];
/// Days of honest backups before the attack.
const HONEST_DAYS: i64 = 50;
const ATTACK_DAYS: i64 = 60;

/// An image store as the service decides about it: points with the room that only they take.
struct Simulation {
    promise: Promise,
    limit: u64,
    points: Vec<(PointFacts, u64)>,
    /// Honest points that went, and when.
    gone: Vec<(PointFacts, i64)>,
    honest: BTreeSet<u64>,
    next: u64,
    /// The latest suspect point: it and all before it are held.
    suspect: Option<u64>,
}

impl Simulation {
    fn new(now: Terms, limit: u64) -> Self {
        let promise = Promise { now, earlier: Vec::new() };
        Self { promise, limit, points: Vec::new(), gone: Vec::new(), honest: BTreeSet::new(), next: 1, suspect: None }
    }

    fn facts(&self) -> Vec<PointFacts> {
        let held = |point: &PointFacts| self.suspect.is_some_and(|suspect| point.sequence <= suspect);
        self.points.iter().map(|(point, _)| PointFacts { held: held(point), ..*point }).collect()
    }

    fn used(&self) -> u64 {
        self.points.iter().map(|(_, size)| size).sum()
    }

    fn remove(&mut self, going: &BTreeSet<u64>, now: i64) {
        let (gone, stay): (Vec<_>, Vec<_>) = self.points.drain(..).partition(|(point, _)| going.contains(&point.sequence));
        self.points = stay;
        self.gone.extend(gone.into_iter().filter(|(p, _)| self.honest.contains(&p.sequence)).map(|(point, _)| (point, now)));
    }

    fn thin(&mut self, now: i64) {
        let facts = self.facts();
        let fates = self.promise.fates(&facts, &TimeZone::UTC, now);
        let going = facts.iter().zip(fates).filter(|(_, fate)| *fate == Fate::Goes).map(|(point, _)| point.sequence).collect();
        self.remove(&going, now);
    }

    /// A commit: where there is no room, the oldest that may go make some, or it is refused and nothing goes.
    fn commit(&mut self, point: PointFacts, size: u64, honest: bool) {
        let wanted = (self.used() + size).saturating_sub(self.limit);
        let (mut going, mut freed) = (BTreeSet::new(), 0);
        for sequence in self.promise.expendable(&self.facts(), point.committed_ms) {
            if freed >= wanted {
                break;
            }
            freed += self.points.iter().find(|(p, _)| p.sequence == sequence).map_or(0, |(_, size)| *size);
            going.insert(sequence);
        }
        if freed < wanted {
            return;
        }
        self.remove(&going, point.committed_ms);
        if honest {
            self.honest.insert(self.next);
        }
        self.points.push((PointFacts { sequence: self.next, ..point }, size));
        self.next += 1;
    }

    fn attack(&mut self, strategy: Attack, day: i64) {
        let (many, size) = match strategy {
            Attack::Burst if day == 0 => (300, 5),
            Attack::Burst | Attack::SlowDrip => (3, 5),
            Attack::ForgedKinds | Attack::Incomplete => (12, 1),
            Attack::ForgedSizes => (4, self.limit.saturating_sub(self.used()).max(self.limit / 10)),
        };
        for n in 0..many {
            let kind = if strategy == Attack::ForgedKinds && n % 2 == 1 { PointKind::Disk } else { PointKind::Files };
            let at = (HONEST_DAYS + day) * DAY_MS + 23 * HOUR_MS + n * 1000;
            let facts = PointFacts { kind, complete: strategy != Attack::Incomplete, ..point(0, at) };
            self.commit(facts, size, false);
            self.thin(at);
        }
    }

    fn run(&mut self, strategy: Option<Attack>) {
        self.run_days(0..HONEST_DAYS + ATTACK_DAYS, strategy);
    }

    fn run_days(&mut self, days: Range<i64>, strategy: Option<Attack>) {
        for day in days {
            if day < HONEST_DAYS {
                self.commit(point(0, day * DAY_MS + 12 * HOUR_MS), 10, true);
            } else if let Some(strategy) = strategy {
                self.attack(strategy, day - HONEST_DAYS);
            }
            self.thin((day + 1) * DAY_MS - 1);
        }
    }
}

fn all_rules() -> Vec<Option<Rule>> {
    let mut rules = vec![None, Some(Rule::default())];
    for (hours, days, weeks, months, at_least) in
        [(1, 0, 0, 0, 0), (72, 30, 12, 24, 3), (24, 7, 0, 0, 1), (0, 0, 0, 0, 14), (0, 365, 0, 0, 0)]
    {
        rules.push(Some(Rule { hours, days, weeks, months, years: 0, at_least }));
    }
    rules
}

/// Every rule × limit × strategy: no honest point goes within its protected time.
#[test]
fn no_strategy_of_a_stolen_credential_makes_a_protected_point_go() {
    for rule in all_rules() {
        for limit in [600, 2_000, 1 << 40] {
            for (protected_days, makes_room) in [(30, false), (30, true), (7, true)] {
                for strategy in STRATEGIES {
                    let mut office = Simulation::new(Terms { rule, protected_days, makes_room }, limit);
                    office.run(Some(strategy));
                    let protected = i64::from(protected_days) * DAY_MS;
                    for (point, at) in &office.gone {
                        let age = at - point.committed_ms;
                        assert!(age >= protected, "{strategy:?}, {rule:?}, limit {limit}: {point:?} went at {age} ms");
                    }
                }
            }
        }
    }
}

/// Where room is not made, noise takes nothing at all of what a rule of days, weeks and months keeps of the time before it.
#[test]
fn where_no_room_is_made_noise_takes_nothing_of_the_days_before_it() {
    for rule in all_rules().into_iter().filter(|rule| rule.is_none_or(|rule| rule.at_least == 0)) {
        for strategy in STRATEGIES {
            let (mut quiet, mut noisy) = (Simulation::new(terms(rule, 30), 5_000), Simulation::new(terms(rule, 30), 5_000));
            quiet.run(None);
            noisy.run(Some(strategy));
            let left = |of: &Simulation| of.points.iter().map(|(p, _)| p.sequence).filter(|s| of.honest.contains(s)).collect();
            let (quiet, noisy): (BTreeSet<u64>, BTreeSet<u64>) = (left(&quiet), left(&noisy));
            // The latest point of a machine that makes no more stays for good; noise ends that.
            let latest = quiet.last().copied();
            assert!(quiet.iter().filter(|s| Some(**s) != latest).all(|s| noisy.contains(s)), "{strategy:?}, {rule:?}");
        }
    }
}

/// Where it ends: who floods a store for longer than the protected time, unnoticed, does flush what room is made of.
#[test]
fn where_room_is_made_a_flood_that_nobody_notices_for_the_protected_time_takes_the_history() {
    let rule = Some(Rule { days: 365, ..Rule::default() });
    let mut office = Simulation::new(Terms { rule, protected_days: 7, makes_room: true }, 600);
    office.run(Some(Attack::ForgedSizes));
    let first = office.gone.iter().map(|(_, at)| *at).min().expect("in the end");
    assert!(first >= HONEST_DAYS * DAY_MS, "honest points alone fit");
    assert!(office.points.iter().filter(|(p, _)| office.honest.contains(&p.sequence)).count() < 10);
}

fn some_terms() -> impl Strategy<Value = Terms> {
    let rule = (0_u32..100, 0_u32..40, 0_u32..20, 0_u32..5).prop_map(|(hours, days, weeks, at_least)| Rule {
        hours,
        days,
        weeks,
        at_least,
        ..Rule::default()
    });
    (prop::option::of(rule), 0_u32..60, any::<bool>()).prop_map(|(rule, protected_days, makes_room)| Terms {
        rule,
        protected_days,
        makes_room,
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    /// Any rule, any limit, any protected time: no way of attack makes an honest point go within it.
    #[test]
    fn with_any_rule_and_any_limit_a_stolen_credential_makes_no_protected_point_go(
        terms in some_terms(), limit in 50_u64..5_000, strategy in prop::sample::select(STRATEGIES.to_vec()),
    ) {
        let mut office = Simulation::new(terms, limit);
        office.run(Some(strategy));
        let protected = i64::from(terms.protected_days) * DAY_MS;
        for (point, at) in &office.gone {
            prop_assert!(at - point.committed_ms >= protected, "{:?} went at {}", point, at);
        }
    }

    /// Once a point was found suspect, nothing before it goes at all, however long nobody looks.
    #[test]
    fn before_a_suspect_point_no_flood_takes_anything_however_long_nobody_looks(
        terms in some_terms(), limit in 600_u64..5_000, strategy in prop::sample::select(STRATEGIES.to_vec()),
    ) {
        let mut office = Simulation::new(terms, limit);
        office.run_days(0..HONEST_DAYS, None);
        office.suspect = Some(office.next);
        let before: BTreeSet<u64> = office.points.iter().map(|(point, _)| point.sequence).collect();
        office.run_days(HONEST_DAYS..HONEST_DAYS + 3 * ATTACK_DAYS, Some(strategy));
        let after: BTreeSet<u64> = office.points.iter().map(|(point, _)| point.sequence).collect();
        prop_assert!(before.is_subset(&after));
    }
}

proptest! {
    /// However terms are changed, and however often: what was there stays as long as it would have without the change.
    #[test]
    fn changing_terms_takes_nothing_that_was_promised(
        before in some_terms(), after in some_terms(), days in prop::collection::btree_set(0_i64..60, 1..30), wait in 0_i64..200,
    ) {
        let points: Vec<PointFacts> = (1..).zip(days).map(|(sequence, day)| point(sequence, day * DAY_MS)).collect();
        let changed = 60 * DAY_MS;
        let now = changed + wait * DAY_MS;
        let unchanged = Promise { now: before, earlier: Vec::new() };
        let promise = Promise { now: after, earlier: vec![Earlier { terms: before, ended_ms: changed }] };
        let (kept, promised) = (stays(&promise, &points, now), stays(&unchanged, &points, now));
        // Terms without a rule promised for ever; that much is not kept, but a protected time is.
        if before.rule.is_some() || wait < 30 {
            prop_assert!(promised.is_subset(&kept));
        }
    }

    #[test]
    fn what_goes_for_room_is_neither_protected_nor_the_latest(terms in some_terms(), days in prop::collection::btree_set(0_i64..60, 1..30)) {
        let points: Vec<PointFacts> = (1..).zip(days).map(|(sequence, day)| point(sequence, day * DAY_MS)).collect();
        let promise = Promise { now: terms, earlier: Vec::new() };
        let now = 61 * DAY_MS;
        for sequence in promise.expendable(&points, now) {
            let facts = points[usize::try_from(sequence).expect("few") - 1];
            prop_assert!(promise.protected_until_ms(&facts) <= now && sequence != points.len() as u64);
        }
    }
}
