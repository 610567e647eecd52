//! What refusals speak of, each with its word for programs.

use std::fmt;

use jetfrost_types::labels;

/// What a caller can look for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Thing {
    Account,
    Destination,
    EnrolmentCode,
    Group,
    ImageStore,
    Job,
    Order,
    Path,
    Point,
    Restore,
    Run,
    Session,
    Step,
    UnlockMethod,
    Workstation,
}

labels!(Thing: Account = "account", Destination = "destination", EnrolmentCode = "enrolment_code", Group = "group",
    ImageStore = "image_store", Job = "job", Order = "order", Path = "path", Point = "recovery_point", Restore = "restore", Run = "run",
    Session = "session", Step = "step", UnlockMethod = "unlock_method", Workstation = "workstation");

impl Thing {
    /// What people call it.
    pub(crate) fn name(self) -> String {
        self.word().replace('_', " ")
    }
}

/// Why a code is not valid.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum CodeFault {
    #[error("this enrolment code was not made by this service")]
    Unknown,
    #[error("this enrolment code was used already")]
    Used,
    #[error("this enrolment code was cancelled")]
    Cancelled,
    #[error("this enrolment code has expired")]
    Expired,
    #[error("this is not the code that the service printed last")]
    NotPrintedLast,
}

labels!(CodeFault: Unknown = "unknown", Used = "used", Cancelled = "cancelled", Expired = "expired",
    NotPrintedLast = "not_printed_last");

/// Whose account is disabled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum Disabled {
    #[error("this account is disabled")]
    Account,
    #[error("this workstation's account is disabled")]
    WorkstationsAccount,
    #[error("the account that this enrolment code is for is disabled")]
    CodesAccount,
}

labels!(Disabled: Account = "account", WorkstationsAccount = "workstations_account", CodesAccount = "codes_account");

/// What workstations do with the service, and what can be paused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Traffic {
    Backups,
    Restores,
    Probes,
    Reports,
}

labels!(Traffic: Backups = "backups", Restores = "restores", Probes = "probes", Reports = "reports");

impl fmt::Display for Traffic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
