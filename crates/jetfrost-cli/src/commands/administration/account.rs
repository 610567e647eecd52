//! `jetfrost account`: people and machines that sign in.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_types::Limit;
use jetfrost_wire::calls;
use jetfrost_wire::people::{
    Account as AccountRecord, AccountChange as Change, AccountKind, AccountRemoval, AccountState, AccountTies, NewAccount,
    NewPassword, PasswordSet, Role, WorkstationsGo,
};
use jetfrost_wire::size::show;

use crate::commands::limit::parse_limit;
use crate::commands::{find, limit};
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, ago, many, moment};

type Done = Result<Code, Failure>;

impl From<RoleName> for Role {
    fn from(name: RoleName) -> Self {
        match name {
            RoleName::Administrator => Self::Administrator,
            RoleName::Helpdesk => Self::Helpdesk,
            RoleName::Member => Self::Member,
        }
    }
}

impl From<KindName> for AccountKind {
    fn from(name: KindName) -> Self {
        match name {
            KindName::Person => Self::Person,
            KindName::Machine => Self::Machine,
            KindName::Shared => Self::Shared,
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum RoleName {
    Administrator,
    Helpdesk,
    Member,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum KindName {
    Person,
    Machine,
    Shared,
}

#[derive(Debug, Args)]
#[group(required = true, multiple = true)]
pub(crate) struct AccountChange {
    /// A new login name. Workstations are not affected.
    #[arg(long, value_name = "LOGIN")]
    rename: Option<String>,
    /// A new name of the person.
    #[arg(long)]
    name: Option<String>,
    /// Who is behind it.
    #[arg(long)]
    kind: Option<KindName>,
    /// What it may do.
    #[arg(long)]
    role: Option<RoleName>,
    /// All groups of the account, separated by commas; '' for none.
    #[arg(long, value_name = "GROUPS")]
    groups: Option<String>,
    /// Quota: what all its image stores may occupy together, such as 500GB, or 'none'.
    #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
    quota: Option<Limit>,
}

#[derive(Debug, Args)]
#[group(multiple = false)]
pub(crate) struct WhatBecomes {
    /// Give its workstations to another account; they keep backing up.
    #[arg(long, value_name = "LOGIN")]
    workstations_to: Option<String>,
    /// Cut its workstations off; their backups stay.
    #[arg(long)]
    retire_workstations: bool,
    /// Remove the image stores of its workstations after the waiting time.
    #[arg(long)]
    remove_workstations: bool,
}

impl WhatBecomes {
    fn chosen(self) -> Option<WorkstationsGo> {
        match self {
            Self { workstations_to: Some(login), .. } => Some(WorkstationsGo::To { login }),
            Self { retire_workstations: true, .. } => Some(WorkstationsGo::Retire),
            Self { remove_workstations: true, .. } => Some(WorkstationsGo::Remove),
            _ => None,
        }
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Account {
    /// Lists accounts.
    List,
    /// Adds an account.
    Add {
        /// Login name.
        login: String,
        /// The person's name.
        #[arg(long)]
        name: Option<String>,
        /// Kind of account: a person, a machine that nobody sits at, or several people who share it.
        #[arg(long, default_value = "person")]
        kind: KindName,
        /// What it may do.
        #[arg(long, default_value = "member")]
        role: RoleName,
        /// A group to put the account in; may be repeated.
        #[arg(long = "group", value_name = "GROUP")]
        groups: Vec<String>,
        /// Quota: what all its image stores may occupy together, or 'none' [default: the largest of its groups].
        #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
        quota: Option<Limit>,
        /// Set no password: the account only owns workstations, and nobody signs in with it.
        #[arg(long, conflicts_with = "password_file")]
        no_sign_in: bool,
        /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Shows an account with its sessions, codes and workstations.
    Show {
        /// Login name.
        login: String,
    },
    /// Changes an account.
    Set {
        /// Login name.
        login: String,
        #[command(flatten)]
        change: AccountChange,
    },
    /// Sets an account's password and shows which sessions that ends.
    SetPassword {
        /// Login name.
        login: String,
        /// Remove the password: nobody can sign in with the account any more.
        #[arg(long, conflicts_with = "password_file")]
        no_sign_in: bool,
        /// A file whose first line is the account's new password; or set JETFROST_PASSWORD.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Disables an account: nobody can sign in with it and its workstations are refused. Stored data stays.
    Disable {
        /// Login name.
        login: String,
    },
    /// Enables an account again.
    Enable {
        /// Login name.
        login: String,
    },
    /// Removes the second factor of somebody who lost it.
    EndSecondFactor {
        /// Login name.
        login: String,
    },
    /// Removes an account.
    Remove {
        /// Login name.
        login: String,
        /// The login name again, to confirm.
        #[arg(long, value_name = "LOGIN")]
        confirm: String,
        #[command(flatten)]
        what_becomes: WhatBecomes,
    },
}

impl Account {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::List => {
                let accounts: Vec<AccountRecord> = api.all(&calls::accounts())?;
                ui.show(&accounts, |accounts| say_accounts(accounts, ui));
            }
            Self::Add { login, name, kind, role, groups, quota, no_sign_in, password_file } => {
                let new = NewAccount {
                    display_name: name,
                    kind: kind.into(),
                    password: new_password(&login, no_sign_in, password_file.as_deref(), ui)?,
                    groups,
                    quota,
                    ..NewAccount::new(login, role.into())
                };
                let account: AccountRecord = api.call_with(&calls::add_account(), &new)?;
                ui.show(&account, |a| {
                    ui.line(&format!("Account '{}' ({}) was added.", a.login, a.role.word()));
                    ui.line(&format!("Next: a code for the person's machine:  jetfrost enrolment add {}", a.login));
                });
            }
            Self::Show { login } => {
                let account = account_named(&api, &login)?;
                let ties: AccountTies = api.call(&calls::account_ties(&account.id))?;
                ui.show(&serde_json::json!({ "account": account, "ties": ties }), |_| say_account(&account, &ties, ui));
            }
            Self::Set { login, change } => {
                let account = account_named(&api, &login)?;
                let changed: AccountRecord = api.call_with(&calls::change_account(&account.id), &change.into_change())?;
                ui.show(&changed, |a| say_accounts(std::slice::from_ref(a), ui));
            }
            Self::SetPassword { login, no_sign_in, password_file } => {
                let account = account_named(&api, &login)?;
                let password = new_password(&login, no_sign_in, password_file.as_deref(), ui)?;
                let set: PasswordSet = api.call_with(&calls::set_password(&account.id), &NewPassword { password })?;
                ui.show(&set, |set| say_password_set(&account.login, !no_sign_in, set, ui));
            }
            Self::Disable { login } => {
                let account = account_named(&api, &login)?;
                let ties: AccountTies = api.call(&calls::account_ties(&account.id))?;
                let disabled: AccountRecord = api.call(&calls::disable_account(&account.id))?;
                ui.show(&disabled, |a| {
                    ui.line(&format!("Account '{}' is disabled; {} signed out.", a.login, sessions(&ties)));
                    say_stopped(&ties, ui);
                    ui.line(&format!("Nothing stored was touched. Take it back with:  jetfrost account enable {}", a.login));
                });
            }
            Self::Enable { login } => {
                let account = account_named(&api, &login)?;
                let enabled: AccountRecord = api.call(&calls::enable_account(&account.id))?;
                ui.show(&enabled, |a| ui.line(&format!("Account '{}' is enabled; its workstations go on.", a.login)));
            }
            Self::EndSecondFactor { login } => {
                let account = account_named(&api, &login)?;
                let ended: AccountRecord = api.call(&calls::end_second_factor_of(&account.id))?;
                ui.show(&ended, |a| ui.line(&format!("'{}' signs in with the password alone from now on.", a.login)));
            }
            Self::Remove { login, confirm, .. } if login != confirm => {
                return Err(Failure::here(
                    format!("'{login}' and '{confirm}' are not the same."),
                    "Nothing was removed. Give the login name twice.",
                ));
            }
            Self::Remove { login, what_becomes, .. } => {
                let account = account_named(&api, &login)?;
                let removal = AccountRemoval { workstations: what_becomes.chosen() };
                if removal.workstations.is_none() && account.workstations > 0 {
                    return Err(Failure::here(
                        format!(
                            "'{login}' has {}: it is not said what becomes of them.",
                            many(account.workstations, "workstation")
                        ),
                        "Add --workstations-to LOGIN, or --retire-workstations, or --remove-workstations. 'jetfrost account show' lists them.",
                    ));
                }
                api.call_with(&calls::remove_account(&account.id), &removal)?;
                ui.show(&account, |a| ui.line(&format!("Account '{}' was removed.", a.login)));
            }
        }
        Ok(Code::Done)
    }
}

impl AccountChange {
    fn into_change(self) -> Change {
        let names = |text: String| text.split(',').map(str::trim).filter(|n| !n.is_empty()).map(str::to_owned).collect();
        Change {
            login: self.rename,
            display_name: self.name,
            kind: self.kind.map(Into::into),
            role: self.role.map(Into::into),
            groups: self.groups.map(names),
            quota: self.quota,
        }
    }
}

fn new_password(login: &str, none: bool, file: Option<&std::path::Path>, ui: &Ui) -> Result<Option<String>, Failure> {
    if none {
        return Ok(None);
    }
    let given = Given { file, option: "--password-file", variable: "JETFROST_PASSWORD" };
    ui.secret(&format!("a new password for account '{login}'"), &given, true).map(Some)
}

fn account_named(api: &Api, login: &str) -> Result<AccountRecord, Failure> {
    find(api.all(&calls::accounts())?, login, |a: &AccountRecord| &a.login, "account", "jetfrost account list")
}

fn say_accounts(accounts: &[AccountRecord], ui: &Ui) {
    let row = |a: &AccountRecord| {
        let sign_in = match (a.state, a.can_sign_in, a.second_factor) {
            (AccountState::Disabled, ..) => "disabled",
            (_, false, _) => "no",
            (_, true, true) => "two factors",
            (_, true, false) => "yes",
        };
        vec![
            a.login.clone(),
            a.display_name.clone(),
            a.kind.word().into(),
            a.role.word().into(),
            sign_in.into(),
            a.groups.join(", "),
            a.workstations.to_string(),
            limit(a.quota),
        ]
    };
    let heads = ["login", "name", "kind", "role", "signs in", "groups", "workstations", "quota"];
    ui.table(&heads, accounts.iter().map(row).collect(), &[6, 7], "There is no account.");
}

fn say_account(a: &AccountRecord, ties: &AccountTies, ui: &Ui) {
    say_accounts(std::slice::from_ref(a), ui);
    ui.line("");
    if let Some(since) = a.disabled {
        ui.line(&format!("Disabled since {}.", moment(since)));
    }
    if a.kind == AccountKind::Shared {
        ui.line("It is shared: whoever knows its password sees and restores the backups of all its workstations.");
    }
    ui.line(&format!("Signed in: {}. Unused enrolment codes: {}.", sessions(ties), ties.unused_codes));
    if !ties.workstations.is_empty() {
        ui.line("");
        say_tied(ties, ui);
    }
}

fn say_tied(ties: &AccountTies, ui: &Ui) {
    let now = jiff::Timestamp::now();
    let row = |w: &jetfrost_wire::people::TiedWorkstation| {
        vec![
            w.name.clone(),
            w.destination.clone(),
            w.points.to_string(),
            w.latest.map_or_else(|| "–".into(), |latest| ago(latest, now)),
            w.bytes.map_or_else(|| "–".into(), show),
        ]
    };
    let heads = ["workstation", "destination", "points", "latest", "size"];
    ui.table(&heads, ties.workstations.iter().map(row).collect(), &[2, 4], "");
}

fn sessions(ties: &AccountTies) -> String {
    format!("{} and {} of commands", many(ties.browsers, "browser"), many(ties.tokens, "token"))
}

fn say_stopped(ties: &AccountTies, ui: &Ui) {
    let names: Vec<&str> = ties.workstations.iter().map(|w| w.name.as_str()).collect();
    if !names.is_empty() {
        ui.line(&format!("No more backups from: {}.", names.join(", ")));
    }
}

pub(crate) fn say_password_set(login: &str, can_sign_in: bool, set: &PasswordSet, ui: &Ui) {
    let ended = many(set.signed_out, "session");
    ui.line(&if can_sign_in {
        format!("The password of '{login}' was set; {ended} signed in with the old one ended.")
    } else {
        format!("Nobody signs in with '{login}' any more; {ended} ended.")
    });
    if !set.unaffected.is_empty() {
        ui.line(&format!("Its workstations go on, each has a credential of its own: {}.", set.unaffected.join(", ")));
    }
}
