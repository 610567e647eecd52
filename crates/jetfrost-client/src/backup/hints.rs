//! What the system told of changes since the last backup, for a run that looks only there.

use std::collections::HashSet;

use jetfrost_platform::{Directory, Watched};
use serde::{Deserialize, Serialize};

use crate::error::ClientError;
use crate::scan::FolderId;

/// What the system tells of changes.
pub struct ChangeHints {
    /// The point, in hexadecimal, up to which nothing else changed than what [`Self::now`] and the point's own cache say. None when everything
    /// is to be looked at.
    pub since: Option<String>,
    /// What it told by now; none when that cannot be said any more.
    pub now: Box<dyn Fn() -> Option<Told> + Sync>,
    /// A folder is about to be listed.
    pub about_to_list: Box<dyn Fn(&Directory) + Sync>,
    /// Whether it is known of every program which files it has open for writing.
    pub sees_all_programs: bool,
}

/// Where something may have changed, and where that is told at all.
#[derive(Debug, Clone)]
pub struct Told {
    /// Folders in which something may have changed.
    pub changed: HashSet<FolderId>,
    /// Where changes are told of.
    pub watched: Watched,
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
        if surprises.iter().all(|folder| now.changed.contains(folder)) { Ok(()) } else { Err(ClientError::HintsWrong) }
    }
}
