//! `jetfrost job`: jobs of the service, and waiting for them.

use std::time::Duration;

use clap::Subcommand;
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::job::{Job as JobRecord, JobOrder, JobState, Order};

use crate::failure::{Code, Failure};
use crate::ui::{Ui, moment};

type Done = Result<Code, Failure>;

/// A job's end is waited for in calls of this length.
const WAIT: Duration = Duration::from_secs(20);

pub(crate) fn say_end_of(job: &JobRecord, ui: &Ui) -> Done {
    ui.show(job, |job| say_jobs(std::slice::from_ref(job), ui));
    Ok(if job.state == JobState::Done { Code::Done } else { Code::Failed })
}

/// Waits for a job's end, or until somebody pauses it.
pub(crate) fn wait_for(api: &Api, begun: JobRecord) -> Result<JobRecord, Failure> {
    let mut job = begun;
    while !job.state.has_ended() && job.state != JobState::Paused {
        job = api.call_for(&calls::job(&job.id), &[("wait_seconds", Some(WAIT.as_secs().to_string()))])?;
    }
    Ok(job)
}

#[derive(Debug, Subcommand)]
pub(crate) enum Job {
    /// Lists jobs, latest first.
    List,
    /// Pauses a job.
    Pause {
        /// Its id.
        id: String,
    },
    /// Lets a paused job go on.
    Resume {
        /// Its id.
        id: String,
    },
    /// Cancels a job. Work already done is kept.
    Cancel {
        /// Its id.
        id: String,
    },
}

impl Job {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let (id, order) = match self {
            Self::List => {
                let jobs: Vec<JobRecord> = api.all(&calls::jobs())?;
                ui.show(&jobs, |jobs| say_jobs(jobs, ui));
                return Ok(Code::Done);
            }
            Self::Pause { id } => (id, Order::Pause),
            Self::Resume { id } => (id, Order::Resume),
            Self::Cancel { id } => (id, Order::Cancel),
        };
        let job: JobRecord = api.call_with(&calls::order_job(&id), &JobOrder { order })?;
        ui.show(&job, |job| say_jobs(std::slice::from_ref(job), ui));
        Ok(Code::Done)
    }
}

pub(crate) fn say_jobs(jobs: &[JobRecord], ui: &Ui) {
    let row = |job: &JobRecord| {
        let share = (job.done * 100).checked_div(job.total).map_or_else(String::new, |share| format!("{share} %"));
        vec![
            job.id.0.clone(),
            job.kind.word().into(),
            job.name.clone(),
            job.state.word().into(),
            share,
            moment(job.created),
            job.by.clone(),
            job.outcome.clone().unwrap_or_default(),
        ]
    };
    let heads = ["id", "job", "workstation", "state", "done", "asked for", "by", "outcome"];
    ui.table(&heads, jobs.iter().map(row).collect(), &[4], "There was no long work yet.");
}
