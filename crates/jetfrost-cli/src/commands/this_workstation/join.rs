//! `jetfrost join`: from an enrolment code to a workstation.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::join::{FirstWays, claim, find_service, host_name, join, join_without_encryption, look_at_code};
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::{check_passphrase, measured_cost, office_key_of, unlock};
use jetfrost_client::{OfficePublicKey, Secret, system_random};
use jetfrost_wire::enrolment::Invitation;
use serde_json::json;

use crate::commands::keys::unlock_method::agrees;
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Join {
    /// The enrolment code; it begins with JF1-.
    code: String,
    /// Name of this workstation, if the enrolment code does not set one [default: the host name].
    #[arg(long)]
    name: Option<String>,
    /// A file whose first line is the image passphrase; or set JETFROST_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
    /// Trust the office key without prompting if its fingerprint matches.
    #[arg(long, value_name = "FINGERPRINT")]
    trust_office_key: Option<String>,
    /// Store backups unencrypted, if the enrolment code allows it. Anyone with access to the destination's disk can read them.
    #[arg(long, conflicts_with_all = ["passphrase_file", "trust_office_key"])]
    without_encryption: bool,
}

impl Join {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let invitation = Invitation::parse(&self.code).map_err(|e| Failure::Client(e.into()))?;
        let (invitation, service) = find_service(&invitation)?;
        let (name, at) = (&service.public_name, &invitation.address);
        ui.remark(&format!("Found the service '{name}' at {at}; its certificate is the one in the code."));
        let given = Given { file: self.passphrase_file.as_deref(), option: "--passphrase-file", variable: "JETFROST_PASSPHRASE" };
        let code = look_at_code(&invitation)?;
        if let Some(workstation) = code.claims {
            return claimed(state_dir, &invitation, &workstation, &given, ui);
        }
        let name = code.machine.or(self.name).unwrap_or_else(host_name);
        if self.without_encryption {
            return joined_without_encryption(state_dir, &invitation, &name, ui);
        }
        if !code.encrypted {
            ui.remark("The code would let this machine go without encryption; it is encrypted all the same, unless you say --without-encryption.");
        }
        let passphrase = ui.secret("a new image passphrase, which will encrypt this workstation's backups", &given, true)?;
        check_passphrase(&passphrase)?;
        let agreed = |office: &OfficePublicKey| agrees(office, self.trust_office_key.as_deref(), ui);
        let office_key = office_key_of(&service)?.filter(agreed);
        let ways = FirstWays { passphrase: &passphrase, cost: measured_cost(), office_key };
        let joined = join(state_dir, &invitation, &name, &ways, &system_random())?;
        let (m, key) = (&joined.membership, joined.recovery_key.to_string());
        let value = json!({
            "workstation": m.workstation, "name": m.name, "login": m.login, "destination": m.destination, "recovery_key": key,
        });
        ui.show(&value, |_| {
            ui.line(&format!(
                "This machine is now workstation '{}' of {}, with its image store on destination '{}'.",
                m.name, m.login, m.destination
            ));
            ui.line("");
            ui.line("  Recovery key, shown this once:");
            ui.line(&format!("  {key}"));
            ui.line("");
            ui.line("Print it and keep it away from this machine. Without it and without the image passphrase nobody,");
            ui.line(match office_key {
                None => "the office included, can read these backups.",
                Some(_) => "but for whoever holds the office key, can read these backups.",
            });
            ui.line("");
            ui.line("Next: choose what is backed up:  jetfrost include FOLDER");
        });
        Ok(Code::Done)
    }
}

/// Join without a secret, as the enrolment code says.
fn joined_without_encryption(state_dir: &StateDir, invitation: &Invitation, name: &str, ui: &Ui) -> Done {
    let m = join_without_encryption(state_dir, invitation, name, &system_random())?;
    let value = json!({ "workstation": m.workstation, "name": m.name, "login": m.login, "destination": m.destination, "encrypted": false });
    ui.show(&value, |_| {
        ui.line(&format!(
            "This machine is now workstation '{}' of {}, with its image store on destination '{}'.",
            m.name, m.login, m.destination
        ));
        ui.line("Its backups are not encrypted, as the enrolment code says: whoever gets at that disk can read them.");
        ui.line("");
        ui.line("Next: choose what is backed up:  jetfrost include FOLDER");
    });
    Ok(Code::Done)
}

/// Takes over an existing workstation and unlocks its image store with its passphrase.
fn claimed(state_dir: &StateDir, invitation: &Invitation, workstation: &str, given: &Given<'_>, ui: &Ui) -> Done {
    ui.remark(&format!("This code hands over the backups of '{workstation}'."));
    let membership = claim(state_dir, invitation)?;
    let what = format!("the image passphrase that '{workstation}' has");
    let by_passphrase = || {
        let passphrase = ui.secret(&what, given, false)?;
        unlock(state_dir, Secret::Passphrase(&passphrase)).map_err(Failure::from)
    };
    // A store that is not encrypted opens without a secret.
    let opened = unlock(state_dir, Secret::None).or_else(|_| by_passphrase());
    ui.show(&json!({ "workstation": membership.workstation, "name": membership.name, "unlocked": opened.is_ok() }), |_| {
        let whose = format!(
            "'{}' of {}, with its image store on destination '{}'",
            membership.name, membership.login, membership.destination
        );
        ui.line(&format!("This machine is now workstation {whose}."));
        if opened.is_ok() {
            ui.line("Its image store is unlocked. Next: choose what is backed up:  jetfrost include FOLDER");
        } else {
            ui.line("Its image store is still locked. Next:  jetfrost unlock  (or with --recovery-key, or --office-key FILE)");
        }
    });
    opened.map(|_| Code::Done)
}
