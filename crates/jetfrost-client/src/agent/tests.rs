//! An agent in a world that is made up: a clock that is set, a service that answers or does not, runs that end as they are told.

mod world;

use std::sync::atomic::Ordering;

use jetfrost_wire::Problem;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::workstation::Wait;

use super::*;
use crate::state_dir::Membership;
use world::{World, refused};

fn joined() -> (tempfile::TempDir, StateDir) {
    let directory = tempfile::tempdir().expect("a directory");
    let state_dir = StateDir::new(directory.path().join("state"));
    let text = || String::from("x");
    let membership = Membership {
        address: text(),
        moved_from: None,
        fingerprint: text(),
        service: text(),
        workstation: "front desk".into(),
        name: text(),
        login: text(),
        destination: text(),
        store: text(),
        credential: text(),
    };
    state_dir.keep_claimed(&membership).expect("kept");
    (directory, state_dir)
}

fn agent<'w>(state_dir: &StateDir, world: &'w World) -> Agent<&'w World> {
    Agent::new(state_dir.clone(), world).expect("nothing is in the way")
}

/// Steps until nothing is to be done now, as the loop does; the service's answer has settled.
fn settle(agent: &Agent<&World>, world: &World) {
    agent.step();
    world.pass(1);
    agent.step();
}

fn reason(agent: &Agent<&World>) -> Option<DelayReason> {
    match agent.status().now {
        Doing::Delayed(delay) => Some(delay.reason),
        Doing::Waiting { .. } | Doing::BackingUp { .. } | Doing::Drilling { .. } => None,
    }
}

#[test]
fn it_backs_up_once_a_rhythm_and_not_more_often() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = agent(&state_dir, &world);
    settle(&agent, &world);
    assert_eq!(world.runs(), 1);
    for _ in 0..59 {
        agent.step();
        world.pass(1);
    }
    assert_eq!(world.runs(), 1);
    for _ in 0..20 {
        agent.step();
        world.pass(1);
    }
    assert_eq!(world.runs(), 2);
}

#[test]
fn what_is_in_the_way_is_named_with_the_time_from_when_it_was_also_after_a_restart() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.battery.store(true, Ordering::SeqCst);
    let since = {
        let agent = agent(&state_dir, &world);
        agent.step();
        let Doing::Delayed(delay) = agent.status().now else { panic!("{:?}", agent.status()) };
        assert_eq!(delay.reason, DelayReason::OnBattery);
        delay.since
    };
    world.pass(90);
    let agent = agent(&state_dir, &world);
    agent.step();
    assert_eq!(agent.status().now, Doing::Delayed(Delay { reason: DelayReason::OnBattery, since }));
    world.battery.store(false, Ordering::SeqCst);
    settle(&agent, &world);
    assert_eq!((world.runs(), agent.status().completed.is_some()), (1, true));
}

#[test]
fn over_a_metered_connection_the_service_is_not_even_asked_and_a_person_may_all_the_same() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.metered.store(true, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    agent.step();
    let asked = world.asked_times.load(Ordering::SeqCst);
    for _ in 0..20 {
        world.pass(1);
        agent.step();
    }
    assert_eq!((reason(&agent), world.runs()), (Some(DelayReason::MeteredConnection), 0));
    assert_eq!(world.asked_times.load(Ordering::SeqCst), asked, "that would be paid, too");
    agent.obey(&Ask::StartNow).expect("asked");
    agent.step();
    assert_eq!(world.runs(), 1);
}

#[test]
fn a_busy_machine_is_backed_up_when_it_has_less_to_do_or_half_an_hour_later() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.load.store(900, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    settle(&agent, &world);
    assert_eq!(world.runs(), 1, "the first backup waits for nothing");
    agent.step();
    let due = loop {
        let Doing::Waiting { due } = agent.status().now else { break (&world).now() };
        world.now.store(due.as_millisecond(), Ordering::SeqCst);
        agent.step();
    };
    assert_eq!(reason(&agent), Some(DelayReason::MachineBusy));
    while world.runs() == 1 {
        world.pass(1);
        agent.step();
    }
    assert_eq!((&world).now().duration_since(due), SignedDuration::from_mins(30));
}

/// An hour of rounds.
fn an_hour(agent: &Agent<&World>, world: &World) {
    for _ in 0..80 {
        agent.round();
        world.pass(1);
    }
}

#[test]
fn what_was_noted_by_a_clock_that_was_ahead_keeps_no_run_waiting_once_it_is_right() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.set_ahead(40);
    {
        let agent = agent(&state_dir, &world);
        settle(&agent, &world);
        assert_eq!(world.runs(), 1, "a clock that is ahead prevents nothing");
        *world.ends.lock().expect("a lock") = || Err(ClientError::Unexpected("broken".into()));
        an_hour(&agent, &world);
        assert!(agent.status().failed.is_some());
        *world.ends.lock().expect("a lock") = || refused(ProblemKind::NoRoom);
        agent.obey(&Ask::StartNow).expect("taken");
        agent.step();
        agent.obey(&Ask::Pause { until: (&world).now() + SignedDuration::from_hours(1) }).expect("taken");
        *world.ends.lock().expect("a lock") = || Ok(());
        world.set_ahead(-40);
        let before = world.runs();
        agent.round();
        let until = agent.status().paused_until.expect("paused");
        assert!(until.duration_since((&world).now()) <= MOST_PAUSE, "no pause is longer");
        agent.obey(&Ask::Resume).expect("taken");
        an_hour(&agent, &world);
        assert!(world.runs() > before, "{:?}", agent.status().now);
        let reported = world.reports.lock().expect("a lock").len();
        an_hour(&agent, &world);
        assert!(world.reports.lock().expect("a lock").len() > reported, "the office hears of it as before");
    }
    // The same when the agent was started again in between.
    world.set_ahead(40);
    an_hour(&agent(&state_dir, &world), &world);
    world.set_ahead(-40);
    let (agent, before) = (agent(&state_dir, &world), world.runs());
    an_hour(&agent, &world);
    assert!(world.runs() > before, "{:?}", agent.status().now);
}

#[test]
fn a_clock_that_is_days_behind_is_told_as_long_as_it_is_and_the_service_knows_whose_is_wrong() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = agent(&state_dir, &world);
    settle(&agent, &world);
    world.set_ahead(-3);
    an_hour(&agent, &world);
    assert_eq!((world.runs(), reason(&agent)), (1, Some(DelayReason::ClockImplausible)));
    world.reachable.store(false, Ordering::SeqCst);
    an_hour(&agent, &world);
    assert_eq!(reason(&agent), Some(DelayReason::ClockImplausible), "nobody says that it is right");
    world.reachable.store(true, Ordering::SeqCst);
    world.set_ahead(3);
    an_hour(&agent, &world);
    assert!(world.runs() > 1 && reason(&agent).is_none(), "{:?}", agent.status().now);
}

#[test]
fn within_a_minute_of_the_networks_return_it_catches_up() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.reachable.store(false, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    for _ in 0..600 {
        agent.step();
        world.pass(1);
    }
    assert_eq!((world.runs(), reason(&agent)), (0, Some(DelayReason::OfficeUnreachable)));
    world.reachable.store(true, Ordering::SeqCst);
    let look_again = agent.step();
    assert!(look_again.duration_since((&world).now()) <= SignedDuration::from_secs(30));
    world.pass(1);
    agent.step();
    assert_eq!(world.runs(), 1);
}

#[test]
fn a_run_is_stopped_when_the_charger_is_pulled_out_unless_a_person_asked_for_it() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.endless.store(true, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    agent.step();
    world.pass(1);
    thread::scope(|scope| {
        let running = scope.spawn(|| agent.step());
        while world.runs() == 0 {
            thread::yield_now();
        }
        world.battery.store(true, Ordering::SeqCst);
        agent.state.changed.notify_all();
        running.join().expect("no panic");
    });
    assert_eq!((reason(&agent), agent.status().failed), (Some(DelayReason::OnBattery), None), "it did not fail");
    world.endless.store(false, Ordering::SeqCst);
    agent.obey(&Ask::StartNow).expect("asked");
    agent.step();
    assert_eq!((world.runs(), agent.status().completed.is_some()), (2, true), "a person knows better");
}

#[test]
fn a_refusal_that_waiting_ends_is_a_reason_and_another_error_a_failure() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = agent(&state_dir, &world);
    world.ends_with(|| refused(ProblemKind::NoRoom));
    settle(&agent, &world);
    assert_eq!((reason(&agent), agent.status().failed), (Some(DelayReason::LimitReached), None));
    agent.step();
    assert_eq!(world.runs(), 1, "it does not knock all the time");
    world.ends_with(|| Err(ClientError::Damaged));
    world.pass(11);
    agent.step();
    let failed = agent.status().failed.expect("noted");
    assert_eq!((failed.times, reason(&agent)), (1, None));
    world.ends_with(|| Ok(()));
    world.pass(6);
    agent.step();
    assert_eq!((world.runs(), agent.status().failed), (3, None), "tried again soon, and forgotten when it is complete");
}

#[test]
fn a_pause_is_bounded_ends_by_itself_and_is_kept() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let now = (&world).now();
    {
        let agent = agent(&state_dir, &world);
        let pause = |hours| agent.obey(&Ask::Pause { until: now + SignedDuration::from_hours(hours) });
        assert!(pause(0).is_err() && pause(7 * 24 + 1).is_err());
        pause(3).expect("paused");
    }
    let agent = agent(&state_dir, &world);
    agent.step();
    assert_eq!((world.runs(), reason(&agent)), (0, Some(DelayReason::Paused)));
    world.pass(180);
    settle(&agent, &world);
    assert_eq!(world.runs(), 1);
}

#[test]
fn the_service_is_told_of_changes_and_now_and_then_and_not_all_the_time() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.battery.store(true, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    let look = || {
        agent.step();
        agent.report();
        world.reports.lock().expect("a lock").len()
    };
    assert_eq!((look(), look()), (1, 1), "what it knows already");
    world.pass(29);
    assert_eq!(look(), 1);
    world.pass(1);
    assert_eq!(look(), 2, "it is still there");
    world.battery.store(false, Ordering::SeqCst);
    world.reachable.store(false, Ordering::SeqCst);
    assert_eq!(look(), 2, "nobody is there to be told");
    world.reachable.store(true, Ordering::SeqCst);
    look();
    world.pass(1);
    look();
    let last = world.reports.lock().expect("a lock").last().cloned().expect("told");
    assert!(last.delay.is_none() && world.runs() == 1, "{last:?}");
}

fn every(seconds: u32) -> AppliedSchedule {
    let rhythm_seconds = jetfrost_types::Rhythm::new(seconds).expect("within");
    AppliedSchedule { values: Schedule { rhythm_seconds, ..Schedule::USUAL }, ..AppliedSchedule::default() }
}

#[test]
fn a_schedule_that_the_office_changes_holds_at_once_and_while_the_office_is_out_of_reach() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    {
        let agent = agent(&state_dir, &world);
        settle(&agent, &world);
        world.wants(&agent, |known| known.schedule = every(900));
        let due = agent.step();
        assert!(due.duration_since((&world).now()) <= SignedDuration::from_mins(17), "{due}");
    }
    world.reachable.store(false, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    let due = agent.step();
    assert!(due.duration_since((&world).now()) <= SignedDuration::from_mins(17), "{due}");
    assert_eq!(agent.status().schedule, every(900));
}

#[test]
fn a_backup_that_an_administrator_asks_for_is_begun_once_and_not_during_a_persons_pause() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.battery.store(true, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    let until = (&world).now() + SignedDuration::from_hours(2);
    agent.obey(&Ask::Pause { until }).expect("paused");
    world.ends_with(|| Err(ClientError::Damaged));
    let asked = Some((&world).now());
    world.wants(&agent, |known| known.asked = asked);
    agent.step();
    assert_eq!((world.runs(), reason(&agent)), (0, Some(DelayReason::Paused)));
    agent.obey(&Ask::Resume).expect("resumed");
    agent.step();
    assert_eq!((world.runs(), agent.status().failed.map(|failed| failed.times)), (1, Some(1)), "also on battery");
    for _ in 0..10 {
        world.pass(1);
        agent.state.hear(News::Anything);
        agent.step();
    }
    assert_eq!(world.runs(), 1, "the service still asks for it; it is tried again like any other");
}

#[test]
fn a_pause_of_the_office_is_kept_and_ends_by_itself() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let until = (&world).now() + SignedDuration::from_hours(3);
    {
        let agent = agent(&state_dir, &world);
        world.wants(&agent, |known| known.paused_until = Some(until));
        agent.step();
        assert_eq!(reason(&agent), Some(DelayReason::PausedByOffice));
    }
    world.reachable.store(false, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    agent.step();
    assert_eq!((agent.status().paused_by_office_until, reason(&agent)), (Some(until), Some(DelayReason::PausedByOffice)));
    world.reachable.store(true, Ordering::SeqCst);
    world.pass(180);
    settle(&agent, &world);
    assert_eq!(world.runs(), 1);
}

#[test]
fn a_backup_in_the_queue_knows_its_place_and_asks_again_when_it_hears_something() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.battery.store(true, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    agent.step();
    world.ends_with(|| Err(ClientError::Refused(Box::new(Problem::queued(3, 240).retry_after(20)))));
    agent.obey(&Ask::StartNow).expect("asked");
    let look_again = agent.step();
    assert_eq!(look_again.duration_since((&world).now()), SignedDuration::from_secs(20));
    let status = agent.status();
    assert_eq!((reason(&agent), status.failed), (Some(DelayReason::Queued), None));
    assert_eq!(status.queue.map(|queue| (queue.place, queue.expected_seconds)), Some((3, 240)));
    agent.step();
    assert_eq!(world.runs(), 1, "it does not knock all the time");
    agent.state.hear(News::Anything);
    agent.step();
    assert_eq!(world.runs(), 2, "it may be its turn");
    world.ends_with(|| Ok(()));
    world.pass(1);
    agent.step();
    let status = agent.status();
    assert_eq!(
        (world.runs(), status.queue, status.completed.is_some()),
        (3, None, true),
        "what a person asked for, also on battery"
    );
    world.pass(1);
    agent.step();
    assert_eq!(world.runs(), 3, "once");
}

#[test]
fn a_report_that_came_too_soon_after_another_is_made_again() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.battery.store(true, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    agent.step();
    assert!(agent.report());
    agent.obey(&Ask::Pause { until: (&world).now() + SignedDuration::from_hours(1) }).expect("paused");
    agent.step();
    assert!(!agent.report(), "the service answered with what it had on record");
    world.pass(1);
    assert!(agent.report() && agent.report());
    assert_eq!(world.reports.lock().expect("a lock").len(), 3);
}

#[test]
fn what_kept_a_backup_waiting_is_told_once_also_after_the_office_was_out_of_reach() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.reachable.store(false, Ordering::SeqCst);
    let since = (&world).now();
    let agent = agent(&state_dir, &world);
    for _ in 0..20 {
        agent.step();
        agent.report();
        world.pass(1);
    }
    world.battery.store(true, Ordering::SeqCst);
    agent.step();
    world.pass(1);
    world.battery.store(false, Ordering::SeqCst);
    world.reachable.store(true, Ordering::SeqCst);
    for _ in 0..3 {
        agent.step();
        agent.report();
        world.pass(1);
    }
    let told: Vec<Wait> = world.reports.lock().expect("a lock").iter().flat_map(|report| report.waited.clone()).collect();
    let reason = DelayReason::OfficeUnreachable;
    assert_eq!(told, [Wait { reason, since, until: since + SignedDuration::from_mins(20) }], "a minute is not worth a record");
}

#[test]
fn a_machine_whose_disk_is_full_is_backed_up_and_says_that_nothing_is_kept() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = agent(&state_dir, &world);
    // No file can take a directory's name, as none can be written to a full disk.
    let record = state_dir.directory().join("agent.json");
    let _ = std::fs::remove_file(&record);
    std::fs::create_dir(&record).expect("made");
    settle(&agent, &world);
    assert_eq!((world.runs(), agent.status().not_kept.is_some()), (1, true));
    std::fs::remove_dir(&record).expect("removed");
    world.pass(80);
    agent.step();
    assert_eq!((world.runs(), agent.status().not_kept), (2, None));
}

#[test]
fn a_restore_is_rehearsed_after_the_first_run_and_then_every_week() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = agent(&state_dir, &world);
    settle(&agent, &world);
    assert_eq!((world.runs(), world.drills.load(Ordering::SeqCst)), (1, 1));
    world.drilled.store((&world).now().as_millisecond(), Ordering::SeqCst);
    for _ in 0..7 * 24 + 10 {
        world.pass(60);
        agent.step();
    }
    assert_eq!(world.drills.load(Ordering::SeqCst), 2);
}

#[test]
fn a_drill_that_gave_way_to_backups_is_tried_after_the_next_run() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    world.drills_wait.store(true, Ordering::SeqCst);
    let agent = agent(&state_dir, &world);
    settle(&agent, &world);
    let drills = || world.drills.load(Ordering::SeqCst);
    assert_eq!((world.runs(), drills()), (1, 1));
    world.drills_wait.store(false, Ordering::SeqCst);
    for runs in [2, 3] {
        world.pass(80);
        agent.step();
        assert_eq!((world.runs(), drills()), (runs, 2), "once, and then not before a day has passed");
    }
}

#[test]
fn a_state_directory_has_one_agent_and_a_record_that_is_damaged_harms_nothing() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    {
        let _first = agent(&state_dir, &world);
        assert!(matches!(Agent::new(state_dir.clone(), &world), Err(ClientError::AgentRuns)));
    }
    std::fs::write(state_dir.directory().join("agent.json"), b"\xff{").expect("written");
    let agent = agent(&state_dir, &world);
    settle(&agent, &world);
    assert_eq!(world.runs(), 1);
}

/// Ends an agent also when a look at it fails.
struct Ends<'a>(&'a Agent<&'a World>);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        self.0.end();
    }
}

#[test]
fn commands_reach_it_over_its_socket_and_whoever_says_nothing_holds_nobody_up() {
    let (_directory, state_dir) = joined();
    assert!(matches!(ask(&state_dir, &Ask::Status), Err(ClientError::NoAgent)));
    let world = World::new();
    let agent = agent(&state_dir, &world);
    let (tell, told) = std::sync::mpsc::channel();
    thread::scope(|scope| {
        scope.spawn(|| agent.run(|status| drop(tell.send(status.clone()))).expect("it ends"));
        let _end = Ends(&agent);
        told.recv().expect("it runs");
        let silent = jetfrost_platform::LocalStream::connect(state_dir.directory().join("agent.socket")).expect("connected");
        let until = (&world).now() + SignedDuration::from_hours(1);
        assert_eq!(ask(&state_dir, &Ask::Pause { until }).expect("answered").paused_until, Some(until));
        let refused = ask(&state_dir, &Ask::Pause { until: (&world).now() }).expect_err("in the past").to_string();
        assert_eq!(refused, "A pause must end in the future.");
        assert_eq!(ask(&state_dir, &Ask::Resume).expect("answered").paused_until, None);
        drop(silent);
    });
    assert!(matches!(ask(&state_dir, &Ask::Status), Err(ClientError::NoAgent)), "the socket goes with it");
}

#[test]
fn what_keeps_failing_is_looked_into_once_a_day_and_a_single_failure_is_not() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = Agent::new(state_dir, &world).expect("an agent");
    let looked = |minutes: i64| {
        world.pass(minutes);
        let _ = agent.step();
        agent.look_into();
        world.diagnoses.load(Ordering::SeqCst)
    };
    world.ends_with(|| refused(ProblemKind::Internal));
    assert_eq!((looked(1), world.runs()), (0, 0), "it keeps its distance to others first");
    assert_eq!((looked(1), world.runs()), (0, 1), "a single failure");
    assert_eq!((looked(10), world.runs()), (1, 2));
    assert_eq!(looked(60), 1);
    assert_eq!(looked(24 * 60), 2);
    world.ends_with(|| Ok(()));
    assert_eq!(looked(25 * 60), 2, "all is well again");
    world.ends_with(|| refused(ProblemKind::NoRoom));
    assert_eq!(looked(25 * 60), 3, "somebody has to end that");
    world.ends_with(|| refused(ProblemKind::Paused));
    assert_eq!(looked(25 * 60), 3, "that ends by itself");
}

#[test]
fn a_service_that_does_not_answer_is_looked_for_now_and_then_and_followed_when_it_moved() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = Agent::new(state_dir, &world).expect("an agent");
    world.reachable.store(false, Ordering::SeqCst);
    let sought = |minutes: i64| {
        world.pass(minutes);
        let _ = agent.step();
        agent.seek();
        world.sought.load(Ordering::SeqCst)
    };
    assert_eq!([sought(1), sought(4)], [0, 0], "it may only have been restarted");
    assert_eq!([sought(1), sought(30), sought(31)], [1, 1, 2]);
    world.has_moved.store(true, Ordering::SeqCst);
    assert_eq!(sought(60), 3);
    let _ = agent.step();
    world.pass(1);
    let _ = agent.step();
    assert_eq!(world.runs(), 1, "what is due is made there");
    assert_eq!(world.went_back.load(Ordering::SeqCst), 0);
    assert_eq!(sought(120), 3, "a service that answers is not looked for");
    assert_eq!(world.went_back.load(Ordering::SeqCst), 1, "but where a person said it is, it is preferred");
}

#[test]
fn whoever_is_at_the_machine_is_told_of_a_suspect_point_once_and_as_soon_as_somebody_is_there() {
    let (_directory, state_dir) = joined();
    let world = World::new();
    let agent = agent(&state_dir, &world);
    let suspect = |sequence| Some(Suspect { sequence, suspicion: None, committed: (&world).now() });
    let told = || world.told.lock().expect("a lock").clone();
    let look = |minutes| {
        world.pass(minutes);
        agent.round();
    };
    world.wants(&agent, |office| office.suspect = suspect(7));
    look(1);
    assert_eq!(told(), [] as [u64; 0], "nobody is there");
    world.somebody_is_there.store(true, Ordering::SeqCst);
    look(1);
    look(1);
    assert_eq!(told(), [7]);
    // A service that lies names one after the other.
    for sequence in 8..12 {
        world.wants(&agent, |office| office.suspect = suspect(sequence));
        look(10);
    }
    assert_eq!(told(), [7]);
    look(30);
    assert_eq!(told(), [7, 11]);
}
