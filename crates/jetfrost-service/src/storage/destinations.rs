//! Destinations: added, shown, changed, withdrawn; missing ones are noticed, and so is their return.

use std::path::PathBuf;

use jetfrost_office::access::Act;
use jetfrost_office::capacity::suggested_reserve;
use jetfrost_office::names;
use jetfrost_office::protected::USUAL_DAYS;
use jetfrost_wire::access::Grants;
use jetfrost_wire::destination::{
    CheckDirectory, Destination, DestinationChange, DestinationState, Erasure, NewDestination, Verdict, Volume,
};
use jetfrost_wire::event::Event;
use jetfrost_wire::retention::{AtLimit, Retention, Rule};
use jetfrost_wire::{DestinationId, Page, PageQuery, Version};

use crate::clock::{Moment, timestamp};
use crate::identity::{accounts, grants};
use crate::media::{MarkerError, MediaError, Place, judge, volume_of, volumes};
use crate::records::{AuditRow, Connection, Count, Days, Deed, DestinationRow, Erasing, Id, NewEntry, StoreRow, Word, Written};
use crate::secrets::new_id;
use crate::shared::versions::{Made, Seen, version};
use crate::shared::{
    Caller, Conflict, Invalid, Result, SERVICE, ServiceError, Thing, bounds, check_days, checked_name, limit_to_db, place,
    shown_limit, taken, to_db,
};
use crate::storage::Storage;
use crate::storage::terms::{change_of_destination, check_terms};

/// All destinations are looked at together; an office has a handful.
const ALL: usize = 1000;

/// The retention of a new destination unless one is given: enough that nobody misses something before they have set their own.
const USUAL_RETENTION: Retention = Retention::Thinned(Rule { hours: 72, days: 60, weeks: 52, months: 60, years: 0, at_least: 5 });

/// The waiting time of a new destination.
pub(crate) const USUAL_WAITING_DAYS: Days = Days(7);

impl Storage {
    pub(crate) fn destinations(&self, caller: &Caller, page: &PageQuery) -> Result<Page<Destination>> {
        caller.may(&Act::SeeOffice)?;
        let size = page.size();
        let after = page.after.clone().unwrap_or_default();
        let rows = self.records.read(|on| Ok::<_, ServiceError>(DestinationRow::list(&after, size + 1, on)?))?;
        let items = rows.iter().map(|row| self.destination(row)).collect::<Result<_>>()?;
        Ok(Page::from_one_more(items, size, |d: &Destination| names::key(&d.name)))
    }

    /// One destination.
    pub(crate) fn destination_by_id(&self, caller: &Caller, id: &DestinationId) -> Result<Destination> {
        caller.may(&Act::SeeOffice)?;
        let row = self.records.read(|on| Ok::<_, ServiceError>(DestinationRow::by_id(id, on)?))?;
        self.destination(&row.ok_or(ServiceError::NotFound(Thing::Destination))?)
    }

    /// The volumes of the server, each with a verdict. Where it may, it writes a probe and removes it.
    pub(crate) fn volumes(&self, caller: &Caller) -> Result<Vec<Volume>> {
        caller.may(&Act::ChangeOffice)?;
        let listed = volumes(&self.directories()?, &self.installation.service);
        listed.map_err(|source| MediaError::Io { doing: "listing the volumes", source }.into())
    }

    /// Says whether a directory would do. A probe is written and removed.
    pub(crate) fn check_directory(&self, caller: &Caller, directory: &CheckDirectory) -> Result<Verdict> {
        caller.may(&Act::ChangeOffice)?;
        let others = self.directories()?;
        let judgement = judge(&PathBuf::from(&directory.directory), &others, &self.installation.service);
        let volume = judgement.volume;
        Ok(Verdict {
            fitness: judgement.fitness,
            reasons: judgement.reasons,
            file_system: volume.as_ref().map_or_else(String::new, |v| v.file_system.clone()),
            mounted_at: volume.as_ref().map_or_else(String::new, |v| v.mounted_at.clone()),
            size: volume.as_ref().map_or(0, |v| v.size),
            free: volume.as_ref().map_or(0, |v| v.free),
        })
    }

    /// Adds a destination: lays out its directory, then records it. A failure in between leaves an empty, marked directory.
    pub(crate) fn add_destination(&self, caller: &Caller, new: &NewDestination) -> Result<Destination> {
        caller.may(&Act::ChangeOffice)?;
        let name = checked_name(&new.name)?;
        let mut row = DestinationRow {
            id: Id(new_id(&*self.random)),
            name_key: names::key(&name),
            name,
            description: checked_description(new.description.as_deref().unwrap_or_default())?,
            directory: new.directory.clone(),
            capacity: new.capacity.map(to_db).transpose()?,
            default_limit: new.default_limit.map(to_db).transpose()?,
            created: self.clock.now(),
            retention: Written(new.retention.unwrap_or(USUAL_RETENTION)),
            at_limit: new.at_limit.unwrap_or(AtLimit::Stop).into(),
            encryption: new.encryption.into(),
            waiting_days: USUAL_WAITING_DAYS,
            protected_days: Days(new.protected_days.unwrap_or(USUAL_DAYS)),
            scrub_days: Days(jetfrost_wire::retention::usual_scrub_days()),
            ..DestinationRow::default()
        };
        check_terms(&row)?;
        if PathBuf::from(&new.directory).starts_with(&self.state_directory) && !self.state_directory.as_os_str().is_empty() {
            return Err(MediaError::Unfit(vec!["it lies in the service's own state directory".into()]).into());
        }
        self.check_new(&row, new)?;
        self.media.lay_out(&place(&row), &row.name, &timestamp(row.created).to_string(), &self.directories()?)?;
        let volume =
            volume_of(&place(&row).directory).map_err(|source| MediaError::Io { doing: "examining the volume", source })?;
        row.reserve = to_db(new.reserve.unwrap_or_else(|| suggested_reserve(volume.size)))?;
        self.insert_destination(caller, row, "destination added", |row, on| grants::set_grants(row, &new.grants, on))
    }

    /// What can be wrong about a new destination is found before anything is written to its directory.
    fn check_new(&self, row: &DestinationRow, new: &NewDestination) -> Result<()> {
        self.records.read(|on| {
            if DestinationRow::by_key(&row.name_key, on)?.is_some() {
                return Err(ServiceError::NameTaken(row.name.clone()));
            }
            accounts::groups_named(&new.grants.groups, on)?;
            new.grants.logins.iter().try_for_each(|login| accounts::account_named(login, on).map(drop))
        })
    }

    pub(crate) fn insert_destination(
        &self,
        caller: &Caller,
        mut row: DestinationRow,
        what: &str,
        complete: impl FnOnce(&mut DestinationRow, &mut Connection) -> Result<()>,
    ) -> Result<Destination> {
        self.records.write(|on| {
            row.insert(on).map_err(|e| taken(&row.name, e))?;
            complete(&mut row, on)?;
            row.update(on)?;
            let after = said(&row, &grants::grants(&row, on)?);
            self.trail.note_change(caller, what, &row.name, None, Some(&after), on)
        })?;
        self.events.tell(Event::Office);
        self.destination(&row)
    }

    /// Opens a destination to one more account, within a transaction.
    pub(crate) fn open_also_to(&self, caller: &Caller, name: &str, login: &str, on: &mut Connection) -> Result<()> {
        let mut row = grants::destination_named(name, on)?;
        let mut to = grants::grants(&row, on)?;
        let before = said(&row, &to);
        to.logins.push(login.to_owned());
        grants::set_grants(&mut row, &to, on)?;
        row.update(on)?;
        self.trail.note_change(caller, "destination changed", &row.name, Some(&before), Some(&said(&row, &to)), on)
    }

    /// Changes what is given.
    pub(crate) fn change_destination(
        &self,
        caller: &Caller,
        id: &DestinationId,
        change: &DestinationChange,
        seen: &Seen,
    ) -> Result<Destination> {
        caller.may(&Act::ChangeOffice)?;
        [change.waiting_days, change.scrub_days].into_iter().flatten().try_for_each(check_days)?;
        let now = self.clock.now();
        let row = self.records.write(|on| {
            let mut row = DestinationRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Destination))?;
            let grants = grants::grants(&row, on)?;
            let (old, before) = (row.clone(), said(&row, &grants));
            seen.check(&version_of(&row, &grants), &Made { subject: None, after: &before }, on)?;
            self.set_given(&mut row, change)?;
            change_of_destination(&old, &mut row, now, on)?;
            if let Some(to) = &change.grants {
                grants::set_grants(&mut row, to, on)?;
            }
            row.update(on).map_err(|e| taken(&row.name, e))?;
            let after = said(&row, &grants::grants(&row, on)?);
            self.trail.note_change(caller, "destination changed", &old.name, Some(&before), Some(&after), on)?;
            if change.directory.is_some() {
                self.media.close(StoreRow::on_destination(&row.id, on)?.iter().map(|store| store.id.as_str()));
            }
            Ok::<_, ServiceError>(row)
        })?;
        self.events.tell(Event::Office);
        self.destination(&row)
    }

    fn set_given(&self, row: &mut DestinationRow, change: &DestinationChange) -> Result<()> {
        if let Some(name) = &change.name {
            row.name = checked_name(name)?;
            row.name_key = names::key(&row.name);
        }
        if let Some(description) = &change.description {
            row.description = checked_description(description)?;
        }
        if let Some(directory) = &change.directory {
            let there = self.media.check(&Place { id: row.id.0.clone(), directory: directory.into() });
            // It was named by whoever asks: that it is not there is not the fault of a volume.
            there.map_err(Invalid::from)?;
            row.directory.clone_from(directory);
        }
        if let Some(capacity) = change.capacity {
            row.capacity = limit_to_db(capacity)?;
        }
        if let Some(limit) = change.default_limit {
            row.default_limit = limit_to_db(limit)?;
        }
        row.reserve = change.reserve.map_or(Ok(row.reserve), to_db)?;
        row.retention = change.retention.map_or(row.retention, Written);
        row.at_limit = change.at_limit.map_or(row.at_limit, Word);
        row.encryption = change.encryption.map_or(row.encryption, Word);
        row.waiting_days = change.waiting_days.map_or(row.waiting_days, Days);
        row.scrub_days = change.scrub_days.map_or(row.scrub_days, Days);
        row.protected_days = change.protected_days.map_or(row.protected_days, Days);
        Ok(())
    }

    /// Takes no new backups from now on. What is there stays and can be restored.
    pub(crate) fn withdraw(&self, caller: &Caller, id: &DestinationId) -> Result<Destination> {
        let (now, by) = (self.clock.now(), caller.name());
        self.alter_destination(caller, id, "destination withdrawn", |row, _| {
            row.withdrawn.get_or_insert(Deed { at: now, by });
            Ok(())
        })
    }

    /// Takes backups again.
    pub(crate) fn reinstate_destination(&self, caller: &Caller, id: &DestinationId) -> Result<Destination> {
        self.alter_destination(caller, id, "destination reinstated", |row, _| {
            if matches!(*row.erasure, Some(Erasing::Confirmed { .. })) {
                return Err(ServiceError::Conflict(Conflict::ErasurePending));
            }
            (*row.withdrawn, *row.erasure) = (None, None);
            Ok(())
        })
    }

    pub(crate) fn alter_destination(
        &self,
        caller: &Caller,
        id: &DestinationId,
        what: &str,
        alter: impl FnOnce(&mut DestinationRow, &mut Connection) -> Result<()>,
    ) -> Result<Destination> {
        caller.may(&Act::ChangeOffice)?;
        let row = self.records.write(|on| {
            let mut row = DestinationRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Destination))?;
            alter(&mut row, on)?;
            row.update(on)?;
            self.trail.note(caller, what, &row.name, on)?;
            Ok::<_, ServiceError>(row)
        })?;
        self.events.tell(Event::Office);
        self.destination(&row)
    }

    /// Notices destinations that went missing or came back since the last look.
    pub(crate) fn watch_places(&self) -> Result<()> {
        let rows = self.records.read(|on| Ok::<_, ServiceError>(DestinationRow::list("", ALL, on)?))?;
        for row in rows {
            let found = self.media.check(&place(&row));
            let nobody_looked = found.as_ref().is_err_and(|error| !error.is_known());
            if nobody_looked || found.is_err() == row.missing_since.is_some() {
                continue;
            }
            let now = self.clock.now();
            let what = if found.is_err() { "destination missing" } else { "destination back" };
            let why = found.as_ref().err().map(ToString::to_string);
            self.records.write(|on| {
                DestinationRow::set_missing_since(&row.id, found.is_err().then_some(now), on)?;
                let entry =
                    NewEntry { at: now, who: SERVICE, what, subject: &row.name, after: why.as_deref(), ..NewEntry::default() };
                Ok::<_, ServiceError>(AuditRow::insert(&entry, on)?)
            })?;
            tracing::warn!(destination = row.name, "{what}");
            self.events.tell(Event::Office);
        }
        Ok(())
    }

    pub(crate) fn directories(&self) -> Result<Vec<PathBuf>> {
        let rows = self.records.read(|on| Ok::<_, ServiceError>(DestinationRow::list("", ALL, on)?))?;
        Ok(rows.into_iter().map(|row| row.directory.into()).collect())
    }

    pub(crate) fn destination_rows(&self) -> Result<Vec<DestinationRow>> {
        self.records.read(|on| Ok(DestinationRow::list("", ALL, on)?))
    }

    pub(crate) fn all_destinations(&self) -> Result<Vec<Destination>> {
        self.destination_rows()?.iter().map(|row| self.destination(row)).collect()
    }

    /// A destination as it is at the moment.
    pub(crate) fn destination(&self, row: &DestinationRow) -> Result<Destination> {
        let (stores, grants) =
            self.records.read(|on| Ok::<_, ServiceError>((StoreRow::on_destination(&row.id, on)?, grants::grants(row, on)?)))?;
        let marker = self.media.check(&place(row));
        let used = marker.is_ok().then(|| self.used_of(&place(row), &stores));
        let room = marker.is_ok().then(|| self.levels_of_destination(row)).transpose()?;
        let room = room.map(|levels| levels.iter().map(|(_, level)| level.room()).min().unwrap_or(0));
        let state = state(row, &marker, room);
        Ok(Destination {
            id: row.id.0.clone(),
            name: row.name.clone(),
            description: row.description.clone(),
            directory: row.directory.clone(),
            state,
            since: since(row, state).map(timestamp),
            why: why(row, state, &marker, grants.is_nobody()),
            capacity: row.capacity.map(Count::get),
            reserve: row.reserve.get(),
            default_limit: row.default_limit.map(Count::get),
            used,
            room,
            stores: stores.len() as u64,
            retention: row.retention.0,
            at_limit: row.at_limit.0,
            encryption: row.encryption.0,
            waiting_days: row.waiting_days.0,
            scrub_days: row.scrub_days.0,
            protected_days: row.protected_days.0,
            version: version_of(row, &grants),
            grants,
            erasure: row
                .erasure
                .as_ref()
                .map(|erasing| Erasure { by: erasing.by().to_owned(), ends: erasing.ends().map(timestamp) }),
            records_backed_up: row.records_backed_up.map(timestamp),
            records_backup_trouble: row.records_backup_trouble.clone(),
            created: timestamp(row.created),
        })
    }
}

fn version_of(row: &DestinationRow, grants: &Grants) -> Version {
    let limits = (row.capacity, row.reserve, row.default_limit, row.at_limit.0);
    let times = (row.waiting_days, row.scrub_days, row.protected_days);
    version(&(&row.name, &row.description, &row.directory, limits, row.retention.0, row.encryption.0, times, grants))
}

pub(crate) fn state(row: &DestinationRow, marker: &Result<(), MarkerError>, room: Option<u64>) -> DestinationState {
    match (marker, room) {
        (Err(MarkerError::Missing(_)), _) => DestinationState::Missing,
        (Err(MarkerError::Foreign(_)), _) => DestinationState::Foreign,
        // As it was when somebody could look.
        (Err(MarkerError::NotLookedAt(_)), _) if row.missing_since.is_some() => DestinationState::Missing,
        (Err(MarkerError::NotLookedAt(_)), _) => state(row, &Ok(()), room),
        (Ok(()), _) if matches!(*row.erasure, Some(Erasing::Confirmed { .. })) => DestinationState::Erasing,
        (Ok(()), _) if row.withdrawn.is_some() => DestinationState::Withdrawn,
        (Ok(()), Some(0)) => DestinationState::Full,
        (Ok(()), _) => DestinationState::Ready,
    }
}

fn since(row: &DestinationRow, state: DestinationState) -> Option<Moment> {
    match state {
        DestinationState::Missing | DestinationState::Foreign => row.missing_since,
        DestinationState::Withdrawn | DestinationState::Erasing => row.withdrawn.as_ref().map(|withdrawn| withdrawn.at),
        DestinationState::Full | DestinationState::Ready => None,
    }
}

const FULL: &str = "its capacity or its volume's reserve is reached";
const NOBODY: &str = "nobody has access yet: no backup can come here";

fn why(row: &DestinationRow, state: DestinationState, marker: &Result<(), MarkerError>, granted_to_nobody: bool) -> String {
    let withdrawn_by = row.withdrawn.as_ref().map_or(SERVICE, |withdrawn| &withdrawn.by);
    match (state, marker) {
        (_, Err(error)) => format!("{error}; nothing is written in its stead"),
        (DestinationState::Erasing, _) => {
            let by = row.erasure.as_ref().map_or(withdrawn_by, Erasing::by);
            format!("{by} asked for all of it to be erased")
        }
        (DestinationState::Withdrawn, _) => {
            format!("{withdrawn_by} withdrew it: no new backups come here, and those that are here can be restored")
        }
        // Both, since neither is over when the other is.
        (DestinationState::Full, _) if granted_to_nobody => format!("{FULL}; {NOBODY}"),
        (DestinationState::Full, _) => FULL.into(),
        _ if granted_to_nobody => NOBODY.into(),
        _ => String::new(),
    }
}

/// What a destination is for.
pub(crate) fn checked_description(text: &str) -> Result<String> {
    let text = text.trim();
    if text.chars().count() > bounds::DESCRIPTION || text.chars().any(|c| c.is_control() && c != '\n') {
        return Err(Invalid::Description.into());
    }
    Ok(text.to_owned())
}

/// A destination in a line, for the audit log.
fn said(row: &DestinationRow, grants: &Grants) -> String {
    format!(
        "{} at {}: capacity {}, reserve {}, limit of new stores {}, retention {}, at a limit {}, encryption {}, protected time {} days, waiting time {} days, scrub every {} days, open to {}",
        row.name,
        row.directory,
        shown_limit(row.capacity.map(Count::get)),
        jetfrost_wire::size::show(row.reserve.get()),
        shown_limit(row.default_limit.map(Count::get)),
        row.retention.0,
        row.at_limit.0.word(),
        row.encryption.0.word(),
        row.protected_days.0,
        row.waiting_days.0,
        row.scrub_days.0,
        grants::said(grants)
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::shared::testing::Office;

    fn new(office: &Office, name: &str, directory: &str) -> NewDestination {
        let directory = office.path(directory).display().to_string();
        NewDestination { name: name.into(), directory, reserve: Some(0), ..NewDestination::default() }
    }

    #[test]
    fn two_destinations_share_neither_name_nor_directory() {
        let office = Office::open();
        office.destination("shelf");
        let add = |name, directory| office.services.storage.add_destination(&office.ingrid, &new(&office, name, directory));
        assert!(matches!(add("SHELF", "elsewhere"), Err(ServiceError::NameTaken(_))), "letter case does not tell them apart");
        assert!(!office.path("elsewhere").join("destination.json").exists(), "nothing is left of what was refused");
        assert!(matches!(add("cellar", "shelf"), Err(ServiceError::Media(MediaError::Unfit(_)))));
        assert!(matches!(add("cellar", "shelf/within"), Err(ServiceError::Media(MediaError::Unfit(_)))));
        add("cellar", "elsewhere").expect("added");
    }

    #[test]
    fn of_two_administrators_the_second_learns_who_changed_it() {
        let office = Office::open();
        let shelf = office.destination("shelf");
        let odd = office.person("odd", jetfrost_types::Role::Administrator);
        let seen = Seen::OneOf(vec![shelf.version.clone()]);
        let to = |days| DestinationChange { waiting_days: Some(days), ..DestinationChange::default() };
        let set = |who, days| office.services.storage.change_destination(who, &shelf.id, &to(days), &seen);
        set(&odd, 9).expect("the first");
        let refused = set(&office.ingrid, 3);
        assert!(matches!(refused, Err(ServiceError::ChangedMeanwhile { by: Some((who, _)) }) if who == "odd"));
        assert_eq!(office.services.storage.destination_by_id(&odd, &shelf.id).expect("there").waiting_days, 9);
    }

    #[test]
    fn a_destination_does_not_move_to_a_directory_that_is_not_it() {
        let office = Office::open();
        let shelf = office.destination("shelf");
        std::fs::create_dir(office.path("empty")).expect("made");
        let to =
            DestinationChange { directory: Some(office.path("empty").display().to_string()), ..DestinationChange::default() };
        let moved = office.services.storage.change_destination(&office.ingrid, &shelf.id, &to, &Seen::Anything);
        assert!(matches!(moved, Err(ServiceError::Invalid(Invalid::OtherDirectory(_)))));
    }
}
