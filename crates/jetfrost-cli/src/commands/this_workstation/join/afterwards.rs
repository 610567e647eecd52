//! What follows once a machine has joined: what is backed up, by whom, and when first. Nothing of it can undo the joining, so what goes
//! wrong here is told, and the rest goes on.

use std::time::{Duration, Instant};

use jetfrost_client::ClientError;
use jetfrost_client::agent::{Ask, ask};
use jetfrost_client::estimate::estimate;
use jetfrost_client::join::selection_to_go_on_with;
use jetfrost_client::selection::Selection;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::schedule::said_of_exclusions;
use jetfrost_wire::size::show;
use jiff::{ToSpan, Zoned};
use serde_json::json;

use super::answers::{Answers, FirstBackup};
use super::{Done, Entered};
use crate::commands::YesOrNo;
use crate::commands::this_workstation::agent::install;
use crate::commands::this_workstation::backup::first_backup;
use crate::commands::this_workstation::selection::excluded_by_office;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many, moment};

/// An agent that was just installed answers within this.
const ANSWERS: Duration = Duration::from_secs(15);
/// When tonight begins.
const EVENING: i8 = 20;

pub(super) fn set_up(joined: Entered, given: Selection, answers: &Answers, state_dir: &StateDir, ui: &Ui) -> Done {
    if let Some(failure) = joined.locked {
        ui.show(&joined.value, |_| {
            ui.line("Its image store is still locked. Next:  jetfrost unlock  (or with --recovery-key, or --office-key FILE)");
        });
        return Err(failure);
    }
    let selection = choose(&joined, given, state_dir, ui)?;
    let mut value = joined.value;
    if selection.is_empty() {
        value["included"] = json!(0);
        ui.show(&value, |_| ui.line("Next: choose what is backed up:  jetfrost include FOLDER"));
        return Ok(Code::Done);
    }
    state_dir.write_selection(&selection)?;
    value["included"] = json!(selection.folders.len() + selection.disks.len());
    let has_agent =
        wants(answers.agent, "Let backups be made by themselves (installs the agent)?", ui) && installed(state_dir, ui);
    value["agent"] = json!(has_agent);
    let code = begin(answers.first_backup, has_agent, state_dir, ui)?;
    ui.show(&value, |_| {
        ui.line(if has_agent {
            "Next: jetfrost agent status"
        } else {
            "Next: jetfrost backup, or for backups by themselves: jetfrost agent install"
        });
    });
    Ok(code)
}

/// What is to be backed up: as given, as it was before, or as a person agrees to; empty when nobody said.
fn choose(joined: &Entered, given: Selection, state_dir: &StateDir, ui: &Ui) -> Result<Selection, Failure> {
    if !given.is_empty() {
        return Ok(given);
    }
    let here = state_dir.selection()?;
    if !here.is_empty() {
        return Ok(here);
    }
    if joined.is_claimed {
        match selection_to_go_on_with(state_dir) {
            Ok(Some(before)) => return go_on_with(before, joined.is_encrypted, ui),
            Ok(None) => {}
            Err(error) => ui.remark(&format!("What was backed up before could not be read: {error}.")),
        }
    }
    if ui.is_terminal() { propose(state_dir, ui) } else { Ok(Selection::default()) }
}

/// The selection of before. Where the store has no secret, whoever runs the service could have made it up: a person has to agree.
fn go_on_with(before: Selection, is_encrypted: bool, ui: &Ui) -> Result<Selection, Failure> {
    ui.say("The backups of before tell what was included:");
    for folder in before.folders.iter().chain(&before.disks) {
        ui.say(&format!("  {}", folder.0.display()));
    }
    if is_encrypted || ui.agrees("Go on with the same? The image store is not encrypted, so this list is the service's word.") {
        ui.say("It goes on with that, and leaves out the same.  To change it:  jetfrost selection");
        return Ok(before);
    }
    ui.remark("Nothing is included. To include it:  jetfrost include FOLDER");
    Ok(Selection::default())
}

/// Proposes what a machine like this has, with what it comes to.
fn propose(state_dir: &StateDir, ui: &Ui) -> Result<Selection, Failure> {
    let proposed = Selection::proposed();
    if proposed.is_empty() {
        return Ok(proposed);
    }
    let folders: Vec<String> = proposed.folders.iter().map(|folder| folder.0.display().to_string()).collect();
    ui.say("");
    ui.say(&format!("Proposed for this machine: {}", folders.join(", ")));
    ui.say("without caches, the trash and what browsers fetch again.");
    ui.remark("Counting what that comes to…");
    let office = excluded_by_office(state_dir).unwrap_or_default();
    if !office.is_empty() {
        ui.say(&format!("An administrator {} as well.", said_of_exclusions(office)));
    }
    match estimate(&proposed, office, state_dir.directory()) {
        Ok(found) => {
            ui.say(&format!(
                "That is {} in {}; {} are left out.",
                show(found.included.bytes),
                many(found.included.files, "file"),
                show(found.excluded.bytes)
            ));
            for (path, bytes) in found.largest.iter().take(3) {
                ui.say(&format!("  {:>8}  {}", show(*bytes), path.display()));
            }
        }
        Err(error) => ui.remark(&format!("It could not be counted: {error}.")),
    }
    if ui.agrees_by_default("Back that up?") {
        return Ok(proposed);
    }
    let typed = ui.ask("Folders to back up instead, separated by ':' (empty for none yet)")?;
    let mut chosen = Selection { templates: proposed.templates, ..Selection::default() };
    for folder in typed.split(':').filter(|folder| !folder.is_empty()) {
        if let Err(error) = chosen.include(std::path::Path::new(folder)) {
            ui.remark(&format!("{error}; it is left out. To include it later:  jetfrost include FOLDER"));
        }
    }
    Ok(if chosen.folders.is_empty() { Selection::default() } else { chosen })
}

fn wants(answer: Option<YesOrNo>, question: &str, ui: &Ui) -> bool {
    match answer {
        Some(answer) => answer == YesOrNo::Yes,
        None => ui.is_terminal() && ui.agrees_by_default(question),
    }
}

fn installed(state_dir: &StateDir, ui: &Ui) -> bool {
    match install(state_dir) {
        Ok(unit) => {
            ui.say(&format!("Installed {}.", unit.display()));
            true
        }
        Err(failure) => {
            let words = failure.words();
            ui.remark(&format!("{} {}", words.what, words.next));
            false
        }
    }
}

/// The first backup: by the agent, which begins by itself, or here and now.
fn begin(when: Option<FirstBackup>, has_agent: bool, state_dir: &StateDir, ui: &Ui) -> Done {
    let when = when.or_else(|| {
        let asks = ui.is_terminal();
        let now = asks.then(|| ui.agrees_by_default("Make the first backup now?"));
        now.map(|now| if now { FirstBackup::Now } else { FirstBackup::Tonight })
    });
    match (when, has_agent) {
        (None, _) | (Some(FirstBackup::Now), true) => {
            if has_agent {
                ui.say("The agent makes the first backup within a minute.");
            }
            Ok(Code::Done)
        }
        (Some(FirstBackup::Now), false) => first_backup(state_dir, ui),
        (Some(FirstBackup::Tonight), true) => {
            let until = tonight(&Zoned::now());
            match pause(state_dir, until.timestamp()) {
                Ok(()) => ui.say(&format!("The agent makes the first backup tonight, from {} on.", moment(until.timestamp()))),
                Err(error) => ui.remark(&format!("The agent did not take that ({error}): it may begin within a minute.")),
            }
            Ok(Code::Done)
        }
        (Some(FirstBackup::Tonight), false) => {
            ui.remark("Without an agent nothing is made tonight: run jetfrost backup then.");
            Ok(Code::Done)
        }
    }
}

/// When this evening begins, or now within it.
fn tonight(now: &Zoned) -> Zoned {
    let evening = now.with().hour(EVENING).minute(0).second(0).subsec_nanosecond(0).build();
    evening.ok().filter(|evening| evening > now).unwrap_or_else(|| now + 1.second())
}

/// Pauses an agent that is only just starting.
fn pause(state_dir: &StateDir, until: jiff::Timestamp) -> Result<(), ClientError> {
    let end = Instant::now() + ANSWERS;
    loop {
        match ask(state_dir, &Ask::Pause { until }) {
            Err(ClientError::NoAgent) if Instant::now() < end => std::thread::sleep(Duration::from_millis(200)),
            other => return other.map(drop),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tonight_is_this_evening_or_at_once_when_it_is_late() {
        let at = |hour: i8| jiff::civil::date(2026, 11, 30).at(hour, 30, 0, 0).in_tz("UTC").expect("a time");
        assert_eq!(tonight(&at(9)).hour(), 20);
        assert_eq!((tonight(&at(21)).hour(), tonight(&at(21)).day()), (21, 30));
    }
}
