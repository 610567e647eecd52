//! Why points stay.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Why a point stays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum StayReason {
    /// It is younger than the hours for which all are kept, or everything is kept.
    Recent,
    /// Its protected time is not over: nothing makes it go.
    Protected,
    /// It is the last one of its day.
    Day,
    /// It is the last one of its week.
    Week,
    /// It is the last one of its month.
    Month,
    /// It is the last one of its year.
    Year,
    /// So few points would be left without it.
    AtLeast,
    /// It was made later than now.
    FromTheFuture,
    /// It is the latest, or the latest one without exceptions.
    Latest,
    /// A hold is on it.
    Held,
    /// It is suspect, or a later one is.
    Suspect,
    /// A person removed it, and its waiting time is not over.
    PendingRemoval,
}
