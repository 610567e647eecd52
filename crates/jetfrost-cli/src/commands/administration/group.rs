//! `jetfrost group`: sets of accounts.

use clap::{Args, Subcommand};
use jetfrost_client::api::Api;
use jetfrost_client::state_dir::StateDir;
use jetfrost_types::Limit;
use jetfrost_wire::calls;
use jetfrost_wire::people::{Group as GroupRecord, GroupChange as ChangeOfGroup, GroupLogins, NewGroup};
use jetfrost_wire::size::show;

use crate::commands::find;
use crate::commands::limit::parse_limit;
use crate::failure::{Code, Failure};
use crate::ui::{Ui, many};

type Done = Result<Code, Failure>;

#[derive(Debug, Args)]
pub(crate) struct GroupDefaults {
    /// Limit of new image stores of its accounts, such as 500GB, or 'none' to use the destination's.
    #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
    default_limit: Option<Limit>,
    /// Quota of new accounts in the group, or 'none'.
    #[arg(long, value_name = "SIZE", value_parser = parse_limit)]
    default_quota: Option<Limit>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Group {
    /// Lists groups.
    List,
    /// Adds a group.
    Add {
        /// Its name.
        name: String,
        #[command(flatten)]
        defaults: GroupDefaults,
    },
    /// Changes a group.
    Set {
        /// Its name.
        name: String,
        /// Another name.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        #[command(flatten)]
        defaults: GroupDefaults,
    },
    /// Sets who is in a group.
    Fill {
        /// Its name.
        name: String,
        /// Login names of all accounts in the group.
        logins: Vec<String>,
    },
    /// Removes a group; its accounts stay.
    Remove {
        /// Its name.
        name: String,
    },
}

impl Group {
    pub(crate) fn run(self, state_dir: &StateDir, ui: &Ui) -> Done {
        let (_, api) = state_dir.session_api()?;
        match self {
            Self::List => {
                let groups: Vec<GroupRecord> = api.all(&calls::groups())?;
                ui.show(&groups, |groups| say_groups(groups, ui));
            }
            Self::Add { name, defaults } => {
                let bytes = |limit: Option<Limit>| limit.and_then(Limit::bytes);
                let new =
                    NewGroup { name, default_limit: bytes(defaults.default_limit), default_quota: bytes(defaults.default_quota) };
                let group: GroupRecord = api.call_with(&calls::add_group(), &new)?;
                ui.show(&group, |g| {
                    ui.line(&format!("Group '{}' was added. Next: jetfrost group fill '{}' LOGIN…", g.name, g.name));
                });
            }
            Self::Set { name, rename, defaults } => {
                let group = group_named(&api, &name)?;
                let change = ChangeOfGroup {
                    name: rename,
                    default_limit: defaults.default_limit,
                    default_quota: defaults.default_quota,
                    logins: None,
                };
                let changed: GroupRecord = api.call_with(&calls::change_group(&group.id), &change)?;
                ui.show(&changed, |g| say_groups(std::slice::from_ref(g), ui));
            }
            Self::Fill { name, logins } => {
                let group = group_named(&api, &name)?;
                let filled: GroupRecord = api.call_with(&calls::set_group_logins(&group.id), &GroupLogins { logins })?;
                ui.show(&filled, |g| {
                    let accounts = many(g.logins.len() as u64, "account");
                    ui.line(&format!("Group '{}' has {accounts}: {}", g.name, g.logins.join(", ")));
                });
            }
            Self::Remove { name } => {
                let group = group_named(&api, &name)?;
                api.call(&calls::remove_group(&group.id))?;
                ui.show(&group, |g| ui.line(&format!("Group '{}' was removed. Its accounts stay.", g.name)));
            }
        }
        Ok(Code::Done)
    }
}

pub(crate) fn group_named(api: &Api, name: &str) -> Result<GroupRecord, Failure> {
    find(api.all(&calls::groups())?, name, |g: &GroupRecord| &g.name, "group", "jetfrost group list")
}

fn say_groups(groups: &[GroupRecord], ui: &Ui) {
    let default = |bytes: Option<u64>| bytes.map_or_else(|| "–".into(), show);
    let row = |g: &GroupRecord| {
        vec![g.name.clone(), g.destinations.join(", "), default(g.default_limit), default(g.default_quota), g.logins.join(", ")]
    };
    let heads = ["group", "destinations", "default limit", "default quota", "accounts"];
    ui.table(&heads, groups.iter().map(row).collect(), &[2, 3], "There is no group yet. Next: jetfrost group add NAME");
}
