//! Recovery points, what keeps them and what removes them.

use jetfrost_types::PointKind;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What the service knows of a recovery point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Point {
    /// Its number within the image store.
    pub sequence: u64,
    /// What it is a copy of: a disk or folders.
    pub kind: PointKind,
    /// When it was committed, by the service's clock.
    pub committed: Timestamp,
    /// Files in it.
    pub files: u64,
    /// Bytes of content in it.
    pub bytes: u64,
    /// Files that it does not contain exactly, by cause.
    pub exceptions: u64,
    /// Bytes that were sent for it.
    pub sent: u64,
    /// The hold on it.
    pub hold: Option<Hold>,
    /// Its pending removal, while it can be undeleted.
    pub pending_removal: Option<PendingRemoval>,
    /// Whether its files were missing when the service last checked.
    #[serde(default)]
    pub lost: bool,
}

/// A hold, which keeps a point or a store from expiring or being removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Hold {
    /// Why.
    pub reason: String,
    /// Who placed it.
    pub by: String,
}

/// Something that a person removed and that can still be undeleted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PendingRemoval {
    /// Who removed it.
    pub by: String,
    /// When it is removed for good.
    pub ends: Timestamp,
}
