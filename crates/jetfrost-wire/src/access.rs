//! Who may put backups where, and why.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::people::Role;

/// To whom a destination is open: whose workstations may put backups on it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Grants {
    /// To all accounts, also those that are yet to come.
    #[serde(default)]
    pub everybody: bool,
    /// Names of groups.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Login names.
    #[serde(default)]
    pub logins: Vec<String>,
}

impl Grants {
    /// To everybody.
    #[must_use]
    pub fn everybody() -> Self {
        Self { everybody: true, ..Self::default() }
    }

    /// Whether it is open to nobody.
    #[must_use]
    pub fn is_nobody(&self) -> bool {
        !self.everybody && self.groups.is_empty() && self.logins.is_empty()
    }
}

/// Why an account may put backups on a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "by", rename_all = "snake_case")]
pub enum AccessReason {
    /// It is open to everybody.
    Everybody,
    /// It is open to this very account.
    Account,
    /// It is open to a group of the account.
    Group {
        /// Which.
        name: String,
    },
}

/// What one account has of one destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccessCell {
    /// The destination.
    pub destination: String,
    /// Why the account's workstations may put backups there; none when they may not.
    pub reasons: Vec<AccessReason>,
    /// How many image stores the account has there.
    pub stores: u64,
}

/// What one account may.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccessLine {
    /// Login name.
    pub login: String,
    /// The person's name.
    pub display_name: String,
    /// Administrators and the helpdesk see and restore the backups of all by their role; members their own only.
    pub role: Role,
    /// Whether the account is disabled: then none of this counts.
    pub disabled: bool,
    /// A cell for each destination, by name.
    pub cells: Vec<AccessCell>,
}

/// Which part of the access is wished.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AccessQuery {
    /// Only the account with this login name.
    pub login: Option<String>,
    /// Only the destination with this name.
    pub destination: Option<String>,
}
