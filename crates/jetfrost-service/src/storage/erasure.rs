//! Erasing a destination: two confirmations, a waiting time, then all that is on it.

use data_encoding::BASE32_NOPAD;
use jetfrost_image::crypto::random_array;
use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_types::DestinationId;
use jetfrost_wire::destination::{AskErasure, ConfirmErasure, Destination, ErasedStore, ErasurePreview};
use jetfrost_wire::event::Event;

use crate::clock::timestamp;
use crate::records::{AuditRow, Connection, DestinationRow, Erasing, NewEntry, PointRow, Removal, WorkstationLine};
use crate::shared::{Caller, Conflict, DAY_MS, Result, SERVICE, ServiceError, place};
use crate::storage::stores::ALL_STORES;
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
        self.alter_destination(caller, id, "erasure asked for", |row| {
            if typed != row.name_key {
                return Err(ServiceError::Invalid("this is not the destination's name".into()));
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
        caller.may(&Act::ChangeOffice)?;
        let row = self.destination_row(id)?;
        let (in_the_way, protected) = (self.erasure_of(&row)?.in_the_way, self.protected_until(&row)?);
        if let Some(why) = in_the_way.into_iter().next() {
            return Err(ServiceError::Invalid(why));
        }
        let (now, by) = (self.clock.now_ms(), caller.name());
        self.alter_destination(caller, id, "erasure confirmed", |row| {
            let Some(Erasing::Asked { confirmation: asked, .. }) = row.erasure.as_ref() else {
                return Err(ServiceError::Conflict(Conflict::ErasureNotAsked));
            };
            if !asked.eq_ignore_ascii_case(confirm.confirmation.trim()) {
                return Err(ServiceError::Invalid("this is not the confirmation that the first step answered with".into()));
            }
            *row.erasure = Some(Erasing::Confirmed { ends: removal::ends(protected, row.waiting_days, now), by });
            Ok(())
        })
    }

    /// Calls an erasure off. The destination stays withdrawn.
    pub(crate) fn call_erasure_off(&self, caller: &Caller, id: &DestinationId) -> Result<Destination> {
        self.alter_destination(caller, id, "erasure called off", |row| {
            *row.erasure = None;
            Ok(())
        })
    }

    /// Goes on with erasures whose waiting time is over: first the image stores, then the destination itself.
    pub(crate) fn tend_erasures(&self) -> Result<()> {
        let now = self.clock.now_ms();
        for row in self.destination_rows()?.iter().filter(|row| is_due(row, now)) {
            if self.media.check(&place(row)).is_ok() && self.erasure_of(row)?.in_the_way.is_empty() {
                self.go_on_erasing(row, now)?;
            }
        }
        Ok(())
    }

    /// Judges once more in the transaction that writes: somebody may have called the erasure off meanwhile.
    fn go_on_erasing(&self, row: &DestinationRow, now: i64) -> Result<()> {
        let is_gone = self.records.write(|on| {
            let Some(mut row) = DestinationRow::by_id(&row.id, on)?.filter(|row| is_due(row, now)) else { return Ok(false) };
            let by = row.erasure.as_ref().map_or(SERVICE, Erasing::by).to_owned();
            let lines = WorkstationLine::on_destination(&row.id, ALL_STORES, on)?;
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
        row.gone = Some(self.clock.now_ms());
        // Name and directory are free again; the row stays for the history that names it.
        row.name_key = format!("{} (gone)", row.id);
        row.directory = format!("{} (gone: {})", row.directory, row.id);
        row.set_granted_to(&[], &[], on)?;
        row.update(on)?;
        let what = "destination erased";
        let entry = NewEntry { at: self.clock.now_ms(), who: by, what, subject: &subject, ..NewEntry::default() };
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
                in_the_way.push(format!("there is a hold on backups of {}: take it off first", line.workstation.name));
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
        let protected = self.protected_until(row)?.saturating_sub(self.clock.now_ms());
        let protected_days = protected.max(0).unsigned_abs().div_ceil(DAY_MS.unsigned_abs());
        Ok(u32::try_from(u64::from(row.waiting_days.0).max(protected_days)).unwrap_or(u32::MAX))
    }

    /// When the protected time of all points on a destination is over.
    fn protected_until(&self, row: &DestinationRow) -> Result<i64> {
        let mut until = i64::MIN;
        for line in self.lines_on(row)? {
            let promise = self.promise(&line)?;
            let facts = points::facts(&self.point_rows(&line)?);
            until = facts.iter().map(|fact| promise.protected_until_ms(fact)).fold(until, i64::max);
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
        self.records.read(|on| Ok(WorkstationLine::on_destination(&row.id, ALL_STORES, on)?))
    }

    pub(crate) fn destination_row(&self, id: &DestinationId) -> Result<DestinationRow> {
        let row = self.records.read(|on| Ok::<_, ServiceError>(DestinationRow::by_id(id, on)?))?;
        row.ok_or(ServiceError::NotFound("destination"))
    }
}

fn is_due(row: &DestinationRow, now: i64) -> bool {
    row.erasure.as_ref().and_then(Erasing::ends).is_some_and(|ends| ends <= now)
}
