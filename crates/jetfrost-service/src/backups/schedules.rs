//! Schedules that an administrator sets, and what an administrator asks of a workstation: a backup now, or a pause.

use jetfrost_office::access::Act;
use jetfrost_types::{DestinationId, GroupId, WorkstationId};
use jetfrost_wire::event::Event;
use jetfrost_wire::schedule::{NewPause, OwnSchedule, ScheduleSettings, said};
use jetfrost_wire::workstation::Workstation;

use crate::backups::Backups;
use crate::clock::Moment;
use crate::records::{Connection, Deed, DestinationRow, GroupRow, InJson, Pause, WorkstationLine, WorkstationRow};
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{Caller, Conflict, DAY_MS, Invalid, Result, ServiceError, Thing};

/// A pause has an end: what is paused and forgotten is backed up again.
const MOST_PAUSE_MS: i64 = 31 * DAY_MS;

/// Whose schedule is meant.
#[derive(Debug, Clone)]
pub(crate) enum Scheduled {
    Workstation(WorkstationId),
    Group(GroupId),
    Destination(DestinationId),
}

impl Backups {
    /// What is set for a workstation, a group or a destination itself.
    pub(crate) fn own_schedule(&self, caller: &Caller, of: &Scheduled) -> Result<OwnSchedule> {
        if let Scheduled::Workstation(id) = of {
            return Ok(own(self.storage.line(caller, id)?.workstation.schedule.0));
        }
        caller.may(&Act::SeeOffice)?;
        self.records.read(|on| Ok(own(set_for(of, on)?.1)))
    }

    pub(crate) fn set_schedule(
        &self,
        caller: &Caller,
        of: &Scheduled,
        to: &ScheduleSettings,
        seen: &Seen,
    ) -> Result<OwnSchedule> {
        caller.may(&Act::ChangeOffice)?;
        self.records.write(|on| {
            let (name, before) = set_for(of, on)?;
            let (said_before, said_after) = (said(&before), said(to));
            seen.check(&own(before).version, &Made { subject: Some(&name), after: &said_before }, on)?;
            set(of, *to, on)?;
            self.trail.note_change(caller, "schedule changed", &name, Some(&said_before), Some(&said_after), on)
        })?;
        match of {
            Scheduled::Workstation(id) => self.events.workstation_changed(id),
            Scheduled::Group(_) | Scheduled::Destination(_) => self.events.tell(Event::Schedules),
        }
        Ok(own(*to))
    }

    /// Asks a workstation for a backup. Its agent starts one as soon as it hears of it, unless a person paused it there.
    pub(crate) fn ask_backup(&self, caller: &Caller, id: &WorkstationId) -> Result<Workstation> {
        let asked = Deed { at: self.clock.now(), by: caller.name() };
        self.change_workstation(caller, id, "backup asked for", "as soon as the workstation hears of it", |row| {
            *row.asked = Some(asked);
            Ok(())
        })
    }

    /// Takes that back, if it has not begun.
    pub(crate) fn unask_backup(&self, caller: &Caller, id: &WorkstationId) -> Result<Workstation> {
        self.change_workstation(caller, id, "asking for a backup taken back", "", |row| {
            *row.asked = None;
            Ok(())
        })
    }

    pub(crate) fn pause_workstation(&self, caller: &Caller, id: &WorkstationId, pause: &NewPause) -> Result<Workstation> {
        caller.may(&Act::ChangeOffice)?;
        let (until, now) = (Moment::from(pause.until), self.clock.now());
        if until <= now || until - now > MOST_PAUSE_MS {
            return Err(Invalid::PauseOfWorkstation.into());
        }
        let paused = Pause { until, by: caller.name() };
        self.change_workstation(caller, id, "workstation paused", &format!("until {}", pause.until), |row| {
            *row.paused = Some(paused);
            Ok(())
        })
    }

    pub(crate) fn resume_workstation(&self, caller: &Caller, id: &WorkstationId) -> Result<Workstation> {
        self.change_workstation(caller, id, "workstation resumed", "", |row| {
            *row.paused = None;
            Ok(())
        })
    }

    fn change_workstation(
        &self,
        caller: &Caller,
        id: &WorkstationId,
        what: &str,
        how: &str,
        change: impl FnOnce(&mut WorkstationRow) -> Result<()>,
    ) -> Result<Workstation> {
        caller.may(&Act::ChangeOffice)?;
        let line = self.records.write(|on| {
            let mut line = WorkstationLine::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Workstation))?;
            if line.workstation.rest.is_some() {
                return Err(ServiceError::Conflict(Conflict::NoMachine));
            }
            change(&mut line.workstation)?;
            line.workstation.update(on)?;
            self.trail.note_change(caller, what, &line.workstation.name, None, Some(how), on)?;
            Ok::<_, ServiceError>(line)
        })?;
        self.events.workstation_changed(id);
        Ok(self.storage.workstation_of(&line))
    }
}

fn own(settings: ScheduleSettings) -> OwnSchedule {
    OwnSchedule { version: version(&settings), settings }
}

/// The name of what a schedule is for, and what is set.
fn set_for(of: &Scheduled, on: &mut Connection) -> Result<(String, ScheduleSettings)> {
    match of {
        Scheduled::Workstation(id) => {
            let line = WorkstationLine::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Workstation))?;
            Ok((line.workstation.name, line.workstation.schedule.0))
        }
        Scheduled::Group(id) => {
            let row = GroupRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Group))?;
            Ok((row.name, row.schedule.0))
        }
        Scheduled::Destination(id) => {
            let row = DestinationRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Destination))?;
            Ok((row.name, row.schedule.0))
        }
    }
}

fn set(of: &Scheduled, to: ScheduleSettings, on: &mut Connection) -> Result<()> {
    let to = InJson(to);
    match of {
        Scheduled::Workstation(id) => WorkstationRow::set_schedule(id, to, on)?,
        Scheduled::Group(id) => GroupRow::set_schedule(id, to, on)?,
        Scheduled::Destination(id) => DestinationRow::set_schedule(id, to, on)?,
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use jetfrost_types::{Rhythm, Role, SetBy};
    use jetfrost_wire::people::{AccountChange, NewGroup};

    use super::*;
    use crate::clock::timestamp;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::office_with_points;

    fn every(seconds: u32) -> ScheduleSettings {
        ScheduleSettings { rhythm_seconds: Some(Rhythm::new(seconds).expect("within")), ..ScheduleSettings::default() }
    }

    #[test]
    fn a_workstation_goes_by_its_own_schedule_then_its_groups_then_its_destinations() {
        let office = Office::open();
        let shelf = office.destination("shelf");
        let tove = office.person("tove", Role::Member);
        let machine = office.machine("tove", "front desk");
        let id = machine.enrolled.workstation.clone();
        let group = NewGroup { name: "field".into(), default_limit: None, default_quota: None };
        let group = office.services.identity.add_group(&office.ingrid, &group).expect("added");
        let into_group = AccountChange { groups: Some(vec!["field".into()]), ..AccountChange::default() };
        office
            .services
            .identity
            .change_account(&office.ingrid, tove.only_own().expect("a member"), &into_group, &Seen::Anything)
            .expect("filled");
        let backups = &office.services.backups;
        let set = |of, seconds| backups.set_schedule(&office.ingrid, &of, &every(seconds), &Seen::Anything).expect("set");
        let applied = || {
            let schedule = backups.workstation(&machine.caller, &id).expect("its own").schedule;
            (schedule.values.rhythm_seconds.seconds(), schedule.set_by.rhythm_seconds)
        };
        assert_eq!(applied(), (3_600, SetBy::Nobody));
        set(Scheduled::Destination(shelf.id.clone()), 7_200);
        assert_eq!(applied(), (7_200, SetBy::Destination { name: "shelf".into() }));
        set(Scheduled::Group(group.id.clone()), 1_800);
        assert_eq!(applied(), (1_800, SetBy::Group { name: "field".into() }));
        set(Scheduled::Workstation(id.clone()), 900);
        assert_eq!(applied(), (900, SetBy::Workstation));
        let of = Scheduled::Workstation(id.clone());
        let nothing = backups.set_schedule(&office.ingrid, &of, &ScheduleSettings::default(), &Seen::Anything).expect("unset");
        assert_eq!(nothing.settings, ScheduleSettings::default());
        office.services.identity.remove_group(&office.ingrid, &group.id).expect("removed");
        assert_eq!(applied(), (7_200, SetBy::Destination { name: "shelf".into() }));
    }

    #[test]
    fn of_two_administrators_the_second_learns_of_the_first() {
        let (office, machine) = office_with_points([]);
        let of = Scheduled::Workstation(machine.enrolled.workstation.clone());
        let backups = &office.services.backups;
        let seen = Seen::OneOf(vec![backups.own_schedule(&office.ingrid, &of).expect("seen").version]);
        backups.set_schedule(&office.ingrid, &of, &every(900), &seen).expect("the first");
        let second = backups.set_schedule(&office.ingrid, &of, &every(1_800), &seen);
        assert!(matches!(second, Err(ServiceError::ChangedMeanwhile { by: Some(_) })), "{second:?}");
    }

    #[test]
    fn a_workstation_cannot_set_its_own_schedule_nor_end_the_offices_pause() {
        let (office, machine) = office_with_points([]);
        let (backups, id) = (&office.services.backups, &machine.enrolled.workstation);
        let of = Scheduled::Workstation(id.clone());
        let refused = backups.set_schedule(&machine.caller, &of, &every(900), &Seen::Anything);
        assert!(matches!(refused, Err(ServiceError::NotAllowed)));
        let until = timestamp(office.now() + DAY_MS);
        backups.pause_workstation(&office.ingrid, id, &NewPause { until }).expect("paused");
        assert!(matches!(backups.resume_workstation(&machine.caller, id), Err(ServiceError::NotAllowed)));
        let paused = backups.workstation(&machine.caller, id).expect("seen").paused.expect("it knows");
        assert_eq!((paused.until, paused.by.as_str()), (until, "ingrid"));
        for until in [office.now(), office.now() + MOST_PAUSE_MS + 1] {
            let refused = backups.pause_workstation(&office.ingrid, id, &NewPause { until: timestamp(until) });
            assert!(matches!(refused, Err(ServiceError::Invalid(Invalid::PauseOfWorkstation))));
        }
    }

    #[test]
    fn a_backup_that_was_asked_for_is_asked_for_until_it_begins() {
        let (office, mut machine) = office_with_points([]);
        let (backups, id) = (&office.services.backups, machine.enrolled.workstation.clone());
        let asked = || backups.workstation(&office.ingrid, &id).expect("seen").asked.map(|asked| asked.by);
        backups.ask_backup(&office.ingrid, &id).expect("asked");
        assert_eq!(asked(), Some("ingrid".into()));
        machine.back_up(&office, b"one").expect("a point");
        assert_eq!(asked(), None);
        backups.retire(&office.ingrid, &id).expect("retired");
        let refused = backups.ask_backup(&office.ingrid, &id);
        assert!(matches!(refused, Err(ServiceError::Conflict(Conflict::NoMachine))), "nobody would hear of it");
    }
}
