//! `jetfrost scrub`: the service's check of stored bytes.

use clap::Subcommand;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::job::{Job as JobRecord, JobState};
use jetfrost_wire::workstation::Integrity;

use crate::commands::administration::job::{say_jobs, wait_for};
use crate::commands::administration::store::workstation_named;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Scrub {
    /// Shows the result of the latest scrub of a workstation's image store.
    Show {
        /// The workstation's name.
        workstation: String,
    },
    /// Verifies every stored byte of a workstation now, and waits for the result.
    Start {
        /// The workstation's name.
        workstation: String,
    },
}

impl Scrub {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let name = match &self {
            Self::Show { workstation } | Self::Start { workstation } => workstation,
        };
        let store = workstation_named(&api, name)?.store.id;
        if matches!(self, Self::Start { .. }) {
            let begun: JobRecord = api.call(&calls::begin_scrub(&store))?;
            let job = wait_for(&api, begun)?;
            if job.state != JobState::Done {
                ui.show(&job, |job| say_jobs(std::slice::from_ref(job), ui));
                return Ok(Code::Failed);
            }
        }
        let integrity: Integrity = api.call(&calls::integrity(&store))?;
        ui.show(&integrity, |integrity| say_integrity(name, integrity, ui));
        let is_damaged = integrity.lost_chunks > 0 || !integrity.findings.is_empty();
        Ok(if is_damaged { Code::Damage } else { Code::Done })
    }
}

fn say_integrity(name: &str, integrity: &Integrity, ui: &Ui) {
    match integrity.scrubbed {
        Some(at) => ui.line(&format!("Every stored byte of {name} was read and compared on {}.", moment(at))),
        None => ui.line(&format!("{name} was never scrubbed. Next: jetfrost scrub start {name}")),
    }
    for finding in &integrity.findings {
        ui.line(&format!("  {}: {}", finding.path, finding.wrong));
    }
    if integrity.lost_chunks == 0 {
        ui.line("Everything that its points need is there.");
        return;
    }
    let points: Vec<String> = integrity.damaged_points.iter().map(|p| format!("{} ({})", p.sequence, p.lost_chunks)).collect();
    ui.line(&format!(
        "Lost: {}, needed by these points (and how many of them): {}",
        many(integrity.lost_chunks, "chunk"),
        points.join(", ")
    ));
    ui.line("The next backup brings those that the workstation still has. All else in these points comes back.");
}
