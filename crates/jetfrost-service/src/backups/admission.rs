//! Which runs go on at once: the queue of `jetfrost_office::queue`, what comes in by the second, and who hears that it is their turn.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jetfrost_office::freshness::overdue_at;
use jetfrost_office::queue::{Answer, Asks, Capacity, Kind, LARGE, Queue, USUAL_CAP};
use jetfrost_types::WorkstationId;
use jetfrost_wire::restore::Purpose;
use jetfrost_wire::run::Outcome;

use crate::backups::Backups;
use crate::records::{Connection, Count, RestoreRow, RunRow, WorkstationLine, runs_at_once};
use crate::shared::{Result, ServiceError};

/// What comes in is averaged over some 15 seconds, in windows of this length.
const WINDOW_MS: i64 = 5_000;
const WINDOWS: f64 = 3.0;
/// The best of late is forgotten by this share a window: by half within ten hours.
const FORGETS: f64 = 0.0001;

/// Who runs, who waits, and how much comes in.
#[derive(Debug, Default)]
pub(super) struct Admission {
    /// Bytes since the last look.
    arrived: Arc<AtomicU64>,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    queue: Queue,
    rate: Rate,
    /// Whether runs from before the start were looked up.
    has_looked: bool,
}

/// Bytes a second: now, and the best of late.
#[derive(Debug, Default)]
struct Rate {
    since: Option<i64>,
    now: f64,
    best: f64,
}

impl Rate {
    /// What came in until a moment; `arrived` is emptied when a window is over.
    fn look(&mut self, arrived: &AtomicU64, now: i64) {
        let since = *self.since.get_or_insert(now);
        let elapsed = now - since;
        if elapsed < WINDOW_MS {
            return;
        }
        self.since = Some(now);
        let rate = arrived.swap(0, Ordering::Relaxed) as f64 * 1000.0 / elapsed as f64;
        let windows = elapsed as f64 / WINDOW_MS as f64;
        self.now += (rate - self.now) * (1.0 - (1.0 - 1.0 / WINDOWS).powf(windows));
        self.best = self.now.max(self.best * (1.0 - FORGETS).powf(windows));
    }
}

impl Admission {
    /// What counts what comes in.
    pub(super) fn arrived(&self) -> Arc<AtomicU64> {
        Arc::clone(&self.arrived)
    }

    /// At which place a workstation waits.
    pub(super) fn place(&self, id: &WorkstationId, now: i64) -> Option<u32> {
        self.lock().queue.place(id.as_str(), now)
    }

    /// Something comes of a workstation's run.
    pub(super) fn note_activity(&self, id: &WorkstationId, now: i64) {
        self.lock().queue.note_activity(id.as_str(), now);
    }

    /// Whether any run waits: drills give way to them.
    pub(super) fn has_waiting(&self, now: i64) -> bool {
        self.lock().queue.has_waiting(now)
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Backups {
    /// Admits a workstation's run, or says at which place it waits.
    pub(super) fn admit(&self, line: &WorkstationLine) -> Result<()> {
        let now = self.clock.now_ms();
        let (cap, restores) = self.records.read(|on| Ok::<_, ServiceError>((runs_at_once(on)?, restores(on)?)))?;
        let mut state = self.admission.lock();
        if !state.has_looked {
            let running = self.records.read(|on| Ok::<_, ServiceError>(RunRow::with_outcome(Outcome::Underway.word(), on)?))?;
            state.has_looked = true;
            for run in running {
                let kind = if run.sent.get() > LARGE { Kind::Large } else { Kind::Small };
                state.queue.runs(run.workstation_id.as_str(), kind, now);
            }
        }
        let capacity = self.capacity(&mut state, cap, restores, now);
        let rhythm = line.schedule().0.rhythm_seconds;
        let asks = Asks {
            kind: Kind::expected(line.latest_point.as_ref().map(|point| point.sent.get())),
            overdue_at: line.last_point_ms().map(|last| overdue_at(last, rhythm)),
        };
        match state.queue.ask(line.workstation.id.as_str(), asks, &capacity, now) {
            Answer::Admitted => Ok(()),
            Answer::Waits { place, expected_ms } => {
                Err(ServiceError::Queued { place, expected_seconds: expected_ms.unsigned_abs().div_ceil(1000) })
            }
        }
    }

    /// A workstation's run is over, however it ended: whoever is next hears of it.
    pub(super) fn run_is_over(&self, id: &WorkstationId) {
        let now = self.clock.now_ms();
        self.admission.lock().queue.end(id.as_str(), now);
        // Where the records cannot be read, nobody is told; whoever waits asks again in any case.
        let known = self.records.read(|on| Ok::<_, ServiceError>((runs_at_once(on)?, restores(on)?)));
        let Ok((cap, restores)) = known else { return };
        let next = {
            let mut state = self.admission.lock();
            let capacity = self.capacity(&mut state, cap, restores, now);
            state.queue.next(&capacity, now)
        };
        for id in next {
            self.events.workstation_changed(&WorkstationId(id));
        }
    }

    fn capacity(&self, state: &mut State, cap: Option<Count>, restores: u32, now: i64) -> Capacity {
        state.rate.look(&self.admission.arrived, now);
        let cap = cap.map_or(USUAL_CAP, |cap| u32::try_from(cap.get()).unwrap_or(u32::MAX));
        Capacity { best: state.rate.best as u64, now: state.rate.now as u64, cap, restores }
    }
}

/// Restores in progress. Drills are none: they give way to runs; nor is what may stay attached or mounted for days.
fn restores(on: &mut Connection) -> Result<u32> {
    let underway = RestoreRow::with_outcome(Outcome::Underway.word(), on)?;
    let restores = underway.iter().filter(|row| matches!(row.purpose.0, Purpose::Restore | Purpose::Export)).count();
    Ok(u32::try_from(restores).unwrap_or(u32::MAX))
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::restore::{BeginRestore, EndRestore, Scope};
    use jetfrost_wire::run::{GiveUp, Progress};
    use jetfrost_wire::service::{OfficeSettings, RunsAtOnce};
    use jetfrost_wire::size::Units;

    use super::*;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::Machine;
    use crate::shared::versions::Seen;

    /// So many workstations, of which none has a point.
    fn office(machines: usize) -> (Office, Vec<Machine>) {
        let office = Office::open();
        office.destination("shelf");
        office.person("tove", Role::Member);
        let machines = (0..machines).map(|n| office.machine("tove", &format!("desk {n}"))).collect();
        (office, machines)
    }

    fn place(begun: Result<jetfrost_wire::run::RunBegun>) -> Option<u32> {
        match begun {
            Ok(_) => None,
            Err(ServiceError::Queued { place, .. }) => Some(place),
            Err(other) => panic!("{other}"),
        }
    }

    #[test]
    fn first_backups_begin_one_after_another_and_a_small_run_beside_them() {
        let (office, mut machines) = office(3);
        machines[0].back_up(&office, b"one").expect("its first point");
        let begin = |machine: &Machine| place(machine.begin(&office));
        assert_eq!((begin(&machines[1]), begin(&machines[2])), (None, Some(1)));
        assert_eq!(begin(&machines[0]), None, "an hourly run is not stuck");
        machines[1].back_up(&office, b"two").expect("done");
        assert_eq!(begin(&machines[2]), None);
    }

    #[test]
    fn whoever_waits_is_told_when_it_is_their_turn() {
        let (office, machines) = office(2);
        let begun = machines[0].begin(&office).expect("admitted");
        assert_eq!(place(machines[1].begin(&office)), Some(1));
        let waiting = &machines[1].enrolled.workstation;
        let shown = |office: &Office| office.services.backups.workstation(&office.ingrid, waiting).expect("seen").queued_at;
        assert_eq!(shown(&office), Some(1));
        let mut heard = office.services.events.listen();
        let why = GiveUp { stopped: true, reason: "enough".into(), progress: Progress::default() };
        office.services.backups.give_up_run(&machines[0].caller, &begun.run.id, &why).expect("given up");
        let mut told = Vec::new();
        while let Ok(event) = heard.try_recv() {
            told.extend(event.workstation().cloned());
        }
        assert!(told.contains(waiting), "{told:?}");
        assert_eq!((place(machines[1].begin(&office)), shown(&office)), (None, None));
    }

    #[test]
    fn a_run_of_which_nothing_comes_keeps_nobody_waiting_and_one_that_sends_does() {
        let (office, mut machines) = office(3);
        let set = OfficeSettings { units: Units::Decimal, runs_at_once: RunsAtOnce::try_from(1).ok(), own_machines: false };
        office.services.operations.set_settings(&office.ingrid, &set, &Seen::Anything).expect("set");
        machines[0].begin(&office).expect("admitted");
        for _ in 0..8 {
            office.pass(15_000);
            machines[0].send(&office, b"more and more").expect("sent");
            assert_eq!(place(machines[1].begin(&office)), Some(1), "it sends");
        }
        let mut waited = 0;
        while place(machines[1].begin(&office)).is_some() {
            office.pass(15_000);
            waited += 15;
            assert!(waited <= 150, "it idles");
        }
        assert!(waited >= 60, "{waited}");
    }

    #[test]
    fn drills_give_way_to_runs_that_wait_and_restores_do_not() {
        let (office, mut machines) = office(3);
        machines[0].back_up(&office, b"one").expect("a point");
        assert_eq!([&machines[1], &machines[2]].map(|machine| place(machine.begin(&office))), [None, Some(1)]);
        let begin = |purpose| {
            let begin = BeginRestore { point: 1, scope: Scope::Everything, purpose, target: None, order: None };
            office.services.backups.begin_restore(&machines[0].caller, &machines[0].enrolled.workstation, &begin)
        };
        assert!(matches!(begin(Purpose::Drill), Err(ServiceError::DrillWaits)));
        begin(Purpose::Restore).expect("restores come first");
        office.pass(3_600_000);
        begin(Purpose::Drill).expect("whoever waited is gone");
    }

    /// It may stay so for days.
    #[test]
    fn what_is_attached_or_mounted_does_not_slow_runs_down_and_what_is_brought_back_does() {
        let (office, mut machines) = office(1);
        machines[0].back_up(&office, b"one").expect("a point");
        let in_progress = || office.services.backups.records.read(restores).expect("readable");
        let mut seen = Vec::new();
        for purpose in Purpose::ALL {
            let begin = BeginRestore { point: 1, scope: Scope::Everything, purpose: *purpose, target: None, order: None };
            let backups = &office.services.backups;
            let begun = backups.begin_restore(&machines[0].caller, &machines[0].enrolled.workstation, &begin).expect("begun");
            seen.push((*purpose, in_progress()));
            let end = EndRestore { progress: Progress::default(), exceptions: 0 };
            backups.end_restore(&machines[0].caller, &begun.id, &end).expect("ended");
        }
        let counted = seen.into_iter().filter(|(_, number)| *number > 0).map(|(purpose, _)| purpose).collect::<Vec<_>>();
        assert_eq!(counted, [Purpose::Restore, Purpose::Export]);
    }

    #[test]
    fn a_run_that_was_admitted_and_could_not_begin_holds_no_place() {
        let (office, machines) = office(2);
        std::fs::rename(office.path("shelf"), office.path("unplugged")).expect("moved");
        assert!(matches!(machines[0].begin(&office), Err(ServiceError::Media(_))));
        std::fs::rename(office.path("unplugged"), office.path("shelf")).expect("moved back");
        assert_eq!(place(machines[1].begin(&office)), None);
    }

    #[test]
    fn a_service_that_was_started_anew_knows_who_runs() {
        let (office, machines) = office(2);
        assert_eq!(place(machines[0].begin(&office)), None);
        *office.services.backups.admission.lock() = State::default();
        machines[1].begin(&office).expect("another run");
        let counts = office.services.backups.admission.lock().queue.counts();
        assert_eq!(counts, (2, 0));
    }

    #[test]
    fn what_comes_in_is_measured_and_the_best_is_remembered() {
        let (mut rate, arrived) = (Rate::default(), AtomicU64::new(0));
        for second in 0..=120 {
            arrived.fetch_add(50_000_000, Ordering::Relaxed);
            rate.look(&arrived, second * 1000);
        }
        assert!((40e6..=51e6).contains(&rate.now), "{rate:?}");
        let best = rate.best;
        rate.look(&arrived, 120_000 + 3_600_000);
        assert!(rate.now < 1e6 && rate.best > best * 0.9, "{rate:?}");
    }
}
