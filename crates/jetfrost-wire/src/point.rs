//! Recovery points, what keeps them and what removes them.

use jetfrost_types::PointKind;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A recovery point, as the service sees it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Point {
    /// Its number within the store.
    pub sequence: u64,
    /// What it is a state of.
    pub kind: PointKind,
    /// When the service committed it, by its own clock.
    pub committed: Timestamp,
    /// Files in it.
    pub files: u64,
    /// Bytes of content in it.
    pub bytes: u64,
    /// What it does not hold as it should.
    pub exceptions: u64,
    /// Bytes that were sent for it.
    pub sent: u64,
    /// The hold on it.
    pub hold: Option<Hold>,
    /// Its removal, as long as it can be brought back.
    pub pending_removal: Option<PendingRemoval>,
    /// Whether its files were lost when the service last looked.
    #[serde(default)]
    pub lost: bool,
}

/// Keeps a point or a store from being thinned or removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Hold {
    /// Why.
    pub reason: String,
    /// Who put it on.
    pub by: String,
}

/// Something that a person removed and that can still be brought back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PendingRemoval {
    /// Who removed it.
    pub by: String,
    /// When it goes for good.
    pub ends: Timestamp,
}
