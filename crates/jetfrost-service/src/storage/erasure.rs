//! Erasing a destination: two confirmations, a waiting time, then all that is on it.

use data_encoding::BASE32_NOPAD;
use jetfrost_image::crypto::random_array;
use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_types::DestinationId;
use jetfrost_wire::destination::{AskErasure, ConfirmErasure, Destination, ErasedStore, ErasurePreview};
use jetfrost_wire::event::Event;

use crate::clock::{Moment, timestamp};
use crate::records::{AuditRow, Connection, DestinationRow, Erasing, NewEntry, PointRow, Removal, WorkstationLine};
use crate::shared::{Caller, Conflict, DAY_MS, Invalid, Result, SERVICE, ServiceError, Thing, place};
use crate::storage::{Storage, points, removal};

impl Storage {
    /// What erasing a destination would take.
    pub(crate) fn preview_erasure(&self, caller: &Caller, id: &DestinationId) -> Result<ErasurePreview> {
        caller.may(&Act::SeeOffice)?;
        let row = self.destination_row(id)?;
        self.erasure_of(&row)
    }

    /// The first confirmation: the destination's name, typed. Answers with what the second takes.
    pub(crate) fn ask_erasure(&self, caller: &Caller, id: &DestinationId, ask: &AskErasure) -> Result<ErasurePreview> {
        let typed = names::key(&ask.name);
        let confirmation = BASE32_NOPAD.encode(&random_array::<5>(&*self.random));
        let by = caller.name();
        self.alter_destination(caller, id, "erasure asked for", |row, _| {
            if typed != row.name_key {
                return Err(Invalid::NotItsName.into());
            }
            if row.withdrawn.is_none() {
                return Err(ServiceError::Conflict(Conflict::NotWithdrawn));
            }
            if !matches!(*row.erasure, Some(Erasing::Confirmed { .. })) {
                *row.erasure = Some(Erasing::Asked { confirmation, by });
            }
            Ok(())
        })?;
        let row = self.destination_row(id)?;
        let confirmation = match row.erasure.as_ref() {
            Some(Erasing::Asked { confirmation, .. }) => Some(confirmation.clone()),
            Some(Erasing::Confirmed { .. }) | None => None,
        };
        Ok(ErasurePreview { confirmation, ..self.erasure_of(&row)? })
    }

    /// The second confirmation. The waiting time begins.
    pub(crate) fn confirm_erasure(&self, caller: &Caller, id: &DestinationId, confirm: &ConfirmErasure) -> Result<Destination> {
        let (now, by) = (self.clock.now(), caller.name());
        self.alter_destination(caller, id, "erasure confirmed", |row, on| {
            let Some(Erasing::Asked { confirmation: asked, .. }) = row.erasure.as_ref() else {
                return Err(ServiceError::Conflict(Conflict::ErasureNotAsked));
            };
            if !asked.eq_ignore_ascii_case(confirm.confirmation.trim()) {
                return Err(Invalid::NotTheConfirmation.into());
            }
            let mut protected = now;
            for line in WorkstationLine::on_destination(&row.id, on)? {
                protected = protected.max(removal::one_of_several_protected_until(&line, now, on)?);
            }
            *row.erasure = Some(Erasing::Confirmed { ends: removal::ends(protected, row.waiting_days, now), by });
            Ok(())
        })
    }

    /// Calls an erasure off. The destination stays withdrawn.
    pub(crate) fn call_erasure_off(&self, caller: &Caller, id: &DestinationId) -> Result<Destination> {
        self.alter_destination(caller, id, "erasure called off", |row, _| {
            *row.erasure = None;
            Ok(())
        })
    }

    /// Goes on with erasures whose waiting time is over: first the image stores, then the destination itself.
    pub(crate) fn tend_erasures(&self) -> Result<()> {
        let now = self.clock.now();
        for row in self.destination_rows()?.iter().filter(|row| is_due(row, now)) {
            if self.media.check(&place(row)).is_ok() && self.erasure_of(row)?.in_the_way.is_empty() {
                self.go_on_erasing(row, now)?;
            }
        }
        Ok(())
    }

    /// Judges once more in the transaction that writes: somebody may have called the erasure off meanwhile.
    fn go_on_erasing(&self, row: &DestinationRow, now: Moment) -> Result<()> {
        let is_gone = self.records.write(|on| {
            let Some(mut row) = DestinationRow::by_id(&row.id, on)?.filter(|row| is_due(row, now)) else { return Ok(false) };
            let by = row.erasure.as_ref().map_or(SERVICE, Erasing::by).to_owned();
            let lines = WorkstationLine::on_destination(&row.id, on)?;
            if lines.is_empty() {
                self.end_destination(&mut row, &by, on)?;
                return Ok(true);
            }
            for mut line in lines {
                *line.store.removal = Some(Removal { ends: now, by: by.clone() });
                line.store.update(on)?;
            }
            Ok::<_, ServiceError>(false)
        })?;
        if is_gone {
            self.events.tell(Event::Office);
        }
        Ok(())
    }

    /// Clears the directory and notes it, in that order: what is noted as gone is gone.
    fn end_destination(&self, row: &mut DestinationRow, by: &str, on: &mut Connection) -> Result<()> {
        self.media.clear(&place(row))?;
        let subject = row.name.clone();
        row.gone = Some(self.clock.now());
        // Name and directory are free again; the row stays for the history that names it.
        row.name_key = format!("{} (gone)", row.id);
        row.directory = format!("{} (gone: {})", row.directory, row.id);
        row.set_granted_to(&[], &[], on)?;
        row.update(on)?;
        let what = "destination erased";
        let entry = NewEntry { at: self.clock.now(), who: by, what, subject: &subject, ..NewEntry::default() };
        Ok(AuditRow::insert(&entry, on)?)
    }

    fn erasure_of(&self, row: &DestinationRow) -> Result<ErasurePreview> {
        let lines = self.lines_on(row)?;
        let (mut points, mut earliest, mut in_the_way) = (0, None, Vec::new());
        for line in &lines {
            let rows = self.point_rows(line)?;
            points += rows.len() as u64;
            earliest = rows.iter().map(|point| point.committed).chain(earliest).min();
            if line.store.hold.is_some() || rows.iter().any(|point: &PointRow| point.hold.is_some()) {
                in_the_way.push(Invalid::OnHold(line.workstation.name.clone()).to_string());
            }
        }
        let latest = lines.iter().filter_map(|line| line.latest_point.as_ref()).map(|point| point.committed).max();
        let stores: Vec<ErasedStore> = lines.iter().map(|line| self.erased(line)).collect();
        Ok(ErasurePreview {
            points,
            bytes: stores.iter().filter_map(|store| store.bytes).sum(),
            stores,
            earliest: earliest.map(timestamp),
            latest: latest.map(timestamp),
            waiting_days: self.days_until_erased(row)?,
            in_the_way,
            confirmation: None,
        })
    }

    /// Days between the second confirmation, were it given now, and the end of all that is there.
    fn days_until_erased(&self, row: &DestinationRow) -> Result<u32> {
        let protected = self.protected_until(row)? - self.clock.now();
        let protected_days = protected.max(0).unsigned_abs().div_ceil(DAY_MS.unsigned_abs());
        Ok(u32::try_from(u64::from(row.waiting_days.0).max(protected_days)).unwrap_or(u32::MAX))
    }

    /// When the protected time of all points on a destination is over.
    fn protected_until(&self, row: &DestinationRow) -> Result<Moment> {
        let mut until = Moment::FIRST;
        for line in self.lines_on(row)? {
            let promise = self.promise(&line)?;
            let facts = points::facts(&line, &self.point_rows(&line)?);
            until = facts.iter().map(|fact| Moment::from_ms(promise.protected_until_ms(fact))).fold(until, Moment::max);
        }
        Ok(until)
    }

    fn erased(&self, line: &WorkstationLine) -> ErasedStore {
        let id = line.store.id.as_str().parse().ok();
        ErasedStore {
            workstation: line.workstation.name.clone(),
            person: line.account.display_name.clone(),
            points: line.store.points.get(),
            latest: line.latest_point.as_ref().map(|point| timestamp(point.committed)),
            bytes: id.and_then(|id| self.media.used(&place(&line.destination), id).ok()),
        }
    }

    fn lines_on(&self, row: &DestinationRow) -> Result<Vec<WorkstationLine>> {
        self.records.read(|on| Ok(WorkstationLine::on_destination(&row.id, on)?))
    }

    pub(crate) fn destination_row(&self, id: &DestinationId) -> Result<DestinationRow> {
        let row = self.records.read(|on| Ok::<_, ServiceError>(DestinationRow::by_id(id, on)?))?;
        row.ok_or(ServiceError::NotFound(Thing::Destination))
    }
}

fn is_due(row: &DestinationRow, now: Moment) -> bool {
    row.erasure.as_ref().and_then(Erasing::ends).is_some_and(|ends| ends <= now)
}

#[cfg(test)]
mod tests {
    use std::sync::{Arc, Barrier};
    use std::thread;

    use jetfrost_office::protected;

    use super::*;
    use crate::shared::testing::Office;
    use crate::shared::testing::machine::Machine;

    /// A withdrawn destination with a workstation that has a point.
    fn withdrawn(office: &Office) -> (Destination, Machine) {
        let shelf = office.destination("shelf");
        office.person("tove", jetfrost_types::Role::Member);
        let mut machine = office.machine("tove", "front desk");
        machine.back_up(office, b"one").expect("a point");
        (office.services.storage.withdraw(&office.ingrid, &shelf.id).expect("withdrawn"), machine)
    }

    fn confirmed(office: &Office, shelf: &Destination) -> Destination {
        let ask = AskErasure { name: "Shelf".into() };
        let preview = office.services.storage.ask_erasure(&office.ingrid, &shelf.id, &ask).expect("asked");
        let confirm = ConfirmErasure { confirmation: preview.confirmation.expect("a code") };
        office.services.storage.confirm_erasure(&office.ingrid, &shelf.id, &confirm).expect("confirmed")
    }

    fn removal_of(office: &Office, machine: &Machine) -> Option<Moment> {
        let line = office.services.storage.line_of_store(machine.store()).expect("there");
        line.store.removal.as_ref().map(|removal| removal.ends)
    }

    #[test]
    fn each_step_takes_the_one_before_it_and_nothing_but_the_right_words() {
        let office = Office::open();
        let (storage, shelf) = (&office.services.storage, office.destination("shelf"));
        let named = |name: &str| storage.ask_erasure(&office.ingrid, &shelf.id, &AskErasure { name: name.into() });
        let confirm =
            |code: &str| storage.confirm_erasure(&office.ingrid, &shelf.id, &ConfirmErasure { confirmation: code.into() });
        assert!(matches!(named("shelf"), Err(ServiceError::Conflict(Conflict::NotWithdrawn))));
        storage.withdraw(&office.ingrid, &shelf.id).expect("withdrawn");
        assert!(matches!(named("cellar"), Err(ServiceError::Invalid(Invalid::NotItsName))));
        assert!(matches!(confirm("AAAA"), Err(ServiceError::Conflict(Conflict::ErasureNotAsked))));
        let code = named(" SHELF ").expect("asked").confirmation.expect("a code");
        assert!(matches!(confirm("AAAA"), Err(ServiceError::Invalid(Invalid::NotTheConfirmation))));
        let erasure = confirm(&code.to_lowercase()).expect("confirmed").erasure.expect("pending");
        assert_eq!(erasure.ends, Some(timestamp(office.now() + 7 * DAY_MS)), "nothing on it is protected: the waiting time");
    }

    #[test]
    fn what_is_protected_longer_than_the_waiting_time_decides_when_a_destination_is_erased() {
        let office = Office::open();
        let (shelf, machine) = withdrawn(&office);
        let made = office.now();
        office.pass(DAY_MS);
        let ends = confirmed(&office, &shelf).erasure.expect("pending").ends.expect("decided");
        let protected = made + i64::from(protected::USUAL_DAYS) * DAY_MS;
        assert_eq!(ends, timestamp(protected));
        office.pass(protected - office.now() - 1);
        office.services.storage.tend_erasures().expect("looked");
        assert_eq!(removal_of(&office, &machine), None, "a moment before");
        office.pass(1);
        office.services.storage.tend_erasures().expect("looked");
        assert_eq!(removal_of(&office, &machine), Some(office.now()), "at that moment");
    }

    #[test]
    fn a_hold_before_or_after_the_confirmation_keeps_a_destination() {
        let office = Office::open();
        let (shelf, machine) = withdrawn(&office);
        let retention = &office.services.retention;
        let hold = jetfrost_wire::retention::NewHold { reason: "the auditors come".into() };
        retention.hold_point(&office.ingrid, machine.store(), 1, &hold).expect("held");
        let ask = AskErasure { name: "shelf".into() };
        let code = office.services.storage.ask_erasure(&office.ingrid, &shelf.id, &ask).expect("asked").confirmation;
        let confirm = ConfirmErasure { confirmation: code.expect("a code") };
        let refused = office.services.storage.confirm_erasure(&office.ingrid, &shelf.id, &confirm);
        assert!(matches!(refused, Err(ServiceError::Invalid(Invalid::OnHold(name))) if name == "front desk"));
        retention.release_point(&office.ingrid, machine.store(), 1).expect("released");
        office.services.storage.confirm_erasure(&office.ingrid, &shelf.id, &confirm).expect("confirmed");
        retention.hold_store(&office.ingrid, machine.store(), &hold).expect("held");
        office.pass(400 * DAY_MS);
        office.services.storage.tend_erasures().expect("looked");
        assert_eq!(removal_of(&office, &machine), None);
    }

    /// Whoever is answered that the erasure is called off keeps everything; else the removal was decided before.
    #[test]
    fn an_erasure_that_is_called_off_at_the_last_moment_takes_nothing_after_the_answer() {
        for _ in 0..8 {
            let office = Office::open();
            let (shelf, machine) = withdrawn(&office);
            confirmed(&office, &shelf);
            office.pass(400 * DAY_MS);
            let (storage, start) = (&office.services.storage, Arc::new(Barrier::new(2)));
            let at_the_answer = thread::scope(|scope| {
                let tending = Arc::clone(&start);
                scope.spawn(move || {
                    tending.wait();
                    storage.tend_erasures().expect("looked");
                });
                start.wait();
                storage.call_erasure_off(&office.ingrid, &shelf.id).expect("called off");
                removal_of(&office, &machine)
            });
            storage.tend_erasures().expect("looked again");
            assert_eq!(removal_of(&office, &machine), at_the_answer);
            assert!(storage.destination_by_id(&office.ingrid, &shelf.id).expect("there").erasure.is_none());
        }
    }
}
