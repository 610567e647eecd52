//! `jetfrost store`: image stores, held, removed, undeleted.

use clap::{Args, Subcommand};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_types::Limit;
use jetfrost_wire::calls;
use jetfrost_wire::retention::{NewHold, Retention, StoreSettings};
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::{Overview, Workstation as WorkstationRecord};

use crate::commands::administration::removal::Now;
use crate::commands::limit::parse_limit;
use crate::commands::look_and_change;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, moment};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
#[group(required = true, multiple = true)]
pub(crate) struct WorkstationChange {
    /// Limit of the image store, such as 200GB, or 'none'.
    #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
    limit: Option<Limit>,
    /// Retention of this workstation, if not the destination's.
    #[arg(long, value_name = "WHAT", conflicts_with = "retention_as_destination")]
    retention: Option<Retention>,
    /// Use the destination's retention again.
    #[arg(long)]
    retention_as_destination: bool,
}

pub(crate) fn set_workstation(api: &Api, w: &WorkstationRecord, change: &WorkstationChange, ui: &Ui) -> Done {
    let set: WorkstationRecord = look_and_change(|| {
        let w: WorkstationRecord = api.call(&calls::workstation(&w.id))?;
        let own = w.store.retention_is_own.then_some(w.store.retention);
        let settings = StoreSettings {
            limit: change.limit.map_or(w.store.limit, Limit::bytes),
            retention: if change.retention_as_destination { None } else { change.retention.or(own) },
        };
        Ok(api.change(&calls::set_store(&w.store.id), &settings, &w.store.version)?)
    })?;
    ui.show(&set, |w| say_store(w, ui));
    Ok(Code::Done)
}

/// The limit and the rule of a workstation's store.
pub(crate) fn say_store(w: &WorkstationRecord, ui: &Ui) {
    let limit = w.store.limit.map_or_else(|| "no limit of its own".into(), show);
    let whose = if w.store.retention_is_own { "set for this workstation" } else { "as its destination" };
    ui.line(&format!("Image store of {}: {limit}; retention {} ({whose})", w.name, w.store.retention));
    if let Some(hold) = &w.store.hold {
        ui.line(&format!("held by {}: {}", hold.by, hold.reason));
    }
    if let Some(pending_removal) = &w.store.pending_removal {
        ui.line(&format!("removed by {}: gone for good on {}", pending_removal.by, moment(pending_removal.ends)));
        ui.line(&format!("Until then:  jetfrost store undelete {}", w.name));
    }
}

/// The workstation of that name.
pub(crate) fn workstation_named(api: &Api, name: &str) -> Result<WorkstationRecord, Failure> {
    let overview: Overview = api.call(&calls::overview())?;
    let same = |w: &WorkstationRecord| w.name.to_lowercase() == name.to_lowercase() || w.id.0 == name;
    let missing = || Failure::here(format!("There is no workstation '{name}'."), "See 'jetfrost workstation list'.");
    overview.workstations.into_iter().find(same).ok_or_else(missing)
}

#[derive(Debug, Subcommand)]
pub(crate) enum Store {
    /// Puts a hold on a workstation's image store: none of its points can be removed.
    Hold {
        /// The workstation's name.
        workstation: String,
        /// Why.
        #[arg(long)]
        because: String,
    },
    /// Takes the hold off.
    Release {
        /// The workstation's name.
        workstation: String,
    },
    /// Removes a workstation with its image store; both can be undeleted during the destination's waiting time.
    Remove {
        /// The workstation's name; asked for again unless given twice.
        workstation: String,
        /// The name again, to confirm.
        #[arg(long, value_name = "NAME")]
        confirm: String,
        #[command(flatten)]
        now: Now,
    },
    /// Undeletes a removed image store.
    Undelete {
        /// The workstation's name.
        workstation: String,
    },
    /// Removes an unlock method, but never the person's last one.
    RemoveUnlockMethod {
        /// The workstation's name.
        workstation: String,
        /// Id of the unlock method, as listed by 'jetfrost workstation show'.
        id: String,
    },
}

impl Store {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (session, api) = state_dir.session_api()?;
        let store = |name: &str| Ok::<_, Failure>(workstation_named(&api, name)?.store.id);
        let w: WorkstationRecord = match &self {
            Self::Hold { workstation, because } => {
                api.call_with(&calls::hold_store(store(workstation)?), &NewHold { reason: because.clone() })?
            }
            Self::Release { workstation } => api.call(&calls::release_store(store(workstation)?))?,
            Self::Remove { workstation, confirm, .. } if workstation != confirm => {
                return Err(Failure::here(
                    format!("'{workstation}' and '{confirm}' are not the same."),
                    "Nothing was removed. Give the workstation's name twice.",
                ));
            }
            Self::Remove { workstation, now, .. } if now.now => {
                return now.remove(&api, &session.login, &calls::remove_store_now(store(workstation)?), ui);
            }
            Self::Remove { workstation, .. } => api.call(&calls::remove_store(store(workstation)?))?,
            Self::Undelete { workstation } => api.call(&calls::undelete_store(store(workstation)?))?,
            Self::RemoveUnlockMethod { workstation, id } => {
                api.call(&calls::remove_slot(store(workstation)?, id))?;
                workstation_named(&api, workstation)?
            }
        };
        ui.show(&w, |w| say_store(w, ui));
        Ok(Code::Done)
    }
}
