//! `jetfrost unlock`: a secret tried, and a lost key put back.

use clap::{Args, ValueEnum};
use jetfrost_client::Secret;
use jetfrost_client::join::selection_to_go_on_with;
use jetfrost_client::kept_key::KeyPlace;
use jetfrost_client::salvage::Opening;
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::{prove, unlock, unlock_with_office_key};
use jetfrost_wire::workstation::ProvedWith;
use serde_json::json;

use crate::commands::keys::secret::Which;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Unlock {
    #[command(flatten)]
    which: Which,
    /// Where this machine keeps the store key from now on. Without it: sealed for this machine, or in the user's keyring, where that
    /// works; otherwise in a file that only its owner can read.
    #[arg(long, value_name = "PLACE")]
    key_in: Option<Place>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Place {
    /// In a file that only its owner can read.
    File,
    /// Sealed for this machine, and by its security chip where it has one; needs root.
    Machine,
    /// In the keyring of the user who is signed in.
    Keyring,
}

impl Unlock {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let name = state_dir.membership()?.name;
        let (was_lost, secret) = self.which.open(&format!("of workstation '{name}'"), ui, |opening| match opening {
            Opening::Secret(secret) => Ok((unlock(state_dir, *secret)?, proved_with(secret))),
            Opening::Office(office) => Ok((unlock_with_office_key(state_dir, office)?, Some(ProvedWith::OfficeKey))),
        })?;
        match self.key_in {
            None => {}
            Some(Place::File) => state_dir.move_key(KeyPlace::File)?,
            Some(Place::Machine) => state_dir.move_key(KeyPlace::Machine)?,
            Some(Place::Keyring) => state_dir.move_key(KeyPlace::Keyring)?,
        }
        let place = state_dir.key_place()?;
        let goes_on = was_lost && goes_on_with_selection(state_dir, ui);
        let proof = secret.map(|secret| prove(state_dir, secret)).transpose();
        if let Err(error) = &proof {
            ui.remark(&format!("The service did not put this on record as a proof: {error}."));
        }
        let proof = proof.ok().flatten();
        ui.show(&json!({ "unlocks": true, "key_was_lost": was_lost, "store_key": place, "proof": proof }), |_| {
            ui.line(&format!("This secret unlocks the image store of '{name}'."));
            if was_lost {
                ui.line("The store key was missing on this machine and is in place again.");
            }
            ui.line(&format!("The store key is {place}."));
            if goes_on {
                ui.line("What was included before is included again.  To see it:  jetfrost selection");
            }
            if proof.is_some() {
                ui.line("That is on record as proof that the secret is not lost.");
            }
        });
        Ok(Code::Done)
    }
}

/// A machine that took a workstation over goes on with what was included before, if nothing is included here yet.
fn goes_on_with_selection(state_dir: &StateDir, ui: &Ui) -> bool {
    let before = selection_to_go_on_with(state_dir);
    match before.and_then(|before| before.map(|before| state_dir.write_selection(&before)).transpose()) {
        Ok(done) => done.is_some(),
        Err(error) => {
            ui.remark(&format!("What was included before could not be taken over: {error}."));
            false
        }
    }
}

/// What a secret proves; nothing where there is none.
fn proved_with(secret: &Secret<'_>) -> Option<ProvedWith> {
    match secret {
        Secret::Passphrase(_) => Some(ProvedWith::Passphrase),
        Secret::RecoveryKey(_) => Some(ProvedWith::RecoveryKey),
        Secret::None => None,
    }
}
