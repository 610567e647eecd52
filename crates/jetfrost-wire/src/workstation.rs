//! Workstations and their recovery points.

use jetfrost_types::ImageStoreId;
pub use jetfrost_types::PointKind;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::binary::Binary;
use crate::destination::{Destination, DestinationState};
use crate::labels::labels;
use crate::point::{Hold, PendingRemoval, Point};
use crate::retention::Retention;
use crate::run::Run;
use crate::service::Protection;
use crate::version::{HasVersion, Version};
use crate::{AccountId, DestinationId, WorkstationId};

/// How a workstation stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WorkstationState {
    /// It has no complete recovery point yet.
    FirstPointAwaited,
    /// Its last complete point is young enough.
    Current,
    /// Its last complete point is too old.
    Overdue,
    /// Its machine was cut off on purpose; its backups are kept.
    Retired,
    /// Its backups came with an adopted destination; no machine has claimed them yet.
    Unclaimed,
}

labels!(WorkstationState: FirstPointAwaited = "first_point_awaited", Current = "current", Overdue = "overdue", Retired = "retired",
    Unclaimed = "unclaimed");

/// A workstation, as one line of the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Workstation {
    /// The workstation.
    pub id: WorkstationId,
    /// Its name.
    pub name: String,
    /// Whose it is.
    pub account: AccountId,
    /// Login name of that account.
    pub login: String,
    /// The person's name.
    pub person: String,
    /// How it stands.
    pub state: WorkstationState,
    /// Since when it is retired or unclaimed.
    pub resting_since: Option<Timestamp>,
    /// Its operating system, in words.
    pub platform: String,
    /// Its client's version.
    pub client_version: String,
    /// Bytes of its disks, if known.
    pub disk_bytes: Option<u64>,
    /// When it was enrolled.
    pub enrolled: Timestamp,
    /// When it was last heard of.
    pub last_seen: Option<Timestamp>,
    /// How often it is to be backed up, in seconds.
    pub rhythm_seconds: u64,
    /// Its image store.
    pub store: StoreSummary,
    /// The latest point.
    pub latest_point: Option<Point>,
    /// The latest run, which may be underway.
    pub latest_run: Option<Run>,
}

impl HasVersion for Workstation {
    fn version(&self) -> &Version {
        &self.store.version
    }
}

/// An image store, as the service sees it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoreSummary {
    /// Its id, in hexadecimal.
    pub id: ImageStoreId,
    /// Where it is.
    pub destination: DestinationId,
    /// That destination's name.
    pub destination_name: String,
    /// What that destination is at the moment.
    pub destination_state: DestinationState,
    /// Bytes it occupies; absent while the destination is missing.
    pub used: Option<u64>,
    /// Whether its content is encrypted on the workstation.
    pub encrypted: bool,
    /// How many points it holds.
    pub points: u64,
    /// Bytes it may occupy; absent for no limit of its own.
    pub limit: Option<u64>,
    /// Which points are kept.
    pub retention: Retention,
    /// Whether that was set for this store, and not for all of its destination.
    pub retention_is_own: bool,
    /// Stands for how limit and rule are set, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
    /// The hold on it.
    pub hold: Option<Hold>,
    /// Its removal, as long as it can be brought back.
    pub pending_removal: Option<PendingRemoval>,
    /// When every byte of it was last read and compared with its checks.
    pub scrubbed: Option<Timestamp>,
    /// How many chunks that points need are damaged or gone, as far as is known.
    pub lost_chunks: u64,
    /// When a drill last brought everything back as it was.
    pub drilled: Option<Timestamp>,
    /// The point that it brought back.
    pub drilled_point: Option<u64>,
    /// When the latest drill did not; absent once one does.
    pub drill_failed: Option<Timestamp>,
}

/// What is known of the integrity of an image store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Integrity {
    /// When every byte of it was last read.
    pub scrubbed: Option<Timestamp>,
    /// What that scrub found, a thousand findings at most.
    pub findings: Vec<Finding>,
    /// Chunks that points need and that are damaged or gone now.
    pub lost_chunks: u64,
    /// The points that need some of them.
    pub damaged_points: Vec<DamagedPoint>,
}

/// Something that a scrub found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// The file within the image store.
    pub path: String,
    /// What is wrong with it.
    pub wrong: String,
}

/// A point that is not whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DamagedPoint {
    /// Its number.
    pub sequence: u64,
    /// How many of its chunks are lost.
    pub lost_chunks: u64,
}

/// A point's file as stored: head in clear, body sealed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PointBytes {
    /// The file.
    pub point: Binary,
}

/// A store's key slots as stored.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Slots {
    /// The slots.
    pub slots: Vec<Binary>,
}

/// What opens an image store.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum UnlockMethodKind {
    /// An image passphrase.
    Passphrase,
    /// A printed recovery key.
    RecoveryKey,
    /// The office key.
    OfficeKey,
    /// No secret: whoever has the image store reads it.
    Unencrypted,
}

/// A key slot, as the service sees it: not what opens it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UnlockMethod {
    /// Its id, in hexadecimal.
    pub id: String,
    /// What opens it.
    pub kind: UnlockMethodKind,
    /// What a person called it.
    pub label: Option<String>,
    /// When it was made, by the workstation's clock.
    pub made: Timestamp,
    /// Whether its file on the destination is damaged or gone. The service has it on record, and the next scrub writes it again.
    #[serde(default)]
    pub damaged: bool,
}

/// Adds a key slot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewSlot {
    /// The slot, as it will be stored.
    pub slot: Binary,
}

/// How the whole office stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// The service's clock.
    pub now: Timestamp,
    /// All workstations that the caller may see, what needs attention first.
    pub workstations: Vec<Workstation>,
    /// All destinations; none for a member.
    pub destinations: Vec<Destination>,
    /// How the server itself is protected; absent for a member.
    pub protection: Option<Protection>,
}
