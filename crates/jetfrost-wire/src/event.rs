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
    /// The orders of a workstation changed.
    Orders {
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
    /// The schedules of several workstations changed.
    Schedules,
}

impl Event {
    /// The workstation that it is about, if it is about one.
    #[must_use]
    pub fn workstation(&self) -> Option<&WorkstationId> {
        match self {
            Self::Run { run } => Some(&run.workstation),
            Self::Restore { restore } => Some(&restore.workstation),
            Self::Workstation { workstation } | Self::Orders { workstation } => Some(workstation),
            Self::Job { job } => Some(&job.workstation),
            Self::Office | Self::Schedules => None,
        }
    }
}
