//! Live changes, sent as Server-Sent Events.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::WorkstationId;
use crate::job::Job;
use crate::restore::Restore;
use crate::run::Run;

/// A change that a page may want to show.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "what", rename_all = "snake_case")]
pub enum Event {
    /// A run started, progressed or ended.
    Run {
        /// The run.
        run: Run,
    },
    /// A restore started, progressed or ended.
    Restore {
        /// The restore.
        restore: Restore,
    },
    /// Something else about a workstation changed.
    Workstation {
        /// The workstation.
        workstation: WorkstationId,
    },
    /// A job started, progressed or ended.
    Job {
        /// The job.
        job: Job,
    },
    /// Accounts, groups, destinations or codes changed.
    Office,
}
