//! Destinations.

use std::path::PathBuf;

use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_office::room::suggested_reserve;
use jetfrost_wire::destination::{Destination, DestinationState, NewDestination, TryDirectory, Verdict};
use jetfrost_wire::event::Event;
use jetfrost_wire::keeping::{AtLimit, Keeping, Rule};
use jetfrost_wire::{DestinationId, Page, PageQuery};

use super::convert::{self, from_db};
use super::{Caller, Desk, DeskError, Result, checked_name, place, to_db};
use crate::clock::timestamp;
use crate::records::{DestinationRow, is_duplicate};
use crate::secrets::new_id;
use crate::shelf::{MarkerError, ShelfError, judge, volume_of};

/// All destinations are looked at together; an office has a handful.
const ALL: usize = 1000;
/// What a new destination keeps unless told otherwise: enough that nobody misses something before they have set their own.
const USUAL_KEEPING: Keeping = Keeping::Thinned(Rule { hours: 72, days: 60, weeks: 52, months: 60, years: 0, at_least: 5 });
const USUAL_WAITING_DAYS: i64 = 7;

impl Desk {
    pub(crate) fn destinations(&self, caller: &Caller, page: &PageQuery) -> Result<Page<Destination>> {
        caller.may(&Act::SeeOffice)?;
        let size = page.size();
        let after = page.after.clone().unwrap_or_default();
        let rows = self.records.read(|on| Ok::<_, DeskError>(DestinationRow::list(&after, size + 1, on)?))?;
        let items = rows.iter().map(|row| self.destination(row)).collect::<Result<_>>()?;
        Ok(Page::from_one_more(items, size, |d: &Destination| names::key(&d.name)))
    }

    /// Says whether a directory would do, and changes nothing.
    pub(crate) fn try_directory(&self, caller: &Caller, directory: &TryDirectory) -> Result<Verdict> {
        caller.may(&Act::ChangeOffice)?;
        let others = self.directories()?;
        let judgement = judge(&PathBuf::from(&directory.directory), &others, &self.identity.service);
        let volume = judgement.volume;
        Ok(Verdict {
            fit: judgement.fit,
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
        let capacity = new.capacity.map(to_db).transpose()?;
        let directory = PathBuf::from(&new.directory);
        let taken = self.records.read(|on| Ok::<_, DeskError>(DestinationRow::by_key(&names::key(&name), on)?))?;
        if taken.is_some() {
            return Err(DeskError::NameTaken(name));
        }
        let mut row = DestinationRow {
            id: new_id(&*self.random),
            name_key: names::key(&name),
            name,
            directory: new.directory.clone(),
            capacity,
            reserve: 0,
            created: self.now(),
            keeping: new.keeping.unwrap_or(USUAL_KEEPING).to_string(),
            at_limit: convert::at_limit_word(new.at_limit.unwrap_or(AtLimit::Stop)).into(),
            waiting_days: USUAL_WAITING_DAYS,
            scrub_days: jetfrost_wire::keeping::usual_scrub_days().into(),
        };
        self.shelf.lay_out(&place(&row), &row.name, &timestamp(row.created).to_string(), &self.directories()?)?;
        let volume = volume_of(&directory).map_err(|source| ShelfError::Io { doing: "examining the volume", source })?;
        row.reserve = to_db(new.reserve.unwrap_or_else(|| suggested_reserve(volume.size)))?;
        self.records.write(|on| {
            row.insert(on).map_err(|e| if is_duplicate(&e) { DeskError::NameTaken(row.name.clone()) } else { e.into() })?;
            self.audit(caller, "destination added", &format!("{} at {}", row.name, row.directory), on)
        })?;
        self.events.tell(Event::Office);
        self.destination(&row)
    }

    fn directories(&self) -> Result<Vec<PathBuf>> {
        let rows = self.records.read(|on| Ok::<_, DeskError>(DestinationRow::list("", ALL, on)?))?;
        Ok(rows.into_iter().map(|row| row.directory.into()).collect())
    }

    pub(super) fn all_destinations(&self) -> Result<Vec<Destination>> {
        let rows = self.records.read(|on| Ok::<_, DeskError>(DestinationRow::list("", ALL, on)?))?;
        rows.iter().map(|row| self.destination(row)).collect()
    }

    /// A destination as it is at the moment.
    pub(super) fn destination(&self, row: &DestinationRow) -> Result<Destination> {
        let stores = self.records.read(|on| Ok::<_, DeskError>(row.stores(on)?))?;
        let marker = self.shelf.check(&place(row));
        let used = marker.is_ok().then(|| self.used_of(&place(row), &stores));
        let room = marker.is_ok().then(|| self.levels_of_destination(row)).transpose()?;
        let room = room.map(|levels| levels.iter().map(|(_, level)| level.room()).min().unwrap_or(0));
        Ok(Destination {
            id: DestinationId(row.id.clone()),
            name: row.name.clone(),
            directory: row.directory.clone(),
            state: state(&marker, room),
            capacity: row.capacity.map(from_db),
            reserve: from_db(row.reserve),
            used,
            room,
            stores: stores.len() as u64,
            keeping: convert::keeping(&row.keeping),
            at_limit: convert::at_limit(&row.at_limit),
            waiting_days: u32::try_from(row.waiting_days).unwrap_or(u32::MAX),
            scrub_days: u32::try_from(row.scrub_days).unwrap_or(u32::MAX),
            created: timestamp(row.created),
        })
    }
}

pub(super) fn state(marker: &Result<(), MarkerError>, room: Option<u64>) -> DestinationState {
    match (marker, room) {
        (Err(MarkerError::Missing(_)), _) => DestinationState::Missing,
        (Err(MarkerError::Foreign(_)), _) => DestinationState::Foreign,
        (Ok(()), Some(0)) => DestinationState::Full,
        (Ok(()), _) => DestinationState::Ready,
    }
}
