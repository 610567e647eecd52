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
    /// It takes no new backups; what is on it stays and can be restored.
    Withdrawn,
    /// It is withdrawn, and all of it goes when its waiting time is over.
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
    /// What it is at the moment.
    pub state: DestinationState,
    /// Since when, where that is known.
    pub since: Option<Timestamp>,
    /// Why, or what to mind, in a sentence; empty when it is ready.
    pub why: String,
    /// Bytes it may hold; absent for no limit.
    pub capacity: Option<u64>,
    /// Bytes that its volume must keep free.
    pub reserve: u64,
    /// Limit that a new image store gets, unless its account's group says otherwise; absent for none.
    pub default_limit: Option<u64>,
    /// Bytes that its image stores occupy; absent while it is missing.
    pub used: Option<u64>,
    /// Bytes that can still be stored: the least that capacity and volume leave; absent while it is missing.
    pub room: Option<u64>,
    /// How many image stores it holds.
    pub stores: u64,
    /// Which points are kept, unless an image store says otherwise.
    pub retention: Retention,
    /// What happens when a backup meets a limit.
    pub at_limit: AtLimit,
    /// Whether image stores on it must be encrypted.
    pub encryption: EncryptionPolicy,
    /// The protected time: days after a point's commit, by the service's clock, in which it does not expire.
    pub protected_days: u32,
    /// Days that whatever a person removes can be brought back.
    pub waiting_days: u32,
    /// Every image store is scrubbed when its last scrub is older than so many days; 0 for only when asked for.
    pub scrub_days: u32,
    /// Whose workstations may put backups on it.
    pub grants: Grants,
    /// Its erasure, from the first confirmation on.
    pub erasure: Option<Erasure>,
    /// When the service last wrote a copy of its own records onto it, sealed for the office key.
    pub records_backed_up: Option<Timestamp>,
    /// Why there is no younger copy, if there should be.
    pub records_backup_trouble: Option<String>,
    /// When it was added.
    pub created: Timestamp,
    /// Stands for how it is set, for `If-Match`.
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
    /// They must.
    #[default]
    Required,
    /// A workstation may go without, if its enrolment code says so. Whoever gets at the disk can then read its backups.
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
    /// The directory on the server, an absolute path; made if its parent exists.
    pub directory: String,
    /// Bytes it may hold; absent for no limit.
    #[serde(default)]
    pub capacity: Option<u64>,
    /// Bytes that its volume must keep free; a twentieth of the volume unless given.
    #[serde(default)]
    pub reserve: Option<u64>,
    /// Limit that a new image store gets; absent for none.
    #[serde(default)]
    pub default_limit: Option<u64>,
    /// Which points are kept; two months of days, a year of weeks and five years of months unless given.
    #[serde(default)]
    pub retention: Option<Retention>,
    /// What happens when a backup meets a limit; it stops unless given.
    #[serde(default)]
    pub at_limit: Option<AtLimit>,
    /// The protected time in days: nothing makes a younger point go; 30 unless given, and 7 at least where the oldest points go
    /// at a limit.
    #[serde(default)]
    pub protected_days: Option<u32>,
    /// Whether image stores on it must be encrypted; they must unless given.
    #[serde(default)]
    pub encryption: EncryptionPolicy,
    /// Whose workstations may put backups on it; nobody's unless given.
    #[serde(default)]
    pub grants: Grants,
}

/// Changes what is given of a destination.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DestinationChange {
    /// Another name.
    #[serde(default)]
    pub name: Option<String>,
    /// What it is for.
    #[serde(default)]
    pub description: Option<String>,
    /// Where it is now: a directory that holds this destination's own marker.
    #[serde(default)]
    pub directory: Option<String>,
    /// Bytes it may hold; `null` for no limit.
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
    /// Which points are kept in its image stores.
    #[serde(default)]
    pub retention: Option<Retention>,
    /// What happens at a limit.
    #[serde(default)]
    pub at_limit: Option<AtLimit>,
    /// Whether new image stores on it must be encrypted. Those that are there stay as they are.
    #[serde(default)]
    pub encryption: Option<EncryptionPolicy>,
    /// The protected time in days. A shorter one counts for points that are made from now on; those that are there keep theirs.
    #[serde(default)]
    pub protected_days: Option<u32>,
    /// Days that whatever a person removes can be brought back.
    #[serde(default)]
    pub waiting_days: Option<u32>,
    /// Every image store is scrubbed when its last scrub is older than so many days; 0 for only when asked for.
    #[serde(default)]
    pub scrub_days: Option<u32>,
    /// Whose workstations may put backups on it.
    #[serde(default)]
    pub grants: Option<Grants>,
}

/// All that goes with a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Erasure {
    /// Who asked for it.
    pub by: String,
    /// Until when it can be called off; absent until it is confirmed for the second time.
    pub ends: Option<Timestamp>,
}

/// What erasing a destination would take, and what it takes to do it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ErasurePreview {
    /// Image stores that would go, with whose they are.
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
    /// To be given with the second confirmation; only there after the first.
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

/// Asks for a destination to be erased: the first confirmation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AskErasure {
    /// The destination's name, typed.
    pub name: String,
}

/// The second confirmation of an erasure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConfirmErasure {
    /// What the first confirmation answered with.
    pub confirmation: String,
}

/// Takes over a destination that another installation wrote.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Adopt {
    /// Its directory on the server, an absolute path.
    pub directory: String,
    /// Another name for it; the one that it had unless given.
    #[serde(default)]
    pub name: Option<String>,
    /// Only says what would come with it.
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
    /// Name of its workstation, as a record that waits for a machine to claim it.
    pub workstation: String,
    /// Login name of the account that it belongs to.
    pub login: String,
    /// Whether that account was made, without a password, since there was none of this name.
    pub new_account: bool,
    /// How many points it has.
    pub points: u64,
    /// When the latest was made.
    pub latest: Option<Timestamp>,
    /// Bytes that it occupies.
    pub bytes: u64,
}

/// Asks whether a directory would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckDirectory {
    /// The directory on the server, an absolute path.
    pub directory: String,
}

/// Whether something would do as a destination.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fitness {
    /// It would.
    Fit,
    /// It would, and there is something to mind.
    WithCare,
    /// It would not.
    Unfit,
}

/// Whether a directory would do as a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Verdict {
    /// Whether it would do.
    pub fitness: Fitness,
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
    /// Whether it can be unplugged, as far as the system knows.
    pub removable: bool,
    /// Destinations that lie on it, of this service or of another.
    pub holds: Vec<VolumeHolds>,
    /// Whether a directory on it would do as a destination.
    pub fitness: Fitness,
    /// Why not, or what to mind.
    pub reasons: Vec<String>,
}

/// A destination that lies on a volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VolumeHolds {
    /// Its directory.
    pub directory: String,
    /// Its name, as its marker says.
    pub name: String,
    /// Whether it is this service's; another's can be adopted.
    pub ours: bool,
}
