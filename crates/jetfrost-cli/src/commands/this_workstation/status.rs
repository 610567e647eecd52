//! `jetfrost status`: how this workstation is doing.

use jetfrost_client::ClientError;
use jetfrost_client::orders::{Verdict, received};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::point::SuspectPoint;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::{StoreSummary, Workstation};
use jiff::Timestamp;
use serde_json::json;

use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, ago, many, moment};

type Done = Result<Code, Failure>;

/// How the latest drill of an image store went.
pub(crate) fn said_of_drill(store: &StoreSummary, now: Timestamp) -> String {
    match (store.drill_failed, store.drilled) {
        (Some(failed), _) => format!("did not restore everything, {}. Next: jetfrost drill", ago(failed, now)),
        (None, Some(at)) => {
            format!("restored point {} exactly, {}", store.drilled_point.unwrap_or_default(), ago(at, now))
        }
        (None, None) => "none yet. Next, at the workstation: jetfrost drill".into(),
    }
}

/// When a person last proved that a secret unlocks an image store.
pub(crate) fn said_of_proof(store: &StoreSummary, now: Timestamp) -> String {
    let last = match &store.proof {
        Some(proof) => format!("{} proved {}", labels::proved_with(proof.secret), ago(proof.at, now)),
        None => "passphrase and recovery key were never proved".into(),
    };
    if store.proof_due.is_some() { format!("{last}; overdue. Next: jetfrost unlock") } else { last }
}

/// Which point is suspect, and what there is to go back to.
pub(crate) fn said_of_suspect(suspect: &SuspectPoint) -> String {
    let good = suspect.last_good.as_ref().map(|good| format!("last good point: {}", good.sequence));
    let good = good.unwrap_or_else(|| "no good point before it".into());
    format!("point {} {}; {good}; all older points are kept", suspect.point.sequence, labels::suspicion(suspect.point.suspicion))
}

/// How many orders wait for somebody here to say something; none where that cannot be found out, as without the store key.
fn orders_that_ask(state_dir: &StateDir) -> Option<usize> {
    let received = received(state_dir).ok()?;
    Some(received.iter().filter(|order| order.verdict == Verdict::Ask).count())
}

pub(crate) fn status(state_dir: &StateDir, ui: &Ui) -> Done {
    let (membership, api) = state_dir.device_api()?;
    let workstation: Workstation = api.call(&calls::workstation(&membership.workstation))?;
    let mut said = serde_json::to_value(&workstation).map_err(|e| ClientError::Unexpected(e.to_string()))?;
    // What this machine knows beside the service.
    let place = state_dir.key_place();
    said["store_key"] = json!(place.as_ref().ok());
    let asking = orders_that_ask(state_dir);
    said["orders_asking"] = json!(asking);
    ui.show(&said, |_| {
        let w = &workstation;
        let now = Timestamp::now();
        ui.line(&format!("workstation  {} of {} ({})", w.name, w.person, w.login));
        ui.line(&format!(
            "service      {} (identity {}…)",
            membership.address,
            membership.fingerprint.get(..16).unwrap_or_default()
        ));
        ui.line(&format!("destination  {}, {}", w.store.destination_name, labels::destination(w.store.destination_state)));
        ui.line(&format!("state        {}", labels::workstation(w.state)));
        match &w.latest_point {
            Some(point) => {
                let made = format!("{} ({})", ago(point.committed, now), moment(point.committed));
                ui.line(&format!(
                    "last point   {}, {made}, {}, {}",
                    point.sequence,
                    many(point.files, labels::noun(point.kind)),
                    show(point.bytes)
                ));
            }
            None => ui.line("last point   none yet. Next: jetfrost backup"),
        }
        if let Some(suspect) = &w.store.suspect {
            ui.line(&format!("suspect      {}", said_of_suspect(suspect)));
        }
        if let Some(run) = &w.latest_run {
            ui.line(&format!("last run     {}, {}", labels::outcome(run.outcome), ago(run.started, now)));
        }
        ui.line(&format!("agent        {}", labels::agent(w.agent.as_ref(), now)));
        if let Some(asking) = asking.filter(|asking| *asking > 0) {
            ui.line(&format!(
                "orders       {} for you. Next: jetfrost order list",
                if asking == 1 { "one waits".into() } else { format!("{asking} wait") }
            ));
        }
        ui.line(&format!("last drill   {}", said_of_drill(&w.store, now)));
        if w.store.encrypted {
            let place = place.map_or_else(|error| format!("{error}. Next: jetfrost unlock"), |place| place.to_string());
            ui.line(&format!("store key    {place}"));
            ui.line(&format!("last proof   {}", said_of_proof(&w.store, now)));
        }
        ui.line(&format!(
            "image store  {}, {}, {}",
            w.store.used.map_or_else(|| "size unknown".into(), show),
            many(w.store.points, "point"),
            if w.store.encrypted {
                "encrypted on this workstation"
            } else {
                "NOT encrypted: whoever gets at its disk can read it"
            }
        ));
    });
    Ok(Code::Done)
}
