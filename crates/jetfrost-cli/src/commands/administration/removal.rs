//! Removing at once, which takes the password and a second factor.

use std::path::PathBuf;

use clap::Args;
use jetfrost_client::api::Api;
use jetfrost_wire::Call;
use jetfrost_wire::job::Job as JobRecord;
use jetfrost_wire::retention::RemoveNow;

use crate::commands::administration::job::{say_end_of, wait_for};
use crate::failure::{Code, Failure};
use crate::ui::{Given, Ui};

type Done = Result<Code, Failure>;

/// What is removed without its waiting time.
#[derive(Debug, Args)]
pub(crate) struct Now {
    /// Without the waiting time, so that its room is free at once; it cannot be brought back. Takes your password and a code of
    /// your second factor. Nothing goes within its protected time.
    #[arg(long)]
    pub(crate) now: bool,
    /// Code from the authenticator; asked for unless given.
    #[arg(long, requires = "now")]
    code: Option<String>,
    /// A file whose first line is the account's password; or set JETFROST_PASSWORD.
    #[arg(long, value_name = "FILE", requires = "now")]
    password_file: Option<PathBuf>,
}

impl Now {
    pub(crate) fn remove(&self, api: &Api, login: &str, call: &Call<RemoveNow, JobRecord>, ui: &Ui) -> Done {
        let file = self.password_file.as_deref();
        let given = Given { file, option: "--password-file", variable: "JETFROST_PASSWORD" };
        let password = ui.secret(&format!("the password of account '{login}'"), &given, false)?;
        let code = self.code.clone().map_or_else(|| ui.ask("The code of your second factor"), Ok)?;
        let begun: JobRecord = api.call_with(call, &RemoveNow { password, code })?;
        say_end_of(&wait_for(api, begun)?, ui)
    }
}
