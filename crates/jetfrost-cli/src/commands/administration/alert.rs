//! `jetfrost alert`: what needs attention.

use clap::Subcommand;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::alerts::{Alert as AlertRecord, Alerts as List};
use jetfrost_wire::calls;

use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Alert {
    /// Lists alerts, the most urgent first.
    List,
}

impl Alert {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let Self::List = self;
        let (_, api) = state_dir.session_api()?;
        let list: List = api.call(&calls::alerts())?;
        ui.show(&list, |list| {
            let row = |one: &AlertRecord| vec![one.says.clone(), one.next_in_full()];
            ui.table(&["what is wrong", "next"], list.alerts.iter().map(row).collect(), &[], "Nothing needs attention.");
        });
        Ok(Code::Done)
    }
}
