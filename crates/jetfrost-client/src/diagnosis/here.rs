//! What this machine itself has and lacks.

use std::net::IpAddr;
use std::time::Duration;

use jetfrost_platform::{LinkKind, Network, System};
use jetfrost_wire::calls;
use jetfrost_wire::problem::WhoseMove;
use jetfrost_wire::run::{Outcome, Run};
use jetfrost_wire::size::show;
use jetfrost_wire::workstation::{PointKind, Workstation};
use jiff::Timestamp;

use super::{Advice, Found, Tried, is_new};
use crate::agent::{Ask, Doing, ask};
use crate::api::Api;
use crate::error::ClientError;
use crate::estimate::estimate;
use crate::selection::Selection;
use crate::state_dir::{Membership, StateDir};

/// The next backup is likely to send as much as the largest of so many before it.
const RUNS: usize = 20;

pub(super) fn joined(state_dir: &StateDir) -> Tried<Membership> {
    let membership = state_dir.membership()?;
    let says = format!(
        "This machine is workstation '{}', with its image store on '{}' at {}.",
        membership.name, membership.destination, membership.address
    );
    Ok((membership, Found::Passed(says)))
}

pub(super) fn keys(state_dir: &StateDir, membership: &Membership) -> Tried<()> {
    match state_dir.keys(membership).and_then(|_| state_dir.key_place()) {
        Ok(place) => Ok(((), Found::Passed(format!("The store key is {place}: backups need no passphrase.")))),
        Err(ClientError::StoreKey(why)) => Err(Found::InTheWay(Advice::to(
            WhoseMove::Workstation,
            sentence(why),
            "Put it back with the image passphrase or the recovery key: jetfrost unlock",
        ))),
        Err(error) => Err(error.into()),
    }
}

/// The text of an error as a sentence.
fn sentence(text: &str) -> String {
    let mut rest = text.chars();
    rest.next().map(|first| format!("{}{}.", first.to_uppercase(), rest.as_str())).unwrap_or_default()
}

/// What is included. Names of what is not there go to `missing`.
pub(super) fn sources(state_dir: &StateDir, missing: &mut Vec<String>) -> Tried<Selection> {
    let selection = state_dir.selection()?;
    let kinds = selection.kinds();
    if kinds.is_empty() {
        return Err(ClientError::NothingIncluded.into());
    }
    missing.extend(kinds.iter().flat_map(|kind| selection.missing(*kind)).map(|path| path.display().to_string()));
    let is_nothing_left = |kind: &PointKind| selection.missing(*kind).len() == selection.of_kind(*kind).len();
    let (gone, of) = (missing.len(), selection.folders.len() + selection.disks.len());
    let advice = |says: String| {
        let next = "Mount its volume or put it back; take out what is gone for good: jetfrost include --drop FOLDER";
        Advice::to(WhoseMove::Workstation, says, next)
    };
    match gone {
        0 => {
            let says = format!("Everything that is included is there ({of} in all).");
            Ok((selection, Found::Passed(says)))
        }
        _ if gone == of => Err(Found::InTheWay(advice("Nothing of what is included is there.".into()))),
        _ if kinds.iter().any(is_nothing_left) => {
            Err(Found::InTheWay(advice("No included folder, or no included disk, is there.".into())))
        }
        _ => Ok((selection, Found::Noticed(advice(format!("{gone} of {of} included folders and disks are not there."))))),
    }
}

/// Bytes that a first backup has to send at most; none when there is a point already.
pub(super) fn room(
    state_dir: &StateDir,
    api: &Api,
    workstation: &Workstation,
    selection: &Selection,
    room: Option<u64>,
) -> Tried<Option<u64>> {
    let room = room.unwrap_or_default();
    if !is_new(workstation) {
        let runs: Vec<Run> = api.first(&calls::runs(&workstation.id), &[], RUNS)?;
        let most = runs.iter().filter(|run| run.outcome == Outcome::Complete).map(|run| run.progress.sent).max();
        return Ok((None, room_for_more(most.unwrap_or_default(), room)));
    }
    let files = if selection.folders.is_empty() {
        0
    } else {
        estimate(selection, workstation.schedule.values.exclude, state_dir.directory())?.included.bytes
    };
    let disks = crate::scan::count_disks(selection.disks.iter().map(|disk| disk.0.as_path())).1;
    first(files + disks, workstation.store.used.unwrap_or_default(), room)
}

/// A first backup of so many bytes, of which the service has some already. Those are compressed: what is left is no more than the rest.
fn first(bytes: u64, sent: u64, room: u64) -> Tried<Option<u64>> {
    let left = bytes.saturating_sub(sent);
    if left <= room {
        let says = format!("There is room for the first backup: up to {} to send, and {} free.", show(left), show(room));
        return Ok((Some(left), Found::Passed(says)));
    }
    Err(Found::InTheWay(Advice::to(
        WhoseMove::Administrator,
        format!("The first backup does not fit: up to {} to send, and room for {}.", show(left), show(room)),
        "Raise the limit that is reached first (jetfrost workstation show NAME names all of them), or leave something out here: jetfrost selection estimate",
    )))
}

fn room_for_more(most: u64, room: u64) -> Found {
    if most <= room {
        return Found::Passed(format!(
            "There is room for the next backup: the largest of late sent {}, and {} are free.",
            show(most),
            show(room)
        ));
    }
    Found::Noticed(Advice::to(
        WhoseMove::Administrator,
        format!("Room runs short: the largest backup of late sent {}, and there is room for {}.", show(most), show(room)),
        "Raise the limit that is reached first, or let the destination expire the oldest points: jetfrost workstation show NAME",
    ))
}

/// By what this machine is connected, and how long a first backup takes at the measured rate.
pub(super) fn network(own: IpAddr, first: Option<u64>, rate: f64) -> Tried<()> {
    let link = System::link_of(own).ok().flatten();
    let Some(link) = link else {
        return Ok(((), Found::Passed(format!("This machine's address towards the service is {own}."))));
    };
    let how = match link.kind {
        LinkKind::Wired => "Connected by cable",
        LinkKind::Wireless => "Connected by radio",
        LinkKind::SameMachine => "The service runs on this machine",
        LinkKind::Virtual => "Connected through a VPN or bridge",
    };
    let speed = link.bits_per_second.map_or_else(String::new, |bits| format!(", {} Mbit/s", bits / 1_000_000));
    let lasts = first.map_or_else(String::new, |bytes| {
        format!(" At the measured rate the first backup takes about {}.", span(bytes as f64 / rate.max(1.0)))
    });
    let says = format!("{how} ({}{speed}).{lasts}", link.interface);
    if link.kind == LinkKind::Wireless && first.is_some() {
        let next = "Make the first backup by cable if you can: it is faster and disturbs nobody.";
        return Ok(((), Found::Noticed(Advice::to(WhoseMove::Workstation, says, next))));
    }
    Ok(((), Found::Passed(says)))
}

fn span(seconds: f64) -> String {
    let minutes = (Duration::try_from_secs_f64(seconds).unwrap_or(Duration::MAX).as_secs() / 60).max(1);
    match minutes {
        0..120 => format!("{minutes} min"),
        120..2_880 => format!("{} h", minutes / 60),
        _ => format!("{} days", minutes / 1_440),
    }
}

/// Whether backups are made by themselves, and what is in the way of the next. Why the last one failed goes to `details`: it may name files.
pub(super) fn agent(state_dir: &StateDir, details: &mut Vec<String>) -> Tried<()> {
    match ask(state_dir, &Ask::Status) {
        Ok(status) => {
            details.extend(status.failed.as_ref().map(|failed| failed.why.clone()));
            Ok(((), as_it_is(&status.now, status.failed.map_or(0, |failed| failed.times))))
        }
        Err(ClientError::NoAgent) => {
            let next = "Let backups be made by themselves: jetfrost agent install";
            let advice = Advice::to(WhoseMove::Workstation, "No agent runs: backups are made by hand only.", next);
            Ok(((), Found::Noticed(advice)))
        }
        Err(error) => Err(error.into()),
    }
}

/// What an agent does, of which so many runs failed in a row.
fn as_it_is(now: &Doing, failures: u32) -> Found {
    let look = |says: String, next: &str| Found::Noticed(Advice::to(WhoseMove::Workstation, says, next));
    match now {
        _ if failures > 0 => {
            let says = if failures == 1 {
                "The agent runs, but the last backup failed.".to_owned()
            } else {
                format!("The agent runs, but the last {failures} backups failed.")
            };
            look(says, "See why, and how the next one does: jetfrost agent status, jetfrost agent start-now")
        }
        Doing::Waiting { due } => Found::Passed(format!("The agent runs; the next backup is due in {}.", until(*due))),
        Doing::BackingUp { .. } => Found::Passed("The agent is making a backup.".into()),
        Doing::Drilling { .. } => Found::Passed("The agent is rehearsing a restore.".into()),
        Doing::Delayed(delay) => {
            let why = delay.reason.word().replace('_', " ");
            look(
                format!("A backup is due, and has been waiting for {}: {why}.", since(delay.since)),
                "See what ends it: jetfrost agent status",
            )
        }
    }
}

fn until(due: Timestamp) -> String {
    span(due.duration_since(Timestamp::now()).as_secs_f64().max(0.0))
}

fn since(at: Timestamp) -> String {
    span(Timestamp::now().duration_since(at).as_secs_f64().max(0.0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_agent_whose_backups_fail_is_told_by_their_number() {
        let due = Doing::Waiting { due: Timestamp::now() };
        assert!(matches!(as_it_is(&due, 0), Found::Passed(_)));
        assert!(matches!(as_it_is(&due, 3), Found::Noticed(advice) if advice.says.contains("last 3 backups failed")));
    }

    #[test]
    fn room_is_judged_by_what_the_next_backup_sends() {
        assert!(matches!(room_for_more(5_000_000, 6_000_000), Found::Passed(_)));
        let Found::Noticed(advice) = room_for_more(5_000_000, 4_000_000) else { panic!("it runs short") };
        assert!(advice.says.contains("5.00 MB") && advice.says.contains("4.00 MB"), "{}", advice.says);
    }

    #[test]
    fn a_first_backup_that_broke_off_needs_room_for_the_rest_alone() {
        assert!(matches!(first(90, 50, 45), Ok((Some(40), Found::Passed(_)))));
        assert!(matches!(first(90, 0, 45), Err(Found::InTheWay(_))));
        assert!(matches!(first(10, 50, 0), Ok((Some(0), _))));
    }

    #[test]
    fn a_first_backup_is_foretold_in_the_unit_that_fits() {
        assert_eq!([span(20.0), span(3_000.0), span(20_000.0), span(1e6)], ["1 min", "50 min", "5 h", "11 days"]);
    }
}
