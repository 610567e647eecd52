//! `jetfrost workstation`: enrolled machines.

use super::store::{say_store, set_workstation, workstation_named};
use clap::Subcommand;
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_types::Limit;
use jetfrost_wire::calls;
use jetfrost_wire::diagnosis::LastDiagnosis;
use jetfrost_wire::point::Point;
use jetfrost_wire::restore::Restore;
use jetfrost_wire::run::{Outcome, Run};
use jetfrost_wire::schedule::NewPause;
use jetfrost_wire::size::show;
use jetfrost_wire::sizing::{AskAdvice, LimitAdvice};
use jetfrost_wire::workstation::{Overview, UnlockMethod, Wait, Workstation as WorkstationRecord};
use jiff::Timestamp;
use serde_json::json;

use crate::commands::administration::schedule::{sources_of, summary_of};
use crate::commands::administration::store::WorkstationChange;
use crate::commands::diagnosis::say_line;
use crate::commands::keys::unlock_method::say_unlock_methods;
use crate::commands::labels;
use crate::commands::limit::parse_limit;
use crate::commands::this_workstation::history::say_history;
use crate::commands::this_workstation::status::{said_of_drill, said_of_proof, said_of_suspect};
use crate::commands::time::moment_of;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, ago, many, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Workstation {
    /// Lists workstations; what needs attention comes first.
    List {
        /// Shows their agents instead: when each was seen, its version, failed runs, and who sets the schedule.
        #[arg(long)]
        agents: bool,
    },
    /// Shows one workstation with its points and history.
    Show {
        /// Its name.
        name: String,
    },
    /// Sets the limit and retention of a workstation's image store.
    Set {
        /// Its name.
        name: String,
        #[command(flatten)]
        change: WorkstationChange,
    },
    /// Shows what a limit would mean; changes nothing.
    Advise {
        /// Name of the workstation; leave it out for a planned machine.
        name: Option<String>,
        /// The limit to consider, or 'none'.
        #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
        limit: Option<Limit>,
        /// Size of the machine's disk [default: as reported by the machine].
        #[arg(long, value_name = "SIZE", value_parser = jetfrost_wire::size::parse)]
        disk: Option<u64>,
        /// The destination.
        #[arg(long)]
        destination: Option<String>,
    },
    /// Asks the workstation for a backup now. Its agent starts one as soon as it hears of it, also on battery.
    BackUp {
        /// Its name.
        name: String,
    },
    /// Shows what the workstation found out about itself last, with 'jetfrost diagnose'.
    Diagnosis {
        /// Its name.
        name: String,
    },
    /// Pauses the workstation's backups, 31 days at most. A run in progress finishes.
    Pause {
        /// Its name.
        name: String,
        /// End of the pause: 2026-11-24T06:00 by this machine's clock, or a duration such as 48h.
        #[arg(long, value_name = "TIME")]
        until: String,
    },
    /// Ends a pause.
    Resume {
        /// Its name.
        name: String,
    },
    /// Cuts the machine off. Its backups stay; an enrolment code with --claims hands them to another machine.
    Retire {
        /// Its name.
        name: String,
    },
}

impl Workstation {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::List { agents } => {
                let overview: Overview = api.call(&calls::overview())?;
                let say = if agents { say_agents } else { say_workstations };
                ui.show(&overview.workstations, |workstations| say(workstations, overview.now, ui));
            }
            Self::Show { name } => show_workstation(&api, &workstation_named(&api, &name)?, ui)?,
            Self::Advise { name, limit, disk, destination } => {
                let known = name.map(|name| workstation_named(&api, &name)).transpose()?;
                let as_it_is = known.as_ref().and_then(|w| w.store.limit);
                let ask = AskAdvice {
                    workstation: known.map(|w| w.id),
                    destination,
                    disk_bytes: disk,
                    limit: limit.map_or(as_it_is, Limit::bytes),
                };
                let advice: LimitAdvice = api.call_with(&calls::advise(), &ask)?;
                ui.show(&advice, |advice| advice.says.iter().for_each(|line| ui.line(line)));
            }
            Self::BackUp { name } => {
                let w = workstation_named(&api, &name)?;
                let asked: WorkstationRecord = api.call(&calls::ask_backup(&w.id))?;
                ui.show(&asked, |w| {
                    ui.line(&format!("'{}' was asked for a backup. {}", w.name, said_of_start(w, Timestamp::now())));
                });
            }
            Self::Diagnosis { name } => {
                let w = workstation_named(&api, &name)?;
                let last: LastDiagnosis = api.call(&calls::last_diagnosis(&w.id))?;
                ui.show(&last, |last| say_last(&w.name, last, ui));
            }
            Self::Pause { name, until } => {
                let w = workstation_named(&api, &name)?;
                let pause = NewPause { until: moment_of(&until)? };
                let paused: WorkstationRecord = api.call_with(&calls::pause_workstation(&w.id), &pause)?;
                ui.show(&paused, |w| {
                    ui.line(&format!("'{}' makes no backups until {}.", w.name, moment(pause.until)));
                    ui.line(&format!("To end the pause sooner:  jetfrost workstation resume {}", w.name));
                });
            }
            Self::Resume { name } => {
                let w = workstation_named(&api, &name)?;
                let resumed: WorkstationRecord = api.call(&calls::resume_workstation(&w.id))?;
                ui.show(&resumed, |w| ui.line(&format!("'{}' makes backups again.", w.name)));
            }
            Self::Retire { name } => {
                let w = workstation_named(&api, &name)?;
                let retired: WorkstationRecord = api.call(&calls::retire(&w.id))?;
                ui.show(&retired, |w| {
                    ui.line(&format!("'{}' is retired: its machine is cut off, its {} points stay.", w.name, w.store.points));
                    ui.line(&format!("Hand them to a machine with:  jetfrost enrolment add {} --claims '{}'", w.login, w.name));
                });
            }
            Self::Set { name, change } => {
                return set_workstation(&api, &workstation_named(&api, &name)?, &change, ui);
            }
        }
        Ok(Code::Done)
    }
}

/// When a backup that was asked for starts.
fn said_of_start(w: &WorkstationRecord, now: Timestamp) -> String {
    match &w.agent {
        None => "No agent has reported from it: nothing starts there. Next, at the workstation: jetfrost agent install".into(),
        Some(agent) if labels::is_silent(agent.seen, now) => {
            format!("Its agent was last seen {}: it starts when the machine is back.", ago(agent.seen, now))
        }
        Some(_) => format!("It starts within seconds. Next: jetfrost workstation show {}", w.name),
    }
}

const NO_WORKSTATION: &str = "There is no workstation yet. Next: jetfrost enrolment add LOGIN";

fn say_workstations(workstations: &[WorkstationRecord], now: Timestamp, ui: &Ui) {
    let row = |w: &WorkstationRecord| {
        let point = w.latest_point.as_ref();
        let run = w.latest_run.as_ref().map_or_else(String::new, |run| match run.outcome {
            // That it is complete goes without saying, and would not fit.
            Outcome::CompleteWithExceptions => "with exceptions".into(),
            outcome => labels::outcome(outcome),
        });
        vec![
            w.name.clone(),
            w.person.clone(),
            if w.store.suspect.is_some() { "suspect".into() } else { labels::workstation(w.state).to_owned() },
            labels::next_run(w, now),
            point.map_or_else(|| "–".into(), |p| ago(p.committed, now)),
            w.store.drilled.map_or_else(|| "never".into(), |at| ago(at, now)),
            point.map_or_else(|| "–".into(), |p| show(p.bytes)),
            w.store.used.map_or_else(|| "–".into(), show),
            run,
        ]
    };
    let heads = ["workstation", "person", "state", "next backup", "last point", "proven", "size", "store", "last run"];
    ui.table(&heads, workstations.iter().map(row).collect(), &[6, 7], NO_WORKSTATION);
}

fn say_agents(workstations: &[WorkstationRecord], now: Timestamp, ui: &Ui) {
    let row = |w: &WorkstationRecord| {
        let failed = if w.failures == 0 { "–".into() } else { many(w.failures, "run") };
        vec![
            w.name.clone(),
            labels::next_run(w, now),
            w.agent.as_ref().map_or_else(|| "never".into(), |agent| ago(agent.seen, now)),
            w.client_version.clone(),
            failed,
            sources_of(&w.schedule),
        ]
    };
    let heads = ["workstation", "next backup", "agent seen", "client", "failed since", "schedule set by"];
    ui.table(&heads, workstations.iter().map(row).collect(), &[], NO_WORKSTATION);
}

fn show_workstation(api: &Api, w: &WorkstationRecord, ui: &Ui) -> Result<(), Failure> {
    let now = Timestamp::now();
    let points: Vec<Point> = api.all(&calls::points(&w.id))?;
    let runs: Vec<Run> = api.all(&calls::runs(&w.id))?;
    let restores: Vec<Restore> = api.all(&calls::restores(&w.id))?;
    let waits: Vec<Wait> = api.all(&calls::waits(&w.id))?;
    let ways: Vec<UnlockMethod> = api.all(&calls::unlock_methods(&w.store.id))?;
    let value =
        json!({ "workstation": w, "points": points, "runs": runs, "restores": restores, "waits": waits, "unlock_methods": ways });
    ui.show(&value, |_| {
        let disk = w.disk_bytes.map_or_else(String::new, |bytes| format!(", disk {}", show(bytes)));
        ui.line(&format!("{} of {} ({}): {}", w.name, w.person, w.login, labels::workstation(w.state)));
        ui.line(&format!("{}{disk}, client {}", w.platform, w.client_version));
        let used = w.store.used.map_or_else(|| "–".into(), show);
        let encrypted = if w.store.encrypted { "encrypted on the workstation" } else { "not encrypted" };
        let points_in = many(points.len() as u64, "point");
        ui.line(&format!("{points_in} in {used} on '{}', {encrypted}", w.store.destination_name));
        if let (Some(latest), Some(earliest)) = (points.first(), points.last()) {
            let size = format!("{}, {}", many(latest.files, "file"), show(latest.bytes));
            ui.line(&format!("latest {} ({size}), earliest {}", ago(latest.committed, now), moment(earliest.committed)));
        }
        ui.line(&format!("agent: {}", labels::agent(w.agent.as_ref(), now)));
        say_asked(w, ui);
        ui.line(&format!("schedule: {}", summary_of(&w.schedule)));
        if let Some(suspect) = &w.store.suspect {
            ui.line(&format!("suspect: {}", said_of_suspect(suspect)));
        }
        ui.line(&format!("last drill: {}", said_of_drill(&w.store, now)));
        if w.store.encrypted {
            ui.line(&format!("last proof: {}", said_of_proof(&w.store, now)));
        }
        say_store(w, ui);
        ui.line("");
        say_unlock_methods(&ways, ui);
        ui.line("");
        say_history(first(&runs), first(&restores), first(&waits), ui);
    });
    Ok(())
}

/// So many lines of each kind fit in a summary; 'jetfrost history' and --json have all of them.
fn first<T>(of: &[T]) -> &[T] {
    &of[..of.len().min(15)]
}

/// What an administrator asked of it, and how its runs fared.
fn say_last(name: &str, last: &LastDiagnosis, ui: &Ui) {
    let (Some(at), Some(found)) = (last.at, &last.found) else {
        return ui.line(&format!("'{name}' was never diagnosed. Next, at the workstation: jetfrost diagnose"));
    };
    ui.line(&format!("'{name}', diagnosed {} ({})", ago(at, Timestamp::now()), moment(at)));
    found.steps.iter().for_each(|line| say_line(line, ui));
}

fn say_asked(w: &WorkstationRecord, ui: &Ui) {
    if let Some(asked) = &w.asked {
        ui.line(&format!("{} asked for a backup at {}; it has not started", asked.by, moment(asked.at)));
    }
    if let Some(paused) = &w.paused {
        ui.line(&format!("{} paused it until {}. Next: jetfrost workstation resume {}", paused.by, moment(paused.until), w.name));
    }
    if w.failures > 0 {
        ui.line(&format!("{} failed since the last complete one", many(w.failures, "run")));
    }
}
