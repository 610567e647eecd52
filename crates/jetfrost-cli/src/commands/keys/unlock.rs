//! `jetfrost unlock`: a secret tried, and a lost key put back.

use clap::Args;
use jetfrost_client::salvage::Opening;
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::{unlock, unlock_with_office_key};
use serde_json::json;

use crate::commands::keys::secret::Which;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Unlock {
    #[command(flatten)]
    which: Which,
}

impl Unlock {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let name = state_dir.membership()?.name;
        let was_lost = self.which.open(&format!("of workstation '{name}'"), ui, |opening| match opening {
            Opening::Secret(secret) => unlock(state_dir, *secret),
            Opening::Office(office) => unlock_with_office_key(state_dir, office),
        })?;
        ui.show(&json!({ "unlocks": true, "key_was_lost": was_lost }), |_| {
            ui.line(&format!("This secret unlocks the image store of '{name}'."));
            if was_lost {
                ui.line("The store key was missing on this machine and is in place again.");
            }
        });
        Ok(Code::Done)
    }
}
