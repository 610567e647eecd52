//! Recovery points, what keeps them and what removes them.

use jetfrost_types::PointKind;
pub use jetfrost_types::{Changes, PointMark, Suspicion};
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
    /// How its files differ from the point before, as the workstation counted it.
    #[serde(default)]
    pub changes: Option<Changes>,
    /// Why it looked like an incident when it arrived; absent if it did not.
    #[serde(default)]
    pub suspicion: Option<Suspicion>,
    /// What a person found out about it.
    #[serde(default)]
    pub mark: Option<Marked>,
}

impl Point {
    /// Whether it may contain what an incident left, and nobody has dealt with that: all older points stay.
    #[must_use]
    pub fn is_suspect(&self) -> bool {
        self.mark.as_ref().map_or(self.suspicion.is_some(), |mark| mark.mark == PointMark::Suspect)
    }

    /// Whether nothing is known against restoring from it.
    #[must_use]
    pub fn is_good(&self) -> bool {
        self.mark.as_ref().map_or(self.suspicion.is_none(), |mark| mark.mark == PointMark::Good)
    }
}

/// What a person found out about a point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Marked {
    /// What.
    pub mark: PointMark,
    /// Why.
    pub reason: String,
    /// Who.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

/// Marks a point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MarkPoint {
    /// As what.
    pub mark: PointMark,
    /// Why.
    pub reason: String,
    /// How it was marked when this was decided; absent if it was not. It is refused if somebody marked it otherwise since.
    #[serde(default)]
    pub seen: Option<PointMark>,
}

/// A suspect point, and the one to go back to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SuspectPoint {
    /// The latest suspect point.
    pub point: Point,
    /// The latest point of the same kind before all suspect ones against which nothing is known.
    pub last_good: Option<Point>,
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
