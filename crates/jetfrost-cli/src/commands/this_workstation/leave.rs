//! `jetfrost leave`: a join undone.

use clap::Args;
use jetfrost_client::ClientError;
use jetfrost_client::agent::{Ask, ask};
use jetfrost_client::state_dir::{Membership, StateDir};
use jetfrost_wire::calls;
use jetfrost_wire::workstation::Workstation;
use serde_json::json;

use crate::failure::{Code, Failure};
use crate::ui::{Ui, many};

#[derive(Debug, Args)]
pub(crate) struct Leave {
    /// The workstation's name, which is otherwise asked for.
    #[arg(long, value_name = "NAME")]
    confirm: Option<String>,
}

impl Leave {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Result<Code, Failure> {
        let membership = state_dir.membership()?;
        if !matches!(ask(state_dir, &Ask::Status), Err(ClientError::NoAgent)) {
            return Err(Failure::here(
                "An agent runs for this workstation.",
                "End it first: jetfrost agent uninstall, or stop 'jetfrost agent run'.",
            ));
        }
        say_what_stays(&membership, state_dir, ui);
        let typed = self.confirm.map_or_else(|| ui.ask("Type the workstation's name to leave"), Ok)?;
        if typed != membership.name {
            return Err(Failure::here(
                format!("'{typed}' is not this workstation's name. Nothing was changed."),
                format!("To leave:  jetfrost leave --confirm {}", membership.name),
            ));
        }
        let left = state_dir.leave()?;
        ui.show(&json!({ "left": left.name, "service": left.address }), |_| {
            ui.line(&format!("This machine is no longer workstation '{}'.", left.name));
            ui.line("The service still expects its backups. To end that, the administrator retires it:");
            ui.line(&format!("  jetfrost workstation retire {}", left.name));
            ui.line("To come back with its history:  an enrolment code that claims it, and jetfrost join CODE");
        });
        Ok(Code::Done)
    }
}

/// What stays where, before anything is changed.
fn say_what_stays(membership: &Membership, state_dir: &StateDir, ui: &Ui) {
    let known: Result<Workstation, ClientError> =
        state_dir.device_api().and_then(|(m, api)| api.call(&calls::workstation(&m.workstation)));
    let points = known.as_ref().map_or_else(|_| "its recovery points".into(), |w| many(w.store.points, "recovery point"));
    ui.remark(&format!("Leaving the service at {}:", membership.address));
    ui.remark(&format!("- stays there: {points} on '{}', for as long as the office keeps them.", membership.destination));
    ui.remark("- stays here: your files, what is included and excluded, and the commands around a backup.");
    ui.remark("- goes from here: the store key and this machine's credential. Nothing can be backed up or restored here then.");
    if known.as_ref().is_ok_and(|w| w.store.encrypted) {
        let proved = known.as_ref().is_ok_and(|w| w.store.proof.is_some());
        ui.remark("Without the image passphrase, the recovery key or the office key nobody can read these backups afterwards.");
        if !proved {
            ui.remark("Nobody has proved yet that one of them works. Do so first:  jetfrost unlock");
        }
    }
}
