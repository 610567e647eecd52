//! Roles of accounts.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::labels;

/// What an account may do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// Everything.
    Administrator,
    /// Sees everything, starts restores, changes nothing.
    Helpdesk,
    /// Own workstations only.
    #[default]
    Member,
}

labels!(Role: Administrator = "administrator", Helpdesk = "helpdesk", Member = "member");
