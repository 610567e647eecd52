//! Advice on limits.

use jetfrost_types::{DestinationId, WorkstationId};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Asks for advice on a limit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AskAdvice {
    /// Id of the workstation; absent for a future one.
    #[serde(default)]
    pub workstation: Option<WorkstationId>,
    /// Name of the destination; the workstation's, or the only one, by default.
    #[serde(default)]
    pub destination: Option<String>,
    /// Size of the machine's disk in bytes; as reported at enrolment by default.
    #[serde(default)]
    pub disk_bytes: Option<u64>,
    /// The limit in bytes; absent for none.
    #[serde(default)]
    pub limit: Option<u64>,
}

/// Advice on a limit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LimitAdvice {
    /// The destination.
    pub destination: String,
    /// Bytes of the machine's disk.
    pub disk_bytes: Option<u64>,
    /// The limit as a multiple of the disk.
    pub factor: Option<f64>,
    /// The minimum limit for such a disk.
    pub minimum: Option<u64>,
    /// The usual limit.
    pub usual: Option<u64>,
    /// A generous limit, for a longer history.
    pub generous: Option<u64>,
    /// Growth of the image store in bytes per day; absent before a week of history.
    pub growth_per_day: Option<u64>,
    /// Days of history that fit into the limit at that growth.
    pub days_of_history: Option<f64>,
    /// The earliest time at which the limit is reached, judging by past growth.
    pub full_soonest: Option<Timestamp>,
    /// When it is reached at average growth.
    pub full_likely: Option<Timestamp>,
    /// What the destination offers in bytes: its capacity, or its volume less the reserve.
    pub offered: Option<u64>,
    /// All limits together, with this one, as a ratio of that; absent when some store has no limit.
    pub over_commitment: Option<f64>,
    /// Number of image stores there without a limit.
    pub without_limit: u64,
    /// Number of further stores with this limit that fit.
    pub more_that_fit: Option<u64>,
    /// The advice in sentences.
    pub says: Vec<String>,
}

/// Asks for advice on a capacity.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AskCapacity {
    /// Id of the destination.
    #[serde(default)]
    pub destination: Option<DestinationId>,
    /// Directory of a future destination; its volume is examined.
    #[serde(default)]
    pub directory: Option<String>,
    /// The capacity in bytes; absent for none.
    #[serde(default)]
    pub capacity: Option<u64>,
    /// The reserve in bytes; the destination's, or the usual one, by default.
    #[serde(default)]
    pub reserve: Option<u64>,
    /// The limit of new stores in bytes; absent for none.
    #[serde(default)]
    pub default_limit: Option<u64>,
}

/// Advice on a capacity.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CapacityAdvice {
    /// Bytes of the volume.
    pub volume: u64,
    /// What is offered in bytes: the capacity, at most the volume less the reserve.
    pub offered: u64,
    /// Bytes that its image stores occupy.
    pub used: u64,
    /// All limits together as a ratio of that; absent when some store has no limit.
    pub over_commitment: Option<f64>,
    /// Number of image stores there without a limit.
    pub without_limit: u64,
    /// Growth of its image stores in bytes per day; absent before a week of history.
    pub growth_per_day: Option<u64>,
    /// The earliest time at which it is full, judging by past growth.
    pub full_soonest: Option<Timestamp>,
    /// When it is full at average growth.
    pub full_likely: Option<Timestamp>,
    /// Number of further stores with the limit of new stores that fit.
    pub more_that_fit: Option<u64>,
    /// The advice in sentences.
    pub says: Vec<String>,
}
