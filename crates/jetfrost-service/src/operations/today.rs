//! How the office stands today: the figures that a glance in the morning needs.

use jetfrost_office::access::Act;
use jetfrost_wire::office::{DayOfBackups, InState, LeastProven, Office};
use jetfrost_wire::run::Outcome;
use jetfrost_wire::workstation::WorkstationState;
use jiff::ToSpan;
use jiff::civil::Date;

use crate::clock::{Moment, timestamp};
use crate::operations::Operations;
use crate::records::{Connection, RunRow, WaitRow, WorkstationLine};
use crate::shared::{Caller, Result, ServiceError, convert};
use crate::storage::workstations::see;

/// Days that are looked back on, today among them.
const DAYS: i64 = 14;

impl Operations {
    pub(crate) fn today(&self, caller: &Caller) -> Result<Office> {
        let now = self.clock.now();
        let today = timestamp(now).to_zoned(self.zone.clone()).date();
        let (lines, days) = self.records.read(|on| {
            let days =
                (1 - DAYS..=0).map(|back| self.day(caller, today.saturating_add(back.days()), on)).collect::<Result<_>>()?;
            Ok::<_, ServiceError>((WorkstationLine::all(caller.only_own(), on)?, days))
        })?;
        let lines: Vec<WorkstationLine> = lines.into_iter().filter(|line| caller.may(&see(line)).is_ok()).collect();
        let sees_office = caller.may(&Act::SeeOffice).is_ok();
        Ok(Office {
            now: timestamp(now),
            states: states(&lines, now),
            protected_bytes: lines.iter().filter_map(|line| line.latest_point.as_ref()).map(|point| point.bytes.get()).sum(),
            days,
            least_proven: least_proven(&lines),
            destinations: if sees_office { self.storage.all_destinations()? } else { Vec::new() },
            protection: if sees_office { Some(self.storage.protection()?) } else { None },
        })
    }

    /// What became of the backups of a day.
    fn day(&self, caller: &Caller, day: Date, on: &mut Connection) -> Result<DayOfBackups> {
        let (from, until) = (self.midnight(day), self.midnight(day.saturating_add(1.day())));
        let ended = RunRow::outcomes(caller.only_own(), from, until, on)?;
        let of = |wanted: &[Outcome]| ended.iter().filter(|(how, _)| wanted.contains(&how.0)).map(|(_, count)| count.get()).sum();
        Ok(DayOfBackups {
            day,
            complete: of(&[Outcome::Complete]),
            with_exceptions: of(&[Outcome::CompleteWithExceptions]),
            failed: of(&[Outcome::Failed, Outcome::Lost]),
            stopped: of(&[Outcome::Stopped]),
            waited: WaitRow::ended(caller.only_own(), from, until, on)?.get(),
        })
    }

    /// When a day begins where the service is.
    fn midnight(&self, day: Date) -> Moment {
        day.to_zoned(self.zone.clone()).map_or(Moment::LAST, |midnight| midnight.timestamp().into())
    }
}

fn states(lines: &[WorkstationLine], now: Moment) -> Vec<InState> {
    let of = |state| lines.iter().filter(|line| convert::workstation_state(line, now) == state).count() as u64;
    WorkstationState::ALL.iter().map(|state| InState { state: *state, workstations: of(*state) }).collect()
}

fn least_proven(lines: &[WorkstationLine]) -> Option<LeastProven> {
    let proves = |line: &&WorkstationLine| line.latest_point.is_some() && line.workstation.rest.is_none();
    let least = lines.iter().filter(proves).min_by_key(|line| line.store.drilled)?;
    Some(LeastProven {
        workstation: least.workstation.id.0.clone(),
        name: least.workstation.name.clone(),
        drilled: least.store.drilled.map(timestamp),
    })
}

#[cfg(test)]
mod tests {
    use jetfrost_types::Role;
    use jetfrost_wire::office::{DayOfBackups, Office as Today};
    use jetfrost_wire::run::{GiveUp, Progress};

    use crate::shared::testing::Office;
    use crate::shared::testing::machine::office_with_points;
    use crate::shared::{Caller, DAY_MS};

    fn today(office: &Office, caller: &Caller) -> Today {
        office.services.operations.today(caller).expect("seen")
    }

    fn counts(day: &DayOfBackups) -> [u64; 3] {
        [day.complete, day.failed, day.stopped]
    }

    #[test]
    fn what_became_of_the_backups_of_a_day_is_counted_on_that_day() {
        let (office, mut machine) = office_with_points([b"one"]);
        let gives_up = |stopped| {
            let run = machine.begin(&office).expect("begun").run;
            let why = GiveUp { stopped, reason: "the disk could not be read".into(), progress: Progress::default() };
            office.services.backups.give_up_run(&machine.caller, &run.id, &why).expect("noted");
        };
        office.pass(DAY_MS);
        gives_up(false);
        gives_up(true);
        office.pass(DAY_MS);
        machine.back_up(&office, b"two").expect("a point");
        let seen = today(&office, &office.ingrid);
        assert_eq!(seen.days.len(), 14);
        assert_eq!(seen.days[11..].iter().map(counts).collect::<Vec<_>>(), [[1, 0, 0], [0, 1, 1], [1, 0, 0]]);
        assert_eq!(seen.days[13].day.to_string(), "2026-10-03");
        assert!(seen.days[..11].iter().all(|day| counts(day) == [0, 0, 0]));
        let latest =
            office.services.backups.workstation(&office.ingrid, &machine.enrolled.workstation).expect("there").latest_point;
        assert_eq!(seen.protected_bytes, latest.expect("a point").bytes);
        assert!(seen.destinations.len() == 1 && seen.protection.is_some());
        let least = seen.least_proven.expect("one with points");
        assert_eq!((least.name.as_str(), least.drilled), ("front desk", None));
        // After two weeks it is over.
        office.pass(13 * DAY_MS);
        assert_eq!(counts(&today(&office, &office.ingrid).days[0]), [1, 0, 0]);
        office.pass(DAY_MS);
        assert_eq!(counts(&today(&office, &office.ingrid).days[0]), [0, 0, 0]);
    }

    #[test]
    fn whoever_sees_their_own_machines_only_sees_nothing_of_the_others() {
        let (office, _machine) = office_with_points([b"one"]);
        let seen = today(&office, &office.person("liv", Role::Member));
        assert_eq!((seen.protected_bytes, seen.destinations.len(), seen.protection), (0, 0, None));
        assert!(seen.days.iter().all(|day| counts(day) == [0, 0, 0]) && seen.least_proven.is_none());
        assert!(seen.states.iter().all(|state| state.workstations == 0));
    }
}
