//! How much of what one point needed a later one needs, too.

use super::needs::needed_no_more;
use super::{Result, Store, StoreError};

/// What a store keeps for a point and the one before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Overlap {
    /// Chunks that the point before needs.
    pub before: u64,
    /// Those that the point needs, too.
    pub still: u64,
}

impl Store {
    /// How much of what the latest sound point of the same kind before it needs a point needs, too; `None` where there is none before.
    ///
    /// # Errors
    /// As [`Store::overlap_with`].
    pub fn overlap(&self, sequence: u64) -> Result<Option<Overlap>> {
        let kind = self.point_head(sequence)?.kind;
        let earlier: Vec<u64> = self.lock_points().range(..sequence).rev().copied().collect();
        for before in earlier {
            match self.point_head(before) {
                Ok(found) if found.kind == kind => return self.overlap_with(before, sequence).map(Some),
                Err(error @ StoreError::Medium { .. }) => return Err(error),
                _ => {}
            }
        }
        Ok(None)
    }

    /// How much of what the point `before` needs a later point needs, too. It follows from the needs files, whatever the workstation says of the
    /// point, and whichever point it took for its base.
    ///
    /// # Errors
    /// As [`Store::point_head`]; [`StoreError::Needs`] and [`StoreError::Format`] when what the points need is damaged.
    pub fn overlap_with(&self, before: u64, sequence: u64) -> Result<Overlap> {
        let no_more = || needed_no_more(&*self.medium, before, sequence);
        let no_more = no_more().or_else(|error| if matches!(error, StoreError::Folded) { no_more() } else { Err(error) })?;
        let needed = self.point_head(before)?.needed;
        Ok(Overlap { before: needed, still: needed.saturating_sub(no_more) })
    }
}
