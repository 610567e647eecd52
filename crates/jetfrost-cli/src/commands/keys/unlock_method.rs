//! `jetfrost unlock-method`: what unlocks this workstation's image store.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_client::unlock_methods::{
    add_passphrase, add_recovery_key, entrust, measured_cost, office_key_of, remove, slot_of, unlock_methods,
};
use jetfrost_client::{ClientError, OfficePublicKey, Secret, system_random};
use jetfrost_wire::calls;
use jetfrost_wire::service::{Carry, ServiceInfo, SignIn, SignedIn};
use jetfrost_wire::workstation::{UnlockMethod, UnlockMethodKind};

use crate::commands::keys::secret::{new_passphrase_given, passphrase_given};
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum UnlockMethodCommand {
    /// Lists what unlocks this workstation's image store.
    List,
    /// Adds one more image passphrase.
    AddPassphrase(AddPassphrase),
    /// Changes the image passphrase; no data is written again.
    ChangePassphrase(ChangePassphrase),
    /// Makes a new recovery key, prints it once and removes the old one.
    RenewRecoveryKey(RenewRecoveryKey),
    /// Adds the office key as an unlock method of this workstation's image store.
    TrustOfficeKey(TrustOfficeKey),
    /// Removes an unlock method, but never the last one.
    Remove(Remove),
}

impl UnlockMethodCommand {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        match self {
            Self::List => list(state_dir, ui),
            Self::AddPassphrase(command) => command.run(state_dir, ui),
            Self::ChangePassphrase(command) => command.run(state_dir, ui),
            Self::RenewRecoveryKey(command) => command.run(state_dir, ui),
            Self::TrustOfficeKey(command) => command.run(state_dir, ui),
            Self::Remove(command) => command.run(state_dir, ui),
        }
    }
}

pub(crate) fn list(state_dir: &StateDir, ui: &Ui) -> Done {
    let ways = unlock_methods(state_dir)?;
    ui.show(&ways, |ways| say_unlock_methods(ways, ui));
    Ok(Code::Done)
}

/// Ways in, as a table.
pub(crate) fn say_unlock_methods(ways: &[UnlockMethod], ui: &Ui) {
    let row = |way: &UnlockMethod| {
        let kind = labels::unlock_method(way.kind);
        let kind = if way.damaged { format!("{kind} (file damaged)") } else { kind.into() };
        vec![kind, way.label.clone().unwrap_or_default(), moment(way.made), way.id.clone()]
    };
    ui.table(&["unlock method", "label", "made", "id"], ways.iter().map(row).collect(), &[], "Nothing unlocks this image store.");
    if ways.iter().any(|way| way.damaged) {
        ui.line("The service has a copy of the damaged ones and hands it out; a scrub writes their files again.");
    }
}

#[derive(Debug, Args)]
pub(crate) struct ChangePassphrase {
    /// A file whose first line is the current image passphrase; or set JETFROST_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
    /// A file whose first line is the new passphrase; or set JETFROST_NEW_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    new_passphrase_file: Option<PathBuf>,
    #[command(flatten)]
    person: Person,
}

impl ChangePassphrase {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let name = state_dir.membership()?.name;
        let what = format!("the current image passphrase of workstation '{name}'");
        let present = ui.secret(&what, &passphrase_given(self.passphrase_file.as_deref()), false)?;
        let old = slot_of(state_dir, Secret::Passphrase(&present))?;
        let what = format!("the new image passphrase of workstation '{name}'");
        let new = ui.secret(&what, &new_passphrase_given(self.new_passphrase_file.as_deref()), true)?;
        let way = add_passphrase(state_dir, &new, None, measured_cost(), &system_random())?;
        ui.remark("The new passphrase unlocks the image store. No data was written again.");
        take_away(state_dir, &[old.to_string()], "the old passphrase", &self.person, ui, &way)
    }
}

#[derive(Debug, Args)]
pub(crate) struct AddPassphrase {
    /// A label, such as what it is for. Everyone who sees this workstation can read it.
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// A file whose first line is the new passphrase; or set JETFROST_NEW_PASSPHRASE.
    #[arg(long, value_name = "FILE")]
    new_passphrase_file: Option<PathBuf>,
}

impl AddPassphrase {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let what = format!("one more image passphrase of workstation '{}'", state_dir.membership()?.name);
        let new = ui.secret(&what, &new_passphrase_given(self.new_passphrase_file.as_deref()), true)?;
        let way = add_passphrase(state_dir, &new, self.label, measured_cost(), &system_random())?;
        ui.show(&way, |_| {
            ui.line("This passphrase unlocks the image store, too. All unlock methods:  jetfrost unlock-method list");
        });
        Ok(Code::Done)
    }
}

#[derive(Debug, Args)]
pub(crate) struct RenewRecoveryKey {
    #[command(flatten)]
    person: Person,
}

impl RenewRecoveryKey {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let before = unlock_methods(state_dir)?;
        let (key, way) = add_recovery_key(state_dir, &system_random())?;
        ui.line("  Recovery key, shown this once:");
        ui.line(&format!("  {key}"));
        ui.line("");
        ui.line("Print it and keep it away from this machine.");
        let old: Vec<String> = before.into_iter().filter(|w| w.kind == UnlockMethodKind::RecoveryKey).map(|w| w.id).collect();
        take_away(state_dir, &old, "the old recovery key", &self.person, ui, &way)
    }
}

#[derive(Debug, Args)]
pub(crate) struct Remove {
    /// Id of the unlock method, as listed by 'jetfrost unlock-method list'.
    id: String,
    #[command(flatten)]
    person: Person,
}

impl Remove {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let membership = state_dir.membership()?;
        let api = self.person.sign_in(state_dir, ui)?;
        remove(&api, &membership.store, &self.id)?;
        list(state_dir, ui)
    }
}

/// How the person at the workstation shows who they are, where the machine's own credential is not enough.
#[derive(Debug, Args)]
pub(crate) struct Person {
    /// A file whose first line is the password of this workstation's account; or set JETFROST_PASSWORD.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
}

impl Person {
    fn sign_in(&self, state_dir: &StateDir, ui: &Ui) -> Result<Api, Failure> {
        let m = state_dir.membership()?;
        let given = Given { file: self.password_file.as_deref(), option: "--password-file", variable: "JETFROST_PASSWORD" };
        let password = ui.secret(&format!("the password of account '{}'", m.login), &given, false)?;
        let api = Api::new(&m.address, Some(&m.fingerprint))?;
        let call = SignIn { login: m.login, password, code: None, carry: Carry::Token, label: Some("unlock methods".into()) };
        let signed_in: SignedIn = api.call_with(&calls::sign_in(), &call)?;
        Ok(api.with_credential(&signed_in.token.ok_or_else(|| ClientError::Unexpected("no token".into()))?))
    }
}

/// Removes old unlock methods now that a new one is there. Without the person's password they stay, and the output says so.
fn take_away(state_dir: &StateDir, old: &[String], what: &str, person: &Person, ui: &Ui, new: &UnlockMethod) -> Done {
    let store = state_dir.membership()?.store;
    let taken = person.sign_in(state_dir, ui).and_then(|api| {
        for id in old {
            remove(&api, &store, id)?;
        }
        // The session was for this only; that it could not be ended early does no harm.
        let _ = api.call(&calls::sign_out());
        Ok(())
    });
    match taken {
        Ok(()) => {
            ui.show(new, |_| ui.line(&format!("{} no longer unlocks it.", labels::capital(what))));
            Ok(Code::Done)
        }
        Err(failure) => {
            let ids = old.join(", ");
            ui.remark(&format!("The new one is in place, but {what} still unlocks the image store."));
            ui.remark(&format!(
                "To remove it takes the account's password, or an administrator: jetfrost unlock-method remove {ids}"
            ));
            Err(failure)
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct TrustOfficeKey {
    /// Trust it without prompting if its fingerprint matches.
    #[arg(long)]
    fingerprint: Option<String>,
}

impl TrustOfficeKey {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.device_api()?;
        let info: ServiceInfo = api.call(&calls::service_info())?;
        let Some(office) = office_key_of(&info)? else {
            return Err(Failure::here("This office asks for no office key.", "Nothing was changed."));
        };
        if !agrees(&office, self.fingerprint.as_deref(), ui) {
            return Err(Failure::here("The office key was not trusted.", "Nothing was changed."));
        }
        let way = entrust(state_dir, &office, &system_random())?;
        ui.show(&way, |_| {
            ui.line("The office key unlocks this workstation's image store, too.");
            ui.line(&format!("Take that back with:  jetfrost unlock-method remove {}", way.id));
        });
        Ok(Code::Done)
    }
}

/// Tells a person what an office key is and asks for consent. A fingerprint given beforehand must be the key's.
pub(crate) fn agrees(office: &OfficePublicKey, fingerprint: Option<&str>, ui: &Ui) -> bool {
    ui.remark(&format!("This office has an office key; its fingerprint is {}.", office.fingerprint()));
    ui.remark("Whoever holds its private half and its passphrase can read the backups of workstations that agree,");
    ui.remark("also when passphrase and recovery key are lost. You can take it back later.");
    match fingerprint {
        Some(fingerprint) => fingerprint.eq_ignore_ascii_case(&office.fingerprint()),
        None => ui.agrees("Let it unlock this workstation's backups?"),
    }
}
