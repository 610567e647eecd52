//! Joining by signing in: an account's own enrolment code, where the office lets people enrol their own machines.

use jetfrost_client::ClientError;
use jetfrost_client::api::Api;
use jetfrost_client::discovery::FoundService;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::enrolment::{Invitation, IssuedCode, NewOwnCode};
use jetfrost_wire::service::ServiceInfo;

use super::answers::Answers;
use crate::commands::administration::session::{confirmed, signed_in};
use crate::failure::Failure;
use crate::ui::{Given, Ui};

/// Signs in, has a code made, and signs out again: nothing of the session stays on the machine.
pub(super) fn own_code(answers: &Answers, found: &[FoundService], state_dir: &StateDir, ui: &Ui) -> Result<Invitation, Failure> {
    let address = answers.service.clone().map_or_else(|| pick(found, ui), Ok)?;
    let fingerprint =
        confirmed(&address, answers.fingerprint.as_deref(), "Is it the one your administrator gave you?", state_dir, ui)?;
    let api = Api::new(&address, Some(&fingerprint))?;
    let service: ServiceInfo = api.call(&calls::service_info())?;
    if !service.own_machines {
        return Err(Failure::here(
            format!("At '{}' only administrators enrol machines.", service.public_name),
            "Ask the administrator for an enrolment code:  jetfrost join CODE",
        ));
    }
    let login = answers.sign_in.clone().map_or_else(|| ui.ask("Login name"), Ok)?;
    let given = Given { file: answers.password_file.as_deref(), option: "--password-file", variable: "JETFROST_PASSWORD" };
    let password = ui.secret(&format!("the password of account '{login}'"), &given, false)?;
    let token = signed_in(&api, login, password, None, ui)?.token.ok_or_else(|| ClientError::Unexpected("no token".into()))?;
    let api = api.with_credential(&token);
    let issued: Result<IssuedCode, ClientError> =
        api.call_with(&calls::issue_own_code(), &NewOwnCode { destination: answers.destination.clone() });
    // A session that cannot be ended ends by itself.
    let _ = api.call(&calls::sign_out());
    let invitation = Invitation::parse(&issued?.code).map_err(|e| Failure::Client(e.into()))?;
    // The service's own name for itself need not resolve here; this address was just used.
    Ok(Invitation { address, ..invitation })
}

fn pick(found: &[FoundService], ui: &Ui) -> Result<String, Failure> {
    if let [only] = found {
        return Ok(only.address.clone());
    }
    let what = if found.is_empty() {
        "Address of the service, as host:port"
    } else {
        "Which of them: its name, or an address as host:port"
    };
    let typed = ui.ask(what)?;
    let by_name = found.iter().find(|one| one.name == typed);
    Ok(by_name.map_or(typed, |one| one.address.clone()))
}
