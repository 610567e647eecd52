//! Image stores: what goes in and what is read.

use std::sync::Arc;

use jetfrost_image::store::{NeedsIntake, SegmentIntake, Store};
use jetfrost_image::{ChunkName, SegmentHash};
use jetfrost_office::access::Act;
use jetfrost_wire::Binary;
use jetfrost_wire::workstation::{PointBytes, Slots};

use super::limits::Purpose;
use super::{Caller, Desk, DeskError, Result};
use crate::records::WorkstationLine;
use crate::shelf::Claim;

/// Something that is about to arrive.
pub(crate) struct Upload {
    pub(super) store: Arc<Store>,
    pub(super) line: WorkstationLine,
}

impl Upload {
    /// Begins to receive the needs of the next point. `len` bytes must fit.
    pub(crate) fn begin_needs<'u>(&'u self, desk: &'u Desk, len: u64) -> Result<(NeedsIntake<'u>, Claim<'u>)> {
        let next = self.store.points().last().map_or(1, |last| last + 1);
        Ok((self.store.receive_needs(next)?, desk.claim(self, len, Purpose::Closing)?))
    }

    /// Begins to receive a segment; `None` when the segment is here already. `len` bytes must fit.
    pub(crate) fn begin_segment<'u>(
        &'u self,
        desk: &'u Desk,
        hash: SegmentHash,
        len: u64,
    ) -> Result<Option<(SegmentIntake<'u>, Claim<'u>)>> {
        let Some(intake) = self.store.receive_segment(hash)? else { return Ok(None) };
        Ok(Some((intake, desk.claim(self, len, Purpose::Content)?)))
    }
}

impl Desk {
    /// The store that the caller may add to.
    pub(crate) fn store_to_add_to(&self, caller: &Caller, id: &str) -> Result<Upload> {
        let line = self.line_of_store(id)?;
        // A store that the caller may not see is not found.
        caller.may(&Act::AddToStore { workstation: &line.workstation.id }).map_err(|_| DeskError::NotFound("image store"))?;
        Ok(Upload { store: self.open_store(&line)?.1, line })
    }

    /// The workstation of a store that the caller may see.
    pub(super) fn line_to_see(&self, caller: &Caller, id: &str) -> Result<WorkstationLine> {
        let line = self.line_of_store(id)?;
        let see = Act::SeeWorkstation { workstation: &line.workstation.id, owner: &line.account.id };
        caller.may(&see).map_err(|_| DeskError::NotFound("image store"))?;
        Ok(line)
    }

    /// The store that the caller may read.
    pub(crate) fn store_to_read(&self, caller: &Caller, id: &str) -> Result<Arc<Store>> {
        let line = self.line_of_store(id)?;
        let read = Act::ReadStore { workstation: &line.workstation.id, owner: &line.account.id };
        caller.may(&read).map_err(|_| DeskError::NotFound("image store"))?;
        Ok(self.open_store(&line)?.1)
    }

    /// Which chunks are missing: a byte each.
    pub(crate) fn missing(&self, caller: &Caller, id: &str, names: &[ChunkName]) -> Result<Vec<u8>> {
        let upload = self.store_to_add_to(caller, id)?;
        Ok(upload.store.missing(names)?.into_iter().map(u8::from).collect())
    }

    /// A point's file.
    pub(crate) fn point_bytes(&self, caller: &Caller, id: &str, sequence: u64) -> Result<PointBytes> {
        Ok(PointBytes { point: Binary(self.store_to_read(caller, id)?.point(sequence)?) })
    }

    /// A store's key slots.
    pub(crate) fn slots(&self, caller: &Caller, id: &str) -> Result<Slots> {
        Ok(Slots { slots: self.store_to_read(caller, id)?.slots()?.into_iter().map(Binary).collect() })
    }

    fn line_of_store(&self, id: &str) -> Result<WorkstationLine> {
        let line = self.records.read(|on| Ok::<_, DeskError>(WorkstationLine::by_store(id, on)?))?;
        line.ok_or(DeskError::NotFound("image store"))
    }
}
