//! Whether new backups and restores are accepted.

use jetfrost_office::access::Act;
use jetfrost_wire::event::Event;
use jetfrost_wire::run::Outcome;
use jetfrost_wire::service::{Maintenance, MaintenanceState, NewBackups};

use crate::clock::Moment;
use crate::operations::Operations;
use crate::records::{Accepting, RestoreRow, RunRow, Switches, WorkstationLine};
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{Caller, Invalid, Result, gate};

impl Operations {
    /// What is accepted, and what is underway.
    pub(crate) fn maintenance(&self, caller: &Caller) -> Result<MaintenanceState> {
        caller.may(&Act::SeeOffice)?;
        let now = self.clock.now();
        self.records.read(|on| {
            let underway = Outcome::Underway.word();
            let lost = |heard: Moment| jetfrost_office::freshness::is_lost(heard.ms(), now.ms());
            let mut running = Vec::new();
            for run in RunRow::with_outcome(underway, on)?.into_iter().filter(|run| !lost(run.last_heard)) {
                running.extend(WorkstationLine::by_id(&run.workstation_id, on)?.map(|line| line.workstation.name));
            }
            let restoring = RestoreRow::with_outcome(underway, on)?.iter().filter(|row| !lost(row.last_heard)).count();
            let maintenance = gate::now(&Switches::get(on)?, now);
            Ok(MaintenanceState { version: version(&maintenance), maintenance, running, restoring: restoring as u64 })
        })
    }

    /// Pauses or resumes. It takes effect at once; what is underway is completed.
    pub(crate) fn set_maintenance(&self, caller: &Caller, to: &Maintenance, seen: &Seen) -> Result<MaintenanceState> {
        caller.may(&Act::ChangeOffice)?;
        let now = self.clock.now();
        let (new_backups, paused_until) = match to.backups {
            NewBackups::On => (Accepting::On, None),
            NewBackups::Off => (Accepting::Off, None),
            NewBackups::Paused { until } if Moment::from(until) > now => (Accepting::Paused, Some(until.into())),
            NewBackups::Paused { .. } => return Err(Invalid::PauseOver.into()),
        };
        let switches = Switches { new_backups: new_backups.into(), paused_until, restores_stopped: !to.restores };
        self.records.write(|on| {
            let before = gate::now(&Switches::get(on)?, now);
            seen.check(&version(&before), &Made { subject: None, after: &said(&before) }, on)?;
            let before = said(&before);
            switches.set(on)?;
            self.trail.note_change(caller, "maintenance changed", "", Some(&before), Some(&said(to)), on)
        })?;
        // While backups are paused, the service is not announced.
        self.keep_announced()?;
        self.events.tell(Event::Office);
        self.maintenance(caller)
    }
}

fn said(maintenance: &Maintenance) -> String {
    let backups = match maintenance.backups {
        NewBackups::On => "on".to_owned(),
        NewBackups::Paused { until } => format!("paused until {until}"),
        NewBackups::Off => "off".to_owned(),
    };
    format!("backups {backups}, restores {}", if maintenance.restores { "on" } else { "off" })
}

#[cfg(test)]
mod tests {
    use jetfrost_wire::people::Role;

    use super::*;
    use crate::clock::timestamp;
    use crate::shared::ServiceError;
    use crate::shared::testing::Office;

    #[test]
    fn a_pause_ends_by_itself_and_only_an_administrator_begins_one() {
        let office = Office::open();
        let operations = &office.services.operations;
        let until = timestamp(office.now() + 3_600_000);
        let pause = Maintenance { backups: NewBackups::Paused { until }, restores: true };
        let desk = office.person("pelle", Role::Helpdesk);
        assert!(matches!(operations.set_maintenance(&desk, &pause, &Seen::Anything), Err(ServiceError::NotAllowed)));
        let paused = operations.set_maintenance(&office.ingrid, &pause, &Seen::Anything).expect("paused");
        assert_eq!(paused.maintenance.backups, NewBackups::Paused { until });
        let past = operations.set_maintenance(
            &office.ingrid,
            &Maintenance { backups: NewBackups::Paused { until: timestamp(office.now()) }, restores: true },
            &Seen::Anything,
        );
        assert!(matches!(past, Err(ServiceError::Invalid(Invalid::PauseOver))), "a pause ends in the future");
        office.pass(3_600_000);
        assert_eq!(operations.maintenance(&desk).expect("seen").maintenance.backups, NewBackups::On);
    }
}
