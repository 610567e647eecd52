//! `jetfrost discovery`: how the service is found.

use clap::Subcommand;
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::calls;
use jetfrost_wire::discovery::{Discovery as State, DiscoverySettings, DiscoveryState, Interface};

use crate::commands::look_and_change;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Subcommand)]
pub(crate) enum Discovery {
    /// Shows whether and where the service is announced, and the records for the office's DNS.
    Show,
    /// Starts announcing the service on the local network, now and after every start.
    Announce {
        /// The name to show.
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
        /// Only on this interface; may be repeated.
        #[arg(long, value_name = "INTERFACE")]
        on: Vec<String>,
    },
    /// Stops announcing the service. Enrolled workstations are not affected.
    Silence,
}

impl Discovery {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let state: State = match self {
            Self::Show => api.call(&calls::discovery())?,
            Self::Announce { name, on } => {
                let to = DiscoverySettings { announce: true, name, interfaces: on };
                api.call_with(&calls::set_discovery(), &to)?
            }
            Self::Silence => look_and_change(|| {
                let now: State = api.call(&calls::discovery())?;
                let to = DiscoverySettings { announce: false, ..now.settings };
                Ok(api.change(&calls::set_discovery(), &to, &now.version)?)
            })?,
        };
        ui.show(&state, |state| say(state, ui));
        Ok(Code::Done)
    }
}

fn say(state: &State, ui: &Ui) {
    ui.line(&match state.state {
        DiscoveryState::Announced => {
            format!("Announced on the local network as '{}'.", state.announced_as.as_deref().unwrap_or_default())
        }
        DiscoveryState::Silent => "Not announced, as was decided. Next, to change that: jetfrost discovery announce".into(),
        DiscoveryState::BackupsPaused => {
            "Not announced while new backups are paused. Next: jetfrost maintenance resume backups".into()
        }
        DiscoveryState::NoInterface => {
            "Not announced: the service listens on none of the chosen interfaces. See 'listen' in its settings.".into()
        }
        DiscoveryState::Failed => format!("Not announced: {}.", state.trouble.as_deref().unwrap_or_default()),
    });
    let row = |one: &Interface| vec![one.name.clone(), one.addresses.join(", "), if one.announced { "yes" } else { "no" }.into()];
    if !state.interfaces.is_empty() {
        ui.table(&["interface", "addresses", "announced"], state.interfaces.iter().map(row).collect(), &[], "");
    }
    ui.line("For workstations behind a router, these lines belong into the zone of the office's domain:");
    for record in &state.records {
        ui.line(&format!("  {record}"));
    }
}
