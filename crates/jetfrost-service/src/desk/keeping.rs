//! What an administrator sets, holds, removes and brings back.

use jetfrost_office::access::Act;
use jetfrost_wire::destination::Destination;
use jetfrost_wire::event::Event;
use jetfrost_wire::keeping::{AccountSettings, DestinationSettings, NewHold, StoreSettings};
use jetfrost_wire::people::Account;
use jetfrost_wire::workstation::{Point, Workstation};

use super::{Caller, Desk, DeskError, Result, convert, to_db};
use crate::records::{AccountRow, DestinationRow, PointRow, WorkstationLine};

const DAY_MS: i64 = 86_400_000;
/// Nobody waits longer than ten years.
const MOST_WAITING_DAYS: u32 = 3650;
/// A reason is a sentence.
const MOST_REASON: usize = 200;

impl Desk {
    pub(crate) fn set_destination(&self, caller: &Caller, id: &str, to: &DestinationSettings) -> Result<Destination> {
        caller.may(&Act::ChangeOffice)?;
        if to.waiting_days > MOST_WAITING_DAYS {
            return Err(DeskError::Invalid(format!("the waiting time is {MOST_WAITING_DAYS} days at most")));
        }
        let row = self.records.write(|on| {
            let mut row = DestinationRow::by_id(id, on)?.ok_or(DeskError::NotFound("destination"))?;
            row.capacity = to.capacity.map(to_db).transpose()?;
            row.reserve = to_db(to.reserve)?;
            row.keeping = to.keeping.to_string();
            row.at_limit = convert::at_limit_word(to.at_limit).into();
            row.waiting_days = to.waiting_days.into();
            row.scrub_days = to.scrub_days.into();
            row.update(on)?;
            let what = format!("{}: keeps {}, waiting time {} days", row.name, row.keeping, row.waiting_days);
            self.audit(caller, "destination changed", &what, on)?;
            Ok::<_, DeskError>(row)
        })?;
        self.events.tell(Event::Office);
        self.destination(&row)
    }

    pub(crate) fn set_account(&self, caller: &Caller, id: &str, to: &AccountSettings) -> Result<Account> {
        caller.may(&Act::ChangeOffice)?;
        let account = self.records.write(|on| {
            AccountRow::set_quota(id, to.quota.map(to_db).transpose()?, on)?;
            let row = AccountRow::by_id(id, on)?.ok_or(DeskError::NotFound("account"))?;
            self.audit(caller, "account changed", &format!("{}: quota {}", row.login, shown(to.quota)), on)?;
            Ok::<_, DeskError>(convert::account(&row, row.group_names(on)?, row.workstations(on)?))
        })?;
        self.events.tell(Event::Office);
        Ok(account)
    }

    pub(crate) fn set_store(&self, caller: &Caller, id: &str, to: &StoreSettings) -> Result<Workstation> {
        let what = format!(
            "limit {}, keeps {}",
            shown(to.limit),
            to.keeping.map_or_else(|| "what its destination says".into(), |k| k.to_string())
        );
        self.change_store(caller, id, "image store changed", &what, |line, _| {
            line.store.size_limit = to.limit.map(to_db).transpose()?;
            line.store.keeping = to.keeping.map(|keeping| keeping.to_string());
            Ok(())
        })
    }

    pub(crate) fn hold_store(&self, caller: &Caller, id: &str, hold: &NewHold) -> Result<Workstation> {
        let reason = checked_reason(hold)?;
        self.change_store(caller, id, "hold put on an image store", &reason, |line, caller| {
            line.store.held = Some(reason.clone());
            line.store.held_by = Some(caller.name());
            Ok(())
        })
    }

    pub(crate) fn release_store(&self, caller: &Caller, id: &str) -> Result<Workstation> {
        self.change_store(caller, id, "hold taken off an image store", "", |line, _| {
            (line.store.held, line.store.held_by) = (None, None);
            Ok(())
        })
    }

    /// Removes an image store, after the waiting time.
    pub(crate) fn remove_store(&self, caller: &Caller, id: &str) -> Result<Workstation> {
        let now = self.now();
        self.change_store(caller, id, "image store removed", "it waits to go", |line, caller| {
            if line.store.held.is_some() {
                return Err(DeskError::Conflict("there is a hold on this image store: take it off first"));
            }
            line.store.leaves.get_or_insert(now + line.destination.waiting_days * DAY_MS);
            line.store.leaving_by.get_or_insert(caller.name());
            Ok(())
        })
    }

    pub(crate) fn bring_store_back(&self, caller: &Caller, id: &str) -> Result<Workstation> {
        self.change_store(caller, id, "image store brought back", "", |line, _| {
            (line.store.leaves, line.store.leaving_by) = (None, None);
            Ok(())
        })
    }

    pub(crate) fn hold_point(&self, caller: &Caller, store: &str, sequence: u64, hold: &NewHold) -> Result<Point> {
        let reason = checked_reason(hold)?;
        self.change_point(caller, store, sequence, "hold put on a point", |row, _, caller| {
            row.held = Some(reason.clone());
            row.held_by = Some(caller.name());
            Ok(())
        })
    }

    pub(crate) fn release_point(&self, caller: &Caller, store: &str, sequence: u64) -> Result<Point> {
        self.change_point(caller, store, sequence, "hold taken off a point", |row, _, _| {
            (row.held, row.held_by) = (None, None);
            Ok(())
        })
    }

    /// Removes a point, after the waiting time.
    pub(crate) fn remove_point(&self, caller: &Caller, store: &str, sequence: u64) -> Result<Point> {
        let now = self.now();
        self.change_point(caller, store, sequence, "point removed", |row, line, caller| {
            if row.held.is_some() || line.store.held.is_some() {
                return Err(DeskError::Conflict("there is a hold on this recovery point or its image store: take it off first"));
            }
            if line.store.latest_sequence == Some(row.sequence) {
                return Err(DeskError::Conflict("the latest recovery point stays: the next one builds on it"));
            }
            row.leaves.get_or_insert(now + line.destination.waiting_days * DAY_MS);
            row.leaving_by.get_or_insert(caller.name());
            Ok(())
        })
    }

    pub(crate) fn bring_point_back(&self, caller: &Caller, store: &str, sequence: u64) -> Result<Point> {
        self.change_point(caller, store, sequence, "point brought back", |row, _, _| {
            (row.leaves, row.leaving_by) = (None, None);
            Ok(())
        })
    }

    fn change_store(
        &self,
        caller: &Caller,
        id: &str,
        act: &str,
        what: &str,
        change: impl FnOnce(&mut WorkstationLine, &Caller) -> Result<()>,
    ) -> Result<Workstation> {
        caller.may(&Act::ChangeOffice)?;
        let line = self.records.write(|on| {
            let mut line = WorkstationLine::by_store(id, on)?.ok_or(DeskError::NotFound("image store"))?;
            change(&mut line, caller)?;
            line.store.update(on)?;
            self.audit(caller, act, format!("{} {what}", line.workstation.name).trim_end(), on)?;
            Ok::<_, DeskError>(line)
        })?;
        self.workstation_changed(&line.workstation.id);
        Ok(self.workstation_of(&line))
    }

    fn change_point(
        &self,
        caller: &Caller,
        store: &str,
        sequence: u64,
        act: &str,
        change: impl FnOnce(&mut PointRow, &WorkstationLine, &Caller) -> Result<()>,
    ) -> Result<Point> {
        caller.may(&Act::ChangeOffice)?;
        let (line, row) = self.records.write(|on| {
            let line = WorkstationLine::by_store(store, on)?.ok_or(DeskError::NotFound("image store"))?;
            let row = PointRow::find(store, to_db(sequence)?, on)?;
            let mut row = row.ok_or(DeskError::NotFound("recovery point"))?;
            change(&mut row, &line, caller)?;
            row.update(on)?;
            self.audit(caller, act, &format!("{} point {sequence}", line.workstation.name), on)?;
            Ok::<_, DeskError>((line, row))
        })?;
        self.workstation_changed(&line.workstation.id);
        Ok(convert::point(&row))
    }
}

fn checked_reason(hold: &NewHold) -> Result<String> {
    let reason = hold.reason.trim();
    if reason.is_empty() || reason.chars().count() > MOST_REASON {
        return Err(DeskError::Invalid(format!("say why, in 1 to {MOST_REASON} characters: the next person will want to know")));
    }
    Ok(reason.to_owned())
}

fn shown(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "none".into(), jetfrost_wire::size::show)
}
