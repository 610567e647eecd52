//! The person who is signed in: sessions, tokens, password, second factor.

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::people::{Account, OwnPassword, PasswordSet};
use jetfrost_wire::service::{
    Carry, ConfirmSecondFactor, EndSecondFactor, IssuedToken, NewToken, SecondFactorOffer, Session, SessionsEnded, SpareCodes,
    TokenScope,
};
use jiff::Timestamp;

use crate::commands::administration::account::say_password_set;
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, ago, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Scope {
    All,
    See,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Me {
    /// Says who is signed in.
    Show,
    /// Lists your sessions and tokens.
    Sessions,
    /// Ends one of your sessions or tokens.
    EndSession {
        /// Its id, from the list.
        id: String,
    },
    /// Ends all your other sessions and tokens.
    EndOtherSessions,
    /// Makes a token for a program, sent as 'Authorization: Bearer'.
    AddToken {
        /// What it is for.
        label: String,
        /// Scope of the token: everything you may do, or read only.
        #[arg(long, default_value = "see")]
        scope: Scope,
        /// Days until it ends, 1 to 730.
        #[arg(long, default_value_t = 90)]
        days: u16,
        /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Changes the password of your account.
    SetPassword {
        /// A file whose first line is the current password; or set JETFROST_PASSWORD.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
        /// A file whose first line is the new password; or set JETFROST_NEW_PASSWORD.
        #[arg(long, value_name = "FILE")]
        new_password_file: Option<PathBuf>,
    },
    /// Adds a second factor: signing in then requires a code from an authenticator.
    AddSecondFactor {
        /// Code from the authenticator; asked for unless given.
        #[arg(long)]
        code: Option<String>,
        /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Ends your second factor.
    EndSecondFactor {
        /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
}

impl Me {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (session, api) = state_dir.session_api()?;
        let password = |file: Option<PathBuf>| {
            let given = Given { file: file.as_deref(), option: "--password-file", variable: "JETFROST_PASSWORD" };
            ui.secret(&format!("the password of account '{}'", session.login), &given, false)
        };
        match self {
            Self::Show => {
                let account: Account = api.call(&calls::me())?;
                ui.show(&account, |a| {
                    ui.line(&format!("{} ({}), {} at {}.", a.display_name, a.login, a.role.word(), session.address));
                    let factor = if a.second_factor { "password and a second factor" } else { "password alone" };
                    ui.line(&format!("Signs in with {factor}."));
                });
            }
            Self::Sessions => {
                let sessions: Vec<Session> = api.all(&calls::sessions())?;
                ui.show(&sessions, |sessions| say_sessions(sessions, ui));
            }
            Self::EndSession { id } => {
                api.call(&calls::end_session(&id))?;
                ui.line("It was ended.");
            }
            Self::EndOtherSessions => {
                let ended: SessionsEnded = api.call(&calls::end_other_sessions())?;
                ui.show(&ended, |e| ui.line(&format!("{} ended. This one goes on.", many(e.ended, "other session"))));
            }
            Self::AddToken { label, scope, days, password_file } => {
                let password = password(password_file)?;
                let scope = match scope {
                    Scope::All => TokenScope::All,
                    Scope::See => TokenScope::See,
                };
                let issued: IssuedToken = api.call_with(&calls::add_token(), &NewToken { label, scope, days, password })?;
                ui.show(&issued, |issued| {
                    ui.line(&format!(
                        "Token '{}', until {}, shown this once:",
                        issued.record.label,
                        moment(issued.record.expires)
                    ));
                    ui.line(&format!("  {}", issued.token));
                });
            }
            Self::SetPassword { password_file, new_password_file } => {
                let old = password(password_file)?;
                let file = new_password_file.as_deref();
                let given = Given { file, option: "--new-password-file", variable: "JETFROST_NEW_PASSWORD" };
                let new = ui.secret(&format!("a new password for account '{}'", session.login), &given, true)?;
                let set: PasswordSet = api.call_with(&calls::set_own_password(), &OwnPassword { old, new })?;
                ui.show(&set, |set| say_password_set(&session.login, true, set, ui));
            }
            Self::AddSecondFactor { code, password_file } => {
                let password = password(password_file)?;
                let offer: SecondFactorOffer = api.call(&calls::offer_second_factor())?;
                ui.remark("Add this to your authenticator, by address or by typing the secret:");
                ui.remark(&format!("  {}", offer.address));
                ui.remark(&format!("  {}", offer.secret));
                let code = code.map_or_else(|| ui.ask("The code that it shows now"), Ok)?;
                let spare: SpareCodes =
                    api.call_with(&calls::confirm_second_factor(), &ConfirmSecondFactor { code, password })?;
                ui.show(&spare, |spare| {
                    ui.line("From now on signing in takes a code. Spare codes, each good once, shown this once:");
                    spare.codes.iter().for_each(|code| ui.line(&format!("  {code}")));
                });
            }
            Self::EndSecondFactor { password_file } => {
                let ended = EndSecondFactor { password: password(password_file)? };
                let account: Account = api.call_with(&calls::end_second_factor(), &ended)?;
                ui.show(&account, |a| ui.line(&format!("'{}' signs in with the password alone from now on.", a.login)));
            }
        }
        Ok(Code::Done)
    }
}

fn say_sessions(sessions: &[Session], ui: &Ui) {
    let now = Timestamp::now();
    let row = |s: &Session| {
        let label = if s.current { format!("{} (this one)", s.label) } else { s.label.clone() };
        vec![
            s.id.0.clone(),
            label,
            match s.carry {
                Carry::Cookie => "browser",
                Carry::Token => "token",
            }
            .into(),
            match s.scope {
                TokenScope::All => "all",
                TokenScope::See => "see",
            }
            .into(),
            s.from.clone(),
            ago(s.last_used, now),
            moment(s.expires),
        ]
    };
    let heads = ["id", "what", "kind", "scope", "from", "last used", "ends"];
    ui.table(&heads, sessions.iter().map(row).collect(), &[], "There is no session.");
}
