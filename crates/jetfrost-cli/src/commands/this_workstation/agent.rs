//! `jetfrost agent`: backups by schedule.

use std::path::PathBuf;
use std::sync::Arc;

use clap::{Args, Subcommand};
use jetfrost_client::agent::{Agent as Engine, AgentStatus, Ask, Delay, Doing, ThisMachine, ask};
use jetfrost_client::backup::Looked;
use jetfrost_client::state_dir::StateDir;
use jetfrost_platform::{Accounts, Registration, Started, System};
use jetfrost_types::DelayReason;
use jetfrost_wire::size;
use jiff::Timestamp;

use crate::commands::administration::schedule::say_schedule;
use crate::commands::labels;
use crate::commands::this_workstation::diagnose::as_told;
use crate::commands::time::moment_of;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, ago, many, moment, phase};

type Done = Result<Code, Failure>;

const NAME: &str = "jetfrost-agent";
const UNIT: &str = include_str!("../../../../../packaging/jetfrost-agent.service");

#[derive(Debug, Subcommand)]
pub(crate) enum Agent {
    /// Runs the agent in the foreground, until interrupted. The system starts it in this way.
    Run,
    /// Shows what the agent is doing, and what is in the way of a backup that is due.
    Status,
    /// Starts a backup now, even on battery or during a pause.
    StartNow,
    /// Starts no backups until a time, seven days at most. A run in progress finishes.
    Pause {
        /// End of the pause: 2026-11-24T06:00 by this machine's clock, or a duration such as 2h.
        #[arg(long, value_name = "TIME")]
        until: String,
    },
    /// Ends a pause.
    Resume,
    /// Has the system start the agent: for the whole machine when run as root, otherwise for this user.
    Install(Install),
    /// Ends the agent and no longer starts it. Settings, keys and backups stay.
    Uninstall(Install),
}

#[derive(Debug, Args)]
pub(crate) struct Install {
    /// The machine whose files lie below this directory, such as a mounted disk image. Nothing is started now.
    #[arg(long, value_name = "DIR")]
    root: Option<PathBuf>,
}

impl Install {
    fn started(&self) -> Started<'_> {
        match &self.root {
            Some(root) => Started::ForMachineBelow(root),
            None if System::is_administrator() => Started::ForMachine,
            None => Started::ForUser,
        }
    }
}

impl Agent {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        match self {
            Self::Run => run(state_dir, ui),
            Self::Status => show(state_dir, &Ask::Status, ui),
            Self::StartNow => show(state_dir, &Ask::StartNow, ui),
            Self::Pause { until } => show(state_dir, &Ask::Pause { until: moment_of(&until)? }, ui),
            Self::Resume => show(state_dir, &Ask::Resume, ui),
            Self::Install(install) => add(&install, state_dir, ui),
            Self::Uninstall(install) => remove(&install, state_dir, ui),
        }
    }
}

fn run(state_dir: &StateDir, ui: &Ui) -> Done {
    let agent = Arc::new(Engine::new(state_dir.clone(), ThisMachine::new(state_dir.clone(), as_told))?);
    let ended = Arc::clone(&agent);
    // Without a handler the process just ends, which harms nothing either.
    let _ = ctrlc::set_handler(move || ended.end());
    agent.run(|status| ui.show(status, |status| ui.line(&what_it_does(status, Timestamp::now()))))?;
    Ok(Code::Done)
}

fn show(state_dir: &StateDir, what: &Ask, ui: &Ui) -> Done {
    let status = ask(state_dir, what)?;
    ui.show(&status, |status| {
        let now = Timestamp::now();
        ui.line(&format!("agent        running since {} ({})", moment(status.started), status.version));
        ui.line(&format!("now          {}", what_it_does(status, now)));
        ui.line(&format!(
            "last run     {}",
            status
                .completed
                .map_or_else(|| "none complete yet".into(), |at| format!("complete, {} ({})", ago(at, now), moment(at)))
        ));
        match status.looked {
            Some(Looked::WhereChanged) => ui.line("looked       where something changed since the backup before"),
            Some(Looked::Everywhere) => ui.line("looked       at everything"),
            Some(Looked::EverywhereInTheEnd) => {
                ui.line("looked       at everything: files had changed of which the system told nothing");
                ui.line("             It is not believed until the agent starts again.");
            }
            None => {}
        }
        if let Some(failed) = &status.failed {
            let times = if failed.times == 1 { String::new() } else { format!(", {} times in a row", failed.times) };
            ui.line(&format!("failed       {}{times}: {}", ago(failed.at, now), failed.why));
        }
        if let Some(why) = &status.after_failed {
            ui.line(&format!("after        the command after the backup failed: {why}. The point stands."));
        }
        if let Some(suspect) = &status.suspect {
            let looks = labels::suspicion(suspect.suspicion);
            ui.line(&format!(
                "suspect      {}: point {} {looks}. Next: jetfrost status",
                ago(suspect.committed, now),
                suspect.sequence
            ));
        }
        if let Some(progress) = &status.order {
            let (files, bytes) = (many(progress.files_done, "file"), size::show(progress.bytes_done));
            ui.line(&format!(
                "order        restoring what was ordered: {files}, {bytes} so far. To stop it: jetfrost order list"
            ));
        }
        if let Some(why) = &status.orders_trouble {
            ui.line(&format!("orders       cannot be looked at: {why}. It is tried again within a minute."));
        }
        if let Some(until) = status.paused_until {
            ui.line(&format!("paused       until {}. Next: jetfrost agent resume", moment(until)));
        }
        if let Some(until) = status.paused_by_office_until {
            ui.line(&format!("paused       until {} by an administrator", moment(until)));
        }
        if let Some(queue) = &status.queue {
            ui.line(&format!("queue        {}", labels::queue(*queue)));
        }
        say_schedule(&status.schedule, ui);
        if let Some(why) = &status.not_kept {
            ui.line(&format!("not saved    {why} Backups go on, but this status is lost when the agent ends."));
        }
    });
    Ok(Code::Done)
}

/// What the agent does, in a line.
fn what_it_does(status: &AgentStatus, now: Timestamp) -> String {
    match &status.now {
        Doing::Waiting { due } if *due <= now => "about to start a backup".into(),
        Doing::Waiting { due } => format!("waiting; the next backup is due at {}", moment(*due)),
        Doing::Delayed(Delay { reason, since }) => {
            format!("a backup is due, but {} since {}. {}", labels::delay(*reason), moment(*since), next_step(*reason))
        }
        Doing::BackingUp { since, progress } => {
            format!("backing up since {}: {}", moment(*since), phase(progress.phase).to_lowercase())
        }
        Doing::Drilling { since, .. } => format!("rehearsing a restore since {}", moment(*since)),
    }
}

/// What ends a delay.
fn next_step(reason: DelayReason) -> &'static str {
    match reason {
        DelayReason::Paused => "Next: jetfrost agent resume",
        DelayReason::PausedByOffice => "An administrator ends the pause; nothing is to be done here.",
        DelayReason::ClockImplausible => "Next: set this machine's clock.",
        DelayReason::AnotherRun => "It starts when that has ended.",
        DelayReason::OutsideHours => "It starts by itself.",
        DelayReason::OnBattery => "It starts when the machine is plugged in, or now: jetfrost agent start-now",
        DelayReason::MeteredConnection => "It starts over another connection, or now: jetfrost agent start-now",
        DelayReason::MachineBusy => "It starts by itself, within half an hour; or now: jetfrost agent start-now",
        DelayReason::OfficeUnreachable => {
            "It starts within a minute of the service's return. To find the cause: jetfrost diagnose"
        }
        DelayReason::Queued => "It starts by itself when others have finished.",
        DelayReason::BackupsPaused => "An administrator resumes them; nothing is to be done here.",
        DelayReason::LimitReached | DelayReason::DestinationUnavailable => {
            "The administrator's move. To find the cause: jetfrost diagnose"
        }
        DelayReason::PassphraseNeeded => "Next: jetfrost unlock",
        DelayReason::SourceMissing => "Next: jetfrost selection shows what is included; jetfrost include FOLDER",
    }
}

/// The unit for this program, this state directory and whoever starts it.
fn unit(started: Started<'_>, state_dir: &StateDir) -> Result<String, Failure> {
    let program = std::env::current_exe().map_err(|e| {
        Failure::here(format!("This program's own path cannot be found: {e}."), "Copy packaging/jetfrost-agent.service by hand.")
    })?;
    let mut text = UNIT.replace("/usr/bin/jetfrost", &quoted(&program.display().to_string()).replace('$', "$$"));
    if state_dir.directory() != StateDir::usual().directory() {
        let home = quoted(&format!("JETFROST_HOME={}", state_dir.directory().display()));
        text = text.replace("[Service]\n", &format!("[Service]\nEnvironment={home}\n"));
    }
    if started == Started::ForUser {
        text = text.replace("WantedBy=multi-user.target", "WantedBy=default.target");
    }
    Ok(text)
}

/// A word of a unit file (`systemd.syntax(7)`).
fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+=:@".contains(c);
    let escaped = word.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%");
    if word.chars().all(plain) { escaped } else { format!("\"{escaped}\"") }
}

/// The unit's name. A workstation with a state directory of its own, such as one of a second service, has an agent of its own.
fn unit_name(state_dir: &StateDir) -> String {
    if state_dir.directory() == StateDir::usual().directory() {
        return NAME.to_owned();
    }
    let path = state_dir.directory().display().to_string();
    let word = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
    format!("{NAME}-{}", path.trim_matches('/').chars().map(word).collect::<String>())
}

/// Has the system start the agent of a workstation. Returns the unit's file.
pub(crate) fn install(state_dir: &StateDir) -> Result<PathBuf, Failure> {
    registered(&Install { root: None }, state_dir)
}

fn registered(install: &Install, state_dir: &StateDir) -> Result<PathBuf, Failure> {
    let started = install.started();
    if install.root.is_none() {
        // An agent without a workstation would end at once, again and again.
        state_dir.membership()?;
    }
    let text = unit(started, state_dir)?;
    System::register(&unit_name(state_dir), &text, started).map_err(|e| {
        Failure::here(
            format!("The agent could not be installed: {e}."),
            "Have whatever starts programs on this machine run: jetfrost agent run",
        )
    })
}

fn add(install: &Install, state_dir: &StateDir, ui: &Ui) -> Done {
    let path = registered(install, state_dir)?;
    ui.show(&serde_json::json!({ "unit": path }), |_| {
        ui.line(&format!("Installed {}.", path.display()));
        ui.line("Next: jetfrost agent status");
    });
    Ok(Code::Done)
}

fn remove(install: &Install, state_dir: &StateDir, ui: &Ui) -> Done {
    System::unregister(&unit_name(state_dir), install.started()).map_err(|e| {
        Failure::here(format!("The agent could not be uninstalled: {e}."), "See: systemctl status jetfrost-agent")
    })?;
    ui.show(&serde_json::json!({ "uninstalled": true }), |_| {
        ui.line("The agent is uninstalled. Settings, keys and backups stay; 'jetfrost backup' works as before.");
    });
    Ok(Code::Done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_unit_starts_this_program_with_its_state_directory_whatever_its_name() {
        let state_dir = StateDir::new("/srv/50 % \"own\"");
        let text = unit(Started::ForUser, &state_dir).expect("made");
        assert!(text.contains("\nEnvironment=\"JETFROST_HOME=/srv/50 %% \\\"own\\\"\"\n"), "{text}");
        assert!(text.contains(" agent run\n") && text.contains("WantedBy=default.target"), "{text}");
        assert!(!text.contains("/usr/bin/jetfrost"), "{text}");
        let usual = unit(Started::ForMachine, &StateDir::usual()).expect("made");
        assert_eq!(unit_name(&StateDir::usual()), NAME);
        assert_eq!(unit_name(&StateDir::new("/var/lib/second office")), "jetfrost-agent-var-lib-second-office");
        assert!(!usual.contains("Environment") && usual.contains("WantedBy=multi-user.target"), "{usual}");
    }
}
