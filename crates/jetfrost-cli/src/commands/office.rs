//! What an administrator manages.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::ClientError;
use jetfrost_client::api::Api;
use jetfrost_client::home::{Home, Session};
use jetfrost_wire::destination::{Destination as DestinationRecord, NewDestination, TryDirectory, Verdict};
use jetfrost_wire::enrolment::{EnrolmentCode, IssuedCode, NewEnrolmentCode};
use jetfrost_wire::keeping::Keeping;
use jetfrost_wire::people::{Account as AccountRecord, Group as GroupRecord, GroupLogins, NewAccount, NewGroup, Role};
use jetfrost_wire::restore::Restore;
use jetfrost_wire::run::Run;
use jetfrost_wire::service::{Carry, FirstAdministrator, ServiceInfo, SignIn as SignInCall, SignedIn};
use jetfrost_wire::size::{parse, show};
use jetfrost_wire::workstation::{Overview, Point, WayIn, Workstation as WorkstationRecord};
use jiff::Timestamp;
use serde_json::json;

use super::keeping::{self, DestinationChange, Limit, WorkstationChange};
use super::{machine, ways_in, words};
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, ago, count, moment};

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
    /// The fingerprint of the service's certificate, if you have it; otherwise you are asked to compare it.
    #[arg(long, value_name = "SHA-256")]
    fingerprint: Option<String>,
    /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
}

impl SignIn {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let fingerprint = self.known_fingerprint(home, ui)?;
        let api = Api::new(&self.address, Some(&fingerprint))?;
        let given = Given { file: self.password_file.as_deref(), option: "--password-file", variable: "JETFROST_PASSWORD" };
        let what = format!("the password of account '{}'", self.login);
        let password = ui.secret(&what, &given, self.first.is_some())?;
        if let Some(code) = self.first {
            let new = FirstAdministrator { code, login: self.login.clone(), password: password.clone() };
            let _: AccountRecord = api.post("/first-administrator", &new)?;
        }
        let label = Some(format!("jetfrost on {}", jetfrost_client::join::host_name()));
        let call = SignInCall { login: self.login, password, carry: Carry::Token, label };
        let signed_in: SignedIn = api.post("/sessions", &call)?;
        let token = signed_in.token.ok_or_else(|| ClientError::Unexpected("no token".into()))?;
        home.keep_session(&Session { address: self.address, fingerprint, login: signed_in.account.login.clone(), token })?;
        ui.show(&signed_in.account, |account| {
            ui.line(&format!("Signed in as {} ({}), until {}.", account.login, account.role.word(), moment(signed_in.expires)));
        });
        Ok(Code::Done)
    }

    /// The fingerprint: given, known from before, or compared by the person.
    fn known_fingerprint(&self, home: &Home, ui: &Ui) -> Result<String, Failure> {
        if let Some(fingerprint) = &self.fingerprint {
            return Ok(fingerprint.to_lowercase().replace(':', ""));
        }
        let known = home.session_api().map(|(s, _)| (s.address, s.fingerprint)).into_iter();
        let joined = home.membership().map(|m| (m.address, m.fingerprint)).into_iter();
        if let Some((_, fingerprint)) = known.chain(joined).find(|(address, _)| *address == self.address) {
            return Ok(fingerprint);
        }
        let api = Api::new(&self.address, None)?;
        let _: ServiceInfo = api.get("/service")?;
        let found = api.fingerprint().unwrap_or_default();
        ui.remark(&format!("{} shows a certificate with this fingerprint (SHA-256):\n  {found}", self.address));
        if ui.agrees("Is it the one that the service printed when it started?") {
            Ok(found)
        } else {
            Err(Failure::here(
                "The service's certificate was not confirmed.",
                format!("Compare it, then add: --fingerprint {found}"),
            ))
        }
    }
}

pub(crate) fn sign_out(home: &Home, ui: &Ui) -> Done {
    let (_, api) = home.session_api()?;
    match api.delete("/sessions/current") {
        // A session that is over already is what was wanted.
        Ok(()) | Err(ClientError::Refused(_)) => {}
        Err(error) => return Err(error.into()),
    }
    home.forget_session()?;
    ui.line("Signed out.");
    Ok(Code::Done)
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum RoleName {
    Administrator,
    Helpdesk,
    Member,
}

impl From<RoleName> for Role {
    fn from(name: RoleName) -> Self {
        match name {
            RoleName::Administrator => Self::Administrator,
            RoleName::Helpdesk => Self::Helpdesk,
            RoleName::Member => Self::Member,
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
        /// What it may do.
        #[arg(long, default_value = "member")]
        role: RoleName,
        /// Makes no password: the account only owns workstations, nobody signs in with it.
        #[arg(long, conflicts_with = "password_file")]
        no_sign_in: bool,
        /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Sets an account's quota.
    Set {
        /// Login name.
        login: String,
        /// What all its image stores may occupy together, such as 500GB, or 'none'.
        #[arg(long, value_name = "SIZE")]
        quota: Limit,
    },
}

impl Account {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::List => {
                let accounts: Vec<AccountRecord> = api.list("/accounts")?;
                ui.show(&accounts, |accounts| {
                    let row = |a: &AccountRecord| {
                        let sign_in = if a.can_sign_in { "yes" } else { "no" };
                        let role = a.role.word().to_owned();
                        vec![
                            a.login.clone(),
                            a.display_name.clone(),
                            role,
                            sign_in.into(),
                            a.groups.join(", "),
                            a.workstations.to_string(),
                            limit(a.quota),
                        ]
                    };
                    let heads = ["login", "name", "role", "signs in", "groups", "workstations", "quota"];
                    ui.table(&heads, accounts.iter().map(row).collect(), &[5, 6], "There is no account.");
                });
            }
            Self::Add { login, name, role, no_sign_in, password_file } => {
                let given = Given { file: password_file.as_deref(), option: "--password-file", variable: "JETFROST_PASSWORD" };
                let what = format!("a new password for account '{login}'");
                let password = if no_sign_in { None } else { Some(ui.secret(&what, &given, true)?) };
                let new = NewAccount { login, display_name: name, role: role.into(), password };
                let account: AccountRecord = api.post("/accounts", &new)?;
                ui.show(&account, |a| {
                    ui.line(&format!("Account '{}' ({}) was added.", a.login, a.role.word()));
                    ui.line(&format!("Next: a code for the person's machine:  jetfrost enrolment add {}", a.login));
                });
            }
            Self::Set { login, quota } => return keeping::set_account(&api, &login, quota, ui),
        }
        Ok(Code::Done)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Group {
    /// Lists groups.
    List,
    /// Adds a group.
    Add {
        /// Its name.
        name: String,
    },
    /// Sets who is in a group.
    Fill {
        /// Its name.
        name: String,
        /// Login names of all its accounts.
        logins: Vec<String>,
    },
}

impl Group {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::List => {
                let groups: Vec<GroupRecord> = api.list("/groups")?;
                ui.show(&groups, |groups| {
                    let rows = groups.iter().map(|g| vec![g.name.clone(), g.logins.join(", ")]).collect();
                    ui.table(&["group", "accounts"], rows, &[], "There is no group yet. Next: jetfrost group add NAME");
                });
            }
            Self::Add { name } => {
                let group: GroupRecord = api.post("/groups", &NewGroup { name })?;
                ui.show(&group, |g| {
                    ui.line(&format!("Group '{}' was added. Next: jetfrost group fill '{}' LOGIN…", g.name, g.name));
                });
            }
            Self::Fill { name, logins } => {
                let groups: Vec<GroupRecord> = api.list("/groups")?;
                let same = |g: &&GroupRecord| g.name.to_lowercase() == name.to_lowercase();
                let missing = || Failure::here(format!("There is no group '{name}'."), "See 'jetfrost group list'.");
                let group = groups.iter().find(same).ok_or_else(missing)?;
                let filled: GroupRecord = api.send(put(), &format!("/groups/{}/logins", group.id), &GroupLogins { logins })?;
                ui.show(&filled, |g| {
                    ui.line(&format!("Group '{}' has {} accounts: {}", g.name, g.logins.len(), g.logins.join(", ")));
                });
            }
        }
        Ok(Code::Done)
    }
}

fn put() -> jetfrost_client::api::Method {
    jetfrost_client::api::Method::PUT
}

#[derive(Debug, Subcommand)]
pub(crate) enum Destination {
    /// Lists destinations.
    List,
    /// Says whether a directory of the server would do; changes nothing.
    Try {
        /// An absolute path on the server.
        directory: String,
    },
    /// Adds a destination.
    Add {
        /// Its name.
        name: String,
        /// An absolute path on the server.
        directory: String,
        /// What it may hold, such as 2TB; no limit unless given.
        #[arg(long, value_parser = parse)]
        capacity: Option<u64>,
        /// What its volume must keep free; a twentieth of the volume unless given.
        #[arg(long, value_parser = parse)]
        reserve: Option<u64>,
        /// Which points are kept: 'everything', or for example '72 hours, 30 days, 12 weeks, 24 months, at least 3'.
        #[arg(long, value_name = "WHAT")]
        keep: Option<Keeping>,
    },
    /// Sets a destination's limits, what it keeps, and what happens at a limit.
    Set {
        /// Its name.
        name: String,
        #[command(flatten)]
        change: DestinationChange,
    },
}

impl Destination {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::List => {
                let destinations: Vec<DestinationRecord> = api.list("/destinations")?;
                ui.show(&destinations, |destinations| say_destinations(destinations, ui));
            }
            Self::Try { directory } => {
                let verdict: Verdict = api.post("/destinations/try", &TryDirectory { directory })?;
                ui.show(&verdict, |v| {
                    ui.line(if v.fit { "It would do." } else { "It does not do." });
                    v.reasons.iter().for_each(|reason| ui.line(&format!("  {reason}")));
                    if v.size > 0 {
                        ui.line(&format!(
                            "  volume at {} ({}): {} free of {}",
                            v.mounted_at,
                            v.file_system,
                            show(v.free),
                            show(v.size)
                        ));
                    }
                });
                return Ok(if verdict.fit { Code::Done } else { Code::Failed });
            }
            Self::Set { name, change } => return keeping::set_destination(&api, &name, &change, ui),
            Self::Add { name, directory, capacity, reserve, keep } => {
                let new = NewDestination { name, directory, capacity, reserve, keeping: keep, at_limit: None };
                let destination: DestinationRecord = api.post("/destinations", &new)?;
                ui.show(&destination, |d| {
                    ui.line(&format!(
                        "Destination '{}' is ready at {}: room for {}.",
                        d.name,
                        d.directory,
                        d.room.map_or_else(|| "–".into(), show)
                    ));
                    ui.line(&format!("Capacity: {}. Reserve: {}.", limit(d.capacity), show(d.reserve)));
                    ui.line(&format!("Keeps {}; change that with: jetfrost destination set '{}' --keep WHAT", d.keeping, d.name));
                });
            }
        }
        Ok(Code::Done)
    }
}

fn say_destinations(destinations: &[DestinationRecord], ui: &Ui) {
    let row = |d: &DestinationRecord| {
        let size = |bytes: Option<u64>| bytes.map_or_else(|| "–".into(), show);
        let state = words::destination(d.state).to_owned();
        vec![
            d.name.clone(),
            state,
            size(d.used),
            limit(d.capacity),
            show(d.reserve),
            size(d.room),
            d.stores.to_string(),
            d.directory.clone(),
        ]
    };
    let heads = ["destination", "state", "used", "capacity", "reserve", "room", "stores", "directory"];
    let empty = "There is no destination yet. Next: jetfrost destination add NAME DIRECTORY";
    ui.table(&heads, destinations.iter().map(row).collect(), &[2, 3, 4, 5, 6], empty);
}

fn limit(bytes: Option<u64>) -> String {
    bytes.map_or_else(|| "no limit".into(), show)
}

#[derive(Debug, Subcommand)]
pub(crate) enum Enrolment {
    /// Lists enrolment codes, without the codes themselves.
    List,
    /// Makes an enrolment code for an account.
    Add {
        /// Login name of the account that the machine will belong to.
        login: String,
        /// The destination of its image store; may be left out when there is only one.
        #[arg(long)]
        destination: Option<String>,
        /// Hours until the code ends, 1 to 720.
        #[arg(long, default_value_t = 48)]
        hours: u16,
    },
    /// Cancels an open enrolment code.
    Cancel {
        /// Its id, from the list.
        id: String,
    },
}

impl Enrolment {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::List => {
                let codes: Vec<EnrolmentCode> = api.list("/enrolment-codes")?;
                ui.show(&codes, |codes| {
                    let row = |c: &EnrolmentCode| {
                        let workstation = c.workstation.clone().unwrap_or_default();
                        let state = words::code(c.state).to_owned();
                        vec![c.id.0.clone(), c.login.clone(), c.destination.clone(), state, moment(c.expires), workstation]
                    };
                    let heads = ["id", "for", "destination", "state", "ends", "workstation"];
                    ui.table(
                        &heads,
                        codes.iter().map(row).collect(),
                        &[],
                        "No code was made yet. Next: jetfrost enrolment add LOGIN",
                    );
                });
            }
            Self::Add { login, destination, hours } => {
                let new = NewEnrolmentCode { login, destination, hours: Some(hours) };
                let issued: IssuedCode = api.post("/enrolment-codes", &new)?;
                ui.show(&issued, |i| {
                    ui.line(&format!("For a machine of {}, until {}, once:", i.record.login, moment(i.record.expires)));
                    ui.line(&format!("  {}", i.code));
                    ui.line("On that machine:  jetfrost join CODE");
                });
            }
            Self::Cancel { id } => {
                api.delete(&format!("/enrolment-codes/{id}"))?;
                ui.line("The code was cancelled.");
            }
        }
        Ok(Code::Done)
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Workstation {
    /// Lists workstations; what needs attention comes first.
    List,
    /// Shows one workstation with its points and history.
    Show {
        /// Its name.
        name: String,
    },
    /// Sets its image store's limit, and what is kept of it.
    Set {
        /// Its name.
        name: String,
        #[command(flatten)]
        change: WorkstationChange,
    },
}

impl Workstation {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        match self {
            Self::List => {
                let overview: Overview = api.get("/overview")?;
                ui.show(&overview.workstations, |workstations| say_workstations(workstations, overview.now, ui));
            }
            Self::Show { name } => show_workstation(&api, &keeping::workstation(&api, &name)?, ui)?,
            Self::Set { name, change } => {
                return keeping::set_workstation(&api, &keeping::workstation(&api, &name)?, &change, ui);
            }
        }
        Ok(Code::Done)
    }
}

fn say_workstations(workstations: &[WorkstationRecord], now: Timestamp, ui: &Ui) {
    let row = |w: &WorkstationRecord| {
        let point = w.latest_point.as_ref();
        let run = w.latest_run.as_ref().map_or_else(String::new, |run| words::outcome(run.outcome));
        vec![
            w.name.clone(),
            w.person.clone(),
            words::workstation(w.state).into(),
            point.map_or_else(|| "–".into(), |p| ago(p.created, now)),
            point.map_or_else(|| "–".into(), |p| show(p.bytes)),
            w.store.used.map_or_else(|| "–".into(), show),
            run,
        ]
    };
    let heads = ["workstation", "person", "state", "last point", "size", "store", "last run"];
    let empty = "There is no workstation yet. Next: jetfrost enrolment add LOGIN";
    ui.table(&heads, workstations.iter().map(row).collect(), &[4, 5], empty);
}

fn show_workstation(api: &Api, w: &WorkstationRecord, ui: &Ui) -> Result<(), Failure> {
    let now = Timestamp::now();
    let points: Vec<Point> = api.list(&format!("/workstations/{}/points", w.id))?;
    let runs: Vec<Run> = api.list(&format!("/workstations/{}/runs", w.id))?;
    let restores: Vec<Restore> = api.list(&format!("/workstations/{}/restores", w.id))?;
    let ways: Vec<WayIn> = api.list(&format!("/stores/{}/ways-in", w.store.id))?;
    let value = json!({ "workstation": w, "points": points, "runs": runs, "restores": restores, "ways_in": ways });
    ui.show(&value, |_| {
        let disk = w.disk_bytes.map_or_else(String::new, |bytes| format!(", disk {}", show(bytes)));
        ui.line(&format!("{} of {} ({}): {}", w.name, w.person, w.login, words::workstation(w.state)));
        ui.line(&format!("{}{disk}, client {}", w.platform, w.client_version));
        let used = w.store.used.map_or_else(|| "–".into(), show);
        ui.line(&format!("{} points in {used} on '{}', encrypted on the workstation", points.len(), w.store.destination_name));
        if let (Some(latest), Some(earliest)) = (points.first(), points.last()) {
            let size = format!("{} files, {}", count(latest.files), show(latest.bytes));
            ui.line(&format!("latest {} ({size}), earliest {}", ago(latest.created, now), moment(earliest.created)));
        }
        keeping::say_store(w, ui);
        ui.line("");
        ways_in::say(&ways, ui);
        ui.line("");
        machine::say_history(&runs[..runs.len().min(15)], &restores[..restores.len().min(15)], ui);
    });
    Ok(())
}
