//! `jetfrost setup`: the set-up list.

use clap::Subcommand;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::setup::{Dismiss, Setup as SetupList, StepLine, StepState};

use crate::failure::{Code, Failure};
use crate::ui::{Ui, many};

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Setup {
    /// Lists the setup steps: what is done, what is open, and who acts next.
    List,
    /// Dismisses a step: the office decided not to do it.
    Dismiss {
        /// Name of the step, as listed.
        step: String,
        /// Why.
        #[arg(long)]
        because: String,
    },
    /// Puts a dismissed step back on the list.
    Restore {
        /// Name of the step, as listed.
        step: String,
    },
}

impl Setup {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let word = |step: &str| step.to_lowercase().replace([' ', '-'], "_");
        let list: SetupList = match self {
            Self::List => api.call(&calls::setup())?,
            Self::Dismiss { step, because } => api.call_with(&calls::dismiss_step(word(&step)), &Dismiss { why: because })?,
            Self::Restore { step } => api.call(&calls::restore_step(word(&step)))?,
        };
        ui.show(&list, |list| say_setup(list, ui));
        Ok(Code::Done)
    }
}

fn say_setup(list: &SetupList, ui: &Ui) {
    let row = |line: &StepLine| {
        let name = serde_json::to_value(line.step).unwrap_or_default();
        let state = match line.state {
            StepState::Done => "done",
            StepState::Open => "open",
            StepState::Dismissed => "dismissed",
        };
        let more = match (&line.next, &line.dismissed) {
            (Some(next), _) if line.at_a_workstation => format!("At the workstation: {next}"),
            (Some(next), _) => format!("Next: {next}"),
            (None, Some(dismissal)) => format!("{}: {}", dismissal.by, dismissal.why),
            (None, None) => String::new(),
        };
        vec![name.as_str().unwrap_or_default().replace('_', " "), state.to_owned(), line.says.clone(), more]
    };
    ui.table(&["step", "state", "", ""], list.steps.iter().map(row).collect(), &[], "");
    let open = list.steps.iter().filter(|line| line.state == StepState::Open).count() as u64;
    ui.line("");
    ui.line(&if list.ready { "Ready.".to_owned() } else { format!("Not ready: {} open.", many(open, "step")) });
}
