//! Long work of the service.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::labels::labels;
use crate::{JobId, WorkstationId};

/// What a job does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobKind {
    /// Lets points go by the rule, or after their waiting time, and gives their room back.
    Thinning,
    /// Removes an image store after its waiting time.
    Removal,
    /// Reads everything and compares it with its checks.
    Scrub,
}

labels!(JobKind: Thinning = "thinning", Removal = "removal", Scrub = "scrub");

/// How far a job is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum JobState {
    /// Not begun, or to be gone on with.
    Waiting,
    /// At work.
    Underway,
    /// Stopped by a person for the time being.
    Paused,
    /// Done.
    Done,
    /// It could not be done.
    Failed,
    /// A person cancelled it.
    Cancelled,
}

labels!(JobState: Waiting = "waiting", Underway = "underway", Paused = "paused", Done = "done", Failed = "failed", Cancelled = "cancelled");

impl JobState {
    /// Whether it will not change any more.
    #[must_use]
    pub fn has_ended(self) -> bool {
        matches!(self, Self::Done | Self::Failed | Self::Cancelled)
    }
}

/// A piece of long work.
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
    /// How far it is.
    pub state: JobState,
    /// Bytes done.
    pub done: u64,
    /// Bytes to do; 0 while that is not known.
    pub total: u64,
    /// Who asked for it; `the service` for what it does by itself.
    pub by: String,
    /// When it was asked for.
    pub created: Timestamp,
    /// When it began.
    pub started: Option<Timestamp>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// What it came to, in a sentence.
    pub outcome: Option<String>,
}

/// What a person wants of a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Order {
    /// To stop for the time being.
    Pause,
    /// To go on.
    Resume,
    /// To end.
    Cancel,
}

/// An order to a job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JobOrder {
    /// What is wanted.
    pub order: Order,
}

/// Asks for a job, and may wait for its end.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct JobQuery {
    /// Answers when the job has ended, or after so many seconds, 30 at most.
    #[serde(default)]
    pub wait_seconds: Option<u32>,
}
