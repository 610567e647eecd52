//! Finding services, and being found.

use std::time::Duration;

use clap::{Args, Subcommand};
use jetfrost_client::api::Method;
use jetfrost_client::discovery::{FoundBy, FoundService, look};
use jetfrost_client::home::Home;
use jetfrost_wire::discovery::{Discovery as State, DiscoverySettings, DiscoveryState, Interface};

use super::look_and_change;
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct Find {
    /// Seconds to look.
    #[arg(long, default_value_t = 4, value_parser = clap::value_parser!(u64).range(1..=120))]
    seconds: u64,
    /// Domains whose DNS is asked as well, instead of this machine's own.
    #[arg(long, value_name = "DOMAIN")]
    domain: Vec<String>,
}

impl Find {
    pub(crate) fn run(self, ui: &Ui) -> Done {
        let found = look(Duration::from_secs(self.seconds), &self.domain)?;
        ui.show(&found, |found| {
            let row = |one: &FoundService| {
                let by: Vec<String> = one.by.iter().map(how).collect();
                let short: String = one.id.chars().take(8).collect();
                vec![one.name.clone(), one.address.clone(), short, by.join(", "), one.fingerprint.chars().take(16).collect()]
            };
            ui.table(
                &["name", "address", "id", "found by", "certificate begins"],
                found.iter().map(row).collect(),
                &[],
                "No service was found. That says nothing about one whose address you know: use it, as host:port.",
            );
        });
        Ok(Code::Done)
    }
}

fn how(by: &FoundBy) -> String {
    match by {
        FoundBy::Announcement => "announcement".into(),
        FoundBy::Domain(domain) => format!("DNS of {domain}"),
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Discovery {
    /// Shows whether workstations can find the service, where, and the lines for the office's DNS.
    Show,
    /// Lets the service announce itself, at once and after every start.
    Announce {
        /// The name to show.
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
        /// Only on this interface; may be repeated.
        #[arg(long, value_name = "INTERFACE")]
        on: Vec<String>,
    },
    /// Ends the announcements. Workstations that have joined go on.
    Silence,
}

impl Discovery {
    pub(crate) fn run(self, home: &Home, ui: &Ui) -> Done {
        let (_, api) = home.session_api()?;
        let state: State = match self {
            Self::Show => api.get("/discovery")?,
            Self::Announce { name, on } => {
                let to = DiscoverySettings { announce: true, name, interfaces: on };
                api.send(Method::PUT, "/discovery", &to)?
            }
            Self::Silence => look_and_change(|| {
                let now: State = api.get("/discovery")?;
                let to = DiscoverySettings { announce: false, ..now.settings };
                Ok(api.change(Method::PUT, "/discovery", &to, &now.version)?)
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
        DiscoveryState::BackupsNotLetIn => {
            "Not announced while backups are not let in. Next: jetfrost admission let-in backups".into()
        }
        DiscoveryState::NoInterface => {
            "Not announced: the service listens on no interface that was chosen. See 'listen' in its settings.".into()
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
