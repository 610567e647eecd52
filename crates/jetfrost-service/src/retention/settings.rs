//! What an administrator sets, holds, removes and brings back.

use jetfrost_office::access::Act;
use jetfrost_types::ImageStoreId;
use jetfrost_wire::Version;
use jetfrost_wire::job::{Job, JobKind};
use jetfrost_wire::point::{Hold, Point};
use jetfrost_wire::retention::{NewHold, RemoveNow, StoreSettings};
use jetfrost_wire::workstation::Workstation;

use crate::clock::Moment;
use crate::records::{Connection, Count, PointRow, Removal, WorkstationLine, Written};
use crate::retention::Retention;
use crate::shared::versions::{Made, Seen};
use crate::shared::{Caller, Conflict, Invalid, Result, ServiceError, Thing, bounds, convert, to_db};
use crate::storage::terms::change_of_store;
use crate::storage::{removal, workstations};

impl Retention {
    /// What is set for an image store, and the version of that.
    pub(crate) fn store_settings(&self, caller: &Caller, id: &ImageStoreId) -> Result<(StoreSettings, Version)> {
        let line = self.storage.line_to_see(caller, id)?;
        let retention = line.store.retention.map(|retention| retention.0);
        Ok((StoreSettings { limit: line.store.size_limit.map(Count::get), retention }, workstations::version_of(&line.store)))
    }

    pub(crate) fn set_store(&self, caller: &Caller, id: &ImageStoreId, to: &StoreSettings, seen: &Seen) -> Result<Workstation> {
        caller.may(&Act::ChangeOffice)?;
        let now = self.clock.now();
        let line = self.records.write(|on| {
            let mut line = WorkstationLine::by_store(id, on)?.ok_or(ServiceError::NotFound(Thing::ImageStore))?;
            let (old, before, name) =
                (line.store.clone(), workstations::said_of_store(&line.store), line.workstation.name.clone());
            seen.check(&workstations::version_of(&old), &Made { subject: Some(&name), after: &before }, on)?;
            line.store.size_limit = to.limit.map(to_db).transpose()?;
            line.store.retention = to.retention.map(Written);
            change_of_store(&old, &mut line, now, on)?;
            line.store.update(on)?;
            let after = workstations::said_of_store(&line.store);
            self.trail.note_change(caller, "image store changed", &name, Some(&before), Some(&after), on)?;
            Ok::<_, ServiceError>(line)
        })?;
        self.events.workstation_changed(&line.workstation.id);
        Ok(self.storage.workstation_of(&line))
    }

    pub(crate) fn hold_store(&self, caller: &Caller, id: &ImageStoreId, hold: &NewHold) -> Result<Workstation> {
        caller.may(&Act::ChangeOffice)?;
        let reason = checked_reason(&hold.reason)?;
        self.change_store(caller, id, "hold put on an image store", &reason, |line, caller, _| {
            *line.store.hold = Some(Hold { reason: reason.clone(), by: caller.name() });
            Ok(())
        })
    }

    pub(crate) fn release_store(&self, caller: &Caller, id: &ImageStoreId) -> Result<Workstation> {
        self.change_store(caller, id, "hold taken off an image store", "", |line, _, _| {
            *line.store.hold = None;
            Ok(())
        })
    }

    /// Removes an image store, after the waiting time and not before the protected time of its points is over.
    pub(crate) fn remove_store(&self, caller: &Caller, id: &ImageStoreId) -> Result<Workstation> {
        let now = self.clock.now();
        self.change_store(caller, id, "image store removed", "it waits to go", |line, caller, on| {
            let protected = removal::store_protected_until(line, now, on)?;
            let ends = removal::ends(protected, line.destination.waiting_days, now);
            line.store.removal.get_or_insert_with(|| Removal { ends, by: caller.name() });
            Ok(())
        })
    }

    pub(crate) fn undelete_store(&self, caller: &Caller, id: &ImageStoreId) -> Result<Workstation> {
        self.change_store(caller, id, "image store undeleted", "", |line, _, _| {
            *line.store.removal = None;
            Ok(())
        })
    }

    pub(crate) fn hold_point(&self, caller: &Caller, store: &ImageStoreId, sequence: u64, hold: &NewHold) -> Result<Point> {
        caller.may(&Act::ChangeOffice)?;
        let reason = checked_reason(&hold.reason)?;
        self.change_point(caller, store, sequence, "hold put on a point", |row, _, caller, _| {
            *row.hold = Some(Hold { reason: reason.clone(), by: caller.name() });
            Ok(())
        })
    }

    pub(crate) fn release_point(&self, caller: &Caller, store: &ImageStoreId, sequence: u64) -> Result<Point> {
        self.change_point(caller, store, sequence, "hold taken off a point", |row, _, _, _| {
            *row.hold = None;
            Ok(())
        })
    }

    /// Removes a point, after the waiting time and not before its protected time is over.
    pub(crate) fn remove_point(&self, caller: &Caller, store: &ImageStoreId, sequence: u64) -> Result<Point> {
        let now = self.clock.now();
        self.change_point(caller, store, sequence, "point removed", |row, line, caller, on| {
            let protected = removal::point_protected_until(row, line, on)?;
            let ends = removal::ends(protected, line.destination.waiting_days, now);
            row.removal.get_or_insert_with(|| Removal { ends, by: caller.name() });
            Ok(())
        })
    }

    /// Removes a point at once, without its waiting time; never within its protected time.
    pub(crate) fn remove_point_now(&self, caller: &Caller, store: &ImageStoreId, sequence: u64, with: &RemoveNow) -> Result<Job> {
        self.show_again(caller, with)?;
        let now = self.clock.now();
        self.change_point(caller, store, sequence, "point removed at once", |row, line, caller, on| {
            not_protected("this recovery point", removal::point_protected_until(row, line, on)?, now)?;
            *row.removal = Some(Removal { ends: now, by: caller.name() });
            Ok(())
        })?;
        let line = self.storage.line_to_see(caller, store)?;
        self.enqueue(JobKind::Thinning, &line, &caller.name())
    }

    /// Removes an image store at once, once the protected time of all of its points is over.
    pub(crate) fn remove_store_now(&self, caller: &Caller, id: &ImageStoreId, with: &RemoveNow) -> Result<Job> {
        self.show_again(caller, with)?;
        let now = self.clock.now();
        self.change_store(caller, id, "image store removed", "at once", |line, caller, on| {
            not_protected("the latest point of this image store", removal::store_protected_until(line, now, on)?, now)?;
            *line.store.removal = Some(Removal { ends: now, by: caller.name() });
            Ok(())
        })?;
        let line = self.storage.line_to_see(caller, id)?;
        self.enqueue(JobKind::Removal, &line, &caller.name())
    }

    /// A session left open, or in the wrong hands, is not enough for what cannot be undone.
    fn show_again(&self, caller: &Caller, with: &RemoveNow) -> Result<()> {
        let (account, _) = caller.own_account(&Act::ChangeOffice)?;
        if account.totp_since.is_none() {
            return Err(ServiceError::Conflict(Conflict::NeedsSecondFactor));
        }
        self.identity.check_own_password(account, &with.password, &caller.origin)?;
        let what = format!("own second factor of {}", account.id);
        self.identity.begin_guess(&what, &caller.origin)?;
        self.identity.check_second_factor(account, Some(&with.code))?;
        self.identity.guess_was_right(&what, &caller.origin);
        Ok(())
    }

    pub(crate) fn undelete_point(&self, caller: &Caller, store: &ImageStoreId, sequence: u64) -> Result<Point> {
        self.change_point(caller, store, sequence, "point undeleted", |row, _, _, _| {
            *row.removal = None;
            Ok(())
        })
    }

    fn change_store(
        &self,
        caller: &Caller,
        id: &ImageStoreId,
        act: &str,
        what: &str,
        change: impl FnOnce(&mut WorkstationLine, &Caller, &mut Connection) -> Result<()>,
    ) -> Result<Workstation> {
        caller.may(&Act::ChangeOffice)?;
        let line = self.records.write(|on| {
            let mut line = WorkstationLine::by_store(id, on)?.ok_or(ServiceError::NotFound(Thing::ImageStore))?;
            change(&mut line, caller, on)?;
            line.store.update(on)?;
            self.trail.note(caller, act, format!("{} {what}", line.workstation.name).trim_end(), on)?;
            Ok::<_, ServiceError>(line)
        })?;
        self.events.workstation_changed(&line.workstation.id);
        Ok(self.storage.workstation_of(&line))
    }

    fn change_point(
        &self,
        caller: &Caller,
        store: &ImageStoreId,
        sequence: u64,
        act: &str,
        change: impl FnOnce(&mut PointRow, &WorkstationLine, &Caller, &mut Connection) -> Result<()>,
    ) -> Result<Point> {
        self.change_point_for(caller, store, sequence, (act, ""), change)
    }

    /// Changes a point; the audit log has what was done, and the reason if one is given.
    pub(super) fn change_point_for(
        &self,
        caller: &Caller,
        store: &ImageStoreId,
        sequence: u64,
        (act, reason): (&str, &str),
        change: impl FnOnce(&mut PointRow, &WorkstationLine, &Caller, &mut Connection) -> Result<()>,
    ) -> Result<Point> {
        caller.may(&Act::ChangeOffice)?;
        let (line, row) = self.records.write(|on| {
            let line = WorkstationLine::by_store(store, on)?.ok_or(ServiceError::NotFound(Thing::ImageStore))?;
            let row = PointRow::find(store, to_db(sequence)?, on)?;
            let mut row = row.ok_or(ServiceError::NotFound(Thing::Point))?;
            change(&mut row, &line, caller, on)?;
            row.update(on)?;
            let what = format!("{} point {sequence} {reason}", line.workstation.name);
            self.trail.note(caller, act, what.trim_end(), on)?;
            Ok::<_, ServiceError>((line, row))
        })?;
        self.events.workstation_changed(&line.workstation.id);
        Ok(convert::point(&row))
    }
}

fn not_protected(what: &'static str, until: Moment, now: Moment) -> Result<()> {
    if until <= now {
        return Ok(());
    }
    Err(Invalid::Protected { what, until }.into())
}

/// A reason that the next person will want to know.
pub(crate) fn checked_reason(reason: &str) -> Result<String> {
    let reason = reason.trim();
    if reason.is_empty() || reason.chars().count() > bounds::REASON {
        return Err(Invalid::Reason.into());
    }
    Ok(reason.to_owned())
}

#[cfg(test)]
mod tests {

    use super::*;
    use crate::shared::DAY_MS;
    use crate::shared::testing::machine::{Machine, office_with_points};
    use crate::shared::testing::{Office, PASSWORD, credential};

    fn office() -> (Office, Machine) {
        office_with_points([b"one", b"two"])
    }

    #[test]
    fn removing_at_once_takes_password_second_factor_and_the_end_of_the_protected_time() {
        let (office, machine) = office();
        let now = |who: &Caller, password: &str, code: &str| {
            let with = RemoveNow { password: password.into(), code: code.into() };
            office.services.retention.remove_point_now(who, machine.store(), 1, &with).map(drop)
        };
        assert!(matches!(now(&office.ingrid, PASSWORD, ""), Err(ServiceError::Conflict(Conflict::NeedsSecondFactor))));
        let (identity, session) = (&office.services.identity, credential(&office.services, "ingrid"));
        let (totp, _) = office.second_factor(&office.ingrid);
        let ingrid = identity.authenticate(&session).expect("signed in still");
        office.pass(60_000);
        let code = office.shown_by(&totp);
        assert!(matches!(now(&ingrid, "a wrong guess", &code), Err(ServiceError::WrongPassword)));
        assert!(matches!(now(&ingrid, PASSWORD, "000000"), Err(ServiceError::WrongSecondFactor)));
        let early = now(&ingrid, PASSWORD, &code);
        assert!(matches!(early, Err(ServiceError::Invalid(Invalid::Protected { .. }))), "{early:?}");
        office.pass(30 * DAY_MS);
        now(&ingrid, PASSWORD, &office.shown_by(&totp)).expect("it is not protected any more");
    }

    #[test]
    fn a_hold_wants_a_reason_and_what_was_removed_can_be_undeleted() {
        let (office, machine) = office();
        let retention = &office.services.retention;
        let hold = |reason: &str| retention.hold_point(&office.ingrid, machine.store(), 1, &NewHold { reason: reason.into() });
        assert!(matches!(hold("  "), Err(ServiceError::Invalid(Invalid::Reason))));
        assert!(matches!(hold(&"x".repeat(bounds::REASON + 1)), Err(ServiceError::Invalid(Invalid::Reason))));
        let removed =
            retention.remove_point(&office.ingrid, machine.store(), 1).expect("removed").pending_removal.expect("waits");
        office.pass(DAY_MS);
        let again = retention.remove_point(&office.ingrid, machine.store(), 1).expect("again").pending_removal.expect("waits");
        assert_eq!(again.ends, removed.ends, "asking again changes nothing");
        assert!(retention.undelete_point(&office.ingrid, machine.store(), 1).expect("undeleted").pending_removal.is_none());
    }
}
