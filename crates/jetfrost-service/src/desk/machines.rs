//! Workstations: the list, one of them, and how the office stands.

use jetfrost_image::StoreId;
use jetfrost_office::access::Act;
use jetfrost_office::names;
use jetfrost_wire::restore::Restore;
use jetfrost_wire::run::Run;
use jetfrost_wire::workstation::{Overview, Point, StoreSummary, Workstation, WorkstationState};
use jetfrost_wire::{AccountId, DestinationId, Page, PageQuery, WorkstationId};

use super::convert::{self, from_db};
use super::{Caller, Desk, DeskError, Result, keeping, number_cursor, place, places, terms};
use crate::clock::timestamp;
use crate::records::{PointRow, RestoreRow, RunRow, WorkstationLine};

/// The overview shows all workstations of an office at once.
const ALL: usize = 2000;

impl Desk {
    pub(crate) fn workstations(&self, caller: &Caller, page: &PageQuery) -> Result<Page<Workstation>> {
        let size = page.size();
        let after = page.after.clone().unwrap_or_default();
        let rows = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::list(caller.only_own(), &after, size + 1, on)?))?;
        let items = rows.iter().filter(|line| caller.may(&see(line)).is_ok()).map(|line| self.workstation_of(line)).collect();
        Ok(Page::from_one_more(items, size, |w: &Workstation| names::key(&w.name)))
    }

    pub(crate) fn workstation(&self, caller: &Caller, id: &str) -> Result<Workstation> {
        Ok(self.workstation_of(&self.line(caller, id)?))
    }

    /// The points of a workstation's store, latest first.
    pub(crate) fn points(&self, caller: &Caller, id: &str, page: &PageQuery) -> Result<Page<Point>> {
        let line = self.line(caller, id)?;
        let before = number_cursor(page.after.as_ref())?;
        let rows = self.records.read(|on| Ok::<_, DeskError>(PointRow::list(&line.store.id, before, page.size() + 1, on)?))?;
        let items = rows.iter().map(convert::point).collect();
        Ok(Page::from_one_more(items, page.size(), |p: &Point| p.sequence.to_string()))
    }

    /// The runs of a workstation, latest first.
    pub(crate) fn runs(&self, caller: &Caller, id: &str, page: &PageQuery) -> Result<Page<Run>> {
        let line = self.line(caller, id)?;
        let (before, now) = (number_cursor(page.after.as_ref())?, self.now());
        let rows =
            self.records.read(|on| Ok::<_, DeskError>(RunRow::list(&line.workstation.id, before, page.size() + 1, on)?))?;
        let page = Page::from_one_more(rows, page.size(), |row| row.number.to_string());
        Ok(Page { items: page.items.iter().map(|row| convert::run(row, now)).collect(), next: page.next })
    }

    /// The restores from a workstation's store, latest first.
    pub(crate) fn restores(&self, caller: &Caller, id: &str, page: &PageQuery) -> Result<Page<Restore>> {
        let line = self.line(caller, id)?;
        let (before, now) = (number_cursor(page.after.as_ref())?, self.now());
        let rows =
            self.records.read(|on| Ok::<_, DeskError>(RestoreRow::list(&line.workstation.id, before, page.size() + 1, on)?))?;
        let page = Page::from_one_more(rows, page.size(), |row| row.number.to_string());
        Ok(Page { items: page.items.iter().map(|row| convert::restore(row, now)).collect(), next: page.next })
    }

    /// How everything stands that the caller may see; what needs attention first.
    pub(crate) fn overview(&self, caller: &Caller) -> Result<Overview> {
        let rows = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::list(caller.only_own(), "", ALL, on)?))?;
        let mut workstations: Vec<Workstation> =
            rows.iter().filter(|line| caller.may(&see(line)).is_ok()).map(|line| self.workstation_of(line)).collect();
        workstations.sort_by_key(|w| urgency(w.state));
        let destinations = match caller.may(&Act::SeeOffice) {
            Ok(()) => self.all_destinations()?,
            Err(_) => Vec::new(),
        };
        let protection = caller.may(&Act::SeeOffice).is_ok().then(|| self.protection()).transpose()?;
        Ok(Overview { now: timestamp(self.now()), workstations, destinations, protection })
    }

    /// A workstation that the caller may see. One that it may not see is not found: names are not given away.
    pub(super) fn line(&self, caller: &Caller, id: &str) -> Result<WorkstationLine> {
        let line = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::by_id(id, on)?))?;
        line.filter(|line| caller.may(&see(line)).is_ok()).ok_or(DeskError::NotFound("workstation"))
    }

    pub(super) fn workstation_of(&self, line: &WorkstationLine) -> Workstation {
        let (w, now) = (&line.workstation, self.now());
        Workstation {
            id: WorkstationId(w.id.clone()),
            name: w.name.clone(),
            account: AccountId(line.account.id.clone()),
            login: line.account.login.clone(),
            person: line.account.display_name.clone(),
            state: convert::workstation_state(w, line.latest_point.as_ref(), now),
            resting_since: w.rest_since.map(timestamp),
            platform: w.platform.clone(),
            client_version: w.client_version.clone(),
            disk_bytes: w.disk_bytes.map(from_db),
            enrolled: timestamp(w.enrolled),
            last_seen: w.last_seen.map(timestamp),
            rhythm_seconds: from_db(w.rhythm_seconds),
            store: self.store_summary(line),
            latest_point: line.latest_point.as_ref().map(convert::point),
            latest_run: line.latest_run.as_ref().map(|run| convert::run(run, now)),
        }
    }

    fn store_summary(&self, line: &WorkstationLine) -> StoreSummary {
        let place = place(&line.destination);
        let state = places::state(&line.destination, &self.shelf.check(&place), None);
        let id = line.store.id.parse::<StoreId>().ok().filter(|_| state.is_there());
        StoreSummary {
            id: line.store.id.clone(),
            destination: DestinationId(line.destination.id.clone()),
            destination_name: line.destination.name.clone(),
            destination_state: state,
            used: id.and_then(|id| self.shelf.used(&place, id).ok()),
            encrypted: line.store.encrypted,
            points: from_db(line.store.points),
            limit: line.store.size_limit.map(from_db),
            keeping: terms::keeping(line),
            keeping_is_own: line.store.keeping.is_some(),
            version: keeping::version_of(&line.store),
            hold: convert::hold(line.store.held.as_ref(), line.store.held_by.as_ref()),
            leaving: convert::leaving(line.store.leaves, line.store.leaving_by.as_ref()),
            scrubbed: line.store.scrubbed.map(timestamp),
            lost_chunks: from_db(line.store.lost_chunks),
            drilled: line.store.drilled.map(timestamp),
            drilled_point: line.store.drilled_point.map(from_db),
            drill_failed: line.store.drill_failed.map(timestamp),
        }
    }
}

fn see(line: &WorkstationLine) -> Act<'_> {
    Act::SeeWorkstation { workstation: &line.workstation.id, owner: &line.account.id }
}

fn urgency(state: WorkstationState) -> u8 {
    match state {
        WorkstationState::Overdue => 0,
        WorkstationState::FirstPointAwaited => 1,
        WorkstationState::Current => 2,
        WorkstationState::Unclaimed => 3,
        WorkstationState::Retired => 4,
    }
}
