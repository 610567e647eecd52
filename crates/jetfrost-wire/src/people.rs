//! Accounts and groups.

pub use jetfrost_types::Role;
use jetfrost_types::{Limit, given};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels::labels;
use crate::version::{HasVersion, Version};
use crate::{AccountId, GroupId};

/// Who is behind an account.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AccountKind {
    /// One person.
    #[default]
    Person,
    /// A machine without a person.
    Machine,
    /// Shared by several people: whoever knows its password sees all of its workstations.
    Shared,
}
labels!(AccountKind: Person = "person", Machine = "machine", Shared = "shared");

/// Whether an account can be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AccountState {
    /// It can be used.
    Active,
    /// Nobody can sign in with it, and its workstations are refused, until it is enabled again.
    Disabled,
}

/// A person or a machine that signs in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Its id; unchanged when the login name changes.
    pub id: AccountId,
    /// Login name. It can be changed at any time without effect on workstations.
    pub login: String,
    /// The person's name.
    pub display_name: String,
    /// Who is behind it.
    pub kind: AccountKind,
    /// Its role.
    pub role: Role,
    /// Whether it can be used.
    pub state: AccountState,
    /// When it was disabled.
    pub disabled: Option<Timestamp>,
    /// Whether it has a password: without one it only owns workstations.
    pub can_sign_in: bool,
    /// Whether signing in requires a code from an authenticator.
    pub second_factor: bool,
    /// Names of its groups.
    pub groups: Vec<String>,
    /// Bytes that its image stores may occupy together; absent for no limit.
    pub quota: Option<u64>,
    /// How many workstations it has.
    pub workstations: u64,
    /// When it was made.
    pub created: Timestamp,
    /// Version of the settings, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for Account {
    fn version(&self) -> &Version {
        &self.version
    }
}

/// Makes an account.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewAccount {
    /// Login name.
    pub login: String,
    /// The person's name; the login name by default.
    #[serde(default)]
    pub display_name: Option<String>,
    /// Who is behind it; a person by default.
    #[serde(default)]
    pub kind: AccountKind,
    /// Its role.
    pub role: Role,
    /// The account's password; without one nobody can sign in with it.
    #[serde(default)]
    pub password: Option<String>,
    /// Names of its groups.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Bytes that its image stores may occupy together, or `null` for no limit; the largest default of its groups unless given.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<u64>)]
    pub quota: Option<Limit>,
}

impl NewAccount {
    /// An account of a person with nothing but a login name and a role.
    #[must_use]
    pub fn new(login: impl Into<String>, role: Role) -> Self {
        let kind = AccountKind::Person;
        Self { login: login.into(), display_name: None, kind, role, password: None, groups: Vec::new(), quota: None }
    }
}

/// Changes what is given of an account.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccountChange {
    /// Another login name. Workstations are not affected.
    #[serde(default)]
    pub login: Option<String>,
    /// Another name of the person.
    #[serde(default)]
    pub display_name: Option<String>,
    /// Who is behind it.
    #[serde(default)]
    pub kind: Option<AccountKind>,
    /// Its role. The last administrator keeps theirs.
    #[serde(default)]
    pub role: Option<Role>,
    /// Names of all its groups.
    #[serde(default)]
    pub groups: Option<Vec<String>>,
    /// Bytes that its image stores may occupy together; `null` for no limit.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<u64>)]
    pub quota: Option<Limit>,
}

/// What depends on an account, to be checked before its password is set or it is disabled or removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccountTies {
    /// Browsers signed in with it.
    pub browsers: u64,
    /// Commands signed in with it, and its tokens.
    pub tokens: u64,
    /// Enrolment codes for it that can still be used.
    pub unused_codes: u64,
    /// Its workstations. A new password does not affect them: each has its own credential.
    pub workstations: Vec<TiedWorkstation>,
}

/// A workstation of an account, with what would be removed with it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TiedWorkstation {
    /// Its name.
    pub name: String,
    /// The destination of its image store.
    pub destination: String,
    /// How many points it has.
    pub points: u64,
    /// When the latest was made.
    pub latest: Option<Timestamp>,
    /// Bytes that its image store occupies, if its destination is available.
    pub bytes: Option<u64>,
}

/// Sets an account's password.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewPassword {
    /// The new password of the account; `null` to prevent signing in with it.
    pub password: Option<String>,
}

/// Changes the caller's own password.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct OwnPassword {
    /// The current password.
    pub old: String,
    /// The new password.
    pub new: String,
}

/// The effects of setting a password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PasswordSet {
    /// Browsers, commands and tokens that were signed out.
    pub signed_out: u64,
    /// Workstations that continue unaffected: their credentials do not depend on the password.
    pub unaffected: Vec<String>,
}

/// What becomes of the workstations of an account that is removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "what", rename_all = "snake_case")]
pub enum WorkstationsGo {
    /// Another account takes them over; they continue.
    To {
        /// Login name of that account.
        login: String,
    },
    /// Their machines are cut off; their backups stay.
    Retire,
    /// Their image stores are removed, after the waiting time of their destinations.
    Remove,
}

/// Removes an account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccountRemoval {
    /// What becomes of its workstations; required if it has any.
    #[serde(default)]
    pub workstations: Option<WorkstationsGo>,
}

/// A set of accounts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Group {
    /// The group.
    pub id: GroupId,
    /// Its name.
    pub name: String,
    /// Login names of its accounts.
    pub logins: Vec<String>,
    /// Limit that new image stores of its accounts get; absent for the destination's default.
    pub default_limit: Option<u64>,
    /// Quota that new accounts in it get; absent for none.
    pub default_quota: Option<u64>,
    /// Names of the destinations that it has access to.
    pub destinations: Vec<String>,
    /// Version of the settings, for `If-Match`.
    #[serde(default)]
    #[schema(required)]
    pub version: Version,
}

impl HasVersion for Group {
    fn version(&self) -> &Version {
        &self.version
    }
}

/// Makes a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewGroup {
    /// Its name.
    pub name: String,
    /// Limit that new image stores of its accounts get.
    #[serde(default)]
    pub default_limit: Option<u64>,
    /// Quota that new accounts in it get.
    #[serde(default)]
    pub default_quota: Option<u64>,
}

/// Changes the given settings of a group.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GroupChange {
    /// Another name.
    #[serde(default)]
    pub name: Option<String>,
    /// Limit that new image stores of its accounts get; `null` for the destination's default.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<u64>)]
    pub default_limit: Option<Limit>,
    /// Quota that new accounts in it get; `null` for none.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<u64>)]
    pub default_quota: Option<Limit>,
    /// Login names of all its accounts.
    #[serde(default)]
    pub logins: Option<Vec<String>>,
}

/// Sets who is in a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GroupLogins {
    /// Login names of all its accounts.
    pub logins: Vec<String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_limit_is_told_from_no_change() {
        let quota = |json: &str| serde_json::from_str::<AccountChange>(json).expect("a change").quota;
        assert_eq!(quota("{}"), None);
        assert_eq!(quota(r#"{"quota":null}"#), Some(Limit::None));
        assert_eq!(quota(r#"{"quota":5}"#), Some(Limit::Bytes(5)));
        for change in [None, Some(Limit::None), Some(Limit::Bytes(7))] {
            let json = serde_json::to_string(&AccountChange { quota: change, ..AccountChange::default() }).expect("JSON");
            assert_eq!(quota(&json), change, "{json}");
        }
    }
}
