//! What the system told of changes since the last backup, for a run that looks only there.

use std::collections::HashSet;

use serde::{Deserialize, Serialize};

use crate::error::ClientError;
use crate::scan::FolderId;

/// Where something may have changed since a walk that looked everywhere.
pub struct ChangeHints {
    /// The volumes on which it is told what changes.
    pub volumes: HashSet<u64>,
    /// The point, in hexadecimal, up to which nothing else changed than what those folders and the point's own cache say.
    pub since: String,
    /// Folders in which something may have changed by now; none when that cannot be told any more.
    pub now: Box<dyn Fn() -> Option<HashSet<FolderId>> + Sync>,
}

/// Where a run looked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Looked {
    /// At everything that is included.
    Everywhere,
    /// Where something changed since the last backup, and in a few places beside.
    WhereChanged,
    /// First where something was said to have changed. That was not all, and so everywhere.
    EverywhereInTheEnd,
}

impl ChangeHints {
    /// Folders that differ and were not said to must have changed while the run went on.
    ///
    /// # Errors
    /// [`ClientError::HintsWrong`] when one did not: then changes go untold. [`ClientError::HintsNotEnough`] when that cannot be told.
    pub(super) fn bear_out(&self, surprises: &[FolderId]) -> Result<(), ClientError> {
        if surprises.is_empty() {
            return Ok(());
        }
        let now = (self.now)().ok_or(ClientError::HintsNotEnough)?;
        if surprises.iter().all(|folder| now.contains(folder)) { Ok(()) } else { Err(ClientError::HintsWrong) }
    }
}
