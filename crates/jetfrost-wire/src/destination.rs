//! Destinations, and the volumes that they may be on.

use jetfrost_types::{Limit, given};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::DestinationId;
use crate::access::Grants;
use crate::labels::labels;
use crate::retention::{AtLimit, Retention};
use crate::version::{HasVersion, Version};

/// The state of a destination.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DestinationState {
    /// It accepts backups.
    Ready,
    /// It is full.
    Full,
    /// Its marker is missing: probably the volume is not mounted.
    Missing,
    /// Another installation's marker is there.
    Foreign,
    /// It accepts no new backups; what is on it stays and can be restored.
    Withdrawn,
    /// It is withdrawn, and will be erased when its waiting time is over.
    Erasing,
}

labels!(DestinationState: Ready = "ready", Full = "full", Missing = "missing", Foreign = "foreign", Withdrawn = "withdrawn",
    Erasing = "erasing");

impl DestinationState {
    /// Whether what is on it can be read.
    #[must_use]
    pub fn is_there(self) -> bool {
        !matches!(self, Self::Missing | Self::Foreign)
    }
}

/// A place that holds image stores.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Destination {
    /// The destination.
    pub id: DestinationId,
    /// Its name.
    pub name: String,
    /// What it is for, in the administrator's words.
    pub description: String,
    /// The directory on the server.
    pub directory: String,
    /// Its state.
    pub state: DestinationState,
    /// Since when, if known.
    pub since: Option<Timestamp>,
    /// The reason, in a sentence; empty when it is ready.
    pub why: String,
    /// Its capacity in bytes; absent for none.
    pub capacity: Option<u64>,
    /// Bytes that its volume must keep free.
    pub reserve: u64,
    /// Limit that a new image store gets, unless its account's group says otherwise; absent for none.
    pub default_limit: Option<u64>,
    /// Bytes that its image stores occupy; absent while it is missing.
    pub used: Option<u64>,
    /// Bytes that can still be stored within capacity and volume; absent while it is missing.
    pub room: Option<u64>,
    /// Number of its image stores.
    pub stores: u64,
    /// Retention of its image stores, unless set for one of them.
    pub retention: Retention,
    /// What happens when a backup reaches a limit.
    pub at_limit: AtLimit,
    /// Whether image stores on it must be encrypted.
    pub encryption: EncryptionPolicy,
    /// The protected time: days after its commit, by the service's clock, in which a point cannot be removed.
    pub protected_days: u32,
    /// The waiting time: days in which what a person removes can be undeleted.
    pub waiting_days: u32,
    /// Days between scrubs of an image store; 0 for manual scrubs only.
    pub scrub_days: u32,
    /// Whose workstations may put backups on it.
    pub grants: Grants,
    /// Its pending erasure, from the first confirmation on.
    pub erasure: Option<Erasure>,
    /// When the last records backup was written to it.
    pub records_backed_up: Option<Timestamp>,
    /// Why there is no later one, if there should be.
    pub records_backup_trouble: Option<String>,
    /// When it was added.
    pub created: Timestamp,
    /// Version of the settings, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for Destination {
    fn version(&self) -> &Version {
        &self.version
    }
}

/// Whether image stores on a destination must be encrypted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum EncryptionPolicy {
    /// They must be.
    #[default]
    Required,
    /// Enrolment codes may allow unencrypted ones. Whoever has access to the disk can read those.
    Optional,
}
labels!(EncryptionPolicy: Required = "required", Optional = "optional");

/// Adds a destination.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewDestination {
    /// Its name.
    pub name: String,
    /// What it is for.
    #[serde(default)]
    pub description: Option<String>,
    /// The directory on the server, an absolute path; created if its parent exists.
    pub directory: String,
    /// Its capacity in bytes; absent for none.
    #[serde(default)]
    pub capacity: Option<u64>,
    /// Bytes that its volume must keep free; a twentieth of the volume by default.
    #[serde(default)]
    pub reserve: Option<u64>,
    /// Limit that a new image store gets; absent for none.
    #[serde(default)]
    pub default_limit: Option<u64>,
    /// Retention; two months of days, a year of weeks and five years of months by default.
    #[serde(default)]
    pub retention: Option<Retention>,
    /// What happens when a backup reaches a limit; it fails by default.
    #[serde(default)]
    pub at_limit: Option<AtLimit>,
    /// The protected time in days, in which nothing can remove a point; 30 by default, at least 7 where the oldest points are
    /// removed at a limit.
    #[serde(default)]
    pub protected_days: Option<u32>,
    /// Whether image stores on it must be encrypted; required by default.
    #[serde(default)]
    pub encryption: EncryptionPolicy,
    /// Whose workstations may put backups on it; nobody's by default.
    #[serde(default)]
    pub grants: Grants,
}

/// Changes the given settings of a destination.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DestinationChange {
    /// Another name.
    #[serde(default)]
    pub name: Option<String>,
    /// What it is for.
    #[serde(default)]
    pub description: Option<String>,
    /// Its new directory, which must contain this destination's marker.
    #[serde(default)]
    pub directory: Option<String>,
    /// Its capacity in bytes; `null` for none.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<u64>)]
    pub capacity: Option<Limit>,
    /// Bytes that its volume must keep free.
    #[serde(default)]
    pub reserve: Option<u64>,
    /// Limit that a new image store gets; `null` for none.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<u64>)]
    pub default_limit: Option<Limit>,
    /// Retention of its image stores.
    #[serde(default)]
    pub retention: Option<Retention>,
    /// What happens at a limit.
    #[serde(default)]
    pub at_limit: Option<AtLimit>,
    /// Whether new image stores on it must be encrypted. Existing ones stay as they are.
    #[serde(default)]
    pub encryption: Option<EncryptionPolicy>,
    /// The protected time in days. A shorter one applies to new points only.
    #[serde(default)]
    pub protected_days: Option<u32>,
    /// The waiting time: days in which what a person removes can be undeleted.
    #[serde(default)]
    pub waiting_days: Option<u32>,
    /// Days between scrubs of an image store; 0 for manual scrubs only.
    #[serde(default)]
    pub scrub_days: Option<u32>,
    /// Whose workstations may put backups on it.
    #[serde(default)]
    pub grants: Option<Grants>,
}

/// The pending erasure of a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Erasure {
    /// Who asked for it.
    pub by: String,
    /// Until when it can be called off; absent before the second confirmation.
    pub ends: Option<Timestamp>,
}

/// What erasing a destination would remove.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ErasurePreview {
    /// Image stores that would be erased, and their owners.
    pub stores: Vec<ErasedStore>,
    /// Points in them.
    pub points: u64,
    /// Bytes that they occupy.
    pub bytes: u64,
    /// When the oldest of the points was made.
    pub earliest: Option<Timestamp>,
    /// When the latest of them was made.
    pub latest: Option<Timestamp>,
    /// Days in which it can be called off: the waiting time, and the protected time of its points if that is longer.
    pub waiting_days: u32,
    /// What is in the way, in sentences.
    pub in_the_way: Vec<String>,
    /// The code for the second confirmation; absent before the first.
    pub confirmation: Option<String>,
}

/// An image store that would be erased.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ErasedStore {
    /// Of which workstation.
    pub workstation: String,
    /// Of which person.
    pub person: String,
    /// How many points it has.
    pub points: u64,
    /// When the latest was made.
    pub latest: Option<Timestamp>,
    /// Bytes that it occupies.
    pub bytes: Option<u64>,
}

/// Starts the erasure of a destination: the first confirmation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AskErasure {
    /// The destination's name, typed.
    pub name: String,
}

/// The second confirmation of an erasure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfirmErasure {
    /// The code that the first confirmation returned.
    pub confirmation: String,
}

/// Takes over a destination that another installation wrote.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Adopt {
    /// Its directory on the server, an absolute path.
    pub directory: String,
    /// Another name for it; its own by default.
    #[serde(default)]
    pub name: Option<String>,
    /// Preview only.
    #[serde(default)]
    pub preview: bool,
}

/// What came, or would come, with an adopted destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Adopted {
    /// The destination; absent in a preview.
    pub destination: Option<Destination>,
    /// Its name.
    pub name: String,
    /// Its image stores.
    pub stores: Vec<AdoptedStore>,
    /// What could not be taken over, and why.
    pub left_out: Vec<String>,
}

/// An image store that was taken over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AdoptedStore {
    /// Name of its workstation, which a machine can claim.
    pub workstation: String,
    /// Login name of the account that it belongs to.
    pub login: String,
    /// Whether that account was made, without a password, because none had this name.
    pub new_account: bool,
    /// How many points it has.
    pub points: u64,
    /// When the latest was made.
    pub latest: Option<Timestamp>,
    /// Bytes that it occupies.
    pub bytes: u64,
}

/// Asks whether a directory can be a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckDirectory {
    /// The directory on the server, an absolute path.
    pub directory: String,
}

/// Whether something can be a destination.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fitness {
    /// It can.
    Fit,
    /// It can, with a caution.
    WithCare,
    /// It cannot.
    Unfit,
}

/// Whether a directory can be a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Verdict {
    /// Whether it can be one.
    pub fitness: Fitness,
    /// The reason or caution.
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

/// A volume of the server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Volume {
    /// Where it is mounted.
    pub mounted_at: String,
    /// What is mounted: a device, or another machine's share.
    pub device: String,
    /// Its file system.
    pub file_system: String,
    /// Its bytes.
    pub size: u64,
    /// Bytes free on it.
    pub free: u64,
    /// Whether the system reports it as removable.
    pub removable: bool,
    /// Destinations on it, of this service or another.
    pub holds: Vec<VolumeHolds>,
    /// Whether a directory on it can be a destination.
    pub fitness: Fitness,
    /// The reason or caution.
    pub reasons: Vec<String>,
}

/// A destination on a volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VolumeHolds {
    /// Its directory.
    pub directory: String,
    /// Its name, as its marker says.
    pub name: String,
    /// Whether it is this service's; another's can be adopted.
    pub ours: bool,
}
