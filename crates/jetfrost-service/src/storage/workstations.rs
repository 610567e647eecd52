//! Workstations as the office sees them.

use jetfrost_image::StoreId;
use jetfrost_office::access::Act;
use jetfrost_wire::schedule::{AppliedSchedule, AskedBackup, OfficePause};
use jetfrost_wire::workstation::{StoreSummary, Workstation};
use jetfrost_wire::{Version, WorkstationId};

use crate::clock::timestamp;
use crate::records::{Count, Pause, StoreRow, WorkstationLine};
use crate::shared::versions::version;
use crate::shared::{Caller, Result, ServiceError, Thing, convert, place, shown_limit};
use crate::storage::{Storage, destinations, terms};

impl Storage {
    /// A workstation that the caller may see. One that it may not see is not found: names are not given away.
    pub(crate) fn line(&self, caller: &Caller, id: &WorkstationId) -> Result<WorkstationLine> {
        let line = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::by_id(id, on)?))?;
        line.filter(|line| caller.may(&see(line)).is_ok()).ok_or(ServiceError::NotFound(Thing::Workstation))
    }

    pub(crate) fn workstation_of(&self, line: &WorkstationLine) -> Workstation {
        let (w, now) = (&line.workstation, self.clock.now());
        let (values, set_by) = line.schedule();
        Workstation {
            id: w.id.0.clone(),
            name: w.name.clone(),
            account: line.account.id.0.clone(),
            login: line.account.login.clone(),
            person: line.account.display_name.clone(),
            state: convert::workstation_state(line, now),
            resting_since: w.rest.as_ref().map(|rest| timestamp(rest.since)),
            platform: w.platform.clone(),
            client_version: w.client_version.clone(),
            disk_bytes: w.disk_bytes.map(Count::get),
            enrolled: timestamp(w.enrolled),
            last_seen: w.last_seen.map(timestamp),
            schedule: AppliedSchedule { values, set_by },
            asked: w.asked.as_ref().map(|asked| AskedBackup { at: timestamp(asked.at), by: asked.by.clone() }),
            paused: w.paused.as_ref().filter(|pause| pause.until > now).map(office_pause),
            failures: line.failures(),
            queued_at: None,
            store: self.store_summary(line),
            latest_point: line.latest_point.as_ref().map(convert::point),
            latest_run: line.latest_run.as_ref().map(|run| convert::run(run, now)),
            agent: line.agent.as_ref().map(convert::agent),
        }
    }

    fn store_summary(&self, line: &WorkstationLine) -> StoreSummary {
        let place = place(&line.destination);
        let state = destinations::state(&line.destination, &self.media.check(&place), None);
        let id = line.store.id.as_str().parse::<StoreId>().ok().filter(|_| state.is_there());
        StoreSummary {
            id: line.store.id.0.clone(),
            destination: line.destination.id.0.clone(),
            destination_name: line.destination.name.clone(),
            destination_state: state,
            used: id.and_then(|id| self.media.used(&place, id).ok()),
            encrypted: line.store.encrypted,
            points: line.store.points.get(),
            limit: line.store.size_limit.map(Count::get),
            retention: terms::retention(line),
            retention_is_own: line.store.retention.is_some(),
            version: version_of(&line.store),
            hold: line.store.hold.0.clone(),
            pending_removal: line.store.removal.as_ref().map(convert::pending_removal),
            scrubbed: line.store.scrubbed.map(timestamp),
            lost_chunks: line.store.lost_chunks.get(),
            drilled: line.store.drilled.map(timestamp),
            drilled_point: line.store.drilled_point.map(Count::get),
            drill_failed: line.store.drill_failed.map(timestamp),
            proof: line.proof.as_ref().map(convert::proof),
            proof_due: line.proof_due().filter(|due| *due <= self.clock.now()).map(timestamp),
            suspect: line.suspect.as_ref().map(convert::suspect_point),
        }
    }
}

fn office_pause(pause: &Pause) -> OfficePause {
    OfficePause { until: timestamp(pause.until), by: pause.by.clone() }
}

pub(crate) fn see(line: &WorkstationLine) -> Act<'_> {
    Act::SeeWorkstation { workstation: line.workstation.id.as_str(), owner: line.account.id.as_str() }
}

/// The version of what is set for an image store.
pub(crate) fn version_of(row: &StoreRow) -> Version {
    version(&(row.size_limit, row.retention.map(|retention| retention.0)))
}

/// What is set for an image store in a line, for the audit log.
pub(crate) fn said_of_store(row: &StoreRow) -> String {
    let retention = row.retention.map_or_else(|| "what its destination says".into(), |retention| retention.0.to_string());
    format!("limit {}, retention {retention}", shown_limit(row.size_limit.map(Count::get)))
}
