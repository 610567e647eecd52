//! Image stores on their medium: opened once, for whoever may see them; and the receipts that they hold.

use std::sync::Arc;

use jetfrost_image::StoreId;
use jetfrost_image::store::{Store, StoreError};
use jetfrost_office::access::Act;

use crate::clock::Moment;
use crate::records::{Count, PointRow, WorkstationLine};
use crate::shared::{Caller, Result, ServiceError, Thing, place, to_db};
use crate::storage::Storage;
use crate::storage::points::{NewPoint, insert_point, suspicion_of};
use jetfrost_types::ImageStoreId;

impl Storage {
    /// The workstation of a store that the caller may see.
    pub(crate) fn line_to_see(&self, caller: &Caller, id: &ImageStoreId) -> Result<WorkstationLine> {
        let line = self.line_of_store(id)?;
        let see = Act::SeeWorkstation { workstation: line.workstation.id.as_str(), owner: line.account.id.as_str() };
        caller.may(&see).map_err(|_| ServiceError::NotFound(Thing::ImageStore))?;
        Ok(line)
    }

    pub(crate) fn line_to_read(&self, caller: &Caller, id: &ImageStoreId) -> Result<WorkstationLine> {
        let line = self.line_of_store(id)?;
        let read = Act::ReadStore { workstation: line.workstation.id.as_str(), owner: line.account.id.as_str() };
        caller.may(&read).map_err(|_| ServiceError::NotFound(Thing::ImageStore))?;
        Ok(line)
    }

    pub(crate) fn line_of_store(&self, id: &ImageStoreId) -> Result<WorkstationLine> {
        let line = self.records.read(|on| Ok::<_, ServiceError>(WorkstationLine::by_store(id, on)?))?;
        line.ok_or(ServiceError::NotFound(Thing::ImageStore))
    }

    /// Records points that are on the shelf and not in the records: the service was killed between the two.
    pub(crate) fn record_points_on_shelf(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        self.give_receipts(line, store)?;
        let recorded = line.store.latest_sequence.unwrap_or_default();
        for sequence in store.points() {
            if to_db(sequence)? > recorded {
                let head = store.point_head(sequence)?;
                let committed = self.committed_at(store, sequence)?;
                let suspicion = suspicion_of(store, &head, self.good_before(line, &head)?);
                let new = NewPoint { head: &head, committed, run: None, sent: Count::ZERO, suspicion };
                self.records.write(|on| insert_point(&line.store.id, &new, on))?;
            }
        }
        Ok(())
    }

    /// Points of an earlier version, or whose commit was cut off, get their receipts: from the records, if they know when they
    /// were committed, else they are of this moment.
    pub(crate) fn give_receipts(&self, line: &WorkstationLine, store: &Store) -> Result<()> {
        self.give_receipts_to(store.without_receipt()?, line, store)
    }

    pub(crate) fn give_receipts_to(&self, points: Vec<u64>, line: &WorkstationLine, store: &Store) -> Result<()> {
        for sequence in points {
            let row = self.records.read(|on| Ok::<_, ServiceError>(PointRow::find(&line.store.id, to_db(sequence)?, on)?))?;
            match store.give_receipt(sequence, row.map_or(self.clock.now(), |row| row.committed).ms()) {
                // What is damaged is for a scrub to tell; it must not keep others from anything.
                Err(StoreError::Format(_) | StoreError::Needs(_) | StoreError::NoPoint(_)) => {}
                other => other?,
            }
        }
        Ok(())
    }

    /// When a point was committed, as its receipt says. It is never later than now; one without a receipt is of this moment.
    pub(crate) fn committed_at(&self, store: &Store, sequence: u64) -> Result<Moment> {
        let receipt = store.receipt(sequence).ok().flatten();
        Ok(receipt.map_or(Moment::LAST, |receipt| Moment::from_ms(receipt.committed)).min(self.clock.now()))
    }

    /// The destination and the image store of a workstation.
    pub(crate) fn open_store(&self, line: &WorkstationLine) -> Result<(StoreId, Arc<Store>)> {
        let id = line.store.id.as_str().parse().map_err(|_| ServiceError::NotFound(Thing::ImageStore))?;
        Ok((id, self.media.store(&place(&line.destination), id)?))
    }
}
