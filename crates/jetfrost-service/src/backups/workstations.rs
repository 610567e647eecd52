//! Workstations: one of them, its history, and how the office stands.

use jetfrost_office::access::Act;
use jetfrost_types::{AccountId, WorkstationId};
use jetfrost_wire::people::{AccountTies, TiedWorkstation};
use jetfrost_wire::point::Point;
use jetfrost_wire::restore::Restore;
use jetfrost_wire::run::Run;
use jetfrost_wire::workstation::{Overview, Workstation};
use jetfrost_wire::{Page, PageQuery};

use crate::backups::Backups;
use crate::backups::workstation_list::urgency;
use crate::clock::timestamp;
use crate::records::{AccountRow, CodeRow, PointRow, RestoreRow, RunRow, SessionRow, WorkstationLine};
use crate::shared::{Caller, Result, ServiceError, Thing, convert, number_cursor, place};
use crate::storage::workstations::see;

impl Backups {
    pub(crate) fn workstation(&self, caller: &Caller, id: &WorkstationId) -> Result<Workstation> {
        Ok(self.shown(&self.storage.line(caller, id)?))
    }

    /// A workstation with its place in the queue.
    pub(super) fn shown(&self, line: &WorkstationLine) -> Workstation {
        let queued_at = self.admission.place(&line.workstation.id, self.clock.now_ms());
        Workstation { queued_at, ..self.storage.workstation_of(line) }
    }

    /// The points of a workstation's store, latest first.
    pub(crate) fn points(&self, caller: &Caller, id: &WorkstationId, page: &PageQuery) -> Result<Page<Point>> {
        let line = self.storage.line(caller, id)?;
        let before = number_cursor(page.after.as_ref())?;
        let rows = self.records.read(|on| Ok::<_, ServiceError>(PointRow::list(&line.store.id, before, page.size() + 1, on)?))?;
        let items = rows.iter().map(convert::point).collect();
        Ok(Page::from_one_more(items, page.size(), |p: &Point| p.sequence.to_string()))
    }

    /// The runs of a workstation, latest first.
    pub(crate) fn runs(&self, caller: &Caller, id: &WorkstationId, page: &PageQuery) -> Result<Page<Run>> {
        let line = self.storage.line(caller, id)?;
        let (before, now) = (number_cursor(page.after.as_ref())?, self.clock.now());
        let rows =
            self.records.read(|on| Ok::<_, ServiceError>(RunRow::list(&line.workstation.id, before, page.size() + 1, on)?))?;
        let page = Page::from_one_more(rows, page.size(), |row| row.number.to_string());
        Ok(Page { items: page.items.iter().map(|row| convert::run(row, now)).collect(), next: page.next })
    }

    /// The restores from a workstation's store, latest first.
    pub(crate) fn restores(&self, caller: &Caller, id: &WorkstationId, page: &PageQuery) -> Result<Page<Restore>> {
        let line = self.storage.line(caller, id)?;
        let (before, now) = (number_cursor(page.after.as_ref())?, self.clock.now());
        let rows = self
            .records
            .read(|on| Ok::<_, ServiceError>(RestoreRow::list(&line.workstation.id, before, page.size() + 1, on)?))?;
        let page = Page::from_one_more(rows, page.size(), |row| row.number.to_string());
        Ok(Page { items: page.items.iter().map(|row| convert::restore(row, now)).collect(), next: page.next })
    }

    /// What hangs on an account.
    pub(crate) fn account_ties(&self, caller: &Caller, id: &AccountId) -> Result<AccountTies> {
        caller.may(&Act::SeeOffice)?;
        let now = self.clock.now();
        let (sessions, unused_codes, lines) = self.records.read(|on| {
            let row = AccountRow::by_id(id, on)?.ok_or(ServiceError::NotFound(Thing::Account))?;
            let lines = WorkstationLine::all(Some(&row.id), on)?;
            Ok::<_, ServiceError>((SessionRow::of(&row.id, now, on)?, CodeRow::open_of(&row.id, now, on)?, lines))
        })?;
        let browsers = sessions.iter().filter(|session| session.is_browser()).count() as u64;
        Ok(AccountTies {
            browsers,
            tokens: sessions.len() as u64 - browsers,
            unused_codes: unused_codes.get(),
            workstations: lines.iter().map(|line| self.tied(line)).collect(),
        })
    }

    fn tied(&self, line: &WorkstationLine) -> TiedWorkstation {
        let id = line.store.id.as_str().parse().ok();
        TiedWorkstation {
            name: line.workstation.name.clone(),
            destination: line.destination.name.clone(),
            points: line.store.points.get(),
            latest: line.latest_point.as_ref().map(|point| timestamp(point.committed)),
            bytes: id.and_then(|id| self.media.used(&place(&line.destination), id).ok()),
        }
    }

    /// How everything stands that the caller may see; what needs attention first.
    pub(crate) fn overview(&self, caller: &Caller) -> Result<Overview> {
        let rows = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::all(caller.only_own(), on)?))?;
        let mut workstations: Vec<Workstation> =
            rows.iter().filter(|line| caller.may(&see(line)).is_ok()).map(|line| self.shown(line)).collect();
        workstations.sort_by_key(|w| urgency(w.state));
        let destinations = match caller.may(&Act::SeeOffice) {
            Ok(()) => self.storage.all_destinations()?,
            Err(_) => Vec::new(),
        };
        let protection = caller.may(&Act::SeeOffice).is_ok().then(|| self.storage.protection()).transpose()?;
        Ok(Overview { now: timestamp(self.clock.now()), workstations, destinations, protection })
    }
}
