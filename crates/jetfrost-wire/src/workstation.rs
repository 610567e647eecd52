//! Workstations and their recovery points.

use jetfrost_types::ImageStoreId;
pub use jetfrost_types::{DelayReason, PointKind};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::binary::Binary;
use crate::destination::{Destination, DestinationState};
use crate::labels::labels;
use crate::point::{Hold, PendingRemoval, Point, SuspectPoint};
use crate::retention::Retention;
use crate::run::Run;
use crate::schedule::{AppliedSchedule, AskedBackup, OfficePause};
use crate::service::Protection;
use crate::version::{HasVersion, Version};
use crate::{AccountId, DestinationId, GroupId, WorkstationId};

/// The state of a workstation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WorkstationState {
    /// It has no complete recovery point yet.
    FirstPointAwaited,
    /// Its last complete point is recent enough.
    Current,
    /// Its last complete point is too old.
    Overdue,
    /// Its machine was cut off on purpose; its backups stay.
    Retired,
    /// Its backups came with an adopted destination, and no machine has claimed them yet.
    Unclaimed,
}

labels!(WorkstationState: FirstPointAwaited = "first_point_awaited", Current = "current", Overdue = "overdue", Retired = "retired",
    Unclaimed = "unclaimed");

/// What workstations are sorted by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum WorkstationOrder {
    /// Their names.
    #[default]
    Name,
    /// The names of their people.
    Person,
    /// What needs attention first: overdue, without a first point, current, unclaimed, retired.
    State,
    /// When their last complete point was committed; those without one first.
    LatestPoint,
    /// When their next backup is due: overdue ones first, those of which it is not known last.
    NextBackup,
    /// When a drill last succeeded; those never drilled first.
    Drilled,
    /// The bytes of their latest point.
    Size,
    /// The bytes that their image stores occupy.
    Used,
    /// The names of their destinations.
    Destination,
    /// When they were last seen; those never seen first.
    LastSeen,
    /// Their client's version.
    ClientVersion,
}

/// Which workstations to return, and in which order.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct WorkstationQuery {
    /// Words that are all to be found in its name, person, login, groups, destination, operating system, client version or state.
    pub text: Option<String>,
    /// Only those in this state.
    pub state: Option<WorkstationState>,
    /// Only those whose image store is on the destination with this id.
    pub destination: Option<DestinationId>,
    /// Only those of accounts in the group with this id.
    pub group: Option<GroupId>,
    /// What they are sorted by; by name if absent.
    #[param(inline)]
    pub sort: Option<WorkstationOrder>,
    /// Whether the order is reversed.
    pub descending: Option<bool>,
    /// `next` or `previous` of another page.
    pub after: Option<String>,
    /// Entries per page, 1 to 500; 100 by default.
    #[param(minimum = 1, maximum = 500)]
    pub most: Option<u16>,
}

/// A workstation, as one line of the list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Workstation {
    /// The workstation.
    pub id: WorkstationId,
    /// Its name.
    pub name: String,
    /// Id of its account.
    pub account: AccountId,
    /// Login name of that account.
    pub login: String,
    /// The person's name.
    pub person: String,
    /// Its state.
    pub state: WorkstationState,
    /// Since when it is retired or unclaimed.
    pub resting_since: Option<Timestamp>,
    /// Its operating system.
    pub platform: String,
    /// Its client's version.
    pub client_version: String,
    /// Bytes of its disks, if known.
    pub disk_bytes: Option<u64>,
    /// When it was enrolled.
    pub enrolled: Timestamp,
    /// When it was last seen.
    pub last_seen: Option<Timestamp>,
    /// When it is backed up, and who set that.
    #[serde(default)]
    #[schema(required)]
    pub schedule: AppliedSchedule,
    /// A backup that an administrator asked for and that has not begun.
    #[serde(default)]
    pub asked: Option<AskedBackup>,
    /// A pause that an administrator set.
    #[serde(default)]
    pub paused: Option<OfficePause>,
    /// How many runs failed since the last complete one.
    #[serde(default)]
    #[schema(required)]
    pub failures: u64,
    /// At which place of the queue its backup waits, from 1; absent if it does not.
    #[serde(default)]
    pub queued_at: Option<u32>,
    /// Its image store.
    pub store: StoreSummary,
    /// The latest point.
    pub latest_point: Option<Point>,
    /// The latest run, which may be in progress.
    pub latest_run: Option<Run>,
    /// What its agent reported last; absent if none ever did.
    #[serde(default)]
    pub agent: Option<AgentState>,
}

/// What is in the way of a backup that is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Delay {
    /// What.
    pub reason: DelayReason,
    /// Since when.
    pub since: Timestamp,
}

/// What a workstation's agent says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AgentReport {
    /// When its next run is due; absent while one is due or in progress.
    #[serde(default)]
    pub due: Option<Timestamp>,
    /// What is in the way of a run that is due.
    #[serde(default)]
    pub delay: Option<Delay>,
    /// How many runs failed since the last complete one, also those that did not get as far as the service.
    #[serde(default)]
    #[schema(required)]
    pub failures: u64,
    /// What kept backups waiting since the last report and is over, 100 at most.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub waited: Vec<Wait>,
}

/// What kept a workstation's backups waiting for a while, and is over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Wait {
    /// What.
    pub reason: DelayReason,
    /// Since when.
    pub since: Timestamp,
    /// Until when.
    pub until: Timestamp,
}

/// What a workstation's agent reported last.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AgentState {
    /// When it reported, by the service's clock.
    pub seen: Timestamp,
    /// When its next run is due, by the workstation's clock.
    pub due: Option<Timestamp>,
    /// What is in the way of a run that is due.
    pub delay: Option<Delay>,
}

impl HasVersion for Workstation {
    fn version(&self) -> &Version {
        &self.store.version
    }
}

/// What the service knows of an image store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoreSummary {
    /// Its id, in hexadecimal.
    pub id: ImageStoreId,
    /// Its destination.
    pub destination: DestinationId,
    /// That destination's name.
    pub destination_name: String,
    /// The state of that destination.
    pub destination_state: DestinationState,
    /// Bytes it occupies; absent while the destination is missing.
    pub used: Option<u64>,
    /// Whether its content is encrypted on the workstation.
    pub encrypted: bool,
    /// How many points it holds.
    pub points: u64,
    /// Its limit in bytes; absent for none.
    pub limit: Option<u64>,
    /// Its retention.
    pub retention: Retention,
    /// Whether that was set for this store rather than its destination.
    pub retention_is_own: bool,
    /// Version of limit and retention, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
    /// The hold on it.
    pub hold: Option<Hold>,
    /// Its pending removal, while it can be undeleted.
    pub pending_removal: Option<PendingRemoval>,
    /// When every byte of it was last read and verified.
    pub scrubbed: Option<Timestamp>,
    /// Number of required chunks known to be damaged or missing.
    pub lost_chunks: u64,
    /// When a drill last succeeded.
    pub drilled: Option<Timestamp>,
    /// The point that it restored.
    pub drilled_point: Option<u64>,
    /// When the latest drill failed; absent after one succeeds.
    pub drill_failed: Option<Timestamp>,
    /// When a person last showed that a secret opens it; absent if nobody ever did.
    #[serde(default)]
    pub proof: Option<Proof>,
    /// Since when such a proof is overdue.
    #[serde(default)]
    pub proof_due: Option<Timestamp>,
    /// Its latest suspect point; all older points stay until somebody marks it good or resolved.
    #[serde(default)]
    pub suspect: Option<SuspectPoint>,
}

/// What is known of the integrity of an image store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Integrity {
    /// When every byte of it was last read.
    pub scrubbed: Option<Timestamp>,
    /// Findings of that scrub, at most 1,000.
    pub findings: Vec<Finding>,
    /// Required chunks that are damaged or missing.
    pub lost_chunks: u64,
    /// The points that need any of them.
    pub damaged_points: Vec<DamagedPoint>,
}

/// A finding of a scrub.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// The file within the image store.
    pub path: String,
    /// What is wrong with it.
    pub wrong: String,
}

/// An incomplete point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DamagedPoint {
    /// Its number.
    pub sequence: u64,
    /// Number of its chunks that are lost.
    pub lost_chunks: u64,
}

/// A point's file as stored: plain head, encrypted body.
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

/// The kind of a key slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum UnlockMethodKind {
    /// An image passphrase.
    Passphrase,
    /// A printed recovery key.
    RecoveryKey,
    /// The office key.
    OfficeKey,
    /// No secret: whoever has the image store can read it.
    Unencrypted,
}

/// With which secret a person showed that an image store still opens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ProvedWith {
    /// An image passphrase.
    Passphrase,
    /// A printed recovery key.
    RecoveryKey,
    /// The office key.
    OfficeKey,
}

labels!(ProvedWith: Passphrase = "passphrase", RecoveryKey = "recovery_key", OfficeKey = "office_key");

/// A proof that a secret opens an image store.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Proof {
    /// When it was given, by the service's clock.
    pub at: Timestamp,
    /// With which secret.
    pub secret: ProvedWith,
}

/// Puts a proof on record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewProof {
    /// With which secret the image store was opened.
    pub secret: ProvedWith,
}

/// What the service knows of a key slot, which is not its secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UnlockMethod {
    /// Its id, in hexadecimal.
    pub id: String,
    /// Its kind.
    pub kind: UnlockMethodKind,
    /// Its label.
    pub label: Option<String>,
    /// When it was made, by the workstation's clock.
    pub made: Timestamp,
    /// Whether its file on the destination is damaged or missing. The next scrub restores it from the records.
    #[serde(default)]
    pub damaged: bool,
}

/// Adds a key slot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewSlot {
    /// The slot as stored.
    pub slot: Binary,
}

/// The state of the whole office.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// The time by the service's clock.
    pub now: Timestamp,
    /// All workstations that the caller may see, those with alerts first.
    pub workstations: Vec<Workstation>,
    /// All destinations; none for a member.
    pub destinations: Vec<Destination>,
    /// How the service's records are protected; absent for a member.
    pub protection: Option<Protection>,
}
