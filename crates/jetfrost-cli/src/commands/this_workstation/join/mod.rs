//! `jetfrost join`: from an enrolment code to a workstation that backs itself up. At a terminal whatever is not given is asked for.

mod afterwards;
mod answers;
mod own_code;
mod recovery;

use std::path::PathBuf;
use std::time::Duration;

use clap::Args;
use jetfrost_client::discovery::look;
use jetfrost_client::join::{FirstWays, claim, find_service, host_name, join, join_without_encryption, look_at_code};
use jetfrost_client::state_dir::{Membership, StateDir};
use jetfrost_client::unlock_methods::{check_passphrase, measured_cost, office_key_of, prove, unlock};
use jetfrost_client::{ClientError, OfficePublicKey, Secret, system_random};
use jetfrost_wire::enrolment::Invitation;
use jetfrost_wire::service::ServiceInfo;
use jetfrost_wire::workstation::ProvedWith;
use serde_json::json;

use crate::commands::keys::unlock_method::agrees;
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui};
use afterwards::set_up;
use answers::Answers;
use own_code::own_code;
use recovery::Recovery;

type Done = Result<Code, Failure>;

/// How long services nearby are looked for before a code is asked for.
const LOOKING: Duration = Duration::from_secs(3);

#[derive(Debug, Args)]
pub(crate) struct Join {
    #[command(flatten)]
    given: Answers,
    /// Takes answers from a TOML file, with the names of these options as keys; an option overrides it. For roll-outs without a person.
    #[arg(long, value_name = "FILE")]
    answers: Option<PathBuf>,
}

impl Join {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let of_file = self.answers.as_deref().map(Answers::of_file).transpose()?.unwrap_or_default();
        let answers = self.given.or(of_file);
        if let Ok(membership) = state_dir.membership() {
            return Err(ClientError::AlreadyJoined(membership.name).into());
        }
        answers.check()?;
        let selection = answers.selection()?;
        let invitation = match &answers.code {
            Some(code) => parsed(code)?,
            None => without_code(&answers, state_dir, ui)?,
        };
        let (invitation, service) = find_service(&invitation)?;
        let (name, at) = (&service.public_name, &invitation.address);
        ui.remark(&format!("Found the service '{name}' at {at}; its certificate is the one in the code."));
        let joined = enter(&answers, state_dir, &invitation, &service, ui)?;
        set_up(joined, selection, &answers, state_dir, ui)
    }
}

/// A machine that is a workstation now.
pub(super) struct Entered {
    /// What programs are told of it.
    pub(super) value: serde_json::Value,
    pub(super) is_encrypted: bool,
    /// Whether it took over a workstation that was there.
    pub(super) is_claimed: bool,
    /// Whether its image store is still locked.
    pub(super) locked: Option<Failure>,
}

fn parsed(code: &str) -> Result<Invitation, Failure> {
    Invitation::parse(code).map_err(|e| Failure::Client(e.into()))
}

/// Shows which services are nearby, and asks for a code; whoever has none, or said so, signs in.
fn without_code(answers: &Answers, state_dir: &StateDir, ui: &Ui) -> Result<Invitation, Failure> {
    if answers.sign_in.is_some() && answers.service.is_some() {
        return own_code(answers, &[], state_dir, ui);
    }
    if answers.sign_in.is_none() && !ui.is_terminal() {
        return Err(Failure::here(
            "An enrolment code is needed.",
            "Have one from the administrator:  jetfrost join CODE  (or sign in, where the office allows it: --sign-in LOGIN)",
        ));
    }
    ui.remark("Looking for services on this network…");
    let found = look(LOOKING, &[]).unwrap_or_default();
    for one in &found {
        ui.remark(&format!("  {}  at {}", one.name, one.address));
    }
    if found.is_empty() {
        ui.remark("  None was found here, which an enrolment code makes up for: it holds the service's address.");
    }
    if answers.sign_in.is_some() {
        return own_code(answers, &found, state_dir, ui);
    }
    let code = ui.ask("Enrolment code, from the administrator or the hand-out (JF1-…); empty to sign in with your account")?;
    if code.is_empty() { own_code(answers, &found, state_dir, ui) } else { parsed(&code) }
}

fn enter(
    answers: &Answers,
    state_dir: &StateDir,
    invitation: &Invitation,
    service: &ServiceInfo,
    ui: &Ui,
) -> Result<Entered, Failure> {
    let given = Given { file: answers.passphrase_file.as_deref(), option: "--passphrase-file", variable: "JETFROST_PASSPHRASE" };
    let code = look_at_code(invitation)?;
    if let Some(workstation) = code.claims {
        return claimed(state_dir, invitation, &workstation, &given, ui);
    }
    let name = code.machine.or_else(|| answers.name.clone()).unwrap_or_else(host_name);
    if answers.without_encryption {
        return joined_without_encryption(state_dir, invitation, &name, ui);
    }
    if !code.encrypted {
        ui.remark("The code would let this machine go without encryption; it is encrypted all the same, unless you say --without-encryption.");
    }
    let passphrase = ui.secret("a new image passphrase, which will encrypt this workstation's backups", &given, true)?;
    check_passphrase(&passphrase)?;
    let agreed = |office: &OfficePublicKey| agrees(office, answers.trust_office_key.as_deref(), ui);
    let office_key = office_key_of(service)?.filter(agreed);
    let recovery = Recovery::begin(answers.recovery_key_file.as_deref())?;
    let ways = FirstWays { passphrase: &passphrase, cost: measured_cost(), office_key };
    let joined = match join(state_dir, invitation, &name, &ways, &system_random()) {
        Ok(joined) => joined,
        Err(error) => {
            recovery.take_back();
            return Err(error.into());
        }
    };
    let mut value = described(&joined.membership);
    say_joined(&joined.membership, ui);
    let shown = recovery.hand_over(&joined.recovery_key, office_key.is_some(), ui);
    value["recovery_key"] = if shown { json!(joined.recovery_key.to_string()) } else { serde_json::Value::Null };
    Ok(Entered { value, is_encrypted: true, is_claimed: false, locked: None })
}

fn described(m: &Membership) -> serde_json::Value {
    json!({ "workstation": m.workstation, "name": m.name, "login": m.login, "destination": m.destination })
}

fn say_joined(m: &Membership, ui: &Ui) {
    ui.say(&format!(
        "This machine is now workstation '{}' of {}, with its image store on destination '{}'.",
        m.name, m.login, m.destination
    ));
}

/// Join without a secret, as the enrolment code says.
fn joined_without_encryption(state_dir: &StateDir, invitation: &Invitation, name: &str, ui: &Ui) -> Result<Entered, Failure> {
    let membership = join_without_encryption(state_dir, invitation, name, &system_random())?;
    let mut value = described(&membership);
    value["encrypted"] = json!(false);
    say_joined(&membership, ui);
    ui.say("Its backups are not encrypted, as the enrolment code says: whoever gets at that disk can read them.");
    Ok(Entered { value, is_encrypted: false, is_claimed: false, locked: None })
}

/// Takes over an existing workstation and unlocks its image store with its passphrase.
fn claimed(
    state_dir: &StateDir,
    invitation: &Invitation,
    workstation: &str,
    given: &Given<'_>,
    ui: &Ui,
) -> Result<Entered, Failure> {
    ui.remark(&format!("This code hands over the backups of '{workstation}'."));
    let membership = claim(state_dir, invitation)?;
    let what = format!("the image passphrase that '{workstation}' has");
    let by_passphrase = || {
        let passphrase = ui.secret(&what, given, false)?;
        let opened = unlock(state_dir, Secret::Passphrase(&passphrase)).map(|_| true).map_err(Failure::from)?;
        // A proof that is not on record can be given again.
        let _ = prove(state_dir, ProvedWith::Passphrase);
        Ok(opened)
    };
    // A store that is not encrypted opens without a secret.
    let opened = unlock(state_dir, Secret::None).map(|_| false).or_else(|_| by_passphrase());
    say_joined(&membership, ui);
    let mut value = json!({ "workstation": membership.workstation, "name": membership.name });
    value["unlocked"] = json!(opened.is_ok());
    let is_encrypted = !matches!(opened, Ok(false));
    Ok(Entered { value, is_encrypted, is_claimed: true, locked: opened.err() })
}
