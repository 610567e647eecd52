//! `jetfrost hook`: commands before and after a backup.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use jetfrost_client::hooks::{Hook as Command, Hooks, USUAL_SECONDS};
use jetfrost_client::state_dir::StateDir;

use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Hook {
    /// Shows the commands.
    Show,
    /// Sets a command to run before or after each backup.
    ///
    /// The one before runs before anything is read; if it fails, nothing is backed up. The one after runs whatever came of the
    /// backup; if it fails, the point stands. Both are told in JETFROST_HOOK (before, after), JETFROST_KIND (files, disk) and
    /// JETFROST_RUN; the one after also in JETFROST_OUTCOME (complete, failed, stopped) and JETFROST_POINT.
    Set(Set),
    /// Removes a command.
    Remove {
        /// Which.
        when: When,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Set {
    /// Which.
    when: When,
    /// The program's absolute path and its arguments. No shell reads them.
    #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true, value_name = "PROGRAM")]
    command: Vec<String>,
    /// After how long it is ended, such as 90s or 30m [default: 10 minutes].
    #[arg(long, value_name = "DURATION", value_parser = parse_seconds)]
    time_limit: Option<u32>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum When {
    Before,
    After,
}

fn parse_seconds(text: &str) -> Result<u32, String> {
    let wrong = || format!("'{text}' is not a duration: write for example 90s or 30m");
    let duration: jiff::SignedDuration = text.parse().map_err(|_| wrong())?;
    u32::try_from(duration.as_secs()).map_err(|_| wrong())
}

impl Hook {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let mut hooks = state_dir.hooks()?;
        match self {
            Self::Show => {}
            Self::Set(set) => {
                let mut words = set.command.into_iter();
                let program = PathBuf::from(words.next().unwrap_or_default());
                let command = Command::new(program, words.collect(), set.time_limit.unwrap_or(USUAL_SECONDS))?;
                *of(&mut hooks, set.when) = Some(command);
                state_dir.write_hooks(&hooks)?;
            }
            Self::Remove { when } => {
                if of(&mut hooks, when).take().is_none() {
                    return Err(Failure::here("There is no such command.", "See 'jetfrost hook show'."));
                }
                state_dir.write_hooks(&hooks)?;
            }
        }
        ui.show(&hooks, |hooks| say(hooks, ui));
        Ok(Code::Done)
    }
}

fn of(hooks: &mut Hooks, when: When) -> &mut Option<Command> {
    match when {
        When::Before => &mut hooks.before,
        When::After => &mut hooks.after,
    }
}

fn say(hooks: &Hooks, ui: &Ui) {
    let command = |hook: &Option<Command>| {
        hook.as_ref().map_or_else(|| "nothing".into(), |hook| format!("{hook}  (at most {} s)", hook.seconds))
    };
    ui.line(&format!("before a backup  {}", command(&hooks.before)));
    ui.line(&format!("after a backup   {}", command(&hooks.after)));
}
