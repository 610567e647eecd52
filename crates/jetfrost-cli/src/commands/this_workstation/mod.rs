//! This workstation: joining, what is backed up, backups, how it is doing.

pub(crate) mod accept_identity;
pub(crate) mod agent;
pub(crate) mod backup;
pub(crate) mod diagnose;
pub(crate) mod discover;
pub(crate) mod history;
pub(crate) mod hook;
pub(crate) mod join;
pub(crate) mod leave;
pub(crate) mod selection;
pub(crate) mod status;
