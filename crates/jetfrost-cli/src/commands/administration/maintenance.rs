//! `jetfrost maintenance`: pausing backups and restores.

use clap::{Subcommand, ValueEnum};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::service::{Maintenance as MaintenanceCall, MaintenanceState, NewBackups};

use crate::commands::look_and_change;
use crate::commands::time::moment_of;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum What {
    Backups,
    Restores,
    Both,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Maintenance {
    /// Shows whether backups and restores are paused, and what is underway.
    Show,
    /// Accepts new backups and restores again.
    Resume {
        /// Which.
        #[arg(default_value = "both")]
        what: What,
    },
    /// Pauses new backups or restores, until a time or until resumed. Runs in progress finish.
    Pause {
        /// Which.
        #[arg(default_value = "backups")]
        what: What,
        /// End of the pause: 2026-11-24T06:00 by this machine's clock, or a duration such as 2h. Backups only [default: until resumed].
        #[arg(long)]
        until: Option<String>,
    },
}

impl Maintenance {
    /// What is to be, if that is to change.
    fn over(&self, now: MaintenanceCall) -> Result<Option<MaintenanceCall>, Failure> {
        let MaintenanceCall { mut backups, mut restores } = now;
        match self {
            Self::Show => return Ok(None),
            Self::Resume { what } => {
                backups = if *what == What::Restores { backups } else { NewBackups::On };
                restores |= *what != What::Backups;
            }
            Self::Pause { what: What::Backups, until: Some(until) } => backups = NewBackups::Paused { until: moment_of(until)? },
            Self::Pause { until: Some(_), .. } => {
                return Err(Failure::here(
                    "Only backups can be paused until a time.",
                    "Leave --until out, and resume restores when it is over.",
                ));
            }
            Self::Pause { what, until: None } => {
                backups = if *what == What::Restores { backups } else { NewBackups::Off };
                restores &= *what == What::Backups;
            }
        }
        Ok(Some(MaintenanceCall { backups, restores }))
    }

    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let state = look_and_change(|| {
            let now: MaintenanceState = api.call(&calls::maintenance())?;
            let Some(to) = self.over(now.maintenance)? else { return Ok(now) };
            Ok(api.change(&calls::set_maintenance(), &to, &now.version)?)
        })?;
        ui.show(&state, |state| say_maintenance(state, ui));
        Ok(Code::Done)
    }
}

fn say_maintenance(state: &MaintenanceState, ui: &Ui) {
    let MaintenanceCall { backups, restores } = state.maintenance;
    ui.line(&match backups {
        NewBackups::On => "New backups are accepted.".to_owned(),
        NewBackups::Paused { until } => format!("New backups are paused until {}.", moment(until)),
        NewBackups::Off => {
            "New backups are paused until an administrator resumes them: jetfrost maintenance resume backups".to_owned()
        }
    });
    ui.line(if restores {
        "New restores are accepted."
    } else {
        "New restores are paused until an administrator resumes them: jetfrost maintenance resume restores"
    });
    if !state.running.is_empty() {
        ui.line(&format!("Runs that are underway come to their end: {}.", state.running.join(", ")));
    }
    if state.restoring > 0 {
        ui.line(&format!("{} underway.", many(state.restoring, "restore")));
    }
}
