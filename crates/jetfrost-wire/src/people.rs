//! Accounts and groups.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::id::{AccountId, GroupId};

/// What an account may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// Everything.
    Administrator,
    /// Sees everything, starts restores, changes nothing.
    Helpdesk,
    /// Own workstations only.
    Member,
}

impl Role {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Administrator => "administrator",
            Self::Helpdesk => "helpdesk",
            Self::Member => "member",
        }
    }

    /// The role with this word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Administrator, Self::Helpdesk, Self::Member].into_iter().find(|role| role.word() == word)
    }
}

/// A person or a machine that signs in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Stays when the login name changes.
    pub id: AccountId,
    /// Login name, as written when it was made.
    pub login: String,
    /// The person's name.
    pub display_name: String,
    /// What it may do.
    pub role: Role,
    /// Whether it can sign in: one made without a password only owns workstations.
    pub can_sign_in: bool,
    /// Names of its groups.
    pub groups: Vec<String>,
    /// Bytes that its image stores may occupy together; absent for no limit.
    pub quota: Option<u64>,
    /// How many workstations it has.
    pub workstations: u64,
    /// When it was made.
    pub created: Timestamp,
}

/// Makes an account.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewAccount {
    /// Login name.
    pub login: String,
    /// The person's name; the login name unless given.
    #[serde(default)]
    pub display_name: Option<String>,
    /// What it may do.
    pub role: Role,
    /// The account's password; without one nobody can sign in with it.
    #[serde(default)]
    pub password: Option<String>,
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
}

/// Makes a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewGroup {
    /// Its name.
    pub name: String,
}

/// Sets who is in a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GroupLogins {
    /// Login names of all its accounts.
    pub logins: Vec<String>,
}
