//! Who calls, and what a caller may do.

use super::{Result, ServiceError};
use jetfrost_office::access::{Act, Asker, Role, may};

use crate::records::{AccountRow, SessionRow, WorkstationRow};
use jetfrost_types::AccountId;

/// What a caller showed to say who it is.
#[derive(Debug, Clone)]
pub(crate) struct Credential {
    /// The bearer secret, if any.
    pub(crate) secret: Option<String>,
    /// The address that the call came from.
    pub(crate) origin: String,
    /// Method and path of the call.
    pub(crate) call: String,
}

/// Who calls.
#[derive(Debug, Clone)]
pub(crate) struct Caller {
    pub(crate) who: Who,
    pub(crate) origin: String,
}

/// A person or a workstation.
#[derive(Debug, Clone)]
pub(crate) enum Who {
    Person { account: AccountRow, role: Role, session: SessionRow },
    Device { workstation: WorkstationRow },
}

impl Caller {
    fn asker(&self) -> Asker<'_> {
        match &self.who {
            Who::Person { account, role, session } => {
                Asker::Person { account: account.id.as_str(), role: *role, only_sees: session.only_sees() }
            }
            Who::Device { workstation } => Asker::Device { workstation: workstation.id.as_str() },
        }
    }

    pub(crate) fn may(&self, act: &Act<'_>) -> Result<()> {
        if may(&self.asker(), act) { Ok(()) } else { Err(ServiceError::NotAllowed) }
    }

    /// Whether it is a workstation with its device credential.
    pub(crate) fn is_workstation(&self) -> bool {
        matches!(self.who, Who::Device { .. })
    }

    /// The caller's name, as people know it.
    pub(crate) fn name(&self) -> String {
        match &self.who {
            Who::Person { account, .. } => account.login.clone(),
            Who::Device { workstation } => format!("workstation {}", workstation.name),
        }
    }

    /// The account whose workstations are all that this caller may see, unless it may see all.
    pub(crate) fn only_own(&self) -> Option<&AccountId> {
        match &self.who {
            Who::Person { account, role: Role::Member, .. } => Some(&account.id),
            Who::Device { workstation } => Some(&workstation.account_id),
            Who::Person { .. } => None,
        }
    }
}
