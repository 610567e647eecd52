//! Commands before and after a backup: to write a database's dump first, say, or to start again what was stopped.
//!
//! The command before runs when the service has admitted the run and before anything is read. If it fails, nothing is backed up, and the run
//! has failed. The command after runs whenever the one before was started or there is none, whatever came of the run; if it fails, a
//! point that was made stands.

use std::fmt;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use jetfrost_platform::{Programs, System, reason};
use jetfrost_types::PointKind;
use serde::{Deserialize, Serialize};

use crate::error::ClientError;
use crate::progress::Meter;

/// A command is ended after so long unless another time is set.
pub const USUAL_SECONDS: u32 = 600;
/// No command is given longer, in seconds.
pub const MOST_SECONDS: u32 = 24 * 3600;
/// How often it is looked whether a command has ended.
const LOOK: Duration = Duration::from_millis(50);

/// The commands of a workstation.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Hooks {
    /// Runs before a backup.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<Hook>,
    /// Runs after one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<Hook>,
}

/// A command.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Hook {
    /// The program's absolute path.
    pub program: PathBuf,
    /// Its arguments. No shell reads them.
    #[serde(default)]
    pub arguments: Vec<String>,
    /// After how many seconds it is ended.
    #[serde(default = "usual")]
    pub seconds: u32,
}

fn usual() -> u32 {
    USUAL_SECONDS
}

impl Hook {
    /// A command.
    ///
    /// # Errors
    /// [`ClientError::Hook`] when it is no absolute path of a file, or has no time to run.
    pub fn new(program: PathBuf, arguments: Vec<String>, seconds: u32) -> Result<Self, ClientError> {
        let refuse = |why: &str| Err(ClientError::Hook { when: "this command cannot be set", why: why.into() });
        if !program.is_absolute() {
            return refuse("give the program's absolute path");
        }
        if !program.is_file() {
            return refuse("there is no such program");
        }
        if seconds == 0 || seconds > MOST_SECONDS {
            return refuse("it may run for up to 24 hours");
        }
        Ok(Self { program, arguments, seconds })
    }
}

impl fmt::Display for Hook {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.program.display())?;
        self.arguments.iter().try_for_each(|argument| write!(f, " {argument}"))
    }
}

/// What came of a run, as the command after is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Came {
    /// A point with this number.
    Point(u64),
    /// Nothing: it failed.
    Failed,
    /// Nothing: it was stopped.
    Stopped,
}

/// The commands around one run.
pub(crate) struct Around<'r> {
    pub(crate) hooks: &'r Hooks,
    pub(crate) kind: PointKind,
    pub(crate) run: &'r str,
}

impl Around<'_> {
    /// Runs the command before, if there is one.
    pub(crate) fn before(&self, meter: &Meter) -> Result<(), ClientError> {
        let Some(hook) = &self.hooks.before else { return Ok(()) };
        self.run_one(hook, "before", &[], &|| meter.is_stopped()).map_err(|why| match why {
            Ended::Stopped => ClientError::Stopped,
            Ended::Failed(why) => ClientError::Hook { when: "the command before the backup failed", why },
        })
    }

    /// Runs the command after, if there is one; says why it failed. It is not stopped with the run: it may have to clear up.
    pub(crate) fn after(&self, came: Came) -> Option<String> {
        let hook = self.hooks.after.as_ref()?;
        let point = match came {
            Came::Point(number) => number.to_string(),
            Came::Failed | Came::Stopped => String::new(),
        };
        let outcome = match came {
            Came::Point(_) => "complete",
            Came::Failed => "failed",
            Came::Stopped => "stopped",
        };
        let told = [("JETFROST_OUTCOME", outcome), ("JETFROST_POINT", point.as_str())];
        match self.run_one(hook, "after", &told, &|| false) {
            Err(Ended::Failed(why)) => Some(why),
            Ok(()) | Err(Ended::Stopped) => None,
        }
    }

    fn run_one(&self, hook: &Hook, which: &str, told: &[(&str, &str)], is_stopped: &dyn Fn() -> bool) -> Result<(), Ended> {
        let mut command = Command::new(&hook.program);
        command.args(&hook.arguments).stdin(Stdio::null());
        // What it prints is for whoever looks on, not among the results.
        command.stdout(Stdio::from(std::io::stderr()));
        command.env("JETFROST_HOOK", which).env("JETFROST_KIND", self.kind.word()).env("JETFROST_RUN", self.run);
        command.envs(told.iter().copied());
        let failed = |e: std::io::Error| Ended::Failed(format!("{hook}: {}", reason(&e)));
        let mut child = System::start_together(&mut command).map_err(failed)?;
        let until = Instant::now() + Duration::from_secs(hook.seconds.into());
        loop {
            if let Some(status) = child.try_wait().map_err(failed)? {
                return if status.success() { Ok(()) } else { Err(Ended::Failed(format!("{hook}: {status}"))) };
            }
            let ended = match (is_stopped(), Instant::now() >= until) {
                (true, _) => Some(Ended::Stopped),
                (false, true) => Some(Ended::Failed(format!("{hook}: it was ended after {} s", hook.seconds))),
                (false, false) => None,
            };
            if let Some(ended) = ended {
                // If it is gone by now, nothing is left to end.
                let _ = System::end_together(&child);
                let _ = child.wait();
                return Err(ended);
            }
            std::thread::sleep(LOOK);
        }
    }
}

/// Why a command did not end well.
enum Ended {
    Failed(String),
    Stopped,
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::path::Path;

    use super::*;

    fn shell(script: &str) -> Hook {
        Hook::new("/bin/sh".into(), vec!["-c".into(), script.into()], 60).expect("a command")
    }

    fn around(hooks: &Hooks) -> Around<'_> {
        Around { hooks, kind: PointKind::Files, run: "r1" }
    }

    fn only_before(before: Hook) -> Hooks {
        Hooks { before: Some(before), after: None }
    }

    #[test]
    fn commands_are_told_what_they_are_for_and_what_came_of_the_run() {
        let directory = tempfile::tempdir().expect("a directory");
        let said = |name: &str| directory.path().join(name);
        let script = |name: &str| {
            let path = said(name).display().to_string();
            shell(&format!("echo \"$JETFROST_HOOK $JETFROST_KIND $JETFROST_RUN $JETFROST_OUTCOME $JETFROST_POINT\" >> '{path}'"))
        };
        let hooks = Hooks { before: Some(script("before")), after: Some(script("after")) };
        let around = around(&hooks);
        around.before(&Meter::default()).expect("it ends well");
        assert_eq!([Came::Point(7), Came::Failed, Came::Stopped].map(|came| around.after(came)), [None, None, None]);
        let read = |name: &str| fs::read_to_string(said(name)).expect("written");
        assert_eq!(read("before"), "before files r1  \n");
        assert_eq!(read("after"), "after files r1 complete 7\nafter files r1 failed \nafter files r1 stopped \n");
    }

    #[test]
    fn a_command_that_fails_or_is_not_there_says_so() {
        let hooks = Hooks { before: Some(shell("exit 3")), after: Some(shell("exit 4")) };
        let failed = around(&hooks);
        let error = failed.before(&Meter::default()).expect_err("it failed").to_string();
        assert!(error.contains("before the backup failed") && error.contains("exit status: 3"), "{error}");
        assert!(failed.after(Came::Point(1)).is_some_and(|why| why.contains("exit status: 4")));
        let gone = Hook { program: "/nowhere/dump".into(), arguments: Vec::new(), seconds: 1 };
        assert!(around(&only_before(gone)).before(&Meter::default()).is_err());
        assert!(around(&Hooks::default()).before(&Meter::default()).is_ok());
    }

    #[test]
    fn a_command_ends_with_its_time_or_when_the_run_is_stopped_and_what_it_started_ends_too() {
        let directory = tempfile::tempdir().expect("a directory");
        let log = directory.path().join("alive");
        let script = format!("(while :; do sleep 0.05; echo x >> '{}'; done) & wait", log.display());
        let slow = Hook { seconds: 1, ..shell(&script) };
        let error = around(&only_before(slow)).before(&Meter::default()).expect_err("too slow").to_string();
        assert!(error.contains("ended after 1 s"), "{error}");
        let size = |path: &Path| fs::metadata(path).map_or(0, |found| found.len());
        let then = size(&log);
        let meter = Meter::default();
        meter.stop();
        let stopped = around(&only_before(shell("sleep 1000"))).before(&meter);
        assert!(matches!(stopped, Err(ClientError::Stopped)));
        assert_eq!(size(&log), then, "nothing of it goes on");
    }

    #[test]
    fn what_cannot_be_run_is_not_taken() {
        for (program, seconds) in [("dump", 1), ("/nowhere/dump", 1), ("/bin/sh", 0), ("/bin/sh", MOST_SECONDS + 1)] {
            assert!(Hook::new(program.into(), Vec::new(), seconds).is_err(), "{program}");
        }
    }
}
