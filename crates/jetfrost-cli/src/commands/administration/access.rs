//! `jetfrost access`: who may put backups where.

use clap::{Args, Subcommand};
use jetfrost_client::state_dir::StateDir;
use jetfrost_wire::access::{AccessCell, AccessLine, AccessReason, Grants};
use jetfrost_wire::calls;
use jetfrost_wire::destination::{Destination as DestinationRecord, DestinationChange};
use jetfrost_wire::people::Role;

use crate::commands::administration::destination::destination_named;
use crate::commands::{labels, look_and_change};
use crate::failure::{Code, Failure};
use crate::ui::Ui;

type Done = Result<Code, Failure>;

/// To whom.
#[derive(Debug, Clone, Args)]
#[group(required = true, multiple = true)]
pub(crate) struct ToWhom {
    /// All accounts, including future ones.
    #[arg(long)]
    everybody: bool,
    /// A group; may be repeated.
    #[arg(long = "group", value_name = "GROUP")]
    groups: Vec<String>,
    /// An account; may be repeated.
    #[arg(long = "login", value_name = "LOGIN")]
    logins: Vec<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Access {
    /// Lists which accounts have access to which destination, and why.
    List {
        /// Only this account.
        #[arg(long)]
        login: Option<String>,
        /// Only this destination.
        #[arg(long)]
        destination: Option<String>,
    },
    /// Grants accounts or groups access to a destination.
    Grant {
        /// The destination.
        destination: String,
        #[command(flatten)]
        to: ToWhom,
    },
    /// Takes access away. Existing backups stay and can be restored.
    Revoke {
        /// The destination.
        destination: String,
        #[command(flatten)]
        to: ToWhom,
    },
}

impl Access {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        let (name, to, opens) = match self {
            Self::List { login, destination } => {
                let query = [("login", login), ("destination", destination)];
                let lines: Vec<AccessLine> = api.first(&calls::access(), &query, usize::MAX)?;
                ui.show(&lines, |lines| say_access(lines, ui));
                return Ok(Code::Done);
            }
            Self::Grant { destination, to } => (destination, to, true),
            Self::Revoke { destination, to } => (destination, to, false),
        };
        let changed: DestinationRecord = look_and_change(|| {
            let destination = destination_named(&api, &name)?;
            let grants = Some(changed(destination.grants, to.clone(), opens));
            let change = DestinationChange { grants, ..DestinationChange::default() };
            Ok(api.change(&calls::change_destination(&destination.id), &change, &destination.version)?)
        })?;
        ui.show(&changed, |d| ui.line(&format!("Access to destination '{}': {}.", d.name, labels::grants(&d.grants))));
        Ok(Code::Done)
    }
}

fn changed(mut grants: Grants, by: ToWhom, opens: bool) -> Grants {
    let same = |a: &String, b: &String| a.to_lowercase() == b.to_lowercase();
    let alter = |there: &mut Vec<String>, given: Vec<String>| {
        there.retain(|name| !given.iter().any(|g| same(g, name)));
        if opens {
            there.extend(given);
        }
    };
    if by.everybody {
        grants.everybody = opens;
    }
    alter(&mut grants.groups, by.groups);
    alter(&mut grants.logins, by.logins);
    grants
}

/// A table with a column a destination: why it is open, or that it is not.
fn say_access(lines: &[AccessLine], ui: &Ui) {
    let Some(first) = lines.first() else {
        ui.line("There is no account.");
        return;
    };
    let mut heads = vec!["login", "person", "sees"];
    heads.extend(first.cells.iter().map(|cell| cell.destination.as_str()));
    let row = |line: &AccessLine| {
        let sees = match line.role {
            Role::Administrator => "all, changes all",
            Role::Helpdesk => "all",
            Role::Member => "own",
        };
        let mut row = vec![line.login.clone(), line.display_name.clone(), sees.to_owned()];
        row.extend(line.cells.iter().map(|cell| if line.disabled { "disabled".into() } else { cell_words(cell) }));
        row
    };
    ui.table(&heads, lines.iter().map(row).collect(), &[], "");
    let cut_off = |line: &&AccessLine| line.cells.iter().any(|cell| cell.reasons.is_empty() && cell.stores > 0);
    let cut_off: Vec<&str> = lines.iter().filter(cut_off).map(|line| line.login.as_str()).collect();
    if !cut_off.is_empty() {
        ui.line("");
        ui.line(&format!("Have image stores where they may make no new backups: {}.", cut_off.join(", ")));
    }
}

fn cell_words(cell: &AccessCell) -> String {
    let reason = |reason: &AccessReason| match reason {
        AccessReason::Everybody => "everybody".to_owned(),
        AccessReason::Account => "by account".to_owned(),
        AccessReason::Group { name } => format!("group {name}"),
    };
    let reasons: Vec<String> = cell.reasons.iter().map(reason).collect();
    if reasons.is_empty() { "no".into() } else { format!("yes: {}", reasons.join(", ")) }
}
