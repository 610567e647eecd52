//! Destinations.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::id::DestinationId;
use crate::keeping::{AtLimit, Keeping};

/// What a destination is at the moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DestinationState {
    /// It takes backups.
    Ready,
    /// There is no room left.
    Full,
    /// Its marker is not there: probably the volume is not mounted.
    Missing,
    /// Another installation's marker is there.
    Foreign,
}

/// A place that holds image stores.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Destination {
    /// The destination.
    pub id: DestinationId,
    /// Its name.
    pub name: String,
    /// The directory on the server.
    pub directory: String,
    /// What it is at the moment.
    pub state: DestinationState,
    /// Bytes it may hold; absent for no limit.
    pub capacity: Option<u64>,
    /// Bytes that its volume must keep free.
    pub reserve: u64,
    /// Bytes that its image stores occupy; absent while it is missing.
    pub used: Option<u64>,
    /// Bytes that can still be stored: the least that capacity and volume leave; absent while it is missing.
    pub room: Option<u64>,
    /// How many image stores it holds.
    pub stores: u64,
    /// Which points are kept, unless an image store says otherwise.
    pub keeping: Keeping,
    /// What happens when a backup meets a limit.
    pub at_limit: AtLimit,
    /// Days that whatever a person removes can be brought back.
    pub waiting_days: u32,
    /// Every image store is scrubbed when its last scrub is older than so many days; 0 for only when asked for.
    pub scrub_days: u32,
    /// When it was added.
    pub created: Timestamp,
}

/// Adds a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewDestination {
    /// Its name.
    pub name: String,
    /// The directory on the server, an absolute path; made if its parent exists.
    pub directory: String,
    /// Bytes it may hold; absent for no limit.
    #[serde(default)]
    pub capacity: Option<u64>,
    /// Bytes that its volume must keep free; a twentieth of the volume unless given.
    #[serde(default)]
    pub reserve: Option<u64>,
    /// Which points are kept; two months of days, a year of weeks and five years of months unless given.
    #[serde(default)]
    pub keeping: Option<Keeping>,
    /// What happens when a backup meets a limit; it stops unless given.
    #[serde(default)]
    pub at_limit: Option<AtLimit>,
}

/// Asks whether a directory would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TryDirectory {
    /// The directory on the server, an absolute path.
    pub directory: String,
}

/// Whether a directory would do as a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Verdict {
    /// Whether it would do.
    pub fit: bool,
    /// Why not, or what to mind.
    pub reasons: Vec<String>,
    /// The volume's file system.
    pub file_system: String,
    /// Where the volume is mounted.
    pub mounted_at: String,
    /// Bytes of the volume.
    pub size: u64,
    /// Bytes free on it.
    pub free: u64,
}
