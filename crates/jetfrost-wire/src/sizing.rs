//! Advice on limits, while they are typed.

use jetfrost_types::{DestinationId, WorkstationId};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Asks what a limit would mean.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AskAdvice {
    /// The workstation that it is for, by id; absent for one that is yet to come.
    #[serde(default)]
    pub workstation: Option<WorkstationId>,
    /// The destination, by name; that of the workstation, or the only one, unless given.
    #[serde(default)]
    pub destination: Option<String>,
    /// Bytes of the machine's disk; as it said when it was enrolled unless given.
    #[serde(default)]
    pub disk_bytes: Option<u64>,
    /// The limit that is considered; absent for none.
    #[serde(default)]
    pub limit: Option<u64>,
}

/// What a limit would mean.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LimitAdvice {
    /// The destination.
    pub destination: String,
    /// Bytes of the machine's disk.
    pub disk_bytes: Option<u64>,
    /// How many times the disk fits into the limit.
    pub factor: Option<f64>,
    /// The least limit for such a disk.
    pub minimum: Option<u64>,
    /// The usual one.
    pub usual: Option<u64>,
    /// One for a longer memory.
    pub generous: Option<u64>,
    /// Bytes that the workstation's store grows a day; absent before there is a week of it.
    pub growth_per_day: Option<u64>,
    /// Days of history that the limit holds at that growth.
    pub days_of_history: Option<f64>,
    /// When the limit would be met at the soonest, if growth goes on as it did.
    pub full_soonest: Option<Timestamp>,
    /// When it would be met if growth goes on as it did on average.
    pub full_likely: Option<Timestamp>,
    /// What the destination offers: its capacity, or its volume less the reserve.
    pub offered: Option<u64>,
    /// What is promised of it with this limit, as a ratio; absent when some store has no limit, which promises everything.
    pub over_commitment: Option<f64>,
    /// How many image stores there have no limit.
    pub without_limit: u64,
    /// How many more stores with this limit fit.
    pub more_that_fit: Option<u64>,
    /// All of it in sentences.
    pub says: Vec<String>,
}

/// Asks what a capacity would mean.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AskCapacity {
    /// The destination that it is for, by id.
    #[serde(default)]
    pub destination: Option<DestinationId>,
    /// The directory of one that is yet to come; its volume is looked at.
    #[serde(default)]
    pub directory: Option<String>,
    /// The capacity that is considered; absent for none.
    #[serde(default)]
    pub capacity: Option<u64>,
    /// The reserve that is considered; that of the destination, or the usual one, unless given.
    #[serde(default)]
    pub reserve: Option<u64>,
    /// The limit of new stores that is considered; absent for none.
    #[serde(default)]
    pub default_limit: Option<u64>,
}

/// What a capacity would mean.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CapacityAdvice {
    /// Bytes of the volume.
    pub volume: u64,
    /// What would be offered: the capacity, and no more than the volume less the reserve.
    pub offered: u64,
    /// Bytes that its image stores occupy.
    pub used: u64,
    /// What is promised to its image stores, as a ratio of that; absent when some store has no limit, which promises everything.
    pub over_commitment: Option<f64>,
    /// How many image stores there have no limit.
    pub without_limit: u64,
    /// Bytes that its image stores grow a day together; absent before there is a week of it.
    pub growth_per_day: Option<u64>,
    /// When it would be full at the soonest, if growth goes on as it did.
    pub full_soonest: Option<Timestamp>,
    /// When it would be full if growth goes on as it did on average.
    pub full_likely: Option<Timestamp>,
    /// How many more stores with the limit of new stores fit.
    pub more_that_fit: Option<u64>,
    /// All of it in sentences.
    pub says: Vec<String>,
}
