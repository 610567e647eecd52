//! Who may put backups where, and why.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::people::Role;

/// Who has access to a destination: whose workstations may put backups on it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Grants {
    /// All accounts, including future ones.
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
    /// Access for everybody.
    #[must_use]
    pub fn everybody() -> Self {
        Self { everybody: true, ..Self::default() }
    }

    /// Whether nobody has access.
    #[must_use]
    pub fn is_nobody(&self) -> bool {
        !self.everybody && self.groups.is_empty() && self.logins.is_empty()
    }
}

/// Why an account may put backups on a destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "by", rename_all = "snake_case")]
pub enum AccessReason {
    /// Everybody has access.
    Everybody,
    /// The account itself has access.
    Account,
    /// A group of the account has access.
    Group {
        /// The group's name.
        name: String,
    },
}

/// One account's access to one destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccessCell {
    /// The destination.
    pub destination: String,
    /// Why the account's workstations may put backups there; none when they may not.
    pub reasons: Vec<AccessReason>,
    /// How many image stores the account has there.
    pub stores: u64,
}

/// What one account has access to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccessLine {
    /// Login name.
    pub login: String,
    /// The person's name.
    pub display_name: String,
    /// Administrators and the helpdesk see and restore the backups of all by their role; members their own only.
    pub role: Role,
    /// Whether the account is disabled: then none of this applies.
    pub disabled: bool,
    /// A cell for each destination, by name.
    pub cells: Vec<AccessCell>,
}

/// Which part of the access table to return.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AccessQuery {
    /// Only the account with this login name.
    pub login: Option<String>,
    /// Only the destination with this name.
    pub destination: Option<String>,
}
