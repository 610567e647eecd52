//! `jetfrost exceptions`: what a point does not hold as it was.

use clap::Args;
use jetfrost_client::browse::At;
use jetfrost_client::state_dir::StateDir;
use serde_json::json;

use crate::commands::getting_back::read_from::ReadFrom;
use crate::commands::labels;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, shown_path};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Exceptions {
    /// The point: 'latest', 'last-good', a number, or a time such as 2026-11-20T14:00.
    #[arg(long, default_value = "latest", value_name = "POINT")]
    at: At,
    #[command(flatten)]
    from: ReadFrom,
}

impl Exceptions {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let browser = self.from.browser(state_dir, ui)?;
        let point = browser.any_point(&self.at)?;
        let exceptions = browser.exceptions(&point)?;
        let value: Vec<_> = exceptions
            .iter()
            .map(|e| json!({ "cause": labels::cause(e.cause), "path": shown_path(&e.path), "explanation": e.explanation }))
            .collect();
        ui.show(&value, |_| {
            let row = |e: &jetfrost_client::browse::Exception| vec![shown_path(&e.path), e.explanation.clone()];
            let none = format!("Point {} holds everything as it was.", point.head.sequence);
            ui.table(&["path", "what happened"], exceptions.iter().map(row).collect(), &[], &none);
        });
        Ok(Code::Done)
    }
}
