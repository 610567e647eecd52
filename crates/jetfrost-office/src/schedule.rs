//! When a workstation is backed up next, and why it is not backed up now. Agent and service decide by the same function.

use jetfrost_types::{DelayReason, DrillDays, PowerSource, ProofDays, Rhythm, Schedule, ScheduleOrigin, ScheduleSettings, SetBy};

const MINUTE_MS: i64 = 60_000;
const HOUR_MS: i64 = 60 * MINUTE_MS;
const DAY_MS: i64 = 24 * HOUR_MS;

/// Before this no version of this program was made: a clock that shows less is wrong. 1 January 2026, in milliseconds.
const EARLIEST_MS: i64 = 1_767_225_600_000;
/// Clocks of workstation and service may differ by this.
const CLOCK_TOLERANCE_MS: i64 = DAY_MS;

/// The first wait after a failure. It doubles with each further one, up to the rhythm.
const FIRST_RETRY_MS: i64 = 5 * MINUTE_MS;
/// Where only the machine's surroundings are in the way, they are looked at again after this.
pub const LOOK_AGAIN_MS: i64 = 30_000;
/// Runs of many workstations spread over this share of the rhythm, and no more than [`MOST_SPREAD_MS`].
const SPREAD_SHARE: i64 = 8;
const MOST_SPREAD_MS: i64 = 15 * MINUTE_MS;
/// A rehearsal of a restore that failed, or did not come about, is repeated after a day.
const DRILL_AGAIN_MS: i64 = DAY_MS;
/// Whoever never proved a secret is expected to within so many days of joining.
const FIRST_PROOF_DAYS: i64 = 14;
/// A machine with twice the work that its processors can do is busy.
const BUSY_PERCENT: u32 = 200;
/// A backup waits for a busy machine this long at most, and no longer than half the rhythm.
const MOST_BUSY_MS: i64 = 30 * MINUTE_MS;
/// What is late because its machine was away starts within this of its return.
const RETURN_SPREAD_MS: i64 = 30_000;

/// What holds for a workstation, and who set each part of it: the workstation's own settings before those of its account's groups, in
/// the order given, before those of its destination, before what is usual.
#[must_use]
pub fn applied(
    own: &ScheduleSettings,
    groups: &[(String, ScheduleSettings)],
    destination: (&str, &ScheduleSettings),
) -> (Schedule, ScheduleOrigin) {
    let of_groups = groups.iter().map(|(name, set)| (SetBy::Group { name: name.clone() }, set));
    let of_destination = (SetBy::Destination { name: destination.0.to_owned() }, destination.1);
    let in_order: Vec<_> = std::iter::once((SetBy::Workstation, own)).chain(of_groups).chain([of_destination]).collect();
    let (mut schedule, mut origin) = (Schedule::USUAL, ScheduleOrigin::default());
    macro_rules! apply {
        ($($part:ident),+) => {
            $(if let Some((by, value)) = in_order.iter().find_map(|(by, set)| Some((by, set.$part?))) {
                (schedule.$part, origin.$part) = (value, by.clone());
            })+
        };
    }
    apply!(rhythm_seconds, hours, on_battery, on_metered, low_priority, rate, drill_days, proof_days, exclude);
    (schedule, origin)
}

/// What came of earlier runs. Times are Unix milliseconds.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Earlier {
    /// When the last complete run ended.
    pub completed: Option<i64>,
    /// When the last run failed, and how many failed since the last complete one.
    pub failed: Option<(i64, u32)>,
}

/// How things are at the machine. Times are Unix milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Conditions {
    /// The machine's clock.
    pub now: i64,
    /// The minute of the day, by the machine's local time.
    pub minute: u16,
    /// Where its power comes from.
    pub power: PowerSource,
    /// Since when the service answers; none while it does not.
    pub reachable_since: Option<i64>,
    /// Whether the connection towards the service is paid by the byte.
    pub is_metered: bool,
    /// Work that wants a processor, in percent of what all of them can do, over the last minute; 0 where the system does not say.
    pub load_percent: u32,
    /// Until when a person at the machine paused the agent.
    pub paused_until: Option<i64>,
    /// Until when an administrator paused the workstation.
    pub paused_by_office_until: Option<i64>,
    /// By how much the service's clock was ahead of the machine's when it last answered; 0 while that is not known.
    pub office_ahead: i64,
    /// A number of this workstation's own, by which it keeps its distance to others.
    pub spread: u64,
}

/// What to do now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// Start a run.
    Start,
    /// Nothing is due before this time.
    Due(i64),
    /// It is due, and this is in the way; it is worth looking again at this time.
    Delayed(DelayReason, i64),
}

/// When the next run is due, whatever is in the way.
#[must_use]
pub fn due(schedule: &Schedule, earlier: &Earlier, now: i64, spread: u64) -> i64 {
    let rhythm = ms(schedule.rhythm_seconds);
    let spread = share(spread, (rhythm / SPREAD_SHARE).min(MOST_SPREAD_MS));
    let by_rhythm = earlier.completed.map_or(now, |completed| completed.saturating_add(rhythm + spread));
    match earlier.failed {
        Some((at, times)) => by_rhythm.max(at.saturating_add(retry_after(schedule.rhythm_seconds, times))),
        None => by_rhythm,
    }
}

/// Whether the clocks of workstation and service are so close that neither is plainly wrong. `ahead` is by how much one is ahead.
#[must_use]
pub fn clocks_agree(ahead: i64) -> bool {
    ahead.unsigned_abs() <= CLOCK_TOLERANCE_MS.unsigned_abs()
}

/// Decides what to do now. Of several reasons it names the one that a person would have to end first.
#[must_use]
pub fn decide(schedule: &Schedule, earlier: &Earlier, at: &Conditions) -> Decision {
    let now = at.now;
    let look_again = now.saturating_add(LOOK_AGAIN_MS);
    let is_behind = at.office_ahead > CLOCK_TOLERANCE_MS
        || earlier.completed.is_some_and(|completed| completed > now.saturating_add(CLOCK_TOLERANCE_MS));
    if now < EARLIEST_MS || is_behind {
        return Decision::Delayed(DelayReason::ClockImplausible, look_again);
    }
    let due = due(schedule, earlier, now, at.spread);
    if due > now {
        return Decision::Due(due);
    }
    if let Some(until) = at.paused_until.filter(|until| *until > now) {
        return Decision::Delayed(DelayReason::Paused, until);
    }
    if let Some(until) = at.paused_by_office_until.filter(|until| *until > now) {
        return Decision::Delayed(DelayReason::PausedByOffice, until);
    }
    if let Some(hours) = schedule.hours.hours().filter(|hours| !hours.contain(at.minute)) {
        let begin = now.saturating_add(i64::from(hours.begin_in(at.minute)) * MINUTE_MS);
        return Decision::Delayed(DelayReason::OutsideHours, begin);
    }
    if at.power == PowerSource::Battery && !schedule.on_battery {
        return Decision::Delayed(DelayReason::OnBattery, look_again);
    }
    if at.is_metered && !schedule.on_metered {
        return Decision::Delayed(DelayReason::MeteredConnection, look_again);
    }
    let Some(since) = at.reachable_since else { return Decision::Delayed(DelayReason::OfficeUnreachable, look_again) };
    if waits_for_busy_machine(schedule, earlier, due, at) {
        return Decision::Delayed(DelayReason::MachineBusy, look_again);
    }
    // Whoever was away catches up soon after the return, and not all in the same second.
    let settled = since.saturating_add(share(at.spread, RETURN_SPREAD_MS));
    if settled > now { Decision::Due(settled) } else { Decision::Start }
}

/// Whether a backup that gives way waits until the machine has less to do. A first backup does not, and none waits for long: some
/// machines are always busy.
fn waits_for_busy_machine(schedule: &Schedule, earlier: &Earlier, due: i64, at: &Conditions) -> bool {
    let patience = MOST_BUSY_MS.min(ms(schedule.rhythm_seconds) / 2);
    schedule.low_priority
        && at.load_percent >= BUSY_PERCENT
        && earlier.completed.is_some()
        && at.now.saturating_sub(due) < patience
}

/// Whether a restore is to be rehearsed, now that a run is complete. Times are Unix milliseconds: when a drill last restored everything,
/// and when one was last tried. What lies ahead was noted by a clock that was wrong, and counts as never.
#[must_use]
pub fn is_drill_due(every: DrillDays, drilled: Option<i64>, tried: Option<i64>, now: i64) -> bool {
    let older_than = |at: Option<i64>, age| at.is_none_or(|at| at > now || now.saturating_sub(at) >= age);
    older_than(drilled, i64::from(every.days()) * DAY_MS) && older_than(tried, DRILL_AGAIN_MS)
}

/// From when on a proof is overdue that a secret opens the image store, in Unix milliseconds: after so many days, or where none was ever
/// given soon after the machine joined.
#[must_use]
pub fn proof_due(every: ProofDays, proved: Option<i64>, enrolled: i64) -> i64 {
    let days = i64::from(every.days());
    let (since, days) = proved.map_or((enrolled, days.min(FIRST_PROOF_DAYS)), |proved| (proved, days));
    since.saturating_add(days * DAY_MS)
}

/// How long to wait after the last of so many failures.
fn retry_after(rhythm: Rhythm, times: u32) -> i64 {
    let doublings = times.saturating_sub(1).min(20);
    (FIRST_RETRY_MS << doublings).min(ms(rhythm))
}

fn ms(rhythm: Rhythm) -> i64 {
    i64::from(rhythm.seconds()) * 1000
}

fn share(spread: u64, most: i64) -> i64 {
    let of = most.unsigned_abs().max(1);
    (spread % of).cast_signed()
}

#[cfg(test)]
mod tests {
    use jetfrost_types::{Hours, TimeOfDay};
    use proptest::prelude::*;

    use super::*;

    const NOW: i64 = EARLIEST_MS + 100 * DAY_MS;

    fn at(now: i64) -> Conditions {
        Conditions {
            now,
            minute: 600,
            power: PowerSource::Mains,
            reachable_since: Some(0),
            is_metered: false,
            load_percent: 0,
            paused_until: None,
            paused_by_office_until: None,
            office_ahead: 0,
            spread: 0,
        }
    }

    fn completed(at: i64) -> Earlier {
        Earlier { completed: Some(at), failed: None }
    }

    #[test]
    fn a_new_workstation_starts_at_once_and_then_by_its_rhythm() {
        assert_eq!(decide(&Schedule::USUAL, &Earlier::default(), &at(NOW)), Decision::Start);
        assert_eq!(decide(&Schedule::USUAL, &completed(NOW), &at(NOW)), Decision::Due(NOW + HOUR_MS));
        assert_eq!(decide(&Schedule::USUAL, &completed(NOW), &at(NOW + HOUR_MS)), Decision::Start);
    }

    #[test]
    fn what_is_in_the_way_is_named_only_when_something_is_due() {
        let battery = |now| Conditions { power: PowerSource::Battery, ..at(now) };
        let (before, then) = (battery(NOW + HOUR_MS - 1), battery(NOW + HOUR_MS));
        assert_eq!(decide(&Schedule::USUAL, &completed(NOW), &before), Decision::Due(NOW + HOUR_MS));
        let delayed = Decision::Delayed(DelayReason::OnBattery, then.now + LOOK_AGAIN_MS);
        assert_eq!(decide(&Schedule::USUAL, &completed(NOW), &then), delayed);
        let allowed = Schedule { on_battery: true, ..Schedule::USUAL };
        assert_eq!(decide(&allowed, &completed(NOW), &then), Decision::Start);
    }

    #[test]
    fn what_is_paid_by_the_byte_carries_no_backup_unless_the_office_says_so() {
        let metered = Conditions { is_metered: true, ..at(NOW) };
        let decided = |schedule, at| decide(&schedule, &Earlier::default(), &at);
        let delayed = Decision::Delayed(DelayReason::MeteredConnection, NOW + LOOK_AGAIN_MS);
        assert_eq!(decided(Schedule::USUAL, metered), delayed);
        assert_eq!(decided(Schedule { on_metered: true, ..Schedule::USUAL }, metered), Decision::Start);
        let away = Conditions { reachable_since: None, ..metered };
        assert_eq!(decided(Schedule::USUAL, away), delayed, "to find out whether the service answers would cost as well");
    }

    #[test]
    fn a_busy_machine_is_waited_for_but_not_for_long_and_not_with_its_first_backup() {
        let due = NOW + HOUR_MS;
        let busy = |now| Conditions { load_percent: BUSY_PERCENT, ..at(now) };
        let decided = |schedule, now| decide(&schedule, &completed(NOW), &busy(now));
        let delayed = Decision::Delayed(DelayReason::MachineBusy, due + LOOK_AGAIN_MS);
        assert_eq!(decided(Schedule::USUAL, due), delayed);
        assert_eq!(decided(Schedule::USUAL, due + MOST_BUSY_MS), Decision::Start, "some machines are always busy");
        let often = Schedule { rhythm_seconds: Rhythm::new(900).expect("within"), ..Schedule::USUAL };
        assert_eq!(decided(often, NOW + 900_000 + 450_000), Decision::Start);
        assert_eq!(decided(Schedule { low_priority: false, ..Schedule::USUAL }, due), Decision::Start);
        assert_eq!(decide(&Schedule::USUAL, &Earlier::default(), &busy(NOW)), Decision::Start);
        let failed = Earlier { completed: None, failed: Some((NOW - DAY_MS, 3)) };
        assert_eq!(decide(&Schedule::USUAL, &failed, &busy(NOW)), Decision::Start);
    }

    #[test]
    fn a_pause_ends_by_itself() {
        let until = NOW + 2 * HOUR_MS;
        let paused = |now| decide(&Schedule::USUAL, &Earlier::default(), &Conditions { paused_until: Some(until), ..at(now) });
        assert_eq!(paused(NOW), Decision::Delayed(DelayReason::Paused, until));
        assert_eq!(paused(until), Decision::Start);
    }

    #[test]
    fn outside_the_allowed_hours_it_waits_for_them() {
        let night = "22:00-06:00".parse().expect("hours");
        let schedule = Schedule { hours: night, ..Schedule::USUAL };
        let delayed = Decision::Delayed(DelayReason::OutsideHours, NOW + 12 * HOUR_MS);
        assert_eq!(decide(&schedule, &Earlier::default(), &at(NOW)), delayed);
    }

    #[test]
    fn the_pause_of_a_person_at_the_machine_is_named_before_the_offices() {
        let by_office = Conditions { paused_by_office_until: Some(NOW + HOUR_MS), ..at(NOW) };
        let decided = |at| decide(&Schedule::USUAL, &Earlier::default(), &at);
        assert_eq!(decided(by_office), Decision::Delayed(DelayReason::PausedByOffice, NOW + HOUR_MS));
        let both = Conditions { paused_until: Some(NOW + 2 * HOUR_MS), ..by_office };
        assert_eq!(decided(both), Decision::Delayed(DelayReason::Paused, NOW + 2 * HOUR_MS));
        assert_eq!(decided(Conditions { now: NOW + HOUR_MS, ..by_office }), Decision::Start);
    }

    #[test]
    fn each_part_of_a_schedule_is_set_by_the_nearest_who_says_it() {
        let every = |seconds| ScheduleSettings { rhythm_seconds: Rhythm::new(seconds), ..ScheduleSettings::default() };
        let battery = ScheduleSettings { on_battery: Some(true), ..ScheduleSettings::default() };
        let groups = [("field".to_owned(), battery), ("sales".to_owned(), every(7_200))];
        let (schedule, by) =
            applied(&every(1_800), &groups, ("shelf", &ScheduleSettings { drill_days: DrillDays::new(30), ..every(900) }));
        assert_eq!((schedule.rhythm_seconds, by.rhythm_seconds), (Rhythm::new(1_800).expect("within"), SetBy::Workstation));
        assert_eq!((schedule.on_battery, by.on_battery), (true, SetBy::Group { name: "field".into() }));
        assert_eq!((schedule.drill_days.days(), by.drill_days), (30, SetBy::Destination { name: "shelf".into() }));
        assert_eq!((schedule.hours, by.hours), (TimeOfDay::ALWAYS, SetBy::Nobody));
        let (schedule, by) = applied(&ScheduleSettings::default(), &groups, ("shelf", &every(900)));
        assert_eq!((schedule.rhythm_seconds.seconds(), by.rhythm_seconds), (7_200, SetBy::Group { name: "sales".into() }));
        assert_eq!(applied(&ScheduleSettings::default(), &[], ("shelf", &ScheduleSettings::default())).0, Schedule::USUAL);
    }

    #[test]
    fn a_clock_that_cannot_be_right_makes_no_run() {
        let wrong = |now, earlier| {
            matches!(decide(&Schedule::USUAL, &earlier, &at(now)), Decision::Delayed(DelayReason::ClockImplausible, _))
        };
        assert!(wrong(0, Earlier::default()) && wrong(NOW, completed(NOW + 2 * DAY_MS)));
        assert!(!wrong(NOW, completed(NOW + DAY_MS)), "a time zone set wrong is a few hours");
        let beside = |office_ahead| decide(&Schedule::USUAL, &Earlier::default(), &Conditions { office_ahead, ..at(NOW) });
        assert!(matches!(beside(2 * DAY_MS), Decision::Delayed(DelayReason::ClockImplausible, _)));
        assert_eq!(beside(-400 * DAY_MS), Decision::Start, "a clock that is ahead keeps nothing from being backed up");
    }

    #[test]
    fn failures_are_tried_again_soon_then_later_and_never_less_often_than_the_rhythm() {
        let failed = |times| due(&Schedule::USUAL, &Earlier { completed: None, failed: Some((NOW, times)) }, NOW, 0) - NOW;
        assert_eq!([1, 2, 3, 4].map(failed), [5, 10, 20, 40].map(|minutes| minutes * MINUTE_MS));
        assert_eq!([5, 1_000, u32::MAX].map(failed), [HOUR_MS; 3]);
    }

    #[test]
    fn restores_are_rehearsed_every_week_and_a_failure_is_no_reason_to_try_all_the_time() {
        assert!(
            is_drill_due(DrillDays::WEEKLY, None, None, NOW)
                && is_drill_due(DrillDays::WEEKLY, Some(NOW + 1), Some(NOW + 40 * DAY_MS), NOW)
                && !is_drill_due(DrillDays::WEEKLY, None, Some(NOW), NOW + DAY_MS - 1)
        );
        assert!(is_drill_due(DrillDays::WEEKLY, None, Some(NOW), NOW + DAY_MS));
        assert!(
            !is_drill_due(DrillDays::WEEKLY, Some(NOW), Some(NOW), NOW + 7 * DAY_MS - 1)
                && is_drill_due(DrillDays::WEEKLY, Some(NOW), Some(NOW), NOW + 7 * DAY_MS)
        );
    }

    proptest! {
        #[test]
        fn machines_keep_their_distance_and_none_waits_long_after_its_return(spread: u64, away in 2 * HOUR_MS..100 * DAY_MS) {
            let due_at = due(&Schedule::USUAL, &completed(NOW), NOW, spread);
            prop_assert!((NOW + HOUR_MS..NOW + HOUR_MS + MOST_SPREAD_MS).contains(&due_at));
            let back = Conditions { reachable_since: Some(NOW + away), spread, ..at(NOW + away) };
            match decide(&Schedule::USUAL, &completed(NOW), &back) {
                Decision::Start => {}
                Decision::Due(then) => prop_assert!(then < back.now + RETURN_SPREAD_MS),
                Decision::Delayed(..) => prop_assert!(false, "nothing is in the way"),
            }
            let gone = Conditions { reachable_since: None, ..back };
            let delayed = Decision::Delayed(DelayReason::OfficeUnreachable, gone.now + LOOK_AGAIN_MS);
            prop_assert_eq!(decide(&Schedule::USUAL, &completed(NOW), &gone), delayed);
        }

        #[test]
        fn every_decision_has_an_end(seconds in Rhythm::LEAST..=Rhythm::MOST, minute in 0..1440_u16, from in 0..1440_u16,
            to in 0..1440_u16, battery: bool, done in proptest::option::of(0..NOW), times in 0..100_u32, spread: u64) {
            let rhythm = Rhythm::new(seconds).expect("within");
            let hours = Hours::new(from, to).map_or(TimeOfDay::ALWAYS, TimeOfDay::within);
            let schedule = Schedule { rhythm_seconds: rhythm, hours, ..Schedule::USUAL };
            let power = if battery { PowerSource::Battery } else { PowerSource::Mains };
            let failed = done.filter(|_| times > 0).map(|at| (at, times));
            let at = Conditions { minute, power, spread, ..at(NOW) };
            match decide(&schedule, &Earlier { completed: done, failed }, &at) {
                Decision::Start => {}
                Decision::Due(then) => prop_assert!(then > NOW && then <= NOW + ms(rhythm) + MOST_SPREAD_MS),
                Decision::Delayed(_, then) => prop_assert!(then > NOW && then <= NOW + DAY_MS),
            }
        }
    }
}
