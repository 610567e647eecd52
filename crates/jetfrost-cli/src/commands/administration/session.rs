//! `jetfrost sign-in` and `sign-out`.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::ClientError;
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::{Session, StateDir};
use jetfrost_wire::calls;
use jetfrost_wire::people::Account as AccountRecord;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::service::{Carry, FirstAdministrator, ServiceInfo, SignIn as SignInCall, SignedIn};

use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct SignIn {
    /// The service, as host:port.
    address: String,
    /// Login name.
    #[arg(long)]
    login: String,
    /// Creates the first administrator with the one-time code that the service printed.
    #[arg(long, value_name = "CODE")]
    first: Option<String>,
    /// The fingerprint of the service's identity, if you have it; otherwise you are asked to compare it.
    #[arg(long, value_name = "SHA-256")]
    fingerprint: Option<String>,
    /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// Second-factor code; asked for if the account has a second factor.
    #[arg(long)]
    code: Option<String>,
}

impl SignIn {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let question = "Is it the one that the service printed when it started?";
        let fingerprint = confirmed(&self.address, self.fingerprint.as_deref(), question, state_dir, ui)?;
        let api = Api::new(&self.address, Some(&fingerprint))?;
        let given = Given { file: self.password_file.as_deref(), option: "--password-file", variable: "JETFROST_PASSWORD" };
        let what = format!("the password of account '{}'", self.login);
        let password = ui.secret(&what, &given, self.first.is_some())?;
        if let Some(code) = self.first {
            let new = FirstAdministrator { code, login: self.login.clone(), password: password.clone() };
            let _: AccountRecord = api.call_with(&calls::first_administrator(), &new)?;
        }
        let signed_in = signed_in(&api, self.login, password, self.code, ui)?;
        let token = signed_in.token.ok_or_else(|| ClientError::Unexpected("no token".into()))?;
        state_dir.keep_session(&Session { address: self.address, fingerprint, login: signed_in.account.login.clone(), token })?;
        ui.show(&signed_in.account, |account| {
            ui.line(&format!("Signed in as {} ({}), until {}.", account.login, account.role.word(), moment(signed_in.expires)));
        });
        Ok(Code::Done)
    }
}

/// Signs in, and asks for the code of a second factor where the account has one.
pub(crate) fn signed_in(api: &Api, login: String, password: String, code: Option<String>, ui: &Ui) -> Result<SignedIn, Failure> {
    let label = Some(format!("jetfrost on {}", jetfrost_client::join::host_name()));
    let mut call = SignInCall { login, password, code, carry: Carry::Token, label };
    Ok(match api.call_with(&calls::sign_in(), &call) {
        Err(ClientError::Refused(problem)) if problem.known_kind() == Some(ProblemKind::SecondFactorNeeded) => {
            call.code = Some(ui.ask("The code that your authenticator shows, or a spare code")?);
            api.call_with(&calls::sign_in(), &call)?
        }
        other => other?,
    })
}

/// The fingerprint of a service's identity: given, known from before, or compared by the person.
pub(crate) fn confirmed(
    address: &str,
    given: Option<&str>,
    question: &str,
    state_dir: &StateDir,
    ui: &Ui,
) -> Result<String, Failure> {
    if let Some(fingerprint) = given {
        return Ok(fingerprint.to_lowercase().replace(':', ""));
    }
    let known = state_dir.session_api().map(|(s, _)| (s.address, s.fingerprint)).into_iter();
    let joined = state_dir.membership().map(|m| (m.address, m.fingerprint)).into_iter();
    if let Some((_, fingerprint)) = known.chain(joined).find(|(known, _)| *known == address) {
        return Ok(fingerprint);
    }
    let api = Api::new(address, None)?;
    let _: ServiceInfo = api.call(&calls::service_info())?;
    let found = api.fingerprint().unwrap_or_default();
    ui.remark(&format!("{address} has an identity with this fingerprint (SHA-256):\n  {found}"));
    if ui.agrees(question) {
        Ok(found)
    } else {
        Err(Failure::here("The service's certificate was not confirmed.", format!("Compare it, then add: --fingerprint {found}")))
    }
}

pub(crate) fn sign_out(state_dir: &StateDir, ui: &Ui) -> Done {
    let (_, api) = state_dir.session_api()?;
    match api.call(&calls::sign_out()) {
        // A session that is over already is what was wanted.
        Ok(()) | Err(ClientError::Refused(_)) => {}
        Err(error) => return Err(error.into()),
    }
    state_dir.forget_session()?;
    ui.line("Signed out.");
    Ok(Code::Done)
}
