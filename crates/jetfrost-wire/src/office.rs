//! The office at a glance, and what is found in it by a few words.

use jiff::Timestamp;
use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::WorkstationId;
use crate::destination::Destination;
use crate::service::Protection;
use crate::workstation::WorkstationState;

/// How the office stands now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Office {
    /// The time by the service's clock.
    pub now: Timestamp,
    /// How many workstations that the caller may see are in each state.
    pub states: Vec<InState>,
    /// Bytes that the latest points of all of them hold.
    pub protected_bytes: u64,
    /// What became of the backups of the last 14 days, today last.
    pub days: Vec<DayOfBackups>,
    /// Of those with a point the workstation for which the longest time no drill succeeded.
    pub least_proven: Option<LeastProven>,
    /// All destinations; none for a member.
    pub destinations: Vec<Destination>,
    /// How the service's records are protected; absent for a member.
    pub protection: Option<Protection>,
}

/// How many workstations are in a state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InState {
    /// The state.
    pub state: WorkstationState,
    /// How many.
    pub workstations: u64,
}

/// What became of the backups of a day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DayOfBackups {
    /// The day, where the service is.
    #[schema(value_type = String, format = Date)]
    pub day: Date,
    /// Runs that ended complete.
    pub complete: u64,
    /// Runs that ended complete, but for some files.
    pub with_exceptions: u64,
    /// Runs that failed, or of which nothing was heard any more.
    pub failed: u64,
    /// Runs that a person stopped.
    pub stopped: u64,
    /// Runs that were due and waited for something until then.
    pub waited: u64,
}

/// A workstation, and since when nothing shows that it can be restored.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LeastProven {
    /// The workstation.
    pub workstation: WorkstationId,
    /// Its name.
    pub name: String,
    /// When a drill last succeeded; absent if none ever did.
    pub drilled: Option<Timestamp>,
}

/// What to look for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SearchQuery {
    /// Words that are all to be found in the same entry.
    pub text: Option<String>,
}

/// What was found.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SearchResult {
    /// Some of each kind, the kinds one after the other.
    pub hits: Vec<Hit>,
    /// Kinds of which there are more.
    pub more: Vec<HitKind>,
}

/// What something is that was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HitKind {
    /// A workstation.
    Workstation,
    /// An account.
    Account,
    /// A group.
    Group,
    /// A destination.
    Destination,
    /// An enrolment code.
    Code,
    /// An entry of the audit log.
    AuditEntry,
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Hit {
    /// What it is.
    pub kind: HitKind,
    /// Its id; of an entry of the audit log its number.
    pub id: String,
    /// Its name.
    pub name: String,
    /// What tells it from its like.
    pub detail: String,
}
