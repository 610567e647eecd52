//! What the service says of this workstation, and what it does with a probe.

use std::time::Duration;

use bytes::Bytes;
use jetfrost_image::crypto::{Random, SystemRandom};
use jetfrost_wire::calls;
use jetfrost_wire::diagnosis::{DiagnosisLine, MOST_PROBE, StepResult};
use jetfrost_wire::problem::WhoseMove;
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::{ProvedWith, Workstation};
use jiff::Timestamp;

use super::{Advice, Found, Tried, is_new};
use crate::api::Api;
use crate::error::ClientError;
use crate::state_dir::{Membership, StateDir};

/// The first probe has so many bytes. Only where it is back soon a longer one follows, which tells the rate.
const SHORT_PROBE: usize = 64 << 10;
const SOON: Duration = Duration::from_millis(500);

/// This workstation, as the service knows it.
pub(super) fn credential(api: &Api, membership: &Membership) -> Tried<Workstation> {
    let workstation: Workstation = api.call(&calls::workstation(&membership.workstation))?;
    let says = format!("The service knows this machine as workstation '{}' of {}.", workstation.name, workstation.login);
    Ok((workstation, Found::Passed(says)))
}

/// What the service found, as this program's own findings.
pub(super) fn as_found(line: DiagnosisLine) -> Tried<()> {
    let advice = |says| Advice::to(line.whose_move.unwrap_or(WhoseMove::Administrator), says, line.next.unwrap_or_default());
    match line.result {
        StepResult::Passed => Ok(((), Found::Passed(line.says))),
        StepResult::Noticed => Ok(((), Found::Noticed(advice(line.says)))),
        StepResult::Failed => Err(Found::InTheWay(advice(line.says))),
    }
}

/// Bytes a second that the service takes, as measured.
pub(super) fn round_trip(api: &Api, membership: &Membership) -> Tried<f64> {
    let random = SystemRandom::default();
    let mut content = vec![0; SHORT_PROBE];
    random.fill(&mut content);
    let mut probe = Bytes::from(content);
    let (mut sent, mut fetched) = api.probe(&membership.workstation, &probe)?;
    if sent + fetched < SOON {
        let mut content = vec![0; MOST_PROBE];
        random.fill(&mut content);
        probe = Bytes::from(content);
        (sent, fetched) = api.probe(&membership.workstation, &probe)?;
    }
    let rate = |took: Duration| probe.len() as f64 / took.as_secs_f64().max(1e-6);
    let says = format!(
        "A probe of {} came back as it was: sent and made durable at {}/s, fetched at {}/s.",
        show(probe.len() as u64),
        show(rate(sent) as u64),
        show(rate(fetched) as u64)
    );
    Ok((rate(sent), Found::Passed(says)))
}

/// The service shows the latest point that this machine made.
pub(super) fn history(state_dir: &StateDir, workstation: &Workstation) -> Tried<()> {
    let seen = state_dir.seen()?.sequence;
    let shown = workstation.latest_point.as_ref().map_or(0, |point| point.sequence);
    if shown < seen {
        return Err(ClientError::RolledBack { shown, seen }.into());
    }
    let says = match &workstation.latest_point {
        None => "There is no recovery point yet.".to_owned(),
        Some(point) => format!("The latest recovery point is {}, made on {}.", point.sequence, day(point.committed)),
    };
    Ok(((), Found::Passed(says)))
}

pub(super) fn drill(workstation: &Workstation) -> Tried<()> {
    let store = &workstation.store;
    let found = match (store.drill_failed, store.drilled) {
        (Some(failed), _) => Found::Noticed(Advice::to(
            WhoseMove::Workstation,
            format!("The drill on {} did not restore everything exactly.", day(failed)),
            "See what it finds now: jetfrost drill",
        )),
        (None, Some(at)) => Found::Passed(format!("A drill restored files exactly on {}.", day(at))),
        (None, None) if is_new(workstation) => Found::Passed("There is nothing to drill yet.".into()),
        (None, None) => Found::Noticed(Advice::to(
            WhoseMove::Workstation,
            "No drill has shown yet that files come back.",
            "Rehearse a restore: jetfrost drill",
        )),
    };
    Ok(((), found))
}

pub(super) fn proof(workstation: &Workstation) -> Tried<()> {
    let store = &workstation.store;
    let last = store.proof.map(|proof| {
        let with = match proof.secret {
            ProvedWith::Passphrase => "the image passphrase",
            ProvedWith::RecoveryKey => "the recovery key",
            ProvedWith::OfficeKey => "the office key",
        };
        format!("A person proved on {} that {with} works", day(proof.at))
    });
    let found = match (last, store.proof_due) {
        _ if !store.encrypted => Found::Passed("The image store is not encrypted; there is no secret to prove.".into()),
        (Some(last), None) => Found::Passed(format!("{last}.")),
        (None, None) => Found::Passed("No proof of the passphrase or recovery key is due yet.".into()),
        (last, Some(due)) => Found::Noticed(Advice::to(
            WhoseMove::Workstation,
            format!(
                "{}, and a proof has been due since {}.",
                last.unwrap_or_else(|| "Nobody has proved the passphrase or recovery key yet".into()),
                day(due)
            ),
            "Prove that one of them still works: jetfrost unlock",
        )),
    };
    Ok(((), found))
}

fn day(at: Timestamp) -> String {
    at.strftime("%-d %B %Y").to_string()
}
