//! What an administrator manages.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use jetfrost_client::ClientError;
use jetfrost_client::api::{Api, Method};
use jetfrost_client::home::{Home, Session};
use jetfrost_wire::advice::{AskAdvice, LimitAdvice};
use jetfrost_wire::people::Account as AccountRecord;
use jetfrost_wire::problem::ProblemKind;
use jetfrost_wire::restore::Restore;
use jetfrost_wire::run::Run;
use jetfrost_wire::service::{Carry, FirstAdministrator, ServiceInfo, SignIn as SignInCall, SignedIn};
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::{Overview, Point, WayIn, Workstation as WorkstationRecord};
use jiff::Timestamp;
use serde_json::json;

use super::keeping::{self, Limit, WorkstationChange};
use super::{machine, ways_in, words};
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui, ago, many, moment};

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
    /// The code of the second factor; asked for when the account has one.
    #[arg(long)]
    code: Option<String>,
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
        let mut call = SignInCall { login: self.login, password, code: self.code, carry: Carry::Token, label };
        let signed_in: SignedIn = match api.post("/sessions", &call) {
            Err(ClientError::Refused(problem)) if problem.known_kind() == Some(ProblemKind::SecondFactorNeeded) => {
                call.code = Some(ui.ask("The code that your authenticator shows, or a spare code")?);
                api.post("/sessions", &call)?
            }
            other => other?,
        };
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
        ui.remark(&format!("{} has an identity with this fingerprint (SHA-256):\n  {found}", self.address));
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
    /// Says what a limit would mean; changes nothing.
    Advise {
        /// Its name; leave it out for a machine that is yet to come.
        name: Option<String>,
        /// The limit that is considered, or 'none'.
        #[arg(long, value_name = "SIZE")]
        limit: Option<Limit>,
        /// The machine's disk; as it said itself unless given.
        #[arg(long, value_name = "SIZE", value_parser = jetfrost_wire::size::parse)]
        disk: Option<u64>,
        /// The destination.
        #[arg(long)]
        destination: Option<String>,
    },
    /// Cuts its machine off. Its backups are kept, and a code with --claims hands them to another machine.
    Retire {
        /// Its name.
        name: String,
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
            Self::Advise { name, limit, disk, destination } => {
                let known = name.map(|name| keeping::workstation(&api, &name)).transpose()?;
                let as_it_is = known.as_ref().and_then(|w| w.store.limit);
                let ask = AskAdvice {
                    workstation: known.map(|w| w.id.0),
                    destination,
                    disk_bytes: disk,
                    limit: limit.map_or(as_it_is, Limit::bytes),
                };
                let advice: LimitAdvice = api.post("/advice/limit", &ask)?;
                ui.show(&advice, |advice| advice.says.iter().for_each(|line| ui.line(line)));
            }
            Self::Retire { name } => {
                let w = keeping::workstation(&api, &name)?;
                let retired: WorkstationRecord = api.send(Method::PUT, &format!("/workstations/{}/retired", w.id), &())?;
                ui.show(&retired, |w| {
                    ui.line(&format!("'{}' is retired: its machine is cut off, {} points are kept.", w.name, w.store.points));
                    ui.line(&format!("Hand them to a machine with:  jetfrost enrolment add {} --claims '{}'", w.login, w.name));
                });
            }
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
            point.map_or_else(|| "–".into(), |p| ago(p.committed, now)),
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
        let encrypted = if w.store.encrypted { "encrypted on the workstation" } else { "not encrypted" };
        let points_in = many(points.len() as u64, "point");
        ui.line(&format!("{points_in} in {used} on '{}', {encrypted}", w.store.destination_name));
        if let (Some(latest), Some(earliest)) = (points.first(), points.last()) {
            let size = format!("{}, {}", many(latest.files, "file"), show(latest.bytes));
            ui.line(&format!("latest {} ({size}), earliest {}", ago(latest.committed, now), moment(earliest.committed)));
        }
        ui.line(&format!("last drill: {}", machine::said_of_drill(&w.store, now)));
        keeping::say_store(w, ui);
        ui.line("");
        ways_in::say(&ways, ui);
        ui.line("");
        machine::say_history(&runs[..runs.len().min(15)], &restores[..restores.len().min(15)], ui);
    });
    Ok(())
}
