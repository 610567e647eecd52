//! Erasing a destination: two confirmations, a waiting time, then all that is on it.

use data_encoding::BASE32_NOPAD;
use jetfrost_image::crypto::random_array;
use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_wire::destination::{AskErasure, ConfirmErasure, Destination, ErasedStore, ErasurePreview};
use jetfrost_wire::event::Event;

use crate::clock::timestamp;
use crate::records::{AuditRow, DestinationRow, NewEntry, PointRow, WorkstationLine};
use crate::shared::convert::from_db;
use crate::shared::{Caller, Conflict, DAY_MS, Result, ServiceError, place};
use crate::storage::{Storage, points};

/// The image stores of a destination are looked at together.
const ALL: usize = 10_000;

impl Storage {
    /// What erasing a destination would take.
    pub(crate) fn preview_erasure(&self, caller: &Caller, id: &str) -> Result<ErasurePreview> {
        caller.may(&Act::SeeOffice)?;
        let row = self.destination_row(id)?;
        self.erasure_of(&row)
    }

    /// The first confirmation: the destination's name, typed. Answers with what the second takes.
    pub(crate) fn ask_erasure(&self, caller: &Caller, id: &str, ask: &AskErasure) -> Result<ErasurePreview> {
        let typed = names::key(&ask.name);
        let code = BASE32_NOPAD.encode(&random_array::<5>(&*self.random));
        let by = caller.name();
        self.alter_destination(caller, id, "erasure asked for", |row| {
            if typed != row.name_key {
                return Err(ServiceError::Invalid("this is not the destination's name".into()));
            }
            if row.withdrawn.is_none() {
                return Err(ServiceError::Conflict(Conflict::NotWithdrawn));
            }
            if row.erases.is_none() {
                row.erase_asked = Some(code);
                row.erasing_by = Some(by);
            }
            Ok(())
        })?;
        let row = self.destination_row(id)?;
        Ok(ErasurePreview { confirmation: row.erase_asked.clone(), ..self.erasure_of(&row)? })
    }

    /// The second confirmation. The waiting time begins.
    pub(crate) fn confirm_erasure(&self, caller: &Caller, id: &str, confirm: &ConfirmErasure) -> Result<Destination> {
        caller.may(&Act::ChangeOffice)?;
        let row = self.destination_row(id)?;
        let (in_the_way, protected) = (self.erasure_of(&row)?.in_the_way, self.protected_until(&row)?);
        if let Some(why) = in_the_way.into_iter().next() {
            return Err(ServiceError::Invalid(why));
        }
        let (now, by) = (self.clock.now_ms(), caller.name());
        self.alter_destination(caller, id, "erasure confirmed", |row| {
            let asked = row.erase_asked.take();
            let asked = asked.ok_or(ServiceError::Conflict(Conflict::ErasureNotAsked))?;
            if !asked.eq_ignore_ascii_case(confirm.confirmation.trim()) {
                return Err(ServiceError::Invalid("this is not the confirmation that the first step answered with".into()));
            }
            row.erases = Some(protected.max(now + row.waiting_days * DAY_MS));
            row.erasing_by = Some(by);
            Ok(())
        })
    }

    /// Calls an erasure off. The destination stays withdrawn.
    pub(crate) fn call_erasure_off(&self, caller: &Caller, id: &str) -> Result<Destination> {
        self.alter_destination(caller, id, "erasure called off", |row| {
            (row.erase_asked, row.erases, row.erasing_by) = (None, None, None);
            Ok(())
        })
    }

    /// Goes on with erasures whose waiting time is over: first the image stores, then the destination itself.
    pub(crate) fn tend_erasures(&self) -> Result<()> {
        let now = self.clock.now_ms();
        for row in self.destination_rows()?.into_iter().filter(|row| row.erases.is_some_and(|erases| erases <= now)) {
            if self.media.check(&place(&row)).is_err() || !self.erasure_of(&row)?.in_the_way.is_empty() {
                continue;
            }
            let lines = self.lines_on(&row)?;
            if lines.is_empty() {
                self.finish_erasure(row)?;
                continue;
            }
            let by = row.erasing_by.clone().unwrap_or_default();
            self.records.write(|on| {
                for line in lines {
                    let mut store = line.store;
                    store.removal_ends = Some(now);
                    store.removal_by = Some(by.clone());
                    store.update(on)?;
                }
                Ok::<_, ServiceError>(())
            })?;
        }
        Ok(())
    }

    fn finish_erasure(&self, mut row: DestinationRow) -> Result<()> {
        self.media.clear(&place(&row))?;
        let by = row.erasing_by.clone().unwrap_or_default();
        let subject = row.name.clone();
        row.gone = Some(self.clock.now_ms());
        // Name and directory are free again; the row stays for the history that names it.
        row.name_key = format!("{} (gone)", row.id);
        row.directory = format!("{} (gone: {})", row.directory, row.id);
        self.records.write(|on| {
            row.set_granted_to(&[], &[], on)?;
            row.update(on)?;
            let entry = NewEntry {
                at: self.clock.now_ms(),
                who: &by,
                what: "destination erased",
                subject: &subject,
                ..NewEntry::default()
            };
            Ok::<_, ServiceError>(AuditRow::insert(&entry, on)?)
        })?;
        self.events.tell(Event::Office);
        Ok(())
    }

    fn erasure_of(&self, row: &DestinationRow) -> Result<ErasurePreview> {
        let lines = self.lines_on(row)?;
        let (mut points, mut earliest, mut in_the_way) = (0, None, Vec::new());
        for line in &lines {
            let rows = self.point_rows(line)?;
            points += rows.len() as u64;
            earliest = rows.iter().map(|point| point.committed).chain(earliest).min();
            if line.store.held.is_some() || rows.iter().any(|point: &PointRow| point.held.is_some()) {
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
        Ok(u32::try_from(from_db(row.waiting_days).max(protected_days)).unwrap_or(u32::MAX))
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
        let id = line.store.id.parse().ok();
        ErasedStore {
            workstation: line.workstation.name.clone(),
            person: line.account.display_name.clone(),
            points: from_db(line.store.points),
            latest: line.latest_point.as_ref().map(|point| timestamp(point.committed)),
            bytes: id.and_then(|id| self.media.used(&place(&line.destination), id).ok()),
        }
    }

    fn lines_on(&self, row: &DestinationRow) -> Result<Vec<WorkstationLine>> {
        self.records.read(|on| Ok(WorkstationLine::on_destination(&row.id, ALL, on)?))
    }

    pub(crate) fn destination_row(&self, id: &str) -> Result<DestinationRow> {
        let row = self.records.read(|on| Ok::<_, ServiceError>(DestinationRow::by_id(id, on)?))?;
        row.ok_or(ServiceError::NotFound("destination"))
    }
}
