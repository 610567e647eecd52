//! Jobs: long-running work of the service.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::labels::labels;
use crate::{JobId, WorkstationId};

/// What a job does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobKind {
    /// Removes expired points, and points whose waiting time is over, and frees their space.
    Thinning,
    /// Removes an image store after its waiting time.
    Removal,
    /// Reads everything and verifies it.
    Scrub,
}

labels!(JobKind: Thinning = "thinning", Removal = "removal", Scrub = "scrub");

/// The state of a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobState {
    /// Not started, or to be resumed.
    Waiting,
    /// Running.
    Underway,
    /// Paused by a person.
    Paused,
    /// Done.
    Done,
    /// It failed.
    Failed,
    /// A person cancelled it.
    Cancelled,
}

labels!(JobState: Waiting = "waiting", Underway = "underway", Paused = "paused", Done = "done", Failed = "failed", Cancelled = "cancelled");

impl JobState {
    /// Whether this state is final.
    #[must_use]
    pub fn has_ended(self) -> bool {
        matches!(self, Self::Done | Self::Failed | Self::Cancelled)
    }
}

/// A job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// The job.
    pub id: JobId,
    /// What it does.
    pub kind: JobKind,
    /// The workstation whose image store it is about.
    pub workstation: WorkstationId,
    /// That workstation's name.
    pub name: String,
    /// Its state.
    pub state: JobState,
    /// Bytes done.
    pub done: u64,
    /// Bytes to do; 0 while that is not known.
    pub total: u64,
    /// Who started it; `the service` for scheduled work.
    pub by: String,
    /// When it was queued.
    pub created: Timestamp,
    /// When it started.
    pub started: Option<Timestamp>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// Its result, in a sentence.
    pub outcome: Option<String>,
}

/// What to do with a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Order {
    /// Pause it.
    Pause,
    /// Resume it.
    Resume,
    /// Cancel it.
    Cancel,
}

/// Controls a job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JobOrder {
    /// What to do.
    pub order: Order,
}

/// Returns a job, optionally waiting for its end.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct JobQuery {
    /// Wait for the end of the job, up to this many seconds, at most 30.
    #[serde(default)]
    pub wait_seconds: Option<u32>,
}
