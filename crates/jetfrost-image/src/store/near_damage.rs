//! What lay near damage. A disk seldom loses one sector alone: what is sound in a segment that was set aside deserves to be shown to restore
//! before the rest. The segments that were set aside tell which chunks that is (§ 2, `damaged/`).

use std::sync::PoisonError;

use super::{Result, Store, layout, medium};
use crate::id::{ChunkName, SegmentHash};

impl Store {
    /// The segments that were found damaged and set aside, ascending.
    ///
    /// # Errors
    /// [`StoreError::Medium`](super::StoreError::Medium).
    pub fn damaged_segments(&self) -> Result<Vec<SegmentHash>> {
        let listed = self.medium.list(layout::DAMAGED).map_err(medium("listing what was set aside"))?;
        let mut segments: Vec<SegmentHash> = listed.iter().filter_map(|listed| layout::parse_segment(&listed.name)).collect();
        segments.sort_unstable();
        Ok(segments)
    }

    /// The chunks that a segment that was set aside had and that are here: they are sound in it, or came anew since. Each once, ascending.
    ///
    /// # Errors
    /// [`StoreError::Medium`](super::StoreError::Medium), also where what was set aside cannot be read any more;
    /// [`StoreError::Format`](super::StoreError::Format) when the index is damaged.
    pub fn near_damage(&self, damaged: &SegmentHash) -> Result<Vec<ChunkName>> {
        let path = format!("{}/{}", layout::DAMAGED, layout::segment_file(damaged));
        let file = self.medium.open(&path).map_err(medium("opening what was set aside"))?;
        let mut names: Vec<ChunkName> = self.records_of_damaged(&*file)?.into_iter().map(|record| record.name).collect();
        names.sort_unstable();
        names.dedup();
        let index = self.index.read().unwrap_or_else(PoisonError::into_inner);
        let mut look_ups = index.look_ups();
        let mut here = Vec::new();
        for name in names {
            if look_ups.has(&name)? {
                here.push(name);
            }
        }
        Ok(here)
    }
}
